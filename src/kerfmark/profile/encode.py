"""A source as integer codes: each column is its distinct texts, in order of first appearance, and one code per row.

Everything after reading works on these codes, so the cost of a text is paid once per distinct value.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.progress import Progress, silent
from kerfmark.read.source import Source


@dataclass
class EncodedColumn:
    """One column: `values` are its distinct texts without blanks, `codes` (int32, one per row) point into them.

    A blank cell has the code -1. `blank_as` lists the spellings, other than nothing at all, that were taken as blank.
    """

    header: str
    values: pa.StringArray
    codes: np.ndarray
    blank_as: tuple[str, ...] = ()

    @property
    def blanks(self) -> int:
        """How many cells are blank."""
        return int(np.count_nonzero(self.codes < 0))

    def without(self, spellings: list[str]) -> EncodedColumn:
        """The same column with some spellings taken as blank."""
        where = pc.is_in(self.values, value_set=pa.array(spellings, pa.string()))
        drop = where.to_numpy(zero_copy_only=False)
        if not drop.any():
            return self
        keep = np.flatnonzero(~drop)
        moved = np.full(len(self.values) + 1, -1, np.int32)     # the last place stands for the code -1
        moved[keep] = np.arange(len(keep), dtype=np.int32)
        gone = tuple(self.values.filter(where).to_pylist())
        return EncodedColumn(self.header, self.values.take(pa.array(keep)), moved[self.codes], self.blank_as + gone)


@dataclass
class EncodedSource:
    """A source whose columns are encoded; `rows` counts its records."""

    source: Source
    rows: int
    columns: list[EncodedColumn]

    def column(self, header: str) -> EncodedColumn:
        """The column of a header."""
        return self.columns[self.source.headers.index(header)]


def encode(source: Source, progress: Progress = silent) -> EncodedSource:
    """Reads a source once and encodes its columns, two batches at a time."""
    pieces: list[list[pa.DictionaryArray]] = []
    rows = 0
    for piece in source.map_batches(lambda batch: [c.dictionary_encode() for c in batch.columns]):
        pieces.append(piece.result)
        rows += piece.rows
        progress(f"reading {source.name}", rows, 0)
    chunks = [[piece[i] for piece in pieces] for i in range(len(source.headers))]
    pieces.clear()
    with ThreadPoolExecutor(2) as pool:
        return EncodedSource(source, rows, list(pool.map(_unify, source.headers, chunks)))


def _unify(header: str, chunks: list[pa.DictionaryArray]) -> EncodedColumn:
    """One column from its encoded chunks, whose dictionaries differ."""
    whole = pa.chunked_array(chunks).unify_dictionaries().combine_chunks()
    if isinstance(whole, pa.ChunkedArray):
        whole = whole.chunk(0)
    codes = whole.indices
    if codes.null_count:
        codes = codes.fill_null(-1)
    return EncodedColumn(header, whole.dictionary, codes.to_numpy())
