"""undo: takes a load back."""

from __future__ import annotations

import shlex
import time
from collections.abc import Sequence
from pathlib import Path

import numpy as np

from kerfmark.address import database_at, is_data_sets
from kerfmark.errors import DataRefused, Origin, UsageError
from kerfmark.layout.text import parse_layout
from kerfmark.ledger.account import REPLACED, read_changes
from kerfmark.ledger.records import Ledger
from kerfmark.ledger.undo import UndoPlan
from kerfmark.progress import Progress, silent
from kerfmark.store.interface import Changing, Database, Reader
from kerfmark.store.quoting import literal, quote
from kerfmark.verbs.recording import now
from kerfmark.verbs.recut import Replay, make_again, read_again
from kerfmark.verbs.retry import changed_meanwhile, retried
from kerfmark.verbs.undo_result import UndoResult, wanted_load

__all__ = ["UndoResult", "undo"]


def undo(
    database: str | Path,
    load: int | None = None,
    *,
    through: bool = False,
    backup: str | Path | None = None,
    progress: Progress = silent,
) -> UndoResult:
    """Takes a load back (the latest one, if none is named): records that no other load has are
    deleted, and values become those of the remaining loads.

    `backup` names a file for a copy of the database as it was. When later loads depend on it,
    nothing happens, unless they are taken back too (`through`). Everything happens, or nothing.
    Raises UsageError when there is no such load, DataRefused when something depends on it or was
    changed since.
    """
    if is_data_sets(database):
        return _in_folder(database, load, through, backup)
    started, where = time.perf_counter(), database_at(database)
    if backup is not None:
        where.copy(Path(backup))

    with where.reading() as reader:
        before = Ledger(reader)
        numbers = _numbers(before, load, through)
        replay = _needs_replay(reader, before, numbers)
    again = read_again(database, before, numbers, progress) if replay else None

    def once() -> tuple[list[int], Undoing]:
        with where.changing() as file:
            ledger = Ledger(file)
            undoing = Undoing(file, ledger, progress)
            undone = _numbers(ledger, load, through)
            if _needs_replay(file, ledger, undone) != (again is not None) or (
                again is not None and ledger.loads != before.loads
            ):
                raise changed_meanwhile(where.name)
            if again is None:
                undoing.undo(undone)
            else:
                undoing.replay(where, again)
            file.commit()
        return undone, undoing

    undone, undoing = retried(once)
    return UndoResult(
        where.name,
        tuple(undone),
        tuple((t, *n) for t, n in undoing.counts.items()),
        tuple(undoing.stay.items()),
        tuple(undoing.inherited.items()),
        round(time.perf_counter() - started, 3),
    )


def _in_folder(
    folder: str | Path, load: int | None, through: bool, backup: str | Path | None
) -> UndoResult:
    """The same in a folder that a cluster wrote."""
    from kerfmark.verbs.undo_in_folder import undo_in_folder

    if backup is not None:
        raise UsageError(
            "a folder that a cluster wrote is not copied here",
            next="leave out --backup: the files of a load that is taken back are all that goes",
        )
    return undo_in_folder(folder, load, through=through)


def _numbers(ledger: Ledger, load: int | None, through: bool) -> list[int]:
    """The loads that are to be taken back, the latest first."""
    number = _wanted(ledger, load)
    if not through:
        return [number]
    return [n.number for n in reversed(ledger.live) if n.number >= number]


def _wanted(ledger: Ledger, load: int | None) -> int:
    live = [n.number for n in ledger.live]
    return wanted_load(live, {n.number: n.undone_at for n in ledger.loads}, load)


def _needs_replay(reader: Reader, ledger: Ledger, numbers: Sequence[int]) -> bool:
    """Whether loads can only be taken back by making those again that are left."""
    left = {n.number for n in ledger.live} - {*numbers}
    return bool(left) and replaced_parts(reader, ledger, numbers)


def replaced_parts(reader: Reader, ledger: Ledger, numbers: Sequence[int]) -> bool:
    """Whether one of some loads, or one after them, has replaced records with everything that
    belongs to them."""
    since = [n.number for n in ledger.live if n.number >= min(numbers, default=0)]
    return any(column == REPLACED for _, column in read_changes(reader, since))


