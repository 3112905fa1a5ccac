"""The known value that a text was perhaps meant to be."""

from __future__ import annotations

from collections.abc import Sequence

from kerfmark.layout.model import TableSpec

ALIKE = 70.0
"""How alike two texts must be (of 100)."""
LOOKED_AT = 8
"""The most alike values among which the one with the fewest changed characters is taken."""


def nearest_of(known: Sequence[str], text: str) -> str:
    """The one of some values that is nearest to a text: of those that are equally alike the one
    with the fewest changed characters, then the first by the alphabet; "" where none is near."""
    from rapidfuzz import fuzz, process
    from rapidfuzz.distance import Levenshtein

    found = process.extract(
        text, sorted(known), scorer=fuzz.ratio, score_cutoff=ALIKE, limit=LOOKED_AT
    )
    return min(
        (str(value) for value, score, _ in found if score == found[0][1]),
        key=lambda value: (Levenshtein.distance(text, value), value),
        default="",
    )


def other_name(spec: TableSpec, column: str) -> str:
    """The column of a table by which a record is known besides another one: the name of a code, the
    code of a name; "" where there is none."""
    if column not in spec.columns:
        return ""
    others = (*spec.known_by, *(c for u in spec.unique for c in u), *spec.columns)
    return next((c for c in others if c != column and c in spec.columns), "")
