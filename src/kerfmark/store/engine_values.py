"""What an engine gives, as typed values again: the way back from `Reader.stored`."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc


class WrongType(Exception):
    """A column of a batch, by its place, holds a value of another type."""

    def __init__(self, column: int) -> None:
        super().__init__(column)
        self.column = column


def cast_batch(batch: pa.RecordBatch, types: list[pa.DataType]) -> pa.RecordBatch:
    """A batch as an engine gives it, with the types that its columns should have.

    Raises WrongType where a cell has no such value: nothing is rounded or cut.
    """
    columns = []
    for i, (values, type_) in enumerate(zip(batch.columns, types, strict=True)):
        try:
            columns.append(_typed(values, type_))
        except pa.ArrowInvalid as error:
            raise WrongType(i) from error
    return pa.RecordBatch.from_arrays(columns, names=batch.schema.names)


def _typed(values: pa.Array, type_: pa.DataType) -> pa.Array:
    if values.type == type_:
        return values
    if pa.types.is_time(type_):
        return pc.cast(
            pc.cast(pc.binary_join_element_wise("1970-01-01 ", values, ""), pa.timestamp("s")),
            type_,
        )
    if pa.types.is_decimal(type_) and pa.types.is_floating(values.type):
        return _decimals(values, type_)
    return pc.cast(values, type_)


def _decimals(values: pa.DoubleArray, type_: pa.Decimal128Type) -> pa.Decimal128Array:
    """Numbers in place of decimals of at most 15 digits."""
    out = pc.cast(values, type_)
    there = values.is_valid().to_numpy(zero_copy_only=False)
    low = np.frombuffer(out.buffers()[1], np.int64)[::2][
        out.offset : out.offset + len(out)
    ]  # the lower half holds them whole
    if not np.array_equal(
        (low / 10.0**type_.scale)[there], values.to_numpy(zero_copy_only=False)[there]
    ):
        raise pa.ArrowInvalid("a number has more places than its column")
    return out
