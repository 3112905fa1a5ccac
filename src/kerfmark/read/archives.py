"""Where the bytes of a text file come from: the file itself, a packed one, or standard input.

Packed files are unpacked as they are read, never to disk, and only up to a limit: a few kilobytes
can unpack to terabytes.
"""

from __future__ import annotations

import bz2
import gzip
import io
import lzma
import shutil
import sys
import zipfile
import zlib
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any, BinaryIO, cast

from kerfmark.errors import Origin, SourceError
from kerfmark.memory import disk_errors, unnamed

MOST_UNPACKED = 1 << 36
"""Bytes (64 GB) that a packed file may unpack to."""
MOST_TIMES = 200
"""How many times its packed size a file may unpack to, once that is more than `SMALL`."""
SMALL = 1 << 28
ENDINGS = {".gz": "gzip", ".bz2": "bzip2", ".xz": "xz", ".zst": "zstd"}

Opener = Callable[[], BinaryIO]


@dataclass(frozen=True)
class Bytes:
    """Something that can be opened again and again: the path it is in, the member of an archive,
    and how to open it."""

    path: Path
    member: str
    open: Opener

    @property
    def stem(self) -> str:
        """Its name without folders and endings."""
        name = Path(self.member or self.path.name)
        return Path(name.stem if name.suffix.lower() in ENDINGS else name.name).stem

    @property
    def name(self) -> str:
        """What messages call it."""
        if str(self.path) == "-":
            return "standard input"
        return f"{self.path.name}: {self.member}" if self.member else self.path.name


class _Limited(io.RawIOBase):
    """A stream that refuses to go on for ever, and tells damage in our words."""

    def __init__(self, inner: BinaryIO, path: Path, most: int) -> None:
        self._inner, self._path, self._left, self._most = inner, path, most, most

    def readable(self) -> bool:
        return True

    def read(self, size: int = -1) -> bytes:
        try:
            data = self._inner.read(size)
        except (
            EOFError,
            zlib.error,
            lzma.LZMAError,
            gzip.BadGzipFile,
            zipfile.BadZipFile,
            OSError,
            RuntimeError,
        ) as error:
            raise SourceError(
                "the packed file is damaged or cut off",
                code="source.damaged",
                origin=Origin(self._path.name),
                why=str(error),
                next="fetch or pack it again",
            ) from error
        self._left -= len(data)
        if self._left < 0:
            raise SourceError(
                "the packed file unpacks to suspiciously much",
                code="source.bomb",
                origin=Origin(self._path.name),
                why=f"more than the limit of {self._most:,} bytes",
                next="if it is meant to be so, allow more with --unpack-limit 100GB",
            )
        return data

    def close(self) -> None:
        self._inner.close()
        super().close()


class _Again(io.RawIOBase):
    """A file that is open, read from its start, whoever else reads it."""

    def __init__(self, file: IO[bytes]) -> None:
        self._file, self._at = file, 0

    def readable(self) -> bool:
        return True

    def readinto(self, room: Any) -> int:
        self._file.seek(self._at)
        read = self._file.readinto(room)  # type: ignore[attr-defined]
        self._at += read
        return int(read)


def text_files(path: Path, limit: int | None = None) -> list[Bytes]:
    """The text files in a path: itself, what it packs, or each member of a zip archive; `-` is
    standard input.

    `limit` is the most bytes that may be unpacked. Raises SourceError when an archive cannot be
    read.
    """
    if str(path) == "-":
        return [_standard_input()]
    kind = ENDINGS.get(path.suffix.lower())
    if kind:
        return [
            Bytes(
                path,
                "",
                lambda: cast(
                    BinaryIO,
                    _Limited(_unpacked(path, kind), path, limit or _most(path.stat().st_size)),
                ),
            )
        ]
    if path.suffix.lower() == ".zip":
        return _members(path, limit)
    return [Bytes(path, "", lambda: path.open("rb"))]


def _most(packed: int) -> int:
    return min(MOST_UNPACKED, max(SMALL, MOST_TIMES * packed))


def _unpacked(path: Path, kind: str) -> BinaryIO:
    if kind == "zstd":
        import pyarrow as pa

        return cast(BinaryIO, pa.input_stream(str(path), compression="zstd"))
    if kind == "gzip":
        return cast(BinaryIO, gzip.open(path, "rb"))
    return cast(BinaryIO, bz2.open(path, "rb") if kind == "bzip2" else lzma.open(path, "rb"))


def _members(path: Path, limit: int | None) -> list[Bytes]:
    try:
        with zipfile.ZipFile(path) as archive:
            members = [
                m
                for m in archive.infolist()
                if not m.is_dir() and not Path(m.filename).name.startswith(".")
            ]
            if any(m.flag_bits & 1 for m in members):
                raise SourceError(
                    "the archive is encrypted",
                    code="source.encrypted",
                    origin=Origin(path.name),
                    next="unpack it with its password and name the files",
                )
    except (zipfile.BadZipFile, NotImplementedError, OSError) as error:
        raise _not_an_archive(path, str(error)) from error
    if not members:
        raise SourceError(
            "the archive is empty",
            code="source.empty",
            origin=Origin(path.name),
            next="fetch it again, or leave it out",
        )

    def opener(name: str) -> Opener:
        def opened() -> BinaryIO:
            try:
                member = zipfile.ZipFile(path).open(name)  # noqa: SIM115  (the stream closes it)
            except (zipfile.BadZipFile, NotImplementedError, RuntimeError, LookupError) as error:
                raise _not_an_archive(path, str(error)) from error
            return cast(
                BinaryIO,
                _Limited(cast(BinaryIO, member), path, limit or _most(path.stat().st_size)),
            )

        return opened

    return [Bytes(path, m.filename, opener(m.filename)) for m in members]


def _not_an_archive(path: Path, why: str) -> SourceError:
    return SourceError(
        "this is not a zip archive, or a damaged one",
        code="source.damaged",
        origin=Origin(path.name),
        why=why,
        next="fetch or pack it again",
    )


def _standard_input() -> Bytes:
    """Standard input, kept in a file without a name because it is looked at more than once; it is
    gone when the program ends."""
    kept = unnamed()
    with disk_errors():
        shutil.copyfileobj(sys.stdin.buffer, kept)
        kept.flush()
    return Bytes(Path("-"), "", lambda: io.BufferedReader(_Again(kept)))
