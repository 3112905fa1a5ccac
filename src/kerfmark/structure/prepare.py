"""What is taken out of a table's columns before dependencies are looked for in them.

Rows that say what an earlier row says in every column are no evidence for anything. A column that
is computed from another one (a class of sizes, the month of a date) says nothing of its own: it
goes where that one goes. Misspelt names beside a code are read as what is usual beside it.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from rapidfuzz import fuzz

from kerfmark.profile.codes import Codes, combine, different_rows, distinct, first_rows, holds
from kerfmark.profile.columns import EncodedColumn
from kerfmark.profile.types import ColumnType
from kerfmark.structure.dependencies import SAMPLE, Relation, near
from kerfmark.structure.header_words import looks_like_key, reaches_things

FEWEST_VALUES = 8
"""Values of a date or a number from which on it can be seen that a column is computed from it."""
MOST_CLASSES = 30
"""Classes that a number is sorted into at most."""
MISSPELT = 0.03
"""The share of rows in which a name may be misspelt."""
MOST_DISAGREEING = 0.2
"""The share of pairs of rows with one code that may differ in the name, as far as these are looked
at first: each misspelt row is in two of them."""
ALIKE = 75.0
"""How much alike (of 100) a misspelt name and the usual one are at least."""
ALIKE_SHARE = 0.9
"""The share of the exceptions that must be so."""
FEWEST_KEYS, FEWEST_REPEATS = 3, 10
MOST_COMPARED = 300


@dataclass(frozen=True)
class Prepared:
    """Columns of codes in which structure is looked for: some `rows` of the source (None: all),
    with what is `derived` (a column from which other one), and which columns have misspelt names
    beside which code (`misspelt`). `whole` is the relation of all columns, where there is one."""

    codes: list[Codes]
    sizes: list[int]
    rows: np.ndarray | None = None
    derived: dict[int, int] = field(default_factory=dict)
    misspelt: dict[int, int] = field(default_factory=dict)
    whole: Relation | None = None

    @property
    def columns(self) -> list[int]:
        """The columns in which structure is looked for."""
        return [c for c in range(len(self.codes)) if c not in self.derived]

    @cached_property
    def relation(self) -> Relation:
        """These columns as a relation."""
        if self.whole is not None and not self.derived:
            return self.whole
        return Relation(
            [self.codes[c] for c in self.columns], [self.sizes[c] for c in self.columns]
        )


def prepare(
    columns: Sequence[EncodedColumn],
    types: Sequence[ColumnType],
    kinds: Sequence[str],
    as_written: Collection[int] = (),
) -> Prepared:
    """The columns of a source as structure is looked for in them; `kinds` are the sorts of things
    that they hold (see `profile.recognise.kind_of`). The columns `as_written` are not read as what
    is usual."""
    codes, sizes = [c.codes for c in columns], [len(c.values) for c in columns]
    rows = different_rows(codes, sizes)
    if rows is not None:
        codes = [c[rows] for c in codes]
    misspelt = {}
    relation = Relation(codes, sizes) if codes else None
    for n in range(len(columns)):
        if relation is None or n in as_written:
            continue
        found = _code_beside(n, columns, relation, kinds)
        if found is not None:
            misspelt[n] = found[0]
            codes[n], sizes[n] = found[1], found[2]
    whole = Relation(codes, sizes) if misspelt and codes else relation
    derived = derived_columns(columns, whole, types, kinds) if whole else {}
    return Prepared(codes, sizes, rows, derived, misspelt, whole)


def derived_columns(
    columns: Sequence[EncodedColumn],
    relation: Relation,
    types: Sequence[ColumnType],
    kinds: Sequence[str],
) -> dict[int, int]:
    """The columns that are computed from one other column of their `relation`: parts of a date,
    classes of a number."""
    codes, sizes = relation.columns, relation.sizes

    def decides(a: int, b: int) -> bool:
        return relation.disagreement(a)[b] == 0 and relation.decides(a, b)

    out: dict[int, int] = {}
    for a, column in enumerate(columns):
        if types[a].kind not in ("date", "timestamp") or sizes[a] < FEWEST_VALUES:
            continue
        decided = [
            b
            for b in range(len(columns))
            if b != a and b not in out and 2 <= sizes[b] <= sizes[a] / 2 and decides(a, b)
        ]
        if not decided:
            continue
        first = first_rows(codes[a], sizes[a], -1)
        first, parts = first[first >= 0], [p[first >= 0] for p in _parts_of_dates(column, types[a])]
        for b in decided:
            if any(_say_the_same(part, codes[b][first], sizes[b]) for part in parts):
                out[b] = a
    for a, column in enumerate(columns):
        if a in out or kinds[a] not in ("integer", "decimal", "real") or sizes[a] < FEWEST_VALUES:
            continue
        if kinds[a] == "integer" and looks_like_key(column.header):
            continue
        classes = [
            b
            for b in range(len(columns))
            if b != a
            and b not in out
            and 2 <= sizes[b] <= min(MOST_CLASSES, sizes[a] / 2)
            and kinds[b] not in ("decimal", "real", "date", "timestamp")
        ]
        numbers = _as_numbers(column, types[a]) if classes else None
        if numbers is None:
            continue
        some = np.arange(0, relation.rows, max(1, relation.rows // SAMPLE))
        some = some[codes[a][some] >= 0]
        some = some[np.argsort(numbers[codes[a][some]])]  # most are refuted by some rows
        classes = [b for b in classes if _changes(codes[b][some]) <= sizes[b] and decides(a, b)]
        classes = [
            b
            for b in classes
            if not looks_like_key(columns[b].header)
            and not any(decides(b, c) for c in classes if c != b)
        ]  # what decides something besides is a thing, not a class of sizes
        order = np.argsort(numbers, kind="stable") if classes else numbers
        for b in classes:
            of_value = codes[b][first_rows(codes[a], sizes[a])]
            run = of_value[order]
            if _changes(run) == sizes[b] - 1 + int((run < 0).any()) and not _is_part_of_key(
                a, b, codes, sizes
            ):
                out[b] = a
    return out


def _is_part_of_key(a: int, b: int, codes: Sequence[Codes], sizes: Sequence[int]) -> bool:
    """Whether a column is what it is by a class of its values and another column together, as a
    price is by its day and its currency."""
    for x in range(len(codes)):
        if x in (a, b) or not 2 <= sizes[x] <= len(codes[x]) / 3:
            continue
        both, count = combine([codes[x], codes[b]], [sizes[x], sizes[b]])
        repeats = int(np.count_nonzero(both >= 0)) - count
        if repeats >= count / 2 and repeats >= FEWEST_REPEATS and holds(both, codes[a], count):
            return not holds(codes[x], codes[a], sizes[x])
    return False


def _changes(codes: np.ndarray) -> int:
    """How often a row says something else than the one before."""
    return int(np.count_nonzero(codes[1:] != codes[:-1]))


def _as_numbers(column: EncodedColumn, type_: ColumnType) -> np.ndarray | None:
    """The values of a column as floating-point numbers; None where not all are numbers."""
    try:
        numbers = pc.cast(column.typed(type_), pa.float64())
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
        return None
    return None if numbers.null_count else numbers.to_numpy()


def _parts_of_dates(column: EncodedColumn, type_: ColumnType) -> list[np.ndarray]:
    """The parts of the calendar for each value of a column of dates: year, month, quarter, week,
    day of the week, and some of these together."""
    at = column.typed(type_)
    year, month = pc.year(at), pc.month(at)
    parts = [
        year,
        month,
        pc.quarter(at),
        pc.iso_week(at),
        pc.day_of_week(at),
        pc.day(at),
        pc.add(pc.multiply(year, 100), month),
        pc.add(pc.multiply(year, 10), pc.quarter(at)),
        pc.divide(year, 10),
    ]
    return [p.fill_null(-1).to_numpy(zero_copy_only=False) for p in parts]


def _say_the_same(part: np.ndarray, codes: Codes, size: int) -> bool:
    """Whether what the calendar says and a column go with each other, one to one."""
    there = codes >= 0
    _, known = np.unique(part[there], return_inverse=True)
    count = int(known.max(initial=-1)) + 1
    return count == size and holds(known.astype(np.int32), codes[there], count)


def _code_beside(
    n: int, columns: Sequence[EncodedColumn], relation: Relation, kinds: Sequence[str]
) -> tuple[int, Codes, int] | None:
    """The column beside which a column of names has one usual value each, but for a few that are
    misspelt; with the usual codes in place of theirs."""
    codes, sizes = relation.columns, relation.sizes
    if kinds[n] != "text" or sizes[n] < FEWEST_KEYS or sizes[n] >= len(codes[n]):
        return None
    best: tuple[int, int, Codes] | None = None
    for c in range(len(columns)):
        if (
            c == n
            or not FEWEST_KEYS <= sizes[c] < sizes[n]
            or kinds[c] not in ("text", "integer")
            or reaches_things(columns[c].header)
            or relation.disagreement(c)[n] > MOST_DISAGREEING
        ):
            continue
        found = near(codes[c], sizes[c], codes[n], sizes[n], MISSPELT)
        if found is None or not len(found.rows) or bool((codes[n][found.rows] < 0).any()):
            continue
        if best is not None and len(found.rows) >= best[1]:
            continue
        if _are_misspelt(
            columns[n].values, codes[n][found.rows], found.usual[codes[c][found.rows]]
        ):
            usual = np.append(found.usual, -1)[codes[c]]
            best = c, len(found.rows), np.where(codes[c] >= 0, usual, codes[n]).astype(np.int32)
    if best is None:
        return None
    used = distinct(best[2][best[2] >= 0])
    number = np.full(sizes[n] + 1, -1, np.int32)
    number[used] = np.arange(len(used), dtype=np.int32)
    return best[0], number[best[2]], len(used)


def _are_misspelt(values: pa.StringArray, here: Codes, usual: Codes) -> bool:
    """Whether nearly all of some values are spelled nearly as the usual ones."""
    pairs = np.unique(np.stack([here, usual], axis=1), axis=0)[:MOST_COMPARED]
    if bool((pairs < 0).any()):
        return False
    spelled = [(str(values[int(a)]).lower(), str(values[int(b)]).lower()) for a, b in pairs]
    alike = sum(
        fuzz.ratio(a, b) >= ALIKE and re.sub(r"\d", "", a) != re.sub(r"\d", "", b)
        for a, b in spelled
    )
    return alike >= ALIKE_SHARE * len(pairs)
