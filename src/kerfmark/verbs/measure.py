"""measure: what is in files, before anything is loaded."""

from __future__ import annotations

import time
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

from kerfmark.profile.describe import ColumnDescription, describe
from kerfmark.profile.encode import EncodedSource, encode
from kerfmark.profile.findings import Finding, findings
from kerfmark.profile.recognise import blank_spellings
from kerfmark.progress import Progress, silent
from kerfmark.read.open import open_path

__all__ = ["ColumnDescription", "Finding", "MeasureResult", "SourceMeasured", "measure"]


@dataclass(frozen=True)
class SourceMeasured:
    """A source: how it is written, its size, its columns, its first rows as texts (blank: None), and the findings."""

    name: str
    file: str
    sheet: str
    how: str
    rows: int
    bytes: int
    skipped: int
    columns: tuple[ColumnDescription, ...]
    first_rows: tuple[tuple[str | None, ...], ...]
    findings: tuple[Finding, ...]


@dataclass(frozen=True)
class MeasureResult:
    """All sources, in the order in which they were named."""

    sources: tuple[SourceMeasured, ...]
    seconds: float


def measure(inputs: Sequence[str | Path], *, rows: int = 5, delimiter: str | None = None, encoding: str | None = None,
            header_row: int | None = None, progress: Progress = silent) -> MeasureResult:
    """Reads files, workbooks, archives and folders wholly and tells what is in them; nothing is written.

    `rows` first rows are kept. Raises SourceError for what cannot be read.
    """
    started = time.perf_counter()
    sources = [s for p in inputs for s in open_path(Path(p), delimiter=delimiter, encoding=encoding, header_row=header_row)]
    return MeasureResult(tuple(_measured(encode(s, progress, strict=False), rows, progress) for s in sources),
                         round(time.perf_counter() - started, 3))


def _measured(raw: EncodedSource, rows: int, progress: Progress) -> SourceMeasured:
    blanks = blank_spellings(raw.columns)
    encoded = EncodedSource(raw.source, raw.rows, [c.without(blanks) if blanks else c for c in raw.columns])
    progress(f"looking at {raw.source.name}", 0, 0)
    with ThreadPoolExecutor(2) as pool:
        columns = tuple(pool.map(describe, encoded.columns))
    first = tuple(tuple(None if c.codes[r] < 0 else c.values[int(c.codes[r])].as_py() for c in raw.columns)
                  for r in range(min(rows, raw.rows)))
    source = raw.source
    return SourceMeasured(source.name, source.origin().file, source.origin().sheet or "", source.how, raw.rows, source.size,
                          len(source.numbers.skipped) - len(source.ragged), columns, first, tuple(findings(encoded, columns)))
