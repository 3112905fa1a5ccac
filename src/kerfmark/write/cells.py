"""Cells that a spreadsheet will not run, and that come back as they were.

A spreadsheet takes a cell that begins with one of `= + - @`, a tab or a carriage return for a
formula. Such a cell, unless it is a plain number, is written with an apostrophe before it; so is
one that has apostrophes before such a character already, so that taking one away always gives back
what was there.
"""

from __future__ import annotations

import re
from collections.abc import Collection

import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.read.set_aside import RISKY

_NUMBER = r"-?[0-9]+([.,][0-9]+)*"


def harmless(text: str) -> str:
    """A cell that no spreadsheet takes for a formula; `read.set_aside` takes the apostrophe away
    again."""
    return "'" + text if re.match(RISKY, text) and not re.fullmatch(_NUMBER, text) else text


def risky(texts: pa.StringArray) -> pa.BooleanArray:
    """Which texts a spreadsheet could take for a formula, or look like one that was made
    harmless."""
    begins = pc.match_substring_regex(texts, "^" + RISKY)
    if not pc.any(begins).as_py():
        return begins
    return pc.and_not(begins, pc.match_substring_regex(texts, f"^{_NUMBER}$"))


def all_harmless(texts: pa.StringArray) -> pa.StringArray:
    """`harmless`, for many."""
    where = risky(texts)
    return (
        pc.if_else(where, pc.binary_join_element_wise("'", texts, ""), texts)
        if pc.any(where).as_py()
        else texts
    )


def sheet_name(name: str, taken: Collection[str]) -> str:
    """What the sheet for something is called: sheets take short names only, and no two the same,
    whatever the case."""
    plain = "".join("_" if c in "[]:*?/\\" else c for c in name).strip("'")[:31] or "table"
    out, others, n = plain, {"history", *(t.lower() for t in taken)}, 2
    while out.lower() in others:
        out, n = f"{plain[:27]}~{n}", n + 1
    return out
