"""Rows that are not data: a header once more, notes, totals, and what somebody leaves out."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import openpyxl
import pytest

from conftest import Runner

Write = Callable[..., Path]

ROWS = [
    ("no", "name", "kg"),
    (1, "Anna", 2),
    (2, "Ben", 3),
    ("no", "name", "kg"),
    (3, "Cleo", 4),
    ("Subtotal", None, 9),
    (4, "Dan", 5),
    ("Total", None, 14),
    ("Source: the hive book", None, None),
    ("* as weighed", None, None),
]
DATA = [["1", "Anna", "2"], ["2", "Ben", "3"], ["3", "Cleo", "4"], ["4", "Dan", "5"]]


@pytest.fixture(params=["csv", "xlsx", "short lines"])
def pages(request: pytest.FixtureRequest, tmp_path: Path) -> str:
    """A listing of two pages, as text (with and without delimiters after its notes) and as a
    workbook."""
    if request.param == "xlsx":
        book = openpyxl.Workbook()
        for row in ROWS:
            book.active.append(row)
        book.save(tmp_path / "pages.xlsx")
        return "pages.xlsx"
    lines = [",".join("" if c is None else str(c) for c in row) for row in ROWS]
    if request.param == "short lines":
        lines = [line.rstrip(",") for line in lines]
    (tmp_path / "pages.csv").write_text("\n".join(lines) + "\n")
    return "pages.csv"


def test_each_kind_is_told_by_its_rows_and_left_out_by_one_option(
    pages: str, kerfmark: Runner
) -> None:
    [source] = kerfmark(
        "measure", pages, "--skip-rows", "notes,totals", "--rows", "9", "--json"
    ).json["sources"]
    assert source["first_rows"] == DATA
    assert [c["type"] for c in source["columns"]] == ["integer", "text", "integer"]
    told = {(f["what"].split(":")[0], tuple(f["rows"])) for f in source["findings"]}
    assert {
        ("the header once more", (4,)),
        ("looks like a row of totals, not of data", (6, 8)),
    } <= told
    assert [rows for _, rows in told if rows == (9, 10)]
    kerfmark("cut", pages, "--into", "a.db", "--skip-rows", "notes,totals")
    assert "4 rows and 12 cells compared, all in the database" in kerfmark("prove", "a.db").out


def test_without_an_option_only_the_header_goes_and_the_rest_is_doubtful(
    pages: str, kerfmark: Runner
) -> None:
    [source] = kerfmark("measure", pages, "--rows", "9", "--json").json["sources"]
    assert ["no", "name", "kg"] not in source["first_rows"]
    assert ["Subtotal", None, "9"] in source["first_rows"]
    nexts = " ".join(f["next"] for f in source["findings"] if f["severity"] != "odd")
    assert "--skip-rows totals leaves them out" in nexts
    assert "--skip-rows notes leaves them out" in nexts


@pytest.mark.parametrize(
    ("said", "rows"),
    [
        ("keep-headers,5-", [["1", "Anna", "2"], ["2", "Ben", "3"], ["no", "name", "kg"]]),
        ("3-", [["1", "Anna", "2"]]),
        ("3-8,notes", [["1", "Anna", "2"]]),
    ],
)
def test_rows_may_be_named(pages: str, kerfmark: Runner, said: str, rows: list[list[str]]) -> None:
    [source] = kerfmark("measure", pages, "--skip-rows", said, "--rows", "9", "--json").json[
        "sources"
    ]
    assert source["first_rows"] == rows


def test_only_the_first_rows_are_wanted(kerfmark: Runner, write: Write) -> None:
    write("a.csv", "no,name\n" + "".join(f"{n},bee {n}\n" for n in range(1, 50)))
    found = kerfmark("measure", "a.csv", "--first-rows", "7", "--json").json["sources"][0]
    assert (found["rows"], found["columns"][0]["largest"]) == (7, "7")
    kerfmark("cut", "a.csv", "--into", "a.db", "--first-rows", "7")
    assert "7 rows" in kerfmark("prove", "a.db").out
    assert (
        "--first-rows takes a number"
        in kerfmark("measure", "a.csv", "--first-rows", "0", code=2).err
    )


def test_later_months_lose_their_own_repeated_headers(kerfmark: Runner, write: Write) -> None:
    write("v1.csv", "no,name\n1,Anna\n2,Ben\n")
    kerfmark("cut", "v1.csv", "--into", "a.db")
    write("v2.csv", "no,name\n3,Cleo\nno,name\n4,Dan\n")
    told = kerfmark("add", "v2.csv", "--into", "a.db")
    assert "v2.csv: the header once more: left out (row 3)" in told.err
    assert "v1          2" in told.out
    assert "proven" in kerfmark("prove", "a.db").out


def test_words_that_only_begin_like_totals_are_data(kerfmark: Runner, write: Write) -> None:
    rows = "".join(f"Totality {n},{n},x\n" for n in range(9)) + "Summer,9,\nSum,10,x\n"
    write("a.csv", "name,no,kind\n" + rows)
    [source] = kerfmark("measure", "a.csv", "--skip-rows", "totals", "--json").json["sources"]
    assert source["rows"] == 11
