"""The statements that make the tables of a layout, for any engine that SQLAlchemy knows."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, field
from types import MappingProxyType
from typing import Any

from sqlalchemy import (
    Column,
    ForeignKeyConstraint,
    Identity,
    Integer,
    MetaData,
    PrimaryKeyConstraint,
    Table,
)
from sqlalchemy.schema import CreateTable, SetColumnComment, SetTableComment
from sqlalchemy.sql.type_api import TypeEngine
from sqlalchemy.types import UserDefinedType

from kerfmark.errors import LayoutError
from kerfmark.layout.model import Layout
from kerfmark.profile.types import ColumnType
from kerfmark.store.interface import Reader, declared_keys
from kerfmark.store.names import INDEX_NAME, fit_name, views_of
from kerfmark.store.sql_dialect import SqlDialect
from kerfmark.store.views import ViewSql, views


class _AsDeclared(UserDefinedType[Any]):
    """A type as an engine has declared it."""

    cache_ok = True

    def __init__(self, type_: str) -> None:
        self.type_ = type_

    def get_col_spec(self, **_: Any) -> str:
        """As it is."""
        return self.type_


@dataclass(frozen=True)
class IndexSql:
    """An index; all names are quoted."""

    name: str
    table: str
    columns: tuple[str, ...]
    unique: bool = False

    @property
    def kind(self) -> str:
        """How it is called in a statement."""
        return "UNIQUE INDEX" if self.unique else "INDEX"

    def create(self) -> str:
        """The statement that makes it."""
        return f"CREATE {self.kind} {self.name} ON {self.table} ({', '.join(self.columns)})"


@dataclass(frozen=True)
class ConstraintSql:
    """A primary or foreign key that a table gets after its rows; the name of the table is
    quoted."""

    table: str
    constraint: str

    def add(self) -> str:
        """The statement that makes it."""
        return f"ALTER TABLE {self.table} ADD {self.constraint}"


@dataclass(frozen=True)
class Statements:
    """What to run before the rows (`tables`, parents first) and after them: primary `keys`,
    `indexes`, `links` (foreign keys), `views`, `comments`. What an engine makes together with the
    tables is not told a second time."""

    tables: list[str]
    keys: list[ConstraintSql] = field(default_factory=list)
    indexes: list[IndexSql] = field(default_factory=list)
    links: list[ConstraintSql] = field(default_factory=list)
    views: list[ViewSql] = field(default_factory=list)
    comments: list[str] = field(default_factory=list)

    def after_rows(self) -> list[str]:
        """All that follows the rows, in its order."""
        return [
            *(k.add() for k in self.keys),
            *(i.create() for i in self.indexes),
            *(c.add() for c in self.links),
            *(v.create() for v in self.views),
            *self.comments,
        ]


def statements(
    layout: Layout,
    headers: Mapping[str, Sequence[str]],
    dialect: SqlDialect,
    built_as: Mapping[str, str] = MappingProxyType({}),
    only: Collection[str] | None = None,
    declared: Mapping[tuple[str, str], str] = MappingProxyType({}),
) -> Statements:
    """The statements for all tables, links and indexes of a layout, or for some of its tables
    (`only`), and for the views of the sources that have `headers`.

    `built_as` are other names that tables have while they are built; `declared` are the types that
    columns of tables that are there have (by table and column). Raises LayoutError for a name that
    is too long for the engine.
    """
    _refuse_long_names(layout, dialect.longest_name)
    metadata, quote = MetaData(), dialect.name
    out = Statements([])
    taken = {*layout.tables, *views_of(layout)}
    tables = {
        name: _table(layout, name, dialect, built_as, metadata, declared)
        for name in layout.parents_first()
    }
    for name, table in tables.items():
        indexes = [
            (fit_name(index_name, INDEX_NAME, taken), columns, unique)
            for index_name, columns, unique in _indexes(layout, name)
        ]
        taken |= {short for short, _, _ in indexes}
        if only is not None and name not in only:
            continue
        links = _links(layout, name, quote, built_as)
        if dialect.keys_later:
            key = ", ".join(map(quote, layout.key_columns(name)))
            out.keys.append(ConstraintSql(quote(table.name), f"PRIMARY KEY ({key})"))
        if dialect.links_later:
            out.links.extend(ConstraintSql(quote(table.name), link) for link in links)
        create = CreateTable(
            table, include_foreign_key_constraints=[] if dialect.links_later else None
        )
        out.tables.append(dialect.compile(create))
        out.indexes.extend(
            IndexSql(quote(short), quote(table.name), tuple(map(quote, columns)), unique)
            for short, columns, unique in indexes
        )
        if dialect.sqlalchemy.supports_comments and not dialect.sqlalchemy.inline_comments:
            out.comments.extend([dialect.compile(SetTableComment(table))] if table.comment else [])
            out.comments.extend(dialect.compile(SetColumnComment(c)) for c in table.c if c.comment)
    out.views.extend(
        one
        for source in layout.sources
        if source in headers
        for one in views(layout, source, headers[source], dialect)
    )
    return out


def statements_beside(
    reader: Reader, layout: Layout, names: Collection[str], dialect: SqlDialect
) -> list[str]:
    """The statements for some tables of a layout (`names`) beside those that are there, whose keys
    have the types that the engine declares."""
    declared = declared_keys(reader, layout, names)
    made = statements(layout, {}, dialect, only=names, declared=declared)
    return [*made.tables, *made.after_rows()]


def _table(
    layout: Layout,
    name: str,
    dialect: SqlDialect,
    built_as: Mapping[str, str],
    metadata: MetaData,
    declared: Mapping[tuple[str, str], str],
) -> Table:
    """A table in SQLAlchemy's sense, with its foreign keys."""
    spec = layout.tables[name]
    parts: list[Any] = []
    declare = _keyed(layout, name, dialect)
    if layout.has_generated_key(name):
        counting = [Identity()] if dialect.identity else []
        parts.append(
            Column(
                layout.key_of(name),
                Integer,
                *counting,
                primary_key=not dialect.keys_later,
                autoincrement=True,
                nullable=False,
            )
        )
    for link, parent in spec.parents.items():
        pairs = layout.link_columns(name, link)
        parts += [
            Column(
                own,
                _AsDeclared(declared[parent, key])
                if (parent, key) in declared
                else _key_type(layout, parent, key, dialect),
                nullable=link in spec.optional,
            )
            for own, key in pairs
        ]
        to = built_as.get(parent, parent)
        parts.append(
            ForeignKeyConstraint([own for own, _ in pairs], [f"{to}.{key}" for _, key in pairs])
        )
    parts += [
        Column(
            c,
            declare(c, s.of_type),
            nullable=c in spec.optional or bool(s.instead_of),
            comment=s.comment or None,
        )
        for c, s in spec.columns.items()
        if c != layout.counted(name)
    ]
    if not layout.has_generated_key(name) and not dialect.keys_later:
        parts.append(PrimaryKeyConstraint(*layout.key_columns(name)))
    return Table(
        built_as.get(name, name),
        metadata,
        *parts,
        comment=spec.comment or None,
        **dialect.table_options,
    )


