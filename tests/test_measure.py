"""measure through the real program: whatever people hold out is read right, and what is odd in it
is told."""

from __future__ import annotations

import bz2
import datetime as dt
import gzip
import io
import lzma
import os
import subprocess
import sys
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import openpyxl
import pyarrow as pa
import pytest

import kerfmark.read.archives as packed
from conftest import DEMO, Runner, flat_visits
from kerfmark import Reading, SourceError, measure
from kerfmark.read.open import open_path

Write = Callable[..., Path]


def columns(source: dict[str, Any]) -> dict[str, dict[str, Any]]:
    return {c["header"]: c for c in source["columns"]}


def test_a_column_is_told_from_all_its_rows(kerfmark: Runner) -> None:
    [source] = kerfmark("measure", DEMO / "inspections-2025.csv", "--json").json["sources"]
    assert (source["rows"], source["how"]) == (1512, "semicolons, utf-8")
    told = columns(source)
    assert told["Honey kg"]["type"] == "decimal(3,1) 0,0" and told["Honey kg"]["blanks"] == 697
    assert (told["Honey kg"]["smallest"], told["Honey kg"]["largest"]) == ("0,0", "28,0")
    assert told["Inspection no"]["unique"] and told["Breed"]["distinct"] == 4
    assert told["Date"]["smallest"] == "10.02.2025" and told["Date"]["type"] == "date DD.MM.YYYY"
    assert told["Calm"]["frequent"] == [["yes", 1155], ["no", 357]]
    assert told["Hive"]["type"] == "text" and "leading zeros" in told["Hive"]["note"]


def test_one_bad_date_is_a_finding_with_its_row(kerfmark: Runner) -> None:
    out = kerfmark("measure", DEMO / "inspections-2026-05.csv").out
    assert (
        'broken   column "Date": "31.04.2026" is not a date DD.MM.YYYY like the rest of the column '
        "(row 24)" in out
    )
    assert "date DD.MM.YYYY (nearly)" in out


def test_findings_come_worst_first_with_rows_and_remedy(kerfmark: Runner, write: Write) -> None:
    rows = [f"{i},Far Paddock,{i % 28 + 1:02}.{i % 12 + 1:02}.2025,same," for i in range(60)]
    rows[7] = "7,far  paddock,08.08.2025,same,"
    rows[9] = "9,Far Paddock ,10.10.2025,same,"
    rows[11] = "11,Far Paddock"
    rows[13] = rows[12]
    write("odd.csv", "\n".join(["no,apiary,day,kind,empty", *rows]) + "\n")
    run = kerfmark("measure", "odd.csv", "--json")
    [source] = run.json["sources"]
    assert [f["severity"] for f in source["findings"]] == ["broken", "doubtful", *["odd"] * 5]
    told = {f["what"]: f for f in source["findings"]}
    assert told["has 2 fields instead of 5"]["rows"] == [13]
    assert told['"far  paddock" differs from "Far Paddock" only in case or spaces']["rows"] == [
        9,
        11,
    ]
    assert told['"Far Paddock " has spaces at its ends']["rows"] == [11]
    assert told["is the same as an earlier row in every column"]["rows"] == [15]
    assert told['is "same" in every row']["origin"]["column"] == "kind"
    assert "the column is blank in every row" in told
    assert all(f["next"] for f in source["findings"][:3])


def test_dates_that_could_be_swapped_are_doubtful(kerfmark: Runner, write: Write) -> None:
    write("d.csv", "day,n\n" + "".join(f"{i % 12 + 1}/{i % 9 + 1}/2025,{i}\n" for i in range(40)))
    assert (
        'doubtful column "day": dates whose day and month could be swapped'
        in kerfmark("measure", "d.csv").out
    )


PACKERS: dict[str, Callable[[bytes], bytes]] = {
    ".gz": gzip.compress,
    ".bz2": bz2.compress,
    ".xz": lzma.compress,
    ".zst": lambda data: pa.Codec("zstd").compress(data, asbytes=True),
}


