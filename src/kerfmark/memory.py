"""How much memory the program may take, and large arrays that are kept in files because of it.

Within `limited`, as soon as a third of what is allowed is taken, whatever grows with the rows goes
to files without a name, mapped into memory, so that it is an array as any other and can be given
back at any time: a thread of its own does so whenever half is taken. Before that, and without a
limit, arrays are ordinary. The folder of these files is TMPDIR, or /var/tmp, which is on a disk,
as /tmp may not be.
"""

from __future__ import annotations

import contextlib
import errno
import mmap
import os
import sys
import tempfile
import threading
import weakref
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import IO, TYPE_CHECKING, Any

from kerfmark.errors import Origin, TargetError, UsageError

if TYPE_CHECKING:
    import numpy as np
    import pyarrow as pa

LEAST = 300_000_000
"""Bytes that the program needs whatever it reads: Python and its libraries take 150 MB of them."""
LARGE = 1 << 20
"""Bytes from which an array is kept in a file."""
ROWS = 1 << 20
"""Rows (or values) of a large array that are worked on at a time."""
SORTED = 1 << 22
"""Numbers that are sorted at a time where memory is limited."""
_PAGE = mmap.PAGESIZE
_EVERY = 0.02
"""Seconds between two looks at what is taken."""


class _Limit:
    """A limit that holds now: `mapped` are the arrays in files."""

    def __init__(self, limit: int) -> None:
        self.bytes = limit
        self.mapped: weakref.WeakSet[mmap.mmap] = weakref.WeakSet()
        self.guard = threading.Lock()
        self.over = threading.Event()
        self.scarce = self.watched = False

    def map(self, file: IO[bytes], size: int) -> mmap.mmap:
        """A file as memory."""
        there = mmap.mmap(file.fileno(), size)
        with self.guard:
            self.mapped.add(there)
            if not self.watched:
                self.watched = True
                threading.Thread(target=self.watch, daemon=True, name="memory").start()
        return there

    def watch(self) -> None:
        """Gives mapped arrays back whenever more than half of what is allowed is taken; nothing in
        them is lost."""
        while not self.over.wait(_EVERY):
            if used() > self.bytes // 2:
                self.give_back()

    def give_back(self) -> None:
        """Leaves all mapped arrays to their files."""
        if hasattr(mmap, "MADV_DONTNEED"):
            with self.guard:
                for one in self.mapped:
                    with contextlib.suppress(ValueError, OSError):
                        one.madvise(mmap.MADV_DONTNEED)


_now: _Limit | None = None


@contextlib.contextmanager
def limited(limit: int) -> Iterator[None]:
    """Within it the process keeps to a number of bytes of memory. Raises UsageError for fewer than
    can do."""
    global _now
    if limit < LEAST:
        raise UsageError(
            f"{limit / 1e6:,.0f} MB of memory is not enough",
            code="usage.memory",
            why="Python and its libraries take about 150 MB themselves",
            next=f"allow {LEAST // 10**6} MB or more",
        )
    before = _now
    _now = mine = _Limit(limit)
    try:
        yield
    finally:
        mine.over.set()
        _now = before


