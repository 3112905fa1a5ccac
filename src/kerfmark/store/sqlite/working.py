"""SQLite: a database that is there is changed in one transaction, through one connection of the Arrow driver.

Promises: 1. from `__enter__` on nobody else can write; 2. until `commit` everything is as it was, also after the program was
killed; 3. nothing of the user's is asked row by row: what is looked for goes into a temporary table and is joined.

No second SQLite library may touch the file meanwhile: on Unix its closing would drop the locks of this one.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from kerfmark.store.sqlite.files import no_ledger, quote, translated

PATIENCE = 10_000
"""Milliseconds that another program's lock is waited for."""
MAPPED = 1 << 34
"""Bytes of the file that are read as memory."""
_SOUGHT = "kerfmark_sought"


class OpenFile:
    """An SQLite file that is being changed. Use as a context: leaving it without `commit` leaves everything as it was."""

    def __init__(self, path: Path) -> None:
        self.path = path

    def __enter__(self) -> OpenFile:
        import adbc_driver_sqlite.dbapi as driver

        with translated(self.path):
            self._connection = driver.connect(str(self.path))
            self._cursor = self._connection.cursor()
            try:
                self.ask(f"PRAGMA busy_timeout={PATIENCE}")
                self.ask(f"PRAGMA mmap_size={MAPPED}")  # new keys touch nearly every page of a large index
                self.ask("PRAGMA cache_size=-400000")
                self._lock()
            except BaseException:
                self._close()
                raise
        return self

    def _lock(self) -> None:
        """Takes the lock for writing before anything is read: whoever has read already could not wait for another writer."""
        try:
            self._cursor.execute("UPDATE kerfmark_loads SET load_id = load_id WHERE 0")
        except Exception as error:
            if "no such table" in str(error):
                raise no_ledger(self.path) from error
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

    def put(self, table: str, schema: pa.Schema, batches: Iterable[pa.RecordBatch]) -> None:
        """Adds rows, as `build.stored` turns them out, with their keys."""
        with translated(self.path):
            self._cursor.adbc_ingest(table, pa.RecordBatchReader.from_batches(schema, batches), mode="append")

    def highest(self, table: str) -> int:
        """The highest number of a row of a table, 0 when it has none."""
        return int(self.ask(f"SELECT COALESCE(MAX(rowid), 0) FROM {quote(table)}")[0][0])

    @contextlib.contextmanager
    def _seeking(self, columns: Mapping[str, pa.Array], numbers: np.ndarray) -> Iterator[None]:
        """A temporary table with a number `n` and some columns, called c0, c1 ..."""
        data = {"n": pa.array(numbers)} | {f"c{i}": values for i, values in enumerate(columns.values())}
        with translated(self.path):
            self._cursor.adbc_ingest(_SOUGHT, pa.table(data), mode="create", temporary=True)
            try:
                yield
            finally:
                self._cursor.execute(f"DROP TABLE temp.{_SOUGHT}")

    def match(self, table: str, columns: Mapping[str, pa.Array]) -> np.ndarray:
        """The number of the row of a table that has the same values in some columns, for each of many; -1 for none and for a
        blank."""
        rows = len(next(iter(columns.values())))
        out = np.full(rows, -1, np.int64)
        if not rows:
            return out
        with self._seeking(columns, np.arange(rows)):
            same = " AND ".join(f"t.{quote(c)} = k.c{i}" for i, c in enumerate(columns))
            found = self.ask(f"SELECT k.n, t.rowid FROM temp.{_SOUGHT} AS k CROSS JOIN {quote(table)} AS t ON {same}")
        for n, row in found:
            out[n] = row
        return out

    def differing(self, table: str, rows: np.ndarray, columns: Mapping[str, pa.Array]) -> dict[str, np.ndarray]:
        """For each column, which of some rows of a table have another value there."""
        out = {c: np.zeros(len(rows), bool) for c in columns}
        names = list(columns)
        for start in range(0, len(names), 60 if len(rows) else 1):
            some = {c: columns[c] for c in names[start:start + 60]}
            if not len(rows):
                break
            with self._seeking({"row": pa.array(rows)} | some, np.arange(len(rows))):
                bits = " + ".join(f"((t.{quote(c)} IS NOT k.c{i + 1}) << {i})" for i, c in enumerate(some))
                found = self.ask(f"SELECT k.n, {bits} FROM temp.{_SOUGHT} AS k CROSS JOIN {quote(table)} AS t ON t.rowid = k.c0")
            for n, mask in found:
                for i, c in enumerate(some):
                    out[c][n] = bool(mask >> i & 1)
        return out

    def texts(self, table: str, column: str, rows: Sequence[int]) -> dict[int, str | None]:
        """What stands in a column of some rows, as text."""
        out: dict[int, str | None] = {}
        for start in range(0, len(rows), 500):
            numbers = ", ".join(map(str, rows[start:start + 500]))
            out |= dict(self.ask(f"SELECT rowid, COALESCE(CAST({quote(column)} AS TEXT), '') FROM {quote(table)} "
                                 f"WHERE rowid IN ({numbers})"))
        return out

    def known_texts(self, table: str, column: str, most: int) -> list[str]:
        """Values of a column, as text; at most some."""
        return [r[0] for r in self.ask(f"SELECT DISTINCT CAST({quote(column)} AS TEXT) FROM {quote(table)} "
                                       f"WHERE {quote(column)} IS NOT NULL LIMIT {most}")]

    def change(self, table: str, load: int, rows: np.ndarray, column: str, values: pa.Array) -> None:
        """Gives a column of some rows new values, and notes those that were there before."""
        with self._seeking({"row": pa.array(rows), "value": values}, np.arange(len(rows))):
            where = f"FROM temp.{_SOUGHT} AS k CROSS JOIN {quote(table)} AS t ON t.rowid = k.c0"
            self.execute(f"INSERT INTO kerfmark_changes SELECT {load}, {_text(table)}, t.rowid, {_text(column)}, "
                         f"t.{quote(column)}, k.c1 {where}")
            self.execute(f"UPDATE {quote(table)} SET {quote(column)} = (SELECT k.c1 FROM temp.{_SOUGHT} AS k "
                         f"WHERE k.c0 = {quote(table)}.rowid) WHERE rowid IN (SELECT c0 FROM temp.{_SOUGHT})")

    def columns(self, table: str) -> dict[str, str]:
        """The columns of a table with their declared types; none when there is no such table."""
        return {r[0]: r[1] for r in self.ask(f"SELECT name, type FROM pragma_table_info({_text(table)})")}

    def loose_ends(self, table: str, first: int) -> list[str]:
        """The foreign key columns of a table that, in the rows from `first` on, lead nowhere."""
        links: dict[int, list[tuple[str, str, str]]] = {}
        for number, parent, own, key in self.ask(
                f'SELECT id, "table", "from", COALESCE("to", \'\') FROM pragma_foreign_key_list({_text(table)})'):
            links.setdefault(number, []).append((parent, own, key))
        out = []
        for pairs in links.values():
            there = " AND ".join(f"p.{quote(key)} = t.{quote(own)}" for _, own, key in pairs)
            filled = " AND ".join(f"t.{quote(own)} IS NOT NULL" for _, own, _ in pairs)
            if self.ask(f"SELECT t.rowid FROM {quote(table)} AS t WHERE t.rowid >= {first} AND {filled} AND NOT EXISTS "
                        f"(SELECT 1 FROM {quote(pairs[0][0])} AS p WHERE {there}) LIMIT 1"):
                out.append(" + ".join(own for _, own, _ in pairs))
        return out


def _text(value: str) -> str:
    return "'" + value.replace("'", "''") + "'"