class Undoing:
    """Takes loads back in an open database."""

    def __init__(self, file: Changing, ledger: Ledger, progress: Progress) -> None:
        self.file, self.ledger, self.progress = file, ledger, progress
        self.layout = parse_layout(ledger.layout, "the layout in the database")
        self.counts: dict[str, tuple[int, int]] = {}
        self.stay: dict[str, int] = {}
        self.inherited: dict[str, int] = {}

    def undo(self, numbers: Sequence[int]) -> None:
        """Takes loads back, the latest first. Raises DataRefused where other loads depend on one of
        them."""
        for number in numbers:
            self.progress(f"taking back load {number}", 0, 0)
            later = [
                n.number for n in self.ledger.live if n.number > number and n.number not in numbers
            ]
            one = UndoPlan(self.file, self.ledger, self.layout, number, later)
            for table, values in one.apply(one.rewrites()).items():
                self._count(table, 0, values)
            self._remove(one)
            self.file.execute(
                f"UPDATE kerfmark_loads SET undone_at = {literal(now())} WHERE load_id = {number}"
            )

    def replay(self, database: Database, again: Replay) -> None:
        """Takes loads back by making all others again: where records were replaced with everything
        that belongs to them, what they had before is only in the files. Raises DataRefused where
        other loads depend on one of them."""
        before = {t: self._rows(t) for t in self.layout.tables}
        try:
            make_again(self.file, database, again, self.progress)
        except DataRefused as refusal:
            if refusal.code != "data.misfit":
                raise
            raise DataRefused(
                f"load {again.without[-1]} cannot be taken back alone",
                code="data.depends",
                origin=Origin(self.file.name),
                why="without it, rows of later loads do not fit",
                more=refusal.more,
                total=refusal.total,
                next=f"kerfmark undo {shlex.quote(self.file.name)} {again.without[0]} --through "
                "takes these back too",
            ) from refusal
        for table, rows in before.items():
            if gone := rows - self._rows(table):
                self._count(table, gone, 0)

    def _rows(self, table: str) -> int:
        return int(self.file.ask(f"SELECT COUNT(*) FROM {quote(table)}")[0][0])

    def _remove(self, one: UndoPlan) -> None:
        """Deletes the rows that no other load says, children before their parents."""
        named = {t.lower(): t for t in one.tables}
        children = self._links()
        for table in reversed(self.layout.parents_first()):
            mine = named.get(table.lower(), "")
            if not mine or self.file.facts(table) is None:  # somebody may have dropped it
                continue
            lost = one.lost(mine)
            if inherited := len(one.heirs[mine].made) - len(lost):
                self.inherited[table] = self.inherited.get(table, 0) + inherited
            needed: set[int] = set()
            for child, pairs in children.get(table.lower(), []):
                for row, by in self.file.referring_rows(table, lost, child, pairs):
                    if load := one.later_load_of(child, by):
                        raise one.depends(
                            f"rows of {child} from load {load} refer to rows of {table} that load "
                            f"{one.number} added"
                        )
                    needed.add(row)
            stay = np.array(sorted(needed), np.int64)
            gone = self.file.delete_rows(table, np.setdiff1d(lost, stay))
            if needed:
                self.stay[table] = self.stay.get(table, 0) + len(needed)
            self._count(table, gone, 0)

    def _links(self) -> dict[str, list[tuple[str, list[tuple[str, str]]]]]:
        """For each table (in small letters) the tables that link to it, with the columns of the
        link and of its key."""
        out: dict[str, list[tuple[str, list[tuple[str, str]]]]] = {}
        for child in self.file.tables():
            facts = self.file.facts(child)
            for link in facts.links if facts else ():
                out.setdefault(link.to.lower(), []).append(
                    (child, list(zip(link.columns, link.key, strict=True)))
                )
        return out

    def _count(self, table: str, rows: int, values: int) -> None:
        a, b = self.counts.get(table, (0, 0))
        self.counts[table] = a + rows, b + values
