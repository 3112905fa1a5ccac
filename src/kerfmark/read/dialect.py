"""Finds how a delimited text file is written: encoding, delimiter, quoting, and where its header
is.

Looks at the first part of the file only; what is found is shown to the user, kept in the layout and
can be overruled.
"""

from __future__ import annotations

import csv
import io
import re
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field, replace

from kerfmark.errors import Origin, SourceError
from kerfmark.read.archives import Bytes
from kerfmark.read.encoding import decode_sample, find_encoding
from kerfmark.read.format import check_path
from kerfmark.read.header import find_header
from kerfmark.read.letters import Guess, quoted
from kerfmark.read.ruled import find_rules, without_rules
from kerfmark.read.source import Reading, Remark

SAMPLE = 1 << 20
"""Bytes looked at."""
SAMPLE_RECORDS, HEADER_RECORDS = 400, 200
BLOCK, MOST_LOOKED_AT = 1 << 17, 1 << 25
"""Bytes that are read at a time after the sample, and at most, to find letters beyond ASCII; where
the first ones come later and are not UTF-8, they are refused with their rows."""
FEWEST_LINES = 4
"""Lines without which columns of fixed width cannot be told from chance."""
FOUND = Reading()
DELIMITERS = (",", ";", "\t", "|", "^")
MARKS = ("~", "!", "#", "$", "%", "&", "*", "§", "¦", "¬", ":", "\x01", "\x02", "\x1e")
"""Other characters that separate fields, where each line has as many."""
EVEN = 0.9
"""The share of records of one width from which a delimiter is not doubted."""
STAND_IN = "\x1f"
"""The ASCII unit separator: what other delimiters are replaced by while a file is cut."""
_SAID = re.compile(r'"?sep=(.)"?[\r\n]', re.IGNORECASE)
"""The first line in which some programs say the delimiter of what follows."""


WRITTEN = (
    "delimiter",
    "quote",
    "encoding",
    "header_row",
    "header_rows",
    "escape",
    "edges",
    "ruled",
    "block",
)
"""What a layout says of how a text is written, in its own keys."""


@dataclass(frozen=True)
class Dialect:
    """How a text file is written. `header_row` counts records from 1; 0 when there is no header,
    which may go over several `header_rows`. `edges`: the columns have fixed widths and begin at
    these characters (from 0). `ruled`: there are ruling lines (see `read.ruled`). `block` is the
    number of the table, where the file holds several (see `read.text_blocks`). `remarks` are doubts
    about what was found, `of_header` those about the header; `guess` what the encoding was found
    by, where it was."""

    delimiter: str = ","
    quote: str = '"'
    encoding: str = "utf-8"
    header_row: int = 1
    header_rows: int = 1
    escape: str = ""
    edges: tuple[int, ...] = ()
    ruled: bool = False
    block: int = 0
    remarks: tuple[Remark, ...] = field(default=(), compare=False)
    of_header: tuple[Remark, ...] = field(default=(), compare=False)
    guess: Guess | None = field(default=None, compare=False)

    @property
    def cut_at(self) -> str:
        """The one ASCII character at which fields are cut, once `delimiter` has been replaced by
        it."""
        return (
            STAND_IN
            if self.edges or len(self.delimiter) != 1 or not self.delimiter.isascii()
            else self.delimiter
        )

    @property
    def quoted(self) -> str:
        """The quote character, "" where none counts."""
        return "" if self.edges else self.quote


def read_sample(source: Bytes) -> bytes:
    """The first bytes of a file.

    Raises SourceError when the path is missing, a folder, unreadable or empty.
    """
    path, origin = source.path, Origin(source.name if source.member else str(source.path))
    if str(path) != "-":
        check_path(path)
    try:
        with source.open() as file:
            sample = file.read(SAMPLE)
    except OSError as error:
        raise SourceError(
            "the file cannot be read",
            code="source.unreadable",
            origin=origin,
            why=str(error.strerror),
            next="look at its permissions and the disk",
        ) from error
    if not sample.strip(b"\x00\r\n\t \xef\xbb\xbf"):
        raise SourceError(
            "the file is empty",
            code="source.empty",
            origin=origin,
            why="it holds no text at all",
            next="fetch it again, or leave it out",
        )
    return sample


