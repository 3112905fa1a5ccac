"""PostgreSQL: how its SQL is written, and values as it takes them."""

from __future__ import annotations

import functools
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.profile.types import ColumnType
from kerfmark.store.ledger_schema import LedgerTypes
from kerfmark.store.sql_dialect import SqlDialect, standard_type
from kerfmark.store.tab_separated import spell_values

LONGEST_NAME = 63
"""Bytes of a name."""
LEDGER = LedgerTypes(
    text="text",
    any="text",
    moment="timestamp",
    yes_no="smallint",
    sequence="sequence bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, ",
)


def type_of(type_: ColumnType) -> Any:
    """The type of a column as PostgreSQL declares it."""
    from sqlalchemy import BigInteger

    return BigInteger() if type_.kind == "integer" else standard_type(type_)


def string_agg(value: str, separator: str, order: str, rows: str) -> str:
    """The texts of an expression joined."""
    return f"(SELECT string_agg(CAST({value} AS text), {separator} {order}) {rows})"


@functools.cache
def dialect() -> SqlDialect:
    """How PostgreSQL's SQL is written."""
    from sqlalchemy.dialects import postgresql

    named = postgresql.dialect(paramstyle="named")  # type: ignore[no-untyped-call]  # else % is doubled in names
    return SqlDialect(
        named,
        string_agg,
        type_of,
        identity=True,
        keys_later=True,
        links_later=True,
        longest_name=LONGEST_NAME,
        in_code_points='CAST({} AS text) COLLATE "C"',
    )


def to_engine(values: pa.Array) -> pa.Array:
    """Typed values as PostgreSQL takes them, and gives them as text."""
    return (
        pc.cast(values, pa.string()) if pa.types.is_boolean(values.type) else spell_values(values)
    )
