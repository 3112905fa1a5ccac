"""Links by two columns: to tables that are known by a link and a number within it, and tables that
are known so because nothing else tells their records apart."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from itertools import combinations

import pyarrow as pa

from kerfmark.layout.model import LinkSpec, TableSpec
from kerfmark.layout.names import free_name
from kerfmark.profile.codes import combine, first_rows, value_counts
from kerfmark.profile.columns import EncodedColumn
from kerfmark.structure.header_words import looks_like_key, words
from kerfmark.structure.key_values import FEWEST, KeyValues
from kerfmark.structure.references import MOST_STRAY_ROWS, Reference

ENOUGH_COLLISIONS = 5.0
"""Rows with the same two values that chance would have made, from which on it means something that
there are none."""


def known_by_pair(spec: TableSpec, keys: KeyValues, not_unique: Collection[str] = ()) -> TableSpec:
    """A table with a record per row that nothing else tells apart, known by two of its columns, of
    which one is a link: who takes part in what, or a number within what it belongs to. Headers that
    are `not_unique` are no part of that."""
    if not spec.each_row or spec.known_by or spec.unique:
        return spec
    links = {n: next(iter(lk.by.values())) for n, lk in spec.links.items() if len(lk.by) == 1}
    parts = links | {
        n: c.header
        for n, c in spec.columns.items()
        if c.is_plain and looks_like_key(c.header) and c.header not in not_unique
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


def linked_by_pairs(
    tables: dict[str, TableSpec], keys: KeyValues
) -> tuple[dict[str, TableSpec], list[Reference], set[tuple[str, str]]]:
    """The tables with links to those that are known by a link and a number within it, where others
    have both; the references that these links rest on, and the links (from, to) that they
    replace."""
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
    tables: dict[str, TableSpec], name: str, parent: str, within: str, number: str, keys: KeyValues
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


def _pairs_of(keys: KeyValues, source: str, one: str, other: str) -> dict[tuple[str, str], int]:
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
