"""The page of `measure`: what it prints, with a small picture of how each column's values are
distributed."""

from __future__ import annotations

from collections.abc import Sequence

from kerfmark.draw.page import render, shortened
from kerfmark.errors import counted
from kerfmark.profile.describe import ColumnDescription
from kerfmark.profile.findings import Finding
from kerfmark.profile.measure_result import SourceMeasured


def measured_page(sources: Sequence[SourceMeasured], version: str) -> str:
    """The whole page as HTML text."""
    title = sources[0].file if len(sources) == 1 else counted(len(sources), "source")
    return render(
        "measured.html",
        title=f"Measured: {title}",
        heading=title,
        sources=sources,
        version=version,
        found=sum(len(s.findings) for s in sources),
        counted=counted,
        short=shortened,
        frequent=_frequent,
        shape_in_words=_shape_in_words,
        place_of=_place,
        rows_of=_rows,
        spellings=_spellings,
    )


def _spellings(source: SourceMeasured) -> list[str]:
    return sorted({s for c in source.columns for s in c.blank_as})


def _frequent(c: ColumnDescription) -> str:
    return ", ".join(f"{shortened(v, 24)} ({n:,})" for v, n in c.frequent)


def _shape_in_words(c: ColumnDescription) -> str:
    if c.shape_is_range:
        return f"{len(c.shape)} equal steps from {c.smallest} to {c.largest}"
    return f"the {counted(len(c.shape), 'most frequent value')}, each a bar"


def _place(f: Finding, source: SourceMeasured) -> str:
    where = f'column "{f.origin.column}"' if f.origin.column else "rows"
    return where if f.origin.file == source.file else f"{f.origin.file}, {where}"


def _rows(f: Finding) -> str:
    more = f" and {f.total - len(f.rows):,} more" if f.rows and f.total > len(f.rows) else ""
    return ", ".join(f"{r:,}" for r in f.rows) + more
