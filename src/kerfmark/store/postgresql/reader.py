"""PostgreSQL: its catalogue, reading rows, and adding rows in bulk."""

from __future__ import annotations

import codecs
import contextlib
import io
import re
from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv

from kerfmark.own_tables import is_own
from kerfmark.store.interface import ColumnFacts, LinkFacts, TableFacts
from kerfmark.store.postgresql.binary import END, HEAD, binary, can_be_binary
from kerfmark.store.postgresql.connection import translated
from kerfmark.store.postgresql.dialect import LONGEST_NAME, dialect, to_engine
from kerfmark.store.prefetch import prefetch
from kerfmark.store.quoting import literal, quote
from kerfmark.store.server import ServerReader
from kerfmark.store.sql_dialect import SqlDialect
from kerfmark.store.tab_separated import tab_separated

_CHUNK = 4_000_000
"""Bytes of rows that are taken apart at once."""
_OF = (
    "(SELECT c.oid FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace "
    "WHERE n.nspname = current_schema() AND c.relname = {})"
)
_NAMES = (
    "ARRAY(SELECT a.attname::text FROM unnest(c.{keys}) WITH ORDINALITY u(n, o) JOIN pg_attribute "
    "a "
    "ON a.attrelid = c.{table} AND a.attnum = u.n ORDER BY o)"
)


