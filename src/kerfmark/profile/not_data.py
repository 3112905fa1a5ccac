"""Rows of a source that are not data: repeats of its header (as at the top of each printed page),
notes below the table, and totals and sub-totals; and cells that are left blank below the same."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Literal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.profile.codes import distinct
from kerfmark.profile.columns import EncodedColumn

Kind = Literal["headers", "notes", "totals", "duplicates"]
SAID: Mapping[Kind, str] = {
    "headers": "repeats the header",
    "notes": "looks like a note below the table, not data",
    "totals": "looks like a row of totals, not of data",
    "duplicates": "is the same as an earlier row in every column",
}
"""What is told of the rows of each kind."""
MOST_AT_THE_END = 60
"""Rows at the end of a source among which notes are looked for."""
USUALLY_FILLED = 0.9
"""The share of its rows in which a column is filled that a row of totals leaves blank."""
LOOKED_AT = 3
"""The first columns, in which a row says that it is one of totals."""
MOST_WITHOUT_A_WORD = 3
"""Rows at the end that may be totals though they do not say so."""
BLANK_IN_GROUPS = 0.3
"""The share of rows in which the columns of a group are blank."""
_NUMBERED = re.compile(r" \(\d+\)$")
_TOTAL = (
    r"(?i)^\W*((grand |sub[- ]?)?(total|sum)s?|(zwischen|gesamt)?summe|gesamt|insgesamt|totaal"
    r"|subtotaal|somme|sous-total|suma|totale|subtotale|totalt|celkem|razem|összesen|yhteensä|итого)\b"
)


def rows_not_data(columns: Sequence[EncodedColumn], rows: int) -> dict[Kind, np.ndarray]:
    """The rows (ascending) of each kind; each row is of one kind at most."""
    headers = repeated_headers(columns, rows)
    below = notes(columns, rows)
    sums = totals(columns, rows - len(below))
    sums = sums[~np.isin(sums, np.append(headers, below))]
    return {"headers": headers, "notes": below, "totals": sums}


def repeated_headers(columns: Sequence[EncodedColumn], rows: int) -> np.ndarray:
    """The rows in which every column that has a name holds it."""
    found: np.ndarray | None = None
    named = [c for c in columns if not re.fullmatch(r"column \d+", c.header)]
    for column in named:
        code = pc.index(column.values, _NUMBERED.sub("", column.header)).as_py()
        if code < 0:
            return np.empty(0, np.int64)
        here = column.codes == code if found is None else column.codes[found] == code
        found = np.flatnonzero(here) if found is None else found[here]
    return found if found is not None and len(named) > 1 else np.empty(0, np.int64)


def notes(columns: Sequence[EncodedColumn], rows: int) -> np.ndarray:
    """The rows at the end that have but one cell, a text with words, in a table whose other rows
    have more."""
    if len(columns) < 3 or rows < 2:
        return np.empty(0, np.int64)
    first = max(0, rows - MOST_AT_THE_END)
    filled = np.array([c.codes[first:] >= 0 for c in columns])
    count = filled.sum(axis=0)
    start = rows
    while start > first and count[start - 1 - first] == 1:
        column = columns[int(np.argmax(filled[:, start - 1 - first]))]
        text = column.values[int(column.codes[start - 1])].as_py()
        if not re.search(r"[^\W\d_]{2,}.*[\W_].*[^\W\d_]{2,}|^[*†#¹²³]", text):
            break
        start -= 1
    return np.arange(start, rows) if start > first else np.empty(0, np.int64)


def totals(columns: Sequence[EncodedColumn], rows: int) -> np.ndarray:
    """The rows (of the first so many) that say in their first word that they are totals, and lack
    what most others have; and those at the end whose numbers are the sums of all above."""
    out: list[np.ndarray] = []
    lacking = [
        np.flatnonzero(c.codes[:rows] < 0)
        for c in columns
        if rows / 2 < np.count_nonzero(c.codes[:rows] >= 0) < rows
    ]
    some = distinct(np.concatenate(lacking)) if lacking else np.empty(0, np.int64)
    for column in columns[:LOOKED_AT] if len(some) else ():
        here = some[column.codes[some] >= 0]
        says = pc.match_substring_regex(column.values.take(pa.array(column.codes[here])), _TOTAL)
        out.append(here[says.to_numpy(zero_copy_only=False)])
    for row in range(rows - 1, max(rows - 1 - MOST_WITHOUT_A_WORD, 2), -1):
        if not _is_sum(columns, row):
            break
        out.append(np.array([row]))
    return distinct(np.concatenate(out)) if out else np.empty(0, np.int64)


def group_once(columns: Sequence[EncodedColumn], rows: int) -> list[EncodedColumn]:
    """The columns that are filled in the first row of each group of rows at most, the first of them
    each time with something else, where some other column is filled in nearly all rows."""
    if rows < 4 or len(columns) < 2:
        return []
    blank = columns[0].codes < 0
    share, times = np.count_nonzero(blank) / rows, np.count_nonzero(~blank)
    groups = np.count_nonzero(blank[1:] & ~blank[:-1])
    if blank[0] or share < BLANK_IN_GROUPS or groups < 2 or len(columns[0].values) < 0.9 * times:
        return []
    alike = [c for c in columns if len(c.values) and not np.any((c.codes >= 0) & blank)]
    details = [c for c in columns if np.count_nonzero(c.codes >= 0) >= USUALLY_FILLED * rows]
    return alike if details else []


def _is_sum(columns: Sequence[EncodedColumn], row: int) -> bool:
    """Whether a row of numbers alone lacks what the others have, and some number is the sum of
    those above it."""
    cells = [c for c in columns if c.codes[row] >= 0]
    if len(cells) == len(columns) or not all(
        re.fullmatch(r"[-\d.,\s]+", c.values[int(c.codes[row])].as_py()) for c in cells
    ):
        return False
    blank = [
        c
        for c in columns
        if c.codes[row] < 0 and np.count_nonzero(c.codes[:row] >= 0) > USUALLY_FILLED * row
    ]
    for column in cells if blank else []:
        codes = column.codes[: row + 1]
        texts = column.values.take(pa.array(codes[codes >= 0]))
        try:
            numbers = pc.cast(pc.replace_substring(texts, ",", "."), pa.float64()).to_numpy()
        except pa.ArrowInvalid:
            continue
        above, last = float(numbers[:-1].sum()), float(numbers[-1])
        if len(numbers) > 2 and last and abs(above - last) < 1e-6 * abs(last):
            return True
    return False
