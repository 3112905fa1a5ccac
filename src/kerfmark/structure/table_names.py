"""Other names for the tables of a layout."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Sequence

from kerfmark.layout.model import Layout, LinkSpec, TableSpec


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
