"""Tables and queries of a database as sources: of an SQLite file, or of a server named by its URL."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, TypeVar

import pyarrow as pa
import xxhash

from kerfmark.address import ENGINES, address, is_url, mysql_arguments, postgresql_arguments
from kerfmark.errors import Origin, SourceError
from kerfmark.read.cells import texts
from kerfmark.read.source import Piece, RaggedRow, Reading, Remark
from kerfmark.soon import there

T = TypeVar("T")

ROWS = 16_384
"""Rows fetched at a time."""
MAGIC = b"SQLite format 3\x00"
OWN = "kerfmark_"
"""How the tables begin that Kerfmark keeps for itself."""


def tables(location: str, reading: Reading = Reading()) -> list[TableSource]:  # noqa: B008  (frozen)
    """The tables of a database, or the one table or query that is asked for.

    Raises SourceError when it cannot be reached or read.
    """
    if reading.query:
        return [TableSource(location, query=reading.query)]
    with _connected(location) as connection:
        from sqlalchemy import inspect

        names = [n for n in inspect(connection).get_table_names() if not n.startswith(OWN)]
    if reading.table:
        return [TableSource(location, table=reading.table)]
    if not names:
        raise SourceError("the database has no tables", code="source.empty", origin=_origin(location))
    return [TableSource(location, table=n) for n in names]


class TableSource:
    """A table or a query of a database (see `read.source.Source`)."""

    spells_numbers = True

    def __init__(self, location: str, *, table: str = "", query: str = "", name: str | None = None) -> None:
        self._secret, self.location = location, _without_password(location)
        self._table, self._query = table, query
        self.name = name or table or "query"
        self.how = f'table "{table}"' if table else "a query"
        self.ragged: list[RaggedRow] = []
        self.skip_rows: tuple[str, ...] = ()
        self.remarks: list[Remark] = []
        self.fingerprint, self.size, self.skipped = "", 0, 0
        with _connected(location) as connection:
            self.headers = tuple(str(k) for k in self._run(connection, none=True).keys())  # noqa: SIM118  (a result, no dict)

    def origin(self, record: int | None = None, header: str | None = None) -> Origin:
        """The place of a record and column: records are counted as rows from 1."""
        return Origin(_origin(self.location).file, self._table or "query", None if record is None else record + 1, header)

    def settings(self) -> dict[str, Any]:
        """The table or query in the layout's words."""
        return {"table": self._table} if self._table else {"query": self._query}

    def map_batches(self, work: Callable[[pa.RecordBatch], T], *, workers: int = 2, strict: bool = True) -> Iterator[Piece]:
        """Applies `work` to every batch of rows, as texts.

        Raises SourceError when the database fails or there are no rows.
        """
        first, digest = 0, xxhash.xxh3_128()
        with _connected(self._secret) as connection:
            result = self._run(connection)
            while rows := result.fetchmany(ROWS):
                arrays = [texts(column) for column in zip(*rows, strict=True)]
                for array in arrays:
                    for buffer in array.buffers():
                        digest.update(buffer or b"")
                batch = pa.RecordBatch.from_arrays(arrays, names=[str(i) for i in range(len(arrays))])
                yield Piece(first, len(rows), work(batch))
                first += len(rows)
        self.fingerprint = digest.hexdigest()
        if not first:
            raise SourceError("there are no rows in it", code="source.no-rows", origin=self.origin())

    def _run(self, connection: Any, *, none: bool = False) -> Any:
        """The rows; in the order of its first column, if a table has one, so that each reading gives the same."""
        from sqlalchemy import text
        from sqlalchemy.exc import SQLAlchemyError

        quote = connection.dialect.identifier_preparer.quote
        sql = self._query or f"SELECT * FROM {'.'.join(quote(p) for p in self._table.split('.'))}"
        if none:
            sql = f"SELECT * FROM ({sql.rstrip().rstrip(';')}) AS asked WHERE 1 = 0"
        elif self._table:
            sql += " ORDER BY 1"
        try:
            return connection.execution_options(stream_results=True).execute(text(sql.replace(":", r"\:")))
        except SQLAlchemyError as error:
            raise SourceError("the table or query cannot be read", code="source.query", origin=_origin(self.location),
                              why=str(getattr(error, "orig", error)).split("\n")[0],
                              next="name one of its tables with --table, or mend the query") from error


@contextmanager
def _connected(location: str) -> Iterator[Any]:
    there()
    from sqlalchemy import create_engine, event
    from sqlalchemy.exc import ArgumentError, NoSuchModuleError, SQLAlchemyError

    try:
        url, how = _way(location)
        engine = create_engine(url, **how)
        if not is_url(location):
            event.listen(engine, "connect", lambda db, _: setattr(db, "text_factory", lambda b: b.decode("utf-8", "replace")))
        with engine.connect() as connection:
            yield connection
    except (ArgumentError, NoSuchModuleError, ModuleNotFoundError) as error:
        raise SourceError("there is no way to this kind of database", code="source.url", origin=_origin(location), why=str(error),
                          next="name postgresql://USER@HOST/DATABASE or mysql://USER@HOST/DATABASE; "
                               "pip install 'kerfmark[postgresql]' or 'kerfmark[mysql]' brings the driver") from error
    except SQLAlchemyError as error:
        wrong = "password" in str(error).lower()
        raise SourceError("the database cannot be reached", code="source.password" if wrong else "source.unreachable",
                          origin=_origin(location),
                          why=str(getattr(error, "orig", error)).strip().split("\n")[0],
                          next="check the address, the name and the rights") from error


def _way(location: str) -> tuple[str, dict[str, Any]]:
    """What SQLAlchemy takes to get to a database."""
    if not is_url(location):
        return f"sqlite:///file:{Path(location).resolve().as_posix()}?mode=ro&uri=true", {}
    engine = ENGINES.get(location.split("://")[0].lower())
    if engine is None:
        return location, {}
    where = address(location)
    if engine == "mysql":
        import pymysql

        return "mysql+pymysql://", {"creator": lambda: pymysql.connect(**mysql_arguments(where))}  # type: ignore[call-overload]
    import psycopg

    path = {"options": f"-c search_path={where.schema}"} if where.schema else {}
    arguments: dict[str, Any] = postgresql_arguments(where) | path
    return "postgresql+psycopg://", {"creator": lambda: psycopg.connect(**arguments)}


def _without_password(location: str) -> str:
    if not is_url(location):
        return location
    return address(location).shown if location.split("://")[0].lower() in ENGINES else location.split("://")[0] + "://..."


def _origin(location: str) -> Origin:
    return Origin(_without_password(location) if is_url(location) else Path(location).name)
