"""Cells of workbooks are what the spreadsheet shows: in ranges that begin anywhere, with parts of
seconds, durations and midnights."""

from __future__ import annotations

import datetime as dt
from pathlib import Path

import openpyxl
import pytest
from openpyxl.workbook.defined_name import DefinedName
from openpyxl.worksheet.table import Table

from binary_book import write_binary_book
from conftest import Runner

ROWS = [("no", "name", "kg"), (1, "Anna", 2.5), (2, "Ben", 3.5)]


def book(path: Path, top: int, left: int) -> None:
    """A workbook with a table that begins at a row and column (from 1), with two more cells that
    are none of it."""
    made = openpyxl.Workbook()
    sheet = made.active
    for r, row in enumerate(ROWS, top):
        for c, value in enumerate(row, left):
            sheet.cell(r, c, value)
    last = sheet.cell(top + 2, left + 2).coordinate
    area = f"{sheet.cell(top, left).coordinate}:{last}"
    sheet.add_table(Table(displayName="Combs", ref=area))
    place = area.replace(":", ":$").replace("$", "")
    ends = [sheet[one].coordinate for one in place.split(":")]
    absolute = ":".join(f"${e.rstrip('0123456789')}${e.lstrip('ABCDEFGHIJ')}" for e in ends)
    made.defined_names["weighed"] = DefinedName("weighed", attr_text=f"Sheet!{absolute}")
    made.save(path)


@pytest.mark.parametrize(("top", "left"), [(1, 1), (4, 1), (1, 6), (4, 6), (4, 2)])
@pytest.mark.parametrize("how", ["range", "Combs", "weighed", "wider", "part"])
def test_a_range_means_what_the_spreadsheet_shows(
    kerfmark: Runner, tmp_path: Path, top: int, left: int, how: str
) -> None:
    book(tmp_path / "b.xlsx", top, left)
    letters = "ABCDEFGHIJ"
    first, last = letters[left - 1], letters[left + 1]
    cells = {
        "range": f"{first}{top}:{last}{top + 2}",
        "wider": f"A{top}:J{top + 9}",
        "part": f"{letters[left]}{top}:{last}{top + 1}",
    }.get(how, how)
    [source] = kerfmark("measure", "b.xlsx", "--cells", cells, "--json").json["sources"]
    rows = [[c["header"] for c in source["columns"]], *source["first_rows"]]
    whole = [["no", "name", "kg"], ["1", "Anna", "2.5"], ["2", "Ben", "3.5"]]
    assert rows == ([r[1:] for r in whole[:2]] if how == "part" else whole)


def test_errors_are_told_in_their_columns_wherever_the_table_begins(
    kerfmark: Runner, tmp_path: Path
) -> None:
    made = openpyxl.Workbook()
    for r, row in enumerate([("no", "kg"), (1, 2), (2, "#DIV/0!")], 4):
        for c, value in enumerate(row, 6):
            made.active.cell(r, c, value)
    made.active.cell(6, 7).data_type = "e"
    made.save(tmp_path / "b.xlsx")
    [source] = kerfmark("measure", "b.xlsx", "--json").json["sources"]
    [found] = [f for f in source["findings"] if "#DIV/0!" in f["what"]]
    assert (found["origin"]["column"], found["rows"]) == ("kg", [6])


def test_formulas_that_were_never_calculated_are_told(kerfmark: Runner, tmp_path: Path) -> None:
    made = openpyxl.Workbook()  # which calculates nothing
    for row in (("no", "kg", "twice"), (1, 2, "=B2*2"), (2, 3, "=B3*2"), (3, 4, 8)):
        made.active.append(row)
    made.save(tmp_path / "b.xlsx")
    [source] = kerfmark("measure", "b.xlsx", "--json").json["sources"]
    [found] = [f for f in source["findings"] if "never calculated" in f["what"]]
    assert (found["origin"]["column"], found["rows"]) == ("twice", [2, 3])
    assert "save it there" in found["next"]


def test_parts_of_seconds_durations_and_midnights_stay(kerfmark: Runner, tmp_path: Path) -> None:
    moments = [dt.datetime(2040, 1, 2) + dt.timedelta(milliseconds=40 * n) for n in range(30)]
    made = openpyxl.Workbook()
    sheet = made.active
    sheet.append(["fine", "moment", "time", "lasted", "day"])
    for n, moment in enumerate(moments):
        sheet.append(
            [
                moment,
                dt.datetime(2040, 1, 2, 0, 0, n % 2),
                (dt.datetime.min + dt.timedelta(milliseconds=500 * n)).time(),
                dt.timedelta(hours=23 + n, seconds=5),
                dt.date(2040, 1, 2) + dt.timedelta(n),
            ]
        )
    made.save(tmp_path / "b.xlsx")
    [source] = kerfmark("measure", "b.xlsx", "--rows", "30", "--json").json["sources"]
    fine, moment, time, lasted, day = source["columns"]
    assert fine["distinct"] == time["distinct"] == lasted["distinct"] == day["distinct"] == 30
    assert moment["type"].startswith("timestamp") and day["type"].startswith("date")
    assert source["first_rows"][1][0] == "2040-01-02 00:00:00.04"
    assert source["first_rows"][1][2:4] == ["00:00:00.5", "24:00:05"]
    kerfmark("cut", "b.xlsx", "--into", "a.db")
    assert "proven" in kerfmark("prove", "a.db").out


def test_parts_of_seconds_stay_in_binary_workbooks(kerfmark: Runner, tmp_path: Path) -> None:
    moments = [dt.datetime(2040, 1, 2) + dt.timedelta(milliseconds=40 * n) for n in range(30)]
    rows = [["no", "fine"], *([float(n), moment] for n, moment in enumerate(moments))]
    write_binary_book(tmp_path / "b.xlsb", {"Visits": rows})
    [source] = kerfmark("measure", "b.xlsb", "--json").json["sources"]
    assert source["columns"][1]["distinct"] == 30
    assert source["first_rows"][1][1] == "2040-01-02 00:00:00.04"
