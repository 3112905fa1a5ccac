"""Ranges of cells as people write them (`C5:H200`), and the areas that they refer to."""

from __future__ import annotations

import re
from dataclasses import dataclass

RANGE = re.compile(
    r"(?:(?P<sheet>'(?:[^']|'')+'|[^!]+)!)?\$?(?P<left>[A-Za-z]{1,3})\$?(?P<top>\d+)"
    r":\$?(?P<right>[A-Za-z]{1,3})\$?(?P<bottom>\d+)$"
)


@dataclass(frozen=True)
class Area:
    """A rectangle of a sheet; rows and columns are counted from 0, the ends excluded."""

    top: int = 0
    left: int = 0
    bottom: int | None = None
    right: int | None = None


def column_number(letters: str) -> int:
    """The number of a column, from 0."""
    number = 0
    for letter in letters.upper():
        number = number * 26 + ord(letter) - 64
    return number - 1


def column_letters(column: int) -> str:
    """The letters of a column counted from 0."""
    out, column = "", column + 1
    while column:
        column, rest = divmod(column - 1, 26)
        out = chr(65 + rest) + out
    return out
