"""Rows in the binary form of PostgreSQL's COPY, made of whole columns: the server has nothing to
parse.

Per row the number of fields (16 bits), then each field as its length (32 bits, -1 for a blank) and
its bytes, all big-endian. Source: PostgreSQL's documentation of COPY, "Binary Format", and the
receive functions of the types.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

HEAD = b"PGCOPY\n\xff\r\n\x00" + bytes(8)
END = b"\xff\xff"
_EPOCH_DAYS = 10_957
"""From 1970-01-01 to 2000-01-01, where PostgreSQL's dates begin."""
_MOST_DIGITS = 18
"""Decimal digits that an integer of 64 bits holds, those that fill up the last group included."""


@dataclass(frozen=True)
class _Fixed:
    """Values of one width: their bytes, one row each."""

    width: int
    bytes_of: Callable[[np.ndarray], np.ndarray]


def _plain(dtype: str) -> _Fixed:
    size = np.dtype(dtype).itemsize
    return _Fixed(size, lambda v: v.astype(dtype).view(np.uint8).reshape(len(v), size))


_NUMBERS = {
    "integer": _plain(">i4"),
    "bigint": _plain(">i8"),
    "smallint": _plain(">i2"),
    "double precision": _plain(">f8"),
    "boolean": _plain("u1"),
    "date": _plain(">i4"),
    "timestamp without time zone": _plain(">i8"),
    "time without time zone": _plain(">i8"),
}


def can_be_binary(schema: pa.Schema, declared: Mapping[str, str]) -> bool:
    """Whether rows of these columns, declared like this, can go in this form."""
    return all(_kind(f.type, declared.get(f.name, "")) is not None for f in schema)


def _kind(type_: pa.DataType, declared: str) -> str | None:
    base = declared.split("(")[0]
    if pa.types.is_string(type_):
        return "text" if base in ("text", "character varying") else None
    if pa.types.is_decimal(type_):
        groups = -(-type_.scale // 4)
        return (
            "numeric"
            if base == "numeric" and type_.precision + 4 * groups - type_.scale <= _MOST_DIGITS
            else None
        )
    fits = {
        "integer": pa.types.is_integer,
        "bigint": pa.types.is_integer,
        "smallint": pa.types.is_integer,
        "double precision": pa.types.is_floating,
        "boolean": pa.types.is_boolean,
        "date": pa.types.is_date,
        "timestamp without time zone": pa.types.is_timestamp,
        "time without time zone": pa.types.is_time,
    }
    return base if base in fits and fits[base](type_) else None


def binary(batch: pa.RecordBatch, declared: Sequence[str]) -> pa.Buffer:
    """The rows of a batch, without head and end."""
    rows = batch.num_rows
    head = np.frombuffer(np.int16(batch.num_columns).byteswap().tobytes(), np.uint8)
    waiting: list[np.ndarray] = [np.broadcast_to(head, (rows, 2))]
    pieces: list[pa.Array] = []
    for column, type_ in zip(batch.columns, declared, strict=True):
        kind = _kind(column.type, type_)
        assert kind is not None
        if kind == "text":
            payload = pc.fill_null(pc.cast(column, pa.binary()), b"")
            lengths = pc.binary_length(payload).to_numpy().astype(np.int32)
        else:
            fixed = _numeric(column.type) if kind == "numeric" else _NUMBERS[kind]
            data = fixed.bytes_of(_numbers(column, kind))
            lengths = np.full(rows, fixed.width, np.int32)
            if not column.null_count:
                waiting += [_lengths(lengths), data]
                continue
            there = column.is_valid().to_numpy(zero_copy_only=False)
            offsets = np.concatenate([[0], np.cumsum(there * fixed.width)]).astype(np.int32)
            payload = _array(offsets, data[there])
        if column.null_count:
            lengths[column.is_null().to_numpy(zero_copy_only=False)] = -1
        waiting.append(_lengths(lengths))
        pieces += [_joined(waiting), payload]
        waiting = []
    if waiting:
        pieces.append(_joined(waiting))
    whole = pieces[0] if len(pieces) == 1 else pc.binary_join_element_wise(*pieces, b"")
    offsets = np.frombuffer(whole.buffers()[1], np.int32)[whole.offset : whole.offset + rows + 1]
    return whole.buffers()[2].slice(int(offsets[0]), int(offsets[-1] - offsets[0]))


def _lengths(lengths: np.ndarray) -> np.ndarray:
    return lengths.astype(">i4").view(np.uint8).reshape(len(lengths), 4)


def _joined(parts: Sequence[np.ndarray]) -> pa.Array:
    """Pieces of one width as the beginning, middle or end of rows."""
    data = np.ascontiguousarray(np.concatenate(parts, axis=1))
    return _array(np.arange(len(data) + 1, dtype=np.int32) * np.int32(data.shape[1]), data)


def _array(offsets: np.ndarray, data: np.ndarray) -> pa.Array:
    return pa.Array.from_buffers(
        pa.binary(),
        len(offsets) - 1,
        [None, pa.py_buffer(offsets.astype(np.int32)), pa.py_buffer(np.ascontiguousarray(data))],
    )


def _numbers(column: pa.Array, kind: str) -> np.ndarray:
    """Values as the numbers that are sent; 0 for a blank."""
    if kind == "numeric":  # 16 bytes each, of which the lower 8 hold the whole number
        whole = np.frombuffer(column.buffers()[1], np.int64).reshape(-1, 2)
        return whole[column.offset : column.offset + len(column), 0]
    if kind == "date":
        return _filled(column.view(pa.int32())) - _EPOCH_DAYS
    if kind == "timestamp without time zone":
        return (_filled(column.view(pa.int64())) - _EPOCH_DAYS * 86_400) * 1_000_000
    if kind == "time without time zone":
        return _filled(column.view(pa.int32())).astype(np.int64) * 1_000_000
    return _filled(column)


def _filled(column: pa.Array) -> np.ndarray:
    zero = False if pa.types.is_boolean(column.type) else 0
    out: np.ndarray = (pc.fill_null(column, zero) if column.null_count else column).to_numpy(
        zero_copy_only=False
    )
    return out


def _numeric(type_: pa.Decimal128Type) -> _Fixed:
    """Decimals as groups of four digits to both sides of the point."""
    before, after = max(1, -(-(type_.precision - type_.scale) // 4)), -(-type_.scale // 4)
    groups = before + after

    def bytes_of(values: np.ndarray) -> np.ndarray:
        out = np.empty((len(values), 4 + groups), ">i2")
        out[:, 0], out[:, 1], out[:, 3] = groups, before - 1, type_.scale
        out[:, 2] = np.where(values < 0, 0x4000, 0)
        left = np.abs(values) * 10 ** (4 * after - type_.scale)
        for k in range(groups - 1, -1, -1):
            left, out[:, 4 + k] = np.divmod(left, 10_000)
        return out.view(np.uint8).reshape(len(values), 8 + 2 * groups)

    return _Fixed(8 + 2 * groups, bytes_of)
