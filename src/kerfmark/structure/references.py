"""Links between sources, and within one: columns whose values are the keys of a table elsewhere.

A column refers to a table when its values are all (or nearly all) among those of a column that
tells that table's records apart. For words and codes that is evidence enough; running numbers are
contained in one another by nature, so there the headers must say so too, or the numbers must cover
most of a range that does not begin at the bottom.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import combinations
from types import MappingProxyType
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.errors import UsageError, counted
from kerfmark.layout.model import ColumnSpec, Layout, LinkSpec, TableSpec
from kerfmark.layout.names import free_name, snake
from kerfmark.profile.codes import combine, first_rows, holds, value_counts
from kerfmark.profile.columns import EncodedColumn
from kerfmark.profile.convert import to_text
from kerfmark.profile.encode import EncodedSource
from kerfmark.structure.header_words import (
    KEY_WORDS,
    NAME_WORDS,
    called_like,
    helpful,
    looks_like_key,
    names_things,
    stem,
    words,
)
from kerfmark.structure.steering import Steering

FEWEST = 3
"""Different values that a column must share with a key before that can mean anything."""
ENOUGH_ROWS = 20
"""Rows from which on a column that is different in each is no accident."""
MOST_LOOKED_AT = 50_000
"""Keys up to which a link that is decided against is looked for, only to be told."""
MOST_STRAY_ROWS = 0.03
"""The share of the rows whose values may be missing from it, however many these are."""
STRAYS = 0.02
"""The share of a column's values that may be missing from the key it refers to."""
ENOUGH_COLLISIONS = 5.0
"""Rows with the same two values that chance would have made, from which on it means something that
there are none."""
SELF_WORDS = frozenset(
    {
        "parent",
        "part",
        "under",
        "of",
        "successor",
        "mother",
        "father",
        "dam",
        "sire",
        "manager",
        "supervisor",
        "boss",
        "above",
        "upper",
        "reports",
        "within",
        "in",
        "previous",
        "predecessor",
        "replaces",
        "superior",
        "belongs",
        "main",
        "leader",
        "head",
    }
)
"""Words that speak of another record of the same kind."""


@dataclass(frozen=True)
class Reference:
    """A column that refers to a table: how many different values, how many of these are strays, and
    whether headers say so."""

    table: str
    column: str
    parent: str
    key: str
    values: int
    strays: tuple[str, ...]
    coverage: float
    named: bool
    loose: bool = False

    def __str__(self) -> str:
        there = "all" if not self.strays else f"{self.values - len(self.strays):,}"
        said = (
            f"{counted(self.values, 'value')} of {self.column}, {there} among "
            f"{self.parent}.{self.key}"
        )
        said += " but for case and spaces" if self.loose else ""
        return said + (f"; not there: {', '.join(self.strays[:5])}" if self.strays else "")


@dataclass
class Connected:
    """A layout with its links between tables by value, the references it rests on, and those that
    were decided against."""

    layout: Layout
    references: list[Reference] = field(default_factory=list)
    renamed: dict[str, str] = field(default_factory=dict)
    against: tuple[str, ...] = ()


class _Keys:
    """The values of columns as one kind of text, so that any two can be compared."""

    def __init__(self, layout: Layout, encoded: Mapping[str, EncodedSource]) -> None:
        self.layout, self.encoded = layout, encoded
        self._texts: dict[tuple[str, str], pa.StringArray] = {}

    def column(self, source: str, header: str) -> EncodedColumn:
        return self.encoded[source].column(header)

    def tells_apart(self, source: str, spec: ColumnSpec) -> bool:
        """Whether a column of words, codes or numbers has a different value in every row, and that
        is no accident: the rows are many, or it is called like a key or a name."""
        column, header = self.column(source, spec.header), spec.header
        return (
            spec.of_type.kind in ("text", "integer")
            and len(column.values) == len(column.codes)
            and (
                len(column.codes) >= ENOUGH_ROWS
                or looks_like_key(header)
                or names_things(header)
                or called_like(header, source)
                or not helpful(header)
            )
        )

    def texts(self, source: str, header: str, spec: ColumnSpec) -> pa.StringArray:
        """The distinct values of a column, each spelled in one way; null for what has not its
        type."""
        if (source, header) not in self._texts:
            column = self.column(source, header)
            typed = column.typed(spec.of_type)
            plain = to_text(typed, spec.of_type)
            if spec.of_type.kind in ("date", "timestamp", "time"):
                plain = pc.cast(typed, pa.string())
            self._texts[source, header] = plain
        return self._texts[source, header]


def connect(
    layout: Layout,
    encoded: Mapping[str, EncodedSource],
    steering: Steering = Steering(),
    alike: Mapping[tuple[str, str], str] = MappingProxyType({}),
) -> Connected:
    """Finds the references between all tables of a layout and makes links of them, but for those a
    person forbids. `alike` gives for a source and header another header of the same stock, which
    says as much of what it refers to."""
    keys = _Keys(layout, encoded)
    found = _references(layout, keys, steering, alike)
    tables = dict(layout.tables)
    for reference in found:
        tables = _linked(tables, reference)
    tables, gone = _merged(
        tables, Layout(kerfmark=layout.kerfmark, sources=layout.sources, tables=tables), keys
    )
    tables = {n: _known_by_pair(t, tables, keys) for n, t in tables.items()}
    tables, pairs, instead = _linked_by_pairs(tables, keys)
    found = [*(r for r in found if (r.table, r.parent) not in instead), *pairs]
    connected = Layout(kerfmark=layout.kerfmark, sources=layout.sources, tables=tables)
    return Connected(connected, found, gone, _against(layout, found, keys))


