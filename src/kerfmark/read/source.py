"""What every kind of source offers to the rest: headers, and batches of text columns with true row
numbers."""

from __future__ import annotations

import copy
from bisect import bisect_right
from collections.abc import Callable, Generator, Iterator, Sequence
from dataclasses import dataclass, field, fields
from typing import Any, Literal, NamedTuple, Protocol, TypeVar

import pyarrow as pa

from kerfmark.errors import Origin, counted
from kerfmark.read.text_style import TextStyle

T = TypeVar("T")

Severity = Literal["broken", "doubtful", "odd"]
"""Broken: a load would be refused. Doubtful: somebody should decide. Odd: worth a look."""


class RowRules(NamedTuple):
    """Which rows of a source are not data (`2`, `-1` for the last one, `40-60`, `40-`, `>100`, or a
    kind of them), and the headers of columns in which a blank cell means the same as above."""

    skip_rows: tuple[str, ...] = ()
    fill_down: tuple[str, ...] = ()

    def settings(self) -> dict[str, tuple[str, ...]]:
        """What a layout must say of them, in its own keys."""
        return {key: said for key, said in self._asdict().items() if said}


@dataclass(frozen=True)
class Reading:
    """How something is to be read, where a person (or a layout) knows better than what is found;
    None and "" mean: find it.

    `delimiter` may be several characters, `escape` is the character that takes the next one
    literally, `edges` are the first characters of the columns of a text of fixed width (counted
    from 0). `header_row` counts from 1 (0: no header), `header_rows` says over how many rows it
    goes. `sheet` names one sheet, `cells` a range such as C5:H200, a defined name or a table of a
    workbook; `block` the number of a table among several in one sheet or file (0: all is one);
    `table` a table and `query` a query of a database; `member` a member of an archive.
    `skip_rows` and `fill_down` are rules about rows (see `RowRules`). `unpack_limit` is the most
    bytes that a packed file may unpack to. `ruled` says that a listing has ruling lines;
    `json_cells` are the headers of columns with lists of records in their cells. `hidden` takes in
    hidden sheets. `columns` are the names of all columns, in their order.
    """

    delimiter: str | None = None
    quote: str | None = None
    escape: str | None = None
    encoding: str | None = None
    edges: tuple[int, ...] = ()
    header_row: int | None = None
    header_rows: int | None = None
    member: str = ""
    sheet: str = ""
    cells: str = ""
    block: int | None = None
    table: str = ""
    query: str = ""
    skip_rows: tuple[str, ...] = ()
    fill_down: tuple[str, ...] = ()
    json_cells: tuple[str, ...] = ()
    hidden: bool = False
    unpack_limit: int | None = None
    ruled: bool | None = None
    columns: tuple[str, ...] = ()

    @property
    def rules(self) -> RowRules:
        """What is to be done with rows."""
        return RowRules(self.skip_rows, self.fill_down)

    @property
    def is_given(self) -> bool:
        """Whether anything is overruled."""
        return any(getattr(self, f.name) != f.default for f in fields(self))


@dataclass(frozen=True)
class Piece:
    """What became of one batch: `first` is the 0-based number of its first record, `rows` how many
    it held."""

    first: int
    rows: int
    result: Any


@dataclass(frozen=True)
class Remark:
    """Something noticed while reading: how bad, in which column (None: whole rows), what, in which
    rows first, of how many, and what to do. `rule` names the rule by which whole rows of a file
    were looked at, of which a part of the file may say something else."""

    severity: Severity
    header: str | None
    what: str
    rows: tuple[int, ...] = ()
    total: int = 0
    next: str = ""
    rule: str = ""

    @property
    def remedies(self) -> str:
        """What to do, which may be several ways on lines of their own, within a sentence."""
        return self.next.replace("\n", "; ")


class RaggedRow(NamedTuple):
    """A row with too few or too many fields: where (as a person counts), how many, its text, and
    its file."""

    row: int
    fields: int
    text: str
    file: str

    def told(self, expected: int) -> str:
        """What is wrong with it, where so many fields are expected."""
        return f"has {counted(self.fields, 'field')} instead of {expected}"


CORRECT_RAGGED = "correct the row; a field that holds the delimiter must be quoted"
"""What to do about a row with too few or too many fields."""


def correct_ragged(rows: Sequence[RaggedRow]) -> str:
    """What to do about rows with too few or too many fields."""
    if all(r.fields == 1 for r in rows):
        return "--skip-rows notes leaves them out if they are notes; else correct them"
    return CORRECT_RAGGED


@dataclass
class RowNumbers:
    """Turns the number of a record into the row a person counts, blank rows skipped by the reader
    included."""

    first_row: int
    """Row of the first record, counted from 1."""
    skipped: list[int] = field(default_factory=list)
    """Physical positions (0-based, from the first record on) of the rows that were skipped,
    ascending."""

    def row(self, record: int) -> int:
        """The row of a record (0-based) as a person counts."""
        before = bisect_right([p - i for i, p in enumerate(self.skipped)], record)
        return self.first_row + record + before


