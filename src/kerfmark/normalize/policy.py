"""What becomes of a record that is there already, and of each value that is said of it: the rules
that adding, taking back and proving go by."""

from __future__ import annotations

from functools import lru_cache
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from kerfmark.layout.model import Layout, TableSpec

MADE, CREATED, SAID, NAMED, REFERRED = "made", "created", "said", "named", "referred"
"""What a load does for a record: a row of its own made it; a row that only names it made it; a row
of its own says what was there already; a row that names it would have made it; a row refers to it
and would not have made it."""
EXCEPTION = "exception"
"""The rule of a column of usual values: a row that says another one keeps that itself."""


@lru_cache(maxsize=256)
def policies(known: str) -> tuple[str, dict[str, str]]:
    """What the option `known` of a load says: the policy of all tables, and that of some of their
    own (`overwrite, keeper=keep`)."""
    parts = [part.strip() for part in known.split(",") if part.strip()]
    own = {t.strip(): p.strip() for t, _, p in (one.partition("=") for one in parts) if p}
    return next((p for p in parts if "=" not in p), ""), own


def policy_of(layout: Layout, table: str, known: str) -> str:
    """What a load with the option `known` does to known records of a table: refuse, keep, fill,
    overwrite, replace or add."""
    spec, (general, own) = layout.tables[table], policies(known)
    if table in own:
        return own[table]
    return spec.known or (general if general != "add" or spec.each_row else "") or "refuse"


def owner_of(layout: Layout, table: str) -> str:
    """The table whose records decide what becomes of those of a table: that of which they are
    part."""
    spec = layout.tables[table]
    return owner_of(layout, spec.part_of) if spec.part_of and not spec.known else table


def rule_of(layout: Layout, table: str, column: str, known: str) -> str:
    """What a load does with a value that differs from the database's, in a column or link
    of a known record: refuse, keep, fill, overwrite, or EXCEPTION. (A record that is replaced is
    overwritten, and so is what belongs to it.)"""
    spec: TableSpec = layout.tables[table]
    policy = policy_of(layout, owner_of(layout, table), known)
    own = spec.columns.get(column)
    if own is not None and own.usual:
        return EXCEPTION
    if own is not None and own.conflicts != "refuse":
        return "overwrite" if own.conflicts == "last" else "keep"
    if policy == "replace":
        return "overwrite"
    if spec.part_of and policy != "keep":
        return "refuse"  # the parts of a known record are not changed one by one
    return policy
