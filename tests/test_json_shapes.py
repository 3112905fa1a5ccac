"""JSON as web services give it, by columns, by id or as rows under their names, is the table that it
holds; what is a record already stays one."""

from __future__ import annotations

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
