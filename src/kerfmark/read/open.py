"""Opens what a person names: the one place that knows which reader reads what."""

from __future__ import annotations

import glob
from collections.abc import Collection, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from types import MappingProxyType

from kerfmark.address import is_url
from kerfmark.errors import Origin, SourceError
from kerfmark.read.alike import AlikeSources, put_together
from kerfmark.read.database import MAGIC, TableSource, tables
from kerfmark.read.delimited import DelimitedSource
from kerfmark.read.dialect import Dialect, check_path, find_dialect
from kerfmark.read.json_records import JsonFile
from kerfmark.read.mended import as_meant
from kerfmark.read.nested import ColumnarFile, NestedSource, nested_sources
from kerfmark.read.packed import Bytes, text_files
from kerfmark.read.source import Reading, Source
from kerfmark.read.workbook import ENDINGS, SheetSource, sheets

JSON_ENDINGS = frozenset({".json", ".jsonl", ".ndjson"})
COLUMNAR_ENDINGS = frozenset({".parquet", ".arrow", ".feather"})
DATABASE_ENDINGS = frozenset({".db", ".sqlite", ".sqlite3"})
TEXT_ENDINGS = frozenset({".csv", ".tsv", ".tab", ".txt", ".gz", ".bz2", ".xz", ".zst", ".zip"})
READABLE = TEXT_ENDINGS | ENDINGS | JSON_ENDINGS | COLUMNAR_ENDINGS
MOST_SOURCES = 5_000
"""Sources that are opened at once."""


def open_all(inputs: Sequence[str | Path], reading: Reading = Reading(), *, together: bool = True) -> list[Source]:  # noqa: B008
    """All sources in what is named: files, folders, patterns such as `2025/*.csv`, `-`, database URLs.

    Those of one shape become one source, unless `together` is false. Raises SourceError when there is nothing to read.
    """
    found: list[Source] = []
    for one in inputs:
        for place in places(str(one)):
            found += [_skipping(s, reading) for s in open_path(place, reading)]
            if len(found) > MOST_SOURCES:
                raise SourceError(f"these are more than {MOST_SOURCES:,} sources", code="source.too-many", origin=Origin(str(one)),
                                  next="name fewer at once; `kerfmark add` takes further ones of the same shape")
    return put_together(found) if together and len(found) > 1 else found


def _skipping(source: Source, reading: Reading) -> Source:
    """A source that leaves out the rows that are said to be no data."""
    source.skip_rows = reading.skip_rows
    return source


def places(one: str) -> list[str]:
    """What a pattern stands for, sorted; anything else is itself."""
    if is_url(one) or not glob.has_magic(one) or Path(one).exists():
        return [one]
    inside = sorted(glob.glob(one, recursive=True))     # noqa: PTH207  (a pattern may start at the root)
    if not inside:
        raise SourceError("no file fits this pattern", code="source.missing", origin=Origin(one))
    return inside


def open_path(place: str | Path, reading: Reading = Reading()) -> list[Source]:  # noqa: B008  (frozen)
    """The sources in one file (its sheets, tables, lists, or the members of an archive) or, for a folder, in every file of
    it that can be read.

    Raises SourceError when there is nothing to read.
    """
    if is_url(str(place)):
        return list(tables(str(place), reading))
    path = Path(place)
    if path.is_dir():
        inside = sorted(p for p in path.iterdir() if p.is_file() and p.suffix.lower() in READABLE)
        if not inside:
            raise SourceError("no file in this folder can be read", code="source.folder", origin=Origin(str(path)),
                              why=f"files ending in {', '.join(sorted(READABLE))} are looked for")
        return [s for p in inside for s in open_path(p, reading)]
    ending = path.suffix.lower()
    if ending in ENDINGS:
        return list(sheets(path, reading))
    if str(path) != "-":
        check_path(path)
    if ending in COLUMNAR_ENDINGS:
        return list(nested_sources(ColumnarFile(path), path.stem))
    if ending in DATABASE_ENDINGS and _starts_with(path, MAGIC):
        return list(tables(str(path), reading))
    out: list[Source] = []
    for b in text_files(path, reading.unpack_limit):
        if not reading.member or b.member == reading.member:
            out += nested_sources(JsonFile(b), b.stem) if is_json(b) else [DelimitedSource(b, find_dialect(b, reading))]
    if not out:
        raise SourceError(f'the file has no member "{reading.member}"', code="source.no-member", origin=Origin(path.name))
    return out


