"""A large new table is written by two threads.

SQLite lets one connection at a time write to a file. So a second thread puts pieces of the rows
into small files of its own, and the first, between pieces that it writes itself, moves them over:
from one table to another of the same shape SQLite copies records as they are, at a fifth of what
inserting them costs.
"""

from __future__ import annotations

import contextlib
import queue
import threading
from collections.abc import Iterable, Sequence
from itertools import chain
from pathlib import Path
from typing import Any

import pyarrow as pa

from kerfmark.store.prefetch import has_two_cores
from kerfmark.store.quoting import quote
from kerfmark.store.sqlite.connection import arrow_driver, insert_batches

FAST = (
    "journal_mode=off",
    "synchronous=off",
    "locking_mode=exclusive",
    "cache_size=-8000",
    "temp_store=file",
)
"""For a file that nobody knows of yet: if anything goes wrong, it is thrown away."""
PAGE = 16_384
"""Bytes of a page."""
_HERE, _THERE = 3, 5
"""Batches that the first thread writes for so many of the second, which is busy for as long: the
first has to move them, too."""
ROUND = _HERE + _THERE


class _Stopped(Exception):
    """The first thread has failed."""


def worth_two(batches: Sequence[pa.RecordBatch]) -> bool:
    """Whether a second thread would make it faster."""
    return len(batches) > ROUND and has_two_cores()


def load_by_two(
    cursor: Any, path: Path, table: str, schema: pa.Schema, batches: Sequence[pa.RecordBatch]
) -> None:
    """Puts rows into an empty table of the file at `path`, on which `cursor` (of the Arrow driver)
    is open.

    The first column is the key, which counts from 1.
    """
    cursor.execute("SELECT sql FROM sqlite_master WHERE type = 'table' AND name = ?", (table,))
    [(create,)] = cursor.fetchall()
    full: queue.Queue[Path | BaseException] = queue.Queue(1)
    stop = threading.Event()
    there = {
        path.with_name(f"{path.name}-{at}"): range(at + _HERE, min(at + ROUND, len(batches)))
        for at in range(0, len(batches) - _HERE, ROUND)
    }
    cells = pa.schema(list(schema)[1:])

    def made(numbers: Iterable[int]) -> Iterable[pa.RecordBatch]:
        for number in numbers:
            if stop.is_set():
                raise _Stopped
            yield batches[number]

    def fill() -> None:
        try:
            for piece, numbers in there.items():
                if stop.is_set():  # no file is made any more
                    return
                _write(piece, create, table, schema, made(numbers))
                full.put(piece)
        except BaseException as error:  # handed on to the first thread
            full.put(error)

    second = threading.Thread(target=fill, daemon=True)
    try:
        second.start()
        for at in range(0, len(batches), ROUND):
            some = (b.select(cells.names) for b in made(range(at, min(at + _HERE, len(batches)))))
            insert_batches(cursor, table, cells, some)
            if at + _HERE < len(batches):
                piece = full.get()
                if isinstance(piece, BaseException):
                    raise piece
                _move(cursor, piece, table)
    finally:
        stop.set()
        _end(second, full, there)


def _end(second: threading.Thread, full: queue.Queue[Any], pieces: Iterable[Path]) -> None:
    """Waits for the second thread and removes what is left of its files. An interrupt, or another
    one, is heard afterwards."""
    heard: KeyboardInterrupt | None = None
    while True:
        try:
            while second.is_alive():  # it may be waiting for room
                with contextlib.suppress(queue.Empty):
                    full.get(timeout=0.05)
            for piece in pieces:
                piece.unlink(missing_ok=True)
            break
        except KeyboardInterrupt as error:
            heard = error
    if heard is not None:
        raise heard


def _write(
    piece: Path, create: str, table: str, schema: pa.Schema, batches: Iterable[pa.RecordBatch]
) -> None:
    """Makes a file with one table and its rows. The first one is told its key; those after it count
    on."""
    driver = arrow_driver()

    with driver.connect(str(piece), autocommit=True) as connection, connection.cursor() as cursor:
        for statement in (f"PRAGMA page_size={PAGE}", *(f"PRAGMA {p}" for p in FAST), create):
            cursor.execute(statement)
        rest = iter(batches)
        first = next(rest)
        cells = pa.schema(list(schema)[1:])
        cursor.adbc_ingest(table, pa.Table.from_batches([first.slice(0, 1)]), mode="append")
        some = (b.select(cells.names) for b in chain([first.slice(1)], rest))
        insert_batches(cursor, table, cells, some)


def _move(cursor: Any, piece: Path, table: str) -> None:
    """Takes the rows of a file over, and removes it."""
    cursor.execute("ATTACH ? AS piece", (str(piece),))
    cursor.execute("PRAGMA piece.mmap_size=100000000")
    cursor.execute(f"INSERT INTO main.{quote(table)} SELECT * FROM piece.{quote(table)}")
    cursor.execute("DETACH piece")
    piece.unlink()
