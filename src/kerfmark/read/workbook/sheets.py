"""Workbooks: every sheet is a source, its cells turned into the texts that a person sees.

Dates are spelled YYYY-MM-DD (with the time where there is one), numbers as short as they are exact,
truth as TRUE and FALSE; formulas are what they last came to. A table may stand anywhere in its
sheet: title lines above it and empty columns beside it are left out. A range, a defined name or a
table of the workbook may be named instead.
"""

from __future__ import annotations

import datetime as dt
import gc
import itertools
import re
from collections import Counter, deque
from collections.abc import Callable, Generator, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, TypeVar

import pyarrow as pa
import xxhash

from kerfmark.errors import KerfmarkError, Origin, SourceError, counted
from kerfmark.read.cells import spell_cell, texts
from kerfmark.read.format import Format, check_path
from kerfmark.read.source import (
    Batches,
    Found,
    Piece,
    Reading,
    Remark,
    RowNumbers,
    RowRules,
    distinct_headers,
    header_remarks,
    header_told,
    joined_header,
)
from kerfmark.read.workbook.error_cells import error_cells
from kerfmark.read.workbook.sandbox import BINARY, crashes_reader
from kerfmark.read.workbook.xml_parts import PARTED, defined_name, extents

T = TypeVar("T")

ENDINGS = frozenset({".xlsx", ".xlsm", ".xlsb", ".xls", ".ods"})
MOST_SHEETS = 2_000
"""Sheets that are read at once."""
ROWS = 4_096
"""Rows turned into a batch at a time: their cells stay in the processor's cache."""
LOOKED_AT = 60
"""Rows in which the header is looked for."""
SHOWN = 10
MOST_CELLS = 10_000_000
"""Cells that a sheet may reach over however empty it is: a third of a gigabyte."""
MOST_EMPTY, LEAST_CELL = 10, 20
"""Beyond that, how many times more than those that are filled; and the bytes that these take at
least."""
TRIED = 1 << 22
"""Bytes up to which a file that does not say how far its cells reach is tried first."""
_STRAY = "a stray cell lies far from the others"
_RANGE = re.compile(
    r"(?:(?P<sheet>'(?:[^']|'')+'|[^!]+)!)?\$?(?P<left>[A-Za-z]{1,3})\$?(?P<top>\d+)"
    r":\$?(?P<right>[A-Za-z]{1,3})\$?(?P<bottom>\d+)$"
)
_NUMBER = re.compile(r"-?\d+([.,]\d+)?$")
DEFAULT_NAME = re.compile(
    r"(?:Sheet|Tabelle|Feuil|Feuille|Hoja|Foglio|Blad|Ark|Taul|Taulukko|Arkusz|List|Munka|Leht|Lapa"
    r"|Лист|Аркуш|Planilha|Folha|Sayfa|Φύλλο|Foaie|Hárok|Full|Lapas|Table|Worksheet|シート|工作表|גיליון)"
    r" ?\d*",
    re.IGNORECASE,
)
"""What spreadsheet programs call sheets that nobody has named."""


@dataclass(frozen=True)
class Area:
    """A rectangle of a sheet; rows and columns are counted from 0, the ends excluded."""

    top: int = 0
    left: int = 0
    bottom: int | None = None
    right: int | None = None


def open_workbook(path: Path, *, tables: bool = False) -> Any:
    """A workbook.

    Raises SourceError when it is none, damaged or encrypted.
    """
    import python_calamine as calamine

    check_path(path)
    _refuse_text(path)
    if path.suffix.lower() in BINARY and crashes_reader(path):
        raise _damaged(path, f"it is damaged, or {_STRAY}")
    with _library(path):
        try:
            return calamine.load_workbook(str(path), load_tables=tables)
        except calamine.PasswordError as error:
            raise SourceError(
                "the workbook is encrypted",
                code="source.encrypted",
                origin=Origin(path.name),
                next="save it without a password, and name that file",
            ) from error


