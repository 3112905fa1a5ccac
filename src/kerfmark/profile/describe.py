"""What a column holds, counted over all rows."""

from __future__ import annotations

from dataclasses import dataclass

from kerfmark.profile.settle import mostly
from kerfmark.profile.values import ColumnValues

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


def describe(values: ColumnValues) -> ColumnDescription:
    """The description of the column that has these values."""
    header, blanks = values.header, values.blanks
    found = values.recognised()
    note = found.remark(header)
    if not values.count:
        return ColumnDescription(
            header, "text", note, blanks, values.blank_as, 0, False, 0, "", "", ()
        )
    near = mostly(values) if found.type.kind == "text" and not found.note else None
    type_ = near[0] if near else found.type
    smallest, largest = values.ends(type_)
    shape = () if type_.kind in ("text", "boolean") else values.steps(type_, STEPS)
    top = values.frequent(STEPS)
    return ColumnDescription(
        header,
        str(found.type),
        note,
        blanks,
        values.blank_as,
        values.count,
        values.count == values.cells - blanks,
        values.longest(),
        smallest,
        largest,
        tuple((text, times) for text, times in top[:FREQUENT] if times > 1),
        *((str(near[0]), near[2], near[1]) if near else ("", 0, ())),
        shape or tuple(times for _, times in top),
        bool(shape),
    )
