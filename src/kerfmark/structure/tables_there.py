"""Tables that a database has already, made by anyone, as the mapping onto them sees them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from kerfmark.profile.types import ColumnType


@dataclass(frozen=True)
class ColumnThere:
    """A column of a table that is there: its type, whether it may be blank, whether the database
    fills it where nothing is said or always (`computed`), some of the values that it has, as text,
    and those that it takes (`allowed`; empty: any). `uuid`: it takes UUIDs only."""

    name: str
    type: ColumnType
    optional: bool
    filled: bool = False
    computed: bool = False
    values: frozenset[str] = frozenset()
    allowed: frozenset[str] = frozenset()
    uuid: bool = False


@dataclass(frozen=True)
class TableThere:
    """A table that is there; `links` maps each foreign key column to the table it leads to; `rows`
    is how many records it has."""

    name: str
    columns: tuple[ColumnThere, ...]
    key: tuple[str, ...]
    unique: tuple[tuple[str, ...], ...]
    links: Mapping[str, str]
    rows: int

    def column(self, name: str) -> ColumnThere:
        """A column by its name."""
        return next(c for c in self.columns if c.name == name)

    @property
    def generated(self) -> str:
        """The primary key, where it is a number that need not be said, or the one column of it
        that is (beside what a table is divided by); else ""."""
        whole = [
            c
            for c in map(self.column, self.key)
            if c.type.kind == "integer" and c.name not in self.links
        ]
        if len(self.key) > 1:
            whole = [c for c in whole if c.filled]
        return whole[0].name if len(whole) == 1 else ""

    @property
    def by_chance(self) -> str:
        """The primary key, where it is not a number and the database makes it where none is said (a
        UUID); else ""."""
        if len(self.key) != 1 or self.generated or self.key[0] in self.links:
            return ""
        return self.key[0] if self.column(self.key[0]).filled else ""

    @property
    def needed(self) -> list[str]:
        """The columns that must be filled by whoever adds a row."""
        return [
            c.name
            for c in self.columns
            if not (c.optional or c.filled or c.computed or c.name == self.generated)
        ]


@dataclass(frozen=True)
class Place:
    """Somewhere that a source column may go: a column of a table, reached through the row or,
    `through` a link of the table `owner`, by value."""

    table: str
    column: str
    owner: str = ""
    through: str = ""

    def __str__(self) -> str:
        if not self.through:
            return f"{self.table}.{self.column}"
        return f"{self.owner}.{self.through}.{self.column}"

    @property
    def of(self) -> str:
        """The table whose record the row makes, or leads to, for it."""
        return self.owner or self.table


def reached(there: Mapping[str, TableThere], table: str) -> dict[str, tuple[str, str]]:
    """The tables that links lead to from a table, with itself: each with the table and link by
    which it is reached first. Where several links lead to the same table, none of them is
    followed: only a value tells which one is meant."""
    out: dict[str, tuple[str, str]] = {table: ("", "")}
    queue = [table]
    for name in queue:
        links = there[name].links
        for link, parent in links.items():
            alone = [*links.values()].count(parent) == 1
            if parent in there and parent not in out and alone:
                out[parent] = name, link
                queue.append(parent)
    return out


def depth(there: Mapping[str, TableThere], table: str, on_the_way: tuple[str, ...] = ()) -> int:
    """How many links lead up from a table at most, and one more."""
    up = {p for p in there[table].links.values() if p in there} - {table, *on_the_way}
    return 1 + max((depth(there, p, (*on_the_way, table)) for p in up), default=0)
