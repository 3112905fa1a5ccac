"""Which columns decide which others: exact functional dependencies, over all rows, by integer
codes.

A decides B when no two rows with the same A differ in B. Blanks decide nothing: rows with a blank A
are left out, but where B is filled beside a blank A, B could not be found again through A, so A
does not decide it either.

A test costs one gather and one comparison; nearly all false candidates are refuted on a small
sample first.
"""

from __future__ import annotations

from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from kerfmark import memory
from kerfmark.profile.codes import (
    Codes,
    combine,
    distinct,
    filled,
    holds,
    most_frequent,
    value_counts,
)

BLOCK = 12_000_000
"""Cells up to which the columns of a relation are also kept in one piece."""
SAMPLE = 4_096
"""Rows on which a candidate is first put to the test."""
MOST_PAIRS = 2_048
"""Pairs of rows on which what two columns decide together is first put to the test."""
FEW_PAIRS = 256
"""Those of them that come first."""
MOST = 0.01
"""The share of rows that may be exceptions to what nearly holds."""
SPARED = 0.1
"""The share of the exceptions expected by chance that may be there."""


@dataclass(frozen=True)
class Evidence:
    """The evidence of a dependency: `values` of the determinant, `repeats` (rows beyond the first
    of each value), and how many `expected` exceptions among these repeats if the columns had
    nothing to do with each other."""

    values: int
    repeats: int
    expected: float


