"""What a person should know about a source before it is loaded: findings, worst first."""

from __future__ import annotations

import shlex
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import partial

import pyarrow as pa
import pyarrow.compute as pc

from kerfmark import memory
from kerfmark.errors import Origin, article
from kerfmark.profile.describe import ColumnDescription
from kerfmark.profile.moments import CANDIDATES, pattern
from kerfmark.profile.reserved import RESERVED
from kerfmark.profile.values import ColumnValues, Matching, SourceValues
from kerfmark.read.source import Severity, correct_ragged

ORDER: tuple[Severity, ...] = ("broken", "doubtful", "odd")
_LIST_OF_RECORDS = r"^\s*\[\s*(\]|\{(.|\n)*\}\s*\]\s*$)"
_DATE_OF_NUMBERS = (
    r"^(?P<first>[0-9]{1,2})(?P<mark>[/.-])(?P<second>[0-9]{1,2})[/.-]([0-9]{4}|[0-9]{2})$"
)
SHOWN = 5
"""Rows named per finding."""


@dataclass(frozen=True)
class Finding:
    """Something worth knowing: how bad, where first, what, in how many cells or rows, which rows
    first, what to do."""

    severity: Severity
    origin: Origin
    what: str
    total: int
    rows: tuple[int, ...]
    next: str


def findings(source: SourceValues, columns: Sequence[ColumnDescription]) -> list[Finding]:
    """All findings about a source whose columns are described, worst first."""
    at = source.origin(None, None)
    out = [
        Finding(
            r.severity,
            Origin(at.file, at.sheet, r.rows[0] if r.rows else None, r.header),
            r.what,
            r.total,
            r.rows[:SHOWN],
            r.next,
        )
        for r in source.remarks
    ]
    out += _of_rows(source)
    with ThreadPoolExecutor(1 if memory.scarce() else 2) as pool:
        for some in pool.map(
            lambda values, told: [*_of_column(source, values, told)], source.columns, columns
        ):
            out += some
    return sorted(out, key=lambda f: ORDER.index(f.severity))


def _of_rows(source: SourceValues) -> Iterator[Finding]:
    ragged, width = source.ragged_rows, len(source.columns)
    if source.ragged:
        at, rows = source.origin(None, None), tuple(r.row for r in ragged[:SHOWN])
        yield Finding(
            "broken",
            Origin(at.file, at.sheet, rows[0]),
            ragged[0].told(width)
            if source.ragged == 1
            else f"do not have the {width} fields of the header",
            source.ragged,
            rows,
            correct_ragged(ragged),
        )
    # rows with a value of their own are like no other
    if width < 2 or max(c.count for c in source.columns) == source.rows:
        return
    again = source.repeated()
    if again.cells:
        yield _finding(
            source,
            "odd",
            None,
            again,
            "is the same as an earlier row in every column",
            "keep it if it is meant, or take it out",
        )


