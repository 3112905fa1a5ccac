"""What the rest of Kerfmark may ask of a database, whatever its engine.

Loads neither Arrow nor a driver, so that looking into a small database is quick.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

from kerfmark.errors import Origin, TargetError

if TYPE_CHECKING:
    import numpy as np
    import pyarrow as pa

    from kerfmark.layout.model import Layout
    from kerfmark.profile.types import ColumnType
    from kerfmark.store.sql_dialect import SqlDialect
    from kerfmark.store.views import ViewSql

PATIENCE = 10
"""Seconds for which another program's lock is waited for."""


@dataclass(frozen=True)
class ColumnFacts:
    """A column: its type as the engine declares it, whether it may be blank, and whether the
    database fills it by itself where nothing is said (a generated key, a default) or always
    (`computed`)."""

    name: str
    type: str
    optional: bool
    filled: bool = False
    computed: bool = False


@dataclass(frozen=True)
class LinkFacts:
    """A foreign key: its columns, and the table and key that they lead to."""

    columns: tuple[str, ...]
    to: str
    key: tuple[str, ...]


@dataclass(frozen=True)
class TableFacts:
    """A table or view: columns, primary key, further unique sets of columns, foreign keys."""

    name: str
    columns: tuple[ColumnFacts, ...]
    key: tuple[str, ...]
    unique: tuple[tuple[str, ...], ...]
    links: tuple[LinkFacts, ...]

    @property
    def counting(self) -> str:
        """The column that numbers the rows: the primary key, where it is one column; of several (a
        table that is divided has what divides it in its key), the one that counts by itself; ""
        for none."""
        if len(self.key) == 1:
            return self.key[0]
        counts = [
            c.name
            for c in self.columns
            if c.name in self.key and c.filled and "int" in c.type.lower()
        ]
        return counts[0] if len(counts) == 1 else ""


class Reader(Protocol):
    """A database that is being looked at. `name` is what messages call it; a row of a table is
    called by its number. `sequence` is what orders the rows of the ledger's tables; `longest_name`
    the bytes that a name may have (0: any number); `ordered_views`: a view gives its rows in the
    order of its first table; `enforces_links`: nobody can leave a link without its record."""

    name: str
    sequence: str
    longest_name: int
    ordered_views: bool
    enforces_links: bool

    @property
    def codec(self) -> str:
        """How Python calls the encoding of its texts; "": it holds any character."""
        ...

    def ask(self, sql: str) -> Sequence[Sequence[Any]]:
        """The rows that a query gives. Names in it are in double quotes, texts in single ones."""
        ...

    def tables(self) -> list[str]:
        """The tables that are not Kerfmark's own."""
        ...

    def views(self) -> list[str]:
        """The views."""
        ...

    def facts(self, table: str) -> TableFacts | None:
        """What a table or view is made of; None when there is none of that name."""
        ...

    def checks(self, table: str) -> dict[str, str]:
        """The conditions that the database checks for each row of a table, in its own words, by
        their names."""
        ...

    def choices(self, table: str) -> dict[str, tuple[str, ...]]:
        """The columns of a table that are declared with a list of values, and these."""
        ...

    def comments(self, table: str) -> dict[str, str]:
        """What the database says of the columns of a table, and ("") of the table itself."""
        ...

    def row(self, table: str, alias: str) -> str:
        """The number of a row of a table, as an SQL expression."""
        ...

    def text(self, expression: str) -> str:
        """An SQL expression as text."""
        ...

    def raw(self, expression: str) -> str:
        """An SQL expression in the raw form that `from_engine` takes."""
        ...

    def exact(self, expression: str) -> str:
        """An SQL expression as a text that is the same only for the same value."""
        ...

    def from_engine(self, values: Sequence[Any], type_: pa.DataType) -> pa.Array:
        """Values asked for with `raw`, as `to_engine` spells values of such a column."""
        ...

    def to_engine(self, values: pa.Array) -> pa.Array:
        """Typed values as the engine takes and gives them."""
        ...

    def batches(
        self, rows: str, cells: Sequence[str], types: Sequence[pa.DataType], order: str = ""
    ) -> Iterator[pa.RecordBatch]:
        """What SQL expressions give for each of some rows (what is after FROM), in no order
        unless one is asked for; types as `to_engine` gives them. Raises OSError when a cell has
        another."""
        ...

    def partition(self, view: ViewSql, base: str, before: int) -> tuple[str, str] | None:
        """What to ask instead of a view, so that two may ask at once: those of its rows that belong
        to the first `before` rows of its first table, and to the others. None where that cannot be
        said of it, or would bring nothing."""
        ...

    def rows(
        self, rows: str, cells: Sequence[str], types: Sequence[pa.DataType]
    ) -> Iterator[tuple[Any, ...]]:
        """The same, one by one, whatever the cells are."""
        ...

    def mistyped(self, rows: str, cells: Sequence[str], types: Sequence[ColumnType]) -> list[int]:
        """Which of some expressions give a cell of another type, where the engine does
        not make sure."""
        ...

    def readable_text(self, expression: str) -> str:
        """An SQL expression as text, whatever it gives."""
        ...

    def hex_text(self, expression: str) -> str:
        """An SQL expression for bytes, as hexadecimal digits."""
        ...

    def dialect(self) -> SqlDialect:
        """How the engine's SQL is written."""
        ...

    def broken_links(self, table: str) -> list[str]:
        """The foreign key columns of a table with a value that its parent does not have."""
        ...

    def dependents(self, tables: Sequence[str]) -> list[tuple[str, str]]:
        """What is attached to some tables, and would go with them or prevent their change: kind and
        name of triggers, indexes (but those of constraints), views, and tables that refer to
        them."""
        ...