def _links(
    layout: Layout, name: str, quote: Callable[[str], str], built_as: Mapping[str, str]
) -> list[str]:
    """The foreign keys of a table, in the order of their columns."""
    found = []
    for link, parent in layout.tables[name].parents.items():
        pairs = layout.link_columns(name, link)
        found.append(
            ([own for own, _ in pairs], built_as.get(parent, parent), [key for _, key in pairs])
        )
    return [foreign_key(*link, quote) for link in sorted(found, key=lambda f: f[0])]


def foreign_key(
    columns: Sequence[str], parent: str, key: Sequence[str], quote: Callable[[str], str]
) -> str:
    """A foreign key as a constraint."""
    return (
        f"FOREIGN KEY({', '.join(map(quote, columns))}) REFERENCES {quote(parent)} "
        f"({', '.join(map(quote, key))})"
    )


def _indexes(layout: Layout, name: str) -> list[tuple[str, tuple[str, ...], bool]]:
    """The indexes of a table beside its primary key: name, columns, and whether they are unique. A
    foreign key that begins one of the others needs none of its own."""
    spec = layout.tables[name]
    out: list[tuple[str, tuple[str, ...], bool]] = []
    known = [tuple(layout.key_columns(name))]
    for unique in spec.unique_sets:
        columns = tuple(layout.stored_as(name, unique))
        if columns not in known:
            known.append(columns)
            by = unique == spec.known_by
            out.append(
                (
                    f"{name}_known_by" if by else f"{name}_unique_{'_'.join(unique)}",
                    columns,
                    not by or spec.known != "add",
                )
            )
    covered = {k[0] for k in known}
    for link in spec.links:
        own = tuple(column for column, _ in layout.link_columns(name, link))
        if own[0] not in covered:
            out.append((f"{name}_{link}", own, False))
    return out


def _refuse_long_names(layout: Layout, longest: int) -> None:
    """Raises LayoutError for a table or column whose name has more bytes than the engine takes. The
    columns of links come last: they are called after the tables."""
    own = [
        (name, of)
        for name, table in layout.tables.items()
        for of in (name, *layout.key_columns(name), *table.columns)
    ]
    linking = [
        (name, of)
        for name, table in layout.tables.items()
        for of in layout.stored_as(name, list(table.links))
    ]
    for name, long in (*own, *linking):
        if longest and len(long.encode()) > longest:
            raise LayoutError(
                f'the name "{long}" is too long for the engine',
                code="layout.name",
                why=f"the engine takes at most {longest} bytes",
                next=f"give it a shorter one in tables > {name}",
            )


def _keyed(
    layout: Layout, table: str, dialect: SqlDialect
) -> Callable[[str, ColumnType], TypeEngine[Any]]:
    """How the columns of a table are declared: those in a key or index as the engine wants it for
    so many of them."""
    spec = layout.tables[table]
    sets = [*spec.unique_sets, *(() if isinstance(spec.key, str) else (spec.key,))]
    keyed = dialect.keyed_type_of

    def declare(column: str, type_: ColumnType) -> TypeEngine[Any]:
        among = max((len(s) for s in sets if column in s), default=0)
        return keyed(type_, among) if keyed and among else dialect.type_of(type_)

    return declare


def _key_type(layout: Layout, table: str, key: str, dialect: SqlDialect) -> TypeEngine[Any]:
    """The type of a column of a table's primary key."""
    spec = layout.tables[table]
    if layout.has_generated_key(table):
        return Integer()
    if key in spec.columns:
        return _keyed(layout, table, dialect)(key, spec.columns[key].of_type)
    return next(
        _key_type(layout, spec.links[link].to, further, dialect)
        for link in spec.links
        for own, further in layout.link_columns(table, link)
        if own == key
    )
