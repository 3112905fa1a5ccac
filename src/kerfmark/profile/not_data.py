"""Rows of a source that are not data: repeats of its header (as at the top of each printed page),
notes below the table, and totals and sub-totals; and cells that are left blank below the same."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.profile.codes import distinct
from kerfmark.profile.columns import EncodedColumn
from kerfmark.read.source import Remark

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


@dataclass(frozen=True)
class GroupHeads:
    """Rows of a source as its first column has them: how many, how many of them blank in it, how
    many times a filled one is followed by a blank one, and whether the first is blank and the last
    filled."""

    rows: int
    blank: int
    groups: int
    begins_blank: bool
    ends_filled: bool

    @classmethod
    def of(cls, codes: np.ndarray) -> GroupHeads:
        """Of a column."""
        blank = codes < 0
        return cls(
            len(codes),
            int(np.count_nonzero(blank)),
            int(np.count_nonzero(blank[1:] & ~blank[:-1])),
            bool(len(blank) and blank[0]),
            bool(len(blank) and not blank[-1]),
        )

    def then(self, other: GroupHeads) -> GroupHeads:
        """With further rows after these."""
        if not self.rows or not other.rows:
            return other if not self.rows else self
        return GroupHeads(
            self.rows + other.rows,
            self.blank + other.blank,
            self.groups + other.groups + (self.ends_filled and other.begins_blank),
            self.begins_blank,
            other.ends_filled,
        )

    def show_groups(self, values: int) -> bool:
        """Whether the column, which has so many different values, is filled in the first row of
        each group, and each time with something else."""
        return (
            self.rows >= 4
            and not self.begins_blank
            and self.blank / self.rows >= BLANK_IN_GROUPS
            and self.groups >= 2
            and values >= 0.9 * (self.rows - self.blank)
        )


def cells_in_groups(columns: Sequence[EncodedColumn]) -> list[tuple[int, int]]:
    """For each column in how many rows it is filled, and in how many of those in which the first
    column is blank."""
    blank = columns[0].codes < 0
    filled = (c.codes >= 0 for c in columns)
    return [(int(np.count_nonzero(f)), int(np.count_nonzero(f & blank))) for f in filled]


def grouped_columns(rows: int, cells: Sequence[tuple[int, int]]) -> list[int]:
    """The columns, by position, that are filled where the first one is at most, where some other
    column is filled in nearly all rows; `cells`: see `cells_in_groups`."""
    alike = [i for i, (filled, beside) in enumerate(cells) if filled and not beside]
    return alike if any(filled >= USUALLY_FILLED * rows for filled, _ in cells) else []


def group_once(columns: Sequence[EncodedColumn], rows: int) -> list[EncodedColumn]:
    """The columns that are filled in the first row of each group of rows at most, the first of them
    each time with something else, where some other column is filled in nearly all rows."""
    if rows < 4 or len(columns) < 2:
        return []
    if not GroupHeads.of(columns[0].codes).show_groups(len(columns[0].values)):
        return []
    return [columns[i] for i in grouped_columns(rows, cells_in_groups(columns))]


def blank_below(headers: Sequence[str], rows: Sequence[int], count: int) -> Remark:
    """What is told of columns that are filled in the first row of each group only: `count` rows are
    blank, `rows` the first of them."""
    names = [f'"{h}"' for h in headers]
    return Remark(
        "doubtful",
        None,
        f"{', '.join(names)} {'is' if len(names) == 1 else 'are'} blank in rows that may belong "
        "to the row above",
        tuple(rows),
        count,
        f"if so, fill them: {' '.join(f'--fill-down {name}' for name in names)}",
        "below",
    )


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
