"""Which encoding a text file is in: told by marks, by what only one encoding has, and by its
letters where any of several could be meant."""

from __future__ import annotations

import codecs
import re
from collections.abc import Iterable
from typing import Any

from kerfmark.engines import file_engine
from kerfmark.errors import Origin, SourceError
from kerfmark.read.letters import MOST_TEXTS, Guess, cells_beyond_ascii, guess_code_page

MOST_BYTES = 1 << 25
"""Bytes that hold characters beyond ASCII which are looked at."""
_BOMS = (
    (codecs.BOM_UTF8, "utf-8"),
    (codecs.BOM_UTF16_LE, "utf-16-le"),
    (codecs.BOM_UTF16_BE, "utf-16-be"),
)
_BINARY = (
    (b"PK\x03\x04", "a zip archive or a workbook", ".zip, .xlsx or .ods"),
    (b"\xd0\xcf\x11\xe0", "an old binary workbook or document", ".xls"),
    (b"\x1f\x8b", "a gzip archive", ".gz"),
    (b"PAR1", "a Parquet file", ".parquet"),
    (b"ARROW1", "an Arrow file", ".arrow"),
    (b"\x89PNG", "a picture", ""),
    (b"%PDF", "a PDF document", ""),
)
"""The first bytes of binary files, what these are, and the endings of their names."""
_ESCAPES = (
    (re.compile(rb"\x1b\$[@B]|\x1b\$\([@BD]"), "iso2022-jp-2"),
    (re.compile(rb"\x1b\$\)C"), "iso2022-kr"),
)
"""Escape sequences of encodings that write all letters in seven bits (ISO/IEC 2022)."""
_BEYOND = re.compile(rb"[\x80-\xff]{2,}")
MIXED = "utf-8+"
"""How the encodings begin that are UTF-8 but for some places, which are in another one."""


def find_encoding(sample: bytes, origin: Origin, rest: Iterable[bytes] = ()) -> Guess:
    """The encoding of a text that begins with a sample; of the `rest` no more is read than is
    needed to tell.

    Raises SourceError when it is not text.
    """
    for bom, name in _BOMS:
        if sample.startswith(bom):
            return Guess(name)
    _check_is_text(sample, origin)
    if sample.count(0):
        return Guess(_wide(sample, origin))
    if sample.isascii():
        for escape, name in _ESCAPES:
            if escape.search(sample):
                return Guess(name)
    elif is_utf8(sample):
        return Guess("utf-8")
    found = set() if sample.isascii() else cells_beyond_ascii(sample)
    looked_at = len(sample)
    more = iter(rest)
    whole = sample
    while not found and (block := next(more, None)) is not None:  # plain ASCII so far
        if not block.isascii():
            whole, found = block, cells_beyond_ascii(block)
    if not found or is_utf8(whole):
        return Guess("utf-8", is_plain=not found)
    controls = sum(sample.count(b) for b in range(32) if b not in (9, 10, 12, 13, 26))
    if controls > len(sample) / 100:
        raise SourceError(
            "this is not a text file",
            code="source.not-text",
            origin=origin,
            why=f"{controls:,} of its first {len(sample):,} bytes are control characters",
            next="export it as CSV and name that file",
        )
    for block in more:
        if len(found) >= MOST_TEXTS or looked_at > MOST_BYTES:
            break
        if not block.isascii():
            found |= cells_beyond_ascii(block)
            looked_at += len(block)
    return guess_code_page(found)


def is_utf8(data: bytes) -> bool:
    """Whether some bytes are UTF-8, but for a few that are broken or cut off: what looks like its
    sequences of several bytes is seldom anything else."""
    try:
        codecs.getincrementaldecoder("utf-8")().decode(data)
        return True
    except UnicodeDecodeError:
        pass
    right = wrong = 0
    for run in _BEYOND.findall(data):
        try:
            run.decode()
            right += 1
        except UnicodeDecodeError:
            wrong += 1
    return right > wrong


def _check_is_text(sample: bytes, origin: Origin) -> None:
    of_files = file_engine()
    endings = " or ".join(sorted(of_files.file_endings))
    database = f"{of_files.a_file.removesuffix(' file')} database"
    for magic, what, ending in (*_BINARY, (of_files.file_magic, database, endings)):
        if sample.startswith(magic) and not (magic.isalnum() and _is_header(sample)):
            raise SourceError(
                f"this is {what}, not delimited text",
                code="source.not-text",
                origin=origin,
                next=f"let its name end in {ending}"
                if ending
                else "save the table that is in it as CSV and name that file",
            )


def _is_header(sample: bytes) -> bool:
    """Whether a sample begins with a line of plain text that has several fields."""
    line, end, _ = sample.partition(b"\n")
    text = line.removesuffix(b"\r").decode("ascii", "replace")
    return bool(end) and text.replace("\t", " ").isprintable() and any(d in text for d in ",;|\t")


def _wide(sample: bytes, origin: Origin) -> str:
    """The byte order of a text of two bytes a character."""
    even, odd = sample[0::2].count(0), sample[1::2].count(0)
    if max(even, odd) > 0.3 * len(sample) / 2 and min(even, odd) < 0.05 * max(even, odd) + 1:
        return "utf-16-be" if even > odd else "utf-16-le"
    raise SourceError(
        "this is not a text file",
        code="source.not-text",
        origin=origin,
        why=f"it holds NUL bytes (the first at byte {sample.index(0) + 1:,})",
        next="export it as CSV and name that file",
    )


def decode_sample(sample: bytes, encoding: str, origin: Origin) -> str:
    """A sample as text, without its byte order mark; whatever the cut at its end spoilt is left
    out."""
    try:
        text = codecs.getincrementaldecoder(encoding)("replace").decode(sample)
    except LookupError as error:
        raise SourceError(
            f'there is no encoding called "{encoding}"',
            code="source.encoding",
            origin=origin,
            next="name one such as utf-8, cp1252 or iso8859-15",
        ) from error
    return text.removeprefix("\ufeff")


def _mixed_codec(name: str) -> codecs.CodecInfo | None:
    """UTF-8 in which bytes that are not so are in another encoding, such as `utf-8+cp1252`."""
    found = re.fullmatch(r"utf[-_]?8[+_-](.+)", name)  # Python may have made "_" of "+"
    try:
        second = codecs.lookup(found[1]) if found else None
    except LookupError:
        return None
    if second is None:
        return None

    def replaced(error: UnicodeError, errors: str = "strict") -> tuple[str, int]:
        if not isinstance(error, UnicodeDecodeError):
            raise error
        return decode_other(error.object[error.start : error.end], errors)[0], error.end

    decode_other = second.decode
    handler = f"kerfmark-{second.name}"
    codecs.register_error(handler, replaced)
    codecs.register_error(f"{handler}-shown", lambda e: replaced(e, "replace"))

    class Decoder(codecs.BufferedIncrementalDecoder):
        def _buffer_decode(self, data: Any, errors: str, final: bool) -> tuple[str, int]:
            return codecs.utf_8_decode(data, handler, final)

    def encode(text: str, errors: str = "strict") -> tuple[bytes, int]:
        return text.encode("utf-8", errors), len(text)

    def decode(data: Any, errors: str = "strict") -> tuple[str, int]:
        return codecs.utf_8_decode(
            data, handler if errors == "strict" else f"{handler}-shown", True
        )

    return codecs.CodecInfo(encode, decode, incrementaldecoder=Decoder, name=name)


codecs.register(_mixed_codec)
