"""What a layout leaves unsaid because the headers of its sources tell it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from kerfmark.layout.model import Layout, LinkSpec
from kerfmark.layout.reached import reached
from kerfmark.layout.validation import Mistake, near


def settled(layout: Layout, headers: Mapping[str, Sequence[str]]) -> Layout:
    """The same layout in which a link through the row to a table that is mainly of another source
    (`also_from`) is a link by the values that this row says; `headers` are those of each source."""
    tables = {}
    for name, table in layout.tables.items():
        links = {
            n: _by_value(layout, link, headers.get(table.source, ()))
            if not link.by and layout.tables[link.to].source != table.source
            else link
            for n, link in table.links.items()
        }
        tables[name] = table.model_copy(update={"links": links}) if links != table.links else table
    return layout.model_copy(update={"tables": tables})


def _by_value(layout: Layout, link: LinkSpec, headers: Sequence[str]) -> LinkSpec:
    parent = layout.tables[link.to]
    said = {n: c.header for n, c in parent.columns.items() if c.header in headers and not c.split}
    by = {k: parent.columns[k].header for k in parent.known_by}
    return link.model_copy(
        update={"by": by, "repeats": {n: h for n, h in said.items() if n not in by}}
    )


def header_mistakes(layout: Layout, headers: Mapping[str, Sequence[str]]) -> list[Mistake]:
    """Headers of sources that no table of a settled layout takes, and columns whose header is
    missing."""
    out: list[Mistake] = []
    for name, listed in headers.items():
        there = dict.fromkeys(listed)
        placed = {
            h: ("tables", t) for t, table in layout.tables_of(name).items() for h in table.headers
        }
        left_out = layout.sources[name].left_out
        free = [h for h in there if h not in placed and h not in left_out]
        may_lack = layout.sources[name].may_lack
        out += [
            Mistake(place, f'the file has no column "{h}"{near(h, free)}')
            for h, place in placed.items()
            if h not in there and h not in may_lack
        ]
        out += [
            Mistake(("sources", name, "left_out"), f'the file has no column "{h}"')
            for h in left_out
            if h not in there and h not in may_lack
        ]
        out += [Mistake(("sources", name), f'column "{h}" of the file has no table') for h in free]
        view = layout.sources[name].view
        shown = [*listed, *(r.label for r in reached(layout, name, listed))] if view else []
        out += [
            Mistake(("sources", name, "view"), f'the rows lead to no column "{h}"{near(h, shown)}')
            for h in view
            if h not in shown
        ]
    return out
