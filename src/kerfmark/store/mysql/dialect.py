"""MySQL and MariaDB: how their SQL is written, and values as they take them."""

from __future__ import annotations

import functools
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.profile.types import ColumnType
from kerfmark.store.ledger_schema import LedgerTypes
from kerfmark.store.sql_dialect import SqlDialect, standard_type
from kerfmark.store.tab_separated import spell_values

LONGEST_NAME = 64
"""Bytes of a name."""
_KEY_CHARACTERS = 768
"""Characters that an index takes."""
_WIDEST = 16_383
"""Characters of a text that is kept within its row."""


def collation(mariadb: bool) -> str:
    """The one under which texts are equal only when they are the same, to the last space."""
    return "utf8mb4_nopad_bin" if mariadb else "utf8mb4_0900_bin"


def table_options(mariadb: bool) -> Mapping[str, str]:
    """What tables are made with, in SQLAlchemy's words."""
    return {
        "mysql_engine": "InnoDB",
        "mysql_charset": "utf8mb4",
        "mysql_collate": collation(mariadb),
    }


def options_text(mariadb: bool) -> str:
    """The same at the end of CREATE TABLE."""
    return f" ENGINE InnoDB COLLATE {collation(mariadb)}"


def ledger_types(mariadb: bool) -> LedgerTypes:
    """The types of the ledger."""
    return LedgerTypes(
        text="longtext",
        any="longtext",
        moment="datetime",
        yes_no="smallint",
        sequence="sequence bigint AUTO_INCREMENT PRIMARY KEY, ",
        options=options_text(mariadb),
    )


def type_of(type_: ColumnType) -> Any:
    """The type of a column as these engines declare it."""
    from sqlalchemy import BigInteger, String
    from sqlalchemy.dialects.mysql import LONGTEXT

    if type_.kind == "integer":
        return BigInteger()
    if type_.kind == "text" and not 0 < type_.width <= _WIDEST:
        return LONGTEXT()
    if type_.kind == "decimal" and type_.scale > 30:
        return String(type_.precision + 2)
    return standard_type(type_)


def keyed_type_of(type_: ColumnType, among: int) -> Any:
    """The type of a column that is one of so many in a key or index: these take no texts of any
    length."""
    from sqlalchemy import String

    if type_.kind != "text":
        return type_of(type_)
    most = _KEY_CHARACTERS // among
    return String(min(type_.width or most, most))


def string_agg(value: str, separator: str, order: str, rows: str) -> str:
    """The texts of an expression joined."""
    return f"(SELECT GROUP_CONCAT({value} {order} SEPARATOR {separator}) {rows})"


@functools.cache
def dialect(mariadb: bool = True) -> SqlDialect:
    """How the SQL of MariaDB, or of MySQL, is written."""
    from sqlalchemy.dialects import mysql

    named = mysql.dialect(paramstyle="named")  # else % is doubled in names
    plain = SqlDialect(
        named,
        string_agg,
        type_of,
        keyed_type_of,
        links_later=True,
        longest_name=LONGEST_NAME,
        in_code_points="CAST({} AS BINARY)",
    )
    return replace(plain, table_options=table_options(mariadb))


def to_engine(values: pa.Array) -> pa.Array:
    """Typed values as these engines take them."""
    return pc.cast(values, pa.int64()) if pa.types.is_boolean(values.type) else spell_values(values)
