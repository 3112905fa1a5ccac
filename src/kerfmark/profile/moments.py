"""Dates, times and timestamps: how they are spelled, and turning whole columns of texts into values
and back.

A form is made of the tokens below and the characters between them: `DD.MM.YYYY hh:mm`, `D Mon
YYYY`, `M/D/YYYY`, `D. Month YYYY [de]`.
"""

from __future__ import annotations

import re
from functools import lru_cache

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.profile.months import CASES, forms_of, language_of, month_names
from kerfmark.read.cells import bytes_of

_TOKENS = {
    "YYYY": r"(?P<Y>[0-9]{4})",
    "YY": r"(?P<y>[0-9]{2})",
    "MM": r"(?P<M>[0-9]{2})",
    "DD": r"(?P<D>[0-9]{2})",
    "hh": r"(?P<h>[0-9]{2})",
    "mm": r"(?P<m>[0-9]{2})",
    "ss": r"(?P<s>[0-9]{2})",
    "M": r"(?P<M>[1-9]|1[0-2])",
    "D": r"(?P<D>[1-9]|[12][0-9]|3[01])",
    "h": r"(?P<h>[0-9]|1[0-9]|2[0-3])",
    "AM": "(?P<half>AM|PM)",
    "am": "(?P<half>am|pm)",
}
_TOKEN = re.compile("YYYY|YY|Month|MONTH|month|Mon|MON|mon|AM|am|MM|DD|hh|mm|ss|M|D|h")
PIVOT = 69
"""Two digits of a year from these on are of the last century."""

_DAYS = [
    *(f"{y}{s}{m}{s}{d}" for s in "-/." for y, m, d in [("YYYY", "MM", "DD")]),
    *(
        f"{d}{s}{m}{s}YYYY"
        for s in ".-/"
        for d, m in [("DD", "MM"), ("D", "M"), ("DD", "M"), ("D", "MM")]
    ),
    *(
        f"{m}{s}{d}{s}YYYY"
        for s in "/-."
        for d, m in [("DD", "MM"), ("D", "M"), ("DD", "M"), ("D", "MM")]
    ),
    *(f"{d}{s}{m}{s}YYYY" for s in " -/" for d in ("DD", "D") for m in ("Mon", "MON", "Month")),
    *(f"{m} {d}{c} YYYY" for c in (",", "") for d in ("DD", "D") for m in ("Mon", "Month")),
]
_CLOCKS = ["hh:mm:ss", "hh:mm", "h:mm", "h:mm:ss"]
_HALVES = [
    f"{clock}{space}{half}" for space in (" ", "") for half in ("AM", "am") for clock in _CLOCKS
]
_ENDS = (
    "Z",
    "+00:00",
    " UTC",
    *(f".{'0' * n}{zone}" for n in (3, 6, 1, 7) for zone in ("", "Z", "+00:00")),
)
"""What programs write after the seconds that is the same in every row."""
CANDIDATES: dict[str, list[str]] = {
    "date": _DAYS,
    "time": [*_CLOCKS, *_HALVES],
    "timestamp": [
        *(f"{d}{j}{c}" for d in [*_DAYS, "YYYYMMDD"] for j in (" ", "T") for c in _CLOCKS),
        *(f"{d} {c}" for d in _DAYS for c in _HALVES),
        *(f"YYYY-MM-DD{j}hh:mm:ss{end}" for j in "T " for end in _ENDS),
    ],
}
"""The forms that are recognised, per kind, most usual first."""
_WORD = re.compile(r"[^\W\d_]{3}")
"""Letters enough for the name of a month."""
SHORT = [
    f"{a}{s}{b}{s}YY"
    for s in "./-"
    for days in (("DD", "MM"), ("D", "M"))
    for a, b in (days, days[::-1])
]
"""Forms of dates that leave the century open: told, but taken only when a layout says so."""


def check_form(kind: str, form: str) -> None:
    """Raises ValueError when a form cannot spell a value of its kind."""
    fields = set(re.findall(r"\?P<(\w+)>", pattern(form)))
    year = fields & {"Y", "y"}
    day, clock = bool(year and "D" in fields and fields & {"M", "N"}), {"h", "m"} <= fields
    if {
        "date": not day or clock,
        "time": not clock or bool(year),
        "timestamp": not (day and clock),
    }[kind]:
        raise ValueError(
            f'"{form}" is not a form of a {kind}; the tokens are YYYY YY MM M DD D Mon MON Month '
            "hh h mm ss AM am; names of months in another language want that at the end, as in "
            "D. Month YYYY [de]"
        )


@lru_cache(maxsize=512)
def pattern(form: str) -> str:
    """The regular expression (RE2 and Python) of a form, with one named group per field."""
    out, at = "", 0
    form, language = language_of(form)
    for found in _TOKEN.finditer(form):
        if found[0] in CASES:
            names = "|".join(map(re.escape, month_names(found[0], language)))
        shape = f"(?P<N>{names})" if found[0] in CASES else _TOKENS[found[0]]
        out += re.escape(form[at : found.start()]) + shape
        at = found.end()
    return "^" + out + re.escape(form[at:]) + "$"


