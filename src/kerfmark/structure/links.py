"""References become links, and what repeats the records of a table is kept in that table: columns
of its children, and whole tables that only repeat it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from kerfmark.layout.model import ColumnSpec, Layout, LinkSpec, TableSpec
from kerfmark.layout.names import free_name, snake
from kerfmark.structure.header_words import helpful, stem
from kerfmark.structure.key_values import KeyValues
from kerfmark.structure.made_records import said_alike
from kerfmark.structure.references import Reference
from kerfmark.structure.repeated import all_there, repeated_columns, same_columns


def linked(tables: dict[str, TableSpec], r: Reference) -> dict[str, TableSpec]:
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


def merged_with_parents(
    tables: dict[str, TableSpec], layout: Layout, keys: KeyValues
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
            repeats = repeated_columns(spec.columns, spec.source, link, layout, keys)
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
            if left and len(children_of(name, tables)) > 1:
                continue
            whole = whole.model_copy(update={"repeats": whole.repeats | further})
            tables = _moved_down(spec, left, name, tables, keys)
            tables = _linked_from_rows(spec, name, whole, tables, keys)
            tables = {n: _redirected(t, name, whole) for n, t in tables.items() if n != name}
            gone[name] = whole.to
    return said_alike(tables, keys), gone


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


def children_of(name: str, tables: Mapping[str, TableSpec]) -> list[str]:
    """The tables that link to one."""
    return [n for n, t in tables.items() if any(lk.to == name for lk in t.links.values())]


def _moved_down(
    spec: TableSpec,
    links: Mapping[str, LinkSpec],
    name: str,
    tables: Mapping[str, TableSpec],
    keys: KeyValues,
) -> dict[str, TableSpec]:
    """The tables with the columns of one, and some of its links, in the table that links to it."""
    out = dict(tables)
    child = children_of(name, tables)[0]
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
    spec: TableSpec, name: str, whole: LinkSpec, tables: Mapping[str, TableSpec], keys: KeyValues
) -> dict[str, TableSpec]:
    """The tables, where each row says which record is meant if several tables link to one that
    only repeats it: some of their records may be missing where this one is not."""
    children = children_of(name, tables)
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
    children = children_of(name, tables)
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
    spec: TableSpec, key: str, parent: TableSpec, layout: Layout, keys: KeyValues
) -> tuple[dict[str, str], dict[str, LinkSpec]]:
    """What the other links of a table say that repeats its parent, through that one's links; and
    those that say more."""
    out: dict[str, str] = {}
    left: dict[str, LinkSpec] = {}
    complete = all_there(spec.source, spec.links[key], layout, keys)
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
        found = same_columns(
            ways, {"": ColumnSpec(header=header)}, spec.source, spec.links[key], layout, keys
        )
        if not found or (link.repeats and not all_there(spec.source, link, layout, keys)):
            left[name] = link
            continue
        [way] = found
        out |= {way: header} | {f"{way.rpartition('.')[0]}.{c}": h for c, h in link.repeats.items()}
    return out, left
