"""show: what is in a database."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass
from pathlib import Path

from kerfmark.errors import Origin, UsageError
from kerfmark.store.sqlite.files import quote, reading


@dataclass(frozen=True)
class ColumnShown:
    """A column: its type as declared, whether it may be blank, and the table it links to (or "")."""

    name: str
    type: str
    optional: bool
    links_to: str


@dataclass(frozen=True)
class TableShown:
    """A table: rows, primary key, unique sets of columns, columns, and its first rows."""

    name: str
    rows: int
    key: tuple[str, ...]
    unique: tuple[tuple[str, ...], ...]
    columns: tuple[ColumnShown, ...]
    first_rows: tuple[tuple[object, ...], ...]


@dataclass(frozen=True)
class ShowResult:
    """What is in a database; `views` by name."""

    database: str
    tables: tuple[TableShown, ...]
    views: tuple[str, ...]


def show(database: str | Path, table: str | None = None, *, rows: int = 3) -> ShowResult:
    """The tables of an SQLite database, or one of them, with their first `rows` rows.

    Raises TargetError when it is no database, UsageError when it has no such table.
    """
    with reading(Path(database)) as db:
        names = [n for (n,) in db.execute(
            "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\'"
            " AND name NOT LIKE 'kerfmark\\_%' ESCAPE '\\' ORDER BY rowid DESC")]
        views = [n for (n,) in db.execute("SELECT name FROM sqlite_master WHERE type = 'view' ORDER BY name")]
        if table is not None:
            if table not in [*names, *views]:
                raise UsageError(f'there is no table "{table}"', origin=Origin(str(database)),
                                 next=f"the tables are {', '.join(names)}")
            names, views = [table], []
        return ShowResult(str(database), tuple(_table(db, n, rows) for n in names), tuple(views))


def _table(db: sqlite3.Connection, name: str, rows: int) -> TableShown:
    links = {r[3]: r[2] for r in db.execute(f"PRAGMA foreign_key_list({quote(name)})")}
    info = db.execute(f"PRAGMA table_info({quote(name)})").fetchall()
    unique = tuple(tuple(c[2] for c in db.execute(f"PRAGMA index_info({quote(i[1])})"))
                   for i in reversed(db.execute(f"PRAGMA index_list({quote(name)})").fetchall()) if i[2])
    return TableShown(
        name, int(db.execute(f"SELECT count(*) FROM {quote(name)}").fetchone()[0]),
        tuple(r[1] for r in sorted(info, key=lambda r: r[5]) if r[5]), unique,
        tuple(ColumnShown(r[1], r[2], not r[3] and not r[5], links.get(r[1], "")) for r in info),
        tuple(db.execute(f"SELECT * FROM {quote(name)} LIMIT ?", (rows,)).fetchall()))
