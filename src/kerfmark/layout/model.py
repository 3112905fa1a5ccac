"""The layout as objects. Frozen, and without any key that is not known.

A table takes rows from one source. With `each_row` every row is a record of its own; otherwise there is one record per
distinct combination of the columns and links in `known_by`. Every table gets a generated primary key. A link without
`by` finds its parent through the row itself: the parent's own columns stand in the same row.
"""

from __future__ import annotations

from collections.abc import Collection
from typing import Any

from pydantic import BaseModel, ConfigDict, field_validator, model_validator

from kerfmark.profile.types import ColumnType, parse_type

VERSION = 1


class _Part(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid", arbitrary_types_allowed=True)


class PartSpec(_Part):
    """One of several files or sheets of one shape: what its rows say in the telling column, and where it is."""

    told: str
    file: str
    sheet: str = ""
    member: str = ""


class SourceSpec(_Part):
    """What rows are read from, how that is written, the spellings that stand for a blank, and the columns left out on purpose.

    `file` is a file, or the URL of a database; `member` a member of an archive or a list in JSON records; `sheet` a sheet of a
    workbook and `cells` a range, defined name or table of it; `table` or `query` are those of a database. Several `parts` of
    one shape make one source whose first column, `telling`, says which of them a row came from. `delimiter` may be several
    characters; `edges` are the first characters (from 0) of columns of fixed width. `header_row` counts from 1; 0 when no row
    names the columns; the header goes over `header_rows`.
    """

    file: str = ""
    telling: str = ""
    parts: tuple[PartSpec, ...] = ()
    delimiter: str = ","
    quote: str = '"'
    escape: str = ""
    encoding: str = "utf-8"
    edges: tuple[int, ...] = ()
    header_row: int = 1
    header_rows: int = 1
    member: str = ""
    sheet: str = ""
    cells: str = ""
    table: str = ""
    query: str = ""
    blanks: tuple[str, ...] = ()
    left_out: tuple[str, ...] = ()


    @model_validator(mode="after")
    def _has_a_place(self) -> SourceSpec:
        if bool(self.file) == bool(self.parts):
            raise ValueError("name either its file or its parts")
        if self.parts and not self.telling:
            raise ValueError("parts need a telling column, which says which of them a row came from")
        return self


class ColumnSpec(_Part):
    """A column: the header it comes from, and its type."""

    header: str
    type: str = "text"

    @model_validator(mode="before")
    @classmethod
    def _short(cls, value: Any) -> Any:
        return {"header": value} if isinstance(value, str) else value

    @field_validator("type")
    @classmethod
    def _known_type(cls, value: str) -> str:
        return str(parse_type(value))

    @property
    def of_type(self) -> ColumnType:
        """The type as an object."""
        return parse_type(self.type)


class TableSpec(_Part):
    """A table: see the module's docstring. `links` maps the foreign key column to the table it leads to.

    All columns and links must be filled unless they are listed in `optional`. `unique` lists further sets of columns
    that tell records apart.
    """

    source: str
    each_row: bool = False
    known_by: tuple[str, ...] = ()
    unique: tuple[tuple[str, ...], ...] = ()
    optional: tuple[str, ...] = ()
    key: str = ""
    links: dict[str, str] = {}
    columns: dict[str, ColumnSpec] = {}

    @property
    def unique_sets(self) -> list[tuple[str, ...]]:
        """All sets of columns that tell records apart, the natural key first."""
        return [s for s in (self.known_by, *self.unique) if s]


def generated_key(table: str, names: Collection[str]) -> str:
    """The name of the primary key of a table whose other columns have these names."""
    return next(n for n in (f"{table}_id", f"{table}_key", f"{table}_record_no", f"{table}_record_key") if n not in names)


class Layout(_Part):
    """A whole layout."""

    kerfmark: int
    sources: dict[str, SourceSpec]
    tables: dict[str, TableSpec]

    def key_of(self, table: str) -> str:
        """The name of a table's primary key column."""
        spec = self.tables[table]
        return spec.key or generated_key(table, [*spec.columns, *spec.links])

    def parents_first(self) -> list[str]:
        """The tables in an order in which each comes after those it links to; names as in the layout otherwise."""
        out: list[str] = []

        def visit(name: str) -> None:
            if name not in out:
                for parent in self.tables[name].links.values():
                    if parent != name:
                        visit(parent)
                out.append(name)

        for name in self.tables:
            visit(name)
        return out

    def path(self, base: str, table: str) -> list[tuple[str, str, str]] | None:
        """How links lead from one table to another, as (table, foreign key column, parent); None when they do not."""
        reached: dict[str, list[tuple[str, str, str]]] = {base: []}
        queue = [base]
        for name in queue:
            for column, parent in self.tables[name].links.items():
                if parent not in reached:
                    reached[parent] = [*reached[name], (name, column, parent)]
                    queue.append(parent)
        return reached.get(table)

    def base_of(self, source: str) -> str:
        """The table that holds a record per row of a source."""
        return next(n for n, t in self.tables.items() if t.source == source and t.each_row)
