"""MySQL and MariaDB: one program at a time, and what a killed program had still to do.

Changes of the structure commit by themselves. So what has to follow a step that cannot be taken
back is written down before it, and whoever opens the database next completes it.
"""

from __future__ import annotations

import contextlib
import json
import re
from collections.abc import Sequence

import pyarrow as pa

from kerfmark.address import Address
from kerfmark.errors import Origin, TargetError
from kerfmark.own_tables import PARTS
from kerfmark.store import outcome
from kerfmark.store.interface import PATIENCE
from kerfmark.store.mysql.connection import connected
from kerfmark.store.mysql.dialect import options_text
from kerfmark.store.mysql.reader import MysqlReader
from kerfmark.store.quoting import literal, quote

PART = PARTS
"""How the tables begin that are being built."""
_LOCK = "CONCAT('kerfmark.', LEFT(DATABASE(), 50))"
PENDING = PART + "pending"
"""The table of the statements that are still to be run."""


def lock_database(reader: MysqlReader) -> None:
    """Takes the lock that lets one program at a time change a database, and clears up after one
    that was killed. The lock goes with the connection."""
    if not _locked(reader, PATIENCE):
        raise TargetError(
            "another program is writing to the database",
            code="target.locked",
            origin=Origin(reader.name),
            next="run the command again when it has finished",
        )
    _clear_up(reader)


def _locked(reader: MysqlReader, patience: int) -> bool:
    """Takes the lock, a second time where this connection has it, waiting some seconds at most."""
    return reader.ask(f"SELECT GET_LOCK({_LOCK}, {patience})") == [(1,)]


def write_pending(reader: MysqlReader, statements: Sequence[str]) -> None:
    """Writes down what is to be run once this transaction is committed (see `complete`), or what is
    to be taken back unless it is."""
    reader.execute(
        f"CREATE TABLE {PENDING} (sequence int PRIMARY KEY, statement longtext NOT NULL)"
        f"{options_text(reader.mariadb)}"
    )
    numbers = pa.array(range(len(statements)), pa.int64())
    reader.append(
        PENDING, pa.table({"sequence": numbers, "statement": pa.array(statements, pa.string())})
    )


def complete(reader: MysqlReader) -> None:
    """Completes what a killed program had still to do after it had named its tables, or takes back
    what it had only begun."""
    if reader.facts(PENDING) is None or not _locked(reader, 0):  # a program is at work
        return
    _clear_up(reader)
    reader.ask(f"SELECT RELEASE_LOCK({_LOCK})")


def _clear_up(reader: MysqlReader) -> None:
    """Completes or takes back what a killed program has begun, and drops what it has built and not
    named. The database is locked."""
    left = parts(reader)
    if PENDING in left and not any(re.fullmatch(PART + r"\d+", p) for p in left):
        for (statement,) in reader.ask(f"SELECT statement FROM {PENDING} ORDER BY sequence"):
            run_pending(reader, statement)
        reader.execute(f"DROP TABLE {PENDING}")
        reader.execute("SET foreign_key_checks = 1")
        left = parts(reader)
    drop_tables(reader, left)


def has_landed(where: Address, ours: outcome.Loads | None) -> bool:
    """See `outcome.found_out`: asked over another connection, once nobody changes the database."""
    connection = connected(where)
    with contextlib.closing(connection):
        reader = MysqlReader(where.shown, connection)
        lock_database(reader)
        there = outcome.loads(reader) if reader.facts("kerfmark_loads") else None
        return outcome.landed(ours, there)


def where_there(table: str, statement: str, column: str = "") -> str:
    """A statement that is to be run only where there is a table, and a column of it if one is
    named."""
    name = json.dumps([table, column]).replace("/", r"\/")
    return f"/* where {name} is */ {statement}"


def run_pending(reader: MysqlReader, statement: str) -> None:
    """Runs a statement that was written down, unless what it needs is not there: the step that it
    follows, or takes back, was never taken then."""
    needs = re.match(r"/\* where (\[.*?\]) is \*/", statement)
    if needs is not None:
        table, column = json.loads(needs[1])
        facts = reader.facts(table)
        if facts is None or (column and column not in {c.name for c in facts.columns}):
            return
    reader.execute(statement)


def parts(reader: MysqlReader) -> list[str]:
    """The tables that are being built, or were left by a killed program."""
    return [
        r[0]
        for r in reader.ask(
            "SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE() "
            f"AND LEFT(table_name, {len(PART)}) = {literal(PART)}"
        )
    ]


def drop_tables(reader: MysqlReader, names: Sequence[str]) -> None:
    """Drops tables in whatever order."""
    if names:
        reader.execute("SET foreign_key_checks = 0")
        reader.execute(f"DROP TABLE IF EXISTS {', '.join(map(quote, names))}")
        reader.execute("SET foreign_key_checks = 1")