class Changing(Reader, Protocol):
    """A database that is being changed, in one transaction: nobody else's changes come between, and
    until `commit` everything is as it was, also after the program was killed. `remarks` tell what
    was done in another way than usual."""

    remarks: list[str]

    def commit(self) -> None:
        """Makes everything that was done stay."""
        ...

    def savepoint(self, name: str) -> None:
        """Remembers how far it has come."""
        ...

    def rollback_to(self, name: str) -> None:
        """Takes back what was done since."""
        ...

    def execute(self, sql: str) -> None:
        """Runs a statement."""
        ...

    def insert(
        self, table: str, schema: pa.Schema, batches: Iterable[pa.RecordBatch], first: int
    ) -> None:
        """Adds rows, as `to_engine` turns them out, with their keys; `first` is the number of the
        first one, where these have none."""
        ...

    def append(self, table: str, rows: pa.Table) -> None:
        """Adds rows to one of Kerfmark's own tables."""
        ...

    def last_row(self, table: str) -> int:
        """The highest number of a row of a table, 0 when it has none."""
        ...

    def match(self, table: str, columns: Mapping[str, pa.Array]) -> np.ndarray:
        """The number of the row of a table that has the same values in some columns, for each of
        many; -1 for none and for a blank."""
        ...

    def count_matches(self, table: str, columns: Mapping[str, pa.Array]) -> np.ndarray:
        """How many rows of a table have the same values in some columns, for each of many."""
        ...

    def matching_rows(
        self, table: str, columns: Mapping[str, pa.Array]
    ) -> tuple[np.ndarray, np.ndarray]:
        """All rows that have these values in some columns, for each of many: which of these, and
        the row."""
        ...

    def differing(
        self, table: str, rows: np.ndarray, columns: Mapping[str, pa.Array]
    ) -> dict[str, np.ndarray]:
        """For each column, which of some rows of a table have another value there."""
        ...

    def texts(self, table: str, column: str, rows: Sequence[int]) -> dict[int, str | None]:
        """The values in a column of some rows, as text; "" for a blank."""
        ...

    def parent_rows(
        self, table: str, pairs: Sequence[tuple[str, str]], to: str, rows: Sequence[int]
    ) -> dict[int, int]:
        """The row of a parent that each of some rows leads to, by pairs of an own column and one of
        the parent's key; rows that refer to no record are missing."""
        ...

    def sample_texts(self, table: str, column: str, most: int) -> list[str]:
        """Values of a column, as text; at most some."""
        ...

    def update_values(
        self,
        table: str,
        load: int,
        rows: np.ndarray,
        column: str,
        values: pa.Array,
        *,
        keep: bool = False,
    ) -> None:
        """Gives a column of some rows new values, and notes those that were there before; or, with
        `keep`, only notes that a load says other values."""
        ...

    def broken_links_from(self, table: str, first: int) -> list[str]:
        """The foreign key columns of a table that refer to no record, in the rows from `first`
        on."""
        ...

    def clear(self, layout: Layout) -> None:
        """Drops the views of the sources and the tables of a layout, so that they can be made
        anew; the ledger stays."""
        ...

    def add_tables(self, layout: Layout, names: Collection[str]) -> None:
        """Makes some tables of a layout, with their keys, indexes and links, beside the others.
        Raises TargetError where there is something of such a name."""
        ...

    def add_column(self, table: str, column: str, type_: ColumnType) -> None:
        """Gives a table a column more, blank in the rows that are there."""
        ...

    def widen_column(self, table: str, column: str, type_: ColumnType) -> None:
        """Gives a column a wider type of the same kind."""
        ...

    def refresh_views(self, layout: Layout, headers: Mapping[str, Sequence[str]]) -> None:
        """Makes the views of some sources anew; where no headers are given, drops them."""
        ...

    def exact_values(self, table: str, column: str, rows: np.ndarray) -> list[str | None]:
        """The values in a column of some rows, as `exact` gives it."""
        ...

    def restore_values(
        self, table: str, load: int, column: str, rows: Sequence[int], values: Sequence[str | None]
    ) -> None:
        """Gives a column of some rows values that `exact` has given, on behalf of a load that is
        being taken back."""
        ...

    def record_changes(
        self, table: str, column: str, rows: Sequence[tuple[int, int, str | None, str | None, int]]
    ) -> None:
        """Notes where loads differ in a column: load, row, what was there and what it says
        (as `exact` gives values), and 1 where what was there has stayed."""
        ...

    def delete_changes(
        self, table: str, column: str, loads: Sequence[int], rows: Sequence[tuple[int, int]]
    ) -> None:
        """Forgets what is noted of some loads in a column, in ranges of rows."""
        ...

    def drop_all(self, layout: Layout) -> None:
        """Drops the views of the sources, the tables of the layout (unless they are somebody
        else's) and the ledger."""
        ...

    def referring_rows(
        self, table: str, rows: np.ndarray, child: str, pairs: Sequence[tuple[str, str]]
    ) -> list[tuple[int, int]]:
        """Those of some rows of a table to which others lead (`pairs` of columns of the child and
        of the table), with the number of the first row that does (0: its rows have none)."""
        ...

    def delete_rows(self, table: str, rows: np.ndarray) -> int:
        """Takes rows of a table (ascending numbers) away; how many went."""
        ...


