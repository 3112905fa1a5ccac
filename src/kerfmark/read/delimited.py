"""Text files with delimiters or fixed widths, read in chunks that end at the end of a record,
several chunks at a time.

Promises: 1. no record is cut in two, whatever is in quotes; 2. every record has as many fields
as the header, or the file is refused with the rows; 3. rows without any content are skipped, and
counted in the row numbers; 4. memory holds a few chunks, never the file.
"""

from __future__ import annotations

import io
from collections import deque
from collections.abc import Callable, Generator, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, BinaryIO, NoReturn, TypeVar, cast

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pv
import xxhash

from kerfmark.errors import DataRefused, Origin, SourceError, counted
from kerfmark.read.archives import Bytes, text_files
from kerfmark.read.dialect import (
    SAMPLE,
    WRITTEN,
    Dialect,
    find_dialect,
    read_sample,
    sample_records,
)
from kerfmark.read.encoding import MIXED, decode_sample
from kerfmark.read.header import full_header, plain_names, usual_width
from kerfmark.read.letters import guess_code_page
from kerfmark.read.records import (
    last_end,
    line_end,
    misquoted_records,
    records_end,
    transcoder,
    unclosed_record,
)
from kerfmark.read.ruled import without_rules
from kerfmark.read.source import (
    Batches,
    Found,
    Piece,
    RaggedRow,
    Remark,
    RowNumbers,
    RowRules,
    correct_ragged,
    distinct_headers,
    header_remarks,
    header_told,
)
from kerfmark.read.text_blocks import only_block
from kerfmark.read.text_style import find_style

T = TypeVar("T")

BLOCK = 4 << 20
"""Bytes read at a time: small enough to stay in the processor's cache while being cut into
fields."""
LONGEST_RECORD = 64 << 20
"""Bytes after which a record without an end is refused."""
RAGGED_SHOWN = 10
LONGEST_WORD = 40
"""Bytes of a word that is shown, on either side of one that is not text."""
DELIMITER_NAMES = {",": "commas", ";": "semicolons", "\t": "tabs", "|": "bars", "^": "carets"}


@dataclass(frozen=True)
class _Parsed:
    """What a worker made of one chunk."""

    result: Any
    rows: int
    physical: int
    blank: np.ndarray
    ragged: list[tuple[int, int, str]]
    misquoted: list[int]
    bad: list[tuple[int, bytes]]
    digest: bytes
    size: int
    unclosed: int | None = None


_NOTHING = np.empty(0, np.int64)
_BOM = b"\xef\xbb\xbf"
"""A byte order mark in UTF-8. The library takes one at the beginning of a chunk for no text."""


