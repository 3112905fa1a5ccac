"""mark: proposes the tables of sources, keeps to what a person says, and keeps a person's edits of
an earlier layout."""

from __future__ import annotations

import time
from collections.abc import Collection, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path

from kerfmark.errors import (
    KerfmarkError,
    LayoutError,
    Origin,
    SourceError,
    TargetError,
    UsageError,
    in_rows,
)
from kerfmark.layout.model import Layout
from kerfmark.layout.names import free_name
from kerfmark.layout.text import parse_layout, read_layout, write_layout
from kerfmark.profile.encode import EncodedSource, encode, encode_each
from kerfmark.profile.recognise import BLANKS, blank_spellings, is_padded, settle
from kerfmark.progress import Progress, silent
from kerfmark.read.csv_metadata import DescribedFile, described
from kerfmark.read.formats import READABLE
from kerfmark.read.letters import quoted
from kerfmark.read.open import reopen
from kerfmark.read.source import Reading, Source, with_changes
from kerfmark.structure.connect import connect
from kerfmark.structure.declared import declared
from kerfmark.structure.keep_edits import Kept, keep_edits
from kerfmark.structure.near_dependencies import NearMiss
from kerfmark.structure.propose import Proposal, Reason, merged, propose, source_name
from kerfmark.structure.references import Reference
from kerfmark.structure.screening import is_prose, is_register, is_unheard
from kerfmark.structure.steering import Steering
from kerfmark.verbs.atomic_write import write_atomically
from kerfmark.verbs.sources import open_inputs, spec_of

__all__ = [
    "MarkResult",
    "NearMiss",
    "Reason",
    "Reference",
    "Steering",
    "TableMarked",
    "mark",
    "mark_sources",
]


NOTED = 3
"""Rows named in a note."""
MOST_SHAPES = 500
"""Sources of different shapes that are compared with each other."""


@dataclass(frozen=True)
class TableMarked:
    """A proposed table: how many records it would have (None: not counted), how these are known,
    columns and links."""

    name: str
    source: str
    rows: int | None
    known_by: tuple[str, ...]
    columns: tuple[str, ...]
    links: dict[str, str]
    part_of: str


@dataclass(frozen=True)
class MarkResult:
    """A proposal: its tables, the reasons, notes per column as (header, remark), near misses, what
    was decided against, and where it was written ("": nowhere). `new` and `missing` tell, where an
    edited layout was kept, which columns it did not know and which are gone."""

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


def mark(
    inputs: Sequence[str | Path],
    layout: str | Path | None = None,
    *,
    steering: Steering = Steering(),
    reading: Reading = Reading(),
    replace: bool = False,
    progress: Progress = silent,
) -> MarkResult:
    """Proposes the tables that files hold, and writes the proposal to `layout` if that is given.

    A layout that is there already is kept: only what it does not know is added to it, unless
    `replace` says to write it anew. Nothing else is written. Raises UsageError for what cannot be
    read or said, TargetError for a file that is not a layout.
    """
    started = time.perf_counter()
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
    proposal, _, _ = mark_inputs(
        inputs, reading, path.parent if path else Path(), progress, steering
    )
    again = Kept(proposal.layout, "", (), ())
    if old is not None:
        again = keep_edits(old, old_text, proposal.layout)
    text = again.text or layout_text(proposal.layout, proposal.comments)
    if path is not None and text != old_text:
        with write_atomically({path: text}):
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
    )


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


def mark_inputs(
    inputs: Sequence[str | Path],
    reading: Reading,
    folder: Path,
    progress: Progress,
    steering: Steering,
    *,
    strict: bool = True,
) -> tuple[Proposal, dict[str, EncodedSource], dict[str, EncodedSource]]:
    """Proposes the tables of files; those whose metadata declares them, as declared. Gives what
    `mark_sources` gives."""
    files = [] if reading.is_given or steering != Steering() else _described(inputs)
    if not files:
        return mark_sources(open_inputs(inputs, reading), folder, progress, steering, strict=strict)
    named: dict[str, DescribedFile] = {}
    for file in files:
        named[free_name(file.file.stem, set(named), "table")] = file
    sources = {
        n: reopen(str(f.file), n, Reading(f.delimiter, encoding=f.encoding, header_row=1))
        for n, f in named.items()
    }
    for n, f in named.items():
        sources[n] = with_changes(sources[n], may_be_empty=True)
        if list(sources[n].headers) != [c.header for c in f.columns]:
            raise SourceError(
                "the file has other columns than its metadata declares",
                code="source.shape",
                origin=sources[n].origin(),
                why=f"declared are {', '.join(c.header for c in f.columns)}",
                next="correct csv-metadata.json beside it; without it, the tables are "
                "found in the rows",
            )
    encoded = {n: encode(s, progress, strict=strict) for n, s in sources.items()}
    proposal = declared(named, {n: spec_of(s, folder) for n, s in sources.items()}, encoded)
    note = (
        "types, keys and links",
        "as the metadata beside the files declare them: nothing was guessed",
    )
    return replace(proposal, notes=(note, *proposal.notes)), encoded, encoded