class New(Protocol):
    """A database that is being built, as a context: leaving it without `publish` leaves nothing
    behind, and what was there as it was."""

    remarks: list[str]
    short_texts: int
    """A column whose texts have at most so many characters is declared so (0: as any other)."""

    @property
    def codec(self) -> str:
        """How Python calls the encoding of its texts; "": it holds any character."""
        ...

    def __enter__(self) -> New: ...
    def __exit__(self, *error: object) -> None: ...

    def discard(self) -> None:
        """Removes what was not published. May be called at any time, and again."""
        ...

    def to_engine(self, values: pa.Array) -> pa.Array:
        """Typed values as the engine takes them."""
        ...

    def create(self, layout: Layout, headers: Mapping[str, Sequence[str]]) -> None:
        """Makes the tables; what follows after the rows comes with `finish`. `headers` are those of
        each source in their order."""
        ...

    def load(
        self, table: str, schema: pa.Schema, batches: Sequence[pa.RecordBatch], *, numbered: bool
    ) -> None:
        """Puts rows into a table, in their order. Where they are `numbered`, the first column is
        the key, which counts from 1.

        The batches are made when they are asked for, by any thread."""
        ...

    def finish(self) -> None:
        """Makes keys, indexes and views, and the tables of the ledger."""
        ...

    def append(self, table: str, rows: pa.Table) -> None:
        """Adds rows to a table of the ledger."""
        ...

    def verify(self, expected: dict[str, int]) -> None:
        """Raises KerfmarkError unless every link resolves and every table has the rows it should
        have."""
        ...

    def publish(self) -> None:
        """Makes it stay, in one step."""
        ...


class Parts(Protocol):
    """Rows that other machines bring to a server, in parts that are tables of their own; it can be
    sent to them."""

    def put(
        self, number: int, types: Sequence[tuple[str, ColumnType]], rows: pa.Table, first: int
    ) -> None:
        """Makes a part of some rows, on any machine; one that is there is replaced. `first` is the
        number of the first row, where the table has a key of its own (0: it has not)."""
        ...

    def take_in(
        self, new: New, table: str, names: Sequence[str], keys: Sequence[str], parts: Sequence[int]
    ) -> None:
        """Puts the rows of some parts into a table that is being built, in their order; `keys` are
        the columns of a key of its own."""
        ...

    def held(self) -> AbstractContextManager[None]:
        """While parts are collected: what programs have left that were killed is removed before,
        and these parts afterwards."""
        ...


