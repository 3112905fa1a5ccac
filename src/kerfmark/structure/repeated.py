"""Columns that say, for every record which links to a table, the same as a column of that table."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import pyarrow.compute as pc

from kerfmark.layout.model import ColumnSpec, Layout, LinkSpec
from kerfmark.profile.codes import holds
from kerfmark.structure.header_words import words
from kerfmark.structure.key_values import FEWEST, KeyValues


def all_there(source: str, link: LinkSpec, layout: Layout, keys: KeyValues) -> bool:
    """Whether a table has all records that a link by one value looks for."""
    parent = layout.tables[link.to]
    [(key, header)] = link.by.items()
    spec = parent.columns[key]
    own, there = keys.texts(source, header, spec), keys.texts(parent.source, spec.header, spec)
    return bool(pc.all(pc.is_in(own, value_set=there)).as_py())


def repeated_columns(
    columns: Mapping[str, ColumnSpec], source: str, link: LinkSpec, layout: Layout, keys: KeyValues
) -> dict[str, str]:
    """Which columns of a link's parent say, for every record that links there, the same as which
    headers."""
    [key] = link.by
    theirs = {n: c for n, c in layout.tables[link.to].columns.items() if n != key and c.is_plain}
    mine = {
        n: c
        for n, c in columns.items()
        if c.is_plain
        and len(keys.column(source, c.header).values)
        >= (2 if words(c.header) in [words(t.header) for t in theirs.values()] else FEWEST)
    }
    return same_columns(theirs, mine, source, link, layout, keys)


def same_columns(
    theirs: Mapping[str, ColumnSpec],
    mine: Mapping[str, ColumnSpec],
    source: str,
    link: LinkSpec,
    layout: Layout,
    keys: KeyValues,
) -> dict[str, str]:
    """Which headers of a parent's source (by name) say the same as which of the child's, in every
    row that links there."""
    parent = layout.tables[link.to]
    [(key, header)] = link.by.items()
    spec = parent.columns[key]
    own = keys.column(source, header)
    codes = np.append(
        pc.index_in(
            keys.texts(source, header, spec), value_set=keys.texts(parent.source, spec.header, spec)
        )
        .fill_null(-1)
        .to_numpy(zero_copy_only=False),
        -1,
    )[own.codes]
    there = keys.column(parent.source, spec.header)
    row_of = np.full(len(there.values) + 1, -1, np.int64)
    row_of[there.codes[::-1]] = np.arange(len(there.codes) - 1, -1, -1)
    row_of[-1] = -1
    rows = row_of[codes]
    orphans = (own.codes >= 0) & (rows < 0)  # records that are made of what these rows say
    there_now = ~orphans
    if not bool((rows >= 0).any()):
        return {}
    out: dict[str, str] = {}
    for c in mine.values():
        said, texts = keys.column(source, c.header), keys.texts(source, c.header, c)
        for name, p in theirs.items():
            if name in out or p.of_type.kind != c.of_type.kind or said.typed(p.of_type).null_count:
                continue  # it must be spelled as the parent's column is, too
            other, values = (
                keys.column(parent.source, p.header),
                keys.texts(parent.source, p.header, p),
            )
            where = np.append(
                pc.index_in(texts, value_set=values).fill_null(-2).to_numpy(zero_copy_only=False),
                -1,
            )[said.codes]
            if np.array_equal(np.append(other.codes, -1)[rows][there_now], where[there_now]) and (
                holds(own.codes[orphans], said.codes[orphans], len(own.values))
            ):
                out[name] = c.header
                break
    return out
