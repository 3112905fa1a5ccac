"""Listings with bars and ruling lines, and cells padded with spaces, are read as the table that a
person sees; other marks and other names than usual are understood or told."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Runner

Write = Callable[..., Path]

LISTINGS = {
    "boxes": "+----+------+-----+\n| no | name | kg  |\n+----+------+-----+\n|  1 | Anna | 2.5 |\n"
    "|  2 | Ben  | 3   |\n+----+------+-----+\n2 rows in set (0.00 sec)\n",
    "bars": " no | name | kg  \n----+------+-----\n  1 | Anna | 2.5\n  2 | Ben  |   3\n(2 rows)\n\n",
    "marked down": "| no | name | kg |\n|----|:-----|---:|\n| 1 | Anna | 2.5 |\n| 2 | Ben | 3 |\n",
    "fixed": "no   name       kg\n---- ---------- ----\n1    Anna       2.5\n2    Ben        3\n",
    "double rules": "no   name   kg\n==== ====== ====\n1    Anna   2.5\n2    Ben    3\n",
    "padded": "no , name , kg \n 1 , Anna , 2.5 \n 2 , Ben , 3 \n",
    "tildes": "no~name~kg\n1~Anna~2.5\n2~Ben~3\n",
    "two bars": "no||name||kg\n1||Anna||2.5\n2||Ben||3\n",
    "two colons": "no::name::kg\n1::Anna::2.5\n2::Ben::3\n",
    "said": "sep=;\nno;name;kg\n1;Anna;2.5\n2;Ben;3\n",
}


@pytest.mark.parametrize("ends", ["\n", "\r\n"])
@pytest.mark.parametrize("listing", LISTINGS)
def test_a_listing_is_the_table_that_it_shows(
    kerfmark: Runner, write: Write, listing: str, ends: str
) -> None:
    write("bees.txt", LISTINGS[listing].replace("\n", ends))
    [source] = kerfmark("measure", "bees.txt", "--json").json["sources"]
    assert [c["header"] for c in source["columns"]] == ["no", "name", "kg"]
    assert source["first_rows"] == [["1", "Anna", "2.5"], ["2", "Ben", "3"]]
    assert [c["type"].split("(")[0] for c in source["columns"]] == ["integer", "text", "decimal"]
    kerfmark("cut", "bees.txt", "--into", "a.db")
    assert "2 rows and 6 cells compared, all in the database" in kerfmark("prove", "a.db").out
    kept = [line for line in LISTINGS[listing].split("\n") if "Ben" not in line]
    write("more.txt", ends.join(kept).replace("1", "3").replace("Anna", "Cleo"))
    kerfmark("add", "more.txt", "--into", "a.db")
    assert "3 rows and 9 cells compared" in kerfmark("prove", "a.db").out


def test_rows_of_a_listing_keep_their_numbers(kerfmark: Runner, write: Write) -> None:
    rows = "".join(f"|  {n} | Cleo | 3   |\n" for n in range(3, 7))
    broken = LISTINGS["boxes"].replace("| Ben  | 3   |\n", f"| Ben  | 3 | x |\n{rows}")
    write("bees.txt", broken)
    assert (
        "bees.txt, row 5: 1 row does not have"
        in kerfmark("cut", "bees.txt", "--into", "a.db", code=1).err
    )


def test_padding_is_told_and_kept_in_the_layout(
    kerfmark: Runner, write: Write, tmp_path: Path
) -> None:
    write("bees.csv", LISTINGS["padded"])
    assert "padded with spaces" in kerfmark("measure", "bees.csv").out
    assert "padded with spaces" in kerfmark("cut", "bees.csv", "--into", "a.db").out
    assert "trim = true" in (tmp_path / "a.layout.toml").read_text()


def test_spaces_that_make_no_difference_stay(kerfmark: Runner, write: Write) -> None:
    write("bees.csv", "no,name\n1, Anna\n2,Ben \n")
    [source] = kerfmark("measure", "bees.csv", "--json").json["sources"]
    assert source["first_rows"] == [["1", " Anna"], ["2", "Ben "]]


@pytest.mark.parametrize(
    ("name", "content", "told"),
    [
        ("a.xls", b"<html><table><tr><td>a</td></tr></table></html>", "a web page (HTML)"),
        ("a.xlsx", b"no\tname\n1\tAnna\n", "delimited text with the name of a workbook"),
    ],
)
def test_what_only_has_the_name_of_a_workbook_is_told(
    kerfmark: Runner, write: Write, name: str, content: bytes, told: str
) -> None:
    write(name, content)
    assert told in kerfmark("measure", name, code=2).err


def test_a_delimiter_that_no_row_has_is_doubtful(kerfmark: Runner, write: Write) -> None:
    write("a.csv", "no,name\n1,Anna\n2,Ben\n")
    told = kerfmark("measure", "a.csv", "--delimiter", ";").out
    assert "there is one column only: most rows have no ';', but 1 of ','" in told
    assert "use --delimiter ','" in told


def test_dates_that_fit_no_one_order_are_told_with_their_rows(
    kerfmark: Runner, write: Write
) -> None:
    days = ["13/02/2040", "02/14/2040", "03/04/2040", "05/06/2040", "25/12/2040"]
    write("a.csv", "no,day\n" + "".join(f"{n},{day}\n" for n, day in enumerate(days)))
    [source] = kerfmark("measure", "a.csv", "--json").json["sources"]
    [found] = [f for f in source["findings"] if f["origin"]["column"] == "day"]
    assert found["what"] == '"13/02/2040" begins with the day, "02/14/2040" with the month'
    assert found["rows"] == [2, 3, 6]


def test_a_quote_that_nothing_closes_is_told_with_its_row(kerfmark: Runner, write: Write) -> None:
    write("a.csv", 'no,name\n1,Anna\n2,"Ben\n3,Cleo\n4,Dan\n')
    told = kerfmark("cut", "a.csv", "--into", "a.db", code=1).err
    assert "a.csv, row 3: a quote is opened and not closed" in told and "--quote none" in told
    assert "(row 3)" in kerfmark("measure", "a.csv").out
    assert '"Ben' in kerfmark("measure", "a.csv", "--quote", "none").out


def test_sheets_that_nobody_has_named_leave_the_name_to_the_file(
    kerfmark: Runner, tmp_path: Path
) -> None:
    import openpyxl

    book = openpyxl.Workbook()
    book.active.title = "Tabelle1"
    for row in (("no", "name"), (1, "Anna"), (2, "Ben")):
        book.active.append(row)
    book.save(tmp_path / "keepers.xlsx")
    assert "keeper  2 records" in kerfmark("mark", "keepers.xlsx").out
