"""JSON as web services give it, by columns, by id or as rows under their names, is the table that it
holds; what is a record already stays one."""

from __future__ import annotations

import csv
import re
import shlex
import sqlite3
import subprocess
import sys
import zipfile
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Runner

Write = Callable[..., Path]

ROWS = [["1", "Anna", "2.50"], ["2", "Ben", None]]
SHAPES = {
    "by columns": '{"no": [1, 2], "name": ["Anna", "Ben"], "kg": [2.50, null]}',
    "rows under their names": '[["no", "name", "kg"], [1, "Anna", 2.50], [2, "Ben", null]]',
    "names and rows apart": '{"columns": ["no", "name", "kg"], "index": [0, 1], '
    '"data": [[1, "Anna", 2.50], [2, "Ben", null]]}',
    "with a mark": "\ufeff" + '{"no": [1, 2], "name": ["Anna", "Ben"], "kg": [2.50, null]}',
}


@pytest.mark.parametrize("shape", SHAPES)
def test_a_table_in_any_shape(kerfmark: Runner, write: Write, shape: str) -> None:
    write("bees.json", SHAPES[shape])
    [source] = kerfmark("measure", "bees.json", "--json").json["sources"]
    assert [c["header"] for c in source["columns"]] == ["no", "name", "kg"]
    assert source["first_rows"] == ROWS
    kerfmark("cut", "bees.json", "--into", "a.db")
    assert "2 rows and 6 cells compared, all in the database" in kerfmark("prove", "a.db").out
    more = SHAPES[shape].replace("1", "3").replace("2,", "4,").replace("2]", "4]")
    write("more.json", more.replace("Anna", "Cleo").replace("Ben", "Dan"))
    kerfmark("add", "more.json", "--into", "a.db")
    assert "4 rows and 12 cells compared" in kerfmark("prove", "a.db").out


@pytest.mark.parametrize(
    ("text", "headers", "first"),
    [
        (
            '{"H1": {"kg": 1.50, "at": "Weir"}, "H2": {"kg": 2}}',
            ["id", "kg", "at"],
            ["H1", "1.50", "Weir"],
        ),
        (
            '{"a": {"id": 7, "kg": 1}, "b": {"id": 8, "kg": 2}, "c": {"id": 9, "kg": 3}}',
            ["key", "id", "kg"],
            ["a", "7", "1"],
        ),
    ],
)
def test_records_by_id(
    kerfmark: Runner, write: Write, text: str, headers: list[str], first: list[str]
) -> None:
    write("hives.json", text)
    [source] = kerfmark("measure", "hives.json", "--json").json["sources"]
    assert [c["header"] for c in source["columns"]] == headers
    assert source["first_rows"][0] == first and "by id" in source["how"]


@pytest.mark.parametrize(
    ("text", "headers"),
    [
        (
            '{"home": {"street": "a", "town": "b"}, "work": {"street": "c", "town": "d"}}',
            ["home.street", "home.town", "work.street", "work.town"],
        ),
        ('{"no": 1, "name": "Anna"}', ["no", "name"]),
        ('{"no": 1}\n{"no": 2}\n', ["no"]),
        ('[{"no": 1}, {"no": 2}]', ["no"]),
    ],
)
def test_what_is_a_record_stays_one(
    kerfmark: Runner, write: Write, text: str, headers: list[str]
) -> None:
    write("a.json", text)
    [source] = kerfmark("measure", "a.json", "--json").json["sources"]
    assert [c["header"] for c in source["columns"]] == headers


ORDERS = [
    ("no", "customer", "items"),
    ("007", "Ann", '[{"sku": "A1", "qty": 2, "price": 1.50}, {"sku": "B2", "qty": 1}]'),
    ("008", "Ben", "[]"),
    (),
    ("009", "Cid", '[{"sku": "A1", "qty": 12,\n "price": null}]'),
    ("010", "Dot", ""),
]
ITEMS = [["1", "1", "A1", "2", "1.50"], ["1", "2", "B2", "1", ""], ["3", "1", "A1", "12", ""]]


@pytest.fixture
def orders(tmp_path: Path) -> Path:
    path = tmp_path / "orders.csv"
    with path.open("w", newline="") as file:
        csv.writer(file, delimiter=";", lineterminator="\n").writerows(ORDERS)
    return path


