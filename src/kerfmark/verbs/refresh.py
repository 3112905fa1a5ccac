"""refresh: loads files anew that have changed since they were loaded."""

from __future__ import annotations

import contextlib
import shlex
import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from kerfmark.address import database_at
from kerfmark.errors import DataRefused, Origin, counted
from kerfmark.layout.model import Layout
from kerfmark.layout.text import parse_layout
from kerfmark.ledger.records import Ledger, Load, LoadedFile
from kerfmark.ledger.row_numbers import Reserved
from kerfmark.normalize.policy import policy_of
from kerfmark.progress import Progress, silent
from kerfmark.store.interface import Changing, Database
from kerfmark.verbs.add import Adding, AddOptions
from kerfmark.verbs.add_result import AddResult
from kerfmark.verbs.atomic_write import write_atomically
from kerfmark.verbs.rejects import writable_rejects
from kerfmark.verbs.retry import retried
from kerfmark.verbs.routing import read_as_before
from kerfmark.verbs.sources import open_loaded
from kerfmark.verbs.undo import Undoing, replaced_parts


@dataclass(frozen=True)
class RefreshResult:
    """The files that had changed, the loads that were taken back, and those that were made instead;
    `rehearsed`: nothing was written."""

    database: str
    changed: tuple[str, ...]
    undone: tuple[int, ...]
    added: tuple[AddResult, ...]
    rehearsed: bool
    seconds: float


def refresh(
    database: str | Path,
    *,
    known: str = "",
    set_aside: str | Path | None = None,
    replace: bool = False,
    rehearsal: bool = False,
    progress: Progress = silent,
) -> RefreshResult:
    """Loads anew what has changed. The database is then what it would be had the changed files been
    loaded in the first place, each load with the policy and options that it was made with (`known`
    overrules them). Records that stay keep their keys.

    Where no load may change what another has said, only those of changed files are made again, as
    the latest ones; else all that came after them too, in their order. Rows that do not fit are set
    aside by loads that did so before, and by all of them when `set_aside` names a file for these
    rows. Everything happens, or nothing; with `rehearsal`, nothing.

    Raises SourceError when a file is no longer there, and what `add` and `undo` raise.
    """
    started, where = time.perf_counter(), database_at(database)
    aside = None if set_aside is None else writable_rejects(Path(set_aside), replace)

    def once() -> RefreshResult:
        with where.changing() as file, contextlib.ExitStack() as written:
            refreshing = Refreshing(file, where, known, aside, progress)
            changed = refreshing.changed()
            added = refreshing.again(changed) if changed else []
            written.enter_context(write_atomically({} if rehearsal else refreshing.rejects))
            if not rehearsal:
                file.commit()
        return RefreshResult(
            where.name,
            tuple(dict.fromkeys(f.file for f in changed)),
            tuple(refreshing.undone),
            tuple(added),
            rehearsal,
            round(time.perf_counter() - started, 3),
        )

    return retried(once)


