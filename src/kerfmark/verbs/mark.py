"""mark: proposes the tables of sources, keeps to what a person says, and keeps a person's edits of
an earlier layout."""

from __future__ import annotations

import dataclasses
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from kerfmark.errors import KerfmarkError, LayoutError, Origin, TargetError, UsageError
from kerfmark.layout.edit import with_layout
from kerfmark.layout.model import Layout
from kerfmark.layout.text import parse_layout, read_layout, write_layout
from kerfmark.profile.encode import encode
from kerfmark.progress import Progress, silent
from kerfmark.read.source import Reading
from kerfmark.structure.decisions import NOTHING, Decisions, decide
from kerfmark.structure.keep_edits import Kept, keep_edits
from kerfmark.structure.near_dependencies import NearMiss
from kerfmark.structure.propose import Proposal, Reason
from kerfmark.structure.references import Reference
from kerfmark.structure.steering import Steering
from kerfmark.verbs.atomic_write import require_writable, write_atomically
from kerfmark.verbs.proposing import Marked, mark_inputs
from kerfmark.verbs.sources import open_sources

__all__ = [
    "Decisions",
    "MarkResult",
    "NearMiss",
    "Reason",
    "Reference",
    "Steering",
    "TableMarked",
    "mark",
]


@dataclass(frozen=True)
class TableMarked:
    """A proposed table: how many records it would have (None: not counted), how these are known,
    columns and links; whether it is `there` already, and others only link to it."""

    name: str
    source: str
    rows: int | None
    known_by: tuple[str, ...]
    columns: tuple[str, ...]
    links: dict[str, str]
    part_of: str
    there: bool = False


@dataclass(frozen=True)
class SampleTested:
    """A proposal that was made of some `rows` of many (`of_rows`), and was tested on all of these,
    in so many `rounds`: what all rows refuted was proposed anew."""

    rows: int
    of_rows: int
    rounds: int


@dataclass(frozen=True)
class MarkResult:
    """A proposal: its tables, the reasons, notes per column as (header, remark), near misses, what
    was decided against, and where it was written ("": nowhere). `new` and `missing` tell, where an
    edited layout was kept, which columns it did not know and which are gone. `sample` tells on a
    cluster of how many rows the proposal was made."""

    layout: str
    tables: tuple[TableMarked, ...]
    reasons: tuple[Reason, ...]
    references: tuple[Reference, ...]
    notes: tuple[tuple[str, str], ...]
    near: tuple[NearMiss, ...]
    against: tuple[str, ...]
    new: tuple[str, ...]
    missing: tuple[str, ...]
    seconds: float
    decided: tuple[str, ...] = ()
    sample: SampleTested | None = None


def mark(
    inputs: Sequence[str | Path],
    layout: str | Path | None = None,
    *,
    steering: Steering = Steering(),
    reading: Reading = Reading(),
    report: str | Path | None = None,
    replace: bool = False,
    progress: Progress = silent,
) -> MarkResult:
    """Proposes the tables that files hold, and writes the proposal to `layout` if that is given,
    and as a page with the first rows of each table to `report` (HTML).

    A layout that is there already is kept: only what it does not know is added to it, unless
    `replace` says to write it anew. Nothing else is written. Where `inputs` is one layout, what is
    decided (`steering.decisions`) is written into it, and no tables are proposed. Raises UsageError
    for what cannot be read or said, TargetError for a file that is not a layout.
    """
    started = time.perf_counter()
    if [Path(i).suffix.lower() for i in inputs] == [".toml"]:
        return _decide_in(Path(inputs[0]), layout, steering, reading, report, progress, started)

    def propose(steering: Steering, folder: Path) -> Marked:
        return mark_inputs(inputs, reading, folder, progress, steering)

    return mark_with(propose, inputs, layout, steering, report, replace, started)


