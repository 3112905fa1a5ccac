"""PostgreSQL: a database that is there is changed in one transaction, structure included."""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING

import pyarrow as pa

from kerfmark.address import Address
from kerfmark.store.database import known_already, literal, no_ledger, quote
from kerfmark.store.own import own_tables
from kerfmark.store.postgresql.new import SPELLED, companion_keys, count_on, dropping
from kerfmark.store.postgresql.server import connected, translated
from kerfmark.store.postgresql.speech import PostgresReader, declared, dialect
from kerfmark.store.server import NUMBER, companion, natural_keys, numbered_keys

if TYPE_CHECKING:
    from kerfmark.layout.model import Layout
    from kerfmark.profile.types import ColumnType


class PostgresChanging(PostgresReader):
    """See `database.Changing`."""

    def __init__(self, where: Address, adopt: Layout | None = None) -> None:
        super().__init__(where.shown, None)
        self.where, self.adopt = where, adopt
        self.counted: dict[str, str] = {}

    def __enter__(self) -> PostgresChanging:
        self.connection = connected(self.where)
        try:
            there = self.facts("kerfmark_loads") is not None
            if self.adopt is not None:
                if there:
                    raise known_already(self.name)
                for statement in (*own_tables(SPELLED), *self._companions(self.adopt)):
                    self.execute(statement)
            elif not there:
                raise no_ledger(self.name)
            self.execute("LOCK TABLE kerfmark_loads IN SHARE ROW EXCLUSIVE MODE")
        except BaseException:
            self.connection.close()
            raise
        return self

    def _companions(self, layout: Layout) -> list[str]:
        """What numbers the rows of tables whose records have a key of their own."""
        out = []
        for table, keys in natural_keys(layout).items():
            own = ", ".join(map(quote, keys))
            out += [f"CREATE TABLE {quote(companion(table))} AS SELECT row_number() OVER (ORDER BY {own}) AS {NUMBER}, {own} "
                    f"FROM {quote(table)}", *companion_keys(table, keys)]
        return out

    def __exit__(self, *error: object) -> None:
        with contextlib.suppress(Exception):
            self.connection.rollback()
            for table, key in self.counted.items():     # sequences do not go back by themselves
                count_on(self, table, key)
            self.connection.commit()
        with contextlib.suppress(Exception):
            self.connection.close()

    def commit(self) -> None:
        """Makes everything that was done stay."""
        with translated(self.name):
            self.connection.commit()
        self.counted = {}

    def drop_all(self, layout: Layout) -> None:
        """Takes away all that Kerfmark made."""
        for statement in dropping(layout):
            self.execute(statement)

    def mark(self, name: str) -> None:
        """Remembers how far it has come."""
        self.execute(f"SAVEPOINT {name}")

    def back_to_mark(self, name: str) -> None:
        """Takes back what was done since."""
        self.execute(f"ROLLBACK TO SAVEPOINT {name}")

    def put(self, table: str, schema: pa.Schema, batches: Iterable[pa.RecordBatch], first: int) -> None:
        """Adds rows; nobody else may add to the table meanwhile, as the keys are given by us."""
        self.execute(f"LOCK TABLE {quote(table)} IN SHARE ROW EXCLUSIVE MODE")
        key, known_by = self._numbering(table)
        batches = list(batches)
        self.copy_in(table, schema.names, batches)
        if known_by:
            for batch in batches:
                self.copy_in(companion(table), [NUMBER, *known_by], [numbered_keys(batch, known_by, first)])
                first += batch.num_rows
        else:
            count_on(self, table, key)
            self.counted[table] = key

    def add_column(self, table: str, column: str, type_: ColumnType) -> None:
        """Gives a table a column more."""
        self.execute(f"ALTER TABLE {quote(table)} ADD COLUMN {quote(column)} {declared(type_)}")

    def redeclare(self, table: str, column: str, type_: ColumnType) -> None:
        """Gives a column a wider type; views that show it are made anew."""
        views = self.ask(
            "SELECT DISTINCT v.relname::text, pg_get_viewdef(v.oid) FROM pg_depend d JOIN pg_rewrite r ON r.oid = d.objid "
            "JOIN pg_class v ON v.oid = r.ev_class JOIN pg_class t ON t.oid = d.refobjid "
            "JOIN pg_namespace n ON n.oid = t.relnamespace JOIN pg_attribute a ON a.attrelid = t.oid AND a.attnum = d.refobjsubid "
            f"WHERE n.nspname = current_schema() AND t.relname = {literal(table)} AND a.attname = {literal(column)} "
            "AND v.relkind = 'v'")
        for name, _ in views:
            self.execute(f"DROP VIEW {quote(name)}")
        self.execute(f"ALTER TABLE {quote(table)} ALTER COLUMN {quote(column)} TYPE {declared(type_)}")
        for name, definition in views:
            self.execute(f"CREATE VIEW {quote(name)} AS {definition}")

    def refresh_views(self, layout: Layout, headers: Mapping[str, Sequence[str]]) -> None:
        """Makes the views of some sources anew."""
        from kerfmark.layout.derive import settled
        from kerfmark.store.views import view, view_name

        whole = settled(layout, headers)
        for source, names in headers.items():
            self.execute(f"DROP VIEW IF EXISTS {quote(view_name(source))}")
            self.execute(view(whole, source, names, dialect(), self.longest_name))
