"""What taking loads back did, and which load is meant."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from kerfmark.errors import UsageError


@dataclass(frozen=True)
class UndoResult:
    """What taking loads back did: their numbers, per table how many rows went and how many values
    changed, the rows that stay because rows that no load made need them, and those that stay
    because other loads say them too, as (table, rows)."""

    database: str
    loads: tuple[int, ...]
    tables: tuple[tuple[str, int, int], ...]
    stay: tuple[tuple[str, int], ...]
    said_by_others: tuple[tuple[str, int], ...]
    seconds: float


def wanted_load(live: Sequence[int], undone: Mapping[int, str], load: int | None) -> int:
    """The load that is meant, of those that were not taken back: the latest, if none is named.
    `undone` tells when others were. Raises UsageError where there is no such load."""
    if not live:
        raise UsageError(
            "nothing is left that could be taken back", next="kerfmark loads DB tells the history"
        )
    if load is not None and load not in live:
        raise UsageError(
            f"load {load} was taken back already, at {undone[load]} (UTC)"
            if load in undone
            else f"there is no load {load}",
            next=f"the loads that can be taken back are {', '.join(map(str, live))}",
        )
    return live[-1] if load is None else load