def _refuse_text(path: Path) -> None:
    """Raises SourceError for a web page or a text that has the name of a workbook, as some programs
    export them."""
    with path.open("rb") as file:
        start = file.read(4096)
    plain = start.lstrip(b"\xef\xbb\xbf \t\r\n").lower()
    if plain.startswith((b"<html", b"<!doctype html", b"<table", b"<head", b"<meta", b"<style")):
        what, remedy = "a web page (HTML)", "open it in a spreadsheet program and save it as .xlsx"
    elif start and not any(b < 9 for b in start) and plain[:1] not in (b"<", b""):
        what, remedy = "delimited text", f"name it {path.stem}.csv"
    else:
        return
    raise SourceError(
        f"this is {what} with the name of a workbook",
        code="source.not-a-workbook",
        origin=Origin(path.name),
        next=remedy,
    )


def _refuse_stray(path: Path, sheet: str) -> None:
    """Raises SourceError for a sheet so empty that it cannot be read: the library makes room for
    every cell from the first one to the last, and a single one may stand at the very end. How far
    they reach is said in the file, but not always rightly."""
    if path.suffix.lower() not in PARTED:
        return
    said, size = extents(path, path.stat().st_mtime_ns).get(sheet, ("", 0))
    found = _RANGE.match(said)
    if found:
        cells = (int(found["bottom"]) - int(found["top"]) + 1) * (
            _column(found["right"]) - _column(found["left"]) + 1
        )
        if cells > MOST_CELLS and cells > MOST_EMPTY * size // LEAST_CELL and crashes_reader(path):
            raise SourceError(
                f"the sheet reaches from {said.replace(':', ' to ')}, {cells:,} cells, nearly all "
                "of them empty",
                code="source.sparse",
                origin=Origin(path.name, sheet),
                why=_STRAY,
                next="go to the last cell in a spreadsheet program (Ctrl+End), delete the rows "
                "and columns that are "
                "empty up to it, and save",
            )
    elif path.stat().st_size < TRIED and crashes_reader(path):
        raise _damaged(path, f"it is damaged, or {_STRAY}")


@contextmanager
def _library(path: Path) -> Iterator[None]:
    """The workbook library at work. What it raises becomes a SourceError, even where it breaks down
    over damage that it does not expect."""
    import python_calamine as calamine

    try:
        yield
    except (calamine.WorksheetNotFound, KerfmarkError):
        raise
    except BaseException as error:
        broken = type(error).__name__ == "PanicException"  # which is no Exception
        if not broken and not isinstance(error, (calamine.CalamineError, OSError)):
            raise
        raise _damaged(path, "it is damaged or cut off" if broken else str(error)) from error


def _damaged(path: Path, why: str) -> SourceError:
    return SourceError(
        "the workbook cannot be read",
        code="source.damaged",
        origin=Origin(path.name),
        why=why,
        next="open it in a spreadsheet program and save it again",
    )


def sheets(path: Path, reading: Reading = Reading()) -> list[SheetSource]:
    """The sheets of a workbook that hold anything; one sheet, or a part of one, where that is asked
    for.

    Without `hidden` the sheets that are not shown are left out. Raises SourceError when there is
    nothing to read.
    """
    book = open_workbook(path)
    if reading.cells or reading.sheet:
        sheet = reading.sheet or _sheet_of(path, reading.cells, book)
        return [SheetSource(path, sheet, reading, book=book)]
    shown = {m.name: str(m.visible).endswith(".Visible") for m in book.sheets_metadata}
    names = [n for n in book.sheet_names if shown.get(n, True) or reading.hidden]
    if len(names) > MOST_SHEETS:
        raise SourceError(
            f"the workbook has {len(names):,} sheets, and {MOST_SHEETS:,} are read at once",
            code="source.too-many",
            origin=Origin(path.name),
            next="name one with --sheet, or split the workbook",
        )
    found = [
        s
        for name in names
        if (
            s := SheetSource(path, name, reading, book=book, hidden=not shown.get(name, True))
        ).headers
    ]
    if not found:
        raise SourceError(
            "no sheet of the workbook holds anything",
            code="source.empty",
            origin=Origin(path.name),
            why="hidden sheets were not looked at" if len(names) < len(book.sheet_names) else "",
        )
    aside = [n for n in book.sheet_names if n not in names]
    if aside:
        found[0].of_header.append(
            Remark(
                "odd",
                None,
                f"the workbook has {counted(len(aside), 'hidden sheet')} that "
                f"{'is' if len(aside) == 1 else 'are'} "
                f"left out: {', '.join(aside)}",
                (),
                0,
                f'name it with --sheet "{aside[0]}" to read it',
            )
        )
    return found


