"""Problems as they are told: by kind and column, worst first, each with its first places."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from kerfmark.errors import Origin
from kerfmark.normalize.problems import KINDS, Problem, Problems, advice
from kerfmark.profile.encode import EncodedSource
from kerfmark.read.source import Severity


@dataclass(frozen=True)
class Place:
    """Where a problem is, the value, and why it is one."""

    origin: Origin
    value: str
    reason: str


@dataclass(frozen=True)
class Group:
    """Problems of one kind in one column: how many, the first places, and what to do. `broken` ones
    refuse the load."""

    kind: str
    severity: Severity
    what: str
    source: str
    column: str
    total: int
    places: tuple[Place, ...]
    remedy: str


def problem_groups(
    problems: Problems,
    sources: Mapping[str, EncodedSource],
    places: int | None,
    deciding: str | None = None,
) -> tuple[Group, ...]:
    """All problems, worst first, each with at most so many places; `deciding` is the command that
    takes decisions (see `advice`)."""
    return tuple(_group(p, sources, places, deciding) for p in problems.worst_first())


def _group(
    problem: Problem, sources: Mapping[str, EncodedSource], most: int | None, deciding: str | None
) -> Group:
    encoded = sources[problem.source]
    found = places_of(problem)
    for record in problem.records[:most].tolist():
        origin = encoded.found.origin(record, problem.column or None)
        found.append(Place(origin, _value(encoded, record, problem.headers), problem.why(record)))
    if not len(problem.records) and not problem.places:
        found.append(Place(encoded.found.origin(None, problem.column or None), "", problem.why(-1)))
    return group_of(problem, found[:most], advice(problem, encoded.text, deciding))


def places_of(problem: Problem) -> list[Place]:
    """The places that a problem has itself, each with its value, where that is known."""
    unknown = [""] * (len(problem.places) - len(problem.values))
    return [
        Place(origin, value, why)
        for (origin, why), value in zip(problem.places, [*problem.values, *unknown], strict=True)
    ]


def group_of(problem: Problem, places: Sequence[Place], remedies: Sequence[str]) -> Group:
    """A problem as it is told, with its first places and what to do about it."""
    return Group(
        problem.kind,
        problem.severity,
        KINDS[problem.kind],
        problem.source,
        problem.column,
        problem.total,
        tuple(places),
        "\n".join(remedies),
    )


def _value(encoded: EncodedSource, record: int, headers: Sequence[str]) -> str:
    """The cells of a record, as read."""
    at = record if encoded.records is None else int(encoded.records.searchsorted(record))
    cells = [encoded.column(h) for h in headers if h in encoded.source.headers]
    return " + ".join("" if c.codes[at] < 0 else c.values[int(c.codes[at])].as_py() for c in cells)
