"""Dependencies that hold but for a few rows: probable typos, a keeper who got another phone. Told with their rows, never used."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from kerfmark.errors import counted
from kerfmark.layout.model import Layout
from kerfmark.profile.codes import Codes, combine
from kerfmark.profile.encode import EncodedSource

MOST = 0.01
"""The share of rows that may be exceptions."""
SPARED = 0.1
"""The share of the exceptions expected by chance that may be there."""
SHOWN = 10


@dataclass(frozen=True)
class NearMiss:
    """A column that `by` decides in all but a few rows: how many rows there are, and the first exceptions as (row, value there,
    value elsewhere beside the same `by`)."""

    source: str
    by: str
    header: str
    rows: int
    exceptions: int
    first: tuple[tuple[int, str, str], ...]

    def __str__(self) -> str:
        told = "; ".join(f'row {row:,} says "{here}" instead of "{usual}"' for row, here, usual in self.first[:3])
        more = "; ..." if self.exceptions > 3 else ""
        return f"{self.by} decides {self.header} but for {counted(self.exceptions, 'row')} of {self.rows:,}: {told}{more}"


def near_misses(layout: Layout, name: str, encoded: EncodedSource) -> list[NearMiss]:
    """The near dependencies of a source on the keys of its tables, most telling first."""
    blanks = list(layout.sources[name].blanks)
    columns = {c.header: c.without(blanks) if blanks else c for c in encoded.columns}
    base = layout.tables[layout.base_of(name)]
    loose = [c.header for n, c in base.columns.items() if c.header and (n,) not in base.unique_sets]
    out: list[NearMiss] = []
    for spec in layout.tables.values():
        if spec.source != name or spec.each_row or spec.part_of or len(spec.known_by) != 1 or spec.known_by[0] not in spec.columns:
            continue
        key = columns[spec.columns[spec.known_by[0]].header]
        if not key.header or spec.columns[spec.known_by[0]].split:
            continue
        for header in loose:
            column = columns[header]
            if len(column.values) < 2 or header == key.header:
                continue
            found = _exceptions(key.codes, len(key.values), column.codes, len(column.values))
            if found is None:
                continue
            rows, usual = found
            first = tuple((encoded.source.origin(int(r)).row or 0, _said(column.values, column.codes[r]),
                           _said(column.values, usual[r])) for r in rows[:SHOWN])
            out.append(NearMiss(name, key.header, header, encoded.rows, len(rows), first))
    return sorted(out, key=lambda m: m.exceptions)


def _said(values: Sequence[object], code: int) -> str:
    return "" if code < 0 else str(values[int(code)])


def _exceptions(key: Codes, keys: int, other: Codes, others: int) -> tuple[np.ndarray, np.ndarray] | None:
    """The rows in which a column is not what it mostly is beside the same key, and what that is; None when there are too many
    for a near dependency, or too few repeats to tell."""
    there = np.flatnonzero((key >= 0) & (other >= 0))
    if len(there) < 3 * keys or len(there) < 20:
        return None
    sample = there[:20_000]
    last = np.full(keys, -1, other.dtype)
    last[key[sample]] = other[sample]
    if np.count_nonzero(last[key[sample]] != other[sample]) > 4 * MOST * len(sample) + 20:
        return None
    a, b = key[there], other[there]
    pairs, count = combine([a, b], [keys, others])
    times = np.bincount(pairs, minlength=count)
    first = np.zeros(count, np.int64)
    first[pairs[::-1]] = np.arange(len(pairs) - 1, -1, -1)
    order = np.lexsort((-times, a[first]))
    heads = np.concatenate([[True], np.diff(a[first][order]) != 0])
    usual = np.full(keys, -1, np.int64)
    usual[a[first][order[heads]]] = b[first][order[heads]]
    wrong = there[usual[a] != b]
    share = np.bincount(b, minlength=others) / len(b)
    expected = (1 - float((share**2).sum())) * (len(there) - keys)
    if not 0 < len(wrong) <= min(MOST * len(key) + 1, SPARED * expected):
        return None
    return wrong, np.where(key >= 0, usual[key], -1)


