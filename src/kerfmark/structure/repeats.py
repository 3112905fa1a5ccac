"""Columns that say the same thing several times over (`Phone 1, Phone 2`, `Item 1, Qty 1, Item 2,
Qty 2`, `Jan ... Dec`), and cells that hold several values (`thymol; oxalic acid`).

Headers make a guess, the data confirm it: the columns of a repetition hold the same kind of values,
and either draw them from the same stock or are filled from the left. Headers that say nothing
(`Name, Name 2`) need the latter.
"""

from __future__ import annotations

import datetime
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.errors import UsageError
from kerfmark.profile.codes import distinct
from kerfmark.profile.columns import EncodedColumn
from kerfmark.profile.months import MONTHS
from kerfmark.structure.header_words import helpful, words

_MONTHS = [m[:3] for m in MONTHS]
_DAYS = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"]
_LONG = {
    *MONTHS,
    *("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"),
    *("sept", "tues", "thur", "thurs"),
}
_LINES = frozenset({"line", "address", "addr", "street", "adresse"})
"""Words of columns that continue each other rather than repeat."""
_GENERIC = frozenset(
    {
        "date",
        "on",
        "type",
        "value",
        "info",
        "text",
        "x",
        "field",
        "note",
        "notes",
        "comment",
        "description",
        "kind",
    }
)
"""Words that are numbered to make headers differ as often as because they repeat."""
FEWEST = {"number": 2, "month": 3, "day": 3, "quarter": 3, "year": 3, "date": 3}
STOCK = 0.5
"""The share of the smaller column's values that must be in the other for both to draw from one
stock."""
YEAR = 999
"""Orders above it are those of years, or of months and quarters of years."""
MOST_WORDS = 6
"""Words of a header that may name a month of a year."""
FULL = 0.98
"""The share of rows in which two columns must be filled to be two ends of something rather than one
thing that is there twice."""
NESTED = 0.93
"""The share of filled cells left of which the one before must be filled."""


@dataclass(frozen=True)
class Repetition:
    """Columns that repeat: per meaning its words and its columns in order; `told` says what tells
    the groups apart, in words or numbers, and `what` of which kind these are."""

    what: str
    told: tuple[str, ...]
    members: tuple[tuple[tuple[str, ...], tuple[int, ...]], ...]

    @property
    def columns(self) -> set[int]:
        """All its columns."""
        return {c for _, columns in self.members for c in columns}


@dataclass(frozen=True)
class Slot:
    """What a header says about its place in a repetition: the words that are left, which kind, in
    which order, and how it is written."""

    rest: tuple[str, ...]
    what: str
    order: int
    told: str


def parse_repeat(header: str) -> Slot | None:
    """The place that a header names; None when it names none."""
    said = words(header)
    dated = _on_a_date(header) or _in_a_year(
        list(re.sub(r"\bq ([1-4])\b", r"q\1", " ".join(said)).split())
    )
    if dated:
        return dated
    for i, word in enumerate(said):
        rest = tuple(said[:i] + said[i + 1 :])
        short = word[:3]
        if short in _MONTHS and (word == short or word in _LONG):
            return Slot(rest, "month", _MONTHS.index(short), _written(header, word))
        if short in _DAYS and (word == short or word in _LONG):
            return Slot(rest, "day", _DAYS.index(short), _written(header, word))
        if re.fullmatch(r"(19|20)\d\d", word):
            return Slot(rest, "year", int(word), word)
        if word == "q" and i + 1 < len(said) and said[i + 1] in "1234":
            return Slot(
                tuple(said[:i] + said[i + 2 :]), "quarter", int(said[i + 1]), "Q" + said[i + 1]
            )
        if re.fullmatch(r"q[1-4]", word):
            return Slot(rest, "quarter", int(word[1]), word.upper())
    numbers = [(i, w) for i, w in enumerate(said) if re.fullmatch(r"\d{1,3}", w)]
    if len(numbers) == 1 and len(said) > 1:
        i, word = numbers[0]
        return Slot(tuple(said[:i] + said[i + 1 :]), "number", int(word), str(int(word)))
    return None


_DATE = re.compile(
    r"(?<!\d)(?:(?P<y>(?:19|20)\d\d)-(?P<m>\d\d)-(?P<d>\d\d)(?:[ T]00:00(?::00)?)?"
    r"|(?P<d2>\d{1,2})\.(?P<m2>\d{1,2})\.(?P<y2>(?:19|20)\d\d))(?!\d)"
)


