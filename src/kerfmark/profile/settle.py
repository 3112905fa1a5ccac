"""Which type a column is to have of which some cells do not fit the others."""

from __future__ import annotations

from functools import partial

import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.errors import article, counted
from kerfmark.profile.columns import EncodedColumn
from kerfmark.profile.convert import to_typed
from kerfmark.profile.moments import CANDIDATES, pattern
from kerfmark.profile.recognise import Recognised, order_of, recognise, recognise_column
from kerfmark.profile.types import TEXT, ColumnType
from kerfmark.profile.values import ColumnValues, ValuesHere

MOST_MISFITS = 0.01
"""The share of rows that may not fit before a type is no longer taken for what the column is meant
to be."""
MOST_AMISS = 0.001
"""The share of cells that may be no number before a column of decimal numbers is rather loaded as
text, and that told."""
FEWEST_ROWS = 20
_DIGITS = r"^-?[0-9]"


def settle(column: EncodedColumn) -> Recognised:
    """The type that a column is to have: that of all its cells, or the date or decimal number that
    all but very few of them are. What does not fit is told, and refused when it is loaded: a date
    column never becomes text in silence."""
    found = recognise_column(column)
    if found.type != TEXT or found.note or not len(column.values):
        return found
    near = mostly(ValuesHere(column))
    if near is None:
        return found
    type_, wrong, cells = near
    kind = f"is not {article(type_.kind)}" if cells == 1 else f"are not {type_.kind}s"
    said = f'{counted(cells, "cell")}, such as "{wrong[0]}", {kind}'
    if type_.kind in ("integer", "real", "boolean") or (
        type_.kind == "decimal" and cells > MOST_AMISS * len(column.codes) + 1
    ):
        return Recognised(TEXT, f"kept as text: {said}, though the others are")
    return Recognised(type_, f"{said}: to be corrected in the file", ("text",))


def mostly(values: ColumnValues) -> tuple[ColumnType, tuple[str, ...], int] | None:
    """The type of all but very few cells of a text column, the values that do not fit, and how many
    cells hold them; None when there is no such type."""
    probe = pc.match_substring_regex(values.head(1000), _DIGITS)
    if pc.mean(probe).as_py() < 0.5:  # most values are words: not worth a closer look
        return None
    rows = values.cells - values.blanks
    if rows < FEWEST_ROWS:
        return None
    most = MOST_MISFITS * rows
    if values.matching(_is_no_number, 0, 0).cells > most + 1:
        return None
    numbers = values.matching(_is_number, 200, 0).values
    likely = values.matching(partial(_is_as_long, values.usual_length()), 200, 0).values
    candidates = {
        recognise(pa.array(some, pa.string()), spelled=values.spelled).type
        for some in (likely, numbers)
    }
    if likely:
        some = pa.array(likely[:50])
        candidates |= {
            ColumnType("date", form=f)
            for f in CANDIDATES["date"]
            if pc.all(pc.match_substring_regex(some, pattern(f))).as_py()
        }
    best: tuple[ColumnType, tuple[str, ...], int] | None = None
    orders: set[str] = set()
    for type_ in sorted(candidates - {TEXT}, key=str):
        wrong = values.matching(partial(_is_none_of, type_), 50, 0)
        if 0 < wrong.cells <= max(1, most) and (best is None or wrong.cells <= best[2]):
            orders = orders if best is not None and wrong.cells == best[2] else set()
            orders |= {order_of(type_.form)} if type_.kind in ("date", "timestamp") else set()
            best = type_, wrong.values, wrong.cells
    return None if len(orders) > 1 else best  # whose day and month could be swapped


def _is_number(texts: pa.StringArray) -> pa.BooleanArray:
    return pc.match_substring_regex(texts, _DIGITS)


def _is_no_number(texts: pa.StringArray) -> pa.BooleanArray:
    return pc.invert(_is_number(texts))


def _is_as_long(length: int, texts: pa.StringArray) -> pa.BooleanArray:
    return pc.and_(pc.equal(pc.binary_length(texts), length), _is_number(texts))


def _is_none_of(type_: ColumnType, texts: pa.StringArray) -> pa.BooleanArray:
    return to_typed(texts, type_).is_null()