class PostgresReader(ServerReader):
    """See `interface.Reader` and `common_sql.SharedSql`."""

    longest_name = LONGEST_NAME

    @cached_property
    def codec(self) -> str:
        """How Python calls the encoding of the database; "" for UTF-8, and for one that it does not
        know."""
        said = str(self.ask("SHOW server_encoding")[0][0]).lower()
        if said in ("utf8", "sql_ascii"):
            return ""
        with contextlib.suppress(LookupError):
            return codecs.lookup(re.sub("^win", "cp", said)).name
        return ""

    def ask(self, sql: str) -> list[tuple[Any, ...]]:
        """The rows that a query gives."""
        with translated(self.name):
            return [tuple(r) for r in self.connection.execute(sql).fetchall()]

    def execute(self, sql: str) -> None:
        """Runs a statement."""
        with translated(self.name):
            self.connection.execute(sql)

    def commit_step(self) -> None:
        """Commits what was done so far."""
        with translated(self.name):
            self.connection.commit()

    def tables(self) -> list[str]:
        """The tables, those that were made last (children) first."""
        return [
            r[0]
            for r in self.ask(
                "SELECT c.relname::text FROM pg_class c JOIN pg_namespace n ON n.oid = "
                "c.relnamespace "
                "WHERE n.nspname = current_schema() AND c.relkind IN ('r', 'p') AND NOT "
                "c.relispartition ORDER BY c.oid DESC"
            )
            if not is_own(r[0])
        ]

    def views(self) -> list[str]:
        """The views."""
        return [
            r[0]
            for r in self.ask(
                "SELECT c.relname::text FROM pg_class c JOIN pg_namespace n ON n.oid = "
                "c.relnamespace "
                "WHERE n.nspname = current_schema() AND c.relkind IN ('v', 'm') ORDER BY c.relname"
            )
        ]

    def comments(self, table: str) -> dict[str, str]:
        """What the database says of the columns of a table, and ("") of the table itself."""
        rows = self.ask(
            "SELECT COALESCE(a.attname::text, ''), d.description FROM pg_description d LEFT JOIN "
            "pg_attribute a ON a.attrelid = d.objoid AND a.attnum = d.objsubid AND d.objsubid > 0 "
            f"WHERE d.classoid = 'pg_class'::regclass AND d.objoid = {_OF.format(literal(table))}"
        )
        return {str(r[0]): str(r[1]) for r in rows}

    def facts(self, table: str) -> TableFacts | None:
        """What a table or view is made of."""
        of = _OF.format(literal(table))
        columns = self.ask(
            "SELECT a.attname::text, format_type(a.atttypid, a.atttypmod), NOT a.attnotnull, "
            "a.atthasdef OR a.attidentity <> '', "
            "a.attgenerated <> '' OR a.attidentity = 'a' FROM pg_attribute a WHERE a.attrelid = "
            f"{of} AND a.attnum > 0 "
            "AND NOT a.attisdropped ORDER BY a.attnum"
        )
        if not columns:
            return None
        mine, theirs = (
            _NAMES.format(keys="conkey", table="conrelid"),
            _NAMES.format(keys="confkey", table="confrelid"),
        )
        rules = self.ask(
            f"SELECT c.contype::text, {mine}, {theirs}, "
            "(SELECT p.relname::text FROM pg_class p WHERE p.oid = c.confrelid) "
            f"FROM pg_constraint c WHERE c.conrelid = {of} AND c.contype IN ('p', 'f') ORDER BY "
            "c.oid"
        )
        unique = self.ask(
            "SELECT ARRAY(SELECT a.attname::text FROM unnest(c.indkey::int2[]) WITH ORDINALITY "
            "u(n, o) "
            "JOIN pg_attribute a ON a.attrelid = c.indrelid AND a.attnum = u.n "
            "WHERE u.o <= c.indnkeyatts ORDER BY o) "
            "FROM pg_index c "
            f"WHERE c.indrelid = {of} AND c.indisunique AND NOT c.indisprimary AND c.indpred IS "
            "NULL "
            "AND c.indexprs IS NULL ORDER BY c.indexrelid"
        )
        return TableFacts(
            table,
            tuple(ColumnFacts(*c) for c in columns),
            next((tuple(r[1]) for r in rules if r[0] == "p"), ()),
            tuple(tuple(u[0]) for u in unique),
            tuple(LinkFacts(tuple(r[1]), r[3], tuple(r[2])) for r in rules if r[0] == "f"),
        )

    def checks(self, table: str) -> dict[str, str]:
        """The conditions that are checked for each row."""
        found = self.ask(
            "SELECT conname::text, pg_get_constraintdef(oid) FROM pg_constraint WHERE conrelid = "
            f"{_OF.format(literal(table))} AND contype = 'c' ORDER BY conname"
        )
        return {r[0]: r[1] for r in found}

    def choices(self, table: str) -> dict[str, tuple[str, ...]]:
        """The columns of an enumerated type, and its values."""
        out: dict[str, tuple[str, ...]] = {}
        for column, label in self.ask(
            "SELECT a.attname::text, e.enumlabel::text FROM pg_attribute a "
            "JOIN pg_enum e ON e.enumtypid = a.atttypid WHERE a.attrelid = "
            f"{_OF.format(literal(table))} AND a.attnum > 0 ORDER BY a.attnum, e.enumsortorder"
        ):
            out[column] = (*out.get(column, ()), label)
        return out

    def dependents(self, tables: Sequence[str]) -> list[tuple[str, str]]:
        """Triggers, indexes and views of tables, and tables that refer to these."""
        if not tables:
            return []
        of = (
            "ARRAY(SELECT c.oid FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace "
            "WHERE n.nspname = current_schema() AND c.relname IN "
            f"({', '.join(map(literal, tables))}))"
        )
        return [
            (r[0], r[1])
            for r in self.ask(
                f"SELECT 'trigger', tgname::text FROM pg_trigger WHERE tgrelid = ANY ({of}) AND "
                "NOT tgisinternal UNION ALL "
                "SELECT 'index', c.relname::text FROM pg_index i JOIN pg_class c ON c.oid = "
                "i.indexrelid "
                f"WHERE i.indrelid = ANY ({of}) AND NOT EXISTS (SELECT 1 FROM pg_constraint k "
                "WHERE k.conindid = i.indexrelid AND k.contype IN ('p', 'u', 'x')) UNION "
                "SELECT 'view', v.relname::text FROM pg_depend d JOIN pg_rewrite r ON r.oid = "
                "d.objid "
                f"JOIN pg_class v ON v.oid = r.ev_class WHERE d.refobjid = ANY ({of}) UNION "
                "SELECT 'table', t.relname::text FROM pg_constraint k JOIN pg_class t ON t.oid = "
                "k.conrelid "
                f"WHERE k.contype = 'f' AND k.confrelid = ANY ({of}) AND NOT k.conrelid = ANY "
                f"({of})"
            )
            if not (r[0] == "table" and is_own(r[1]))
        ]

    def text(self, expression: str) -> str:
        """An expression as text."""
        return f"CAST({expression} AS text)"

    def given_back(self, table: str, column: str, expression: str) -> str:
        """What was kept as text, as the type of the column."""
        facts = self.facts(table)
        declared = next(c.type for c in facts.columns if c.name == column) if facts else "text"
        return f"CAST({expression} AS {declared})"

    def same(self, one: str, other: str) -> str:
        """The same, or both blank."""
        return f"{one} IS NOT DISTINCT FROM {other}"

    def to_engine(self, values: pa.Array) -> pa.Array:
        """Typed values as PostgreSQL takes them."""
        return to_engine(values)

    def broken_links(self, table: str) -> list[str]:
        """The foreign key columns of a table with a value that its parent does not have."""
        return self.broken_links_from(table, 0)

    def hex_text(self, expression: str) -> str:
        """Bytes as digits."""
        return f"encode({expression}, 'hex')"

    def dialect(self) -> SqlDialect:
        """How its SQL is written."""
        return dialect()

    def batches(
        self, rows: str, cells: Sequence[str], types: Sequence[pa.DataType], order: str = ""
    ) -> Iterator[pa.RecordBatch]:
        """What expressions give for rows."""
        asked = ", ".join(map(self.raw, cells))
        names = [str(i) for i in range(len(cells))]
        if order:
            rows = f"{rows} ORDER BY {order}"
        for chunk in self._copied(
            f"COPY (SELECT {asked} FROM {rows}) TO STDOUT (FORMAT csv, NULL '\\N', FORCE_QUOTE *)"
        ):
            table = pyarrow.csv.read_csv(
                io.BytesIO(chunk),
                pyarrow.csv.ReadOptions(column_names=names, use_threads=False),
                pyarrow.csv.ParseOptions(newlines_in_values=True),
                pyarrow.csv.ConvertOptions(
                    column_types={n: pa.string() for n in names},
                    null_values=["\\N"],
                    strings_can_be_null=True,
                    quoted_strings_can_be_null=False,
                ),
            )
            for batch in table.combine_chunks().to_batches():
                yield pa.RecordBatch.from_arrays(
                    [pc.cast(c, t) for c, t in zip(batch.columns, types, strict=True)], names=names
                )

    def _copied(self, sql: str) -> Iterator[bytes]:
        """What a COPY gives, in pieces of whole rows."""
        whole = False
        self.execute(
            "SAVEPOINT kerfmark_copied"
        )  # a COPY that is not read to its end is an error to the server
        try:
            yield from self._pieces(sql)
            whole = True
        finally:
            self.execute(f"{'RELEASE' if whole else 'ROLLBACK TO'} SAVEPOINT kerfmark_copied")

    def _pieces(self, sql: str) -> Iterator[bytes]:
        waiting: list[bytes] = []
        size = 0
        with translated(self.name), self.connection.cursor() as cursor, cursor.copy(sql) as copy:
            for piece in copy:  # the server sends row by row
                waiting.append(bytes(piece))
                size += len(piece)
                if size > _CHUNK:
                    yield b"".join(waiting)
                    waiting, size = [], 0
        if waiting:
            yield b"".join(waiting)

    def fill_sought(
        self, table: str, columns: Sequence[tuple[str, pa.Array]], numbers: Any
    ) -> None:
        """A temporary table, filled by COPY."""
        typed = ", ".join(
            f"t.{quote(c)} AS c{i}" if c else f"CAST(0 AS bigint) AS c{i}"
            for i, (c, _) in enumerate(columns)
        )
        self.execute(
            f"CREATE TEMPORARY TABLE {self.sought} ON COMMIT DROP AS "
            f"SELECT CAST(0 AS bigint) AS n, {typed} FROM {quote(table)} AS t WHERE false"
        )
        batch = pa.RecordBatch.from_arrays(
            [pa.array(numbers), *(v for _, v in columns)],
            names=["n", *(f"c{i}" for i in range(len(columns)))],
        )
        self.copy_in(self.sought, batch.schema.names, [batch])
        if batch.num_rows > 1000:
            self.execute(f"ANALYZE {self.sought}")

    def copy_in(self, table: str, columns: Sequence[str], batches: Any, options: str = "") -> None:
        """Adds rows by COPY."""
        names = ", ".join(map(quote, columns))
        with (
            translated(self.name),
            self.connection.cursor() as cursor,
            cursor.copy(f"COPY {quote(table)} ({names}) FROM STDIN{options}") as copy,
        ):
            for batch in batches:
                copy.write(tab_separated(batch))

    def copy_new(
        self,
        table: str,
        schema: pa.Schema,
        batches: Iterable[pa.RecordBatch],
        *,
        frozen: bool = False,
    ) -> None:
        """Adds rows of typed values: in binary form where all columns can be sent so."""
        facts = self.facts(table)
        declared = {c.name: c.type for c in facts.columns} if facts else {}
        if not can_be_binary(schema, declared):
            spelled_out = (
                pa.RecordBatch.from_arrays([to_engine(c) for c in b.columns], names=schema.names)
                for b in batches
            )
            self.copy_in(table, schema.names, spelled_out, " (FREEZE)" if frozen else "")
            return
        names, types = ", ".join(map(quote, schema.names)), [declared[n] for n in schema.names]
        options = "FORMAT binary" + (", FREEZE" if frozen else "")
        with (
            translated(self.name),
            self.connection.cursor() as cursor,
            cursor.copy(f"COPY {quote(table)} ({names}) FROM STDIN ({options})") as copy,
        ):
            copy.write(HEAD)
            for rows in prefetch(binary(batch, types) for batch in batches):
                copy.write(memoryview(rows))
            copy.write(END)

    def update(self, table: str, column: str, value: str, others: str, condition: str) -> None:
        """Gives a column new values."""
        self.execute(
            f"UPDATE {quote(table)} AS t SET {quote(column)} = {value} FROM {others} WHERE "
            f"{condition}"
        )
