"""SQLite: its catalogue, and reading rows.

Loads neither Arrow nor SQLAlchemy, so that looking into a small database is quick.
"""

from __future__ import annotations

import contextlib
import sqlite3
from collections.abc import Iterator, Sequence
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kerfmark import memory
from kerfmark.errors import Origin, TargetError
from kerfmark.own_tables import is_own
from kerfmark.store.interface import PATIENCE, ColumnFacts, LinkFacts, TableFacts
from kerfmark.store.prefetch import has_two_cores
from kerfmark.store.quoting import literal, quote, unquote
from kerfmark.store.sqlite.connection import (
    NOT_SQLITE,
    arrow_driver,
    broken_links,
    existing_database,
    read_only,
    translated,
)
from kerfmark.store.sqlite.create_table import checks_of

if TYPE_CHECKING:
    import pyarrow as pa

    from kerfmark.profile.types import ColumnType
    from kerfmark.store.sql_dialect import SqlDialect
    from kerfmark.store.views import ViewSql

_SAMPLES = {"int64": "0", "double": "0.5", "string": "''"}
_BATCH = 65_536
"""Rows per batch."""
_NUMBER = "typeof({0}) NOT IN ('integer', 'real', 'null')"
_ODD = {
    "text": "typeof({0}) NOT IN ('text', 'null')",
    "integer": "typeof({0}) NOT IN ('integer', 'null')",
    "real": _NUMBER,
    "decimal": f"{_NUMBER} OR round({{0}}, {{scale}}) <> {{0}}",
    "boolean": "{0} IS NOT NULL AND {0} NOT IN (0, 1)",
    "date": "{0} IS NOT date({0})",
    "timestamp": "{0} IS NOT datetime({0})",
    "time": "{0} IS NOT time({0})",
}
"""When a cell does not have the type of its column."""


