"""Rows that are not data: a header once more, notes, totals, and what somebody leaves out."""

from __future__ import annotations

import contextlib
import sqlite3
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
        ("repeats the header", (4,)),
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


def test_rows_of_one_file_may_be_named(kerfmark: Runner, write: Write, tmp_path: Path) -> None:
    write("v-2040-01.csv", "no,name\n1,Anna\n2,Ben\n")
    write("v-2040-02.csv", "no,name\n3,Cleo\n4,Dan\n99,all of them\n")
    files = ("v-2040-01.csv", "v-2040-02.csv")
    kerfmark("cut", *files, "--skip-rows", "v-2040-02.csv:-1", "--into", "a.db")
    kerfmark("cut", "a.layout.toml", "--into", "b.db")
    for database in ("a.db", "b.db"):
        assert kerfmark("prove", database).code == 0
        with contextlib.closing(sqlite3.connect(tmp_path / database)) as db:
            assert [n for (n,) in db.execute("SELECT no FROM v ORDER BY no")] == [1, 2, 3, 4]
    write("v-2040-03.csv", "no,name\n5,Eva\n99,all of them\n")
    write("v-2040-04.csv", "no,name\n6,Fay\n")
    later = ("v-2040-03.csv", "v-2040-04.csv")
    kerfmark("add", *later, "--skip-rows", "*-03.csv:3", "--into", "a.db")
    assert kerfmark("prove", "a.db").code == 0
    with contextlib.closing(sqlite3.connect(tmp_path / "a.db")) as db:
        assert [n for (n,) in db.execute("SELECT no FROM v ORDER BY no")] == [1, 2, 3, 4, 5, 6]
    told = kerfmark("measure", *files, "--skip-rows", "w.csv:2", code=2).err
    assert 'no file is called "w.csv"' in told


def test_several_spellings_of_a_blank_are_taken_and_told(kerfmark: Runner, write: Write) -> None:
    write("v.csv", "no,kg\n" + "".join(f"{n},{k}\n" for n, k in enumerate(["1", "NA", "..", "4"])))
    [source] = kerfmark("measure", "v.csv", "--json").json["sources"]
    assert [c["type"] for c in source["columns"]] == ["integer", "integer"]
    told = kerfmark("mark", "v.csv").out
    assert 'taken as blank: "..", "NA"' in told


def test_later_months_lose_their_own_repeated_headers(kerfmark: Runner, write: Write) -> None:
    write("v1.csv", "no,name\n1,Anna\n2,Ben\n")
    kerfmark("cut", "v1.csv", "--into", "a.db")
    write("v2.csv", "no,name\n3,Cleo\nno,name\n4,Dan\n")
    told = kerfmark("add", "v2.csv", "--into", "a.db")
    assert "v2.csv: repeats the header: left out (row 3)" in told.err
    assert "v1          2" in told.out
    assert "proven" in kerfmark("prove", "a.db").out


def test_words_that_only_begin_like_totals_are_data(kerfmark: Runner, write: Write) -> None:
    rows = "".join(f"Totality {n},{n},x\n" for n in range(9)) + "Summer,9,\nSum,10,x\n"
    write("a.csv", "name,no,kind\n" + rows)
    [source] = kerfmark("measure", "a.csv", "--skip-rows", "totals", "--json").json["sources"]
    assert source["rows"] == 11


GROUPS = (
    "apiary,keeper,hive,kg\nWeir,Anna,H1,2\n,,H2,3\n,,H3,4\nMill,Ben,H4,2\n,,H5,1\n"
    "Heath,,H6,3\n,,H7,3\n"
)


