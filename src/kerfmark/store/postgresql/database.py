"""PostgreSQL: a database, or a schema of it, on a server."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from kerfmark.errors import Origin, TargetError
from kerfmark.store.postgresql.connection import connected, translated
from kerfmark.store.server import Server

if TYPE_CHECKING:
    from kerfmark.layout.model import Layout
    from kerfmark.store.postgresql.changing import PostgresChanging
    from kerfmark.store.postgresql.new import NewSchema
    from kerfmark.store.postgresql.reader import PostgresReader


class PostgresServer(Server):
    """A database, or a schema of it, on a PostgreSQL server (see `interface.Database`)."""

    def new(self, replace: bool) -> NewSchema:
        """Tables to build."""
        from kerfmark.store.postgresql.new import NewSchema

        return NewSchema(self.where, replace)

    @contextlib.contextmanager
    def reading(self) -> Iterator[PostgresReader]:
        """Looks into it, as it is at one moment."""
        from kerfmark.store.postgresql.reader import PostgresReader

        connection = connected(self.where)
        try:
            with translated(self.name):
                _begin(connection)
                reader = PostgresReader(self.name, connection)
                if not reader.ask("SELECT current_schema()")[0][0]:
                    raise TargetError(
                        "there is no such schema in the database",
                        code="target.missing",
                        origin=Origin(self.name),
                        next="check the name after --schema",
                    )
                yield reader
        finally:
            connection.close()

    def changing(self, adopt: Layout | None = None) -> PostgresChanging:
        """Opens it."""
        from kerfmark.store.postgresql.changing import PostgresChanging

        return PostgresChanging(self.where, adopt)


def _begin(connection: Any) -> None:
    """Begins a transaction that sees one moment. It holds the ledger's lock before that moment is
    chosen, and to its end: a table that another transaction puts in place of the one that is there
    has no rows for who looks at an earlier moment."""
    while True:
        there = connection.execute("SELECT to_regclass('kerfmark_loads') IS NOT NULL").fetchone()
        connection.commit()
        connection.execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ READ ONLY")
        if not there[0]:
            return
        try:
            connection.execute("LOCK TABLE kerfmark_loads IN ACCESS SHARE MODE")
            return
        except Exception as error:
            if getattr(error, "sqlstate", "") != UNDEFINED:
                raise
            connection.rollback()  # it was dropped just now


UNDEFINED = "42P01"
"""What PostgreSQL calls a table that is not there."""
