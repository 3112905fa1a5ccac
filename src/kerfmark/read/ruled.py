"""Listings as the clients of databases and report writers print them: columns between bars or at
fixed places, with ruling lines.

Such a text is read as if the ruling lines were blank and the bars at both ends were not there, so
that every row keeps its number.
"""

from __future__ import annotations

import io
import re
from collections.abc import Callable
from dataclasses import replace
from typing import BinaryIO, cast

from kerfmark.read.archives import Bytes

_RULE = re.compile(rb"^[ \t+|=:-]*--[ \t+|=:-]*\r?$|^[ \t]*(?:=+[ \t]+)+=+[ \t]*\r?$", re.MULTILINE)
_OUTER = re.compile(rb"^[ \t]*\|?[ \t]*|[ \t]*\|?[ \t]*\r?$", re.MULTILINE)
_INNER = re.compile(rb"[ \t]*\|[ \t]*")
_OUTSIDE = re.compile(rb"^[^|\n]*$", re.MULTILINE)
_PAGE = re.compile(rb"^\x0c", re.MULTILINE)
BLOCK = 1 << 20


def find_rules(text: str) -> tuple[str, tuple[int, ...]] | None:
    """What the ruling lines of a text show: the delimiter "|", or where its columns of fixed width
    begin; None when there is none among its first lines."""
    lines = text.splitlines()[:10]
    for n, line in enumerate(lines[:-1]):
        if not _RULE.match(line.encode()):
            continue
        below = lines[n + 1]
        if "|" in below and ("|" in line or "+" in line):
            return "|", ()
        spans = [m.start() for m in re.finditer(r"-+|=+", line)]
        if len(spans) > 1 and "|" not in line and "+" not in line and n > 0:
            return "", tuple(spans)
    return None


def without_rules(source: Bytes, bars: bool) -> Bytes:
    """A text without its ruling lines, and, where its columns are between `bars`, without those at
    the ends of lines, the spaces beside them, and what has no bar."""
    return replace(
        source,
        open=lambda: cast(BinaryIO, _Changed(source.open(), lambda some: _plain(some, bars))),
    )


def without_page_breaks(source: Bytes) -> Bytes:
    """A text without the form feeds with which pages begin, if its first part has any."""
    try:
        with source.open() as file:
            if not _PAGE.search(file.read(BLOCK)):
                return source
    except OSError:  # which reading it will tell
        return source
    return replace(
        source,
        open=lambda: cast(BinaryIO, _Changed(source.open(), lambda some: _PAGE.sub(b"", some))),
    )


def _plain(lines: bytes, bars: bool) -> bytes:
    lines = _RULE.sub(b"", lines)
    if not bars:
        return lines
    lines = _OUTSIDE.sub(b"", lines)
    return _INNER.sub(b"|", _OUTER.sub(b"", lines))


class _Changed(io.RawIOBase):
    """A text whose lines are changed while they are read."""

    def __init__(self, inner: BinaryIO, change: Callable[[bytes], bytes]) -> None:
        self._inner, self._change, self._rest, self._ended = inner, change, b"", False

    def readable(self) -> bool:
        return True

    def read(self, size: int = -1) -> bytes:
        """Some lines; nothing at the end."""
        while not self._ended:
            raw = self._inner.read(max(size, BLOCK) if size >= 0 else -1)
            data, self._ended = self._rest + raw, not raw or size < 0
            end = len(data) if self._ended else data.rfind(b"\n") + 1
            self._rest = data[end:]
            if end:
                return self._change(data[:end])
        return b""

    def close(self) -> None:
        self._inner.close()
        super().close()