def is_json(source: Bytes) -> bool:
    """Whether the name of a file, without what packs it, says that it holds JSON."""
    inside = source.member or source.path.name
    for packed in (".gz", ".bz2", ".xz", ".zst"):
        inside = inside.removesuffix(packed)
    return Path(inside).suffix.lower() in JSON_ENDINGS


def _starts_with(path: Path, magic: bytes) -> bool:
    try:
        with path.open("rb") as file:
            return file.read(len(magic)) == magic
    except OSError:
        return False


def open_again(place: str, name: str, reading: Reading, also: Mapping[str, Sequence[str]] = MappingProxyType({})) -> Source:
    """The one source that a layout describes; what `reading` leaves unsaid is what is usual, not what is found. `also` maps
    headers to other spellings under which the file may have them."""
    source = as_meant(_skipping(_again(place, name, reading), reading))
    other = {s: h for h, spellings in also.items() for s in spellings if h not in source.headers}
    source.headers = tuple(other.get(h, h) for h in source.headers)
    return source


def _again(place: str, name: str, reading: Reading) -> Source:
    if is_url(place):
        return TableSource(place, table=reading.table, query=reading.query, name=name)
    path = Path(place)
    if path.suffix.lower() in ENDINGS:
        sheet = reading.sheet or ""
        settled = replace(reading, header_row=1 if reading.header_row is None else reading.header_row)
        return SheetSource(path, sheet, settled, name=name)
    check_path(path)
    if reading.table or reading.query:
        return TableSource(str(path), table=reading.table, query=reading.query, name=name)
    if path.suffix.lower() in COLUMNAR_ENDINGS:
        return _list_of(nested_sources(ColumnarFile(path), path.stem), reading.member, name, path)
    found = text_files(path, reading.unpack_limit)
    chosen = next((b for b in found if b.member == reading.member), None)
    if is_json(found[0]) and path.suffix.lower() != ".zip":
        return _list_of(nested_sources(JsonFile(found[0]), found[0].stem), reading.member, name, path)
    if chosen is None:
        raise SourceError(f'the archive has no member "{reading.member}"', code="source.no-member", origin=Origin(path.name))
    said = {k: v for k in ("delimiter", "quote", "encoding", "header_row", "header_rows", "escape", "edges")
            if (v := getattr(reading, k)) is not None}
    dialect = Dialect(**said)
    return DelimitedSource(chosen, dialect, name)


def _list_of(sources: Sequence[NestedSource], member: str, name: str, path: Path) -> NestedSource:
    for source in sources:
        if source.settings().get("member", "") == member:
            source.name = name
            return source
    raise SourceError(f'the file has no list "{member}"' if member else "the file has no records of its own",
                      code="source.no-member", origin=Origin(path.name))


def together_again(parts: Sequence[Source], told: Sequence[str], telling: str, name: str, may_lack: Collection[str] = ()
                   ) -> AlikeSources:
    """Sources of one shape as the one that a layout describes; where one lacks a header that it `may_lack`, its cells are blank.

    Raises SourceError when one has not the headers of the others.
    """
    whole = AlikeSources(parts, told, telling, name)
    for part in parts:
        lost, new = set(whole.headers) - {telling} - set(part.headers) - set(may_lack), set(part.headers) - set(whole.headers)
        if lost or new:
            raise SourceError("the files of one source do not have the same columns", code="source.shape", origin=part.origin(),
                              why="; ".join([f'"{h}" is missing' for h in sorted(lost)] + [f'"{h}" is new' for h in sorted(new)]),
                              next="give it a source of its own in the layout, or mend its header")
    return whole