def kept_elsewhere(
    layout: Layout, encoded: Mapping[str, EncodedSource], steering: Steering = Steering()
) -> set[str]:
    """The tables whose records are those of a table of another source: their keys refer to it."""
    return {
        r.table
        for r in _references(layout, _Keys(layout, encoded), steering)
        if r.table != r.parent and (r.column,) in layout.tables[r.table].unique_sets
    }


def _known_by_pair(spec: TableSpec, tables: Mapping[str, TableSpec], keys: _Keys) -> TableSpec:
    """A table with a record per row that nothing else tells apart, known by two of its columns, of
    which one is a link: who takes part in what, or a number within what it belongs to."""
    if not spec.each_row or spec.known_by or spec.unique:
        return spec
    links = {n: next(iter(lk.by.values())) for n, lk in spec.links.items() if len(lk.by) == 1}
    parts = links | {
        n: c.header for n, c in spec.columns.items() if c.is_plain and looks_like_key(c.header)
    }
    best: tuple[float, tuple[str, str]] | None = None
    for one, other in combinations(parts, 2):
        if one not in links and other not in links:
            continue
        a, b = keys.column(spec.source, parts[one]), keys.column(spec.source, parts[other])
        rows = len(a.codes)
        _, count = combine([a.codes, b.codes], [len(a.values), len(b.values)])
        if count != rows or min(len(a.values), len(b.values)) < 2:
            continue
        by_chance = rows * (rows - 1) / 2 * _sameness(a) * _sameness(b)
        if by_chance >= ENOUGH_COLLISIONS and (best is None or by_chance > best[0]):
            best = by_chance, (one, other)
    return spec if best is None else spec.model_copy(update={"known_by": best[1]})


def _linked_by_pairs(
    tables: dict[str, TableSpec], keys: _Keys
) -> tuple[dict[str, TableSpec], list[Reference], set[tuple[str, str]]]:
    """The tables with links to those that are known by a link and a number within it, where others
    have both; the references that these links rest on, and the links (from, to) that they stand
    for."""
    out: list[Reference] = []
    instead: set[tuple[str, str]] = set()
    for parent in sorted(tables, key=lambda n: not tables[n].each_row):  # registers come first
        target = tables[parent]
        within = [k for k in target.known_by if k in target.links]
        number = [k for k in target.known_by if k in target.columns]
        if len(within) != 1 or len(number) != 1 or len(target.links[within[0]].by) != 1:
            continue
        for name in list(tables):
            if tables[name].part_of or name in _reached_from(parent, tables):
                continue
            found = _pair_reference(tables, name, parent, within[0], number[0], keys)
            if found is not None:
                before = tables[name]
                reference, tables = found
                out.append(reference)
                if len(tables[name].links) == len(before.links):
                    instead.add((name, target.links[within[0]].to))
    return tables, out, instead


def _reached_from(table: str, tables: Mapping[str, TableSpec]) -> set[str]:
    """A table, and all that its links lead to."""
    found, waiting = set(), [table]
    while waiting:
        one = waiting.pop()
        if one not in found:
            found.add(one)
            waiting += [link.to for link in tables[one].links.values()]
    return found


def _pair_reference(
    tables: dict[str, TableSpec], name: str, parent: str, within: str, number: str, keys: _Keys
) -> tuple[Reference, dict[str, TableSpec]] | None:
    """The link of a table to another one that is known by a link (`within`) and a `number`, if its
    rows have both."""
    child, target = tables[name], tables[parent]
    owner = target.links[within]
    [(key, said_there)] = owner.by.items()
    theirs = target.columns[number]
    for link_name, link in child.links.items():
        if link.to != owner.to or list(link.by) != [key] or link.loose or link.repeats:
            continue
        for column, c in child.columns.items():
            if not c.is_plain or c.of_type.kind != theirs.of_type.kind:
                continue
            if not set(words(c.header)) & set(words(theirs.header)):
                continue
            said_here = link.by[key]
            here = _pairs_of(keys, child.source, said_here, c.header)
            missing = here.keys() - _pairs_of(keys, target.source, said_there, theirs.header).keys()
            wrong = sum(here[pair] for pair in missing)
            if len(here) < FEWEST or wrong > MOST_STRAY_ROWS * sum(here.values()):
                continue
            has_owner, has_number = (
                keys.column(child.source, h).codes >= 0 for h in (said_here, c.header)
            )  # what is there without the other is kept for itself
            alone = {link_name} if bool((has_owner & ~has_number).any()) else set()
            alone |= {column} if bool((has_number & ~has_owner).any()) else set()
            alone |= {link_name, column} & _looked_for(name, tables)
            links = {n: lk for n, lk in child.links.items() if n != link_name or n in alone}
            taken = {*child.columns, *links, f"{name}_id"}
            by = {number: c.header, f"{within}.{key}": said_here}
            new = free_name(f"{parent}_id", taken, f"{parent}_id_of_{name}")
            swap = {n: new for n in (column, link_name) if n not in alone}
            optional = dict.fromkeys(swap.get(o, o) for o in child.optional)
            if alone:
                optional[new] = None
            tables = {
                **tables,
                name: child.model_copy(
                    update={
                        "columns": {
                            n: s for n, s in child.columns.items() if n != column or n in alone
                        },
                        "links": {**links, new: LinkSpec(to=parent, by=by)},
                        "known_by": tuple(dict.fromkeys(swap.get(k, k) for k in child.known_by)),
                        "unique": tuple(
                            tuple(dict.fromkeys(swap.get(u, u) for u in some))
                            for some in child.unique
                        ),
                        "optional": tuple(optional),
                    }
                ),
            }
            if missing:  # records that are only named lack everything else
                rest = [
                    n
                    for n in (*target.columns, *target.links)
                    if n not in (number, within) and n not in target.optional
                ]
                tables[parent] = target.model_copy(update={"optional": (*target.optional, *rest)})
            told = tuple(" + ".join(pair) for pair in sorted(missing)[:20])
            both = f"{said_here} + {c.header}"
            return Reference(
                name, both, parent, f"{within} + {number}", len(here), told, 1.0, True
            ), tables
    return None


