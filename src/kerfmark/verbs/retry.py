"""Doing a load once more where the database took it back because another program's got in its
way, or has another file by now."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import TypeVar

from kerfmark.errors import Origin, TargetError

T = TypeVar("T")

TIMES = 4
"""How often a load is tried at most."""
PAUSE = 0.2
"""Seconds before the second time; twice as long before each further one."""


def retried(work: Callable[[], T]) -> T:
    """What the work gives. Each time it begins anew, as nothing of it was kept."""
    for n in range(TIMES - 1):
        try:
            return work()
        except TargetError as error:
            if error.code not in ("target.deadlock", "target.replaced"):
                raise
            time.sleep(PAUSE * 2**n)
    return work()


def changed_meanwhile(database: str) -> TargetError:
    """The error for a database that was read before it was locked, and is another one by then."""
    return TargetError(
        "another program has changed the database meanwhile",
        code="target.changed",
        origin=Origin(database),
        next="run the command again",
    )
