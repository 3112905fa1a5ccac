"""Compares a whole cut into PostgreSQL and MariaDB with the server's own loader of the flat file,
side by side in one run.

    python bench/servers.py [--rows 2000000] [--times 3] [--folder /tmp/kerfmark-bench]
                            [--postgresql postgresql://root@127.0.0.1/test] [--mysql mysql://root@127.0.0.1/test]

The server's loader (COPY, LOAD DATA LOCAL) is run by its own client and fills one table of texts,
without types, keys, links or indexes, made in the same transaction. Kerfmark cuts with the layout
found (marking included) and with a layout given. Prints wall seconds (the median of several runs,
taken in turn) and ratios. Needs the programs `psql` and `mariadb`; the schema or database
`kerfmark_bench` is made and taken away.
"""

from __future__ import annotations

import argparse
import csv
import os
import statistics
import subprocess
import sys
import tempfile
from pathlib import Path

from make import make
from run import measure

from kerfmark.address import address, with_schema

SCHEMA = "kerfmark_bench"


def main() -> None:
    """Command line."""
    ap = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    ap.add_argument("--rows", type=int, default=2_000_000)
    ap.add_argument("--times", type=int, default=3)
    ap.add_argument(
        "--folder",
        type=lambda said: Path(said).resolve(),
        default=Path(tempfile.gettempdir()) / "kerfmark-bench",
    )
    ap.add_argument("--postgresql", default="postgresql://root@127.0.0.1/test")
    ap.add_argument("--mysql", default="mysql://root@127.0.0.1/test")
    args = ap.parse_args()
    args.folder.mkdir(parents=True, exist_ok=True)
    os.chdir(args.folder)  # where a cut into a server saves its layout
    flat = args.folder / f"inspections-{args.rows}.csv"
    make("make_flat", "make_flat", args.rows, flat)
    with flat.open(encoding="utf-8", newline="") as file:
        headers = next(csv.reader(file))
    for url in filter(None, (args.postgresql, args.mysql)):
        compare(url, flat, headers, args.times)


class Fresh:
    """Makes the schema or database of the benchmark anew, or only takes it away."""

    def __init__(self, ask: list[str], statements: list[str]) -> None:
        self.ask, self.statements = ask, statements

    def __call__(self, *, again: bool = True) -> None:
        for statement in self.statements if again else self.statements[:1]:
            subprocess.run([*self.ask, statement], check=True, capture_output=True)


def own_loader(url: str, flat: Path, headers: list[str]) -> tuple[Fresh, list[str]]:
    """How a server's own client loads a flat file, and what must be done before."""
    where = address(url)
    if where.engine == "postgresql":
        client = ["psql", "-q", "-v", "ON_ERROR_STOP=1", url]
        columns = ", ".join(f'"{h}" text' for h in headers)
        return (
            Fresh(
                [*client, "-c"],
                [f"DROP SCHEMA IF EXISTS {SCHEMA} CASCADE", f"CREATE SCHEMA {SCHEMA}"],
            ),
            [
                *client,
                "-1",
                "-c",
                f"CREATE TABLE {SCHEMA}.flat ({columns})",
                "-c",
                f"\\copy {SCHEMA}.flat FROM '{flat}' WITH (FORMAT csv, HEADER)",
            ],
        )
    client = [
        "mariadb",
        f"-h{where.host}",
        f"-P{where.port}",
        f"-u{where.user}",
        "--local-infile=1",
    ]
    columns = ", ".join(f"`{h}` text" for h in headers)
    return (
        Fresh([*client, "-e"], [f"DROP DATABASE IF EXISTS {SCHEMA}", f"CREATE DATABASE {SCHEMA}"]),
        [
            *client,
            "-e",
            f"CREATE TABLE {SCHEMA}.flat ({columns}); LOAD DATA LOCAL INFILE '{flat}' INTO TABLE "
            f"{SCHEMA}.flat "
            "CHARACTER SET utf8mb4 FIELDS TERMINATED BY ',' OPTIONALLY ENCLOSED BY '\"' LINES "
            "TERMINATED BY '\\n' "
            "IGNORE 1 LINES",
        ],
    )


def compare(url: str, flat: Path, headers: list[str], times: int) -> None:
    """Times both ways into one server."""
    layout = flat.parent / "server.layout.toml"
    cut = [sys.executable, "-m", "kerfmark", "cut", "--into", with_schema(url, SCHEMA), "--quiet"]
    prepare, own = own_loader(url, flat, headers)
    subprocess.run(
        [
            sys.executable,
            "-m",
            "kerfmark",
            "mark",
            str(flat),
            "-o",
            str(layout),
            "--replace",
            "--quiet",
        ],
        check=True,
        capture_output=True,
    )
    runs: dict[str, list[float]] = {
        "the server's own loader": [],
        "kerfmark cut": [],
        "kerfmark cut, layout given": [],
    }
    commands = {
        "the server's own loader": own,
        "kerfmark cut": [*cut, str(flat), "--replace"],
        "kerfmark cut, layout given": [*cut, str(layout)],
    }
    for _ in range(times):
        for name, command in commands.items():
            runs[name].append(measure(command, prepare)[0])
    prepare(again=False)
    base = statistics.median(runs["the server's own loader"])
    print(address(url).engine)
    for name, seconds in runs.items():
        ratios = [s / b for s, b in zip(seconds, runs["the server's own loader"], strict=True)]
        print(
            f"  {name:28} {statistics.median(seconds):7.1f} s   "
            f"{statistics.median(seconds) / base:5.2f}   "
            f"({min(ratios):.2f} to {max(ratios):.2f})"
        )


if __name__ == "__main__":
    main()
