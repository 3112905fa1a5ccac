"""SQLite: a new database is built under a temporary name beside its target and renamed when it is
complete.

Promises: 1. until `publish`, the target is as it was; 2. rows go in through the Arrow driver, in
batches; 3. what is published has been asked, from a second connection, that every link resolves and
that every table has its rows.
"""

from __future__ import annotations

import contextlib
import os
import re
import sqlite3
import threading
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

import pyarrow as pa

from kerfmark.background_import import begin_import, wait_for_imports
from kerfmark.errors import NO_PLACE, KerfmarkError, Origin, TargetError
from kerfmark.layout.model import Layout
from kerfmark.leftovers import part_path, remove, sweep
from kerfmark.store.interface import not_ours
from kerfmark.store.ledger_schema import ledger_tables
from kerfmark.store.prefetch import prefetch
from kerfmark.store.quoting import quote
from kerfmark.store.sqlite.connection import (
    arrow_driver,
    broken_links,
    insert_batches,
    is_database,
    translated,
)
from kerfmark.store.sqlite.dialect import LEDGER, dialect, to_engine
from kerfmark.store.sqlite.parallel_load import FAST, PAGE, load_by_two, worth_two
from kerfmark.store.sqlite.replacing import OldFile

_SORTING = ("cache_size=-2000", "threads=1")
"""For the indexes: runs that fit the processor's cache, sorted by a second thread while the first
reads on."""


_EVERY = 0.5
"""Seconds between two times that the disk is asked to take over what was written."""


