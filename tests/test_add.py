"""Later files go to the right tables, and any load can be taken back."""

from __future__ import annotations

import csv
import shlex
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

import openpyxl
import pytest

import kerfmark as library
from conftest import DEMO, Runner
from engines import Target, target
from kerfmark.read.workbook import sheets

Write = Callable[..., Path]
HIVES = "tag,kind,place,grid\nH1,wood,Weir,XK 1\nH2,cork,Mill,XK 2\n"
LAYOUT = """\
kerfmark = 1
[sources.visits]
file = "visits.csv"
[tables.visit]
each_row = true
known_by = ["no"]
links = ["hive"]
optional = ["note"]
[tables.visit.columns]
no = {header = "no", type = "integer"}
day = {header = "day", type = "date YYYY-MM-DD"}
note = {header = "note", type = "text(8)"}
[tables.hive]
known_by = ["hive"]
optional = ["keeper"]
columns = {hive = "hive", kind = "kind", keeper = "keeper"}
"""
FIRST = "no,day,note,hive,kind,keeper\n1,2025-01-01,ok,H1,wood,\n2,2025-01-02,,H2,cork,Bo\n"


@pytest.fixture
def visited(write: Write, kerfmark: Runner, db: Target) -> Callable[[str], list[Any]]:
    """A small database to add to, and a way to ask it."""
    write("visits.csv", FIRST)
    write("l.toml", LAYOUT)
    kerfmark("cut", "l.toml", "--into", db)
    return db.ask


Visited = Callable[[str], list[Any]]


def test_the_demo_s_months_each_with_its_trouble(
    kerfmark: Runner, db: Target, tmp_path: Path
) -> None:
    for file in DEMO.glob("*.csv"):
        shutil.copy(file, tmp_path)
    kerfmark("cut", "inspections-2025.csv", "--into", db)
    told = kerfmark("add", "inspections-2026-01.csv", "--into", db).out
    assert "51 rows for inspections  (its 24 headers are those of inspections)" in told
    told = kerfmark("add", "inspections-2026-02.csv", "--into", db, code=2).err
    assert '"Keeper" is missing, "Beekeeper" is new: perhaps the same' in told and "--learn" in told
    both = ["inspections-2026-02.csv", "inspections-2026-04.csv", "--into", db]
    told = kerfmark("add", *both, "--learn", "--rehearse", code=1).out
    assert "refused  4 problems" in told and told.count("next:") == 1  # one misspelt name
    kerfmark("add", "inspections-2026-02.csv", "--into", db, "--learn")
    told = kerfmark("add", "inspections-2026-03.csv", "--into", db, code=2).err
    assert '"Weather" is new' in told and '--leave-out "Weather" leaves out what is new' in told
    kerfmark("add", "inspections-2026-03.csv", "--into", db, "--put", "Weather=inspection")
    told = kerfmark("add", "inspections-2026-04.csv", "--into", db, code=1).err
    assert 'is "Nothing Mil" a misspelling of it?' in told
    assert told.count("\n") == 4 and "rows 4, 18, 61, 71" in told
    april = kerfmark(
        "add", "inspections-2026-04.csv", "--into", db, "--set-aside", "bad.csv", "--json", code=3
    ).json
    assert april["set_aside"] == 4
    bad = (tmp_path / "bad.csv").read_text("utf-8-sig")
    (tmp_path / "bad.csv").write_text(bad.replace("Nothing Mil;", "Nothing Mill;"), "utf-8-sig")
    kerfmark("add", "bad.csv", "--into", db)
    assert (
        '"31.04.2026" is not a date'
        in kerfmark("add", "inspections-2026-05.csv", "--into", db, code=1).err
    )
    may = (
        (tmp_path / "inspections-2026-05.csv")
        .read_text("utf-8")
        .replace("31.04.2026", "30.04.2026")
    )
    (tmp_path / "inspections-2026-05.csv").write_text(may, "utf-8")
    kerfmark("add", "inspections-2026-05.csv", "--into", db)
    told = kerfmark("add", "inspections-2026-06.csv", "--into", db, code=1).err
    assert "12 problems" in told and "is in the database already, as a record of inspection" in told
    june = kerfmark(
        "add", "inspections-2026-06.csv", "--into", db, "--known", "keep", "--json"
    ).json
    assert (
        next(t for t in june["tables"] if t["name"] == "inspection")["added"] == 106
        and june["known_rows"] == 12
    )
    shutil.copy(tmp_path / "inspections-2026-01.csv", tmp_path / "other-name.csv")
    told = kerfmark("add", "other-name.csv", "--into", db, code=1).err
    assert "loaded already" in told and "inspections-2026-01.csv with load 2" in told
    proof = kerfmark("prove", db, "--json").json
    assert proof["holds"] and proof["proofs"][0]["own"] == 1512 + 51 + 62 + 73 + 84 + 95 + 106
    assert (proof["proofs"][0]["same"], proof["proofs"][0]["different"]) == (12, 0)
    assert db.ask("SELECT count(*) FROM inspection WHERE weather IS NOT NULL") == [73]
    loads = kerfmark("loads", db, "--json").json["loads"]
    assert [n["number"] for n in loads] == [1, 2, 3, 4, 5, 6, 7, 8] and loads[4]["set_aside"] == 4