def _looked_for(name: str, tables: Mapping[str, TableSpec]) -> set[str]:
    """The columns and links of a table by which others find its records."""
    return {
        path.partition(".")[0]
        for spec in tables.values()
        for link in spec.links.values()
        if link.to == name
        for path in (*link.by, *link.repeats)
    }


def _pairs_of(keys: _Keys, source: str, one: str, other: str) -> dict[tuple[str, str], int]:
    """What two columns say together, and in how many rows."""
    a, b = keys.column(source, one), keys.column(source, other)
    both, count = combine([a.codes, b.codes], [len(a.values), len(b.values)])
    rows = first_rows(both, count)
    first, second = (c.values.take(pa.array(c.codes[rows])).to_pylist() for c in (a, b))
    times = value_counts(both, count).tolist()
    return dict(zip(zip(first, second, strict=True), times, strict=True))


def _sameness(column: EncodedColumn) -> float:
    """The chance that two rows drawn at random agree."""
    return float(((column.times / max(len(column.codes), 1)) ** 2).sum())


def names_to_free(layout: Layout, gone: Collection[str]) -> dict[str, str]:
    """The tables that have a number in their names only because another one, which is gone, had the
    name without it; with that name."""
    out: dict[str, str] = {}
    for name in layout.tables:
        plain = re.sub(r"_\d+$", "", name)
        if plain != name and plain in gone and plain not in {*layout.tables, *out.values()}:
            out[name] = plain
    return out


def with_table_names(layout: Layout, names: Mapping[str, str]) -> Layout:
    """A layout whose tables have other names, and so have the links that are called after them."""
    tables: dict[str, TableSpec] = {}
    called: dict[str, dict[str, str]] = {}
    for name, spec in layout.tables.items():
        links = called[name] = {}
        for link, target in spec.links.items():
            wanted = f"{names.get(target.to, target.to)}_id"
            taken = {*spec.columns, *spec.links, *links.values(), f"{names.get(name, name)}_id"}
            free = link == f"{target.to}_id" and wanted not in taken
            links[link] = wanted if free else link

    def path(of: str, said: str) -> str:
        """A column of a table, or one that its links lead to, as it is called now."""
        first, *rest = said.split(".", 1)
        if not rest:
            return said
        return f"{called[of].get(first, first)}.{path(layout.tables[of].links[first].to, rest[0])}"

    def renamed(link: LinkSpec) -> LinkSpec:
        return link.model_copy(
            update={
                "to": names.get(link.to, link.to),
                "by": {path(link.to, c): h for c, h in link.by.items()},
                "repeats": {path(link.to, c): h for c, h in link.repeats.items()},
            }
        )

    for name, spec in layout.tables.items():
        links = called[name]

        def new(some: Sequence[str], links: Mapping[str, str] = links) -> tuple[str, ...]:
            return tuple(links.get(n, n) for n in some)

        tables[names.get(name, name)] = spec.model_copy(
            update={
                "part_of": names.get(spec.part_of, spec.part_of),
                "links": {links[n]: renamed(lk) for n, lk in spec.links.items()},
                "known_by": new(spec.known_by),
                "optional": new(spec.optional),
                "unique": tuple(new(u) for u in spec.unique),
            }
        )
    return Layout(kerfmark=layout.kerfmark, sources=layout.sources, tables=tables)


def _against(layout: Layout, found: Sequence[Reference], keys: _Keys) -> tuple[str, ...]:
    """References by number that the values would allow, but that nothing else speaks for."""
    linked = {(r.table, r.column) for r in found}
    numbered = [
        (n, c, s)
        for n, t in layout.tables.items()
        for c, s in t.columns.items()
        if s.is_plain and s.of_type.kind == "integer"
    ]
    out: list[str] = []
    for name, column, c in numbered:
        for parent, key, p in numbered:
            target = layout.tables[parent]
            if (
                target.source == layout.tables[name].source
                or (name, column) in linked
                or (key,) not in target.unique_sets
            ):
                continue
            many = (
                len(keys.column(layout.tables[name].source, c.header).values),
                len(keys.column(target.source, p.header).values),
            )
            if not FEWEST <= many[0] <= many[1] <= MOST_LOOKED_AT:
                continue
            own, other = (
                keys.texts(layout.tables[name].source, c.header, c),
                keys.texts(target.source, p.header, p),
            )
            if pc.all(pc.is_in(own, value_set=other)).as_py():
                out.append(
                    f"{name}.{column} is not a link to {parent}: its numbers are all among "
                    f"{parent}.{key}, but small numbers "
                    "are contained in running ones, and no header says so"
                )
    return tuple(out)