def _of_column(
    source: SourceValues, column: ColumnValues, told: ColumnDescription
) -> Iterator[Finding]:
    header, everywhere = column.header, source.origin(None, column.header)
    if _lists_of_records(column):
        yield _finding(
            source,
            "odd",
            header,
            column.matching(_has_record),
            "holds lists of records, written as JSON",
            f"--json-cells {shlex.quote(header)} makes a source of its own of them",
        )
    if told.misfits:
        text = told.mostly.split("(")[0].split(" ")[0] in ("integer", "real", "boolean")
        yield _finding(
            source,
            "doubtful" if text else "broken",
            header,
            column.matching(partial(_is_one_of, told.misfit_values)),
            f'"{told.misfit_values[0]}" is not {article(told.mostly)} like the rest of the column',
            "correct the cell; as it is, the column is loaded as text"
            if text
            else f'correct the cell\n--type "{header}=text" keeps the column as text',
            total=told.misfits,
        )
    elif told.type == "text" and len(forms := _mixed_forms(column)) > 1:
        yield Finding(
            "doubtful",
            everywhere,
            f"holds dates in several forms: {', '.join(forms)}",
            0,
            (),
            "write them all the same way; as it is, the column is loaded as text",
        )
    elif told.type == "text" and (orders := _conflicting_days(column)):
        day, month, either = orders
        yield _finding(
            source,
            "doubtful",
            header,
            either,
            f'"{day}" begins with the day, "{month}" with the month',
            "write them all the same way; as it is, the column is loaded as text",
        )
    if header.strip().lower() in RESERVED:
        yield Finding(
            "odd",
            everywhere,
            f'"{header}" is a reserved word of databases',
            0,
            (),
            f'its column gets another name; --column-name "{header}=NAME" chooses one',
        )
    if told.note:
        yield Finding(
            "doubtful" if "swapped" in told.note or "may mark" in told.note else "odd",
            everywhere,
            told.note,
            0,
            (),
            "",
        )
    if not told.distinct:
        return
    filled = source.rows - told.blanks
    if (
        told.distinct == 1 and filled > 1 and told.blanks <= max(1, source.rows // 100)
    ):  # with more it is a mark
        every = "every row that is not blank there" if told.blanks else "every row"
        only = column.head(1)[0].as_py()
        yield Finding("odd", everywhere, f'is "{only}" in {every}', filled, (), "")
    if told.type != "text":
        return
    spaced = column.matching(_has_spaces_at_its_ends)
    if spaced.cells:
        yield _finding(
            source,
            "odd",
            header,
            spaced,
            f'"{spaced.values[0]}" has spaces at its ends',
            "values are kept as they are: trim them in the file if they are not meant",
        )
    if alike := column.alike():
        yield _finding(
            source,
            "doubtful",
            header,
            Matching(alike.cells, (), alike.rows),
            f'"{alike.rare}" differs from "{alike.usual}" only in case or spaces',
            "if they are the same, write them the same",
        )


def _is_one_of(values: Sequence[str], texts: pa.StringArray) -> pa.BooleanArray:
    return pc.is_in(texts, value_set=pa.array(values))


def _has_spaces_at_its_ends(texts: pa.StringArray) -> pa.BooleanArray:
    return pc.not_equal(pc.utf8_trim_whitespace(texts), texts)


def _has_record(texts: pa.StringArray) -> pa.BooleanArray:
    return pc.match_substring_regex(texts, r"\{")


def _all_match(pattern: str, texts: pa.StringArray) -> bool:
    return bool(pc.all(pc.match_substring_regex(texts, pattern)).as_py())


def _lists_of_records(column: ColumnValues) -> bool:
    """Whether all values of a column are lists of records in JSON, and any has one."""
    some = column.head(100)
    return (
        len(some) > 0
        and _all_match(_LIST_OF_RECORDS, some)
        and column.all(partial(_all_match, _LIST_OF_RECORDS))
        and column.matching(_has_record, 0, 0).cells > 0
    )


def _mixed_forms(column: ColumnValues) -> list[str]:
    """The forms of the dates in a text column, if all its values are dates, each in one of several
    forms."""
    probe = column.head(200)
    if (
        not _all_match(r"^[0-9A-Za-z][0-9A-Za-z ,./-]{5,18}$", probe)
        or not _all_match("[0-9]", probe)
        or _form_of(probe).null_count
    ):
        return []
    found = column.names(_form_of)
    if None in found or len(found) < 2:
        return []
    if any(
        _all_match(pattern(form), probe) and column.all(partial(_all_match, pattern(form)))
        for form in CANDIDATES["date"]
    ):
        return []  # one will do
    return [form for form in CANDIDATES["date"] if form in found]


def _form_of(texts: pa.StringArray) -> pa.StringArray:
    """For each text the first form of a date that it has; null for none."""
    out, left = pa.nulls(len(texts), pa.string()), texts
    for form in CANDIDATES["date"]:
        fits = pc.fill_null(pc.match_substring_regex(left, pattern(form)), False)
        if pc.any(fits).as_py():
            out = pc.if_else(fits, form, out)
            left = pc.if_else(fits, pa.scalar(None, pa.string()), left)
        if left.null_count == len(left):
            break
    return out


def _conflicting_days(column: ColumnValues) -> tuple[str, str, Matching] | None:
    """A date that can only begin with the day, one that can only begin with the month, and all of
    either, in a column of dates that has both."""
    if not _all_match(_DATE_OF_NUMBERS, column.head(200)) or not column.all(
        partial(_all_match, _DATE_OF_NUMBERS)
    ):
        return None
    days = column.matching(partial(_begins_with, "day"), 1, 0)
    months = column.matching(partial(_begins_with, "month"), 1, 0) if days.cells else days
    if not months.cells:
        return None
    return days.values[0], months.values[0], column.matching(partial(_begins_with, ""))


def _begins_with(what: str, texts: pa.StringArray) -> pa.BooleanArray:
    """Which dates can only begin with the day, or with the month ("": with either)."""
    parts = pc.extract_regex(texts, _DATE_OF_NUMBERS.replace("([0-9]{4}", "(?P<year>[0-9]{4}"))
    first, second = (pc.cast(pc.struct_field(parts, n), pa.int8()) for n in ("first", "second"))
    days = pc.and_(pc.greater(first, 12), pc.less_equal(second, 12))
    months = pc.and_(pc.greater(second, 12), pc.less_equal(first, 12))
    return days if what == "day" else months if what == "month" else pc.or_(days, months)


def _finding(
    source: SourceValues,
    severity: Severity,
    header: str | None,
    cells: Matching,
    what: str,
    next_: str,
    total: int = 0,
) -> Finding:
    origins = [source.origin(row, header) for row in cells.rows[:SHOWN]]
    rows = tuple(o.row or 0 for o in origins)
    return Finding(severity, origins[0], what, total or cells.cells, rows, next_)
