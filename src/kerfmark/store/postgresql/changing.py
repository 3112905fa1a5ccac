"""PostgreSQL: a database that is there is changed in one transaction, structure included."""

from __future__ import annotations

import contextlib
from collections.abc import Collection, Iterable, Mapping, Sequence
from typing import TYPE_CHECKING

import pyarrow as pa

from kerfmark.address import Address
from kerfmark.store import outcome
from kerfmark.store.companion import NUMBER, companion, companion_keys, natural_keys, numbered_keys
from kerfmark.store.interface import has_no_loads, known_already, no_ledger, refuse_taken
from kerfmark.store.ledger_schema import ledger_tables
from kerfmark.store.names import views_of
from kerfmark.store.postgresql.connection import connected
from kerfmark.store.postgresql.dialect import LEDGER, dialect
from kerfmark.store.postgresql.grants import grants, restored
from kerfmark.store.postgresql.new import count_on, dropping, has_landed
from kerfmark.store.postgresql.reader import PostgresReader
from kerfmark.store.quoting import literal, quote

if TYPE_CHECKING:
    from kerfmark.layout.model import Layout
    from kerfmark.profile.types import ColumnType


class PostgresChanging(PostgresReader):
    """See `interface.Changing`."""

    def __init__(self, where: Address, adopt: Layout | None = None) -> None:
        super().__init__(where.shown, None)
        self.where, self.adopt = where, adopt
        self.counted: dict[str, str] = {}

    def __enter__(self) -> PostgresChanging:
        self.connection = connected(self.where)
        try:
            there = self.facts("kerfmark_loads") is not None
            if self.adopt is not None:
                if there and not has_no_loads(self):
                    raise known_already(self.name)
                natural = natural_keys(self.adopt).items()
                new = {t: keys for t, keys in natural if not self.facts(companion(t))}
                tables = () if there else ledger_tables(LEDGER)
                for statement in (*tables, *self._companions(new)):
                    self.execute(statement)
            elif not there:
                raise no_ledger(self.name)
            self.execute("LOCK TABLE kerfmark_loads IN SHARE ROW EXCLUSIVE MODE")
            self._granted = grants(self)
        except BaseException:
            self.connection.close()
            raise
        return self

    def _companions(self, natural: Mapping[str, Sequence[str]]) -> list[str]:
        """What numbers the rows of tables whose records have a key of their own."""
        out = []
        for table, keys in natural.items():
            own = ", ".join(map(quote, keys))
            out += [
                f"CREATE TABLE {quote(companion(table))} AS SELECT row_number() OVER (ORDER BY "
                f"{own}) AS {NUMBER}, {own} "
                f"FROM {quote(table)}",
                companion_keys(table, companion(table), keys),
            ]
        return out

    def __exit__(self, *error: object) -> None:
        with contextlib.suppress(Exception):
            self.connection.rollback()
            for table, key in self.counted.items():  # sequences do not go back by themselves
                count_on(self, table, key)
            self.connection.commit()
        with contextlib.suppress(Exception):
            self.connection.close()

    def commit(self) -> None:
        """Makes everything that was done stay."""
        ours = outcome.loads(self) if self.facts("kerfmark_loads") else None
        if ours is not None:
            self.remarks += restored(self, self._granted)
        with outcome.found_out(self.name, lambda: has_landed(self.where, ours)):
            self.commit_step()
        self.counted = {}

    def drop_all(self, layout: Layout) -> None:
        """Drops all that Kerfmark made."""
        self._without_readers()
        for statement in dropping(self, layout):
            self.execute(statement)

    def _without_readers(self) -> None:
        """Waits for those who read, and lets them wait: a table that is made anew has no rows for
        who looks at an earlier moment."""
        self.execute("LOCK TABLE kerfmark_loads IN ACCESS EXCLUSIVE MODE")

    def savepoint(self, name: str) -> None:
        """Remembers how far it has come."""
        self.execute(f"SAVEPOINT {name}")

    def rollback_to(self, name: str) -> None:
        """Takes back what was done since."""
        self.execute(f"ROLLBACK TO SAVEPOINT {name}")

    def insert(
        self, table: str, schema: pa.Schema, batches: Iterable[pa.RecordBatch], first: int
    ) -> None:
        """Adds rows; nobody else may add to the table meanwhile, as the keys are given by us."""
        self.execute(f"LOCK TABLE {quote(table)} IN SHARE ROW EXCLUSIVE MODE")
        key, known_by = self._numbering(table)
        batches = list(batches)
        self.copy_in(table, schema.names, batches)
        if known_by:
            for batch in batches:
                self.copy_in(
                    companion(table), [NUMBER, *known_by], [numbered_keys(batch, known_by, first)]
                )
                first += batch.num_rows
        else:
            count_on(self, table, key)
            self.counted[table] = key

    def clear(self, layout: Layout) -> None:
        """Takes tables and views away."""
        self._without_readers()
        for statement in dropping(self, layout, ledger=False):
            self.execute(statement)

    def add_tables(self, layout: Layout, names: Collection[str]) -> None:
        """Makes tables beside those that are there."""
        from kerfmark.store.ddl import statements_beside

        refuse_taken(self, names)
        for statement in statements_beside(self, layout, names, dialect()):
            self.execute(statement)
        own = {t: keys for t, keys in natural_keys(layout).items() if t in names}
        for statement in self._companions(own):
            self.execute(statement)

    def add_column(self, table: str, column: str, type_: ColumnType) -> None:
        """Gives a table a column more."""
        self.execute(
            f"ALTER TABLE {quote(table)} ADD COLUMN {quote(column)} {dialect().declared(type_)}"
        )

    def widen_column(self, table: str, column: str, type_: ColumnType) -> None:
        """Gives a column a wider type; views that show it are made anew."""
        self._without_readers()
        views = self.ask(
            "SELECT DISTINCT v.relname::text, pg_get_viewdef(v.oid) FROM pg_depend d JOIN "
            "pg_rewrite r ON r.oid = d.objid "
            "JOIN pg_class v ON v.oid = r.ev_class JOIN pg_class t ON t.oid = d.refobjid "
            "JOIN pg_namespace n ON n.oid = t.relnamespace JOIN pg_attribute a ON a.attrelid = "
            "t.oid AND a.attnum = d.refobjsubid "
            f"WHERE n.nspname = current_schema() AND t.relname = {literal(table)} AND a.attname = "
            f"{literal(column)} "
            "AND v.relkind = 'v'"
        )
        for name, _ in views:
            self.execute(f"DROP VIEW {quote(name)}")
        self.execute(
            f"ALTER TABLE {quote(table)} ALTER COLUMN {quote(column)} TYPE "
            f"{dialect().declared(type_)}"
        )
        for name, definition in views:
            self.execute(f"CREATE VIEW {quote(name)} AS {definition}")

    def refresh_views(self, layout: Layout, headers: Mapping[str, Sequence[str]]) -> None:
        """Makes the views of some sources anew."""
        from kerfmark.layout.derive import settled
        from kerfmark.store.views import views

        whole = settled(layout, {s: names for s, names in headers.items() if names})
        for name in views_of(layout, headers):
            self.execute(f"DROP VIEW IF EXISTS {quote(name)}")
        for source, names in headers.items():
            for one in views(whole, source, names, dialect()) if names else ():
                self.execute(one.create())