def _references(
    layout: Layout,
    keys: _Keys,
    steering: Steering,
    alike: Mapping[tuple[str, str], str] = MappingProxyType({}),
) -> list[Reference]:
    forced, belongs = dict(steering.link), _owners(layout, keys)
    parents = [
        (name, column)
        for name, spec in layout.tables.items()
        for column, c in spec.columns.items()
        if c.is_plain
        and ((column,) in spec.unique_sets or (spec.each_row and keys.tells_apart(spec.source, c)))
    ]
    out: list[Reference] = []
    for name, spec in layout.tables.items():
        for column, c in spec.columns.items():
            if not c.is_plain or c.of_type.kind in (
                "boolean",
                "decimal",
                "real",
                "date",
                "timestamp",
                "time",
            ):
                continue
            if c.header in steering.no_link:
                continue
            if (name, column) in belongs:
                parent, key = belongs[name, column]
                own = keys.column(spec.source, c.header)
                out.append(Reference(name, column, parent, key, len(own.values), (), 1.0, True))
                continue
            if c.header in forced:
                parent_keys = [
                    (p, k) for p, k in parents if p == forced[c.header] and (p, k) != (name, column)
                ]
                out += [_forced(layout, keys, name, column, parent_keys, forced[c.header])]
                continue
            options = [
                r
                for parent, key in parents
                if (r := _reference(layout, keys, name, column, parent, key, alike))
            ]
            if options:
                out.append(
                    max(
                        options,
                        key=lambda r: (
                            r.named,
                            not r.strays,
                            layout.tables[r.parent].each_row,
                            r.coverage,
                        ),
                    )
                )
    out = _without_circles(out, layout)
    referred = {(r.parent, r.key) for r in out}  # what others refer to stays a column
    for table in layout.tables.values():
        referred |= {(lk.to, c) for lk in table.links.values() for c in (*lk.by, *lk.repeats)}
    out = [r for r in out if (r.table, r.column) not in referred]
    return _by_one_key(_one_per_parent(out, layout, keys), layout)


def _owners(layout: Layout, keys: _Keys) -> dict[tuple[str, str], tuple[str, str]]:
    """The columns of lists that say to which record each of their records belongs, and the table
    and column of these."""
    out: dict[tuple[str, str], tuple[str, str]] = {}
    for name, encoded in keys.encoded.items():
        owner = getattr(encoded.source, "owner", None)
        if owner is None:
            continue
        member, there, here = owner
        spec = layout.sources[name]
        above = [
            n
            for n, s in layout.sources.items()
            if (s.file, s.member, s.json_cells) == (spec.file, member, spec.json_cells)
        ]
        for parent in map(layout.base_of, above):
            child = layout.base_of(name)
            column = _column_of(layout.tables[child], here)
            key = _column_of(layout.tables[parent], there)
            if column and key:
                out[child, column] = parent, key
    return out


def _column_of(spec: TableSpec, header: str) -> str:
    return next((n for n, c in spec.columns.items() if c.header == header), "")


def _forced(
    layout: Layout,
    keys: _Keys,
    name: str,
    column: str,
    parents: Sequence[tuple[str, str]],
    wanted: str,
) -> Reference:
    """A reference that a person asks for: to the key of that table that holds most of the
    values."""
    mine = layout.tables[name].columns[column]
    own = keys.texts(layout.tables[name].source, mine.header, mine)
    best: Reference | None = None
    for parent, key in parents:
        theirs = layout.tables[parent].columns[key]
        if theirs.of_type.kind != mine.of_type.kind:
            continue
        present = pc.is_in(
            own, value_set=keys.texts(layout.tables[parent].source, theirs.header, theirs)
        )
        missing = tuple(own.filter(pc.invert(present)).to_pylist())
        if best is None or len(missing) < len(best.strays):
            best = Reference(name, column, parent, key, len(own), missing, 1.0, True)
    if best is None:
        raise UsageError(
            f'"{mine.header}" cannot link to "{wanted}"',
            code="steer.link",
            why="there is no such table, or it has no key of the same type",
            next=f"the tables are {', '.join(layout.tables)}",
        )
    return best


def _one_per_parent(
    references: Sequence[Reference], layout: Layout, keys: _Keys
) -> list[Reference]:
    """References without those by which a record only says again (by its name, say) what another
    reference says (by code)."""
    out: list[Reference] = []
    for r in sorted(
        references,
        key=lambda r: (
            (r.column,) not in layout.tables[r.table].unique_sets,
            not r.named,
            len(r.strays),
        ),
    ):
        child = layout.tables[r.table]
        twin = next(
            (o for o in out if (o.table, o.parent) == (r.table, r.parent) and o.key != r.key), None
        )
        if twin is not None and r.table != r.parent:
            link = LinkSpec(to=r.parent, by={twin.key: child.columns[twin.column].header})
            if r.key in _repeated(
                {r.column: child.columns[r.column]}, child.source, link, layout, keys
            ):
                continue
        out.append(r)
    return sorted(
        out,
        key=lambda r: (
            list(layout.tables).index(r.table),
            list(layout.tables[r.table].columns).index(r.column),
        ),
    )


def _by_one_key(references: Sequence[Reference], layout: Layout) -> list[Reference]:
    """References without those by another key of a table in which values are missing: the records
    that are made of these have nothing but the one key, so that the other tells nothing apart.
    Only records of a table that lists those of a source need not have the key it is known by."""
    out = list(references)
    for parent in dict.fromkeys(r.parent for r in references if r.strays):
        used = Counter(r.key for r in references if r.parent == parent)
        spec = layout.tables[parent]
        best = max(used, key=lambda k: ((k,) == spec.known_by, used[k]))
        if spec.known_by and (best,) != spec.known_by and not spec.each_row:
            out = [r for r in out if r.parent != parent or not r.strays]
        else:
            out = [r for r in out if r.parent != parent or r.key == best]
    return out


