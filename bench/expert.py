"""Compares a cut with the script that an expert writes by hand for the same engine, side by side
in one run: load the flat file into a temporary table, `INSERT ... SELECT DISTINCT` for each parent,
join for the rows, then keys, foreign keys and indexes.

    python bench/expert.py [--rows 2000000] [--times 3] [--engines sqlite,postgresql,mariadb]
                           [--folder /tmp/kerfmark-bench] [--postgresql URL] [--mysql URL]

What both have made is compared first: every record, with the keys of its parents resolved. Prints
wall seconds (the median of several runs, each round in another order), peak memory of the client,
and ratios. Needs `sqlite3`, `psql` and `mariadb`; the schema or database `kerfmark_bench` is made
and taken away.
"""

from __future__ import annotations

import argparse
import hashlib
import os
import random
import shutil
import statistics
import subprocess
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

from make import make
from make_flat import HEADERS
from run import Figures, measure

from kerfmark.address import address, with_schema

SCHEMA = "kerfmark_bench"
PARENTS = {
    # a table, and its columns: a header with its type, or a key with the table that it refers to
    "apiary": [("apiary", "TEXT"), ("apiary grid", "TEXT")],
    "club": [("club", "TEXT"), ("club founded", "BIGINT")],
    "hive": [
        ("apiary_id", "apiary"), ("hive", "TEXT"), ("hive type", "TEXT"), ("queen year", "BIGINT"),
    ],
    "keeper": [("club_id", "club"), ("keeper", "TEXT"), ("keeper phone", "TEXT")],
}  # fmt: skip
ROWS = [
    ("hive_id", "hive"), ("keeper_id", "keeper"), ("inspection", "BIGINT"), ("seen on", "DATE"),
    ("mites", "BIGINT"), ("remark", "TEXT"),
]  # fmt: skip
TABLES = {**PARENTS, "inspection": ROWS}
COMPARED = (
    "SELECT i.inspection, i.seen_on, i.mites, i.remark, h.hive, h.hive_type, h.queen_year, "
    "a.apiary, a.apiary_grid, k.keeper, k.keeper_phone, c.club, c.club_founded "
    "FROM {s}inspection i JOIN {s}hive h ON h.hive_id = i.hive_id "
    "JOIN {s}apiary a ON a.apiary_id = h.apiary_id "
    "JOIN {s}keeper k ON k.keeper_id = i.keeper_id JOIN {s}club c ON c.club_id = k.club_id "
    "ORDER BY i.inspection"
)


def name(header: str) -> str:
    """A header as the name of a column."""
    return header.replace(" ", "_")


def selected(table: str, quote: str, cast: Callable[[str, str], str], flat: str) -> str:
    """How a table is filled from the flat one: parents by their distinct rows, which are few when
    they are joined with parents of their own, by the parent's first own column."""
    texts = [of if of in TABLES else column for column, of in TABLES[table]]
    rows = flat
    if table in PARENTS:
        rows = f"(SELECT DISTINCT {', '.join(quote + t + quote for t in texts)} FROM {flat})"
    cells, joins = [], []
    for column, of in TABLES[table]:
        if of in TABLES:
            cells.append(f"p_{of}.{of}_id")
            joins.append(f" JOIN {of} p_{of} ON p_{of}.{of} = f.{quote}{of}{quote}")
        else:
            cells.append(cast(f"f.{quote}{column}{quote}", of))
    columns = ", ".join(name(c) for c, _ in TABLES[table])
    return (
        f"INSERT INTO {table} ({columns}) SELECT {', '.join(cells)} FROM {rows} f{''.join(joins)};"
    )


def as_integer(cell: str, of: str) -> str:
    """A cell as SQLite converts it."""
    return f"CAST({cell} AS INTEGER)" if of == "BIGINT" else cell


def as_declared(cell: str, of: str) -> str:
    """A cell as PostgreSQL converts it."""
    return cell if of == "TEXT" else f"{cell}::{of}"


def links(table: str) -> list[str]:
    """The tables that a table leads to."""
    return [of for _, of in TABLES[table] if of in TABLES]


def for_sqlite(flat: Path, target: Path) -> list[str]:
    """The command for SQLite: nothing is written twice, no journal, keys and links declared with
    the tables, unique keys before the joins that need them, the other indexes after the rows."""
    script = [
        f".cd {flat.parent}",
        "PRAGMA journal_mode=off;",
        "PRAGMA synchronous=off;",
        "PRAGMA locking_mode=exclusive;",
        "PRAGMA cache_size=-200000;",
        "PRAGMA temp_store=file;",
        ".mode csv",
        f".import --schema temp {flat.name} flat",
        "BEGIN;",
    ]
    for table, columns in TABLES.items():
        declared = [f"{table}_id INTEGER NOT NULL PRIMARY KEY"]
        declared += [
            f"{name(c)} {'INTEGER' if of in TABLES else of} NOT NULL"
            + (f" REFERENCES {of} ({of}_id)" if of in TABLES else "")
            for c, of in columns
        ]
        script.append(f"CREATE TABLE {table} ({', '.join(declared)});")
    for table in TABLES:
        script.append(selected(table, '"', as_integer, "temp.flat"))
        if table in PARENTS:
            script.append(f"CREATE UNIQUE INDEX {table}_known_by ON {table} ({table});")
    script += [f"CREATE INDEX {t}_{of} ON {t} ({of}_id);" for t in TABLES for of in links(t)]
    script += ["COMMIT;", "PRAGMA analysis_limit=1000;", "ANALYZE;"]
    path = flat.parent / "expert.sqlite.sql"
    path.write_text("\n".join(script) + "\n")
    return ["sqlite3", "-bail", str(target), f".read {path}"]


