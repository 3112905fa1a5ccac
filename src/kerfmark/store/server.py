"""What the servers have in common: values are asked for as text, and rows are numbered by keys or
companion tables."""

from __future__ import annotations

import abc
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kerfmark.address import Address
from kerfmark.errors import Origin, TargetError
from kerfmark.store.common_sql import SharedSql
from kerfmark.store.companion import NUMBER, companion
from kerfmark.store.quoting import quote

if TYPE_CHECKING:
    import pyarrow as pa

    from kerfmark.profile.types import ColumnType
    from kerfmark.store.views import ViewSql


class Server:
    """The part of `interface.Database` that is the same for every server."""

    folder = None

    def __init__(self, where: Address) -> None:
        self.where = where

    @property
    def name(self) -> str:
        """The URL without a password."""
        return self.where.shown

    @property
    def layout_path(self) -> Path:
        """In the current folder, called like the schema or the database."""
        return Path(f"{self.where.schema or self.where.database}.layout.toml")

    def copy(self, to: Path) -> None:
        """A server's own programs copy its databases."""
        raise TargetError(
            "Kerfmark does not copy databases of a server",
            code="target.copy",
            origin=Origin(self.name),
            next="let the server's own program for backups do it, and leave out --backup",
        )

    replaced_whole = False

    def exists(self) -> bool:
        """A server can always be asked."""
        return True

    def size(self) -> int:
        """Not told."""
        return 0


class Numbered(SharedSql):
    """How the rows of a server's tables are numbered (see `SharedSql`)."""

    def _numbering(self, table: str) -> tuple[str, tuple[str, ...]]:
        """The column that numbers the rows of a table; or "", and the columns by which its
        companion knows them."""
        if not hasattr(self, "_numberings"):
            self._numberings: dict[str, tuple[str, tuple[str, ...]]] = {}
        if table not in self._numberings:
            facts = self.facts(companion(table))
            own = self.facts(table)
            if facts is not None:
                self._numberings[table] = (
                    "",
                    tuple(c.name for c in facts.columns if c.name != NUMBER),
                )
            else:
                self._numberings[table] = own.counting if own is not None else "", ()
        return self._numberings[table]

    def is_numbered(self, table: str) -> bool:
        """Those with a generated key or a companion."""
        return any(self._numbering(table))

    def row(self, table: str, alias: str) -> str:
        """The generated key, or what the companion says."""
        key, known_by = self._numbering(table)
        if not known_by:
            return f"{alias}.{quote(key)}"
        same = " AND ".join(f"kerfmark_n.{quote(k)} = {alias}.{quote(k)}" for k in known_by)
        return (
            f"(SELECT kerfmark_n.{NUMBER} FROM {quote(companion(table))} AS kerfmark_n "
            f"WHERE {same})"
        )

    def at_row(self, table: str, number: str) -> str:
        """Joins a table, called t, at the row of a number."""
        _, known_by = self._numbering(table)
        if not known_by:
            return super().at_row(table, number)
        same = " AND ".join(f"t.{quote(k)} = kerfmark_n.{quote(k)}" for k in known_by)
        return (
            f"{self.outer_first} {quote(companion(table))} AS kerfmark_n ON kerfmark_n.{NUMBER} = "
            f"{number} "
            f"{self.outer_first} {quote(table)} AS t ON {same}"
        )

    def last_row(self, table: str) -> int:
        """The highest number of a row."""
        key, known_by = self._numbering(table)
        found = self.ask(
            f"SELECT COALESCE(MAX({quote(NUMBER if known_by else key)}), 0) "
            f"FROM {quote(companion(table) if known_by else table)}"
        )
        return int(found[0][0])

    def nearly_all(self, expected: dict[str, int]) -> list[str]:
        """What is wrong with the rows of tables that should have so many, numbered from 1."""
        out = []
        for table, rows in expected.items():
            key, known_by = self._numbering(table)
            where, column = (companion(table), NUMBER) if known_by else (table, key)
            c = quote(column)
            found = self.ask(
                f"SELECT COUNT(*), COALESCE(MIN({c}), 1), COALESCE(MAX({c}), 0) FROM {quote(where)}"
            )
            if tuple(map(int, found[0])) != (rows, 1, rows):
                out.append(f"{table}: rows, first, last {tuple(found[0])}, expected {rows}")
        return out


