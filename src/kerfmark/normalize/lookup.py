"""Links by value: the record of a table that has certain values, and a new record where none
has."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from types import MappingProxyType

import numpy as np
import pyarrow as pa

from kerfmark import memory
from kerfmark.layout.model import LinkSpec
from kerfmark.normalize.nearest import nearest_of
from kerfmark.normalize.prepare import Cells
from kerfmark.normalize.table_rows import Counted, TableRows, Typed
from kerfmark.profile.codes import combine, concatenated, distinct, first_rows, gather
from kerfmark.profile.convert import folded, to_text
from kerfmark.profile.spilled import number_texts
from kerfmark.profile.types import ColumnType

MOST_COMPARED = 20_000
"""Known values among which the nearest one is looked for."""


@dataclass(frozen=True)
class Found:
    """What looking up gave: the record (from 0) for each of those that asked, -1 for none; which of
    them asked for what is not there (positions); and the records that were made for them."""

    record: np.ndarray
    unknown: np.ndarray
    created: np.ndarray


def together(
    parent: Typed, type_: ColumnType, cells: Cells, loose: bool = False
) -> tuple[np.ndarray, np.ndarray, int]:
    """The codes of a parent's column and of some cells in one numbering of their values, and how
    many values there are."""
    texts = (
        to_text(some, type_)
        for values in (parent.values, cells[0])
        for some in memory.slices(values)
    )
    where, count = number_texts(map(folded, texts) if loose else texts)
    ours, theirs = where[: len(parent.values)], where[len(parent.values) :]
    return gather(ours, parent.codes, blank=-1), gather(theirs, cells[1], blank=-1), count


def resolve(
    parent: TableRows,
    link: LinkSpec,
    cells: dict[str, Cells],
    linked: Mapping[str, np.ndarray] = MappingProxyType({}),
) -> Found:
    """Finds the record of the parent for each of some records; where the link says so, new ones are
    appended to the parent.

    `cells` holds the values of the parent's columns as these records say them, those in the link's
    `by` and any others that a new record gets too; `linked` what its links lead to, for these
    records, where it is known by links.
    """
    types = {c: parent.spec.columns[c].of_type for c in cells}
    pairs = [
        (parent.codes(own), linked[own], _span(parent.codes(own), linked[own]))
        if (own := c.partition(".")[0]) in linked
        else together(parent.typed(c), types[c], cells[c], link.loose)
        for c in link.by
    ]
    ids, count = combine(
        [concatenated(ours, theirs) for ours, theirs, _ in pairs], [n for _, _, n in pairs]
    )
    ours, theirs = ids[: parent.rows], ids[parent.rows :]
    record = first_rows(ours, count, -1)
    unknown = (
        np.flatnonzero((theirs >= 0) & (gather(record, theirs, blank=-1) < 0))
        if count
        else np.empty(0, np.int64)
    )
    before = parent.rows
    if len(unknown) and link.missing == "create":
        new, first = np.unique(theirs[unknown], return_index=True)
        order = np.argsort(first)
        record = (
            record.astype(np.int64)
            if parent.rows + len(new) > np.iinfo(record.dtype).max
            else record
        )
        record[new[order]] = parent.rows + np.arange(len(new))
        _append(parent, cells, linked, unknown[np.sort(first)])
    return Found(gather(record, theirs, blank=-1), unknown, np.arange(before, parent.rows))


def fill_unsaid(parent: TableRows, cells: Mapping[str, Cells], found: Found) -> None:
    """Gives records of the parent that only others name what the first one says that was led to
    them, in columns of which those before have said nothing."""
    made = len(found.created)
    there = (found.record >= 0) & (found.record < parent.rows - made)
    there[there] = parent.source_rows()[found.record[there]] < 0
    for name, (values, codes) in cells.items():
        column = parent.typed(name)
        asks = np.flatnonzero(there & (codes >= 0))
        asks = asks[column.codes[found.record[asks]] < 0]
        if not len(asks):
            continue
        records, first = np.unique(found.record[asks], return_index=True)
        both = pa.concat_arrays([column.values, values]).dictionary_encode()
        one = np.append(both.indices.to_numpy(), -1).astype(np.int32)  # of equal values
        more = gather(one, column.codes)
        more[records] = one[codes[asks[first]] + len(column.values)]
        parent.columns[name] = Typed(both.dictionary, more)


def _span(*codes: np.ndarray) -> int:
    """One more than the highest of some codes."""
    return max(int(some.max(initial=-1)) for some in codes) + 1


def _append(
    parent: TableRows,
    cells: dict[str, Cells],
    linked: Mapping[str, np.ndarray],
    records: np.ndarray,
) -> None:
    """Adds records with some values, the others blank."""
    for name, column in parent.columns.items():
        if isinstance(column, Counted):
            continue
        if name in cells:
            column, (values, codes) = parent.typed(name), cells[name]
            added = codes[records]
            more = np.where(added >= 0, added + len(column.values), -1)
            both = pa.concat_arrays([column.values, values]).dictionary_encode()
            one = np.append(both.indices.to_numpy(), -1).astype(np.int32)  # of equal values
            parent.columns[name] = Typed(
                both.dictionary, gather(one, np.concatenate([column.codes, more]))
            )
        elif name in linked:
            more = linked[name][records].astype(column.codes.dtype)
            parent.columns[name] = replace(column, codes=np.concatenate([column.codes, more]))
        else:
            blank = np.full(len(records), -1, column.codes.dtype)
            parent.columns[name] = replace(column, codes=np.concatenate([column.codes, blank]))
    parent.row_of = np.concatenate([parent.source_rows(), np.full(len(records), -1)])
    parent.rows += len(records)


def differing(
    parent: TableRows, column: str, cells: Cells, record: np.ndarray, loose: bool = False
) -> np.ndarray:
    """The records that say something else than the parent's record they were linked to does."""
    ours, theirs, _ = together(
        parent.typed(column), parent.spec.columns[column].of_type, cells, loose
    )
    return np.flatnonzero(np.append(ours, -1)[record] != theirs)


def nearest(
    parent: TableRows, column: str, type_: ColumnType, among: np.ndarray | None = None
) -> Callable[[str], str]:
    """A way to ask which known value of a parent's column (`among` some of its records) is nearest
    to a text; "" when none is near."""
    values, codes = parent.typed(column).values, parent.codes(column)
    if among is not None:
        values = values.take(pa.array(distinct(codes[among & (codes >= 0)])))
    known = to_text(values.slice(0, MOST_COMPARED), type_).to_pylist()

    return lambda text: nearest_of(known, text)


def circular(record: np.ndarray) -> np.ndarray:
    """The records of a table that links to itself which lead back to themselves; `record` is where
    each leads, -1 for none."""
    reach = np.append(record, -1)
    for _ in range(max(len(record), 1).bit_length()):  # twice as far with each step
        reach = reach[reach]
    inside = distinct(reach[:-1][reach[:-1] >= 0])
    return inside
