"""The statements that make the tables of a layout, for any engine that SQLAlchemy knows."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import count
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
from kerfmark.layout.model import Layout, TableSpec
from kerfmark.profile.types import ColumnType

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
                  for c, s in spec.columns.items()]
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

    def spelled(what: Any) -> str:
        return str(what.compile(dialect=dialect)).strip()

    made = [spelled(CreateTable(t, include_foreign_key_constraints=[] if way.links_later else None)) for t in tables]
    keys = [f"ALTER TABLE {quote(called[n])} ADD PRIMARY KEY ({', '.join(map(quote, layout.key_columns(n)))})" for n in order]
    links = [spelled(AddConstraint(c)) for t in tables for c in _in_order(t.foreign_key_constraints)]
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


def _in_order(links: Collection[ForeignKeyConstraint]) -> list[ForeignKeyConstraint]:
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


def view_columns(headers: Sequence[str], longest: int) -> dict[str, str]:
    """What the headers of a source are called in its view; an engine may take names of so many bytes at most (0: any)."""
    out: dict[str, str] = {}
    for header in headers:
        out[header] = fitting(header, longest, set(out.values()))
    return out


def fitting(name: str, longest: int, taken: Collection[str] = ()) -> str:
    """A name of so many bytes at most (0: any number), and none that is taken: its beginning, and a number."""
    if not longest or (len(name.encode()) <= longest and name not in taken):
        return name
    for n in count(2):
        short = name.encode()[:longest - len(f"~{n}")].decode(errors="ignore") + f"~{n}"
        if short not in taken:
            return short
    raise AssertionError


def quoting(dialect: Dialect) -> Callable[[str], str]:
    """How names are quoted: always, but for Oracle, which takes an unquoted name for one in capitals."""
    preparer = dialect.identifier_preparer
    return preparer.quote if dialect.name == "oracle" else preparer.quote_identifier


def view_name(source: str) -> str:
    """The view that shows a source in its flat shape again."""
    return f"{source}_flat"


def view(layout: Layout, source: str, headers: Sequence[str], dialect: Dialect, longest: int = 0) -> str:
    """The statement for the view that rejoins a source: its headers in their order; `longest` are the bytes of a name (0: any)."""
    return _View(layout, source, dialect, longest).statement(headers)


class _View:
    """Finds every header of a source again, from the table with a record per row on."""

    def __init__(self, layout: Layout, source: str, dialect: Dialect, longest: int) -> None:
        self.layout, self.source, self.dialect, self.longest = layout, source, dialect, longest
        self.base = layout.base_of(source)
        self.quote = quoting(dialect)
        self.joins: dict[str, str] = {}
        self.aliases: dict[str, str] = {}

    def statement(self, headers: Sequence[str]) -> str:
        """The whole statement."""
        cells = {h: cell for h in headers if (cell := self._cell(h))}
        named = view_columns(headers, self.longest)
        chosen = ",\n       ".join(f"{cell} AS {self.quote(named[h])}" for h, cell in cells.items())
        return "\n".join([f"CREATE VIEW {self.quote(view_name(self.source))} AS", f"SELECT {chosen}",
                          f"FROM {self.quote(self.base)}", *self.joins.values()])

    def _cell(self, header: str) -> str:
        """What a row says under a header; "" for one that was left out."""
        for name, table in self.layout.tables.items():
            if table.source != self.source:
                continue
            if table.part_of:
                if cell := self._of_part(name, table, header):
                    return cell
                continue
            for column, spec in table.columns.items():
                if spec.header == header and (spec.usual or spec.instead_of):
                    return self._exceptional(header)
                if spec.header == header and not spec.split:
                    return f"{self._reach(name)}.{self.quote(column)}"
            for link, target in table.links.items():
                for column, h in (*target.by.items(), *target.repeats.items()):
                    if h == header:
                        return self._through(name, link, target.to, column)
        return ""

    def _exceptional(self, header: str) -> str:
        """What a row says itself, or else what is usual."""
        found = self.layout.exceptional(self.source, header)
        assert found is not None
        base, column, table, usual = found
        return f"COALESCE({self.quote(base)}.{self.quote(column)}, {self._reach(table)}.{self.quote(usual)})"

    def _through(self, name: str, link: str, parent: str, path: str) -> str:
        """A column of what a link by value leads to, or of what that links to."""
        reached = self._looked_up(self._reach(name), f"{name}.{link}", name, link)
        way = f"{name}.{link}"
        *links, column = path.split(".")
        for further in links:
            way = f"{way}.{further}"
            reached = self._looked_up(reached, way, parent, further)
            parent = self.layout.tables[parent].links[further].to
        return f"{reached}.{self.quote(column)}"

    def _reach(self, name: str) -> str:
        """A table that links through the row lead to, joined."""
        for child, link, parent in self.layout.path(self.base, name) or []:
            self.joins.setdefault(parent, self._join(self.quote(parent), "", child, link, self.quote(child)))
        return self.quote(name)

    def _looked_up(self, reached: str, name: str, child: str, link: str) -> str:
        """What a link of a table leads to, joined under a name of its own; `reached` is what the table itself is called."""
        alias = self.quote(self.aliases.setdefault(name, fitting(name, self.longest, self.aliases.values())))
        parent = self.quote(self.layout.tables[child].links[link].to)
        called = " " if self.dialect.name == "oracle" else " AS "
        self.joins.setdefault(alias, self._join(parent, called + alias, child, link, reached, alias))
        return alias

    def _join(self, parent: str, as_: str, child: str, link: str, reached: str, alias: str = "") -> str:
        return f"LEFT JOIN {parent}{as_} ON {self._equal(child, link, reached, alias or parent)}"

    def _equal(self, child: str, link: str, here: str, there: str) -> str:
        """The condition that a record of a table (called `here`) leads to one of its parent (called `there`)."""
        return " AND ".join(f"{there}.{self.quote(key)} = {here}.{self.quote(own)}"
                            for own, key in self.layout.link_columns(child, link))

    def _of_part(self, name: str, table: TableSpec, header: str) -> str:
        """One of several columns, or the parts of a cell put together again."""
        q, mine = self.quote, self.quote(name)
        owner = self._equal(name, self.layout.owner_link(name), mine, self._reach(table.part_of))
        for column, spec in table.columns.items():
            if header in spec.headers:
                which, telling = next((n, c) for n, c in table.columns.items() if c.told)
                told = telling.told[spec.headers.index(header)]
                value = told if telling.of_type.kind == "integer" else "'" + told.replace("'", "''") + "'"
                return f"(SELECT {mine}.{q(column)} FROM {mine} WHERE {owner} AND {mine}.{q(which)} = {value})"
        position = next((q(n) for n, c in table.columns.items() if c.position), "")
        parts = [(f"{mine}.{q(n)}", "", c.split) for n, c in table.columns.items() if c.header == header and c.split]
        for link, target in table.links.items():
            for column, h in target.by.items():
                if h == header:
                    parent = q(target.to)
                    joined = f" JOIN {parent} ON {self._equal(name, link, mine, parent)}"
                    parts.append((f"{parent}.{q(column)}", joined, self.layout.tables[target.to].columns[column].split))
        if not parts:
            return ""
        value, joined, split = parts[0]
        separator = "'" + split.replace("'", "''") + "'"
        rows, order = f"FROM {mine}{joined} WHERE {owner}", f"ORDER BY {mine}.{position}"
        if self.dialect.name == "postgresql":
            return f"(SELECT string_agg(CAST({value} AS text), {separator} {order}) {rows})"
        if self.dialect.name == "mssql":
            return f"(SELECT STRING_AGG(CAST({value} AS nvarchar(max)), {separator}) WITHIN GROUP ({order}) {rows})"
        if self.dialect.name == "oracle":
            return f"(SELECT LISTAGG({value}, {separator}) WITHIN GROUP ({order}) {rows})"
        if self.dialect.name == "mysql":
            return f"(SELECT GROUP_CONCAT({value} {order} SEPARATOR {separator}) {rows})"
        return f"(SELECT group_concat(part, {separator}) FROM (SELECT {value} AS part {rows} {order}))"
