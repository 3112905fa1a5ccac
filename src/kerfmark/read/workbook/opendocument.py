"""What is in an OpenDocument spreadsheet that the workbook library does not tell: which cells
hold an error.

Source: OASIS Open Document Format for Office Applications, version 1.3, part 3, section 9.1
(tables), and what spreadsheet programs write for an error: an extension of their own, or only its
name as the text of a formula.
"""

from __future__ import annotations

import re
import zipfile
from functools import lru_cache
from pathlib import Path
from xml.etree import ElementTree

from kerfmark.read.workbook.xml_parts import MOST

_TABLE = "{urn:oasis:names:tc:opendocument:xmlns:table:1.0}"
_OFFICE = "{urn:oasis:names:tc:opendocument:xmlns:office:1.0}"
_KIND = "{urn:org:documentfoundation:names:experimental:calc:xmlns:calcext:1.0}value-type"
_ERROR = re.compile(r"(#(NULL!|DIV/0!|VALUE!|REF!|NAME\?|NUM!|N/A)|Err:\d+)$")
_PERHAPS = (
    b'="error"',
    b">#NULL!<",
    b">#DIV/0!<",
    b">#VALUE!<",
    b">#REF!<",
    b">#NAME?<",
    b">#NUM!<",
    b">#N/A<",
    b">Err:",
)
_STEP = 1 << 20


def errors_in_ods(path: Path, sheet: str) -> list[tuple[int, int, str]]:
    """The cells of a sheet that hold an error, as (row from 1, column from 0, error)."""
    return _in_all_sheets(path, path.stat().st_mtime_ns).get(sheet, [])


@lru_cache(4)
def _in_all_sheets(path: Path, changed: int) -> dict[str, list[tuple[int, int, str]]]:
    """The same of all sheets, which are one document, in a file as it was when it was last
    changed."""
    out: dict[str, list[tuple[int, int, str]]] = {}
    with zipfile.ZipFile(path) as archive:
        if not _may_hold_one(
            archive
        ):  # going through the document takes much longer than the library's reading
            return out
        with archive.open("content.xml") as content:
            row, here = 0, ""
            for event, element in ElementTree.iterparse(content, ("start", "end")):
                if element.tag == f"{_TABLE}table":
                    row, here = 0, element.get(f"{_TABLE}name") or ""
                elif element.tag == f"{_TABLE}table-row" and event == "end":
                    times = int(element.get(f"{_TABLE}number-rows-repeated") or 1)
                    found = out.setdefault(here, [])
                    if len(found) < MOST and (mine := _errors_in(element)):
                        found += [
                            (row + 1 + i, column, said)
                            for i in range(min(times, MOST))
                            for column, said in mine
                        ]
                    row += times
                    element.clear()
    return out


def _may_hold_one(archive: zipfile.ZipFile) -> bool:
    rest = b""
    with archive.open("content.xml") as content:
        while some := content.read(_STEP):
            data = rest + some
            if any(said in data for said in _PERHAPS):
                return True
            rest = data[-16:]
    return False


def _errors_in(row: ElementTree.Element) -> list[tuple[int, str]]:
    """The columns of a row that hold an error, and which."""
    out: list[tuple[int, str]] = []
    column = 0
    for cell in row:
        times = int(cell.get(f"{_TABLE}number-columns-repeated") or 1)
        if cell.get(_KIND) == "error" or (
            cell.get(f"{_TABLE}formula") and cell.get(f"{_OFFICE}value-type") == "string"
        ):
            said = "".join(cell.itertext())
            if _ERROR.match(said):
                out += [(column + i, said) for i in range(min(times, MOST))]
        column += times
    return out
