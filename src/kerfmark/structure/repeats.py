"""Columns that say the same thing several times over (`Phone 1, Phone 2`, `Item 1, Qty 1, Item 2,
Qty 2`, `Jan ... Dec`), and cells that hold several values (`thymol; oxalic acid`).

Headers make a guess, the data confirm it: the columns of a repetition hold the same kind of values,
and either draw them from the same stock or are filled from the left. Headers that say nothing
(`Name, Name 2`) need the latter.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

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
FEWEST = {"number": 2, "month": 3, "day": 3, "quarter": 3, "year": 3}
STOCK = 0.5
"""The share of the smaller column's values that must be in the other for both to draw from one
stock."""
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


def _runs(orders: list[int], what: str) -> list[list[int]]:
    """Orders without a gap; numbers must begin at 0 or 1."""
    runs: list[list[int]] = []
    for order in orders:
        if runs and order == runs[-1][-1] + 1:
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


def separator_of(column: EncodedColumn) -> str:
    """What separates the values in the cells of a column that hold several; "" when they hold one
    each.

    The parts must recur: in many cells, and in different places of them, as the parts of a name or
    an address do not.
    """
    values = column.values
    if len(values) < 4 or pc.mean(pc.utf8_length(values)).as_py() > 80:
        return ""
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
        distinct = parts.dictionary_encode()
        letters = pc.match_substring_regex(distinct.dictionary, r"\p{L}")
        if (
            pc.max(pc.utf8_length(distinct.dictionary)).as_py() > LONGEST_PART
            or pc.mean(letters).as_py() < 0.9
        ):
            continue
        count = len(distinct.dictionary)
        lengths = pc.list_value_length(lists).to_numpy(zero_copy_only=False)
        position = np.arange(len(parts)) - np.repeat(np.cumsum(lengths) - lengths, lengths)
        codes = distinct.indices.to_numpy(zero_copy_only=False)
        elsewhere = len(
            np.unique(codes[position > 0][np.isin(codes[position > 0], codes[position == 0])])
        )
        later = len(np.unique(codes[position > 0]))
        if (
            len(parts) >= 3 * count
            and count <= 0.5 * len(probe) + 3
            and elsewhere >= 0.6 * max(later, 1)
        ):
            return separator
    return ""
