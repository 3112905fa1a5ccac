"""loads: what was loaded into a database, and when. Imports little, so that looking is quick."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from kerfmark.ledger.records import Ledger, Load, LoadedFile
from kerfmark.verbs.read_only import database_to_read


@dataclass(frozen=True)
class LoadShown:
    """A load: its number, what made it, when (UTC), its files, what it did to each table as (table,
    added, changed), rows set aside, the number of its layout, and when it was taken back ("" if
    not)."""

    number: int
    verb: str
    at: str
    files: tuple[LoadedFile, ...]
    tables: tuple[tuple[str, int, int], ...]
    set_aside: int
    layout: int
    undone_at: str


@dataclass(frozen=True)
class LoadsResult:
    """All loads of a database, the first one first."""

    database: str
    loads: tuple[LoadShown, ...]


def loads(database: str | Path) -> LoadsResult:
    """What was loaded into a database, and when. Raises TargetError when Kerfmark did not make
    it."""
    with database_to_read(database).reading() as reader:
        ledger = Ledger(reader)
    return LoadsResult(reader.name, tuple(shown(ledger, load) for load in ledger.loads))


def shown(ledger: Ledger, load: Load) -> LoadShown:
    """A load with its files and what it did."""
    added = {t: n for (number, t), n in ledger.made.items() if number == load.number}
    changed = {t: n for (number, t), n in ledger.changed.items() if number == load.number}
    return LoadShown(
        load.number,
        load.verb,
        load.at,
        tuple(f for f in ledger.files if f.load == load.number),
        tuple((t, added.get(t, 0), changed.get(t, 0)) for t in dict.fromkeys([*added, *changed])),
        sum(r.load == load.number for r in ledger.set_aside),
        load.layout,
        load.undone_at,
    )
