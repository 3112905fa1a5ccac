"""SQLite files: telling them from others, opening them for reading, copying them, and the driver's
errors.

Loads neither Arrow nor SQLAlchemy, so that looking into a small database is quick.
"""

from __future__ import annotations

import contextlib
import re
import sqlite3
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import quote as url_quote

from kerfmark.engines import file_engine
from kerfmark.errors import KerfmarkError, Origin, TargetError
from kerfmark.leftovers import part_path, remove, sweep
from kerfmark.store.interface import PATIENCE
from kerfmark.store.quoting import quote

if TYPE_CHECKING:
    import pyarrow as pa

_CAUSES = (
    (
        ("too many columns",),
        "a table has more columns than an SQLite table takes (2,000)",
        "split it in the layout, or leave columns out",
    ),
    (
        ("locked", "busy"),
        "another program is writing to the database",
        "run the command again when it has finished",
    ),
    (("full", "no space"), "the disk is full", "make room and run the command again"),
    (
        ("disk i/o error", "too large"),
        "the disk is full, or it failed",
        "make room, or look at the disk, and run the command again",
    ),
    (
        ("unable to open",),
        "the database cannot be opened there",
        "look at the permissions of the file and its folder",
    ),
    (
        ("readonly", "read-only"),
        "the database cannot be written to",
        "change its permissions, or those of its folder",
    ),
    (("malformed", "not a database"), "the database is damaged", ""),
)
"""What a driver's message means, by words in it: what, and what to do."""
NOT_SQLITE = "name an SQLite database; kerfmark cut FILES --into DB makes one"
"""What to do where a file is something else."""


def arrow_driver() -> Any:
    """The module of the Arrow driver.

    In the main thread it has a way of its own of hearing an interrupt, in which one that comes just
    before a statement ends is lost. Without it Python hears every one, at the latest when the
    statement ends.
    """
    import adbc_driver_manager.dbapi as base
    import adbc_driver_sqlite.dbapi as driver

    base._blocking_call = _plain_call
    return driver


def _plain_call(
    function: Callable[..., Any], args: Sequence[Any], named: dict[str, Any], cancel: object
) -> Any:
    return function(*args, **named)


def insert_batches(
    cursor: Any, table: str, schema: pa.Schema, batches: Iterable[pa.RecordBatch]
) -> None:
    """Adds rows to a table by a cursor of the Arrow driver. An error in the making of the batches,
    or an interrupt, is raised as what it is: of it the driver knows only the beginning of its text.
    """
    import pyarrow as pa

    failed: list[BaseException] = []

    def made() -> Iterator[pa.RecordBatch]:
        try:
            yield from batches
        except BaseException as error:
            failed.append(error)
            raise

    try:
        rows = pa.RecordBatchReader.from_batches(schema, made())
        cursor.adbc_ingest(table, rows, mode="append")
    except Exception as error:
        if failed:
            raise failed[0] from error
        raise


_OF_DRIVER = re.compile(r"^[A-Z_]+: (\[SQLite\] )?((failed to execute|Failed to prepare query): )?")
"""What the driver says before the words of the engine."""


@contextlib.contextmanager
def translated(target: Path) -> Iterator[None]:
    """Turns the drivers' errors into ours."""
    try:
        yield
    except KerfmarkError:
        raise
    except Exception as error:
        driver = type(error).__module__.startswith("adbc_driver_manager")
        if not driver and not isinstance(error, sqlite3.Error | OSError):
            raise
        text = str(error).lower()
        if driver and "keyboardinterrupt" in text:  # it came while the driver asked for rows
            raise KeyboardInterrupt from error
        what, next_ = next(
            ((w, n) for words, w, n in _CAUSES if any(word in text for word in words)),
            ("the database refused the rows" if driver else "the database cannot be used", ""),
        )
        raise TargetError(
            what,
            code="target.failed",
            origin=Origin(str(target)),
            why=_OF_DRIVER.sub("", str(error).splitlines()[0]),
            next=next_,
        ) from error


