"""JSON as records: one after the other (JSON Lines, or records over several lines), or in one
array.

Numbers keep the digits they are written with: before Arrow's reader sees a block of records, every
number outside of strings is put in quotes. The file is read in blocks of whole records, so memory
holds a few blocks.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import pyarrow as pa
import pyarrow.json as pj

from kerfmark.errors import Origin, SourceError, counted
from kerfmark.read.archives import Bytes
from kerfmark.read.json_shapes import as_records

BLOCK = 4 << 20
LONGEST_RECORD = 64 << 20
DEEPEST = 64
"""How deep lists and records may lie in each other."""
_NEWLINE, _QUOTE, _BACKSLASH, _SPACE = 10, 34, 92, 32
_OPEN, _SHUT = (ord("{"), ord("[")), (ord("}"), ord("]"))


class TooDeep(ValueError):
    """Lists and records that lie deeper in each other than is read."""

    def __init__(self) -> None:
        super().__init__(f"lists and records lie more than {DEEPEST} deep in each other")


class JsonFile:
    """A file of JSON records (see `read.nested.Records`)."""

    def __init__(self, source: Bytes) -> None:
        source, shape = as_records(source)
        self._bytes, self.path = source, source.path
        with source.open() as file:
            start = file.read(1 << 16).removeprefix(b"\xef\xbb\xbf").lstrip()
        self._array = start[:1] == b"["
        self.how = "a JSON array" if self._array else "JSON records"
        if shape:
            self.how = f"JSON, {shape}"
        self._schema: pa.Schema | None = None

    def schema(self) -> pa.Schema:
        """The fields of all records: a first reading of the whole file, since a field may come
        late."""
        if self._schema is None:
            schemas = [_plain(self._parse(block, None, at).schema) for at, block in self._blocks()]
            if not schemas:
                raise SourceError(
                    "the file is empty",
                    code="source.empty",
                    origin=Origin(self._bytes.name),
                    why="it holds no records",
                    next="fetch it again, or leave it out",
                )
            try:
                self._schema = with_texts(pa.unify_schemas(schemas, promote_options="permissive"))
            except pa.ArrowException as error:
                raise self._uneven(str(error)) from error
        return self._schema

    def batches(self) -> Iterator[pa.RecordBatch]:
        """The records."""
        schema = self.schema()
        for at, block in self._blocks():
            yield from self._parse(block, schema, at).combine_chunks().to_batches()

    def _parse(self, block: bytes, schema: pa.Schema | None, at: int) -> pa.Table:
        self._refuse_bytes(block, at)
        options = pj.ParseOptions(
            newlines_in_values=True,
            explicit_schema=schema,
            unexpected_field_behavior="error" if schema else "infer",
        )
        try:
            return pj.read_json(
                pa.BufferReader(block),
                pj.ReadOptions(use_threads=False, block_size=len(block) + 1),
                options,
            )
        except pa.ArrowInvalid as error:
            if "Column" in str(error) and "changed from" in str(error):
                raise self._uneven(str(error)) from error
            twice = "was specified twice" in str(error)
            raise SourceError(
                "this is not JSON records",
                code="source.json",
                origin=Origin(self._bytes.name),
                why=f"in the records from number {at + 1:,} on: {str(error).split(chr(10))[0]}",
                next="give each field of a record a name of its own"
                if twice
                else "write every record as an object in braces",
            ) from error

    def _refuse_bytes(self, block: bytes, at: int) -> None:
        if block.isascii():
            return
        try:
            block.decode()
        except UnicodeDecodeError as error:
            raise SourceError(
                f"the byte {block[error.start]:02X} is not UTF-8 text",
                code="source.encoding",
                origin=Origin(self._bytes.name),
                why=f"near record {at + 1 + block.count(b'}', 0, error.start):,}; "
                "JSON is always UTF-8",
                next="save the file as UTF-8",
            ) from error

    def _uneven(self, why: str) -> SourceError:
        return SourceError(
            "a field holds one kind of thing in one record and another in another",
            code="source.json",
            origin=Origin(self._bytes.name),
            why=why.split("\n")[0],
            next="write the field the same way in every record",
        )

    def _blocks(self) -> Iterator[tuple[int, bytes]]:
        """The records in blocks of whole ones, separated by line ends, with the number of the first
        (from 0)."""
        rest, count, outside = b"", 0, 1 if self._array else 0
        fresh, ended = True, False
        with self._bytes.open() as file:
            while not ended:
                raw = file.read(BLOCK)
                ended = not raw
                data = rest + raw
                if fresh and data.strip():
                    data = data.removeprefix(b"\xef\xbb\xbf").lstrip()
                    data, fresh = (data[1:] if outside else data), False
                try:
                    end, number, block = _records(data, bool(outside))
                except TooDeep as error:
                    raise SourceError(
                        "this is nested too deeply",
                        code="source.deep",
                        origin=Origin(self._bytes.name),
                        why=f"in the records from number {count + 1:,} on {error}",
                        next="write the file with fewer levels",
                    ) from error
                if end:
                    yield count, block
                    count, data = count + number, data[end:]
                rest = data
                if len(rest) > LONGEST_RECORD:
                    raise SourceError(
                        f"a record goes on for more than {LONGEST_RECORD >> 20} MB",
                        code="source.endless",
                        origin=Origin(self._bytes.name),
                        why="a brace or a quote was probably never closed",
                        next="close it, or fetch the file again",
                    )
        left = rest.strip().strip(b",").strip()
        if left not in (b"", b"]"):
            raise SourceError(
                "the JSON is cut off, or it holds something other than records",
                code="source.json",
                origin=Origin(self._bytes.name),
                why=f"after {counted(count, 'record')} comes {_shown(left)}",
                next="fetch the file again, or write it as one object per record",
            )


def _shown(data: bytes) -> str:
    """The beginning of some text."""
    return '"' + data[:40].decode("utf-8", "replace") + ("..." if len(data) > 40 else "") + '"'


def refuse_depth(data: bytes) -> None:
    """Raises TooDeep where lists and records lie too deep in each other."""
    if data.count(b"[") + data.count(b"{") > DEEPEST:
        _records(data, False)


def parse_lines(lines: bytes, schema: pa.Schema | None) -> pa.RecordBatch:
    """Objects, one a line, as a batch with the types of a schema, or those that are found; numbers
    keep their digits. Raises TooDeep."""
    quoted = _records(lines, False)[2]
    options = pj.ParseOptions(newlines_in_values=True, explicit_schema=schema)
    reading = pj.ReadOptions(use_threads=False, block_size=len(quoted) + 1)
    table = pj.read_json(pa.BufferReader(quoted), reading, options)
    [batch] = table.combine_chunks().to_batches()
    return batch if schema else batch.cast(_plain(batch.schema))


def _records(data: bytes, commas: bool) -> tuple[int, int, bytes]:
    """Where the last whole record of some JSON ends, how many records end before that, and these as
    separate lines whose numbers are in quotes. `commas` between the records are taken out."""
    cells = np.frombuffer(data, np.uint8)
    quotes = np.flatnonzero(cells == _QUOTE)
    if len(quotes) and (slashes := np.flatnonzero(cells == _BACKSLASH)).size:
        quotes = quotes[~_escaped(quotes, slashes)]
    marks = np.zeros(len(cells) + 1, np.int8)
    marks[quotes[::2]] = 1
    marks[quotes[1::2] + 1] = -1
    inside = np.cumsum(marks[:-1], dtype=np.int8).astype(bool)  # a string with both its quotes
    step = np.zeros(len(cells), np.int8)
    step[np.isin(cells, _OPEN)] = 1
    step[np.isin(cells, _SHUT)] = -1
    step[inside] = 0
    depth = np.cumsum(step, dtype=np.int32)
    if len(depth) and depth.max() > DEEPEST:
        raise TooDeep
    ends = np.flatnonzero((depth == 0) & (step == -1))
    if not len(ends):
        return 0, 0, b""
    end = int(ends[-1]) + 1
    out = cells[:end].copy()
    between = (depth[:end] == 0) & (step[:end] == 0) & ~inside[:end]
    if commas:
        out[between & (out == ord(","))] = _NEWLINE
    return end, len(ends), _quoted(out, inside[:end])


def _escaped(quotes: np.ndarray, slashes: np.ndarray) -> np.ndarray:
    """Which quotes have an odd number of backslashes before them."""
    starts = np.flatnonzero(np.diff(slashes, prepend=-2) != 1)  # runs of backslashes
    lengths = np.diff([*starts, len(slashes)])
    after = slashes[starts] + lengths
    odd = after[lengths % 2 == 1]
    return np.isin(quotes, odd)


def _quoted(cells: np.ndarray, inside: np.ndarray) -> bytes:
    """JSON with its numbers, outside of strings, in quotes."""
    part = np.isin(cells, np.frombuffer(b"0123456789+-.eE", np.uint8)) & ~inside
    edges = np.diff(part.astype(np.int8), prepend=0, append=0)
    starts, ends = np.flatnonzero(edges == 1), np.flatnonzero(edges == -1)
    first = cells[starts]
    number = (first == ord("-")) | ((first >= ord("0")) & (first <= ord("9")))
    starts, ends = starts[number], ends[number]
    at = np.concatenate([starts, ends])
    return np.insert(cells, np.sort(at), _QUOTE).tobytes()


def _plain(schema: pa.Schema) -> pa.Schema:
    """A schema with every type that Arrow read out of a text as text again."""
    return pa.schema([pa.field(f.name, _plain_type(f.type)) for f in schema])


def _plain_type(type_: pa.DataType) -> pa.DataType:
    if pa.types.is_struct(type_):
        return pa.struct(
            [
                pa.field(type_.field(i).name, _plain_type(type_.field(i).type))
                for i in range(type_.num_fields)
            ]
        )
    if pa.types.is_list(type_):
        return pa.list_(_plain_type(type_.value_type))
    return type_ if pa.types.is_boolean(type_) or pa.types.is_null(type_) else pa.string()


def with_texts(schema: pa.Schema) -> pa.Schema:
    """A schema in which fields that never hold anything are texts."""

    def told(type_: pa.DataType) -> pa.DataType:
        if pa.types.is_struct(type_):
            return pa.struct(
                [
                    pa.field(type_.field(i).name, told(type_.field(i).type))
                    for i in range(type_.num_fields)
                ]
            )
        if pa.types.is_list(type_):
            return pa.list_(told(type_.value_type))
        return pa.string() if pa.types.is_null(type_) else type_

    return pa.schema([pa.field(f.name, told(f.type)) for f in schema])