class SheetSource:
    """A sheet of a workbook, or a part of one (see `read.source.Source`)."""

    spells_numbers = True

    def __init__(
        self,
        path: Path,
        sheet: str,
        reading: Reading = Reading(),
        *,
        name: str | None = None,
        book: Any = None,
        hidden: bool = False,
    ) -> None:
        import python_calamine as calamine

        self.path, self.location, self.sheet = path, str(path), sheet
        self._said_cells = reading.cells
        book = book or open_workbook(path)
        with _scanning(
            1
        ) as pool:  # they are looked for while the library, in Rust, reads the sheet
            self._errors = pool.submit(error_cells, path, sheet)
        _refuse_stray(path, sheet)
        try:
            with _library(path):
                self._sheet = book.get_sheet_by_name(sheet)
        except calamine.WorksheetNotFound as error:
            raise SourceError(
                f'the workbook has no sheet "{sheet}"',
                code="source.no-sheet",
                origin=Origin(path.name),
                next=f"its sheets are {', '.join(book.sheet_names)}",
            ) from error
        area = _area(path, sheet, reading.cells)
        self.name = name or (
            reading.cells
            if reading.cells and not _RANGE.match(reading.cells)
            else path.stem
            if DEFAULT_NAME.fullmatch(sheet)
            else sheet
        )
        self._bottom, self._offset = area.bottom, self._sheet.start[1] if self._sheet.start else 0
        left = max(area.left - self._offset, 0)  # the rows begin with the first column in use
        right = None if area.right is None else max(area.right - self._offset, 0)
        top = [
            row[left:right]
            for row in itertools.islice(
                self._sheet.iter_rows(), area.top, min(area.top + LOOKED_AT, area.bottom or 1 << 30)
            )
        ]
        found, over = _header_rows(top, _merged_in(self._sheet, area))
        self.header_row = (
            area.top + found if reading.header_row is None and found else reading.header_row or 0
        )
        self.header_rows = (
            (reading.header_rows or (over if reading.header_row is None else 1))
            if self.header_row
            else 1
        )
        self._first = self.header_row + self.header_rows - 1 if self.header_row else area.top
        lines = [
            [spell_cell(c) or "" for c in row]
            for row in top[self.header_row - 1 - area.top : self._first - area.top]
        ]
        cells = (
            joined_header(lines) if self.header_row and lines else [""] * len(top[0] if top else [])
        )
        nameless = {i for i in range(len(cells)) if not cells[i]}
        for row in (
            itertools.islice(self._sheet.iter_rows(), self._first, self._bottom) if nameless else ()
        ):
            nameless -= {i for i in nameless if row[left + i] != ""}
            if not nameless:
                break
        kept = [
            i for i in range(len(cells)) if i not in nameless
        ]  # those left are blank throughout
        self._columns = [left + i for i in kept]
        self.headers = distinct_headers([cells[i] for i in kept])
        self.how = (
            f'{"hidden " if hidden else ""}sheet "{sheet}"'
            + (f" {reading.cells}" if reading.cells else "")
            + header_told(self.header_row - area.top if self.header_row else 0, self.header_rows)
        )
        self.rules = RowRules()
        self.of_header = (
            header_remarks([cells[i] for i in kept], self.headers, self.header_row)
            if self.header_row
            else []
        )

    def origin(self, header: str | None = None) -> Origin:
        """The place of a column of the sheet."""
        return Origin(self.path.name, self.sheet, None, header)

    def settings(self) -> dict[str, Any]:
        """The sheet in the layout's words."""
        said: dict[str, Any] = {"sheet": self.sheet} | (
            {"cells": self._said_cells} if self._said_cells else {}
        )
        usual = {"header_row": 1, "header_rows": 1}
        return said | {k: getattr(self, k) for k, v in usual.items() if getattr(self, k) != v}

    def map_batches(
        self, work: Callable[[pa.RecordBatch], T], *, workers: int = 2, strict: bool = True
    ) -> Batches:
        """Applies `work` to every batch and gives the results in the order of the sheet, whose rows
        are never ragged.

        Raises SourceError for a sheet without rows.
        """
        return Batches(self._pieces(work))

    def _pieces(self, work: Callable[[pa.RecordBatch], T]) -> Generator[Piece, None, Found]:
        content = self.path.read_bytes()
        rows = itertools.islice(self._sheet.iter_rows(), self._first, self._bottom)
        numbers, first, physical = RowNumbers(self._first + 1), 0, 0
        as_text: dict[int, list[int]] = {}
        waiting: deque[tuple[int, int, Future[T]]] = deque()
        with ThreadPoolExecutor(
            1
        ) as pool:  # the next rows become texts while the last ones are worked on
            while True:
                with _uncollected():
                    batch, kept, height = self._batch(
                        list(itertools.islice(rows, ROWS)), physical, as_text
                    )
                if not height:
                    break
                if len(kept) < height:
                    numbers.skipped += [
                        physical + i for i in sorted(set(range(height)) - set(kept))
                    ]
                physical += height
                if len(kept):
                    waiting.append((first, len(kept), pool.submit(work, batch)))
                    first += len(kept)
                if len(waiting) > 1:
                    yield _done(*waiting.popleft())
            for one in waiting:
                yield _done(*one)

        def origin(record: int | None, header: str | None) -> Origin:
            return Origin(
                self.path.name, self.sheet, None if record is None else numbers.row(record), header
            )

        return Found(
            xxhash.xxh3_128_hexdigest(content + self.sheet.encode()),
            len(content),
            origin,
            len(numbers.skipped),
            (),
            (*self.of_header, *self._remarks(as_text, self._errors.result())),
            rows_in_file=self._first + physical,
            above=max(self.header_row - 1, 0),
            header=self.header_rows if self.header_row else 0,
        )

    def _batch(
        self, lines: list[list[Any]], above: int, as_text: dict[int, list[int]]
    ) -> tuple[pa.RecordBatch, Sequence[int], int]:
        """Some rows as texts, which of them are not blank, and how many they were; `above` rows
        were before them. The rows of numbers that are stored as text among numbers are added to
        `as_text`."""
        columns = list(zip(*lines, strict=True)) if lines else []
        mine = [columns[i] for i in self._columns] if lines else []
        filled: Sequence[int] = range(len(lines))
        if lines and all("" in column for column in mine):
            filled = [
                i for i, cells in enumerate(zip(*mine, strict=True)) if any(c != "" for c in cells)
            ]
            mine = (
                [tuple(column[i] for i in filled) for column in mine]
                if len(filled) < len(lines)
                else mine
            )
        arrays = []
        for i, cells in enumerate(mine):
            kinds = set(map(type, cells))
            arrays.append(texts(cells, kinds))
            if str in kinds and float in kinds:
                as_text.setdefault(i, []).extend(
                    self._first + 1 + above + filled[r]
                    for r, c in enumerate(cells)
                    if type(c) is str and c and _NUMBER.match(c)
                )
        names = [str(i) for i in range(len(mine))]
        return pa.RecordBatch.from_arrays(arrays, names=names), filled, len(lines)

    def _remarks(
        self, as_text: dict[int, list[int]], errors: list[tuple[int, int, str]]
    ) -> Iterator[Remark]:
        here = {i + self._offset: h for i, h in zip(self._columns, self.headers, strict=True)}
        mine = [
            (row, here[column], said)
            for row, column, said in errors
            if column in here
            and row > self._first
            and (self._bottom is None or row <= self._bottom)
        ]
        for header, said in dict.fromkeys((h, s) for _, h, s in mine):
            rows = [r for r, h, s in mine if (h, s) == (header, said)]
            yield Remark(
                "doubtful",
                header,
                f"the formula's result is the error {said}, taken as blank"
                if said
                else "the formula was never calculated: there is no value, taken as blank",
                tuple(rows[:SHOWN]),
                len(rows),
                "mend the formula, or leave it blank on purpose"
                if said
                else "open the workbook in a spreadsheet program, and save it there",
            )
        for i, rows in as_text.items():
            if rows:
                yield Remark(
                    "odd",
                    self.headers[i],
                    "numbers stored as text among numbers",
                    tuple(rows[:SHOWN]),
                    len(rows),
                    "they are read like the other numbers; convert them in the workbook if they "
                    "are meant as such",
                )