@dataclass(frozen=True)
class Found:
    """What reading a source once has found out: the `fingerprint` and `size` of its file, how many
    blank rows were `skipped`, the `ragged` rows (with too few or too many fields, left out), and
    `remarks`. `place` gives the origin of a record (counted from 0) and column. `parts` and
    `rows_of_parts`: the same for each source that this one is made of (usually itself alone).
    `rows_in_file` counts all rows of its file as a person sees them (0: not known), of which so
    many are `above` the header, and in the `header`. `style` is how a text is written."""

    fingerprint: str
    size: int
    place: Callable[[int | None, str | None], Origin]
    skipped: int = 0
    ragged: tuple[RaggedRow, ...] = ()
    remarks: tuple[Remark, ...] = ()
    parts: tuple[Found, ...] = ()
    rows_of_parts: tuple[int, ...] = ()
    rows_in_file: int = 0
    above: int = 0
    header: int = 0
    style: TextStyle | None = None

    def origin(self, record: int | None = None, header: str | None = None) -> Origin:
        """The place of a record (counted from 0, as read) and column."""
        return self.place(record, header)


class Batches:
    """The batches of a source, in the order of its file; once they are all there, `found` tells
    what reading found out."""

    def __init__(self, pieces: Generator[Piece, None, Found]) -> None:
        self._pieces = pieces
        self._found: Found | None = None

    def __iter__(self) -> Iterator[Piece]:
        self._found = yield from self._pieces

    @property
    def found(self) -> Found:
        """What reading found out. Only after the last batch."""
        assert self._found is not None
        return self._found


class Source(Protocol):
    """One block of rows, which does not change once it is open; reading gives what is found out
    (see `Found`)."""

    @property
    def name(self) -> str: ...

    @property
    def location(self) -> str:
        """Its file as a path, a database URL without password, or `-`."""
        ...

    @property
    def headers(self) -> tuple[str, ...]: ...

    @property
    def how(self) -> str:
        """How it is written, in words."""
        ...

    @property
    def rules(self) -> RowRules:
        """What is to be done with its rows."""
        ...

    @property
    def spells_numbers(self) -> bool:
        """Whether its numbers are not texts in it, but spelled when it is read: a point in them
        is that of a decimal."""
        ...

    def map_batches(
        self, work: Callable[[pa.RecordBatch], Any], *, workers: int = 2, strict: bool = True
    ) -> Batches:
        """Applies `work` to every batch in worker threads and gives the results in the order of the
        file.

        A batch has one string column per header, null for a blank cell.
        """
        ...

    def origin(self, header: str | None = None) -> Origin:
        """The place of a column, or of the whole."""
        ...

    def settings(self) -> dict[str, Any]:
        """What a layout must say to read this source again, in the layout's own keys."""
        ...


S = TypeVar("S")


def with_changes(source: S, **fields: Any) -> S:
    """A source as another one that differs in some attributes: its `name`, `headers`,
    `rules`."""
    out = copy.copy(source)
    for name, value in fields.items():
        setattr(out, name, value)
    return out


def header_told(header_row: int, header_rows: int = 1) -> str:
    """What is unusual about where the header is, in words."""
    if header_row == 0:
        return ", no header"
    above = header_row - 1
    over = f", header over {header_rows} rows" if header_rows > 1 else ""
    return (f", {above} {'row' if above == 1 else 'rows'} above the header" if above else "") + over


def distinct_headers(cells: Sequence[str]) -> tuple[str, ...]:
    """Column names that differ: blank ones get their position, repeated ones a number."""
    out: list[str] = []
    taken: set[str] = set()
    for i, cell in enumerate(cells, 1):
        plain = " ".join(cell.split()) or f"column {i}"
        name, n = plain, 2
        while name.lower() in taken:
            name, n = f"{plain} ({n})", n + 1
        taken.add(name.lower())
        out.append(name)
    return tuple(out)


def header_remarks(cells: Sequence[str], headers: Sequence[str], row: int = 0) -> list[Remark]:
    """What is odd about the header in a row (0: there is none): names that are missing or
    repeated."""
    rows = (row,) if row else ()
    nameless = [h for cell, h in zip(cells, headers, strict=True) if not cell.strip()]
    twice = [
        h
        for cell, h in zip(cells, headers, strict=True)
        if cell.strip() and " ".join(cell.split()) != h
    ]
    out = []
    if nameless:
        out.append(
            Remark(
                "odd",
                nameless[0],
                f"the header does not name {'it' if len(nameless) == 1 else 'these columns'}; "
                f"called {', '.join(nameless)} after the position",
                rows,
                1,
                "name it in the file",
            )
        )
    if twice:
        out.append(
            Remark(
                "doubtful",
                twice[0],
                "the header names several columns alike; "
                f"the later {'one is' if len(twice) == 1 else 'ones are'} called "
                f"{', '.join(twice)}",
                rows,
                1,
                "give each column a name of its own in the file",
            )
        )
    return out


def joined_header(rows: Sequence[Sequence[str]]) -> list[str]:
    """A header over several rows as one: what is above comes first. A blank cell in any row
    but the last belongs to the filled one at its left, as in merged cells, unless nothing is
    below it."""
    filled: list[list[str]] = []
    for i, row in enumerate(rows):
        line, last = [], ""
        for j, cell in enumerate(row):
            below = any(j < len(r) and r[j].strip() for r in rows[i + 1 :])
            last = cell.strip() or (last if below else "")
            line.append(last if i < len(rows) - 1 else cell.strip())
        filled.append(line)
    width = max(map(len, filled))
    return [
        " ".join(dict.fromkeys(line[j] for line in filled if j < len(line) and line[j]))
        for j in range(width)
    ]