class DelimitedSource:
    """A delimited text file (see `read.source.Source`)."""

    spells_numbers = False

    def __init__(
        self, source: Bytes | Path, dialect: Dialect | None = None, name: str | None = None
    ) -> None:
        self.file = self.bytes = text_files(source)[0] if isinstance(source, Path) else source
        self.location, self.name = str(self.bytes.path), name or self.bytes.stem
        self.dialect = dialect or find_dialect(self.bytes)
        if self.dialect.ruled:
            self.bytes = without_rules(self.bytes, not self.dialect.edges)
        self._above = 0
        if self.dialect.block:
            self.bytes, block = only_block(self.bytes, self.dialect)
            self._above = block.top
            self.name = name or block.title or f"{self.bytes.stem} {self.dialect.block}"
        sample = read_sample(self.bytes)
        text = decode_sample(sample, self.dialect.encoding, Origin(self.bytes.name))
        self._newline = line_end(text)
        header_row, over = self.dialect.header_row, self.dialect.header_rows
        top = sample_records(text, self.dialect)
        below = header_row + over - 1
        cells = (
            full_header(
                [plain_names(record) for record in top[header_row - 1 : below]], top[below:]
            )
            if header_row
            else [""] * usual_width([r for r in top if r] or top)
        )
        self.headers = distinct_headers(cells)
        self._style = find_style(
            sample,
            text,
            self.headers,
            "" if self.dialect.edges else self.dialect.delimiter,
            self.dialect.quoted,
            self.dialect.escape,
            self.dialect.header_row,
            self.dialect.header_rows,
        )
        self._first_row = self._above + (header_row + over if header_row else 1)
        self.how = (
            f"{_separated(self.dialect)}, {self.dialect.encoding}{header_told(header_row, over)}"
            + (f", table {self.dialect.block} in it" if self.dialect.block else "")
        )
        self.rules = RowRules()
        self.has_rows = len(sample) >= SAMPLE or any(map(any, top[below:]))
        self.may_be_empty = False  # a table may have no rows; a file that came in should
        self._of_start = [
            *self.dialect.remarks,
            *self.dialect.of_header,
            *(header_remarks(cells, self.headers, self._above + header_row) if header_row else []),
        ]

    def origin(self, header: str | None = None) -> Origin:
        """The place of a column of the file."""
        return Origin(self.bytes.name, column=header)

    def settings(self) -> dict[str, Any]:
        """The dialect in the layout's words; what is usual is left unsaid."""
        usual, said = Dialect(), {}
        for key in WRITTEN:
            if getattr(self.dialect, key) != getattr(usual, key):
                said[key] = getattr(self.dialect, key)
        return said | ({"member": self.bytes.member} if self.bytes.member else {})

    def map_batches(
        self, work: Callable[[pa.RecordBatch], T], *, workers: int = 2, strict: bool = True
    ) -> Batches:
        """Applies `work` to every batch in worker threads and gives the results in the order of the
        file.

        Ragged rows are left out and bytes that are not text replaced; unless `strict` is false,
        they are then refused.

        Raises DataRefused for rows that cannot be read right, SourceError for bytes that are no
        text and for a file without rows.
        """
        return Batches(self._pieces(work, workers, strict))

    def _pieces(
        self, work: Callable[[pa.RecordBatch], T], workers: int, strict: bool
    ) -> Generator[Piece, None, Found]:
        numbers, size = RowNumbers(self._first_row), 0
        first = physical = 0
        ragged: list[tuple[int, int, str]] = []
        misquoted: list[int] = []
        bad: list[tuple[int, bytes]] = []
        unclosed: list[int] = []
        digest, ended = xxhash.xxh3_128(), True
        with ThreadPoolExecutor(workers) as pool:
            waiting: deque[Future[_Parsed]] = deque()
            chunks = self._chunks()
            more = True
            while more or waiting:
                while more and len(waiting) <= workers:
                    chunk = next(chunks, None)
                    more = chunk is not None
                    if chunk is not None:
                        ended = not (chunk[3] and len(chunk[0]))
                        waiting.append(pool.submit(self._parse, chunk, work))
                if not waiting:
                    break
                parsed = waiting.popleft().result()
                bad += [(numbers.first_row + physical + line, some) for line, some in parsed.bad]
                if bad and strict:
                    self._refuse_bytes(bad)
                if parsed.unclosed is not None:
                    unclosed.append(numbers.first_row + physical + parsed.unclosed)
                digest.update(parsed.digest)
                size += parsed.size
                ragged += [(physical + at, fields, text) for at, fields, text in parsed.ragged]
                misquoted += [numbers.first_row + physical + at for at in parsed.misquoted]
                numbers.skipped += (parsed.blank + physical).tolist()
                physical += parsed.physical
                if parsed.rows and not (
                    ((ragged and not self.rules.skip_rows) or misquoted) and strict
                ):
                    yield Piece(first, parsed.rows, parsed.result)
                first += parsed.rows
        named = [_span(said) for said in self.rules.skip_rows if said[0].isdigit()]
        uneven = [
            RaggedRow(numbers.first_row + at, fields, text, self.bytes.name)
            for at, fields, text in ragged
            if not any(numbers.first_row + at in span for span in named)
        ]
        notes = [r.row for r in uneven if r.fields == 1 and "notes" in self.rules.skip_rows]
        rows = tuple(r for r in uneven if r.row not in notes)
        if unclosed and strict:
            self._refuse_unclosed(unclosed[0])
        if rows and strict:
            self._refuse_ragged(rows)
        if misquoted and strict:
            self._refuse_misquoted(misquoted)
        blank = len(numbers.skipped)
        numbers.skipped = sorted([*numbers.skipped, *(at for at, _, _ in ragged)])

        def origin(record: int | None, header: str | None) -> Origin:
            return Origin(
                self.bytes.name, row=None if record is None else numbers.row(record), column=header
            )

        return Found(
            digest.hexdigest(),
            size,
            origin,
            blank,
            rows,
            (*self._of_start, *self._remarks(misquoted, bad, unclosed, notes)),
            rows_in_file=self._first_row - 1 - self._above + physical,
            above=max(self.dialect.header_row - 1, 0),
            header=self.dialect.header_rows if self.dialect.header_row else 0,
            style=replace(self._style, ended=ended),
        )

    def _remarks(
        self,
        misquoted: list[int],
        bad: list[tuple[int, bytes]],
        unclosed: list[int],
        notes: list[int],
    ) -> Iterator[Remark]:
        if notes:
            shown = tuple(notes[:RAGGED_SHOWN])
            yield Remark("odd", None, "notes: left out as asked", shown, len(notes))
        if unclosed:
            yield Remark("broken", None, _UNCLOSED, tuple(unclosed), len(unclosed), _CLOSE)
        if misquoted:
            yield Remark(
                "broken",
                None,
                f"there is text between a closing quote and the next {self.dialect.delimiter!r}",
                tuple(misquoted[:RAGGED_SHOWN]),
                len(misquoted),
                _DOUBLE,
            )
        if bad:
            yield Remark(
                "broken",
                None,
                f"{_shown(bad[0][1])} is not {self.dialect.encoding.upper()} text",
                tuple(dict.fromkeys(row for row, _ in bad[:RAGGED_SHOWN])),
                len(bad),
                _other_encoding(bad),
            )

    def fingerprint(self) -> str:
        """The fingerprint that reading the whole file would tell, without cutting its records."""
        digest = xxhash.xxh3_128()
        for _, raw, _, _ in self._chunks():
            digest.update(xxhash.xxh3_128_digest(raw))
        return digest.hexdigest()

    def _chunks(self) -> Iterator[tuple[memoryview, bytes, bool, bool]]:
        """The file after its header as pieces of whole records in UTF-8, each with the bytes read
        for it, whether its quotes need a closer look, and whether it is the last one."""
        size = 0
        plain = self.dialect.encoding == "utf-8" and (
            bool(self.dialect.edges) or self.dialect.cut_at == self.dialect.delimiter
        )
        decoder = None if plain else transcoder(self.dialect, Origin(self.bytes.name))
        rest, started, unhashed = b"", False, b""
        with self.bytes.open() as file:
            while True:
                data, raw = _read_on(rest, file) if decoder is None else (rest, file.read(BLOCK))
                if not raw:
                    break
                try:
                    data = data if decoder is None else data + decoder(raw, False)
                except UnicodeDecodeError as error:
                    raise self._wrong_encoding(size + error.start, error.reason) from error
                size += len(raw)
                if not started:
                    data, started = self._without_header(data), True
                end, stray = last_end(data, self.dialect, self._newline)
                if end == 0 and len(data) > LONGEST_RECORD:
                    raise SourceError(
                        f"a record goes on for more than {LONGEST_RECORD >> 20} MB",
                        code="source.endless",
                        origin=Origin(self.bytes.name),
                        why="a quote was probably opened and never closed",
                        next="look for an unpaired quote\n"
                        "--quote none, where quotes are plain characters",
                    )
                rest, unhashed = data[end:], b"".join((unhashed, raw)) if unhashed else raw
                if end:
                    yield memoryview(data)[:end], unhashed, stray, False
                    unhashed = b""
        try:
            rest += decoder(b"", True) if decoder else b""
        except UnicodeDecodeError as error:
            raise self._wrong_encoding(size, error.reason) from error
        if rest or unhashed:
            yield (
                memoryview(rest),
                unhashed,
                last_end(rest + self._newline, self.dialect, self._newline)[1],
                True,
            )

    def _without_header(self, data: bytes) -> bytes:
        """The start of the file after its byte order mark and its header."""
        data = data.removeprefix(_BOM)
        header_row = self.dialect.header_row
        return data[
            records_end(
                data, self.dialect, header_row and header_row + self.dialect.header_rows - 1
            ) :
        ]

    def _wrong_encoding(self, byte: int, reason: str) -> SourceError:
        return SourceError(
            f'the file is not in the encoding "{self.dialect.encoding}"',
            code="source.encoding",
            origin=Origin(self.bytes.name),
            why=f"near byte {byte + 1:,}: {reason}",
            next="name the right one with --encoding",
        )

    def _parse(
        self, piece: tuple[memoryview, bytes, bool, bool], work: Callable[[pa.RecordBatch], T]
    ) -> _Parsed:
        """One chunk of whole records as a batch, and what `work` makes of it. Runs in a worker
        thread."""
        chunk, raw, stray, last = piece
        digest = xxhash.xxh3_128_digest(raw)
        if not len(chunk):
            return _Parsed(None, 0, 0, _NOTHING, [], [], [], digest, len(raw))
        bad: list[tuple[int, bytes]] = []
        if not _is_text(chunk):  # first of all: the library's handler of ragged rows needs text
            bad = _bad_bytes(bytes(chunk))
            chunk = memoryview(bytes(chunk).decode("utf-8", "replace").encode())
        try:
            batch, ragged = self._cut(chunk)
        except pa.ArrowInvalid as error:
            raise SourceError(
                "the file cannot be cut into fields",
                code="source.parse",
                why=str(error),
                origin=Origin(self.bytes.name),
                next="name what separates and what quotes its cells, with --delimiter and --quote",
            ) from error
        batch = self._in_columns(batch)
        physical = batch.num_rows + len(ragged)
        blank = _blank_rows(batch)
        if len(blank):
            keep = np.ones(batch.num_rows, bool)
            keep[blank] = False
            batch = batch.filter(pa.array(keep))
        return _Parsed(
            work(batch) if batch.num_rows else None,
            batch.num_rows,
            physical,
            blank,
            ragged,
            misquoted_records(chunk, self.dialect, self._newline) if stray else [],
            bad,
            digest,
            len(raw),
            unclosed_record(chunk, self.dialect, self._newline) if last else None,
        )

    def _cut(self, chunk: memoryview) -> tuple[pa.RecordBatch, list[tuple[int, int, str]]]:
        """A chunk as columns of text, and its ragged rows, which are left out."""
        ragged: list[tuple[int, int, str]] = []

        def skip(row: Any) -> str:
            ragged.append((row.number - 1, row.actual_columns, row.text or ""))
            return "skip"

        names = [str(i) for i in range(1 if self.dialect.edges else len(self.headers))]
        table = pv.read_csv(
            pa.BufferReader(pa.py_buffer(b"".join((_BOM, chunk)) if chunk[:3] == _BOM else chunk)),
            read_options=pv.ReadOptions(
                column_names=names, use_threads=False, block_size=len(chunk) + 4
            ),
            parse_options=pv.ParseOptions(
                delimiter=self.dialect.cut_at,
                quote_char=self.dialect.quoted or False,
                escape_char=self.dialect.escape or False,
                newlines_in_values=bool(self.dialect.quoted),
                ignore_empty_lines=False,
                invalid_row_handler=skip,
            ),
            convert_options=pv.ConvertOptions(
                column_types=dict.fromkeys(names, pa.string()),
                strings_can_be_null=True,
                null_values=[""],
                check_utf8=False,
            ),
        )
        batches = table.to_batches()
        if len(batches) > 1:  # a chunk is one block of the library's
            batches = table.combine_chunks().to_batches()
        return (batches[0] if batches else pa.RecordBatch.from_pylist([], table.schema)), ragged

    def _in_columns(self, batch: pa.RecordBatch) -> pa.RecordBatch:
        """Lines of fixed width cut into columns; and the delimiter put back where it was in
        quotes."""
        if self.dialect.edges:
            lines, ends = batch.column(0), (*self.dialect.edges[1:], None)
            cells = [
                pc.utf8_trim_whitespace(pc.utf8_slice_codeunits(lines, a, b))
                for a, b in zip(self.dialect.edges, ends, strict=True)
            ]
            texts = [pc.if_else(pc.equal(c, ""), pa.scalar(None, pa.string()), c) for c in cells]
            return pa.RecordBatch.from_arrays(texts, names=[str(i) for i in range(len(texts))])
        if self.dialect.cut_at == self.dialect.delimiter:
            return batch
        return pa.RecordBatch.from_arrays(
            [
                pc.replace_substring(c, self.dialect.cut_at, self.dialect.delimiter)
                for c in batch.columns
            ],
            names=batch.schema.names,
        )

    def _refuse_ragged(self, ragged: Sequence[RaggedRow]) -> NoReturn:
        expected = len(self.headers)
        raise DataRefused(
            f"{counted(len(ragged), 'row does', 'rows do')} not have as many fields as the header",
            code="data.ragged",
            origin=Origin(self.bytes.name, row=ragged[0].row),
            more=[f"row {r.row:,} {r.told(expected)}" for r in ragged[:RAGGED_SHOWN]],
            total=len(ragged),
            why=f"the header names {expected} columns, separated by {self.dialect.delimiter!r}",
            next=correct_ragged(ragged),
        )

    def _refuse_misquoted(self, rows: list[int]) -> NoReturn:
        raise DataRefused(
            f"{counted(len(rows), 'row has', 'rows have')} text after a closing quote",
            code="data.misquoted",
            origin=Origin(self.bytes.name, row=rows[0]),
            more=[f"row {row:,}" for row in rows[:RAGGED_SHOWN]],
            total=len(rows),
            why="the quote would be lost: it cannot be told where such a field ends",
            next=_DOUBLE,
        )

    def _refuse_unclosed(self, row: int) -> NoReturn:
        raise DataRefused(
            _UNCLOSED,
            code="data.unclosed",
            origin=Origin(self.bytes.name, row=row),
            why="everything after it would be one cell",
            next=_CLOSE,
        )

    def _refuse_bytes(self, bad: Sequence[tuple[int, bytes]]) -> NoReturn:
        row, some = bad[0]
        raise SourceError(
            f"{_shown(some)} is not {self.dialect.encoding.upper()} text",
            code="source.encoding",
            origin=Origin(self.bytes.name, row=row),
            more=[f"row {row:,}: {_shown(some)}" for row, some in bad[:RAGGED_SHOWN]][1:],
            why="the rest of the file is",
            next=_other_encoding(bad),
        )


