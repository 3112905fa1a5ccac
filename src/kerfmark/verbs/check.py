"""check: rehearses a whole cut and writes nothing."""

from __future__ import annotations

import shlex
import time
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from kerfmark.address import database_at
from kerfmark.errors import TargetError
from kerfmark.layout.model import Layout
from kerfmark.layout.text import read_layout
from kerfmark.normalize.split import LinkCount, Split, rehearse
from kerfmark.profile.encode import EncodedSource, encode
from kerfmark.progress import Progress, silent
from kerfmark.verbs.add import AddOptions
from kerfmark.verbs.add_result import AddResult
from kerfmark.verbs.map_onto import fill
from kerfmark.verbs.own_forms import SaidForms, in_own_forms
from kerfmark.verbs.problem_groups import Group, Place, problem_groups
from kerfmark.verbs.routing import route, with_files
from kerfmark.verbs.sources import check_headers, open_described

__all__ = [
    "CheckResult",
    "Group",
    "LinkCount",
    "Place",
    "SourceChecked",
    "TableChecked",
    "check",
    "schema",
]


@dataclass(frozen=True)
class SourceChecked:
    """A source that was rehearsed: its rows, those that the layout leaves out, and the cells that
    it changes, by header."""

    name: str
    file: str
    rows: int
    left_out: int
    changed: dict[str, int]


@dataclass(frozen=True)
class TableChecked:
    """A table and the rows that it would get; `created` of them only because other rows name
    them."""

    name: str
    rows: int
    created: int


@dataclass(frozen=True)
class CheckResult:
    """What a cut would do. `problems` counts those that would refuse it; with `complete` false,
    there may be more. `existing`: it would fill tables that are there, whose own rules are asked
    only then. `notes` tell in which forms of their own files are read."""

    layout: str
    existing: bool
    sources: tuple[SourceChecked, ...]
    tables: tuple[TableChecked, ...]
    links: tuple[LinkCount, ...]
    problems: int
    groups: tuple[Group, ...]
    complete: bool
    seconds: float
    notes: tuple[str, ...] = ()


def _refuse_target(into: str | Path, layout: Path) -> None:
    """Raises TargetError where a cut would not take a database. One that is there is not replaced
    by a check: what rehearses that is told."""
    try:
        database_at(into).new(False).discard()
    except TargetError as error:
        if error.code == "target.exists" and error.origin is not None:
            there = f"--into {shlex.quote(error.origin.file)}"  # a URL without its password
            error.next = (
                f"kerfmark add FILES {there} --rehearse rehearses adding files to it\n"
                f"kerfmark cut {shlex.quote(str(layout))} {there} --replace --rehearse rehearses "
                "building it anew"
            )
        raise


def check(
    layout: str | Path,
    files: Sequence[str | Path] = (),
    *,
    into: str | Path = "",
    known: str = "",
    forms: SaidForms = SaidForms(),
    places: int | None = 10,
    stop_after: int = 0,
    progress: Progress = silent,
) -> CheckResult:
    """Reads, converts, splits and resolves everything that a layout says, and tells every problem.

    `files` are taken in place of those that the layout names, each for the source that it fits;
    sources for which there is none are read as the layout says. `forms` say how
    these write dates and numbers, where that is not found. `places` limits the places told per kind
    of problem (None: all). With `stop_after` it ends early, once there are so many problems.
    The database `into` which the tables would go is asked whether it would take them, and, of a
    layout of tables that are there, what they hold (`known` as for `cut`). Nothing is written.

    Raises UsageError for what cannot be read; with `into`, what `cut` would raise for the database,
    and for rows that only the database refuses.
    """
    started, path = time.perf_counter(), Path(layout)
    spec, text = read_layout(path)
    if into and spec.existing:
        filled = fill(
            spec,
            text,
            path.parent,
            into,
            AddOptions(known=known, rehearsal=True, forms=forms),
            files=files,
            progress=progress,
        )
        return _asked(filled, spec, str(path))
    if into:
        _refuse_target(into, path)  # before the work
    fed: set[str] = set()
    if files:
        spec, fed = with_files(spec, route(spec, files))
    sources = {
        n: open_described(spec, n, Path() if n in fed else path.parent) for n in spec.sources
    }
    check_headers(spec, text, path.name, sources)
    encoded = {n: encode(s, progress, strict=False) for n, s in sources.items()}
    notes: list[str] = []
    if fed:
        later, notes = in_own_forms(
            spec,
            {n: encoded[n] for n in fed},
            forms,
            lambda source: encode(source, progress, strict=False),
        )
        encoded |= later
    progress("rehearsing", 0, 0)
    done = rehearse(spec, encoded, enough=stop_after, odd=not stop_after)
    if spec.existing:  # what is not in the files may be in the database
        unknown = [p for p in done.problems.found if p.kind == "unknown"]
        done.problems.found = [p for p in done.problems.found if p.kind != "unknown"]
        done.problems.odd += [
            replace(
                p,
                severity="doubtful",
                remedy="use --into DB, which looks whether the database has them",
            )
            for p in unknown
        ]
    return CheckResult(
        str(path),
        spec.existing,
        tuple(_source(n, e, done) for n, e in encoded.items()),
        _tables(spec, done),
        tuple(done.links),
        done.problems.total,
        problem_groups(done.problems, encoded, places, f"kerfmark mark {shlex.quote(str(path))}"),
        done.complete,
        round(time.perf_counter() - started, 3),
        tuple(notes),
    )


def _asked(result: AddResult, spec: Layout, path: str) -> CheckResult:
    """What filling tables that are there would do, as a check."""
    rows = {s: sum(f.rows for f in result.files if f.source == s) for s in spec.sources}
    left_out = {s: sum(a.left_out for a in result.account if a.source == s) for s in spec.sources}
    sources = tuple(
        SourceChecked(
            s, ", ".join(f.file for f in result.files if f.source == s), rows[s], left_out[s], {}
        )
        for s in spec.sources
    )
    return CheckResult(
        path,
        True,
        sources,
        tuple(TableChecked(t.name, t.added, 0) for t in result.tables),
        result.links,
        result.problems,
        result.groups,
        True,
        result.seconds,
    )


def _source(name: str, encoded: EncodedSource, done: Split) -> SourceChecked:
    return SourceChecked(
        name,
        encoded.source.origin().file,
        encoded.read,
        done.left_out.get(name, 0),
        {h: n for (s, h), n in done.changed.items() if s == name},
    )


def _tables(layout: Layout, done: Split) -> tuple[TableChecked, ...]:
    rows = {t.name: t.rows for t in done.tables}
    created = {n: sum(c.created for c in done.links if c.to == n) for n in rows}
    return tuple(TableChecked(n, rows[n], created[n]) for n in layout.tables if n in rows)


def schema() -> str:
    """The JSON Schema of layouts, for editors that check and complete them."""
    from kerfmark.layout.schema import schema_text

    return schema_text()
