"""MySQL and MariaDB: databases on a server. Their connections are the same; their collations
differ."""

from __future__ import annotations

import functools
from typing import TYPE_CHECKING, Any

from kerfmark.engines import Engine, SourceConnection

if TYPE_CHECKING:
    from kerfmark.address import Address
    from kerfmark.store.interface import Database
    from kerfmark.store.script_style import ScriptStyle


def _database(where: Address) -> Database:
    from kerfmark.store.mysql.database import MysqlServer

    return MysqlServer(where)


def _source(where: Address) -> SourceConnection:
    import pymysql

    from kerfmark.store.mysql.connection import arguments_of

    how: dict[str, Any] = arguments_of(where)
    return SourceConnection("mysql+pymysql://", {"creator": lambda: pymysql.connect(**how)})


def _script(mariadb: bool) -> ScriptStyle:
    from kerfmark.store.mysql.dialect import dialect, ledger_types
    from kerfmark.store.mysql.script import escaped_texts
    from kerfmark.store.script_style import ScriptStyle

    return ScriptStyle(
        functools.partial(dialect, mariadb),
        (
            "SET NAMES utf8mb4",
            "SET sql_mode = 'STRICT_ALL_TABLES,ANSI_QUOTES,NO_ENGINE_SUBSTITUTION'",
            "SET autocommit = 0",
        ),
        ("COMMIT",),
        text=escaped_texts,
        ledger=ledger_types(mariadb),
        row_number="SIGNED",
    )


_FILES = ("ssl_ca", "ssl_cert", "ssl_key", "unix_socket")
SETTINGS = (*_FILES, "ssl_key_password", "ssl_verify_cert", "ssl_verify_identity", "ssl_disabled")
ENGINES = (
    Engine(
        "mariadb",
        "MariaDB",
        order=2,
        schemes=("mariadb",),
        port=3306,
        extra="mysql",
        database=_database,
        source=_source,
        script=functools.partial(_script, True),
        run_script="mariadb {database} < {script}",
        query="mariadb {database} -e {sql}",
        settings=SETTINGS,
        setting_files=_FILES,
    ),
    Engine(
        "mysql",
        "MySQL",
        order=3,
        schemes=("mysql",),
        port=3306,
        extra="mysql",
        database=_database,
        source=_source,
        script=functools.partial(_script, False),
        run_script="mysql {database} < {script}",
        query="mysql {database} -e {sql}",
        settings=SETTINGS,
        setting_files=_FILES,
    ),
)