@pytest.mark.parametrize("ending", PACKERS)
def test_packed_files_are_read_as_what_they_pack(
    kerfmark: Runner, write: Write, ending: str
) -> None:
    write(f"visits.csv{ending}", PACKERS[ending](flat_visits().encode()))
    result = kerfmark("cut", f"visits.csv{ending}", "--into", "bees.db", "--json").json
    assert [t["name"] for t in result["tables"]] == ["visit", "hive", "apiary", "keeper"]
    assert kerfmark("prove", "bees.db", "--json").json["holds"]


def test_each_member_of_an_archive_is_a_source(kerfmark: Runner, tmp_path: Path) -> None:
    with zipfile.ZipFile(tmp_path / "year.zip", "w") as archive:
        archive.writestr("visits.csv", flat_visits())
        archive.writestr("more/clubs.csv", "club;town\nA;x\nB;y\n")
    result = kerfmark("cut", "year.zip", "--into", "bees.db", "--json").json
    assert [s["name"] for s in result["sources"]] == ["visits", "clubs"]
    kerfmark("cut", "bees.layout.toml", "--into", "again.db")
    assert kerfmark("prove", "again.db", "--json").json["holds"]


def test_standard_input_is_a_source(tmp_path: Path) -> None:
    done = subprocess.run(
        [sys.executable, "-m", "kerfmark", "measure", "-"],
        input=flat_visits().encode(),
        cwd=tmp_path,
        capture_output=True,
        check=True,
        env=os.environ | {"TMPDIR": str(tmp_path)},
    )
    assert b"standard input  240 rows, 9 columns" in done.stdout
    assert not list(tmp_path.iterdir())  # what was kept of it is gone


def test_a_folder_is_all_that_can_be_read_in_it(kerfmark: Runner, tmp_path: Path) -> None:
    (tmp_path / "in").mkdir()
    for name, text in (("a.csv", "x,y\n1,2\n"), ("b.tsv", "x\tz\n3\t4\n"), ("notes.md", "# no")):
        (tmp_path / "in" / name).write_text(text)
    assert [s["file"] for s in kerfmark("measure", "in", "--json").json["sources"]] == [
        "a.csv",
        "b.tsv",
    ]


def test_title_lines_above_the_header_are_left_out(kerfmark: Runner, write: Write) -> None:
    write("t.csv", "Inspections of the year\n\nhive,kind,kg\nH01,wood,1.5\nH02,straw,2.5\n")
    [source] = kerfmark("measure", "t.csv", "--json").json["sources"]
    assert source["how"] == "commas, utf-8, 2 rows above the header"
    assert list(columns(source)) == ["hive", "kind", "kg"] and source["rows"] == 2
    kerfmark("cut", "t.csv", "--into", "t.db")
    kerfmark("cut", "t.layout.toml", "--into", "u.db")
    assert kerfmark("prove", "u.db", "--json").json["holds"]
    [source] = kerfmark("measure", "t.csv", "--header-row", "4", "--json").json["sources"]
    assert list(columns(source)) == ["H01", "wood", "1.5"]
    [source] = measure(
        [write("n.csv", "hive,kind\nH01,wood\n")], reading=Reading(header_row=0)
    ).sources
    assert [c.header for c in source.columns] == ["column 1", "column 2"] and source.rows == 2


@pytest.fixture
def book(tmp_path: Path) -> Path:
    """A workbook with what people do to workbooks."""
    wb = openpyxl.Workbook()
    sheet = wb.active
    sheet.title = "Hives"
    sheet["C1"] = "The hives of the association"
    for r, row in enumerate(
        [
            ["Hive", "Made on", "Weight", "Calm", "Seen at"],
            ["0017", dt.date(2020, 3, 1), 12.5, True, dt.datetime(2025, 4, 1, 9, 30)],
            ["0018", dt.date(2021, 4, 2), 13, False, dt.datetime(2025, 4, 1, 10, 0)],
            [None] * 5,
            ["0019", None, 0.1, True, None],
        ],
        3,
    ):
        for c, value in enumerate(row, 3):
            sheet.cell(r, c, value)
    hidden = wb.create_sheet("Secret")
    hidden.append(["a", "b"])
    hidden.append([1, 2])
    hidden.sheet_state = "hidden"
    wb.create_sheet("Empty")
    wb.save(tmp_path / "book.xlsx")
    return tmp_path / "book.xlsx"


