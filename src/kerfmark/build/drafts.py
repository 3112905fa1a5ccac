"""The records of a table while they are put together, and the problems met on the way."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa

from kerfmark.layout.model import TableSpec

BATCH = 65_536
"""Rows per batch handed on."""
SHOWN = 10
"""Problems shown before the rest is only counted."""


@dataclass(frozen=True)
class Values:
    """A column of a table before it is spelled out: typed values, and one code per record (-1: blank)."""

    values: pa.Array | None                 # None: the codes are numbers of records
    codes: np.ndarray | None                # None: a run of numbers that starts at 1


@dataclass
class TableRows:
    """The records of one table, in the order of their generated keys. `columns` maps names to contents, key first.

    `row_of` is the source row that each record was first met in; None when every row is a record.
    """

    name: str
    spec: TableSpec
    rows: int
    columns: dict[str, Values]
    row_of: np.ndarray | None = None

    def source_rows(self) -> np.ndarray:
        """The source row of each record."""
        return np.arange(self.rows) if self.row_of is None else self.row_of

    def batches(self, stored: Callable[[pa.Array], pa.Array], told: Callable[[int], None] = lambda rows: None) -> Batches:
        """The records as Arrow batches. `stored` turns typed values into what an engine takes; it is applied to the distinct
        values only. `told` hears the rows of each batch that was made."""
        columns = {n: Values(None if v.values is None else stored(v.values), v.codes) for n, v in self.columns.items()}
        schema = pa.schema([(n, pa.int64() if v.values is None else v.values.type) for n, v in columns.items()])
        return Batches(schema, self.rows, columns, told)


@dataclass(frozen=True)
class Batches(Sequence[pa.RecordBatch]):
    """The records of a table as Arrow batches, each made when it is asked for, by whichever thread asks."""

    schema: pa.Schema
    rows: int
    _columns: dict[str, Values]
    _told: Callable[[int], None]

    def __len__(self) -> int:
        return -(-self.rows // BATCH)

    def __getitem__(self, at: Any) -> Any:
        if isinstance(at, slice):
            return [self[i] for i in range(*at.indices(len(self)))]
        if not -len(self) <= at < len(self):
            raise IndexError(at)
        start = at % len(self) * BATCH
        end = min(start + BATCH, self.rows)
        batch = pa.RecordBatch.from_arrays([_spelled(v, start, end) for v in self._columns.values()], schema=self.schema)
        self._told(len(batch))
        return batch


def _spelled(column: Values, start: int, end: int) -> pa.Array:
    if column.codes is None:
        return pa.array(np.arange(start + 1, end + 1, dtype=np.int64))
    codes = column.codes[start:end]
    blank = codes < 0
    if column.values is None:
        return pa.array(codes.astype(np.int64) + 1, mask=blank if blank.any() else None)
    return column.values.take(pa.array(codes, mask=blank if blank.any() else None))
