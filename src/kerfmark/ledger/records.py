"""The ledger: four small tables in every database that Kerfmark made. The tables of the user need none of them."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from kerfmark.errors import Origin, TargetError

TABLES = (
    "CREATE TABLE kerfmark_layouts (layout_id INTEGER PRIMARY KEY, layout TEXT NOT NULL)",
    "CREATE TABLE kerfmark_loads (load_id INTEGER PRIMARY KEY, loaded_at TIMESTAMP NOT NULL, kerfmark TEXT NOT NULL,"
    " layout_id INTEGER NOT NULL REFERENCES kerfmark_layouts (layout_id))",
    "CREATE TABLE kerfmark_files (load_id INTEGER NOT NULL REFERENCES kerfmark_loads (load_id), source TEXT NOT NULL,"
    " file TEXT NOT NULL, bytes BIGINT NOT NULL, fingerprint TEXT NOT NULL, rows BIGINT NOT NULL)",
    "CREATE TABLE kerfmark_set_aside (load_id INTEGER NOT NULL REFERENCES kerfmark_loads (load_id), source TEXT NOT NULL,"
    " file TEXT NOT NULL, sheet TEXT NOT NULL, row BIGINT NOT NULL, reason TEXT NOT NULL)",
)

Execute = Callable[[str, Sequence[Sequence[Any]]], None]


@dataclass(frozen=True)
class LoadedFile:
    """A file that a load took in; `file` is relative to the folder of the database where that is possible."""

    load: int
    source: str
    file: str
    bytes: int
    fingerprint: str
    rows: int


@dataclass(frozen=True)
class RowSetAside:
    """A row that a load did not take in; `file` and `sheet` as messages call them, `row` as a person counts."""

    load: int
    source: str
    file: str
    sheet: str
    row: int
    reason: str


def open_ledger(execute: Execute) -> None:
    """Makes the ledger's tables."""
    for statement in TABLES:
        execute(statement, [()])


def write_load(execute: Execute, load: int, at: str, version: str, layout: str, files: Sequence[LoadedFile],
               set_aside: Sequence[RowSetAside] = ()) -> None:
    """Writes down a load with its layout, files and rows set aside; `at` is an ISO time in UTC."""
    execute("INSERT INTO kerfmark_layouts VALUES (?, ?)", [(load, layout)])
    execute("INSERT INTO kerfmark_loads VALUES (?, ?, ?, ?)", [(load, at, version, load)])
    execute("INSERT INTO kerfmark_files VALUES (?, ?, ?, ?, ?, ?)",
            [(f.load, f.source, f.file, f.bytes, f.fingerprint, f.rows) for f in files])
    execute("INSERT INTO kerfmark_set_aside VALUES (?, ?, ?, ?, ?, ?)",
            [(r.load, r.source, r.file, r.sheet, r.row, r.reason) for r in set_aside])


def read_ledger(db: sqlite3.Connection, database: Path) -> tuple[str, list[LoadedFile]]:
    """The text of the newest layout, and all files that were loaded.

    Raises TargetError when the database has no ledger.
    """
    there = {n for (n,) in db.execute("SELECT name FROM sqlite_master WHERE name LIKE 'kerfmark\\_%' ESCAPE '\\'")}
    if not {"kerfmark_layouts", "kerfmark_files"} <= there:
        raise TargetError("Kerfmark did not make this database", code="target.no-ledger", origin=Origin(str(database)),
                          why="its tables kerfmark_layouts and kerfmark_files are missing",
                          next="make one with kerfmark cut FILE --into DB")
    text = db.execute("SELECT layout FROM kerfmark_layouts ORDER BY layout_id DESC").fetchone()[0]
    rows = db.execute("SELECT load_id, source, file, bytes, fingerprint, rows FROM kerfmark_files ORDER BY load_id, rowid")
    return text, [LoadedFile(*row) for row in rows]


def rows_set_aside(db: sqlite3.Connection) -> list[RowSetAside]:
    """All rows that loads did not take in."""
    return [RowSetAside(*row) for row in db.execute("SELECT load_id, source, file, sheet, row, reason FROM kerfmark_set_aside")]


def file_beside(location: str, folder: Path) -> str:
    """How a file is called seen from a folder: with forward slashes on every system. Standard input stays `-`, and a URL
    itself."""
    if location == "-" or "://" in location:
        return location
    path = Path(location)
    try:
        return Path(os.path.relpath(path.resolve(), folder.resolve())).as_posix()
    except ValueError:                                  # another drive
        return path.resolve().as_posix()
