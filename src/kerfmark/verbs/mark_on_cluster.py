"""mark on a cluster: tables are proposed from a sample that the executors take, and tested on all
rows there. Rows that refute a proposal come into the sample, and tables are proposed anew."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from kerfmark.cluster.build import Built
from kerfmark.cluster.folder import Target
from kerfmark.cluster.sample import Sample
from kerfmark.cluster.session import connected
from kerfmark.errors import UsageError, counted
from kerfmark.layout.derive import settled
from kerfmark.layout.model import Layout
from kerfmark.profile.encode import encode
from kerfmark.progress import Progress, silent
from kerfmark.read.source import Reading, Source
from kerfmark.structure.propose import Proposal, Reason
from kerfmark.structure.steering import Steering
from kerfmark.verbs.mark import MarkResult, SampleTested, layout_text, mark_with
from kerfmark.verbs.on_cluster import built_tables, opened_sources, require_shared, source_files
from kerfmark.verbs.proposing import Marked, declared_files, mark_sources
from kerfmark.verbs.sources import open_described, open_inputs, spec_of

if TYPE_CHECKING:
    from pyspark.sql import SparkSession

ROUNDS = 8
"""Proposals that are tested."""


def mark_on_cluster(
    inputs: Sequence[str | Path],
    layout: str | Path | None,
    cluster: str,
    shared: str | Path,
    *,
    steering: Steering = Steering(),
    reading: Reading = Reading(),
    replace_layout: bool = False,
    progress: Progress = silent,
) -> MarkResult:
    """Proposes the tables of files on the cluster at an address, and writes the proposal to
    `layout` if that is given. What is needed on the way is in the folder `shared`, which all
    machines reach, and is gone afterwards.

    Raises as `mark`; and UsageError where there is no cluster.
    """
    started = time.perf_counter()
    if any(Path(i).suffix.lower() == ".toml" for i in inputs):
        raise UsageError(
            "deciding in a layout needs no cluster",
            code="usage.layout",
            next="leave out --cluster; or name the files to have tables proposed",
        )
    require_shared(str(shared))
    if declared_files(inputs, reading, steering):
        raise UsageError(
            "the metadata beside these files declare their tables",
            code="usage.declared",
            next="leave out --cluster: nothing is looked for in the rows then",
        )
    sources = {f"source {i}": s for i, s in enumerate(open_inputs(inputs, reading), 1)}
    tested: list[SampleTested] = []

    def propose(steering: Steering, folder: Path) -> Marked:
        target = Target(str(shared), working=True)
        try:
            with connected(cluster, progress) as (session, step):
                work = _Work(session, sources, folder, target.staging, steering, step)
                marked, told = work.proposed()
        finally:
            target.close()
        tested.append(told)
        return marked

    result = mark_with(propose, inputs, layout, steering, None, replace_layout, started)
    return replace(result, sample=tested[0])


class _Work:
    """Proposing the tables of sources for a layout in a folder."""

    def __init__(
        self,
        session: SparkSession,
        sources: Mapping[str, Source],
        folder: Path,
        staging: str,
        steering: Steering,
        progress: Progress,
    ) -> None:
        self.session, self.folder, self.staging = session, folder, staging
        self.steering, self.progress = steering, progress
        specs = {n: spec_of(s, folder) for n, s in sources.items()}
        distributed = {
            n: found for n, s in sources.items() if (found := source_files(specs[n], folder, s))
        }
        here = {
            n: encode(s, progress, strict=False) for n, s in sources.items() if n not in distributed
        }
        raw = Layout.model_construct(sources=specs, tables={})
        self.sample = Sample(
            session, sources, raw, open_described, distributed, here, staging, progress
        )

    def proposed(self) -> tuple[Marked, SampleTested]:
        """What all rows bear out, and how it was found."""
        before, built, rounds = "", None, 0
        while True:
            marked = mark_sources(
                self.sample.as_sources(), self.folder, self.progress, self.steering, strict=False
            )
            text = layout_text(marked.proposal.layout, {})
            if text == before or rounds == ROUNDS:  # what is left no proposal would heed
                break
            rounds += 1
            before = text
            built = self._tested(marked.proposal.layout, text, rounds)
            units = {u.number: u for u in built.units}
            if not built.told or not self.sample.refuted(built.layout, built.told, units):
                break
        assert built is not None
        proposal = _with_evidence(marked, built)
        told = SampleTested(self.sample.taken, self.sample.of_all, rounds)
        return replace(marked, proposal=proposal, built=None), told

    def _tested(self, layout: Layout, text: str, number: int) -> Built:
        sources = opened_sources(layout, text, self.folder / "the layout")
        return built_tables(
            self.session,
            settled(layout, sources.headers),
            sources,
            f"{self.staging}/round-{number}",
            "",
            self.progress,
            count_links=True,
        )


def _with_evidence(marked: Marked, built: Built) -> Proposal:
    """A proposal with the counts of all rows, and notes about those that do not fit."""
    proposal = marked.proposal
    notes = [
        (
            p.column or p.source,
            f"{counted(p.total, 'row')} of all: {p.places[0][1]}, first in {p.places[0][0]}; "
            "kerfmark check tells them",
        )
        for p in built.problems
        if p.places
    ]
    reasons = [_counted(r, proposal.layout, built) for r in proposal.reasons]
    of_sources = {
        n: (marked.encoded[n].rows, sum(u.rows for u in units))
        for n, units in built.staged.items()
        if n in marked.encoded
    }
    rows = {n: r for n, r in built.rows.items() if r}
    whole = proposal.with_evidence(reasons, rows, of_sources)
    return replace(whole, notes=(*whole.notes, *notes))


def _counted(reason: Reason, layout: Layout, built: Built) -> Reason:
    """A reason with the counts of all rows; what chance would give grows with the repeats."""
    values = built.rows.get(reason.table, 0)
    within = layout.tables.get(reason.within)
    links = [n for n, to in within.links.items() if to.to == reason.table] if within else []
    if not values or not links:
        return reason
    repeats = max(0, built.linked[reason.within, links[0]] - values)
    chance = reason.by_chance * repeats // max(1, reason.repeats)
    return replace(reason, values=values, repeats=repeats, by_chance=chance)
