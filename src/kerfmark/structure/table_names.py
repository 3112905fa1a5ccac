"""Other names for the tables of a layout."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Sequence

from kerfmark.layout.model import Layout, LinkSpec, TableSpec
from kerfmark.profile.reserved import RESERVED


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
    links: dict[str, dict[str, str]] = {}
    for name, spec in layout.tables.items():
        mine = links[name] = {}
        for link, target in spec.links.items():
            wanted = f"{names.get(target.to, target.to)}_id"
            taken = {*spec.columns, *spec.links, *mine.values(), f"{names.get(name, name)}_id"}
            only = sum(other.to == target.to for other in spec.links.values()) == 1
            called_after = only and link == f"{target.to}_id"
            mine[link] = wanted if called_after and wanted not in taken else link
    return _renamed(layout, names, links)


def with_column_names(layout: Layout, columns: Mapping[str, Mapping[str, str]]) -> Layout:
    """A layout whose columns have other names, by table and the name that each has."""
    return _renamed(layout, {}, {n: {**columns.get(n, {})} for n in layout.tables})


def numbered_roles(roles: Sequence[tuple[str, str]], taken: Collection[str]) -> dict[str, str]:
    """New names for tables that have the records of two roles that are only numbered: those of
    `site_1` and `site_2` are sites."""
    out: dict[str, str] = {}
    for gone, kept in roles:
        plain, other = (re.sub(r"_?\d+$", "", name) for name in (kept, gone))
        if plain and plain == other and plain not in RESERVED and plain not in taken:
            out[kept] = plain
    return out


def with_own_keys(layout: Layout) -> Layout:
    """A layout in which whole numbers of the files that are called ids, and tell records apart,
    are the primary keys; links to them are called after the table, as always, not after a key
    that was generated beside them."""
    keys = {
        name: spec.known_by[0]
        for name, spec in layout.tables.items()
        if len(spec.known_by) == 1
        and (column := spec.columns.get(spec.known_by[0]))
        and column.is_plain
        and column.of_type.kind == "integer"
        and spec.known_by[0].split("_")[-1] == "id"
        and spec.known_by[0] not in spec.optional
    }
    links: dict[str, dict[str, str]] = {}
    for name, spec in layout.tables.items():
        mine = links[name] = {}
        for link, target in spec.links.items():
            wanted = f"{target.to}_id"
            taken = {*spec.columns, *spec.links, *mine.values()}
            if name not in keys:
                taken.add(layout.key_of(name))
            generated = link == layout.key_of(target.to) and target.to in keys
            mine[link] = wanted if generated and wanted not in taken else link
    tables = {
        n: t.model_copy(update={"key": (keys[n],)}) if n in keys else t
        for n, t in _renamed(layout, {}, links).tables.items()
    }
    return Layout(kerfmark=layout.kerfmark, sources=layout.sources, tables=tables)


def _renamed(
    layout: Layout, names: Mapping[str, str], links: Mapping[str, Mapping[str, str]]
) -> Layout:
    """A layout with other names for tables, and for the links (and columns) of each."""
    tables: dict[str, TableSpec] = {}

    def path(of: str, said: str) -> str:
        """A column of a table, or one that its links lead to, as it is called now."""
        first, *rest = said.split(".", 1)
        if not rest:
            return links[of].get(said, said)
        return f"{links[of].get(first, first)}.{path(layout.tables[of].links[first].to, rest[0])}"

    def renamed(link: LinkSpec) -> LinkSpec:
        return link.model_copy(
            update={
                "to": names.get(link.to, link.to),
                "by": {path(link.to, c): h for c, h in link.by.items()},
                "repeats": {path(link.to, c): h for c, h in link.repeats.items()},
            }
        )

    for name, spec in layout.tables.items():

        def new(some: Sequence[str], mine: Mapping[str, str] = links[name]) -> tuple[str, ...]:
            return tuple(mine.get(n, n) for n in some)

        tables[names.get(name, name)] = spec.model_copy(
            update={
                "part_of": names.get(spec.part_of, spec.part_of),
                "links": {links[name].get(n, n): renamed(k) for n, k in spec.links.items()},
                "columns": {
                    links[name].get(n, n): c.model_copy(
                        update={"instead_of": names.get(c.instead_of, c.instead_of)}
                    )
                    for n, c in spec.columns.items()
                },
                "known_by": new(spec.known_by),
                "optional": new(spec.optional),
                "unique": tuple(new(u) for u in spec.unique),
                "order": tuple(
                    f"-{new([n[1:]])[0]}" if n.startswith("-") else new([n])[0] for n in spec.order
                ),
                "key": new(spec.key) if isinstance(spec.key, tuple) else spec.key,
            }
        )
    return Layout(kerfmark=layout.kerfmark, sources=layout.sources, tables=tables)
