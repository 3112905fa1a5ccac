"""Options that pair two names: `--put HEADER=TABLE`."""

from __future__ import annotations

from collections.abc import Sequence

from kerfmark.errors import UsageError


def pairs(
    values: Sequence[str], form: str, example: str, *, first: bool = False
) -> list[tuple[str, str]]:
    """The text before and after the last sign of equality in each value of an option (or the
    `first`, where the text after it may have others; headers may have some too). Raises UsageError
    for a value without one, or with nothing on one side."""
    out = []
    for value in values:
        parts = value.partition("=") if first else value.rpartition("=")
        before, equals, after = (part.strip() for part in parts)
        if not equals or not before or not after:
            raise UsageError(f'"{value}" is not {form}', next=f"write it like {example}")
        out.append((before, after))
    return out
