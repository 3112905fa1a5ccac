"""What several columns, or the parts of one cell, say about a record: a record of its own per
filled group or part."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.profile.columns import EncodedColumn


def filled_groups(codes: list[list[np.ndarray]]) -> tuple[np.ndarray, np.ndarray]:
    """Which groups of columns say anything: the record and the group of each, in the order of
    records.

    `codes` holds, per group, the codes of its columns, one per record.
    """
    filled = np.zeros((len(codes[0][0]), len(codes)), bool)
    for g, columns in enumerate(codes):
        for column in columns:
            filled[:, g] |= column >= 0
    record, group = np.nonzero(filled)
    return record, group


def stacked(
    values: list[pa.Array], codes: list[np.ndarray], record: np.ndarray, group: np.ndarray
) -> tuple[pa.Array, np.ndarray]:
    """Several columns of one meaning as one: their values, and a code for each record and group
    that is filled."""
    starts = np.cumsum([0, *map(len, values)])[:-1]
    whole = np.stack(
        [np.where(c >= 0, c + start, -1) for c, start in zip(codes, starts, strict=True)], axis=1
    )
    return pa.concat_arrays(values), whole[record, group].astype(np.int32)


def split_cells(
    column: EncodedColumn, separator: str
) -> tuple[pa.StringArray, np.ndarray, np.ndarray]:
    """The distinct parts of a column's cells in order of first appearance; the codes of the parts
    of all distinct cells, one after the other; and at which of them each cell begins (with the end
    of the last)."""
    lists = pc.split_pattern(column.values, separator)
    encoded = pc.list_flatten(lists).dictionary_encode()
    starts = np.concatenate(
        [[0], np.cumsum(pc.list_value_length(lists).to_numpy(zero_copy_only=False))]
    ).astype(np.int64)
    return encoded.dictionary, encoded.indices.to_numpy(zero_copy_only=False), starts


def parts_of_records(
    codes: np.ndarray, starts: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """For records with these cells: per part its record, its position (from 0), and where it is
    among all parts."""
    lengths = np.where(
        codes >= 0, np.diff(starts, append=starts[-1:])[:-1][codes] if len(starts) > 1 else 0, 0
    )
    record = np.repeat(np.arange(len(codes)), lengths)
    firsts = np.cumsum(lengths) - lengths
    position = np.arange(len(record)) - np.repeat(firsts, lengths)
    return record, position, starts[codes[record]] + position
