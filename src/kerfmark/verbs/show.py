"""show: what is in a database."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from kerfmark.errors import Origin, UsageError
from kerfmark.store.database import Reader, TableFacts, database_at, quote


@dataclass(frozen=True)
class ColumnShown:
    """A column: its type as declared, whether it may be blank, and the table it links to (or "")."""

    name: str
    type: str
    optional: bool
    links_to: str


@dataclass(frozen=True)
class TableShown:
    """A table: rows, primary key, unique sets of columns, columns, and its first rows."""

    name: str
    rows: int
    key: tuple[str, ...]
    unique: tuple[tuple[str, ...], ...]
    columns: tuple[ColumnShown, ...]
    first_rows: tuple[tuple[object, ...], ...]


@dataclass(frozen=True)
class ShowResult:
    """What is in a database; `views` by name."""

    database: str
    tables: tuple[TableShown, ...]
    views: tuple[str, ...]


def show(database: str | Path, table: str | None = None, *, rows: int = 3) -> ShowResult:
    """The tables of a database, or one of them, with their first `rows` rows.

    Raises TargetError when it is no database, UsageError when it has no such table.
    """
    with database_at(database).reading() as reader:
        names, views = reader.tables(), reader.views()
        if table is not None:
            if table not in [*names, *views]:
                raise UsageError(f'there is no table "{table}"', origin=Origin(reader.name),
                                 next=f"the tables are {', '.join(names)}")
            names, views = [table], []
        there = [facts for n in names if (facts := reader.facts(n))]
        return ShowResult(reader.name, tuple(_shown(reader, facts, rows) for facts in there), tuple(views))


def _shown(reader: Reader, facts: TableFacts, rows: int) -> TableShown:
    links = {c: link.to for link in facts.links for c in link.columns}
    name = quote(facts.name)
    order = f" ORDER BY {', '.join(map(quote, facts.key))}" if facts.key else ""
    return TableShown(
        facts.name, int(reader.ask(f"SELECT count(*) FROM {name}")[0][0]), facts.key, facts.unique,
        tuple(ColumnShown(c.name, c.type, c.optional, links.get(c.name, "")) for c in facts.columns),
        tuple(tuple(r) for r in reader.ask(f"SELECT * FROM {name}{order} LIMIT {rows}")))
