"""Parquet files."""

from __future__ import annotations

from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq

from kerfmark.write.table import TableOut

_GROUP = 500_000
"""Rows of a row group, at least."""


class ParquetFile:
    """A Parquet file that is being written."""

    def __init__(self, path: Path, table: TableOut) -> None:
        self.schema = pa.schema(
            [
                pa.field(c, t.arrow, c in table.optional)
                for c, t in zip(table.columns, table.types, strict=True)
            ]
        )
        self.rows = 0
        self._waiting: list[pa.RecordBatch] = []
        self._file = pq.ParquetWriter(path, self.schema, compression="zstd")

    def put(self, batch: pa.RecordBatch) -> None:
        """Writes rows of typed values."""
        self._waiting.append(pa.RecordBatch.from_arrays(batch.columns, schema=self.schema))
        self.rows += batch.num_rows
        if sum(b.num_rows for b in self._waiting) >= _GROUP:
            self._flush()

    def close(self) -> None:
        """Writes what is left."""
        self._flush()
        self._file.close()

    def _flush(self) -> None:
        if self._waiting:
            self._file.write_table(pa.Table.from_batches(self._waiting))
            self._waiting = []
