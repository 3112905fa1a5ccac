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
from dataclasses import dataclass, replace
from types import MappingProxyType

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.errors import UsageError, counted
from kerfmark.layout.model import ColumnSpec, Layout, LinkSpec, TableSpec
from kerfmark.layout.names import singular, snake
from kerfmark.profile.codes import first_rows
from kerfmark.profile.columns import EncodedColumn
from kerfmark.profile.convert import folded
from kerfmark.profile.encode import EncodedSource
from kerfmark.structure.header_words import (
    KEY_WORDS,
    NAME_WORDS,
    helpful,
    looks_like_key,
    share_words,
    stem,
    words,
)
from kerfmark.structure.key_values import FEWEST, KeyValues
from kerfmark.structure.repeated import repeated_columns
from kerfmark.structure.steering import Steering

MOST_LOOKED_AT = 50_000
"""Keys up to which a link that is decided against is looked for, only to be told."""
MOST_STRAY_ROWS = 0.03
"""The share of the rows whose values may be missing from it, however many these are."""
MOST_STRAYS = 20
"""Values without a record that are told."""
STRAYS = 0.02
"""The share of a column's values that may be missing from the key it refers to."""
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
    """A column that refers to a table: how many different values, the first of those that the table
    does not have (`strays`) with the first row of each, in how many rows there are any and how many
    they are (`missing`), and whether headers say so."""

    table: str
    column: str
    parent: str
    key: str
    values: int
    strays: tuple[str, ...]
    coverage: float
    named: bool
    loose: bool = False
    stray_first: tuple[int, ...] = ()
    stray_rows: int = 0
    missing: int = 0

    def __str__(self) -> str:
        missing = max(self.missing, len(self.strays))
        there = "all" if not missing else f"{self.values - missing:,}"
        said = (
            f"{counted(self.values, 'value')} of {self.column}, {there} among "
            f"{self.parent}.{self.key}"
        )
        said += " but for case and spaces" if self.loose else ""
        if not self.strays:
            return said
        places = [f" (row {r:,})" for r in self.stray_first] or [""] * len(self.strays)
        listed = [f"{s}{p}" for s, p in zip(self.strays, places, strict=False)][:5]
        more = ", ..." if missing > len(listed) else ""
        rows = f" in {counted(self.stray_rows, 'row')}" if self.stray_rows else ""
        return f"{said}; not found{rows}: {', '.join(listed)}{more}"


def kept_elsewhere(
    layout: Layout, encoded: Mapping[str, EncodedSource], steering: Steering = Steering()
) -> set[str]:
    """The tables whose records are those of a table of another source: their keys refer to it."""
    return {
        r.table
        for r in find_references(layout, KeyValues(layout, encoded), steering)
        if r.table != r.parent and (r.column,) in layout.tables[r.table].unique_sets
    }


