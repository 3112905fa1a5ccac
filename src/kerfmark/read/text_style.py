"""The style of a delimited text: line ends, a byte order mark, and cells that are quoted without
need. It does not change what is read; it is kept so that export can write the same bytes again."""

from __future__ import annotations

import codecs
import re
from collections.abc import Iterator, Sequence
from dataclasses import asdict, dataclass
from typing import Any

RECORDS = 400
"""Records that are looked at."""


@dataclass(frozen=True)
class TextStyle:
    """`quoted`: the headers of columns whose cells are quoted without need; `quoted_header` and
    `quoted_blanks`: so are the headers, and the blanks of these columns. `ended`: the last line has
    a line end."""

    line_end: str = "\n"
    byte_order_mark: bool = False
    quoted: tuple[str, ...] = ()
    quoted_header: bool = False
    quoted_blanks: bool = False
    ended: bool = True

    def to_dict(self) -> dict[str, Any]:
        """The fields that differ from the usual style."""
        usual = asdict(USUAL)
        return {k: v for k, v in asdict(self).items() if v != usual[k]}

    @classmethod
    def from_dict(cls, fields: dict[str, Any]) -> TextStyle:
        """The style with these fields, the others as usual."""
        quoted = {"quoted": tuple(fields["quoted"])} if "quoted" in fields else {}
        return cls(**fields | quoted)


USUAL = TextStyle()


def find_style(
    sample: bytes,
    text: str,
    headers: Sequence[str],
    delimiter: str,
    quote: str,
    escape: str,
    header_row: int,
    header_rows: int,
) -> TextStyle:
    """The style of a text, `sample` being its first bytes; `header_row` counts from 1 (0: there is
    no header). Where quotes are escaped or missing, only line ends and the mark are found."""
    ends = {"\r\n": text.count("\r\n")}
    ends |= {e: text.count(e) - ends["\r\n"] for e in ("\n", "\r")}
    line_end = max(ends, key=lambda e: (ends[e], e == "\n"))
    mark = sample.startswith(codecs.BOM_UTF8)
    if not quote or escape or not delimiter or quote not in text:
        return TextStyle(line_end, mark)
    records = list(_raw_records(text, delimiter, quote))
    below = header_row + header_rows - 1 if header_row else 0
    header, rows = records[header_row - 1 : below] if header_row else [], records[below:]
    always: list[str] = []
    blanks = set()
    for column, name in enumerate(headers):
        cells = [r[column] for r in rows if column < len(r)]
        filled = [c for c in cells if c not in ("", quote * 2)]
        if filled and all(c.startswith(quote) for c in filled):
            unneeded = [c for c in filled if not _needs_quotes(c[1:-1], delimiter, quote)]
            if unneeded:
                always.append(name)
                blanks |= {c for c in cells if c not in filled}
    return TextStyle(
        line_end,
        mark,
        tuple(always),
        bool(header) and all(c.startswith(quote) for r in header for c in r if c),
        blanks == {quote * 2},
    )


def _needs_quotes(inside: str, delimiter: str, quote: str) -> bool:
    return any(c in inside for c in (delimiter, quote, "\n", "\r"))


def _raw_records(text: str, delimiter: str, quote: str) -> Iterator[Sequence[str]]:
    """The first records of a text, their cells as they are written, quotes included."""
    q, d = re.escape(quote), re.escape(delimiter)
    cell = re.compile(f"({q}(?:[^{q}]|{q}{q})*{q}|[^{q}\r\n]*?)({d}|\r\n|\n|\r|$)")
    record: list[str] = []
    at, done = 0, 0
    while at < len(text) and done < RECORDS:
        found = cell.match(text, at)
        if found is None:
            return
        record.append(found[1])
        at = found.end()
        if found[2] != delimiter:
            if record != [""]:
                yield record
            record, done = [], done + 1
