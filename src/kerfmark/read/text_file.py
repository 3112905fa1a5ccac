"""Text files, packed or not: delimited text, and JSON."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from kerfmark.errors import Origin, SourceError
from kerfmark.read.archives import Bytes, text_files
from kerfmark.read.delimited import DelimitedSource
from kerfmark.read.dialect import WRITTEN, Dialect
from kerfmark.read.format import Format, check_path
from kerfmark.read.json_cells import JsonCells, JsonCellSource
from kerfmark.read.json_records import JsonFile
from kerfmark.read.nested import list_of, nested_sources
from kerfmark.read.ruled import without_page_breaks
from kerfmark.read.source import Reading, Source
from kerfmark.read.text_blocks import find_dialects

JSON_ENDINGS = frozenset({".json", ".jsonl", ".ndjson"})
PACKED_ENDINGS = frozenset({".gz", ".bz2", ".xz", ".zst", ".zip"})


def is_json(source: Bytes) -> bool:
    """Whether the name of a file, without what packs it, says that it holds JSON."""
    inside = source.member or source.path.name
    for packed in PACKED_ENDINGS - {".zip"}:
        inside = inside.removesuffix(packed)
    return Path(inside).suffix.lower() in JSON_ENDINGS


def _open(path: Path, reading: Reading) -> list[Source]:
    """The text of a file, or those of the members of an archive."""
    if str(path) != "-":
        check_path(path)
    out: list[Source] = []
    for b in text_files(path, reading.unpack_limit):
        if not reading.member or b.member == reading.member:
            if is_json(b):
                out += nested_sources(JsonFile(b), b.stem)
            else:
                b = without_page_breaks(b)
                texts = [DelimitedSource(b, dialect) for dialect in find_dialects(b, reading)]
                out += [s for text in texts for s in with_json_cells(text, reading)]
    if not out:
        raise _no_member(path, reading)
    return out


def with_json_cells(text: DelimitedSource, reading: Reading) -> Sequence[Source]:
    """A text as the sources that it is: itself, or its rows and the lists in its cells."""
    if not reading.json_cells:
        return [text]
    if text.bytes.member:  # a list is named where the member would be
        raise SourceError(
            "lists in the cells of a file within an archive are not read",
            code="source.json",
            origin=text.origin(reading.json_cells[0]),
            next="unpack the archive, and name the file",
        )
    return nested_sources(JsonCells(text, reading.json_cells), text.name, JsonCellSource)


def _no_member(path: Path, reading: Reading) -> SourceError:
    there = [b.member for b in text_files(path, reading.unpack_limit) if b.member]
    return SourceError(
        f'the file has no member "{reading.member}"',
        code="source.no-member",
        origin=Origin(path.name),
        next=f"its members are {', '.join(there)}" if there else "only a zip archive has members",
    )


def _reopen(path: Path, name: str, reading: Reading) -> Source:
    check_path(path)
    found = text_files(path, reading.unpack_limit)
    if is_json(found[0]) and path.suffix.lower() != ".zip":
        return list_of(
            nested_sources(JsonFile(found[0]), found[0].stem), reading.member, name, path
        )
    said = {k: v for k in WRITTEN if (v := getattr(reading, k)) is not None}
    if reading.json_cells:
        text = DelimitedSource(without_page_breaks(found[0]), Dialect(**said), name)
        lists = nested_sources(JsonCells(text, reading.json_cells), name, JsonCellSource)
        return list_of(lists, reading.member, name, path)
    chosen = next((b for b in found if b.member == reading.member), None)
    if chosen is None:
        raise _no_member(path, reading)
    return DelimitedSource(without_page_breaks(chosen), Dialect(**said), name)


FORMAT = Format(
    frozenset({".csv", ".tsv", ".tab", ".txt"}) | PACKED_ENDINGS | JSON_ENDINGS, _open, _reopen
)
