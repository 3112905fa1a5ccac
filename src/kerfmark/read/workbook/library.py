"""The workbook library at work: opening a workbook, and refusing what it would break over."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from kerfmark.errors import KerfmarkError, Origin, SourceError
from kerfmark.read.format import check_path
from kerfmark.read.workbook.ranges import RANGE, column_number
from kerfmark.read.workbook.sandbox import BINARY, crashes_reader
from kerfmark.read.workbook.xml_parts import PARTED, extents

MOST_CELLS = 10_000_000
"""Cells that a sheet may reach over however empty it is: a third of a gigabyte."""
MOST_EMPTY, LEAST_CELL = 10, 20
"""Beyond that, how many times more than those that are filled; and the bytes that these take at
least."""
TRIED = 1 << 22
"""Bytes up to which a file that does not say how far its cells reach is tried first."""
_STRAY = "a stray cell lies far from the others"


def open_workbook(path: Path, *, tables: bool = False) -> Any:
    """A workbook.

    Raises SourceError when it is none, damaged or encrypted.
    """
    import python_calamine as calamine

    check_path(path)
    _refuse_text(path)
    if path.suffix.lower() in BINARY and crashes_reader(path):
        raise _damaged(path, f"it is damaged, or {_STRAY}")
    with library(path):
        try:
            return calamine.load_workbook(str(path), load_tables=tables)
        except calamine.PasswordError as error:
            raise SourceError(
                "the workbook is encrypted",
                code="source.encrypted",
                origin=Origin(path.name),
                next="save it without a password, and name that file",
            ) from error


def _refuse_text(path: Path) -> None:
    """Raises SourceError for a web page or a text that has the name of a workbook, as some programs
    export them."""
    with path.open("rb") as file:
        start = file.read(4096)
    plain = start.lstrip(b"\xef\xbb\xbf \t\r\n").lower()
    if plain.startswith((b"<html", b"<!doctype html", b"<table", b"<head", b"<meta", b"<style")):
        what, remedy = "a web page (HTML)", "open it in a spreadsheet program and save it as .xlsx"
    elif start and not any(b < 9 for b in start) and plain[:1] not in (b"<", b""):
        what, remedy = "delimited text", f"name it {path.stem}.csv"
    else:
        return
    raise SourceError(
        f"this is {what} with the name of a workbook",
        code="source.not-a-workbook",
        origin=Origin(path.name),
        next=remedy,
    )


def refuse_stray(path: Path, sheet: str) -> None:
    """Raises SourceError for a sheet so empty that it cannot be read: the library makes room for
    every cell from the first one to the last, and a single one may be at the very end. How far
    they reach is said in the file, but not always rightly."""
    if path.suffix.lower() not in PARTED:
        return
    said, size = extents(path, path.stat().st_mtime_ns).get(sheet, ("", 0))
    found = RANGE.match(said)
    if found:
        cells = (int(found["bottom"]) - int(found["top"]) + 1) * (
            column_number(found["right"]) - column_number(found["left"]) + 1
        )
        if cells > MOST_CELLS and cells > MOST_EMPTY * size // LEAST_CELL and crashes_reader(path):
            raise SourceError(
                f"the sheet reaches from {said.replace(':', ' to ')}, {cells:,} cells, nearly all "
                "of them empty",
                code="source.sparse",
                origin=Origin(path.name, sheet),
                why=_STRAY,
                next="go to the last cell in a spreadsheet program (Ctrl+End), delete the rows "
                "and columns that are "
                "empty up to it, and save",
            )
    elif path.stat().st_size < TRIED and crashes_reader(path):
        raise _damaged(path, f"it is damaged, or {_STRAY}")


@contextmanager
def library(path: Path) -> Iterator[None]:
    """The workbook library at work. What it raises becomes a SourceError, even where it breaks down
    over damage that it does not expect."""
    import python_calamine as calamine

    try:
        yield
    except (calamine.WorksheetNotFound, KerfmarkError):
        raise
    except BaseException as error:
        broken = type(error).__name__ == "PanicException"  # which is not an Exception
        if not broken and not isinstance(error, (calamine.CalamineError, OSError)):
            raise
        raise _damaged(path, "it is damaged or cut off" if broken else str(error)) from error


def _damaged(path: Path, why: str) -> SourceError:
    return SourceError(
        "the workbook cannot be read",
        code="source.damaged",
        origin=Origin(path.name),
        why=why,
        next="open it in a spreadsheet program and save it again",
    )