class SqliteCatalog:
    """How SQLite is asked, and what its catalogue tells (see `interface.Reader`)."""

    codec = ""

    sequence = "rowid"
    longest_name = 0
    ordered_views = True
    enforces_links = False  # they are only looked at where a program asks for it
    name: str

    @cached_property
    def _row_names(self) -> dict[str, str]:
        return {}

    def ask(self, sql: str) -> Sequence[Sequence[Any]]:
        """The rows that a query gives."""
        raise NotImplementedError

    def tables(self) -> list[str]:
        """The tables, those that were made last (children) first."""
        return [
            n
            for (n,) in self.ask(
                "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE "
                "'sqlite\\_%' ESCAPE '\\' ORDER BY rowid DESC"
            )
            if not is_own(n)
        ]

    def views(self) -> list[str]:
        """The views."""
        return [
            n
            for (n,) in self.ask("SELECT name FROM sqlite_master WHERE type = 'view' ORDER BY name")
        ]

    def comments(self, table: str) -> dict[str, str]:
        """SQLite keeps no comments."""
        return {}

    def facts(self, table: str) -> TableFacts | None:
        """What a table or view is made of."""
        name = literal(table)
        columns = self.ask(
            f"SELECT name, COALESCE(type, ''), \"notnull\", pk, dflt_value IS NOT NULL, hidden "
            f"FROM pragma_table_xinfo({name}) WHERE hidden <> 1"
        )
        if not columns:
            return None
        key = tuple(c[0] for c in sorted(columns, key=lambda c: c[3]) if c[3])
        by_itself = key[0] if len(key) == 1 else ""  # an INTEGER PRIMARY KEY counts on by itself
        unique = tuple(
            tuple(
                str(c[0])
                for c in self.ask(
                    f"SELECT COALESCE(name, '') FROM pragma_index_info({literal(i[0])})"
                )
            )
            for i in self.ask(
                f"SELECT name FROM pragma_index_list({name}) WHERE \"unique\" AND origin <> 'pk' "
                "AND NOT partial ORDER BY seq DESC"
            )
        )
        unique = tuple(u for u in unique if all(u))  # an expression has no name
        links: dict[int, list[tuple[str, str, str]]] = {}
        for number, *link in self.ask(
            f'SELECT id, "from", "table", COALESCE("to", \'\') '
            f"FROM pragma_foreign_key_list({name}) ORDER BY id DESC, seq"
        ):
            links.setdefault(number, []).append((link[0], link[1], link[2]))
        return TableFacts(
            table,
            tuple(
                ColumnFacts(
                    c[0],
                    c[1],
                    not c[2] and not c[3],
                    bool(c[4]) or (c[0] == by_itself and c[1].upper() == "INTEGER"),
                    c[5] > 1,
                )
                for c in columns
            ),
            key,
            tuple(u for u in unique if "" not in u),
            tuple(self._link(pairs) for pairs in links.values()),
        )

    def _link(self, pairs: Sequence[tuple[str, str, str]]) -> LinkFacts:
        parent = pairs[0][1]
        key = [to for _, _, to in pairs]
        if not all(key):  # a link that names no columns leads to the primary key
            own = [
                r[0]
                for r in self.ask(
                    f"SELECT name FROM pragma_table_info({literal(parent)}) WHERE pk ORDER BY pk"
                )
            ]
            key = own if len(own) == len(pairs) else ["rowid"] * len(pairs)
        return LinkFacts(tuple(own for own, _, _ in pairs), parent, tuple(key))

    def row(self, table: str, alias: str) -> str:
        """SQLite numbers every row by itself, under three names: one that is no column's."""
        return f"{alias}.{self.row_name(table)}"

    def row_name(self, table: str) -> str:
        """What the number of a row of a table can be called."""
        if table not in self._row_names:
            there = {str(r[1]).lower() for r in self.ask(f"PRAGMA table_info({quote(table)})")}
            free = (n for n in ("rowid", "_rowid_", "oid") if n not in there)
            self._row_names[table] = next(free, "rowid")
        return self._row_names[table]

    def text(self, expression: str) -> str:
        """An expression as text."""
        return f"CAST({expression} AS TEXT)"

    def exact(self, expression: str) -> str:
        """A literal of SQL; a whole number is the same in a column that keeps it as an integer and
        in one of reals."""
        whole = f"typeof({expression}) = 'real' AND {expression} = CAST({expression} AS INTEGER)"
        return (
            f"NULLIF(quote(CASE WHEN {whole} THEN CAST({expression} AS INTEGER) ELSE "
            f"{expression} END), 'NULL')"
        )

    def is_numbered(self, table: str) -> bool:
        """Every table but those that are made without it."""
        return not self.ask(
            f"SELECT 1 FROM pragma_table_list({literal(table)}) WHERE wr AND schema = 'main'"
        )

    def raw(self, expression: str) -> str:
        """SQLite gives values as they are stored."""
        return expression

    def from_engine(self, values: Sequence[Any], type_: pa.DataType) -> pa.Array:
        """Values as they are stored already."""
        import pyarrow as pa

        return pa.array(
            [float(v) if isinstance(v, int) else v for v in values]
            if pa.types.is_floating(type_)
            else values,
            type_,
        )

    def to_engine(self, values: pa.Array) -> pa.Array:
        """Typed values as SQLite holds them."""
        from kerfmark.store.sqlite.dialect import to_engine

        return to_engine(values)

    def partition(self, view: ViewSql, base: str, before: int) -> tuple[str, str] | None:
        """The view as two queries, where it is in the database as it was made and does nothing
        but join others to its first table."""
        found = self.ask(
            "SELECT sql FROM sqlite_master WHERE type = 'view' AND name = "
            f"{literal(unquote(view.name))}"
        )
        if not found or found[0][0] != view.create():
            return None
        first = self.ask(f"SELECT rowid FROM {quote(base)} ORDER BY rowid LIMIT 1 OFFSET {before}")
        if not first or not has_two_cores() or memory.scarce():
            return None
        row = f"{quote(base)}.rowid"
        return (
            f"({view.query(f'{row} < {first[0][0]}')})",
            f"({view.query(f'{row} >= {first[0][0]}')})",
        )

    def broken_links(self, table: str) -> list[str]:
        """The foreign key columns of a table with a value that its parent does not have."""
        return broken_links(self.ask, table)

    def checks(self, table: str) -> dict[str, str]:
        """The conditions that are checked for each row."""
        found = self.ask(
            f"SELECT sql FROM sqlite_master WHERE type = 'table' AND name = {literal(table)}"
        )
        return dict(c for r in found for c in checks_of(r[0] or ""))

    def choices(self, table: str) -> dict[str, tuple[str, ...]]:
        """None: types have no lists of values here."""
        return {}

    def dependents(self, tables: Sequence[str]) -> list[tuple[str, str]]:
        """Triggers and indexes of tables, and tables that refer to these. Views are not known by
        what they show."""
        if not tables:
            return []
        ours = {t.lower() for t in tables}
        out = [
            (str(kind), str(name))
            for kind, name in self.ask(
                "SELECT type, name FROM sqlite_master WHERE type IN ('trigger', 'index') AND sql "
                "IS NOT NULL "
                f"AND lower(tbl_name) IN ({', '.join(map(literal, ours))}) ORDER BY name"
            )
        ]
        for table in self.tables():
            facts = self.facts(table) if table.lower() not in ours else None
            out += [
                ("table", table)
                for link in (facts.links if facts else ())
                if link.to.lower() in ours
            ]
        return out

    def mistyped(self, rows: str, cells: Sequence[str], types: Sequence[ColumnType]) -> list[int]:
        """SQLite keeps whatever it is given in whatever column."""
        tests = ", ".join(
            f"max({_ODD[t.kind].format(cell, scale=t.scale)})"
            for cell, t in zip(cells, types, strict=True)
        )
        return [i for i, odd in enumerate(self.ask(f"SELECT {tests} FROM {rows}")[0]) if odd]

    def readable_text(self, expression: str) -> str:
        """An expression as text, bytes as digits."""
        return (
            f"CASE typeof({expression}) WHEN 'blob' THEN hex({expression}) ELSE "
            f"CAST({expression} AS TEXT) END"
        )

    def hex_text(self, expression: str) -> str:
        """Bytes as digits."""
        return f"hex({expression})"

    def dialect(self) -> SqlDialect:
        """How SQLite's SQL is written."""
        from kerfmark.store.sqlite.dialect import dialect

        return dialect()


