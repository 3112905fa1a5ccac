"""MySQL and MariaDB: their catalogue, reading rows, and adding rows in bulk."""

from __future__ import annotations

import contextlib
import os
import re
import select
import tempfile
import threading
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from socket import SHUT_RDWR
from typing import Any

import pyarrow as pa

from kerfmark.errors import DataRefused, Origin, TargetError
from kerfmark.own_tables import is_own
from kerfmark.store.driver_errors import RIGHTS
from kerfmark.store.interface import ColumnFacts, LinkFacts, TableFacts
from kerfmark.store.mysql.connection import code_of, translated
from kerfmark.store.mysql.dialect import LONGEST_NAME, dialect, to_engine
from kerfmark.store.quoting import literal, quote
from kerfmark.store.server import ServerReader, from_engine
from kerfmark.store.sql_dialect import SqlDialect
from kerfmark.store.tab_separated import tab_separated

_ROWS = 16_384
"""Rows fetched at a time."""
_OF_TEXTS = frozenset({"uuid", "inet4", "inet6"})
"""Types whose values are given as texts."""
_FORBIDDEN = (1148, 2068, 3948, 4166)
"""What a server says that takes no files from its clients."""


class MysqlReader(ServerReader):
    """See `interface.Reader` and `common_sql.SharedSql`."""

    codec = ""
    longest_name = LONGEST_NAME
    outer_first = "STRAIGHT_JOIN"
    drop = "DROP TEMPORARY TABLE"

    def __init__(self, name: str, connection: Any) -> None:
        super().__init__(name, connection)
        self.slow = False

    @property
    def mariadb(self) -> bool:
        """Whether the server is MariaDB, not MySQL."""
        return "MariaDB" in self.connection.get_server_info()

    def ask(self, sql: str) -> list[tuple[Any, ...]]:
        """The rows that a query gives."""
        with translated(self.name), self.connection.cursor() as cursor:
            cursor.execute(sql)
            return list(cursor.fetchall())

    def execute(self, sql: str) -> None:
        """Runs a statement."""
        with translated(self.name), self.connection.cursor() as cursor:
            cursor.execute(sql)

    def commit_step(self) -> None:
        """Commits what was done so far."""
        with translated(self.name):
            self.connection.commit()

    def tables(self) -> list[str]:
        """The tables, in the order of their names."""
        return self._listed("BASE TABLE")

    def views(self) -> list[str]:
        """The views."""
        return self._listed("VIEW")

    def _listed(self, kind: str) -> list[str]:
        return [
            r[0]
            for r in self.ask(
                "SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE() "
                f"AND table_type = '{kind}' ORDER BY table_name"
            )
            if not is_own(r[0])
        ]

    def comments(self, table: str) -> dict[str, str]:
        """What the database says of the columns of a table, and ("") of the table itself."""
        rows = self.ask(
            "SELECT column_name, column_comment FROM information_schema.columns WHERE "
            f"table_schema = DATABASE() AND table_name = {literal(table)} AND column_comment <> '' "
            "UNION ALL SELECT '', table_comment FROM information_schema.tables WHERE table_schema "
            f"= DATABASE() AND table_name = {literal(table)} AND table_comment NOT IN ('', 'VIEW')"
        )
        return {str(r[0]): str(r[1]) for r in rows}

    def facts(self, table: str) -> TableFacts | None:
        """What a table or view is made of."""
        mine = f"table_schema = DATABASE() AND table_name = {literal(table)}"
        columns = self.ask(
            "SELECT column_name, column_type, is_nullable = 'YES', "
            "column_default IS NOT NULL AND column_default <> 'NULL' OR extra LIKE "
            "'%auto_increment%', "
            "extra LIKE '%GENERATED%' AND extra NOT LIKE '%DEFAULT_GENERATED%' "
            f"FROM information_schema.columns WHERE {mine} ORDER BY ordinal_position"
        )
        if not columns:
            return None
        keys: dict[str, list[str]] = {}
        for index, column in self.ask(
            "SELECT index_name, column_name FROM information_schema.statistics "
            f"WHERE {mine} AND non_unique = 0 ORDER BY index_name, seq_in_index"
        ):
            keys.setdefault(index, []).append(column)
        links: dict[str, list[tuple[str, str, str]]] = {}
        for link, *pair in self.ask(
            "SELECT constraint_name, column_name, referenced_table_name, referenced_column_name "
            f"FROM information_schema.key_column_usage WHERE {mine} AND referenced_table_name IS "
            "NOT NULL "
            "ORDER BY constraint_name, ordinal_position"
        ):
            links.setdefault(link, []).append((pair[0], pair[1], pair[2]))
        return TableFacts(
            table,
            tuple(
                ColumnFacts(str(c[0]), str(c[1]), bool(c[2]), bool(c[3]), bool(c[4]))
                for c in columns
            ),
            tuple(keys.pop("PRIMARY", ())),
            tuple(tuple(k) for k in keys.values()),
            tuple(
                LinkFacts(tuple(p[0] for p in pairs), pairs[0][1], tuple(p[2] for p in pairs))
                for pairs in links.values()
            ),
        )

    def checks(self, table: str) -> dict[str, str]:
        """The conditions that are checked for each row."""
        found = self.ask(
            "SELECT c.constraint_name, c.check_clause FROM information_schema.check_constraints c "
            "JOIN information_schema.table_constraints t ON t.constraint_schema = "
            "c.constraint_schema AND t.constraint_name = c.constraint_name "
            f"WHERE t.table_schema = DATABASE() AND t.table_name = {literal(table)}"
            + (f" AND c.table_name = {literal(table)}" if self.mariadb else "")
        )
        return {str(r[0]): str(r[1]) for r in found}

    def choices(self, table: str) -> dict[str, tuple[str, ...]]:
        """The columns that are declared as enum, and its values."""
        return {
            str(column): tuple(
                v.replace("''", "'") for v in re.findall(r"'((?:[^']|'')*)'", str(declared))
            )
            for column, declared in self.ask(
                "SELECT column_name, column_type FROM information_schema.columns WHERE "
                f"table_schema = DATABASE() AND table_name = {literal(table)} AND data_type = "
                "'enum' ORDER BY ordinal_position"
            )
        }

    def dependents(self, tables: Sequence[str]) -> list[tuple[str, str]]:
        """Triggers, indexes and views of tables, and tables that refer to these."""
        if not tables:
            return []
        named = ", ".join(map(literal, tables))
        out = [
            ("trigger", r[0])
            for r in self.ask(
                "SELECT trigger_name FROM information_schema.triggers WHERE trigger_schema = "
                f"DATABASE() AND event_object_table IN ({named})"
            )
        ]
        out += [
            ("index", r[0])
            for r in self.ask(
                "SELECT DISTINCT index_name FROM information_schema.statistics WHERE table_schema "
                "= DATABASE() "
                f"AND table_name IN ({named}) AND index_name <> 'PRIMARY' AND index_name NOT IN "
                "(SELECT constraint_name "
                "FROM information_schema.table_constraints "
                "WHERE table_schema = DATABASE() AND constraint_type = 'FOREIGN KEY')"
            )
        ]
        out += [
            ("table", r[0])
            for r in self.ask(
                "SELECT DISTINCT table_name FROM information_schema.key_column_usage WHERE "
                "table_schema = DATABASE() "
                f"AND referenced_table_name IN ({named}) AND table_name NOT IN ({named})"
            )
            if not is_own(r[0])
        ]
        for view, definition in self.ask(
            "SELECT table_name, view_definition FROM information_schema.views "
            "WHERE table_schema = DATABASE()"
        ):
            out += [("view", view)] if any(f"`{t}`" in definition for t in tables) else []
        return out

    def text(self, expression: str) -> str:
        """An expression as text."""
        return f"CAST({expression} AS CHAR)"

    def given_back(self, table: str, column: str, expression: str) -> str:
        """These engines take text for any type."""
        return expression

    def same(self, one: str, other: str) -> str:
        """The same, or both blank."""
        return f"{one} <=> {other}"

    def to_engine(self, values: pa.Array) -> pa.Array:
        """Typed values as these engines take them."""
        return to_engine(values)

    def broken_links(self, table: str) -> list[str]:
        """The foreign key columns of a table with a value that its parent does not have: each
        distinct value is looked up once."""
        facts, out = self.facts(table), []
        for link in facts.links if facts else ():
            if has_broken_link(self, table, link):
                out.append(" + ".join(link.columns))
        return out

    def hex_text(self, expression: str) -> str:
        """Bytes as digits."""
        return f"HEX({expression})"

    def dialect(self) -> SqlDialect:
        """How its SQL is written."""
        return dialect(self.mariadb)

    def batches(
        self, rows: str, cells: Sequence[str], types: Sequence[pa.DataType], order: str = ""
    ) -> Iterator[pa.RecordBatch]:
        """What expressions give for rows."""
        from pymysql.cursors import SSCursor

        asked = ", ".join(map(self.raw, cells))
        if order:
            rows = f"{rows} ORDER BY {order}"
        with translated(self.name), self.connection.cursor(SSCursor) as cursor:
            cursor.execute(f"SELECT {asked} FROM {rows}")
            while some := cursor.fetchmany(_ROWS):
                yield pa.RecordBatch.from_arrays(
                    [
                        from_engine(c, t)
                        for c, t in zip(zip(*some, strict=True), types, strict=True)
                    ],
                    names=[str(i) for i in range(len(types))],
                )

    def fill_sought(
        self, table: str, columns: Sequence[tuple[str, pa.Array]], numbers: Any
    ) -> None:
        """A temporary table."""
        types = self._types(table)
        typed = ", ".join(
            f"c{i} {types[c] if c else 'bigint'} NULL" for i, (c, _) in enumerate(columns)
        )
        try:  # altering it would commit
            self.execute(f"CREATE TEMPORARY TABLE {self.sought} (n bigint, {typed})")
        except TargetError as error:
            if error.code == RIGHTS[0]:  # the server does not name this one
                error.why = "the right CREATE TEMPORARY TABLES is missing"
            raise
        batch = pa.RecordBatch.from_arrays(
            [pa.array(numbers), *(v for _, v in columns)],
            names=["n", *(f"c{i}" for i in range(len(columns)))],
        )
        self.copy_in(self.sought, batch.schema.names, [batch])

    def _types(self, table: str) -> dict[str, str]:
        """The types of the columns of a table, with their collations."""
        return {
            c: f"{t} COLLATE {collation}" if collation else t
            for c, t, collation in self.ask(
                "SELECT column_name, column_type, collation_name FROM information_schema.columns "
                "WHERE table_schema = DATABASE() "
                f"AND table_name = {literal(table)}"
            )
        }

    def _read_into(self, table: str, columns: Sequence[str]) -> str:
        """The columns that a file is read into; some types take no bytes, but texts."""
        types = {str(r[0]): str(r[1]) for r in self.ask(f"SHOW COLUMNS FROM {quote(table)}")}
        texts = {c: f"@c{i}" for i, c in enumerate(columns) if types.get(c) in _OF_TEXTS}
        said = f"({', '.join(texts.get(c, quote(c)) for c in columns)})"
        made = ", ".join(f"{quote(c)} = CONVERT({v} USING utf8mb4)" for c, v in texts.items())
        return f"{said} SET {made}" if made else said

    def copy_in(
        self,
        table: str,
        columns: Sequence[str],
        batches: Iterable[pa.RecordBatch],
        *,
        told: str = "",
    ) -> None:
        """Adds rows by LOAD DATA LOCAL; where the server takes no files, by inserts of many rows.
        `told` is what messages call the table.

        The server skips what it refuses and only warns, so everything is counted. Raises
        DataRefused when it has refused a row.
        """
        import pymysql

        names = ", ".join(map(quote, columns))
        waiting = iter(batches)
        rows = 0

        def counted() -> Iterator[pa.RecordBatch]:
            nonlocal rows
            for batch in waiting:
                rows += batch.num_rows
                yield batch

        if not self.slow:
            with (
                translated(self.name),
                self.connection.cursor() as cursor,
                _as_file(counted()) as path,
                _noticing_the_end(self.connection),
            ):
                try:
                    done = cursor.execute(
                        f"LOAD DATA LOCAL INFILE {literal(path)} INTO TABLE {quote(table)} "
                        "CHARACTER SET binary "
                        "FIELDS TERMINATED BY '\t' ESCAPED BY '\\' LINES TERMINATED BY '\n' "
                        + self._read_into(table, columns)
                    )
                except pymysql.Error as error:
                    if code_of(error) not in _FORBIDDEN or rows:
                        raise
                    self.slow = True
                    self.remarks.append(
                        "the server takes no files from its clients (local_infile is off): rows go "
                        "in by inserts, "
                        "which takes longer"
                    )
            if not self.slow:
                warnings = self.ask("SHOW WARNINGS LIMIT 3")
                if warnings or done != rows:
                    said = "; ".join(str(w[2]) for w in warnings)
                    what = f"the database refuses rows of {told or table}"
                    raise DataRefused(
                        what,
                        code="data.refused",
                        origin=Origin(self.name),
                        why=said or f"{rows - done} of {rows} rows were not taken",
                        next="correct the rows, or ask who made the rule of the database",
                    )
                return
        places = ", ".join(["%s"] * len(columns))
        with translated(self.name), self.connection.cursor() as cursor:
            for batch in waiting:
                cursor.executemany(
                    f"INSERT INTO {quote(table).replace('%', '%%')} ({names.replace('%', '%%')}) "
                    f"VALUES ({places})",
                    list(zip(*(c.to_pylist() for c in batch.columns), strict=True)),
                )

    def update(self, table: str, column: str, value: str, others: str, condition: str) -> None:
        """Gives a column new values."""
        self.execute(
            f"UPDATE {others} JOIN {quote(table)} AS t ON {condition} "
            f"SET t.{quote(column)} = {value}"
        )


