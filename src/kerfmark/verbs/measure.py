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
from kerfmark.profile.values import SourceValues, source_here
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
            measured(encoded, rows, progress) if encoded is not None else without_rows(source)
            for source, encoded in encode_each(sources, progress, strict=False)
        ),
        round(time.perf_counter() - started, 3),
    )


def without_rows(source: Source) -> SourceMeasured:
    """A source that has no rows: its header is all there is to tell."""
    at = source.origin()
    found = Finding(
        "odd", at, "there are no rows", 1, (), "no table is made of it; leave it out, or fill it"
    )
    return SourceMeasured(
        source.name, at.file, at.sheet or "", source.how, 0, 0, 0, (), (), (found,)
    )


def measured(encoded: EncodedSource, rows: int, progress: Progress) -> SourceMeasured:
    """What is in a source that is read; `rows` first rows are kept."""
    padded = is_padded(encoded.columns)
    raw = encoded.trimmed(padded)
    first = tuple(
        tuple(None if c.codes[r] < 0 else c.values[int(c.codes[r])].as_py() for c in raw.columns)
        for r in range(min(rows, raw.rows))
    )
    progress(f"looking at {raw.source.name}", 0, 0)
    about = source_here(raw.with_blanks(blank_spellings(raw.columns)))
    return told(raw.source, about, raw.found.size, raw.found.skipped, first, padded)


def told(
    source: Source,
    about: SourceValues,
    size: int,
    skipped: int,
    first: tuple[tuple[str | None, ...], ...],
    padded: bool,
) -> SourceMeasured:
    """What is in a source of so many bytes and skipped rows, whose first rows are these; `padded`
    where spaces at the ends of cells are not in its values."""
    with ThreadPoolExecutor(2) as pool:
        columns = tuple(pool.map(describe, about.columns))
    at = source.origin()
    found = findings(about, columns)
    if padded:
        what = "cells are padded with spaces: types and values are told without them"
        found.append(Finding("odd", at, what, 0, (), ""))
    return SourceMeasured(
        source.name,
        at.file,
        at.sheet or "",
        source.how,
        about.rows,
        size,
        skipped,
        columns,
        first,
        tuple(found),
    )
