"""How the core tells what it is doing: one small callback, which may be ignored."""

from __future__ import annotations

from collections.abc import Callable

Progress = Callable[[str, int, int], None]
"""Called with the name of the step, how much of it is done and how much there is (0 when that is
not known)."""


def silent(step: str, done: int, total: int) -> None:
    """The callback for those who do not want to know."""
