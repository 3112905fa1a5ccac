"""The statements that make the tables of a layout, for any engine that SQLAlchemy knows."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import Any

from sqlalchemy import (
    Boolean,
    Column,
    Date,
    DateTime,
    Double,
    ForeignKeyConstraint,
    Identity,
    Index,
    Integer,
    MetaData,
    Numeric,
    PrimaryKeyConstraint,
    String,
    Table,
    Text,
    Time,
)
from sqlalchemy.engine import Dialect
from sqlalchemy.schema import AddConstraint, CreateIndex, CreateTable, SetColumnComment, SetTableComment
from sqlalchemy.sql.type_api import TypeEngine

from kerfmark.errors import LayoutError
from kerfmark.layout.model import Layout
from kerfmark.profile.types import ColumnType
from kerfmark.store.views import fitting, quoting, view, view_name

TypeMapper = Callable[[ColumnType], TypeEngine[Any]]


@dataclass(frozen=True)
class Statements:
    """What to run before the rows (`tables`, parents first) and after them: primary `keys`, `indexes`, `links` (foreign keys),
    `views`, `comments`. What an engine makes together with the tables is not told a second time."""

    tables: list[str]
    keys: list[str]
    indexes: list[str]
    links: list[str]
    views: list[str]
    comments: list[str]


def usual_type(type_: ColumnType) -> TypeEngine[Any]:
    """The SQL type of a column, by its usual name."""
    if type_.kind == "decimal":
        return Numeric(type_.precision, type_.scale)
    if type_.width:
        return String(type_.width)
    usual: dict[str, type[TypeEngine[Any]]] = {
        "text": Text, "integer": Integer, "real": Double, "boolean": Boolean, "date": Date, "timestamp": DateTime, "time": Time}
    return usual[type_.kind]()


@dataclass(frozen=True)
class Way:
    """How an engine wants its tables made: how it declares types (those of columns that are `keyed`, in a key or an index, may
    differ), whether generated keys are declared as identities, whether primary keys and foreign keys are made after the rows, how
    many bytes a name may have (0: any number), what tables are called while they are built, and what CREATE TABLE ends with."""

    mapper: TypeMapper = usual_type
    keyed: Callable[[ColumnType, int], TypeEngine[Any]] | None = None
    identity: bool = False
    keys_later: bool = False
    links_later: bool = False
    longest: int = 0
    called: Mapping[str, str] = field(default_factory=dict)
    options: Mapping[str, Any] = field(default_factory=dict)


def statements(layout: Layout, headers: Mapping[str, Sequence[str]], dialect: Dialect, way: Way) -> Statements:
    """The statements for all tables, links, indexes and views of a layout; `headers` are those of each source."""
    _refuse_long_names(layout, way.longest)
    metadata = MetaData()
    indexes: list[Index] = []
    called = {n: way.called.get(n, n) for n in layout.tables}
    taken = {*layout.tables, *map(view_name, layout.sources)}

    def index(name: str, table: Table, columns: Sequence[str], unique: bool = False) -> Index:
        short = fitting(name, 60, taken)
        taken.add(short)
        return Index(short, *(table.c[c] for c in columns), unique=unique)

    order = layout.parents_first()
    for name in order:
        spec = layout.tables[name]
        parts: list[Any] = []
        mapper = _keyed(layout, name, way)
        if layout.has_generated_key(name):
            counting = [Identity()] if way.identity else []
            parts.append(Column(layout.key_of(name), Integer, *counting, primary_key=not way.keys_later, autoincrement=True,
                                nullable=False))
        for link, parent in spec.parents.items():
            pairs = layout.link_columns(name, link)
            parts += [Column(own, _key_type(layout, parent, key, way), nullable=link in spec.optional) for own, key in pairs]
            parts.append(ForeignKeyConstraint([own for own, _ in pairs], [f"{called[parent]}.{key}" for _, key in pairs]))
        parts += [Column(c, mapper(c, s.of_type), nullable=c in spec.optional or bool(s.instead_of), comment=s.comment or None)
                  for c, s in spec.columns.items() if c != layout.counted(name)]
        if not layout.has_generated_key(name) and not way.keys_later:
            parts.append(PrimaryKeyConstraint(*layout.key_columns(name)))
        table: Table = Table(called[name], metadata, *parts, comment=spec.comment or None, **way.options)
        known = [tuple(layout.key_columns(name))]
        for unique in spec.unique_sets:
            columns = tuple(layout.stored_as(name, unique))
            if columns not in known:
                known.append(columns)
                indexes.append(index(f"{name}_known_by" if unique == spec.known_by else f"{name}_unique_{'_'.join(unique)}", table,
                                     columns, spec.known != "add" or unique != spec.known_by))
        covered = {k[0] for k in known}
        indexes += [index(f"{name}_{link}", table, [own for own, _ in layout.link_columns(name, link)])
                    for link in spec.links if layout.link_columns(name, link)[0][0] not in covered]
    tables = [metadata.tables[called[n]] for n in order]
    quote = quoting(dialect)

    spelled = partial(compiled, dialect)
    made = [spelled(CreateTable(t, include_foreign_key_constraints=[] if way.links_later else None)) for t in tables]
    keys = [f"ALTER TABLE {quote(called[n])} ADD PRIMARY KEY ({', '.join(map(quote, layout.key_columns(n)))})" for n in order]
    links = [spelled(AddConstraint(c)) for t in tables for c in in_order(t.foreign_key_constraints)]
    comments = [spelled(SetTableComment(t)) for t in tables if t.comment]
    comments += [spelled(SetColumnComment(c)) for t in tables for c in t.c if c.comment]
    return Statements(
        made, keys if way.keys_later else [], [spelled(CreateIndex(i)) for i in indexes], links if way.links_later else [],
        [view(layout, source, headers[source], dialect, way.longest) for source in layout.sources],
        comments if dialect.supports_comments and not dialect.inline_comments else [])


def _refuse_long_names(layout: Layout, longest: int) -> None:
    """Raises LayoutError for a table or column whose name has more bytes than the engine takes."""
    for name, table in layout.tables.items():
        own = [*layout.key_columns(name), *table.columns, *layout.stored_as(name, list(table.links))]
        long = next((n for n in (name, *own) if longest and len(n.encode()) > longest), "")
        if long:
            raise LayoutError(f'the name "{long}" is too long for the engine', code="layout.name", why=f"it takes {longest} bytes",
                              next=f"give it a shorter one in tables > {name}")


def compiled(dialect: Dialect, what: Any) -> str:
    """A statement as an engine spells it."""
    return str(what.compile(dialect=dialect)).strip()


def in_order(links: Collection[ForeignKeyConstraint]) -> list[ForeignKeyConstraint]:
    return sorted(links, key=lambda c: list(c.column_keys))


def _keyed(layout: Layout, table: str, way: Way) -> Callable[[str, ColumnType], TypeEngine[Any]]:
    """How the columns of a table are declared: those in a key or index as the engine wants it for so many of them."""
    spec = layout.tables[table]
    sets = [*spec.unique_sets, *(() if isinstance(spec.key, str) else (spec.key,))]
    keyed = way.keyed

    def declare(column: str, type_: ColumnType) -> TypeEngine[Any]:
        among = max((len(s) for s in sets if column in s), default=0)
        return keyed(type_, among) if keyed and among else way.mapper(type_)

    return declare


def _key_type(layout: Layout, table: str, key: str, way: Way) -> TypeEngine[Any]:
    """The type of a column of a table's primary key."""
    spec = layout.tables[table]
    if layout.has_generated_key(table):
        return Integer()
    if key in spec.columns:
        return _keyed(layout, table, way)(key, spec.columns[key].of_type)
    return next(_key_type(layout, spec.links[link].to, further, way) for link in spec.links
                for own, further in layout.link_columns(table, link) if own == key)