def test_the_whole_year_in_one_command(kerfmark: Runner, db: Target, tmp_path: Path) -> None:
    for name in ("2025", "2026-01", "2026-02", "2026-03"):
        shutil.copy(DEMO / f"inspections-{name}.csv", tmp_path)
    kerfmark("cut", "inspections-2025.csv", "--into", db)
    result = kerfmark(
        "add",
        "inspections-2026-0*.csv",
        "--into",
        db,
        "--learn",
        "--leave-out",
        "Weather",
        "--json",
    ).json
    assert [f["rows"] for f in result["files"]] == [51, 62, 73] and result["load"] == 2
    assert kerfmark("prove", db, "--json").json["holds"]


@pytest.mark.parametrize(
    ("known", "hive", "counts"),
    [
        ("keep", ("wood", "Bo"), (1, 2, 0, 0)),
        ("fill", ("wood", "Bo"), (0, 1, 1, 0)),
        ("overwrite", ("straw", None), (0, 0, 0, 2)),
    ],
)
def test_what_becomes_of_records_that_are_known(
    visited: Visited,
    write: Write,
    kerfmark: Runner,
    db: Target,
    known: str,
    hive: tuple[str, str],
    counts: tuple[int, ...],
) -> None:
    write(
        "more.csv",
        "no,day,note,hive,kind,keeper\n3,2025-01-03,x,H1,straw,Ada\n4,2025-01-04,y,H2,cork,\n",
    )
    told = kerfmark("add", "more.csv", "--into", db, code=1).err
    assert 'row 2, column "kind": differs from the database, where this hive has "wood"' in told
    result = kerfmark("add", "more.csv", "--into", db, "--known", known, "--json").json
    one = next(t for t in result["tables"] if t["name"] == "hive")
    kind, keeper = hive
    first = {"keep": None, "fill": "Ada", "overwrite": "Ada"}[known]
    assert visited("SELECT kind, keeper FROM hive") == [(kind, first), ("cork", keeper)]
    assert (one["filled"], one["overwritten"]) == counts[2:]
    changes = {(c["column"], c["before"], c["after"]) for c in result["changes"]}
    assert (
        changes
        == {
            "keep": set(),
            "fill": {("keeper", "", "Ada")},
            "overwrite": {("kind", "wood", "straw"), ("keeper", "", "Ada"), ("keeper", "Bo", "")},
        }[known]
    )
    kerfmark("undo", db)
    assert visited("SELECT kind, keeper FROM hive") == [("wood", None), ("cork", "Bo")]
    assert kerfmark("prove", db, "--json").json["holds"]


def test_records_may_be_added_again_where_the_layout_says_so(
    visited: Visited, write: Write, kerfmark: Runner, db: Target
) -> None:
    write("more.csv", FIRST.replace("ok", "new"))
    told = kerfmark("add", "more.csv", "--into", db, "--known", "add", code=2).err
    assert "keeps no of visit unique" in told and 'known = "add"' in told
    write("l.toml", LAYOUT.replace("each_row = true", 'each_row = true\nknown = "add"', 1))
    kerfmark("cut", "l.toml", "--into", db, "--replace")
    if not db.is_file:
        assert (
            "does not copy databases"
            in kerfmark("add", "more.csv", "--into", db, "--backup", "before.db", code=2).err
        )
    kerfmark("add", "more.csv", "--into", db, *(["--backup", "before.db"] if db.is_file else []))
    assert visited("SELECT visit_id, no, note, hive_id FROM visit") == [
        (1, 1, "ok", 1),
        (2, 2, None, 2),
        (3, 1, "new", 1),
        (4, 2, None, 2),
    ]
    assert kerfmark("prove", db, "--json").json["holds"] and not (
        db.is_file and kerfmark("prove", "before.db").code
    )


def test_files_without_header_and_sources_of_one_shape(
    write: Write, kerfmark: Runner, db: Target
) -> None:
    write("a.csv", "1,2\n3,4\n")
    write(
        "l.toml",
        'kerfmark = 1\n[sources.a]\nfile = "a.csv"\nheader_row = 0\n[sources.b]\nfile = '
        '"a.csv"\nheader_row = 0\n'
        '[tables.one]\nsource = "a"\neach_row = true\ncolumns = {x = "column 1", y = "column 2"}\n'
        '[tables.two]\nsource = "b"\neach_row = true\ncolumns = {x = "column 1", y = "column 2"}\n',
    )
    kerfmark("cut", "l.toml", "--into", db)
    write("later.csv", "5,6\n7,8\n")
    told = kerfmark("add", "later.csv", "--into", db, code=2).err
    assert "fits several sources" in told and "--as a" in told
    kerfmark("add", "later.csv", "--into", db, "--as", "b")
    assert db.ask("SELECT x, y FROM two") == [("1", "2"), ("3", "4"), ("5", "6"), ("7", "8")]
    write("b-9.csv", "9,9\n")
    assert (
        kerfmark("add", "b-9.csv", "--into", db, "--json").json["files"][0]["source"] == "b"
    )  # told by its name


