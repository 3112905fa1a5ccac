"""Compares Kerfmark with the database engine's own shell on the same file, side by side in one run.

    python bench/run.py [--rows 2000000] [--times 3] [--quick] [--folder /tmp/kerfmark-bench]

Prints wall and CPU seconds and peak memory of whole processes (the median of several runs, each
round in another order), and the ratios. The shell loads the file as one table without types, keys,
links or indexes. Needs the program `sqlite3`.
"""

from __future__ import annotations

import argparse
import os
import random
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from make import make

FLOOR = Path(__file__).with_name("floor.py")
AS_INSTALLED = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}
"""Modules are compiled once, as where they are installed, and not in every run."""
Figures = tuple[float, float, float]
"""Wall seconds, CPU seconds, peak memory in MB."""


def measure(command: list[str], prepare: Callable[[], None]) -> Figures:
    """Runs one command as a process of its own."""
    prepare()
    os.sync()  # what the run before has written would be written out during this one
    with tempfile.TemporaryFile() as output:
        start = time.perf_counter()
        process = subprocess.Popen(
            command, stdout=output, stderr=output, stdin=subprocess.DEVNULL, env=AS_INSTALLED
        )
        _, status, used = os.wait4(process.pid, 0)
        wall = time.perf_counter() - start
        if status:
            output.seek(0)
            raise SystemExit(f"{command[0]} failed:\n{output.read().decode()}")
    return wall, used.ru_utime + used.ru_stime, used.ru_maxrss / 1024


