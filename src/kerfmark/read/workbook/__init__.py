"""Workbooks: `sheets` reads them; `xml_parts`, `binary_parts` and `opendocument` look into the
parts of a workbook for what the library does not tell; `sandbox` opens a doubtful one in a process
of its own."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from kerfmark.read.format import Format
from kerfmark.read.source import Reading, Source


def _open(path: Path, reading: Reading) -> Sequence[Source]:
    from kerfmark.read.workbook.sheets import sheets  # only where there is a workbook

    return sheets(path, reading)


def _reopen(path: Path, name: str, reading: Reading) -> Source:
    from kerfmark.read.workbook.sheets import reopen

    return reopen(path, name, reading)


FORMAT = Format(frozenset({".xlsx", ".xlsm", ".xlsb", ".xls", ".ods"}), _open, _reopen)
