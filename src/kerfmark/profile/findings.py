"""What a person should know about a source before it is loaded: findings, worst first."""

from __future__ import annotations

import shlex
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark import memory
from kerfmark.errors import Origin, article
from kerfmark.profile.codes import combine, first_rows, gather
from kerfmark.profile.columns import EncodedColumn
from kerfmark.profile.describe import ColumnDescription
from kerfmark.profile.encode import EncodedSource
from kerfmark.profile.moments import CANDIDATES, pattern
from kerfmark.profile.reserved import RESERVED
from kerfmark.profile.spilled import number_texts
from kerfmark.read.source import Severity, correct_ragged

ORDER: tuple[Severity, ...] = ("broken", "doubtful", "odd")
_LIST_OF_RECORDS = r"^\s*\[\s*(\]|\{(.|\n)*\}\s*\]\s*$)"
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


def findings(encoded: EncodedSource, columns: Sequence[ColumnDescription]) -> list[Finding]:
    """All findings about a source, worst first."""
    source = encoded.source
    out = [
        Finding(
            r.severity,
            Origin(
                source.origin().file, source.origin().sheet, r.rows[0] if r.rows else None, r.header
            ),
            r.what,
            r.total,
            r.rows[:SHOWN],
            r.next,
        )
        for r in encoded.found.remarks
    ]
    out += _of_rows(encoded)
    with ThreadPoolExecutor(1 if memory.scarce() else 2) as pool:
        for some in pool.map(
            lambda column, told: [*_of_column(encoded, column, told)], encoded.columns, columns
        ):
            out += some
    return sorted(out, key=lambda f: ORDER.index(f.severity))


def _of_rows(encoded: EncodedSource) -> Iterator[Finding]:
    source, ragged, width = encoded.source, encoded.found.ragged, len(encoded.columns)
    if ragged:
        rows = tuple(r.row for r in ragged[:SHOWN])
        yield Finding(
            "broken",
            Origin(source.origin().file, source.origin().sheet, rows[0]),
            ragged[0].told(width)
            if len(ragged) == 1
            else f"do not have the {width} fields of the header",
            len(ragged),
            rows,
            correct_ragged(ragged),
        )
    telling = max(
        encoded.columns, key=lambda c: len(c.values)
    )  # rows with a value of their own are like no other
    if width < 2 or len(telling.values) == encoded.rows:
        return
    alike = np.flatnonzero(gather(telling.times > 1, telling.codes, blank=1))
    codes, count = combine(
        [gather(c.codes, alike) for c in encoded.columns],
        [len(c.values) for c in encoded.columns],
        blanks=True,
    )
    if count < len(alike):
        again = np.ones(len(alike), bool)
        again[first_rows(codes, count)] = False
        yield _finding(
            encoded,
            "odd",
            None,
            alike[again],
            "is the same as an earlier row in every column",
            "keep it if it is meant, or take it out",
        )