def _reference(
    layout: Layout,
    keys: _Keys,
    name: str,
    column: str,
    parent: str,
    key: str,
    alike: Mapping[tuple[str, str], str],
) -> Reference | None:
    """The reference of a column to the key of a table, if it is one."""
    child, target = layout.tables[name], layout.tables[parent]
    mine, theirs = child.columns[column], target.columns[key]
    said = {mine.header, alike.get((child.source, mine.header), mine.header)}
    same_table = name == parent
    if (same_table and column == key) or mine.of_type.kind != theirs.of_type.kind:
        return None
    if child.source == target.source and not same_table:
        return None  # within a source the rows themselves say what belongs together
    named = any(_named(h, parent, theirs.header, target, same_table) for h in said)
    numbers = mine.of_type.kind == "integer"
    if numbers and not named and helpful(mine.header) and not looks_like_key(mine.header):
        return None  # numbers among numbers, and nobody says that they mean anything
    own, other = (
        keys.texts(child.source, mine.header, mine),
        keys.texts(target.source, theirs.header, theirs),
    )
    telling = helpful(mine.header) and helpful(theirs.header)
    if telling and not (numbers or named) and _are_digits(own) and _are_digits(other):
        return None  # so are codes of digits with zeros before them
    fewer, more = sorted((own, other), key=len)
    both = more.filter(pc.is_in(more, value_set=fewer))  # a set of the many is never made
    present = pc.is_in(own, value_set=both)
    hits = int(pc.sum(present).as_py() or 0)
    strays = len(own) - hits
    loose = False
    is_key = (column,) in child.unique_sets
    if strays and mine.of_type.kind == "text" and hits >= FEWEST and not is_key:
        plain = pc.is_in(_plain(own), value_set=_plain(more if other is more else fewer))
        found = int(pc.sum(plain).as_py() or 0)
        if found > hits and len(_plain(other).unique()) == len(other):
            loose, present, hits, strays = True, plain, found, len(own) - found
    if strays and hits >= FEWEST and _few_rows(keys.column(child.source, mine.header), present):
        strays = min(strays, max(1 if hits >= 20 else 0, int(STRAYS * len(own))))
    if hits < (1 if same_table and named and not strays else FEWEST) or strays > max(
        1 if hits >= 20 else 0, STRAYS * len(own)
    ):
        return None
    coverage = hits / max(len(other), 1)
    if (
        is_key
        and not (
            named
            and not same_table
            and (
                (target.each_row and not child.each_row)
                or (
                    len(own) <= len(other)
                    and list(layout.tables).index(parent) < list(layout.tables).index(name)
                )
            )
        )
        and not (len(own) < 0.8 * len(other) and mine.of_type.kind == "text")
    ):
        return None
    if child.each_row and not target.each_row and keys.tells_apart(child.source, mine):
        return None  # what names the records of a source is not found in a part of another
    if mine.of_type.kind == "integer" and not _tells(own, other, coverage, named, mine.header):
        return None
    if same_table and not named and is_key:
        return None
    if mine.of_type.kind == "text" and not named and pc.mean(pc.utf8_length(own)).as_py() < 2:
        return None  # single letters are contained in anything
    missing = tuple(own.filter(pc.invert(present)).to_pylist()[:20])
    return Reference(name, column, parent, key, len(own), missing, coverage, named, loose)


def _plain(texts: pa.StringArray) -> pa.StringArray:
    """Texts without regard to case and spaces."""
    return pc.replace_substring_regex(pc.utf8_trim_whitespace(pc.utf8_lower(texts)), r"\s+", " ")


def _few_rows(column: EncodedColumn, present: pa.BooleanArray) -> bool:
    """Whether the values of a column that are not present are those of few rows, one each or so."""
    times = column.times
    missing = ~present.fill_null(False).to_numpy(zero_copy_only=False)
    return bool(times[missing].sum() <= MOST_STRAY_ROWS * times.sum())


def _are_digits(texts: pa.StringArray) -> bool:
    """Whether all of some texts are digits."""
    return all(
        bool(pc.all(pc.match_substring_regex(some, "^[0-9]+$")).as_py())
        for some in (texts.slice(0, 20), texts)
    )


def _tells(
    own: pa.StringArray, other: pa.StringArray, coverage: float, named: bool, header: str
) -> bool:
    """Whether numbers among numbers mean anything."""
    numbers, keys = (np.array(pc.cast(x, pa.int64()).drop_null()) for x in (own, other))
    years = bool(((keys >= 1900) & (keys <= 2100)).all())
    if named:
        return True
    low, high = int(keys.min()), int(keys.max())
    spread = (int(numbers.max()) - int(numbers.min()) + 1) / (high - low + 1)
    return (
        not years
        and low >= 100
        and coverage >= 0.1
        and spread >= 0.5
        and (looks_like_key(header) or not helpful(header))
    )


def _named(header: str, parent: str, key_header: str, target: TableSpec, same_table: bool) -> bool:
    """Whether a header speaks of a table, or of another record of the same."""
    if not helpful(header):
        return False
    said, plain = set(words(header)), KEY_WORDS | NAME_WORDS
    about = ({*parent.split("_")} | set(stem(key_header) if helpful(key_header) else ())) - plain
    if not about:
        about = set(words(target.source)) - plain
    if same_table:
        return bool(said & SELF_WORDS)
    return bool((said - plain) & about) or any(
        w.rstrip("s") in about or w + "s" in about for w in said - plain
    )


def _without_circles(references: Sequence[Reference], layout: Layout) -> list[Reference]:
    """References without those that say in both directions that the records of two tables are the
    same."""
    out: list[Reference] = []
    for r in sorted(references, key=lambda r: len(r.strays) > 0):
        same = (r.column,) in layout.tables[r.table].unique_sets
        back = any(
            (o.table, o.parent) == (r.parent, r.table)
            and (
                (o.column, o.key) == (r.key, r.column)
                or (same and (o.column,) in layout.tables[o.table].unique_sets)
            )
            for o in out
        )
        if not back:
            out.append(r)
    return [r for r in references if r in out]


