"""SQLite: a database that is there is changed in one transaction, through one connection of the
Arrow driver.

Promises: 1. from `__enter__` on nobody else can write; 2. until `commit` everything is as it was,
also after the program was killed; 3. nothing of the user's is asked row by row: what is looked for
goes into a temporary table and is joined.

No second SQLite library may touch the file meanwhile: on Unix its closing would drop the locks of
this one.
"""

from __future__ import annotations

import contextlib
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa

from kerfmark import memory
from kerfmark.errors import Origin, TargetError
from kerfmark.store.common_sql import SOUGHT, SharedSql
from kerfmark.store.interface import PATIENCE, has_no_loads, known_already, no_ledger, refuse_taken
from kerfmark.store.ledger_schema import NAMES, ledger_tables
from kerfmark.store.names import views_of
from kerfmark.store.quoting import literal, quote
from kerfmark.store.sqlite.connection import arrow_driver, insert_batches, translated
from kerfmark.store.sqlite.create_table import with_column_type
from kerfmark.store.sqlite.dialect import LEDGER, dialect
from kerfmark.store.sqlite.reader import SqliteCatalog
from kerfmark.store.sqlite.replacing import identity

if TYPE_CHECKING:
    from kerfmark.layout.model import Layout
    from kerfmark.profile.types import ColumnType

_NOTED = 400
"""Changes noted in one statement."""
MAPPED = 1 << 34
"""Bytes of the file that are read as memory."""


@contextlib.contextmanager
def _same_file(path: Path) -> Iterator[None]:
    """Raises TargetError where another file has the name of this one once it is locked: what were
    written would be in none."""
    before, failure = identity(path), None
    try:
        yield
    except Exception as error:
        failure = error
    if identity(path) != before:
        raise TargetError(
            "another program has replaced the database meanwhile",
            code="target.replaced",
            origin=Origin(str(path)),
            next="run the command again",
        ) from failure
    if failure is not None:
        raise failure