_UNCLOSED = "a quote is opened and not closed before the end of the file"
_CLOSE = "close it\n--quote none, where quotes are plain characters"
_DOUBLE = "write a quote inside a quoted field twice"


def _shown(some: bytes) -> str:
    """Bytes that are not UTF-8, among those that are."""
    return f'"{some.decode("utf-8", "backslashreplace")}"'


def _other_encoding(bad: Sequence[tuple[int, bytes]]) -> str:
    """What to do about bytes that are not UTF-8: how they would read in the code page that is most
    likely."""
    guess = guess_code_page({some for _, some in bad})
    reads = bad[0][1].decode(f"{MIXED}{guess.encoding}", "replace")
    return (
        f'--encoding {MIXED}{guess.encoding} reads it, if "{reads}" is right\n'
        "save the file as UTF-8"
    )


def _read_on(rest: bytes, file: BinaryIO) -> tuple[bytes, bytes]:
    """A text that goes on with the next bytes of a file, and these bytes alone."""
    if not isinstance(file, io.BufferedReader):
        raw = file.read(BLOCK)
        return rest + raw, raw
    room = bytearray(len(rest) + BLOCK)  # what is read into it need not be copied
    room[: len(rest)] = rest
    with memoryview(room) as view:
        read = file.readinto(view[len(rest) :])
    del room[len(rest) + read :]
    return cast(bytes, room), cast(bytes, memoryview(room)[len(rest) :])