def _on_a_date(header: str) -> Slot | None:
    """The place of a date, written so that it can be read one way only."""
    found = _DATE.search(header)
    if found is None:
        return None
    year, month, day = (int(found[n] or found[n + "2"]) for n in "ymd")
    try:
        when = datetime.date(year, month, day)
    except ValueError:
        return None
    rest = tuple(words(header[: found.start()] + " " + header[found.end() :]))
    return Slot(rest, "date", when.toordinal(), when.isoformat())


def _in_a_year(said: Sequence[str]) -> Slot | None:
    """The place of a month or a quarter of a year: `2025 Jan`, `Jan-25`, `2025-01`, `Q1 2025`."""
    for i, word in enumerate(said):
        beside = {n: said[n] for n in (i - 1, i + 1) if 0 <= n < len(said)}
        years = {n: w for n, w in beside.items() if re.fullmatch(r"(19|20)\d\d", w)}
        short, what, place = word[:3], "", 0
        if short in _MONTHS and (word == short or word in _LONG):
            what, place = "month", _MONTHS.index(short) + 1
            if not years and re.fullmatch(r"\d\d", beside.get(i + 1, "")):
                years = {i + 1: f"20{said[i + 1]}"}
        elif re.fullmatch(r"0[1-9]|1[0-2]", word):
            what, place = "month", int(word)
        elif re.fullmatch(r"q[1-4]", word):
            what, place = "quarter", int(word[1])
        if what and len(years) == 1 and len(said) <= MOST_WORDS:
            [(at, year)] = years.items()
            rest = tuple(w for n, w in enumerate(said) if n not in (i, at))
            if what == "quarter":
                return Slot(rest, what, int(year) * 4 + place, f"{year}-Q{place}")
            if not any(re.fullmatch(r"\d{1,2}", w) for w in rest):  # a day
                return Slot(rest, what, int(year) * 12 + place, f"{year}-{place:02}")
    return None


def _written(header: str, word: str) -> str:
    found = re.search(re.escape(word), header, re.IGNORECASE)
    return found[0] if found else word


def repetitions(columns: Sequence[EncodedColumn], kinds: Sequence[str]) -> list[Repetition]:
    """The repeated columns of a source; `kinds` are the kinds of its columns' types."""
    families: dict[tuple[tuple[str, ...], str], dict[int, tuple[int, str]]] = {}
    plain: dict[tuple[str, ...], int] = {}
    for c, column in enumerate(columns):
        found = parse_repeat(column.header)
        if found is None:
            plain.setdefault(tuple(words(column.header)), c)
        else:
            families.setdefault((found.rest, found.what), {}).setdefault(
                found.order, (c, found.told)
            )
    true: list[tuple[tuple[str, ...], str, tuple[str, ...], tuple[int, ...]]] = []
    for (rest, what), places in families.items():
        if what == "number" and 1 not in places and 2 in places and rest in plain:
            places[1] = plain[rest], "1"  # Phone, Phone 2, Phone 3
        for run in _runs(sorted(places), what):
            members = tuple(places[o][0] for o in run)
            says = bool(rest) and helpful(" ".join(rest)) and not set(rest) <= _GENERIC
            if (
                len(run) >= FEWEST[what] + (what == "number" and not says)
                and not (_LINES & set(rest))
                and _alike([columns[c] for c in members], [kinds[c] for c in members], says, what)
            ):
                true.append((rest, what, tuple(places[o][1] for o in run), members))
    out: list[Repetition] = []
    for rest, what, told, members in true:
        for i, other in enumerate(out):
            lead = other.members[0][1]
            if (
                other.what == what
                and other.told == told
                and _together([columns[c] for c in lead], [columns[c] for c in members])
            ):
                out[i] = Repetition(what, told, (*other.members, (rest, members)))
                break
        else:
            out.append(Repetition(what, told, ((rest, members),)))
    return out


def two_ends(one: Repetition, columns: Sequence[EncodedColumn]) -> bool:
    """Whether repeated columns are two that are both always filled: they rather mean from and to
    (`Site 1, Site 2`) than one thing that is there up to twice."""
    return (
        one.what == "number"
        and len(one.told) == 2
        and all(
            np.count_nonzero(columns[c].codes >= 0) >= FULL * len(columns[c].codes)
            for c in one.columns
        )
    )


def said_to_repeat(headers: Sequence[str], places: Mapping[str, int]) -> Repetition:
    """The repetition that a person says some columns are."""
    slots = [parse_repeat(h) for h in headers]
    members = tuple(places[h] for h in headers)
    known = [s for s in slots if s is not None]
    if len(known) == len(slots) and len({(s.rest, s.what) for s in known}) == 1:
        return Repetition(known[0].what, tuple(s.told for s in known), ((known[0].rest, members),))
    said = [words(h) for h in headers]
    common = tuple(w for w in said[0] if all(w in other for other in said))
    return Repetition("column", tuple(headers), ((common, members),))


