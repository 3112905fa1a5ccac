"""Rows that a load set aside and somebody has corrected: the source's own columns, as if they had
been right from the beginning.

Such a file has five columns more than its source: where a row stood, what was wrong, what could be
done, what its cells may have been meant to say (`Apiary = Heron Pool`), and one in which somebody
accepts that, by any mark but "no". A cell that a spreadsheet would have taken for a formula has an
apostrophe before it; here it is removed again.
"""

from __future__ import annotations

import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.read.source import Source
from kerfmark.read.wrapped import WrappedSource

SUGGESTION, ACCEPT = "kerfmark suggestion", "kerfmark accept"
EXTRA = ("kerfmark origin", "kerfmark reason", "kerfmark remedy", SUGGESTION, ACCEPT)
"""The headers of the columns that are added."""
_ALWAYS = EXTRA[:3]
_DECLINED = ("no", "n", "false", "0", "-")
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
        self._said = [part.headers.index(h) for h in (SUGGESTION, ACCEPT) if h in part.headers]

    def changed(self, columns: list[pa.Array]) -> list[pa.Array]:
        """The source's own columns, cells that were made harmless as they were, and those that a
        suggestion was accepted for as it says."""
        own = [pc.replace_substring_regex(columns[i], GUARDED, r"\1") for i in self._kept]
        if len(self._said) < 2:
            return own
        suggestions, marks = (columns[i].to_pylist() for i in self._said)
        rows = [
            row
            for row, (said, mark) in enumerate(zip(suggestions, marks, strict=True))
            if said and (mark or "").strip() and mark.strip().lower() not in _DECLINED
        ]
        cells = [c.to_pylist() for c in own] if rows else []
        for row in rows:
            for line in suggestions[row].splitlines():
                header, _, value = line.partition(" = ")
                if header in self.headers:
                    cells[self.headers.index(header)][row] = value
        return [pa.array(c, pa.string()) for c in cells] or own


def without_reasons(source: Source) -> Source:
    """A source, without the columns that setting aside has added if it has them."""
    return SetAsideSource(source) if set(_ALWAYS) <= set(source.headers) else source
