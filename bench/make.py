"""Makes the files of the benchmarks in a process of its own: what a program took before it started
another counts as that one's."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path


def make(module: str, function: str, rows: int, path: Path) -> None:
    """Calls a function that writes a file of so many rows, unless the file is there."""
    if not path.exists():
        code = (
            f"import sys; from pathlib import Path; from {module} import {function}; "
            f"{function}(int(sys.argv[1]), Path(sys.argv[2]))"
        )
        subprocess.run(
            [sys.executable, "-c", code, str(rows), str(path)],
            check=True,
            cwd=Path(__file__).parent,
        )
