"""Tables and queries of a database as sources: of a database file, or of a server named by its
URL."""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, TypeVar

import pyarrow as pa
import xxhash

from kerfmark.address import address, is_url
from kerfmark.background_import import wait_for_imports
from kerfmark.engines import SourceConnection, by_scheme, drivers, file_engine, url_forms
from kerfmark.errors import Origin, SourceError
from kerfmark.own_tables import is_own
from kerfmark.read.cells import texts
from kerfmark.read.format import Format, check_path
from kerfmark.read.source import Batches, Found, Piece, Reading, RowRules

T = TypeVar("T")

ROWS = 16_384
"""Rows fetched at a time."""


def tables(location: str, reading: Reading = Reading()) -> list[TableSource]:
    """The tables of a database, or the one table or query that is asked for.

    Raises SourceError when it cannot be reached or read.
    """
    if reading.query:
        return [TableSource(location, query=reading.query)]
    with _connected(location) as connection:
        from sqlalchemy import inspect

        names = [n for n in inspect(connection).get_table_names() if not is_own(n)]
    if reading.table:
        return [TableSource(location, table=reading.table)]
    if not names:
        raise SourceError(
            "the database has no tables",
            code="source.empty",
            origin=_origin(location),
            next="check the name and the schema",
        )
    return [TableSource(location, table=n) for n in names]


class TableSource:
    """A table or a query of a database (see `read.source.Source`)."""

    spells_numbers = True

    def __init__(
        self, location: str, *, table: str = "", query: str = "", name: str | None = None
    ) -> None:
        self._secret, self.location = location, _without_password(location)
        self._table, self._query = table, query
        self.name = name or table or "query"
        self.how = f'table "{table}"' if table else "a query"
        self.rules = RowRules()
        with _connected(location) as connection:
            self.headers = tuple(str(k) for k in self._run(connection, none=True).keys())  # noqa: SIM118  (a result, no dict)

    def origin(self, header: str | None = None) -> Origin:
        """The place of a column."""
        return self._origin(None, header)

    def _origin(self, record: int | None, header: str | None) -> Origin:
        """The place of a record and column: records are counted as rows from 1."""
        return Origin(
            _origin(self.location).file,
            self._table or "query",
            None if record is None else record + 1,
            header,
        )

    def settings(self) -> dict[str, Any]:
        """The table or query in the layout's words."""
        return {"table": self._table} if self._table else {"query": self._query}

    def map_batches(
        self, work: Callable[[pa.RecordBatch], T], *, workers: int = 2, strict: bool = True
    ) -> Batches:
        """Applies `work` to every batch of rows, as texts.

        Raises SourceError when the database fails or there are no rows.
        """
        return Batches(self._pieces(work))

    def _pieces(self, work: Callable[[pa.RecordBatch], T]) -> Generator[Piece, None, Found]:
        first, digest = 0, xxhash.xxh3_128()
        with _connected(self._secret) as connection:
            result = self._run(connection)
            while rows := result.fetchmany(ROWS):
                arrays = [texts(column) for column in zip(*rows, strict=True)]
                for array in arrays:
                    for buffer in array.buffers():
                        digest.update(buffer or b"")
                batch = pa.RecordBatch.from_arrays(
                    arrays, names=[str(i) for i in range(len(arrays))]
                )
                yield Piece(first, len(rows), work(batch))
                first += len(rows)
        return Found(digest.hexdigest(), 0, self._origin)

    def _run(self, connection: Any, *, none: bool = False) -> Any:
        """The rows; in the order of its first column, if a table has one, so that each reading
        gives the same."""
        from sqlalchemy import text
        from sqlalchemy.exc import SQLAlchemyError

        quote = connection.dialect.identifier_preparer.quote
        sql = self._query or f"SELECT * FROM {'.'.join(quote(p) for p in self._table.split('.'))}"
        if none:
            sql = f"SELECT * FROM ({sql.rstrip().rstrip(';')}) AS asked WHERE 1 = 0"
        elif self._table:
            sql += " ORDER BY 1"
        try:
            return connection.execution_options(stream_results=True).execute(
                text(sql.replace(":", r"\:"))
            )
        except SQLAlchemyError as error:
            raise SourceError(
                "the table or query cannot be read",
                code="source.query",
                origin=_origin(self.location),
                why=str(getattr(error, "orig", error)).split("\n")[0],
                next="name one of its tables with --table, or correct the query",
            ) from error


@contextmanager
def _connected(location: str) -> Iterator[Any]:
    wait_for_imports()
    from sqlalchemy import create_engine, event
    from sqlalchemy.exc import ArgumentError, NoSuchModuleError, SQLAlchemyError

    try:
        way = _connection_of(location)
        engine = create_engine(way.url, **way.arguments)
        prepare = way.on_connect
        if prepare is not None:
            event.listen(engine, "connect", lambda connection, _: prepare(connection))
        with engine.connect() as connection:
            yield connection
    except (ArgumentError, NoSuchModuleError, ModuleNotFoundError) as error:
        raise SourceError(
            "this kind of database is not supported",
            code="source.url",
            origin=_origin(location),
            why=str(error),
            next=f"name {url_forms()}; {drivers()}",
        ) from error
    except SQLAlchemyError as error:
        wrong = "password" in str(error).lower()
        raise SourceError(
            "the database cannot be reached",
            code="source.password" if wrong else "source.unreachable",
            origin=_origin(location),
            why=str(getattr(error, "orig", error)).strip().split("\n")[0],
            next="check the address, the name and the rights",
        ) from error


def _connection_of(location: str) -> SourceConnection:
    """How SQLAlchemy gets to a database."""
    engine = by_scheme(location.split("://")[0]) if is_url(location) else file_engine()
    if engine is None or engine.source is None:
        return SourceConnection(location)
    return engine.source(address(location) if is_url(location) else Path(location))


def _without_password(location: str) -> str:
    if not is_url(location):
        return location
    scheme = location.split("://")[0]
    return address(location).shown if by_scheme(scheme) is not None else f"{scheme}://..."


def _origin(location: str) -> Origin:
    return Origin(_without_password(location) if is_url(location) else Path(location).name)


def _open(path: Path, reading: Reading) -> list[TableSource]:
    check_path(path)
    return tables(str(path), reading)


def _reopen(path: Path, name: str, reading: Reading) -> TableSource:
    check_path(path)
    return TableSource(str(path), table=reading.table, query=reading.query, name=name)


FORMAT = Format(file_engine().file_endings, _open, _reopen, file_engine().file_magic)