def _runs(orders: list[int], what: str) -> list[list[int]]:
    """Orders without a gap, unless they are years or within years; numbers must begin at 0 or
    1."""
    runs: list[list[int]] = []
    for order in orders:
        if runs and (order == runs[-1][-1] + 1 or order > YEAR):  # years may be left out
            runs[-1].append(order)
        else:
            runs.append([order])
    return [r for r in runs if what != "number" or r[0] in (0, 1)]


def _alike(columns: Sequence[EncodedColumn], kinds: Sequence[str], told: bool, what: str) -> bool:
    """Whether columns hold the same kind of values. Headers that say nothing need a filling from
    the left besides."""
    filled = [k for c, k in zip(columns, kinds, strict=True) if len(c.values)]
    numbers = {"integer", "decimal", "real"}
    if not filled or len({"number" if k in numbers else k for k in filled}) > 1:
        return False
    nested, blanks = _filled_from_left(columns)
    if not told and what == "number":
        return (
            nested
            and blanks
            and (_same_range(columns) if filled[0] in numbers else _one_stock(columns))
        )
    if what != "number" or (nested and blanks):
        return True
    if filled[0] in numbers or filled[0] in ("date", "timestamp", "time", "boolean"):
        return _same_range(columns) if filled[0] in numbers else True
    return _one_stock(columns)


def _filled_from_left(columns: Sequence[EncodedColumn]) -> tuple[bool, bool]:
    """Whether each column is filled only where the one before is, and whether there are blanks at
    all to show it."""
    ok = total = 0
    for before, after in pairwise(columns):
        there = after.codes >= 0
        total += int(np.count_nonzero(there))
        ok += int(np.count_nonzero(there & (before.codes >= 0)))
    rows = len(columns[0].codes)
    fewer = int(np.count_nonzero(columns[-1].codes >= 0)) < 0.98 * max(
        1, int(np.count_nonzero(columns[0].codes >= 0))
    )
    return total == 0 or ok >= NESTED * total, fewer and rows > 0


def _one_stock(columns: Sequence[EncodedColumn]) -> bool:
    """Whether each column shares much of its values with the first."""
    stock = columns[0].values
    for column in columns[1:]:
        small, large = sorted((stock, column.values), key=len)
        if len(small) and pc.sum(pc.is_in(small, value_set=large)).as_py() < STOCK * len(small):
            return False
    return True


def _same_range(columns: Sequence[EncodedColumn]) -> bool:
    """Whether the middle of each column of numbers lies within the range of the first."""
    spans = []
    for column in columns:
        texts = pc.replace_substring_regex(column.values, "[^0-9.-]", "")
        try:
            numbers = pc.cast(texts, pa.float64()).to_numpy(zero_copy_only=False)
        except pa.ArrowInvalid:
            return _one_stock(columns)
        if len(numbers):
            spans.append(
                (float(np.min(numbers)), float(np.median(numbers)), float(np.max(numbers)))
            )
    return all(a[0] <= b[1] <= a[2] for a in spans[:1] for b in spans[1:])


def _together(lead: Sequence[EncodedColumn], others: Sequence[EncodedColumn]) -> bool:
    """Whether one family of columns is filled (nearly) only where another is."""
    alone = {True: 0, False: 0}
    for a, b in zip(lead, others, strict=True):
        alone[True] += int(np.count_nonzero((b.codes >= 0) & (a.codes < 0)))
        alone[False] += int(np.count_nonzero((a.codes >= 0) & (b.codes < 0)))
    total = sum(int(np.count_nonzero(a.codes >= 0)) for a in lead)
    return min(alone.values()) <= 0.03 * max(total, 1)


SEPARATORS = ("; ", ";", " | ", "|", ", ", ",", " / ", "/", " + ", "\n")
LONGEST_PART = 40
_BEFORE = (" x ", "x ", " × ", "× ", "×", " * ", "*", "x", " ")
"""What follows an amount, where it precedes what it is of: `3x apples`."""
_AFTER = (
    *((" (", ")"), ("(", ")")),
    *((mark, "") for mark in (" x ", " x", " × ", " ×", ": ", " = ", "=", ":", " * ")),
)
"""What precedes and follows an amount, where it follows what it is of: `apples (3)`."""


