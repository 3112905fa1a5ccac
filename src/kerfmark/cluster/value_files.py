"""The values of columns in files that executors write and read: of each unit, and of all.

Values go into parts by what they are without case and uneven spaces. So equal values, and those
that differ in these only, are in one part, and what is asked of all values is asked of each part
by itself. A part is as much as one task looks at, a column at a time.

Not here: what is asked (`questions`).
"""

from __future__ import annotations

import contextlib
import json
import uuid
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import xxhash

from kerfmark.cluster.files import filesystem, to_write
from kerfmark.profile.columns import EncodedColumn
from kerfmark.profile.values import FIRST, plain

_SCHEMA = pa.schema(
    [("value", pa.string()), ("times", pa.int64()), ("places", pa.list_(pa.int64()))]
)
_SMALLER = pa.ipc.IpcWriteOptions(compression="zstd")
_COLUMN = b"column"
"""Which column a batch is of."""
_NUMBER = np.dtype("<i8")
"""How places within a file are written."""


@dataclass(frozen=True)
class Values:
    """Values of a column, each once: how many cells have each, and the places of their first
    cells, in order."""

    texts: pa.StringArray
    times: np.ndarray
    places: pa.ListArray

    def __len__(self) -> int:
        return len(self.texts)

    @property
    def first(self) -> np.ndarray:
        """The place of the first cell of each."""
        first: np.ndarray = pc.list_element(self.places, 0).to_numpy()
        return first

    def take(self, which: np.ndarray) -> Values:
        """Some of them."""
        at = pa.array(which)
        return Values(self.texts.take(at), self.times[which], self.places.take(at))

    def without(self, texts: Sequence[str]) -> Values:
        """Those that are none of some texts."""
        gone = pc.is_in(self.texts, value_set=pa.array(texts, pa.string()))
        return self.take(np.flatnonzero(~gone.to_numpy(zero_copy_only=False)))

    def bare(self) -> Values:
        """Without spaces at their ends; those that are nothing else are gone."""
        return merged(
            [Values(pc.utf8_trim_whitespace(self.texts), self.times, self.places)]
        ).without([""])

    def batch(self) -> pa.RecordBatch:
        """As it is written."""
        return pa.RecordBatch.from_arrays(
            [self.texts, pa.array(self.times), self.places], schema=_SCHEMA
        )

    @classmethod
    def of(cls, batch: pa.RecordBatch) -> Values:
        """As it was written."""
        texts, times, places = batch.columns
        return cls(texts, times.to_numpy(), places)


_NONE = Values(pa.array([], pa.string()), np.zeros(0, np.int64), pa.array([], pa.list_(pa.int64())))


def values_of(column: EncodedColumn, at: np.ndarray) -> Values:
    """The values of a column; `at` has the places of rows."""
    rows = np.flatnonzero(column.codes >= 0)
    codes = column.codes[rows]
    return _of_cells(
        column.values, np.bincount(codes, minlength=len(column.values)), codes, at[rows]
    )


def merged(some: Sequence[Values]) -> Values:
    """Several lots of values as one, in the order of their first cells."""
    some = [*some, _NONE]
    texts = pa.concat_arrays([v.texts for v in some]).dictionary_encode()
    codes = texts.indices.to_numpy()
    times = np.zeros(len(texts.dictionary), np.int64)
    np.add.at(times, codes, np.concatenate([v.times for v in some]))
    places = pa.concat_arrays([v.places for v in some])
    of_each = np.repeat(codes, pc.list_value_length(places).to_numpy())
    whole = _of_cells(texts.dictionary, times, of_each, places.flatten().to_numpy())
    return whole.take(np.argsort(whole.first, kind="stable")) if len(whole) else whole


def _of_cells(
    texts: pa.StringArray, times: np.ndarray, codes: np.ndarray, places: np.ndarray
) -> Values:
    """Values of which cells are known by the codes of their texts and by their places."""
    order = np.lexsort((places, codes))
    codes = codes[order]
    count = np.bincount(codes, minlength=len(texts))
    nth = np.arange(len(codes)) - np.repeat(np.cumsum(count) - count, count)
    offsets = np.append(0, np.cumsum(np.minimum(count, FIRST))).astype(np.int32)
    first = pa.array(places[order[nth < FIRST]].astype(np.int64))
    return Values(texts, times.astype(np.int64), pa.ListArray.from_arrays(pa.array(offsets), first))


