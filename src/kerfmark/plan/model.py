"""The steps of a plan. Frozen, and plain data throughout: a plan can be sent to other machines."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Literal

from kerfmark.layout.model import ColumnSpec, LinkSpec
from kerfmark.profile.types import ColumnType

Form = Literal["value", "text", "parts", "derived", "derived parts", "holds"]
"""What a cell is taken as: its value in the column's type; its text, once it is treated; the values
of its parts; what an expression gives for the row, or for each part; whether a condition holds."""
Rule = Literal[
    "own",
    "same",
    "most frequent",
    "first",
    "last",
    "exception",
    "group",
    "told",
    "position",
    "part",
]
"""Where the value of a column in a record comes from. In tables of records: `own`, the record's one
row; `same`, all of its rows, which must agree; `most frequent`, `first` or `last`, one of what its
rows say; `exception`, its one row, where that differs from what is usual. In tables of parts: the
`group` of columns that the record is about; what that is called (`told`), or the `position` of the
part; the `part` itself, or what is derived from it."""
Kind = Literal["rows", "records", "all parts", "parts of records", "groups of records"]
"""What a record of a table is: a row; all rows with the same key; each different part of cells;
each part of a cell of a record of another table; or each filled group of columns of it."""


@dataclass(frozen=True)
class Cell:
    """What rows of a source say, in one way; `name` is unique within the source. `spec` says how it
    is treated and typed, `split` what is between its parts. A `derived` cell has an expression in
    place of a header, and so has one that tells whether a condition holds."""

    name: str
    source: str
    form: Form
    header: str
    spec: ColumnSpec = field(compare=False)
    split: str = ""

    @property
    def of_type(self) -> ColumnType:
        """The type of its value, or of its parts."""
        return self.spec.of_type


@dataclass(frozen=True)
class Identity:
    """What tells the records of a table apart: the values of cells, all of which must be there; and
    conditions (cells of the form `holds`) without which a row has no record."""

    cells: tuple[Cell, ...]
    only: tuple[Cell, ...] = ()


@dataclass(frozen=True)
class ColumnStep:
    """How a column gets its values. `cells` is one for most rules, and one for each group of
    columns for `group`. An `exception` is one to the most frequent text (its second cell) of the
    records of `usual_of`."""

    name: str
    spec: ColumnSpec
    rule: Rule
    cells: tuple[Cell, ...] = ()
    usual_of: str = ""
    required: bool = True

    @property
    def headers(self) -> tuple[str, ...]:
        """The headers as messages name them; of what is derived, the column's name."""
        derived = self.cells and self.cells[0].form.startswith("derived")
        return (self.name,) if derived else tuple(dict.fromkeys(c.header for c in self.cells))


@dataclass(frozen=True)
class LinkStep:
    """How a link gets the record that it leads to: through the row itself, by the identity of that
    record; to the record that a part belongs to (`owner`); or, where it is looked up, later.
    `agreed`: all rows of a record must lead to the same one."""

    name: str
    spec: LinkSpec
    headers: tuple[str, ...]
    identity: Identity
    owner: bool = False
    agreed: bool = False
    required: bool = True


@dataclass(frozen=True)
class TableStep:
    """How the records of a table are made of the rows of a source. `identity` is that of `records`;
    `owner` the table that `parts of records` and `groups of records` belong to. `unique` are the
    sets of columns and links that must differ from record to record, each with the cells that say
    them."""

    name: str
    source: str
    kind: Kind
    identity: Identity
    columns: Mapping[str, ColumnStep]
    links: Mapping[str, LinkStep]
    owner: str = ""
    parts: Cell | None = None
    unique: tuple[tuple[str, ...], ...] = ()
    order: tuple[str, ...] = ()

    @property
    def of_records(self) -> bool:
        """Whether it takes its records from rows, and not from parts of them."""
        return self.kind in ("rows", "records")


@dataclass(frozen=True)
class LookUpStep:
    """A link that is found by value: `by` and `repeats` map columns of the parent (`link.column`
    for one that it links to) to cells of this table's source."""

    table: str
    link: str
    spec: LinkSpec
    by: Mapping[str, Cell]
    repeats: Mapping[str, Cell]


@dataclass(frozen=True)
class Plan:
    """All steps: `tables` in the order in which they are made, tables of parts after all others;
    `lookups` in the order in which they are found. `cells` are those of each source."""

    tables: Mapping[str, TableStep]
    lookups: tuple[LookUpStep, ...]
    cells: Mapping[str, tuple[Cell, ...]]

    def of_source(self, source: str) -> Iterator[TableStep]:
        """The tables that a source feeds."""
        return (t for t in self.tables.values() if t.source == source)
