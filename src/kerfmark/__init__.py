"""Kerfmark: flat files become linked tables of a real database, and nothing is lost on the way.

The verbs of the command line as functions, with the same results as its `--json`:

    import kerfmark
    result = kerfmark.cut(["inspections-2025.csv"], "apiary.db")
    rows = {table.name: table.rows for table in result.tables}
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

__version__ = "0.1.0"

if TYPE_CHECKING:
    from kerfmark.errors import (
        DataRefused,
        KerfmarkError,
        LayoutError,
        Origin,
        SourceError,
        TargetError,
        UsageError,
    )
    from kerfmark.read.source import Reading
    from kerfmark.verbs.check import CheckResult, check
    from kerfmark.verbs.cut import CutResult, cut
    from kerfmark.verbs.mark import MarkResult, Steering, mark
    from kerfmark.verbs.measure import MeasureResult, measure
    from kerfmark.verbs.prove import ProveResult, prove
    from kerfmark.verbs.show import ShowResult, show

_HOMES = {
    "Reading": "read.source", "Steering": "structure.steer",
    "measure": "verbs.measure", "MeasureResult": "verbs.measure", "mark": "verbs.mark", "MarkResult": "verbs.mark",
    "check": "verbs.check", "CheckResult": "verbs.check", "cut": "verbs.cut", "CutResult": "verbs.cut",
    "show": "verbs.show", "ShowResult": "verbs.show", "prove": "verbs.prove", "ProveResult": "verbs.prove",
    **dict.fromkeys(("KerfmarkError", "UsageError", "SourceError", "LayoutError", "TargetError", "DataRefused", "Origin"),
                    "errors"),
}
__all__ = [
    "CheckResult", "CutResult", "DataRefused", "KerfmarkError", "LayoutError", "MarkResult", "MeasureResult", "Origin",
    "ProveResult", "Reading", "ShowResult", "SourceError", "Steering", "TargetError", "UsageError", "__version__", "check", "cut",
    "mark", "measure", "prove", "show",
]


def __getattr__(name: str) -> Any:
    """Loads a public name when it is first used: the command line starts faster for it."""
    if name in _HOMES:
        from importlib import import_module

        return getattr(import_module(f"kerfmark.{_HOMES[name]}"), name)
    raise AttributeError(f"module 'kerfmark' has no attribute {name!r}")
