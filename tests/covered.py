"""Which lines of the program each test runs, also in the children that run its command line.

Only where KERFMARK_TEST_COVERAGE names a folder, for `bench/mutants.py`: a line of JSON per test (or
per command line of it) with the seconds it took and the lines of each module.
"""

from __future__ import annotations

import contextlib
import json
import os
import time
from collections.abc import Iterator
from pathlib import Path

FOLDER = os.environ.get("KERFMARK_TEST_COVERAGE", "")


@contextlib.contextmanager
def covered(test: str, folder: str = FOLDER) -> Iterator[None]:
    """Notes what is run meanwhile, on behalf of a test."""
    if not folder:
        yield
        return
    import coverage

    import kerfmark

    root = Path(str(kerfmark.__file__)).parent
    found = coverage.Coverage(data_file=None, include=[f"{root}/*"])
    started = time.perf_counter()
    found.start()
    try:
        yield
    finally:
        found.stop()
        data = found.get_data()
        lines = {
            str(Path(file).relative_to(root)): sorted(data.lines(file) or ())
            for file in data.measured_files()
        }
        seconds = time.perf_counter() - started
        name = Path(folder) / f"{os.getpid()}-{time.perf_counter_ns()}.json"
        name.write_text(json.dumps({"test": test, "seconds": seconds, "lines": lines}))
