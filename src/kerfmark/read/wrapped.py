"""What sources have in common that are another one with other columns."""

from __future__ import annotations

from collections.abc import Callable, Generator
from dataclasses import replace
from typing import Any, TypeVar

import pyarrow as pa

from kerfmark.errors import Origin
from kerfmark.read.source import Batches, Found, Piece, Remark, Source, with_changes

T = TypeVar("T")


def unwrapped(source: Source) -> Source:
    """The source that another one wraps; itself, where it wraps none."""
    return unwrapped(source.part) if isinstance(source, WrappedSource) else source


class WrappedSource:
    """A source whose columns are those of another one, `changed` (see `read.source.Source`)."""

    def __init__(self, part: Source, headers: tuple[str, ...]) -> None:
        self.part, self.headers = part, headers
        self.name, self.location, self.how = part.name, part.location, part.how
        self.rules, self.spells_numbers = part.rules, part.spells_numbers

    def changed(self, columns: list[pa.Array]) -> list[pa.Array]:
        """Its columns, made of those of a batch of the other source."""
        raise NotImplementedError

    def origin(self, header: str | None = None) -> Origin:
        """The place of a column, or of the whole."""
        return self.part.origin(header)

    def settings(self) -> dict[str, Any]:
        """What a layout must say to read the file."""
        return self.part.settings()

    def map_batches(
        self, work: Callable[[pa.RecordBatch], T], *, workers: int = 2, strict: bool = True
    ) -> Batches:
        """Applies `work` to every batch of the changed columns."""

        def own(batch: pa.RecordBatch) -> T:
            columns = self.changed(batch.columns)
            names = [str(i) for i in range(len(columns))]
            return work(pa.RecordBatch.from_arrays(columns, names=names))

        part = with_changes(self.part, rules=self.rules)
        return part.map_batches(own, workers=workers, strict=strict)


class AlsoSaidSource(WrappedSource):
    """A source as it is, of which something `more` must be said to read it again."""

    def __init__(self, part: Source, more: dict[str, Any]) -> None:
        super().__init__(part, part.headers)
        self._more = more

    def changed(self, columns: list[pa.Array]) -> list[pa.Array]:
        """The columns as they are."""
        return columns

    def settings(self) -> dict[str, Any]:
        """What a layout must say to read the file."""
        return {**self.part.settings(), **self._more}


class RemarkedSource(WrappedSource):
    """A source as it is, of which something is remarked."""

    def __init__(self, part: Source, remark: Remark) -> None:
        super().__init__(part, part.headers)
        self._remark = remark

    def changed(self, columns: list[pa.Array]) -> list[pa.Array]:
        """The columns as they are."""
        return columns

    def map_batches(
        self, work: Callable[[pa.RecordBatch], T], *, workers: int = 2, strict: bool = True
    ) -> Batches:
        """Applies `work` to every batch."""
        batches = super().map_batches(work, workers=workers, strict=strict)

        def pieces() -> Generator[Piece, None, Found]:
            yield from batches
            found = batches.found
            return replace(found, remarks=(*found.remarks, self._remark))

        return Batches(pieces())
