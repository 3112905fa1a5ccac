"""Whether rows are the same one after the other: what two threads read from the database is
compared in turn."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

import pyarrow as pa

from kerfmark.store.prefetch import prefetch


@dataclass
class Part:
    """Batches from the database that should hold the rows from `at` up to, not including, `end`."""

    batches: Iterator[pa.RecordBatch]
    at: int
    end: int
    more: bool = False
    """Whether other rows may follow."""


def same_in_order(
    parts: Sequence[Part], cells: Callable[[int, int, int], pa.Array], told: Callable[[int], None]
) -> bool:
    """Whether all parts hold what is expected: `cells` gives that of a column, from one row to
    another. `told` is called with the number of rows that were compared."""
    done = 0
    with contextlib.ExitStack() as stack:
        waiting = []
        for part in parts:
            batches = prefetch(part.batches, 3 if len(parts) == 1 else 1)
            stack.callback(batches.close)  # type: ignore[attr-defined]  # a generator
            waiting.append((part, batches))
        while waiting:
            part, batches = waiting.pop(0)
            batch = next(batches, None)
            if batch is None:
                if part.at != part.end:
                    return False
                continue
            batch = batch.slice(0, part.end - part.at) if part.more else batch
            end = part.at + batch.num_rows
            if end > part.end or not all(
                column.equals(cells(i, part.at, end)) for i, column in enumerate(batch.columns)
            ):
                return False
            done += batch.num_rows
            part.at = end
            told(done)
            waiting.append((part, batches))
    return True
