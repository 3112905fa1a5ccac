"""undo in a folder that a cluster wrote: the files of the latest loads are no longer listed. Needs
no cluster, as no load has changed what an earlier one wrote."""

from __future__ import annotations

import shlex
import time
from dataclasses import replace
from pathlib import Path

from kerfmark.cluster.folder import DataSets, Target, absolute, read_folder
from kerfmark.errors import DataRefused, Origin
from kerfmark.verbs.recording import now
from kerfmark.verbs.undo_result import UndoResult, wanted_load


def undo_in_folder(folder: str | Path, load: int | None, *, through: bool = False) -> UndoResult:
    """Takes the latest load of a folder back, or all from one on (`through`). Raises UsageError
    when there is no such load, DataRefused when a later one may lead to what it made."""
    started, place = time.perf_counter(), absolute(str(folder))
    sets = read_folder(place)
    numbers = _numbers(sets, load, through, str(folder))
    gone = dict.fromkeys(sets.tables, 0)
    for name, table in sets.tables.items():
        gone[name] = sum(f.rows for f in table.files if f.load in numbers)
    tables = {
        n: replace(
            t, rows=t.rows - gone[n], files=tuple(f for f in t.files if f.load not in numbers)
        )
        for n, t in sets.tables.items()
    }
    at = now()
    loads = tuple(replace(n, undone=at) if n.number in numbers else n for n in sets.loads)
    target = Target(place, changing=sets)
    try:
        target.publish(replace(sets, tables=tables, loads=loads))
    finally:
        target.close()
    return UndoResult(
        str(folder),
        tuple(numbers),
        tuple((n, rows, 0) for n, rows in gone.items()),
        (),
        (),
        round(time.perf_counter() - started, 3),
    )


def _numbers(sets: DataSets, load: int | None, through: bool, folder: str) -> list[int]:
    """The loads that are to be taken back, the latest first."""
    live = [n.number for n in sets.live]
    number = wanted_load(live, {n.number: n.undone for n in sets.loads}, load)
    later = [n for n in reversed(live) if n > number]
    if later and not through:
        raise DataRefused(
            f"load {number} is not the latest one",
            code="data.depends",
            origin=Origin(folder),
            why=f"load{'s' if len(later) > 1 else ''} {', '.join(map(str, reversed(later)))} may "
            "lead to what it made",
            next=f"kerfmark undo {shlex.quote(folder)} {number} --through takes them back as well",
        )
    return [*later, number]