class Database(Protocol):
    """Where a database is. `folder` is that from which its ledger names files (none: by their whole
    path)."""

    @property
    def name(self) -> str:
        """What messages call it: never with a password."""
        ...

    @property
    def folder(self) -> Path | None:
        """See above."""
        ...

    @property
    def layout_path(self) -> Path:
        """Where a proposed layout is saved."""
        ...

    @property
    def replaced_whole(self) -> bool:
        """Whether replacing it deletes everything that is in it, whoever made that."""
        ...

    def exists(self) -> bool:
        """Whether anything is there that could be replaced."""
        ...

    def new(self, replace: bool) -> New:
        """A database to build there. Raises TargetError when that will not do, before any work is
        done."""
        ...

    def reading(self) -> AbstractContextManager[Reader]:
        """Looks into it. Raises TargetError when it is not there or cannot be read."""
        ...

    def changing(self, adopt: Layout | None = None) -> AbstractContextManager[Changing]:
        """Opens it for one load, or for taking one back. Raises TargetError when Kerfmark did not
        make it. With a layout to `adopt`, of tables that somebody else made, the ledger is made;
        TargetError when there is one, unless all loads of such a layout were taken back."""
        ...

    def copy(self, to: Path) -> None:
        """Copies it into a file. Raises TargetError when that cannot be done."""
        ...

    def size(self) -> int:
        """Its bytes; 0 where that cannot be told."""
        ...


def not_ours(name: str) -> TargetError:
    """The error for tables that are not replaced, as Kerfmark has only filled them."""
    return TargetError(
        "somebody else made the tables there, so they are not replaced",
        code="target.not-ours",
        origin=Origin(name),
        why="Kerfmark has only put rows into them",
        next="name another place\n"
        f"kerfmark drop {name} --discard deletes these rows and Kerfmark's own tables, and keeps "
        "the others",
    )


def declared_keys(
    reader: Reader, layout: Layout, names: Collection[str]
) -> dict[tuple[str, str], str]:
    """The types that the keys of tables have to which some new ones (`names`) link, as the engine
    declares them."""
    out: dict[tuple[str, str], str] = {}
    for to in {to for n in names for to in layout.tables[n].parents.values()} - {*names}:
        facts = reader.facts(to)
        out |= {(to, c.name): c.type for c in facts.columns} if facts else {}
    return out


def refuse_taken(reader: Reader, names: Collection[str]) -> None:
    """Raises TargetError where a table or view of such a name is there."""
    there = {n.lower(): n for n in (*reader.tables(), *reader.views())}
    if clash := next((there[n.lower()] for n in names if n.lower() in there), ""):
        raise TargetError(
            f'something called "{clash}" is there already, which the layout in the database '
            "does not know",
            code="target.name",
            origin=Origin(reader.name),
            next="choose another name for the new table, or rename what is there",
        )


def has_no_loads(reader: Reader) -> bool:
    """Whether a ledger tells of tables that somebody else made, and all loads were taken back: then
    another layout may come in place of that one."""
    [(live,)] = reader.ask("SELECT COUNT(*) FROM kerfmark_loads WHERE undone_at IS NULL")
    texts = reader.ask("SELECT layout FROM kerfmark_layouts ORDER BY layout_id DESC LIMIT 1")
    return not int(live) and all(re.search(r"(?m)^existing *= *true", t[0]) for t in texts)


def known_already(name: str) -> TargetError:
    """The error for a database that has a ledger, where somebody else's is wanted."""
    return TargetError(
        "Kerfmark knows this database already",
        code="target.exists",
        origin=Origin(name),
        next="kerfmark add FILES --into DB puts further files into it\n"
        "kerfmark undo DB takes loads back; after that, another layout can be used",
    )


def no_ledger(name: str) -> TargetError:
    """The error for a database that Kerfmark did not make."""
    return TargetError(
        "Kerfmark did not make this database",
        code="target.no-ledger",
        origin=Origin(name),
        why="its tables kerfmark_layouts, kerfmark_loads and kerfmark_files are missing",
        next="make one with kerfmark cut FILE --into DB",
    )
