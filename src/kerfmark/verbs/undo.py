"""undo, refresh, trace: taking a load back, loading changed files anew, and where a record came from."""

from __future__ import annotations

import shlex
import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from kerfmark.build.prepare import Prepared
from kerfmark.errors import DataRefused, Origin, SourceError, UsageError, counted
from kerfmark.layout.derive import settled
from kerfmark.layout.model import Layout
from kerfmark.layout.text import parse_layout
from kerfmark.ledger.records import Ledger, LoadedFile
from kerfmark.profile.encode import encode, records_of
from kerfmark.progress import Progress, silent
from kerfmark.read.alike import parts_of
from kerfmark.store.database import Changing, Reader, database_at, literal, quote
from kerfmark.verbs.add import Adding, AddResult
from kerfmark.verbs.again import retried
from kerfmark.verbs.recording import now
from kerfmark.verbs.sources import open_loaded


@dataclass(frozen=True)
class UndoResult:
    """What taking loads back did: their numbers, per table how many rows went and how many values came back, and the rows that
    stay because rows that no load made need them, as (table, rows)."""

    database: str
    loads: tuple[int, ...]
    tables: tuple[tuple[str, int, int], ...]
    stay: tuple[tuple[str, int], ...]
    seconds: float


@dataclass(frozen=True)
class RefreshResult:
    """The files that had changed, the loads that were taken back, and those that were made instead."""

    database: str
    changed: tuple[str, ...]
    undone: tuple[int, ...]
    added: tuple[AddResult, ...]
    seconds: float


@dataclass(frozen=True)
class TraceResult:
    """Where a record came from: the load that made it, and the file, sheet and row in which it is first said there (None: that
    file is gone, or has changed); how many rows say it there; and later changes as (load, column, before, after)."""

    database: str
    table: str
    key: str
    load: int
    at: str
    origin: Origin | None
    rows: int
    changes: tuple[tuple[int, str, str, str], ...]


def undo(database: str | Path, load: int | None = None, *, through: bool = False, backup: str | Path | None = None,
         progress: Progress = silent) -> UndoResult:
    """Takes a load back (the latest one, if none is named): its rows go, the values that it changed come back.

    `backup` names a file for a copy of the database as it was. When later loads depend on it, nothing happens, unless they are
    taken back too (`through`). Everything happens, or nothing. Raises UsageError when there is no such load, DataRefused when
    something depends on it or was changed since.
    """
    started, where = time.perf_counter(), database_at(database)
    if backup is not None:
        where.copy(Path(backup))

    def once() -> tuple[list[int], Undoing]:
        with where.changing() as file:
            ledger = Ledger(file)
            number = _wanted(ledger, load)
            undoing = Undoing(file, ledger, progress)
            numbers = [n.number for n in reversed(ledger.live) if n.number >= number] if through else [number]
            undoing.undo(numbers)
            file.commit()
        return numbers, undoing

    numbers, undoing = retried(once)
    return UndoResult(where.name, tuple(numbers), tuple((t, *n) for t, n in undoing.counts.items()), tuple(undoing.stay.items()),
                      round(time.perf_counter() - started, 3))


def _wanted(ledger: Ledger, load: int | None) -> int:
    live = [n.number for n in ledger.live]
    if not live:
        raise UsageError("nothing is left that could be taken back", next="kerfmark loads DB tells the history")
    if load is not None and load not in live:
        gone = next((n for n in ledger.loads if n.number == load), None)
        raise UsageError(f"load {load} was taken back already, at {gone.undone_at} (UTC)" if gone else f"there is no load {load}",
                         next=f"the loads that can be taken back are {', '.join(map(str, live))}")
    return live[-1] if load is None else load


