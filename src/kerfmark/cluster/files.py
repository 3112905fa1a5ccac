"""Files as units of reading: small ones in whole, large delimited ones in blocks that begin and end
between two records.

A block's own bytes do not tell whether its first one is inside a quoted field. So each block is
looked at once: how many quote characters it has, and how many line ends there are after an even and
after an odd number of them. With these of all blocks before it, the first line end of a block that
is outside of quotes is known, and so is the row that begins after it.
"""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.fs as pafs
import xxhash

from kerfmark.errors import Origin, SourceError
from kerfmark.layout.model import SourceSpec

BLOCK = 64 << 20
"""Bytes of a block (KERFMARK_BLOCK in the environment overrules it, for tests)."""
_STEP = 1 << 20
_BY_BYTE = {"utf-8", "utf-8-sig", "ascii", "us-ascii", "latin-1", "iso-8859-1", "iso-8859-15"}
"""Encodings in which a byte that looks like a line end or a quote is one; so are all of Windows
with one byte to a character."""


@dataclass(frozen=True)
class Unit:
    """What one task reads: a file of a source as `spec` describes it, in whole; or, where `end` is
    not 0, those of its records that begin after the first line end from `start` on that is outside
    of quotes, up to the first one from `end` on. `inside` and `inside_end`: whether these places
    are inside quotes; `above` the bytes of the header, `before` the rows of the file that end
    before the block's own."""

    number: int
    source: str
    place: str
    spec: SourceSpec
    start: int = 0
    end: int = 0
    inside: bool = False
    inside_end: bool = False
    above: int = 0
    before: int = 0
    size: int = 0

    @property
    def is_block(self) -> bool:
        """Whether it is only a part of its file."""
        return self.end > 0


@dataclass(frozen=True)
class Counts:
    """What one look at the bytes of a block tells: its quote characters, and its line ends after an
    even and after an odd number of these. `proper`: whether every quote that may open or close a
    field, if the block begins outside (first) or inside quotes (second), stands where one may."""

    quotes: int
    even: int
    odd: int
    proper: tuple[bool, bool]


def filesystem(place: str) -> tuple[pafs.FileSystem, str]:
    """The file system of a place, and its path there."""
    if "://" in place:
        found: tuple[pafs.FileSystem, str] = pafs.FileSystem.from_uri(place)
        return found
    return pafs.LocalFileSystem(), str(Path(place).absolute())


def to_write(place: str) -> tuple[pafs.FileSystem, str]:
    """The file system of a file that an executor writes, and its path there. Its folder is made,
    but not what that is in: what was given up and removed is not made anew by a task that goes on
    for a moment."""
    system, path = filesystem(place)
    system.create_dir(path.rpartition("/")[0], recursive=False)
    return system, path


def size_of(place: str) -> int:
    """The bytes of a file."""
    system, path = filesystem(place)
    return int(system.get_file_info(path).size or 0)


def is_file(place: str) -> bool:
    """Whether a place is that of a file."""
    try:
        system, path = filesystem(place)
        return bool(system.get_file_info(path).type == pafs.FileType.File)
    except (pa.ArrowException, OSError):  # of a scheme that is none of a file system
        return False


def fingerprint_of(place: str, start: int, end: int) -> str:
    """The fingerprint of some bytes of a file (XXH3 of 128 bits)."""
    system, path = filesystem(place)
    out = xxhash.xxh3_128()
    with system.open_input_file(path) as file:
        for at in range(start, end, _STEP):
            out.update(file.read_at(min(_STEP, end - at), at))
    return str(out.hexdigest())


def block_bytes() -> int:
    """How many bytes a block has."""
    return int(os.environ.get("KERFMARK_BLOCK", BLOCK))


def can_be_cut(spec: SourceSpec, delimited: bool) -> bool:
    """Whether blocks of a file can be read each for itself: its rows must not depend on others."""
    encoding = spec.encoding.lower()
    return (
        delimited
        and (encoding in _BY_BYTE or encoding.startswith(("cp125", "windows-125")))
        and not (spec.skip_rows or any(p.skip_rows for p in spec.parts))
        and not (spec.fill_down or spec.escape or spec.edges or spec.ruled or spec.block)
        and not (spec.member or spec.json_cells)
        and len(spec.delimiter) == 1
        and len(spec.quote) <= 1
    )


def blocks(unit: Unit) -> list[Unit]:
    """A file in blocks, which have yet to be looked at; one that is small, or has a header that
    cannot be told, in one piece."""
    size, step = size_of(unit.place), block_bytes()
    above = _header_bytes(unit)
    if size <= step or above is None or above > step:
        return [unit]
    starts = [*range(0, size, step), size]
    return [
        replace(unit, start=start, end=end, above=above, size=size)
        for start, end in pairwise(starts)
    ]


