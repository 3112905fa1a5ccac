"""Which cells of a workbook hold an error, such as #N/A: the workbook library gives them as blanks,
whatever its form."""

from __future__ import annotations

from pathlib import Path

from kerfmark.read.workbook.binary_parts import errors_in_xls, errors_in_xlsb
from kerfmark.read.workbook.opendocument import errors_in_ods
from kerfmark.read.workbook.xml_parts import DAMAGE, errors_in_xlsx

_FORMS = {
    ".xlsx": errors_in_xlsx,
    ".xlsm": errors_in_xlsx,
    ".xlsb": errors_in_xlsb,
    ".xls": errors_in_xls,
    ".ods": errors_in_ods,
}


def error_cells(path: Path, sheet: str) -> list[tuple[int, int, str]]:
    """The cells of a sheet that hold an error, as (row from 1, column from 0, error)."""
    try:
        return _FORMS[path.suffix.lower()](path, sheet)
    except DAMAGE:
        return []  # the workbook library has read it; this is a courtesy
