"""Exporting a large table: seconds beside what it costs merely to read it, and peak memory, which
must not grow with the rows.

python bench/export.py [ROWS]        (10,000,000 unless said otherwise)
"""

from __future__ import annotations

import contextlib
import os
import resource
import sqlite3
import subprocess
import sys
import tempfile
import time
from pathlib import Path


def made(path: Path, rows: int) -> None:
    """A database of hives and weighings."""
    with contextlib.closing(sqlite3.connect(path)) as db:
        db.executescript(
            "PRAGMA journal_mode=off; PRAGMA synchronous=off;"
            "CREATE TABLE hive (hive_id INTEGER PRIMARY KEY, hive TEXT NOT NULL);"
            "CREATE TABLE weighing (weighing_id INTEGER PRIMARY KEY, hive_id INTEGER NOT NULL "
            "REFERENCES hive "
            "(hive_id), day DATE NOT NULL, kg NUMERIC(6, 2), note TEXT)"
        )
        db.execute(
            "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 1000) "
            "INSERT INTO hive SELECT i, 'H' || i FROM n"
        )
        db.execute(
            "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < ?) INSERT "
            "INTO weighing SELECT i, "
            "1 + i * 7919 % 1000, date('2020-01-01', '+' || (i % 1500) || ' days'), (i * 31 % "
            "9000) / 100.0, "
            "CASE WHEN i % 5 THEN NULL ELSE 'note ' || (i % 977) END FROM n",
            (rows,),
        )
        db.commit()


def run(*command: str) -> tuple[float, float]:
    """Seconds, and the most memory (MB) that a command took."""
    started = time.perf_counter()
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL)
    _, status, used = os.wait4(process.pid, 0)
    if status:
        raise SystemExit(f"failed: {' '.join(command)}")
    return time.perf_counter() - started, used.ru_maxrss / 1024


def main() -> None:
    """Prints a line per form."""
    rows = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000_000
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        made(folder / "w.db", rows)
        reading = (
            "import adbc_driver_sqlite.dbapi as d; k = d.connect({!r}).cursor(); k.execute('SELECT "
            "* FROM weighing'); "
            "print(sum(b.num_rows for b in k.fetch_record_batch()))"
        ).format(str(folder / "w.db"))
        base, _ = run(sys.executable, "-c", reading)
        print(f"{rows:,} rows x 5; merely reading them through the Arrow driver takes {base:.1f} s")
        for target, *options in (
            ["csv"],
            ["parquet", "--as", "parquet"],
            ["jsonl", "--as", "json-lines"],
            ["nested.jsonl", "--nested"],
            ["all.sql", "--for", "sqlite"],
        ):
            tables = ["hive"] if "--nested" in options else []
            seconds, memory = run(
                sys.executable,
                "-m",
                "kerfmark",
                "export",
                str(folder / "w.db"),
                *tables,
                "-o",
                str(folder / target),
                *options,
                "--quiet",
            )
            print(
                f"{target:<14} {seconds:6.1f} s  {seconds / base:5.2f} of reading  {memory:6.0f} MB"
            )


if __name__ == "__main__":
    main()
