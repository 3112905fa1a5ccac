"""Data sets that are written as many files in folders such as `year=2040/apiary=Weir`: what the
folders say of the rows below them becomes columns."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any, TypeVar
from urllib.parse import unquote

import pyarrow as pa

from kerfmark.errors import Origin
from kerfmark.read.source import Batches, Source, with_changes

T = TypeVar("T")

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


class PartitionSource:
    """A file of a data set with what its folders say as further columns (see
    `read.source.Source`)."""

    def __init__(self, part: Source, said: dict[str, str]) -> None:
        self.part = part
        self.name, self.location, self.how = part.name, part.location, part.how
        self._said = {k: v for k, v in said.items() if k not in part.headers}
        self.headers = (*part.headers, *self._said)
        self.rules, self.spells_numbers = part.rules, part.spells_numbers

    def origin(self, header: str | None = None) -> Origin:
        """The place of a column, or of the whole."""
        return self.part.origin(header)

    def settings(self) -> dict[str, Any]:
        """What a layout must say to read the file."""
        return self.part.settings()

    def map_batches(
        self, work: Callable[[pa.RecordBatch], T], *, workers: int = 2, strict: bool = True
    ) -> Batches:
        """Applies `work` to every batch, with the further columns."""
        values = [v or None for v in self._said.values()]

        def whole(batch: pa.RecordBatch) -> T:
            rows = pa.array([0] * batch.num_rows, pa.int32())
            more = [pa.array([v], pa.string()).take(rows) for v in values]
            columns = [*batch.columns, *more]
            return work(
                pa.RecordBatch.from_arrays(columns, names=[str(i) for i in range(len(columns))])
            )

        return with_changes(self.part, rules=self.rules).map_batches(
            whole, workers=workers, strict=strict
        )


def with_folders(source: Source, path: Path, *, name_it: bool = False) -> Source:
    """A source with what the folders of its path say, if they say anything; called after the folder
    of the whole data set, if it is to be named."""
    said = said_by_folders(path)
    if not said:
        return source
    first = next(i for i, part in enumerate(path.parts) if _FOLDER.fullmatch(part))
    whole = path.parts[first - 1] if first and name_it else ""
    return with_changes(PartitionSource(source, said), name=whole or source.name)