def for_postgresql(flat: Path, url: str) -> list[str]:
    """The command for PostgreSQL: one transaction, keys after the rows."""
    flat_columns = ", ".join(f'"{h}" text' for h in HEADERS)
    script = [
        f"SET search_path = {SCHEMA};",
        f"CREATE TEMP TABLE flat ({flat_columns});",
        f"\\copy flat FROM '{flat}' WITH (FORMAT csv, HEADER)",
        "ANALYZE flat;",
    ]
    for table, columns in TABLES.items():
        declared = [f"{table}_id bigint GENERATED BY DEFAULT AS IDENTITY"]
        declared += [f"{name(c)} {'bigint' if of in TABLES else of} NOT NULL" for c, of in columns]
        script.append(f"CREATE TABLE {table} ({', '.join(declared)});")
    for table in TABLES:
        script.append(selected(table, '"', as_declared, "flat"))
        script.append(f"ALTER TABLE {table} ADD PRIMARY KEY ({table}_id);")
        if table in PARENTS:
            script.append(f"ALTER TABLE {table} ADD UNIQUE ({table});")
            script.append(f"ANALYZE {table};")
    for table in TABLES:
        for of in links(table):
            script.append(f"CREATE INDEX ON {table} ({of}_id);")
            script.append(f"ALTER TABLE {table} ADD FOREIGN KEY ({of}_id) REFERENCES {of};")
    script.append("ANALYZE inspection;")
    path = flat.parent / "expert.postgresql.sql"
    path.write_text("\n".join(script) + "\n")
    return ["psql", "-q", "-1", "-v", "ON_ERROR_STOP=1", url, "-f", str(path)]


def for_mariadb(flat: Path, url: str) -> list[str]:
    """The command for MariaDB: keys of the parents before the joins that need them, those of the
    rows after them, in one step."""
    where = address(url)
    flat_columns = ", ".join(f"`{h}` varchar(100)" for h in HEADERS)
    letters = "CHARACTER SET utf8mb4 COLLATE utf8mb4_bin"
    script = [
        f"USE {SCHEMA};",
        "SET unique_checks = 0, foreign_key_checks = 0;",
        f"CREATE TEMPORARY TABLE flat ({flat_columns}) {letters};",
        f"LOAD DATA LOCAL INFILE '{flat}' INTO TABLE flat CHARACTER SET utf8mb4 FIELDS TERMINATED "
        "BY ',' OPTIONALLY ENCLOSED BY '\"' LINES TERMINATED BY '\\n' IGNORE 1 LINES;",
        "SET autocommit = 0;",
    ]
    spelled = {"TEXT": "varchar(100)"} | dict.fromkeys(TABLES, "bigint")
    for table, columns in TABLES.items():
        declared = [f"{table}_id bigint NOT NULL AUTO_INCREMENT PRIMARY KEY"]
        declared += [f"{name(c)} {spelled.get(of, of)} NOT NULL" for c, of in columns]
        if table in PARENTS:
            declared.append(f"UNIQUE ({table})")
        script.append(f"CREATE TABLE {table} ({', '.join(declared)}) {letters};")
    for table in TABLES:
        script.append(selected(table, "`", lambda cell, _: cell, "flat"))
        script.append("COMMIT;")
    script.append("SET foreign_key_checks = 1;")
    for table in TABLES:
        if links(table):
            keys = [
                f"ADD INDEX ({of}_id), ADD FOREIGN KEY ({of}_id) REFERENCES {of} ({of}_id)"
                for of in links(table)
            ]
            script.append(f"ALTER TABLE {table} {', '.join(keys)};")
    path = flat.parent / "expert.mariadb.sql"
    path.write_text("\n".join(script) + "\n")
    client = ["mariadb", f"-h{where.host}", f"-P{where.port}", f"-u{where.user}"]
    return [*client, "--local-infile=1", "-e", f"source {path}"]


class Sqlite:
    """An SQLite file for both."""

    title = "SQLite"

    def __init__(self, flat: Path) -> None:
        self.mine, self.theirs = flat.with_name("expert-cut.db"), flat.with_name("expert.db")
        self.into, self.expert = str(self.mine), for_sqlite(flat, self.theirs)

    def clear(self) -> None:
        """Takes away what was made."""
        for path in (self.mine, self.theirs):
            path.unlink(missing_ok=True)

    def contents(self) -> str:
        """A digest of what is there."""
        path = self.mine if self.mine.exists() else self.theirs
        return digest(["sqlite3", "-csv", str(path), COMPARED.format(s="")])


