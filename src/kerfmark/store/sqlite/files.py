"""SQLite files that are there: opening them for reading, quoting, errors in our words, and links that lead nowhere.

Loads neither Arrow nor SQLAlchemy, so that looking into a small database is quick.
"""

from __future__ import annotations

import contextlib
import sqlite3
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any
from urllib.parse import quote as url_quote

from kerfmark.errors import KerfmarkError, Origin, TargetError


def quote(name: str) -> str:
    """A name as an SQL identifier."""
    return '"' + name.replace('"', '""') + '"'


_CAUSES = (
    (("locked", "busy"), "another program is writing to the database", "run the command again when it has finished"),
    (("full", "no space"), "the disk is full", "make room and run the command again"),
    (("readonly", "read-only"), "the database cannot be written to", "change its permissions, or those of its folder"),
    (("malformed", "not a database"), "the database is damaged", ""),
)
"""What a driver's message means, by words in it: what, and what to do."""


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
        what, next_ = next(((w, n) for words, w, n in _CAUSES if any(word in text for word in words)),
                           ("the database refused the rows" if driver else "the database cannot be used", ""))
        raise TargetError(what, code="target.failed", origin=Origin(str(target)), why=str(error).splitlines()[0],
                          next=next_) from error


def is_database(path: Path) -> bool:
    """Whether a file is an SQLite database, or empty (which SQLite takes for one)."""
    with path.open("rb") as file:
        return file.read(16) in (b"", b"SQLite format 3\x00")


def no_ledger(path: Path | str) -> TargetError:
    """The error for a database that Kerfmark did not make."""
    return TargetError("Kerfmark did not make this database", code="target.no-ledger", origin=Origin(str(path)),
                       why="its tables kerfmark_layouts, kerfmark_loads and kerfmark_files are missing",
                       next="make one with kerfmark cut FILE --into DB")


def copy_database(path: Path, to: Path) -> None:
    """Makes a copy of a database by the engine's own means.

    Raises TargetError when the copy exists already or cannot be written.
    """
    if to.exists():
        raise TargetError("the file for the copy exists already", code="target.exists", origin=Origin(str(to)),
                          next="name another file")
    with (translated(to), contextlib.closing(sqlite3.connect(path)) as db, contextlib.closing(sqlite3.connect(to)) as copy):
        db.backup(copy)


def existing_database(path: Path) -> Path:
    """The path of an SQLite file that is there.

    Raises TargetError when there is none or it is something else.
    """
    origin = Origin(str(path))
    if not path.exists():
        raise TargetError("there is no such database", code="target.missing", origin=origin,
                          next="check the name and the folder")
    if path.is_dir():
        raise TargetError("this is a folder, not a database", code="target.folder", origin=origin)
    with translated(path):
        if not is_database(path):
            raise TargetError("this is not an SQLite database", code="target.not-a-database", origin=origin,
                              why="it does not begin as one")
    return path


@contextlib.contextmanager
def reading(path: Path) -> Iterator[sqlite3.Connection]:
    """An existing SQLite file, for reading only. What a program that was killed left half done is taken back first.

    Raises TargetError when there is none or it is something else.
    """
    origin = Origin(str(existing_database(path)))
    with translated(path):
        journal = path.with_name(path.name + "-journal")
        if journal.exists():
            with contextlib.suppress(sqlite3.OperationalError), contextlib.closing(sqlite3.connect(path)) as db:
                db.execute("SELECT count(*) FROM sqlite_master").fetchone()
        with contextlib.closing(sqlite3.connect(_read_only(path), uri=True)) as db:
            try:
                db.execute("SELECT count(*) FROM sqlite_master").fetchone()
            except sqlite3.DatabaseError as error:
                raise TargetError("this is not an SQLite database", code="target.not-a-database", origin=origin,
                                  why=str(error)) from error
            yield db


def _read_only(path: Path) -> str:
    """The URI under which SQLite opens a file for reading only."""
    return f"file:{url_quote(str(path.resolve()))}?mode=ro"


def broken_links(ask: Callable[[str], Sequence[Sequence[Any]]], table: str) -> list[str]:
    """The foreign key columns of a table with a value that its parent does not have; `ask` gives the rows of a query.

    The same as `PRAGMA foreign_key_check`, but each distinct value is looked up once instead of once per row: the index
    on the column is walked from value to value. Where somebody dropped the index, and for links of several columns, the slower
    way is taken.
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
        if ask(f"WITH RECURSIVE kerfmark_walk(at) AS (SELECT min(t.{column}) FROM {quote(table)} AS t UNION ALL"
               f" SELECT (SELECT min(t.{column}) FROM {quote(table)} AS t WHERE t.{column} > kerfmark_walk.at)"
               " FROM kerfmark_walk WHERE kerfmark_walk.at IS NOT NULL)"
               " SELECT w.at FROM kerfmark_walk AS w WHERE w.at IS NOT NULL"
               f" AND NOT EXISTS (SELECT 1 FROM {parent} AS p WHERE p.{key} = w.at) LIMIT 1"):
            out.append(link[3])
    return out


def asking(db: sqlite3.Connection) -> Callable[[str], Sequence[Sequence[Any]]]:
    """A way to ask a connection."""
    return lambda sql: db.execute(sql).fetchall()