def _linked(tables: dict[str, TableSpec], r: Reference) -> dict[str, TableSpec]:
    """The tables with a column turned into a link."""
    spec = tables[r.table]
    header = spec.columns[r.column].header
    said = snake(" ".join(stem(header))) if helpful(header) else r.parent
    taken = {*spec.columns, *spec.links, f"{r.table}_id"} - {r.column}
    link = free_name(f"{said}_id", taken, f"{r.parent}_id_of_{r.table}")
    swap = {r.column: link}

    def swapped(names: Sequence[str]) -> tuple[str, ...]:
        return tuple(swap.get(n, n) for n in names)

    tables = dict(tables)
    tables[r.table] = spec.model_copy(
        update={
            "columns": {n: c for n, c in spec.columns.items() if n != r.column},
            "links": {**spec.links, link: LinkSpec(to=r.parent, by={r.key: header}, loose=r.loose)},
            "known_by": swapped(spec.known_by),
            "unique": tuple(swapped(u) for u in spec.unique),
            "optional": swapped(spec.optional),
        }
    )
    parent = tables[r.parent]
    if (r.key,) not in parent.unique_sets:
        known: dict[str, Any] = {"unique": (*parent.unique, (r.key,))}
        if parent.each_row and not parent.known_by:
            known = {"known_by": (r.key,)}
        tables[r.parent] = parent.model_copy(update=known)
    if r.strays:  # records that are only named lack everything else
        parent = tables[r.parent]
        rest = [
            n for n in (*parent.columns, *parent.links) if n != r.key and n not in parent.optional
        ]
        unique = tuple(u for u in parent.unique if u == (r.key,))  # they may be called like others
        tables[r.parent] = parent.model_copy(
            update={"optional": (*parent.optional, *rest), "unique": unique}
        )
    return tables


def _merged(
    tables: dict[str, TableSpec], layout: Layout, keys: _Keys
) -> tuple[dict[str, TableSpec], dict[str, str]]:
    """What repeats the records of another table becomes a link to them: single columns of a table
    that links to it, and whole tables that only repeat it, whose children then link there."""
    gone: dict[str, str] = {}
    for name in layout.parents_first():
        layout = layout.model_copy(update={"tables": tables})
        spec = tables[name]
        for link_name, link in list(spec.links.items()):
            if not link.by or len(link.by) > 1 or spec.part_of or link.to == name:
                continue
            repeats = _repeated(spec.columns, spec.source, link, layout, keys)
            kept = {n: c for n, c in spec.columns.items() if c.header not in repeats.values()}
            if set(spec.known_by) & (set(spec.columns) - set(kept)):
                held = {spec.columns[n].header for n in spec.known_by if n in spec.columns}
                repeats = {k: h for k, h in repeats.items() if h not in held}
                kept = {n: c for n, c in spec.columns.items() if c.header not in repeats.values()}
            if repeats:
                there = {*kept, *spec.links}
                spec = spec.model_copy(
                    update={
                        "columns": kept,
                        "links": {
                            **spec.links,
                            link_name: link.model_copy(update={"repeats": repeats}),
                        },
                        "optional": tuple(o for o in spec.optional if o in there),
                        "unique": tuple(u for u in spec.unique if set(u) <= there),
                    }
                )
                tables = {**tables, name: spec}
        if _only_repeats(name, spec, tables) or (
            len(spec.columns) == 1 and _only_repeats(name, spec, tables, own=True)
        ):
            key = spec.known_by[0]
            whole = spec.links[key]
            further, left = _further(spec, key, tables[whole.to], layout, keys)
            if left and len(_children(name, tables)) > 1:
                continue
            whole = whole.model_copy(update={"repeats": whole.repeats | further})
            tables = _moved_down(spec, left, name, tables, keys)
            tables = _linked_from_rows(spec, name, whole, tables, keys)
            tables = {n: _redirected(t, name, whole) for n, t in tables.items() if n != name}
            gone[name] = whole.to
    return _said_alike(tables, keys), gone


def _said_alike(tables: dict[str, TableSpec], keys: _Keys) -> dict[str, TableSpec]:
    """The tables, where all links to records that are made of what the links say, say the same of
    each of these. A column of which they do not stays with the rows that say it."""
    made: dict[str, list[tuple[str, str, dict[str, int]]]] = {}
    for name, spec in tables.items():
        for link_name, link in spec.links.items():
            if len(link.by) == 1 and (missing := _missing(spec, link, tables, keys)):
                made.setdefault(link.to, []).append((name, link_name, missing))
    for parent, links in made.items():
        said = {
            (n, k): {
                c: _values_of(tables, n, tables[n].links[k], c, rows, keys)
                for c in tables[n].links[k].repeats
                if "." not in c
            }
            for n, k, rows in links
        }
        single = {u[0] for u in tables[parent].unique_sets if len(u) == 1}
        for (n, k), columns in said.items():
            for column in single & columns.keys():  # whoever has this of another one is that one
                theirs = tables[parent].columns[column]
                there = keys.texts(tables[parent].source, theirs.header, theirs)
                own = pa.array([v for v in columns[column].values() if v is not None], pa.string())
                if pc.any(pc.is_in(own, value_set=there)).as_py():
                    tables = _kept_here(tables, n, k, column, parent, keys)
                    del columns[column]
        for column in dict.fromkeys(c for one in said.values() for c in one):
            known: dict[str, str | None] = {}
            alike = True
            for n, k, rows in links:
                values = said[n, k].get(column) or dict.fromkeys(rows)
                alike = alike and all(known.get(r, v) == v for r, v in values.items())
                known |= values
            for n, k, _ in () if alike else links:
                tables = _kept_here(tables, n, k, column, parent, keys)
    return tables


