"""ORC files."""

from __future__ import annotations

from pathlib import Path

from kerfmark.read.record_file import Opened, record_format


def _opened(path: Path) -> Opened:
    from pyarrow import orc

    file = orc.ORCFile(path)
    return file.schema, (file.read_stripe(i) for i in range(file.nstripes))


FORMAT = record_format("ORC", frozenset({".orc"}), _opened)
