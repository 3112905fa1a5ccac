"""Columns that a person names, in their order: those of files in which no row names them."""

from __future__ import annotations

from collections.abc import Sequence

from kerfmark.errors import SourceError, counted
from kerfmark.read.source import Source, with_changes
from kerfmark.read.wrapped import AlsoSaidSource


def named(source: Source, names: Sequence[str]) -> Source:
    """A source with columns of these names, if any are given. Raises SourceError where these are
    more or fewer than its columns."""
    if not names:
        return source
    if len(names) != len(source.headers):
        raise SourceError(
            f"{counted(len(names), 'name')} for {counted(len(source.headers), 'column')}",
            code="source.names",
            origin=source.origin(),
            why=f"the names are {', '.join(names)}",
            next="name all columns of the file, in their order",
        )
    called = with_changes(source, headers=tuple(names))
    return AlsoSaidSource(called, {"columns": tuple(names)})
