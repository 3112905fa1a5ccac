"""check: rehearses a whole cut and writes nothing."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from kerfmark.build.problems import KINDS, Problem, Problems
from kerfmark.build.split import LinkCount, Split, rehearse
from kerfmark.errors import Origin
from kerfmark.layout.model import Layout
from kerfmark.layout.text import read_layout
from kerfmark.profile.encode import EncodedSource, encode
from kerfmark.progress import Progress, silent
from kerfmark.read.source import Severity
from kerfmark.verbs.routing import route, with_files
from kerfmark.verbs.sources import check_headers, open_source

__all__ = ["CheckResult", "Group", "LinkCount", "Place", "SourceChecked", "TableChecked", "check", "schema"]


@dataclass(frozen=True)
class SourceChecked:
    """A source that was rehearsed: its rows, those that the layout leaves out, and the cells that it changes, by header."""

    name: str
    file: str
    rows: int
    left_out: int
    changed: dict[str, int]


@dataclass(frozen=True)
class TableChecked:
    """A table and the rows that it would get; `created` of them only because other rows name them."""

    name: str
    rows: int
    created: int


@dataclass(frozen=True)
class Place:
    """Where a problem is, the value that stands there, and why it is one."""

    origin: Origin
    value: str
    reason: str


@dataclass(frozen=True)
class Group:
    """Problems of one kind in one column: how many, the first places, and what to do. `broken` ones refuse the load."""

    kind: str
    severity: Severity
    what: str
    source: str
    column: str
    total: int
    places: tuple[Place, ...]
    remedy: str


@dataclass(frozen=True)
class CheckResult:
    """What a cut would do. `problems` counts those that would refuse it; with `complete` false, there may be more. `existing`: it
    would fill tables that are there, whose own rules are asked only then."""

    layout: str
    existing: bool
    sources: tuple[SourceChecked, ...]
    tables: tuple[TableChecked, ...]
    links: tuple[LinkCount, ...]
    problems: int
    groups: tuple[Group, ...]
    complete: bool
    seconds: float


def check(layout: str | Path, files: Sequence[str | Path] = (), *, places: int | None = 10, stop_after: int = 0,
          progress: Progress = silent) -> CheckResult:
    """Reads, converts, splits and resolves everything that a layout says, and tells every problem.

    `files` are taken in place of those that the layout names, each for the source that it fits; sources for which there is none
    are read as the layout says. `places` limits the places told per kind of problem (None: all). With `stop_after` it ends
    early, once there are so many problems. Nothing is written. Raises UsageError for what cannot be read.
    """
    started, path = time.perf_counter(), Path(layout)
    spec, text = read_layout(path)
    fed: set[str] = set()
    if files:
        spec, fed = with_files(spec, route(spec, files))
    sources = {n: open_source(n, s, Path() if n in fed else path.parent) for n, s in spec.sources.items()}
    check_headers(spec, text, path.name, sources)
    encoded = {n: encode(s, progress, strict=False) for n, s in sources.items()}
    progress("rehearsing", 0, 0)
    done = rehearse(spec, encoded, enough=stop_after, odd=not stop_after)
    return CheckResult(
        str(path), spec.existing, tuple(_source(n, e, done) for n, e in encoded.items()), _tables(spec, done), tuple(done.links),
        done.problems.total, told_groups(done.problems, encoded, places), done.complete,
        round(time.perf_counter() - started, 3))


def _source(name: str, encoded: EncodedSource, done: Split) -> SourceChecked:
    return SourceChecked(name, encoded.source.origin().file, encoded.read, done.left_out.get(name, 0),
                         {h: n for (s, h), n in done.changed.items() if s == name})


def _tables(layout: Layout, done: Split) -> tuple[TableChecked, ...]:
    rows = {t.name: t.rows for t in done.tables}
    created = {n: sum(c.created for c in done.links if c.to == n) for n in rows}
    return tuple(TableChecked(n, rows[n], created[n]) for n in layout.tables if n in rows)


def told_groups(problems: Problems, sources: Mapping[str, EncodedSource], places: int | None) -> tuple[Group, ...]:
    """All problems, worst first, each with at most so many places."""
    return tuple(_group(p, sources, places) for p in problems.worst_first())


def _group(problem: Problem, sources: Mapping[str, EncodedSource], most: int | None) -> Group:
    encoded = sources[problem.source]
    headers = problem.header.split(" + ") if problem.header and problem.header not in encoded.source.headers else [problem.header]
    found = [Place(origin, "", why) for origin, why in problem.places]
    for record in problem.records[:most].tolist():
        origin = encoded.source.origin(record, problem.header or None)
        found.append(Place(origin, _value(encoded, record, headers), problem.why(record)))
    if not len(problem.records) and not problem.places:
        found.append(Place(encoded.source.origin(None, problem.header or None), "", problem.why(-1)))
    return Group(problem.kind, problem.severity, KINDS[problem.kind], problem.source, problem.header, problem.total,
                 tuple(found[:most]), problem.remedy)


def _value(encoded: EncodedSource, record: int, headers: Sequence[str]) -> str:
    """What stands in the cells of a record, as read."""
    at = record if encoded.records is None else int(encoded.records.searchsorted(record))
    cells = [encoded.column(h) for h in headers if h in encoded.source.headers]
    return " + ".join("" if c.codes[at] < 0 else c.values[int(c.codes[at])].as_py() for c in cells)


def schema() -> str:
    """The JSON Schema of layouts, for editors that check and complete them."""
    from kerfmark.layout.schema import schema_text

    return schema_text()
