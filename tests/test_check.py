"""check tells what a cut would do, and rows that do not fit can be set aside while the others
land."""

from __future__ import annotations

import csv
import json
import re
import shutil
import sqlite3
import tomllib
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import DEMO, Runner
from kerfmark import DataRefused, check, cut, prove
from kerfmark.layout.schema import schema
from kerfmark.read.set_aside import GUARDED
from kerfmark.write.cells import harmless

Write = Callable[..., Path]
LAYOUT = """\
kerfmark = 1
[sources.visits]
file = "visits.csv"
[tables.visit]
each_row = true
known_by = ["no"]
links = ["hive"]
[tables.visit.columns]
no = "no"
day = {header = "day", type = "date YYYY-MM-DD"}
note = "note"
[tables.hive]
known_by = ["hive"]
columns = {hive = "hive", kind = "kind"}
"""
GOOD = "no,day,note,hive,kind\n1,2025-01-01,ok,H1,wood\n2,2025-01-02,ok,H1,wood\n3,2025-01-03,ok,H2,cork\n"
BAD = GOOD + (
    '4,2025-01-33,"=1+1",H9,tin\n5,2025-01-05,,H1,wood\n2,2025-01-06,twice,H2,cork\n6,2025-01-07,kind,H1,cork\n'
    "7,2025-01-08,far,too,many,fields\n8,few\n9,2025-01-09,-5,H2,cork\n"
)


@pytest.fixture
def case(write: Write) -> None:
    write("l.toml", LAYOUT)
    write("visits.csv", BAD)


def test_every_problem_is_told_at_once_and_nothing_is_written(
    case: None, kerfmark: Runner, tmp_path: Path
) -> None:
    result = kerfmark("check", "l.toml", "--json", code=1).json
    told = {
        (g["kind"], g["column"]): (g["total"], [p["origin"]["row"] for p in g["places"]])
        for g in result["groups"]
    }
    assert told == {
        ("unreadable", ""): (2, [9, 10]),
        ("unfit", "day"): (1, [5]),
        ("blank", "note"): (1, [6]),
        ("differs", "kind"): (1, [8]),
        ("again", "no"): (1, [7]),
    }
    assert (
        result["problems"] == 6
        and result["complete"]
        and result["groups"][0]["kind"] == "unreadable"
    )
    assert {p.name for p in tmp_path.iterdir()} == {"l.toml", "visits.csv"}
    err = kerfmark("cut", "l.toml", "--into", "v.db", code=1).err
    assert "rows do not have as many fields" in err and not (tmp_path / "v.db").exists()


def test_what_check_says_a_cut_does(write: Write, kerfmark: Runner) -> None:
    write("l.toml", LAYOUT)
    write("visits.csv", GOOD)
    tables = kerfmark("check", "l.toml", "--json").json["tables"]
    made = kerfmark("cut", "l.toml", "--into", "v.db", "--json").json["tables"]
    assert (
        [(t["name"], t["rows"]) for t in tables]
        == [(t["name"], t["rows"]) for t in made]
        == [("visit", 3), ("hive", 2)]
    )


def test_it_ends_early_where_that_is_asked_for(case: None, kerfmark: Runner) -> None:
    result = kerfmark("check", "l.toml", "--stop-after", 1, "--json", code=1).json
    assert result["problems"] == 1 and not result["complete"]
    assert "it ended early" in kerfmark("check", "l.toml", "--stop-after", 1, code=1).out
    assert "take" not in kerfmark("check", "l.toml", "--stop-after", "-1", code=2).out


def test_the_first_ten_rows_are_told_or_all(write: Write, kerfmark: Runner) -> None:
    write("l.toml", LAYOUT)
    write(
        "visits.csv", "no,day,note,hive,kind\n" + "".join(f"{i},never,x,H,k\n" for i in range(25))
    )
    out = kerfmark("check", "l.toml", code=1).out
    assert out.count("is not a date") == 1 and "2, 3, 4, 5, 6, 7, 8, 9, 10, 11   never" in out
    assert "... and 15 more (--all tells them)" in out
    assert kerfmark("check", "l.toml", "--all", code=1).out.count("is not a date") == 25


