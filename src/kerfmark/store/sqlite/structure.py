"""SQLite: changes of the structure of a database that is there, inside its transaction."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from sqlalchemy.dialects.sqlite import dialect

from kerfmark.layout.model import Layout
from kerfmark.profile.types import ColumnType
from kerfmark.store.database import literal, quote
from kerfmark.store.sqlite.build import type_of
from kerfmark.store.sqlite.working import OpenFile
from kerfmark.store.views import view, view_name


def add_column(file: OpenFile, table: str, column: str, type_: ColumnType) -> None:
    """Gives a table a column more, blank in the rows that are there."""
    file.execute(f"ALTER TABLE {quote(table)} ADD COLUMN {quote(column)} {_declared(type_)}")


def redeclare(file: OpenFile, table: str, column: str, type_: ColumnType) -> None:
    """Gives a column a wider type of the same kind. SQLite stores no width, so only the declaration changes."""
    [(sql,)] = file.ask(f"SELECT sql FROM sqlite_master WHERE type = 'table' AND name = {literal(table)}")
    name = "(" + re.escape(quote(column)) + "|" + re.escape(column) + ")"
    changed = re.sub(rf"(?m)^(\s*){name} [A-Z]+(\([0-9, ]+\))?", lambda m: f"{m[1]}{m[2]} {_declared(type_)}", sql, count=1)
    if changed != sql:
        file.execute("PRAGMA writable_schema = ON")
        file.execute("UPDATE sqlite_master SET sql = ? WHERE type = 'table' AND name = ?", [(changed, table)])
        file.execute("PRAGMA writable_schema = RESET")


def refresh_views(file: OpenFile, layout: Layout, headers: Mapping[str, Sequence[str]]) -> None:
    """Makes the views of some sources anew."""
    from kerfmark.layout.derive import settled

    whole = settled(layout, headers)
    for source, names in headers.items():
        file.execute(f"DROP VIEW IF EXISTS {quote(view_name(source))}")
        file.execute(view(whole, source, names, dialect()))


def _declared(type_: ColumnType) -> str:
    return str(type_of(type_).compile(dialect=dialect()))
