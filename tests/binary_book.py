"""Writes a workbook of binary parts (.xlsb), as spreadsheet programs do: only what the tests need.
Source: the open specification [MS-XLSB]."""

from __future__ import annotations

import datetime as dt
import struct
import zipfile
from collections.abc import Mapping, Sequence
from pathlib import Path

_TYPES = """<?xml version="1.0" encoding="UTF-8"?>
<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types">
<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>
<Default Extension="bin" ContentType="application/vnd.ms-excel.sheet.binary.macroEnabled.main"/></Types>"""
_RELATIONS = """<?xml version="1.0" encoding="UTF-8"?>
<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">{}</Relationships>"""
_RELATION = '<Relationship Id="{}" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/{}" Target="{}"/>'
_ERRORS = {"#DIV/0!": 0x07, "#N/A": 0x2A, "#VALUE!": 0x0F}
_DATE = 1
"""The second of the two styles, of which the first is the usual one."""


class Result:
    """What a formula last came to."""

    def __init__(self, value: float | str) -> None:
        self.value = value


Cell = str | float | bool | dt.date | Result | None


def write_binary_book(
    path: Path, sheets: Mapping[str, Sequence[Sequence[Cell]]], hidden: Sequence[str] = ()
) -> None:
    """A workbook of these sheets. A text such as #N/A is that error."""
    names = list(sheets)
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as book:
        book.writestr("[Content_Types].xml", _TYPES)
        book.writestr(
            "_rels/.rels",
            _RELATIONS.format(_RELATION.format("rId1", "officeDocument", "xl/workbook.bin")),
        )
        book.writestr(
            "xl/_rels/workbook.bin.rels",
            _RELATIONS.format(
                "".join(
                    _RELATION.format(f"rId{i}", "worksheet", f"worksheets/sheet{i}.bin")
                    for i in range(1, len(names) + 1)
                )
                + _RELATION.format("rIdS", "styles", "styles.bin")
            ),
        )
        book.writestr(
            "xl/workbook.bin",
            _record(131)
            + _record(143)
            + b"".join(
                _record(156, struct.pack("<II", name in hidden, i) + _text(f"rId{i}") + _text(name))
                for i, name in enumerate(names, 1)
            )
            + _record(144)
            + _record(132),
        )
        book.writestr(
            "xl/styles.bin",
            _record(278)
            + _record(617, struct.pack("<I", 2))
            + b"".join(_record(47, struct.pack("<HH", 0, form) + bytes(12)) for form in (0, 14))
            + _record(618)
            + _record(279),
        )
        for i, name in enumerate(names, 1):
            rows = sheets[name]
            size = struct.pack("<IIII", 0, len(rows) - 1, 0, max(map(len, rows)) - 1)
            book.writestr(
                f"xl/worksheets/sheet{i}.bin",
                _record(129)
                + _record(148, size)
                + _record(145)
                + b"".join(
                    _record(0, struct.pack("<IIHBBBI", r, 0, 300, 0, 0, 0, 0))
                    + b"".join(_cell(c, cell) for c, cell in enumerate(row))
                    for r, row in enumerate(rows)
                )
                + _record(146)
                + _record(130),
            )


def _record(kind: int, data: bytes = b"") -> bytes:
    out = bytes([kind]) if kind < 0x80 else bytes([kind & 0x7F | 0x80, kind >> 7])
    size = len(data)
    while size >= 0x80:
        out, size = out + bytes([size & 0x7F | 0x80]), size >> 7
    return out + bytes([size]) + data


def _text(text: str) -> bytes:
    return struct.pack("<I", len(text)) + text.encode("utf-16-le")


def _cell(column: int, cell: Cell) -> bytes:
    where = struct.pack("<II", column, _DATE if isinstance(cell, dt.date) else 0)
    formula = struct.pack("<HI", 0, 0) + struct.pack("<I", 0)
    if cell is None:
        return b""
    if isinstance(cell, Result):
        if isinstance(cell.value, str):
            return _record(11, where + bytes([_ERRORS[cell.value]]) + formula)
        return _record(9, where + struct.pack("<d", cell.value) + formula)
    if isinstance(cell, bool):
        return _record(4, where + bytes([cell]))
    if isinstance(cell, dt.date):
        moment = cell if isinstance(cell, dt.datetime) else dt.datetime.combine(cell, dt.time())
        days = (moment - dt.datetime(1899, 12, 30)) / dt.timedelta(days=1)
        return _record(5, where + struct.pack("<d", days))
    if isinstance(cell, str):
        return (
            _record(3, where + bytes([_ERRORS[cell]]))
            if cell in _ERRORS
            else _record(6, where + _text(cell))
        )
    return _record(5, where + struct.pack("<d", cell))
