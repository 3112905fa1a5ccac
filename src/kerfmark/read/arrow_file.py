"""Arrow files and streams."""

from __future__ import annotations

from pathlib import Path

import pyarrow as pa

from kerfmark.read.record_file import Opened, record_format


def _opened(path: Path) -> Opened:
    with path.open("rb") as file:
        is_stream = file.read(6) != b"ARROW1"
    if is_stream:
        stream = pa.ipc.open_stream(path.open("rb"))
        return stream.schema, iter(stream)
    reader = pa.ipc.open_file(path)
    return reader.schema, (reader.get_batch(i) for i in range(reader.num_record_batches))


FORMAT = record_format("Arrow", frozenset({".arrow", ".feather"}), _opened)
