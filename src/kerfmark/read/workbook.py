"""Workbooks: every visible sheet is a source, its cells turned into the texts that a person sees.

Dates are spelled YYYY-MM-DD (with the time where there is one), numbers as short as they are exact, truth as TRUE and FALSE.
A table may stand anywhere in its sheet: title lines above it and empty columns beside it are left out.
"""

from __future__ import annotations

import datetime as dt
import hashlib
import itertools
from collections.abc import Callable, Iterator, Sequence
from decimal import Decimal
from pathlib import Path
from typing import Any, TypeVar

import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.errors import Origin, SourceError
from kerfmark.read.dialect import check_path
from kerfmark.read.source import Piece, RowNumbers, distinct_headers, header_told

T = TypeVar("T")

ENDINGS = frozenset({".xlsx", ".xlsm", ".xlsb", ".xls", ".ods"})
ROWS = 16_384
"""Rows turned into a batch at a time."""
LOOKED_AT = 60
"""Rows in which the header is looked for."""


def open_workbook(path: Path) -> Any:
    """A workbook.

    Raises SourceError when it is none, damaged or encrypted.
    """
    import python_calamine as calamine

    check_path(path)
    try:
        return calamine.CalamineWorkbook.from_path(str(path))
    except calamine.PasswordError as error:
        raise SourceError("the workbook is encrypted", code="source.encrypted", origin=Origin(path.name),
                          next="save it without a password, and name that file") from error
    except (calamine.CalamineError, OSError) as error:
        raise SourceError("the workbook cannot be read", code="source.damaged", origin=Origin(path.name), why=str(error),
                          next="open it in a spreadsheet program and save it again") from error


def sheets(path: Path, *, hidden: bool = False) -> list[SheetSource]:
    """The sheets of a workbook that hold anything, without the hidden ones unless they are asked for."""
    book = open_workbook(path)
    names = [m.name for m in book.sheets_metadata if hidden or str(m.visible).endswith("Visible")]
    found = [SheetSource(path, name, book=book) for name in names if book.get_sheet_by_name(name).height]
    if not found:
        raise SourceError("no sheet of the workbook holds anything", code="source.empty", origin=Origin(path.name))
    return found


class SheetSource:
    """A sheet of a workbook (see `read.source.Source`)."""

    def __init__(self, path: Path, sheet: str, *, header_row: int | None = None, name: str | None = None, book: Any = None
                 ) -> None:
        import python_calamine as calamine

        self.path, self.sheet, self.name = path, sheet, name or sheet
        book = book or open_workbook(path)
        try:
            self._sheet = book.get_sheet_by_name(sheet)
        except calamine.WorksheetNotFound as error:
            raise SourceError(f'the workbook has no sheet "{sheet}"', code="source.no-sheet", origin=Origin(path.name),
                              next=f"its sheets are {', '.join(book.sheet_names)}") from error
        top = list(itertools.islice(self._sheet.iter_rows(), LOOKED_AT))
        self.header_row = _header_row(top) if header_row is None else header_row
        cells = top[self.header_row - 1] if 0 < self.header_row <= len(top) else [""] * len(top[0] if top else [])
        nameless = {i for i in range(len(cells)) if cells[i] == ""}
        for row in itertools.islice(self._sheet.iter_rows(), self.header_row, None) if nameless else ():
            nameless -= {i for i in nameless if row[i] != ""}
            if not nameless:
                break
        self._columns = [i for i in range(len(cells)) if i not in nameless]     # those left are blank throughout
        self.headers = distinct_headers([_spell(cells[i]) or "" for i in self._columns])
        self.numbers = RowNumbers(self.header_row + 1)
        self.how = f'sheet "{sheet}"{header_told(self.header_row)}'
        self.fingerprint, self.size = "", path.stat().st_size
        self.ragged: list[tuple[int, int]] = []

    def origin(self, record: int | None = None, header: str | None = None) -> Origin:
        """The place of a record and column in the sheet."""
        return Origin(self.path.name, self.sheet, None if record is None else self.numbers.row(record), header)

    def settings(self) -> dict[str, Any]:
        """The sheet in the layout's words."""
        return {"sheet": self.sheet} | ({"header_row": self.header_row} if self.header_row != 1 else {})

    def map_batches(self, work: Callable[[pa.RecordBatch], T], *, workers: int = 2, strict: bool = True) -> Iterator[Piece]:
        """Applies `work` to every batch and yields the results in the order of the sheet, whose rows are never ragged.

        Raises SourceError for a sheet without rows.
        """
        self.fingerprint = hashlib.blake2b(self.path.read_bytes() + self.sheet.encode(), digest_size=16).hexdigest()
        rows = itertools.islice(self._sheet.iter_rows(), self.header_row, None)
        numbers, first, physical = RowNumbers(self.header_row + 1), 0, 0
        names = [str(i) for i in range(len(self._columns))]
        while lines := list(itertools.islice(rows, ROWS)):
            filled = [line for line in lines if any(cell != "" for cell in line)]
            if len(filled) < len(lines):
                numbers.skipped += [physical + i for i, line in enumerate(lines) if not any(cell != "" for cell in line)]
            physical += len(lines)
            if filled:
                columns = list(zip(*filled, strict=True))
                batch = pa.RecordBatch.from_arrays([_texts(columns[i]) for i in self._columns], names=names)
                yield Piece(first, len(filled), work(batch))
                first += len(filled)
        self.numbers = numbers
        if not first:
            raise SourceError("the sheet has a header but no rows", code="source.no-rows", origin=self.origin())


