"""Delimited text files, read in chunks that end at the end of a record, several chunks at a time.

Promises: 1. no record is cut in two, whatever stands in quotes; 2. every record has as many fields as the header, or
the file is refused with the rows; 3. rows without any content are skipped, and counted in the row numbers; 4. memory
holds a few chunks, never the file.
"""

from __future__ import annotations

import csv
import hashlib
import io
import itertools
import re
from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, NoReturn, TypeVar

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pv

from kerfmark.errors import DataRefused, Origin, SourceError, counted
from kerfmark.read.dialect import Dialect, decode_sample, find_dialect, read_sample
from kerfmark.read.packed import Bytes, text_files
from kerfmark.read.source import Piece, RowNumbers, distinct_headers, header_told

T = TypeVar("T")

BLOCK = 4 << 20
"""Bytes read at a time: small enough to stay in the processor's cache while being cut into fields."""
LONGEST_RECORD = 256 << 20
"""Bytes after which a record without an end is refused."""
RAGGED_SHOWN = 10
DELIMITER_NAMES = {",": "commas", ";": "semicolons", "\t": "tabs", "|": "bars", "^": "carets"}


@dataclass(frozen=True)
class _Parsed:
    """What a worker made of one chunk."""

    result: Any
    rows: int
    physical: int
    blank: np.ndarray
    ragged: list[tuple[int, int]]
    digest: bytes


@dataclass(frozen=True)
class _BadBytes:
    """Bytes that are no text in the file's encoding: the line of the chunk (0-based) and the bytes."""

    line: int
    bytes: bytes


