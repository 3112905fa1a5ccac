"""A source that is larger than the memory allowed, and has a key of its own in nearly every row:
the commands that read it whole.

    python bench/limited.py [--rows 23000000] [--memory 1GB] [--folder /tmp/kerfmark-bench]

23,000,000 rows (1.1 GB) name 20,000,000 jars. Each command is run once with the limit and once
without.
"""

from __future__ import annotations

import argparse
import sys
import tempfile
from pathlib import Path

from make import make
from run import measure


def main() -> None:
    """Command line."""
    ap = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    ap.add_argument("--rows", type=int, default=23_000_000)
    ap.add_argument("--memory", default="1GB")
    ap.add_argument("--folder", type=Path, default=Path(tempfile.gettempdir()) / "kerfmark-bench")
    args = ap.parse_args()
    args.folder.mkdir(parents=True, exist_ok=True)
    flat = args.folder / f"jars-{args.rows}.csv"
    make("make_jars", "make_jars", args.rows, flat)
    database, layout = flat.with_suffix(".db"), flat.with_suffix(".layout.toml")
    program = [sys.executable, "-m", "kerfmark"]
    print(
        f"{args.rows:,} rows, {flat.stat().st_size / 1e6:.0f} MB\n\n| work | peak MB within "
        f"{args.memory} | wall s "
        "| peak MB without a limit | wall s |\n|---|---|---|---|---|"
    )
    for name, words in (
        ("cut", ["cut", str(flat), "--into", str(database), "--quiet"]),
        ("measure", ["measure", str(flat)]),
        ("mark", ["mark", str(flat)]),
        ("check", ["check", str(layout)]),
        ("prove", ["prove", str(database)]),
    ):
        figures = []
        for limit in (args.memory, "1TB"):
            if name == "cut":
                database.unlink(missing_ok=True)
                layout.unlink(missing_ok=True)
            wall, _, peak = measure([*program, *words, "--memory", limit], lambda: None)
            figures.append(f"{peak:.0f} | {wall:.0f}")
        print(f"| kerfmark {name} | " + " | ".join(figures) + " |", flush=True)
    database.unlink()
    layout.unlink()


if __name__ == "__main__":
    main()
