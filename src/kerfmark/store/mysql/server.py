"""MySQL and MariaDB: a server and how it is reached, and what its refusals mean."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from kerfmark.address import Address, mysql_arguments
from kerfmark.errors import TargetError
from kerfmark.store import refused
from kerfmark.store.database import PATIENCE
from kerfmark.store.server import Server

if TYPE_CHECKING:
    from kerfmark.layout.model import Layout
    from kerfmark.store.mysql.changing import MysqlChanging
    from kerfmark.store.mysql.new import NewTables
    from kerfmark.store.mysql.speech import MysqlReader

_CODES = {
    1045: refused.PASSWORD, 1698: refused.PASSWORD, 1049: refused.NO_DATABASE, 1044: refused.RIGHTS, 1142: refused.RIGHTS,
    1143: refused.RIGHTS, 1227: refused.RIGHTS, 1370: refused.RIGHTS, 1040: refused.FULL, 1203: refused.FULL, 1226: refused.FULL,
    1130: refused.NOT_ADMITTED, 1129: refused.NOT_ADMITTED, 3159: refused.TLS, 2026: refused.TLS, 4151: refused.NOT_ADMITTED,
    2003: refused.UNREACHABLE, 2005: refused.UNREACHABLE, 2006: refused.LOST, 2013: refused.LOST, 2055: refused.LOST,
    0: refused.LOST, 1053: refused.LOST, 1927: refused.LOST,
    1205: refused.LOCKED, 1213: refused.DEADLOCK, 1114: refused.DISK, 1021: refused.DISK,
    1050: refused.EXISTS, 1118: refused.TOO_WIDE, 1117: refused.TOO_WIDE, 1071: refused.TOO_WIDE,
    **dict.fromkeys((1048, 1062, 1264, 1265, 1292, 1364, 1366, 1406, 1451, 1452, 1644, 3819, 4025), refused.REFUSED),
}
TLS_DEMANDED = (3159, 1045)
"""What a server says that wants an encrypted connection; the second may also mean that the password is wrong."""
MODE = "ANSI_QUOTES,PIPES_AS_CONCAT,NO_BACKSLASH_ESCAPES,STRICT_ALL_TABLES,ERROR_FOR_DIVISION_BY_ZERO,NO_ENGINE_SUBSTITUTION"
"""How our own connections understand SQL, whatever is usual on the server."""


def code_of(error: Exception) -> int | None:
    """The number that the server or the driver gave an error."""
    first = error.args[0] if error.args else None
    return first if isinstance(first, int) else None


def translated(name: str) -> contextlib.AbstractContextManager[None]:
    """Turns the driver's errors into ours."""
    import pymysql

    return refused.in_our_words(name, pymysql.Error, _CODES, code_of, {"tls": refused.TLS, "ssl": refused.TLS})


def connected(where: Address, *, only_reading: bool = False) -> Any:
    """A connection; nothing commits by itself but changes of the structure. Raises TargetError when there is none.

    A connection that may load files gives the server whatever file it asks for, so one that is `only_reading` may not.
    """
    try:
        import pymysql
    except ImportError as error:
        raise TargetError("there is no way to a MySQL or MariaDB server yet", code="target.driver", why=str(error),
                          next="pip install 'kerfmark[mysql]' brings the driver") from error
    from pymysql.constants import CLIENT, FIELD_TYPE
    from pymysql.converters import conversions

    as_said = dict.fromkeys((FIELD_TYPE.DATE, FIELD_TYPE.NEWDATE, FIELD_TYPE.DATETIME, FIELD_TYPE.TIMESTAMP, FIELD_TYPE.TIME), str)
    arguments: dict[str, Any] = mysql_arguments(where) | {
        "autocommit": False, "local_infile": not only_reading, "conv": conversions | as_said, "connect_timeout": 10,
        "client_flag": CLIENT.FOUND_ROWS}
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
            cursor.execute(f"SET SESSION sql_mode = '{MODE}', SESSION innodb_lock_wait_timeout = {PATIENCE}, "
                           f"SESSION lock_wait_timeout = {PATIENCE}, SESSION group_concat_max_len = 4294967295, "
                           "SESSION character_set_results = utf8mb4")
    return connection


class MysqlServer(Server):
    """A database on a MySQL or MariaDB server (see `database.Database`)."""

    def new(self, replace: bool) -> NewTables:
        """Tables to build."""
        from kerfmark.store.mysql.new import NewTables

        return NewTables(self.where, replace)

    @contextlib.contextmanager
    def reading(self) -> Iterator[MysqlReader]:
        """Looks into it, as it is at one moment."""
        from kerfmark.store.mysql.new import completed
        from kerfmark.store.mysql.speech import MysqlReader

        connection = connected(self.where, only_reading=True)
        try:
            reader = MysqlReader(self.name, connection)
            with contextlib.suppress(TargetError):      # whoever may only read leaves it as it is
                completed(reader)
            reader.execute("START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY")
            yield reader
        finally:
            with contextlib.suppress(Exception):
                connection.close()

    def changing(self, adopt: Layout | None = None) -> MysqlChanging:
        """Opens it."""
        from kerfmark.store.mysql.changing import MysqlChanging

        return MysqlChanging(self.where, adopt)
