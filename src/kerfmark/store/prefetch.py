"""Making what is written next while the engine takes what was made: both cores work."""

from __future__ import annotations

import contextlib
import os
import queue
import threading
from collections.abc import Iterable, Iterator
from typing import TypeVar

T = TypeVar("T")


def has_two_cores() -> bool:
    """Whether two threads can work at once."""
    return (
        len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
    ) > 1


def prefetch(batches: Iterable[T], depth: int = 3) -> Iterator[T]:
    """The same items, made by another thread a few ahead of their use."""
    waiting: queue.Queue[tuple[T | None, BaseException | None]] = queue.Queue(depth)
    stop = threading.Event()

    def make() -> None:
        try:
            for item in batches:
                waiting.put((item, None))
                if stop.is_set():
                    return
            waiting.put((None, None))
        except BaseException as error:  # handed on to whoever takes the items
            waiting.put((None, error))

    worker = threading.Thread(target=make, daemon=True)
    worker.start()
    try:
        while (got := waiting.get())[0] is not None:
            yield got[0]
        if got[1] is not None:
            raise got[1]
    finally:
        stop.set()
        while worker.is_alive():  # it may be waiting for room
            with contextlib.suppress(queue.Empty):
                waiting.get(timeout=0.05)
        close = getattr(
            batches, "close", None
        )  # what reads from a database must end before it is asked again
        if close is not None:
            close()
