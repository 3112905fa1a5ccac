"""Names for tables and columns that every supported engine takes unquoted, made the same way each
time."""

from __future__ import annotations

import difflib
import re
import unicodedata
from collections.abc import Iterable

from kerfmark.engines import kept_columns, kept_tables
from kerfmark.own_tables import is_own
from kerfmark.profile.reserved import RESERVED

LONGEST = 60
"""Bytes: the shortest limit among the engines is 63."""

_HUMP = re.compile(
    r"(?<=[A-Za-z0-9][a-z])(?=[A-Z])|(?<=[0-9])(?=[A-Z][a-z])|(?<=[A-Z])(?=[A-Z][a-z])"
)
"""Where a word begins within another one; not after a single small letter (pH, kWh)."""


def snake(text: str) -> str:
    """A text as a name: `Seen on` becomes seen_on, `KeeperPhone` keeper_phone; empty when nothing
    is left."""
    plain = unicodedata.normalize("NFKD", text.replace("ß", "ss"))
    plain = "".join(c for c in plain if not unicodedata.combining(c))
    name = re.sub(r"[\W_]+", "_", _HUMP.sub("_", plain)).strip("_").lower()
    return name.encode()[:LONGEST].decode(errors="ignore").rstrip("_")


def singular(name: str) -> str:
    """The singular of an English plural; other words stay as they are."""
    if name.endswith(("species", "series", "news")):
        return name
    for ending, instead in (
        ("ies", "y"),
        ("sses", "ss"),
        ("xes", "x"),
        ("ches", "ch"),
        ("shes", "sh"),
    ):
        if name.endswith(ending) and len(name) > len(ending) + 1:
            return name[: -len(ending)] + instead
    return name[:-1] if re.search(r"[^siu]s$", name) and len(name) > 3 else name


def closest(word: str, known: Iterable[str]) -> str:
    """The name that was probably meant by a word, whatever its case; "" for none."""
    spelled = {k.lower(): k for k in known}
    near = difflib.get_close_matches(word.lower(), spelled, 1)
    return spelled[near[0]] if near else ""


def is_kept_back(table: str) -> bool:
    """Whether no table of a user may be called so: it is Kerfmark's or an engine's."""
    return is_own(table) or table.lower().startswith(kept_tables())


def is_reserved(name: str) -> bool:
    """Whether a name is a word that some engine keeps for its language."""
    return name in RESERVED


def _is_kept(name: str) -> bool:
    """Whether some engine takes a name for something of its own."""
    return name in RESERVED or name in kept_columns() or is_kept_back(name)


def free_name(wanted: str, taken: set[str], otherwise: str) -> str:
    """`wanted` unless it is empty, reserved or taken; then `otherwise`, numbered as far as need be.

    The name is added to `taken`.
    """
    name = wanted if wanted and not _is_kept(wanted) and not wanted[0].isdigit() else otherwise
    if is_kept_back(name):
        name = f"table_{name}"
    plain, n = name, 2
    while name in taken or _is_kept(name):
        name, n = f"{plain}_{n}", n + 1
    taken.add(name)
    return name
