"""The rows that a load could not place, as files to be corrected and added again: the columns of
the source, then where the row was, what is wrong with it, what can be done, what its cells may have
been meant to say, and room to accept that."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from kerfmark.read.set_aside import EXTRA
from kerfmark.write.cells import harmless, sheet_name

WIDEST = 60


@dataclass(frozen=True)
class Rejects:
    """The rejects of one source: its name, its delimiter, its headers, and for each row its cells,
    then those for the headers `EXTRA`."""

    source: str
    delimiter: str
    headers: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]


def files(path: Path, rejects: Sequence[Rejects]) -> dict[Path, bytes]:
    """The contents of the files that hold rejects: one workbook with a sheet per source, or one
    delimited text per source."""
    if path.suffix.lower() == ".xlsx":
        return {path: _workbook(rejects)}
    named = [path] + [path.with_name(f"{path.stem}-{r.source}{path.suffix}") for r in rejects[1:]]
    return {p: _text(r) for p, r in zip(named, rejects, strict=True)}


def _text(one: Rejects) -> bytes:
    out = io.StringIO()
    writer = csv.writer(
        out, delimiter=one.delimiter if len(one.delimiter) == 1 else ",", lineterminator="\n"
    )
    writer.writerow([*one.headers, *EXTRA])
    writer.writerows([harmless(c) for c in row] for row in one.rows)
    return out.getvalue().encode("utf-8-sig")  # the mark by which spreadsheets know UTF-8


def _workbook(rejects: Sequence[Rejects]) -> bytes:
    import xlsxwriter

    out = io.BytesIO()
    with xlsxwriter.Workbook(
        out, {"in_memory": True, "strings_to_formulas": False, "strings_to_urls": False}
    ) as book:
        bold, wrap = (
            book.add_format({"bold": True, "bottom": 1}),
            book.add_format({"text_wrap": True, "valign": "top"}),
        )
        for one in rejects:
            sheet = book.add_worksheet(
                sheet_name(one.source, [s.get_name() for s in book.worksheets()])
            )
            whole = [(*one.headers, *EXTRA), *one.rows]
            for n, row in enumerate(whole):
                for i, cell in enumerate(row):
                    sheet.write_string(
                        n, i, cell if n == 0 else harmless(cell), bold if n == 0 else wrap
                    )
            for i in range(len(whole[0])):
                sheet.set_column(i, i, min(WIDEST, max(len(r[i]) for r in whole) + 2))
            sheet.freeze_panes(1, 0)
    return out.getvalue()
