"""What all rows of a file are: records, and what is not."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from kerfmark.profile.encode import EncodedSource


@dataclass(frozen=True)
class FileRows:
    """What the rows of a file (or sheet; of a `part` of it, where it holds several tables) are, as
    a person sees them: all `rows`; those `above` the header, in it, `blank`, `left_out` while
    reading; and the `records` that were read."""

    file: str
    sheet: str
    rows: int
    above: int
    header: int
    blank: int
    left_out: int
    records: int
    part: str = ""


def rows_of_files(encoded: EncodedSource) -> Iterator[FileRows]:
    """What the rows of the files of a source are, where it is known."""
    start = 0
    for part, found, count in encoded.parts():
        kept = count
        if encoded.records is not None:
            ends = np.searchsorted(encoded.records, [start, start + count])
            kept = int(ends[1] - ends[0])
        start += count
        if found.rows_in_file:
            place, settings = part.origin(), part.settings()
            rest = found.rows_in_file - found.above - found.header - found.skipped - kept
            yield FileRows(
                place.file,
                place.sheet or "",
                found.rows_in_file,
                found.above,
                found.header,
                found.skipped,
                rest,
                kept,
                str(settings.get("cells") or settings.get("block") or ""),
            )
