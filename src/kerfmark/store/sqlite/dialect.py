"""SQLite: how its SQL is written, and values as it holds them."""

from __future__ import annotations

import functools
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.profile.convert import decimal_texts
from kerfmark.profile.types import ColumnType
from kerfmark.store.ledger_schema import LedgerTypes
from kerfmark.store.sql_dialect import SqlDialect, standard_type

LARGEST_EXACT = 15
"""Decimal digits that SQLite's numbers keep exactly; longer decimals are stored as text."""
LEDGER = LedgerTypes(text="TEXT", any="", moment="TIMESTAMP", yes_no="BOOLEAN")


def type_of(type_: ColumnType) -> Any:
    """The type of a column as SQLite declares it."""
    from sqlalchemy import BigInteger, Text

    if type_.kind == "decimal" and type_.precision > LARGEST_EXACT:
        return Text()
    return BigInteger() if type_.kind == "integer" else standard_type(type_)


def string_agg(value: str, separator: str, order: str, rows: str) -> str:
    """The texts of an expression joined. A query inside orders them: older SQLite knows no ORDER BY
    in an aggregate."""
    return f"(SELECT group_concat(part, {separator}) FROM (SELECT {value} AS part {rows} {order}))"


@functools.cache
def dialect() -> SqlDialect:
    """How SQLite's SQL is written."""
    from sqlalchemy.dialects import sqlite

    binary = "{} COLLATE BINARY"
    return SqlDialect(sqlite.dialect(), string_agg, type_of, in_code_points=binary)


def to_engine(values: pa.Array) -> pa.Array:
    """Typed values as SQLite holds them: dates and times as ISO text, decimals as numbers, booleans
    as 0 and 1."""
    kind = values.type
    if pa.types.is_boolean(kind):
        return pc.cast(values, pa.int64())
    if pa.types.is_date(kind) or pa.types.is_time(kind):
        return pc.cast(values, pa.string())
    if pa.types.is_timestamp(kind):
        return pc.strftime(values, "%Y-%m-%d %H:%M:%S")
    if pa.types.is_decimal(kind):
        # Arrow's own way to a float would make 0.3 0.30000000000000004
        texts = decimal_texts(values)
        return texts if kind.precision > LARGEST_EXACT else pc.cast(texts, pa.float64())
    return values
