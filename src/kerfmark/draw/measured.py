"""The page of `measure`: what it prints, with a small picture of how each column's values are distributed."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from kerfmark.draw.page import bars, page, said, table
from kerfmark.errors import counted
from kerfmark.profile.describe import ColumnDescription
from kerfmark.profile.findings import Finding
from kerfmark.profile.measured import SourceMeasured

LONGEST = 60


def measured_page(sources: Sequence[SourceMeasured], version: str) -> str:
    """The whole page as HTML text."""
    rows = sum(s.rows for s in sources)
    found = sum(len(s.findings) for s in sources)
    title = sources[0].file if len(sources) == 1 else counted(len(sources), "source")
    body = [f"<h1>{said(title)}</h1>",
            f'<p class="faint">{counted(len(sources), "source")}, {counted(rows, "row")}, {counted(found, "finding")}; '
            f"measured by Kerfmark {said(version)} from all rows, none sampled</p>"]
    for source in sources:
        body += _source(source, named=len(sources) > 1)
    return page(f"Measured: {title}", body)


def _source(source: SourceMeasured, *, named: bool) -> Iterator[str]:
    sheet = f", {source.sheet}" if source.sheet else ""
    if named:
        yield f"<h2>{said(source.file)}{said(sheet)}</h2>"
    skipped = f", {counted(source.skipped, 'blank row')} skipped" if source.skipped else ""
    yield (f"<p>{counted(source.rows, 'row')}, {counted(len(source.columns), 'column')}, {source.bytes:,} bytes{skipped} "
           f'<span class="faint">({said(source.how)})</span></p>')
    if source.findings:
        yield "<h3>Findings, worst first</h3>"
        yield table(["", "where", "what", "rows", "what to do"], [_finding(f, source) for f in source.findings], names=[1])
    yield "<h3>Columns</h3>"
    yield table(["column", "type", "distribution", "blank", "distinct", "longest", "smallest", "largest", "most frequent"],
                [_column(c) for c in source.columns], numbers=[3, 4, 5], names=[0])
    blanks = sorted({s for c in source.columns for s in c.blank_as})
    if blanks:
        yield f'<p class="faint">taken as blank: {said(", ".join(blanks))}</p>'
    if source.first_rows:
        yield "<h3>First rows</h3>"
        yield table([c.header for c in source.columns],
                    [["" if v is None else said(_short(v)) for v in row] for row in source.first_rows])


def _column(c: ColumnDescription) -> list[str]:
    frequent = ", ".join(f"{_short(v, 24)} ({n:,})" for v, n in c.frequent)
    told = (f"{len(c.shape)} equal steps from {c.smallest} to {c.largest}" if c.shape_is_range
            else f"the {counted(len(c.shape), 'most frequent value')}, each a bar")
    return [said(c.header), said(f"{c.mostly} (nearly)" if c.mostly else c.type), bars(c.shape, told),
            f"{c.blanks:,}" if c.blanks else "-", "unique" if c.unique and c.distinct > 1 else f"{c.distinct:,}", str(c.longest),
            said(_short(c.smallest)), said(_short(c.largest)), said(frequent or "-")]


def _finding(f: Finding, source: SourceMeasured) -> list[str]:
    where = f'column "{f.origin.column}"' if f.origin.column else "rows"
    if f.origin.file != source.file:
        where = f"{f.origin.file}, {where}"
    more = f" and {f.total - len(f.rows):,} more" if f.rows and f.total > len(f.rows) else ""
    return [f'<span class="{f.severity}">{f.severity}</span>', said(where), said(f.what),
            ", ".join(f"{r:,}" for r in f.rows) + more, said(f.next)]


def _short(text: str, most: int = LONGEST) -> str:
    return text if len(text) <= most else text[: most - 1] + "…"
