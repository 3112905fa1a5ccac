"""Parquet files."""

from __future__ import annotations

from pathlib import Path

from kerfmark.read.record_file import Opened, record_format

_ROWS = 65_536
"""Rows of a batch."""


def _opened(path: Path) -> Opened:
    import pyarrow.parquet as pq

    file = pq.ParquetFile(path)
    return file.schema_arrow, file.iter_batches(_ROWS)


FORMAT = record_format("Parquet", frozenset({".parquet"}), _opened)
