"""Links by value: the record of a table that has certain values, and a new record where none has."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa

from kerfmark.build.drafts import TableRows, Values
from kerfmark.profile.codes import combine
from kerfmark.profile.convert import to_text
from kerfmark.profile.types import ColumnType

Cells = tuple[pa.Array, np.ndarray]
"""Typed values, and a code per record (-1: blank)."""


def together(parent: Values, type_: ColumnType, cells: Cells) -> tuple[np.ndarray, np.ndarray, int]:
    """The codes of a parent's column and of some cells in one numbering of their values, and how many values there are."""
    assert parent.values is not None and parent.codes is not None
    texts = pa.concat_arrays([to_text(parent.values, type_), to_text(cells[0], type_)]).dictionary_encode()
    where = texts.indices.fill_null(-1).to_numpy(zero_copy_only=False)
    ours = np.append(where[:len(parent.values)], -1)
    theirs = np.append(where[len(parent.values):], -1)
    return ours[parent.codes], theirs[cells[1]], len(texts.dictionary)


def resolve(parent: TableRows, by: Sequence[str], cells: dict[str, Cells], rows: np.ndarray) -> np.ndarray:
    """The record (from 0) of the parent for each of some records, -1 for a blank; new ones are appended to the parent.

    `cells` holds the values of the parent's columns as these records say them, those in `by` and any others that a new
    record gets too; `rows` is the source row of each.
    """
    types = {c: parent.spec.columns[c].of_type for c in cells}
    pairs = [together(parent.columns[c], types[c], cells[c]) for c in by]
    ids, count = combine([np.concatenate([ours, theirs]).astype(np.int32) for ours, theirs, _ in pairs],
                         [n for _, _, n in pairs])
    ours, theirs = ids[:parent.rows], ids[parent.rows:]
    record = np.full(count + 1, -1, np.int64)
    record[ours[::-1]] = np.arange(parent.rows - 1, -1, -1)
    record[-1] = -1
    unknown = np.flatnonzero((theirs >= 0) & (record[theirs] < 0))
    if len(unknown):
        new, first = np.unique(theirs[unknown], return_index=True)
        order = np.argsort(first)
        record[new[order]] = parent.rows + np.arange(len(new))
        _append(parent, cells, unknown[np.sort(first)], rows)
    found: np.ndarray = record[theirs]
    return found


def _append(parent: TableRows, cells: dict[str, Cells], records: np.ndarray, rows: np.ndarray) -> None:
    """Adds records with some values, the others blank."""
    for name, column in parent.columns.items():
        if column.codes is None:
            continue
        if name in cells:
            values, codes = cells[name]
            assert column.values is not None
            added = codes[records]
            more = np.where(added >= 0, added + len(column.values), -1).astype(np.int32)
            parent.columns[name] = Values(pa.concat_arrays([column.values, values]), np.concatenate([column.codes, more]))
        else:
            blank = np.full(len(records), -1, column.codes.dtype)
            parent.columns[name] = Values(column.values, np.concatenate([column.codes, blank]))
    parent.row_of = np.concatenate([parent.source_rows(), np.full(len(records), -1)])
    parent.rows += len(records)


def differing(parent: TableRows, column: str, cells: Cells, record: np.ndarray) -> np.ndarray:
    """The records that say something else than the parent's record they were linked to does."""
    ours, theirs, _ = together(parent.columns[column], parent.spec.columns[column].of_type, cells)
    return np.flatnonzero(np.append(ours, -1)[record] != theirs)


