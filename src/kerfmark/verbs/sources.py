"""Between layouts, files and readers: what a layout says of a source, the source that it describes, and saving a text whole."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator, Sequence
from pathlib import Path

from kerfmark.errors import Origin, UsageError
from kerfmark.layout.model import SourceSpec
from kerfmark.ledger.records import file_beside
from kerfmark.read.alike import AlikeSources
from kerfmark.read.open import open_again, open_all, together_again
from kerfmark.read.source import Reading, Source
from kerfmark.store.sqlite.files import translated

__all__ = ["Reading", "open_inputs", "open_source", "saving", "spec_of"]


def open_inputs(inputs: Sequence[str | Path], reading: Reading) -> list[Source]:
    """The sources in plain files, those of one shape put together.

    Raises UsageError when a layout is among them, SourceError when there is nothing to read.
    """
    for one in inputs:
        if Path(one).suffix.lower() == ".toml":
            raise UsageError("name one layout, or plain files, not both", origin=Origin(str(one)))
    return open_all(inputs, reading)


def spec_of(source: Source, folder: Path) -> SourceSpec:
    """What a layout in a folder says of a source."""
    settings = source.settings()
    if isinstance(source, AlikeSources):
        parts = [{"told": told, "file": file_beside(p.location, folder),
                  **{k: v for k, v in p.settings().items() if k in ("sheet", "member")}}
                 for told, p in zip(source.told, source.parts, strict=True)]
        return SourceSpec.model_validate(settings | {"parts": parts})
    return SourceSpec.model_validate(settings | {"file": file_beside(source.location, folder)})


def open_source(name: str, spec: SourceSpec, folder: Path) -> Source:
    """The source that a layout describes; its files are named as seen from the layout's folder."""
    reading = Reading(spec.delimiter, spec.quote, spec.escape, spec.encoding, spec.edges, spec.header_row, spec.header_rows,
                      spec.member, spec.sheet, spec.cells, spec.table, spec.query)

    def at(file: str) -> str:
        return file if file == "-" or "://" in file else str(folder / file)

    if not spec.parts:
        return open_again(at(spec.file), name, reading)
    from dataclasses import replace

    parts = [open_again(at(p.file), p.told, replace(reading, sheet=p.sheet, member=p.member)) for p in spec.parts]
    return together_again(parts, [p.told for p in spec.parts], spec.telling, name)


@contextlib.contextmanager
def saving(path: Path, text: str | None) -> Iterator[None]:
    """Writes a text beside its place first, and into its place once what is done meanwhile has succeeded."""
    if text is None:
        yield
        return
    part = path.with_name(f".{path.name}.{os.getpid()}.part")
    try:
        with translated(path):
            part.write_text(text, encoding="utf-8")
        yield
        part.replace(path)
    finally:
        part.unlink(missing_ok=True)