class NewFile:
    """An SQLite file that is being built. Use as a context: leaving it without `publish` leaves
    nothing behind."""

    short_texts = 0
    codec = ""

    def __init__(self, target: Path, *, replace: bool = False) -> None:
        if target.is_dir():
            raise TargetError(
                "this is a folder",
                code="target.folder",
                origin=Origin(str(target)),
                next="name a file in it, such as " + str(target / "data.db"),
            )
        if target.exists() and not replace:
            raise TargetError(
                "the database exists already",
                code="target.exists",
                origin=Origin(str(target)),
                why="nothing is overwritten unasked",
                next="name another file, or use --replace to build it anew",
            )
        if target.exists() and not is_database(target):
            raise TargetError(
                "this file is not an SQLite database, so it is not replaced",
                code="target.not-a-database",
                origin=Origin(str(target)),
                next="name another file, or remove this one yourself",
            )
        if target.exists() and _only_filled(target):
            raise not_ours(str(target))
        if not target.parent.is_dir():
            raise TargetError(
                "the folder for the database does not exist",
                code="target.no-folder",
                origin=Origin(str(target)),
                next=f"make the folder {target.parent} first",
            )
        self.target, self.replace = target, replace
        self._old = OldFile(target) if target.exists() else None
        self.remarks: list[str] = []
        self.path = part_path(target)
        begin_import("sqlalchemy.dialects.sqlite")

    def to_engine(self, values: pa.Array) -> pa.Array:
        """Typed values as SQLite holds them."""
        return to_engine(values)

    def __enter__(self) -> NewFile:
        try:
            sweep(self.target)
            remove(self.path)
            self._db = sqlite3.connect(self.path, isolation_level=None)
            self._db.execute(f"PRAGMA page_size={PAGE}")
            self._db.execute("VACUUM")
        except (OSError, sqlite3.Error) as error:
            raise TargetError(
                "the database cannot be written there",
                code="target.unwritable",
                origin=Origin(str(self.target)),
                why=str(error),
                next=NO_PLACE,
            ) from error
        for pragma in FAST:
            self._db.execute(f"PRAGMA {pragma}")
        return self

    def __exit__(self, *error: object) -> None:
        self.discard()

    def discard(self) -> None:
        """Removes what was not published. May be called at any time, and again."""
        wait_for_imports()
        if self._old is not None:
            self._old.close()
        if hasattr(self, "_db"):
            self._db.close()
        for name in (
            self.path,
            *(self.path.with_name(self.path.name + end) for end in ("-journal", "-wal", "-shm")),
        ):
            with contextlib.suppress(OSError):
                name.unlink(missing_ok=True)

    def create(self, layout: Layout, headers: Mapping[str, Sequence[str]]) -> None:
        """Makes the tables; indexes and views follow after the rows, in `finish`.

        `headers` are those of each source in their order, for its view.
        """
        wait_for_imports()
        from kerfmark.store.ddl import statements

        self._statements = statements(layout, headers, dialect())
        with translated(self.target):
            for statement in self._statements.tables:
                self._db.execute(statement)
            self._db.close()  # the Arrow driver brings an SQLite of its own

    def load(
        self, table: str, schema: pa.Schema, batches: Sequence[pa.RecordBatch], *, numbered: bool
    ) -> None:
        """Puts rows, as `to_engine` turns them out, into a table, in their order.

        Where they are `numbered`, the first column is the key, which counts from 1: SQLite numbers
        new rows just so by itself, and faster than when it is told. `verify` makes sure that it
        did.
        """
        driver = arrow_driver()

        cells = schema if len(schema) == 1 or not numbered else pa.schema(list(schema)[1:])
        with (
            translated(self.target),
            driver.connect(str(self.path), autocommit=True) as connection,
            connection.cursor() as cursor,
        ):
            for pragma in FAST:
                cursor.execute(f"PRAGMA {pragma}")
            if cells is not schema and worth_two(batches):
                load_by_two(cursor, self.path, table, schema, batches)
            else:
                rows = prefetch(b.select(cells.names) for b in batches)
                insert_batches(cursor, table, cells, rows)

    def finish(self) -> None:
        """Makes the indexes and views, and the tables of the ledger."""
        driver = arrow_driver()

        with translated(self.target):
            with (
                _written_out(self.path),
                driver.connect(str(self.path), autocommit=True) as connection,
                connection.cursor() as cursor,
            ):
                for pragma in (*FAST, *_SORTING):
                    cursor.execute(f"PRAGMA {pragma}")
                for statement in self._statements.after_rows():
                    cursor.execute(statement)
            self._db = sqlite3.connect(self.path, isolation_level=None)
            for pragma in FAST:
                self._db.execute(f"PRAGMA {pragma}")
            self._db.execute("PRAGMA analysis_limit=1000")
            self._db.execute("ANALYZE")
            for statement in ledger_tables(LEDGER):
                self._db.execute(statement)

    def append(self, table: str, rows: pa.Table) -> None:
        """Adds rows to a table of the ledger."""
        names = ", ".join(map(quote, rows.column_names))
        places = ", ".join("?" * rows.num_columns)
        with translated(self.target):
            self._db.executemany(
                f"INSERT INTO {quote(table)} ({names}) VALUES ({places})",
                zip(*(column.to_pylist() for column in rows.columns), strict=True),
            )

    def verify(self, expected: dict[str, int]) -> None:
        """Raises KerfmarkError unless every link resolves and every table has the rows it should
        have."""
        self._db.close()
        with translated(self.target), contextlib.closing(sqlite3.connect(self.path)) as second:
            second.execute("PRAGMA cache_size=-16000")
            broken = [
                f"{t}.{c}"
                for t in expected
                for c in broken_links(lambda sql: second.execute(sql).fetchall(), t)
            ]
            counts = {
                t: second.execute(f"SELECT count(*) FROM {quote(t)}").fetchone()[0]
                for t in expected
            }
            broken += [
                f"{t}.rowid"
                for t, n in expected.items()
                if n
                and second.execute(
                    f"SELECT (SELECT min(rowid) FROM {quote(t)}), (SELECT max(rowid) FROM "
                    f"{quote(t)})"
                ).fetchone()
                != (1, n)
            ]  # asked one by one, each is found at once
        if broken or counts != expected:
            raise KerfmarkError(
                "the database that was built is not what it should be; it was thrown away",
                code="internal",
                why=f"broken links: {broken}, rows {counts}, expected {expected}",
                next="this is a fault of Kerfmark: please report it",
            )

    def publish(self) -> None:
        """Gives the finished file its name, in one step."""
        try:
            with self.path.open("rb+") as file:
                os.fsync(file.fileno())
            if self._old is not None:
                self._old.give_way_to(self.path)
            else:
                _rename_new(self.path, self.target)
        except FileExistsError as error:
            raise TargetError(
                "the database exists already",
                code="target.exists",
                origin=Origin(str(self.target)),
                why="another program made it meanwhile",
                next="name another database, or look at this one and use --replace",
            ) from error
        except OSError as error:
            raise TargetError(
                "the database cannot be written there",
                code="target.unwritable",
                origin=Origin(str(self.target)),
                why=str(error.strerror),
                next=NO_PLACE,
            ) from error


@contextlib.contextmanager
def _written_out(path: Path) -> Iterator[None]:
    """Has the disk take over what was written so far, while the processor works on: it will be
    waited for before the file gets its name, and is then done."""
    over = threading.Event()

    def write() -> None:
        with contextlib.suppress(OSError), path.open("rb+") as file:
            while not over.is_set():
                os.fsync(file.fileno())
                over.wait(_EVERY)

    thread = threading.Thread(target=write, daemon=True)
    thread.start()
    try:
        yield
    finally:
        over.set()
        thread.join()


def _only_filled(path: Path) -> bool:
    """Whether somebody else made the tables of a database that Kerfmark has put rows into."""
    with contextlib.suppress(sqlite3.Error), contextlib.closing(sqlite3.connect(path)) as db:
        [(text,)] = db.execute(
            "SELECT layout FROM kerfmark_layouts ORDER BY layout_id DESC LIMIT 1"
        ).fetchall()
        return bool(re.search(r"(?m)^existing *= *true", text))
    return False


def _rename_new(path: Path, target: Path) -> None:
    """Renames unless the target exists."""
    try:
        os.link(path, target)
    except FileExistsError:
        raise
    except OSError:  # a file system without hard links
        if target.exists():
            raise FileExistsError(str(target)) from None
        path.replace(target)
