"""Workbooks: every sheet is a source, its cells turned into the texts that a person sees.

Dates are spelled YYYY-MM-DD (with the time where there is one), numbers as short as they are exact,
truth as TRUE and FALSE; formulas are what they last came to. A table may be anywhere in its
sheet: title lines above it and empty columns beside it are left out. A range, a defined name or a
table of the workbook may be named instead.
"""

from __future__ import annotations

import datetime as dt
import gc
import itertools
import re
from collections import Counter, deque
from collections.abc import Callable, Generator, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import Any, TypeVar

import pyarrow as pa
import xxhash

from kerfmark.errors import Origin, SourceError, counted
from kerfmark.read.blocks import MOST_CELLS, Block, block_remarks, find_blocks, no_block
from kerfmark.read.cells import spell_cell, texts
from kerfmark.read.header import MOST_HEADER_ROWS
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
from kerfmark.read.workbook.library import library, open_workbook, refuse_stray
from kerfmark.read.workbook.named_ranges import area_of, declared_tables, sheet_of
from kerfmark.read.workbook.ranges import RANGE, Area

T = TypeVar("T")

MOST_SHEETS = 2_000
"""Sheets that are read at once."""
ROWS = 4_096
"""Rows turned into a batch at a time: their cells stay in the processor's cache."""
LOOKED_AT = 60
"""Rows in which the header is looked for."""
SHOWN = 10
_NUMBER = re.compile(r"-?\d+([.,]\d+)?$")
DEFAULT_NAME = re.compile(
    r"(?:Sheet|Tabelle|Feuil|Feuille|Hoja|Foglio|Blad|Ark|Taul|Taulukko|Arkusz|List|Munka|Leht|Lapa"
    r"|Лист|Аркуш|Planilha|Folha|Sayfa|Φύλλο|Foaie|Hárok|Full|Lapas|Table|Worksheet|シート|工作表|גיליון)"
    r" ?\d*",
    re.IGNORECASE,
)
"""What spreadsheet programs call sheets that nobody has named."""