def find_references(
    layout: Layout,
    keys: KeyValues,
    steering: Steering,
    alike: Mapping[tuple[str, str], str] = MappingProxyType({}),
) -> list[Reference]:
    """The columns that refer to a table, each to one, but for those that a person forbids; `alike`
    gives for a source and header another header of the same stock, which says as much of what it
    refers to."""
    forced, belongs = dict(steering.link) | _same_stock(layout, steering), _owners(layout, keys)
    parents = [
        (name, column)
        for name, spec in layout.tables.items()
        for column, c in spec.columns.items()
        if c.is_plain
        and c.header not in steering.not_unique
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
            if c.header in forced and name != forced[c.header]:
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


def _same_stock(layout: Layout, steering: Steering) -> dict[str, str]:
    """For headers that mean the same records as another one, which a table is known by: that
    table."""
    out: dict[str, str] = {}
    for pair in steering.same_as:
        for header, other in (pair, pair[::-1]):
            known = {
                s.columns[k].header: n
                for n, s in layout.tables.items()
                for k in (s.known_by if len(s.known_by) == 1 else ())
                if k in s.columns
            }
            if other in known and header not in known:
                out[header] = known[other]
    return out


def _owners(layout: Layout, keys: KeyValues) -> dict[tuple[str, str], tuple[str, str]]:
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
    keys: KeyValues,
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
        one = Reference(name, column, parent, key, len(own), (), 1.0, True)
        one = _with_strays(one, keys, layout.tables[name].source, mine.header, own, present)
        if best is None or one.stray_rows < best.stray_rows:
            best = one
    if best is None:
        raise UsageError(
            f'"{mine.header}" cannot link to "{wanted}"',
            code="steer.link",
            why=_why_no_key(layout, keys, mine, wanted),
            next=f"the tables are {', '.join(layout.tables)}",
        )
    return best


def _why_no_key(layout: Layout, keys: KeyValues, mine: ColumnSpec, wanted: str) -> str:
    """Why a table has no key that a column could refer to: there is none, or the rows in which the
    likely one repeats itself."""
    spec = layout.tables.get(wanted)
    if spec is None:
        return f'there is no table "{wanted}"'
    alike = [
        c.header
        for c in spec.columns.values()
        if c.is_plain and c.of_type.kind == mine.of_type.kind and share_words(c.header, mine.header)
    ]
    for header in alike:
        column, source = keys.column(spec.source, header), keys.encoded[spec.source]
        values = np.flatnonzero(column.times > 1)
        if len(values):
            rows = np.flatnonzero(column.codes == values[0])[:3]
            listed = [f"{source.origin(int(r)).row:,}" for r in rows]
            said = column.values[int(values[0])].as_py()
            return f'its "{header}" is "{said}" in rows {", ".join(listed[:-1])} and {listed[-1]}'
    return f'"{wanted}" has no column of the same type that tells its records apart'


def _one_per_parent(
    references: Sequence[Reference], layout: Layout, keys: KeyValues
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
            if r.key in repeated_columns(
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
    keys: KeyValues,
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
        plain = pc.is_in(folded(own), value_set=folded(more if other is more else fewer))
        found = int(pc.sum(plain).as_py() or 0)
        if found > hits and len(folded(other).unique()) == len(other):
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
    reference = Reference(name, column, parent, key, len(own), (), coverage, named, loose)
    return _with_strays(reference, keys, child.source, mine.header, own, present)


def _with_strays(
    reference: Reference,
    keys: KeyValues,
    source: str,
    header: str,
    own: pa.StringArray,
    present: pa.BooleanArray,
) -> Reference:
    """A reference with those of a column's own values that are not present elsewhere."""
    column, encoded = keys.column(source, header), keys.encoded[source]
    missing = np.flatnonzero(~present.fill_null(False).to_numpy(zero_copy_only=False))
    if not len(missing):
        return reference
    shown = missing[:MOST_STRAYS]
    first = first_rows(column.codes, len(column.values))[shown]
    return replace(
        reference,
        strays=tuple(own.take(pa.array(shown)).to_pylist()),
        stray_first=tuple(encoded.origin(int(r)).row or 0 for r in first),
        stray_rows=int(column.times[missing].sum()),
        missing=len(missing),
    )


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
    """Whether a header names a table, or another record of the same. One that names a table
    does, though it says nothing elsewhere (`Field` beside a table of fields)."""
    if not same_table and singular(snake(header)) == re.sub(r"_\d+$", "", parent):
        return True
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


def decided_against(
    layout: Layout, found: Sequence[Reference], keys: KeyValues, held: Collection[str] = ()
) -> tuple[str, ...]:
    """References by number that the values would allow, but that have no other evidence; not of
    tables that are `held`, nor of what tells the rows of a source apart."""
    linked = {(r.table, r.column) for r in found}
    numbered = [
        (n, c, s)
        for n, t in layout.tables.items()
        for c, s in t.columns.items()
        if s.is_plain and s.of_type.kind == "integer"
    ]
    out: list[str] = []
    for name, column, c in numbered:
        if helpful(c.header) and not looks_like_key(c.header):
            continue  # nobody takes frames or altitudes for links
        spec = layout.tables[name]
        if name in held or (spec.each_row and (column,) in spec.unique_sets):
            continue
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
                    f"{name}.{column} is not a link to {parent}: all its numbers are in "
                    f"{parent}.{key}, but small numbers are there by chance, and the header does "
                    f"not name {parent}"
                )
    return tuple(out)