def sample_records(text: str, dialect: Dialect, most: int = SAMPLE_RECORDS) -> list[list[str]]:
    """The first records of a text."""
    if dialect.edges:
        ends = (*dialect.edges[1:], None)
        return [
            [line[a:b].strip() for a, b in zip(dialect.edges, ends, strict=True)]
            for line in text.splitlines()[:most]
        ]
    if dialect.cut_at != dialect.delimiter:
        text = text.replace(dialect.delimiter, dialect.cut_at)
    csv.field_size_limit(1 << 30)
    reader = csv.reader(
        io.StringIO(text, newline=""),
        delimiter=dialect.cut_at,
        quotechar=dialect.quote or None,
        escapechar=dialect.escape or None,
        quoting=csv.QUOTE_MINIMAL if dialect.quote else csv.QUOTE_NONE,
    )
    records: list[list[str]] = []
    try:
        for record in reader:
            records.append(record)
            if len(records) >= most:
                break
    except csv.Error:
        pass
    return records


def _evenness(text: str, dialect: Dialect) -> tuple[float, int]:
    """How evenly a dialect cuts a text: the share of records of the most usual width, and that
    width."""
    widths = Counter(len(r) for r in sample_records(text, dialect) if r)
    if not widths:
        return 0.0, 0
    width, times = max(widths.items(), key=lambda item: (item[1], item[0]))
    return times / widths.total(), width


def find_delimiter(text: str, quote: str = '"') -> str:
    """The character that cuts the lines of a text into the same number of fields most consistently;
    "" when none does."""
    best, best_score = "", 0.0
    for delimiter in DELIMITERS:
        even, width = _evenness(text, Dialect(delimiter, quote))
        if width > 1:
            score = even + min(width, 50) / 1000
            if score > best_score + 1e-9:
                best, best_score = delimiter, score
    if best and text.count(best) == 2 * text.count(2 * best) and 2 * best in text:
        return 2 * best
    return best if best_score >= EVEN else _any_mark(text) or best


def _any_mark(text: str) -> str:
    """A mark, or two of them, that every line has equally often; "" when there is none."""
    lines = [line for line in text.splitlines()[:SAMPLE_RECORDS] if line.strip()]
    if len(lines) < FEWEST_LINES - 1:
        return ""
    for mark in (*(2 * m for m in MARKS), *MARKS):
        counts = {line.count(mark) for line in lines}
        if mark != ":" and len(counts) == 1 and 0 not in counts:  # times have colons, too
            return mark
    return ""


def find_escape(text: str, dialect: Dialect) -> str:
    """A backslash, where the quotes in a text are escaped with it rather than doubled: inside of a
    quoted field a quote comes after one, and something other than the end of the field after
    that."""
    if not dialect.quoted or "\\" + dialect.quote not in text:
        return ""
    q, d = re.escape(dialect.quote), re.escape(dialect.delimiter)
    if not re.search(f"(?:^|{d}|\\n){q}[^{q}\\n]*\\\\{q}(?!{q}|{d}|[\\r\\n]|$)", text):
        return ""
    return (
        "\\" if _evenness(text, replace(dialect, escape="\\")) >= _evenness(text, dialect) else ""
    )


def find_edges(text: str) -> tuple[int, ...]:
    """Where the columns of a text of fixed width begin: after characters that are blank in every
    line. () when it is none."""
    lines = [line for line in text.splitlines()[:SAMPLE_RECORDS] if line.strip()]
    if len(lines) < FEWEST_LINES or any("\t" in line for line in lines):
        return ()
    width = max(map(len, lines))
    blank = [all(line[i : i + 1] in ("", " ") for line in lines) for i in range(width)]
    edges = tuple(i for i in range(width) if not blank[i] and (i == 0 or blank[i - 1]))
    columns = [
        [line[a:b].strip() for line in lines[1:]]
        for a, b in zip(edges, (*edges[1:], None), strict=True)
    ]
    filled = all(sum(map(bool, c)) > len(lines) / 3 for c in columns)
    return edges if len(edges) > 1 and edges[0] == 0 and filled else ()


