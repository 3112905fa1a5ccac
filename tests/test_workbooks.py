"""Workbooks of the other forms: the files in `files/` were saved by a spreadsheet program, that of
binary parts is written here."""

from __future__ import annotations

import datetime as dt
import random
import re
import zipfile
from pathlib import Path

import openpyxl
import pytest

from binary_book import Cell, Result, write_binary_book
from conftest import Runner
from kerfmark import Reading, SourceError, cut, measure, prove
from kerfmark.read.open import open_path
from test_formats import rows_of

FILES = Path(__file__).with_name("files")
VISITS: list[list[Cell]] = [
    ["Hive visits, season 2025"],
    [None],
    ["hive", "seen on", "frames", "weight", "queen seen", "share", "ratio"],
    ["H-001", dt.date(2025, 4, 3), 8.0, 41.25, True, Result(0.5), Result(5.15625)],
    ["H-002", dt.date(2025, 4, 3), 0.0, 38.5, False, Result(0.25), Result("#DIV/0!")],
    ["007", dt.date(2025, 5, 17), 10.0, 44.0, True, "#N/A", Result(4.4)],
    ["H-004", None, 7.0, 39.1, None, Result("#VALUE!"), Result(5.585714285714286)],
]
OTHERS: dict[str, list[list[Cell]]] = {
    "Notes": [["code", "note"], ["A", "kept aside"]],
    "Apiaries": [
        [None],
        [None],
        [None, None, "apiary", "grid"],
        [None, None, "Low Field", "XK 100200"],
        [None, None, "Höhe", "XK 100300"],
    ],
}
VALUE = {".ods": "Err:502"}
"""What one program calls #VALUE! in its own form."""
KINDS = [".ods", ".xls", ".xlsb", ".xlsx"]


@pytest.fixture(params=[".ods", ".xls", ".xlsb", ".xlsx", ".xlsm"])
def visits(request: pytest.FixtureRequest, tmp_path: Path) -> Path:
    path = tmp_path / f"visits{request.param}"
    if request.param == ".xlsb":
        write_binary_book(path, {"Visits": VISITS, **OTHERS}, hidden=["Notes"])
    else:
        path.write_bytes(
            (FILES / path.name.replace(".xlsm", ".xlsx")).read_bytes()
        )  # they differ in what they may hold besides
    return path


def test_its_cells_are_what_a_person_sees(visits: Path) -> None:
    [source, places] = open_path(visits)
    assert source.headers[:7] == (
        "hive",
        "seen on",
        "frames",
        "weight",
        "queen seen",
        "share",
        "ratio",
    )
    rows = rows_of(source)
    assert [r[:7] for r in rows[:3]] == [
        ["H-001", "2025-04-03", "8", "41.25", "TRUE", "0.5", "5.15625"],
        ["H-002", "2025-04-03", "0", "38.5", "FALSE", "0.25", None],
        ["007", "2025-05-17", "10", "44", "TRUE", None, "4.4"],
    ]
    assert rows[3][:6] == ["H-004", None, "7", "39.1", None, None] and len(rows) == 4
    assert [r[7:] for r in rows] == (
        [[]] * 4
        if visits.suffix == ".xlsb"
        else [["2025-04-03 09:30:00"], ["2025-04-03 10:00:00"], ["2025-05-17 08:15:30"], [None]]
    )
    assert (places.name, places.headers, rows_of(places)) == (
        "Apiaries",
        ("apiary", "grid"),
        [["Low Field", "XK 100200"], ["Höhe", "XK 100300"]],
    )
    list(batches := places.map_batches(lambda b: b))
    assert batches.found.origin(1).row == 5


def test_its_errors_are_findings_with_their_rows(visits: Path) -> None:
    source = measure([visits]).sources[0]
    said = [(f.origin.column, f.what, f.rows) for f in source.findings if "is the error" in f.what]
    assert said == [
        (column, f"the formula's result is the error {error}, taken as blank", (row,))
        for column, error, row in (
            ("ratio", "#DIV/0!", 5),
            ("share", "#N/A", 6),
            ("share", VALUE.get(visits.suffix, "#VALUE!"), 7),
        )
    ]


def test_its_hidden_sheet_is_told_and_a_range_is_read(visits: Path, kerfmark: Runner) -> None:
    assert [s.sheet for s in measure([visits]).sources if s.how.startswith("hidden")] == ["Notes"]
    assert "left out: Notes" in kerfmark("cut", visits, "--into", "v.db").out
    [source] = open_path(visits, Reading(sheet="Visits", cells="A3:C5"))
    assert rows_of(source) == [["H-001", "2025-04-03", "8"], ["H-002", "2025-04-03", "0"]]


def test_it_is_cut_and_proven(visits: Path, tmp_path: Path) -> None:
    done = cut([visits], tmp_path / "v.db")
    assert {t.rows for t in done.tables} >= {2, 4}
    error = "the formula's result is the error #N/A, taken as blank (row 6); correct the formula"
    assert any(header == "share" and what.startswith(error) for header, what in done.notes)
    assert prove(tmp_path / "v.db").holds


@pytest.mark.parametrize("ending", KINDS)
def test_a_workbook_with_a_password_is_told_as_one(
    ending: str, tmp_path: Path, kerfmark: Runner
) -> None:
    (tmp_path / f"locked{ending}").write_bytes(
        (FILES / f"locked{ending.replace('xlsb', 'xlsx')}").read_bytes()
    )
    told = kerfmark("measure", f"locked{ending}", code=2).err
    assert "the workbook is encrypted" in told and "save it without a password" in told