class Server:
    """A schema of a server for both."""

    def __init__(self, flat: Path, url: str) -> None:
        where = address(url)
        self.postgresql = where.scheme.startswith("postgresql")
        self.title = "PostgreSQL" if self.postgresql else "MariaDB"
        self.into = with_schema(url, SCHEMA)
        self.expert = (for_postgresql if self.postgresql else for_mariadb)(flat, url)
        self.client = (
            ["psql", "-q", "-A", "-t", "-v", "ON_ERROR_STOP=1", url, "-c"]
            if self.postgresql
            else ["mariadb", "-N", f"-h{where.host}", f"-P{where.port}", f"-u{where.user}", "-e"]
        )

    def clear(self) -> None:
        """Makes the schema anew."""
        self.drop()
        self._ask(f"CREATE {'SCHEMA' if self.postgresql else 'DATABASE'} {SCHEMA}")

    def drop(self) -> None:
        """Takes the schema away."""
        self._ask(
            f"DROP SCHEMA IF EXISTS {SCHEMA} CASCADE"
            if self.postgresql
            else f"DROP DATABASE IF EXISTS {SCHEMA}"
        )

    def _ask(self, sql: str) -> None:
        subprocess.run([*self.client, sql], check=True, capture_output=True)

    def contents(self) -> str:
        """A digest of what is there."""
        return digest([*self.client, COMPARED.format(s=f"{SCHEMA}.")])


def digest(command: list[str]) -> str:
    """The digest of what a command prints."""
    done, size = hashlib.sha256(), 0
    with subprocess.Popen(command, stdout=subprocess.PIPE) as process:
        assert process.stdout is not None
        while some := process.stdout.read(1 << 20):
            done.update(some)
            size += len(some)
    assert process.returncode == 0 and size > 1000, f"{command[0]} printed {size} bytes"
    return done.hexdigest()


def compare(engine: Sqlite | Server, flat: Path, layout: Path, times: int) -> None:
    """Compares what both make, then how long it takes."""
    cut = [sys.executable, "-m", "kerfmark", "cut", "--quiet", "--into", engine.into]
    marked = flat.with_name("inspection.csv")
    jobs = {
        "the expert's script": engine.expert,
        "kerfmark cut, layout given": [*cut, str(layout)],
        "kerfmark cut": [*cut, str(marked)],
    }

    def prepare() -> None:
        engine.clear()
        for saved in ("expert-cut", SCHEMA):  # the layout that a cut from the file has saved
            flat.with_name(f"{saved}.layout.toml").unlink(missing_ok=True)

    found = {}
    for job in ("the expert's script", "kerfmark cut, layout given"):
        measure(jobs[job], prepare)
        found[job] = engine.contents()
    assert len(set(found.values())) == 1, f"{engine.title}: the contents differ"
    runs: dict[str, list[Figures]] = {job: [] for job in jobs}
    for at in range(times):
        for job in random.Random(at).sample(list(jobs), len(jobs)):
            runs[job].append(measure(jobs[job], prepare))
    print(f"\n{engine.title}: the same contents\n")
    print("| work | wall s | CPU s | peak MB | of the expert's |")
    print("|---|---|---|---|---|")
    base = statistics.median(r[0] for r in runs["the expert's script"])
    for job, some in runs.items():
        wall, cpu, peak = (statistics.median(f) for f in zip(*some, strict=True))
        ratios = [r[0] / b[0] for r, b in zip(some, runs["the expert's script"], strict=True)]
        print(
            f"| {job} | {wall:.1f} | {cpu:.1f} | {peak:.0f} | {wall / base:.2f} "
            f"({min(ratios):.2f}-{max(ratios):.2f}) |",
            flush=True,
        )
    if isinstance(engine, Server):
        engine.drop()


def main() -> None:
    """Command line."""
    ap = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    ap.add_argument("--rows", type=int, default=2_000_000)
    ap.add_argument("--times", type=int, default=3)
    ap.add_argument("--engines", default="sqlite,postgresql,mariadb")
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
    same = args.folder / "inspection.csv"
    same.unlink(missing_ok=True)
    same.symlink_to(flat.name)
    layout = args.folder / "expert.layout.toml"
    mark = [sys.executable, "-m", "kerfmark", "mark", str(same), "-o", str(layout), "--replace"]
    subprocess.run([*mark, "--quiet"], check=True, capture_output=True)
    with flat.open("rb") as file:
        while file.read(1 << 20):
            pass
    print(f"{args.rows:,} rows x {len(HEADERS)} columns, median of {args.times}")
    for engine in args.engines.split(","):
        made = (
            Sqlite(flat)
            if engine == "sqlite"
            else Server(flat, args.postgresql if engine == "postgresql" else args.mysql)
        )
        compare(made, flat, layout, args.times)


if __name__ == "__main__":
    if not all(shutil.which(p) for p in ("sqlite3", "psql", "mariadb")):
        raise SystemExit("the programs sqlite3, psql and mariadb are needed for the comparison")
    main()
