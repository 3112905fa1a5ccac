"""Integer codes: the few operations on whole columns that everything else is made of."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from kerfmark import memory

Codes = np.ndarray
"""One code (int32) per row, -1 for a blank."""


def holds(a: Codes, b: Codes, size: int) -> bool:
    """Whether every value of a goes with one value of b, and a blank a with a blank b only."""
    first = memory.constant(
        size + 1, -1, b.dtype
    )  # the last place is that of the code -1: a blank goes with a blank
    for start in memory.at_a_time(len(a)):
        first[a[start : start + memory.ROWS]] = b[start : start + memory.ROWS]
    first[-1] = -1
    return all(
        np.array_equal(first[a[start : start + memory.ROWS]], b[start : start + memory.ROWS])
        for start in memory.at_a_time(len(a))
    )


def distinct(values: np.ndarray) -> np.ndarray:
    """The different ones of some numbers, ascending. (NumPy's own `unique` loads a package for
    masked arrays, which takes as long as a small file.)"""
    ordered = np.sort(values, axis=None)
    first = np.ones(len(ordered), bool)
    first[1:] = ordered[1:] != ordered[:-1]
    return ordered[first]


def gather(table: np.ndarray, places: np.ndarray, blank: int | None = None) -> np.ndarray:
    """What is at each of some places of a table; where `blank` is given, that for a negative
    place."""
    out = memory.room(len(places), table.dtype)
    for start in memory.at_a_time(len(places)):
        some = places[start : start + memory.ROWS]
        if blank is None:
            out[start : start + memory.ROWS] = table[some]
        else:
            known = some >= 0
            out[start : start + memory.ROWS] = (
                np.where(known, table[np.where(known, some, 0)], blank) if len(table) else blank
            )
    return out


def concatenated(*parts: np.ndarray) -> np.ndarray:
    """One array after the other."""
    out = memory.room(sum(map(len, parts)), np.result_type(*parts))
    at = 0
    for part in parts:
        out[at : at + len(part)] = part
        at += len(part)
    return out


def numbered(same: np.ndarray, first: np.ndarray | None = None) -> tuple[np.ndarray, int]:
    """Numbers (int32, from 0) for things in the order in which they first appear, and how many
    there are. `same` is for each the place of the first one that is equal to it, negative for none,
    which becomes -1; `first` tells which are the first of their kind."""
    if first is None:
        first = memory.room(len(same), bool)
        for start in memory.at_a_time(len(same)):
            some = same[start : start + memory.ROWS]
            first[start : start + memory.ROWS] = some == np.arange(start, start + len(some))
    number = memory.room(len(same), np.int32)
    before = 0
    for start in memory.at_a_time(len(same)):
        some = np.cumsum(first[start : start + memory.ROWS], dtype=np.int32)
        number[start : start + memory.ROWS] = some + (before - 1)
        before += int(some[-1])
    return gather(number, same, blank=-1), before


def combine(
    columns: Sequence[Codes], sizes: Sequence[int], *, blanks: bool = False
) -> tuple[Codes, int]:
    """Several columns as one: dense codes in order of first appearance, and how many codes. A row
    in which any is blank has the code -1, unless `blanks` says that a blank is a value as any
    other."""
    if len(columns) == 1 and not blanks:
        return columns[0], sizes[0]
    span, more = 1, int(blanks)
    sizes = [size + more for size in sizes]
    for i, size in enumerate(sizes):
        if span * max(size, 1) > 1 << 62:
            some, count = combine(columns[:i], [s - more for s in sizes[:i]], blanks=blanks)
            return combine(
                [some, *columns[i:]], [count, *(s - more for s in sizes[i:])], blanks=blanks
            )
        span *= max(size, 1)
    mixed = memory.room(len(columns[0]), np.int64)
    for start in memory.at_a_time(len(mixed)):
        part = slice(start, start + memory.ROWS)
        here = columns[0][part].astype(np.int64) + more
        blank = here < 0
        for column, size in zip(columns[1:], sizes[1:], strict=True):
            here = here * max(size, 1) + column[part] + more
            blank |= column[part] + more < 0
        here[blank] = -1
        mixed[part] = here
    return _dense(mixed)


def _dense(mixed: np.ndarray) -> tuple[np.ndarray, int]:
    """Numbers renumbered 0, 1, 2 ... in order of first appearance; negative ones become -1."""
    top = int(mixed.max(initial=-1))
    if top < 4 * len(mixed) + 1024:
        return numbered(gather(first_rows(mixed, top + 1), mixed, blank=-1))
    same = memory.constant(len(mixed), -1, np.int64)
    parts = 1 + (len(mixed) // memory.SORTED if memory.scarce() else 0)
    for part in range(parts):  # a part of the range of numbers at a time
        low, high = part * (top + 1) // parts, (part + 1) * (top + 1) // parts
        at = np.flatnonzero((mixed >= low) & (mixed < high))
        _, first, inverse = np.unique(mixed[at], return_index=True, return_inverse=True)
        same[at] = at[first[inverse]]
    return numbered(same)


def different_rows(codes: Sequence[Codes], sizes: Sequence[int]) -> np.ndarray | None:
    """The first of all rows that are alike in every column; None where no two are."""
    if not codes or max(sizes) >= len(codes[0]):
        return None
    order = sorted(range(len(codes)), key=lambda c: -sizes[c])
    mixed, count = combine([codes[order[0]]], [sizes[order[0]]], blanks=True)
    for c in order[1:]:
        if count == len(mixed):
            return None
        if sizes[c] > 1 or bool((codes[c] < 0).any()):
            mixed, count = combine([mixed, codes[c]], [count, sizes[c]], blanks=True)
    return first_rows(mixed, count).astype(np.int64) if count < len(mixed) else None


def filled(codes: Codes) -> int:
    """How many rows have a code that is not that of a blank."""
    return sum(
        int(np.count_nonzero(codes[s : s + memory.ROWS] >= 0)) for s in memory.at_a_time(len(codes))
    )


def value_counts(codes: Codes, size: int) -> np.ndarray:
    """How many rows have each code."""
    out = memory.constant(size, 0, np.int64)
    for start in memory.at_a_time(len(codes)):
        some = codes[start : start + memory.ROWS]
        if size <= memory.ROWS:
            out += np.bincount(some + 1, minlength=size + 1)[1:]
        else:
            np.add.at(out, some[some >= 0], 1)
    return out


def most_frequent(a: Codes, b: Codes, size: int, other: int) -> np.ndarray:
    """For every code of a the code of b that is beside it most often, the earlier one of
    equals; -1 where b is always blank."""
    there = np.flatnonzero((a >= 0) & (b >= 0))
    pairs, count = combine([a[there], b[there]], [size, other])
    often = value_counts(pairs, count)
    first = there[first_rows(pairs, count)]
    order = np.lexsort((first, -often, a[first]))
    heads = np.concatenate([[True], np.diff(a[first][order]) != 0]) if count else np.empty(0, bool)
    out = np.full(size, -1, np.int32)
    out[a[first][order[heads]]] = b[first][order[heads]]
    return out


def first_rows(codes: Codes, size: int, none: int = 0) -> np.ndarray:
    """For every code the first row that has it; `none` for a code that no row has."""
    first = memory.constant(size + 1, none, np.int32 if len(codes) < 1 << 31 else np.int64)
    for start in reversed(memory.at_a_time(len(codes))):
        some = codes[start : start + memory.ROWS]
        first[some[::-1]] = np.arange(start + len(some) - 1, start - 1, -1)
    return first[:size]