def test_natural_keys_and_lists_and_a_telling_column(
    write: Write, kerfmark: Runner, db: Target
) -> None:
    write("v-01.csv", "no,apiary,grid,given,m1,m2\nA,Weir,XK 1,thymol; sugar,1,\n")
    write(
        "l.toml",
        'kerfmark = 1\n[sources.v]\nfile = "v-*.csv"\ntelling = "month"\n[tables.visit]\neach_row '
        "= true\n"
        'known_by = ["no"]\nkey = ["no"]\nlinks = ["apiary"]\ncolumns = ["no", "month"]\n'
        '[tables.apiary]\nknown_by = ["apiary"]\nkey = ["apiary"]\ncolumns = ["apiary", "grid"]\n'
        '[tables.mite]\npart_of = "visit"\nknown_by = ["visit_id", "nth"]\nlinks = ["visit"]\n'
        'columns = {nth = {told = ["1", "2"], type = "integer"}, mites = {headers = ["m1", "m2"], '
        'type = "integer"}}\n'
        '[tables.treatment]\nknown_by = ["name"]\ncolumns = {name = {header = "given", split = "; '
        '"}}\n'
        '[tables.visit_treatment]\npart_of = "visit"\nknown_by = ["visit_id", "nth"]\ncolumns = '
        "{nth = {position = true}}\n"
        '[tables.visit_treatment.links]\nvisit_id = "visit"\ntreatment_id = {to = "treatment", by '
        '= {name = "given"}}\n',
    )
    kerfmark("cut", "l.toml", "--into", db)
    write("v-02.csv", "no,apiary,grid,given,m1,m2\nB,Weir,XK 1,sugar; salt,4,5\nC,Mill,XK 2,,,6\n")
    kerfmark("add", "v-02.csv", "--into", db)
    assert db.ask("SELECT no, month, apiary_id FROM visit") == [
        ("A", "01", "Weir"),
        ("B", "02", "Weir"),
        ("C", "02", "Mill"),
    ]
    assert db.ask("SELECT visit_id, nth, mites FROM mite") == [
        ("A", 1, 1),
        ("B", 1, 4),
        ("B", 2, 5),
        ("C", 2, 6),
    ]
    assert db.ask(
        "SELECT visit_id, name FROM visit_treatment JOIN treatment USING (treatment_id)"
    ) == [("A", "thymol"), ("A", "sugar"), ("B", "sugar"), ("B", "salt")]
    assert kerfmark("prove", db, "--json").json["holds"]
    kerfmark("undo", db)
    assert (
        db.ask("SELECT apiary FROM apiary") == ["Weir"]
        and kerfmark("prove", db, "--json").json["holds"]
    )


def test_the_proof_knows_what_later_loads_have_changed(
    visited: Visited, write: Write, kerfmark: Runner, db: Target
) -> None:
    write(
        "more.csv",
        "no,day,note,hive,kind,keeper\n2,2025-02-02,new,H2,tin,Cy\n3,2025-01-03,x,H1,wood,Ada\n",
    )
    kerfmark("add", "more.csv", "--into", db, "--known", "overwrite")
    assert visited("SELECT no, day, note, kind, keeper FROM visit JOIN hive USING (hive_id)") == [
        (1, "2025-01-01", "ok", "wood", "Ada"),
        (2, "2025-02-02", "new", "tin", "Cy"),
        (3, "2025-01-03", "x", "wood", "Ada"),
    ]
    proof = kerfmark("prove", db, "--json").json
    assert (
        proof["holds"]
        and proof["proofs"][0]["same"] == 1
        and proof["proofs"][0]["changed_cells"] == 0
    )
    told = {
        (c["origin"]["row"], c["origin"]["column"], c["in_file"], c["in_database"])
        for c in proof["proofs"][0]["otherwise"]
    }
    assert told == {
        (3, "day", '"2025-01-02"', '"2025-02-02"'),
        (3, "note", "blank", '"new"'),
        (3, "kind", '"cork"', '"tin"'),
        (3, "keeper", '"Bo"', '"Cy"'),
        (2, "keeper", "blank", '"Ada"'),
    }
    assert {(c["by"], c["kept"]) for c in proof["proofs"][0]["otherwise"]} == {(2, False)}
    db.do("UPDATE hive SET kind = 'gold' WHERE hive = 'H2'")
    assert "gold" in kerfmark("prove", db, code=1).out
    told = kerfmark("undo", db, code=1).err
    assert (
        "a value of hive.kind that load 2 changed was changed by hand since" in told
        and "holds" in told
        and "gold" in told
    )