@pytest.mark.parametrize("ending", KINDS)
@pytest.mark.parametrize("part", [0.1, 0.5, 0.8])
def test_a_workbook_that_is_cut_off_is_one_clear_message(
    ending: str, part: float, tmp_path: Path, kerfmark: Runner
) -> None:
    write_binary_book(tmp_path / "whole.xlsb", {"Visits": VISITS})
    whole = tmp_path / "whole.xlsb" if ending == ".xlsb" else FILES / f"visits{ending}"
    (tmp_path / f"cut{ending}").write_bytes(whole.read_bytes()[: int(whole.stat().st_size * part)])
    told = kerfmark("measure", f"cut{ending}", code=2).err
    assert f"cut{ending}" in told and "next: " in told and "Traceback" not in told


def test_damage_that_breaks_the_library_down_is_told(tmp_path: Path, kerfmark: Runner) -> None:
    whole = (FILES / "visits.xls").read_bytes()
    at = whole.index(b"\x00\x02\x0e\x00") + 8  # how many rows the first sheet has
    (tmp_path / "wrong.xls").write_bytes(whole[:at] + b"\x07\x00\x00\x91" + whole[at + 4 :])
    told = kerfmark("cut", "wrong.xls", "--into", "w.db", code=2).err
    assert "error: wrong.xls: the workbook cannot be read" in told and "damaged" in told
    assert [p.name for p in tmp_path.iterdir()] == ["wrong.xls"]


@pytest.mark.parametrize("ending", KINDS)
def test_a_workbook_with_a_few_wrong_bytes_is_read_or_refused(ending: str, tmp_path: Path) -> None:
    write_binary_book(tmp_path / "visits.xlsb", {"Visits": VISITS})
    whole = (tmp_path if ending == ".xlsb" else FILES) / f"visits{ending}"
    chance, path = random.Random(ending), tmp_path / f"wrong{ending}"
    refused = 0
    for _ in range(15):
        data = bytearray(whole.read_bytes())
        for _ in range(chance.randint(1, 5)):
            data[chance.randrange(len(data))] = chance.randrange(256)
        path.write_bytes(data)
        try:
            measure([path])
        except SourceError:
            refused += 1
    assert refused


def _altered(whole: Path, to: Path, dimension: str) -> Path:
    """The same workbook, whose sheets say that their cells lie elsewhere."""
    with zipfile.ZipFile(whole) as old, zipfile.ZipFile(to, "w") as new:
        for name in old.namelist():
            new.writestr(name, re.sub(rb"<dimension [^>]*/>", dimension.encode(), old.read(name)))
    return to


def test_a_stray_cell_takes_neither_all_memory_nor_a_workbook_that_only_seems_to_have_one(
    tmp_path: Path, kerfmark: Runner
) -> None:
    book = openpyxl.Workbook()
    for row in (["hive", "kg"], ["H1", 3.5], ["H2", 4]):
        book.active.append(row)
    book.create_sheet("Small").append(["a", "b"])
    book["Small"].append([1, 2])
    book.save(tmp_path / "near.xlsx")
    book.active.cell(1_048_576, 16_384).value = "x"
    book.save(tmp_path / "far.xlsx")
    told = kerfmark("measure", "far.xlsx", code=2).err
    assert (
        'far.xlsx, sheet "Sheet": the sheet reaches from A1 to XFD1048576' in told
        and "Ctrl+End" in told
    )
    assert kerfmark("measure", "far.xlsx", "--sheet", "Small").code == 0
    _altered(tmp_path / "far.xlsx", tmp_path / "silent.xlsx", "")
    assert "a stray cell lies far from the others" in kerfmark("measure", "silent.xlsx", code=2).err
    for dimension in ("", '<dimension ref="A1:XFD1048576"/>', '<dimension ref="A1"/>'):
        [source, _] = open_path(_altered(tmp_path / "near.xlsx", tmp_path / "odd.xlsx", dimension))
        assert rows_of(source) == [["H1", "3.5"], ["H2", "4"]]


def test_a_form_is_told_by_its_content_not_only_its_name(tmp_path: Path, kerfmark: Runner) -> None:
    (tmp_path / "wrong.xls").write_bytes((FILES / "visits.ods").read_bytes()[:3000])
    told = kerfmark("measure", "wrong.xls", code=2)
    assert "wrong.xls" in told.err and "Traceback" not in told.err


def test_no_error_in_a_large_sheet_of_binary_parts_is_missed(tmp_path: Path) -> None:
    chance = random.Random(5)
    rows: list[list[Cell]] = [[f"c{i}" for i in range(8)]]
    expected: dict[tuple[str, str], list[int]] = {}
    for row in range(2, 6002):
        cells: list[Cell] = [float(chance.choice([row, -row, row / 4, 0x0903])) for _ in range(8)]
        if chance.random() < 0.002:
            column, error = chance.randrange(8), chance.choice(["#DIV/0!", "#N/A", "#VALUE!"])
            cells[column] = chance.choice([error, Result(error)])
            expected.setdefault((f"c{column}", error), []).append(row)
        rows.append(cells)
    write_binary_book(tmp_path / "large.xlsb", {"Large": rows})
    [source] = measure([tmp_path / "large.xlsb"]).sources
    found = {
        (f.origin.column, f.what.split(",")[0].split()[-1]): list(f.rows)
        for f in source.findings
        if "is the error" in f.what
    }
    assert found == {k: r[:10] for k, r in expected.items()} and len(expected) > 5
