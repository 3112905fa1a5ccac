"""What a load writes into the ledger."""

from __future__ import annotations

import json
from collections.abc import Mapping
from datetime import UTC, datetime
from pathlib import Path

from kerfmark import __version__
from kerfmark.build.split import Split
from kerfmark.ledger.records import Load, LoadedFile, RowSetAside, file_beside
from kerfmark.profile.encode import EncodedSource
from kerfmark.read.alike import AlikeSources, parts_of
from kerfmark.verbs.rejects import place_of


def now() -> str:
    """The time as the ledger writes it, in UTC."""
    return datetime.now(UTC).strftime("%Y-%m-%d %H:%M:%S")


def new_load(number: int, verb: str, layout: int) -> Load:
    """A load that is made now."""
    return Load(number, verb, now(), __version__, layout, "")


def loaded_files(load: int, sources: Mapping[str, EncodedSource], folder: Path | None) -> list[LoadedFile]:
    """The files that sources were read from, named as seen from a folder (None: from anywhere)."""
    out = []
    for name, encoded in sources.items():
        source = encoded.source
        counts = source.rows_of_parts(encoded.read) if isinstance(source, AlikeSources) else [encoded.read]
        told = source.told if isinstance(source, AlikeSources) else [""]
        for part, rows, said in zip(parts_of(source), counts, told, strict=True):
            reading = json.dumps(part.settings() | ({"skip_rows": part.skip_rows} if part.skip_rows else {}), ensure_ascii=False)
            out.append(LoadedFile(load, name, file_beside(part.location, folder), part.size, part.fingerprint, rows, said, reading))
    return out


def rows_apart(load: int, sources: Mapping[str, EncodedSource], done: Split) -> list[RowSetAside]:
    """The rows that were set aside, and those whose records were there already."""
    out = []
    for row in done.set_aside:
        at = place_of(sources, row)
        out.append(RowSetAside(load, row.source, at.file, at.sheet or "", at.row or 0, "; ".join(why for why, _ in row.reasons)))
    for source, records in done.merged.known_rows.items():
        for record in records.tolist():
            at = sources[source].source.origin(record)
            out.append(RowSetAside(load, source, at.file, at.sheet or "", at.row or 0, "its record was there already", True))
    return out
