"""A source as integer codes: each column is its distinct texts, in order of first appearance, and
one code per row.

Everything after reading works on these codes, so the cost of a text is paid once per distinct
value.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Callable, Collection, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path

import numpy as np
import pyarrow as pa

from kerfmark import memory
from kerfmark.errors import Origin, SourceError
from kerfmark.profile.codes import different_rows
from kerfmark.profile.columns import EncodedColumn, trimmed, with_midnights
from kerfmark.profile.convert import integers
from kerfmark.profile.not_data import SAID, Kind, blank_below, group_once, rows_not_data
from kerfmark.profile.skipped import DUPLICATES, KEEP_HEADERS
from kerfmark.profile.spilled import SpilledColumn
from kerfmark.profile.types import INTEGER
from kerfmark.progress import Progress, silent
from kerfmark.read.source import Found, Remark, Source, with_changes
from kerfmark.read.union import parts_of

_WORTH_IT = 16 << 20
"""Bytes that are given back while columns are put together."""
HARDLY_REPEATS = 0.8
"""The share of distinct texts in a batch from which a column is not worth encoding batch by
batch."""


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

    @property
    def headers(self) -> tuple[str, ...]:
        """The headers of its columns."""
        return tuple(c.header for c in self.columns)

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

    def text(self, header: str, record: int) -> str:
        """What a record, as read, has under a header; "" for a blank."""
        at = record if self.records is None else int(np.searchsorted(self.records, record))
        column = self.column(header)
        return "" if column.codes[at] < 0 else str(column.values[int(column.codes[at])].as_py())

    def origin(self, row: int | None = None, header: str | None = None) -> Origin:
        """The place of a row and column."""
        return self.found.origin(None if row is None else self.record(row), header)

    def with_blanks(self, spellings: Collection[str]) -> EncodedSource:
        """The same source with some spellings read as blank."""
        return (
            replace(self, columns=[c.without(sorted(spellings)) for c in self.columns])
            if spellings
            else self
        )

    def trimmed(self, trim: bool = True) -> EncodedSource:
        """The same source (if it is to be) without spaces at the ends of its cells; cells of spaces
        alone are blank."""
        if not trim:
            return self
        return replace(self, columns=[trimmed(c) for c in self.columns])

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

    def without_duplicates(self) -> EncodedSource:
        """The same source, read without rows that are the same as an earlier one."""
        again = _duplicates(self.columns, np.ones(self.rows, bool))
        if not len(again):
            return self
        keep = np.ones(self.rows, bool)
        keep[again] = False
        remark = Remark(
            "odd",
            None,
            f"{SAID['duplicates']}: left out",
            tuple(self.origin(int(r)).row or 0 for r in again[:TOLD]),
            len(again),
            f'to keep it, take "{DUPLICATES}" out of skip_rows in the layout',
        )
        rules = self.source.rules
        rules = rules._replace(skip_rows=(*rules.skip_rows, DUPLICATES))
        picked = self.pick(keep)
        found = replace(self.found, remarks=(*self.found.remarks, remark))
        return replace(picked, source=with_changes(self.source, rules=rules), found=found)

    def column(self, header: str) -> EncodedColumn:
        """The column of a header."""
        return self.columns[self._places[header]]

    @cached_property
    def _places(self) -> dict[str, int]:
        return {h: i for i, h in enumerate(self.headers)}


TOLD = 10
"""Rows that are named in a remark."""


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
        return [c if i in plain else _encode_batch(c) for i, c in enumerate(batch.columns)]

    before = _states(source)
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
                memory.give_back()
            pieces.clear()
        plain |= {
            i
            for i, c in enumerate(piece.result)
            if pa.types.is_dictionary(c.type) and len(c.dictionary) > HARDLY_REPEATS * len(c)
        }
        rows += piece.rows
        progress(f"reading {source.name}", rows, 0)
    for part, then, now in zip(parts_of(source), before, _states(source), strict=True):
        if then != now:
            raise SourceError(
                "the file has changed while it was read",
                code="source.changing",
                origin=part.origin(),
                why="another program is writing to it",
                next="run the command again when the file is complete",
            )
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
        return _by_rules(EncodedSource(source, batches.found, rows, columns))
    chunks = [[piece[i] for piece in pieces] for i in range(len(source.headers))]
    pieces.clear()
    memory.give_back()  # the threads that have read keep what they had
    whole = [_encode_whole if i in plain else _unify for i in range(len(chunks))]
    with ThreadPoolExecutor(2) as pool:
        columns = list(pool.map(_into_one, whole, source.headers, chunks))
    memory.give_back()
    return _by_rules(EncodedSource(source, batches.found, rows, columns))


def _states(source: Source) -> list[tuple[int, ...]]:
    """What tells for each file of a source whether it is still as it was; nothing for what is no
    file."""
    out: list[tuple[int, ...]] = []
    for part in parts_of(source):
        try:
            found = Path(part.location).stat()
            out.append((found.st_size, found.st_mtime_ns, found.st_ino))
        except (OSError, ValueError):
            out.append(())
    return out


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


def _by_rules(encoded: EncodedSource) -> EncodedSource:
    """A source as its rules about rows make it: without those that are not data, and filled down;
    with what is told of them."""
    source, rows = encoded.source, encoded.rows
    for column in encoded.columns:
        column.spelled = source.spells_numbers
    if source.spells_numbers:
        encoded = replace(encoded, columns=[with_midnights(c) for c in encoded.columns])
    keep = np.ones(rows, bool)
    start, remarks = 0, list(encoded.found.remarks)
    for part, found, count in encoded.parts():
        here = keep[start : start + count]
        _skip_named(part.rules.skip_rows, found, here)
        columns = [c for c in encoded.columns if c.header in part.headers]
        if len(keep) != count:
            columns = [replace(c, codes=c.codes[start : start + count]) for c in columns]
        for kind, at in rows_not_data(columns, count).items():
            at = at[here[at]]
            out = kind in part.rules.skip_rows or (
                kind == "headers" and KEEP_HEADERS not in part.rules.skip_rows
            )
            if len(at):
                remark = _not_data(kind, at, out, found)
                file = f"{part.origin().file}: " if encoded.found.parts else ""
                remarks.append(replace(remark, what=f"{file}{remark.what}"))
            if out:
                here[at] = False
        if DUPLICATES in part.rules.skip_rows and len(at := _duplicates(columns, here)):
            remarks.append(_not_data("duplicates", at, True, found))
            here[at] = False
        start += count
    first_rows_of_parts = np.cumsum([np.count_nonzero(some) for some in _of_parts(keep, encoded)])
    if not keep.all():
        encoded = encoded.pick(keep)
    _fill_down(encoded, np.append(0, first_rows_of_parts[:-1]))
    if grouped := group_once(encoded.columns, encoded.rows):
        remarks.append(_blank_below(encoded, grouped))
    if remarks:
        encoded.found = replace(encoded.found, remarks=tuple(remarks))
    return encoded


def _skip_named(skip_rows: Sequence[str], found: Found, keep: np.ndarray) -> None:
    """Marks the rows of a part that are named by their places as not to be kept."""
    count = len(keep)
    for said in skip_rows:
        if said[0] == "-":
            keep[-int(said[1:]) : count - int(said[1:]) + 1] = False
        elif said[0] == ">":
            keep[int(said[1:]) :] = False
        elif said[0].isdigit():
            first, dash, last = said.partition("-")
            until = count if dash and not last else _before(found, count, int(last or first) + 1)
            keep[_before(found, count, int(first)) : until] = False


def _duplicates(columns: Sequence[EncodedColumn], here: np.ndarray) -> np.ndarray:
    """The rows, of those that are kept, that are the same as an earlier one."""
    rows = np.flatnonzero(here)
    first = different_rows([c.codes[rows] for c in columns], [len(c.values) for c in columns])
    return np.setdiff1d(rows, rows[first]) if first is not None else np.empty(0, np.int64)


def _of_parts(keep: np.ndarray, encoded: EncodedSource) -> list[np.ndarray]:
    """The rows of each part."""
    return np.split(keep, np.cumsum([count for _, _, count in encoded.parts()])[:-1])


def _fill_down(encoded: EncodedSource, starts: np.ndarray) -> None:
    """Fills the columns that each part (from one of the `starts` on) says are to be filled down: a
    group begins where the first of them is filled, and all its rows have what its first row has."""
    ends = [*starts[1:].tolist(), encoded.rows]
    for (part, _, _), start, end in zip(encoded.parts(), starts.tolist(), ends, strict=True):
        wanted = part.rules.fill_down
        filled = [i for i, c in enumerate(encoded.columns) if c.header in wanted]
        if not filled or start == end:
            continue
        leading = min(filled, key=lambda i: wanted.index(encoded.columns[i].header))
        begins = encoded.columns[leading].codes[start:end] >= 0
        begins[0] = True
        first = np.maximum.accumulate(np.where(begins, np.arange(end - start), 0))
        for i in filled:
            column = encoded.columns[i]
            codes, here = column.codes.copy(), column.codes[start:end]
            codes[start:end] = np.where(here < 0, here[first], here)
            encoded.columns[i] = replace(column, codes=codes)


def _blank_below(encoded: EncodedSource, grouped: Sequence[EncodedColumn]) -> Remark:
    """What is told of columns that are filled in the first row of each group only."""
    blank = np.flatnonzero(grouped[0].codes < 0)
    rows = [encoded.origin(int(r)).row or 0 for r in blank[:TOLD]]
    return blank_below([c.header for c in grouped], rows, len(blank))


def _not_data(kind: Kind, at: np.ndarray, out: bool, found: Found) -> Remark:
    """What is told of rows that are not data, and `out` of the source or not."""
    rows = tuple(found.origin(int(r)).row or 0 for r in at[:TOLD])
    if kind == "headers":
        return Remark(
            "odd",
            None,
            f"{SAID[kind]}{': left out' if out else ''}",
            rows,
            len(at),
            f"use --skip-rows {KEEP_HEADERS} if they are data" if out else "",
        )
    if out:
        return Remark("odd", None, f"{SAID[kind]}: left out as asked", rows, len(at))
    return Remark(
        "doubtful", None, SAID[kind], rows, len(at), f"--skip-rows {kind} leaves them out", kind
    )


def _before(found: Found, count: int, row: int) -> int:
    """How many of the `count` records of a source are before a row, as a person counts."""
    return bisect_left(range(count), row, key=lambda r: found.origin(r).row or 0)


def records_of(encoded: EncodedSource, places: Sequence[tuple[str, str, int]]) -> np.ndarray:
    """The records, as read, at places (file, sheet or "", row), ascending; places without a record
    are left out."""
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


def _into_one(
    into: Callable[[str, list[pa.Array]], EncodedColumn], header: str, chunks: list[pa.Array]
) -> EncodedColumn:
    """One column from its chunks, whose memory is given back."""
    column = into(header, chunks)
    memory.give_back(_WORTH_IT)
    return column


def _encode_batch(cells: pa.StringArray) -> pa.DictionaryArray:
    """Some cells of a column, encoded. Their codes have as few bytes as the texts of the batch
    allow: until the whole is read, they are what takes most of the memory."""
    encoded = cells.dictionary_encode()
    for narrow, most in ((pa.int8(), 1 << 7), (pa.int16(), 1 << 15)):
        if len(encoded.dictionary) <= most:
            return pa.DictionaryArray.from_arrays(encoded.indices.cast(narrow), encoded.dictionary)
    return encoded


def _unify(header: str, chunks: list[pa.DictionaryArray]) -> EncodedColumn:
    """One column from its encoded chunks, whose dictionaries differ. Each is given up as soon as
    its codes are part of the whole."""
    codes = memory.room(sum(map(len, chunks)), np.int32)
    if not chunks:
        return EncodedColumn(header, pa.array([], pa.string()), codes)
    texts = pa.chunked_array(
        [
            pa.DictionaryArray.from_arrays(
                pa.array(np.arange(len(c.dictionary), dtype=np.int32)), c.dictionary
            )
            for c in chunks
        ]
    ).unify_dictionaries()
    chunks.reverse()
    start = 0
    for part in texts.chunks:
        here = chunks.pop().indices
        own = (here.fill_null(-1) if here.null_count else here).to_numpy()
        # a blank is the code -1, and so the last place of what the codes become
        codes[start : start + len(own)] = np.append(part.indices.to_numpy(), np.int32(-1))[own]
        start += len(own)
    return EncodedColumn(header, texts.chunk(0).dictionary, codes)


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