def _done(first: int, rows: int, result: Future[Any]) -> Piece:
    """A batch that was worked on."""
    return Piece(first, rows, result.result())


@contextmanager
def _scanning(workers: int) -> Iterator[ThreadPoolExecutor]:
    """Threads for work that is waited for elsewhere."""
    pool = ThreadPoolExecutor(workers)
    try:
        yield pool
    finally:
        pool.shutdown(wait=False)


@contextmanager
def _uncollected() -> Iterator[None]:
    """Millions of cells come and go as Python objects here, none of them in circles: looking for
    those is a third of the time."""
    was = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was:
            gc.enable()


def _sheet_of(path: Path, cells: str, book: Any) -> str:
    """The sheet on which a range, defined name or table lies; the first one where a range names
    none."""
    found = _RANGE.match(_meant(path, cells))
    if found and found["sheet"]:
        return found["sheet"].strip("'").replace("''", "'")
    return str(book.sheet_names[0])


def _meant(path: Path, cells: str) -> str:
    """A range in letters and numbers: itself, or what a defined name or a table of the workbook
    stands for."""
    import python_calamine as calamine

    if _RANGE.match(cells):
        return cells
    named = defined_name(path, cells) if path.suffix.lower() in PARTED else ""
    if named:
        if not _RANGE.match(named):
            raise SourceError(
                f'the defined name "{cells}" is not one range of cells',
                code="source.cells",
                origin=Origin(path.name),
                why=f"it stands for {named}",
            )
        return named
    try:
        book = open_workbook(path, tables=True)
        table = book.get_table_by_name(cells)
    except (calamine.CalamineError, ValueError) as error:
        known = book.table_names if path.suffix.lower() in PARTED else []
        raise SourceError(
            f'"{cells}" is not a range such as C5:H200, a defined name or a table of the workbook',
            code="source.cells",
            origin=Origin(path.name),
            next=f"its tables are {', '.join(known)}" if known else "name a range",
        ) from error
    (top, left), (bottom, right) = table.start, table.end
    # the table's header is one above
    return f"'{table.sheet}'!{_letters(left)}{top}:{_letters(right)}{bottom + 1}"


