"""A workbook that cannot be trusted is first opened by a process of its own. One of binary records
that is damaged, in which a length may be anything, or one with a cell far from all others, can make
the workbook library ask for all the memory there is, which ends the process, write its own stack to
the terminal, or go on for ever."""

from __future__ import annotations

import contextlib
import subprocess
import sys
from functools import lru_cache
from pathlib import Path

BINARY = frozenset({".xls", ".xlsb"})
LONGEST = 10.0
"""Seconds that opening may take, and as many again for every `PACE` bytes."""
PACE = 1 << 22
ROOM = 1 << 30
"""Bytes of memory that it may take, and 200 more for each of the file."""
_TRY = """
import sys
try:
    import resource
    resource.setrlimit(resource.RLIMIT_AS, (int(sys.argv[2]),) * 2)
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
except (ImportError, ValueError, OSError):
    pass
import python_calamine
book = python_calamine.load_workbook(sys.argv[1])
for name in book.sheet_names:
    book.get_sheet_by_name(name)
"""


def crashes_reader(path: Path) -> bool:
    """Whether opening a workbook ends the process that does it, or does not end. What it raises
    will be raised again."""
    there = path.stat()
    return _tried(path, there.st_size, there.st_mtime_ns)


@lru_cache(16)
def _tried(path: Path, size: int, changed: int) -> bool:
    """The same for a file as it was when it was last changed."""
    with contextlib.suppress(OSError):  # where no process can be started, nothing is known
        try:
            done = subprocess.run(
                [sys.executable, "-P", "-c", _TRY, str(path), str(ROOM + 200 * size)],
                check=False,
                stdin=subprocess.DEVNULL,
                capture_output=True,
                timeout=LONGEST * (1 + size / PACE),
            )
        except subprocess.TimeoutExpired:
            return True
        return done.returncode < 0 or any(
            said in done.stderr for said in (b"memory allocation of", b"PanicException")
        )
    return False
