"""undo, refresh, trace: taking a load back, loading changed files anew, and where a record came from."""

from __future__ import annotations

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
from kerfmark.store.sqlite.build import stored
from kerfmark.store.sqlite.files import copy_database, existing_database, reading
from kerfmark.store.sqlite.working import OpenFile
from kerfmark.verbs.add import Adding, AddResult
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
    started, path = time.perf_counter(), existing_database(Path(database))
    if backup is not None:
        copy_database(path, Path(backup))
    with OpenFile(path) as file:
        ledger = Ledger(file.ask, str(path))
        number = _wanted(ledger, load)
        undoing = Undoing(file, path, ledger, progress)
        numbers = [n.number for n in reversed(ledger.live) if n.number >= number] if through else [number]
        undoing.undo(numbers)
        file.commit()
    return UndoResult(str(path), tuple(numbers), tuple((t, *n) for t, n in undoing.counts.items()), tuple(undoing.stay.items()),
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

    def __init__(self, file: OpenFile, path: Path, ledger: Ledger, progress: Progress) -> None:
        self.file, self.path, self.ledger, self.progress = file, path, ledger, progress
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
        return DataRefused(f"load {number} cannot be taken back alone", code="data.depends", origin=Origin(str(self.path)),
                           why=what, next=f"kerfmark undo {self.path} {number} --through takes {numbers} back too")

    def _restore(self, number: int, later: Sequence[int]) -> None:
        """Gives back the values that a load has changed."""
        for table, column in self.file.ask(
                f"SELECT DISTINCT table_name, column_name FROM kerfmark_changes WHERE load_id = {number}"):
            t, c = _quoted(table), _quoted(column)
            mine = (f"kerfmark_changes AS k WHERE k.load_id = {number} AND k.table_name = {_text(table)} "
                    f"AND k.column_name = {_text(column)}")
            if later:
                again = self.file.ask(
                    f"SELECT DISTINCT o.load_id FROM kerfmark_changes AS o JOIN {mine.replace(' WHERE', ' ON', 1)} "
                    f"AND o.table_name = k.table_name AND o.column_name = k.column_name AND o.row = k.row "
                    f"WHERE o.load_id IN ({', '.join(map(str, later))})")
                if again:
                    raise self._depends(number, f"load {again[0][0]} has changed {table}.{column} of the same records again", later)
            [(total,)] = self.file.ask(f"SELECT COUNT(*) FROM {mine}")
            [(same,)] = self.file.ask(f"SELECT COUNT(*) FROM {mine} AND EXISTS (SELECT 1 FROM {t} AS t WHERE t.rowid = k.row "
                                      f"AND t.{c} IS k.after)")
            if same != total:
                raise DataRefused(f"load {number} cannot be taken back", code="data.changed", origin=Origin(str(self.path)),
                                  why=f"{counted(total - same, 'value')} of {table}.{column} that it changed "
                                      f"{'has' if total - same == 1 else 'have'} been changed by hand since",
                                  next="set them to what the load made of them (kerfmark trace tells), or leave the load")
            self.file.execute(f"UPDATE {t} SET {c} = (SELECT k.before FROM {mine} AND k.row = {t}.rowid) "
                              f"WHERE rowid IN (SELECT k.row FROM {mine})")
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
            if not self.file.columns(table):
                continue                                # somebody has dropped it
            between = f"rowid BETWEEN {mine.first} AND {mine.last}"
            needed: set[int] = set()
            for child, pairs in children.get(table.lower(), []):
                same = " AND ".join(f"p.{_quoted(key)} = c.{_quoted(own)}" for own, key in pairs)
                own_rows = "" if child.lower() != table.lower() else f" AND NOT (c.rowid BETWEEN {mine.first} AND {mine.last})"
                rows = self.file.ask(f"SELECT p.rowid, MIN(c.rowid) FROM {_quoted(table)} AS p JOIN {_quoted(child)} AS c "
                                     f"ON {same} WHERE p.{between}{own_rows} GROUP BY p.rowid")
                for row, by in rows:
                    load = next((r.load for r in self.ledger.added if r.table.lower() == child.lower()
                                 and r.load in later and r.first <= by <= r.last), 0)
                    if load:
                        raise self._depends(number, f"rows of {child} that load {load} added lead to rows of {table} that load "
                                            f"{number} added", later)
                    needed.add(row)
            [(there,)] = self.file.ask(f"SELECT COUNT(*) FROM {_quoted(table)} WHERE {between}")
            kept = f" AND rowid NOT IN ({', '.join(map(str, sorted(needed)))})" if needed else ""
            self.file.execute(f"DELETE FROM {_quoted(table)} WHERE {between}{kept}")
            if needed:
                self.stay[table] = self.stay.get(table, 0) + len(needed)
            self._count(table, there - len(needed), 0)

    def _links(self) -> dict[str, list[tuple[str, list[tuple[str, str]]]]]:
        """For each table (in small letters) the tables that link to it, with the columns of the link and of its key."""
        out: dict[str, list[tuple[str, list[tuple[str, str]]]]] = {}
        for (child,) in self.file.ask("SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'kerfmark\\_%' ESCAPE "
                                      "'\\' AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\'"):
            links: dict[int, tuple[str, list[tuple[str, str]]]] = {}
            for number, parent, own, key in self.file.ask(
                    f'SELECT id, "table", "from", COALESCE("to", \'\') FROM pragma_foreign_key_list({_text(child)})'):
                links.setdefault(number, (parent, []))[1].append((own, key or self._only_key(parent)))
            for parent, pairs in links.values():
                out.setdefault(parent.lower(), []).append((child, pairs))
        return out

    def _only_key(self, table: str) -> str:
        found = self.file.ask(f"SELECT name FROM pragma_table_info({_text(table)}) WHERE pk = 1")
        return str(found[0][0]) if found else "rowid"

    def _count(self, table: str, rows: int, values: int) -> None:
        a, b = self.counts.get(table, (0, 0))
        self.counts[table] = a + rows, b + values


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _text(value: str) -> str:
    return "'" + value.replace("'", "''") + "'"


def refresh(database: str | Path, *, known: str = "", progress: Progress = silent) -> RefreshResult:
    """Loads anew what has changed: the loads of files that are not what they were are taken back, with all later loads if one of
    those depends on them, and made again in their order. The others are left alone. Everything happens, or nothing.

    Raises SourceError when a file is no longer there, and what `add` and `undo` raise.
    """
    started, path = time.perf_counter(), existing_database(Path(database))
    with OpenFile(path) as file:
        ledger = Ledger(file.ask, str(path))
        layout = parse_layout(ledger.layout, "the layout in the database")
        changed = _changed_files(ledger, layout, path.parent, progress)
        if not changed:
            return RefreshResult(str(path), (), (), (), round(time.perf_counter() - started, 3))
        numbers = sorted({f.load for f in changed}, reverse=True)
        undoing = Undoing(file, path, ledger, progress)
        file.execute("SAVEPOINT kerfmark_refresh")
        try:
            undoing.undo(numbers)
        except DataRefused as refused:
            if refused.code != "data.depends":
                raise
            file.execute("ROLLBACK TO kerfmark_refresh")    # later loads need what would go: they are made again as well
            numbers = [n.number for n in reversed(ledger.live) if n.number >= numbers[-1]]
            undoing = Undoing(file, path, ledger, progress)
            undoing.undo(numbers)
        if undoing.stay:
            table, rows = next(iter(undoing.stay.items()))
            raise DataRefused("the changed files cannot be loaded anew", code="data.depends", origin=Origin(str(path)),
                              why=f"rows that no load made lead to {counted(rows, 'row')} of {table} that would go",
                              next="take those rows away first")
        added = []
        for number in reversed(numbers):
            files = [f for f in ledger.files if f.load == number]
            adding = Adding(file, path, Ledger(file.ask, str(path)), progress)
            places = list(dict.fromkeys(f.file if "://" in f.file else str(path.parent / f.file) for f in files))
            added.append(adding.add(places, known=known, verb="refresh", again=True))
        file.commit()
    return RefreshResult(str(path), tuple(dict.fromkeys(f.file for f in changed)), tuple(numbers), tuple(added),
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
    path = Path(database)
    with reading(path) as db:
        ledger = Ledger(lambda sql: db.execute(sql).fetchall(), str(path))
        layout = parse_layout(ledger.layout, "the layout in the database")
        if table not in layout.tables:
            raise UsageError(f'there is no table "{table}"', origin=Origin(str(path)),
                             next=f"the tables are {', '.join(layout.tables)}")
        keys = layout.key_columns(table)
        wanted = key.split(",") if len(keys) > 1 else [key]
        spec = layout.tables[table]
        plain = [k for k in spec.known_by if k in spec.columns]
        columns = ", ".join(["rowid", *(_quoted(k) for k in plain)])
        same = " AND ".join(f"CAST({_quoted(k)} AS TEXT) = ?" for k in keys)
        found = db.execute(f"SELECT {columns} FROM {_quoted(table)} WHERE {same}", wanted) if len(wanted) == len(keys) else None
        row = found.fetchone() if found else None
        if row is None:
            raise UsageError(f"{table} has no record {key}", origin=Origin(str(path)), next=f"name a value of {', '.join(keys)}")
        number = next((r.load for r in ledger.added if r.table == table and r.first <= row[0] <= r.last
                       and not next(n for n in ledger.loads if n.number == r.load).undone_at), 0)
        changes = db.execute("SELECT load_id, column_name, COALESCE(CAST(before AS TEXT), ''), COALESCE(CAST(after AS TEXT), '')"
                             " FROM kerfmark_changes JOIN kerfmark_loads USING (load_id) WHERE undone_at IS NULL AND table_name = ?"
                             " AND row = ? ORDER BY kerfmark_changes.rowid", (table, row[0])).fetchall()
    load = next((n for n in ledger.loads if n.number == number), None)
    if load is None:
        return TraceResult(str(path), table, key, 0, "", None, 0, tuple(changes))
    nth = row[0] - next(r.first for r in ledger.added if r.load == number and r.table == table)
    if len(plain) < len(spec.known_by) and not spec.each_row:
        return TraceResult(str(path), table, key, number, load.at, None, 0, tuple(changes))
    known_by = tuple(row[1:]) if len(plain) == len(spec.known_by) else ()
    origin, rows = _first_said(ledger, layout, path.parent, number, table, known_by, nth, progress)
    return TraceResult(str(path), table, key, number, load.at, origin, rows, tuple(changes))


def _first_said(ledger: Ledger, layout: Layout, folder: Path, number: int, table: str, known_by: tuple[object, ...], nth: int,
                progress: Progress) -> tuple[Origin | None, int]:
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
        there = [i for i, v in enumerate(stored(values).to_pylist()) if v == value]
        hits &= np.isin(codes, there)
    if not known_by:
        hits[:] = False
        hits[nth:nth + 1] = spec.each_row
    rows = np.flatnonzero(hits)
    return (ready.origin(int(rows[0]), None), len(rows)) if len(rows) else (None, 0)
