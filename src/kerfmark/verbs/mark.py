"""mark: proposes the tables of sources."""

from __future__ import annotations

from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path

from kerfmark.profile.encode import EncodedSource, encode
from kerfmark.profile.recognise import blank_spellings, settle
from kerfmark.progress import Progress, silent
from kerfmark.read.source import Source
from kerfmark.structure.propose import Proposal, merged, propose, source_name
from kerfmark.structure.references import connect
from kerfmark.verbs.sources import spec_of


def mark_sources(sources: Sequence[Source], folder: Path, progress: Progress = silent
                 ) -> tuple[Proposal, dict[str, EncodedSource]]:
    """Proposes the tables of sources; the layout calls their files as seen from `folder`."""
    encoded: dict[str, EncodedSource] = {}
    proposals: list[Proposal] = []
    taken: set[str] = set()
    for found in sources:
        name = source_name(found.name, encoded)
        source = encode(found, progress)
        blanks = blank_spellings(source.columns)
        settled = EncodedSource(found, source.rows, [c.without(blanks) if blanks else c for c in source.columns])
        progress(f"typing {found.name}", 0, 0)
        with ThreadPoolExecutor(2) as pool:
            types = list(pool.map(settle, settled.columns))
        progress(f"finding the tables in {found.name}", 0, 0)
        proposal = propose(settled, types, name, spec_of(found, folder), taken)
        notes = tuple((r.header or found.name, r.what) for r in found.remarks)
        proposals.append(replace(proposal, notes=notes + proposal.notes))
        encoded[name] = settled
    progress("linking", 0, 0)
    whole = merged(proposals)
    connected = connect(whole.layout, encoded)
    said = {f"tables.{r.table}": [*whole.comments.get(f"tables.{r.table}", []), str(r)] for r in connected.references}
    return replace(whole, layout=connected.layout, comments=whole.comments | said,
                   notes=(*whole.notes, *((r.table, f"links to {r.parent}: {r}") for r in connected.references),
                          *((old, f"says only what {new} says: not a table of its own") for old, new in connected.renamed.items())),
                   reasons=tuple(r for r in whole.reasons if r.table in connected.layout.tables)), encoded
