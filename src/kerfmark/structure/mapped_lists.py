"""Cells that hold lists, and the tables of two foreign keys that take them: which record has which
others."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass, replace

import pyarrow.compute as pc

from kerfmark.layout.model import ColumnSpec, LinkSpec, TableSpec
from kerfmark.profile.types import TEXT
from kerfmark.structure.column_places import ENOUGH, ColumnPlaces
from kerfmark.structure.name_likeness import likeness
from kerfmark.structure.tables_there import Place, TableThere

_SEPARATORS = ("; ", ";", ", ", ",", " | ", "|", " / ", "/")
_OFTEN = 0.2
"""The share of cells with several values from which a column may hold lists."""
_ORDER = frozenset({"position", "position_no", "sequence", "seq", "sort", "rank", "order_no"})
"""What a column is called that has the order of the records in a list."""


@dataclass(frozen=True)
class ListPlace:
    """A table of two foreign keys: one (`owner_link`) leads to the record of the row (`owner`), the
    other (`link`) to those that a cell lists, separated by `separator`, by a `column` of their
    table (`parent`). `share` of the values listed are there."""

    table: str
    owner: str
    owner_link: str
    link: str
    parent: str
    column: str
    separator: str
    share: float

    @property
    def place(self) -> Place:
        """The place of the column that holds the lists."""
        return Place(self.parent, self.column, self.table, self.link)

    @property
    def why(self) -> str:
        """Why the column goes there."""
        said = f'cells hold several values, separated by "{self.separator}"'
        return said + (f"; {self.share:.0%} of them are there" if self.share else "")


def find_lists(where: ColumnPlaces, name: str) -> dict[str, list[ListPlace]]:
    """The columns of a source whose cells hold lists of what a table has, with the places for them,
    the best first."""
    out: dict[str, list[tuple[float, ListPlace]]] = defaultdict(list)
    source = where.sources[name]
    for header, type_ in zip(source.headers, where.types[name], strict=True):
        values = source.column(header).values
        if type_.kind != "text" or not len(values):
            continue
        for separator in _SEPARATORS:
            if pc.mean(pc.match_substring(values, separator)).as_py() < _OFTEN:
                continue
            flat = pc.list_flatten(pc.split_pattern(values, separator))
            parts, whole = set(flat.to_pylist()), set(values.to_pylist())
            for one in _tables_of_pairs(where, separator):
                known = where.there[one.parent].column(one.column).values
                share = len(parts & known) / len(parts)
                alike = likeness(header, one.parent, one.column, one.link)
                if max(share, alike) >= ENOUGH and share >= len(whole & known) / len(whole):
                    out[header].append((max(share, alike), replace(one, share=share)))
            if out[header]:
                break
    return {
        h: [p for _, p in sorted(found, key=lambda f: -f[0])] for h, found in out.items() if found
    }


def tables_of_list(
    source: str, one: ListPlace, there: TableThere, parent: TableSpec, header: str
) -> dict[str, TableSpec]:
    """The two tables of a layout that a column of lists feeds."""
    position = next((c.name for c in there.columns if c.name.lower() in _ORDER), "")
    by = one.column
    column = ColumnSpec(header=header, type=parent.columns[by].type, split=one.separator)
    return {
        one.parent: parent.model_copy(update={"columns": {by: column}}),
        one.table: TableSpec(
            source=source,
            part_of=one.owner,
            known_by=(one.owner_link, position or one.link),
            key=there.generated or tuple(there.key),
            links={
                one.owner_link: LinkSpec(to=one.owner),
                one.link: LinkSpec(to=one.parent, by={by: header}),
            },
            columns={position: ColumnSpec(position=True)} if position else {},
        ),
    }


def _tables_of_pairs(where: ColumnPlaces, separator: str) -> Iterator[ListPlace]:
    """The tables that link two others, and need nothing more than that, and an order."""
    for table in where.there.values():
        if len(table.links) != 2 or len({*table.links.values()}) != 2:
            continue
        if {c for c in table.needed if c.lower() not in _ORDER} - {*table.links}:
            continue
        if not table.generated and {*table.key} - {*table.links}:
            continue  # a key of another kind would have to be made of the two
        for owner_link, owner in table.links.items():
            [(link, parent)] = [pair for pair in table.links.items() if pair[0] != owner_link]
            for column in where.naming(parent) if parent in where.there else ():
                if where.there[parent].column(column).type.kind == TEXT.kind:
                    yield ListPlace(
                        table.name, owner, owner_link, link, parent, column, separator, 0.0
                    )