def test_a_table_may_stand_anywhere_in_its_sheet(kerfmark: Runner, book: Path) -> None:
    source, secret = kerfmark("measure", "book.xlsx", "--json").json["sources"]
    assert secret["how"] == 'hidden sheet "Secret"'
    assert (source["sheet"], source["rows"], source["skipped"]) == ("Hives", 3, 1)
    told = columns(source)
    assert {h: c["type"] for h, c in told.items()} == {
        "Hive": "text",
        "Made on": "date YYYY-MM-DD",
        "Weight": "decimal(3,1) 0.#",
        "Calm": "boolean TRUE/FALSE",
        "Seen at": "timestamp YYYY-MM-DD hh:mm:ss",
    }
    [sheet] = open_path(book)
    list(batches := sheet.map_batches(lambda b: b))
    assert (
        str(batches.found.origin(2, "Weight")) == 'book.xlsx, sheet "Hives", row 7, column "Weight"'
    )


def test_a_column_without_a_header_is_kept_wherever_it_starts(tmp_path: Path) -> None:
    wb = openpyxl.Workbook()
    for i in range(200):
        wb.active.append(
            ["Hive", "kg"] if i == 0 else [f"H{i}", i, None, "late" if i == 150 else None]
        )
    wb.save(tmp_path / "late.xlsx")
    [source] = measure([tmp_path / "late.xlsx"]).sources
    assert [(c.header, c.distinct) for c in source.columns] == [
        ("Hive", 199),
        ("kg", 199),
        ("column 3", 1),
    ]


def test_the_sheets_of_a_workbook_are_cut_and_proven(kerfmark: Runner) -> None:
    result = kerfmark("cut", DEMO / "register.xlsx", "--into", "r.db", "--json").json
    assert {t["name"]: t["rows"] for t in result["tables"]} == {
        "district": 7,
        "apiary": 22,
        "keeper": 34,
        "hive": 96,
    }
    assert len(kerfmark("prove", "r.db", "--json").json["proofs"]) == 4
    kerfmark("cut", "r.layout.toml", "--into", "again.db")
    assert kerfmark("prove", "again.db", "--json").json["holds"]


def zipped(name: str, data: bytes, flags: int = 0) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr(name, data)
    raw = bytearray(out.getvalue())
    if flags:
        raw[6] |= flags
        at = raw.index(b"PK\x01\x02")
        raw[at + 8] |= flags
    return bytes(raw)


BAD: dict[str, tuple[bytes, str]] = {
    "cut-off.csv.gz": (gzip.compress(flat_visits().encode())[:200], "damaged or cut off"),
    "plain.csv.gz": (b"a,b\n1,2\n", "damaged or cut off"),
    "renamed.zip": (b"a,b\n1,2\n", "not a zip archive"),
    "secret.zip": (zipped("a.csv", b"a,b\n1,2\n", 1), "encrypted"),
    "broken.xlsx": (b"PK\x03\x04nonsense", "cannot be read"),
    "nul.csv": (b"a,b\n1,\x002\n", "not a text file"),
}


@pytest.mark.parametrize("name", BAD)
def test_bad_input_is_one_clear_message(kerfmark: Runner, write: Write, name: str) -> None:
    data, said = BAD[name]
    write(name, data)
    run = kerfmark("measure", name, code=2)
    assert run.err.startswith(f"error: {name}") and said in run.err and run.out == ""


def test_a_bomb_is_refused(monkeypatch: pytest.MonkeyPatch, write: Write) -> None:
    monkeypatch.setattr(packed, "SMALL", 1 << 20)
    path = write("bomb.csv.gz", gzip.compress(b"a,b\n" + b"1,2\n" * 3_000_000, 9))
    monkeypatch.setattr(packed, "MOST_TIMES", 100)
    with pytest.raises(SourceError, match="suspiciously much"):
        measure([path])
