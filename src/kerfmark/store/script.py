"""SQL scripts: what a cut would do, for an engine that is not at hand. Its own client runs them.

Values are spelled as SQL once per distinct value, in whole columns. A script for an engine that Kerfmark works with brings the
tables of the ledger too, so that files can be added to the database that it makes.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, TextIO

import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.errors import Origin, TargetError, UsageError
from kerfmark.layout.model import Layout
from kerfmark.profile.types import ColumnType
from kerfmark.store.copied import as_they_are, counting_key
from kerfmark.store.database import Changing, Reader, TableFacts
from kerfmark.store.ddl import Statements, Way, statements
from kerfmark.store.own import SQLITE, own_tables
from kerfmark.store.server import NUMBER, companion, natural_keys, numbered_keys
from kerfmark.store.tabbed import spelled
from kerfmark.store.views import quoting, view

ENGINES = ("postgresql", "mariadb", "mysql", "sqlite", "sqlserver", "oracle")
_ROWS = 500
"""Rows of one INSERT."""
_ORACLE_TEXT = 1000
"""Characters of a text that Oracle takes as a literal, whatever its bytes."""


@dataclass(frozen=True)
class _Engine:
    """How the scripts of an engine are written: what they begin and end with, what ends a statement, how values are spelled, and
    what follows the rows of a table with a generated key (`{table}`, `{key}`, `{quoted}`)."""

    dialect: Callable[[], Any]
    way: Way
    begin: tuple[str, ...]
    end: tuple[str, ...]
    yes_no: tuple[str, str] = ("1", "0")
    text: Callable[[pa.Array], pa.Array] = lambda values: _quoted(values)
    moment: str = "'{}'"
    date: str = "'{}'"
    before_rows: str = ""
    after_rows: str = ""
    stop: str = ";"
    row: str = "({})"
    between: str = ",\n"
    insert: str = "INSERT INTO {table} ({columns}) VALUES"
    own: Mapping[str, str] | None = None
    own_end: str = ""


def _quoted(values: pa.Array, before: str = "'") -> pa.Array:
    return pc.binary_join_element_wise(before, pc.replace_substring(values, "'", "''"), "'", "")


def _mysql_text(values: pa.Array) -> pa.Array:
    for plain, escaped in (("\\", "\\\\"), ("'", "''"), ("\r", "\\r"), ("\n", "\\n"), ("\x1a", "\\Z")):
        values = pc.replace_substring(values, plain, escaped)
    return pc.binary_join_element_wise("'", values, "'", "")


def _oracle_text(values: pa.Array) -> pa.Array:
    if not pc.any(pc.greater(pc.utf8_length(values), _ORACLE_TEXT)).as_py():
        return _quoted(values)
    return pa.array([None if v is None else " || ".join(
        f"TO_CLOB('{v[i:i + _ORACLE_TEXT].replace(chr(39), chr(39) * 2)}')" for i in range(0, max(len(v), 1), _ORACLE_TEXT))
        for v in values.to_pylist()], pa.string())


def _engine(name: str) -> _Engine:
    """How scripts for an engine are written."""
    if name == "postgresql":
        from kerfmark.store.postgresql.new import SPELLED
        from kerfmark.store.postgresql.speech import dialect, type_of

        return _Engine(
            dialect, Way(type_of, identity=True, keys_later=True, links_later=True, longest=63),
            ("SET client_encoding TO 'UTF8'", "SET standard_conforming_strings TO on", "BEGIN"), ("COMMIT",), ("true", "false"),
            after_rows="SELECT setval(pg_get_serial_sequence('{quoted}', '{key}'), GREATEST(1, {rows}), {rows} > 0)", own=SPELLED)
    if name in ("mysql", "mariadb"):
        from kerfmark.store.mysql.new import SPELLED
        from kerfmark.store.mysql.speech import dialect, keyed_type_of, type_of

        collation = "utf8mb4_nopad_bin" if name == "mariadb" else "utf8mb4_0900_bin"
        options = {"mysql_engine": "InnoDB", "mysql_charset": "utf8mb4", "mysql_collate": collation}
        return _Engine(
            dialect, Way(type_of, keyed_type_of, links_later=True, longest=64, options=options),
            ("SET NAMES utf8mb4", "SET sql_mode = 'STRICT_ALL_TABLES,ANSI_QUOTES,NO_ENGINE_SUBSTITUTION'", "SET autocommit = 0"),
            ("COMMIT",), text=_mysql_text, own=SPELLED, own_end=f" ENGINE InnoDB COLLATE {collation}")
    if name == "sqlite":
        from sqlalchemy.dialects import sqlite

        from kerfmark.store.sqlite.build import type_of

        return _Engine(sqlite.dialect, Way(type_of), ("BEGIN",), ("COMMIT",), own=SQLITE)
    if name == "sqlserver":
        from sqlalchemy.dialects import mssql

        return _Engine(
            mssql.dialect, Way(_sqlserver_type, _sqlserver_keyed, links_later=True, longest=120), ("SET XACT_ABORT ON",), (),
            text=lambda values: _quoted(values, "N'"), before_rows="SET IDENTITY_INSERT {table} ON",
            after_rows="SET IDENTITY_INSERT {table} OFF", stop=";\nGO")
    if name == "oracle":
        from sqlalchemy.dialects import oracle

        return _Engine(
            oracle.dialect, Way(_oracle_type, _oracle_keyed, identity=True, links_later=True, longest=120),
            ("SET DEFINE OFF\nSET SQLBLANKLINES ON\nWHENEVER SQLERROR EXIT FAILURE ROLLBACK",), ("COMMIT",), text=_oracle_text,
            moment="TIMESTAMP '{}'", date="DATE '{}'", row="SELECT {} FROM dual", between=" UNION ALL\n",
            insert="INSERT INTO {table} ({columns})",
            after_rows="ALTER TABLE {table} MODIFY {key} GENERATED BY DEFAULT AS IDENTITY (START WITH LIMIT VALUE)")
    raise UsageError(f'there are no scripts for "{name}"', next=f"name one of {', '.join(ENGINES)}")


def _sqlserver_type(type_: ColumnType) -> Any:
    from sqlalchemy import BigInteger, Unicode
    from sqlalchemy.dialects import mssql

    from kerfmark.store.ddl import usual_type

    if type_.kind == "text":
        return Unicode(type_.width) if 0 < type_.width <= 4000 else mssql.NVARCHAR(None)
    if type_.kind == "timestamp":
        return mssql.DATETIME2(precision=0)  # type: ignore[no-untyped-call]
    return BigInteger() if type_.kind == "integer" else usual_type(type_)


def _sqlserver_keyed(type_: ColumnType, among: int) -> Any:
    from sqlalchemy import Unicode

    return Unicode(min(type_.width or 800, 800 // among)) if type_.kind == "text" else _sqlserver_type(type_)


def _oracle_type(type_: ColumnType) -> Any:
    from sqlalchemy import TIMESTAMP, BigInteger, Numeric, String

    from kerfmark.store.ddl import usual_type

    if type_.kind == "time":                            # Oracle has no type for it
        return String(8)
    if type_.kind == "boolean":                         # nor had it one for this for long
        return Numeric(1, 0)
    if type_.width > _ORACLE_TEXT:
        return usual_type(replace(type_, width=0))
    return BigInteger() if type_.kind == "integer" else TIMESTAMP() if type_.kind == "timestamp" else usual_type(type_)


def _oracle_keyed(type_: ColumnType, among: int) -> Any:
    from sqlalchemy import String

    return String(min(type_.width or _ORACLE_TEXT, _ORACLE_TEXT // among)) if type_.kind == "text" else _oracle_type(type_)


@dataclass
class ScriptFile:
    """A script as a place to cut into (see `database.Database`)."""

    path: Path
    engine: str
    written: Mapping[str, Any] = field(default_factory=dict)

    @property
    def name(self) -> str:
        """The path."""
        return str(self.path)

    @property
    def folder(self) -> Path | None:
        """A database of SQLite is made beside the script; a server knows no folders."""
        return self.path.parent if self.engine == "sqlite" else None

    @property
    def layout_path(self) -> Path:
        """Beside the script."""
        return self.path.with_name(self.path.stem + ".layout.toml")

    replaced_whole = True

    def exists(self) -> bool:
        """A script is no database that could be asked what is in it."""
        return False

    def new(self, replace: bool) -> NewScript:
        """A script to write. Raises TargetError where that will not do."""
        if self.path.is_dir() or not self.path.parent.is_dir():
            raise TargetError("the script cannot be written there", code="target.no-folder", origin=Origin(self.name),
                              next="name a file in a folder that exists")
        if self.path.exists() and not replace:
            raise TargetError("the file exists already", code="target.exists", origin=Origin(self.name),
                              why="nothing is overwritten unasked", next="name another file, or say --replace")
        return NewScript(self.path, self.engine)

    def reading(self) -> contextlib.AbstractContextManager[Reader]:
        """A script is only written."""
        raise NotImplementedError

    def changing(self, adopt: Layout | None = None) -> contextlib.AbstractContextManager[Changing]:
        """A script is only written."""
        raise NotImplementedError

    def copy(self, to: Path) -> None:
        """A script is only written."""
        raise NotImplementedError

    def size(self) -> int:
        """Its bytes."""
        return self.path.stat().st_size


class NewScript:
    """A script that is being written (see `database.New`)."""

    def __init__(self, path: Path, engine: str) -> None:
        self.path, self.engine, self.speech = path, engine, _engine(engine)
        self.dialect = self.speech.dialect()
        self.quote = quoting(self.dialect)
        self.part = path.with_name(f".{path.name}.{os.getpid()}.part")
        self.remarks: list[str] = []

    def __enter__(self) -> NewScript:
        try:
            self.file: TextIO = self.part.open("w", encoding="utf-8", newline="\n")
        except OSError as error:
            raise TargetError("the script cannot be written there", code="target.unwritable", origin=Origin(str(self.path)),
                              why=str(error.strerror)) from error
        return self

    def __exit__(self, *error: object) -> None:
        self.discard()

    def discard(self) -> None:
        """Removes what was not published."""
        with contextlib.suppress(Exception):
            self.file.close()
        self.part.unlink(missing_ok=True)

    def stored(self, values: pa.Array) -> pa.Array:
        """Typed values as SQL literals."""
        kind = values.type
        if pa.types.is_boolean(kind):
            return pc.if_else(values, *self.speech.yes_no)
        if pa.types.is_string(kind):
            return self.speech.text(values)
        if pa.types.is_date(kind):
            return self._formed(values, self.speech.date)
        if pa.types.is_timestamp(kind):
            return self._formed(values, self.speech.moment)
        if pa.types.is_time(kind):
            return _quoted(spelled(values))
        if pa.types.is_floating(kind):
            return pa.array([None if v is None else repr(v) for v in values.to_pylist()], pa.string())
        return pc.cast(spelled(values), pa.string())

    def _formed(self, values: pa.Array, form: str) -> pa.Array:
        before, after = form.split("{}")
        return pc.binary_join_element_wise(before, spelled(values), after, "")

    def _say(self, *what: str) -> None:
        for statement in what:
            self.file.write(f"{statement}{self.speech.stop}\n")

    def create(self, layout: Layout, headers: Mapping[str, Sequence[str]]) -> None:
        """Writes how the tables are made."""
        self._counting = {t: layout.key_of(t) for t in layout.tables if layout.has_generated_key(t)}
        self._numbered = natural_keys(layout) if self.speech.own and self.engine != "sqlite" else {}
        self._with_ledger = self.speech.own is not None
        self._begin(statements(layout, headers, self.dialect, self.speech.way))

    def create_again(self, tables: Sequence[TableFacts], types: Mapping[str, Mapping[str, ColumnType]], layout: Layout | None,
                     headers: Mapping[str, Sequence[str]]) -> None:
        """Writes how tables are made that a database has, parents first, without a ledger; with the views of a layout."""
        self._counting = {t.name: key for t in tables if (key := counting_key(t))}
        self._numbered, self._with_ledger = {}, False
        made = as_they_are(tables, types, self.dialect, self.speech.way)
        if layout is not None:
            made.views.extend(view(layout, s, h, self.dialect, self.speech.way.longest) for s, h in headers.items())
        self._begin(made)

    def _begin(self, made: Statements) -> None:
        self._statements = made
        self.file.write(f"-- made by Kerfmark for {self.engine}: tables, rows, keys, links and views\n")
        self._say(*self.speech.begin, *self._statements.tables)
        if self._numbered:
            for table, keys in self._numbered.items():
                number = "bigint" if self.engine == "postgresql" else "SIGNED"
                own = ", ".join(map(self.quote, keys))
                self._say(f"CREATE TABLE {self.quote(companion(table))}{self.speech.own_end} AS "
                          f"SELECT CAST(0 AS {number}) AS {NUMBER}, {own} FROM {self.quote(table)} WHERE 1 = 0")

    def load(self, table: str, schema: pa.Schema, batches: Iterable[pa.RecordBatch], *, numbered: bool, last: int = 0) -> None:
        """Writes rows; `last` is the highest number that a key has which counts, where that is not how many rows there are."""
        quoted, keys = self.quote(table), self._numbered.get(table, [])
        generated = self._counting.get(table, "")
        rows = 0
        kept: list[pa.RecordBatch] = []
        if generated and self.speech.before_rows:
            self._say(self.speech.before_rows.format(table=quoted))
        for batch in batches:
            self._insert(quoted, schema.names, batch)
            if keys:
                kept.append(numbered_keys(batch, keys, rows + 1))
            rows += batch.num_rows
        for batch in kept:
            self._insert(self.quote(companion(table)), [NUMBER, *keys], batch)
        if generated and self.speech.after_rows:
            self._say(self.speech.after_rows.format(
                table=quoted, quoted=quoted.replace("'", "''"), rows=last or rows,
                key=generated.replace("'", "''") if self.engine == "postgresql" else self.quote(generated)))

    def _insert(self, table: str, columns: Sequence[str], batch: pa.RecordBatch) -> None:
        cells = [pc.fill_null(c if pa.types.is_string(c.type) else pc.cast(c, pa.string()), "NULL") for c in batch.columns]
        before, after = self.speech.row.split("{}")
        lines = pc.binary_join_element_wise(before, pc.binary_join_element_wise(*cells, ", "), after, "").to_pylist()
        head = self.speech.insert.format(table=table, columns=", ".join(map(self.quote, columns)))
        for start in range(0, len(lines), _ROWS):
            self._say(head + "\n" + self.speech.between.join(lines[start:start + _ROWS]))

    def finish(self) -> None:
        """Writes keys, indexes, links and views, and the tables of the ledger."""
        made = self._statements
        self._say(*made.keys, *made.indexes, *made.links, *made.views, *made.comments)
        if self.speech.own is None or not self._with_ledger:
            return
        for table, keys in self._numbered.items():
            own = ", ".join(map(self.quote, keys))
            self._say(f"ALTER TABLE {self.quote(companion(table))} ADD PRIMARY KEY ({NUMBER}), ADD UNIQUE ({own}), "
                      f"ADD FOREIGN KEY ({own}) REFERENCES {self.quote(table)} ({own}) ON UPDATE CASCADE ON DELETE CASCADE")
        self._say(*(t + self.speech.own_end for t in own_tables(self.speech.own)))

    def execute(self, sql: str, rows: Sequence[Sequence[Any]] = ((),)) -> None:
        """Writes a statement once per row of parameters; those of the ledger, where the engine has one."""
        if not self._with_ledger:
            return
        for row in rows:
            pieces = sql.split("?")
            values = [self.stored(pa.array([v], pa.string()))[0].as_py() if isinstance(v, str) else str(v) for v in row]
            self._say("".join(p + v for p, v in zip(pieces, [*values, ""], strict=True)))

    def verify(self, expected: dict[str, int]) -> None:
        """The engine that runs the script will look."""

    def publish(self) -> None:
        """Gives the finished script its name."""
        self._say(*self.speech.end)
        self.file.close()
        self.part.replace(self.path)