def find_dialect(source: Bytes, reading: Reading = FOUND) -> Dialect:
    """The dialect of a text file, overruled where the caller knows better."""
    origin = Origin(source.name)
    sample = read_sample(source)
    guess = None if reading.encoding else find_encoding(sample, origin, _rest(source))
    encoding = reading.encoding or (guess.encoding if guess else "")
    text = decode_sample(sample, encoding, origin)
    if len(sample) >= SAMPLE:
        text = text[: text.rfind("\n") + 1] or text  # the last line is cut off
    quote = '"' if reading.quote is None else reading.quote
    delimiter, edges = reading.delimiter or "", reading.edges
    rules = find_rules(text) if not delimiter and not edges else None
    if rules is not None:
        delimiter, edges = rules
        text = decode_sample(read_sample(without_rules(source, bool(delimiter))), encoding, origin)
    elif not delimiter and not edges:
        said = _SAID.match(text)
        delimiter = said[1] if said else find_delimiter(text, quote)
        edges = () if delimiter else find_edges(text)
    dialect = Dialect(
        delimiter or ",",
        quote,
        encoding,
        1,
        reading.header_rows or 1,
        reading.escape or "",
        edges,
        rules is not None,
    )
    if reading.escape is None:
        dialect = replace(dialect, escape=find_escape(text, dialect))
    doubts = list(_only_one_column(text, dialect)) if reading.delimiter else []
    dialect = with_header(dialect, sample_records(text, dialect, HEADER_RECORDS), reading)
    if guess is not None:
        doubts += _letters_in_doubt(guess, text, dialect)
    return replace(dialect, guess=guess, remarks=tuple(doubts))


def with_header(dialect: Dialect, records: list[list[str]], reading: Reading) -> Dialect:
    """A dialect with the header of a text that begins with these records, overruled where the
    caller knows better."""
    if reading.header_row is not None:
        return replace(dialect, header_row=reading.header_row)
    header = find_header(records)
    rows = reading.header_rows or header.rows
    return replace(
        dialect, header_row=header.row, header_rows=rows, of_header=tuple(header.remarks)
    )


def _only_one_column(text: str, dialect: Dialect) -> Iterator[Remark]:
    """What is doubtful about a delimiter that somebody has named and no record has, where another
    one would cut all records alike."""
    if _evenness(text, dialect)[1] > 1:
        return
    better = find_delimiter(text, dialect.quote)
    even, width = _evenness(text, replace(dialect, delimiter=better)) if better else (0.0, 1)
    if even >= EVEN and width > 1:
        yield Remark(
            "doubtful",
            None,
            f"there is one column only: most rows have no {dialect.delimiter!r}, but "
            f"{width - 1} of {better!r}",
            (),
            0,
            f"use --delimiter {better!r}, or leave the option out",
        )


def _rest(source: Bytes) -> Iterator[bytes]:
    """What follows in a file after the sample, as far as letters are looked for."""
    with source.open() as file:
        file.read(SAMPLE)
        for _ in range(MOST_LOOKED_AT // BLOCK):
            if not (block := file.read(BLOCK)):
                break
            yield block


def _letters_in_doubt(guess: Guess, text: str, dialect: Dialect) -> Iterator[Remark]:
    """What is doubtful about an encoding: how else some cells could read."""
    if not guess.others:
        return
    records = sample_records(text, dialect, len(text))
    rows = [
        next((n for n, record in enumerate(records, 1) if any(one in c for c in record)), 0)
        for one in guess.examples
    ]
    told = [f"{quoted(guess.examples)} ({guess.encoding})"] + [
        f"{quoted(other.examples)} ({other.encoding})" for other in guess.others
    ]
    yield Remark(
        "doubtful",
        None,
        f"the encoding is not certain: read as {told[0]}, could be {' or '.join(told[1:])}",
        tuple(r for r in rows if r),
        len(guess.examples),
        f"use the right one: --encoding {guess.encoding}, or --encoding {guess.others[0].encoding}",
    )
