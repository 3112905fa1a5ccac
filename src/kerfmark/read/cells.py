"""Cells that come as Python objects (from workbooks and databases), turned into the texts that a
person reads."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

BLANK = ""
_TOLD = {float: pa.float64(), int: pa.int64(), dt.date: pa.date32()}
"""Python types whose values Arrow spells as `spell` does."""


def texts(cells: Sequence[Any], kinds: set[type] | None = None) -> pa.StringArray:
    """A column of cells as texts, blank cells (None and "") null. `kinds` are the types of the
    cells, where they are known."""
    kinds = set(map(type, cells)) if kinds is None else kinds
    if kinds == {str}:
        plain = pa.array(cells, pa.string())
        return (
            pc.if_else(pc.equal(plain, ""), pa.scalar(None, pa.string()), plain)
            if BLANK in cells
            else plain
        )
    with_blanks = str in kinds
    kinds = kinds - {str, type(None)}
    told = _TOLD.get(next(iter(kinds))) if len(kinds) == 1 else None
    if told is not None:
        try:
            typed = pa.array(
                [None if c is BLANK else c for c in cells] if with_blanks else cells, told
            )
        except (pa.ArrowInvalid, pa.ArrowTypeError):  # words among them, or numbers too long
            pass
        else:
            distinct = (
                typed.dictionary_encode()
            )  # a number is spelled once, however often it occurs
            spelled = pc.cast(distinct.dictionary, pa.string())
            spelled = pc.replace_substring_regex(spelled, r"^-0(\.0)?$", "0")
            if told != pa.float64():
                return spelled.take(distinct.indices)
            if not pc.any(pc.match_substring(spelled, "e")).as_py():
                return pc.replace_substring_regex(spelled, r"\.0$", "").take(distinct.indices)
    known: dict[
        tuple[type, Any], str | None
    ] = {}  # 1, 1.0 and True are the same key, but not the same text
    for cell in set(zip(map(type, cells), cells, strict=True)):
        known[cell] = spell_cell(cell[1])
    return pa.array(
        [known[cell] for cell in zip(map(type, cells), cells, strict=True)], pa.string()
    )


def bytes_of(texts: pa.StringArray) -> tuple[np.ndarray, np.ndarray]:
    """Where in a buffer each text begins and the last one ends (int32), and all their bytes, one
    after the other."""
    _, offsets, data = texts.buffers()
    at = np.frombuffer(offsets, np.int32)[texts.offset : texts.offset + len(texts) + 1]
    return at, np.frombuffer(data or b"", np.uint8)[at[0] : at[-1]]


def spell_cell(cell: Any) -> str | None:
    """A cell as a person reads it; None when it is blank."""
    if cell is None or isinstance(cell, str):
        return cell or None
    if isinstance(cell, bool):
        return "TRUE" if cell else "FALSE"
    if isinstance(cell, float):
        return str(int(cell)) if cell.is_integer() and abs(cell) < 1e15 else _digits(cell)
    if isinstance(cell, dt.datetime):
        return cell.strftime("%Y-%m-%d %H:%M:%S") + _fraction(cell.microsecond)
    if isinstance(cell, dt.date):
        return cell.isoformat()
    if isinstance(cell, dt.time):
        return cell.strftime("%H:%M:%S") + _fraction(cell.microsecond)
    if isinstance(cell, dt.timedelta):
        return _duration(cell)
    if isinstance(cell, Decimal):
        return f"{cell:f}"
    if isinstance(cell, bytes | memoryview):
        return bytes(cell).hex()
    return str(cell)


def _fraction(microseconds: int) -> str:
    """The part of a second, without zeros at its end."""
    return f".{microseconds:06}".rstrip("0") if microseconds else ""


def _duration(time: dt.timedelta) -> str:
    """Hours (as many as there are), minutes and seconds."""
    sign, time = ("-", -time) if time < dt.timedelta() else ("", time)
    minutes, seconds = divmod(time.days * 86_400 + time.seconds, 60)
    return f"{sign}{minutes // 60}:{minutes % 60:02}:{seconds:02}{_fraction(time.microseconds)}"


def _digits(number: float) -> str:
    """The shortest digits that are exactly this number, without an exponent."""
    return f"{Decimal(repr(number)):f}"


def decimal_texts(values: pa.Array) -> pa.StringArray:
    """Decimals with all their places."""
    texts = pc.cast(values, pa.string())
    if pc.any(pc.match_substring(texts, "E")).as_py():  # Arrow says 0E-8 for 0.00000000
        return pa.array(
            [None if t is None else format(Decimal(t), "f") for t in texts.to_pylist()], pa.string()
        )
    return texts
