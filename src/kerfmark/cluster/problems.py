"""What does not fit, found on the cluster: single rows by the executors that read them, rows that
contradict others by the cluster's engine. The first ones of each kind are told with their file and
row, in the words of `normalize`; the others are counted."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa

from kerfmark.cluster.frames import AT
from kerfmark.cluster.staging import KEPT_PROBLEMS, PLACE_BITS, ProblemRows, Staged
from kerfmark.cluster.steps import PlanResult, Steps
from kerfmark.errors import Origin
from kerfmark.layout.model import Layout
from kerfmark.normalize import sentences
from kerfmark.normalize.problems import Problem
from kerfmark.plan.model import Cell, Plan, TableStep
from kerfmark.profile.convert import to_text

if TYPE_CHECKING:
    from pyspark.sql import Column, DataFrame


@dataclass
class Places:
    """Where the rows of all units are, as a person counts."""

    runs: Mapping[int, Sequence[tuple[int, str, str, int]]]

    @classmethod
    def of(cls, staged: Mapping[str, Sequence[Staged]]) -> Places:
        """Of all units."""
        return cls({s.unit: s.runs for units in staged.values() for s in units})

    def origin(self, at: int, header: str = "") -> Origin:
        """The place of a row and a column."""
        unit, record = at >> PLACE_BITS, at & ((1 << PLACE_BITS) - 1)
        runs = self.runs.get(unit) or [(0, "", "", 0)]
        first, file, sheet, row = runs[bisect_right([r[0] for r in runs], record) - 1]
        return Origin(file, sheet or None, row + record - first, header or None)


def unit_problems(
    staged: Mapping[str, Sequence[Staged]], kept: int = KEPT_PROBLEMS
) -> list[ProblemRows]:
    """The problems of single rows, those of one kind together, each with so many rows."""
    return merged((p for units in staged.values() for unit in units for p in unit.problems), kept)


def merged(problems: Iterable[ProblemRows], kept: int = KEPT_PROBLEMS) -> list[ProblemRows]:
    """Problems, those of one kind and column together, each with so many rows. What can be done
    about one is what can be done about each of its parts."""
    found: dict[tuple[object, ...], ProblemRows] = {}
    for one in problems:
        ways = one.remedy.split("\n")
        key = (one.kind, one.source, *one.headers, ways[0], one.table)
        if key not in found:
            found[key] = replace(one, rows=one.rows[:kept], origins=one.origins[:kept])
            continue
        known = found[key]
        known.remedy = "\n".join(way for way in known.remedy.split("\n") if way in ways)
        known.rows = sorted([*known.rows, *one.rows])[:kept]
        known.origins = [*known.origins, *one.origins][:kept]
        known.suggested = [*known.suggested, *one.suggested]
        known.total += one.total
    return list(found.values())


def as_problems(told: Sequence[ProblemRows], places: Places) -> list[Problem]:
    """Problems as they are told in one process: the first rows, and how many there are."""
    out = []
    for one in told:
        header = " + ".join(one.headers)
        at = [(places.origin(row, header), why) for row, why in one.rows]
        at += [(Origin(f, s or None, r or None, header or None), w) for f, s, r, w in one.origins]
        out.append(
            Problem(
                one.kind,
                one.source,
                tuple(one.headers),
                np.empty(0, np.int64),
                one.rows[0][1] if one.rows else "",
                one.remedy,
                "broken",
                one.table,
                tuple(at),
                decide=one.decide,
                counted=one.total,
                values=tuple(one.values),
            )
        )
    return out


@dataclass(frozen=True)
class Check:
    """Which rows of a frame are wrong, and what tells it, if there are any."""

    frame: DataFrame
    wrong: Column
    tell: Callable[[int], None]


def check_of(frame: DataFrame, tell: Callable[[int], None], wrong: Column | None = None) -> Check:
    """A look at whether there are wrong rows in a frame (None: all of them are)."""
    from pyspark.sql import functions as F

    return Check(frame, F.lit(True) if wrong is None else wrong, tell)


class Finder:
    """Finds rows that do not fit in what a plan has made, and tells the first ones of each kind, so
    many."""

    def __init__(
        self, steps: Steps, done: PlanResult, places: Places, kept: int = KEPT_PROBLEMS
    ) -> None:
        self.steps, self.done, self.places, self.kept = steps, done, places, kept
        self.layout: Layout = steps.layout
        self.plan: Plan = steps.plan
        self.found: list[ProblemRows] = []

    def add(
        self,
        kind: str,
        source: str,
        headers: Sequence[str],
        rows: DataFrame,
        reason: str | Callable[[dict[str, Any]], str],
        remedy: str,
        table: str,
        decide: Mapping[str, str] | None = None,
        *,
        total: int = 0,
        meant: Callable[[dict[str, Any]], str] | None = None,
        of_all: bool = False,
    ) -> None:
        """Adds a problem with rows (`_at`, and what the reason needs), if there are any; `total` of
        them, where that is known. `meant` tells what a cell may have been meant to say ("": that is
        not known)."""
        first = rows.orderBy(AT).limit(self.kept).collect()
        if not first:
            return
        total = total or (len(first) if len(first) < self.kept else rows.count())
        told = [
            (int(r[AT]), reason if isinstance(reason, str) else reason(r.asDict())) for r in first
        ]
        self.found.append(
            ProblemRows(
                kind,
                source,
                list(headers),
                remedy,
                table,
                "broken",
                dict(decide or {}),
                told,
                total,
                suggested=[
                    (int(r[AT]), headers[0], value)
                    for r in first
                    if meant is not None and len(headers) == 1 and (value := meant(r.asDict()))
                ],
                of_all=of_all,
            )
        )


def text_of(value: Any, cell: Cell) -> str:
    """A value as the source spells it."""
    if value is None:
        return ""
    if cell.form == "text" or cell.of_type.kind == "text":
        return str(value)
    type_ = cell.of_type
    known = pa.array([value], pa.int32() if type_.kind == "time" else None)
    return str(to_text(known.cast(type_.arrow), type_)[0])


def told_value(value: Any, cell: Cell) -> str:
    """A value in quotes, as messages have it."""
    if value is None:
        return "nothing"
    return sentences.quoted(text_of(value, cell))


def keys_of(step: TableStep) -> list[str]:
    """The cells by which the records of a table are told apart."""
    return [c.name for c in step.identity.cells]
