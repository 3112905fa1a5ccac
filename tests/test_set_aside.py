"""Rows that were set aside lead somewhere: why, what to do, and what the cell may have been meant to
say, ready to be accepted; one `add` takes them in."""

from __future__ import annotations

import csv
from collections.abc import Callable
from pathlib import Path

import openpyxl
import pytest

from conftest import Runner
from engines import Target

Write = Callable[..., Path]
LAYOUT = """
kerfmark = 1
[sources.hives]
file = "hives.csv"
[sources.visits]
file = "visits.csv"
[tables.hive]
source = "hives"
each_row = true
known_by = ["hive"]
[tables.hive.columns]
hive = "Hive"
name = "Name"
frames = {header = "Frames", type = "integer"}
[tables.visit]
source = "visits"
each_row = true
known_by = ["no"]
[tables.visit.columns]
no = {header = "No", type = "integer"}
mood = {header = "Mood", allowed = ["calm", "nervous"]}
[tables.visit.links]
hive_id = {to = "hive", by = {hive = "Hive"}, missing = "refuse"}
"""
HIVES = "Hive,Name,Frames\nElm-01,Old one,8\nElm-02,By the gate,many\nOak-07,Twin,9\n"
VISITS = "No,Hive,Mood\n1,Elm-01,calm\n2,Elm-02,calm\n3,Oak-7,nervous\n4,Oak-07,calmm\n5,Zzz,calm\n"


@pytest.fixture
def files(write: Write) -> None:
    write("l.toml", LAYOUT)
    write("hives.csv", HIVES)
    write("visits.csv", VISITS)


def rows_of(path: Path) -> dict[str, dict[str, str]]:
    with path.open(encoding="utf-8-sig", newline="") as file:
        return {next(iter(r.values())): r for r in csv.DictReader(file)}


def test_each_row_says_why_and_what_may_have_been_meant(
    files: None, db: Target, kerfmark: Runner, tmp_path: Path
) -> None:
    kerfmark("cut", "l.toml", "--into", str(db), "--set-aside", "a.csv", code=3)
    found = rows_of(tmp_path / "a.csv") | rows_of(tmp_path / "a-visits.csv")
    why = {n: (r["kerfmark reason"], r["kerfmark suggestion"]) for n, r in found.items()}
    assert "is not an integer" in why["Elm-02"][0] and not why["Elm-02"][1]
    assert why["2"][0] == '"Hive" "Elm-02" refers to a record of hive whose own row is refused: hives.csv, row 3'  # fmt: skip
    assert found["2"]["kerfmark remedy"] == "correct that row; this one fits then as it is"
    assert 'the nearest is "Oak-07"' in why["3"][0] and why["3"][1] == "Hive = Oak-07"
    assert why["4"][1] == "Mood = calm"
    for n, (_, suggested) in why.items():
        asked = 'say yes under "kerfmark accept"' in found[n]["kerfmark remedy"]
        assert asked == bool(suggested)
    assert why["5"] == ('"Hive" "Zzz" was not found in hive', "")
    # one add takes them in: the parent mended, suggestions accepted, one of them declined
    book = tmp_path / "a.csv"
    book.write_text(book.read_text("utf-8-sig").replace("many", "7"), encoding="utf-8")
    visits = (tmp_path / "a-visits.csv").read_text("utf-8-sig").splitlines()
    marked = [visits[0]]
    for line in visits[1:]:
        marked.append(line + {"3": "yes", "4": " x "}.get(line[0], "no"))
    (tmp_path / "a-visits.csv").write_text("\n".join(marked) + "\n", encoding="utf-8")
    told = kerfmark("add", "a.csv", "a-visits.csv", "--into", str(db), code=1).err
    assert "Zzz" in told and "1 problem" in told
    kerfmark("add", "a.csv", "a-visits.csv", "--into", str(db), "--set-aside", "b.csv", code=3)
    visits_there = db.ask(
        "SELECT v.no, h.hive, v.mood FROM visit v JOIN hive h ON h.hive_id = v.hive_id ORDER BY v.no"
    )
    assert visits_there == [
        (1, "Elm-01", "calm"),
        (2, "Elm-02", "calm"),
        (3, "Oak-07", "nervous"),
        (4, "Oak-07", "calm"),
    ]
    assert kerfmark("prove", str(db)).code == 0


def test_a_later_file_is_told_the_nearest_record_with_its_name(
    files: None, db: Target, write: Write, kerfmark: Runner, tmp_path: Path
) -> None:
    write("hives.csv", HIVES.replace("many", "6"))
    write("visits.csv", "No,Hive,Mood\n1,Elm-01,calm\n")
    kerfmark("cut", "l.toml", "--into", str(db))
    write("more.csv", "No,Hive,Mood\n8,Oak-7,calm\n9,Elm-02,calm\n")
    told = kerfmark("add", "more.csv", "--into", str(db), code=1).err
    assert '"Oak-7" was not found in hive; the nearest is "Oak-07" (Twin)' in told
    kerfmark("add", "more.csv", "--into", str(db), "--set-aside", "a.xlsx", code=3)
    book = openpyxl.load_workbook(tmp_path / "a.xlsx")
    [head, row] = book.active.iter_rows()
    at = [c.value for c in head]
    assert row[at.index("kerfmark suggestion")].value == "Hive = Oak-07"
    row[at.index("kerfmark accept")].value = "yes"
    book.save(tmp_path / "a.xlsx")
    kerfmark("add", "a.xlsx", "--into", str(db))
    assert db.ask("SELECT COUNT(*) FROM visit WHERE no IN (8, 9)") == [2]
    assert kerfmark("prove", str(db)).code == 0


