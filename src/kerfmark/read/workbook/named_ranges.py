"""What a range, a defined name or a declared table of a workbook refers to."""

from __future__ import annotations

import zipfile
from pathlib import Path
from typing import Any

from kerfmark.errors import Origin, SourceError
from kerfmark.read.workbook.library import library, open_workbook
from kerfmark.read.workbook.ranges import RANGE, Area, column_letters, column_number
from kerfmark.read.workbook.xml_parts import PARTED, defined_name

_TABLES = "xl/tables/"


def declared_tables(path: Path) -> dict[str, list[str]]:
    """The names of the tables that a workbook declares, by their sheets, from left to right and top
    to bottom."""
    if path.suffix.lower() not in PARTED:
        return {}
    with zipfile.ZipFile(path) as archive:
        if not any(name.startswith(_TABLES) for name in archive.namelist()):
            return {}
    book = open_workbook(path, tables=True)
    with library(path):
        tables = [book.get_table_by_name(name) for name in book.table_names]
    out: dict[str, list[str]] = {}
    for table in sorted(tables, key=lambda t: t.start):
        out.setdefault(table.sheet, []).append(table.name)
    return out


def sheet_of(path: Path, cells: str, book: Any) -> str:
    """The sheet on which a range, defined name or table lies; the first one where a range names
    none."""
    found = RANGE.match(_meant(path, cells))
    if found and found["sheet"]:
        return found["sheet"].strip("'").replace("''", "'")
    return str(book.sheet_names[0])


def _meant(path: Path, cells: str) -> str:
    """A range in letters and numbers: itself, or what a defined name or a table of the workbook
    refers to."""
    import python_calamine as calamine

    if RANGE.match(cells):
        return cells
    named = defined_name(path, cells) if path.suffix.lower() in PARTED else ""
    if named:
        if not RANGE.match(named):
            raise SourceError(
                f'the defined name "{cells}" is not one range of cells',
                code="source.cells",
                origin=Origin(path.name),
                why=f"it refers to {named}",
                next="write the range itself, like C5:H200",
            )
        return named
    try:
        book = open_workbook(path, tables=True)
        table = book.get_table_by_name(cells)
    except (calamine.CalamineError, ValueError) as error:
        known = book.table_names if path.suffix.lower() in PARTED else []
        raise SourceError(
            f'"{cells}" is not a range such as C5:H200, a defined name or a table of the workbook',
            code="source.cells",
            origin=Origin(path.name),
            next=f"its tables are {', '.join(known)}" if known else "name a range",
        ) from error
    (top, left), (bottom, right) = table.start, table.end
    # the table's header is one above
    return f"'{table.sheet}'!{column_letters(left)}{top}:{column_letters(right)}{bottom + 1}"


def area_of(path: Path, sheet: str, cells: str) -> Area:
    """The area of a sheet that a range, defined name or table refers to; all of it for "".

    Raises SourceError for what is none, or lies on another sheet.
    """
    if not cells:
        return Area()
    found = RANGE.match(_meant(path, cells))
    assert found is not None
    if found["sheet"] and found["sheet"].strip("'").replace("''", "'") != sheet:
        raise SourceError(
            f'"{cells}" does not lie on the sheet "{sheet}"',
            code="source.cells",
            origin=Origin(path.name, sheet),
            next="leave out --sheet, or write the range without its sheet",
        )
    area = Area(
        int(found["top"]) - 1,
        column_number(found["left"]),
        int(found["bottom"]),
        column_number(found["right"]) + 1,
    )
    if (
        area.bottom is not None
        and area.right is not None
        and (area.bottom <= area.top or area.right <= area.left)
    ):
        raise SourceError(
            f'"{cells}" is not a range',
            code="source.cells",
            origin=Origin(path.name, sheet),
            why="its end lies before its start",
            next="write it like C5:H200",
        )
    return area
