"""What headers say: their words, whether they look like identifiers, and which belong to the same
thing."""

from __future__ import annotations

import re
import unicodedata
from functools import lru_cache

from kerfmark.layout.names import singular

KEY_WORDS = frozenset(
    {
        "id",
        "code",
        "cd",
        "no",
        "nr",
        "num",
        "number",
        "ref",
        "key",
        "tag",
        "sku",
        "isbn",
        "ean",
        "uuid",
        "nummer",
        "reference",
    }
)
"""Last words of headers that identify things."""
REACH_WORDS = frozenset(
    {
        "phone",
        "telephone",
        "tel",
        "mobile",
        "fax",
        "email",
        "mail",
        "address",
        "street",
        "website",
        "url",
        "grid",
    }
)
"""Words for how or where something is reached: often unique, but not what it is known by."""
NAME_WORDS = frozenset(["name", "nm", "title", "label", "description"])

_CAMEL = re.compile(
    r"(?<=[A-Za-z0-9][a-z])(?=[A-Z])|(?<=[0-9])(?=[A-Z][a-z])|(?<=[A-Za-z])(?=[0-9]+$)"
)


def words(header: str) -> list[str]:
    """The words of a header in lower case: `KeeperPhone` and `keeper_phone` are both keeper,
    phone."""
    return list(_words(header))


@lru_cache(maxsize=65_536)
def _words(header: str) -> tuple[str, ...]:
    plain = unicodedata.normalize("NFKD", header.replace("ß", "ss"))
    plain = "".join(c for c in plain if not unicodedata.combining(c))
    return tuple(w.lower() for w in re.split(r"[\W_]+", _CAMEL.sub(" ", plain)) if w)


def looks_like_key(header: str) -> bool:
    """Whether a header ends like that of an identifier: `hive no`, `KeeperID`, `ref`."""
    said = words(header)
    return bool(said) and (said[-1] in KEY_WORDS or header.rstrip().endswith("#"))


def reaches_things(header: str) -> bool:
    """Whether a header names a phone, an address and the like."""
    return bool(REACH_WORDS & set(words(header)))


def names_things(header: str) -> bool:
    """Whether a header ends like that of a name: `Keeper Name`, `Title`."""
    said = words(header)
    return bool(said) and said[-1] in NAME_WORDS


def stem(header: str) -> list[str]:
    """The words of a header without those that only say that it is a key or a name."""
    said = words(header)
    while len(said) > 1 and said[-1] in KEY_WORDS | NAME_WORDS:
        said.pop()
    return said


def called_like(header: str, source: str) -> bool:
    """Whether a header is the name of what a source holds: `hive` or `Hive No` in a sheet of
    hives."""
    return singular("_".join(stem(header))) == singular("_".join(words(source)))


def share_words(header: str, other: str) -> bool:
    """Whether two headers have a word in common."""
    return bool(set(words(header)) & set(words(other)))


def share_stem(header: str, key: str) -> bool:
    """Whether a header starts with the stem of a key's header: `keeper phone` with `Keeper
    Name`."""
    start = stem(key)
    said = words(header)
    return (
        bool(start) and said[: len(start)] == start and not (set(start) <= KEY_WORDS | NAME_WORDS)
    )


@lru_cache(maxsize=65_536)
def helpful(header: str) -> bool:
    """Whether a header says anything at all (`F1`, `Code` and `column 3` do not)."""
    said = stem(header)
    return not (
        re.fullmatch(r"([a-z]|field|column|col|spalte)?\d*", "".join(said))
        or set(said) <= KEY_WORDS | NAME_WORDS
    )
