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
class Typed:
    """A column of values of its type: the distinct ones, and one code per record (-1: blank)."""

    values: pa.Array
    codes: np.ndarray


@dataclass(frozen=True)
class Linked:
    """A link: the record of its table (from 0) that each record leads to, -1 for none. A generated
    key is that number and 1."""

    codes: np.ndarray


@dataclass(frozen=True)
class Counted:
    """A generated key: numbers that count from 1."""


Column = Typed | Linked | Counted


@dataclass
class TableRows:
    """The records of one table, in the order of their generated keys. `columns` maps names to
    contents, key first.

    `row_of` is the source row that each record was first met in; None when every row is a record.
    """

    name: str
    spec: TableSpec
    rows: int
    columns: dict[str, Column]
    row_of: np.ndarray | None = None

    def codes(self, name: str) -> np.ndarray:
        """The code of each record in a column, or the record that it leads to."""
        column = self.columns[name]
        assert not isinstance(column, Counted)
        return column.codes

    def typed(self, name: str) -> Typed:
        """A column of values."""
        column = self.columns[name]
        assert isinstance(column, Typed)
        return column

    def source_rows(self) -> np.ndarray:
        """The source row of each record."""
        return np.arange(self.rows) if self.row_of is None else self.row_of

    def batches(
        self,
        to_engine: Callable[[pa.Array], pa.Array],
        told: Callable[[int], None] = lambda rows: None,
    ) -> Batches:
        """The records as Arrow batches. `to_engine` turns typed values into what an engine takes;
        it is applied to the distinct values only. `told` hears the rows of each batch that was
        made."""
        columns = {
            n: Typed(to_engine(c.values), c.codes) if isinstance(c, Typed) else c
            for n, c in self.columns.items()
        }
        schema = pa.schema(
            [(n, c.values.type if isinstance(c, Typed) else pa.int64()) for n, c in columns.items()]
        )
        return Batches(schema, self.rows, columns, told)


@dataclass(frozen=True)
class Batches(Sequence[pa.RecordBatch]):
    """The records of a table as Arrow batches, each made when it is asked for, by whichever thread
    asks."""

    schema: pa.Schema
    rows: int
    _columns: dict[str, Column]
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
        batch = pa.RecordBatch.from_arrays(
            [_cells(c, start, end) for c in self._columns.values()], schema=self.schema
        )
        self._told(len(batch))
        return batch


def _cells(column: Column, start: int, end: int) -> pa.Array:
    """Some cells of a column."""
    if isinstance(column, Counted):
        return pa.array(np.arange(start + 1, end + 1, dtype=np.int64))
    codes = column.codes[start:end]
    mask = codes < 0
    blank = mask if mask.any() else None
    if isinstance(column, Linked):
        return pa.array(codes.astype(np.int64) + 1, mask=blank)
    return column.values.take(pa.array(codes, mask=blank))
