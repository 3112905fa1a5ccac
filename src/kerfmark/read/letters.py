"""Which of the code pages that office programs write a text is in, told by its letters.

How often which letter follows which in some forty languages is in a file beside this one (made by
`tools/make_letters.py`). A code page is held against the languages that are written in it: the
likelihood of all letters beyond ASCII after what is before them (a Markov chain of characters,
as in T. Dunning, Statistical Identification of Language, 1994). The most likely page is taken, the
Western one having the advantage; another one that is nearly as likely is a doubt.
"""

from __future__ import annotations

import functools
import json
import math
import re
from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from importlib.resources import files
from unicodedata import category

WESTERN = "cp1252"
_WEST = ("en", "fr", "de", "es", "pt", "ca", "it", "nl", "sv", "da", "nb", "fi", "is", "et", "sq")
_CENTRAL = ("pl", "cs", "sk", "hu", "sl", "hr", "ro", "sq", "de")
_CYRILLIC = ("ru", "uk", "be", "bg", "sr", "mk")
LANGUAGES: Mapping[str, tuple[str, ...]] = {
    WESTERN: _WEST,
    "cp1250": _CENTRAL,
    "cp1251": _CYRILLIC,
    "cp1253": ("el",),
    "cp1254": ("tr",),
    "cp1255": ("he",),
    "cp1256": ("ar", "fa"),
    "cp1257": ("lt", "lv", "et"),
    "cp1258": ("vi",),
    "cp874": ("th",),
    "cp932": ("ja",),
    "gb18030": ("zh",),
    "big5": ("zh_Hant",),
    "cp949": ("ko",),
    "iso8859-15": _WEST,
    "iso8859-2": _CENTRAL,
    "iso8859-7": ("el",),
    "cp850": _WEST,
    "cp852": _CENTRAL,
    "cp866": _CYRILLIC,
    "koi8-r": ("ru",),
    "koi8-u": ("ru", "uk"),
    "mac-roman": _WEST,
    "euc-jp": ("ja",),
}
"""The code pages that are found by themselves, with the languages they are written for."""
_WINDOWS = frozenset(list(LANGUAGES)[1:14])
ADVANTAGE, OLD = 3.0, 6.0
"""By how much (in nats) the Western page may be less likely than one of the other pages of today,
and than one of older systems."""
CLEAR = 6.0
"""Nats by which the likelihoods of two pages differ where there is no doubt."""
MOST_TEXTS, MOST_BYTES = 400, 200
"""Different cells that are looked at, and bytes of each."""
MOST_OTHERS = 2
_CELL_ENDS = re.compile(rb'[,;\t"\r\n]+')
"""What ends a cell in every encoding: none of these is the second byte of a letter in any."""
_EDGE = "^"
_ALONE = frozenset(("ja", "ko", "zh", "zh_Hant"))
"""Languages with so many letters that only the letter itself is looked at."""
_UNKNOWN = math.log(1e-6)
_ODD_CASE, _OTHER_SCRIPT = math.log(1e-3), math.log(1e-4)
_RARE, _ODD = math.log(1e-3), math.log(6e-6)
_IN_TEXT, _IN_NUMBERS = math.log(0.012), math.log(0.01)


@dataclass(frozen=True)
class Spelling:
    """A code page, and how examples read in it."""

    encoding: str
    examples: tuple[str, ...]


@dataclass(frozen=True)
class Guess:
    """The encoding that is most likely, and others that are nearly so, each with the same examples
    (those that read differently). `cells` are what it was told by; without any it is sure. It
    `is_plain` where all is ASCII, which reads the same in any."""

    encoding: str
    examples: tuple[str, ...] = ()
    others: tuple[Spelling, ...] = ()
    cells: tuple[bytes, ...] = ()
    is_plain: bool = False


@dataclass(frozen=True)
class _Language:
    letters: Mapping[str, int]
    pairs: Mapping[str, int]
    total: int


@functools.cache
def _languages() -> dict[str, _Language]:
    text = (files("kerfmark.read") / "letters.json").read_text(encoding="utf-8")
    return {
        name: _Language(letters, pairs, sum(letters.values()))
        for name, (letters, pairs) in json.loads(text).items()
    }


def cells_beyond_ascii(data: bytes) -> set[bytes]:
    """The different cells of a delimited text with some byte beyond ASCII."""
    return {cell.strip()[:MOST_BYTES] for cell in _CELL_ENDS.split(data) if not cell.isascii()}