def test_good_rows_land_and_the_others_are_set_aside_with_reasons(
    case: None, kerfmark: Runner, tmp_path: Path
) -> None:
    result = kerfmark(
        "cut", "l.toml", "--into", "v.db", "--set-aside", "bad.csv", "--json", code=3
    ).json
    assert result["set_aside"] == 6 and result["rejects"] == ["bad.csv"]
    with sqlite3.connect(tmp_path / "v.db") as db:
        assert db.execute("SELECT no, note FROM visit").fetchall() == [
            ("1", "ok"),
            ("2", "ok"),
            ("3", "ok"),
            ("9", "-5"),
        ]
        assert db.execute("SELECT hive, kind FROM hive").fetchall() == [
            ("H1", "wood"),
            ("H2", "cork"),
        ]  # no H9: its row is bad
    with (tmp_path / "bad.csv").open(encoding="utf-8-sig", newline="") as file:
        rows = list(csv.DictReader(file))
    assert [r["no"] for r in rows] == ["4", "5", "2", "6", "7", "8"] and rows[0]["note"] == "'=1+1"
    assert list(rows[0]) == [
        "no",
        "day",
        "note",
        "hive",
        "kind",
        "kerfmark origin",
        "kerfmark reason",
        "kerfmark remedy",
        "kerfmark suggestion",
        "kerfmark accept",
    ]
    assert (
        rows[1]["kerfmark origin"] == "visits.csv, row 6"
        and rows[1]["kerfmark reason"] == '"note" is blank'
    )
    assert rows[2]["kerfmark reason"] == '"no" duplicates an earlier row (row 3)'
    assert rows[3]["kerfmark remedy"].startswith("correct")
    assert (
        rows[4]["kind"] == "many,fields"
        and rows[5]["note"] == ""
        and "2 fields instead of 5" in rows[5]["kerfmark reason"]
    )
    proof = kerfmark("prove", "v.db")
    assert "4 rows" in proof.out and "6 rows set aside by the load" in proof.out
    with sqlite3.connect(tmp_path / "v.db") as db:
        db.execute("DELETE FROM kerfmark_set_aside WHERE row = 6")
    assert "differs" in kerfmark("prove", "v.db", code=1).out


def test_rows_are_set_aside_in_a_workbook_too(case: None, kerfmark: Runner, tmp_path: Path) -> None:
    kerfmark("cut", "l.toml", "--into", "v.db", "--set-aside", "bad.xlsx", code=3)
    told = kerfmark("measure", "bad.xlsx", "--json").json["sources"][0]
    assert told["rows"] == 6 and told["columns"][-1]["header"] == "kerfmark accept"
    assert (
        "set aside in a .csv or an .xlsx"
        in kerfmark("cut", "l.toml", "--into", "w.db", "--set-aside", "b.txt", code=2).err
    )
    assert (
        "exists already"
        in kerfmark("cut", "l.toml", "--into", "w.db", "--set-aside", "bad.xlsx", code=2).err
    )


def test_nothing_is_set_aside_when_all_is_well(
    write: Write, kerfmark: Runner, tmp_path: Path
) -> None:
    write("l.toml", LAYOUT)
    write("visits.csv", GOOD)
    kerfmark("cut", "l.toml", "--into", "v.db", "--set-aside", "bad.csv")
    assert not (tmp_path / "bad.csv").exists()


def test_rows_that_lead_to_a_row_set_aside_go_with_it(
    write: Write, kerfmark: Runner, tmp_path: Path
) -> None:
    write("places.csv", "name,since\nMill,never\nWeir,1999\n")
    write("hives.csv", "tag,place\nH1,Mill\nH2,Weir\n")
    write(
        "l.toml",
        'kerfmark = 1\n[sources.places]\nfile = "places.csv"\n[sources.hives]\nfile = "hives.csv"\n'
        '[tables.place]\nsource = "places"\neach_row = true\nknown_by = ["name"]\n'
        'columns = {name = "name", since = {header = "since", type = "integer"}}\n'
        '[tables.hive]\nsource = "hives"\neach_row = true\ncolumns = ["tag"]\n'
        'links = {place_id = {to = "place", by = {name = "place"}, missing = "refuse"}}\n',
    )
    kerfmark("cut", "l.toml", "--into", "v.db", "--set-aside", "bad.csv", code=3)
    with sqlite3.connect(tmp_path / "v.db") as db:
        assert db.execute("SELECT tag, name FROM hive JOIN place USING (place_id)").fetchall() == [
            ("H2", "Weir")
        ]
    assert "Mill,never" in (tmp_path / "bad.csv").read_text("utf-8-sig")
    told = (tmp_path / "bad-hives.csv").read_text("utf-8-sig")
    assert (
        '""Mill"" refers to a record of place whose own row is refused: places.csv, row 2' in told
    )