def test_lookups_find_what_is_in_the_database_also_by_hand(
    write: Write, kerfmark: Runner, db: Target
) -> None:
    write("hives.csv", "tag,place\nH1,Weir\n")
    write("places.csv", "name,grid\nWeir,XK 1\n")
    layout = (
        'kerfmark = 1\n[sources.hives]\nfile = "hives.csv"\n[sources.places]\nfile = "places.csv"\n'
        '[tables.hive]\nsource = "hives"\neach_row = true\nknown_by = ["tag"]\noptional = '
        '["place_id", "mother_id"]\n'
        'columns = ["tag"]\n[tables.hive.links]\nplace_id = {to = "place", by = {name = "place"}, '
        'missing = "MISSING"}\n'
        '[tables.place]\nsource = "places"\neach_row = true\nknown_by = ["name"]\noptional = '
        '["grid"]\n'
        'columns = ["name", "grid"]\n'
    ).replace(', "mother_id"', "")
    for missing, code in (("refuse", 1), ("create", 0), ("blank", 0)):
        write("l.toml", layout.replace("MISSING", missing))
        kerfmark("cut", "l.toml", "--into", db, "--replace", "--discard")
        db.do("INSERT INTO place (name, grid) VALUES ('By hand', 'XK 9')")
        write("more.csv", "place,tag\nBy hand,H2\nWeir,H3\nWeer,H4\n")
        done = kerfmark("add", "more.csv", "--into", db, code=code)
        if missing == "refuse":
            assert (
                'row 4, column "place": "Weer" was not found in place; the nearest is "Weir"'
                in done.err
            )
            assert db.ask("SELECT count(*) FROM hive") == [1]
        else:
            assert db.ask(
                "SELECT tag, place_id, name FROM hive LEFT JOIN place USING (place_id)"
            ) == [
                ("H1", 1, "Weir"),
                ("H2", 2, "By hand"),
                ("H3", 1, "Weir"),
                ("H4", 3, "Weer") if missing == "create" else ("H4", None, None),
            ]
        write(
            "places2.csv", "grid,name\nXK 3,Ford\n"
        )  # the other source, and rows that the first load's wanted
        kerfmark("add", "places2.csv", "--into", db)
        assert kerfmark("prove", db, "--json").json["holds"]


def test_children_and_parents_in_any_order_in_one_load(
    write: Write, kerfmark: Runner, db: Target
) -> None:
    write("hives.csv", "tag,mother\nH1,\n")
    write("fees.csv", "member,fee\nM1,5\n")
    write("members.csv", "no,name\nM1,Ada\n")
    write(
        "l.toml",
        'kerfmark = 1\n[sources.hives]\nfile = "hives.csv"\n[sources.fees]\nfile = '
        '"fees.csv"\n[sources.members]\n'
        'file = "members.csv"\n[tables.hive]\nsource = "hives"\neach_row = true\nknown_by = '
        '["tag"]\noptional = ["mother_id"]\n'
        'columns = ["tag"]\nlinks = {mother_id = {to = "hive", by = {tag = "mother"}, missing = '
        '"refuse"}}\n'
        '[tables.member]\nsource = "members"\neach_row = true\nknown_by = ["no"]\ncolumns = ["no", '
        '"name"]\n'
        '[tables.fee]\nsource = "fees"\neach_row = true\ncolumns = {fee = {header = "fee", type = '
        '"integer"}}\n'
        'links = {member_id = {to = "member", by = {no = "member"}, missing = "refuse"}}\n',
    )
    kerfmark("cut", "l.toml", "--into", db)
    write("hives2.csv", "tag,mother\nH2,H3\nH3,H1\nH4,H2\n")
    write("fees2.csv", "member,fee\nM2,7\nM1,8\n")
    write("members2.csv", "no,name\nM2,Bo\n")
    kerfmark("add", "fees2.csv", "hives2.csv", "members2.csv", "--into", db)
    assert db.ask(
        "SELECT h.tag, m.tag FROM hive h LEFT JOIN hive m ON m.hive_id = h.mother_id"
    ) == [("H1", None), ("H2", "H3"), ("H3", "H1"), ("H4", "H2")]
    assert db.ask("SELECT fee, name FROM fee JOIN member USING (member_id)") == [
        (5, "Ada"),
        (7, "Bo"),
        (8, "Ada"),
    ]
    write("fees3.csv", "member,fee\nM2,9\n")
    kerfmark("add", "fees3.csv", "--into", db)
    assert (
        "fee 4" in kerfmark("trace", db, "fee", 4).out
        and kerfmark("prove", db, "--json").json["holds"]
    )
    told = kerfmark("undo", db, 2, code=1).err
    assert (
        "load 2 cannot be taken back alone" in told
        and "rows of load 3 refer to rows of member that only load 2 added" in told
    )
    kerfmark("undo", db, 2, "--through")
    assert db.ask("SELECT count(*) FROM fee") == [1]


