"""The databases that tests build in: an SQLite file, a schema on PostgreSQL, a database on MariaDB.
The same tests run on each."""

from __future__ import annotations

import contextlib
import os
import signal
import sqlite3
import subprocess
import sys
import time
import uuid
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest

ENGINES = ("SQLite", "PostgreSQL", "MariaDB")
SERVERS_ONLY = pytest.mark.parametrize("db", ["PostgreSQL", "MariaDB"], indirect=True)
"""Runs a test on the servers."""
SERVERS = {
    "PostgreSQL": "postgresql://postgres@127.0.0.1/test",
    "MariaDB": "mysql://root@127.0.0.1/",
}


class Rows(list[Any]):
    """What a query gave; where it asks for no order, any order is the same."""

    ordered = False

    def __eq__(self, other: object) -> bool:
        if self.ordered or not isinstance(other, list):
            return list.__eq__(self, other)  # type: ignore[arg-type]
        return sorted(map(repr, self)) == sorted(map(repr, other))

    __hash__ = None  # type: ignore[assignment]


@dataclass
class Target:
    """A place for a database, and a way to ask it that is not Kerfmark's."""

    engine: str
    url: str
    shown: str
    connection_to: Any

    def __str__(self) -> str:
        return self.url

    @property
    def is_file(self) -> bool:
        """Whether it is an SQLite file."""
        return self.engine == "SQLite"

    @contextlib.contextmanager
    def _cursor(self) -> Iterator[Any]:
        connection = self.connection_to()
        try:
            cursor = connection.cursor()
            yield cursor
            connection.commit()
        finally:
            connection.close()

    def do(self, *statements: str) -> None:
        """Changes something by hand."""
        with self._cursor() as cursor:
            for statement in statements:
                cursor.execute(statement)

    def ask(self, sql: str) -> Rows:
        """The rows of a query, plain values; single ones by themselves."""
        return self.ask_all([sql])[0]

    def ask_all(self, queries: Sequence[str]) -> list[Rows]:
        """The rows of several queries, over one connection."""
        out = []
        with self._cursor() as cursor:
            if self.is_file:
                assert cursor.execute("PRAGMA foreign_key_check").fetchall() == []
            for sql in queries:
                cursor.execute(sql)
                out.append(
                    Rows(
                        [
                            _plain(r[0]) if len(r) == 1 else tuple(map(_plain, r))
                            for r in cursor.fetchall()
                        ]
                    )
                )
                out[-1].ordered = "ORDER BY" in sql
        return out

    def tables(self) -> list[str]:
        """All tables, Kerfmark's own too."""
        return sorted(
            self.ask(
                {
                    "SQLite": "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite%'",
                    "PostgreSQL": "SELECT table_name::text FROM information_schema.tables WHERE table_schema = current_schema() "
                    "AND table_type = 'BASE TABLE'",
                    "MariaDB": "SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE() "
                    "AND table_type = 'BASE TABLE'",
                }[self.engine]
            )
        )

    def dump(self) -> dict[str, list[Any]]:
        """All rows of all tables that are not Kerfmark's own, and what is live in its ledger."""
        out = {
            n: sorted(self.ask(f'SELECT * FROM "{n}"'), key=repr)
            for n in self.tables()
            if not n.startswith("kerfmark")
        }
        return out | {
            "loads": list(
                self.ask(
                    "SELECT load_id FROM kerfmark_loads WHERE undone_at IS NULL ORDER BY load_id"
                )
            )
        }

    def type_of(self, table: str, column: str) -> str:
        """How a column is declared."""
        if self.is_file:
            return str(
                self.ask(f"SELECT type FROM pragma_table_info('{table}') WHERE name = '{column}'")[
                    0
                ]
            ).lower()
        [(type_, width)] = self.ask(
            "SELECT data_type, character_maximum_length FROM information_schema.columns "
            f"WHERE table_name = '{table}' AND column_name = '{column}' AND table_schema = "
            f"{'DATABASE()' if self.engine == 'MariaDB' else 'current_schema()'}"
        )
        return f"{type_}({width})" if width else str(type_)


def _plain(value: Any) -> Any:
    if isinstance(value, Decimal):
        return float(value)
    return value if value is None or isinstance(value, int | float | str) else str(value)


@contextlib.contextmanager
def target(engine: str, folder: Path) -> Iterator[Target]:
    """A fresh place for a database, taken away afterwards. Skips the test where no server answers,
    unless it must."""
    if engine == "SQLite":
        yield Target(engine, "v.db", "v.db", lambda: sqlite3.connect(folder / "v.db"))
        return
    name = f"kt_{uuid.uuid4().hex[:12]}"
    try:
        made = _schema(name) if engine == "PostgreSQL" else _database(name)
    except Exception as error:
        if os.environ.get("KERFMARK_TEST_SERVERS") == "required":
            raise
        pytest.skip(f"no {engine} server answers here: {error}")
    with made as one:
        yield one


@contextlib.contextmanager
def _schema(name: str) -> Iterator[Target]:
    import psycopg

    def connected() -> Any:
        return psycopg.connect(SERVERS["PostgreSQL"], options=f"-c search_path={name}")

    connected().close()
    url = f"{SERVERS['PostgreSQL']}?schema={name}"
    try:
        yield Target("PostgreSQL", url, url, connected)
    finally:
        with connected() as connection:
            connection.execute(f"DROP SCHEMA IF EXISTS {name} CASCADE")


@contextlib.contextmanager
def _database(name: str) -> Iterator[Target]:
    import pymysql

    def connected(database: str | None = name) -> Any:
        return pymysql.connect(
            host="127.0.0.1",
            user="root",
            database=database,
            charset="utf8mb4",
            sql_mode="ANSI_QUOTES",
        )

    with connected(None) as connection:
        connection.cursor().execute(f"CREATE DATABASE {name}")
    url = f"{SERVERS['MariaDB']}{name}"
    try:
        yield Target("MariaDB", url, url, connected)
    finally:
        with connected(None) as connection:
            connection.cursor().execute(f"DROP DATABASE IF EXISTS {name}")


def run_and_kill(
    target: Target, arguments: Sequence[str], folder: Path, after: float, from_change: float
) -> None:
    """Runs the program in a folder and kills it, `after` seconds from its start; on MariaDB, where
    changes of the structure can be seen from outside, `from_change` seconds from the first one."""
    process = subprocess.Popen(
        [sys.executable, "-m", "kerfmark", *arguments],
        cwd=folder,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    if target.engine == "MariaDB":
        until = time.perf_counter() + 20
        while process.poll() is None and time.perf_counter() < until:
            if target.ask("SHOW TABLES LIKE 'kerfmark\\_part\\_%'"):
                break
        time.sleep(from_change)
    else:
        time.sleep(after)
    process.send_signal(signal.SIGKILL)
    process.wait()