class OpenFile(SqliteCatalog, SharedSql):
    """An SQLite file that is being changed. Use as a context: leaving it without `commit` leaves
    everything as it was."""

    sought = f"temp.{SOUGHT}"
    outer_first = "CROSS JOIN"

    def __init__(self, path: Path, adopt: bool = False) -> None:
        self.path, self.name, self.adopt = path, str(path), adopt
        self.remarks: list[str] = []

    def __enter__(self) -> OpenFile:
        driver = arrow_driver()

        with translated(self.path), _same_file(self.path):
            self._connection = driver.connect(str(self.path))
            self._cursor = self._connection.cursor()
            try:
                self.ask(f"PRAGMA busy_timeout={int(PATIENCE * 1000)}")
                # new keys touch nearly every page of a large index
                self.ask(f"PRAGMA mmap_size={memory.share(MAPPED, 0.25)}")
                self.ask(f"PRAGMA cache_size=-{memory.share(400_000_000, 0.25) // 1000}")
                self._lock()
            except BaseException:
                self._close()
                raise
        return self

    def _lock(self) -> None:
        """Takes the lock for writing before anything is read: whoever has read already could not
        wait for another writer."""
        if self.adopt:
            for i, statement in enumerate(ledger_tables(LEDGER)):
                try:
                    self._cursor.execute(statement)
                except Exception as error:
                    if i or "already exists" not in str(error):
                        raise
                    if not has_no_loads(self):
                        raise known_already(self.name) from error
                    break
            else:
                return
        try:
            self._cursor.execute("UPDATE kerfmark_loads SET load_id = load_id WHERE 0")
        except Exception as error:
            if "no such table" in str(error):
                raise no_ledger(self.name) from error
            raise

    def __exit__(self, *error: object) -> None:
        with contextlib.suppress(Exception):
            self._connection.rollback()
        self._close()

    def _close(self) -> None:
        with contextlib.suppress(Exception):
            self._cursor.close()
        with contextlib.suppress(Exception):
            self._connection.close()

    def commit(self) -> None:
        """Makes everything that was done stay."""
        with translated(self.path):
            self._cursor.close()
            self._connection.commit()

    def execute(self, sql: str) -> None:
        """Runs a statement."""
        with translated(self.path):
            self._cursor.execute(sql)

    def ask(self, sql: str) -> list[tuple[Any, ...]]:
        """The rows that a query gives. A column must not mix types (the driver goes by its first
        rows)."""
        with translated(self.path):
            self._cursor.execute(sql)
            return [tuple(r) for r in self._cursor.fetchall()]

    def insert(
        self, table: str, schema: pa.Schema, batches: Iterable[pa.RecordBatch], first: int
    ) -> None:
        """Adds rows, as `to_engine` turns them out, with their keys; SQLite counts the others by
        itself."""
        with translated(self.path):
            insert_batches(self._cursor, table, schema, batches)

    def append(self, table: str, rows: pa.Table) -> None:
        """Adds rows to one of Kerfmark's own tables."""
        with translated(self.path):
            self._cursor.adbc_ingest(table, rows, mode="append")

    def record_changes(
        self, table: str, column: str, rows: Sequence[tuple[int, int, str | None, str | None, int]]
    ) -> None:
        """The values are literals, as `exact` gives them."""
        about = f"{literal(table)}, {literal(column)}"
        for start in range(0, len(rows), _NOTED):
            said = ", ".join(
                f"({load}, {about}, {row}, {before or 'NULL'}, {value or 'NULL'}, {kept})"
                for load, row, before, value, kept in rows[start : start + _NOTED]
            )
            self.execute(
                'INSERT INTO kerfmark_changes (load_id, table_name, column_name, "row", "before", '
                "said, kept) "
                f"VALUES {said}"
            )

    def last_row(self, table: str) -> int:
        """The highest number of a row of a table, 0 when it has none."""
        row = self.row_name(table)
        return int(self.ask(f"SELECT COALESCE(MAX({row}), 0) FROM {quote(table)}")[0][0])

    def fill_sought(
        self, table: str, columns: Sequence[tuple[str, pa.Array]], numbers: np.ndarray
    ) -> None:
        """SQLite needs no types."""
        data = {"n": pa.array(numbers)} | {f"c{i}": values for i, (_, values) in enumerate(columns)}
        with translated(self.path):
            self._cursor.adbc_ingest(SOUGHT, pa.table(data), mode="create", temporary=True)

    def same(self, one: str, other: str) -> str:
        """The same, or both blank."""
        return f"{one} IS {other}"

    def kept(self, expression: str) -> str:
        """SQLite's columns take any value."""
        return expression

    def given_back(self, table: str, column: str, expression: str) -> str:
        """It is as it was."""
        return expression

    def update(self, table: str, column: str, value: str, others: str, condition: str) -> None:
        """Gives a column new values."""
        self.execute(
            f"UPDATE {quote(table)} AS t SET {quote(column)} = {value} FROM {others} WHERE "
            f"{condition}"
        )

    def clear(self, layout: Layout) -> None:
        """Takes tables and views away."""
        for view in views_of(layout):
            self.execute(f"DROP VIEW IF EXISTS {quote(view)}")
        for table in reversed(layout.parents_first()):
            self.execute(f"DROP TABLE IF EXISTS {quote(table)}")

    def add_tables(self, layout: Layout, names: Collection[str]) -> None:
        """Makes tables beside those that are there."""
        from kerfmark.store.ddl import statements_beside

        refuse_taken(self, names)
        for statement in statements_beside(self, layout, names, dialect()):
            self.execute(statement)

    def add_column(self, table: str, column: str, type_: ColumnType) -> None:
        """Gives a table a column more, blank in the rows that are there."""
        self.execute(
            f"ALTER TABLE {quote(table)} ADD COLUMN {quote(column)} {dialect().declared(type_)}"
        )

    def widen_column(self, table: str, column: str, type_: ColumnType) -> None:
        """Gives a column a wider type of the same kind. SQLite stores no width, so only the
        declaration changes."""
        [(create,)] = self.ask(
            f"SELECT sql FROM sqlite_master WHERE type = 'table' AND name = {literal(table)}"
        )
        changed = with_column_type(create, column, dialect().declared(type_))
        if changed != create:
            self.execute("PRAGMA writable_schema = ON")
            self.execute(
                f"UPDATE sqlite_master SET sql = {literal(changed)} WHERE type = 'table' AND name "
                f"= {literal(table)}"
            )
            self.execute("PRAGMA writable_schema = RESET")

    def refresh_views(self, layout: Layout, headers: Mapping[str, Sequence[str]]) -> None:
        """Makes the views of some sources anew."""
        from kerfmark.layout.derive import settled
        from kerfmark.store.views import views

        whole = settled(layout, {s: names for s, names in headers.items() if names})
        for name in views_of(layout, headers):
            self.execute(f"DROP VIEW IF EXISTS {quote(name)}")
        for source, names in headers.items():
            for one in views(whole, source, names, dialect()) if names else ():
                self.execute(one.create())

    def drop_all(self, layout: Layout) -> None:
        """Drops all that Kerfmark made."""
        if layout.existing:
            for view in views_of(layout):
                self.execute(f"DROP VIEW IF EXISTS {quote(view)}")
        else:
            self.clear(layout)
        for table in NAMES:
            self.execute(f"DROP TABLE IF EXISTS {quote(table)}")

    def savepoint(self, name: str) -> None:
        """Remembers how far it has come."""
        self.execute(f"SAVEPOINT {name}")

    def rollback_to(self, name: str) -> None:
        """Takes back what was done since."""
        self.execute(f"ROLLBACK TO {name}")

    def batches(
        self, rows: str, cells: Sequence[str], types: Sequence[pa.DataType], order: str = ""
    ) -> Iterator[pa.RecordBatch]:
        """Not needed while changing."""
        raise NotImplementedError

    rows = batches