def test_a_rehearsal_tells_everything_and_writes_nothing(
    visited: Visited, write: Write, kerfmark: Runner, db: Target, tmp_path: Path
) -> None:
    write(
        "more.csv",
        "no,day,note,hive,kind,keeper\n3,2025-01-03,x,H9,straw,Ada\n1,never,y,H2,cork,\n",
    )
    before = db.dump()
    result = kerfmark("add", "more.csv", "--into", db, "--rehearse", "--json", code=1).json
    assert result["problems"] == 3 and {g["kind"] for g in result["groups"]} == {
        "unfit",
        "again",
        "differs",
    }
    assert result["load"] == 0
    out = kerfmark(
        "add", "more.csv", "--into", db, "--rehearse", "--set-aside", "bad.csv", code=3
    ).out
    assert "would set aside 1 row" in out and "nothing was written" in out
    assert db.dump() == before and not (tmp_path / "bad.csv").exists()


def test_mended_rows_land_as_if_they_had_been_right(
    visited: Visited, write: Write, kerfmark: Runner, db: Target, tmp_path: Path
) -> None:
    write(
        "more.csv",
        'no,day,note,hive,kind,keeper\n3,2025-01-03,"=x",H1,wood,\n4,never,"=1+1",H1,wood,\n'
        '5,2025-01-05,"\'-y",H2,cork,Bo\n',
    )
    kerfmark("add", "more.csv", "--into", db, "--set-aside", "bad.csv", code=3)
    with (tmp_path / "bad.csv").open(encoding="utf-8-sig", newline="") as file:
        rows = list(csv.reader(file))
    rows[1][1] = "2025-01-04"
    with (tmp_path / "bad.csv").open("w", encoding="utf-8-sig", newline="") as file:
        csv.writer(file).writerows(rows)
    kerfmark("add", "bad.csv", "--into", db)
    assert visited("SELECT no, note FROM visit WHERE no > 2") == [
        (3, "=x"),
        (5, "'-y"),
        (4, "=1+1"),
    ]
    assert kerfmark("prove", db, "--json").json["holds"]


def test_what_is_too_wide_is_refused_or_widened(
    visited: Visited, write: Write, kerfmark: Runner, db: Target
) -> None:
    write("more.csv", "no,day,note,hive,kind,keeper\n3,2025-01-03,far too long,H1,wood,\n")
    assert (
        '"far too long" has more than 8 characters'
        in kerfmark("add", "more.csv", "--into", db, code=1).err
    )
    told = kerfmark("add", "more.csv", "--into", db, "--widen").out
    assert "visit.note is text(12) from now on, no longer text(8)" in told
    assert db.type_of("visit", "note") in ("varchar(12)", "character varying(12)")
    assert not db.is_file or visited("PRAGMA integrity_check") == ["ok"]
    assert kerfmark("prove", db, "--json").json["holds"]


def test_files_that_fit_none_or_several_are_refused(
    visited: Visited, write: Write, kerfmark: Runner, db: Target
) -> None:
    write("strange.csv", "a,b\n1,2\n")
    told = kerfmark("add", "strange.csv", "--into", db, code=2).err
    assert "none of the 2 headers of this file is known" in told
    write("nearly.csv", "no,day,note,hive,kind\n3,2025-01-03,x,H1,wood\n")
    told = kerfmark("add", "nearly.csv", "--into", db, code=2).err
    assert "fits no source that is known" in told and '"keeper" is missing' in told
    assert (
        'there is no source "vists"'
        in kerfmark("add", "visits.csv", "--into", db, "--as", "vists", code=2).err
    )
    assert "loaded already" in kerfmark("add", "visits.csv", "--into", db, code=1).err
    write("more.csv", "no,day,note,hive,kind,keeper\n3,2025-01-03,x,H1,wood,\n")
    assert "named twice" in kerfmark("add", "more.csv", "more.csv", "--into", db, code=1).err
    kerfmark("add", "visits.csv", "--into", db, "--again", "--known", "keep")
    assert visited("SELECT count(*) FROM visit") == [2]


def test_a_database_changed_by_hand_is_noticed(
    visited: Visited, write: Write, kerfmark: Runner, db: Target, tmp_path: Path
) -> None:
    write("more.csv", "no,day,note,hive,kind,keeper\n3,2025-01-03,x,H1,wood,\n")
    db.do("DROP VIEW visits_flat")
    db.do("ALTER TABLE hive DROP COLUMN keeper")
    assert (
        'the table "hive" has no column "keeper" any more'
        in kerfmark("add", "more.csv", "--into", db, code=2).err
    )
    kerfmark("cut", "l.toml", "--into", db, "--replace")
    if not db.is_file:
        return  # a server keeps links as they are
    db.do("DELETE FROM hive WHERE hive = 'H2'")
    assert (
        "rows of visit lead by hive_id to records that are no longer there"
        in kerfmark("add", "more.csv", "--into", db).err
    )
    with target(db.engine, tmp_path / "other") as plain:
        (tmp_path / "other").mkdir()
        there = f"other/{plain}" if db.is_file else plain
        assert ("no such database" if db.is_file else "did not make this database") in kerfmark(
            "add", "more.csv", "--into", there, code=2
        ).err
        plain.do(
            *(["CREATE SCHEMA " + plain.url.split("=")[1]] if db.engine == "PostgreSQL" else []),
            "CREATE TABLE t (a int)",
        )
        assert (
            "Kerfmark did not make this database"
            in kerfmark("add", "more.csv", "--into", there, code=2).err
        )


