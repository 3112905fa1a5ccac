"""The formats that can be read. A new one is a module with a `FORMAT`, and a line here."""

from __future__ import annotations

from pathlib import Path

from kerfmark.read import arrow_file, database, orc, parquet, text_file, workbook
from kerfmark.read.format import Format

FORMATS: tuple[Format, ...] = (
    workbook.FORMAT,
    parquet.FORMAT,
    arrow_file.FORMAT,
    orc.FORMAT,
    database.FORMAT,
    text_file.FORMAT,  # the last one: what is not one of the others is read as text
)
READABLE = frozenset(
    ending for format_ in FORMATS if not format_.magic for ending in format_.endings
)
"""The endings of the files that are read in a folder."""


def format_of(path: Path) -> Format:
    """The format of a file, by its name and its first bytes."""
    return next((f for f in FORMATS if f.has(path)), FORMATS[-1])