def half() -> int:
    """Half of the bytes of memory that this machine has, or that the process may have of them; 0
    where that is not told."""
    told = "SC_PHYS_PAGES" in getattr(os, "sysconf_names", ())
    there = [os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGE_SIZE")] if told else []
    for place in ("/sys/fs/cgroup/memory.max", "/sys/fs/cgroup/memory/memory.limit_in_bytes"):
        with contextlib.suppress(OSError, ValueError):
            there.append(int(Path(place).read_text(encoding="ascii")))
    return max(min(there) // 2, LEAST) if there else 0


def allowed() -> int:
    """The bytes that may be taken; 0: as many as there are."""
    return _now.bytes if _now else 0


def share(usual: int, part: float) -> int:
    """A number of bytes for something: the usual one, or a part of what is allowed where that is
    less."""
    return min(usual, int(_now.bytes * part)) if _now else usual


def give_back(least: int = 0) -> None:
    """Gives what Arrow has freed back to the system, if it is at least so many bytes since the last
    time: its pool keeps what other threads have freed."""
    import pyarrow as pa

    global _held
    pool = pa.default_memory_pool()
    now = pool.bytes_allocated()
    if not least or _held - now >= least:
        pool.release_unused()
        _held = now


_held = 0
"""Bytes that Arrow had allocated when memory was given back last."""


def used() -> int:
    """The bytes of memory that the process has now, or `peak` where that is not told."""
    with contextlib.suppress(OSError):
        return int(Path("/proc/self/statm").read_bytes().split()[1]) * _PAGE
    return peak()


def peak() -> int:
    """The most bytes that the process ever had; where that is not told, all that are allowed. Asked
    at no cost."""
    try:
        import resource
    except ImportError:
        return allowed()
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * (
        1 if sys.platform == "darwin" else 1024
    )


def scarce() -> bool:
    """Whether so much is taken that what grows with the rows belongs into files."""
    if _now is not None and not _now.scarce:
        _now.scarce = peak() > _now.bytes // 3 and used() > _now.bytes // 3
    return _now is not None and _now.scarce


def at_a_time(values: int) -> range:
    """Where the blocks of a large array begin, `ROWS` apart."""
    return range(0, values, ROWS)


def slices(values: pa.Array) -> Iterator[pa.Array]:
    """A large array, some values at a time."""
    return (values.slice(start, ROWS) for start in at_a_time(len(values)))


def room(length: int, dtype: Any) -> np.ndarray:
    """An array with anything in it."""
    import numpy as np

    size = length * np.dtype(dtype).itemsize
    if _now is None or size < LARGE or not scarce():
        return np.empty(length, dtype)
    with unnamed() as file:
        _reserve(file, size)
        return np.frombuffer(_now.map(file, size), dtype)


def constant(length: int, value: int, dtype: Any) -> np.ndarray:
    """An array with the same number everywhere."""
    out = room(length, dtype)
    out.fill(value)
    return out


def gathered(pieces: Iterable[pa.Array], type_: pa.DataType) -> pa.Array:
    """Pieces of one type put together."""
    import pyarrow as pa

    if (
        not scarce()
        or not (pa.types.is_string(type_) or pa.types.is_primitive(type_))
        or pa.types.is_boolean(type_)
    ):
        return pa.concat_arrays([pa.array([], type_), *pieces])
    with Pile(type_) as pile:
        for piece in pieces:
            pile.add(piece)
        return pile.whole()


class Pile:
    """An array of texts, or of values of a fixed width, that is put together in files piece by
    piece."""

    def __init__(self, type_: pa.DataType) -> None:
        import pyarrow as pa

        self._type, self._length, self._nulls, self._end = type_, 0, 0, 0
        self._texts = pa.types.is_string(type_)
        self._files = [
            unnamed() for _ in range(3)
        ]  # validity (a byte each), offsets of texts, data

    def __enter__(self) -> Pile:
        return self

    def __exit__(self, *error: object) -> None:
        for file in self._files:
            file.close()

    def add(self, piece: pa.Array) -> None:
        """Adds a piece."""
        import numpy as np
        import pyarrow as pa

        if not len(piece):
            return
        valid, offsets, data = self._files
        with disk_errors():
            if piece.null_count and not self._nulls:
                for start in at_a_time(self._length):
                    valid.write(bytes([1]) * min(ROWS, self._length - start))
            self._nulls += piece.null_count
            if self._nulls:
                valid.write(piece.is_valid().to_numpy(zero_copy_only=False).view(np.uint8).data)
            if self._texts:
                at = np.frombuffer(piece.buffers()[1], np.int32)[
                    piece.offset : piece.offset + len(piece) + 1
                ]
                first, last = int(at[0]), int(at[-1])
                if self._end + last - first > 2**31 - 1:
                    raise UsageError(
                        "a column has more than 2 GB of different texts",
                        code="usage.memory",
                        next="leave the column out, or cut the file in parts and add "
                        "the later ones",
                    )
                offsets.write((at[:-1] - np.int64(first) + self._end).astype(np.int32).data)
                data.write(memoryview(piece.buffers()[2] or b"")[first:last])
                self._end += last - first
            else:
                width = self._type.bit_width // 8
                from_, to = piece.offset * width, (piece.offset + len(piece)) * width
                data.write(memoryview(piece.buffers()[1] or pa.py_buffer(b""))[from_:to])
        self._length += len(piece)

    def whole(self) -> pa.Array:
        """All pieces as one array."""
        import numpy as np
        import pyarrow as pa

        valid, offsets, data = self._files
        if self._texts:
            offsets.write(np.array([self._end], np.int32).data)
        known = _mapped(valid)
        bits = (
            np.packbits(np.frombuffer(known, np.uint8), bitorder="little") if self._nulls else None
        )
        buffers = [None if bits is None else pa.py_buffer(bits)]
        buffers += [pa.py_buffer(_mapped(f)) for f in ([offsets, data] if self._texts else [data])]
        return pa.Array.from_buffers(self._type, self._length, buffers, self._nulls)


def unnamed() -> IO[bytes]:
    """A file for what does not fit in memory, which is gone when it is closed, or the program
    ends."""
    with disk_errors():
        return tempfile.TemporaryFile(dir=_folder(), prefix=".kerfmark-", buffering=1 << 20)


def numbers(file: IO[bytes], dtype: Any) -> np.ndarray:
    """What was written to such a file, as numbers."""
    import numpy as np

    return np.frombuffer(_mapped(file), dtype)


def _mapped(file: IO[bytes]) -> mmap.mmap | bytes:
    with disk_errors():
        file.flush()
    size = os.fstat(file.fileno()).st_size
    if not size:
        return b""
    return _now.map(file, size) if _now else mmap.mmap(file.fileno(), size)


def _folder() -> str:
    said = os.environ.get("TMPDIR", "")
    return said or ("/var/tmp" if os.access("/var/tmp", os.W_OK) else tempfile.gettempdir())


def _reserve(file: IO[bytes], size: int) -> None:
    """Takes the room on the disk now: a mapped file that finds none later ends the program."""
    with disk_errors():
        if hasattr(os, "posix_fallocate"):
            os.posix_fallocate(file.fileno(), 0, size)
            return
        for start in range(0, size, LARGE):
            file.write(bytes(min(LARGE, size - start)))
        file.flush()


@contextlib.contextmanager
def disk_errors() -> Iterator[None]:
    """Turns a full disk into a message."""
    try:
        yield
    except OSError as error:
        full = error.errno in (errno.ENOSPC, errno.EDQUOT, errno.EFBIG)
        raise TargetError(
            "there is no room for what does not fit in memory"
            if full
            else "nothing can be kept in this folder",
            code="memory.no-room",
            origin=Origin(str(Path(_folder()))),
            why=str(error.strerror or error),
            next="make room there, name another folder in TMPDIR, or allow more with --memory",
        ) from error
