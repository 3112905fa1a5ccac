"""How the commands grow with the loads in the ledger: adds small files one after the other, and
times each command where there are few loads and where there are many.

    python bench/loads.py [--loads 12 120 1200] [--rows 20] [--folder /tmp/kerfmark-bench]

Prints the wall seconds of the work itself (not of starting the program), the median of several
calls, and of the last `undo` and `refresh`.
"""

from __future__ import annotations

import argparse
import statistics
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import kerfmark

HEADER = "visit no,day,hive,hive type,keeper,kg\n"


def rows(first: int, count: int) -> str:
    """The text of a file."""
    return HEADER + "".join(
        f"{n},2025-{n % 12 + 1:02d}-{n % 28 + 1:02d},H{n % 40},{'straw' if n % 40 % 3 else 'long'},"
        f"Keeper {n % 7},{n % 90}.5\n"
        for n in range(first, first + count)
    )


def seconds(work: Callable[[], object], times: int = 5) -> float:
    """The median of several calls."""
    took = []
    for _ in range(times):
        started = time.perf_counter()
        work()
        took.append(time.perf_counter() - started)
    return statistics.median(took)


def main() -> None:
    """Command line."""
    ap = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    ap.add_argument("--loads", type=int, nargs="+", default=[12, 120, 1200])
    ap.add_argument("--rows", type=int, default=20)
    ap.add_argument("--folder", type=Path, default=Path(tempfile.gettempdir()) / "kerfmark-bench")
    args = ap.parse_args()
    folder = args.folder / "loads"
    folder.mkdir(parents=True, exist_ok=True)
    db, base = folder / "loads.db", folder / "visits.csv"
    base.write_text(rows(0, 400), encoding="utf-8")
    for old in (db, folder / "loads.layout.toml"):
        old.unlink(missing_ok=True)
    kerfmark.cut([base], db, steering=kerfmark.Steering(known_by=(("visit no",), ("hive",))))
    done, next_row = 1, 400
    print("| loads | add | show | loads | prove | check | trace | undo | refresh |")
    print("|---|---|---|---|---|---|---|---|---|")
    for wanted in args.loads:
        took = []
        while done < wanted:
            file = folder / f"later-{done:05d}.csv"
            file.write_text(rows(next_row, args.rows), encoding="utf-8")
            started = time.perf_counter()
            kerfmark.add([file], db)
            took.append(time.perf_counter() - started)
            done, next_row = done + 1, next_row + args.rows
        last = folder / f"later-{done - 1:05d}.csv"
        last.write_text(rows(next_row - args.rows, args.rows + 1), encoding="utf-8")
        refresh = seconds(lambda: kerfmark.refresh(db), 1)
        next_row += 1
        figures = [
            statistics.median(took[-10:]),
            seconds(lambda: kerfmark.show(db)),
            seconds(lambda: kerfmark.loads(db)),
            seconds(lambda: kerfmark.prove(db), 1),
            seconds(lambda: kerfmark.check(folder / "loads.layout.toml"), 1),
            seconds(lambda: kerfmark.trace(db, "hive", "1")),
            seconds(lambda: kerfmark.undo(db), 1),
            refresh,
        ]
        kerfmark.add([last], db)
        print(f"| {wanted:,} | " + " | ".join(f"{f:.2f}" for f in figures) + " |", flush=True)


if __name__ == "__main__":
    main()