def _span(said: str) -> range:
    """The rows that `5`, `40-60` or `40-` names."""
    first, dash, last = said.partition("-")
    return range(int(first), 1 << 40 if dash and not last else int(last or first) + 1)


def _separated(dialect: Dialect) -> str:
    """How the fields are told apart, in words."""
    if dialect.edges:
        ruled = " and ruling lines" if dialect.ruled else ""
        return f"fixed widths{ruled}, columns at {', '.join(str(e + 1) for e in dialect.edges)}"
    said = DELIMITER_NAMES.get(dialect.delimiter, f'"{dialect.delimiter}"')
    said += " and ruling lines" if dialect.ruled else ""
    return said + (", backslash escapes" if dialect.escape == "\\" else "")


def _blank_rows(batch: pa.RecordBatch) -> np.ndarray:
    """The numbers of the rows in which every cell is blank."""
    rows: np.ndarray | None = None
    for column in batch.columns:
        if column.null_count == 0:
            return np.empty(0, np.int64)
        blank = pc.is_null(column if rows is None else column.take(pa.array(rows))).to_numpy(
            zero_copy_only=False
        )
        rows = np.flatnonzero(blank) if rows is None else rows[blank]
        if not len(rows):
            break
    return np.empty(0, np.int64) if rows is None else rows


def _is_text(chunk: memoryview) -> bool:
    """Whether some bytes are UTF-8."""
    if cast(bytes, chunk.obj).isascii():
        return True
    ends = pa.py_buffer(np.array([0, len(chunk)], np.int32))
    try:
        pa.Array.from_buffers(pa.string(), 1, [None, ends, pa.py_buffer(chunk)]).validate(full=True)
    except pa.ArrowInvalid:
        return False
    return True


def _bad_bytes(chunk: bytes) -> list[tuple[int, bytes]]:
    """The words of a chunk with bytes that are not UTF-8, each with the line (0-based) that it is
    in; the first hundred."""
    out: list[tuple[int, bytes]] = []
    start = 0
    while len(out) < 100:
        try:
            chunk[start:].decode()
            break
        except UnicodeDecodeError as error:
            at = start + error.start
            first, last = at, start + error.end
            while first > 0 and at - first < LONGEST_WORD and chunk[first - 1] > ord("@"):
                first -= 1
            while last < len(chunk) and last - at < LONGEST_WORD and chunk[last] > ord("@"):
                last += 1
            out.append((chunk.count(b"\n", 0, at), chunk[first:last]))
            start = last
    return out
