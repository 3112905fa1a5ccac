"""Names of views, columns and indexes, shortened to what an engine takes. Loads nothing else."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from itertools import count
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from kerfmark.layout.model import Layout

INDEX_NAME = 60
"""Bytes that a generated name may have: every engine takes as many."""


NO_ALIAS = ("true", "false")
"""What no column of a view can be called: an engine gives such a one another name in silence."""


def fit_name(name: str, longest: int, taken: Collection[str] = ()) -> str:
    """A name of at most `longest` bytes (0: any number), and not one of `taken`: its beginning, and
    a number."""
    if not longest or (len(name.encode()) <= longest and name not in taken):
        return name
    for n in count(2):
        short = name.encode()[: longest - len(f"~{n}")].decode(errors="ignore") + f"~{n}"
        if short not in taken:
            return short
    raise AssertionError


def view_name(source: str) -> str:
    """The view that shows a source in its flat shape."""
    return f"{source}_flat"


def whole_view_name(source: str) -> str:
    """The view that shows what the rows of a source lead to as well."""
    return f"{source}_whole"


def views_of(layout: Layout, sources: Collection[str] | None = None) -> list[str]:
    """The views that sources of a layout (None: all) may have."""
    some = layout.sources if sources is None else sources
    names = [n for s in some for n in (view_name(s), whole_view_name(s))]
    return [n for n in names if n not in layout.tables]


def view_columns(headers: Sequence[str], longest: int) -> dict[str, str]:
    """What the headers of a source are called in its view; an engine may take names of so many
    bytes at most (0: any)."""
    out: dict[str, str] = {}
    for header in headers:
        name = header
        while name.lower() in NO_ALIAS or (name != header and name in headers):
            name += "_"
        out[header] = fit_name(name, longest, set(out.values()))
    return out
