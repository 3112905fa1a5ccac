"""Which type a column has: the narrowest one from which every text can be spelled again, character
for character.

Every distinct value is looked at, none is sampled. A type is only ever taken when it loses nothing:
`007`, `1.10` beside `1.1`, a number of twenty digits and a date that could be read two ways all
stay text, and why is told.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.profile.columns import EncodedColumn
from kerfmark.profile.convert import integers, misfits, to_text, to_typed
from kerfmark.profile.moments import PIVOT, plausible, read_moments
from kerfmark.profile.months import language_of
from kerfmark.profile.types import INTEGER, TEXT, ColumnType, parse_type, plain_form

BLANKS = (
    "n/a",
    "N/A",
    "NA",
    "#N/A",
    "null",
    "NULL",
    "Null",
    "none",
    "None",
    "nan",
    "NaN",
    "-",
    "--",
    ".",
    "?",
    "..",
    "...",
    "…",
    ":",
    "n.a.",
    "N.A.",
    "n/d",
    "k.A.",
    "k. A.",
)
"""Spellings that mean a blank where everything else in a column is of some other type."""
BOOLEANS = (
    ("yes", "no"),
    ("y", "n"),
    ("true", "false"),
    ("t", "f"),
    ("ja", "nein"),
    ("oui", "non"),
    ("si", "no"),
    ("sí", "no"),
    ("on", "off"),
    ("x", "-"),
)
MOST_DIGITS = 18
PROBE = 200
"""Texts of a column among which spaces at the ends are looked for first."""
_GROUPING = (".", ",", "'", "\u2019", " ", "\u00a0", "\u202f")
"""What may be between groups of three digits; the point first."""
_FINER = r"^[0-9]{4}-[0-9]{2}-[0-9]{2}[ T][0-9]{2}:[0-9]{2}(:[0-9]{2}(\.[0-9]+)?)?(Z| ?[+-][0-9]{2}(:?[0-9]{2})?)?$"  # noqa: E501
_SIGNED = re.compile(
    r"(?P<before>[£$€¥][ \u00a0]?)?-?[0-9][^£$€¥%‰]*?(?P<behind>[ \u00a0]?[£$€¥%‰])?$"
)
_REAL = r"^-?([0-9]+(\.[0-9]+)?|[0-9]+\.[0-9]+[eE][-+]?[0-9]+|[0-9]+[eE][-+][0-9]+)$"
"""Numbers with exponents; 12E4 without point or sign may be a code."""


@dataclass(frozen=True)
class Recognised:
    """A column's type, what a person should know about it, and the types that it might be given
    instead."""

    type: ColumnType
    note: str = ""
    choices: tuple[str, ...] = ()

    @property
    def comment(self) -> str:
        """The note as a comment in a layout."""
        said = " or ".join(f'type = "{c}"' for c in self.choices)
        return f"{self.note}; {said} instead" if said else self.note

    def remark(self, header: str) -> str:
        """The note about the column with a header, and how to decide otherwise."""
        said = " or ".join(f'--type "{header}={c}"' for c in self.choices)
        return f"{self.note}; {said} decides" if said else self.note


def recognise(values: pa.StringArray, *, spelled: bool = False) -> Recognised:
    """The type of a column with these distinct texts; `spelled` where a point in a number is known
    to be that of a decimal."""
    if not len(values):
        return Recognised(TEXT, "the column is blank in every row")
    lengths = pc.utf8_length(values)
    if pc.max(lengths).as_py() > 60:
        return Recognised(TEXT)
    return _boolean(values) or _number(values, spelled) or _moment(values) or Recognised(TEXT)


def fitting_type(values: pa.StringArray) -> ColumnType | None:
    """The type of which all of some distinct texts are values; None for none but text."""
    found = recognise(values)
    if found.type == TEXT and not found.choices:
        return None
    type_ = parse_type(found.choices[0]) if found.type == TEXT else found.type
    return None if len(misfits(values, to_typed(values, type_))) else type_


def recognise_column(column: EncodedColumn) -> Recognised:
    """The type of an encoded column."""
    return (
        Recognised(column.known_type)
        if column.known_type
        else recognise(column.values, spelled=column.spelled)
    )


def kind_of(values: pa.StringArray, type_: ColumnType) -> str:
    """What sort of thing a column holds, whatever its type: amounts of money are measures though
    they may be text, and YYYYMMDD is a day though it is a number."""
    if not len(values) or type_.kind not in ("text", "integer"):
        return type_.kind
    if type_.kind == "text":
        amount = r"^-?[£$€¥]? ?-?[0-9][0-9.,' ]*[.,]?[0-9]* ?[£$€¥%]?$"
        marked = pc.match_substring_regex(values, "[£$€¥%,.]")
        if pc.all(marked).as_py() and pc.all(pc.match_substring_regex(values, amount)).as_py():
            return "decimal"
    elif (
        all(
            pc.all(pc.match_substring_regex(some, "^(19|20)[0-9]{6}$")).as_py()
            for some in (values.slice(0, 100), values)
        )
        and not read_moments(values, "date", "YYYYMMDD").null_count
    ):
        return "date"
    return type_.kind


def blank_spellings(columns: list[EncodedColumn]) -> list[str]:
    """The spellings that this source uses for a blank.

    A known spelling counts when some column has a type other than text once its cells are taken as
    blank. It then counts for the whole source, as its author wrote it the same way everywhere.
    """
    found: set[str] = set()
    known = pa.array(BLANKS)
    for column in columns:
        if column.known_type is not None:  # nothing but numbers
            continue
        here = pc.filter(column.values, pc.is_in(column.values, value_set=known)).to_pylist()
        if (
            here
            and len(column.values) > len(here)
            and recognise_column(column).type == TEXT
            and recognise_column(column.without(here)).type != TEXT
        ):
            found.update(here)
    return sorted(found)


def is_padded(columns: list[EncodedColumn]) -> bool:
    """Whether spaces at the ends of cells are there for the eye only: without them, some column of
    text is of another type."""
    for column in columns:
        probe = column.values.slice(0, PROBE)
        if column.known_type is None and not probe.equals(pc.utf8_trim_whitespace(probe)):
            if recognise_column(column).type != TEXT:
                continue
            texts = pc.utf8_trim_whitespace(column.values)
            texts = texts.filter(pc.not_equal(texts, "")).unique()
            if recognise(texts, spelled=column.spelled).type != TEXT:
                return True
    return False


def _boolean(values: pa.StringArray) -> Recognised | None:
    if len(values) != 2:
        return None
    texts = values.to_pylist()
    for true, false in BOOLEANS:
        for spell in (str.lower, str.upper, str.capitalize):
            if {spell(true), spell(false)} == set(texts):
                return Recognised(ColumnType("boolean", form=f"{spell(true)}/{spell(false)}"))
    return None


def _number(values: pa.StringArray, spelled: bool) -> Recognised | None:
    first = pc.utf8_slice_codeunits(values.slice(0, 200), 0, 1)
    if not pc.all(pc.is_in(first, value_set=pa.array(list("-0123456789£$€¥")))).as_py():
        return None
    if integers(values) is not None:
        return Recognised(INTEGER)
    if pc.all(pc.match_substring_regex(values, r"^-?[0-9]+$")).as_py():
        if not _respelled(values, INTEGER):
            zeros = pc.any(pc.match_substring_regex(values, r"^-?0[0-9]")).as_py()
            return Recognised(
                TEXT,
                "digits with leading zeros: a code, kept as text"
                if zeros
                else "numbers that would not be spelled the same again: kept as text",
            )
        return Recognised(INTEGER)
    if marked := _grouped(values, spelled) or _with_a_sign(values):
        return marked
    for mark in ".,":
        found = pc.extract_regex(
            values, r"^-?(?P<whole>0|[1-9][0-9]*)(?:" + "\\" + mark + r"(?P<places>[0-9]+))?$"
        )
        if found.null_count:
            continue
        places = pc.utf8_length(found.field("places"))
        most, least = pc.max(places).as_py(), pc.min(places).as_py()
        whole = pc.max(pc.utf8_length(found.field("whole"))).as_py()
        if whole + most > MOST_DIGITS:
            return Recognised(TEXT, "numbers with too many digits to be safe: kept as text")
        for padded in (True, False):
            guess = ColumnType("decimal", whole + most, most, plain_form(most, mark, padded))
            if (most == least or not padded) and _respelled(values, guess):
                return Recognised(guess)
        if pc.any(pc.match_substring_regex(values, r"^-[0.,]+$")).as_py():
            return Recognised(TEXT, "a zero with a minus (-0.0): kept as text")
        return Recognised(
            TEXT,
            "numbers with and without zeros at the end (1.5 beside 1.50): kept as text",
            (f"decimal({whole + most},{most}) {plain_form(most, mark)}",),
        )
    if (
        pc.all(pc.match_substring_regex(values, _REAL)).as_py()
        and pc.any(pc.match_substring_regex(values, "[eE]")).as_py()
    ):
        return Recognised(
            ColumnType("real"),
            "numbers with exponents (1.5e-7): stored as floating-point numbers, not as spelled",
        )
    return None


def _grouped(values: pa.StringArray, spelled: bool) -> Recognised | None:
    """Numbers whose digits may be in groups of three: they stay text, and what to say for
    numbers is told. None for others, and for those with a point before three digits in every value,
    which are taken for decimals."""
    for mark in _GROUPING[spelled:]:
        points = "." if mark == "," else "," if mark == "." else ".,"
        shape = rf"^-?(?P<whole>0|[1-9][0-9]{{0,2}}(?:[{mark}][0-9]{{3}})*)(?:(?P<point>[{points}])(?P<places>[0-9]+))?$"  # noqa: E501
        if (
            not pc.all(pc.match_substring_regex(values.slice(0, 200), shape)).as_py()
            or not pc.any(pc.match_substring(values, mark)).as_py()
        ):
            continue
        found = pc.extract_regex(values, shape)
        if found.null_count:
            continue
        groups = pc.min_max(pc.count_substring(found.field("whole"), mark))
        places = pc.min_max(pc.utf8_length(found.field("places")))
        digits = pc.max(
            pc.utf8_length(pc.replace_substring(found.field("whole"), mark, ""))
        ).as_py()
        least, most = places["min"].as_py(), places["max"].as_py()
        point = "".join(set(pc.unique(found.field("point")).to_pylist()) - {None})
        if not groups["max"].as_py() or len(point) > 1 or digits + most > MOST_DIGITS:
            continue
        if point:
            form = f"0{mark}000" + plain_form(most, point, least == most)[1:]
            return Recognised(
                TEXT,
                "digits in groups of three: kept as text",
                (f"decimal({digits + most},{most}) {form}",),
            )
        if mark not in ".," or groups["max"].as_py() > 1:
            return Recognised(
                TEXT, "digits in groups of three: kept as text", (f"integer 0{mark}000",)
            )
        everywhere = groups["min"].as_py() == 1
        before = pc.max(
            pc.utf8_length(pc.list_element(pc.split_pattern(found.field("whole"), mark), 0))
        ).as_py()
        if mark == "," or not everywhere:
            name, decimal = (
                "comma" if mark == "," else "point",
                f"decimal({before + 3},3) {plain_form(3, mark, everywhere)}",
            )
            return Recognised(
                TEXT,
                f"numbers in which the {name} may mark thousands or decimals: kept as text",
                (f"integer 0{mark}000", decimal),
            )
    return None


def _with_a_sign(values: pa.StringArray) -> Recognised | None:
    """Numbers with the same sign, such as % or €, before or behind all of them: they stay text, and
    that is told."""
    found = _SIGNED.match(values[0].as_py())
    sign = (found["before"] or found["behind"] or "") if found else ""
    if (
        not sign
        or not pc.all(
            pc.starts_with(values, sign)
            if found and found["before"]
            else pc.ends_with(values, sign)
        ).as_py()
    ):
        return None
    bare = pc.replace_substring(values, sign, "")
    inner = recognise(bare)
    grouped = len(inner.choices) == 1 and re.search(r"0,000($|\.)", inner.choices[0])
    if inner.type.kind not in ("integer", "decimal") and not inner.note:
        return None
    number = f"replace([header], '{sign}', '')"
    number = f"replace({number}, ',', '')" if grouped else number
    plain = grouped or (inner.type.kind in ("integer", "decimal") and inner.type.mark == ".")
    return Recognised(
        TEXT,
        f'numbers with "{sign.strip()}": kept as text'
        + (f"; for numbers add a column that is derived: number({number})" if plain else ""),
    )


def _respelled(values: pa.StringArray, type_: ColumnType) -> bool:
    """Whether the typed values spell the same texts again."""
    typed = to_typed(values, type_)
    return typed.null_count == 0 and bool(pc.all(pc.equal(to_text(typed, type_), values)).as_py())


def _moment(values: pa.StringArray) -> Recognised | None:
    if (
        pc.max(pc.utf8_length(values.slice(0, 50))).as_py() > 30
        or not pc.all(pc.match_substring_regex(values.slice(0, 50), "[0-9]")).as_py()
    ):
        return None
    for kind in ("date", "timestamp", "time"):
        forms = plausible(values, kind)
        readings = {order_of(f) for f in forms}
        if other := _other_months(values, kind, forms):
            return Recognised(
                TEXT,
                "dates with names of months that mean others in another language: kept as text",
                (f"{kind} {forms[0]}", f"{kind} {other}"),
            )
        if len(readings) > 1:
            return Recognised(
                TEXT,
                "dates whose day and month could be swapped: kept as text",
                (f"{kind} {forms[0]}", f"{kind} {_swapped(forms)}"),
            )
        if forms:
            return Recognised(ColumnType(kind, form=forms[0]))
    if forms := plausible(values, "short"):
        swapped = [f for f in forms if order_of(f) != order_of(forms[0])]
        return Recognised(
            TEXT,
            f"dates with two digits of the year (from 19{PIVOT} to 20{PIVOT - 1}, as a date): kept "
            f"as text{'; day and month could be swapped' if swapped else ''}",
            tuple(f"date {f}" for f in (forms[0], *swapped[:1])),
        )
    if all(
        pc.all(pc.match_substring_regex(some, _FINER)).as_py()
        for some in (values.slice(0, 50), values)
    ):
        return Recognised(
            TEXT,
            "timestamps with parts of a second or hours from UTC: kept as text, so that nothing is "
            "lost",
        )
    return None


def order_of(form: str) -> str:
    """The order of day, month and year in a form."""
    at = {letter: form.index(letter) for letter in "YMDh" if letter in form}
    return "".join(sorted(at, key=lambda letter: at[letter]))


def _other_months(values: pa.StringArray, kind: str, forms: list[str]) -> str:
    """A form by which some of the dates would be others than by the first one, because a word names
    another month in its language; "" when there is none."""
    named = [f for f in forms if language_of(f)[1] or "[" in forms[0]]
    first = read_moments(values, kind, forms[0]) if named else None
    return next((f for f in named if not read_moments(values, kind, f).equals(first)), "")


def _swapped(forms: list[str]) -> str:
    return next(f for f in forms if order_of(f) != order_of(forms[0]))