def test_lists_of_records_in_cells_are_told_and_read_when_that_is_said(
    kerfmark: Runner, orders: Path
) -> None:
    [source] = kerfmark("measure", "orders.csv", "--json").json["sources"]
    [told] = [f for f in source["findings"] if "lists of records" in f["what"]]
    assert (told["origin"]["column"], told["rows"]) == ("items", [2, 5])
    said = shlex.split(told["next"])[:2]
    rows, items = kerfmark("measure", "orders.csv", *said, "--json").json["sources"]
    assert [r[1:] for r in rows["first_rows"]] == [["007", "Ann"], ["008", "Ben"], ["009", "Cid"]]
    got = [["" if c is None else c for c in row] for row in items["first_rows"]]
    assert got == ITEMS
    assert [c["header"] for c in items["columns"]] == ["record", "position", "sku", "qty", "price"]


def test_a_layout_keeps_that_cells_hold_lists(
    kerfmark: Runner, orders: Path, tmp_path: Path
) -> None:
    kerfmark("cut", "orders.csv", "--json-cells", "items", "--into", "a.db")
    assert kerfmark("prove", "a.db").code == 0
    orders.write_text(orders.read_text().replace("B2", "B3"))
    kerfmark("refresh", "a.db")
    with sqlite3.connect(tmp_path / "a.db") as db:
        skus = [s for (s,) in db.execute("SELECT sku FROM orders_item ORDER BY 1")]
    assert skus == ["A1", "A1", "B3"]


def test_a_cell_that_is_not_json_is_told_with_its_row(kerfmark: Runner, orders: Path) -> None:
    orders.write_text(orders.read_text().replace('""qty"": 12', '""qty"" 12'))
    told = kerfmark("measure", "orders.csv", "--json-cells", "items", code=1).err
    assert 'row 5, column "items"' in told and "not JSON" in told
    told = kerfmark("measure", "orders.csv", "--json-cells", "things", code=2).err
    assert "its columns are no, customer, items" in told


@pytest.mark.parametrize(
    ("cells", "told"),
    [
        (['[{"a": 1}]', '{"a": 1}'], ('row 3, column "items"', "another kind of value")),
        (['[{"a": 1}]', '[{"a": NaN}]'], ('row 3, column "items"', "NaN is not JSON")),
        (['[{"a": 1}]', "[" * 9000], ('row 3, column "items"', "not JSON")),
    ],
)
def test_cells_that_hold_another_kind_of_value_are_told(
    kerfmark: Runner, tmp_path: Path, cells: list[str], told: tuple[str, ...]
) -> None:
    with (tmp_path / "a.csv").open("w", newline="") as file:
        csv.writer(file).writerows([["no", "items"], *([str(i), c] for i, c in enumerate(cells))])
    error = kerfmark("measure", "a.csv", "--json-cells", "items", code=1).err
    assert all(part in error for part in told)


def test_a_file_with_nothing_but_names_of_columns_has_no_rows(
    kerfmark: Runner, write: Write
) -> None:
    write("a.csv", "no,items\n")
    assert "no rows" in kerfmark("measure", "a.csv", "--json-cells", "items", code=2).err


def test_lists_in_cells_of_what_is_piped(orders: Path) -> None:
    command = [sys.executable, "-m", "kerfmark", "measure", "-", "--json-cells", "items"]
    with orders.open() as file:
        told = subprocess.run(command, stdin=file, capture_output=True, text=True, check=True)
    assert re.findall(r"^standard input  (\d) rows", told.stdout, re.M) == ["4", "3"]


def test_lists_in_cells_within_an_archive_are_refused_with_what_to_do(
    kerfmark: Runner, orders: Path, tmp_path: Path
) -> None:
    with zipfile.ZipFile(tmp_path / "a.zip", "w") as archive:
        archive.write(orders, "orders.csv")
    error = kerfmark("measure", "a.zip", "--json-cells", "items", code=2).err
    assert "orders.csv" in error and "next" in error


def test_lists_belong_to_their_records_however_few_there_are(
    kerfmark: Runner, write: Write, tmp_path: Path
) -> None:
    write(
        "n.json",
        '{"hives": [{"hive": "H1", "visits": [{"day": "a", "mites": [{"n": 1}, {"n": 2}]}, '
        '{"day": "b", "mites": []}]}, {"hive": "H2", "visits": [{"day": "c", "mites": '
        '[{"n": 3}]}]}], "keepers": [{"name": "Ann"}, {"name": "Ben"}]}',
    )
    kerfmark("cut", "n.json", "--into", "a.db")
    assert kerfmark("prove", "a.db").code == 0
    with sqlite3.connect(tmp_path / "a.db") as db:
        links = {
            (child, parent)
            for (child,) in db.execute("SELECT name FROM sqlite_master WHERE type = 'table'")
            for _, _, parent, *_ in db.execute(f'PRAGMA foreign_key_list("{child}")')
            if not child.startswith("kerfmark")
        }
    assert links == {("hives_visit", "hive"), ("hives_visits_mite", "hives_visit")}
