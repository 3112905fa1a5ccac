"""MySQL and MariaDB: reaching a server, and what its errors mean."""

from __future__ import annotations

import contextlib
import os
from pathlib import Path
from typing import Any

from kerfmark.address import Address
from kerfmark.store import driver_errors as kinds
from kerfmark.store.interface import PATIENCE

_CODES = {
    1045: kinds.PASSWORD,
    1698: kinds.PASSWORD,
    1049: kinds.NO_DATABASE,
    1044: kinds.RIGHTS,
    1142: kinds.RIGHTS,
    1143: kinds.RIGHTS,
    1227: kinds.RIGHTS,
    1370: kinds.RIGHTS,
    1040: kinds.FULL,
    1203: kinds.FULL,
    1226: kinds.FULL,
    1130: kinds.NOT_ADMITTED,
    1129: kinds.NOT_ADMITTED,
    3159: kinds.TLS,
    2026: kinds.TLS,
    4151: kinds.NOT_ADMITTED,
    2003: kinds.UNREACHABLE,
    2005: kinds.UNREACHABLE,
    2006: kinds.LOST,
    2013: kinds.LOST,
    2055: kinds.LOST,
    0: kinds.LOST,
    1053: kinds.LOST,
    1927: kinds.LOST,
    1205: kinds.LOCKED,
    1213: kinds.DEADLOCK,
    1412: kinds.CHANGED,
    1114: kinds.DISK,
    1021: kinds.DISK,
    1050: kinds.EXISTS,
    1118: kinds.TOO_WIDE,
    1117: kinds.TOO_WIDE,
    1071: kinds.TOO_WIDE,
    **dict.fromkeys(
        (1048, 1062, 1264, 1265, 1292, 1364, 1366, 1406, 1451, 1452, 1644, 3819, 4025),
        kinds.REFUSED,
    ),
}
_NOT_CREATED, _TOO_MANY_COLUMNS = 1005, 1117
"""InnoDB says the second by the first."""
TLS_DEMANDED = (3159, 1045)
"""What a server says that wants an encrypted connection; the second may also mean that the password
is wrong."""
MODE = "ANSI_QUOTES,PIPES_AS_CONCAT,NO_BACKSLASH_ESCAPES,STRICT_ALL_TABLES,ERROR_FOR_DIVISION_BY_ZERO,NO_ENGINE_SUBSTITUTION"  # noqa: E501
"""How our own connections understand SQL, whatever is usual on the server."""


LONGEST_LIST = 1 << 30
"""Bytes of a list of values: the most that every server takes (a strict one refuses more)."""


def code_of(error: Exception) -> int | None:
    """The number that the server or the driver gave an error."""
    first = error.args[0] if error.args else None
    if first == _NOT_CREATED and '"Too many columns"' in str(error):
        return _TOO_MANY_COLUMNS
    return first if isinstance(first, int) else None


def translated(name: str) -> contextlib.AbstractContextManager[None]:
    """Turns the driver's errors into ours."""
    import pymysql

    return kinds.in_our_words(
        name, pymysql.Error, _CODES, code_of, {"tls": kinds.TLS, "ssl": kinds.TLS}
    )


_YES_OR_NO = ("ssl_verify_cert", "ssl_verify_identity", "ssl_disabled")
_NO = {"false": False, "no": False, "0": False, "off": False}


def arguments_of(to: Address) -> dict[str, object]:
    """What the driver takes."""
    out: dict[str, object] = {
        "host": to.host,
        "port": to.port,
        "database": to.database,
        "charset": "utf8mb4",
        "password": (to.password or os.environ.get("MYSQL_PWD", "")).encode(),
    }
    if to.user:
        out["user"] = to.user
    own = Path.home() / ".my.cnf"
    if not out["password"] and own.is_file():
        out["read_default_file"] = str(own)
        del out["password"]
    return out | {k: _NO.get(v.lower(), v) if k in _YES_OR_NO else v for k, v in to.options}


def connected(where: Address, *, only_reading: bool = False) -> Any:
    """A connection; nothing commits by itself but changes of the structure. Raises TargetError when
    there is none.

    A connection that may load files gives the server whatever file it asks for, so one that is
    `only_reading` may not.
    """
    try:
        import pymysql
    except ImportError as error:
        raise kinds.no_driver("MySQL and MariaDB", "mysql", error) from error
    from pymysql.constants import CLIENT, FIELD_TYPE
    from pymysql.converters import conversions

    as_said = dict.fromkeys(
        (
            FIELD_TYPE.DATE,
            FIELD_TYPE.NEWDATE,
            FIELD_TYPE.DATETIME,
            FIELD_TYPE.TIMESTAMP,
            FIELD_TYPE.TIME,
        ),
        str,
    )
    arguments: dict[str, Any] = arguments_of(where) | {
        "autocommit": False,
        "local_infile": not only_reading,
        "conv": conversions | as_said,
        "connect_timeout": 10,
        "client_flag": CLIENT.FOUND_ROWS,
    }
    with translated(where.shown):
        try:
            connection = pymysql.connect(**arguments)
        except pymysql.Error as error:
            if code_of(error) not in TLS_DEMANDED or any(k.startswith("ssl") for k in arguments):
                raise
            try:
                connection = pymysql.connect(**arguments, ssl={"check_hostname": False})
            except pymysql.Error:
                raise error from None
        with connection.cursor() as cursor:
            cursor.execute(f"SET SESSION sql_mode = '{MODE}'")  # first: others judge what follows
            cursor.execute(
                f"SET SESSION innodb_lock_wait_timeout = {PATIENCE}, "
                f"SESSION lock_wait_timeout = {PATIENCE}, "
                f"SESSION group_concat_max_len = {LONGEST_LIST}, "
                "SESSION character_set_results = utf8mb4"
            )
    return connection