def sheets(path: Path, reading: Reading = Reading()) -> list[SheetSource]:
    """The sheets of a workbook that hold anything; one sheet, or a part of one, where that is asked
    for.

    Without `hidden` the sheets that are not shown are left out. Raises SourceError when there is
    nothing to read.
    """
    book = open_workbook(path)
    if reading.cells:
        sheet = reading.sheet or sheet_of(path, reading.cells, book)
        return [SheetSource(Sheet(path, sheet, book), reading)]
    if reading.sheet:
        return _tables_on(Sheet(path, reading.sheet, book), reading, declared_tables(path))
    shown = {m.name: str(m.visible).endswith(".Visible") for m in book.sheets_metadata}
    names = [n for n in book.sheet_names if shown.get(n, True) or reading.hidden]
    if len(names) > MOST_SHEETS:
        raise SourceError(
            f"the workbook has {len(names):,} sheets, and {MOST_SHEETS:,} are read at once",
            code="source.too-many",
            origin=Origin(path.name),
            next="name one with --sheet, or split the workbook",
        )
    declared = declared_tables(path)
    found = [
        table
        for name in names
        for table in _tables_on(
            Sheet(path, name, book, hidden=not shown.get(name, True)), reading, declared
        )
        if table.headers
    ]
    if not found:
        hidden = [n for n in book.sheet_names if n not in names]
        raise SourceError(
            "no sheet of the workbook holds anything",
            code="source.empty",
            origin=Origin(path.name),
            why="hidden sheets were not looked at" if hidden else "",
            next=f'--sheet "{hidden[0]}" reads one that is hidden'
            if hidden
            else "check that it is the right workbook",
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


class Sheet:
    """A sheet of a workbook, with its cells."""

    def __init__(self, path: Path, name: str, book: Any = None, *, hidden: bool = False) -> None:
        import python_calamine as calamine

        self.path, self.name, self.hidden = path, name, hidden
        book = book or open_workbook(path)
        with _scanning(1) as pool:  # while the library, in Rust, reads the sheet
            self.errors = pool.submit(error_cells, path, name)
        refuse_stray(path, name)
        try:
            with library(path):
                self.cells = book.get_sheet_by_name(name)
        except calamine.WorksheetNotFound as error:
            raise SourceError(
                f'the workbook has no sheet "{name}"',
                code="source.no-sheet",
                origin=Origin(path.name),
                next=f"its sheets are {', '.join(book.sheet_names)}",
            ) from error
        self.first_column = self.cells.start[1] if self.cells.start else 0

    def texts(self) -> list[list[str]]:
        """Its first cells as texts, row by row; as many as tables are looked for in."""
        return [[spell_cell(c) or "" for c in row] for row in self._first_rows()]

    def _first_rows(self) -> list[list[Any]]:
        most = max(MOST_CELLS // max(self.cells.total_width, 1), 1)
        return list(itertools.islice(self.cells.iter_rows(), most))

    def blocks(self) -> list[Block]:
        """The tables on it; [] unless there are several. The last rows that were looked at go on to
        its end."""
        grid = self._first_rows()
        columns = list(zip(*grid, strict=True))
        if not any(row.count("") >= len(row) - 1 for row in grid) and not any(
            column.count("") == len(column) for column in columns
        ):
            return []  # as most sheets are: nothing could be a border of tables
        blocks = find_blocks(self.texts())
        if len(grid) < self.cells.total_height:
            end = self.cells.total_height
            return [replace(b, bottom=end) if b.bottom == len(grid) else b for b in blocks]
        return blocks


def _tables_on(
    sheet: Sheet, reading: Reading, declared: Mapping[str, Sequence[str]]
) -> list[SheetSource]:
    """The tables on a sheet: those that the workbook declares or people have laid out there, where
    they are several; else all of it. Columns of blocks are counted from the first one in use."""
    names, remedy = declared.get(sheet.name, ()), ""
    if reading.block is None and reading.header_row is None and len(names) > 1:
        out = [SheetSource(sheet, Reading(cells=n)) for n in names]
        areas = [area_of(sheet.path, sheet.name, n) for n in names]
        first = sheet.first_column
        blocks = [
            Block(a.top, a.left - first, a.bottom or 0, (a.right or 0) - first) for a in areas
        ]
        remedy = f"--cells {names[0]} reads only that one, --block 0 the whole sheet as one table"
    elif reading.block == 0 or (reading.header_row is not None and not reading.block):
        return [SheetSource(sheet, reading)]
    else:
        blocks = sheet.blocks()
        if not blocks:
            return [SheetSource(sheet, reading)]
        out = [
            SheetSource(sheet, replace(reading, block=n), blocks=blocks)
            for n in ([reading.block] if reading.block else range(1, len(blocks) + 1))
        ]
        if reading.block:
            return out
    called = [table.name for table in out]
    out[0].of_header += block_remarks(called, blocks, sheet.texts(), "sheet", remedy)
    return out


class SheetSource:
    """A sheet of a workbook, or a part of one (see `read.source.Source`)."""

    spells_numbers = True

    def __init__(
        self,
        sheet: Sheet,
        reading: Reading = Reading(),
        *,
        name: str | None = None,
        blocks: Sequence[Block] | None = None,
    ) -> None:
        path = sheet.path
        self.path, self.location, self.sheet = path, str(path), sheet.name
        self._said_cells, self.block = reading.cells, reading.block or 0
        self._sheet, self._errors = sheet.cells, sheet.errors
        area, title = area_of(path, sheet.name, reading.cells), ""
        if self.block:
            area, title = _area_of_block(sheet, self.block, blocks or sheet.blocks())
        self.name = name or title or _name_of(sheet, reading.cells, self.block)
        self._top, self._bottom, self._offset = area.top, area.bottom, sheet.first_column
        left = max(area.left - self._offset, 0)  # the rows begin with the first column in use
        right = None if area.right is None else max(area.right - self._offset, 0)
        top = [
            row[left:right]
            for row in itertools.islice(
                self._sheet.iter_rows(), area.top, min(area.top + LOOKED_AT, area.bottom or 1 << 30)
            )
        ]
        found, over = _header_rows(top, _merged_in(self._sheet, area))
        above = area.top if self.block else 0  # the rows of a block are counted within it
        self.header_row = (
            area.top + found
            if reading.header_row is None and found
            else above + reading.header_row
            if reading.header_row
            else 0
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
            f'{"hidden " if sheet.hidden else ""}sheet "{sheet.name}"'
            + (f" {reading.cells}" if reading.cells else "")
            + (f", table {self.block} on it" if self.block else "")
            + header_told(self.header_row - area.top if self.header_row else 0, self.header_rows)
        )
        self.rules = RowRules()
        self.has_rows = self._sheet.total_height > self._first
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
        said |= {"block": self.block} if self.block else {}
        row = self.header_row - (self._top if self.block and self.header_row else 0)
        said |= {"header_row": row} if row != 1 else {}
        return said | ({"header_rows": self.header_rows} if self.header_rows != 1 else {})

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
            xxhash.xxh3_128_hexdigest(content + self._which().encode()),
            len(content),
            origin,
            len(numbers.skipped),
            (),
            (*self.of_header, *self._remarks(as_text, self._errors.result())),
            rows_in_file=self._first + physical - self._top,
            above=max(self.header_row - 1 - self._top, 0),
            header=self.header_rows if self.header_row else 0,
        )

    def _which(self) -> str:
        """What tells it from other sources in the same file."""
        return self.sheet + self._said_cells + (f" block {self.block}" if self.block else "")

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
                "correct the formula, or leave it blank on purpose"
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


def _name_of(sheet: Sheet, cells: str, block: int) -> str:
    """What a table is called that has no title: after the name of its range or sheet, or after its
    file."""
    if cells and not RANGE.match(cells) and not DEFAULT_NAME.fullmatch(cells):
        return cells
    unnamed = DEFAULT_NAME.fullmatch(sheet.name)
    called = sheet.path.stem if unnamed else sheet.name
    number = re.search(r"\d+$", cells)
    if cells and number and not RANGE.match(cells):
        return f"{called} {number[0]}"
    return f"{called} {block}" if block else called


def _area_of_block(sheet: Sheet, number: int, blocks: Sequence[Block]) -> tuple[Area, str]:
    """The area of one of the tables on a sheet (from 1), and its title."""
    if number > len(blocks):
        raise no_block(Origin(sheet.path.name, sheet.name), number, len(blocks))
    block = blocks[number - 1]
    first = sheet.first_column
    return Area(block.top, block.left + first, block.bottom, block.right + first), block.title


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
        start = i
        while (
            start > max(0, i + 1 - MOST_HEADER_ROWS) and start - 1 in merged and filled[start - 1]
        ):
            start -= 1
        if start < i:
            return start + 1, i + 1 - start
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


def reopen(path: Path, name: str, reading: Reading) -> SheetSource:
    """The sheet that a layout describes: its header is in the first row, unless it says
    otherwise."""
    settled = replace(reading, header_row=1 if reading.header_row is None else reading.header_row)
    return SheetSource(Sheet(path, reading.sheet), settled, name=name)
