"""What it costs that a cut and an add prove themselves before they publish: the same program with
and without that, in turn.

    python bench/selfcheck.py [--rows 2000000] [--times 5] [--folder /tmp/kerfmark-bench]

Prints wall and CPU seconds of whole processes (medians) and their ratios. Aim: at most 1.15.
"""

from __future__ import annotations

import argparse
import shutil
import statistics
import subprocess
import sys
import tempfile
from pathlib import Path

from make import make
from run import Figures, measure

WITHOUT = (
    "import sys, kerfmark.normalize.split as s; s.check_rejoined = lambda *a: None; "
    "from kerfmark.cli.main import main; sys.exit(main(sys.argv[1:]))"
)
WITH = WITHOUT.replace("s.check_rejoined = lambda *a: None; ", "")


def main() -> None:
    """Command line."""
    ap = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    ap.add_argument("--rows", type=int, default=2_000_000)
    ap.add_argument("--times", type=int, default=5)
    ap.add_argument("--folder", type=Path, default=Path(tempfile.gettempdir()) / "kerfmark-bench")
    args = ap.parse_args()
    args.folder.mkdir(parents=True, exist_ok=True)
    flat = args.folder / f"inspections-{args.rows}.csv"
    make("make_flat", "make_flat", args.rows, flat)
    first, second = args.folder / "first.csv", args.folder / "second.csv"
    with (
        flat.open(encoding="utf-8") as whole,
        first.open("w", encoding="utf-8") as a,
        second.open("w", encoding="utf-8") as b,
    ):
        head = next(whole)
        a.write(head)
        b.write(head)
        for n, line in enumerate(whole):
            (a if n < args.rows // 2 else b).write(line)
    cut, base, added = (args.folder / f"self-{n}.db" for n in ("cut", "base", "add"))
    layout = args.folder / "self-base.layout.toml"
    for path in (base, layout):
        path.unlink(missing_ok=True)
    subprocess.run(
        [sys.executable, "-m", "kerfmark", "cut", str(first), "--into", str(base), "--quiet"],
        check=True,
        stdout=subprocess.DEVNULL,
    )
    jobs = {
        "cut, layout given": (
            ["cut", str(layout), "--into", str(cut)],
            lambda: cut.unlink(missing_ok=True),
        ),
        "add of as many rows as are there": (
            ["add", str(second), "--into", str(added)],
            lambda: shutil.copy(base, added),
        ),
    }
    print(f"{args.rows:,} rows x 13 columns, median of {args.times}\n")
    print(
        "| work | with | without | wall ratio (median of pairs) | CPU ratio | aim "
        "|\n|---|---|---|---|---|---|"
    )
    for name, (command, prepare) in jobs.items():
        pairs: list[tuple[Figures, Figures]] = []
        for n in range(args.times + 1):
            both = {}
            for which, program in ((WITH, "with"), (WITHOUT, "without"))[:: 1 if n % 2 else -1]:
                prepare()
                both[program] = measure([sys.executable, "-c", which, *command], lambda: None)
            pairs.append((both["with"], both["without"]))
        pairs = pairs[1:]  # the first round only warms
        wall, cpu = (statistics.median(a[i] / b[i] for a, b in pairs) for i in (0, 1))
        seconds = [statistics.median(p[k][0] for p in pairs) for k in (0, 1)]
        print(
            f"| {name} | {seconds[0]:.2f} s | {seconds[1]:.2f} s | {wall:.2f} | {cpu:.2f} | "
            f"1.15: {'met' if wall <= 1.15 else '**not met**'} |",
            flush=True,
        )
    for path in (cut, base, added, layout, first, second):
        path.unlink(missing_ok=True)


if __name__ == "__main__":
    main()