def mark_with(
    propose: Callable[[Steering, Path], Marked],
    inputs: Sequence[str | Path],
    layout: str | Path | None,
    steering: Steering,
    report: str | Path | None,
    replace: bool,
    started: float,
) -> MarkResult:
    """See `mark`; what the tables are, `propose` says, for a layout in a folder."""
    path = None if layout is None else Path(layout)
    if path is not None and not path.parent.is_dir():
        raise TargetError(
            "the folder for the layout does not exist",
            code="target.no-folder",
            origin=Origin(str(path)),
            next=f"make the folder {path.parent} first",
        )
    there = path is not None and path.exists() and not replace
    old, old_text = read_layout(path) if path is not None and there else (None, "")
    if report is not None:
        require_writable(Path(report), replace)
    decisions = steering.decisions
    if old is not None:  # they are about what the layout has, which may be called otherwise there
        steering = dataclasses.replace(steering, decisions=NOTHING)
    marked = propose(steering, path.parent if path else Path())
    proposal = marked.proposal
    again = Kept(proposal.layout, "", (), ())
    if old is not None:
        again = keep_edits(old, old_text, proposal.layout)
        if decisions != NOTHING:
            decided = decide(again.layout, marked.encoded, decisions)
            text = with_layout(again.text, again.layout, decided.layout, decided.tables)
            again = dataclasses.replace(again, layout=decided.layout, text=text)
            proposal = dataclasses.replace(proposal, decided=decided.told)
    text = again.text or layout_text(proposal.layout, proposal.comments)
    if path is not None and text != old_text:
        with write_atomically({path: text}):
            pass
    if report is not None:
        from kerfmark.verbs.proposal_report import report as page_of

        built = {t.name: t for t in marked.built.tables} if marked.built else {}
        title = ", ".join(Path(i).name for i in inputs)
        with write_atomically({Path(report): page_of(proposal, built, title)}):
            pass
    final = again.layout
    return MarkResult(
        str(path or ""),
        _told(final, proposal),
        proposal.reasons,
        proposal.references,
        proposal.notes,
        proposal.near,
        proposal.against,
        again.new,
        again.missing,
        round(time.perf_counter() - started, 3),
        proposal.decided,
    )


def _decide_in(
    path: Path,
    output: str | Path | None,
    steering: Steering,
    reading: Reading,
    report: str | Path | None,
    progress: Progress,
    started: float,
) -> MarkResult:
    """Writes what a person decides into a layout that is there, and nothing else."""
    alone = Steering(decisions=steering.decisions)
    if steering != alone or reading.is_given or report or output is not None:
        raise UsageError(
            "a layout is there already, so no tables are proposed",
            code="usage.layout",
            origin=Origin(str(path)),
            next="name the files to have tables proposed; of a layout, decide with --type, --key, "
            "--table-name and the like",
        )
    if steering.decisions == NOTHING:
        raise UsageError(
            "nothing is decided about this layout",
            code="usage.layout",
            origin=Origin(str(path)),
            next=f"kerfmark mark {path} --type COLUMN=TYPE (or --key, --table-name and the like) "
            f"writes it there; kerfmark check {path} looks whether it fits",
        )
    old, text = read_layout(path)
    sources = open_sources(old, text, path.name, path.parent)
    encoded = {n: encode(s, progress, strict=False) for n, s in sources.items()}
    decided = decide(old, encoded, steering.decisions)
    new = with_layout(text, old, decided.layout, decided.tables)
    parse_layout(new, path.name)
    with write_atomically({path: new}):
        pass
    told = tuple(
        TableMarked(n, t.source, None, t.known_by, tuple(t.columns), t.parents, t.part_of)
        for n, t in decided.layout.tables.items()
    )
    seconds = round(time.perf_counter() - started, 3)
    return MarkResult(str(path), told, (), (), (), (), (), (), (), seconds, decided.told)


def layout_text(layout: Layout, comments: Mapping[str, list[str]]) -> str:
    """The text of a proposed layout. Raises KerfmarkError unless it is read again as the same
    layout."""
    text = write_layout(layout, comments)
    try:
        again: Layout | None = parse_layout(text, "the layout")
        why = "its text says something else"
    except LayoutError as error:
        again, why = None, "; ".join(error.more)
    if again != layout:
        raise KerfmarkError(
            "the layout that was proposed cannot be saved; nothing was kept",
            code="internal",
            why=why,
            next="this is a fault of Kerfmark: please report it",
        )
    return text


def _told(layout: Layout, proposal: Proposal) -> tuple[TableMarked, ...]:
    return tuple(
        TableMarked(
            n, t.source, proposal.rows.get(n), t.known_by, tuple(t.columns), t.parents, t.part_of
        )
        for n, t in layout.tables.items()
    )