def test_cells_left_blank_below_the_same_are_told_and_filled(
    kerfmark: Runner, write: Write, tmp_path: Path
) -> None:
    write("a.csv", GROUPS)
    told = kerfmark("measure", "a.csv").out
    assert '"apiary", "keeper" are blank in rows that may belong to the row above' in told
    assert "(rows 3, 4, 6, 8)" in told
    filled = ["--fill-down", "apiary", "--fill-down", "keeper"]
    assert '--fill-down "apiary" --fill-down "keeper"' in told
    kerfmark("cut", "a.csv", "--into", "a.db", *filled)
    write("b.csv", "apiary,keeper,hive,kg\nOrchard,Dan,H8,2\n,,H9,3\n")
    write("c.csv", "apiary,keeper,hive,kg\n,Eva,H10,2\n,,H11,3\n")  # nothing comes from b.csv
    kerfmark("add", "b.csv", "--into", "a.db")
    assert "is blank" in kerfmark("add", "c.csv", "--into", "a.db", code=1).err
    assert "9 rows and 36 cells compared, all in the database" in kerfmark("prove", "a.db").out
    kerfmark("export", "a.db", "--flat", "a", "-o", "out.csv")
    rows = [line.split(",") for line in (tmp_path / "out.csv").read_text().splitlines()[1:]]
    assert [r[:3] for r in rows] == [
        *(["Weir", "Anna", f"H{n}"] for n in (1, 2, 3)),
        *(["Mill", "Ben", f"H{n}"] for n in (4, 5)),
        *(["Heath", "", f"H{n}"] for n in (6, 7)),  # what the group's first row lacks is blank
        *(["Orchard", "Dan", f"H{n}"] for n in (8, 9)),
    ]


@pytest.mark.parametrize(
    "text",
    [
        "title,name,no\nDr,Anna,1\n,Ben,2\nDr,Cleo,3\n,Dan,4\n,Eva,5\n",  # what is there again
        "name,no,kg\nAnna,1,2\n,2,3\n,3,4\n,4,5\n",  # one group only
    ],
)
def test_blanks_that_are_only_blank_are_not_taken_for_groups(
    kerfmark: Runner, write: Write, text: str
) -> None:
    write("a.csv", text)
    assert "fill-down" not in kerfmark("measure", "a.csv").out


def test_a_column_to_fill_down_that_does_not_exist_is_told(kerfmark: Runner, write: Write) -> None:
    write("a.csv", GROUPS)
    told = kerfmark("measure", "a.csv", "--fill-down", "place", code=2).err
    assert 'there is no column "place" to fill down' in told and "apiary, keeper" in told


def test_the_proof_accounts_for_every_row_of_the_file(
    kerfmark: Runner, write: Write, tmp_path: Path
) -> None:
    text = "The hive book\n\nno,name\n1,Anna\n\n2,Ben\nno,name\n3,Cleo\nTotal,\n"
    write("a.csv", text)
    kerfmark("cut", "a.csv", "--into", "a.db", "--skip-rows", "totals")
    told = kerfmark("prove", "a.db")
    assert (
        "a.csv: 9 in the file: 2 above the header, 1 in the header, 1 blank, 2 left out, 3 read"
        in told.out
    )
    [rows] = kerfmark("prove", "a.db", "--json").json["files"]
    assert rows["rows"] == len(text.splitlines())  # as a plain reader counts
    assert sum(rows[k] for k in ("above", "header", "blank", "left_out", "records")) == 9


def test_rows_that_are_there_again_may_be_left_out(kerfmark: Runner, write: Write) -> None:
    write("v.csv", "no,name\n1,Anna\n2,Ben\n1,Anna\n3,Anna\n2,Ben\n")
    [source] = kerfmark(
        "measure", "v.csv", "--skip-rows", "duplicates", "--rows", "9", "--json"
    ).json["sources"]
    assert source["first_rows"] == [["1", "Anna"], ["2", "Ben"], ["3", "Anna"]]
    [told] = [f for f in source["findings"] if "earlier row" in f["what"]]
    assert told["rows"] == [4, 6]
    kerfmark("cut", "v.csv", "--skip-rows", "duplicates", "--into", "a.db")
    [rows] = kerfmark("prove", "a.db", "--json").json["files"]
    assert (rows["records"], rows["left_out"]) == (3, 2)
