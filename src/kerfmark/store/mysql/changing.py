"""MySQL and MariaDB: a database that is there is changed in one transaction.

Changes of the structure commit by themselves: they come before all rows, and are taken back by hand
when the load fails.
"""

from __future__ import annotations

import contextlib
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING

import numpy as np
import pyarrow as pa

from kerfmark.address import Address
from kerfmark.store import outcome
from kerfmark.store.companion import NUMBER, companion, companions, natural_keys, numbered_keys
from kerfmark.store.interface import has_no_loads, known_already, no_ledger, refuse_taken
from kerfmark.store.ledger_schema import NAMES, ledger_tables
from kerfmark.store.mysql.connection import connected
from kerfmark.store.mysql.dialect import ledger_types
from kerfmark.store.mysql.pending import (
    PART,
    PENDING,
    complete,
    has_landed,
    lock_database,
    run_pending,
    where_there,
    write_pending,
)
from kerfmark.store.mysql.reader import MysqlReader
from kerfmark.store.names import views_of
from kerfmark.store.quoting import literal, quote

if TYPE_CHECKING:
    from kerfmark.layout.model import Layout
    from kerfmark.profile.types import ColumnType


class MysqlChanging(MysqlReader):
    """See `interface.Changing`."""

    def __init__(self, where: Address, adopt: Layout | None = None) -> None:
        super().__init__(where.shown, None)
        self.where, self.adopt = where, adopt
        self.back: list[str] = []
        self.counted: set[str] = set()
        self.making, self.written, self.dropped = False, 0, False
        self.after: list[str] = []

    def __enter__(self) -> MysqlChanging:
        self.connection = connected(self.where)
        try:
            lock_database(self)
            there = self.facts("kerfmark_loads") is not None
            if there and self.adopt is not None and not has_no_loads(self):
                raise known_already(self.name)
            if not there and self.adopt is None:
                raise no_ledger(self.name)
            if self.adopt is not None:
                self._adopt(self.adopt, there)
            self.execute("START TRANSACTION")
        except BaseException as error:
            self.__exit__(error)
            raise
        return self

    def _adopt(self, layout: Layout, there: bool) -> None:
        """Makes the ledger, unless it is there, and what numbers the rows of tables whose records
        have a key of their own."""
        natural = natural_keys(layout).items()
        new = {t: keys for t, keys in natural if not self.facts(companion(t))}
        made = [*map(companion, new), *(() if there else NAMES)]
        self._begin([f"DROP TABLE IF EXISTS {quote(name)}" for name in made])
        for statement in () if there else ledger_tables(ledger_types(self.mariadb)):
            self.execute(statement)
        self._number_rows(new)

    def _number_rows(self, natural: Mapping[str, Sequence[str]]) -> None:
        """Makes what numbers the rows of tables whose records have a key of their own."""
        for table, keys in natural.items():
            own, types = ", ".join(map(quote, keys)), self._types(table)
            typed = ", ".join(f"{quote(k)} {types[k]} NOT NULL" for k in keys)
            self.execute(
                f"CREATE TABLE {quote(companion(table))} ({NUMBER} bigint PRIMARY KEY, {typed}, "
                f"UNIQUE ({own}), "
                f"FOREIGN KEY ({own}) REFERENCES {quote(table)} ({own}) ON UPDATE CASCADE ON "
                "DELETE CASCADE) "
                "ENGINE InnoDB"
            )
            self.execute(
                f"INSERT INTO {quote(companion(table))} SELECT row_number() OVER (ORDER BY {own}), "
                f"{own} "
                f"FROM {quote(table)}"
            )

    def __exit__(self, *error: object) -> None:
        with contextlib.suppress(Exception):
            self.connection.rollback()
            for statement in reversed(self.back):
                run_pending(self, statement)
            self.back = []
            for table in self.counted:  # counters do not go back by themselves
                self.execute(f"ALTER TABLE {quote(table)} AUTO_INCREMENT = 1")
        with contextlib.suppress(Exception):
            self.connection.close()
        with contextlib.suppress(Exception):  # the connection had broken off
            if self.back:
                self.connection = connected(self.where)
                lock_database(self)
                self.connection.close()

    def commit(self) -> None:
        """Makes everything that was done stay."""
        if self.dropped:  # that is done already
            return
        if self.making:  # the tables are there to stay from the same moment on as their rows
            self.execute(f"DELETE FROM {PENDING}")
            for i, statement in enumerate(self.after):
                self.execute(f"INSERT INTO {PENDING} VALUES ({i}, {literal(statement)})")
        ours = outcome.loads(self)
        with outcome.found_out(self.name, lambda: has_landed(self.where, ours)):
            self.commit_step()
            self.back, self.counted = [], set()
            if self.making:
                self.making, self.after = False, []
                complete(self)

    def drop_all(self, layout: Layout) -> None:
        """Drops all that Kerfmark made: what is to be done is written down first, so that
        whoever opens the database next completes what a program that was killed has begun."""
        tables = [
            *companions(self, layout),
            *([] if layout.existing else reversed(layout.parents_first())),
            *NAMES,
        ]
        write_pending(
            self,
            [
                *(f"DROP VIEW IF EXISTS {quote(v)}" for v in views_of(layout)),
                "SET foreign_key_checks = 0",
                *(f"DROP TABLE IF EXISTS {quote(t)}" for t in tables),
            ],
        )
        with outcome.found_out(self.name, lambda: has_landed(self.where, None)):
            self.commit_step()
            complete(self)
        self.dropped = True

    def savepoint(self, name: str) -> None:
        """Remembers how far it has come."""
        self.execute(f"SAVEPOINT {name}")

    def rollback_to(self, name: str) -> None:
        """Takes back what was done since."""
        self.execute(f"ROLLBACK TO SAVEPOINT {name}")

    def insert(
        self, table: str, schema: pa.Schema, batches: Iterable[pa.RecordBatch], first: int
    ) -> None:
        """Adds rows. Rows of a table that lead to others of it may come before those; whether all
        lead somewhere is looked at afterwards."""
        key, known_by = self._numbering(table)
        batches = list(batches)
        with self._unlinked(table):
            self.copy_in(table, schema.names, batches)
        facts = self.facts(table) if key else None
        if facts and any(c.name == key and c.filled for c in facts.columns):
            self.counted.add(table)
        for batch in batches if known_by else ():
            self.copy_in(
                companion(table), [NUMBER, *known_by], [numbered_keys(batch, known_by, first)]
            )
            first += batch.num_rows

    def delete_rows(self, table: str, rows: np.ndarray) -> int:
        """Takes rows of a table away."""
        _, known_by = self._numbering(table)
        with self._unlinked(table) as unlinked:
            gone = super().delete_rows(table, rows)
        if known_by and unlinked:  # the companion has not followed by itself
            same = " AND ".join(f"t.{quote(k)} = n.{quote(k)}" for k in known_by)
            self.execute(
                f"DELETE n FROM {quote(companion(table))} AS n LEFT JOIN {quote(table)} AS t ON "
                f"{same} "
                f"WHERE t.{quote(known_by[0])} IS NULL"
            )
        return gone

    @contextlib.contextmanager
    def _unlinked(self, table: str) -> Iterator[bool]:
        """Lets the server not look row by row whether links resolve, where rows of a table lead to
        others of it."""
        facts = self.facts(table)
        own = facts is not None and any(link.to.lower() == table.lower() for link in facts.links)
        if own:
            self.execute("SET foreign_key_checks = 0")
        try:
            yield own
        finally:
            if own:
                self.execute("SET foreign_key_checks = 1")

    def clear(self, layout: Layout) -> None:
        """Puts tables aside, under other names, and takes views away. They go once the transaction
        is committed; else they get their names again."""
        tables = [
            t for t in (*map(companion, natural_keys(layout)), *layout.tables) if self.facts(t)
        ]
        aside = {t: f"{PART}old_{i}" for i, t in enumerate(tables)}
        views = views_of(layout)
        made = self.ask(
            "SELECT table_name, view_definition FROM information_schema.views WHERE table_schema = "
            f"DATABASE() AND table_name IN ({', '.join(map(literal, views))})"
        )
        moves = ", ".join(f"{quote(part)} TO {quote(t)}" for t, part in aside.items())
        self._begin(
            [
                where_there(aside[tables[0]], f"RENAME TABLE {moves}"),
                *(f"CREATE OR REPLACE VIEW {quote(n)} AS {definition}" for n, definition in made),
            ]
        )
        for name, _ in made:
            self.execute(f"DROP VIEW {quote(name)}")
        moves = ", ".join(f"{quote(t)} TO {quote(part)}" for t, part in aside.items())
        self.execute(f"RENAME TABLE {moves}")
        self.after += [
            "SET foreign_key_checks = 0",
            *(f"DROP TABLE IF EXISTS {quote(part)}" for part in aside.values()),
            "SET foreign_key_checks = 1",
        ]

    def _begin(self, taking_back: Sequence[str]) -> None:
        """Writes down how changes of the structure that follow are taken back, before those that
        came earlier are."""
        if not self.making:
            self.back.append(f"DROP TABLE IF EXISTS {PENDING}")
            write_pending(self, [])
            self.making = True
        self.written -= len(taking_back)
        for i, statement in enumerate(taking_back):
            self.execute(f"INSERT INTO {PENDING} VALUES ({self.written + i}, {literal(statement)})")
        self.commit_step()
        self.back += reversed(taking_back)

    def add_tables(self, layout: Layout, names: Collection[str]) -> None:
        """Makes tables beside those that are there. That they are to go again is written down
        first, for whoever opens the database after a program that was killed."""
        from kerfmark.store.ddl import statements_beside

        refuse_taken(self, names)
        own = {t: keys for t, keys in natural_keys(layout).items() if t in names}
        before = {t.source for n, t in layout.tables.items() if n not in names}
        new = [s for s in layout.sources if s not in before]
        taking_back = [
            "SET foreign_key_checks = 0",
            *(f"DROP VIEW IF EXISTS {quote(v)}" for v in views_of(layout, new)),
            *(f"DROP TABLE IF EXISTS {quote(t)}" for t in (*map(companion, own), *names)),
            "SET foreign_key_checks = 1",
        ]
        self._begin(taking_back)
        for statement in statements_beside(self, layout, names, self.dialect()):
            self.execute(statement)
        self._number_rows(own)

    def add_column(self, table: str, column: str, type_: ColumnType) -> None:
        """Gives a table a column more."""
        gone = f"ALTER TABLE {quote(table)} DROP COLUMN {quote(column)}"
        self._begin([where_there(table, gone, column)])
        self.execute(
            f"ALTER TABLE {quote(table)} ADD COLUMN {quote(column)} "
            f"{self.dialect().declared(type_)}"
        )

    def widen_column(self, table: str, column: str, type_: ColumnType) -> None:
        """Gives a column a wider type."""
        [(nullable,)] = self.ask(
            "SELECT is_nullable FROM information_schema.columns WHERE table_schema = DATABASE() "
            f"AND table_name = {literal(table)} AND column_name = {literal(column)}"
        )
        blank = "NULL" if nullable == "YES" else "NOT NULL"
        old = self._types(table)[column]
        self._begin([f"ALTER TABLE {quote(table)} MODIFY {quote(column)} {old} {blank}"])
        self.execute(
            f"ALTER TABLE {quote(table)} MODIFY {quote(column)} {self.dialect().declared(type_)} "
            f"{blank}"
        )

    def refresh_views(self, layout: Layout, headers: Mapping[str, Sequence[str]]) -> None:
        """Makes the views of some sources anew."""
        from kerfmark.layout.derive import settled
        from kerfmark.store.views import views

        whole = settled(layout, {s: names for s, names in headers.items() if names})
        for source, names in headers.items():
            for name in views_of(layout, [source]):
                old = self.ask(
                    "SELECT view_definition FROM information_schema.views WHERE table_schema = "
                    f"DATABASE() AND table_name = {literal(name)}"
                )
                if old and old[0][0]:
                    self._begin([f"CREATE OR REPLACE VIEW {quote(name)} AS {old[0][0]}"])
                    self.execute(f"DROP VIEW {quote(name)}")
                else:
                    self._begin([f"DROP VIEW IF EXISTS {quote(name)}"])
            for one in views(whole, source, names, self.dialect()) if names else ():
                self.execute(one.create("CREATE OR REPLACE"))
