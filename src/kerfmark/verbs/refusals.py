"""What a database refuses by a rule of its own: the rule, and the columns that it is about."""

from __future__ import annotations

import re
from collections.abc import Sequence

from kerfmark.store.interface import Reader

_OF_KEYS = re.compile("constraint|unique|duplicate|null|key", re.IGNORECASE)
"""Words by which a database says that no trigger refuses a row."""

_MARKED = ('"{}"', "`{}`", "({})", "'{}'", ".{} ")
"""How a database writes the name of a column in its words."""


def broken_rule(
    reader: Reader, table: str, columns: Sequence[str], why: str
) -> tuple[str, list[str]]:
    """The rule of a table that is meant by the words of a database (a condition, or its triggers;
    "" for none that is known), and those of some columns that it is about."""
    for name, condition in reader.checks(table).items():
        called = (f'"{name}"', f"`{name}`", f"`{table}.{name}`", f"failed: {name}")
        if any(c in why for c in called):
            rule = re.sub(r"^CHECK\s*", "", condition)
            return f"the check {rule}", _named(columns, rule)
    triggers = [n for kind, n in reader.dependents([table]) if kind == "trigger"]
    if not triggers or _OF_KEYS.search(why):
        return "", [c for c in columns if any(m.format(c) in f"{why} " for m in _MARKED)]
    return f"the trigger {' or '.join(triggers)}", [c for c in _named(columns, why) if len(c) > 3]


def _named(columns: Sequence[str], text: str) -> list[str]:
    """The columns that a text names."""
    return [c for c in columns if re.search(rf"(?<!\w){re.escape(c)}(?!\w)", text)]
