"""mark: proposes the tables of sources, keeps to what a person says, and keeps a person's edits of
an earlier layout."""

from __future__ import annotations

import re
import time
from collections.abc import Collection, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path

import pyarrow.compute as pc

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
from kerfmark.profile.codes import different_rows
from kerfmark.profile.encode import EncodedSource, encode, encode_each
from kerfmark.profile.recognise import BLANKS, blank_spellings, is_padded, settle
from kerfmark.progress import Progress, silent
from kerfmark.read.csv_metadata import DescribedFile, described
from kerfmark.read.formats import READABLE
from kerfmark.read.letters import quoted
from kerfmark.read.open import reopen
from kerfmark.read.source import Reading, Source, with_changes
from kerfmark.read.union import parts_of
from kerfmark.structure.declared import declared
from kerfmark.structure.header_words import called_like, looks_like_key
from kerfmark.structure.keep_edits import Kept, keep_edits
from kerfmark.structure.near_dependencies import NearMiss
from kerfmark.structure.propose import Proposal, Reason, merged, propose, source_name
from kerfmark.structure.references import (
    Reference,
    connect,
    kept_elsewhere,
    names_to_free,
    with_table_names,
)
from kerfmark.structure.roles import headers_alike, join_roles
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


MOST_NOTES, WORDS_OF_NOTES = 200, 4
"""Rows of a sheet of notes, and words that its cells have on average at least."""
_NOTES = re.compile(
    r"(?i)^(read[ _]?me|about|info|notes?|hinweise?|lies ?mich|leggimi|l[ée]eme|lisez.?moi)$"
)
MOST_AGAIN = 0.03
"""The share of the rows of a register that may be there again."""
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
    prose = [n for n, e in read.items() if len(read) > 1 and _is_prose(e) and _is_unheard(n, read)]
    prose = [] if len(prose) == len(read) else prose
    noted = [read.pop(n).source for n in prose]
    if len(read) > 1:
        read = {n: e.without_duplicates() if _is_register(e, n) else e for n, e in read.items()}
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


def _is_prose(encoded: EncodedSource) -> bool:
    """Whether a source among several is a sheet or file of notes: one column of few rows, in
    sentences or under a name that says so."""
    if len(encoded.columns) != 1 or encoded.rows > MOST_NOTES:
        return False
    [column] = encoded.columns
    texts = [column.header, *column.values.to_pylist()]
    spoken = sum(len(t.split()) for t in texts) / len(texts) >= WORDS_OF_NOTES
    return bool(_NOTES.search(encoded.source.name)) or spoken


def _is_unheard(name: str, read: Mapping[str, EncodedSource]) -> bool:
    """Whether no other source says anything that is in the first column of one."""
    values = read[name].columns[0].values
    return not any(
        pc.any(pc.is_in(values, value_set=column.values)).as_py()
        for other, encoded in read.items()
        if other != name
        for column in encoded.columns
        if len(column.values)
    )


def _is_register(encoded: EncodedSource, name: str) -> bool:
    """Whether a source among several holds one record for each of the values of a column that is
    called like a key or like the source itself, but for few rows that are there again."""
    if parts_of(encoded.source) != [encoded.source]:
        return False
    first = different_rows(
        [c.codes for c in encoded.columns], [len(c.values) for c in encoded.columns]
    )
    if first is None or encoded.rows - len(first) > max(1, MOST_AGAIN * encoded.rows):
        return False
    return any(
        len(c.values) == len(first) and (looks_like_key(c.header) or called_like(c.header, name))
        for c in encoded.columns
    )


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
    return _connected(merged(proposals), encoded, steering), encoded


def _connected(
    whole: Proposal, encoded: Mapping[str, EncodedSource], steering: Steering
) -> Proposal:
    """A proposal with its roles joined and its links by value."""
    layout, roles = join_roles(whole.layout, encoded, steering.apart)
    alike: dict[tuple[str, str], str] = {}
    if roles and len(encoded) > 1:  # where there is a register, each role is found in it
        elsewhere = kept_elsewhere(whole.layout, encoded, steering)
        held = [r for r in roles if {r.table, r.other} & elsewhere]
        if held:
            alike = headers_alike(whole.layout, held)
            layout, roles = join_roles(whole.layout, encoded, steering.apart, elsewhere)
    whole = replace(
        whole,
        layout=layout,
        reasons=tuple(r for r in whole.reasons if r.table in layout.tables),
        rows={n: r for n, r in whole.rows.items() if n in layout.tables}
        | {r.other: r.records for r in roles},
        notes=(*whole.notes, *((r.table, str(r)) for r in roles)),
        comments={
            k: v
            for k, v in whole.comments.items()
            if not any(f"{k}.".startswith(f"tables.{r.table}.") for r in roles)
        },
    )
    connected = connect(whole.layout, encoded, steering, alike)
    comments = dict(whole.comments)
    for r in connected.references:
        if r.table in connected.renamed:
            continue
        comments[f"tables.{r.table}"] = [
            *comments.get(f"tables.{r.table}", []),
            f"links to {r.parent}: {r}",
        ]
    gone = tuple(
        (
            new,
            f"{whole.layout.tables[old].source} repeats what {new} holds of each record: it links "
            "there instead",
        )
        for old, new in connected.renamed.items()
    )
    references = tuple(
        replace(r, table=whole.layout.base_of(whole.layout.tables[r.table].source))
        if r.table in connected.renamed
        else r
        for r in connected.references
    )
    return _called(
        replace(
            whole,
            layout=connected.layout,
            comments=comments,
            notes=(*whole.notes, *gone),
            against=(*whole.against, *connected.against),
            references=tuple(sorted(references, key=lambda r: r.table in connected.renamed)),
            reasons=tuple(r for r in whole.reasons if r.table in connected.layout.tables),
        ),
        names_to_free(connected.layout, connected.renamed),
    )


def _called(proposal: Proposal, names: Mapping[str, str]) -> Proposal:
    """A proposal whose tables have other names."""
    if not names:
        return proposal

    def new(name: str) -> str:
        return names.get(name, name)

    def place(key: str) -> str:
        kind, name, *rest = key.split(".")
        return ".".join((kind, new(name) if kind == "tables" else name, *rest))

    return replace(
        proposal,
        layout=with_table_names(proposal.layout, names),
        comments={place(k): v for k, v in proposal.comments.items()},
        rows={new(n): r for n, r in proposal.rows.items()},
        notes=tuple((new(what), told) for what, told in proposal.notes),
        near=tuple(replace(n, table=new(n.table)) for n in proposal.near),
        references=tuple(
            replace(r, table=new(r.table), parent=new(r.parent)) for r in proposal.references
        ),
        reasons=tuple(
            replace(r, table=new(r.table), within=new(r.within)) for r in proposal.reasons
        ),
    )
