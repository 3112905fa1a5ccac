"""SQLite files: where they are, opening them for reading, errors in our words, and links that lead nowhere.

Loads neither Arrow nor SQLAlchemy, so that looking into a small database is quick.
"""

from __future__ import annotations

import contextlib
import re
import sqlite3
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import quote as url_quote

from kerfmark import memory
from kerfmark.errors import KerfmarkError, Origin, TargetError
from kerfmark.store.ahead import two_cores
from kerfmark.store.database import OWN, ColumnFacts, LinkFacts, TableFacts, literal, quote

if TYPE_CHECKING:
    import pyarrow as pa

    from kerfmark.layout.model import Layout
    from kerfmark.profile.types import ColumnType
    from kerfmark.store.sqlite.build import NewFile
    from kerfmark.store.sqlite.working import OpenFile


_SAMPLES = {"int64": "0", "double": "0.5", "string": "''"}
_BATCH = 65_536
"""Rows per batch."""
_NAME = '"(?:[^"]|"")+"'
_EQUAL = rf"{_NAME}\.{_NAME} = {_NAME}\.{_NAME}"
_JOINS = rf"(\nLEFT JOIN {_NAME}( AS {_NAME})? ON {_EQUAL}( AND {_EQUAL})*)*"
"""What a view that does nothing but join others to its first table has after the name of that."""
_NUMBER = "typeof({0}) NOT IN ('integer', 'real', 'null')"
_ODD = {
    "text": "typeof({0}) NOT IN ('text', 'null')", "integer": "typeof({0}) NOT IN ('integer', 'null')", "real": _NUMBER,
    "decimal": f"{_NUMBER} OR round({{0}}, {{scale}}) <> {{0}}", "boolean": "{0} IS NOT NULL AND {0} NOT IN (0, 1)",
    "date": "{0} IS NOT date({0})", "timestamp": "{0} IS NOT datetime({0})", "time": "{0} IS NOT time({0})",
}
"""When a cell is no value of its type."""
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
        if driver and text.strip() == "not_implemented":        # it was interrupted, and cannot stop in the middle
            raise KeyboardInterrupt from error
        what, next_ = next(((w, n) for words, w, n in _CAUSES if any(word in text for word in words)),
                           ("the database refused the rows" if driver else "the database cannot be used", ""))
        raise TargetError(what, code="target.failed", origin=Origin(str(target)), why=str(error).splitlines()[0],
                          next=next_) from error


def is_database(path: Path) -> bool:
    """Whether a file is an SQLite database, or empty (which SQLite takes for one)."""
    with path.open("rb") as file:
        return file.read(16) in (b"", b"SQLite format 3\x00")


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
def reading(path: Path) -> Iterator[SqliteReader]:
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
            yield SqliteReader(path, db)


