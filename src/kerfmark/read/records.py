"""Where the records of a text end, whatever is in quotes: the few things that must be known
about a chunk before a reader cuts it into fields, and the turning of other encodings and delimiters
into what that reader takes."""

from __future__ import annotations

import codecs
import re
from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from kerfmark.errors import Origin, SourceError
from kerfmark.read.dialect import STAND_IN, Dialect

_PIECE = 1 << 17
"""Bytes among which quotes are looked for at a time."""


def line_end(text: str) -> bytes:
    """What ends the lines of a text: a newline, or a carriage return where there is no newline."""
    return b"\r" if "\n" not in text and "\r" in text else b"\n"


def records_end(data: bytes, dialect: Dialect, count: int) -> int:
    """Where so many records end: after as many line ends that are not in quotes."""
    if not count:
        return 0
    quote, inside = dialect.quoted.encode(), False
    escaped = re.escape(dialect.escape.encode()) + b"(?s:.)|" if dialect.escape else b""
    for found in re.finditer(
        escaped + (rb"\r\n|\n|\r|" + re.escape(quote) if quote else rb"\r\n|\n|\r"), data
    ):
        if found[0] == quote:
            inside = not inside
        elif not inside and found[0][:1] in b"\r\n":
            count -= 1
            if not count:
                return found.end()
    return len(data)


def last_end(data: bytes, dialect: Dialect, newline: bytes) -> tuple[int, bool]:
    """Where the last complete record of `data` ends (0: none does), and whether some quote in it
    is where none should be.

    `data` starts at the start of a record.
    """
    end = data.rfind(newline) + 1
    if not dialect.quoted or dialect.quoted.encode() not in data:
        return end, False
    cells = np.frombuffer(data, np.uint8)
    quotes = _quotes(cells, dialect)
    if _has_stray_quotes(cells, quotes, dialect):
        return _scanned(data, dialect, newline).end, True
    while (
        end and np.searchsorted(quotes, end) % 2
    ):  # inside quotes: go back to a line end that is not
        end = data.rfind(newline, 0, end - 1) + 1
    return end, False


def _quotes(cells: np.ndarray, dialect: Dialect) -> np.ndarray:
    """Where the quotes are that are not escaped."""
    quote, found, there = ord(dialect.quoted), np.empty(_PIECE, bool), []
    for start in range(0, len(cells), _PIECE):  # a piece stays in the processor's cache
        piece = cells[start : start + _PIECE]
        there.append(np.flatnonzero(np.equal(piece, quote, out=found[: len(piece)])) + start)
    quotes = np.concatenate(there)
    if dialect.escape and len(quotes):
        escape = ord(dialect.escape)
        after = quotes[(quotes > 0) & (cells[quotes - 1] == escape)]
        escaped = []
        for at in after.tolist():  # an even number of escapes before it escapes only each other
            n = 1
            while at - n - 1 >= 0 and cells[at - n - 1] == escape:
                n += 1
            if n % 2:
                escaped.append(at)
        quotes = np.setdiff1d(quotes, np.array(escaped, np.int64), assume_unique=True)
    return quotes


def _has_stray_quotes(cells: np.ndarray, quotes: np.ndarray, dialect: Dialect) -> bool:
    """Whether some quote neither opens nor closes a field nor is doubled, as in `5" pipe`."""
    if not len(quotes):
        return False
    usual = np.zeros(256, bool)
    usual[[ord(dialect.cut_at), ord(dialect.quoted), 10, 13]] = True
    before, after = usual[cells[quotes - 1]], usual[cells[(quotes + 1) % len(cells)]]
    return not bool((before | after | (quotes == 0) | (quotes == len(cells) - 1)).all())


class _Scanned(NamedTuple):
    """Where the last complete record of a chunk ends, how many there are, and which of them have
    text after a closing quote."""

    end: int
    records: int
    misquoted: list[int]


def _scanned(data: bytes, dialect: Dialect, newline: bytes) -> _Scanned:
    """Looks at field after field: slower than `last_end`, but a quote counts only where a field
    starts."""
    d, q, n = (
        re.escape(dialect.cut_at.encode()),
        re.escape(dialect.quoted.encode()),
        re.escape(newline),
    )
    e = re.escape(dialect.escape.encode())
    inner = b"[^" + q + e + b"]|" + q + q + (b"|" + e + b"(?s:.)" if e else b"")
    fields = re.compile(
        b"(" + q + b"(?:" + inner + b")*" + q + b")?([^" + d + n + b"]*)(" + d + b"|" + n + b")"
    )
    end = at = record = 0
    wrong: list[int] = []
    opening = dialect.quoted.encode()
    while found := fields.match(data, at):
        if found[1] is None and data[at : at + 1] == opening:
            break  # a quoted field that does not end in this chunk
        if found[1] is not None and found[2].strip(b"\r"):
            wrong.append(record)
        at = found.end()
        if found[3] == newline:
            end, record = at, record + 1
    return _Scanned(end, record, sorted(set(wrong)))


def misquoted_records(chunk: memoryview, dialect: Dialect, newline: bytes) -> list[int]:
    """The records of a chunk with text after a closing quote, which a reader would
    silently join."""
    return _scanned(bytes(chunk) + newline, dialect, newline).misquoted


def unclosed_record(chunk: memoryview, dialect: Dialect, newline: bytes) -> int | None:
    """The record of the last chunk of a text in which a quote is opened that nothing closes."""
    if not dialect.quoted or dialect.quoted.encode() not in bytes(chunk):
        return None
    data = bytes(chunk).rstrip(b"\r\n") + newline
    found = _scanned(data, dialect, newline)
    return found.records if found.end < len(data) else None


def transcoder(dialect: Dialect, origin: Origin) -> Callable[[bytes, bool], bytes]:
    """A function from bytes in some encoding to bytes in UTF-8, chunk by chunk, in which the
    delimiter is one character."""
    decoder = codecs.getincrementaldecoder(dialect.encoding)()
    fresh, kept = True, ""

    def transcode(raw: bytes, final: bool) -> bytes:
        nonlocal fresh, kept
        text = decoder.decode(raw, final)
        if fresh and text:
            text, fresh = text.removeprefix("\ufeff"), False
        if not dialect.edges and dialect.cut_at != dialect.delimiter:
            if STAND_IN in text:
                raise SourceError(
                    "the file holds the control character 0x1F, which replaces such a delimiter "
                    "while reading",
                    code="source.stand-in",
                    origin=origin,
                    next="use another delimiter in the file, or replace that character there",
                )
            text = kept + text
            half = (
                0
                if final
                else next(
                    (
                        n
                        for n in range(len(dialect.delimiter) - 1, 0, -1)
                        if text.endswith(dialect.delimiter[:n])
                    ),
                    0,
                )
            )
            text, kept = text[: len(text) - half], text[len(text) - half :]
            text = text.replace(dialect.delimiter, STAND_IN)
        return text.encode("utf-8", "surrogatepass")

    return transcode