def test_rows_put_there_by_hand_keep_what_they_need(
    visited: Visited, write: Write, kerfmark: Runner, db: Target
) -> None:
    write("more.csv", "no,day,note,hive,kind,keeper\n3,2025-01-03,x,H9,tin,\n")
    kerfmark("add", "more.csv", "--into", db)
    db.do("INSERT INTO visit (hive_id, no, day) VALUES (3, 77, '2025-07-07')")
    assert visited("SELECT max(visit_id) FROM visit") == [4]
    assert "1 row of hive stay" in kerfmark("undo", db).out
    assert visited("SELECT no, hive FROM visit JOIN hive USING (hive_id)") == [
        (1, "H1"),
        (2, "H2"),
        (77, "H9"),
    ]
    kerfmark("add", "more.csv", "--into", db)
    assert visited("SELECT visit_id, hive_id FROM visit WHERE no = 3") == [(5, 3)]
    assert "not from a load" in kerfmark("trace", db, "visit", 4).out


def test_changed_files_are_loaded_anew(
    visited: Visited, write: Write, kerfmark: Runner, db: Target
) -> None:
    write("more.csv", "no,day,note,hive,kind,keeper\n3,2025-01-03,x,H1,wood,\n")
    kerfmark("add", "more.csv", "--into", db)
    assert "unchanged" in kerfmark("refresh", db).out
    write("visits.csv", FIRST.replace("cork", "straw") + "9,2025-01-09,z,H2,straw,Bo\n")
    result = kerfmark("refresh", db, "--json").json
    assert (
        [Path(f).name for f in result["changed"]] == ["visits.csv"]
        and result["undone"] == [1]
        and len(result["added"]) == 1
    )
    assert visited("SELECT no, kind FROM visit JOIN hive USING (hive_id) ORDER BY no") == [
        (1, "wood"),
        (2, "straw"),
        (3, "wood"),
        (9, "straw"),
    ]
    assert kerfmark("prove", db, "--json").json["holds"]
    assert [
        (n["verb"], bool(n["undone_at"])) for n in kerfmark("loads", db, "--json").json["loads"]
    ] == [("cut", True), ("add", False), ("refresh", False)]


def test_undo_tells_what_cannot_be_taken_back(
    visited: Visited, kerfmark: Runner, db: Target
) -> None:
    assert "there is no load 7" in kerfmark("undo", db, 7, code=2).err
    kerfmark("undo", db)
    assert visited("SELECT count(*) FROM visit") == [0] and visited(
        "SELECT count(*) FROM hive"
    ) == [0]
    assert "nothing is left" in kerfmark("undo", db, code=2).err


def test_exceptions_of_later_files_stay_with_their_rows(
    write: Write, kerfmark: Runner, db: Target
) -> None:
    write("visits.csv", "no,keeper,phone\n1,Ada,1\n2,Ada,1\n3,Ada,9\n")
    write(
        "l.toml",
        'kerfmark = 1\n[sources.visits]\nfile = "visits.csv"\n[tables.visit]\neach_row = '
        'true\nknown_by = ["no"]\n'
        'links = ["keeper"]\ncolumns = {no = "no", phone_here = {header = "phone", instead_of = '
        '"keeper"}}\n'
        '[tables.keeper]\nknown_by = ["keeper"]\ncolumns = {keeper = "keeper", phone = {header = '
        '"phone", usual = true}}\n',
    )
    kerfmark("cut", "l.toml", "--into", db)
    write("more.csv", "no,keeper,phone\n4,Ada,7\n5,Ada,7\n6,Ada,1\n")
    kerfmark("add", "more.csv", "--into", db)
    assert db.ask("SELECT no, phone_here FROM visit") == [
        ("1", None),
        ("2", None),
        ("3", "9"),
        ("4", "7"),
        ("5", "7"),
        ("6", None),
    ]
    assert kerfmark("prove", db, "--json").json["holds"]


