"""A column of a source as its distinct texts and a code for each row."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark import memory
from kerfmark.profile.codes import filled, first_rows, gather, value_counts
from kerfmark.profile.convert import SLICE, to_typed
from kerfmark.profile.types import INTEGER, ColumnType


@dataclass
class EncodedColumn:
    """One column: `values` are its distinct texts without blanks, `codes` (int32, one per row)
    point into them.

    A blank cell has the code -1. `blank_as` lists the spellings, other than nothing at all, that
    were taken as blank. `spelled` says that numbers were spelled when they were read (see
    `Source.spells_numbers`).
    """

    header: str
    values: pa.StringArray
    codes: np.ndarray
    blank_as: tuple[str, ...] = ()
    spelled: bool = False
    _typed: tuple[ColumnType, pa.Array] | None = field(default=None, repr=False)

    @property
    def known_type(self) -> ColumnType | None:
        """The type that all values are known to have without being asked, if encoding them showed
        one."""
        return (
            self._typed[0]
            if self._typed and self._typed[0] == INTEGER and self._typed[1].null_count == 0
            else None
        )

    def typed(self, type_: ColumnType) -> pa.Array:
        """The distinct values in a type; null where one does not fit. The last answer is
        remembered."""
        if self._typed is None or self._typed[0] != type_:
            slices = range(0, len(self.values), SLICE)
            self._typed = (
                type_,
                to_typed(self.values, type_)
                if len(slices) < 2 or not memory.scarce()
                else memory.gathered(
                    (to_typed(self.values.slice(start, SLICE), type_) for start in slices),
                    type_.arrow,
                ),
            )
        return self._typed[1]

    @property
    def blanks(self) -> int:
        """How many cells are blank."""
        return len(self.codes) - filled(self.codes)

    @property
    def times(self) -> np.ndarray:
        """How many cells have each value."""
        return value_counts(self.codes, len(self.values))

    def without(self, spellings: list[str]) -> EncodedColumn:
        """The same column with some spellings taken as blank."""
        where = pc.is_in(self.values, value_set=pa.array(spellings, pa.string()))
        drop = where.to_numpy(zero_copy_only=False)
        if not drop.any():
            return self
        keep = np.flatnonzero(~drop)
        moved = np.full(len(self.values) + 1, -1, np.int32)  # the last place is for the code -1
        moved[keep] = np.arange(len(keep), dtype=np.int32)
        gone = tuple(self.values.filter(where).to_pylist())
        values = memory.gathered(
            (
                self.values.slice(s, memory.ROWS).filter(pa.array(~drop[s : s + memory.ROWS]))
                for s in memory.at_a_time(len(drop))
            ),
            pa.string(),
        )
        return EncodedColumn(
            self.header, values, gather(moved, self.codes), self.blank_as + gone, self.spelled
        )

    def renumbered(self, texts: pa.StringArray, codes: np.ndarray) -> EncodedColumn:
        """A column of the same header in which every code has the text at its place: equal texts
        become one, null a blank, and what no row has is gone. Codes count in the order in which
        they first appear."""
        encoded = texts.dictionary_encode()
        where = encoded.indices.fill_null(-1).to_numpy(zero_copy_only=False)
        values, new = by_first_appearance(
            encoded.dictionary, gather(np.append(where, -1).astype(np.int32), codes)
        )
        return EncodedColumn(self.header, values, new, self.blank_as, self.spelled)


def by_first_appearance(values: pa.Array, codes: np.ndarray) -> tuple[pa.Array, np.ndarray]:
    """The same cells with codes (int32) that count in the order in which values first appear;
    values that no row has are gone."""
    first = first_rows(codes, len(values), len(codes))
    used = np.flatnonzero(first < len(codes))
    used = used[np.argsort(first[used], kind="stable")]
    number = np.full(len(values) + 1, -1, np.int32)
    number[used] = np.arange(len(used), dtype=np.int32)
    return values.take(pa.array(used)), gather(number, codes)


def with_midnights(column: EncodedColumn) -> EncodedColumn:
    """A column of days and moments as one of moments: a workbook has midnight as the day alone."""
    values = column.values
    days = pc.match_substring_regex(values, r"^\d{4}-\d\d-\d\d$")
    moments = pc.match_substring_regex(values, r"^\d{4}-\d\d-\d\d \d\d:\d\d:\d\d(\.\d+)?$")
    if not (
        pc.any(days).as_py() and pc.any(moments).as_py() and pc.all(pc.or_(days, moments)).as_py()
    ):
        return column
    midnight = pc.binary_join_element_wise(values, "00:00:00", " ")
    return column.renumbered(pc.if_else(days, midnight, values), column.codes)


def trimmed(column: EncodedColumn) -> EncodedColumn:
    """A column without spaces at the ends of its cells; cells of spaces alone are blank."""
    texts = pc.utf8_trim_whitespace(column.values)
    if texts.equals(column.values):
        return column
    texts = pc.if_else(pc.equal(texts, ""), pa.scalar(None, pa.string()), texts)
    return column.renumbered(texts, column.codes)