def _missing(
    spec: TableSpec, link: LinkSpec, tables: Mapping[str, TableSpec], keys: _Keys
) -> dict[str, int]:
    """The values of a link that its table does not have itself, each with a row that says it."""
    parent = tables[link.to]
    [(key, header)] = link.by.items()
    found = parent.columns.get(key)
    if found is None or (parent.source, found.header) == (spec.source, header):
        return {}
    texts, there = (
        keys.texts(spec.source, header, found),
        keys.texts(parent.source, found.header, found),
    )
    if link.loose:
        texts, there = _plain(texts), _plain(there)
    missing = pc.invert(pc.is_in(texts, value_set=there)).to_numpy(zero_copy_only=False)
    if not missing.any():
        return {}
    own = keys.column(spec.source, header)
    rows = first_rows(own.codes, len(own.values))[np.flatnonzero(missing)]
    return dict(zip(texts.filter(pa.array(missing)).to_pylist(), rows.tolist(), strict=True))


def _values_of(
    tables: Mapping[str, TableSpec],
    name: str,
    link: LinkSpec,
    column: str,
    rows: Mapping[str, int],
    keys: _Keys,
) -> dict[str, str | None]:
    """What a link says of some records (each with its row) in a column of the table it leads to."""
    header, source = link.repeats[column], tables[name].source
    codes = keys.column(source, header).codes[list(rows.values())]
    texts = keys.texts(source, header, tables[link.to].columns[column])
    values = texts.take(pa.array(codes, mask=codes < 0)).to_pylist()
    return dict(zip(rows, values, strict=True))


def _kept_here(
    tables: Mapping[str, TableSpec],
    name: str,
    link_name: str,
    column: str,
    parent: str,
    keys: _Keys,
) -> dict[str, TableSpec]:
    """The tables, where a column that a link repeats is one of the table itself."""
    spec = tables[name]
    link = spec.links[link_name]
    if column not in link.repeats:
        return dict(tables)
    header = link.repeats[column]
    free = free_name(snake(header), {*spec.columns, *spec.links}, f"{name}_{column}")
    blank = keys.column(spec.source, header).blanks > 0
    rest = {c: h for c, h in link.repeats.items() if c != column}
    new = ColumnSpec(header=header, type=tables[parent].columns[column].type)
    return {
        **tables,
        name: spec.model_copy(
            update={
                "columns": {**spec.columns, free: new},
                "links": {**spec.links, link_name: link.model_copy(update={"repeats": rest})},
                "optional": (*spec.optional, free) if blank else spec.optional,
            }
        ),
    }


def _redirected(spec: TableSpec, gone: str, whole: LinkSpec) -> TableSpec:
    """A table whose links to one that is gone lead where that one's records are."""
    names: dict[str, str] = {}
    for link, target in spec.links.items():
        wanted = f"{whole.to}_id"
        free = (
            wanted not in (*spec.columns, *spec.links)
            and target.to == gone
            and link == f"{gone}_id"
        )
        names[link] = wanted if free else link
    links = {names[n]: whole if lk.to == gone and not lk.by else lk for n, lk in spec.links.items()}

    def renamed(some: Sequence[str]) -> tuple[str, ...]:
        return tuple(names.get(n, n) for n in some)

    return spec.model_copy(
        update={
            "links": links,
            "known_by": renamed(spec.known_by),
            "optional": renamed(spec.optional),
            "unique": tuple(renamed(u) for u in spec.unique),
        }
    )


def _children(name: str, tables: Mapping[str, TableSpec]) -> list[str]:
    """The tables that link to one."""
    return [n for n, t in tables.items() if any(lk.to == name for lk in t.links.values())]


def _moved_down(
    spec: TableSpec,
    links: Mapping[str, LinkSpec],
    name: str,
    tables: Mapping[str, TableSpec],
    keys: _Keys,
) -> dict[str, TableSpec]:
    """The tables with the columns of one, and some of its links, in the table that links to it."""
    out = dict(tables)
    child = _children(name, tables)[0]
    for link, target in links.items():
        below = out[child]
        free = free_name(link, {*below.columns, *below.links}, f"{name}_{link}")
        leading = {n for n, lk in below.links.items() if lk.to == name}
        blank = link in spec.optional or bool(leading & {*below.optional})
        out[child] = below.model_copy(
            update={
                "links": {**below.links, free: target},
                "optional": (*below.optional, free) if blank else below.optional,
            }
        )
    for column, c in spec.columns.items():
        below = out[child]
        taken = {*below.columns, *below.links}
        free = free_name(column, taken, f"{name}_{column}")
        blank = keys.column(spec.source, c.header).blanks > 0
        out[child] = below.model_copy(
            update={
                "columns": {**below.columns, free: c},
                "optional": (*below.optional, free) if blank else below.optional,
            }
        )
    return out


