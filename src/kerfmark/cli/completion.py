"""What could follow on the command line: the tables and loads of the database that is named."""

from __future__ import annotations

import argparse
from typing import Any

LOADS, TABLES, SOURCES = ("load",), ("table", "tables"), ("flat",)


def complete(parser: argparse.ArgumentParser) -> None:
    """Answers the shell, and ends, where it asks."""
    import argcomplete

    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            for command in action.choices.values():
                _prepare(command)
    argcomplete.autocomplete(parser)


def _prepare(command: argparse.ArgumentParser) -> None:
    for action in command._actions:
        if action.dest in TABLES:
            action.completer = _tables  # type: ignore[attr-defined]
        elif action.dest in SOURCES:
            action.completer = _sources  # type: ignore[attr-defined]
        elif action.dest in LOADS:
            action.completer = _loads  # type: ignore[attr-defined]


def _sources(prefix: str, parsed_args: argparse.Namespace, **_: Any) -> list[str]:
    """The sources of a database file: each has a view."""
    return [n.removesuffix("_flat") for n in _tables(prefix, parsed_args) if n.endswith("_flat")]


def _tables(prefix: str, parsed_args: argparse.Namespace, **_: Any) -> list[str]:
    """The tables and views of a database file; a server is not asked at the press of a key."""
    from kerfmark.verbs.show import names

    return (
        []
        if "://" in parsed_args.database
        else [n for n in names(parsed_args.database) if n.startswith(prefix)]
    )


def _loads(prefix: str, parsed_args: argparse.Namespace, **_: Any) -> list[str]:
    """The numbers of the loads that can be taken back."""
    from kerfmark.verbs.loads import loads

    if "://" in parsed_args.database:
        return []
    return [
        str(n.number)
        for n in loads(parsed_args.database).loads
        if not n.undone_at and str(n.number).startswith(prefix)
    ]