def _area(path: Path, sheet: str, cells: str) -> Area:
    if not cells:
        return Area()
    found = _RANGE.match(_meant(path, cells))
    assert found is not None
    if found["sheet"] and found["sheet"].strip("'").replace("''", "'") != sheet:
        raise SourceError(
            f'"{cells}" does not lie on the sheet "{sheet}"',
            code="source.cells",
            origin=Origin(path.name, sheet),
        )
    area = Area(
        int(found["top"]) - 1,
        _column(found["left"]),
        int(found["bottom"]),
        _column(found["right"]) + 1,
    )
    if (
        area.bottom is not None
        and area.right is not None
        and (area.bottom <= area.top or area.right <= area.left)
    ):
        raise SourceError(
            f'"{cells}" is not a range',
            code="source.cells",
            origin=Origin(path.name, sheet),
            why="its end lies before its start",
            next="write it like C5:H200",
        )
    return area


def _column(letters: str) -> int:
    """The number of a column, from 0."""
    number = 0
    for letter in letters.upper():
        number = number * 26 + ord(letter) - 64
    return number - 1


def _letters(column: int) -> str:
    """The letters of a column counted from 0."""
    out, column = "", column + 1
    while column:
        column, rest = divmod(column - 1, 26)
        out = chr(65 + rest) + out
    return out


