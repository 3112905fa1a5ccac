"""How files are refused that were loaded already, or are named twice: the same words, wherever they
are added to."""

from __future__ import annotations

import shlex

from kerfmark.errors import DataRefused, Origin


def loaded_already(origin: Origin, file: str, load: int, at: str, database: str) -> DataRefused:
    """Of a file whose content came as another one with a load, at a time (UTC)."""
    return DataRefused(
        "this file was loaded already",
        code="data.again",
        origin=origin,
        why=f"the same content came as {file} with load {load} on {at} (UTC)",
        next="nothing needs to be done\n"
        f"kerfmark undo {shlex.quote(database)} {load} takes it back\n"
        "--again loads it a second time",
    )


def named_twice(origin: Origin, other: str) -> DataRefused:
    """Of a file that has the content of another one that is named."""
    return DataRefused(
        "this file is named twice",
        code="data.again",
        origin=origin,
        why=f"it has the same content as {other}",
        next="leave one of them out",
    )
