"""Records that are made of what links say of them, because the table that the links lead to does
not have them itself: all links must say the same of each."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.layout.model import ColumnSpec, LinkSpec, TableSpec
from kerfmark.layout.names import free_name, snake
from kerfmark.profile.codes import first_rows
from kerfmark.profile.convert import folded
from kerfmark.structure.key_values import KeyValues


def said_alike(tables: dict[str, TableSpec], keys: KeyValues) -> dict[str, TableSpec]:
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
    spec: TableSpec, link: LinkSpec, tables: Mapping[str, TableSpec], keys: KeyValues
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
        texts, there = folded(texts), folded(there)
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
    keys: KeyValues,
) -> dict[str, str | None]:
    """The values that a link has for some records (each with its row) in a column of its parent."""
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
    keys: KeyValues,
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
