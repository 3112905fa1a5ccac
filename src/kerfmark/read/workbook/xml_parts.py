"""What is in the XML parts of an Office Open XML workbook that the workbook library does not
tell: which cells hold an error, and what its defined names refer to."""

from __future__ import annotations

import posixpath
import re
import struct
import zipfile
import zlib
from functools import lru_cache
from pathlib import Path
from xml.etree import ElementTree

PARTED = frozenset({".xlsx", ".xlsm"})
"""Endings of the workbooks that are written like this."""
_MAIN = "{http://schemas.openxmlformats.org/spreadsheetml/2006/main}"
_RELATION = "{http://schemas.openxmlformats.org/officeDocument/2006/relationships}id"
NO_VALUE = ""
"""In place of an error: the formula has no value."""
_NO_VALUE = re.compile(
    rb'<c r="([A-Z]+)(\d+)"([^>]*)>\s*<f[^>]*(?:/>|>[^<]*</f>)\s*(?:<v\s*/>|<v></v>)?\s*</c>'
)
_ERROR = re.compile(
    rb'<c r="([A-Z]+)([0-9]+)"[^>]*\bt="e"[^>]*>(?:<f[^>]*>[^<]*</f>|<f[^>]*/>)?<v>([^<]*)</v>'
)
_DIMENSION = re.compile(rb'<(?:\w+:)?dimension [^>]*?\bref="([A-Z]+[0-9]+(?::[A-Z]+[0-9]+)?)"')
_HEAD = 1 << 14
_STEP = 1 << 20
_LONGEST_CELL = 1 << 14
DAMAGE = (
    LookupError,
    ValueError,
    EOFError,
    OSError,
    RuntimeError,
    struct.error,
    zlib.error,
    zipfile.BadZipFile,
    ElementTree.ParseError,
)
"""What parts raise that are not what they should be."""
MOST = 10_000
"""Error cells listed of one sheet."""


def _workbook(archive: zipfile.ZipFile) -> ElementTree.Element:
    return ElementTree.fromstring(archive.read("xl/workbook.xml"))


def part_of(archive: zipfile.ZipFile, relations: str, relation: str) -> str:
    """The part of a workbook that a relation means."""
    return _part(archive, _targets(archive, relations)[relation])


def _targets(archive: zipfile.ZipFile, relations: str) -> dict[str | None, str]:
    return {
        r.get("Id"): r.get("Target") or "" for r in ElementTree.fromstring(archive.read(relations))
    }


def _part(archive: zipfile.ZipFile, target: str) -> str:
    part = posixpath.normpath(posixpath.join("xl", target)).lstrip("/")
    return part if part in archive.NameToInfo else part.removeprefix("xl/xl/")


def _column(letters: bytes) -> int:
    """The number of a column, from 0."""
    column = 0
    for letter in letters:
        column = column * 26 + letter - 64
    return column - 1


def defined_name(path: Path, name: str) -> str:
    """What a defined name refers to, such as `Register!$A$1:$C$20`; "" when there is no such
    name."""
    try:
        with zipfile.ZipFile(path) as archive:
            for found in _workbook(archive).iter(f"{_MAIN}definedName"):
                if (found.get("name") or "").lower() == name.lower():
                    return found.text or ""
    except DAMAGE:
        pass
    return ""


@lru_cache(8)
def extents(path: Path, changed: int) -> dict[str, tuple[str, int]]:
    """For every sheet of a file (as it was when it was last changed) the range that its cells are
    said to lie in, such as A1:H200 ("" where that is not said), and the bytes of its part."""
    out: dict[str, tuple[str, int]] = {}
    try:
        with zipfile.ZipFile(path) as archive:
            targets = _targets(archive, "xl/_rels/workbook.xml.rels")
            for sheet in _workbook(archive).iter(f"{_MAIN}sheet"):
                part = _part(archive, targets[sheet.get(_RELATION)])
                with archive.open(part) as file:
                    found = _DIMENSION.search(file.read(_HEAD))
                out[sheet.get("name") or ""] = (
                    found[1].decode() if found else "",
                    archive.getinfo(part).file_size,
                )
    except DAMAGE:
        pass  # the workbook library will tell what is wrong
    return out


def errors_in_xlsx(path: Path, sheet: str) -> list[tuple[int, int, str]]:
    """The cells of a sheet that hold an error, as (row from 1, column from 0, error), and those
    whose formula was never calculated (`NO_VALUE`)."""
    out: dict[tuple[int, int], str] = {}
    rest = b""
    with zipfile.ZipFile(path) as archive:
        [relation] = [
            s.get(_RELATION) or ""
            for s in _workbook(archive).iter(f"{_MAIN}sheet")
            if s.get("name") == sheet
        ]
        with archive.open(part_of(archive, "xl/_rels/workbook.xml.rels", relation)) as file:
            while some := file.read(_STEP):
                data = rest + some
                if b't="e"' in data:
                    for found in _ERROR.finditer(data):
                        out[int(found[2]), _column(found[1])] = found[3].decode()
                if b"<f" in data:
                    for found in _NO_VALUE.finditer(data):
                        if b't="str"' not in found[3]:
                            out[int(found[2]), _column(found[1])] = NO_VALUE
                rest = data[-_LONGEST_CELL:]
                if len(out) > MOST:
                    break
    return [(row, column, said) for (row, column), said in sorted(out.items())]
