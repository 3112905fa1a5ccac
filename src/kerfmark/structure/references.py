"""Links between sources, and within one: columns whose values are the keys of a table elsewhere.

A column refers to a table when its values are all (or nearly all) among those of a column that tells that table's records
apart. For words and codes that is evidence enough; running numbers are contained in one another by nature, so there the
headers must say so too, or the numbers must cover most of a range that does not begin at the bottom.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.errors import counted
from kerfmark.layout.model import ColumnSpec, Layout, LinkSpec, TableSpec
from kerfmark.layout.names import free_name, snake
from kerfmark.profile.convert import to_text
from kerfmark.profile.encode import EncodedColumn, EncodedSource
from kerfmark.structure.headers import KEY_WORDS, NAME_WORDS, helpful, looks_like_key, stem, words

FEWEST = 3
"""Different values that a column must share with a key before that can mean anything."""
STRAYS = 0.02
"""The share of a column's values that may be missing from the key it refers to."""
SELF_WORDS = frozenset({"parent", "part", "under", "of", "successor", "mother", "father", "dam", "sire", "manager", "supervisor",
                        "boss", "above", "upper", "reports", "within", "in", "previous", "predecessor", "replaces", "superior",
                        "belongs", "main", "leader", "head"})
"""Words that speak of another record of the same kind."""


@dataclass(frozen=True)
class Reference:
    """A column that refers to a table: how many different values, how many of these are strays, and whether headers say so."""

    table: str
    column: str
    parent: str
    key: str
    values: int
    strays: tuple[str, ...]
    coverage: float
    named: bool

    def __str__(self) -> str:
        there = "all" if not self.strays else f"{self.values - len(self.strays):,}"
        said = f"{counted(self.values, 'value')} of {self.column}, {there} among {self.parent}.{self.key}"
        return said + (f"; not there: {', '.join(self.strays[:5])}" if self.strays else "")


@dataclass
class Connected:
    """A layout with its links between tables by value, the references it rests on, and those that were decided against."""

    layout: Layout
    references: list[Reference] = field(default_factory=list)
    renamed: dict[str, str] = field(default_factory=dict)


class _Keys:
    """The values of columns as one kind of text, so that any two can be compared."""

    def __init__(self, layout: Layout, encoded: Mapping[str, EncodedSource]) -> None:
        self.layout, self.encoded = layout, encoded
        self._texts: dict[tuple[str, str], pa.StringArray] = {}

    def column(self, source: str, header: str) -> EncodedColumn:
        return self.encoded[source].column(header).without(list(self.layout.sources[source].blanks))

    def texts(self, source: str, header: str, spec: ColumnSpec) -> pa.StringArray:
        """The distinct values of a column, each spelled in one way; null for what has not its type."""
        if (source, header) not in self._texts:
            column = self.column(source, header)
            typed = column.typed(spec.of_type)
            plain = to_text(typed, spec.of_type)
            if spec.of_type.kind in ("date", "timestamp", "time"):
                plain = pc.cast(typed, pa.string())
            self._texts[source, header] = plain
        return self._texts[source, header]


def connect(layout: Layout, encoded: Mapping[str, EncodedSource]) -> Connected:
    """Finds the references between all tables of a layout and makes links of them."""
    keys = _Keys(layout, encoded)
    found = _references(layout, keys)
    tables = dict(layout.tables)
    for reference in found:
        tables = _linked(tables, reference)
    tables, gone = _merged(tables, Layout(kerfmark=layout.kerfmark, sources=layout.sources, tables=tables), keys)
    connected = Layout(kerfmark=layout.kerfmark, sources=layout.sources, tables=tables)
    return Connected(connected, found, gone)


def _references(layout: Layout, keys: _Keys) -> list[Reference]:
    parents = [(name, unique[0]) for name, spec in layout.tables.items() for unique in spec.unique_sets
               if len(unique) == 1 and unique[0] in spec.columns and spec.columns[unique[0]].header
               and not spec.columns[unique[0]].split]
    out: list[Reference] = []
    for name, spec in layout.tables.items():
        for column, c in spec.columns.items():
            if not c.header or c.split or c.of_type.kind in ("boolean", "decimal", "real", "date", "timestamp", "time"):
                continue
            options = [r for parent, key in parents if (r := _reference(layout, keys, name, column, parent, key))]
            if options:
                out.append(max(options, key=lambda r: (r.named, not r.strays, layout.tables[r.parent].each_row, r.coverage)))
    return _without_circles(out)


def _reference(layout: Layout, keys: _Keys, name: str, column: str, parent: str, key: str) -> Reference | None:
    """The reference of a column to the key of a table, if it is one."""
    child, target = layout.tables[name], layout.tables[parent]
    mine, theirs = child.columns[column], target.columns[key]
    same_table = name == parent
    if (same_table and column == key) or mine.of_type.kind != theirs.of_type.kind:
        return None
    if child.source == target.source and not same_table:
        return None                                     # within a source the rows themselves say what belongs together
    own, other = keys.texts(child.source, mine.header, mine), keys.texts(target.source, theirs.header, theirs)
    present = pc.is_in(own, value_set=other)
    hits = int(pc.sum(present).as_py() or 0)
    strays = len(own) - hits
    named = _named(mine.header, parent, theirs.header, target, same_table)
    if hits < (1 if same_table and named and not strays else FEWEST) or strays > max(1 if hits >= 20 else 0, STRAYS * len(own)):
        return None
    coverage = hits / max(len(other), 1)
    is_key = (column,) in child.unique_sets
    if is_key and not (named and len(own) <= len(other) and not same_table and list(layout.tables).index(parent) < list(
            layout.tables).index(name)) and not (len(own) < .8 * len(other) and mine.of_type.kind == "text"):
        return None
    if mine.of_type.kind == "integer" and not _tells(own, other, coverage, named, mine.header):
        return None
    if same_table and not named and is_key:
        return None
    if mine.of_type.kind == "text" and not named and pc.mean(pc.utf8_length(own)).as_py() < 2:
        return None                                     # single letters are contained in anything
    missing = tuple(own.filter(pc.invert(present)).to_pylist()[:20]) if strays else ()
    return Reference(name, column, parent, key, len(own), missing, coverage, named)


