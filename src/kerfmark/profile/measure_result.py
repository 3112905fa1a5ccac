"""What measuring gives, as plain objects."""

from __future__ import annotations

from dataclasses import dataclass

from kerfmark.profile.describe import ColumnDescription
from kerfmark.profile.findings import Finding


@dataclass(frozen=True)
class SourceMeasured:
    """A source: how it is written, its size, its columns, its first rows as texts (blank: None),
    and the findings."""

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