def test_a_misspelt_parent_that_its_other_key_gives_away_can_be_accepted(
    db: Target, write: Write, kerfmark: Runner, tmp_path: Path
) -> None:
    head, rows = "No,Hive,Apiary,Grid\n", [f"{n},H{n % 30},A{n % 6},X{n % 6}" for n in range(120)]
    write("visits.csv", head + "\n".join(rows) + "\n")
    kerfmark("cut", "visits.csv", "--into", str(db), "--known-by", "Apiary", "--known-by", "Hive")
    assert kerfmark("show", str(db), "apiary").out.count("unique") == 2
    write("more.csv", f"{head}200,H1,A1,X1\n201,H2,A2x,X2\n202,H90,A3 ,X3\n203,H91,Third,X4\n")
    told = kerfmark("add", "more.csv", "--into", str(db), "--set-aside", "a.csv", code=3)
    aside = rows_of(tmp_path / "a.csv")
    assert {n: r["kerfmark suggestion"] for n, r in aside.items()} == {
        "201": "Apiary = A2",
        "202": "Apiary = A3",
        "203": "Apiary = A4",
    }, told.out
    lines = (tmp_path / "a.csv").read_text("utf-8-sig").splitlines()
    (tmp_path / "a.csv").write_text("\n".join([lines[0], *(f"{at}yes" for at in lines[1:])]) + "\n")
    kerfmark("add", "a.csv", "--into", str(db))
    asked = "SELECT v.no, a.apiary FROM visit v JOIN hive h ON h.hive_id = v.hive_id"
    asked += " JOIN apiary a ON a.apiary_id = h.apiary_id WHERE v.no >= 200 ORDER BY v.no"
    assert db.ask(asked) == [(200, "A1"), (201, "A2"), (202, "A3"), (203, "A4")]
    assert kerfmark("prove", str(db)).code == 0


def test_rows_that_an_older_version_set_aside_are_taken_too(
    files: None, write: Write, kerfmark: Runner
) -> None:
    write("hives.csv", HIVES.replace("many", "6"))
    write("visits.csv", "No,Hive,Mood\n1,Elm-01,calm\n")
    kerfmark("cut", "l.toml", "--into", "d.db")
    write("old.csv", "No,Hive,Mood,kerfmark origin,kerfmark reason,kerfmark remedy\n7,Oak-07,calm,a,b,c\n")  # fmt: skip
    kerfmark("add", "old.csv", "--into", "d.db")
    assert kerfmark("prove", "d.db").code == 0


def test_a_gap_in_a_key_that_counts_is_not_the_fault_of_all_rows_after_it(
    kerfmark: Runner, tmp_path: Path, write: Write
) -> None:
    """Each of them would be set aside, as each is then not the next one."""
    rows = "".join(f"{n},{'lost' if n == 4 else n * 2}\n" for n in range(1, 41))
    write("visits.csv", f"No,Mites\n{rows}")
    layout = write(
        "v.layout.toml",
        """kerfmark = 1
[sources.visits]
file = "visits.csv"
[tables.visit]
source = "visits"
each_row = true
key = "no"
columns = { no = { header = "No", type = "integer" }, mites = { header = "Mites", type = "integer" } }
""",
    )
    words = ("cut", layout.name, "--into", "v.db", "--set-aside", "apart.csv")
    told = kerfmark(*words, code=1).err
    assert 'row 6, column "No": is not 4, the next number' in told
    assert 'set key = ["no"] in tables > visit' in told
    assert not (tmp_path / "apart.csv").exists() and not (tmp_path / "v.db").exists()
    layout.write_text(layout.read_text().replace('key = "no"', 'key = ["no"]'))
    kerfmark(*words, code=3)
    assert len((tmp_path / "apart.csv").read_text().splitlines()) == 2


def test_a_row_that_cannot_be_read_and_was_not_set_aside_is_a_difference(
    kerfmark: Runner, tmp_path: Path, write: Write
) -> None:
    visits = write("visits.csv", "No,Mites,Kind\n1,3,a\n2,4\n3,5,b\n")
    kerfmark("cut", "visits.csv", "--into", "v.db", "--set-aside", "apart.csv", code=3)
    assert "1 row set aside by the load" in kerfmark("prove", "v.db").out
    visits.write_text(visits.read_text() + "a note\n")
    told = kerfmark("prove", "v.db", code=1)
    assert "a row that has 1 field instead of 3   no such row" in told.out
    assert "is not the file that was loaded" in told.err
