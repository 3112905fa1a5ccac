"""SQLite: a database that is there is changed in one transaction, through one connection of the Arrow driver.

Promises: 1. from `__enter__` on nobody else can write; 2. until `commit` everything is as it was, also after the program was
killed; 3. nothing of the user's is asked row by row: what is looked for goes into a temporary table and is joined.

No second SQLite library may touch the file meanwhile: on Unix its closing would drop the locks of this one.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa

from kerfmark import memory
from kerfmark.store.database import PATIENCE, known_already, literal, no_ledger, quote
from kerfmark.store.own import NAMES
from kerfmark.store.sql import SOUGHT, SharedSql
from kerfmark.store.sqlite.files import SqliteSpeech, translated

if TYPE_CHECKING:
    from kerfmark.layout.model import Layout
    from kerfmark.profile.types import ColumnType

_NOTED = 400
"""Changes noted in one statement."""
MAPPED = 1 << 34
"""Bytes of the file that are read as memory."""


class OpenFile(SqliteSpeech, SharedSql):
    """An SQLite file that is being changed. Use as a context: leaving it without `commit` leaves everything as it was."""

    sought = f"temp.{SOUGHT}"
    outer_first = "CROSS JOIN"

    def __init__(self, path: Path, adopt: bool = False) -> None:
        self.path, self.name, self.adopt = path, str(path), adopt
        self.remarks: list[str] = []

    def __enter__(self) -> OpenFile:
        import adbc_driver_sqlite.dbapi as driver

        with translated(self.path):
            self._connection = driver.connect(str(self.path))
            self._cursor = self._connection.cursor()
            try:
                self.ask(f"PRAGMA busy_timeout={int(PATIENCE * 1000)}")
                # new keys touch nearly every page of a large index
                self.ask(f"PRAGMA mmap_size={memory.share(MAPPED, .25)}")
                self.ask(f"PRAGMA cache_size=-{memory.share(400_000_000, .25) // 1000}")
                self._lock()
            except BaseException:
                self._close()
                raise
        return self

    def _lock(self) -> None:
        """Takes the lock for writing before anything is read: whoever has read already could not wait for another writer."""
        if self.adopt:
            from kerfmark.store.own import SQLITE, own_tables

            for i, statement in enumerate(own_tables(SQLITE)):
                try:
                    self._cursor.execute(statement)
                except Exception as error:
                    if i == 0 and "already exists" in str(error):
                        raise known_already(self.name) from error
                    raise
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

    def execute(self, sql: str, rows: Sequence[Sequence[Any]] = ((),)) -> None:
        """Runs a statement once per row of parameters."""
        with translated(self.path):
            for row in rows:
                self._cursor.execute(sql, tuple(row)) if row else self._cursor.execute(sql)

    def ask(self, sql: str) -> list[tuple[Any, ...]]:
        """The rows that a query gives. A column must not mix types (the driver goes by its first rows)."""
        with translated(self.path):
            self._cursor.execute(sql)
            return [tuple(r) for r in self._cursor.fetchall()]

    def put(self, table: str, schema: pa.Schema, batches: Iterable[pa.RecordBatch], first: int) -> None:
        """Adds rows, as `build.stored` turns them out, with their keys; SQLite counts the others by itself."""
        with translated(self.path):
            self._cursor.adbc_ingest(table, pa.RecordBatchReader.from_batches(schema, batches), mode="append")

    def append(self, table: str, rows: pa.Table) -> None:
        """Adds rows to one of Kerfmark's own tables."""
        with translated(self.path):
            self._cursor.adbc_ingest(table, rows, mode="append")

    def note_changes(self, table: str, column: str, rows: Sequence[tuple[int, int, str | None, str | None, int]]) -> None:
        """The values are literals, as `exact` gives them."""
        about = f"{literal(table)}, {literal(column)}"
        for start in range(0, len(rows), _NOTED):
            said = ", ".join(f"({load}, {about}, {row}, {before or 'NULL'}, {value or 'NULL'}, {kept})"
                             for load, row, before, value, kept in rows[start:start + _NOTED])
            self.execute('INSERT INTO kerfmark_changes (load_id, table_name, column_name, "row", "before", said, kept) '
                         f"VALUES {said}")

    def highest(self, table: str) -> int:
        """The highest number of a row of a table, 0 when it has none."""
        return int(self.ask(f"SELECT COALESCE(MAX(rowid), 0) FROM {quote(table)}")[0][0])

    def fill_sought(self, table: str, columns: Sequence[tuple[str, pa.Array]], numbers: np.ndarray) -> None:
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
        self.execute(f"UPDATE {quote(table)} AS t SET {quote(column)} = {value} FROM {others} WHERE {condition}")

    def add_column(self, table: str, column: str, type_: ColumnType) -> None:
        """See `structure`, which brings SQLAlchemy."""
        from kerfmark.store.sqlite import structure

        structure.add_column(self, table, column, type_)

    def redeclare(self, table: str, column: str, type_: ColumnType) -> None:
        """See `structure`."""
        from kerfmark.store.sqlite import structure

        structure.redeclare(self, table, column, type_)

    def refresh_views(self, layout: Layout, headers: Mapping[str, Sequence[str]]) -> None:
        """See `structure`."""
        from kerfmark.store.sqlite import structure

        structure.refresh_views(self, layout, headers)

    def drop_all(self, layout: Layout) -> None:
        """Takes away all that Kerfmark made."""
        from kerfmark.store.views import view_name

        for source in layout.sources:
            self.execute(f"DROP VIEW IF EXISTS {quote(view_name(source))}")
        for table in [*([] if layout.existing else reversed(layout.parents_first())), *NAMES]:
            self.execute(f"DROP TABLE IF EXISTS {quote(table)}")

    def mark(self, name: str) -> None:
        """Remembers how far it has come."""
        self.execute(f"SAVEPOINT {name}")

    def back_to_mark(self, name: str) -> None:
        """Takes back what was done since."""
        self.execute(f"ROLLBACK TO {name}")

    def batches(self, rows: str, cells: Sequence[str], types: Sequence[pa.DataType], order: str = "") -> Iterator[pa.RecordBatch]:
        """Not needed while changing."""
        raise NotImplementedError

    rows = batches