def _header_bytes(unit: Unit) -> int | None:
    """The bytes before the first record; None where the header's end is not plain."""
    lines = unit.spec.header_row + unit.spec.header_rows - 1 if unit.spec.header_row else 0
    system, path = filesystem(unit.place)
    with system.open_input_stream(path) as file:
        some = file.read(_STEP)
    at = 0
    for _ in range(lines):
        at = some.find(b"\n", at) + 1
        if not at:
            return None
    quote = unit.spec.quote.encode()
    if b"\n" not in some or (quote and some[:at].count(quote) % 2):
        return None
    return at


def look_at(unit: Unit) -> Counts:
    """Looks at the bytes of a block."""
    system, path = filesystem(unit.place)
    with system.open_input_file(path) as file:
        before = max(unit.start - 1, 0)
        data = np.frombuffer(file.read_at(unit.end - before + 1, before), np.uint8)
    own = unit.start - before
    length = min(unit.end - unit.start, len(data) - own)
    return counts(data, own, length, unit.spec.delimiter, unit.spec.quote)


def counts(data: np.ndarray, own: int, length: int, delimiter: str, quote: str) -> Counts:
    """Counts in bytes, of which `length` from `own` on are the block's; there may be one before
    and one after it."""
    here = data[own : own + length]
    ends = np.flatnonzero(here == 10)
    if not quote:
        return Counts(0, len(ends), 0, (True, True))
    quotes = np.flatnonzero(here == ord(quote))
    before = np.searchsorted(quotes, ends)  # quotes before each line end
    even = int(np.count_nonzero(before % 2 == 0))
    around = {10, 13, ord(delimiter), ord(quote)}
    left = np.isin(data[own + quotes - 1], [*around]) | (own + quotes == 0)
    right_at = own + quotes + 1
    right = (right_at >= len(data)) | np.isin(data[np.minimum(right_at, len(data) - 1)], [*around])
    if own == 0 and len(quotes) and quotes[0] in (0, 3):  # the first of the file, or after a mark
        left[0] = True
    opening = np.arange(len(quotes)) % 2 == 0

    def proper(opens: np.ndarray) -> bool:
        return bool(np.all(np.where(opens, left, right)))

    return Counts(len(quotes), even, len(ends) - even, (proper(opening), proper(~opening)))


def settled_blocks(units: Sequence[Unit], looked: Sequence[Counts]) -> list[Unit]:
    """The blocks of one file with what is known of their places; the whole file, where some quote
    stands where none may."""
    out: list[Unit] = []
    inside, rows = False, 0
    for unit, count in zip(units, looked, strict=True):
        if not count.proper[inside]:
            return [replace(unit, start=0, end=0, above=0, size=0)]
        after = inside != bool(count.quotes % 2)
        first = unit.start == 0
        out.append(replace(unit, inside=inside, inside_end=after, before=0 if first else rows + 1))
        rows += count.odd if inside else count.even
        inside = after
    return out


def bytes_of_block(unit: Unit) -> bytes:
    """The header of a file, and those records of it that are a block's own. Raises SourceError
    where the file is not the one that was cut."""
    system, path = filesystem(unit.place)
    quote = ord(unit.spec.quote) if unit.spec.quote else -1
    with system.open_input_file(path) as file:
        size = file.size()
        if size != unit.size:
            raise SourceError(
                "the file has changed while it was read",
                code="source.changing",
                origin=Origin(unit.place),
                why="another program is writing to it",
                next="run the command again when the file is complete",
            )
        head = file.read_at(unit.above, 0) if unit.start else b""
        begin = 0 if not unit.start else _boundary(file, unit.start, unit.inside, quote, size)
        until = (
            size if unit.end >= size else _boundary(file, unit.end, unit.inside_end, quote, size)
        )
        own = file.read_at(until - begin, begin) if until > begin else b""
    return bytes(head) + bytes(own)


def _boundary(file: object, start: int, inside: bool, quote: int, size: int) -> int:
    """The place after the first line end from `start` on that is outside of quotes."""
    at = start
    while at < size:
        some = np.frombuffer(file.read_at(min(_STEP, size - at), at), np.uint8)  # type: ignore[attr-defined]
        ends = np.flatnonzero(some == 10)
        quotes = np.flatnonzero(some == quote) if quote >= 0 else np.empty(0, np.int64)
        outside = ends[(np.searchsorted(quotes, ends) % 2 == 1) == inside]
        if len(outside):
            return at + int(outside[0]) + 1
        inside = inside != bool(len(quotes) % 2)
        at += len(some)
    return size
