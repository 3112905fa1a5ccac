"""The page of `mark`: the proposal for whoever owns the data, to be read without a terminal."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from kerfmark.draw.page import render
from kerfmark.draw.scene import svg
from kerfmark.draw.tables import tables
from kerfmark.layout.diagram import Diagram


@dataclass(frozen=True)
class TableShown:
    """A proposed table: what a record of it is, why it is one, what is doubtful, its first rows
    (texts, one per head), and what would decide otherwise, as (option, what it does)."""

    name: str
    record: str
    reasons: tuple[str, ...]
    doubts: tuple[str, ...]
    heads: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    otherwise: tuple[tuple[str, str], ...]


def proposal_page(
    diagram: Diagram,
    shown: Sequence[TableShown],
    notes: Sequence[tuple[str, str]],
    against: Sequence[str],
    version: str,
) -> str:
    """The whole page as HTML text."""
    return render(
        "proposal.html",
        title=f"Proposed: {diagram.title}",
        heading=diagram.title,
        picture=svg(tables(diagram)).replace("<svg ", '<svg class="picture" ', 1),
        shown=shown,
        notes=notes,
        against=against,
        version=version,
    )
