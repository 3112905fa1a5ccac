"""Rows that do not fit and are set aside, so that the others land: which they are, and why."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

from kerfmark.cluster.files import Unit
from kerfmark.cluster.problems import Places
from kerfmark.cluster.staging import PLACE_BITS, Job, ProblemRows, Staged, unit_read
from kerfmark.errors import Origin
from kerfmark.layout.model import Layout
from kerfmark.normalize.sentences import CORRECT_PARENT, parent_is_refused
from kerfmark.normalize.split import SetAside, headers_of_parent
from kerfmark.profile.encode import EncodedSource
from kerfmark.read.source import CORRECT_RAGGED

MOST = 100_000
"""Rows that may be set aside, and of each kind of problem: this process keeps their reasons."""
FEWEST = 1_000
"""Rows of each kind of problem that a unit tells at least; what it does not tell comes in the next
round."""
_RECORD = (1 << PLACE_BITS) - 1


@dataclass(frozen=True)
class RowApart:
    """A row that was set aside (its `record` is the one among all rows of its source that were read
    by this load), where it is, and what its cells have, by header of the source (None: its file has
    no such column); those of a ragged row are in its text."""

    row: SetAside
    at: Origin
    cells: tuple[str | None, ...]


@dataclass
class Apart:
    """The rows of all units that were set aside: by unit and record (as read), the reasons with
    their remedies, and what is suggested by header."""

    gone: dict[int, dict[int, list[tuple[str, str]]]] = field(default_factory=dict)
    better: dict[tuple[int, int], dict[str, str]] = field(default_factory=dict)

    def of(self, unit: int) -> list[int]:
        """The records of a unit that are set aside."""
        return sorted(self.gone.get(unit, {}))

    @property
    def count(self) -> int:
        """How many rows there are."""
        return sum(map(len, self.gone.values()))

    def take(self, told: Sequence[ProblemRows]) -> set[int]:
        """Sets the rows of problems aside; gives the units that have any. There are none where a
        problem is not the fault of its rows, or of more than are told: then nothing can be set
        aside."""
        units: set[int] = set()
        if self.count > MOST or any(
            p.of_all or not p.rows or p.origins or p.total > MOST for p in told
        ):
            return units
        for one in told:
            column = f'"{" + ".join(one.headers)}" ' if one.headers else ""
            for at, header, value in one.suggested:
                better = self.better.setdefault((at >> PLACE_BITS, at & _RECORD), {})
                better.setdefault(header, value)
            for at, why in one.rows:
                unit, record = at >> PLACE_BITS, at & _RECORD
                records = self.gone.setdefault(unit, {})
                if record not in records:
                    units.add(unit)
                records.setdefault(record, []).append((column + why, one.remedy))
        return units

    def told_by_parents(
        self,
        layout: Layout,
        told: Sequence[ProblemRows],
        staged: Mapping[str, Sequence[Staged]],
        texts: Callable[[Sequence[int], Sequence[str]], dict[int, tuple[str, ...]]],
    ) -> Iterator[ProblemRows]:
        """The problems; rows that refer to a record whose own row is set aside are told so. `texts`
        gives for places what is there under some headers."""
        places = Places.of(staged)
        for one in told:
            parent = layout.tables.get(one.table)
            units = [u.unit for u in staged.get(parent.source if parent else "", ())]
            gone = [(u << PLACE_BITS) + r for u in units for r in self.of(u)]
            headers = headers_of_parent(layout, one.source, tuple(one.headers), one.table)
            if one.kind != "unknown" or not gone or not headers:
                yield one
                continue
            refused = {said: at for at, said in texts(gone, headers).items()}
            mine = texts([at for at, _ in one.rows], one.headers)
            owned = {at: refused[said] for at, said in mine.items() if said in refused}
            others = [(at, why) for at, why in one.rows if at not in owned]
            suggested = [s for s in one.suggested if s[0] not in owned]
            if others:
                yield replace(one, rows=others, total=len(others), suggested=suggested)
            if owned:
                rows = [
                    (at, parent_is_refused(" ".join(mine[at]), one.table, places.origin(own)))
                    for at, own in owned.items()
                ]
                yield replace(one, rows=rows, total=len(rows), suggested=[], remedy=CORRECT_PARENT)

    def rows(
        self,
        staged: Mapping[str, Sequence[Staged]],
        headers: Mapping[str, Sequence[str]],
        cells: Mapping[int, Sequence[Sequence[str | None]]],
    ) -> list[RowApart]:
        """All of them, by source, in the order of files and rows, and the ragged rows; `cells` has
        those of each unit's records."""
        places, out = Places.of(staged), list[RowApart]()
        for name, units in staged.items():
            before = 0
            for unit in units:
                records = self.of(unit.unit)
                for record, own in zip(records, cells.get(unit.unit, []), strict=True):
                    row = SetAside(
                        name,
                        before + record,
                        tuple(dict.fromkeys(self.gone[unit.unit][record])),
                        suggested=self.better.get((unit.unit, record), {}),
                    )
                    at = places.origin((unit.unit << PLACE_BITS) + record)
                    out.append(RowApart(row, at, tuple(own)))
                before += unit.read
            for ragged in (r for unit in units for r in unit.ragged):
                reason = ragged.told(len(headers[name])), CORRECT_RAGGED
                row = SetAside(name, -1, (reason,), ragged)
                out.append(RowApart(row, Origin(ragged.file, row=ragged.row), ()))
        return out


def cells_apart(job: Job, unit: Unit, records: Sequence[int]) -> str:
    """Reads a unit again for the cells of some records (as read), as JSON."""
    with unit_read(job, unit) as encoded:
        return json.dumps(cells_of(encoded, job.headers[unit.source], records))


def cells_of(
    encoded: EncodedSource, headers: Sequence[str], records: Sequence[int]
) -> list[list[str | None]]:
    """The cells of some records (as read) of a source that is read; None under a header that it
    does not have."""
    there = {*encoded.headers}
    return [[encoded.text(h, r) if h in there else None for h in headers] for r in records]
