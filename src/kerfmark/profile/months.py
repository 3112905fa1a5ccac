"""The names of the months in European languages, which `tools/make_months.py` has gathered.

A form of dates says its language at its end: `D. Month YYYY [de]`, `DD-Mon-YYYY [fr.]`. What
follows the two letters is a way of spelling short names: `.` with their points, `2` as spreadsheet
programs write them, `3` the first three letters, `1` as they are written alone.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Mapping
from functools import lru_cache
from importlib.resources import files

MONTHS = (
    "january",
    "february",
    "march",
    "april",
    "may",
    "june",
    "july",
    "august",
    "september",
    "october",
    "november",
    "december",
)
ENGLISH = {"month": list(MONTHS), "mon": [m[:3] for m in MONTHS]}
CASES: Mapping[str, tuple[str, Callable[[str], str]]] = {
    "Month": ("month", str.capitalize),
    "month": ("month", str.lower),
    "MONTH": ("month", str.upper),
    "Mon": ("mon", str.capitalize),
    "mon": ("mon", str.lower),
    "MON": ("mon", str.upper),
}
"""The tokens of names: of which list, and in which case."""
_LANGUAGE = re.compile(r" \[([a-z]{2}[.123]?)\]$")


@lru_cache
def languages() -> dict[str, dict[str, list[str]]]:
    """By language (and spelling) the full and the short names, in lower case; "" is English."""
    known: dict[str, dict[str, list[str]]] = json.loads(
        files("kerfmark.profile").joinpath("months.json").read_text("utf-8")
    )
    return {"": ENGLISH} | known


def language_of(form: str) -> tuple[str, str]:
    """A form without its language, and that; "" for English.

    Raises ValueError for a language whose months are not known.
    """
    found = _LANGUAGE.search(form)
    if found is None:
        return form, ""
    if found[1] not in languages():
        raise ValueError(
            f'the months of "{found[1]}" are not known; known are {", ".join(languages())[2:]}'
        )
    return form[: found.start()], found[1]


def month_names(token: str, language: str) -> list[str]:
    """The names that a token such as `Month` or `MON` means, January first.

    Raises ValueError where a language has no such list.
    """
    kind, case = CASES[token]
    lists = languages()[language]
    if kind not in lists:
        raise ValueError(f'"{language}" has no {token}: only {", ".join(lists)}')
    return [case(name) for name in lists[kind]]


@lru_cache
def _named() -> dict[str, list[tuple[str, str]]]:
    """By name, in lower case, the languages that have it, and in which list."""
    out: dict[str, list[tuple[str, str]]] = {}
    for language, lists in languages().items():
        for kind, names in lists.items():
            for name in names:
                out.setdefault(name, []).append((language, kind))
    return out


def forms_of(text: str) -> list[str]:
    """The forms, with their languages, of a text that names a month: `3. März 2040`."""
    out: list[str] = []
    for word in re.finditer(r"[^\W\d_]+\.?", text):
        for name in (word[0], word[0].rstrip(".")):
            for language, kind in _named().get(name.lower(), ()):
                for token, (of, case) in CASES.items():
                    if of == kind and case(name) == name:
                        before, after = text[: word.start()], text[word.start() + len(name) :]
                        out += _forms(before, token, after, language)
    return list(dict.fromkeys(out))


def _forms(before: str, token: str, after: str, language: str) -> list[str]:
    """The forms of a text around the name of a month."""
    end = f" [{language}]" if language else ""
    if re.search(r"[DMYhms]|am|AM|mon", re.sub(r"\d", "", before + after)):
        return []  # it would be taken for a token
    out = []
    for day in ("DD", "D"):
        parts = []
        for part in (before, after):
            said = re.sub(r"\b\d{1,2}:\d{2}:\d{2}\b", "hh:mm:ss", part)
            said = re.sub(r"\b\d{1,2}:\d{2}\b", "hh:mm", said)
            said = re.sub(r"\b\d{4}\b", "YYYY", said)
            parts.append(re.sub(r"\b\d{1,2}\b", day, said))
        form = parts[0] + token + parts[1]
        if form.count("YYYY") == 1 and len(re.findall(r"D+", form)) == 1 and form.count("hh") < 2:
            out.append(form + end)
    return out
