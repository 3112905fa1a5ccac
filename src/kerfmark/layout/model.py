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


class SourceSpec(_Part):
    """A file (or a member of an archive, or a sheet of a workbook), how it is written, the spellings that stand for a blank,
    and the columns left out on purpose. `header_row` counts from 1; 0 when no row names the columns."""

    file: str
    delimiter: str = ","
    quote: str = '"'
    encoding: str = "utf-8"
    header_row: int = 1
    member: str = ""
    sheet: str = ""
    blanks: tuple[str, ...] = ()
    left_out: tuple[str, ...] = ()


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
