"""What the rows of a source lead to beside what its own cells say: the columns of the records that
they look up, of the records that these lead to, and derived columns."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from kerfmark.layout.model import ColumnSpec, Layout
from kerfmark.layout.names import free_name


@dataclass(frozen=True)
class Reached:
    """A column that rows of a source lead to: a `table` that the row says itself, the `links` that
    lead on from its record, and the `column` of the last one; `label`: what it is called beside the
    source's own headers."""

    label: str
    table: str
    links: tuple[str, ...]
    column: str


def reached(layout: Layout, source: str, headers: Sequence[str]) -> list[Reached]:
    """The columns that rows of a source lead to and its headers do not show. `layout` is settled
    (see `layout.derive`)."""
    taken = {h.lower() for h in headers if h not in layout.sources[source].left_out}
    out: list[Reached] = []
    base = layout.base_of(source)
    for name in layout.tables_of(source):
        table = layout.tables[name]
        if table.part_of or layout.path(base, name) is None:
            continue
        own: list[tuple[tuple[str, ...], str]] = [
            ((), c) for c, spec in table.columns.items() if _says_more(spec, headers)
        ]
        for links, column in (*own, *_looked_up(layout, name)):
            above = [k.removesuffix("_id") for k in links]
            short = "_".join([*(a for a in above[-1:] if not column.startswith(a)), column])
            label = free_name(short, taken, "_".join([*above, column]))
            taken.add(label.lower())
            out.append(Reached(label, name, links, column))
    return out


def _says_more(spec: ColumnSpec, headers: Sequence[str]) -> bool:
    """Whether a column of a row's own table is not one of its cells."""
    return bool(spec.derived) or not any(h in headers for h in (*spec.sources, *spec.told))


def _looked_up(
    layout: Layout, name: str, way: tuple[str, ...] = (), seen: tuple[str, ...] = ()
) -> Iterator[tuple[tuple[str, ...], str]]:
    """The columns of the records that those of a table lead to by value, and of those that these
    lead to in any way, but for what rows say themselves."""
    for link, target in layout.tables[name].links.items():
        if (not way and not target.by) or target.to in (*seen, name):
            continue
        here = (*way, link)
        for column in layout.tables[target.to].columns:
            if way or column not in (*target.by, *target.repeats):
                yield here, column
        for links, column in _looked_up(layout, target.to, here, (*seen, name)):
            if way or ".".join([*links[1:], column]) not in (*target.by, *target.repeats):
                yield links, column
