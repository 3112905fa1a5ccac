"""The layout as objects. Frozen, and without any key that is not known.

A table takes rows from one source. With `each_row` every row is a record of its own; otherwise there is one record per
distinct combination of the columns and links in `known_by`. Every table gets a generated primary key. A link without
`by` finds its parent through the row itself: the parent's own columns stand in the same row. A link with `by` looks the
parent up by the values of other headers, in a table of any source.

A table with `part_of` holds what several columns, or the parts of one cell, say about a record of that table: one record per
filled group of columns (`headers`), or per part of a cell (`split`), numbered or named by its column with `told` or `position`.
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
    """A column: where its values come from, and its type.

    From one `header`; or, in a table that is `part_of` another, from several `headers` of the same meaning, from the parts
    of a cell (`header` with `split`, what stands between the parts), or from what tells these apart: `told` names each of
    the headers in their order, `position` counts the parts from 1.

    With `usual`, a record has the value that its rows say most often; a row that says another has that in a column of its own
    table with `instead_of`, the name of this one.
    """

    header: str = ""
    headers: tuple[str, ...] = ()
    told: tuple[str, ...] = ()
    position: bool = False
    split: str = ""
    usual: bool = False
    instead_of: str = ""
    type: str = "text"

    @model_validator(mode="before")
    @classmethod
    def _short(cls, value: Any) -> Any:
        return {"header": value} if isinstance(value, str) else value

    @model_validator(mode="before")
    @classmethod
    def _counted(cls, value: Any) -> Any:
        return {"type": "integer"} | value if isinstance(value, dict) and value.get("position") else value

    @model_validator(mode="after")
    def _one_origin(self) -> ColumnSpec:
        if sum([bool(self.header), bool(self.headers), bool(self.told), self.position]) != 1:
            raise ValueError("say one of header, headers, told and position")
        if self.split and not self.header:
            raise ValueError("split needs the header whose cells are split")
        return self

    @property
    def is_plain(self) -> bool:
        """Whether it holds what stands under one header, as it stands."""
        return bool(self.header) and not (self.split or self.usual or self.instead_of)

    @property
    def sources(self) -> tuple[str, ...]:
        """The headers that its values come from."""
        return (self.header,) if self.header else self.headers

    @field_validator("type")
    @classmethod
    def _known_type(cls, value: str) -> str:
        return str(parse_type(value))

    @property
    def of_type(self) -> ColumnType:
        """The type as an object."""
        return parse_type(self.type)


class LinkSpec(_Part):
    """A link to a table: through the row itself or, with `by`, to the record whose columns have the values of headers.

    `by` maps columns of the parent to headers of this table's source. Where no such record is known, one is made of these
    values. `repeats` maps further columns of the parent, or of tables that it links to (`link.column`), to headers
    that say the same again, which is checked in every row.
    """

    to: str
    by: dict[str, str] = {}
    repeats: dict[str, str] = {}

    @model_validator(mode="before")
    @classmethod
    def _short(cls, value: Any) -> Any:
        return {"to": value} if isinstance(value, str) else value


class TableSpec(_Part):
    """A table: see the module's docstring. `links` maps the foreign key column to the table it leads to.

    All columns and links must be filled unless they are listed in `optional`. `unique` lists further sets of columns
    that tell records apart.
    """

    source: str
    each_row: bool = False
    part_of: str = ""
    known_by: tuple[str, ...] = ()
    unique: tuple[tuple[str, ...], ...] = ()
    optional: tuple[str, ...] = ()
    key: str = ""
    links: dict[str, LinkSpec] = {}
    columns: dict[str, ColumnSpec] = {}

    @property
    def parents(self) -> dict[str, str]:
        """The table that each link leads to."""
        return {name: link.to for name, link in self.links.items()}

    @property
    def headers(self) -> list[str]:
        """The headers whose values live in this table, or are found again through its links."""
        own = [h for c in self.columns.values() for h in c.sources]
        return own + [h for link in self.links.values() for h in (*link.by.values(), *link.repeats.values())]

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

        def visit(name: str, on_the_way: tuple[str, ...]) -> None:
            if name not in out and name not in on_the_way:
                for parent in self.tables[name].parents.values():
                    visit(parent, (*on_the_way, name))
                out.append(name)

        for name in self.tables:
            visit(name, ())
        return out

    def path(self, base: str, table: str) -> list[tuple[str, str, str]] | None:
        """How links through the row lead from one table to another, as (table, foreign key column, parent); None when they
        do not. A table that is part of another is reached through that one."""
        if self.tables[table].part_of:
            return self.path(base, self.tables[table].part_of)
        reached: dict[str, list[tuple[str, str, str]]] = {base: []}
        queue = [base]
        for name in queue:
            for column, link in self.tables[name].links.items():
                if link.to not in reached and not link.by:
                    reached[link.to] = [*reached[name], (name, column, link.to)]
                    queue.append(link.to)
        return reached.get(table)

    def base_of(self, source: str) -> str:
        """The table that holds a record per row of a source."""
        return next(n for n, t in self.tables.items() if t.source == source and t.each_row)

    def exceptional(self, source: str, header: str) -> tuple[str, str, str, str] | None:
        """Where the exceptions of a header stand and where what is usual does: table and column of each; None when it has none."""
        for name, table in self.tables.items():
            for column, spec in table.columns.items() if table.source == source else ():
                if spec.header == header and spec.instead_of in self.tables:
                    for usual, c in self.tables[spec.instead_of].columns.items():
                        if c.usual and c.header == header:
                            return name, column, spec.instead_of, usual
        return None

    def is_looked_up(self, table: str) -> bool:
        """Whether some link finds its record in a table by value, and so may have added to it."""
        return any(link.by and link.to == table for t in self.tables.values() for link in t.links.values())

    def owner_link(self, table: str) -> str:
        """The link of a table that is part of another by which it belongs to that one."""
        spec = self.tables[table]
        return next(n for n, link in spec.links.items() if link.to == spec.part_of and not link.by)

    def home_of(self, source: str, header: str) -> tuple[str, ColumnSpec] | None:
        """The table whose column a header of a source ends up in, and that column; None when it has no home."""
        for name, table in self.tables.items():
            if table.source != source:
                continue
            for column in table.columns.values():
                if header in column.sources:
                    return name, column
            for link in table.links.values():
                for parent_column, h in (*link.by.items(), *link.repeats.items()):
                    if h == header:
                        return self.follow(link.to, parent_column)
        return None

    def follow(self, table: str, path: str) -> tuple[str, ColumnSpec] | None:
        """The table and the column that `column` or `link.column` (or `link.link.column`), seen from a table, stand for; None
        when there is none."""
        *links, column = path.split(".")
        for link in links:
            if link not in self.tables[table].links:
                return None
            table = self.tables[table].links[link].to
        found = self.tables[table].columns.get(column)
        return None if found is None else (table, found)