class SqliteReader(SqliteCatalog):
    """An SQLite file that is being looked at."""

    def __init__(self, path: Path, db: sqlite3.Connection) -> None:
        self.path, self.name, self._db = path, str(path), db

    def ask(self, sql: str) -> list[tuple[Any, ...]]:
        """The rows that a query gives."""
        return self._db.execute(sql).fetchall()

    def batches(
        self, rows: str, cells: Sequence[str], types: Sequence[pa.DataType], order: str = ""
    ) -> Iterator[pa.RecordBatch]:
        """What expressions give for rows. The driver takes a column's type from its first row, so a
        sample row goes before."""
        driver = arrow_driver()

        sample = ", ".join(_SAMPLES[str(t)] for t in types)
        with (
            translated(self.path),
            driver.connect(read_only(self.path), autocommit=True) as connection,
            connection.cursor() as cursor,
        ):
            cursor.adbc_statement.set_options(**{"adbc.sqlite.query.batch_rows": str(_BATCH)})
            asked = f"SELECT {', '.join(cells)} FROM {rows}"
            if order:  # the limit keeps SQLite from thinking that the order is of no use
                asked = f"SELECT * FROM ({asked} ORDER BY {order} LIMIT -1)"
            cursor.execute(f"SELECT {sample} UNION ALL {asked}")
            first = True
            for batch in cursor.fetch_record_batch():
                yield batch.slice(1) if first else batch
                first = False

    def rows(
        self, rows: str, cells: Sequence[str], types: Sequence[pa.DataType]
    ) -> Iterator[tuple[Any, ...]]:
        """What expressions give for rows, as it is."""
        yield from self._db.execute(f"SELECT {', '.join(cells)} FROM {rows}")


@contextlib.contextmanager
def reading(path: Path) -> Iterator[SqliteReader]:
    """An existing SQLite file, for reading only. What a program that was killed left half done is
    taken back first.

    Raises TargetError when there is none or it is something else.
    """
    origin = Origin(str(existing_database(path)))
    with translated(path):
        journal = path.with_name(path.name + "-journal")
        if journal.exists():
            with (
                contextlib.suppress(sqlite3.OperationalError),
                contextlib.closing(sqlite3.connect(path, timeout=PATIENCE)) as db,
            ):
                db.execute("SELECT count(*) FROM sqlite_master").fetchone()
        with contextlib.closing(sqlite3.connect(read_only(path), uri=True, timeout=PATIENCE)) as db:
            try:
                db.execute("SELECT count(*) FROM sqlite_master").fetchone()
            except sqlite3.OperationalError:  # locked, or out of reach
                raise
            except sqlite3.DatabaseError as error:
                raise TargetError(
                    "this is not an SQLite database",
                    code="target.not-a-database",
                    origin=origin,
                    why=str(error),
                    next=NOT_SQLITE,
                ) from error
            yield SqliteReader(path, db)