class ServerReader(Numbered):
    """The part of `interface.Reader` that is the same for every server: values are asked for as
    text, in no order."""

    sequence = "sequence"
    ordered_views = False
    enforces_links = True

    def __init__(self, name: str, connection: Any) -> None:
        self.name, self.connection = name, connection
        self.remarks: list[str] = []

    def raw(self, expression: str) -> str:
        """An expression as text."""
        return self.text(expression)

    def exact(self, expression: str) -> str:
        """An expression as text."""
        return self.text(expression)

    @abc.abstractmethod
    def copy_in(self, table: str, columns: Sequence[str], batches: Any) -> None:
        """Adds rows in bulk."""

    def append(self, table: str, rows: pa.Table) -> None:
        """Adds rows to one of Kerfmark's own tables."""
        self.copy_in(table, rows.column_names, rows.combine_chunks().to_batches())

    def record_changes(
        self, table: str, column: str, rows: Sequence[tuple[int, int, str | None, str | None, int]]
    ) -> None:
        """See `interface.Changing`."""
        import pyarrow as pa

        if not rows:
            return
        load, row, before, said, kept = zip(*rows, strict=True)
        self.append(
            "kerfmark_changes",
            pa.table(
                {
                    "load_id": pa.array(load, pa.int64()),
                    "table_name": [table] * len(rows),
                    "column_name": [column] * len(rows),
                    "row": pa.array(row, pa.int64()),
                    "before": pa.array(before, pa.string()),
                    "said": pa.array(said, pa.string()),
                    "kept": pa.array(kept, pa.int64()),
                }
            ),
        )

    def kept(self, expression: str) -> str:
        """An expression as text."""
        return self.text(expression)

    def partition(self, view: ViewSql, base: str, before: int) -> None:
        """There is no order in which some rows come first."""

    def from_engine(self, values: Sequence[Any], type_: pa.DataType) -> pa.Array:
        """What the server gave as text."""
        return from_engine(values, type_)

    @abc.abstractmethod
    def batches(
        self, rows: str, cells: Sequence[str], types: Sequence[pa.DataType], order: str = ""
    ) -> Iterator[pa.RecordBatch]:
        """See `interface.Reader`."""

    def readable_text(self, expression: str) -> str:
        """An expression as text."""
        return self.text(expression)

    def mistyped(self, rows: str, cells: Sequence[str], types: Sequence[ColumnType]) -> list[int]:
        """Servers make sure of their types."""
        return []

    def rows(
        self, rows: str, cells: Sequence[str], types: Sequence[pa.DataType]
    ) -> Iterator[tuple[Any, ...]]:
        """What expressions give for rows, one by one."""
        for batch in self.batches(rows, cells, types):
            yield from zip(*(c.to_pylist() for c in batch.columns), strict=True)


def from_engine(values: Sequence[Any], type_: pa.DataType) -> pa.Array:
    """What a server gives as text, as `to_engine` spells it."""
    import pyarrow as pa
    import pyarrow.compute as pc

    try:
        texts = pa.array(values, pa.string())
    except pa.ArrowTypeError:  # the driver has not given all as text
        texts = pa.array([None if v is None else str(v) for v in values], pa.string())
    return texts if pa.types.is_string(type_) else pc.cast(texts, type_)


def built_already(place: str, elsewhere: str) -> TargetError:
    """The error for a place where Kerfmark has built tables; `elsewhere` says how to build in
    another one."""
    return TargetError(
        "Kerfmark has built tables there already",
        code="target.exists",
        origin=Origin(place),
        why="nothing is overwritten unasked",
        next=f"kerfmark add FILES --into {place} puts further files into them\n"
        f"--replace builds them anew\n{elsewhere}",
    )


def name_taken(name: str, database: str, place: str) -> TargetError:
    """The error for a table that is there already."""
    return TargetError(
        f'the table or view "{name}" exists already, and Kerfmark did not make it',
        code="target.table-exists",
        origin=Origin(database),
        next=f"name {place} of its own, or call it something else in the layout",
    )