def _merged_in(sheet: Any, area: Area) -> set[int]:
    """The rows (counted from 0 within the area) in which cells are merged across some, but not all,
    of its columns."""
    width = (area.right or sheet.total_width) - area.left
    try:
        ranges = sheet.merged_cell_ranges or []
    except Exception:  # formats in which the library does not know them
        return set()
    return {a[0] - area.top for a, b in ranges if b[1] > a[1] and b[1] - a[1] + 1 < width}


def _header_rows(top: Sequence[Sequence[Any]], merged: set[int]) -> tuple[int, int]:
    """The row (from 1) at which the header begins, and over how many rows it goes; (0, 1) when
    there is none.

    It is the first row of words that is nearly as wide as what follows. It goes over two rows where
    cells are merged above it, or where the next row is of words too and fills what the first leaves
    open.
    """
    filled = [sum(cell != "" for cell in row) for row in top]
    for i, row in enumerate(top):
        below = max(filled[i + 1 : i + 20], default=0)
        if filled[i] < max(1, 0.6 * max(below, filled[i])):
            continue
        if not _names(row, top[i + 1 :]):
            return 0, 1
        if i and i - 1 in merged and filled[i - 1]:
            return i, 2
        after = top[i + 1] if i + 1 < len(top) else []
        open_ = [
            j
            for j, cell in enumerate(row)
            if cell == "" and any(j < len(r) and r[j] != "" for r in top[i + 1 :])
        ]
        if (
            open_
            and after
            and all(isinstance(c, str) for c in after)
            and all(after[j] != "" for j in open_)
            and any(not isinstance(c, str) for r in top[i + 2 : i + 20] for c in r)
        ):
            return i + 1, 2
        return i + 1, 1
    return 1, 1


def _names(row: Sequence[Any], below: Sequence[Sequence[Any]]) -> bool:
    """Whether the cells of a row can be headers: words, or years and days above something else,
    beside words."""

    def may(j: int, cell: Any) -> bool:
        if isinstance(cell, str):
            return True
        others = [r[j] for r in below if r[j] != ""]
        if isinstance(cell, float) and cell.is_integer() and 1900 <= cell <= 2100:
            return not all(isinstance(o, float) and 1900 <= o <= 2100 for o in others)
        return isinstance(cell, dt.date) and not any(isinstance(o, dt.date) for o in others)

    kinds = Counter(isinstance(cell, str) for cell in row if cell != "")
    return kinds[True] > 0 and all(may(j, cell) for j, cell in enumerate(row))


def _reopen(path: Path, name: str, reading: Reading) -> SheetSource:
    """The sheet that a layout describes: its header is in the first row, unless it says
    otherwise."""
    settled = replace(reading, header_row=1 if reading.header_row is None else reading.header_row)
    return SheetSource(path, reading.sheet, settled, name=name)


FORMAT = Format(ENDINGS, sheets, _reopen)
