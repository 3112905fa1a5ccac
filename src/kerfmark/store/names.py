"""Names of views, columns and indexes, shortened to what an engine takes. Loads nothing else."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from itertools import count

INDEX_NAME = 60
"""Bytes that a generated name may have: every engine takes as many."""


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


def view_columns(headers: Sequence[str], longest: int) -> dict[str, str]:
    """What the headers of a source are called in its view; an engine may take names of so many
    bytes at most (0: any)."""
    out: dict[str, str] = {}
    for header in headers:
        out[header] = fit_name(header, longest, set(out.values()))
    return out
