"""measure on a cluster: its executors read the files, and count the values of each column."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from kerfmark.cluster.folder import Target
from kerfmark.cluster.measured import Measured
from kerfmark.cluster.session import connected
from kerfmark.errors import SourceError
from kerfmark.layout.model import Layout
from kerfmark.profile.encode import encode
from kerfmark.profile.measure_result import MeasureResult, SourceMeasured
from kerfmark.progress import Progress, silent
from kerfmark.read.open import open_all
from kerfmark.read.source import Reading, Source
from kerfmark.verbs.measure import measured, told, without_rows
from kerfmark.verbs.on_cluster import require_shared, source_files
from kerfmark.verbs.sources import open_described, spec_of


def measure_on_cluster(
    inputs: Sequence[str | Path],
    cluster: str,
    shared: str | Path,
    *,
    rows: int = 5,
    reading: Reading = Reading(),
    progress: Progress = silent,
) -> MeasureResult:
    """Tells what is in files, which the executors of the cluster at an address read. What is needed
    on the way is in the folder `shared`, which all machines reach, and is gone afterwards.

    Raises as `measure`; and UsageError, ClusterError where there is no cluster.
    """
    started = time.perf_counter()
    require_shared(str(shared))
    sources = {
        f"source {i}": s for i, s in enumerate(open_all(inputs, replace(reading, hidden=True)), 1)
    }
    specs = {n: spec_of(s, Path()) for n, s in sources.items()}
    layout = Layout.model_construct(sources=specs, tables={})
    distributed = {n: f for n, s in sources.items() if (f := source_files(specs[n], Path(), s))}
    target = Target(str(shared), working=True)
    try:
        with connected(cluster, progress) as (session, step):
            there = Measured(
                session, sources, layout, open_described, distributed, rows, target.staging, step
            )
            out = tuple(
                _there(there, n, s, rows) if n in distributed else _here(s, rows, step)
                for n, s in sources.items()
            )
    finally:
        target.close()
    if not any(one.columns for one in out):
        raise SourceError(
            "there are no rows in it",
            code="source.no-rows",
            origin=[*sources.values()][-1].origin(),
            next="check that the export was complete",
        )
    return MeasureResult(out, round(time.perf_counter() - started, 3))


def _there(there: Measured, name: str, source: Source, rows: int) -> SourceMeasured:
    """A source that the executors have read."""
    if not there.rows(name):
        return without_rows(source)
    about, padded = there.source(name)
    units = there.read[name]
    size, skipped = sum(u.bytes for u in units), sum(u.skipped for u in units)
    return told(source, about, size, skipped, there.first_rows(name, rows, padded), padded)


def _here(source: Source, rows: int, progress: Progress) -> SourceMeasured:
    """A source that this process reads."""
    try:
        return measured(encode(source, progress, strict=False), rows, progress)
    except SourceError as error:
        if error.code != "source.no-rows":
            raise
        return without_rows(source)
