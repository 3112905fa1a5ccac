"""measure: what is in files, before anything is loaded."""

from __future__ import annotations

import time
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path

from kerfmark.profile.describe import ColumnDescription, describe
from kerfmark.profile.encode import EncodedSource, encode_each
from kerfmark.profile.findings import Finding, findings
from kerfmark.profile.measure_result import MeasureResult, SourceMeasured
from kerfmark.profile.recognise import blank_spellings, is_padded
from kerfmark.progress import Progress, silent
from kerfmark.read.open import open_all
from kerfmark.read.source import Reading, Source

__all__ = ["ColumnDescription", "Finding", "MeasureResult", "SourceMeasured", "measure"]


def measure(
    inputs: Sequence[str | Path],
    *,
    rows: int = 5,
    reading: Reading = Reading(),
    progress: Progress = silent,
) -> MeasureResult:
    """Reads files, workbooks, archives, folders, JSON, Parquet and tables wholly and tells what is
    in them; nothing is written.

    `rows` first rows are kept. Raises SourceError for what cannot be read.
    """
    started = time.perf_counter()
    sources = open_all(inputs, replace(reading, hidden=True))
    return MeasureResult(
        tuple(
            _measured(encoded, rows, progress) if encoded is not None else _without_rows(source)
            for source, encoded in encode_each(sources, progress, strict=False)
        ),
        round(time.perf_counter() - started, 3),
    )


def _without_rows(source: Source) -> SourceMeasured:
    """A source that has no rows: its header is all there is to tell."""
    at = source.origin()
    told = Finding(
        "odd", at, "there are no rows", 1, (), "no table is made of it; leave it out, or fill it"
    )
    return SourceMeasured(
        source.name, at.file, at.sheet or "", source.how, 0, 0, 0, (), (), (told,)
    )


def _padded(encoded: EncodedSource) -> Finding:
    what = "cells are padded with spaces: types and values are told without them"
    return Finding("odd", encoded.source.origin(), what, 0, (), "")


def _measured(raw: EncodedSource, rows: int, progress: Progress) -> SourceMeasured:
    padded = is_padded(raw.columns)
    raw = raw.trimmed(padded)
    encoded = raw.with_blanks(blank_spellings(raw.columns))
    progress(f"looking at {raw.source.name}", 0, 0)
    with ThreadPoolExecutor(2) as pool:
        columns = tuple(pool.map(describe, encoded.columns))
    first = tuple(
        tuple(None if c.codes[r] < 0 else c.values[int(c.codes[r])].as_py() for c in raw.columns)
        for r in range(min(rows, raw.rows))
    )
    source = raw.source
    return SourceMeasured(
        source.name,
        source.origin().file,
        source.origin().sheet or "",
        source.how,
        raw.rows,
        raw.found.size,
        raw.found.skipped,
        columns,
        first,
        (*findings(encoded, columns), *([_padded(encoded)] if padded else [])),
    )
