"""Whether a source that was given back has the bytes of the file that it came from."""

from __future__ import annotations

import itertools
from pathlib import Path

from kerfmark.errors import KerfmarkError
from kerfmark.ledger.records import LoadedFile
from kerfmark.read.archives import text_files

SHOWN = 50
"""Characters of a line that are shown, from a little before the place where it differs."""
BEFORE = 15
"""Characters before that place."""


def difference(path: Path, file: LoadedFile, folder: Path, encoding: str) -> str | None:
    """Where a text first differs from a file that was loaded, as seen from a folder; "" where it
    has its bytes. Where the file is gone or another one, how many there are; None where these are
    as many."""
    name, size = file.file, path.stat().st_size
    member = file.read_as.get("member", "")
    try:
        old = next(t for t in text_files(folder / name) if t.member == member)
        with path.open("rb") as new_file, old.open() as old_file:
            read = 0
            for n, (new, was) in enumerate(itertools.zip_longest(new_file, old_file), 1):
                read += len(was or b"")
                if new != was:
                    a, b = (_shown(x, y, encoding) for x, y in ((was, new), (new, was)))
                    return f"not the same bytes as {name}: line {n:,} is {a} there, and {b} here"
        if read == file.bytes:
            return ""
    except (KerfmarkError, OSError, StopIteration):
        pass
    if size == file.bytes:
        return None
    return (
        f"not the same bytes as {name}, which had {file.bytes:,} where these are {size:,}: spaces, "
        "quotes, zeros or line ends may differ"
    )


def _shown(line: bytes | None, other: bytes | None, encoding: str) -> str:
    """A line as it is shown, from shortly before the place where it differs from another one."""
    if line is None:
        return "missing"
    same = next((i for i, (a, b) in enumerate(zip(line, other or b"", strict=False)) if a != b), 0)
    start = max(0, same - BEFORE)
    text = line[start : start + SHOWN].decode(encoding, "replace")
    before, after = ("..." if cut else "" for cut in (start, start + SHOWN < len(line)))
    return f"{before}{text!r}{after}"
