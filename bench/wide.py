"""Marks wide files: 100,000 rows x 100 columns, and 20,000 rows x 75, 150 and 300 columns, to see
how time grows with these; 60 rows x 1,000 and 2,000 columns; and checks layouts of 3,000 and 20,000
tables.

    python bench/wide.py [--folder /tmp/kerfmark-bench]

Each file holds rows of a base with parents on two levels, numbers, dates and words; wall and CPU
seconds and peak memory of the whole process `kerfmark mark` are printed.
"""

from __future__ import annotations

import argparse
import sys
import tempfile
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.csv as pv
from run import measure


def make_wide(rows: int, columns: int, path: Path) -> None:
    """A file whose columns belong to a base, ten parents of it and a grandparent each."""
    rng = np.random.default_rng(columns)
    cells: dict[str, pa.Array] = {"row no": pa.array(np.arange(1, rows + 1))}
    parent = 0
    while len(cells) < columns - 8:
        parent += 1
        many = int(rng.integers(20, rows // 20))
        of = rng.integers(0, many, rows)
        above = rng.integers(0, max(3, many // 5), many)
        name = f"thing {parent}"
        cells[f"{name} code"] = pa.array(np.char.add(f"T{parent}-", of.astype(str)))
        for i in range(4):
            cells[f"{name} fact {i}"] = pa.array(rng.integers(0, 50, many)[of])
        cells[f"{name} group"] = pa.array(np.char.add(f"G{parent}-", above[of].astype(str)))
        cells[f"{name} group place"] = pa.array(
            np.char.add("place ", rng.integers(0, 9, max(3, many // 5))[above[of]].astype(str))
        )
    while len(cells) < columns:
        cells[f"count {len(cells)}"] = pa.array(rng.poisson(30, rows))
    pv.write_csv(pa.table(cells), path)


def make_loose(columns: int, path: Path) -> None:
    """A file of 60 rows whose columns have nothing to do with each other."""
    rng = np.random.default_rng(columns)
    cells: dict[str, pa.Array] = {"no": pa.array(np.arange(60))}
    for i in range(1, columns):
        texts = rng.choice(list("abcdefgh"), 60) if i % 3 == 0 else rng.integers(2, 40, 60)
        cells[f"c{i}"] = pa.array(texts)
    pv.write_csv(pa.table(cells), path)


def make_layout(tables: int, path: Path) -> None:
    """A layout of many tables, each of one column of one file of three rows, which is beside
    it."""
    names = [f"k{i}" for i in range(1, tables)]
    with path.with_suffix(".csv").open("w") as file:
        file.write(",".join(["no", *names]) + "\n")
        for row in range(3):
            file.write(",".join(str((row + i) % 2 + i * (i > 0)) for i in range(tables)) + "\n")
    with path.open("w") as file:
        file.write(f'kerfmark = 1\n[sources.s]\nfile = "{path.stem}.csv"\n[tables.t]\n')
        file.write('source = "s"\neach_row = true\n[tables.t.links]\n')
        file.writelines(f'l{n} = "t{n}"\n' for n in names)
        file.write('[tables.t.columns]\nno = "no"\n')
        for n in names:
            file.write(f'[tables.t{n}]\nsource = "s"\nknown_by = ["k"]\n')
            file.write(f'[tables.t{n}.columns]\nk = "{n}"\n')


def main() -> None:
    """Command line."""
    ap = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    ap.add_argument("--folder", type=Path, default=Path(tempfile.gettempdir()) / "kerfmark-bench")
    args = ap.parse_args()
    args.folder.mkdir(parents=True, exist_ok=True)
    print("| file | wall s | CPU s | peak MB |\n|---|---|---|---|")

    def told(what: str, command: str, path: Path) -> None:
        wall, cpu, peak = measure(
            [sys.executable, "-m", "kerfmark", command, str(path)], lambda: None
        )
        print(f"| {what} | {wall:.1f} | {cpu:.1f} | {peak:.0f} |", flush=True)

    for rows, columns in ((100_000, 100), (20_000, 75), (20_000, 150), (20_000, 300)):
        path = args.folder / f"wide-{rows}x{columns}.csv"
        if not path.exists():
            make_wide(rows, columns, path)
        told(f"{rows:,} x {columns}", "mark", path)
    for columns in (1_000, 2_000):
        path = args.folder / f"loose-{columns}.csv"
        make_loose(columns, path)
        told(f"60 x {columns:,}, unrelated", "mark", path)
    for tables in (3_000, 20_000):
        path = args.folder / f"tables-{tables}.toml"
        make_layout(tables, path)
        told(f"layout of {tables:,} tables, checked", "check", path)


if __name__ == "__main__":
    main()
