"""Cells that a spreadsheet will not run, and that come back as they were.

A spreadsheet takes a cell that begins with one of `= + - @`, a tab or a carriage return for a formula. Such a cell, unless it
is a plain number, is written with an apostrophe before it; so is one that has apostrophes before such a character already, so
that taking one away always gives back what was there.
"""

from __future__ import annotations

import re

_RISKY = re.compile(r"'*[=+\-@\t\r]")
_NUMBER = re.compile(r"-?[0-9]+([.,][0-9]+)*")


def harmless(text: str) -> str:
    """A cell that no spreadsheet takes for a formula; `read.mended` takes the apostrophe away again."""
    return "'" + text if _RISKY.match(text) and not _NUMBER.fullmatch(text) else text