def is_database(path: Path) -> bool:
    """Whether a file is an SQLite database, or empty (which SQLite takes for one)."""
    magic = file_engine().file_magic
    with path.open("rb") as file:
        return file.read(len(magic)) in (b"", magic)


def copy_database(path: Path, to: Path) -> None:
    """Makes a copy of a database by the engine's own means.

    Raises TargetError when the copy exists already or cannot be written.
    """
    if to.exists():
        raise TargetError(
            "the file for the copy exists already",
            code="target.exists",
            origin=Origin(str(to)),
            next="name another file",
        )
    if not to.absolute().parent.is_dir():
        raise TargetError(
            "the folder for the copy does not exist",
            code="target.no-folder",
            origin=Origin(str(to)),
            next=f"make the folder {to.parent} first",
        )
    part = part_path(to)
    sweep(to)
    try:
        with (
            translated(to),
            contextlib.closing(sqlite3.connect(path, timeout=PATIENCE)) as db,
            contextlib.closing(sqlite3.connect(part)) as copy,
        ):
            db.backup(copy)
        with translated(to):
            part.replace(to)
    finally:
        for name in (part, part.with_name(f"{part.name}-journal")):
            remove(name)


def existing_database(path: Path) -> Path:
    """The path of an SQLite file that is there.

    Raises TargetError when there is none or it is something else.
    """
    origin = Origin(str(path))
    if not path.exists():
        raise TargetError(
            "there is no such database",
            code="target.missing",
            origin=origin,
            next="check the name and the folder",
        )
    if path.is_dir():
        raise TargetError(
            "this is a folder, not a database",
            code="target.folder",
            origin=origin,
            next="name the database in it",
        )
    with translated(path):
        if not is_database(path):
            raise TargetError(
                "this is not an SQLite database",
                code="target.not-a-database",
                origin=origin,
                why="it does not begin as one",
                next=NOT_SQLITE,
            )
    return path


def read_only(path: Path) -> str:
    """The URI under which SQLite opens a file for reading only."""
    return f"file:{url_quote(path.resolve().as_posix())}?mode=ro"


def broken_links(ask: Callable[[str], Sequence[Sequence[Any]]], table: str) -> list[str]:
    """The foreign key columns of a table with a value that its parent does not have; `ask` gives
    the rows of a query.

    The same as `PRAGMA foreign_key_check`, but each distinct value is looked up once instead of
    once per row: the index on the column is walked from value to value. Where somebody dropped the
    index, and for links of several columns, the slower way is taken.
    """
    indexes = ask(f"PRAGMA index_list({quote(table)})")
    indexed = {ask(f"PRAGMA index_info({quote(i[1])})")[0][2] for i in indexes if not i[4]}
    links = ask(f"PRAGMA foreign_key_list({quote(table)})")
    if any(link[4] is None or link[1] > 0 or link[3] not in indexed for link in links):
        wrong = {row[3] for row in ask(f"PRAGMA foreign_key_check({quote(table)})")}
        return [link[3] for link in links if link[0] in wrong]
    out = []
    for link in links:
        parent, column, key = quote(link[2]), quote(link[3]), quote(link[4])
        if ask(
            f"WITH RECURSIVE kerfmark_walk(at) AS (SELECT min(t.{column}) FROM {quote(table)} AS t "
            "UNION ALL"
            f" SELECT (SELECT min(t.{column}) FROM {quote(table)} AS t WHERE t.{column} > "
            "kerfmark_walk.at)"
            " FROM kerfmark_walk WHERE kerfmark_walk.at IS NOT NULL)"
            " SELECT w.at FROM kerfmark_walk AS w WHERE w.at IS NOT NULL"
            f" AND NOT EXISTS (SELECT 1 FROM {parent} AS p WHERE p.{key} = w.at) LIMIT 1"
        ):
            out.append(link[3])
    return out
