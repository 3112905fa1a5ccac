"""Makes `profile/months.json`: the names of the months in European languages, of the Unicode
Consortium's Common Locale Data Repository (Unicode License v3), as the library babel brings them.

    python tools/make_months.py
"""

from __future__ import annotations

import json
from pathlib import Path

from babel.dates import get_month_names

LANGUAGES = (
    *("de", "fr", "es", "pt", "it", "nl", "da", "sv", "nb", "fi", "is", "et", "lv", "lt"),
    *("pl", "cs", "sk", "sl", "hr", "hu", "ro", "bg", "sr", "ru", "uk", "el", "tr", "ca"),
)
OUT = Path(__file__).parents[1] / "src/kerfmark/profile/months.json"


def names(width: str, context: str, language: str) -> list[str]:
    found = get_month_names(width, context, language)
    return [found[month].lower() for month in range(1, 13)]


def main() -> None:
    out: dict[str, dict[str, list[str]]] = {}
    for language in LANGUAGES:
        full = names("wide", "format", language)
        alone = names("wide", "stand-alone", language)
        short = names("abbreviated", "format", language)
        short_alone = names("abbreviated", "stand-alone", language)
        sets = {
            language: (full, [s.rstrip(".") for s in short]),
            f"{language}.": (full, short),
            f"{language}3": (full, [f[:3] for f in full]),
            f"{language}1": (alone, [s.rstrip(".") for s in short_alone]),
        }
        if language == "de":  # as spreadsheet programs write them
            sets["de2"] = (full, [f[:3].replace("mär", "mrz") for f in full])
        seen: list[list[str]] = []
        for name, (long, abbreviated) in sets.items():
            one = {}
            for kind, words in (("month", long), ("mon", abbreviated)):
                numbered = any(w[0].isdigit() for w in words)
                if words not in seen and len(set(words)) == 12 and not numbered:
                    one[kind] = words
                    seen.append(words)
            if one:
                out[name] = one
    lines = [f' "{name}": {json.dumps(lists, ensure_ascii=False)}' for name, lists in out.items()]
    OUT.write_text("{\n" + ",\n".join(lines) + "\n}\n")


if __name__ == "__main__":
    main()
