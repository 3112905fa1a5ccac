"""Columns that a person names, in their order: those of files in which no row names them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import pyarrow as pa

from kerfmark.errors import SourceError, counted
from kerfmark.read.source import Source
from kerfmark.read.wrapped import WrappedSource


class NamedColumnsSource(WrappedSource):
    """A source whose columns have other names."""

    def __init__(self, part: Source, names: Sequence[str]) -> None:
        super().__init__(part, tuple(names))

    def changed(self, columns: list[pa.Array]) -> list[pa.Array]:
        """The columns as they are."""
        return columns

    def settings(self) -> dict[str, Any]:
        """What a layout must say to read the file."""
        return {**self.part.settings(), "columns": self.headers}


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
    return NamedColumnsSource(source, names)