def _tells(own: pa.StringArray, other: pa.StringArray, coverage: float, named: bool, header: str) -> bool:
    """Whether numbers among numbers mean anything."""
    numbers, keys = (np.array(pc.cast(x, pa.int64()).drop_null()) for x in (own, other))
    years = bool(((keys >= 1900) & (keys <= 2100)).all())
    if named:
        return True
    low, high = int(keys.min()), int(keys.max())
    spread = (int(numbers.max()) - int(numbers.min()) + 1) / (high - low + 1)
    return not years and low >= 100 and coverage >= .3 and spread >= .5 and (looks_like_key(header) or not helpful(header))


def _named(header: str, parent: str, key_header: str, target: TableSpec, same_table: bool) -> bool:
    """Whether a header speaks of a table, or of another record of the same."""
    said, plain = set(words(header)), KEY_WORDS | NAME_WORDS
    about = ({*parent.split("_")} | set(stem(key_header))) - plain
    if not about:
        about = set(words(target.source)) - plain
    if same_table:
        return bool(said & SELF_WORDS)
    return bool((said - plain) & about) or any(w.rstrip("s") in about or w + "s" in about for w in said - plain)


def _without_circles(references: Sequence[Reference]) -> list[Reference]:
    """References without those that say in both directions that two tables are the same."""
    out: list[Reference] = []
    for r in references:
        back = next((o for o in out if (o.table, o.column) == (r.parent, r.key) and (o.parent, o.key) == (r.table, r.column)), None)
        if back is None:
            out.append(r)
    return out


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
    tables[r.table] = spec.model_copy(update={
        "columns": {n: c for n, c in spec.columns.items() if n != r.column},
        "links": {**spec.links, link: LinkSpec(to=r.parent, by={r.key: header})},
        "known_by": swapped(spec.known_by), "unique": tuple(swapped(u) for u in spec.unique), "optional": swapped(spec.optional)})
    if r.strays:                                        # records that are only named lack everything else
        parent = tables[r.parent]
        rest = [n for n in (*parent.columns, *parent.links) if n != r.key and n not in parent.optional]
        tables[r.parent] = parent.model_copy(update={"optional": (*parent.optional, *rest)})
    return tables


def _merged(tables: dict[str, TableSpec], layout: Layout, keys: _Keys) -> tuple[dict[str, TableSpec], dict[str, str]]:
    """The tables without those that only repeat what a table of another source says: their children link there instead."""
    gone: dict[str, str] = {}
    for name in list(tables):
        spec = tables[name]
        if spec.each_row or spec.part_of or len(spec.known_by) != 1 or len(spec.links) != 1 or spec.known_by[0] not in spec.links:
            continue
        link = spec.links[spec.known_by[0]]
        parent = tables[link.to]
        if parent.source == spec.source or not link.by or any(
                t.part_of == name or any(lk.by and lk.to == name for lk in t.links.values()) for t in tables.values()):
            continue
        repeats = _repeated(spec, link, parent, keys)
        if len(repeats) < len(spec.columns):
            continue
        whole = LinkSpec(to=link.to, by=link.by, repeats=repeats)
        for child, t in list(tables.items()):
            if any(lk.to == name for lk in t.links.values()):
                tables[child] = t.model_copy(update={"links": {n: whole if lk.to == name and not lk.by else lk
                                                               for n, lk in t.links.items()}})
        del tables[name]
        gone[name] = link.to
    return tables, gone


def _repeated(spec: TableSpec, link: LinkSpec, parent: TableSpec, keys: _Keys) -> dict[str, str]:
    """Which columns of a parent say, for every record of a table that refers to it, the same as which headers."""
    [(key, header)] = link.by.items()
    mine = keys.column(spec.source, header)
    codes = np.append(pc.index_in(keys.texts(spec.source, header, parent.columns[key]),
                                  value_set=keys.texts(parent.source, parent.columns[key].header, parent.columns[key])
                                  ).fill_null(-1).to_numpy(zero_copy_only=False), -1)[mine.codes]
    theirs = keys.column(parent.source, parent.columns[key].header)
    row_of = np.full(len(theirs.values) + 1, -1, np.int64)
    row_of[theirs.codes[::-1]] = np.arange(len(theirs.codes) - 1, -1, -1)
    row_of[-1] = -1
    rows = row_of[codes]
    out: dict[str, str] = {}
    for c in spec.columns.values():
        texts = keys.texts(spec.source, c.header, c)
        said = keys.column(spec.source, c.header)
        for column, p in parent.columns.items():
            if column in out or column == key or not p.header or p.of_type.kind != c.of_type.kind:
                continue
            other = keys.texts(parent.source, p.header, p)
            there = keys.column(parent.source, p.header)
            where = np.append(pc.index_in(texts, value_set=other).fill_null(-2).to_numpy(zero_copy_only=False), -1)[said.codes]
            if np.array_equal(np.append(there.codes, -1)[rows], where) and bool((rows >= 0).all()):
                out[column] = c.header
                break
    return out
