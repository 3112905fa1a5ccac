"""A page to keep: a verdict, then sections of plain lines and tables."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from kerfmark.draw.page import render


@dataclass(frozen=True)
class Section:
    """A part of the page. The columns in `right` are numbers; `text` is shown as it is."""

    title: str
    lines: tuple[str, ...] = ()
    heads: tuple[str, ...] = ()
    rows: tuple[tuple[object, ...], ...] = ()
    right: tuple[int, ...] = ()
    text: str = ""


def document(title: str, about: str, verdict: str, good: bool, sections: Sequence[Section]) -> str:
    """The whole page."""
    return render(
        "document.html", title=title, about=about, verdict=verdict, good=good, sections=sections
    )