class SqliteSpeech:
    """How SQLite says what the engines say in different ways, and what its catalog tells (see `database.Reader`)."""

    nth = "rowid"
    longest_name = 0
    in_order = True
    keeps_links = False                                 # they are only looked at where a program asks for it
    name: str

    def ask(self, sql: str) -> Sequence[Sequence[Any]]:
        """The rows that a query gives."""
        raise NotImplementedError

    def tables(self) -> list[str]:
        """The tables, those that were made last (children) first."""
        return [n for (n,) in self.ask(
            "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\'"
            f" AND name NOT LIKE '{OWN.replace('_', chr(92) + '_')}%' ESCAPE '\\' ORDER BY rowid DESC")]

    def views(self) -> list[str]:
        """The views."""
        return [n for (n,) in self.ask("SELECT name FROM sqlite_master WHERE type = 'view' ORDER BY name")]

    def facts(self, table: str) -> TableFacts | None:
        """What a table or view is made of."""
        name = literal(table)
        columns = self.ask(f"SELECT name, COALESCE(type, ''), \"notnull\", pk, dflt_value IS NOT NULL, hidden "
                           f"FROM pragma_table_xinfo({name}) WHERE hidden <> 1")
        if not columns:
            return None
        key = tuple(c[0] for c in sorted(columns, key=lambda c: c[3]) if c[3])
        by_itself = key[0] if len(key) == 1 else ""     # an INTEGER PRIMARY KEY counts on by itself
        unique = tuple(tuple(str(c[0]) for c in self.ask(f"SELECT COALESCE(name, '') FROM pragma_index_info({literal(i[0])})"))
                       for i in self.ask(f"SELECT name FROM pragma_index_list({name}) WHERE \"unique\" AND origin <> 'pk' "
                                         "AND NOT partial ORDER BY seq DESC"))
        links: dict[int, list[tuple[str, str, str]]] = {}
        for number, *link in self.ask(f"SELECT id, \"from\", \"table\", COALESCE(\"to\", '') "
                                      f"FROM pragma_foreign_key_list({name}) ORDER BY id DESC, seq"):
            links.setdefault(number, []).append((link[0], link[1], link[2]))
        return TableFacts(
            table, tuple(ColumnFacts(c[0], c[1], not c[2] and not c[3],
                                     bool(c[4]) or (c[0] == by_itself and c[1].upper() == "INTEGER"), c[5] > 1) for c in columns),
            key, tuple(u for u in unique if "" not in u), tuple(self._link(pairs) for pairs in links.values()))

    def _link(self, pairs: Sequence[tuple[str, str, str]]) -> LinkFacts:
        parent = pairs[0][1]
        key = [to for _, _, to in pairs]
        if not all(key):                                # a link that names no columns leads to the primary key
            own = [r[0] for r in self.ask(f"SELECT name FROM pragma_table_info({literal(parent)}) WHERE pk ORDER BY pk")]
            key = own if len(own) == len(pairs) else ["rowid"] * len(pairs)
        return LinkFacts(tuple(own for own, _, _ in pairs), parent, tuple(key))

    def row(self, table: str, alias: str) -> str:
        """SQLite numbers every row by itself."""
        return f"{alias}.rowid"

    def text(self, expression: str) -> str:
        """An expression as text."""
        return f"CAST({expression} AS TEXT)"

    def exact(self, expression: str) -> str:
        """A literal of SQL; a whole number is the same in a column that keeps it as an integer and in one of reals."""
        whole = f"typeof({expression}) = 'real' AND {expression} = CAST({expression} AS INTEGER)"
        return f"NULLIF(quote(CASE WHEN {whole} THEN CAST({expression} AS INTEGER) ELSE {expression} END), 'NULL')"

    def is_numbered(self, table: str) -> bool:
        """Every table but those that are made without it."""
        return not self.ask(f"SELECT 1 FROM pragma_table_list({literal(table)}) WHERE wr AND schema = 'main'")

    def said(self, expression: str) -> str:
        """SQLite gives values as they are stored."""
        return expression

    def as_stored(self, values: Sequence[Any], type_: pa.DataType) -> pa.Array:
        """Values as they are stored already."""
        import pyarrow as pa

        return pa.array([float(v) if isinstance(v, int) else v for v in values] if pa.types.is_floating(type_) else values, type_)

    def stored(self, values: pa.Array) -> pa.Array:
        """Typed values as SQLite holds them."""
        from kerfmark.store.sqlite.build import stored

        return stored(values)

    def halves(self, view: str, base: str, before: int) -> tuple[str, str] | None:
        """What to ask instead of a view that does nothing but join others to its first table, a part of which is taken."""
        made = self.ask(f"SELECT sql FROM sqlite_master WHERE type = 'view' AND name = {literal(view)}")
        _, _, asked = str(made[0][0]).partition(" AS\n") if made else ("", "", "")
        first = self.ask(f"SELECT rowid FROM {quote(base)} ORDER BY rowid LIMIT 1 OFFSET {before}")
        if (not first or not two_cores() or memory.scarce() or re.search(r"\b(DISTINCT|UNION|EXCEPT|INTERSECT)\b", asked, re.I)
                or not re.fullmatch(rf"SELECT .*\nFROM {re.escape(quote(base))}{_JOINS}", asked, re.DOTALL)):
            return None
        return f"({asked}\nWHERE {quote(base)}.rowid < {first[0][0]})", f"({asked}\nWHERE {quote(base)}.rowid >= {first[0][0]})"

    def broken_links(self, table: str) -> list[str]:
        """The foreign key columns of a table with a value that its parent does not have."""
        return broken_links(self.ask, table)

    def attached(self, tables: Sequence[str]) -> list[tuple[str, str]]:
        """Triggers and indexes of tables, and tables that refer to these. Views are not known by what they show."""
        if not tables:
            return []
        ours = {t.lower() for t in tables}
        out = [(str(kind), str(name)) for kind, name in self.ask(
            "SELECT type, name FROM sqlite_master WHERE type IN ('trigger', 'index') AND sql IS NOT NULL "
            f"AND lower(tbl_name) IN ({', '.join(map(literal, ours))}) ORDER BY name")]
        for table in self.tables():
            facts = self.facts(table) if table.lower() not in ours else None
            out += [("table", table) for link in (facts.links if facts else ()) if link.to.lower() in ours]
        return out

    def odd(self, rows: str, cells: Sequence[str], types: Sequence[ColumnType]) -> list[int]:
        """SQLite keeps whatever it is given in whatever column."""
        tests = ", ".join(f"max({_ODD[t.kind].format(cell, scale=t.scale)})" for cell, t in zip(cells, types, strict=True))
        return [i for i, odd in enumerate(self.ask(f"SELECT {tests} FROM {rows}")[0]) if odd]

    def readable(self, expression: str) -> str:
        """An expression as text, bytes as digits."""
        return f"CASE typeof({expression}) WHEN 'blob' THEN hex({expression}) ELSE CAST({expression} AS TEXT) END"

    def hexadecimal(self, expression: str) -> str:
        """Bytes as digits."""
        return f"hex({expression})"

    def dialect(self) -> Any:
        """The dialect in SQLAlchemy's sense."""
        from sqlalchemy.dialects import sqlite

        return sqlite.dialect()


