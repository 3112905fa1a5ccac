"""The last steps before tables can be written: records in the order that the layout wants, and
links as the keys they lead to."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.layout.model import Layout
from kerfmark.normalize.table_rows import Column, Counted, Linked, TableRows, Typed


def ordered(columns: Sequence[tuple[pa.Array, np.ndarray]], order: Sequence[str]) -> np.ndarray:
    """The numbers of records in the order of some columns (values and codes; "-" in `order` for the
    latest or largest first); blanks come last, equals stay as they are."""
    keys = []
    for (values, codes), name in zip(columns, order, strict=True):
        rank = np.empty(len(values) + 1, np.int64)
        ranks = pc.rank(values, tiebreaker="dense").to_numpy()
        rank[:-1] = -ranks if name.startswith("-") else ranks
        rank[-1] = np.iinfo(np.int64).max
        keys.append(rank[codes])
    return np.lexsort(keys[::-1])


def put_in_order(layout: Layout, tables: Mapping[str, TableRows]) -> None:
    """Renumbers the records of tables that have an order, and what leads to them."""
    for name, table in tables.items():
        if not table.spec.order:
            continue
        columns = [table.typed(o.removeprefix("-")) for o in table.spec.order]
        at = ordered([(c.values, c.codes) for c in columns], table.spec.order)
        _rearrange(table, at)
        number = np.full(table.rows + 1, -1, np.int64)
        number[at] = np.arange(table.rows)
        for other in tables.values():
            for link, target in other.spec.links.items():
                if target.to == name:
                    other.columns[link] = Linked(number[other.codes(link)])
            if other.spec.part_of == name:
                _rearrange(
                    other, np.argsort(other.codes(layout.owner_link(other.name)), kind="stable")
                )


def _rearrange(table: TableRows, at: np.ndarray) -> None:
    """Puts records in another order: the first is then that of number at[0]."""
    table.row_of = table.source_rows()[at]
    for name, column in table.columns.items():
        if not isinstance(column, Counted):
            table.columns[name] = replace(column, codes=column.codes[at])


def with_keys(layout: Layout, tables: Mapping[str, TableRows]) -> None:
    """Turns links to tables without a generated key into the values of their keys, and drops what
    number they would have had."""
    natural = {n for n in tables if not layout.has_generated_key(n)}
    if not natural:
        return
    new: dict[str, dict[str, Column]] = {}
    for name, table in tables.items():
        columns: dict[str, Column] = {}
        for column, values in table.columns.items():
            if column == layout.key_of(name) and isinstance(values, Counted) and name in natural:
                continue
            if column in table.spec.links and table.spec.links[column].to in natural:
                for own, key in layout.link_columns(name, column):
                    columns[own] = _key_values(
                        layout, tables, table.spec.links[column].to, key, table.codes(column)
                    )
            else:
                columns[column] = values
        new[name] = columns
    for name, columns in new.items():
        tables[name].columns = columns


def _key_values(
    layout: Layout, tables: Mapping[str, TableRows], parent: str, key: str, record: np.ndarray
) -> Column:
    """The values in a column of a parent's key for each of the records that lead there."""
    spec, rows = tables[parent].spec, tables[parent]
    if layout.has_generated_key(parent):
        return Linked(record)
    if key in spec.columns:
        return Typed(rows.typed(key).values, np.append(rows.codes(key), -1)[record])
    for link in spec.links:
        for own, further in layout.link_columns(parent, link):
            if own == key:
                return _key_values(
                    layout,
                    tables,
                    spec.links[link].to,
                    further,
                    np.append(rows.codes(link), -1)[record],
                )
    raise KeyError(key)