def _of_column(
    encoded: EncodedSource, column: EncodedColumn, told: ColumnDescription
) -> Iterator[Finding]:
    header, everywhere = column.header, encoded.found.origin(None, column.header)
    if len(lists := _lists_of_records(column)):
        yield _finding(
            encoded,
            "odd",
            header,
            lists,
            "holds lists of records, written as JSON",
            f"--json-cells {shlex.quote(header)} makes a source of its own of them",
        )
    if told.misfits:
        rows = _rows_of(column, pa.array(told.misfit_values))
        text = told.mostly.split("(")[0].split(" ")[0] in ("integer", "real", "boolean")
        yield _finding(
            encoded,
            "doubtful" if text else "broken",
            header,
            rows,
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
        days, months = orders
        yield _finding(
            encoded,
            "doubtful",
            header,
            np.union1d(_rows_of(column, days), _rows_of(column, months)),
            f'"{days[0].as_py()}" begins with the day, "{months[0].as_py()}" with the month',
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
    if not len(column.values):
        return
    filled = encoded.rows - column.blanks
    if (
        len(column.values) == 1 and filled > 1 and column.blanks <= max(1, encoded.rows // 100)
    ):  # with more it is a mark
        every = "every row that is not blank there" if column.blanks else "every row"
        yield Finding(
            "odd", everywhere, f'is "{column.values[0].as_py()}" in {every}', filled, (), ""
        )
    if told.type != "text":
        return
    spaced = pa.concat_arrays(
        [
            some.filter(pc.not_equal(pc.utf8_trim_whitespace(some), some))
            for some in memory.slices(column.values)
        ]
    )
    if len(spaced):
        yield _finding(
            encoded,
            "odd",
            header,
            _rows_of(column, spaced),
            f'"{spaced[0].as_py()}" has spaces at its ends',
            "values are kept as they are: trim them in the file if they are not meant",
        )
    yield from _alike(encoded, column)


def _lists_of_records(column: EncodedColumn) -> np.ndarray:
    """The rows of a column with lists of records in JSON; none where not all that are filled have
    one."""
    some = column.values.slice(0, 100)
    for values in (some, column.values) if len(some) else ():
        if not pc.all(pc.match_substring_regex(values, _LIST_OF_RECORDS)).as_py():
            return np.empty(0, np.int64)
    with_one = pc.match_substring_regex(column.values, r"\{").to_numpy(zero_copy_only=False)
    rows: np.ndarray = np.flatnonzero(gather(with_one, column.codes, blank=0))
    return rows


def _mixed_forms(column: EncodedColumn) -> list[str]:
    """The forms of the dates in a text column, if all its values are dates, each in one of several
    forms."""
    values, probe = column.values, column.values.slice(0, 200)
    if (
        not pc.all(pc.match_substring_regex(probe, r"^[0-9A-Za-z][0-9A-Za-z ,./-]{5,18}$")).as_py()
        or not pc.all(pc.match_substring_regex(probe, "[0-9]")).as_py()
    ):
        return []
    forms = _forms_of(values) if _forms_of(probe) else []
    if len(forms) > 1 and any(
        pc.all(pc.match_substring_regex(values, pattern(form))).as_py()
        for form in CANDIDATES["date"]
    ):
        return []  # one will do
    return forms


def _conflicting_days(column: EncodedColumn) -> tuple[pa.Array, pa.Array] | None:
    """The dates that can only begin with the day, and those that can only begin with the month, in
    a column of dates that has both."""
    whole = r"^(?P<first>[0-9]{1,2})(?P<mark>[/.-])(?P<second>[0-9]{1,2})[/.-]([0-9]{4}|[0-9]{2})$"
    if not pc.all(pc.match_substring_regex(column.values.slice(0, 200), whole)).as_py():
        return None
    parts = pc.extract_regex(column.values, whole.replace("([0-9]{4}", "(?P<year>[0-9]{4}"))
    if parts.null_count or not len(parts):
        return None
    first, second = (pc.cast(pc.struct_field(parts, n), pa.int8()) for n in ("first", "second"))
    days = column.values.filter(pc.and_(pc.greater(first, 12), pc.less_equal(second, 12)))
    months = column.values.filter(pc.and_(pc.greater(second, 12), pc.less_equal(first, 12)))
    return (days, months) if len(days) and len(months) else None


def _forms_of(values: pa.StringArray) -> list[str]:
    """The forms that all of some texts are dates in, each in one of them; none where one is no
    date."""
    forms = []
    for form in CANDIDATES["date"]:
        fits = pc.match_substring_regex(values, pattern(form))
        if pc.any(fits).as_py():
            forms.append(form)
            values = values.filter(pc.invert(fits))
        if not len(values):
            return forms
    return []


_UNEVEN_SPACES = r"\s\s|[^\S ]"
"""What is not a single space between words."""


def _alike(encoded: EncodedSource, column: EncodedColumn) -> Iterator[Finding]:
    """Values that differ only in case or spaces from a more frequent one."""
    if _in_one_case(column.values):
        return  # they would be the same
    groups, count = number_texts(map(_plain, memory.slices(column.values)))
    if count == len(groups):
        return
    times = column.times
    order = np.lexsort((-times, groups))
    first = np.concatenate([[True], groups[order][1:] != groups[order][:-1]])
    rare, usual = order[~first], np.empty(groups.max() + 1, np.int64)
    usual[groups[order[first]]] = order[first]
    if len(rare):
        rows = np.flatnonzero(np.isin(column.codes, rare))
        a, b = (
            column.values[int(rare[0])].as_py(),
            column.values[int(usual[groups[rare[0]]])].as_py(),
        )
        yield _finding(
            encoded,
            "doubtful",
            column.header,
            rows,
            f'"{a}" differs from "{b}" only in case or spaces',
            "if they are the same, write them the same",
        )


def _in_one_case(values: pa.StringArray) -> bool:
    """Whether all texts are in small or all in capital letters, with single spaces within them at
    most."""
    for case in (pc.utf8_lower, pc.ascii_upper):
        if all(
            pc.all(pc.equal(pc.utf8_trim_whitespace(case(some)), some)).as_py()
            and not pc.any(pc.match_substring_regex(some, _UNEVEN_SPACES)).as_py()
            and (case is pc.utf8_lower or pc.all(pc.string_is_ascii(some)).as_py())
            for some in memory.slices(values)
        ):
            return True
    return False


def _plain(values: pa.StringArray) -> pa.StringArray:
    """Texts in small letters with single spaces within them."""
    trimmed = pc.utf8_trim_whitespace(values)
    if pc.any(pc.match_substring_regex(trimmed, _UNEVEN_SPACES)).as_py():
        trimmed = pc.replace_substring_regex(trimmed, r"\s+", " ")
    return pc.utf8_lower(trimmed)


def _rows_of(column: EncodedColumn, values: pa.Array) -> np.ndarray:
    """The records whose cell is one of some values."""
    at = pc.index_in(values, value_set=column.values).to_numpy(zero_copy_only=False)
    return np.flatnonzero(np.isin(column.codes, at))


def _finding(
    encoded: EncodedSource,
    severity: Severity,
    header: str | None,
    records: np.ndarray,
    what: str,
    next_: str,
    total: int = 0,
) -> Finding:
    rows = tuple(encoded.origin(int(r)).row or 0 for r in records[:SHOWN])
    return Finding(
        severity, encoded.origin(int(records[0]), header), what, total or len(records), rows, next_
    )
