"""Data sets that are written as many files in folders such as `year=2040/apiary=Weir`: what the
folders say of the rows below them becomes columns."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from urllib.parse import unquote

import pyarrow as pa

from kerfmark.read.source import Source, with_changes
from kerfmark.read.wrapped import WrappedSource

_FOLDER = re.compile(r"(?P<name>[^\W\d]\w*)=(?P<value>[^=]*)")


def said_by_folders(path: Path) -> dict[str, str]:
    """What the names of the folders of a path say, from the outermost on."""
    found = [_FOLDER.fullmatch(part) for part in path.parts[:-1]]
    return {m["name"]: unquote(m["value"]) for m in found if m}


def files_below(folder: Path) -> Iterator[Path]:
    """The files in the folders of a data set; none where no folder in it is named so."""
    for inner in sorted(p for p in folder.iterdir() if p.is_dir() and _FOLDER.fullmatch(p.name)):
        yield from sorted(p for p in inner.iterdir() if p.is_file())
        yield from files_below(inner)


class PartitionSource(WrappedSource):
    """A file of a data set with what its folders say as further columns."""

    def __init__(self, part: Source, said: dict[str, str]) -> None:
        more = {k: v for k, v in said.items() if k not in part.headers}
        super().__init__(part, (*part.headers, *more))
        self._values = [v or None for v in more.values()]

    def changed(self, columns: list[pa.Array]) -> list[pa.Array]:
        """The columns of the file, and the further ones."""
        rows = pa.array([0] * len(columns[0]), pa.int32())
        return [*columns, *(pa.array([v], pa.string()).take(rows) for v in self._values)]


def with_folders(source: Source, path: Path, *, name_it: bool = False) -> Source:
    """A source with what the folders of its path say, if they say anything; called after the folder
    of the whole data set, if it is to be named."""
    said = said_by_folders(path)
    if not said:
        return source
    first = next(i for i, part in enumerate(path.parts) if _FOLDER.fullmatch(part))
    whole = path.parts[first - 1] if first and name_it else ""
    return with_changes(PartitionSource(source, said), name=whole or source.name)
