"""MySQL and MariaDB, whose changes of the structure commit by themselves: tables are built under
names of their own and get their real ones in one step, all at once.

What has to follow that step (views, taking away what was replaced) is written down before it, so
that whoever opens the database next completes what a program that was killed has begun. What was
built and never named goes with the next cut.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Mapping, Sequence

import pyarrow as pa

from kerfmark.address import Address
from kerfmark.errors import KerfmarkError
from kerfmark.layout.model import Layout
from kerfmark.own_tables import OWN, TABLES
from kerfmark.store import outcome
from kerfmark.store.companion import NUMBER, companion, natural_keys, with_companion
from kerfmark.store.ddl import Statements, statements
from kerfmark.store.interface import LinkFacts, not_ours
from kerfmark.store.ledger_schema import NAMES, ledger_tables
from kerfmark.store.mysql.connection import connected
from kerfmark.store.mysql.dialect import ledger_types, options_text
from kerfmark.store.mysql.pending import (
    PART,
    PENDING,
    complete,
    drop_tables,
    has_landed,
    lock_database,
    write_pending,
)
from kerfmark.store.mysql.reader import MysqlReader, has_broken_link
from kerfmark.store.names import views_of
from kerfmark.store.quoting import quote
from kerfmark.store.server import built_already, name_taken


class NewTables:
    """Tables that are being built (see `interface.New`)."""

    short_texts = 0
    codec = ""

    def __init__(self, where: Address, replace: bool) -> None:
        self.where, self.replace = where, replace
        self.connection = connected(where)
        self.reader = MysqlReader(where.shown, self.connection)
        self.remarks = self.reader.remarks
        self.made: list[str] = []
        try:
            complete(self.reader)
            if self.reader.facts("kerfmark_loads") and not replace:
                raise built_already(where.shown, "name another database")
        except BaseException:
            self.discard()
            raise

    def __enter__(self) -> NewTables:
        return self

    def __exit__(self, *error: object) -> None:
        self.discard()

    def discard(self) -> None:
        """Drops what was made and not named."""
        made, self.made = self.made, []
        with contextlib.suppress(Exception):
            if made:
                self.connection.rollback()
                drop_tables(self.reader, made)
                made = []
        with contextlib.suppress(Exception):
            self.connection.close()
        with contextlib.suppress(Exception):  # the connection had broken off
            if made:
                self.connection = self.reader.connection = connected(self.where)
                drop_tables(self.reader, made)
                self.connection.close()

    def to_engine(self, values: pa.Array) -> pa.Array:
        """Typed values as these engines take them."""
        return self.reader.to_engine(values)

    def create(self, layout: Layout, headers: Mapping[str, Sequence[str]]) -> None:
        """Makes the tables."""
        lock_database(self.reader)
        self.layout, self.old = layout, self._old()
        mine = {n.lower() for n in self.old}
        taken = {
            n.lower(): n
            for n in (*self.reader.tables(), *self.reader.views())
            if n.lower() not in mine
        }
        wanted = [*layout.tables, *views_of(layout, headers)]
        if clash := next((taken[n.lower()] for n in wanted if n.lower() in taken), ""):
            raise name_taken(clash, self.where.shown, "a database")
        self.built_as = {t: f"{PART}{i}" for i, t in enumerate(layout.tables)}
        self._statements: Statements = statements(
            layout, headers, self.reader.dialect(), self.built_as
        )
        for table, statement in zip(layout.parents_first(), self._statements.tables, strict=True):
            self._make(self.built_as[table], statement)
        for i, (table, keys) in enumerate(natural_keys(layout).items()):
            part = self.built_as[companion(table)] = f"{PART}rows_{i}"
            self._make(
                part,
                f"CREATE TABLE {part}{options_text(self.reader.mariadb)} AS SELECT CAST(0 AS "
                f"SIGNED) AS {NUMBER}, "
                f"{', '.join(map(quote, keys))} FROM {quote(self.built_as[table])} WHERE 1 = 0",
            )
        for name, statement in zip(
            TABLES, ledger_tables(ledger_types(self.reader.mariadb), PART), strict=True
        ):
            self.built_as[OWN + name] = PART + name
            self._make(PART + name, statement)

    def _make(self, name: str, statement: str) -> None:
        self.made.append(name)
        self.reader.execute(statement)

    def _old(self) -> dict[str, str]:
        """What an earlier cut has made and is replaced: names, and whether each is a view."""
        if not self.reader.facts("kerfmark_loads"):
            return {}
        from kerfmark.layout.text import parse_layout

        [(text,)] = self.reader.ask(
            "SELECT layout FROM kerfmark_layouts ORDER BY layout_id DESC LIMIT 1"
        )
        layout = parse_layout(text, "the layout in the database")
        if layout.existing:
            raise not_ours(self.where.shown)
        tables = [*map(companion, natural_keys(layout)), *reversed(layout.parents_first()), *NAMES]
        return dict.fromkeys(views_of(layout), "VIEW") | {
            t: "TABLE" for t in tables if self.reader.facts(t)
        }

    def load(
        self, table: str, schema: pa.Schema, batches: Iterable[pa.RecordBatch], *, numbered: bool
    ) -> None:
        """Puts rows into a table."""
        keys = [] if numbered else self.layout.key_columns(table)
        mine: list[pa.RecordBatch] = []
        self.reader.copy_in(
            self.built_as[table], schema.names, with_companion(batches, keys, mine), told=table
        )
        if keys:
            self.reader.copy_in(self.built_as[companion(table)], [NUMBER, *keys], mine)
        self.reader.commit_step()

    def finish(self) -> None:
        """Makes indexes and foreign keys, those of a table at once; `verify` looks whether all
        links resolve."""
        changes: dict[str, list[str]] = {}
        for index in self._statements.indexes:
            changes.setdefault(index.table, []).append(
                f"ADD {index.kind} {index.name} ({', '.join(index.columns)})"
            )
        for link in self._statements.links:
            changes.setdefault(link.table, []).append(f"ADD {link.constraint}")
        for table, keys in natural_keys(self.layout).items():
            own = ", ".join(map(quote, keys))
            changes.setdefault(self.built_as[companion(table)], []).append(
                f"ADD PRIMARY KEY ({NUMBER}), ADD UNIQUE ({own}), ADD FOREIGN KEY ({own}) "
                f"REFERENCES {quote(self.built_as[table])} ({own}) ON UPDATE CASCADE ON DELETE "
                "CASCADE"
            )
        self.reader.execute(
            "SET foreign_key_checks = 0"
        )  # else the server would copy the whole table
        for table, some in changes.items():
            self.reader.execute(f"ALTER TABLE {table} {', '.join(some)}")

    def append(self, table: str, rows: pa.Table) -> None:
        """Adds rows to a table of the ledger that is being built."""
        self.reader.append(self.built_as[table], rows)

    def verify(self, expected: dict[str, int]) -> None:
        """Raises KerfmarkError unless every link resolves and every table has the rows it should
        have."""
        wrong = self.reader.nearly_all(
            {self.built_as[t]: n for t, n in expected.items() if self.layout.has_generated_key(t)}
        )
        for table in expected:
            for link, to in self.layout.tables[table].parents.items():
                pairs = self.layout.link_columns(table, link)
                facts = LinkFacts(
                    tuple(own for own, _ in pairs),
                    self.built_as[to],
                    tuple(key for _, key in pairs),
                )
                if has_broken_link(self.reader, self.built_as[table], facts):
                    wrong.append(f"{table}.{link} refers to a missing record")
        if wrong:
            raise KerfmarkError(
                "the database that was built is not what it should be; it was thrown away",
                code="internal",
                why="; ".join(wrong),
                next="this is a fault of Kerfmark: please report it",
            )

    def publish(self) -> None:
        """Gives everything its name, in one step, and completes it."""
        old = {
            n: f"{PART}old_{i}" for i, (n, kind) in enumerate(self.old.items()) if kind == "TABLE"
        }
        after = [
            f"DROP VIEW IF EXISTS {quote(n)}" for n, kind in self.old.items() if kind == "VIEW"
        ]
        after += [
            "SET foreign_key_checks = 0",
            *(f"DROP TABLE IF EXISTS {quote(n)}" for n in old.values()),
        ]
        after += [v.create("CREATE OR REPLACE") for v in self._statements.views]
        moves = [f"{quote(n)} TO {quote(part)}" for n, part in old.items()]
        moves += [f"{quote(part)} TO {quote(n)}" for n, part in self.built_as.items()]
        ours = outcome.loads(self.reader, PART)
        self.made.append(PENDING)
        with outcome.found_out(self.where.shown, lambda: has_landed(self.where, ours)):
            write_pending(self.reader, after)
            self.reader.commit_step()
            self.reader.execute(f"RENAME TABLE {', '.join(moves)}")
            self.made = []  # from here on nothing is taken back
            complete(self.reader)
        self.made = []  # nor where the answer was lost
