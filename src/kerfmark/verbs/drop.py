"""drop: takes everything out of a database again that Kerfmark made there."""

from __future__ import annotations

import time
from dataclasses import dataclass
from pathlib import Path

from kerfmark.address import database_at
from kerfmark.errors import DataRefused, Origin, TargetError, counted
from kerfmark.layout.text import parse_layout
from kerfmark.ledger.records import Ledger
from kerfmark.progress import Progress, silent
from kerfmark.store.interface import no_ledger
from kerfmark.verbs.replace_check import Losses, find_losses
from kerfmark.verbs.retry import retried
from kerfmark.verbs.undo import Undoing


@dataclass(frozen=True)
class DropResult:
    """What goes, or went: see `Losses`. `dropped`: it is gone. Of tables that somebody else made,
    the rows that loads put there go, as (table, rows)."""

    database: str
    goes: Losses
    rows: tuple[tuple[str, int], ...]
    dropped: bool
    seconds: float


def drop(database: str | Path, *, discard: bool = False, progress: Progress = silent) -> DropResult:
    """Takes the tables, views and the ledger that Kerfmark made out of a database; of tables that
    somebody else made, only the rows that it put there. Unless these are to be discarded
    (`discard`), it only tells what would go. Everything happens, or nothing.

    Raises TargetError when Kerfmark did not make the database, or other people's objects depend on
    what would go; DataRefused where rows that no load made refer to rows that would.
    """
    started, where = time.perf_counter(), database_at(database)
    with where.reading() as reader:
        goes = find_losses(reader, whole=False)
        if not goes.ours:
            raise no_ledger(where.name)
    if goes.others:
        raise TargetError(
            "objects that Kerfmark did not make depend on its tables",
            code="target.not-ours",
            origin=Origin(where.name),
            more=[f"{kind} {name}" for kind, name in goes.others][:10],
            total=len(goes.others),
            next="drop these first",
        )

    def once() -> tuple[tuple[str, int], ...]:
        with where.changing() as file:
            ledger = Ledger(file)
            layout = parse_layout(ledger.layout, "the layout in the database")
            gone: dict[str, tuple[int, int]] = {}
            if layout.existing:
                undoing = Undoing(file, ledger, progress)
                undoing.undo([n.number for n in reversed(ledger.live)])
                if undoing.stay:
                    table, rows = next(iter(undoing.stay.items()))
                    raise DataRefused(
                        "the rows that were loaded cannot be deleted",
                        code="data.depends",
                        origin=Origin(where.name),
                        why=f"{counted(rows, 'row')} of {table} are referred to by rows of no load",
                        next="delete the rows that refer to them first",
                    )
                gone = undoing.counts
            if discard:
                file.drop_all(layout)
                file.commit()
        return tuple((t, n) for t, (n, _) in gone.items() if n)

    rows = retried(once) if discard or goes.existing else ()
    return DropResult(where.name, goes, rows, discard, round(time.perf_counter() - started, 3))
