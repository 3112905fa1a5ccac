"""Whether rows are the same in whatever order they come: each cell becomes the number of its value,
each row that of its cells."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark import memory
from kerfmark.profile.codes import Codes, combine, concatenated, gather, value_counts
from kerfmark.profile.spilled import MANY, SpilledColumn

STRANGE = -2
"""The number of a value that is not expected."""


class _Column:
    """The cells of a column, given a batch at a time, as numbers of the values that are expected
    there."""

    def __init__(self, values: pa.Array) -> None:
        self._values, self._waiting, self._rows = values, [pa.array([], values.type)], 0
        self._found: list[np.ndarray] = []
        self._spilled = SpilledColumn() if len(values) > MANY and memory.scarce() else None
        if self._spilled:
            for some in memory.slices(values):
                self._spilled.add(pc.cast(some, pa.string()))

    def add(self, cells: pa.Array) -> bool:
        """Adds some cells; false when a value among those looked at so far is not expected."""
        if self._spilled:
            self._spilled.add(pc.cast(cells, pa.string()))
            return True
        self._waiting.append(cells)
        self._rows += len(cells)
        return (
            self._rows < len(self._values) // 2 or self._look()
        )  # many values are looked up for many cells at once

    def _look(self) -> bool:
        cells = pa.concat_arrays(self._waiting)
        self._waiting, self._rows = [cells.slice(0, 0)], 0
        found = pc.index_in(cells, self._values)
        missing = pc.if_else(
            cells.is_valid(), pa.scalar(STRANGE, pa.int32()), pa.scalar(-1, pa.int32())
        )
        self._found.append(pc.coalesce(found, missing).to_numpy(zero_copy_only=False))
        return bool(found.null_count <= cells.null_count)

    def finish(self, codes: Codes) -> Codes:
        """The numbers of the cells that are expected, whose codes these are, and after them those
        of the cells that were added."""
        size = len(self._values)
        if self._spilled:
            _, numbers = self._spilled.finish()
            first, added = numbers[:size], numbers[size:]
            added[added > first.max(initial=-1)] = (
                STRANGE  # what was added first was numbered first
            )
            return concatenated(gather(first, codes, blank=-1), added)
        self._look()
        first = pc.fill_null(pc.index_in(self._values, self._values), -1).to_numpy(
            zero_copy_only=False
        )
        return concatenated(
            gather(first, codes, blank=-1), *self._found
        )  # a value may be there twice


def same_in_any_order(
    batches: Iterable[pa.RecordBatch],
    values: Sequence[pa.Array],
    codes: Sequence[Codes],
    rows: int,
    told: Callable[[int], None],
    more: bool,
) -> bool:
    """Whether batches hold just the `rows` that are expected as values and codes by column, or,
    with `more`, others beside them. `told` is called with the number of rows looked at."""
    columns = [_Column(v) for v in values]
    at = 0
    for batch in batches:
        expected = [c.add(batch.column(i)) for i, c in enumerate(columns)]
        if not all(expected) and not more:
            return False
        at += batch.num_rows
        told(at)
    if at < rows or (at > rows and not more):
        return False
    if not columns:
        return True
    whole = [c.finish(own) for c, own in zip(columns, codes, strict=True)]
    numbers, count = combine(whole, [len(v) for v in values], blanks=True)
    wanted, there = value_counts(numbers[:rows], count), value_counts(numbers[rows:], count)
    return all(
        bool((there[s : s + memory.ROWS] >= wanted[s : s + memory.ROWS]).all())
        for s in memory.at_a_time(count)
    )
