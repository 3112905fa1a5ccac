"""Opens what a person names: the one place that knows which reader reads what."""

from __future__ import annotations

from pathlib import Path

from kerfmark.errors import Origin, SourceError
from kerfmark.read.delimited import DelimitedSource
from kerfmark.read.dialect import Dialect, check_path, find_dialect
from kerfmark.read.packed import text_files
from kerfmark.read.source import Source
from kerfmark.read.workbook import ENDINGS, SheetSource, sheets

TEXT_ENDINGS = frozenset({".csv", ".tsv", ".tab", ".txt", ".gz", ".bz2", ".xz", ".zst", ".zip"})


def open_path(path: Path, *, delimiter: str | None = None, encoding: str | None = None, header_row: int | None = None
              ) -> list[Source]:
    """The sources in a file (its sheets, the members of an archive) or, for a folder, in every file of it that can be read.

    Raises SourceError when there is nothing to read.
    """
    if path.is_dir():
        inside = sorted(p for p in path.iterdir() if p.is_file() and p.suffix.lower() in TEXT_ENDINGS | ENDINGS)
        if not inside:
            raise SourceError("no file in this folder can be read", code="source.folder", origin=Origin(str(path)),
                              why=f"files ending in {', '.join(sorted(TEXT_ENDINGS | ENDINGS))} are looked for")
        return [s for p in inside for s in open_path(p, delimiter=delimiter, encoding=encoding, header_row=header_row)]
    if path.suffix.lower() in ENDINGS:
        return list(sheets(path))
    if str(path) != "-":
        check_path(path)
    return [DelimitedSource(b, find_dialect(b, delimiter=delimiter, encoding=encoding, header_row=header_row))
            for b in text_files(path)]


def open_again(path: Path, name: str, *, member: str, sheet: str, dialect: Dialect) -> Source:
    """The source that a layout describes."""
    if sheet:
        return SheetSource(path, sheet, header_row=dialect.header_row, name=name)
    check_path(path)
    found = text_files(path)
    chosen = next((b for b in found if b.member == member), None)
    if chosen is None:
        raise SourceError(f'the archive has no member "{member}"', code="source.no-member", origin=Origin(path.name))
    return DelimitedSource(chosen, dialect, name)
