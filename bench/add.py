"""Adds the same later file to a small and to a large database, side by side: what it costs must not
grow with what is there.

python bench/add.py [--rows 1000000 10000000] [--later 100000] [--times 3] [--folder
/tmp/kerfmark-bench]

Prints wall and CPU seconds and peak memory of `kerfmark add`, of `kerfmark undo` after it, of the
start of the program with its libraries, and of adding a month of the demo; and the ratios.
"""

from __future__ import annotations

import argparse
import shutil
import statistics
import subprocess
import sys
import tempfile
from pathlib import Path

from run import Figures, measure

PROGRAM = [sys.executable, "-m", "kerfmark"]
START = [
    sys.executable,
    "-c",
    "import kerfmark.cli.main, kerfmark.verbs.add, kerfmark.store.sqlite.changing, "
    "adbc_driver_sqlite.dbapi, pyarrow.csv",
]
"""What starts the program with the libraries that `add` needs, and does nothing."""


def split_off(whole: Path, rows: int, base: Path, later: Path) -> None:
    """The first rows of a file as one file, those after them as another, each with the header."""
    with whole.open("rb") as file, base.open("wb") as first, later.open("wb") as second:
        header = file.readline()
        first.write(header)
        second.write(header)
        for _ in range(rows):
            first.write(file.readline())
        while block := file.read(1 << 24):
            second.write(block)


def main() -> None:
    """Command line."""
    ap = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    ap.add_argument("--rows", type=int, nargs=2, default=[1_000_000, 10_000_000])
    ap.add_argument("--later", type=int, default=100_000)
    ap.add_argument("--times", type=int, default=3)
    ap.add_argument("--folder", type=Path, default=Path(tempfile.gettempdir()) / "kerfmark-bench")
    args = ap.parse_args()
    args.folder.mkdir(parents=True, exist_ok=True)
    databases = []
    for rows in args.rows:
        base, later, db = (
            args.folder / name
            for name in (f"base-{rows}.csv", f"later-{rows}.csv", f"base-{rows}.db")
        )
        if not db.exists():
            whole = args.folder / f"whole-{rows}.csv"
            make = (
                "import sys; from pathlib import Path; from make_flat import make_flat; "
                "make_flat(int(sys.argv[1]), Path(sys.argv[2]), like=int(sys.argv[3]))"
            )  # a process of its own: what this one takes counts as that of those it starts
            numbers = [str(rows + args.later), str(whole), str(args.rows[0])]
            subprocess.run(
                [sys.executable, "-c", make, *numbers], check=True, cwd=Path(__file__).parent
            )  # the same hives and keepers in both
            split_off(whole, rows, base, later)
            whole.unlink()
            subprocess.run(
                [*PROGRAM, "cut", str(base), "--into", str(db), "--replace"],
                check=True,
                stdout=subprocess.DEVNULL,
            )
            base.unlink()
        databases.append((rows, db, later))
    found: dict[tuple[str, int], list[Figures]] = {}
    demo = args.folder / "demo"
    month = demo / "inspections-2026-01.csv"
    if not demo.exists():
        subprocess.run([*PROGRAM, "demo", str(demo)], check=True, stdout=subprocess.DEVNULL)
    cut = [*PROGRAM, "cut", str(demo / "inspections-2025.csv"), "--into", str(demo / "year.db")]
    subprocess.run([*cut, "--replace", "--discard"], check=True, stdout=subprocess.DEVNULL)
    shutil.copy(demo / "year.db", demo / "as-cut.db")

    def as_cut() -> None:
        shutil.copy(demo / "as-cut.db", demo / "year.db")

    found["the start of the program", 0], found["kerfmark add of a month", 0] = [], []
    for _ in range(args.times):
        found["the start of the program", 0].append(measure(START, lambda: None))
        found["kerfmark add of a month", 0].append(
            measure([*PROGRAM, "add", str(month), "--into", str(demo / "year.db")], as_cut)
        )
        for rows, db, later in databases:
            found.setdefault(("add", rows), []).append(
                measure([*PROGRAM, "add", str(later), "--into", str(db)], lambda: None)
            )
            found.setdefault(("undo", rows), []).append(
                measure([*PROGRAM, "undo", str(db)], lambda: None)
            )
    start = statistics.median(f[0] for f in found["the start of the program", 0])
    print(
        "| work | rows that are there | wall s | CPU s | peak MB | wall, of the smaller | of the "
        "start |"
    )
    print("|---|---|---|---|---|---|---|")
    for work in ("the start of the program", "kerfmark add of a month"):
        wall, cpu, peak = (statistics.median(f[i] for f in found[work, 0]) for i in range(3))
        print(f"| {work} | | {wall:.1f} | {cpu:.2f} | {peak:.0f} | | {wall / start:.1f} |")
    for verb in ("add", "undo"):
        first = statistics.median(f[0] for f in found[verb, args.rows[0]])
        for rows in args.rows:
            wall, cpu, peak = (statistics.median(f[i] for f in found[verb, rows]) for i in range(3))
            print(
                f"| kerfmark {verb} {args.later:,} rows | {rows:,} | {wall:.1f} | {cpu:.1f} | "
                f"{peak:.0f} | {wall / first:.2f} | {wall / start:.1f} |"
            )


if __name__ == "__main__":
    main()
