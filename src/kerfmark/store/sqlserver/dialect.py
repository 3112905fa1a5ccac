"""SQL Server: how its SQL and its scripts are written."""

from __future__ import annotations

import functools
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.profile.types import ColumnType
from kerfmark.store.script_style import ScriptStyle, pieced_texts
from kerfmark.store.sql_dialect import SqlDialect, standard_type

_WIDEST = 4000
"""Characters of a text with a declared width."""
_KEY_CHARACTERS = 800
"""Characters that an index takes."""
_COLLATION = "Latin1_General_100_BIN2"
"""The collation of keys: H1 and h1 are two."""
_LITERAL = 2000
"""Characters of a literal; longer texts are joined as texts of any length."""


def type_of(type_: ColumnType) -> Any:
    """The type of a column as SQL Server declares it."""
    from sqlalchemy import DATE, BigInteger, Unicode
    from sqlalchemy.dialects import mssql

    if type_.kind == "text":
        return Unicode(type_.width) if 0 < type_.width <= _WIDEST else mssql.NVARCHAR(None)
    if type_.kind == "timestamp":
        return mssql.DATETIME2(precision=0)  # type: ignore[no-untyped-call]
    if type_.kind == "time":
        return mssql.TIME(precision=0)  # type: ignore[no-untyped-call]
    if type_.kind == "date":  # the library's own Date is a moment to older servers
        return DATE()
    return BigInteger() if type_.kind == "integer" else standard_type(type_)


def keyed_type_of(type_: ColumnType, among: int) -> Any:
    """The type of a column that is one of so many in a key or index."""
    from sqlalchemy import Unicode

    most = _KEY_CHARACTERS // among
    return (
        Unicode(min(type_.width or _KEY_CHARACTERS, most), collation=_COLLATION)
        if type_.kind == "text"
        else type_of(type_)
    )


def string_agg(value: str, separator: str, order: str, rows: str) -> str:
    """The texts of an expression joined."""
    return (
        f"(SELECT STRING_AGG(CAST({value} AS nvarchar(max)), {separator}) WITHIN GROUP "
        f"({order}) {rows})"
    )


@functools.cache
def dialect() -> SqlDialect:
    """How SQL Server's SQL is written."""
    from sqlalchemy.dialects import mssql

    of_library = mssql.dialect()  # type: ignore[no-untyped-call]
    return SqlDialect(
        of_library, string_agg, type_of, keyed_type_of, links_later=True, longest_name=120
    )


def texts(values: pa.Array) -> pa.Array:
    """Texts as SQL literals: no line of a text is a command of the client, nor `$(X)` a variable of
    it."""
    codes = {"\n": "NCHAR(10)", "\r": "NCHAR(13)", "$(": ""}
    said = pieced_texts(values, "N'", " + ", codes, _LITERAL)
    long = pc.and_(pc.greater(pc.utf8_length(values), _LITERAL), pc.match_substring(said, "' + N"))
    whole = pc.binary_join_element_wise("CAST(N'' AS nvarchar(max)) + ", said, "")
    return pc.if_else(long, whole, said)


def script() -> ScriptStyle:
    """How scripts for its own client are written."""
    return ScriptStyle(
        dialect,
        ("SET XACT_ABORT ON", "BEGIN TRANSACTION"),
        ("COMMIT TRANSACTION",),
        head=":on error exit\n",
        text=texts,
        moment="CAST('{}' AS datetime2(0))",
        date="CAST('{}' AS date)",
        time="CAST('{}' AS time(0))",
        before_rows="SET IDENTITY_INSERT {table} ON",
        after_rows="SET IDENTITY_INSERT {table} OFF",
        stop=";\nGO",
    )