def main() -> None:
    """Command line."""
    ap = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    ap.add_argument("--rows", type=int, default=2_000_000)
    ap.add_argument("--times", type=int, default=3)
    ap.add_argument(
        "--quick",
        action="store_true",
        help="300,000 rows, a workbook of 20,000, once: under two minutes",
    )
    ap.add_argument("--folder", type=Path, default=Path(tempfile.gettempdir()) / "kerfmark-bench")
    args = ap.parse_args()
    if args.quick:
        args.rows, args.times = 300_000, 1
    sheet_rows = 20_000 if args.quick else 200_000
    if not shutil.which("sqlite3"):
        raise SystemExit("the program sqlite3 is needed for the comparison")
    args.folder.mkdir(parents=True, exist_ok=True)
    flat = args.folder / f"inspections-{args.rows}.csv"
    make("make_flat", "make_flat", args.rows, flat)
    cut, shell = args.folder / "cut.db", args.folder / "shell.db"
    layout = args.folder / "cut.layout.toml"
    book = args.folder / f"book-{sheet_rows}.xlsx"
    make("make_flat", "make_book", sheet_rows, book)
    few, small = args.folder / "few.csv", args.folder / "few.db"
    few.write_text("hive,queen\n1,A\n2,B\n", encoding="utf-8")
    parts, floor = args.folder / f"parts-{args.rows}", args.folder / "floor.db"

    def clear(*paths: Path) -> Callable[[], None]:
        return lambda: [p.unlink(missing_ok=True) for p in paths] and None

    program = [sys.executable, "-m", "kerfmark"]
    as_text = (
        f"import pyarrow as pa, pyarrow.csv as c; f={str(flat)!r}; "
        "n=open(f).readline().strip().split(','); "
        "c.read_csv(f, convert_options=c.ConvertOptions(column_types={k: pa.string() for k in n}))"
    )
    encoded = (
        as_text.replace(
            "import pyarrow as pa", "import pyarrow.compute as pc, pyarrow as pa"
        ).replace("c.read_csv", "t = c.read_csv")
        + "; [x.combine_chunks().dictionary_encode() for x in t.columns]"
    )
    library = (
        "import python_calamine as c; "
        f"c.load_workbook({str(book)!r}).get_sheet_by_index(0).to_python()"
    )
    jobs: dict[str, tuple[list[str], Callable[[], None]]] = {
        "engine's shell, flat": (
            ["sqlite3", str(shell), ".mode csv", f".import {flat} flat"],
            clear(shell),
        ),
        "kerfmark cut": ([*program, "cut", str(flat), "--into", str(cut)], clear(cut, layout)),
        "kerfmark cut, layout given": (
            [*program, "cut", str(layout), "--into", str(cut)],
            clear(cut),
        ),
        "the floor: read, insert the split tables, index": (
            [sys.executable, str(FLOOR), "run", str(flat), str(parts), str(floor)],
            clear(floor),
        ),
        "kerfmark check": ([*program, "check", str(layout)], lambda: None),
        "kerfmark measure": ([*program, "measure", str(flat)], lambda: None),
        "kerfmark mark": ([*program, "mark", str(flat)], lambda: None),
        "reading as Arrow text and encoding the columns": (
            [sys.executable, "-c", encoded],
            lambda: None,
        ),
        "reading as Arrow text": ([sys.executable, "-c", as_text], lambda: None),
        f"the workbook library alone, {sheet_rows:,} x 20": (
            [sys.executable, "-c", library],
            lambda: None,
        ),
        "kerfmark measure of that workbook": ([*program, "measure", str(book)], lambda: None),
        "kerfmark prove": ([*program, "prove", str(cut)], lambda: None),
        "the bare interpreter": ([sys.executable, "-c", "pass"], lambda: None),
        "kerfmark --help": ([*program, "--help"], lambda: None),
        "kerfmark show of a small database": ([*program, "show", str(small)], lambda: None),
    }
    clear(cut, layout)()
    subprocess.run(
        [*program, "cut", str(flat), "--into", str(cut), "--quiet"],
        check=True,
        stdout=subprocess.DEVNULL,
    )
    subprocess.run(
        [*program, "cut", str(few), "--into", str(small), "--replace", "--quiet"],
        check=True,
        stdout=subprocess.DEVNULL,
    )
    subprocess.run([sys.executable, str(FLOOR), "prepare", str(cut), str(parts)], check=True)
    with flat.open(
        "rb"
    ) as file:  # warm, and without taking memory that would count as that of the others
        while file.read(1 << 20):
            pass
    runs: dict[str, list[Figures]] = {name: [] for name in jobs}
    for at in range(args.times):
        for name in random.Random(at).sample(
            list(jobs), len(jobs)
        ):  # what ran before leaves its mark on the machine
            command, prepare = jobs[name]
            runs[name].append(measure(command, prepare))
    middle = {
        name: [statistics.median(f) for f in zip(*some, strict=True)] for name, some in runs.items()
    }
    base = middle["engine's shell, flat"]
    print(
        f"{args.rows:,} rows x 13 columns, {flat.stat().st_size / 1e6:.0f} MB, median of "
        f"{args.times}\n"
    )
    print(
        "| work | wall s | CPU s | peak MB | wall, of the shell's | CPU, of the shell's | spread "
        "of wall |"
    )
    print("|---|---|---|---|---|---|---|")
    for name, (wall, cpu, peak) in middle.items():
        walls = [f[0] for f in runs[name]]
        print(
            f"| {name} | {wall:.1f} | {cpu:.1f} | {peak:.0f} | {wall / base[0]:.2f} | "
            f"{cpu / base[1]:.2f} "
            f"| {min(walls):.1f}-{max(walls):.1f} |"
        )
    print("\n| work | of | wall | of the fastest runs | aim |\n|---|---|---|---|---|")
    for name, other, aim in (
        ("kerfmark cut, layout given", "engine's shell, flat", 0.5),
        ("kerfmark cut, layout given", "the floor: read, insert the split tables, index", 1.4),
        ("kerfmark cut", "engine's shell, flat", 0.7),
        ("kerfmark measure", "reading as Arrow text", 2.0),
        ("kerfmark mark", "reading as Arrow text and encoding the columns", 2.0),
        ("kerfmark check", "kerfmark cut, layout given", 0.7),
        ("kerfmark prove", "kerfmark cut", 1.0),
        (
            "kerfmark measure of that workbook",
            f"the workbook library alone, {sheet_rows:,} x 20",
            1.3,
        ),
    ):
        ratio, best = middle[name][0] / middle[other][0], min(runs[name])[0] / min(runs[other])[0]
        print(
            f"| {name} | {other} | {ratio:.2f} | {best:.2f} | {aim:g}: "
            f"{'met' if ratio <= aim else '**not met**'} |"
        )
    for name, limit in (("kerfmark --help", 0.15), ("kerfmark show of a small database", 0.35)):
        beyond = middle[name][1] - middle["the bare interpreter"][1]
        print(
            f"| {name} | CPU seconds beyond the bare interpreter | {beyond:.2f} | | {limit:g}: "
            f"{'met' if beyond <= limit else '**not met**'} |"
        )


if __name__ == "__main__":
    main()