def test_files_of_the_same_shape_are_checked_in_place(kerfmark: Runner, tmp_path: Path) -> None:
    for name in ("inspections-2025.csv", "inspections-2026-02.csv", "inspections-2026-05.csv"):
        shutil.copy(DEMO / name, tmp_path)
    kerfmark("mark", "inspections-2025.csv", "-o", "a.layout.toml")
    result = kerfmark("check", "a.layout.toml", "inspections-2026-05.csv", "--json", code=1).json
    [group] = [g for g in result["groups"] if g["severity"] == "broken"]
    assert (group["kind"], group["places"][0]["value"]) == ("unfit", "31.04.2026")
    told = kerfmark("check", "a.layout.toml", "inspections-2026-02.csv", code=2).err
    assert '"Keeper" is missing, "Beekeeper" is new: perhaps the same' in told and "also = " in told


def test_what_is_odd_is_told_and_refuses_nothing(write: Write, kerfmark: Runner) -> None:
    names = ["Nothing Mill", "Old Nursery", "Heron Pool"]
    lines = [
        f"{i},{names[i % 3]},{'k' if i else ''},{'n' * (5 if i else 400)}{i}" for i in range(60)
    ] + ["60,Nothing Mil,k,n"]
    write("visits.csv", "no,place,keeper,note\n" + "\n".join(lines) + "\n")
    write(
        "l.toml",
        'kerfmark = 1\n[sources.visits]\nfile = "visits.csv"\n[tables.visit]\neach_row = true\n'
        'optional = ["keeper_id"]\nlinks = ["place", "keeper"]\ncolumns = ["no", "note"]\n'
        '[tables.place]\nknown_by = ["place"]\ncolumns = ["place"]\n'
        '[tables.keeper]\nknown_by = ["keeper"]\ncolumns = ["keeper"]\n',
    )
    result = kerfmark("check", "l.toml", "--json").json
    assert {g["kind"]: g["places"][0]["origin"]["row"] for g in result["groups"]} == {
        "rare": 62,
        "without": 2,
        "far wider": 2,
    }
    assert (
        '"Nothing Mill" is frequent' in result["groups"][0]["places"][0]["reason"]
        and result["problems"] == 0
    )


@pytest.mark.parametrize(
    "text", ["=1", "+a", "-a", "@x", "\tx", "'=1", "''-", "-5", "+4", "'tis", "", "plain", "-1,5"]
)
def test_a_cell_made_harmless_comes_back(text: str) -> None:
    assert re.sub(GUARDED, r"\1", harmless(text)) == text
    assert harmless(text)[:1] not in ("=", "+", "@", "\t") and (
        harmless(text)[:1] != "-" or text in ("-5", "-1,5")
    )


def test_a_record_that_one_row_would_make_is_told(write: Write, kerfmark: Runner) -> None:
    write("places.csv", "name\nMill\nWeir\n")
    write("hives.csv", "tag,place\nH1,Mill\nH2,Weer\nH3,Ford\nH4,Ford\n")
    write(
        "l.toml",
        'kerfmark = 1\n[sources.places]\nfile = "places.csv"\n[sources.hives]\nfile = "hives.csv"\n'
        '[tables.place]\nsource = "places"\neach_row = true\nknown_by = ["name"]\ncolumns = '
        '["name"]\n'
        '[tables.hive]\nsource = "hives"\neach_row = true\ncolumns = ["tag"]\n'
        'links = {place_id = {to = "place", by = {name = "place"}}}\n',
    )
    [group] = kerfmark("check", "l.toml", "--json").json["groups"]
    assert (group["kind"], group["total"], group["places"][0]["origin"]["row"]) == ("for one", 1, 3)
    assert group["places"][0]["reason"] == '"Weer" is not among place; the nearest is "Weir"'


