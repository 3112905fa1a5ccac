"""The statements that make the tables of a layout, for any engine that SQLAlchemy knows."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Boolean, Column, Date, DateTime, Double, ForeignKey, Index, Integer, MetaData, Numeric, Table, Text, Time
from sqlalchemy.engine import Dialect
from sqlalchemy.schema import CreateIndex, CreateTable
from sqlalchemy.sql.type_api import TypeEngine

from kerfmark.layout.model import Layout
from kerfmark.profile.types import ColumnType

TypeMapper = Callable[[ColumnType], TypeEngine[Any]]


@dataclass(frozen=True)
class Statements:
    """What to run before the rows (`tables`, parents first) and after them (`indexes`, `views`)."""

    tables: list[str]
    indexes: list[str]
    views: list[str]


def usual_type(type_: ColumnType) -> TypeEngine[Any]:
    """The SQL type of a column, by its usual name."""
    if type_.kind == "decimal":
        return Numeric(type_.precision, type_.scale)
    usual: dict[str, type[TypeEngine[Any]]] = {
        "text": Text, "integer": Integer, "real": Double, "boolean": Boolean, "date": Date, "timestamp": DateTime, "time": Time}
    return usual[type_.kind]()


def statements(layout: Layout, headers: Mapping[str, Sequence[str]], dialect: Dialect, mapper: TypeMapper = usual_type
               ) -> Statements:
    """The statements for all tables, links, indexes and views of a layout; `headers` are those of each source."""
    metadata = MetaData()
    indexes: list[Index] = []
    order = layout.parents_first()
    for name in order:
        spec = layout.tables[name]
        key = Column(layout.key_of(name), Integer, primary_key=True, autoincrement=True)
        links = [Column(link, Integer, ForeignKey(f"{parent}.{layout.key_of(parent)}"), nullable=link in spec.optional)
                 for link, parent in spec.links.items()]
        columns = [Column(c, mapper(s.of_type), nullable=c in spec.optional) for c, s in spec.columns.items()]
        table = Table(name, metadata, key, *links, *columns)
        for unique in spec.unique_sets:
            indexes.append(Index(f"{name}_known_by" if unique == spec.known_by else f"{name}_unique_{'_'.join(unique)}"[:60],
                                 *(table.c[u] for u in unique), unique=True))
        covered = {u[0] for u in spec.unique_sets}
        indexes += [Index(f"{name}_{link}"[:60], table.c[link]) for link in spec.links if link not in covered]
    return Statements(
        [str(CreateTable(metadata.tables[n]).compile(dialect=dialect)).strip() for n in order],
        [str(CreateIndex(i).compile(dialect=dialect)).strip() for i in indexes],
        [view(layout, source, headers[source], dialect) for source in layout.sources],
    )


def view_name(source: str) -> str:
    """The view that shows a source in its flat shape again."""
    return f"{source}_flat"


def view(layout: Layout, source: str, headers: Sequence[str], dialect: Dialect) -> str:
    """The statement for the view that rejoins a source: its headers in their order."""
    quote = dialect.identifier_preparer.quote_identifier
    base = layout.base_of(source)
    joins: dict[str, str] = {}
    cells: dict[str, str] = {}
    for name, spec in layout.tables.items():
        if spec.source != source:
            continue
        for child, link, parent in layout.path(base, name) or []:
            joins.setdefault(parent, f"LEFT JOIN {quote(parent)} ON {quote(parent)}.{quote(layout.key_of(parent))}"
                                     f" = {quote(child)}.{quote(link)}")
        cells |= {s.header: f"{quote(name)}.{quote(c)} AS {quote(s.header)}" for c, s in spec.columns.items()}
    chosen = ",\n       ".join(cells[h] for h in headers if h in cells)
    return "\n".join([f"CREATE VIEW {quote(view_name(source))} AS", f"SELECT {chosen}", f"FROM {quote(base)}", *joins.values()])
