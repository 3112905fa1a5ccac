"""Runs the program again and again, as children of a process that has everything imported."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import tempfile
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from conftest import Run, served


class Program:
    """The program. A run that takes longer than a limit (in seconds; 0: none) is killed."""

    def __init__(self, limit: int = 0) -> None:
        self.limit, self.streams = limit, Path(tempfile.mkdtemp())
        self.env = dict(os.environ) | {"NO_COLOR": "1"}
        if limit:
            signal.signal(signal.SIGALRM, _stop)
        self._start()

    def _start(self) -> None:
        self.orders, self.answers, _ = served(self.env)

    def run(self, folder: Path, args: list[str]) -> Run | None:
        """What a run did; None where it had to be killed."""
        out, err = self.streams / "out", self.streams / "err"
        order = {"args": args, "cwd": str(folder), "env": self.env, "test": "", "cover": ""}
        self.orders.write(json.dumps(order | {"out": str(out), "err": str(err)}) + "\n")
        self.orders.flush()
        signal.alarm(self.limit)
        try:
            code = int(self.answers.readline())
        except TimeoutError:
            subprocess.run(["pkill", "-9", "-f", "forked.py"], check=False)
            self._start()
            return None
        finally:
            signal.alarm(0)
        said = [p.read_bytes().decode("utf-8", "backslashreplace") for p in (out, err)]
        return Run(code, *said)

    def __call__(self, args: list[str], folder: Path) -> Run:
        """The same of a run that ends."""
        done = self.run(folder, args)
        assert done is not None
        return done


def _stop(*_: object) -> None:
    raise TimeoutError
