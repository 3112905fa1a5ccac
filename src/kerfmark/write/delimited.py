"""Delimited text and text of fixed widths, whole columns at a time.

Promise: a cell is quoted wherever a reader would otherwise not give back the same text.
"""

from __future__ import annotations

import codecs
import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.errors import DataRefused, Origin
from kerfmark.profile.convert import one_after_the_other, to_text
from kerfmark.read.text_style import USUAL, TextStyle
from kerfmark.write.cells import all_harmless, risky
from kerfmark.write.table import TableOut


@dataclass(frozen=True)
class Spelling:
    """How a text file is written. `edges` are the first characters (from 0) of columns of fixed
    width; `harmless`: cells that a spreadsheet would take for formulas get an apostrophe; `style`
    is how it is written where readers do not mind."""

    delimiter: str = ","
    quote: str = '"'
    escape: str = ""
    encoding: str = "utf-8"
    edges: tuple[int, ...] = ()
    header: bool = True
    harmless: bool = True
    style: TextStyle = USUAL


class DelimitedFile:
    """A text file that is being written. `risky` counts, per column, the cells that begin like a
    formula."""

    def __init__(self, path: Path, table: TableOut, spelling: Spelling) -> None:
        self.path, self.table, self.spelling = path, table, spelling
        self.rows = 0
        self.risky = dict.fromkeys(table.columns, 0)
        self._encoder = codecs.getincrementalencoder(spelling.encoding)()
        self._file = path.open("wb")
        if spelling.encoding in ("utf-16-le", "utf-16-be"):
            self._file.write(self._encoder.encode("\ufeff"))
        if spelling.style.byte_order_mark and spelling.encoding in ("utf-8", "utf8"):
            self._file.write(codecs.BOM_UTF8)
        self._unended = b""
        if spelling.header:
            always = table.columns if spelling.style.quoted_header else ()
            self._write([pa.array([c]) for c in table.columns], always)

    def put(self, batch: pa.RecordBatch) -> None:
        """Writes rows of typed values."""
        texts = []
        for name, type_, values in zip(
            self.table.columns, self.table.types, batch.columns, strict=True
        ):
            cells = to_text(values, type_)
            if type_.kind == "text":
                self.risky[name] += pc.sum(risky(cells)).as_py() or 0
                cells = all_harmless(cells) if self.spelling.harmless else cells
            texts.append(cells)
        self._write(texts, self.spelling.style.quoted)
        self.rows += batch.num_rows

    def close(self) -> None:
        """Writes what is left."""
        if self.spelling.style.ended:
            self._file.write(self._unended)
        self._file.close()

    def _write(self, texts: Sequence[pa.StringArray], always: Sequence[str]) -> None:
        """Writes lines; the cells of some columns are `always` quoted. The end of the last line is
        kept back."""
        how = self.spelling
        if how.edges:
            lines = pc.binary_join_element_wise(
                *[self._padded(i, t) for i, t in enumerate(texts)], ""
            )
            lines = pc.utf8_rtrim(lines, " ")
        else:
            lines = pc.binary_join_element_wise(
                *[
                    self._quoted(i, t, name in always)
                    for i, (name, t) in enumerate(zip(self.table.columns, texts, strict=True))
                ],
                how.delimiter,
            )
        if not len(lines):
            return
        end = how.style.line_end
        whole = one_after_the_other(pc.binary_join_element_wise(lines, end, ""))[: -len(end)]
        self._file.write(self._unended)
        self._unended = end.encode()
        if how.encoding in ("utf-8", "utf8"):
            self._file.write(whole)
            return
        text = bytes(whole).decode()
        try:
            self._file.write(self._encoder.encode(text))
            self._unended = self._encoder.encode(end)
        except UnicodeEncodeError as error:
            line = self.rows + text[: error.start].count("\n") + 1
            raise DataRefused(
                f'"{text[error.start]}" cannot be written in {how.encoding}',
                code="data.encoding",
                origin=Origin(self.table.name),
                why=f"it is in row {line:,}, or in the names of the columns",
                next="use --encoding utf-8",
            ) from error

    def _quoted(self, column: int, texts: pa.StringArray, always: bool) -> pa.StringArray:
        """Cells in quotes, `always` or where that is needed."""
        how = self.spelling
        blank = pc.fill_null(texts, "")
        if always and how.quote:
            inside = pc.replace_substring(blank, how.quote, how.quote * 2)
            whole = pc.binary_join_element_wise(how.quote, inside, how.quote, "")
            keep = how.style.quoted_blanks or len(self.table.columns) == 1
            return whole if keep else pc.if_else(pc.is_null(texts), "", whole)
        marks = [m for m in (how.delimiter, how.quote, how.escape, "\n", "\r") if m]
        if (
            not _holds(texts, marks)
            and len(self.table.columns) > 1
            and (pc.min(pc.binary_length(texts)).as_py() or 0) > 0
        ):
            return blank
        needed = pc.or_(
            pc.equal(texts, ""), pc.match_substring_regex(texts, "|".join(map(re.escape, marks)))
        )
        needed = pc.fill_null(
            needed, len(self.table.columns) == 1
        )  # a line without anything would be no row
        if not pc.any(needed).as_py():
            return blank
        if not how.quote:
            cell = texts.filter(needed)[0]
            raise DataRefused(
                f'"{cell}" cannot be written without quotes',
                code="data.quote",
                origin=Origin(self.table.name, column=self.table.columns[column]),
                next="use --delimiter, with a character that no cell contains",
            )
        inside = blank
        if how.escape and how.escape != how.quote:
            inside = pc.replace_substring(inside, how.escape, how.escape * 2)
        inside = pc.replace_substring(inside, how.quote, (how.escape or how.quote) + how.quote)
        return pc.if_else(
            needed, pc.binary_join_element_wise(how.quote, inside, how.quote, ""), blank
        )

    def _padded(self, column: int, texts: pa.StringArray) -> pa.StringArray:
        """Cells as wide as their column."""
        edges = (*self.spelling.edges, None)
        start, end = edges[column] or 0, edges[column + 1]
        before = " " * start if column == 0 else ""
        cells = pc.fill_null(texts, "")
        if end is None:
            return pc.binary_join_element_wise(before, cells, "")
        longest = pc.max(pc.utf8_length(cells)).as_py() or 0
        if longest > end - start:
            raise DataRefused(
                f"a cell of {longest} characters does not fit into a column of {end - start}",
                code="data.width",
                origin=Origin(self.table.name, column=self.table.columns[column]),
                next="use --delimiter to write the file with delimiters",
            )
        return pc.binary_join_element_wise(before, pc.utf8_rpad(cells, end - start, " "), "")


def _holds(texts: pa.StringArray, marks: Sequence[str]) -> bool:
    """Whether the first byte of some marks is anywhere in texts: quicker than to look at
    each."""
    there = np.zeros(256, bool)
    there[np.frombuffer(one_after_the_other(texts), np.uint8)] = True
    return any(there[m.encode()[0]] for m in marks)
