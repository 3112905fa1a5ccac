"""What is in the binary parts of a workbook that the workbook library does not tell: which
cells hold an error.

Both forms are rows of records, each a number, its length and its bytes. Sources: the open
specifications [MS-XLS] (records BoundSheet8, BoolErr, Formula) and [MS-XLSB] (records BrtBundleSh,
BrtRowHdr, BrtCellError, BrtFmlaError).
"""

from __future__ import annotations

import re
import struct
import zipfile
from collections.abc import Iterator
from pathlib import Path

from kerfmark.read.workbook.xml_parts import MOST, part_of

ERRORS = {
    0x00: "#NULL!",
    0x07: "#DIV/0!",
    0x0F: "#VALUE!",
    0x17: "#REF!",
    0x1D: "#NAME?",
    0x24: "#NUM!",
    0x2A: "#N/A",
    0x2B: "#GETTING_DATA",
}
_CODES = b"[" + re.escape(bytes(ERRORS)) + b"]"
_NEXT = rb"(?:\0[\x11-\xff]|[\x01-\x0b][\x08-\xff]|[\x80-\xff])"
_AT = rb"..\0\0..\0[\0-\x03]"  # a column and a style
_PERHAPS_XLSB = re.compile(
    rb"(?s:\x03\x09" + _AT + _CODES + _NEXT + rb"|\x0b[\x13-\xff][\0-\x7f]?" + _AT + _CODES + b")"
)
_PERHAPS_XLS = re.compile(
    rb"(?s:\x05\x02\x08\0......" + _CODES + rb"\x01|\x06\0........\x02." + _CODES + rb"...\xff\xff)"
)
"""Bytes that may be the record of an error: going through all records in Python takes longer than
the library's reading."""
_ROW, _CELL_ERROR, _FORMULA_ERROR, _SHEET = 0, 3, 11, 156  # of .xlsb
_FORMULA, _END, _BOUND_SHEET, _TRUTH_OR_ERROR, _BEGIN = 0x06, 0x0A, 0x85, 0x205, 0x809  # of .xls


def errors_in_xlsb(path: Path, sheet: str) -> list[tuple[int, int, str]]:
    """The cells of a sheet that hold an error, as (row from 1, column from 0, error)."""
    with zipfile.ZipFile(path) as archive:
        [relation] = [r for r, name in _bundled(archive.read("xl/workbook.bin")) if name == sheet]
        data = archive.read(part_of(archive, "xl/_rels/workbook.bin.rels", relation))
    out: list[tuple[int, int, str]] = []
    row = 0
    if not _PERHAPS_XLSB.search(data):
        return out
    for kind, at in _records(data):
        if kind == _ROW:
            row = int.from_bytes(data[at : at + 4], "little")
        elif kind in (_CELL_ERROR, _FORMULA_ERROR):  # the column, four bytes of style, the error
            out.append(
                (row + 1, int.from_bytes(data[at : at + 4], "little"), _error_text(data[at + 8]))
            )
            if len(out) > MOST:
                break
    return out


def _records(data: bytes) -> Iterator[tuple[int, int]]:
    """The kind of each record and where its bytes begin. Kind and length are written seven bits a
    byte."""
    at, end = 0, len(data)
    while at < end:
        kind = data[at]
        at += 1
        if kind & 0x80:
            kind = kind & 0x7F | data[at] << 7
            at += 1
        size = shift = 0
        while True:
            byte = data[at]
            at += 1
            size |= (byte & 0x7F) << shift
            shift += 7
            if byte < 0x80:
                break
        yield kind, at
        at += size


def _bundled(data: bytes) -> Iterator[tuple[str, str]]:
    """The relation and name of every sheet."""
    for kind, at in _records(data):
        if kind == _SHEET:
            at += 8  # whether it is shown, and its number
            texts = []
            for _ in range(2):
                length = int.from_bytes(data[at : at + 4], "little")
                texts.append(data[at + 4 : at + 4 + 2 * length].decode("utf-16-le"))
                at += 4 + 2 * length
            yield texts[0], texts[1]


def errors_in_xls(path: Path, sheet: str) -> list[tuple[int, int, str]]:
    """The same of a workbook in the older form."""
    import olefile

    with olefile.OleFileIO(str(path)) as parts:
        data = parts.openstream("Workbook").read()
    out: list[tuple[int, int, str]] = []
    at, end = _extent(data, sheet)
    depth = 0
    if not _PERHAPS_XLS.search(data, at, end):
        return out
    while at + 4 <= end and len(out) <= MOST:
        kind, size = struct.unpack_from("<HH", data, at)
        at += 4
        if kind == _BEGIN:  # a chart within the sheet begins in the same way
            depth += 1
        elif kind == _END:
            depth -= 1
            if not depth:
                break
        elif depth == 1 and (
            (kind == _TRUTH_OR_ERROR and data[at + 7])
            or (kind == _FORMULA and data[at + 12 : at + 14] == b"\xff\xff" and data[at + 6] == 2)
        ):
            row, column = struct.unpack_from("<HH", data, at)
            out.append(
                (row + 1, column, _error_text(data[at + (6 if kind == _TRUTH_OR_ERROR else 8)]))
            )
        at += size
    return out


def _extent(data: bytes, sheet: str) -> tuple[int, int]:
    """Where the records of a sheet begin and end; the end of the data for both
    where it is not found."""
    begins: dict[str, int] = {}
    at = 0
    while at + 4 <= len(data):
        kind, size = struct.unpack_from("<HH", data, at)
        at += 4
        if kind == _BOUND_SHEET:
            begin, length, wide = (
                *struct.unpack_from("<I", data, at),
                data[at + 6],
                data[at + 7] & 1,
            )
            name = data[at + 8 : at + 8 + (2 * length if wide else length)].decode(
                "utf-16-le" if wide else "latin-1"
            )
            begins[name] = int(begin)
        elif kind == _END:
            break
        at += size
    begin = begins.get(sheet, len(data))
    return begin, min((other for other in begins.values() if other > begin), default=len(data))


def _error_text(code: int) -> str:
    return ERRORS.get(code, "of an unknown kind")