def test_refresh_leaves_alone_what_has_not_changed(
    visited: Visited, write: Write, kerfmark: Runner, db: Target, tmp_path: Path
) -> None:
    for n in (3, 4, 5):
        write(f"more{n}.csv", f"no,day,note,hive,kind,keeper\n{n},2025-01-0{n},x,H1,wood,\n")
        kerfmark("add", f"more{n}.csv", "--into", db)
    write(
        "more4.csv",
        "no,day,note,hive,kind,keeper\n4,2025-01-04,new,H1,wood,\n6,2025-01-06,,H7,tin,Cy\n",
    )
    result = kerfmark("refresh", db, "--json").json
    assert [Path(f).name for f in result["changed"]] == ["more4.csv"] and result["undone"] == [3]
    assert result["added"][0]["load"] == 5
    assert visited("SELECT no, note FROM visit ORDER BY no") == [
        (1, "ok"),
        (2, None),
        (3, "x"),
        (4, "new"),
        (5, "x"),
        (6, None),
    ]
    write("more5.csv", "no,day,note,hive,kind,keeper\n5,never,x,H1,wood,\n")
    before = db.dump()
    assert '"never" is not a date' in kerfmark("refresh", db, code=1).err
    assert db.dump() == before  # all of it, or nothing
    (tmp_path / "more3.csv").unlink()
    assert "no longer there" in kerfmark("refresh", db, code=2).err
    assert db.dump() == before


def test_what_is_told_of_loads_and_changes(
    visited: Visited, write: Write, kerfmark: Runner, db: Target
) -> None:
    write("more.csv", "no,day,note,hive,kind,keeper\n3,2025-01-03,x,H1,straw,Ada\n")
    told = kerfmark("add", "more.csv", "--into", db, "--known", "overwrite", "--changes").out
    lines = [line.split() for line in told.splitlines()]
    assert ["hive", "1", "kind", "wood", "straw"] in lines and [
        "hive",
        "1",
        "keeper",
        "-",
        "Ada",
    ] in lines
    assert f"kerfmark undo {shlex.quote(db.shown)} takes it back" in told
    told = kerfmark("loads", db).out
    assert "load 1   cut" in told and "values changed: hive 2" in told
    assert f"kerfmark undo {shlex.quote(db.shown)} takes load 2 back" in told
    told = kerfmark("trace", db, "hive", 1).out
    assert (
        "came with load 1" in told
        and "first in visits.csv, row 2" in told
        and ["2", "kind", "wood", "straw"] in [line.split() for line in told.splitlines()]
    )
    assert "no record 99" in kerfmark("trace", db, "hive", 99, code=2).err
    assert 'there is no table "hvie"' in kerfmark("trace", db, "hvie", 1, code=2).err
    told = kerfmark("undo", db).out
    assert f"taken back  load 2 of {db.shown}" in told and ["hive", "0", "2"] in [
        line.split() for line in told.splitlines()
    ]
    assert "taken back 20" in kerfmark("loads", db).out


def test_a_load_of_several_sources_is_all_or_nothing(
    write: Write, kerfmark: Runner, db: Target, tmp_path: Path
) -> None:
    write("places.csv", "name,grid\nWeir,XK 1\n")
    write("hives.csv", "tag,place\nH1,Weir\n")
    write(
        "l.toml",
        'kerfmark = 1\n[sources.hives]\nfile = "hives.csv"\n[sources.places]\nfile = "places.csv"\n'
        '[tables.hive]\nsource = "hives"\neach_row = true\nknown_by = ["tag"]\ncolumns = ["tag"]\n'
        'links = {place_id = {to = "place", by = {name = "place"}, missing = "refuse"}}\n'
        '[tables.place]\nsource = "places"\neach_row = true\nknown_by = ["name"]\ncolumns = '
        '["name", "grid"]\n',
    )
    kerfmark("cut", "l.toml", "--into", db)
    write("places2.csv", "name,grid\nMill,XK 2\nFord,\n")
    write("hives2.csv", "tag,place\nH2,Mill\nH3,Ford\nH4,Weir\n")
    before = db.dump()
    told = kerfmark("add", "hives2.csv", "places2.csv", "--into", db, code=1).err
    assert 'places2.csv, row 3, column "grid": is blank' in told and db.dump() == before
    result = kerfmark(
        "add", "hives2.csv", "places2.csv", "--into", db, "--set-aside", "bad.csv", "--json", code=3
    ).json
    assert result["set_aside"] == 2 and result["rejects"] == [
        "bad.csv",
        "bad-places.csv",
    ]  # the child goes with its parent
    assert db.ask("SELECT tag, name FROM hive JOIN place USING (place_id)") == [
        ("H1", "Weir"),
        ("H2", "Mill"),
        ("H4", "Weir"),
    ]
    mended = (tmp_path / "bad-places.csv").read_text("utf-8-sig").replace("Ford,,", "Ford,XK 3,")
    (tmp_path / "bad-places.csv").write_text(mended, "utf-8-sig")
    kerfmark("add", "bad.csv", "bad-places.csv", "--into", db)
    assert db.ask("SELECT tag, grid FROM hive JOIN place USING (place_id) WHERE tag = 'H3'") == [
        ("H3", "XK 3")
    ]
    assert kerfmark("prove", db, "--json").json["holds"]