def test_rows_mended_in_a_workbook_land_too(case: None, kerfmark: Runner, tmp_path: Path) -> None:
    import openpyxl

    kerfmark("cut", "l.toml", "--into", "v.db", "--set-aside", "bad.xlsx", code=3)
    book = openpyxl.load_workbook(tmp_path / "bad.xlsx")
    sheet = book.active
    assert sheet is not None and sheet["C2"].value == "'=1+1"
    sheet["B2"] = "2025-01-31"
    sheet.delete_rows(3, 10)
    book.save(tmp_path / "bad.xlsx")
    kerfmark("add", "bad.xlsx", "--into", "v.db")
    with sqlite3.connect(tmp_path / "v.db") as db:
        assert db.execute("SELECT no, note, day FROM visit WHERE no = '4'").fetchall() == [
            ("4", "=1+1", "2025-01-31")
        ]


def test_the_schema_takes_the_layouts_that_are_shown_and_written(
    kerfmark: Runner, tmp_path: Path
) -> None:
    import jsonschema

    shutil.copy(DEMO / "inspections-2025.csv", tmp_path)
    kerfmark("mark", "inspections-2025.csv", "-o", "a.toml")
    page = (Path(__file__).parent.parent / "docs/layout.md").read_text(encoding="utf-8")
    texts = [
        *re.findall(r"```toml\n(.*?)```", page, re.S),
        (tmp_path / "a.toml").read_text(encoding="utf-8"),
    ]
    whole = jsonschema.Draft202012Validator(schema())
    assert len(texts) > 8
    for text in texts:
        whole.validate(tomllib.loads(text))
    wrong = tomllib.loads(texts[0].replace("each_row", "each_rwo"))
    assert not whole.is_valid(wrong)


def test_the_schema_knows_every_key(kerfmark: Runner) -> None:
    whole = json.loads(kerfmark("check", "--schema").out)
    assert whole == schema()
    column = whole["$defs"]["ColumnSpec"]["anyOf"][1]["properties"]
    assert {"header", "means", "derived", "unit", "conflicts"} <= set(column) and whole[
        "additionalProperties"
    ] is False


def test_a_record_that_would_have_the_key_of_another_is_told_by_check_and_refused_by_cut(
    tmp_path: Path,
) -> None:
    """A slip in the name by which keepers are found, beside a number that one has already."""
    (tmp_path / "keepers.csv").write_text("no,name\n1,Ada\n2,Bo\n")
    (tmp_path / "visits.csv").write_text("name,no,kg\nAda,1,5\nBoo,2,6\n")
    layout = tmp_path / "a.toml"
    layout.write_text(
        'kerfmark = 1\n[sources.keepers]\nfile = "keepers.csv"\n[sources.visits]\nfile = "visits.csv"\n'
        '[tables.keeper]\nsource = "keepers"\neach_row = true\nknown_by = ["name"]\n'
        'unique = [["no"]]\noptional = ["no"]\n[tables.keeper.columns]\nno = "no"\nname = "name"\n'
        '[tables.visit]\nsource = "visits"\neach_row = true\n[tables.visit.links]\n'
        'keeper = {to = "keeper", by = {name = "name"}, repeats = {no = "no"}}\n'
        '[tables.visit.columns]\nkg = {header = "kg", type = "integer"}\n'
    )
    done = check(layout)
    [told] = [g for g in done.groups if g.severity == "broken"]
    assert (told.kind, told.column, [p.origin.row for p in told.places]) == ("again", "no", [3])
    assert told.places[0].reason == 'keeper "Bo" has the same no; is "Boo" a misspelling of it?'
    with pytest.raises(DataRefused, match="row 3"):
        cut([layout], tmp_path / "a.db")
    assert told.remedy.startswith(
        "correct name or no in the file\ntake no out of repeats of tables > visit"
    )
    mended = layout.read_text().replace(', repeats = {no = "no"}', "")
    mended = mended.replace("kg = {", 'no = {header = "no", type = "integer"}\nkg = {')
    (tmp_path / "b.toml").write_text(mended)
    cut([tmp_path / "b.toml"], tmp_path / "b.db")
    assert prove(tmp_path / "b.db").holds
    (tmp_path / "visits.csv").write_text("name,no,kg\nAda,1,5\nBoo,3,6\n")
    assert check(layout).problems == 0 and cut([layout], tmp_path / "a.db")
