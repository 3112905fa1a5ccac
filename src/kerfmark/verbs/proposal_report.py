"""What the page of a proposal shows of each table."""

from __future__ import annotations

import shlex
from collections.abc import Iterator, Mapping

import pyarrow.compute as pc

from kerfmark import __version__
from kerfmark.draw.page import shortened
from kerfmark.draw.proposal_page import TableShown, proposal_page
from kerfmark.layout.diagram import diagram_of
from kerfmark.layout.model import Layout
from kerfmark.normalize.table_rows import Counted, TableRows, Typed
from kerfmark.structure.propose import Proposal

FIRST = 5
"""Rows of each table that are shown."""


def report(proposal: Proposal, built: Mapping[str, TableRows], title: str) -> str:
    """The page of a proposal, with the first rows of the tables that were `built` to try it."""
    layout = proposal.layout
    counts = {n: t.rows for n, t in built.items()} or proposal.rows
    shown = [_shown(name, proposal, built, counts) for name in layout.tables]
    return proposal_page(
        diagram_of(layout, title, counts),
        shown,
        list(dict.fromkeys(proposal.notes)),
        proposal.against,
        __version__,
    )


def _shown(
    name: str, proposal: Proposal, built: Mapping[str, TableRows], counts: Mapping[str, int]
) -> TableShown:
    layout = proposal.layout
    spec, records = layout.tables[name], counts.get(name, 0)
    known = " + ".join(layout.key_headers(name))
    if spec.each_row:
        record = f"A record for each row of {spec.source}: {records:,}."
        record += f" Each has its own {known}." if known else ""
    elif spec.part_of:
        record = f"Several records for each {spec.part_of}: {records:,}."
    else:
        record = f"A record for each different {known}: {records:,}."
    reasons = [f"{r.claim}: {r.evidence}" for r in proposal.reasons if r.table == name]
    reasons += [f"links to {r.parent}: {r}" for r in proposal.references if r.table == name]
    doubts = [str(n) for n in proposal.near if (n.table or layout.base_of(n.source)) == name]
    heads, rows = _first_rows(name, layout, built)
    return TableShown(
        name,
        record,
        tuple(reasons),
        tuple(doubts),
        heads,
        rows,
        tuple(_otherwise(name, proposal, built)),
    )


def _otherwise(
    name: str, proposal: Proposal, built: Mapping[str, TableRows]
) -> Iterator[tuple[str, str]]:
    """The options that would decide a table otherwise, each with what it does."""
    layout = proposal.layout
    spec, headers = layout.tables[name], layout.key_headers(name)
    listed = any(c.split for c in spec.columns.values())
    if spec.each_row and len(headers) == 1:
        yield _option("not-unique", headers[0]), f"later files may repeat {headers[0]}"
    elif headers and not (spec.each_row or spec.part_of or listed):
        yield (
            _option("no-table", ",".join(headers)),
            "no table of its own: its columns stay where it is referred to",
        )
    for link in spec.links.values():
        if link.by and not spec.part_of:
            said = " + ".join(link.by.values())
            yield (
                _option("no-link", next(iter(link.by.values()))),
                f"{said} is a plain column, not a link",
            )
    table = built.get(name)
    for column, one in spec.columns.items() if table and not spec.part_of else ():
        held = table.columns[column] if table else None
        repeats = isinstance(held, Typed) and 3 <= len(held.values) <= len(held.codes) / 2
        if repeats and one.is_plain and one.of_type.kind == "text" and one.header not in headers:
            yield (
                _option("known-by", one.header),
                f"{one.header} is a thing with a table of its own",
            )
            break


def _option(option: str, value: str) -> str:
    return f"--{option} {shlex.quote(value)}"


def _first_rows(
    name: str, layout: Layout, built: Mapping[str, TableRows]
) -> tuple[tuple[str, ...], tuple[tuple[str, ...], ...]]:
    """The heads and the first rows of a table as texts; links as what their records are known
    by."""
    spec = layout.tables[name]
    names = [*spec.columns, *spec.links]
    heads = (*spec.columns, *(f"{n} → {link.to}" for n, link in spec.links.items()))
    if name not in built:
        return heads, ()
    shown = range(min(FIRST, built[name].rows))
    return heads, tuple(tuple(_text(layout, built, name, n, i) for n in names) for i in shown)


def _text(
    layout: Layout, built: Mapping[str, TableRows], name: str, column: str, record: int
) -> str:
    """A cell of a table; of a link, what the record that it leads to is known by."""
    held = built[name].columns[column]
    code = -1 if isinstance(held, Counted) else int(held.codes[record])
    if code < 0 or isinstance(held, Counted):
        return ""
    if isinstance(held, Typed):
        return shortened(str(pc.cast(held.values.slice(code, 1), "string")[0].as_py()))
    parent = layout.tables[name].links[column].to
    said = [_text(layout, built, parent, k, code) for k in layout.tables[parent].known_by]
    return " + ".join(s for s in said if s) or f"{code + 1:,}"
