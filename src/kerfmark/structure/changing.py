"""Columns that change over time beside a key: the price of an article, the keeper of a hive. Each
value holds for one stretch of days; the key alone does not decide it, and the key and a day do."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import pyarrow.compute as pc

from kerfmark.profile.codes import distinct, holds
from kerfmark.profile.columns import EncodedColumn
from kerfmark.profile.types import ColumnType
from kerfmark.structure.entities import Entity

MOST_ROWS = 50_000
"""Rows that are looked at: all of some keys."""
FEWEST_CHANGING = 3
"""Keys whose value changes at least once."""
ROWS_PER_STRETCH = 3.0
"""Rows that a stretch has on average at least."""


@dataclass(frozen=True)
class Changing:
    """A column (`header`) whose values change `over` a column of days beside a key: how many
    stretches of one value there are, of how many keys."""

    header: str
    by: str
    over: str
    stretches: int
    keys: int

    def __str__(self) -> str:
        return (
            f"changes over time beside {self.by}: {self.stretches:,} stretches of {self.over} for "
            f"{self.keys:,} values of {self.by}. It stays with each row; "
            f'--known-by "{self.by},{self.header}" makes a table of what there was'
        )


def changing_columns(
    base: Entity, columns: Sequence[EncodedColumn], types: Sequence[ColumnType]
) -> list[Changing]:
    """The columns of a source's rows that change over time beside the key of something above."""
    days = [c for c in base.own if types[c].kind in ("date", "timestamp")]
    keys = [e.key[0] for e in base.all() if e is not base and len(e.key) == 1]
    if not days or not keys:
        return []
    [over, *_] = days
    when = pc.rank(columns[over].typed(types[over])).to_numpy()
    out: dict[int, Changing] = {}
    for key in keys:
        codes = columns[key].codes
        share = min(1.0, MOST_ROWS / max(len(codes), 1))
        some = codes < max(1, int(share * len(columns[key].values)))  # all rows of the first keys
        rows = np.flatnonzero(some)
        rows = rows[(codes[rows] >= 0) & (columns[over].codes[rows] >= 0)]
        day = when[columns[over].codes[rows]]
        rows = rows[np.lexsort((day, codes[rows]))]
        day, known = when[columns[over].codes[rows]], codes[rows]
        same_key = known[1:] == known[:-1]
        same_day = same_key & (day[1:] == day[:-1])
        for c in base.columns:
            if c in out or c == over or len(columns[c].values) < FEWEST_CHANGING:
                continue
            value = columns[c].codes[rows]
            changed = same_key & (value[1:] != value[:-1])
            if not changed.any() or (changed & same_day).any() or (value < 0).any():
                continue
            different = 1 + int(np.count_nonzero(~same_key))
            stretches = int(changed.sum()) + different
            if stretches * ROWS_PER_STRETCH > len(rows):
                continue
            pairs = len(distinct(known.astype(np.int64) * (len(columns[c].values) + 1) + value))
            if (
                pairs == stretches  # no value comes back
                and not holds(columns[over].codes, columns[c].codes, len(columns[over].values))
                and len(distinct(known[1:][changed])) >= FEWEST_CHANGING
            ):
                header, by, day_header = (columns[i].header for i in (c, key, over))
                out[c] = Changing(header, by, day_header, stretches, different)
    return [out[c] for c in sorted(out)]
