"""What a layout says is to be done with cells before and after they get their type: cleaning,
meanings, defaults, units, limits.

All of it is done on the distinct values of a column.
"""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.layout.model import ColumnSpec
from kerfmark.profile.columns import EncodedColumn
from kerfmark.profile.convert import to_typed
from kerfmark.profile.types import ColumnType
from kerfmark.read.set_aside import GUARDED


def transformed(column: EncodedColumn, spec: ColumnSpec) -> EncodedColumn:
    """A column as its cells are to be understood: clean, with the meanings and the default of a
    layout."""
    if not spec.treats:
        return column
    texts = transform_texts(column.values, spec)
    codes = column.codes
    if spec.default:
        texts = pc.fill_null(texts, spec.default)
        texts = pa.concat_arrays([texts, pa.array([spec.default])])
        codes = np.where(codes < 0, len(texts) - 1, codes)
    return column.renumbered(texts, codes)


def transform_texts(texts: pa.StringArray, spec: ColumnSpec) -> pa.StringArray:
    """Texts made clean, then as what they mean; what is then nothing is null."""
    for way in spec.clean:
        texts = _WAYS[way](texts)
    if spec.means:
        where = pc.index_in(texts, value_set=pa.array(list(spec.means)))
        texts = pc.coalesce(pa.array(list(spec.means.values())).take(where), texts)
    return pc.if_else(pc.equal(texts, ""), pa.scalar(None, pa.string()), texts)


_WAYS = {
    "trim": pc.utf8_trim_whitespace,
    "spaces": lambda texts: pc.utf8_trim_whitespace(
        pc.replace_substring_regex(texts, r"[\s\x{00a0}\x{202f}]+", " ")
    ),
    "lower": pc.utf8_lower,
    "upper": pc.utf8_upper,
    "capitals": pc.utf8_title,
    "apostrophes": lambda texts: pc.replace_substring_regex(texts, GUARDED, r"\1"),
    "unicode": lambda texts: pc.utf8_normalize(texts, form="NFC"),
}


def to_column_type(texts: pa.StringArray, spec: ColumnSpec) -> pa.Array:
    """Texts as values of a column's type, in its unit; null where one does not fit."""
    if not spec.unit:
        return to_typed(texts, spec.of_type)
    from kerfmark.profile.units import changed

    type_ = spec.of_type
    wide = ColumnType("decimal", 38, 12, type_.form or "0.0") if type_.kind != "real" else type_
    numbers = pc.cast(to_typed(texts, wide), pa.float64())
    there = numbers.is_valid().to_numpy(zero_copy_only=False)
    new = pa.array(
        changed(np.nan_to_num(numbers.to_numpy(zero_copy_only=False)), spec.unit), mask=~there
    )
    if type_.kind == "real":
        return new
    rounded = pc.round(new, type_.scale, round_mode="half_towards_infinity")
    fits = pc.less(
        pc.abs(rounded), 10.0 ** (type_.precision - type_.scale if type_.kind == "decimal" else 18)
    )
    return pc.cast(
        pc.if_else(fits, rounded, pa.scalar(None, pa.float64())), type_.arrow, safe=False
    )


def not_allowed(values: pa.Array, spec: ColumnSpec) -> tuple[np.ndarray, str]:
    """Which values a layout does not allow (positions), and what it does allow, in words."""
    if not (spec.allowed or spec.least or spec.most):
        return np.empty(0, np.int64), ""
    wrong = np.zeros(len(values), bool)
    said: list[str] = []
    type_ = spec.of_type

    def limit(text: str) -> pa.Scalar:
        return to_typed(pa.array([text]), type_)[0]

    if spec.allowed:
        wrong |= ~pc.is_in(values, value_set=to_typed(pa.array(spec.allowed), type_)).to_numpy(
            zero_copy_only=False
        )
        said.append(
            "one of " + ", ".join(spec.allowed[:8]) + (" ..." if len(spec.allowed) > 8 else "")
        )
    if spec.least:
        wrong |= pc.fill_null(pc.less(values, limit(spec.least)), False).to_numpy(
            zero_copy_only=False
        )
        said.append(f"at least {spec.least}")
    if spec.most:
        wrong |= pc.fill_null(pc.greater(values, limit(spec.most)), False).to_numpy(
            zero_copy_only=False
        )
        said.append(f"at most {spec.most}")
    wrong &= values.is_valid().to_numpy(zero_copy_only=False)
    return np.flatnonzero(wrong), " and ".join(said)
