"""What every kind of source offers to the rest: headers, and batches of text columns with true row numbers."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Protocol, TypeVar

import pyarrow as pa

from kerfmark.errors import Origin

T = TypeVar("T")


@dataclass(frozen=True)
class Piece:
    """What became of one batch: `first` is the 0-based number of its first record, `rows` how many it held."""

    first: int
    rows: int
    result: Any


@dataclass
class RowNumbers:
    """Turns the number of a record into the row a person counts, blank rows skipped by the reader included."""

    first_row: int
    """Row of the first record, counted from 1."""
    skipped: list[int] = field(default_factory=list)
    """Physical positions (0-based, from the first record on) of the rows that were skipped, ascending."""

    def row(self, record: int) -> int:
        """The row of a record (0-based) as a person counts."""
        before = bisect_right([p - i for i, p in enumerate(self.skipped)], record)
        return self.first_row + record + before


class Source(Protocol):
    """One block of rows. After its batches were read once, `fingerprint`, `size` and `numbers` are known."""

    name: str
    path: Path
    headers: tuple[str, ...]
    how: str
    """How it is written, in words."""
    numbers: RowNumbers
    fingerprint: str
    size: int

    ragged: list[tuple[int, int]]
    """Rows with too few or too many fields, as (row, fields)."""

    def map_batches(self, work: Callable[[pa.RecordBatch], T], *, workers: int = 2, strict: bool = True) -> Iterator[Piece]:
        """Applies `work` to every batch in worker threads and yields the results in the order of the file.

        A batch has one string column per header, null for a blank cell.
        """
        ...

    def origin(self, record: int | None = None, header: str | None = None) -> Origin:
        """The place of a record (0-based) and column."""
        ...

    def settings(self) -> dict[str, Any]:
        """What a layout must say to read this source again, in the layout's own keys."""
        ...


def header_told(header_row: int) -> str:
    """What is unusual about where the header is, in words."""
    if header_row == 0:
        return ", no header"
    above = header_row - 1
    return f", {above} {'row' if above == 1 else 'rows'} above the header" if above else ""


def distinct_headers(cells: list[str]) -> tuple[str, ...]:
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
