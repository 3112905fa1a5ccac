"""What the conditions that a database checks tell of the values of a column."""

from __future__ import annotations

import re
from collections.abc import Iterable

_TEXT = r"'(?:[^']|'')*'"
_LISTED = re.compile(
    r"""^[(\s]*[`"\[]?(?P<column>\w+)[`"\]]?[)\s]*(?:::[\w ]+)?[)\s]*"""
    rf"(?:IN|=\s*ANY)\b(?P<list>[^']*(?:{_TEXT}[^']*)+)$",
    re.IGNORECASE,
)
"""A condition that lists the values of one column, and says nothing else."""


def listed_values(checks: Iterable[str]) -> dict[str, frozenset[str]]:
    """The columns whose values are listed by a condition of the form `kind IN ('a', 'b')`, and
    these values, from the conditions in the words of an engine."""
    out: dict[str, frozenset[str]] = {}
    for check in checks:
        said = re.sub(r"^\s*CHECK\s*", "", check, flags=re.IGNORECASE)
        found = _LISTED.match(said)
        between = re.sub(_TEXT, "", found["list"]) if found else ""
        if found and not re.search(r"\b(or|and|not)\b", between, re.IGNORECASE):
            values = re.findall(_TEXT, found["list"])
            out[found["column"]] = frozenset(v[1:-1].replace("''", "'") for v in values)
    return out
