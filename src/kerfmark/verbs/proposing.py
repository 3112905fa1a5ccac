"""Proposing a layout for files: what is read of them, which of their cells are blank, the tables
that are found, and a trial of the cut, so that nothing is proposed that a cut would refuse."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path

from kerfmark.errors import SourceError, UsageError, in_rows
from kerfmark.layout.model import Layout
from kerfmark.layout.names import free_name
from kerfmark.normalize.split import Split
from kerfmark.profile.encode import EncodedSource, encode, encode_each
from kerfmark.profile.recognise import BLANKS, blank_spellings, is_padded
from kerfmark.profile.settle import settle
from kerfmark.progress import Progress, silent
from kerfmark.read.csv_metadata import DescribedFile, described
from kerfmark.read.formats import READABLE
from kerfmark.read.letters import quoted
from kerfmark.read.open import reopen
from kerfmark.read.source import Reading, Source, with_changes
from kerfmark.structure.connect import connect
from kerfmark.structure.decisions import NOTHING, decide, recognised_as
from kerfmark.structure.declared import declared
from kerfmark.structure.propose import Proposal, merged, propose, source_name
from kerfmark.structure.screening import is_prose, is_register, is_unheard
from kerfmark.structure.steering import Steering
from kerfmark.verbs.sources import open_inputs, spec_of
from kerfmark.verbs.trial import that_can_be_cut

NOTED = 3
"""Rows named in a note."""
MOST_SHAPES = 500
"""Sources of different shapes that are compared with each other."""


@dataclass(frozen=True)
class Held:
    """Tables of a database that others may link to: a layout that has a source for each, these
    sources, and names that are taken besides."""

    layout: Layout
    encoded: Mapping[str, EncodedSource]
    taken: frozenset[str] = frozenset()


@dataclass(frozen=True)
class Marked:
    """A proposal, the sources as its layout reads them, as they were read, and the tables that were
    built of them to try it (None: it was not tried)."""

    proposal: Proposal
    encoded: dict[str, EncodedSource]
    read: dict[str, EncodedSource]
    built: Split | None = None


def mark_inputs(
    inputs: Sequence[str | Path],
    reading: Reading,
    folder: Path,
    progress: Progress,
    steering: Steering,
    *,
    strict: bool = True,
) -> Marked:
    """Proposes the tables of files; those whose metadata declares them, as declared."""
    files = declared_files(inputs, reading, steering)
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
    return Marked(replace(proposal, notes=(note, *proposal.notes)), encoded, encoded)


def declared_files(
    inputs: Sequence[str | Path], reading: Reading, steering: Steering
) -> list[DescribedFile]:
    """What is declared of files; nothing, unless it is of each, or where a person says anything."""
    if reading.is_given or steering != Steering():
        return []
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


def mark_sources(
    sources: Sequence[Source],
    folder: Path,
    progress: Progress = silent,
    steering: Steering = Steering(),
    *,
    strict: bool = True,
    held: Held | None = None,
) -> Marked:
    """Proposes the tables of sources; the layout calls their files as seen from `folder`. Unless
    `strict`, rows with too few or too many fields are left out. Tables that are `held` are in the
    proposal as they are."""
    steering = steering.settled({h for s in sources for h in s.headers})
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
            read[source_name(found.name, {*read, *(held.taken if held else ())})] = one
    prose = [n for n, e in read.items() if len(read) > 1 and is_prose(e) and is_unheard(n, read)]
    prose = [] if len(prose) == len(read) else prose
    noted = [read.pop(n).source for n in prose]
    if len(read) > 1:
        read = {n: e.without_duplicates() if is_register(e, n) else e for n, e in read.items()}
    padded = {n for n, e in read.items() if is_padded(e.columns)}
    given = read
    read = {n: e.trimmed(n in padded) for n, e in read.items()}
    said, texts = {*steering.decisions.blanks}, {*steering.decisions.not_blanks}
    blanks = {n: ({*blank_spellings(e.columns)} | said) - texts for n, e in read.items()}

    def propose_with(steering: Steering) -> tuple[Proposal, dict[str, EncodedSource]]:
        return _proposed(read, padded, blanks, folder, progress, steering, held)

    proposal, encoded = propose_with(steering)
    more = False
    for r in proposal.references:  # "n/a" where others name a hive means none
        source = proposal.layout.tables[r.table].source
        if r.strays and set(r.strays) <= set(BLANKS) - blanks[source] - texts:
            blanks[source] |= set(r.strays)
            more = True
    if more:
        proposal, encoded = propose_with(steering)
    progress("trying the cut", 0, 0)
    proposal, encoded, built = that_can_be_cut(proposal, encoded, steering, propose_with)
    notes = tuple(
        (
            read[n].source.name,
            f"taken as blank: {quoted(sorted(found - said))} (--not-blank keeps them as texts)",
        )
        for n, found in blanks.items()
        if found - said
    )
    notes += tuple((s.name, f"skipped: there are no rows in {s.origin()}") for s in empty)
    notes += tuple(
        (s.name, f"skipped: {s.origin()} holds notes, not a table; named alone it is read")
        for s in noted
    )
    notes += tuple(
        (read[n].source.name, "cells are padded with spaces: these are left out (trim)")
        for n in sorted(padded)
    )
    return Marked(replace(proposal, notes=notes + proposal.notes), encoded, given, built)


def _proposed(
    read: Mapping[str, EncodedSource],
    padded: Collection[str],
    blanks: Mapping[str, set[str]],
    folder: Path,
    progress: Progress,
    steering: Steering,
    held: Held | None,
) -> tuple[Proposal, dict[str, EncodedSource]]:
    """The proposal for sources in which some spellings mean a blank; the cells of some were
    `padded`."""
    encoded: dict[str, EncodedSource] = {}
    proposals: list[Proposal] = []
    taken: set[str] = {*held.taken} if held else set()
    for name, source in read.items():
        found, settled = source.source, source.with_blanks(blanks[name])
        kept = replace(
            settled, columns=[c for c in settled.columns if c.header not in steering.left_out]
        )
        progress(f"typing {found.name}", 0, 0)
        with ThreadPoolExecutor(2) as pool:
            types = list(pool.map(settle, kept.columns))
        if steering.decisions != NOTHING:
            headers = [c.header for c in kept.columns]
            texts = [c.values for c in kept.columns]
            types = recognised_as(types, headers, texts, steering.decisions)
        progress(f"finding the tables in {found.name}", 0, 0)
        out = tuple(h for h in found.headers if h in steering.left_out)
        spec = spec_of(found, folder).model_copy(update={"left_out": out, "trim": name in padded})
        proposal = propose(kept, types, name, spec, taken, steering)
        notes = tuple(
            (
                r.header or found.name,
                r.what
                + in_rows(r.rows[:NOTED], r.total)
                + (f"; {r.remedies}" if r.severity == "doubtful" and r.next else ""),
            )
            for r in source.found.remarks
        )
        proposals.append(replace(proposal, notes=notes + proposal.notes))
        encoded[name] = settled
    progress("linking", 0, 0)
    there = {*held.layout.tables} if held else set()
    if held:
        proposals = [Proposal(held.layout, (), (), {}), *proposals]
    files = encoded
    encoded = {**held.encoded, **encoded} if held else encoded
    proposal = connect(merged(proposals), encoded, steering, there)
    if steering.decisions != NOTHING:
        proposal = proposal.as_decided(decide(proposal.layout, files, steering.decisions, there))
    return proposal, encoded
