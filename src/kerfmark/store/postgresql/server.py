"""PostgreSQL: a server and how it is reached, and what its refusals mean."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from kerfmark.address import Address, postgresql_arguments
from kerfmark.errors import Origin, TargetError
from kerfmark.store import refused
from kerfmark.store.database import PATIENCE, quote
from kerfmark.store.server import Server

if TYPE_CHECKING:
    from kerfmark.layout.model import Layout
    from kerfmark.store.postgresql.changing import PostgresChanging
    from kerfmark.store.postgresql.new import NewSchema
    from kerfmark.store.postgresql.speech import PostgresReader

_STATES = {
    "28P01": refused.PASSWORD, "28000": refused.PASSWORD, "3D000": refused.NO_DATABASE, "42501": refused.RIGHTS,
    "53300": refused.FULL, "53100": refused.DISK, "57P01": refused.LOST, "57P02": refused.LOST, "57P03": refused.UNREACHABLE,
    "55P03": refused.LOCKED, "40P01": refused.DEADLOCK, "40001": refused.DEADLOCK, "42P07": refused.EXISTS,
    "54011": refused.TOO_WIDE,
    "54000": refused.KEY_TOO_LONG, "08": refused.LOST, "23": refused.REFUSED, "22": refused.REFUSED, "P0": refused.REFUSED,
}
_WORDS = {
    "no pg_hba.conf entry": refused.NOT_ADMITTED, "pg_hba.conf rejects": refused.NOT_ADMITTED,
    "password authentication failed": refused.PASSWORD, "no password supplied": refused.PASSWORD,
    "too many clients": refused.FULL, "too many connections": refused.FULL, "remaining connection slots": refused.FULL,
    "ssl": refused.TLS, "does not exist": refused.NO_DATABASE, "server closed the connection": refused.LOST,
    "connection is closed": refused.LOST, "terminating connection": refused.LOST, "consuming input failed": refused.LOST,
    "connection is lost": refused.LOST, "connection": refused.UNREACHABLE, "resolve host": refused.UNREACHABLE,
    "translate host": refused.UNREACHABLE, "timeout": refused.UNREACHABLE, "name or service": refused.UNREACHABLE,
}


def translated(name: str) -> contextlib.AbstractContextManager[None]:
    """Turns the driver's errors into ours."""
    import psycopg

    return refused.in_our_words(name, psycopg.Error, _STATES, lambda e: getattr(e, "sqlstate", None), _WORDS)


def connected(where: Address) -> Any:
    """A connection, in a transaction of its own as soon as something is asked. Raises TargetError when there is none."""
    try:
        import psycopg
    except ImportError as error:
        raise TargetError("there is no way to a PostgreSQL server yet", code="target.driver", why=str(error),
                          next="pip install 'kerfmark[postgresql]' brings the driver") from error
    with translated(where.shown):
        connection = psycopg.connect(**postgresql_arguments(where))  # type: ignore[arg-type]
        connection.prepare_threshold = None
        for setting in ("client_encoding TO 'UTF8'", "datestyle TO 'ISO, YMD'", "intervalstyle TO 'iso_8601'",
                        "standard_conforming_strings TO on", "extra_float_digits TO 1", f"lock_timeout TO '{PATIENCE}s'",
                        *([f"search_path TO {quote(where.schema)}"] if where.schema else [])):
            connection.execute(f"SET {setting}")
        connection.commit()
    return connection


class PostgresServer(Server):
    """A database, or a schema of it, on a PostgreSQL server (see `database.Database`)."""

    def new(self, replace: bool) -> NewSchema:
        """Tables to build."""
        from kerfmark.store.postgresql.new import NewSchema

        return NewSchema(self.where, replace)

    @contextlib.contextmanager
    def reading(self) -> Iterator[PostgresReader]:
        """Looks into it, as it is at one moment."""
        from kerfmark.store.postgresql.speech import PostgresReader

        connection = connected(self.where)
        try:
            with translated(self.name):
                connection.execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ READ ONLY")
                reader = PostgresReader(self.name, connection)
                if not reader.ask("SELECT current_schema()")[0][0]:
                    raise TargetError("there is no such schema in the database", code="target.missing", origin=Origin(self.name),
                                      next="check the name after --schema")
                yield reader
        finally:
            connection.close()

    def changing(self, adopt: Layout | None = None) -> PostgresChanging:
        """Opens it."""
        from kerfmark.store.postgresql.changing import PostgresChanging

        return PostgresChanging(self.where, adopt)