def _described(inputs: Sequence[str | Path]) -> list[DescribedFile]:
    """What is declared of files; nothing, unless it is of each."""
    out = []
    for one in inputs:
        path = Path(one)
        inside = (
            sorted(
                p
                for p in path.iterdir()
                if p.suffix.lower() in READABLE and not p.name.endswith("-metadata.json")
            )
            if path.is_dir()
            else [path]
        )
        out += [described(p) for p in inside]
    return [d for d in out if d is not None] if None not in out else []


def _told(layout: Layout, proposal: Proposal) -> tuple[TableMarked, ...]:
    return tuple(
        TableMarked(
            n, t.source, proposal.rows.get(n), t.known_by, tuple(t.columns), t.parents, t.part_of
        )
        for n, t in layout.tables.items()
    )


def mark_sources(
    sources: Sequence[Source],
    folder: Path,
    progress: Progress = silent,
    steering: Steering = Steering(),
    *,
    strict: bool = True,
) -> tuple[Proposal, dict[str, EncodedSource], dict[str, EncodedSource]]:
    """Proposes the tables of sources; the layout calls their files as seen from `folder`. Gives the
    sources as the layout reads them, and as they were read. Unless `strict`, rows with too few or
    too many fields are left out."""
    steering.check({h for s in sources for h in s.headers})
    if len(sources) > MOST_SHAPES:
        raise UsageError(
            f"these are {len(sources):,} sources of different shapes, and {MOST_SHAPES} are marked "
            "at once",
            code="usage.too-many",
            next="name fewer files or sheets at once; those of one shape count as one",
        )
    read: dict[str, EncodedSource] = {}
    empty: list[Source] = []
    for found, one in encode_each(sources, progress, strict=strict):
        if one is None:
            empty.append(found)
        else:
            read[source_name(found.name, read)] = one
    prose = [n for n, e in read.items() if len(read) > 1 and is_prose(e) and is_unheard(n, read)]
    prose = [] if len(prose) == len(read) else prose
    noted = [read.pop(n).source for n in prose]
    if len(read) > 1:
        read = {n: e.without_duplicates() if is_register(e, n) else e for n, e in read.items()}
    padded = {n for n, e in read.items() if is_padded(e.columns)}
    given = read
    read = {n: e.trimmed(n in padded) for n, e in read.items()}
    blanks = {n: set(blank_spellings(e.columns)) for n, e in read.items()}
    proposal, encoded = _proposed(read, padded, blanks, folder, progress, steering)
    more = False
    for r in proposal.references:  # "n/a" where others name a hive stands for none
        source = proposal.layout.tables[r.table].source
        if r.strays and set(r.strays) <= set(BLANKS) - blanks[source]:
            blanks[source] |= set(r.strays)
            more = True
    if more:
        proposal, encoded = _proposed(read, padded, blanks, folder, progress, steering)
    notes = tuple(
        (
            read[n].source.name,
            f"taken as blank: {quoted(sorted(said))} (layout: blanks; without it they are texts)",
        )
        for n, said in blanks.items()
        if said
    )
    notes += tuple((s.name, f"passed over: there are no rows in {s.origin()}") for s in empty)
    notes += tuple(
        (s.name, f"passed over: {s.origin()} holds notes, not a table; named alone it is read")
        for s in noted
    )
    notes += tuple(
        (read[n].source.name, "cells are padded with spaces: these are left out (trim)")
        for n in sorted(padded)
    )
    return replace(proposal, notes=notes + proposal.notes), encoded, given


def _proposed(
    read: Mapping[str, EncodedSource],
    padded: Collection[str],
    blanks: Mapping[str, set[str]],
    folder: Path,
    progress: Progress,
    steering: Steering,
) -> tuple[Proposal, dict[str, EncodedSource]]:
    """The proposal for sources in which some spellings stand for a blank; the cells of some were
    `padded`."""
    encoded: dict[str, EncodedSource] = {}
    proposals: list[Proposal] = []
    taken: set[str] = set()
    for name, source in read.items():
        found, settled = source.source, source.with_blanks(blanks[name])
        kept = replace(
            settled, columns=[c for c in settled.columns if c.header not in steering.left_out]
        )
        progress(f"typing {found.name}", 0, 0)
        with ThreadPoolExecutor(2) as pool:
            types = list(pool.map(settle, kept.columns))
        progress(f"finding the tables in {found.name}", 0, 0)
        out = tuple(h for h in found.headers if h in steering.left_out)
        spec = spec_of(found, folder).model_copy(update={"left_out": out, "trim": name in padded})
        proposal = propose(kept, types, name, spec, taken, steering)
        notes = tuple(
            (
                r.header or found.name,
                r.what
                + in_rows(r.rows[:NOTED], r.total)
                + (f"; {r.next}" if r.severity == "doubtful" and r.next else ""),
            )
            for r in source.found.remarks
        )
        proposals.append(replace(proposal, notes=notes + proposal.notes))
        encoded[name] = settled
    progress("linking", 0, 0)
    return connect(merged(proposals), encoded, steering), encoded
