"""PostgreSQL: reaching a server, and what its errors mean."""

from __future__ import annotations

import contextlib
from typing import Any

from kerfmark.address import Address
from kerfmark.store import driver_errors as kinds
from kerfmark.store.interface import PATIENCE
from kerfmark.store.quoting import quote

_STATES = {
    "28P01": kinds.PASSWORD,
    "28000": kinds.PASSWORD,
    "3D000": kinds.NO_DATABASE,
    "42501": kinds.RIGHTS,
    "53300": kinds.FULL,
    "53100": kinds.DISK,
    "57P01": kinds.LOST,
    "57P02": kinds.LOST,
    "57P03": kinds.UNREACHABLE,
    "55P03": kinds.LOCKED,
    "40P01": kinds.DEADLOCK,
    "40001": kinds.DEADLOCK,
    "42P07": kinds.EXISTS,
    "54011": kinds.TOO_WIDE,
    "54000": kinds.KEY_TOO_LONG,
    "08": kinds.LOST,
    "23": kinds.REFUSED,
    "22": kinds.REFUSED,
    "P0": kinds.REFUSED,
}
_WORDS = {
    "no pg_hba.conf entry": kinds.NOT_ADMITTED,
    "pg_hba.conf rejects": kinds.NOT_ADMITTED,
    "password authentication failed": kinds.PASSWORD,
    "no password supplied": kinds.PASSWORD,
    "too many clients": kinds.FULL,
    "too many connections": kinds.FULL,
    "remaining connection slots": kinds.FULL,
    "ssl": kinds.TLS,
    'role "': kinds.NO_USER,
    "does not exist": kinds.NO_DATABASE,
    "server closed the connection": kinds.LOST,
    "connection is closed": kinds.LOST,
    "terminating connection": kinds.LOST,
    "consuming input failed": kinds.LOST,
    "connection is lost": kinds.LOST,
    "connection": kinds.UNREACHABLE,
    "resolve host": kinds.UNREACHABLE,
    "translate host": kinds.UNREACHABLE,
    "timeout": kinds.UNREACHABLE,
    "name or service": kinds.UNREACHABLE,
}


_WORDS_LATER = {k: kinds.LOST if v is kinds.UNREACHABLE else v for k, v in _WORDS.items()}
"""The same once there was a connection."""


def translated(name: str, *, connecting: bool = False) -> contextlib.AbstractContextManager[None]:
    """Turns the driver's errors into ours."""
    import psycopg

    return kinds.in_our_words(
        name,
        psycopg.Error,
        _STATES,
        lambda e: getattr(e, "sqlstate", None),
        _WORDS if connecting else _WORDS_LATER,
    )


def arguments(to: Address) -> dict[str, object]:
    """What the driver takes; what is not said here, it looks up itself."""
    out: dict[str, object] = {
        "host": to.host,
        "port": to.port,
        "dbname": to.database,
        "connect_timeout": 10,
    }
    if to.user:
        out["user"] = to.user
    if to.password:
        out["password"] = to.password
    return out | dict(to.options)


def connected(where: Address) -> Any:
    """A connection, in a transaction of its own as soon as something is asked. Raises TargetError
    when there is none."""
    try:
        import psycopg
    except ImportError as error:
        raise kinds.no_driver("PostgreSQL", "postgresql", error) from error
    with translated(where.shown, connecting=True):
        connection = psycopg.connect(**arguments(where))  # type: ignore[arg-type]
        connection.prepare_threshold = None
        for setting in (
            "client_encoding TO 'UTF8'",
            "datestyle TO 'ISO, YMD'",
            "intervalstyle TO 'iso_8601'",
            "standard_conforming_strings TO on",
            "extra_float_digits TO 1",
            f"lock_timeout TO '{PATIENCE}s'",
            *([f"search_path TO {quote(where.schema)}"] if where.schema else []),
        ):
            connection.execute(f"SET {setting}")
        connection.commit()
    return connection