class SqliteReader(SqliteSpeech):
    """An SQLite file that is being looked at."""

    def __init__(self, path: Path, db: sqlite3.Connection) -> None:
        self.path, self.name, self._db = path, str(path), db

    def ask(self, sql: str) -> list[tuple[Any, ...]]:
        """The rows that a query gives."""
        return self._db.execute(sql).fetchall()

    def batches(self, rows: str, cells: Sequence[str], types: Sequence[pa.DataType], order: str = "") -> Iterator[pa.RecordBatch]:
        """What expressions give for rows. The driver takes a column's type from its first row, so a sample row goes before."""
        import adbc_driver_sqlite.dbapi as driver

        sample = ", ".join(_SAMPLES[str(t)] for t in types)
        with (translated(self.path), driver.connect(_read_only(self.path), autocommit=True) as connection,
              connection.cursor() as cursor):
            cursor.adbc_statement.set_options(**{"adbc.sqlite.query.batch_rows": str(_BATCH)})
            asked = f"SELECT {', '.join(cells)} FROM {rows}"
            if order:                                   # the limit keeps SQLite from thinking that the order is of no use
                asked = f"SELECT * FROM ({asked} ORDER BY {order} LIMIT -1)"
            cursor.execute(f"SELECT {sample} UNION ALL {asked}")
            first = True
            for batch in cursor.fetch_record_batch():
                yield batch.slice(1) if first else batch
                first = False

    def rows(self, rows: str, cells: Sequence[str], types: Sequence[pa.DataType]) -> Iterator[tuple[Any, ...]]:
        """What expressions give for rows, as it is."""
        yield from self._db.execute(f"SELECT {', '.join(cells)} FROM {rows}")


@dataclass(frozen=True)
class SqliteFile:
    """The database of a path (see `database.Database`)."""

    path: Path

    @property
    def name(self) -> str:
        """The path."""
        return str(self.path)

    @property
    def folder(self) -> Path:
        """Files are named as seen from the folder of the database, so that both can be moved together."""
        return self.path.parent

    @property
    def layout_path(self) -> Path:
        """Beside the database."""
        return self.path.with_name(self.path.stem + ".layout.toml")

    replaced_whole = True

    def exists(self) -> bool:
        """Whether an SQLite database is there."""
        return self.path.is_file() and is_database(self.path)

    def new(self, replace: bool) -> NewFile:
        """A file to build."""
        from kerfmark.store.sqlite.build import NewFile

        return NewFile(self.path, replace=replace)

    def reading(self) -> contextlib.AbstractContextManager[SqliteReader]:
        """Looks into the file."""
        return reading(self.path)

    def changing(self, adopt: Layout | None = None) -> OpenFile:
        """Opens the file."""
        from kerfmark.store.sqlite.working import OpenFile

        return OpenFile(existing_database(self.path), adopt is not None)

    def copy(self, to: Path) -> None:
        """Copies the file."""
        copy_database(existing_database(self.path), to)

    def size(self) -> int:
        """The bytes of the file."""
        return self.path.stat().st_size


def _read_only(path: Path) -> str:
    """The URI under which SQLite opens a file for reading only."""
    return f"file:{url_quote(path.resolve().as_posix())}?mode=ro"


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