class Undoing:
    """Takes loads back in an open database."""

    def __init__(self, file: Changing, ledger: Ledger, progress: Progress) -> None:
        self.file, self.ledger, self.progress = file, ledger, progress
        self.layout = parse_layout(ledger.layout, "the layout in the database")
        self.counts: dict[str, tuple[int, int]] = {}
        self.stay: dict[str, int] = {}

    def undo(self, numbers: Sequence[int]) -> None:
        """Takes loads back, the latest first."""
        for number in numbers:
            self.progress(f"taking back load {number}", 0, 0)
            later = [n.number for n in self.ledger.live if n.number > number and n.number not in numbers]
            self._restore(number, later)
            self._remove(number, later)
            self.file.execute("UPDATE kerfmark_loads SET undone_at = ? WHERE load_id = ?", [(now(), number)])

    def _depends(self, number: int, what: str, later: Sequence[int]) -> DataRefused:
        numbers = f"load{'s' if len(later) > 1 else ''} {', '.join(map(str, later))}"
        undo = f"kerfmark undo {shlex.quote(self.file.name)} {number} --through"
        return DataRefused(f"load {number} cannot be taken back alone", code="data.depends", origin=Origin(self.file.name),
                           why=what, next=f"{undo} takes {numbers} back too")

    def _restore(self, number: int, later: Sequence[int]) -> None:
        """Gives back the values that a load has changed."""
        for table, column in self.file.ask(
                f"SELECT DISTINCT table_name, column_name FROM kerfmark_changes WHERE load_id = {number}"):
            if again := self.file.changed_again(number, table, column, later):
                raise self._depends(number, f"load {again} has changed {table}.{column} of the same records again", later)
            total, same = self.file.still_so(number, table, column)
            if same != total:
                raise DataRefused(f"load {number} cannot be taken back", code="data.changed", origin=Origin(self.file.name),
                                  why=f"{counted(total - same, 'value')} of {table}.{column} that it changed "
                                      f"{'has' if total - same == 1 else 'have'} been changed by hand since",
                                  next="set them to what the load made of them (kerfmark trace tells), or leave the load")
            self.file.restore(number, table, column)
            self._count(table, 0, total)

    def _remove(self, number: int, later: Sequence[int]) -> None:
        """Takes away the rows that a load has added, children before their parents."""
        ranges = {r.table: r for r in self.ledger.added if r.load == number}
        names = {t.lower(): t for t in ranges}
        children = self._links()
        for table in reversed(self.layout.parents_first()):
            mine = ranges.get(names.get(table.lower(), ""))
            if mine is None:
                continue
            if self.file.facts(table) is None:
                continue                                # somebody has dropped it
            needed: set[int] = set()
            for child, pairs in children.get(table.lower(), []):
                for row, by in self.file.needed(table, mine.first, mine.last, child, pairs):
                    load = next((r.load for r in self.ledger.added if r.table.lower() == child.lower()
                                 and r.load in later and r.first <= by <= r.last), 0)
                    if load:
                        raise self._depends(number, f"rows of {child} that load {load} added lead to rows of {table} that load "
                                            f"{number} added", later)
                    needed.add(row)
            gone = self.file.remove(table, mine.first, mine.last, sorted(needed))
            if needed:
                self.stay[table] = self.stay.get(table, 0) + len(needed)
            self._count(table, gone, 0)

    def _links(self) -> dict[str, list[tuple[str, list[tuple[str, str]]]]]:
        """For each table (in small letters) the tables that link to it, with the columns of the link and of its key."""
        out: dict[str, list[tuple[str, list[tuple[str, str]]]]] = {}
        for child in self.file.tables():
            facts = self.file.facts(child)
            for link in facts.links if facts else ():
                out.setdefault(link.to.lower(), []).append((child, list(zip(link.columns, link.key, strict=True))))
        return out

    def _count(self, table: str, rows: int, values: int) -> None:
        a, b = self.counts.get(table, (0, 0))
        self.counts[table] = a + rows, b + values


def refresh(database: str | Path, *, known: str = "", progress: Progress = silent) -> RefreshResult:
    """Loads anew what has changed: the loads of files that are not what they were are taken back, with all later loads if one of
    those depends on them, and made again in their order. The others are left alone. Everything happens, or nothing.

    Raises SourceError when a file is no longer there, and what `add` and `undo` raise.
    """
    started, where = time.perf_counter(), database_at(database)
    folder = where.folder or Path()
    with where.changing() as file:
        ledger = Ledger(file)
        layout = parse_layout(ledger.layout, "the layout in the database")
        changed = _changed_files(ledger, layout, folder, progress)
        if not changed:
            return RefreshResult(where.name, (), (), (), round(time.perf_counter() - started, 3))
        numbers = sorted({f.load for f in changed}, reverse=True)
        undoing = Undoing(file, ledger, progress)
        file.mark("kerfmark_refresh")
        try:
            undoing.undo(numbers)
        except DataRefused as refused:
            if refused.code != "data.depends":
                raise
            file.back_to_mark("kerfmark_refresh")   # later loads need what would go: they are made again as well
            numbers = [n.number for n in reversed(ledger.live) if n.number >= numbers[-1]]
            undoing = Undoing(file, ledger, progress)
            undoing.undo(numbers)
        if undoing.stay:
            table, rows = next(iter(undoing.stay.items()))
            raise DataRefused("the changed files cannot be loaded anew", code="data.depends", origin=Origin(where.name),
                              why=f"rows that no load made lead to {counted(rows, 'row')} of {table} that would go",
                              next="take those rows away first")
        added = []
        for number in reversed(numbers):
            files = [f for f in ledger.files if f.load == number]
            adding = Adding(file, where, Ledger(file), progress)
            places = list(dict.fromkeys(f.file if "://" in f.file else str(folder / f.file) for f in files))
            added.append(adding.add(places, known=known, verb="refresh", again=True))
        file.commit()
    return RefreshResult(where.name, tuple(dict.fromkeys(f.file for f in changed)), tuple(numbers), tuple(added),
                         round(time.perf_counter() - started, 3))


def _changed_files(ledger: Ledger, layout: Layout, folder: Path, progress: Progress) -> list[LoadedFile]:
    """The files that are not what they were when they were loaded."""
    out = []
    for file in ledger.live_files:
        source = open_loaded(file.source, layout.sources[file.source], [file], folder)
        for piece in source.map_batches(lambda batch: None, strict=False):
            progress(f"reading {file.file}", piece.first + piece.rows, 0)
        if parts_of(source)[0].fingerprint != file.fingerprint:
            out.append(file)
    return out