def test_a_table_of_several_sources_grows_by_each(
    write: Write, kerfmark: Runner, db: Target
) -> None:
    write("keepers.csv", "Keeper,Phone,Since\nAda,1,1999\n")
    write("visits.csv", "no,Keeper,Phone\n1,Bo,2\n")
    write(
        "l.toml",
        'kerfmark = 1\n[sources.keepers]\nfile = "keepers.csv"\n[sources.visits]\nfile = '
        '"visits.csv"\n'
        '[tables.keeper]\nsource = "keepers"\nalso_from = ["visits"]\neach_row = true\nknown_by = '
        '["Keeper"]\n'
        'optional = ["Since"]\ncolumns = ["Keeper", "Phone", "Since"]\n'
        '[tables.visit]\nsource = "visits"\neach_row = true\nknown_by = ["no"]\nlinks = '
        '["keeper"]\ncolumns = ["no"]\n',
    )
    kerfmark("cut", "l.toml", "--into", db)
    write("visits2.csv", "no,Keeper,Phone\n2,Cy,3\n3,Ada,1\n")
    kerfmark("add", "visits2.csv", "--into", db)
    assert db.ask("SELECT keeper, phone FROM keeper") == [("Ada", "1"), ("Bo", "2"), ("Cy", "3")]
    write("visits3.csv", "no,Keeper,Phone\n4,Ada,9\n")
    told = kerfmark("add", "visits3.csv", "--into", db, code=1).err
    assert 'row 2, column "Phone": differs from the database, where this keeper has "1"' in told
    write("keepers2.csv", "Keeper,Phone,Since\nCy,3,2001\n")
    kerfmark("add", "keepers2.csv", "--into", db, "--known", "fill")
    assert db.ask("SELECT since FROM keeper WHERE keeper = 'Cy'") == ["2001"]
    assert kerfmark("prove", db, "--json").json["holds"]


def test_what_is_said_again_of_tables_further_away_is_compared(
    write: Write, kerfmark: Runner, db: Target
) -> None:
    write("places.csv", "name,district\nWeir,North\nMill,South\n")
    write("hives.csv", "tag,place,district\nH1,Weir,North\n")
    write(
        "l.toml",
        'kerfmark = 1\n[sources.hives]\nfile = "hives.csv"\n[sources.places]\nfile = "places.csv"\n'
        '[tables.hive]\nsource = "hives"\neach_row = true\nknown_by = ["tag"]\ncolumns = '
        '["tag"]\n[tables.hive.links]\n'
        'place_id = {to = "place", by = {name = "place"}, missing = "refuse", repeats = '
        '{"district_id.district" = "district"}}\n'
        '[tables.place]\nsource = "places"\neach_row = true\nknown_by = ["name"]\nlinks = '
        '["district"]\ncolumns = ["name"]\n'
        '[tables.district]\nsource = "places"\nknown_by = ["district"]\ncolumns = ["district"]\n',
    )
    kerfmark("cut", "l.toml", "--into", db)
    write("hives2.csv", "tag,place,district\nH2,Mill,South\nH3,Weir,South\nH4,Mill,\n")
    result = kerfmark("add", "hives2.csv", "--into", db, "--rehearse", "--json", code=1).json
    [group] = result["groups"]
    assert (group["kind"], group["column"], [p["origin"]["row"] for p in group["places"]]) == (
        "differs",
        "district",
        [3, 4],
    )
    write("hives2.csv", "tag,place,district\nH2,Mill,South\nH3,Ford,East\n")
    write("places2.csv", "name,district\nFord,East\n")
    kerfmark("add", "hives2.csv", "places2.csv", "--into", db)
    joined = "SELECT tag, district FROM hive JOIN place USING (place_id) JOIN district USING (district_id)"
    assert db.ask(joined) == [("H1", "North"), ("H2", "South"), ("H3", "East")]
    assert kerfmark("prove", db, "--json").json["holds"]


def test_a_workbook_is_opened_once_however_many_sheets_it_feeds(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def book(name: str, first: int) -> Path:
        made = openpyxl.Workbook()
        made.remove(made.active)
        for kind in ("hive", "queen", "frame", "jar", "tool"):
            sheet = made.create_sheet(kind)
            sheet.append([f"{kind} no", f"{kind} colour", f"{kind} age"])
            for n in range(first, first + 4):
                sheet.append([f"{kind}-{n}", f"colour {n * 7}", n * 3])
        made.save(tmp_path / name)
        return tmp_path / name

    library.cut([book("a.xlsx", 1)], tmp_path / "b.db")
    opened: list[Path] = []
    real = sheets.open_workbook
    monkeypatch.setattr(
        sheets, "open_workbook", lambda path, **how: opened.append(path) or real(path, **how)
    )
    added = library.add([book("b.xlsx", 11)], tmp_path / "b.db")
    assert sum(f.rows for f in added.files) == 20 and len(opened) == 1
