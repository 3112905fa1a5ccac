"""Cells that come as Python objects (from workbooks and databases), turned into the texts that a person reads."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from decimal import Decimal
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc


def texts(cells: Sequence[Any]) -> pa.StringArray:
    """A column of cells as texts, blank cells (None and "") null."""
    kinds = set(map(type, cells))
    if kinds == {str}:
        plain = pa.array(cells, pa.string())
        return pc.if_else(pc.equal(plain, ""), pa.scalar(None, pa.string()), plain) if "" in cells else plain
    if kinds == {float} and all(map(float.is_integer, cells)) and max(map(abs, cells)) < 1e15:
        return pa.array(cells, pa.float64()).cast(pa.int64()).cast(pa.string())
    if kinds == {int} and max(map(abs, cells)) < 1 << 62:
        return pa.array(cells, pa.int64()).cast(pa.string())
    known: dict[tuple[type, Any], str | None] = {}      # 1, 1.0 and True are the same key, but not the same text
    for cell in set(zip(map(type, cells), cells, strict=True)):
        known[cell] = spell(cell[1])
    return pa.array([known[cell] for cell in zip(map(type, cells), cells, strict=True)], pa.string())


def spell(cell: Any) -> str | None:
    """A cell as a person reads it; None when it is blank."""
    if cell is None or isinstance(cell, str):
        return cell or None
    if isinstance(cell, bool):
        return "TRUE" if cell else "FALSE"
    if isinstance(cell, float):
        return str(int(cell)) if cell.is_integer() and abs(cell) < 1e15 else _digits(cell)
    if isinstance(cell, dt.datetime):
        return cell.strftime("%Y-%m-%d %H:%M:%S")
    if isinstance(cell, dt.date):
        return cell.isoformat()
    if isinstance(cell, dt.time):
        return cell.strftime("%H:%M:%S")
    if isinstance(cell, Decimal):
        return f"{cell:f}"
    if isinstance(cell, bytes | memoryview):
        return bytes(cell).hex()
    return str(cell)


def _digits(number: float) -> str:
    """The shortest digits that are exactly this number, without an exponent."""
    return f"{Decimal(repr(number)):f}"