@dataclass(frozen=True)
class Listed:
    """How the cells of a column hold several values: what separates them, and, where each has an
    amount, what precedes and follows that; `first` where the amount comes first."""

    separator: str
    before: str = ""
    after: str = ""
    first: bool = False

    @property
    def counted(self) -> bool:
        """Whether each value has an amount."""
        return bool(self.before or self.after)

    def pattern(self) -> str:
        """The regular expression that all parts fit, with what the amount is of as `what`."""
        before, after = re.escape(self.before), re.escape(self.after)
        if self.first:
            return rf"^[0-9]{{1,6}}{after}(?P<what>[^0-9\s].*)$"
        return rf"^(?P<what>.*[^0-9\s]){before}[0-9]{{1,6}}{after}$"

    def expressions(self, header: str) -> tuple[str, str]:
        """What computes the amount and what it is of, from a part."""
        part = "[" + header.replace("]", "]]") + "]"
        before, after = ("'" + m.replace("'", "''") + "'" for m in (self.before, self.after))
        if self.first:
            return f"number(before({part}, {after}))", f"after({part}, {after})"
        amount = f"after_last({part}, {before})"
        return (
            f"number({f'before_last({amount}, {after})' if self.after else amount})",
            f"before_last({part}, {before})",
        )


def list_of(column: EncodedColumn) -> Listed | None:
    """How the cells of a column hold several values; None when they hold one each.

    The parts must recur: in many cells, and in different places of them, as the parts of a name or
    an address do not. Where each has an amount (`3x apples; 2x pears`), what these are of recurs.
    """
    values = column.values
    if len(values) < 4 or pc.mean(pc.utf8_length(values)).as_py() > 80:
        return None
    probe = values.slice(0, 20_000)
    for separator in SEPARATORS:
        several = pc.match_substring(probe, separator)
        if pc.mean(several).as_py() < 0.1 or pc.sum(several).as_py() < 3:
            continue
        lists = pc.split_pattern(probe, separator)
        parts = pc.list_flatten(lists)
        trimmed = pc.utf8_trim_whitespace(parts)
        if not pc.all(pc.and_(pc.equal(parts, trimmed), pc.not_equal(parts, ""))).as_py():
            continue
        listed = _with_amounts(separator, parts)
        if listed.counted:
            parts = pc.struct_field(pc.extract_regex(parts, listed.pattern()), 0)
        encoded = parts.dictionary_encode()
        letters = pc.match_substring_regex(encoded.dictionary, r"\p{L}")
        if (
            pc.max(pc.utf8_length(encoded.dictionary)).as_py() > LONGEST_PART
            or pc.mean(letters).as_py() < 0.9
        ):
            continue
        count = len(encoded.dictionary)
        lengths = pc.list_value_length(lists).to_numpy(zero_copy_only=False)
        position = np.arange(len(parts)) - np.repeat(np.cumsum(lengths) - lengths, lengths)
        codes = encoded.indices.to_numpy(zero_copy_only=False)
        elsewhere = len(
            distinct(codes[position > 0][np.isin(codes[position > 0], codes[position == 0])])
        )
        later = len(distinct(codes[position > 0]))
        if (
            len(parts) >= 3 * count
            and count <= 0.5 * len(probe) + 3
            and elsewhere >= 0.6 * max(later, 1)
        ):
            return listed
    return None


def said_to_be_list(column: EncodedColumn, separator: str) -> Listed:
    """How the cells of a column hold several values, as a person says that they do.

    Raises UsageError where nothing separates them."""
    there = (f"{separator} ", separator) if separator else SEPARATORS
    times = {s: int(pc.sum(pc.match_substring(column.values, s)).as_py() or 0) for s in there}
    best = max(there, key=lambda s: (times[s], len(s)))
    if not times[best]:
        raise UsageError(
            f'no cell of "{column.header}" holds several values'
            + (f' separated by "{separator}"' if separator else ""),
            code="steer.list",
            next=f'use --list "{column.header}=;"',
        )
    return _with_amounts(best, pc.list_flatten(pc.split_pattern(column.values, best)))


def _with_amounts(separator: str, parts: pa.StringArray) -> Listed:
    """How parts hold amounts, all of them, if they do."""
    probe, texts = parts.slice(0, 20), parts
    for before, after, first in (
        *(("", after, True) for after in _BEFORE),
        *((before, after, False) for before, after in _AFTER),
    ):
        listed = Listed(separator, before, after, first)
        if all(
            pc.all(pc.match_substring_regex(t, listed.pattern())).as_py() for t in (probe, texts)
        ):
            return listed
    return Listed(separator)
