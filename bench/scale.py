"""How time and memory grow with the rows: a cut of 4 columns into SQLite, beside the engines' own
loaders of the flat file.

    python bench/scale.py [--rows 500000,2000000,8000000,25000000] [--folder /tmp/kerfmark-bench] [--plot rows.png]
                          [--postgresql postgresql://root@127.0.0.1/test] [--mysql mysql://root@127.0.0.1/test]

Each is run once per number of rows, one after the other. Needs the program `sqlite3`, and `psql`
and `mariadb` for the servers (say --postgresql '' or --mysql '' to leave one out).
"""  # noqa: E501

from __future__ import annotations

import argparse
import sys
import tempfile
from pathlib import Path

from make import make
from own_loaders import own_loader
from run import Figures, measure


def main() -> None:
    """Command line."""
    ap = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    ap.add_argument("--rows", default="500000,2000000,8000000,25000000")
    ap.add_argument("--folder", type=Path, default=Path(tempfile.gettempdir()) / "kerfmark-bench")
    ap.add_argument("--plot", type=Path)
    ap.add_argument("--postgresql", default="postgresql://root@127.0.0.1/test")
    ap.add_argument("--mysql", default="mysql://root@127.0.0.1/test")
    args = ap.parse_args()
    args.folder.mkdir(parents=True, exist_ok=True)
    sizes = [int(n) for n in args.rows.split(",")]
    figures: dict[str, list[Figures]] = {}
    for rows in sizes:
        flat = args.folder / f"readings-{rows}.csv"
        make("make_readings", "make_readings", rows, flat)
        for name, one in round_of(flat, args).items():
            figures.setdefault(name, []).append(one)
        print(f"{rows:>12,} rows, {flat.stat().st_size / 1e6:.0f} MB", flush=True)
    print(
        "\n| work | "
        + " | ".join(f"{n / 1e6:g} million" for n in sizes)
        + " | a row at the most, of 2 million |"
    )
    print("|---|" + "---|" * (len(sizes) + 1))
    at = sizes.index(2_000_000) if 2_000_000 in sizes else 0
    for name, some in figures.items():
        ratio = (some[-1][0] / sizes[-1]) / (some[at][0] / sizes[at])
        print(
            f"| {name} | "
            + " | ".join(f"{wall:.1f} s, {peak:.0f} MB" for wall, _, peak in some)
            + f" | {ratio:.2f} |"
        )
    if args.plot:
        plot(sizes, figures, args.plot)


def round_of(flat: Path, args: argparse.Namespace) -> dict[str, Figures]:
    """Runs everything once on one file."""
    cut, shell, layout = (
        flat.with_suffix(".db"),
        flat.with_suffix(".shell.db"),
        flat.with_suffix(".layout.toml"),
    )

    def clear() -> None:
        for path in (cut, shell, layout):
            path.unlink(missing_ok=True)

    program = [sys.executable, "-m", "kerfmark", "cut", str(flat), "--into", str(cut), "--quiet"]
    out = {
        "kerfmark cut into SQLite": measure(program, clear),
        "SQLite's own shell": measure(
            ["sqlite3", str(shell), ".mode csv", f".import {flat} flat"], clear
        ),
    }
    headers = flat.open(encoding="utf-8").readline().strip().split(",")
    for name, url in (
        ("PostgreSQL's own COPY", args.postgresql),
        ("MariaDB's own LOAD DATA", args.mysql),
    ):
        if url:
            fresh, own = own_loader(url, flat, headers)
            out[name] = measure(own, fresh)
            fresh(again=False)
    clear()
    return out


def plot(sizes: list[int], figures: dict[str, list[Figures]], path: Path) -> None:
    """Seconds against rows."""
    import matplotlib

    matplotlib.use("agg")
    from matplotlib import pyplot

    figure, axes = pyplot.subplots(figsize=(9, 5.6), dpi=110, layout="constrained")
    for (name, some), colour, mark in zip(
        figures.items(), ("#d95f02", "#555555", "#1f78b4", "#6a3d9a"), "osD^", strict=False
    ):
        axes.plot(
            [n / 1e6 for n in sizes],
            [f[0] for f in some],
            colour,
            marker=mark,
            linewidth=2.5 if name[0] == "k" else 1.4,
            label=name,
        )
    axes.set(
        xlabel="million rows (4 columns)",
        ylabel="seconds",
        title="Time against rows: types, keys and proof of counts in "
        "Kerfmark, flat texts in the others",
        xlim=0,
        ylim=0,
    )
    axes.grid(alpha=0.3)
    axes.legend(frameon=False)
    figure.savefig(path)


if __name__ == "__main__":
    main()