def guess_code_page(cells: Iterable[bytes]) -> Guess:
    """The code page in which cells are most likely text; each counts once, however often it is
    there."""
    some = sorted(set(cells))
    some = some[:: -(-len(some) // MOST_TEXTS)] if some else some
    ranked: list[tuple[float, str, list[str]]] = []
    for page in LANGUAGES:
        try:
            texts = [cell.decode(page) for cell in some]
        except UnicodeDecodeError:
            continue
        seen = "".join(texts)
        if not any("\x80" <= c <= "\x9f" or "\ue000" <= c <= "\uf8ff" for c in seen):
            ranked.append((_likelihood(page, texts), page, texts))
    if not ranked:
        return Guess(WESTERN, cells=tuple(some))
    ranked.sort(key=lambda r: -r[0])
    best, page, texts = ranked[0]
    others: dict[tuple[str, ...], Spelling] = {}
    differing: list[int] = []
    for score, other, spelled in ranked[1:]:
        differs = [i for i, (a, b) in enumerate(zip(texts, spelled, strict=True)) if a != b]
        if not differs or best - score >= CLEAR or tuple(spelled) in others:
            continue
        differing = differing or differs[:3]
        others[tuple(spelled)] = Spelling(other, tuple(spelled[i] for i in differing))
    return Guess(
        page, tuple(texts[i] for i in differing), tuple(others.values())[:MOST_OTHERS], tuple(some)
    )


def spelled(cells: Iterable[bytes], encoding: str) -> tuple[str, ...] | None:
    """How cells read in an encoding; None where some do not."""
    try:
        return tuple(cell.decode(encoding) for cell in cells)
    except UnicodeDecodeError:
        return None


def quoted(some: Iterable[str]) -> str:
    """Texts in quotes, one after the other."""
    return ", ".join(f'"{one}"' for one in some)


def _likelihood(page: str, texts: list[str]) -> float:
    """How likely texts are (as a logarithm) in the language of a page in which they are most so."""
    pairs: Counter[tuple[str, str]] = Counter()
    same = 0.0
    for text in texts:
        same += _letters(text, pairs)
    lead = 0.0 if page == WESTERN else ADVANTAGE if page in _WINDOWS else OLD
    return same - lead + max(_of_language(name, pairs) for name in LANGUAGES[page])


def _letters(text: str, pairs: Counter[tuple[str, str]]) -> float:
    """Counts the pairs of letters with one beyond ASCII; what says the same in every language is
    returned: the likelihood of symbols, odd cases and mixed scripts."""
    out, last = 0.0, _EDGE
    for i, char in enumerate(f"{text}{_EDGE}"):
        low = char.lower()[:1]
        letter = low if category(low)[0] in "LM" and char not in "ºª" else ""
        before, after = text[i - 1 : i] if i else "", text[i + 1 : i + 2]
        if char.isascii():
            if not last.isascii():
                pairs[last, letter or _EDGE] += 1
        elif not letter:
            out += _symbol(char, before, after)
        else:
            pairs[last, letter] += 1
            out += _odd_letter(char, before, after)
        last = letter or _EDGE
    return out


def _odd_letter(char: str, before: str, after: str) -> float:
    """The likelihood of the case of a letter among its neighbours, and of its script."""
    out = 0.0
    if char.isupper() and before.islower():
        out += _ODD_CASE
    elif char.isupper() and before.isupper() and after.islower():
        out += _ODD_CASE / 2
    elif char.islower() and before.isupper() and after.isupper():
        out += _ODD_CASE
    latin = char < "\u0250" or "\u1e00" <= char <= "\u1eff" or char == "\u2019"
    for other in (before, after):
        if other.isalpha() and other.isascii() and not latin and category(char)[0] == "L":
            out += _OTHER_SCRIPT
    if after and after in "{|}~[]^`@\\":  # as the second byte of a letter of two
        out += _ODD_CASE
    return out


def _symbol(char: str, before: str, after: str) -> float:
    """The likelihood of a character that is not a letter, between its neighbours."""
    inside = before.isalpha() and after.isalpha()
    if after and after in "{|}~[]^`@\\":
        return _ODD
    if char == "’":
        return _IN_TEXT if before.isalpha() else _RARE
    if char in "“”„«»‘–—…•·\u00a0":
        return _ODD if inside else _IN_NUMBERS
    if char in "ºª°":
        return _ODD if after.islower() else _IN_TEXT if not before.isalpha() else _RARE
    if char in "²³":
        return _IN_NUMBERS if before.isalpha() and not after.isalpha() else _ODD
    if char in "€£":
        return _ODD if before.isalpha() or after.isalpha() else _IN_NUMBERS
    if char in "½¼¾×±µ§¿¡":
        return _ODD if before.isalpha() else _RARE
    return (_ODD if inside else _RARE) if char in "™®©№" else _UNKNOWN


def _of_language(name: str, pairs: Mapping[tuple[str, str], int]) -> float:
    """The likelihood of pairs of letters in a language."""
    own, out = _languages()[name], 0.0
    for (before, letter), times in pairs.items():
        if name in _ALONE:
            seen = own.letters.get(letter, 0) + 0.02
            share = 0.05 if letter.isascii() else seen / own.total
        else:
            alone = (own.letters.get(letter, 0) + 0.01) / own.total
            share = (own.pairs.get(before + letter, 0) + 5 * alone) / (
                own.letters.get(before, 0) + 5
            )
        out += times * math.log(share)
    return out
