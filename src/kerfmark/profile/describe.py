"""What a column holds, counted over all rows."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark import memory
from kerfmark.profile.columns import EncodedColumn
from kerfmark.profile.convert import to_text
from kerfmark.profile.recognise import mostly, recognise_column
from kerfmark.profile.types import ColumnType

FREQUENT = 3
STEPS = 24
"""Bars of a distribution."""


@dataclass(frozen=True)
class ColumnDescription:
    """A column: `blanks` counts blank cells (`blank_as`: the spellings that mean one),
    `distinct` its values, `longest` the characters of its longest text. `mostly` is the type that
    all but `misfits` cells have. `shape` counts the cells in equal steps from the smallest to the
    largest value (`shape_is_range`), or those of the most frequent values."""

    header: str
    type: str
    note: str
    blanks: int
    blank_as: tuple[str, ...]
    distinct: int
    unique: bool
    longest: int
    smallest: str
    largest: str
    frequent: tuple[tuple[str, int], ...]
    mostly: str = ""
    misfits: int = 0
    misfit_values: tuple[str, ...] = ()
    shape: tuple[int, ...] = ()
    shape_is_range: bool = False


def describe(column: EncodedColumn) -> ColumnDescription:
    """A column's description."""
    found = recognise_column(column)
    filled = int(np.count_nonzero(column.codes >= 0))
    blanks = len(column.codes) - filled
    if not len(column.values):
        return ColumnDescription(
            column.header,
            "text",
            found.remark(column.header),
            blanks,
            column.blank_as,
            0,
            False,
            0,
            "",
            "",
            (),
        )
    unique = len(column.values) == filled
    times = memory.constant(filled, 1, np.int64) if unique else column.times
    top = (
        np.arange(min(len(times), FREQUENT))
        if unique or len(times) <= FREQUENT
        else np.argpartition(-times, FREQUENT)[:FREQUENT]
    )
    top = top[np.lexsort((top, -times[top]))]
    near = mostly(column) if found.type.kind == "text" and not found.note else None
    smallest, largest = _ends(column, near[0] if near else found.type)
    shape = _range_shape(column, near[0] if near else found.type, None if unique else times)
    return ColumnDescription(
        column.header,
        str(found.type),
        found.remark(column.header),
        blanks,
        column.blank_as,
        len(column.values),
        unique,
        int(pc.max(pc.utf8_length(column.values)).as_py()),
        smallest,
        largest,
        tuple((column.values[int(i)].as_py(), int(times[i])) for i in top if times[i] > 1),
        *((str(near[0]), near[2], near[1]) if near else ("", 0, ())),
        shape
        or tuple(
            int(n)
            for n in -np.sort(
                -times[np.argpartition(-times, STEPS)[:STEPS]] if len(times) > STEPS else -times
            )
        ),
        bool(shape),
    )


def _range_shape(
    column: EncodedColumn, type_: ColumnType, times: np.ndarray | None
) -> tuple[int, ...]:
    """How many cells fall into each of equal steps from the smallest to the largest; () for what
    has no such order. `times` tells how many cells have each value (None: one each)."""
    if type_.kind in ("text", "boolean"):
        return ()
    typed = column.typed(type_)
    known = typed.is_valid().to_numpy(zero_copy_only=False)
    if type_.kind in ("date", "time"):
        typed = typed.cast(pa.int32())
    elif type_.kind == "timestamp":
        typed = typed.cast(pa.int64())
    numbers = pc.cast(typed, pa.float64(), safe=False).to_numpy(zero_copy_only=False)[known]
    if not len(numbers) or numbers.min() == numbers.max():
        return ()
    return tuple(
        int(n)
        for n in np.histogram(numbers, STEPS, weights=None if times is None else times[known])[0]
    )


def _ends(column: EncodedColumn, type_: ColumnType) -> tuple[str, str]:
    """The smallest and the largest value, as the source spells them."""
    if type_.kind in ("text", "boolean"):
        ends = pc.min_max(column.values)
        return str(ends["min"]), str(ends["max"])
    typed = column.typed(type_)
    ends = pc.min_max(typed)
    said = to_text(pa.array([ends["min"].as_py(), ends["max"].as_py()], typed.type), type_)
    return str(said[0]), str(said[1])
