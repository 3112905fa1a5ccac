"""PostgreSQL: rows that other machines bring, each into a table of its own, before one transaction
moves all of them to where they belong.

Such a part is not logged, and is made whole in one transaction: a machine that does its work again
replaces it. Whose part it is tells its name; a lock of the program that collects the parts tells
whether that still runs, and the next one drops what a killed one has left.
"""

from __future__ import annotations

import contextlib
import re
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

import pyarrow as pa

from kerfmark.errors import KerfmarkError
from kerfmark.own_tables import PARTS
from kerfmark.store.companion import NUMBER, companion
from kerfmark.store.postgresql.connection import connected
from kerfmark.store.postgresql.dialect import dialect
from kerfmark.store.postgresql.reader import PostgresReader
from kerfmark.store.quoting import literal, quote

if TYPE_CHECKING:
    from kerfmark.address import Address
    from kerfmark.profile.types import ColumnType
    from kerfmark.store.interface import New

_PART = re.compile(f"{PARTS}([0-9a-f]{{12}})_[0-9]+")


class PostgresParts:
    """See `interface.Parts`."""

    def __init__(self, where: Address, run: str) -> None:
        self.where, self.run = where, run

    def put(
        self, number: int, types: Sequence[tuple[str, ColumnType]], rows: pa.Table, first: int
    ) -> None:
        """Makes a part of some rows; `first` is the number of the first one, where the table
        numbers its rows by a companion (0: it does not)."""
        declared = [f"{quote(name)} {dialect().declared(type_)}" for name, type_ in types]
        if first:
            numbers = pa.array(range(first, first + len(rows)), pa.int64())
            rows = rows.append_column(NUMBER, numbers)
            declared.append(f"{NUMBER} bigint")
        name = self._name(number)
        with contextlib.closing(connected(self.where)) as connection:
            reader = PostgresReader(self.where.shown, connection)
            reader.execute(f"DROP TABLE IF EXISTS {quote(name)}")
            reader.execute(f"CREATE UNLOGGED TABLE {quote(name)} ({', '.join(declared)})")
            reader.copy_new(name, rows.schema, rows.to_batches(65_536), frozen=True)
            reader.commit_step()

    def take_in(
        self, new: New, table: str, names: Sequence[str], keys: Sequence[str], parts: Sequence[int]
    ) -> None:
        """Puts the rows of some parts into a table that is being built, in their order; `keys` are
        those by which a companion knows its rows (none: it has no companion)."""
        from kerfmark.store.postgresql.new import NewSchema

        assert isinstance(new, NewSchema)
        listed = ", ".join(map(quote, names))
        for number in parts:
            part = quote(self._name(number))
            new.execute(f"INSERT INTO {quote(table)} ({listed}) SELECT {listed} FROM {part}")
            if keys:
                known = ", ".join([NUMBER, *map(quote, keys)])
                into = quote(companion(table))
                new.execute(f"INSERT INTO {into} ({known}) SELECT {known} FROM {part}")

    @contextlib.contextmanager
    def held(self) -> Iterator[None]:
        """While parts are collected: those of programs that were killed are dropped before, and
        those of this one afterwards."""
        connection = connected(self.where)
        try:
            reader = PostgresReader(self.where.shown, connection)
            made = self._make_schema(reader)
            reader.ask(f"SELECT pg_advisory_lock({_key(self.run)})")
            for run in {run for _, run in self._parts(reader)} - {self.run}:
                if reader.ask(f"SELECT pg_try_advisory_lock({_key(run)})")[0][0]:
                    self._drop(reader, run)
                    reader.ask(f"SELECT pg_advisory_unlock({_key(run)})")
            reader.commit_step()
            try:
                yield
            finally:
                with contextlib.suppress(KerfmarkError):  # what stays is dropped by the next one
                    self._drop(reader, self.run)
                    if made and not reader.tables():
                        reader.execute(f"DROP SCHEMA {quote(self.where.schema)}")
                    reader.commit_step()
        finally:
            connection.close()

    def _make_schema(self, reader: PostgresReader) -> bool:
        """Makes the schema, if it is not there: the other machines need it."""
        if not self.where.schema or reader.ask("SELECT current_schema()")[0][0]:
            return False
        reader.execute(f"CREATE SCHEMA {quote(self.where.schema)}")
        return True

    def _parts(self, reader: PostgresReader) -> list[tuple[str, str]]:
        """All parts that are there, with their runs."""
        found = reader.ask(
            "SELECT c.relname::text FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace "
            f"WHERE n.nspname = current_schema() AND c.relname ~ {literal(f'^{_PART.pattern}$')}"
        )
        return [(name, m[1]) for (name,) in found if (m := _PART.fullmatch(name))]

    def _drop(self, reader: PostgresReader, run: str) -> None:
        for name, of in self._parts(reader):
            if of == run:
                reader.execute(f"DROP TABLE IF EXISTS {quote(name)}")

    def _name(self, number: int) -> str:
        return f"{PARTS}{self.run}_{number:06}"


def _key(run: str) -> str:
    """The lock of a run."""
    return f"hashtext('kerfmark parts'), hashtext({literal(run)})"