class DelimitedSource:
    """A delimited text file (see `read.source.Source`)."""

    def __init__(self, source: Bytes | Path, dialect: Dialect | None = None, name: str | None = None) -> None:
        self.bytes = text_files(source)[0] if isinstance(source, Path) else source
        self.path, self.name = self.bytes.path, name or self.bytes.stem
        self.dialect = dialect or find_dialect(self.bytes)
        sample = read_sample(self.bytes)
        text = decode_sample(sample, self.dialect.encoding, Origin(self.bytes.name))
        self._newline = _line_end(text)
        header_row = self.dialect.header_row
        first = _record(text, self.dialect, max(header_row, 1))
        self.headers = distinct_headers(first if header_row else [""] * len(first))
        self.numbers = RowNumbers(header_row + 1)
        separated = DELIMITER_NAMES.get(self.dialect.delimiter, self.dialect.delimiter)
        self.how = f"{separated}, {self.dialect.encoding}{header_told(header_row)}"
        self.fingerprint, self.size = "", 0
        self.ragged: list[tuple[int, int]] = []

    def origin(self, record: int | None = None, header: str | None = None) -> Origin:
        """The place of a record and column in the file."""
        return Origin(self.bytes.name, row=None if record is None else self.numbers.row(record), column=header)

    def settings(self) -> dict[str, Any]:
        """The dialect in the layout's words; what is usual is left unsaid."""
        usual, said = Dialect(), {}
        for key in ("delimiter", "quote", "encoding", "header_row"):
            if getattr(self.dialect, key) != getattr(usual, key):
                said[key] = getattr(self.dialect, key)
        return said | ({"member": self.bytes.member} if self.bytes.member else {})

    def map_batches(self, work: Callable[[pa.RecordBatch], T], *, workers: int = 2, strict: bool = True) -> Iterator[Piece]:
        """Applies `work` to every batch in worker threads and yields the results in the order of the file.

        Ragged rows are left out; unless `strict` is false, they are then refused.

        Raises DataRefused for ragged rows, SourceError for bytes that are no text and for a file without rows.
        """
        numbers = replace(self.numbers, skipped=[])
        first = physical = 0
        ragged: list[tuple[int, int]] = []
        digest = hashlib.blake2b(digest_size=16)
        with ThreadPoolExecutor(workers) as pool:
            waiting: deque[Future[_Parsed | _BadBytes]] = deque()
            chunks = self._chunks()
            more = True
            while more or waiting:
                while more and len(waiting) <= workers:
                    chunk = next(chunks, None)
                    more = chunk is not None
                    if chunk is not None:
                        waiting.append(pool.submit(self._parse, chunk[0], chunk[1], work))
                if not waiting:
                    break
                parsed = waiting.popleft().result()
                if isinstance(parsed, _BadBytes):
                    self._refuse_bytes(parsed, numbers.first_row + physical)
                digest.update(parsed.digest)
                ragged += [(physical + at, fields) for at, fields in parsed.ragged]
                numbers.skipped += (parsed.blank + physical).tolist()
                physical += parsed.physical
                if parsed.rows and not (ragged and strict):
                    yield Piece(first, parsed.rows, parsed.result)
                first += parsed.rows
        self.numbers, self.fingerprint = numbers, digest.hexdigest()
        self.ragged = [(numbers.first_row + at, fields) for at, fields in ragged]
        if ragged and strict:
            self._refuse_ragged()
        numbers.skipped = sorted([*numbers.skipped, *(at for at, _ in ragged)])
        if not first:
            raise SourceError(
                "the file has a header but no rows", code="source.no-rows", origin=self.origin(),
                next="check that the export was complete",
            )

    def _chunks(self) -> Iterator[tuple[memoryview, bytes]]:
        """The file after its header as pieces of whole records in UTF-8, each with the bytes read for it."""
        size = 0
        decoder = None if self.dialect.encoding == "utf-8" else _transcoder(self.dialect.encoding)
        rest, started, unhashed = b"", False, b""
        with self.bytes.open() as file:
            while raw := file.read(BLOCK):
                try:
                    text = decoder(raw, False) if decoder else raw
                except UnicodeDecodeError as error:
                    raise self._wrong_encoding(size + error.start, error.reason) from error
                size += len(raw)
                data = rest + text if rest else text
                if not started:
                    data, started = self._without_header(data), True
                end = _last_end(data, self.dialect, self._newline)
                if end == 0 and len(data) > LONGEST_RECORD:
                    raise SourceError(
                        f"a record goes on for more than {LONGEST_RECORD >> 20} MB", code="source.endless",
                        origin=Origin(self.bytes.name), why="a quote was probably opened and never closed",
                        next="look for a lone quote character, or say that there is no quoting",
                    )
                rest, unhashed = data[end:], unhashed + raw
                if end:
                    yield memoryview(data)[:end], unhashed
                    unhashed = b""
        try:
            rest += decoder(b"", True) if decoder else b""
        except UnicodeDecodeError as error:
            raise self._wrong_encoding(size, error.reason) from error
        self.size = size
        if rest or unhashed:
            yield memoryview(rest), unhashed

    def _without_header(self, data: bytes) -> bytes:
        """The start of the file after its byte order mark and its header."""
        data = data.removeprefix(b"\xef\xbb\xbf")
        return data[_records_end(data, self.dialect, self.dialect.header_row):]

    def _wrong_encoding(self, byte: int, reason: str) -> SourceError:
        return SourceError(
            f'the file is not in the encoding "{self.dialect.encoding}"', code="source.encoding",
            origin=Origin(self.bytes.name), why=f"near byte {byte + 1:,}: {reason}",
            next="name the right one with --encoding",
        )

    def _parse(
        self, chunk: memoryview, raw: bytes, work: Callable[[pa.RecordBatch], T]
    ) -> _Parsed | _BadBytes:
        """One chunk of whole records as a batch, and what `work` makes of it. Runs in a worker thread."""
        digest = hashlib.blake2b(raw, digest_size=16).digest()
        if not len(chunk):
            return _Parsed(None, 0, 0, np.empty(0, np.int64), [], digest)
        ragged: list[tuple[int, int]] = []

        def skip(row: Any) -> str:
            ragged.append((row.number - 1, row.actual_columns))
            return "skip"

        names = [str(i) for i in range(len(self.headers))]
        try:
            table = pv.read_csv(
                pa.BufferReader(pa.py_buffer(chunk)),
                read_options=pv.ReadOptions(column_names=names, use_threads=False, block_size=len(chunk) + 1),
                parse_options=pv.ParseOptions(
                    delimiter=self.dialect.delimiter, quote_char=self.dialect.quote or False,
                    newlines_in_values=bool(self.dialect.quote), ignore_empty_lines=False, invalid_row_handler=skip,
                ),
                convert_options=pv.ConvertOptions(
                    column_types=dict.fromkeys(names, pa.string()), strings_can_be_null=True, null_values=[""]
                ),
            )
        except pa.ArrowInvalid as error:
            bad = _bad_bytes(bytes(chunk))
            if bad is None:
                raise SourceError("the file cannot be cut into fields", code="source.parse", why=str(error),
                                  origin=Origin(self.bytes.name)) from error
            return bad
        batch = table.combine_chunks().to_batches()[0] if table.num_rows else pa.RecordBatch.from_pylist([], table.schema)
        physical = batch.num_rows + len(ragged)
        blank = _blank_rows(batch)
        if len(blank):
            keep = np.ones(batch.num_rows, bool)
            keep[blank] = False
            batch = batch.filter(pa.array(keep))
        return _Parsed(work(batch) if batch.num_rows else None, batch.num_rows, physical, blank, ragged, digest)

    def _refuse_ragged(self) -> NoReturn:
        expected, ragged = len(self.headers), self.ragged
        raise DataRefused(
            f"{counted(len(ragged), 'row has', 'rows have')} not as many fields as the header",
            code="data.ragged",
            origin=Origin(self.bytes.name, row=ragged[0][0]),
            more=[f"row {row:,}: {counted(fields, 'field')} instead of {expected}" for row, fields in ragged[:RAGGED_SHOWN]],
            total=len(ragged),
            why=f"the header names {expected} columns, separated by {self.dialect.delimiter!r}",
            next="mend those rows; a field that holds the delimiter must stand in quotes",
        )

    def _refuse_bytes(self, bad: _BadBytes, first_row: int) -> NoReturn:
        raise SourceError(
            f"{bad.bytes!r} is not {self.dialect.encoding.upper()} text", code="source.encoding",
            origin=Origin(self.bytes.name, row=first_row + bad.line),
            why="the file looked like it at first, but other bytes follow",
            next="save the file as UTF-8, or name its encoding with --encoding",
        )