class Refreshing:
    """Makes loads again in an open database."""

    def __init__(
        self, file: Changing, database: Database, known: str, aside: Path | None, progress: Progress
    ) -> None:
        self.file, self.database, self.known, self.aside, self.progress = (
            file,
            database,
            known,
            aside,
            progress,
        )
        self.folder = database.folder or Path()
        self.ledger = Ledger(file)
        self.layout = parse_layout(self.ledger.layout, "the layout in the database")
        self.undone: list[int] = []
        self.rejects: dict[Path, str | bytes] = {}

    def changed(self) -> list[LoadedFile]:
        """The files that are not what they were when they were loaded."""
        out = []
        for file in self.ledger.live_files:
            source = open_loaded(self.layout, file.source, [file], self.folder)
            batches = source.map_batches(lambda batch: None, strict=False)
            for piece in batches:
                self.progress(f"reading {file.file}", piece.first + piece.rows, 0)
            if (*batches.found.parts, batches.found)[0].fingerprint != file.fingerprint:
                out.append(file)
        return out

    def again(self, changed: Sequence[LoadedFile]) -> list[AddResult]:
        """Takes back the loads of changed files, and makes them again."""
        numbers = sorted({f.load for f in changed})
        if replaced_parts(self.file, self.ledger, numbers):
            where = shlex.quote(self.database.name)
            raise DataRefused(
                "the changed files cannot be loaded anew",
                code="data.replaced",
                origin=Origin(self.database.name),
                why="records were replaced with everything that belongs to them since",
                next="put them back, as they were when they were loaded\n"
                f"kerfmark undo {where} {numbers[0]} --through takes back load {numbers[0]} then, "
                "and those after it; add the changed files after that",
            )
        following = [load for load in self.ledger.live if load.number >= numbers[0]]
        if len(numbers) < len(following) and all(
            in_any_order(self.layout, load, self.known) for load in following
        ):
            self.file.savepoint("kerfmark_refresh")
            try:
                return self._made_again(numbers)
            except DataRefused:  # what later loads say is in the way: they are made again as well
                self.file.rollback_to("kerfmark_refresh")
                self.rejects = {}
        return self._made_again([load.number for load in following])

    def _made_again(self, numbers: Sequence[int]) -> list[AddResult]:
        reserved = Reserved.of(self.file, self.layout, numbers)
        undoing = Undoing(self.file, self.ledger, self.progress)
        undoing.undo(sorted(numbers, reverse=True))
        if undoing.stay:
            table, rows = next(iter(undoing.stay.items()))
            raise DataRefused(
                "the changed files cannot be loaded anew",
                code="data.depends",
                origin=Origin(self.database.name),
                why=f"rows that came with no load refer to {counted(rows, 'row')} of {table} "
                "that would be deleted",
                next="delete the rows that refer to them first",
            )
        self.undone = sorted(numbers, reverse=True)
        return [self._one(number, reserved) for number in sorted(numbers)]

    def _one(self, number: int, reserved: Reserved) -> AddResult:
        options = next(load.options for load in self.ledger.loads if load.number == number)
        adding = Adding(
            self.file, self.database, Ledger(self.file), self.progress, reserved, number
        )
        files = [f for f in self.ledger.files if f.load == number]
        places = list(
            dict.fromkeys(f.file if "://" in f.file else str(self.folder / f.file) for f in files)
        )
        wanted = AddOptions(
            options.source,
            self.known or options.known,
            again=True,
            aside=self._reject_file(),
            apart=options.set_aside,
            verb="refresh",
            only_known=options.only_known,
        )
        routed = read_as_before(self.layout, files, self.folder)
        if routed:
            adding.check(wanted)
            result = adding.add_routed(routed, wanted, time.perf_counter())
        else:
            result = adding.add(places, wanted)
        self.rejects |= adding.rejects
        return result

    def _reject_file(self) -> Path | None:
        """The file for the rows that a load sets aside: those of a second load have one of their
        own."""
        if self.aside is None or not self.rejects:
            return self.aside
        return self.aside.with_name(f"{self.aside.stem}-{len(self.rejects) + 1}{self.aside.suffix}")


def in_any_order(layout: Layout, load: Load, known: str) -> bool:
    """Whether it makes no difference to what is in the end in the database when a load came, as
    long as it is not refused: it may not keep, fill or overwrite anything, choose among values, or
    leave links blank."""
    said = known or load.options.known
    used = {policy_of(layout, t, said) for t in layout.tables}
    columns = [c for t in layout.tables.values() for c in t.columns.values()]
    return (
        used <= {"refuse", "add"}
        and not load.options.set_aside
        and all(c.conflicts == "refuse" and not c.usual for c in columns)
        and all(
            link.missing != "blank" for t in layout.tables.values() for link in t.links.values()
        )
    )
