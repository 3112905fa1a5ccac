"""The distinct values of a column, wherever they are: what is asked of them to tell what the column
holds.

`ValuesHere` answers from an encoded column. Values that are elsewhere answer the same questions
without being brought here, so that columns are described by the same code.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Protocol

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark import memory
from kerfmark.errors import Origin
from kerfmark.profile.codes import combine, first_rows, gather
from kerfmark.profile.columns import EncodedColumn
from kerfmark.profile.convert import to_text
from kerfmark.profile.encode import EncodedSource
from kerfmark.profile.recognise import Recognised, recognise_column
from kerfmark.profile.spilled import number_texts
from kerfmark.profile.types import ColumnType
from kerfmark.read.source import RaggedRow, Remark

Mask = Callable[[pa.StringArray], pa.BooleanArray]
"""Which of some texts are meant."""
Test = Callable[[pa.StringArray], bool]
"""Whether something holds for all of some texts."""
Naming = Callable[[pa.StringArray], pa.StringArray]
"""A name for each of some texts; null for one that has none."""
FIRST = 5
"""Rows that are told of cells."""
_UNEVEN_SPACES = r"\s\s|[^\S ]"
"""What is not a single space between words."""


@dataclass(frozen=True)
class Matching:
    """Values that are meant by something: how many `cells` have one, the first of the values in the
    order in which they appear, and the rows of their first cells."""

    cells: int
    values: tuple[str, ...]
    rows: tuple[int, ...]


@dataclass(frozen=True)
class Alike:
    """Values that differ only in case or spaces from a more frequent one: one of them and its more
    frequent one, how many `cells` have one, and the rows of the first."""

    rare: str
    usual: str
    cells: int
    rows: tuple[int, ...]


class ColumnValues(Protocol):
    """What is asked of a column's distinct values; `count` says how many there are, `cells` of how
    many rows, and `blanks` how many of these are blank (`blank_as`: spelled how). Values are
    counted in the order in which they first appear."""

    @property
    def header(self) -> str: ...
    @property
    def spelled(self) -> bool: ...
    @property
    def blank_as(self) -> tuple[str, ...]: ...
    @property
    def count(self) -> int: ...
    @property
    def cells(self) -> int: ...
    @property
    def blanks(self) -> int: ...

    def recognised(self) -> Recognised:
        """The type of the column."""

    def head(self, most: int) -> pa.StringArray:
        """The first values."""

    def longest(self) -> int:
        """The characters of the longest value."""

    def usual_length(self) -> int:
        """The bytes that most values have."""

    def all(self, test: Test) -> bool:
        """Whether something holds for all values."""

    def matching(self, mask: Mask, values: int = 1, rows: int = FIRST) -> Matching:
        """Which values are meant: so many of the first values and rows."""

    def names(self, naming: Naming) -> set[str | None]:
        """All names that values have."""

    def frequent(self, most: int) -> tuple[tuple[str, int], ...]:
        """The most frequent values, and how many cells have each; the earlier ones of equals."""

    def ends(self, type_: ColumnType) -> tuple[str, str]:
        """The smallest and the largest value of a type, as the source spells them."""

    def steps(self, type_: ColumnType, steps: int) -> tuple[int, ...]:
        """How many cells fall into each of equal steps from the smallest to the largest value; ()
        where these are the same."""

    def alike(self) -> Alike | None:
        """Values that differ only in case or spaces from a more frequent one."""


@dataclass(frozen=True)
class SourceValues:
    """A source of which is told what is in it: its columns' values, and what reading it found.
    `origin` gives the place of a row (as the values name rows) and a column. Of `ragged_rows` there
    are the first, and one that has several fields, if any has."""

    columns: Sequence[ColumnValues]
    rows: int
    origin: Callable[[int | None, str | None], Origin]
    remarks: Sequence[Remark]
    ragged: int
    ragged_rows: Sequence[RaggedRow]
    repeated: Callable[[], Matching]
    """Rows that are the same as an earlier one in every column."""


class ValuesHere:
    """The values of an encoded column."""

    def __init__(self, column: EncodedColumn) -> None:
        self.column = column
        self.header, self.spelled, self.blank_as = column.header, column.spelled, column.blank_as
        self.values = column.values
        self.count = len(column.values)

    @property
    def cells(self) -> int:
        """How many rows there are."""
        return len(self.column.codes)

    @property
    def blanks(self) -> int:
        """How many of them are blank."""
        return self.column.blanks

    @property
    def times(self) -> np.ndarray | None:
        """How many cells have each value; None where each has one."""
        return None if self.count == self.cells - self.blanks else self.column.times

    def rows_of(self, these: np.ndarray, most: int) -> tuple[int, tuple[int, ...]]:
        """How many rows have one of some values, and the first of them."""
        there = np.flatnonzero(gather(np.append(these, False), self.column.codes))
        return len(there), tuple(there[:most].tolist())

    def recognised(self) -> Recognised:
        """The type of the column."""
        return recognise_column(self.column)

    def head(self, most: int) -> pa.StringArray:
        """The first values."""
        return self.values.slice(0, most)

    def longest(self) -> int:
        """The characters of the longest value."""
        return int(pc.max(pc.utf8_length(self.values)).as_py() or 0)

    def usual_length(self) -> int:
        """The bytes that most values have."""
        return int(pc.mode(pc.binary_length(self.values))[0]["mode"].as_py())

    def all(self, test: Test) -> bool:
        """Whether something holds for all values."""
        return all(test(some) for some in memory.slices(self.values))

    def matching(self, mask: Mask, values: int = 1, rows: int = FIRST) -> Matching:
        """Which values are meant."""
        these = memory.gathered(map(mask, memory.slices(self.values)), pa.bool_())
        here = these.to_numpy(zero_copy_only=False)
        if not here.any():
            return Matching(0, (), ())
        at = np.flatnonzero(here)
        if rows:
            cells, first = self.rows_of(here, rows)
        else:
            times, first = self.times, ()
            cells = len(at) if times is None else int(times[at].sum())
        return Matching(cells, tuple(self.values.take(pa.array(at[:values])).to_pylist()), first)

    def names(self, naming: Naming) -> set[str | None]:
        """All names that values have."""
        return {n for some in memory.slices(self.values) for n in naming(some).unique().to_pylist()}

    def frequent(self, most: int) -> tuple[tuple[str, int], ...]:
        """The most frequent values."""
        times = self.times
        if times is None:
            return tuple((v.as_py(), 1) for v in self.head(most))
        if len(times) > most:
            least = -np.partition(-times, most - 1)[most - 1]
            top = np.flatnonzero(times > least)
            top = np.append(top, np.flatnonzero(times == least)[: most - len(top)])
        else:
            top = np.arange(len(times))
        top = top[np.lexsort((top, -times[top]))]
        return tuple((self.values[int(i)].as_py(), int(times[i])) for i in top)

    def ends(self, type_: ColumnType) -> tuple[str, str]:
        """The smallest and the largest value of a type."""
        if type_.kind in ("text", "boolean"):
            ends = pc.min_max(self.values)
            return str(ends["min"]), str(ends["max"])
        typed = self.column.typed(type_)
        ends = pc.min_max(typed)
        return spelled_ends(ends["min"].as_py(), ends["max"].as_py(), type_)

    def steps(self, type_: ColumnType, steps: int) -> tuple[int, ...]:
        """How many cells fall into each of equal steps."""
        numbers, known = as_numbers(self.column.typed(type_))
        if not len(numbers) or numbers.min() == numbers.max():
            return ()
        times = self.times
        weights = None if times is None else times[known]
        counts = np.histogram(numbers, steps, weights=weights)[0]
        return tuple(int(n) for n in counts)

    def alike(self) -> Alike | None:
        """Values that differ only in case or spaces from a more frequent one."""
        if in_one_case(self):
            return None  # they would be the same
        groups, count = number_texts(map(plain, memory.slices(self.values)))
        if count == len(groups):
            return None
        times = self.times
        order = np.argsort(groups, kind="stable") if times is None else np.lexsort((-times, groups))
        first = np.concatenate([[True], groups[order][1:] != groups[order][:-1]])
        rare, usual = order[~first], np.empty(groups.max() + 1, np.int64)
        usual[groups[order[first]]] = order[first]
        these = np.zeros(self.count, bool)
        these[rare] = True
        cells, rows = self.rows_of(these, FIRST)
        one = int(rare[0])
        return Alike(
            self.values[one].as_py(), self.values[int(usual[groups[one]])].as_py(), cells, rows
        )


def source_here(encoded: EncodedSource) -> SourceValues:
    """A source that is encoded."""
    ragged = encoded.found.ragged
    return SourceValues(
        [ValuesHere(c) for c in encoded.columns],
        encoded.rows,
        encoded.origin,
        encoded.found.remarks,
        len(ragged),
        ragged,
        lambda: _repeated(encoded),
    )


def _repeated(encoded: EncodedSource) -> Matching:
    """The rows that are the same as an earlier one."""
    telling = max(encoded.columns, key=lambda c: len(c.values))
    alike = np.flatnonzero(gather(telling.times > 1, telling.codes, blank=1))
    codes, count = combine(
        [gather(c.codes, alike) for c in encoded.columns],
        [len(c.values) for c in encoded.columns],
        blanks=True,
    )
    again = np.ones(len(alike), bool)
    again[first_rows(codes, count)] = False
    rows = alike[again]
    return Matching(len(rows), (), tuple(rows[:FIRST].tolist()))


def as_numbers(typed: pa.Array) -> tuple[np.ndarray, np.ndarray]:
    """Typed values as numbers in their order, and which of the values have one."""
    known = typed.is_valid().to_numpy(zero_copy_only=False)
    if pa.types.is_date32(typed.type) or pa.types.is_time32(typed.type):
        typed = typed.cast(pa.int32())
    elif pa.types.is_timestamp(typed.type):
        typed = typed.cast(pa.int64())
    return pc.cast(typed, pa.float64(), safe=False).to_numpy(zero_copy_only=False)[known], known


def spelled_ends(smallest: object, largest: object, type_: ColumnType) -> tuple[str, str]:
    """Two values of a type as the source spells them."""
    texts = to_text(pa.array([smallest, largest], type_.arrow), type_)
    return str(texts[0]), str(texts[1])


def in_one_case(values: ColumnValues) -> bool:
    """Whether all texts are in small or all in capital letters, with single spaces within them at
    most."""
    return any(values.all(partial(_in_case, case)) for case in ("small", "capital"))


def _in_case(case: str, texts: pa.StringArray) -> bool:
    made = pc.utf8_lower(texts) if case == "small" else pc.ascii_upper(texts)
    return (
        pc.all(pc.equal(pc.utf8_trim_whitespace(made), texts)).as_py()
        and not pc.any(pc.match_substring_regex(texts, _UNEVEN_SPACES)).as_py()
        and (case == "small" or pc.all(pc.string_is_ascii(texts)).as_py())
    )


def plain(texts: pa.StringArray) -> pa.StringArray:
    """Texts in small letters with single spaces within them."""
    trimmed = pc.utf8_trim_whitespace(texts)
    if pc.any(pc.match_substring_regex(trimmed, _UNEVEN_SPACES)).as_py():
        trimmed = pc.replace_substring_regex(trimmed, r"\s+", " ")
    return pc.utf8_lower(trimmed)