def _line_end(text: str) -> bytes:
    """What ends the lines of a text: a newline, or a carriage return where there is no newline."""
    return b"\r" if "\n" not in text and "\r" in text else b"\n"


def _record(text: str, dialect: Dialect, number: int) -> list[str]:
    """The cells of a record, counted from 1."""
    rows = csv.reader(io.StringIO(text, newline=""), delimiter=dialect.delimiter, quotechar=dialect.quote or None,
                      quoting=csv.QUOTE_MINIMAL if dialect.quote else csv.QUOTE_NONE)
    csv.field_size_limit(LONGEST_RECORD)
    return next(itertools.islice(rows, number - 1, None), [])


def _records_end(data: bytes, dialect: Dialect, count: int) -> int:
    """Where so many records end: after as many line ends that are not in quotes."""
    if not count:
        return 0
    quote = dialect.quote.encode()
    inside = False
    for found in re.finditer(rb"\r\n|\n|\r|" + re.escape(quote) if quote else rb"\r\n|\n|\r", data):
        if found[0] == quote:
            inside = not inside
        elif not inside:
            count -= 1
            if not count:
                return found.end()
    return len(data)


def _last_end(data: bytes, dialect: Dialect, newline: bytes) -> int:
    """Where the last complete record of `data` ends (0: none does). `data` starts at the start of a record."""
    end = data.rfind(newline) + 1
    if not dialect.quote or not end:
        return end
    cells = np.frombuffer(data, np.uint8)
    quotes = np.flatnonzero(cells == ord(dialect.quote))
    if not len(quotes):
        return end
    if _has_stray_quotes(cells, quotes, dialect):
        return _scanned_end(data, dialect, newline)
    while end and np.searchsorted(quotes, end) % 2:     # inside quotes: go back to a line end that is not
        end = data.rfind(newline, 0, end - 1) + 1
    return end


def _has_stray_quotes(cells: np.ndarray, quotes: np.ndarray, dialect: Dialect) -> bool:
    """Whether some quote neither opens nor closes a field nor is doubled, as in `5" pipe`."""
    usual = np.zeros(256, bool)
    usual[[ord(dialect.delimiter), ord(dialect.quote), 10, 13]] = True
    before, after = usual[cells[quotes - 1]], usual[cells[(quotes + 1) % len(cells)]]
    return not bool((before | after | (quotes == 0) | (quotes == len(cells) - 1)).all())


def _scanned_end(data: bytes, dialect: Dialect, newline: bytes) -> int:
    """The same as `_last_end` by reading field after field: slower, but a quote counts only where a field starts."""
    d, q = re.escape(dialect.delimiter.encode()), re.escape(dialect.quote.encode())
    n = re.escape(newline)
    fields = re.compile(b"(?:" + q + b"(?:[^" + q + b"]|" + q + q + b")*" + q + b")?[^" + d + n + b"]*(" + d + b"|" + n + b")")
    end = at = 0
    opening = dialect.quote.encode()
    while found := fields.match(data, at):
        if data[at:at + 1] == opening and found[0].count(opening) < 2:
            break                                       # a quoted field that does not end in this chunk
        at = found.end()
        if found[1] == newline:
            end = at
    return end


def _transcoder(encoding: str) -> Callable[[bytes, bool], bytes]:
    """A function from bytes in some encoding to bytes in UTF-8, chunk by chunk."""
    import codecs

    decoder = codecs.getincrementaldecoder(encoding)()
    fresh = True

    def transcode(raw: bytes, final: bool) -> bytes:
        nonlocal fresh
        text = decoder.decode(raw, final)
        if fresh and text:
            text, fresh = text.removeprefix("\ufeff"), False
        return text.encode("utf-8", "surrogatepass")

    return transcode


def _blank_rows(batch: pa.RecordBatch) -> np.ndarray:
    """The numbers of the rows in which every cell is blank."""
    rows: np.ndarray | None = None
    for column in batch.columns:
        if column.null_count == 0:
            return np.empty(0, np.int64)
        blank = pc.is_null(column if rows is None else column.take(pa.array(rows))).to_numpy(zero_copy_only=False)
        rows = np.flatnonzero(blank) if rows is None else rows[blank]
        if not len(rows):
            break
    return np.empty(0, np.int64) if rows is None else rows


def _bad_bytes(chunk: bytes) -> _BadBytes | None:
    """The first bytes of a chunk that are no UTF-8."""
    try:
        chunk.decode()
    except UnicodeDecodeError as error:
        return _BadBytes(chunk.count(b"\n", 0, error.start), chunk[error.start:error.end])
    return None