class Relation:
    """A set of rows as columns of codes; `sizes` tells how many distinct values each has."""

    def __init__(self, columns: Sequence[Codes], sizes: Sequence[int]) -> None:
        self.columns, self.sizes = list(columns), list(sizes)
        self.rows = len(columns[0]) if columns else 0
        step = max(1, self.rows // SAMPLE)
        self._clusters: dict[int, np.ndarray] = {}
        self._disagreement: dict[int, np.ndarray] = {}
        self._sample = [c[::step][:SAMPLE] for c in self.columns] if step > 1 else self.columns

    @cached_property
    def filled(self) -> list[int]:
        """Per column, how many rows are not blank."""
        return [filled(c) for c in self.columns]

    @cached_property
    def states(self) -> list[int]:
        """Per column, how many different cells it has, blank ones included."""
        return [s + (f < self.rows) for s, f in zip(self.sizes, self.filled, strict=True)]

    @cached_property
    def sameness(self) -> list[float]:
        """Per column, the chance that two rows drawn at random agree (blanks being one more
        value)."""

        def agree(column: Codes, size: int, there: int) -> float:
            alike = float(size)  # all different, unless some repeat
            if size < there:
                counts = value_counts(column, size)
                alike = sum(
                    float((counts[s : s + memory.ROWS].astype(np.float64) ** 2).sum())
                    for s in memory.at_a_time(size)
                )
            return (alike + float(self.rows - there) ** 2) / max(self.rows, 1) ** 2

        with ThreadPoolExecutor(2) as pool:
            return list(pool.map(agree, self.columns, self.sizes, self.filled))

    def decides(self, a: int, b: int) -> bool:
        """Whether column a decides column b in every row."""
        return holds(self._sample[a], self._sample[b], self.sizes[a]) and (
            self._sample is self.columns or holds(self.columns[a], self.columns[b], self.sizes[a])
        )

    @cached_property
    def _block(self) -> np.ndarray | None:
        """All columns as one array, a row per row, where that is not much."""
        return np.stack(self.columns, axis=1) if self.rows * len(self.columns) <= BLOCK else None

    def agreeing(self, one: np.ndarray, other: np.ndarray) -> np.ndarray:
        """Per column whether some rows agree with some other rows."""
        if self._block is not None:
            same: np.ndarray = (self._block[one] == self._block[other]).all(axis=0)
            return same
        return np.array([np.array_equal(c[one], c[other]) for c in self.columns])

    def cluster(self, a: int) -> np.ndarray:
        """Some rows, chosen so that each value of column a among them has all its rows there."""
        if self.rows <= SAMPLE:
            return np.arange(self.rows)
        if a not in self._clusters:
            wanted = max(2, self.sizes[a] * SAMPLE // self.rows)
            self._clusters[a] = np.flatnonzero(self.columns[a] < wanted)[: 4 * SAMPLE]
        return self._clusters[a]

    def unrefuted(self, a: int, others: np.ndarray, targets: np.ndarray) -> np.ndarray:
        """What column a may decide together with each of the columns `others`, of its `targets` (a
        row of truth values for each of them): those in which no rows differ that agree in both,
        seen on some pairs of rows that agree in a."""
        one, other = self._pairs_of_rows(a)
        targets = targets.copy()
        few = np.zeros(len(one), bool)
        few[:: max(1, len(one) // FEW_PAIRS)] = True
        for some in (few, ~few):  # a few suffice for nearly all
            alive = np.flatnonzero(targets.any(axis=1))
            if not len(alive):
                break
            wanted = np.flatnonzero(targets[alive].any(axis=0))
            agree, differ = self._compared(one[some], other[some])
            agree, differ = _as_bits(agree[:, others[alive]]), _as_bits(differ[:, wanted])
            there = np.zeros((len(alive), len(wanted)), bool)
            for word in range(agree.shape[1]):
                there |= (agree[:, word, None] & differ[None, :, word]) != 0
            targets[np.ix_(alive, wanted)] &= ~there
        return targets

    def _compared(self, one: np.ndarray, other: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Whether some rows agree with some others in the columns, and are not blank there; and
        whether they differ."""
        if self._block is not None:
            x, y = self._block[one], self._block[other]
        else:
            x, y = (np.stack([c[rows] for c in self.columns], axis=1) for rows in (one, other))
        differ = x != y
        return ~differ & (x >= 0), differ

    def disagreement(self, a: int) -> np.ndarray:
        """Per column the share of some pairs of rows that agree in column a in which it differs:
        where that is not 0, a does not decide it."""
        if a not in self._disagreement:
            one, other = self._pairs_of_rows(a)
            _, differ = self._compared(one, other)
            self._disagreement[a] = np.count_nonzero(differ, axis=0) / max(len(one), 1)
        return self._disagreement[a]

    def _pairs_of_rows(self, a: int) -> tuple[np.ndarray, np.ndarray]:
        """Pairs of rows that agree in column a, some of them: the rows of the first ones and those
        of the others."""
        rows = self.cluster(a)
        rows = rows[self.columns[a][rows] >= 0]
        rows = rows[np.argsort(self.columns[a][rows], kind="stable")]
        codes = self.columns[a][rows]
        at = np.flatnonzero(codes[1:] == codes[:-1])
        at = at[:: max(1, len(at) // MOST_PAIRS)][:MOST_PAIRS]
        return rows[at], rows[at + 1]

    def pair(self, a: int, b: int) -> tuple[Codes, int]:
        """Two columns as one: codes of their combinations (-1 where either is blank), and how many
        there are."""
        return combine([self.columns[a], self.columns[b]], [self.sizes[a], self.sizes[b]])

    def evidence(self, a: int, b: int) -> Evidence:
        """The evidence of a dependency of column b on column a."""
        repeats = self.filled[a] - self.sizes[a]
        return Evidence(self.sizes[a], repeats, repeats * (1 - self.sameness[b]))


def _as_bits(truth: np.ndarray) -> np.ndarray:
    """Columns of truth values as words of 64 bits: a row per column."""
    packed = np.packbits(truth, axis=0)
    packed = np.pad(packed, ((0, -len(packed) % 8), (0, 0)))
    words: np.ndarray = np.ascontiguousarray(packed.T).view(np.uint64)
    return words


NEAR_SAMPLE = 20_000
"""Rows by which most columns that are not near to one are told."""


@dataclass(frozen=True)
class Near:
    """A near dependency: the rows that are exceptions, what is usual per code of the key, the
    repeats it rests on, how many exceptions chance would have made, and how many keys have any."""

    rows: np.ndarray
    usual: np.ndarray
    repeats: int
    expected: float
    keys: int


def may_be_near(key: Codes, keys: int, others: np.ndarray, most: float = MOST) -> np.ndarray:
    """Which of several columns (their codes in the first NEAR_SAMPLE rows, a row of the matrix for
    each) may be near to one, as quickly as most of those that are not can be told."""
    a = key[: others.shape[1]]
    last = np.full(keys + 1, -1, np.intp)
    last[a] = np.arange(len(a))  # a row of each value
    there = np.flatnonzero(a >= 0)
    wrong = np.count_nonzero(others[:, last[a[there]]] != others[:, there], axis=1)
    refuted: np.ndarray = wrong > 4 * most * len(a) + 20
    return ~refuted


def near(key: Codes, keys: int, other: Codes, others: int, most: float = MOST) -> Near | None:
    """Whether a column is, but for a few rows, what it mostly is beside the same key; None when
    there are too many exceptions, or too few repeats to tell. A blank beside a filled key counts as
    an exception where a value is usual."""
    if others < 2 or len(key) < max(3 * keys, 20):
        return None
    if not may_be_near(key, keys, other[:NEAR_SAMPLE][None, :], most)[0]:
        return None
    there = (key >= 0) & (other >= 0)
    filled = int(np.count_nonzero(there))
    if filled < 3 * keys or filled < 20:
        return None
    expected_codes = most_frequent(key, other, keys, others)
    wrong = np.flatnonzero((key >= 0) & (np.append(expected_codes, -1)[key] != other))
    share = np.bincount(other[there], minlength=others) / filled
    expected = (1 - float((share**2).sum())) * (filled - keys)
    if len(wrong) > min(most * len(key) + 1, SPARED * expected):
        return None
    return Near(wrong, expected_codes, filled - keys, expected, len(distinct(key[wrong])))
