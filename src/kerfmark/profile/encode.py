"""A source as integer codes: each column is its distinct texts, in order of first appearance, and
one code per row.

Everything after reading works on these codes, so the cost of a text is paid once per distinct
value.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Collection, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark import memory
from kerfmark.errors import Origin, SourceError
from kerfmark.profile.codes import filled, first_rows, gather, value_counts
from kerfmark.profile.convert import SLICE, integers, to_typed
from kerfmark.profile.spilled import SpilledColumn
from kerfmark.profile.types import INTEGER, ColumnType
from kerfmark.progress import Progress, silent
from kerfmark.read.source import Found, Source
from kerfmark.read.union import parts_of

HARDLY_REPEATS = 0.8
"""The share of distinct texts in a batch from which a column is not worth encoding batch by
batch."""


@dataclass
class EncodedColumn:
    """One column: `values` are its distinct texts without blanks, `codes` (int32, one per row)
    point into them.

    A blank cell has the code -1. `blank_as` lists the spellings, other than nothing at all, that
    were taken as blank. `spelled` says that numbers were spelled when they were read (see
    `Source.spells_numbers`).
    """

    header: str
    values: pa.StringArray
    codes: np.ndarray
    blank_as: tuple[str, ...] = ()
    spelled: bool = False
    _typed: tuple[ColumnType, pa.Array] | None = field(default=None, repr=False)

    @property
    def known_type(self) -> ColumnType | None:
        """The type that all values are known to have without being asked, if encoding them showed
        one."""
        return (
            self._typed[0]
            if self._typed and self._typed[0] == INTEGER and self._typed[1].null_count == 0
            else None
        )

    def typed(self, type_: ColumnType) -> pa.Array:
        """The distinct values in a type; null where one does not fit. The last answer is
        remembered."""
        if self._typed is None or self._typed[0] != type_:
            slices = range(0, len(self.values), SLICE)
            self._typed = (
                type_,
                to_typed(self.values, type_)
                if len(slices) < 2 or not memory.scarce()
                else memory.gathered(
                    (to_typed(self.values.slice(start, SLICE), type_) for start in slices),
                    type_.arrow,
                ),
            )
        return self._typed[1]

    @property
    def blanks(self) -> int:
        """How many cells are blank."""
        return len(self.codes) - filled(self.codes)

    @property
    def times(self) -> np.ndarray:
        """How many cells have each value."""
        return value_counts(self.codes, len(self.values))

    def without(self, spellings: list[str]) -> EncodedColumn:
        """The same column with some spellings taken as blank."""
        where = pc.is_in(self.values, value_set=pa.array(spellings, pa.string()))
        drop = where.to_numpy(zero_copy_only=False)
        if not drop.any():
            return self
        keep = np.flatnonzero(~drop)
        moved = np.full(len(self.values) + 1, -1, np.int32)  # the last place stands for the code -1
        moved[keep] = np.arange(len(keep), dtype=np.int32)
        gone = tuple(self.values.filter(where).to_pylist())
        values = memory.gathered(
            (
                self.values.slice(s, memory.ROWS).filter(pa.array(~drop[s : s + memory.ROWS]))
                for s in memory.at_a_time(len(drop))
            ),
            pa.string(),
        )
        return EncodedColumn(
            self.header, values, gather(moved, self.codes), self.blank_as + gone, self.spelled
        )

    def renumbered(self, texts: pa.StringArray, codes: np.ndarray) -> EncodedColumn:
        """A column of the same header in which every code has the text at its place: equal texts
        become one, null a blank, and what no row has is gone. Codes count in the order in which
        they first appear."""
        encoded = texts.dictionary_encode()
        where = encoded.indices.fill_null(-1).to_numpy(zero_copy_only=False)
        values, new = by_first_appearance(
            encoded.dictionary, gather(np.append(where, -1).astype(np.int32), codes)
        )
        return EncodedColumn(self.header, values, new, self.blank_as, self.spelled)


def by_first_appearance(values: pa.Array, codes: np.ndarray) -> tuple[pa.Array, np.ndarray]:
    """The same cells with codes (int32) that count in the order in which values first appear;
    values that no row has are gone."""
    first = first_rows(codes, len(values), len(codes))
    used = np.flatnonzero(first < len(codes))
    used = used[np.argsort(first[used], kind="stable")]
    number = np.full(len(values) + 1, -1, np.int32)
    number[used] = np.arange(len(used), dtype=np.int32)
    return values.take(pa.array(used)), gather(number, codes)


@dataclass
class EncodedSource:
    """A source whose columns are encoded; `rows` counts its records, `read` those that were read,
    and `found` is what reading found out.

    Where some were left out, `records` says for each row which record (as read, from 0) it is.
    """

    source: Source
    found: Found
    rows: int
    columns: list[EncodedColumn]
    records: np.ndarray | None = None
    read: int = -1

    def __post_init__(self) -> None:
        if self.read < 0:
            self.read = self.rows

    def parts(self) -> list[tuple[Source, Found, int]]:
        """The sources that this one is made of (usually itself alone), what reading each found out,
        and how many of the rows that were read it gave."""
        if not self.found.parts:
            return [(self.source, self.found, self.read)]
        return list(
            zip(parts_of(self.source), self.found.parts, self.found.rows_of_parts, strict=True)
        )

    def record(self, row: int) -> int:
        """The record, as read, that a row is."""
        return row if self.records is None else int(self.records[row])

    def origin(self, row: int | None = None, header: str | None = None) -> Origin:
        """The place of a row and column."""
        return self.found.origin(None if row is None else self.record(row), header)

    def with_blanks(self, spellings: Collection[str]) -> EncodedSource:
        """The same source in which some spellings stand for a blank."""
        return (
            replace(self, columns=[c.without(sorted(spellings)) for c in self.columns])
            if spellings
            else self
        )

    def pick(self, keep: np.ndarray) -> EncodedSource:
        """The same source with some of its rows only; `keep` says for each row whether."""
        rows = np.flatnonzero(keep)
        columns = [c.renumbered(c.values, c.codes[rows]) for c in self.columns]
        return EncodedSource(
            self.source,
            self.found,
            len(rows),
            columns,
            rows if self.records is None else self.records[rows],
            self.read,
        )

    def column(self, header: str) -> EncodedColumn:
        """The column of a header."""
        return self.columns[self.source.headers.index(header)]


def encode(source: Source, progress: Progress = silent, *, strict: bool = True) -> EncodedSource:
    """Reads a source once and encodes its columns, two batches at a time. Unless `strict`, ragged
    rows are left out.

    Raises SourceError where there are no rows, unless the source may be empty.
    """
    pieces: list[list[pa.Array]] = []
    spilled: list[SpilledColumn] = []  # where memory is limited, and has become scarce
    plain: set[int] = set()  # columns that hardly repeat are encoded once, at the end
    rows = 0

    def work(batch: pa.RecordBatch) -> list[pa.Array]:
        return [c if i in plain else c.dictionary_encode() for i, c in enumerate(batch.columns)]

    batches = source.map_batches(work, strict=strict)
    for piece in batches:
        pieces.append(piece.result)
        if spilled or memory.scarce():
            spilled = spilled or [SpilledColumn() for _ in source.headers]
            for cells in pieces:
                for column, some in zip(spilled, cells, strict=True):
                    column.add(some)
            if len(pieces) > 1:  # those from before memory became scarce
                pieces.clear()
                pa.default_memory_pool().release_unused()
            pieces.clear()
        plain |= {
            i
            for i, c in enumerate(piece.result)
            if pa.types.is_dictionary(c.type) and len(c.dictionary) > HARDLY_REPEATS * len(c)
        }
        rows += piece.rows
        progress(f"reading {source.name}", rows, 0)
    if not rows and not getattr(source, "may_be_empty", False):
        raise SourceError(
            "there are no rows in it",
            code="source.no-rows",
            origin=source.origin(),
            next="check that the export was complete",
        )
    if spilled:
        total, done = sum(c.count for c in spilled), 0

        def told(texts: int) -> None:
            nonlocal done
            done += texts
            progress(f"finding equal values in {source.name}", rows * done // max(total, 1), rows)

        told(0)
        columns = [
            EncodedColumn(h, *c.finish(told)) for h, c in zip(source.headers, spilled, strict=True)
        ]
        return _without_skipped(EncodedSource(source, batches.found, rows, columns))
    chunks = [[piece[i] for piece in pieces] for i in range(len(source.headers))]
    pieces.clear()
    whole = [_encode_whole if i in plain else _unify for i in range(len(chunks))]
    with ThreadPoolExecutor(2) as pool:
        columns = list(pool.map(lambda f, h, c: f(h, c), whole, source.headers, chunks))
    return _without_skipped(EncodedSource(source, batches.found, rows, columns))


def encode_each(
    sources: Sequence[Source], progress: Progress = silent, *, strict: bool = True
) -> Iterator[tuple[Source, EncodedSource | None]]:
    """Several sources, each with what encoding it gives: None for one without rows, which is passed
    over.

    Raises SourceError where none has any.
    """
    found, failure = False, None
    for source in sources:
        try:
            encoded = encode(source, progress, strict=strict)
        except SourceError as error:
            if error.code != "source.no-rows":
                raise
            failure = error
            yield source, None
        else:
            found = True
            yield source, encoded
    if failure is not None and not found:
        raise failure


def _without_skipped(encoded: EncodedSource) -> EncodedSource:
    """A source without the rows that are to be skipped."""
    source, rows = encoded.source, encoded.rows
    for column in encoded.columns:
        column.spelled = source.spells_numbers
    parts = encoded.parts()
    if not any(part.skip_rows for part, _, _ in parts):
        return encoded
    keep = np.ones(rows, bool)
    start = 0
    for part, found, count in parts:
        here = keep[start : start + count]
        start += count
        for said in part.skip_rows:
            if said[0] == "-":
                here[-int(said[1:]) : len(here) - int(said[1:]) + 1] = False
                continue
            first, _, last = said.partition("-")
            here[
                _before(found, count, int(first)) : _before(found, count, int(last or first) + 1)
            ] = False
    return encoded.pick(keep)


def _before(found: Found, count: int, row: int) -> int:
    """How many of the `count` records of a source stand before a row, as a person counts."""
    return bisect_left(range(count), row, key=lambda r: found.origin(r).row or 0)


def records_of(encoded: EncodedSource, places: Sequence[tuple[str, str, int]]) -> np.ndarray:
    """The records, as read, that stand at places (file, sheet or "", row); those that are none are
    left out. Ascending."""
    out: list[int] = []
    start = 0
    for part, found, count in encoded.parts():
        at = part.origin()
        for file, sheet, row in places:
            if (file, sheet) == (at.file, at.sheet or ""):
                n = _before(found, count, row)
                if n < count and found.origin(n).row == row:
                    out.append(start + n)
        start += count
    return np.array(sorted(out), np.int64)


def _unify(header: str, chunks: list[pa.DictionaryArray]) -> EncodedColumn:
    """One column from its encoded chunks, whose dictionaries differ."""
    whole = pa.chunked_array(chunks, pa.dictionary(pa.int32(), pa.string()))
    chunks.clear()  # what is not needed any more makes room at once
    whole = whole.unify_dictionaries().combine_chunks()
    return _from_dictionary(header, whole.chunk(0) if isinstance(whole, pa.ChunkedArray) else whole)


def _encode_whole(header: str, chunks: list[pa.Array]) -> EncodedColumn:
    """One column from chunks of text (the first ones may be encoded). Ascending numbers need no
    look at each other."""
    texts = pa.concat_arrays(
        [c.cast(pa.string()) if pa.types.is_dictionary(c.type) else c for c in chunks]
    )
    chunks.clear()
    numbers = integers(texts) if texts.null_count == 0 else None
    if numbers is not None and bool(np.all(numbers.to_numpy()[1:] > numbers.to_numpy()[:-1])):
        return EncodedColumn(
            header, texts, np.arange(len(texts), dtype=np.int32), _typed=(INTEGER, numbers)
        )
    return _from_dictionary(header, texts.dictionary_encode())


def _from_dictionary(header: str, encoded: pa.DictionaryArray) -> EncodedColumn:
    codes = encoded.indices
    if codes.null_count:
        codes = codes.fill_null(-1)
    return EncodedColumn(header, encoded.dictionary, codes.to_numpy())
