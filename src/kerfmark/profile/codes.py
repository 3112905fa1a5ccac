"""Integer codes: the few operations on whole columns that everything else is made of."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

Codes = np.ndarray
"""One code (int32) per row, -1 for a blank."""


def holds(a: Codes, b: Codes, size: int) -> bool:
    """Whether every value of a goes with one value of b, and a blank a with a blank b only."""
    first = np.full(size + 1, -1, b.dtype)      # the last place is that of the code -1: a blank goes with a blank
    first[a] = b
    first[-1] = -1
    return bool(np.array_equal(first[a], b))


def combine(columns: Sequence[Codes], sizes: Sequence[int]) -> tuple[Codes, int]:
    """Several columns as one: dense codes in order of first appearance, -1 where any is blank; and how many codes."""
    if len(columns) == 1:
        return columns[0], sizes[0]
    mixed = columns[0].astype(np.int64)
    room = sizes[0]
    blank = columns[0] < 0
    for column, size in zip(columns[1:], sizes[1:], strict=True):
        if room * max(size, 1) > 1 << 62:
            mixed, room = _dense(mixed)
        mixed = mixed * max(size, 1) + column
        blank |= column < 0
        room *= max(size, 1)
    mixed[blank] = -1
    dense, count = _dense(mixed)
    return dense.astype(np.int32), count


def _dense(mixed: np.ndarray) -> tuple[np.ndarray, int]:
    """Numbers renumbered 0, 1, 2 ... in order of first appearance; negative ones become -1."""
    if len(mixed) and (top := int(mixed.max())) < 4 * len(mixed) + 1024:
        first = np.full(top + 2, len(mixed), np.int64)
        first[mixed[::-1]] = np.arange(len(mixed) - 1, -1, -1)
        first[-1] = len(mixed)
        used = np.flatnonzero(first < len(mixed))
        order = np.argsort(first[used], kind="stable")
        number = np.full(top + 2, -1, np.int64)
        number[used[order]] = np.arange(len(used))
        return number[mixed], len(used)
    values, first_at, inverse = np.unique(mixed, return_index=True, return_inverse=True)
    has_blank = bool(len(values) and values[0] < 0)
    order = np.argsort(first_at[has_blank:], kind="stable")
    number = np.empty(len(values), np.int64)
    number[:has_blank] = -1
    number[has_blank:][order] = np.arange(len(order))
    return number[inverse], len(order)


def usual(a: Codes, b: Codes, size: int, other: int) -> np.ndarray:
    """For every code of a the code of b that stands beside it most often, the earlier one of equals; -1 where b is always blank."""
    there = np.flatnonzero((a >= 0) & (b >= 0))
    pairs, count = combine([a[there], b[there]], [size, other])
    times = np.bincount(pairs, minlength=count)
    first = there[first_rows(pairs, count)]
    order = np.lexsort((first, -times, a[first]))
    heads = np.concatenate([[True], np.diff(a[first][order]) != 0]) if count else np.empty(0, bool)
    out = np.full(size, -1, np.int32)
    out[a[first][order[heads]]] = b[first][order[heads]]
    return out


def first_rows(codes: Codes, size: int) -> np.ndarray:
    """For every code the first row that has it."""
    first = np.zeros(size + 1, np.int64)
    first[codes[::-1]] = np.arange(len(codes) - 1, -1, -1)
    return first[:size]