def _header_row(top: Sequence[Sequence[Any]]) -> int:
    """The row (from 1) that names the columns: the first one of words only that is nearly as wide as what follows.

    0 when the first row that is as wide holds numbers or dates.
    """
    filled = [sum(cell != "" for cell in row) for row in top]
    for i, row in enumerate(top):
        below = max(filled[i + 1:i + 20], default=0)
        if filled[i] >= max(1, .6 * max(below, filled[i])):
            return i + 1 if all(isinstance(cell, str) for cell in row) else 0
    return 1


def _texts(cells: Sequence[Any]) -> pa.StringArray:
    """A column of cells as texts, blank cells null."""
    kinds = set(map(type, cells))
    if kinds == {str}:
        texts = pa.array(cells, pa.string())
        return pc.if_else(pc.equal(texts, ""), pa.scalar(None, pa.string()), texts) if "" in cells else texts
    if kinds == {float} and all(map(float.is_integer, cells)) and max(map(abs, cells)) < 1e15:
        return pa.array(cells, pa.float64()).cast(pa.int64()).cast(pa.string())
    known: dict[tuple[type, Any], str | None] = {}      # 1, 1.0 and True are the same key, but not the same text
    for cell in zip(map(type, cells), cells, strict=True):
        if cell not in known:
            known[cell] = _spell(cell[1])
    return pa.array([known[cell] for cell in zip(map(type, cells), cells, strict=True)], pa.string())


def _spell(cell: Any) -> str | None:
    """A cell as a person reads it; None when it is blank."""
    if isinstance(cell, str):
        return cell or None
    if isinstance(cell, bool):
        return "TRUE" if cell else "FALSE"
    if isinstance(cell, float):
        return str(int(cell)) if cell.is_integer() and abs(cell) < 1e15 else _digits(cell)
    if isinstance(cell, dt.datetime):
        return cell.strftime("%Y-%m-%d %H:%M:%S")
    if isinstance(cell, dt.date):
        return cell.isoformat()
    if isinstance(cell, dt.time):
        return cell.strftime("%H:%M:%S")
    return str(cell)


def _digits(number: float) -> str:
    """The shortest digits that are exactly this number, without an exponent."""
    return f"{Decimal(repr(number)):f}"
