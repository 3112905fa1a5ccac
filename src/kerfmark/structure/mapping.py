"""Mapping sources onto tables that a database has already, made by anyone: which source column
feeds which column of which table.

What is weighed: how alike the names are (those of table and column together, and of the foreign key
that leads there), whether the types agree, and how many of the values are in the database already.
The links decide what can belong to one row: from the table that gets a record per row, every other
table must be reached by foreign keys.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from rapidfuzz import fuzz

from kerfmark.layout.model import VERSION, ColumnSpec, Layout, LinkSpec, SourceSpec, TableSpec
from kerfmark.layout.names import singular, snake
from kerfmark.profile.codes import holds
from kerfmark.profile.encode import EncodedSource
from kerfmark.profile.types import TEXT, ColumnType

ENOUGH = 0.6
"""The score from which a source column is proposed for a column of a table."""
NAMING = frozenset(
    {"name", "title", "label", "code", "no", "nr", "number", "tag", "key", "id", "description"}
)
"""What columns are called that only name their record; the header may say the table instead."""
_TAKES = {
    "text": frozenset(
        {"text", "integer", "decimal", "real", "boolean", "date", "timestamp", "time"}
    ),
    "integer": frozenset({"integer"}),
    "decimal": frozenset({"integer", "decimal"}),
    "real": frozenset({"integer", "decimal", "real"}),
    "boolean": frozenset({"boolean"}),
    "date": frozenset({"date"}),
    "timestamp": frozenset({"date", "timestamp"}),
    "time": frozenset({"time"}),
}
_TABLE_S_NAME = 0.98
"""How alike a header that is called like a table is to the column that names its records."""
_ALIKE = {"decimal": {"decimal", "real"}, "integer": {"integer", "decimal", "real"}}
"""Kinds of columns that take values of a kind as they are."""


@dataclass(frozen=True)
class ColumnThere:
    """A column of a table that is there: its type, whether it may be blank, whether the database
    fills it where nothing is said or always (`computed`), and some of the values that it has, as
    text."""

    name: str
    type: ColumnType
    optional: bool
    filled: bool = False
    computed: bool = False
    values: frozenset[str] = frozenset()


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
        """The primary key, where it is a number that need not be said; else ""."""
        if len(self.key) != 1 or self.key[0] in self.links:
            return ""
        return self.key[0] if self.column(self.key[0]).type.kind == "integer" else ""


@dataclass(frozen=True)
class Fed:
    """A source column and the column that it feeds, and why (in words). `link` is the foreign key
    by which the record is found by value ("": the record is one of the row itself)."""

    source: str
    header: str
    table: str
    column: str
    why: str
    link: str = ""


@dataclass(frozen=True)
class Onto:
    """The proposal: a layout, what feeds what, columns that no table takes as (source, header), and
    what is required and has no source, in words. `odd` tells what could not be mapped."""

    layout: Layout
    fed: tuple[Fed, ...]
    unmapped: tuple[tuple[str, str], ...]
    required: tuple[str, ...]
    odd: tuple[str, ...]
    comments: dict[str, list[str]] = field(default_factory=dict)


@dataclass(frozen=True)
class _Place:
    """Somewhere that a source column may go: a column of a table, reached through the row or,
    `through` a link, by value."""

    table: str
    column: str
    owner: str = ""
    through: str = ""


def onto(
    sources: Mapping[str, EncodedSource],
    types: Mapping[str, Sequence[ColumnType]],
    specs: Mapping[str, SourceSpec],
    there: Sequence[TableThere],
) -> Onto:
    """Proposes how sources feed tables that are there. `types` are those of the columns of each
    source."""
    return _Mapping(sources, types, specs, there).propose()


class _Mapping:
    """Where the columns of some sources go, found step by step: places, tables with a record per
    row, what is left over."""

    def __init__(
        self,
        sources: Mapping[str, EncodedSource],
        types: Mapping[str, Sequence[ColumnType]],
        specs: Mapping[str, SourceSpec],
        there: Sequence[TableThere],
    ) -> None:
        self.sources, self.types, self.specs = sources, types, specs
        self.there = {t.name: t for t in there if t.key}
        self.odd = [f"{t.name} has no primary key and is left alone" for t in there if not t.key]
        self.fed: dict[str, dict[str, tuple[_Place, str]]] = {}
        self.bases: dict[str, str] = {}
        self.required: list[str] = []

    def propose(self) -> Onto:
        """The whole proposal."""
        for name in self.sources:
            self.fed[name] = self._assigned(name)
        for name in self.sources:
            self._choose_base(name)
            self._left_over(name)
        tables: dict[str, TableSpec] = {}
        for name in sorted(self.bases, key=lambda n: self._depth(self.bases[n])):
            self._build(name, tables)
        specs = {}
        for name, spec in self.specs.items():
            if name in self.bases:
                placed = {h for t in tables.values() if t.source == name for h in t.headers}
                self.fed[name] = {h: f for h, f in self.fed[name].items() if h in placed}
                out = tuple(
                    c.header for c in self.sources[name].columns if c.header not in self.fed[name]
                )
                specs[name] = spec.model_copy(update={"left_out": out})
        told = tuple(
            Fed(n, c.header, p.table, p.column, why, p.through)
            for n in specs
            for c in self.sources[n].columns
            if c.header in self.fed[n]
            for p, why in [self.fed[n][c.header]]
        )
        unmapped = tuple((n, h) for n, s in specs.items() for h in s.left_out)
        self.odd += [
            f"{n}: no table of the database fits it" for n in self.sources if n not in self.bases
        ]
        layout = Layout(kerfmark=VERSION, existing=True, sources=specs, tables=tables)
        comments: dict[str, list[str]] = {}
        for n in {n for n, _ in unmapped}:
            headers = ", ".join(f'"{h}"' for m, h in unmapped if m == n)
            comments[f"sources.{n}"] = [
                f"no column of the database matches {headers}. They are left out, unless you give "
                "them a "
                "place under columns of a table: cut then adds the column"
            ]
        for line in self.required:
            table = line.split(".")[0]
            comments.setdefault(f"tables.{table}", []).append(line)
        return Onto(layout, told, unmapped, tuple(self.required), tuple(self.odd), comments)

    def _depth(self, table: str, on_the_way: tuple[str, ...] = ()) -> int:
        """How many links lead up from a table at most."""
        up = [
            p
            for p in self.there[table].links.values()
            if p in self.there and p != table and p not in on_the_way
        ]
        return 1 + max((self._depth(p, (*on_the_way, table)) for p in up), default=0)

    # -- which column goes where

    def _places(self) -> list[_Place]:
        out = []
        for t in self.there.values():
            for c in t.columns:
                if c.computed or c.name in t.links:
                    continue
                out.append(_Place(t.name, c.name))
            for link, parent in t.links.items():
                several = [k for k, p in t.links.items() if p == parent]
                if parent in self.there and (parent == t.name or len(several) > 1):
                    out += [_Place(parent, c, t.name, link) for c in self._naming(parent)]
        return out

    def _naming(self, table: str) -> tuple[str, ...]:
        """The columns by which a record of a table is recognised: a unique one, or one that is
        called like a name."""
        t = self.there[table]
        for unique in t.unique:
            if len(unique) == 1 and unique[0] not in t.links:
                return unique
        if t.key and not t.generated and len(t.key) == 1:
            return t.key
        return tuple(c.name for c in t.columns if c.name in NAMING and c.name not in t.key)[:1]

    def _assigned(self, name: str) -> dict[str, tuple[_Place, str]]:
        """The best place for each column of a source, each place used once."""
        source = self.sources[name]
        scored = []
        for i, column in enumerate(source.columns):
            known = set(column.values.slice(0, 5000).to_pylist())
            for place in self._places():
                c = self.there[place.table].column(place.column)
                alike = self._alike(column.header, place)
                if not self._fits(self.types[name][i], c.type) or (
                    c.filled and place.column == self.there[place.table].generated and alike < 1
                ):
                    continue
                share = len(known & c.values) / len(known) if known and c.values else None
                score = (
                    alike
                    if share is None
                    else max(alike, 0.4 * alike + 0.6 * share if len(c.values) > 2 else 0)
                    + 0.1 * share
                )
                if self.types[name][i] == TEXT and c.type.kind != "text":
                    score *= 0.9  # its values do not all fit; the check will tell
                if score >= ENOUGH:
                    why = _in_words(alike, place)
                    if share:
                        why += (", " if why else "") + f"{share:.0%} of its values are there"
                    scored.append((score, -i, place, why or "its values are there"))
        out: dict[str, tuple[_Place, str]] = {}
        used: set[_Place] = set()
        for _, i, place, why in sorted(
            scored, key=lambda s: (-s[0], -s[1], s[2].through, s[2].table)
        ):
            header = source.columns[-i].header
            if header not in out and place not in used:
                out[header] = place, why
                used.add(place)
        return {c.header: out[c.header] for c in source.columns if c.header in out}

    def _fits(self, said: ColumnType, there: ColumnType) -> bool:
        return said.kind in _TAKES[there.kind] or said == TEXT

    def _alike(self, header: str, place: _Place) -> float:
        """How alike a header is to the name of a place, from 0 to 1."""
        said = snake(header).split("_")
        table = [singular(w) for w in snake(place.table).split("_")]
        column = snake(place.column).split("_")
        if place.through:  # the link says what the record is here: mother_id leads to a hive
            table = [w for w in snake(place.through).split("_") if w not in ("id", "fk")] or table
        plain = [singular(w) for w in said]
        if plain in (table + column, column + table) or (
            column[: len(table)] == table and plain == column
        ):
            return 1.0
        naming = len(column) == 1 and column[0] in NAMING
        if plain == table and (naming or (place.column,) in self.there[place.table].unique):
            return _TABLE_S_NAME
        if plain == table + column[len(table) :] and column[: len(table)] == table:
            return 1.0
        if said == column:
            return 0.7 if naming else 0.99 if not place.through else 0.5
        shared = set(plain) & {*table, *map(singular, column)}
        if not shared:
            return 0.8 * fuzz.ratio("".join(said), "".join(column)) / 100 if not naming else 0.0
        if not set(map(singular, column)) & set(plain) and not naming:
            return 0.3
        own = {*map(singular, column)}
        return 0.9 * max(
            2 * len(set(plain) & w) / (len(set(plain)) + len(w)) for w in (own, own | {*table})
        )

    # -- the table with a record per row

    def _choose_base(self, name: str) -> None:
        """The table from which all, or most, of what a source feeds is reached; what is not reached
        has no place there."""
        fed = self.fed[name]
        owners = {p.owner or p.table for p, _ in fed.values()}
        if not owners:
            return
        reach = {t: self._reached(t) for t in owners}
        base = max(
            sorted(owners),
            key=lambda t: (
                sum((p.owner or p.table) in reach[t] for p, _ in fed.values()),
                self._depth(t),
            ),
        )
        self.bases[name] = base
        for header, (place, _) in list(fed.items()):
            if (place.owner or place.table) not in reach[base]:
                del fed[header]

    def _left_over(self, name: str) -> None:
        """What only one place is left for: a header that a record decides and that names its table,
        where that has one column left; and the only date, or number, for the only one that must be
        filled."""
        if name not in self.bases:
            return
        fed, source, base = self.fed[name], self.sources[name], self.bases[name]
        reach = self._reached(base)

        def open_columns(table: str, type_: ColumnType) -> list[ColumnThere]:
            used = {p.column for p, _ in fed.values() if p.table == table and not p.through}
            return [
                c
                for c in self.there[table].columns
                if c.name not in used
                and c.name not in self.there[table].links
                and not c.computed
                and not c.filled
                and c.type.kind in _ALIKE.get(type_.kind, {type_.kind})
            ]

        kinds = {c.header: t for c, t in zip(source.columns, self.types[name], strict=True)}
        for header in [c.header for c in source.columns if c.header not in fed]:
            words = {singular(w) for w in snake(header).split("_")}
            for table in reach:
                keys = [
                    h
                    for h, (p, _) in fed.items()
                    if p.table == table and p.column in self._naming(table)
                ]
                left = open_columns(table, kinds[header])
                if (
                    keys
                    and len(left) == 1
                    and {singular(w) for w in snake(table).split("_")} & words
                    and holds(
                        source.column(keys[0]).codes,
                        source.column(header).codes,
                        len(source.column(keys[0]).values),
                    )
                ):
                    fed[header] = (
                        _Place(table, left[0].name),
                        f'"{keys[0]}" decides it, and {table} has no other column left',
                    )
                    break
        for column in self.there[base].columns:
            alone = [h for h, t in kinds.items() if h not in fed and t.kind == column.type.kind]
            needed = [
                c
                for c in open_columns(base, column.type)
                if not c.optional and c.type.kind == column.type.kind
            ]
            if column.type.kind != "text" and needed == [column] and len(alone) == 1:
                fed[alone[0]] = (
                    _Place(base, column.name),
                    f"the only {column.type.kind} that is left",
                )

    def _reached(self, table: str) -> dict[str, tuple[str, str]]:
        """The tables that links lead to from a table: each with the table and link by which it is
        reached first."""
        out: dict[str, tuple[str, str]] = {table: ("", "")}
        queue = [table]
        for name in queue:
            links = self.there[name].links
            for link, parent in links.items():
                if (
                    parent in self.there
                    and parent not in out
                    and list(links.values()).count(parent) == 1
                ):
                    out[parent] = name, link
                    queue.append(parent)
        return out

    # -- the layout

    def _build(self, name: str, tables: dict[str, TableSpec]) -> None:
        """Adds the tables that a source feeds."""
        base = self.bases[name]
        fed = self.fed[name]
        reach = self._reached(base)
        mine = {base}
        for place, _ in fed.values():
            at = place.owner or place.table
            while at != base:  # the tables on the way are needed too
                mine.add(at)
                at = reach[at][0]
        owned = {
            t: {p.column: h for h, (p, _) in fed.items() if not p.through and p.table == t}
            for t in mine
        }
        by_value = {
            t for t in mine - {base} if t in tables
        }  # what another source has records of is found by value
        for table in sorted(mine - by_value, key=self._depth):
            t = self.there[table]
            columns = {c: self._column(name, h, t.column(c)) for c, h in owned[table].items()}
            links: dict[str, LinkSpec] = {}
            for link, parent in t.links.items():
                through = {
                    p.column: h
                    for h, (p, _) in fed.items()
                    if p.owner == table and p.through == link
                }
                if through:
                    links[link] = LinkSpec(
                        to=parent,
                        by=through,
                        missing="refuse" if parent in self.bases.values() else "create",
                    )
                elif parent in by_value and reach.get(parent) == (table, link):
                    known = tables[parent].known_by
                    by = {c: h for c, h in owned[parent].items() if c in known}
                    more = {
                        c: h
                        for c, h in owned[parent].items()
                        if c not in known and c in tables[parent].columns
                    }
                    for further in by_value - {parent}:
                        more |= self._said_again(reach, parent, further, owned[further], tables)
                    if set(by) == set(known):
                        links[link] = LinkSpec(to=parent, by=by, missing="refuse", repeats=more)
                elif parent in mine and reach.get(parent) == (table, link):
                    links[link] = LinkSpec(to=parent)
            self._say_required(table, columns, links)
            tables[table] = self._table(name, t, columns, links, table == base)
        for target in [k for spec in tables.values() for k in spec.links.values()]:
            if target.by and target.to not in tables:  # found by value, and otherwise fed by nobody
                t = self.there[target.to]
                columns = {c: self._column(name, h, t.column(c)) for c, h in target.by.items()}
                self._say_required(target.to, columns, {})
                tables[target.to] = self._table(name, t, columns, {}, False)

    def _said_again(
        self,
        reach: Mapping[str, tuple[str, str]],
        parent: str,
        further: str,
        owned: Mapping[str, str],
        tables: Mapping[str, TableSpec],
    ) -> dict[str, str]:
        """What rows say again of a table further up than one that is found by value: as
        `link.column`, seen from that one."""
        way: list[str] = []
        at = further
        while at != parent:
            if at not in reach or not reach[at][0]:
                return {}
            at, link = reach[at]
            way.insert(0, link)
            if at not in tables or link not in tables[at].links:
                return {}
        return {".".join([*way, c]): h for c, h in owned.items() if c in tables[further].columns}

    def _table(
        self,
        name: str,
        t: TableThere,
        columns: dict[str, ColumnSpec],
        links: dict[str, LinkSpec],
        base: bool,
    ) -> TableSpec:
        natural = not t.generated or t.generated in columns
        optional = tuple(c for c in (*columns, *links) if t.column(c).optional)
        known_by = self._known_by(name, t, columns, links, base)
        more = tuple(u for u in t.unique if set(u) <= {*columns, *links} and u != known_by)
        return TableSpec(
            source=name,
            each_row=base,
            known_by=known_by,
            unique=more,
            optional=optional,
            key=tuple(t.key) if natural else t.generated,
            links=links,
            columns=columns,
        )

    def _column(self, name: str, header: str, there: ColumnThere) -> ColumnSpec:
        """The column as the source says it and the database takes it."""
        said = next(
            t
            for c, t in zip(self.sources[name].columns, self.types[name], strict=True)
            if c.header == header
        )
        type_ = said
        if there.type.kind == "text" and said.kind != "text":
            type_ = replace(TEXT, width=there.type.width)
        elif there.type.kind == "text":
            type_ = replace(said, width=there.type.width)
        elif said == TEXT:
            form = {
                "date": "YYYY-MM-DD",
                "timestamp": "YYYY-MM-DD hh:mm:ss",
                "time": "hh:mm",
                "boolean": "yes/no",
            }
            type_ = replace(there.type, form=form.get(there.type.kind, there.type.form))
        elif said.kind == "decimal" and there.type.kind == "decimal" and there.type.precision:
            whole = there.type.precision - there.type.scale
            if said.scale <= there.type.scale:
                type_ = replace(said, precision=min(whole + said.scale, 38))
        return ColumnSpec(header=header, type=str(type_))

    def _known_by(
        self,
        name: str,
        t: TableThere,
        columns: Mapping[str, ColumnSpec],
        links: Mapping[str, LinkSpec],
        base: bool,
    ) -> tuple[str, ...]:
        there = {*columns, *links}
        natural = [t.key] if not t.generated or t.generated in columns else []
        for unique in (*t.unique, *natural):
            if set(unique) <= there:
                return unique
        if base or not columns:
            return ()
        source = self.sources[name]
        codes = {c: source.column(spec.header) for c, spec in columns.items()}
        for c, column in codes.items():
            if all(holds(column.codes, o.codes, len(column.values)) for o in codes.values()):
                return (
                    (c, *links)
                    if links and not self._decides_links(name, column.codes, len(column.values), t)
                    else (c,)
                )
        return tuple(columns)

    def _decides_links(self, name: str, codes: np.ndarray, size: int, t: TableThere) -> bool:
        """Whether a column decides what a table links to, as far as the source says it."""
        fed = self.fed[name]
        parents = {h for h, (p, _) in fed.items() if p.table in t.links.values()}
        return all(holds(codes, self.sources[name].column(h).codes, size) for h in parents)

    def _say_required(
        self, table: str, columns: Mapping[str, ColumnSpec], links: Mapping[str, LinkSpec]
    ) -> None:
        t = self.there[table]
        for c in t.columns:
            by_itself = c.optional or c.filled or c.computed or c.name == t.generated
            if not by_itself and c.name not in columns and c.name not in links:
                self.required.append(
                    f"{table}.{c.name} must be filled, and no column of the sources feeds it"
                )


def _in_words(alike: float, place: _Place) -> str:
    """How alike the names are."""
    if alike == _TABLE_S_NAME:
        return f"{place.column} is what names a record of {place.table}"
    return (
        "of the same name"
        if alike > _TABLE_S_NAME
        else "the names are alike"
        if alike >= ENOUGH
        else ""
    )
