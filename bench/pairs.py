"""Runs two commands at one database at once, every pair of them at ten moments, on each engine, and
tells what is wrong afterwards.

    python bench/pairs.py [--engine SQLite] [--moments 10]

A pair is right when both ended plainly, the rows are those of the loads in the ledger, what was
reported as added is there, and the database is proven.
"""

from __future__ import annotations

import argparse
import sys
import tempfile
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from program import Program

from engines import ENGINES, target
from pairs import COMMANDS, PAIRS, at_once

WIDEST = 0.6
"""Seconds between the starts of two commands, at most."""


def main() -> None:
    """Tries them and prints a table: for each pair how many moments went wrong."""
    parser = argparse.ArgumentParser(description="Runs two commands at once.")
    parser.add_argument("--engine", nargs="*", default=list(ENGINES))
    parser.add_argument("--moments", type=int, default=10)
    wanted = parser.parse_args()
    run, step = Program(), 2 * WIDEST / max(wanted.moments - 1, 1)
    for engine in wanted.engine:
        failed: dict[tuple[str, str], int] = {}
        for first, second in PAIRS:
            for n in range(wanted.moments):
                with tempfile.TemporaryDirectory() as name, target(engine, Path(name)) as db:
                    wrong = at_once(run, Path(name), db, first, second, n * step - WIDEST)
                failed[first, second] = failed.get((first, second), 0) + bool(wrong)
                if wrong:
                    print(f"  {engine}, {first} and {second}, {n}: {wrong}", flush=True)
        print(f"\n| {engine} | " + " | ".join(COMMANDS) + " |\n|" + "---|" * (len(COMMANDS) + 1))
        for one in COMMANDS:
            cells = [failed.get((one, other), failed.get((other, one), 0)) for other in COMMANDS]
            print(f"| {one} | " + " | ".join(map(str, cells)) + " |", flush=True)


if __name__ == "__main__":
    main()
