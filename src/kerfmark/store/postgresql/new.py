"""PostgreSQL: tables are built in one transaction, structure included, so that they are there whole
or not at all.

Rows come first, by COPY; keys, foreign keys and indexes are made in bulk once they are in.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Mapping, Sequence

import pyarrow as pa

from kerfmark.address import Address
from kerfmark.errors import KerfmarkError, Origin, TargetError
from kerfmark.layout.model import Layout
from kerfmark.store import outcome
from kerfmark.store.companion import (
    NUMBER,
    companion,
    companion_keys,
    companions,
    natural_keys,
    with_companion,
)
from kerfmark.store.ddl import Statements, statements
from kerfmark.store.driver_errors import FAILED
from kerfmark.store.interface import Reader, not_ours
from kerfmark.store.ledger_schema import NAMES, ledger_tables
from kerfmark.store.names import views_of
from kerfmark.store.postgresql.connection import connected
from kerfmark.store.postgresql.dialect import LEDGER, dialect
from kerfmark.store.postgresql.grants import Grant, grants, restored
from kerfmark.store.postgresql.reader import PostgresReader
from kerfmark.store.quoting import literal, quote
from kerfmark.store.server import built_already, name_taken


class NewSchema:
    """Tables that are being built (see `interface.New`)."""

    short_texts = 0

    def __init__(self, where: Address, replace: bool) -> None:
        self.where, self.replace = where, replace
        self.connection = connected(where)
        self.reader = PostgresReader(where.shown, self.connection)
        self.remarks = self.reader.remarks
        self._granted: list[Grant] = []
        try:
            self._refuse()
        except BaseException:
            self.discard()
            raise

    @property
    def codec(self) -> str:
        """See `interface.New`."""
        return self.reader.codec

    def _refuse(self) -> None:
        """Raises TargetError where something was built already, before any work."""
        there = self.reader.ask("SELECT current_schema()")[0][0] is not None
        if there and self.reader.facts("kerfmark_loads") and not self.replace:
            raise built_already(self.where.shown, "--schema NAME builds in another schema")
        if not there and not self.where.schema:
            raise TargetError(
                "the database has no schema to build in",
                code="target.missing",
                origin=Origin(self.where.shown),
                next="name one with --schema",
            )
        self.execute("ROLLBACK")

    def __enter__(self) -> NewSchema:
        return self

    def __exit__(self, *error: object) -> None:
        self.discard()

    def discard(self) -> None:
        """Nothing was committed."""
        with contextlib.suppress(Exception):
            self.connection.close()

    def to_engine(self, values: pa.Array) -> pa.Array:
        """Typed values stay as they are: they go in binary form."""
        return values

    def create(self, layout: Layout, headers: Mapping[str, Sequence[str]]) -> None:
        """Makes the tables."""
        self.layout = layout
        if self.where.schema and not self.reader.ask("SELECT current_schema()")[0][0]:
            self.execute(f"CREATE SCHEMA {quote(self.where.schema)}")
        lock_schema(self.reader, self.where)
        if self.replace and self.reader.facts("kerfmark_loads"):
            self._drop_old()
        taken = {*self.reader.tables(), *self.reader.views()}
        wanted = [*layout.tables, *views_of(layout, headers)]
        if clash := next((n for n in wanted if n in taken), ""):
            raise name_taken(clash, self.where.shown, "a schema (--schema)")
        self._statements: Statements = statements(layout, headers, dialect())
        for statement in self._statements.tables:
            self.execute(statement)
        for table, keys in natural_keys(layout).items():
            self.execute(
                f"CREATE TABLE {quote(companion(table))} AS SELECT CAST(0 AS bigint) AS {NUMBER}, "
                f"{', '.join(map(quote, keys))} FROM {quote(table)} WHERE false"
            )

    def _drop_old(self) -> None:
        from kerfmark.layout.text import parse_layout

        [(text,)] = self.reader.ask(
            "SELECT layout FROM kerfmark_layouts ORDER BY layout_id DESC LIMIT 1"
        )
        old = parse_layout(text, "the layout in the database")
        if old.existing:
            raise not_ours(self.where.shown)
        self.execute("LOCK TABLE kerfmark_loads IN ACCESS EXCLUSIVE MODE")  # readers first
        self._granted = grants(self.reader)
        for statement in dropping(self.reader, old):
            self.execute(statement)

    def load(
        self, table: str, schema: pa.Schema, batches: Iterable[pa.RecordBatch], *, numbered: bool
    ) -> None:
        """Puts rows into a table."""
        keys = [] if numbered else self.layout.key_columns(table)
        mine: list[pa.RecordBatch] = []
        self.reader.copy_new(table, schema, with_companion(batches, keys, mine), frozen=True)
        for batch in mine:
            self.reader.copy_new(companion(table), batch.schema, [batch])

    def finish(self) -> None:
        """Makes keys, indexes and views, and the tables of the ledger."""
        self.execute("SET LOCAL maintenance_work_mem TO '256MB'")
        for statement in (*self._statements.after_rows(), *ledger_tables(LEDGER)):
            self.execute(statement)
        for table, keys in natural_keys(self.layout).items():
            self.execute(companion_keys(table, companion(table), keys))
        for table in self.layout.tables:
            if self.layout.has_generated_key(table):
                count_on(self.reader, table, self.layout.key_of(table))

    def execute(self, sql: str) -> None:
        """Runs a statement."""
        self.reader.execute(sql)

    def append(self, table: str, rows: pa.Table) -> None:
        """Adds rows to a table of the ledger."""
        self.reader.append(table, rows)

    def verify(self, expected: dict[str, int]) -> None:
        """Raises KerfmarkError unless every table has the rows it should have; the links were
        checked when they were made."""
        if wrong := self.reader.nearly_all(expected):
            raise KerfmarkError(
                "the database that was built is not what it should be; nothing was kept",
                code="internal",
                why="; ".join(wrong),
                next="this is a fault of Kerfmark: please report it",
            )

    def publish(self) -> None:
        """Makes it stay."""
        ours = outcome.loads(self.reader)
        self.remarks += restored(self.reader, self._granted)
        with outcome.found_out(self.where.shown, lambda: has_landed(self.where, ours)):
            self.reader.commit_step()
        with contextlib.suppress(
            KerfmarkError
        ):  # only the planner's knowledge: nothing depends on it
            for table in self.layout.tables:
                self.execute(f"ANALYZE {quote(table)}")
            self.reader.commit_step()


def lock_schema(reader: PostgresReader, where: Address) -> None:
    """Lets one program at a time build in a schema, until the transaction ends."""
    schema = f"COALESCE(current_schema(), {literal(where.schema)})"
    reader.execute(
        f"SELECT pg_advisory_xact_lock(hashtext({literal('kerfmark')}), hashtext({schema}))"
    )


def has_landed(where: Address, ours: outcome.Loads | None) -> bool:
    """See `outcome.found_out`: asked over another connection, once nobody changes the database."""
    connection = connected(where)
    with contextlib.closing(connection):
        reader = PostgresReader(where.shown, connection)
        lock_schema(reader, where)
        if reader.facts("kerfmark_loads"):
            try:
                reader.execute("LOCK TABLE kerfmark_loads IN SHARE ROW EXCLUSIVE MODE")
            except TargetError as error:
                if error.code != FAILED[0]:
                    raise
                reader.execute("ROLLBACK")  # the transaction has just taken it away
        there = outcome.loads(reader) if reader.facts("kerfmark_loads") else None
        return outcome.landed(ours, there)


def dropping(reader: Reader, layout: Layout, *, ledger: bool = True) -> list[str]:
    """The statements that drop what was made by a layout, with the `ledger` or without."""
    tables = [
        *companions(reader, layout),
        *([] if layout.existing else reversed(layout.parents_first())),
        *(NAMES if ledger else ()),
    ]
    return [
        *(f"DROP VIEW IF EXISTS {quote(v)}" for v in views_of(layout)),
        *(f"DROP TABLE IF EXISTS {quote(t)}" for t in tables),
    ]


def count_on(reader: PostgresReader, table: str, key: str) -> None:
    """Lets the generated key of a table go on after its highest value."""
    reader.ask(
        f"SELECT setval(pg_get_serial_sequence({literal(quote(table))}, {literal(key)}), "
        f"GREATEST(1, (SELECT COALESCE(MAX({quote(key)}), 0) FROM {quote(table)})), "
        f"(SELECT COUNT(*) FROM (SELECT 1 FROM {quote(table)} LIMIT 1) AS one) > 0) "
        f"WHERE pg_get_serial_sequence({literal(quote(table))}, {literal(key)}) IS NOT NULL"
    )
