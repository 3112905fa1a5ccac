"""What merging new rows with a database comes to: new rows, changed and kept values, and who says
what. Plain data."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Protocol

import numpy as np
import pyarrow as pa

Numbers = Callable[[str, Sequence[pa.Array] | int], np.ndarray]
"""Numbers for new rows of a table: so many, or those with these natural keys."""


class Existing(Protocol):
    """What a database can be asked about the rows of its tables; rows are called by their
    numbers."""

    def match(self, table: str, columns: Mapping[str, pa.Array]) -> np.ndarray:
        """The row with these values in some columns, for each of many; -1 for none."""
        ...

    def count_matches(self, table: str, columns: Mapping[str, pa.Array]) -> np.ndarray:
        """How many rows have these values in some columns, for each of many."""
        ...

    def matching_rows(
        self, table: str, columns: Mapping[str, pa.Array]
    ) -> tuple[np.ndarray, np.ndarray]:
        """All rows that have these values in some columns, for each of many: which of these, and
        the row."""
        ...

    def differing(
        self, table: str, rows: np.ndarray, columns: Mapping[str, pa.Array]
    ) -> dict[str, np.ndarray]:
        """For each column, which of some rows have another value."""
        ...

    def texts(self, table: str, column: str, rows: Sequence[int]) -> dict[int, str | None]:
        """The values in a column of some rows, as text; "" for a blank."""
        ...

    def parent_rows(
        self, table: str, pairs: Sequence[tuple[str, str]], to: str, rows: Sequence[int]
    ) -> dict[int, int]:
        """The row of a parent that each of some rows leads to, by pairs of an own column and one of
        the parent's key; rows that refer to no record are missing."""
        ...

    def sample_texts(self, table: str, column: str, most: int) -> list[str]:
        """Values of a column, as text."""
        ...


@dataclass(frozen=True)
class Update:
    """New values for a column of some rows of a table."""

    table: str
    column: str
    rows: np.ndarray
    values: pa.Array


@dataclass
class TableCount:
    """What became of a table's records: how many are new, were known and are the same, were kept
    although they differ, got blanks filled, or were overwritten."""

    name: str
    added: int = 0
    known: int = 0
    kept: int = 0
    filled: int = 0
    overwritten: int = 0


@dataclass(frozen=True)
class Provenance:
    """Records of a table that these rows say, by the numbers of their rows (ascending), and their
    part in them (`role`, see `ledger.records`). `columns` are those of the database of which they
    say anything beside the natural key; None for all."""

    table: str
    rows: np.ndarray
    role: str
    columns: tuple[str, ...] | None = None


@dataclass(frozen=True)
class Known:
    """Rows of a source whose records were there already: the records as read, the number of the row
    of each, and whether it says something else that was not taken over."""

    records: np.ndarray
    rows: np.ndarray
    different: np.ndarray


@dataclass(frozen=True)
class OtherwiseSaid:
    """Cells of a source that say something else than the database, which keeps what it has: the
    header, the records as read, and where the database has the value: a table (with the numbers of
    its rows), the column of it ("": parts of the records), and, for a link, the table that it leads
    to."""

    source: str
    header: str
    records: np.ndarray
    table: str
    column: str
    rows: np.ndarray
    to: str = ""


@dataclass
class Merged:
    """What is to be done to a database: new rows by table (columns as the engine stores them, in
    order), and updates.

    `is_new` says of each record of a table whether it is new; `numbers` are those of its new rows;
    `kept` are values that differ from what is there, which stays, and `kept_parts` the records of a
    table whose parts (in another table) differ and stay, `replaced` those whose parts become
    others, and `removed` the rows of parts that go for that; `sayings` tell which records are said;
    `known` are, by source, the rows whose record was there already (`own` those with a new one,
    where these are not numbered in the order of the rows), and `otherwise` the cells that differ
    from what is kept; `said_in` tells the source, and the row of it (-1: only named elsewhere),
    that each new row comes from.
    """

    counts: list[TableCount] = field(default_factory=list)
    new: dict[str, pa.Table] = field(default_factory=dict)
    is_new: dict[str, np.ndarray] = field(default_factory=dict)
    numbers: dict[str, np.ndarray] = field(default_factory=dict)
    updates: list[Update] = field(default_factory=list)
    kept: list[Update] = field(default_factory=list)
    kept_parts: dict[str, np.ndarray] = field(default_factory=dict)
    removed: dict[str, np.ndarray] = field(default_factory=dict)
    replaced: dict[str, np.ndarray] = field(default_factory=dict)
    sayings: list[Provenance] = field(default_factory=list)
    known: dict[str, Known] = field(default_factory=dict)
    own: dict[str, Known] = field(default_factory=dict)
    otherwise: list[OtherwiseSaid] = field(default_factory=list)
    said_in: dict[str, tuple[str, np.ndarray]] = field(default_factory=dict)