def has_broken_link(reader: MysqlReader, table: str, link: LinkFacts) -> bool:
    """Whether a foreign key has a value that its parent does not have."""
    own = ", ".join(f"{quote(c)} AS c{i}" for i, c in enumerate(link.columns))
    filled = " AND ".join(f"{quote(c)} IS NOT NULL" for c in link.columns)
    same = " AND ".join(f"p.{quote(k)} = d.c{i}" for i, k in enumerate(link.key))
    return bool(
        reader.ask(
            f"SELECT 1 FROM (SELECT DISTINCT {own} FROM {quote(table)} WHERE {filled}) AS d "
            f"LEFT JOIN {quote(link.to)} AS p ON {same} WHERE p.{quote(link.key[0])} IS NULL LIMIT "
            "1"
        )
    )


@contextlib.contextmanager
def _noticing_the_end(connection: Any) -> Iterator[None]:
    """Lets a write fail as soon as the server has closed the connection: by itself it would wait
    for a minute."""
    socket, rdhup = getattr(connection, "_sock", None), getattr(select, "POLLRDHUP", 0)
    if socket is None or not rdhup:
        yield
        return
    done = threading.Event()

    def watch() -> None:
        poll = select.poll()
        poll.register(socket, rdhup)
        while not done.wait(0.2):
            if poll.poll(0):
                with contextlib.suppress(OSError):
                    socket.shutdown(SHUT_RDWR)
                return

    watcher = threading.Thread(target=watch, daemon=True)
    watcher.start()
    try:
        yield
    finally:
        done.set()
        watcher.join()