def read_moments(texts: pa.StringArray, kind: str, form: str) -> pa.Array:
    """The values of texts in a form; null where a text is null, spelled otherwise or no day of the
    calendar."""
    read = _fixed_fields(texts, form)
    if read is not None:
        names, found = {*read}, np.ones(len(texts), bool)
    else:
        fields = pc.extract_regex(texts, pattern(form))
        names, found = (
            {f.name for f in fields.type},
            fields.is_valid().to_numpy(zero_copy_only=False),
        )

    def number(name: str, usual: int) -> np.ndarray:
        if read is not None and name in read:
            return read[name]
        if name not in names:
            return np.full(len(texts), usual)
        texts_ = fields.field(name)
        numbers: np.ndarray = pc.cast(
            pc.if_else(pa.array(found), texts_, str(usual)), pa.int64()
        ).to_numpy(zero_copy_only=False)
        return numbers

    if "N" in names:
        plain, language = language_of(form)
        token = next(t for t in _TOKEN.findall(plain) if t in CASES)
        known = pa.array(month_names(token, language))
        month = pc.index_in(fields.field("N"), known).fill_null(0).to_numpy() + 1
    else:
        month = number("M", 1)
    year, day = number("Y", 1970), number("D", 1)
    if "y" in names:
        year = number("y", 70)
        year = np.where(year < PIVOT, 2000, 1900) + year
    hour, minute, second = number("h", 0), number("m", 0), number("s", 0)
    if "half" in names:  # 12 AM is the first hour of the day
        late = (
            pc.starts_with(pc.utf8_upper(fields.field("half")), "P")
            .fill_null(False)
            .to_numpy(zero_copy_only=False)
        )
        hour = np.where((hour >= 1) & (hour <= 12), hour % 12 + 12 * late, 24)
    month_start = (year - 1970) * 12 + np.clip(month, 1, 12) - 1
    days = month_start.astype("datetime64[M]").astype("datetime64[D]").astype(np.int64) + day - 1
    month_end = (month_start + 1).astype("datetime64[M]").astype("datetime64[D]").astype(np.int64)
    right = found & (month >= 1) & (month <= 12) & (day >= 1) & (days < month_end)
    right &= (hour < 24) & (minute < 60) & (second < 60)
    clock = hour * 3600 + minute * 60 + second
    if kind == "date":
        return pa.array(days.astype(np.int32), pa.int32(), mask=~right).cast(pa.date32())
    if kind == "time":
        return pa.array(clock.astype(np.int32), pa.int32(), mask=~right).cast(pa.time32("s"))
    return pa.array(days * 86400 + clock, pa.int64(), mask=~right).cast(pa.timestamp("s"))


_FIXED = {"YYYY": "Y", "YY": "y", "MM": "M", "DD": "D", "hh": "h", "mm": "m", "ss": "s"}
"""Tokens of digits that always have their places, and the fields that they are."""


def _fixed_fields(texts: pa.StringArray, form: str) -> dict[str, np.ndarray] | None:
    """The numbers of each field (int64), by their bytes: much faster than by an expression. None
    where the form has other tokens, a text is null or one does not fit."""
    parts = pieces(form)
    if (
        texts.null_count
        or not len(texts)
        or any(_TOKEN.fullmatch(p) and p not in _FIXED for p in parts)
    ):
        return None
    offsets, cells = bytes_of(texts)
    if language_of(form)[1] or not form.isascii() or (np.diff(offsets) != len(form)).any():
        return None
    cells = cells.reshape(len(texts), len(form))
    out: dict[str, np.ndarray] = {}
    at = 0
    for part in parts:
        here = cells[:, at : at + len(part)]
        at += len(part)
        if part not in _FIXED:
            if (here != np.frombuffer(part.encode(), np.uint8)).any():
                return None
            continue
        digits = here - np.uint8(ord("0"))
        if (digits > 9).any():
            return None
        number = np.zeros(len(texts), np.int64)
        for i in range(len(part)):
            number = number * 10 + digits[:, i]
        out[_FIXED[part]] = number
    return out


def pieces(form: str) -> list[str]:
    """A form without its language, cut into its tokens and what is between them."""
    return [p for p in re.split(f"({_TOKEN.pattern})", language_of(form)[0]) if p]


def plausible(texts: pa.StringArray, kind: str) -> list[str]:
    """The forms that every text fits. `kind` may be "short", for dates that leave the century
    open."""
    first = (texts[0].as_py() if len(texts) else "") or ""
    kind, forms = (
        ("date", SHORT) if kind == "short" else (kind, _marked(kind).get(_marks(first), ()))
    )
    if kind != "time" and _WORD.search(first):
        named = [f for f in forms_of(first) if ("hh" in f) == (kind == "timestamp")]
        forms = [*forms, *(f for f in named if f not in forms)]
    return [
        f
        for f in forms
        if re.search(pattern(f), first)
        and not read_moments(texts.slice(0, 50), kind, f).null_count
        and not read_moments(texts, kind, f).null_count
    ]


@lru_cache
def _marked(kind: str) -> dict[str, list[str]]:
    """The forms of a kind by what is between their numbers and words."""
    out: dict[str, list[str]] = {}
    for form in CANDIDATES[kind]:
        out.setdefault(_marks(form), []).append(form)
    return out


def _marks(text: str) -> str:
    """What is between the numbers and words of a text, or of a form."""
    return re.sub("[0-9A-Za-z]", "", text)
