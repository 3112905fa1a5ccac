"""Looking into a database: tables, rows that are wanted, one record with its parents and children,
and CSV."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Runner
from engines import Target

Write = Callable[..., Path]


@pytest.fixture
def bees(db: Target, visits: Path, kerfmark: Runner) -> Target:
    """A database of visits, hives, apiaries and keepers."""
    kerfmark("cut", "visits.csv", "--into", db)
    return db


def test_rows_that_are_wanted(bees: Target, kerfmark: Runner) -> None:
    def shown(*tests: str) -> tuple[int, list[list[object]]]:
        options = [o for t in tests for o in ("--where", t)]
        [table] = kerfmark("show", bees, "hive", "--rows", 2, "--json", *options).json["tables"]
        return table["rows"], table["first_rows"]

    everything, first = shown()
    assert everything == 24 and len(first) == 2
    wood = bees.ask("SELECT count(*) FROM hive WHERE kind = 'wood'")[0]
    assert shown("kind=wood")[0] == wood and shown("kind!=wood")[0] == 24 - wood
    assert (
        shown("kind=wood", "hive_id>3", "hive_id<=6")[0]
        == bees.ask(
            "SELECT count(*) FROM hive WHERE kind = 'wood' AND hive_id > 3 AND hive_id <= 6"
        )[0]
    )
    assert shown("hive~H0")[0] == 10 and shown("hive~%")[0] == 0 and shown("kind=")[0] == 0
    assert shown("kind=' OR 1=1 --")[0] == 0
    told = kerfmark("show", bees, "hive", "--where", "colour=red", code=2).err
    assert "is not a condition on columns of hive" in told and "the columns are hive_id" in told
    assert "name the table" in kerfmark("show", bees, "--where", "kind=wood", code=2).err


def test_one_record_with_what_it_is_linked_with(bees: Target, kerfmark: Runner) -> None:
    result = kerfmark("show", bees, "hive", 5, "--rows", 1, "--json").json
    assert result["record"]["values"]["hive_id"] == 5
    [apiary] = result["parents"]
    assert apiary["table"] == "apiary" and apiary["through"] == "hive.apiary_id"
    assert apiary["values"]["apiary_id"] == result["record"]["values"]["apiary_id"]
    [visits] = result["children"]
    assert (
        visits["table"] == "visit"
        and visits["rows"] == bees.ask("SELECT count(*) FROM visit WHERE hive_id = 5")[0]
    )
    assert len(visits["first_rows"]) == 1
    visit = kerfmark("show", bees, "visit", 1, "--json").json
    assert [p["table"] for p in visit["parents"]] in (
        ["hive", "apiary", "keeper"],
        ["keeper", "hive", "apiary"],
    )
    out = kerfmark("show", bees, "hive", 5).out
    assert (
        "leads to apiary  through hive.apiary_id" in out
        and "records of visit  through hive_id" in out
    )
    assert "has no record 99" in kerfmark("show", bees, "hive", 99, code=2).err
    assert "no primary key" in kerfmark("show", bees, "visits_flat", 1, code=2).err


def test_rows_as_csv(bees: Target, kerfmark: Runner, visits: Path) -> None:
    out = kerfmark("show", bees, "visits_flat", "--csv").out
    rows = list(csv.reader(io.StringIO(out)))
    source = list(csv.reader(io.StringIO(visits.read_text())))
    assert rows[0] == source[0] and sorted(r[:8] for r in rows[1:]) == sorted(
        r[:8] for r in source[1:]
    )
    assert len(kerfmark("show", bees, "hive", "--csv", "--rows", 3).out.splitlines()) == 4
    assert "--csv needs a table" in kerfmark("show", bees, "--csv", code=2).err


@pytest.mark.parametrize("db", ["PostgreSQL"], indirect=True)
def test_a_test_that_cannot_be_asked_is_told(bees: Target, kerfmark: Runner) -> None:
    told = kerfmark("show", bees, "hive", "--where", "hive_id=abc", code=2).err
    assert "a value of --where does not fit its column" in told and "abc" in told


def test_rows_are_sorted_and_a_table_that_leads_to_itself_is_a_tree(
    db: Target, write: Write, kerfmark: Runner
) -> None:
    write("areas.csv", "area,within,metres\nB2,B,20\nA,,1\nB,,3\nB1,B,7\nA1,A,\nB11,B1,5\n")
    write(
        "l.toml",
        'kerfmark = 1\n[sources.areas]\nfile = "areas.csv"\n[tables.area]\neach_row = true\n'
        'known_by = ["area"]\noptional = ["within_id", "metres"]\n'
        'columns = {area = "area", metres = {header = "metres", type = "integer"}}\n'
        'links = {within_id = {to = "area", by = {area = "within"}}}\n',
    )
    kerfmark("cut", "l.toml", "--into", str(db))
    lines = kerfmark("show", str(db), "area", "--tree", "--json").json["lines"]
    assert [(depth, name) for depth, _, name in lines] == [
        *((0, "A"), (1, "A1"), (0, "B"), (1, "B1"), (2, "B11"), (1, "B2"))
    ]
    assert "   B1" in kerfmark("show", str(db), "area", "--tree").out
    shown = kerfmark(
        "show", str(db), "area", "--sort", "metres desc", "--where", "metres>1", "--csv"
    )
    assert [line.split(",")[2] for line in shown.out.splitlines()[1:]] == ["B2", "B1", "B11", "B"]
    told = kerfmark("show", str(db), "area", "--sort", "metre", code=2).err
    assert 'area has no column "metre"' in told and "metres" in told
    db.do("UPDATE area SET within_id = 4 WHERE area = 'B'")  # round to itself
    assert kerfmark("show", str(db), "area", "--tree", "--json").json["circles"] == 4
    kerfmark("show", str(db), "--tree", code=2)
    write("jars.csv", "jar\nsmall\n")
    kerfmark("cut", "jars.csv", "--into", str(db), "--beside")
    assert "not a tree" in kerfmark("show", str(db), "jar", "--tree", code=2).err
