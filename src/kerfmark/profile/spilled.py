"""Columns that are encoded in files: for sources whose different texts do not fit in memory.

What is read is written away as it comes: the texts of each batch (each once, where they repeat
within it), and per row the place of its text among them. In the end equal texts are found one part
of the alphabet at a time, so that a part fits in memory, and numbered in the order in which they
first appear: the same codes as when all is kept in memory.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark import memory
from kerfmark.profile.codes import distinct, first_rows, gather, numbered

_TEXT = pa.schema([("text", pa.string())])
_PLACED = pa.schema([("at", pa.int32()), ("text", pa.string())])
_COST = 64
"""Bytes that finding equal texts takes for each, beside the text itself."""
_SAMPLE = 1000
"""Texts of a batch of which every so many one is looked at to part the alphabet."""
MANY = 1 << 22
"""Texts that are compared in files where memory is limited."""


def number_texts(pieces: Iterable[pa.StringArray]) -> tuple[np.ndarray, int]:
    """The texts of all pieces numbered (int32) in the order in which they first appear, null as -1;
    and how many there are."""
    if memory.scarce():
        column, waiting, count = SpilledColumn(), [], 0
        for piece in pieces:
            count += len(piece)
            waiting.append(piece)
            if count > MANY:
                for some in waiting:
                    column.add(some)
                waiting.clear()
        if count > MANY:
            values, codes = column.finish()
            return codes, len(values)
        pieces = waiting
    encoded = pa.concat_arrays([pa.array([], pa.string()), *pieces]).dictionary_encode()
    return encoded.indices.fill_null(-1).to_numpy(zero_copy_only=False), len(encoded.dictionary)


class SpilledColumn:
    """One column, given batch by batch."""

    def __init__(self) -> None:
        self._texts, self._rows = memory.unnamed(), memory.unnamed()
        self._writer = pa.ipc.new_stream(self._texts, _TEXT)
        self.count, self._bytes = 0, 0  # texts are counted again in every batch
        self._sample: list[pa.Array] = []

    def add(self, cells: pa.Array) -> None:
        """Adds the cells of a batch: texts, encoded or not, null for a blank."""
        if pa.types.is_dictionary(cells.type):
            texts, rows = (
                cells.dictionary,
                cells.indices.fill_null(-1).to_numpy(zero_copy_only=False).astype(np.int32),
            )
        else:
            texts, rows = cells.drop_null(), np.arange(len(cells), dtype=np.int32)
            if cells.null_count:
                valid = cells.is_valid().to_numpy(zero_copy_only=False)
                rows = np.where(valid, np.cumsum(valid, dtype=np.int32) - 1, -1)
        with memory.disk_errors():
            self._rows.write(np.where(rows >= 0, rows + self.count, -1).astype(np.int32).data)
            if len(texts):
                self._writer.write_batch(pa.record_batch([texts], schema=_TEXT))
        self.count += len(texts)
        self._bytes += texts.nbytes
        self._sample.append(texts.take(pa.array(np.arange(0, len(texts), _SAMPLE))))

    def finish(
        self, told: Callable[[int], None] = lambda texts: None
    ) -> tuple[pa.StringArray, np.ndarray]:
        """The distinct texts in order of first appearance, and the code of each row (-1: blank).
        `told` is called with the number of texts that were compared, again and again."""
        with memory.disk_errors():
            self._writer.close()
            self._texts.flush()
        same = self._equals(told)
        first = memory.room(self.count, bool)
        for start in memory.at_a_time(self.count):
            end = min(start + memory.ROWS, self.count)
            first[start:end] = same[start:end] == np.arange(start, end)
        values = memory.gathered(self._firsts(first), pa.string())
        codes = gather(numbered(same, first)[0], memory.numbers(self._rows, np.int32), blank=-1)
        self._texts.close()
        self._rows.close()
        return values, codes

    def _batches(self) -> Iterator[pa.Array]:
        """The texts again, batch by batch."""
        self._texts.seek(0)
        for batch in pa.ipc.open_stream(self._texts):
            yield batch.column(0)

    def _firsts(self, first: np.ndarray) -> Iterator[pa.Array]:
        """Each text where it is for the first time."""
        start = 0
        for texts in self._batches():
            yield texts.filter(pa.array(first[start : start + len(texts)]))
            start += len(texts)

    def _equals(self, told: Callable[[int], None]) -> np.ndarray:
        """For each text the first one that is equal to it."""
        same = memory.room(self.count, np.int32)
        parts = 1 + int((self._bytes + _COST * self.count) // max(memory.allowed() // 16, 1))
        sample = pa.concat_arrays(self._sample or [pa.array([], pa.string())]).unique()
        sample = sample.take(pc.sort_indices(sample))
        pivots = (
            sample.take(pa.array(distinct(np.arange(1, parts) * len(sample) // parts)))
            if parts > 1
            else sample.slice(0, 0)
        )
        if not len(pivots):
            told(
                self._find_equals(
                    ((np.arange(s, s + len(t), dtype=np.int32), t) for s, t in self._numbered()),
                    same,
                )
            )
            return same
        files = [memory.unnamed() for _ in range(len(pivots) + 1)]
        writers = [pa.ipc.new_stream(f, _PLACED) for f in files]
        for start, texts in self._numbered():
            part = np.zeros(len(texts), np.int16)
            for pivot in pivots:
                part += pc.greater_equal(texts, pivot).to_numpy(zero_copy_only=False)
            order = np.argsort(part, kind="stable")
            sorted_texts, at = (
                texts.take(pa.array(order)),
                pa.array((order + start).astype(np.int32)),
            )
            ends = np.searchsorted(part[order], np.arange(len(files) + 1))
            for i, writer in enumerate(writers):
                if ends[i + 1] > ends[i]:
                    some = slice(int(ends[i]), int(ends[i + 1]))
                    with memory.disk_errors():
                        writer.write_batch(
                            pa.record_batch([at[some], sorted_texts[some]], schema=_PLACED)
                        )
        for file, writer in zip(files, writers, strict=True):
            with memory.disk_errors():
                writer.close()
                file.flush()
            file.seek(0)
            told(
                self._find_equals(
                    ((b.column(0).to_numpy(), b.column(1)) for b in pa.ipc.open_stream(file)), same
                )
            )
            file.close()
        return same

    def _numbered(self) -> Iterator[tuple[int, pa.Array]]:
        start = 0
        for texts in self._batches():
            yield start, texts
            start += len(texts)

    @staticmethod
    def _find_equals(pieces: Iterator[tuple[np.ndarray, pa.Array]], same: np.ndarray) -> int:
        """Notes, for texts at some places (ascending), the first place of each text. Gives how many
        they were."""
        places, texts = [], []
        for at, some in pieces:
            places.append(at)
            texts.append(some.dictionary_encode())
        if not places:
            return 0
        at = np.concatenate(places)
        whole = pa.chunked_array(texts).unify_dictionaries()
        texts.clear()
        found = np.concatenate([c.indices.to_numpy() for c in whole.chunks])
        size = len(whole.chunk(0).dictionary)
        del whole
        same[at] = at[first_rows(found, size)][found]
        memory.give_back()
        return len(at)
