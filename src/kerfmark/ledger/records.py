"""The ledger: a few small tables in every database that Kerfmark made. The tables of the user need none of them.

What a load added is kept as ranges of row numbers, what it changed as the values before and after; so provenance costs next to
nothing, and any load can be taken back.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from kerfmark.store.database import Reader, no_ledger

Execute = Callable[[str, Sequence[Sequence[Any]]], None]


@dataclass(frozen=True)
class LoadedFile:
    """A file that a load took in; `file` is relative to the folder of the database where that is possible. `told` is what the
    telling column of its source says of it, `reading` (JSON, "" for what the layout says) how it is read."""

    load: int
    source: str
    file: str
    bytes: int
    fingerprint: str
    rows: int
    told: str = ""
    reading: str = ""


@dataclass(frozen=True)
class RowSetAside:
    """A row that a load did not take in; `file` and `sheet` as messages call them, `row` as a person counts. `known`: because its
    record was there already."""

    load: int
    source: str
    file: str
    sheet: str
    row: int
    reason: str
    known: bool = False


@dataclass(frozen=True)
class RowsAdded:
    """The rows of a table, by their numbers, that a load added."""

    load: int
    table: str
    first: int
    last: int

    @property
    def count(self) -> int:
        """How many."""
        return self.last - self.first + 1


@dataclass(frozen=True)
class Change:
    """A value that a load changed in a row of a table."""

    load: int
    table: str
    row: int
    column: str
    before: Any
    after: Any


@dataclass(frozen=True)
class Load:
    """One load: what made it, when (ISO time in UTC), by which version, from which layout, and when it was taken back ("": it was
    not)."""

    number: int
    verb: str
    at: str
    version: str
    layout: int
    undone_at: str


def write_load(execute: Execute, load: Load, files: Sequence[LoadedFile], added: Sequence[RowsAdded],
               set_aside: Sequence[RowSetAside] = ()) -> None:
    """Writes down a load with its files, the rows that it added and those set aside."""
    execute("INSERT INTO kerfmark_loads (load_id, verb, loaded_at, kerfmark, layout_id, undone_at) "
            "VALUES (?, ?, ?, ?, ?, NULL)",
            [(load.number, load.verb, load.at, load.version, load.layout)])
    execute('INSERT INTO kerfmark_files (load_id, source, file, told, reading, bytes, fingerprint, "rows") '
            'VALUES (?, ?, ?, ?, ?, ?, ?, ?)',
            [(f.load, f.source, f.file, f.told, f.reading, f.bytes, f.fingerprint, f.rows) for f in files])
    execute("INSERT INTO kerfmark_ranges (load_id, table_name, first_row, last_row) VALUES (?, ?, ?, ?)",
            [(r.load, r.table, r.first, r.last) for r in added])
    execute('INSERT INTO kerfmark_set_aside (load_id, source, file, sheet, "row", reason, known) VALUES (?, ?, ?, ?, ?, ?, ?)',
            [(r.load, r.source, r.file, r.sheet, r.row, r.reason, int(r.known)) for r in set_aside])


def write_layout_text(execute: Execute, number: int, text: str) -> None:
    """Keeps the text of a layout."""
    execute("INSERT INTO kerfmark_layouts (layout_id, layout) VALUES (?, ?)", [(number, text)])


class Ledger:
    """What a database's ledger says."""

    def __init__(self, reader: Reader) -> None:
        ask, text, nth = reader.ask, reader.text, reader.nth
        if reader.facts("kerfmark_loads") is None or reader.facts("kerfmark_ranges") is None:
            raise no_ledger(reader.name)
        self.loads = [Load(*r) for r in ask(
            f"SELECT load_id, verb, {text('loaded_at')}, kerfmark, layout_id, COALESCE({text('undone_at')}, '') "
            "FROM kerfmark_loads ORDER BY load_id")]
        self.layout_number, self.layout = ask("SELECT layout_id, layout FROM kerfmark_layouts ORDER BY layout_id DESC LIMIT 1")[0]
        self.files = [LoadedFile(*r) for r in ask(
            f'SELECT load_id, source, file, bytes, fingerprint, "rows", told, reading FROM kerfmark_files ORDER BY load_id, {nth}')]
        self.added = [RowsAdded(*r) for r in ask(
            f"SELECT load_id, table_name, first_row, last_row FROM kerfmark_ranges ORDER BY load_id, {nth}")]
        self.set_aside = [RowSetAside(r[0], r[1], r[2], r[3], r[4], r[5], bool(r[6])) for r in ask(
            f'SELECT load_id, source, file, sheet, "row", reason, known FROM kerfmark_set_aside ORDER BY load_id, {nth}')]
        self.changed: dict[tuple[int, str], int] = {(r[0], r[1]): r[2] for r in ask(
            "SELECT load_id, table_name, COUNT(*) FROM kerfmark_changes GROUP BY load_id, table_name")}

    @classmethod
    def empty(cls, layout: str) -> Ledger:
        """That of a database which nothing was loaded into yet."""
        out = cls.__new__(cls)
        out.loads, out.files, out.added, out.set_aside, out.changed = [], [], [], [], {}
        out.layout_number, out.layout = 1, layout
        return out

    @property
    def live(self) -> list[Load]:
        """The loads that were not taken back."""
        return [load for load in self.loads if not load.undone_at]

    @property
    def live_files(self) -> list[LoadedFile]:
        """The files of these."""
        numbers = {load.number for load in self.live}
        return [f for f in self.files if f.load in numbers]

    @property
    def next_load(self) -> int:
        """The number of the next load."""
        return max((load.number for load in self.loads), default=0) + 1


def file_beside(location: str, folder: Path | None) -> str:
    """How a file is called seen from a folder (None: from anywhere): with forward slashes on every system. Standard input stays
    `-`, and a URL itself."""
    if location == "-" or "://" in location:
        return location
    path = Path(location)
    if folder is None:
        return path.resolve().as_posix()
    try:
        return Path(os.path.relpath(path.resolve(), folder.resolve())).as_posix()
    except ValueError:                                  # another drive
        return path.resolve().as_posix()
