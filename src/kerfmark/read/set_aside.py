"""Rows that a load set aside and somebody has mended: the source's own columns, as if they had been
right from the beginning.

Such a file has three columns more than its source (where a row stood, what was wrong, what could be
done). A cell that a spreadsheet would have taken for a formula has an apostrophe before it; here it
is taken away again.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.errors import Origin
from kerfmark.read.source import Batches, Source

T = TypeVar("T")

EXTRA = ("kerfmark origin", "kerfmark reason", "kerfmark remedy")
"""The headers of the columns that are added."""
RISKY = r"'*[=+\-@\t\r]"
"""How a cell begins that a spreadsheet could take for a formula, or that looks like one which was
made harmless."""
GUARDED = f"^'({RISKY})"
"""How a cell begins that was made harmless."""


class SetAsideSource:
    """A source without the columns that setting aside has added (see `read.source.Source`)."""

    def __init__(self, part: Source) -> None:
        self.part = part
        self.name, self.location, self.how = (
            part.name,
            part.location,
            f"{part.how}, rows that were set aside",
        )
        self._kept = [i for i, h in enumerate(part.headers) if h not in EXTRA]
        self.headers = tuple(part.headers[i] for i in self._kept)
        self.rules, self.spells_numbers = part.rules, part.spells_numbers

    def origin(self, header: str | None = None) -> Origin:
        """The place of a column in the file as it is now."""
        return self.part.origin(header)

    def settings(self) -> dict[str, Any]:
        """What a layout must say to read the file."""
        return self.part.settings()

    def map_batches(
        self, work: Callable[[pa.RecordBatch], T], *, workers: int = 2, strict: bool = True
    ) -> Batches:
        """Applies `work` to every batch of the columns that are the source's own."""

        def own(batch: pa.RecordBatch) -> T:
            cells = [
                pc.replace_substring_regex(batch.column(i), GUARDED, r"\1") for i in self._kept
            ]
            return work(
                pa.RecordBatch.from_arrays(cells, names=[str(i) for i in range(len(cells))])
            )

        return self.part.map_batches(own, workers=workers, strict=strict)


def without_reasons(source: Source) -> Source:
    """A source, without the columns that setting aside has added if it has them."""
    return SetAsideSource(source) if set(EXTRA) <= set(source.headers) else source
