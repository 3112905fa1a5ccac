"""Makes `read/letters.json`: how often which letters follow which in the languages that 8-bit files
are written in.

The words are the names of languages, countries, months, currencies and units of the Unicode
Consortium's Common Locale Data Repository (Unicode License v3), as the library babel brings them,
and common words and names of `letter_words.txt`, which count three times. Pairs of ASCII letters
are left out: they are the same in every encoding.

    python tools/make_letters.py
"""

from __future__ import annotations

import json
import unicodedata
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from babel import localedata

HERE = Path(__file__).parent
TARGET = HERE.parent / "src/kerfmark/read/letters.json"
PARTS = (
    *("languages", "territories", "scripts", "months", "days", "currency_names", "variants"),
    *("currency_names_plural", "time_zones", "meta_zones", "unit_display_names", "unit_patterns"),
    *("eras", "date_fields", "quarters", "day_periods"),
)
LANGUAGES = (
    *("en", "fr", "de", "es", "pt", "ca", "it", "nl", "sv", "da", "nb", "fi", "is", "et", "sq"),
    *("pl", "cs", "sk", "hu", "sl", "hr", "ro", "tr", "lt", "lv", "ru", "uk", "be", "bg", "sr"),
    *("mk", "el", "he", "ar", "fa", "vi", "th", "ja", "ko", "zh", "zh_Hant"),
)
ALIKE = frozenset(("ru", "uk", "be", "bg", "sr", "mk", "ar", "fa", "ja", "zh", "zh_Hant"))
"""Languages that write many names as their neighbours do."""
FOREIGN = 8
"""A word that so many languages have is a name from elsewhere."""
COMMON = 3


def texts(part: Any) -> Iterator[str]:
    """All texts in a part of a locale's data."""
    if isinstance(part, str):
        yield part
    elif hasattr(part, "items"):
        for _, value in part.items():
            yield from texts(value)
    elif isinstance(part, list | tuple):
        for value in part:
            yield from texts(value)


def words_of(text: str) -> list[str]:
    """The words of a text: letters with their marks."""
    return "".join(
        c if unicodedata.category(c)[0] in "LM" or c == "’" else " " for c in text
    ).split()


def locale_words(language: str) -> set[str]:
    """The words of a locale, in small letters."""
    data = localedata.load(language)
    return {
        word.lower()
        for part in PARTS
        if part in data
        for text in texts(data[part])
        for word in words_of(text)
    }


def common_words() -> dict[str, list[str]]:
    """The words of our own list."""
    out: dict[str, list[str]] = {}
    for line in (HERE / "letter_words.txt").read_text(encoding="utf-8").splitlines():
        if line.startswith("["):
            words = out.setdefault(line.strip("[]"), [])
        else:
            words += line.lower().split()
    return out


def main() -> None:
    """Writes the file."""
    of, common = {name: locale_words(name) for name in LANGUAGES}, common_words()
    known = Counter(word for words in of.values() for word in words)
    lines = []
    for name in LANGUAGES:
        weights = {
            word: 1 for word in of[name] if known[word] < FOREIGN or name in ALIKE or word.isascii()
        }
        for word in common.get(name, ()):
            weights[word] = weights.get(word, 0) + COMMON
        letters: Counter[str] = Counter()
        pairs: Counter[str] = Counter()
        for word, weight in weights.items():
            for before, letter in zip(f"^{word}", f"{word}^", strict=True):
                letters[letter] += weight
                if not (before + letter).isascii():
                    pairs[before + letter] += weight
        found = [dict(sorted(letters.items())), dict(sorted(pairs.items()))]
        lines.append(f"{json.dumps(name)}: {json.dumps(found, ensure_ascii=False)}")
    TARGET.write_text("{" + ",\n".join(lines) + "}\n", encoding="utf-8")


if __name__ == "__main__":
    main()
