"""Rows that a load set aside and somebody has mended: the source's own columns, as if they had been
right from the beginning.

Such a file has three columns more than its source (where a row stood, what was wrong, what could be
done). A cell that a spreadsheet would have taken for a formula has an apostrophe before it; here it
is taken away again.
"""

from __future__ import annotations

import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.read.source import Source
from kerfmark.read.wrapped import WrappedSource

EXTRA = ("kerfmark origin", "kerfmark reason", "kerfmark remedy")
"""The headers of the columns that are added."""
RISKY = r"'*[=+\-@\t\r]"
"""How a cell begins that a spreadsheet could take for a formula, or that looks like one which was
made harmless."""
GUARDED = f"^'({RISKY})"
"""How a cell begins that was made harmless."""


class SetAsideSource(WrappedSource):
    """A source without the columns that setting aside has added."""

    def __init__(self, part: Source) -> None:
        kept = [i for i, h in enumerate(part.headers) if h not in EXTRA]
        super().__init__(part, tuple(part.headers[i] for i in kept))
        self.how, self._kept = f"{part.how}, rows that were set aside", kept

    def changed(self, columns: list[pa.Array]) -> list[pa.Array]:
        """The source's own columns, cells that were made harmless as they were."""
        return [pc.replace_substring_regex(columns[i], GUARDED, r"\1") for i in self._kept]


def without_reasons(source: Source) -> Source:
    """A source, without the columns that setting aside has added if it has them."""
    return SetAsideSource(source) if set(EXTRA) <= set(source.headers) else source