@contextlib.contextmanager
def _as_file(batches: Iterator[pa.RecordBatch]) -> Iterator[str]:
    """A file whose content is made while it is read; where the system has no pipes with names, a
    file."""
    with tempfile.TemporaryDirectory(prefix="kerfmark") as folder:
        path = Path(folder) / "rows"
        if not hasattr(os, "mkfifo"):
            with path.open("wb") as file:
                for batch in batches:
                    file.write(tab_separated(batch))
            yield path.as_posix()
            return
        os.mkfifo(path)
        failed: list[BaseException] = []
        stop = threading.Event()

        def write() -> None:
            try:
                with path.open("wb", buffering=0) as pipe:  # waits until somebody reads
                    for batch in () if stop.is_set() else batches:
                        whole = tab_separated(batch)
                        while whole.nbytes:
                            whole = whole[pipe.write(whole) :]
            except BrokenPipeError:
                return  # whoever reads has stopped; it tells why
            except BaseException as error:
                failed.append(error)

        writer = threading.Thread(target=write, daemon=True)
        writer.start()
        try:
            yield str(path)
        finally:
            stop.set()
            while writer.is_alive():  # nobody may have read: the writer goes on, and notices
                with contextlib.suppress(OSError):
                    os.close(os.open(path, os.O_RDONLY | os.O_NONBLOCK))
                writer.join(0.05)
        if failed:
            raise failed[0]
