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
    from kerfmark.layout.diagram import Diagram
    from kerfmark.memory import limited
    from kerfmark.read.source import Reading
    from kerfmark.structure.decisions import Decisions
    from kerfmark.verbs.add import NewHeaders, add
    from kerfmark.verbs.add_on_cluster import add_on_cluster
    from kerfmark.verbs.add_result import AddResult
    from kerfmark.verbs.beside import BesideResult
    from kerfmark.verbs.check import CheckResult, check
    from kerfmark.verbs.cut import CutResult, cut
    from kerfmark.verbs.draw import picture
    from kerfmark.verbs.drop import DropResult, drop
    from kerfmark.verbs.export import ExportResult, Spelled, export
    from kerfmark.verbs.loads import LoadsResult, loads
    from kerfmark.verbs.map_onto import OntoResult, Wishes, mark_onto
    from kerfmark.verbs.mark import MarkResult, Steering, mark
    from kerfmark.verbs.mark_on_cluster import mark_on_cluster
    from kerfmark.verbs.measure import MeasureResult, measure
    from kerfmark.verbs.on_cluster import check_on_cluster, cut_on_cluster
    from kerfmark.verbs.own_forms import SaidForms
    from kerfmark.verbs.prove import ProveResult, prove
    from kerfmark.verbs.prove_on_cluster import prove_on_cluster
    from kerfmark.verbs.recut import RecutResult, recut
    from kerfmark.verbs.show import (
        RecordResult,
        ShowResult,
        TreeResult,
        layout_of,
        show,
        show_record,
        tree_of,
    )
    from kerfmark.verbs.trace import TraceResult, trace
    from kerfmark.verbs.undo import UndoResult, undo

_MODULES = {
    "Reading": "read.source",
    "Decisions": "structure.decisions",
    "Steering": "structure.steering",
    "measure": "verbs.measure",
    "MeasureResult": "verbs.measure",
    "mark": "verbs.mark",
    "MarkResult": "verbs.mark",
    "mark_onto": "verbs.map_onto",
    "OntoResult": "verbs.map_onto",
    "Wishes": "verbs.map_onto",
    "add": "verbs.add",
    "AddResult": "verbs.add_result",
    "BesideResult": "verbs.beside",
    "NewHeaders": "verbs.new_headers",
    "SaidForms": "verbs.own_forms",
    "picture": "verbs.draw",
    "limited": "memory",
    "Diagram": "layout.diagram",
    **dict.fromkeys(("export", "ExportResult", "Spelled"), "verbs.export"),
    **dict.fromkeys(("drop", "DropResult"), "verbs.drop"),
    "loads": "verbs.loads",
    "LoadsResult": "verbs.loads",
    **dict.fromkeys(("recut", "RecutResult"), "verbs.recut"),
    **dict.fromkeys(("undo", "UndoResult"), "verbs.undo"),
    **dict.fromkeys(("refresh", "RefreshResult"), "verbs.refresh"),
    **dict.fromkeys(("trace", "TraceResult"), "verbs.trace"),
    "check": "verbs.check",
    "CheckResult": "verbs.check",
    "cut": "verbs.cut",
    "CutResult": "verbs.cut",
    "show": "verbs.show",
    "layout_of": "verbs.show",
    **dict.fromkeys(("tree_of", "TreeResult"), "verbs.show"),
    "ShowResult": "verbs.show",
    "show_record": "verbs.show",
    "RecordResult": "verbs.show",
    **dict.fromkeys(("cut_on_cluster", "check_on_cluster"), "verbs.on_cluster"),
    "add_on_cluster": "verbs.add_on_cluster",
    "mark_on_cluster": "verbs.mark_on_cluster",
    "prove_on_cluster": "verbs.prove_on_cluster",
    "prove": "verbs.prove",
    "ProveResult": "verbs.prove",
    **dict.fromkeys(
        (
            "KerfmarkError",
            "UsageError",
            "SourceError",
            "LayoutError",
            "TargetError",
            "DataRefused",
            "Origin",
        ),
        "errors",
    ),
}
__all__ = [
    "AddResult",
    "BesideResult",
    "CheckResult",
    "CutResult",
    "DataRefused",
    "Decisions",
    "Diagram",
    "DropResult",
    "ExportResult",
    "KerfmarkError",
    "LayoutError",
    "LoadsResult",
    "MarkResult",
    "MeasureResult",
    "NewHeaders",
    "OntoResult",
    "Origin",
    "ProveResult",
    "Reading",
    "RecordResult",
    "RecutResult",
    "RefreshResult",
    "SaidForms",
    "ShowResult",
    "SourceError",
    "Spelled",
    "Steering",
    "TargetError",
    "TraceResult",
    "TreeResult",
    "UndoResult",
    "UsageError",
    "Wishes",
    "__version__",
    "add",
    "add_on_cluster",
    "check",
    "check_on_cluster",
    "cut",
    "cut_on_cluster",
    "drop",
    "export",
    "layout_of",
    "limited",
    "loads",
    "mark",
    "mark_on_cluster",
    "mark_onto",
    "measure",
    "picture",
    "prove",
    "prove_on_cluster",
    "recut",
    "refresh",
    "show",
    "show_record",
    "trace",
    "tree_of",
    "undo",
]


def __getattr__(name: str) -> Any:
    """Loads a public name when it is first used: the command line starts faster for it."""
    if name in _MODULES:
        from importlib import import_module

        return getattr(import_module(f"kerfmark.{_MODULES[name]}"), name)
    raise AttributeError(f"module 'kerfmark' has no attribute {name!r}")