def trace(database: str | Path, table: str, key: str, *, progress: Progress = silent) -> TraceResult:
    """Where a record of a table (`key` is its primary key) came from.

    The file is read again to find the row; where it is gone or has changed, only the load is told. Raises UsageError when
    there is no such table or record.
    """
    where = database_at(database)
    with where.reading() as reader:
        ledger = Ledger(reader)
        layout = parse_layout(ledger.layout, "the layout in the database")
        if table not in layout.tables:
            raise UsageError(f'there is no table "{table}"', origin=Origin(where.name),
                             next=f"the tables are {', '.join(layout.tables)}")
        spec = layout.tables[table]
        plain = [k for k in spec.known_by if k in spec.columns]
        row, known_by = _record(reader, layout, table, key, plain)
        number = next((r.load for r in ledger.added if r.table == table and r.first <= row <= r.last
                       and not next(n for n in ledger.loads if n.number == r.load).undone_at), 0)
        before, after = (f"COALESCE({reader.text(quote(c))}, '')" for c in ("before", "after"))
        changes = tuple((int(r[0]), str(r[1]), str(r[2]), str(r[3])) for r in reader.ask(
            f"SELECT load_id, column_name, {before}, {after}"
            f" FROM kerfmark_changes JOIN kerfmark_loads USING (load_id) WHERE undone_at IS NULL AND table_name = {literal(table)}"
            f' AND "row" = {row} ORDER BY kerfmark_changes.{reader.nth}'))
    load = next((n for n in ledger.loads if n.number == number), None)
    if load is None:
        return TraceResult(where.name, table, key, 0, "", None, 0, changes)
    nth = row - next(r.first for r in ledger.added if r.load == number and r.table == table)
    if len(plain) < len(spec.known_by) and not spec.each_row:
        return TraceResult(where.name, table, key, number, load.at, None, 0, changes)
    known = known_by if len(plain) == len(spec.known_by) else ()
    with where.reading() as reader:
        origin, rows = _first_said(reader, ledger, layout, where.folder or Path(), number, table, known, nth, progress)
    return TraceResult(where.name, table, key, number, load.at, origin, rows, changes)


def _record(reader: Reader, layout: Layout, table: str, key: str, columns: Sequence[str]) -> tuple[int, tuple[object, ...]]:
    """The number of the row of a record, and what stands in some of its columns."""
    keys = layout.key_columns(table)
    wanted = key.split(",") if len(keys) > 1 else [key]
    asked = ", ".join([reader.row(table, "t"), *(reader.said(f"t.{quote(c)}") for c in columns)])
    same = " AND ".join(f"{reader.text(f't.{quote(k)}')} = {literal(v)}" for k, v in zip(keys, wanted, strict=False))
    found = reader.ask(f"SELECT {asked} FROM {quote(table)} AS t WHERE {same}") if len(wanted) == len(keys) else []
    if not found:
        raise UsageError(f"{table} has no record {key}", origin=Origin(reader.name), next=f"name a value of {', '.join(keys)}")
    return int(found[0][0]), tuple(found[0][1:])


def _first_said(reader: Reader, ledger: Ledger, layout: Layout, folder: Path, number: int, table: str,
                known_by: tuple[object, ...], nth: int, progress: Progress) -> tuple[Origin | None, int]:
    """The row of a load's files in which a record is first said, and how many rows say it; None when it cannot be told."""
    spec = layout.tables[table]
    files = [f for f in ledger.files if f.load == number and f.source == spec.source]
    try:
        encoded = encode(open_loaded(spec.source, layout.sources[spec.source], files, folder), progress, strict=False)
    except SourceError:
        return None, 0
    if spec.part_of or [p.fingerprint for p in parts_of(encoded.source)] != [f.fingerprint for f in files]:
        return None, 0
    apart = records_of(encoded, [(r.file, r.sheet, r.row) for r in ledger.set_aside
                                 if r.load == number and r.source == spec.source])
    ready = Prepared(settled(layout, {spec.source: encoded.source.headers}), spec.source, encoded, apart)
    hits = np.ones(ready.rows, bool)
    for name, value in zip(spec.known_by, known_by, strict=bool(known_by)):
        column = spec.columns[name]
        if column.split:
            return None, 0
        values, codes = ready.derived(column)[0] if column.derived else ready.cells(column.header, column)
        spelled = reader.stored(values)
        there = [i for i, v in enumerate(spelled.to_pylist()) if v == reader.as_stored([value], spelled.type)[0].as_py()]
        hits &= np.isin(codes, there)
    if not known_by:
        hits[:] = False
        hits[nth:nth + 1] = spec.each_row
    rows = np.flatnonzero(hits)
    return (ready.origin(int(rows[0]), None), len(rows)) if len(rows) else (None, 0)
