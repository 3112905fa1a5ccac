"""The least that a cut must do, as a program of its own: read the file as Arrow text, insert tables
that are split already through the fastest driver, make the indexes.

    python bench/floor.py prepare CUT.db FOLDER      the tables of a database, as Arrow files, and its statements
    python bench/floor.py run FLAT.csv FOLDER OUT.db
"""  # noqa: E501

from __future__ import annotations

import contextlib
import json
import sqlite3
import sys
from pathlib import Path

import adbc_driver_sqlite.dbapi as driver
import pyarrow as pa
import pyarrow.csv as pv

PRAGMAS = (
    "journal_mode=off",
    "synchronous=off",
    "locking_mode=exclusive",
    "cache_size=-8000",
    "temp_store=file",
)


def prepare(database: Path, folder: Path) -> None:
    """Takes the tables out of a database that was cut."""
    folder.mkdir(exist_ok=True)
    with contextlib.closing(sqlite3.connect(database)) as db:
        made = db.execute(
            "SELECT type, name, sql FROM sqlite_master WHERE sql IS NOT NULL AND type IN ('table', "
            "'index') "
            "AND name NOT LIKE 'kerfmark%' AND name NOT LIKE 'sqlite%' ORDER BY rowid"
        ).fetchall()
    (folder / "statements.json").write_text(json.dumps(made))
    for kind, name, _ in made:
        if kind == "table":
            with driver.connect(str(database)) as connection, connection.cursor() as cursor:
                cursor.execute(f'SELECT * FROM "{name}"')
                table = cursor.fetch_arrow_table()
            with pa.ipc.new_file(folder / f"{name}.arrow", table.schema) as file:
                file.write_table(table)


def run(flat: Path, folder: Path, out: Path) -> None:
    """What is timed."""
    with flat.open(encoding="utf-8") as file:
        names = file.readline().strip().split(",")
    pv.read_csv(
        flat, convert_options=pv.ConvertOptions(column_types={n: pa.string() for n in names})
    )
    made = json.loads((folder / "statements.json").read_text())
    with driver.connect(str(out), autocommit=True) as connection, connection.cursor() as cursor:
        for pragma in PRAGMAS:
            cursor.execute(f"PRAGMA {pragma}")
        for kind, _, sql in made:
            if kind == "table":
                cursor.execute(sql)
        for kind, name, _ in made:
            if kind == "table":
                with pa.memory_map(str(folder / f"{name}.arrow")) as source:
                    cursor.adbc_ingest(name, pa.ipc.open_file(source).read_all(), mode="append")
        for kind, _, sql in made:
            if kind == "index":
                cursor.execute(sql)


if __name__ == "__main__":
    if sys.argv[1] == "prepare":
        prepare(Path(sys.argv[2]), Path(sys.argv[3]))
    else:
        run(Path(sys.argv[2]), Path(sys.argv[3]), Path(sys.argv[4]))
