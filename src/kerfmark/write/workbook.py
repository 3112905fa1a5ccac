"""Workbooks: a sheet per table, dates and numbers as what they are, and links that lead to the row
they mean.

Written row by row, as the library wants it; only the keys of tables that are linked to are held.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Mapping
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import xlsxwriter
from xlsxwriter.exceptions import FileCreateError

from kerfmark.errors import DataRefused, Origin
from kerfmark.profile.types import ColumnType
from kerfmark.write.cells import sheet_name
from kerfmark.write.table import TableOut

MOST_ROWS = 1_048_575
"""Rows that a sheet has below its header."""
_LONGEST = 32_767
"""Characters that a cell takes."""
_MOST_LINKS = 65_000
"""Links that a sheet may have."""
_EXACT = 15
"""Digits of a number that workbooks keep."""
_FIRST_DAY = dt.date(1900, 3, 1)
"""Before it, programs do not agree on what a number of days means."""
_WIDEST = 60

Positions = Mapping[tuple[str, str], Mapping[Any, int]]
"""By table and key column: the row (from 1) of each key."""


class Workbook:
    """A workbook that is being written. `remarks` tell what it cannot hold as it is."""

    def __init__(self, path: Path, positions: Positions) -> None:
        self.remarks: list[str] = []
        self._positions = positions
        self._names: dict[str, str] = {}
        self._book = xlsxwriter.Workbook(
            path,
            {
                "constant_memory": True,
                "strings_to_formulas": False,
                "strings_to_urls": False,
                "strings_to_numbers": False,
                "nan_inf_to_errors": True,
                "default_date_format": "yyyy-mm-dd",
            },
        )
        self._bold = self._book.add_format({"bold": True, "bottom": 1})
        self._link = self._book.add_format({"font_color": "#0b5cad"})
        self._formats: dict[str, Any] = {}

    def named(self, table: str) -> str:
        """What the sheet of a table is called."""
        if table not in self._names:
            self._names[table] = sheet_name(table, self._names.values())
        return self._names[table]

    def sheet(self, table: TableOut) -> Sheet:
        """A new sheet."""
        return Sheet(self, self._book.add_worksheet(self.named(table.name)), table)

    def close(self) -> None:
        """Writes the file. Raises OSError where it cannot be written."""
        try:
            self._book.close()
        except FileCreateError as error:
            cause = next((a for a in error.args if isinstance(a, OSError)), OSError(str(error)))
            raise cause from error

    def format_of(self, type_: ColumnType) -> Any:
        """How cells of a type are shown."""
        form = {"date": "yyyy-mm-dd", "timestamp": "yyyy-mm-dd hh:mm:ss", "time": "hh:mm:ss"}.get(
            type_.kind, ""
        )
        if type_.kind == "decimal":
            form = "0." + "0" * type_.scale if type_.scale else "0"
        if not form:
            return None
        if form not in self._formats:
            self._formats[form] = self._book.add_format({"num_format": form})
        return self._formats[form]


class Sheet:
    """A sheet that is being written."""

    def __init__(self, book: Workbook, sheet: Any, table: TableOut) -> None:
        self._book, self._sheet, self.table, self.rows = book, sheet, table, 0
        self._width = [len(c) for c in table.columns]
        self._links = 0
        for i, name in enumerate(table.columns):
            sheet.write_string(0, i, name, book._bold)
        sheet.freeze_panes(1, 0)
        to = {
            link.columns[0]: (link.to, link.key[0])
            for link in table.links
            if len(link.columns) == 1
        }
        self._writers = [
            self._writer(i, t, to.get(c))
            for i, (c, t) in enumerate(zip(table.columns, table.types, strict=True))
        ]

    def put(self, batch: pa.RecordBatch) -> None:
        """Writes rows of typed values."""
        if self.rows + batch.num_rows > MOST_ROWS:
            raise DataRefused(
                f"a sheet takes {MOST_ROWS:,} rows",
                code="data.too-many",
                origin=Origin(self.table.name),
                next="write a folder of CSV or Parquet files: they take any number",
            )
        for row in zip(*(c.to_pylist() for c in batch.columns), strict=True):
            self.rows += 1
            for write, value in zip(self._writers, row, strict=True):
                if value is not None:
                    write(self.rows, value)

    def close(self) -> None:
        """Makes the columns as wide as what is in them."""
        for i, width in enumerate(self._width):
            self._sheet.set_column(i, i, min(_WIDEST, width + 2))

    def _writer(
        self, i: int, type_: ColumnType, link: tuple[str, str] | None
    ) -> Callable[[int, Any], None]:
        """What writes a cell of column i, given its row."""
        sheet, width, shown = self._sheet, self._width, self._book.format_of(type_)
        fixed = {"date": 10, "timestamp": 19, "time": 8, "boolean": 5}.get(type_.kind, 0)
        width[i] = max(width[i], fixed)

        def text(row: int, value: Any) -> None:
            value = str(value)
            if len(value) > _LONGEST:
                raise DataRefused(
                    f"a cell of a workbook takes {_LONGEST:,} characters, and this one has "
                    f"{len(value):,}",
                    code="data.too-long",
                    origin=Origin(self.table.name, row=row, column=self.table.columns[i]),
                    next="write CSV, Parquet or JSON Lines: they take any text",
                )
            width[i] = max(width[i], min(len(value), _WIDEST))
            sheet.write_string(row, i, value)

        def number(row: int, value: Any) -> None:
            digits = value.as_tuple().digits if isinstance(value, Decimal) else str(abs(value))
            if isinstance(value, float) or len(digits) <= _EXACT:
                sheet.write_number(row, i, value, shown)
                width[i] = max(width[i], len(str(value)))
            else:
                text(row, value)

        def moment(row: int, value: Any) -> None:
            day = value.date() if isinstance(value, dt.datetime) else value
            if isinstance(day, dt.date) and day < _FIRST_DAY:
                text(row, value)
            else:
                sheet.write_datetime(row, i, value, shown)

        plain: Callable[[int, Any], None] = {
            "text": text,
            "integer": number,
            "decimal": number,
            "real": number,
            "boolean": lambda row, value: sheet.write_boolean(row, i, value),
        }.get(type_.kind, moment)
        if link is None or link not in self._book._positions:
            return plain
        to, rows = self._book.named(link[0]).replace("'", "''"), self._book._positions[link]

        def linked(row: int, value: Any) -> None:
            if value not in rows or self._links >= _MOST_LINKS:
                if value in rows and self._links == _MOST_LINKS:
                    self._links += 1
                    self._book.remarks.append(
                        f"{self.table.name}: a sheet takes {_MOST_LINKS:,} links; from row "
                        f"{row + 1:,} on, "
                        "what would be one is the plain value"
                    )
                plain(row, value)
                return
            self._links += 1
            sheet.write_url(
                row, i, f"internal:'{to}'!A{rows[value] + 1}", self._book._link, str(value)
            )
            plain_number = isinstance(value, int) and len(str(value)) <= _EXACT
            sheet.write_number(
                row, i, value, self._book._link
            ) if plain_number else sheet.write_string(row, i, str(value), self._book._link)

        return linked