def write_unit(file: str, columns: Sequence[Values], parts: int) -> None:
    """Writes the values of a unit's columns in so many parts, with where each begins at the end."""
    system, path = to_write(file)
    lots = [_in_parts(values, parts) for values in columns]
    begins = [0]
    with system.open_output_stream(path) as out:
        for part in range(parts):
            with pa.ipc.new_stream(out, _SCHEMA, options=_SMALLER) as stream:
                for i, (values, which) in enumerate(zip(columns, lots, strict=True)):
                    if len(which[part]):
                        mine = values.take(which[part]).batch()
                        stream.write_batch(mine, custom_metadata={_COLUMN: str(i)})
            begins.append(out.tell())
        out.write(np.array(begins, _NUMBER).tobytes())


def _in_parts(values: Values, parts: int) -> list[np.ndarray]:
    """Which values are in each part."""
    if parts == 1:
        return [np.arange(len(values))]
    texts = plain(values.texts).cast(pa.binary()).to_pylist()
    numbers = map(xxhash.xxh3_64_intdigest, texts)
    part = np.fromiter(numbers, np.uint64, len(values)) % np.uint64(parts)
    order = np.argsort(part, kind="stable")
    return np.split(order, np.searchsorted(part[order], np.arange(1, parts)))


def _part_of_unit(file: str, parts: int, part: int) -> Iterator[tuple[int, Values]]:
    """The values of the columns of a unit, by their numbers, that are in a part."""
    system, path = filesystem(file)
    size = _NUMBER.itemsize
    with system.open_input_file(path) as source:
        source.seek(source.size() - size * (parts + 1 - part))
        start, end = np.frombuffer(source.read(2 * size), _NUMBER).tolist()
        source.seek(start)
        stream = pa.ipc.open_stream(source.read(end - start))
    with contextlib.suppress(StopIteration):
        while True:
            batch, said = stream.read_next_batch_with_custom_metadata()
            yield int(said[_COLUMN]), Values.of(batch)


@dataclass(frozen=True)
class PartWritten:
    """A part of all values of a source: the file, and of each column how many values, in how many
    cells, of how many bytes."""

    file: str
    counts: tuple[tuple[int, int, int], ...]

    @classmethod
    def of(cls, text: str) -> PartWritten:
        """From what `text` gives."""
        file, counts = json.loads(text)
        return cls(file, tuple(map(tuple, counts)))

    def text(self) -> str:
        """As text."""
        return json.dumps([self.file, self.counts])


def part_of_all(folder: str, units: Sequence[str], columns: int, parts: int, part: int) -> str:
    """Writes a part of the values of all units, equal ones of a column as one; gives what a
    `PartWritten` is made of."""
    lots: list[list[Values]] = [[] for _ in range(columns)]
    for file in units:
        for i, values in _part_of_unit(file, parts, part):
            lots[i].append(values)
    return _write_part(folder, (merged(lot) for lot in lots)).text()


def bare_part(folder: str, file: str) -> str:
    """Writes a part anew, without spaces at the ends of values."""
    return _write_part(folder, (v.bare() for v in values_in(file))).text()


def _write_part(folder: str, columns: Iterator[Values]) -> PartWritten:
    file, counts = f"{folder}/part-{uuid.uuid4().hex[:12]}", []
    system, path = to_write(file)
    with (
        system.open_output_stream(path) as out,
        pa.ipc.new_file(out, _SCHEMA, options=_SMALLER) as writer,
    ):
        for values in columns:
            writer.write_batch(values.batch())
            size = pc.sum(pc.binary_length(values.texts)).as_py() or 0
            counts.append((len(values), int(values.times.sum()), size))
    return PartWritten(file, tuple(counts))


def values_in(file: str, columns: Sequence[int] | None = None) -> Iterator[Values]:
    """The values of some columns (None: of all) in a part."""
    system, path = filesystem(file)
    with system.open_input_file(path) as source, pa.ipc.open_file(source) as reader:
        for column in range(reader.num_record_batches) if columns is None else columns:
            yield Values.of(reader.get_batch(column))