def _linked_from_rows(
    spec: TableSpec, name: str, whole: LinkSpec, tables: Mapping[str, TableSpec], keys: _Keys
) -> dict[str, TableSpec]:
    """The tables, where each row says which record is meant if several tables link to one that
    only repeats it: some of their records may be missing where this one is not."""
    children = _children(name, tables)
    base = next(n for n, t in tables.items() if t.source == spec.source and t.each_row)
    if len(children) < 2 or base in children:
        return dict(tables)
    rows = tables[base]
    link = free_name(f"{whole.to}_id", {*rows.columns, *rows.links, f"{base}_id"}, f"{name}_link")
    blank = any(keys.column(spec.source, h).blanks > 0 for h in whole.by.values())
    changed = rows.model_copy(
        update={
            "links": {**rows.links, link: whole},
            "optional": (*rows.optional, link) if blank else rows.optional,
        }
    )
    return {**tables, base: changed}


def _only_repeats(
    name: str, spec: TableSpec, tables: Mapping[str, TableSpec], *, own: bool = False
) -> bool:
    """Whether a table is known by a link to a table of another source and has no column of its
    own; or has some (`own`), which the one table that links to it could have instead."""
    if spec.each_row or spec.part_of or (spec.columns and not own) or len(spec.known_by) != 1:
        return False
    children = _children(name, tables)
    if own and (len(children) != 1 or any(c.usual for c in spec.columns.values())):
        return False
    link = spec.links.get(spec.known_by[0])
    return (
        link is not None
        and bool(link.by)
        and tables[link.to].source != spec.source
        and not any(
            t.part_of == name or any(lk.by and lk.to == name for lk in t.links.values())
            for t in tables.values()
        )
    )


def _further(
    spec: TableSpec, key: str, parent: TableSpec, layout: Layout, keys: _Keys
) -> tuple[dict[str, str], dict[str, LinkSpec]]:
    """What the other links of a table say that repeats its parent, through that one's links; and
    those that say more."""
    out: dict[str, str] = {}
    left: dict[str, LinkSpec] = {}
    complete = _all_there(spec.source, spec.links[key], layout, keys)
    for name, link in spec.links.items():
        if name == key:
            continue
        if len(link.by) != 1 or not complete:  # records that are made here have this way only
            left[name] = link
            continue
        [(column, header)] = link.by.items()
        ways = {
            f"{n}.{column}": ColumnSpec(header=lk.by[column])
            for n, lk in parent.links.items()
            if lk.to == link.to and list(lk.by) == [column]
        }
        found = _same(
            ways, {"": ColumnSpec(header=header)}, spec.source, spec.links[key], layout, keys
        )
        if not found or (link.repeats and not _all_there(spec.source, link, layout, keys)):
            left[name] = link
            continue
        [way] = found
        out |= {way: header} | {f"{way.rpartition('.')[0]}.{c}": h for c, h in link.repeats.items()}
    return out, left


def _all_there(source: str, link: LinkSpec, layout: Layout, keys: _Keys) -> bool:
    """Whether a table has all records that a link by one value looks for."""
    parent = layout.tables[link.to]
    [(key, header)] = link.by.items()
    spec = parent.columns[key]
    own, there = keys.texts(source, header, spec), keys.texts(parent.source, spec.header, spec)
    return bool(pc.all(pc.is_in(own, value_set=there)).as_py())


def _repeated(
    columns: Mapping[str, ColumnSpec], source: str, link: LinkSpec, layout: Layout, keys: _Keys
) -> dict[str, str]:
    """Which columns of a link's parent say, for every record that links there, the same as which
    headers."""
    [key] = link.by
    theirs = {n: c for n, c in layout.tables[link.to].columns.items() if n != key and c.is_plain}
    mine = {
        n: c
        for n, c in columns.items()
        if c.is_plain
        and len(keys.column(source, c.header).values)
        >= (2 if words(c.header) in [words(t.header) for t in theirs.values()] else FEWEST)
    }
    return _same(theirs, mine, source, link, layout, keys)


def _same(
    theirs: Mapping[str, ColumnSpec],
    mine: Mapping[str, ColumnSpec],
    source: str,
    link: LinkSpec,
    layout: Layout,
    keys: _Keys,
) -> dict[str, str]:
    """Which headers of a parent's source (by name) say the same as which of the child's, in every
    row that links there."""
    parent = layout.tables[link.to]
    [(key, header)] = link.by.items()
    spec = parent.columns[key]
    own = keys.column(source, header)
    codes = np.append(
        pc.index_in(
            keys.texts(source, header, spec), value_set=keys.texts(parent.source, spec.header, spec)
        )
        .fill_null(-1)
        .to_numpy(zero_copy_only=False),
        -1,
    )[own.codes]
    there = keys.column(parent.source, spec.header)
    row_of = np.full(len(there.values) + 1, -1, np.int64)
    row_of[there.codes[::-1]] = np.arange(len(there.codes) - 1, -1, -1)
    row_of[-1] = -1
    rows = row_of[codes]
    orphans = (own.codes >= 0) & (rows < 0)  # records that are made of what these rows say
    there_now = ~orphans
    if not bool((rows >= 0).any()):
        return {}
    out: dict[str, str] = {}
    for c in mine.values():
        said, texts = keys.column(source, c.header), keys.texts(source, c.header, c)
        for name, p in theirs.items():
            if name in out or p.of_type.kind != c.of_type.kind or said.typed(p.of_type).null_count:
                continue  # it must be spelled as the parent's column is, too
            other, values = (
                keys.column(parent.source, p.header),
                keys.texts(parent.source, p.header, p),
            )
            where = np.append(
                pc.index_in(texts, value_set=values).fill_null(-2).to_numpy(zero_copy_only=False),
                -1,
            )[said.codes]
            if np.array_equal(np.append(other.codes, -1)[rows][there_now], where[there_now]) and (
                holds(own.codes[orphans], said.codes[orphans], len(own.values))
            ):
                out[name] = c.header
                break
    return out
