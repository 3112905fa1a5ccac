"""The layout as objects. Frozen, and without any key that is not known.

A table takes rows from one source (or from several, see `TableSpec`). With `each_row` every row is
a record of its own; otherwise there is one record per distinct combination of the columns and links
in `known_by`. A table gets a generated primary key, unless its `key` lists columns of its own. A
link without `by` finds its parent through the row itself: the parent's own columns are in the
same row. A link with `by` looks the parent up by the values of other headers, in a table of any
source.

A table with `part_of` holds what several columns, or the parts of one cell, say about a record of
that table: one record per filled group of columns (`headers`), or per part of a cell (`split`),
numbered or named by its column with `told` or `position`.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping
from functools import cached_property, lru_cache
from typing import Annotated, Any, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, field_validator, model_validator

from kerfmark.layout.names import free_name, snake
from kerfmark.profile.skipped import SKIPPED
from kerfmark.profile.types import ColumnType, parse_type

VERSION = 1


class _Part(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid", arbitrary_types_allowed=True)


def _texts(value: Any) -> Any:
    """Numbers and yes or no in a list of texts, as a person would write them."""
    return [_without_defaults(v) for v in value] if isinstance(value, list | tuple) else value


def _without_defaults(value: Any) -> Any:
    if isinstance(value, bool):
        return "true" if value else "false"
    return str(value) if isinstance(value, int | float) else value


Spellings = Annotated[tuple[str, ...], BeforeValidator(_texts)]
Spelling = Annotated[str, BeforeValidator(_without_defaults)]
Clean = Literal["trim", "spaces", "lower", "upper", "capitals", "unicode", "apostrophes"]
Conflicts = Literal["refuse", "first", "last", "most frequent"]
Known = Literal["", "refuse", "keep", "fill", "overwrite", "replace", "add"]
Missing = Literal["create", "refuse", "blank"]


def _checked_rows(value: tuple[str, ...]) -> tuple[str, ...]:
    """Rows that are not data.

    Raises ValueError for what names none.
    """
    for one in value:
        span = re.fullmatch(r"([1-9]\d*)-([1-9]\d*)", one)
        if not SKIPPED.fullmatch(one) or (span and int(span[1]) > int(span[2])):
            raise ValueError(
                f'"{one}" is not a row number; write 2, -1 for the last one, "40-60", "40-", '
                '">100", or a kind of row: "notes", "totals", "duplicates", '
                '"keep-headers"'
            )
    return value


class PartSpec(_Part):
    """One of several files, sheets or tables of one shape: what its rows say in the telling column,
    where it is, rows of it that are not data, its encoding and delimiter where they are not those
    of the whole source, and the forms in which it has the values of headers (`written`)."""

    told: str
    file: str
    sheet: str = ""
    cells: str = ""
    block: int = 0
    member: str = ""
    encoding: str = ""
    delimiter: str = ""
    skip_rows: Spellings = ()
    written: dict[str, str] = {}

    _rows = field_validator("skip_rows")(_checked_rows)


class SourceSpec(_Part):
    """What rows are read from, how that is written, the spellings read as blank, and the
    columns left out on purpose.

    `file` is a file, a pattern of files (`visits-*.csv`), or the URL of a database; `member` a
    member of an archive or a list in JSON records; `sheet` a sheet of a workbook (or a pattern of
    sheets) and `cells` a range, defined name or table of it; `block` the number of a table among
    several in one sheet or file (0: all is one); `table` or `query` are those of a database.
    Several `parts` of one shape, or what a pattern matches, make one source; its first
    column, `telling`, says which of them a row came from: what its `told` says, or the text that
    the `*` matches. `delimiter` may be several characters; `edges` are the first characters (from
    0) of columns of fixed width; `ruled` listings have ruling lines, which are left out.
    `header_row` counts from 1; 0 when no row names the columns; the header goes over `header_rows`.
    `columns` are the names of all columns, in their order, where a person has given them.
    `skip_rows` are rows of the file that are not data: 2, -1 (the last one), "40-60"; in the
    columns of `fill_down` a blank cell means the same as the one above; those of `json_cells` hold
    lists of records, written as JSON, which are the `member` of that name. `trim` leaves out spaces
    at the ends of cells. `decimals` and `thousands` mark numbers, `dates`, `timestamps` and `times`
    are the forms of those, wherever a column's type does not say. `also` maps headers to other
    spellings that files may have; `may_lack` are headers that a file need not have. `written` maps
    headers to the forms in which the file has their values, where these are not those of the
    columns' types (`DD.MM.YYYY`, `0.000,0`). `view` are the columns, in their order, of the view
    that shows what the rows lead to (see `layout.reached`).
    """

    file: str = ""
    telling: str = ""
    parts: tuple[PartSpec, ...] = ()
    delimiter: str = ","
    quote: str = '"'
    escape: str = ""
    encoding: str = "utf-8"
    edges: tuple[int, ...] = ()
    ruled: bool = False
    header_row: int = 1
    header_rows: int = 1
    columns: tuple[str, ...] = ()
    member: str = ""
    sheet: str = ""
    cells: str = ""
    block: int = 0
    table: str = ""
    query: str = ""
    skip_rows: Spellings = ()
    fill_down: tuple[str, ...] = ()
    json_cells: tuple[str, ...] = ()
    blanks: Spellings = ()
    trim: bool = False
    decimals: Literal["", ".", ","] = ""
    thousands: str = ""
    dates: str = ""
    timestamps: str = ""
    times: str = ""
    also: dict[str, tuple[str, ...]] = {}
    left_out: tuple[str, ...] = ()
    may_lack: tuple[str, ...] = ()
    view: tuple[str, ...] = ()
    written: dict[str, str] = {}

    _rows = field_validator("skip_rows")(_checked_rows)

    @field_validator("dates", "timestamps", "times")
    @classmethod
    def _form(cls, value: str, info: Any) -> str:
        if value:
            parse_type(f"{info.field_name[:-1]} {value}")
        return value

    @model_validator(mode="after")
    def _has_a_place(self) -> SourceSpec:
        if bool(self.file) == bool(self.parts):
            raise ValueError("name either its file or its parts")
        if self.parts and not self.telling:
            raise ValueError(
                "parts need a telling column, which says which of them a row came from"
            )
        if self.telling and not self.parts and not self.is_pattern:
            raise ValueError(
                "telling needs parts, or a file or sheet with a * for what it is to tell"
            )
        if self.thousands and (
            self.thousands == (self.decimals or ".") or len(self.thousands) != 1
        ):
            raise ValueError("thousands must be one character, and another than the decimals")
        return self

    @property
    def is_pattern(self) -> bool:
        """Whether its file or sheet is a pattern, which may match several."""
        return "://" not in self.file and ("*" in self.file or "*" in self.sheet)

    @property
    def forms(self) -> dict[str, str]:
        """The form of a kind of type where a column does not say."""
        out = {"date": self.dates, "timestamp": self.timestamps, "time": self.times}
        if self.decimals or self.thousands:
            mark = self.decimals or "."
            out["decimal"] = f"0{self.thousands}000{mark}0" if self.thousands else f"0{mark}0"
            out["integer"] = f"0{self.thousands}000" if self.thousands else ""
        return {k: v for k, v in out.items() if v}


class ColumnSpec(_Part):
    """A column: where its values come from, and its type.

    From one `header`; or, in a table that is `part_of` another, from several `headers` of the same
    meaning, from the parts of a cell (`header` with `split`, what is between the parts), or
    from what tells these apart: `told` names each of the headers in their order, `position` counts
    the parts from 1.

    With `usual`, a record has the value that its rows say most often; a row that says another has
    that in a column of its own table with `instead_of`, the name of this one. With `conflicts` one
    of the values that rows say of one record is kept, the others are not.

    What a cell says is made clean, then what it `means`, then blank cells get the `default`, then
    it gets its type, then its `unit` ("lb to kg"), and then it must be among those `allowed`, at
    `least` and at `most` something. A `derived` column is computed from others of the row.
    """

    header: str = ""
    headers: tuple[str, ...] = ()
    told: tuple[str, ...] = ()
    position: bool = False
    split: str = ""
    derived: str = ""
    usual: bool = False
    instead_of: str = ""
    type: str = "text"
    clean: Annotated[
        tuple[Clean, ...], BeforeValidator(lambda v: [v] if isinstance(v, str) else v)
    ] = ()
    means: dict[str, Spelling] = {}
    default: Spelling = ""
    unit: str = ""
    allowed: Spellings = ()
    least: Spelling = ""
    most: Spelling = ""
    conflicts: Conflicts = "refuse"
    comment: str = ""

    @model_validator(mode="before")
    @classmethod
    def _short(cls, value: Any) -> Any:
        return {"header": value} if isinstance(value, str) else value

    @model_validator(mode="before")
    @classmethod
    def _counted(cls, value: Any) -> Any:
        return (
            {"type": "integer"} | value
            if isinstance(value, dict) and value.get("position")
            else value
        )

    @model_validator(mode="after")
    def _one_origin(self) -> ColumnSpec:
        if (
            sum(
                [
                    bool(self.header),
                    bool(self.headers),
                    bool(self.told),
                    self.position,
                    bool(self.derived),
                ]
            )
            != 1
        ):
            raise ValueError("set one of header, headers, told, position and derived")
        if self.split and not self.header:
            raise ValueError("split needs the header whose cells are split")
        if (self.split or self.told or self.position or self.derived) and (
            self.treats or self.unit
        ):
            raise ValueError(
                "clean, means, default and unit are for a column with a header or headers"
            )
        if self.conflicts != "refuse" and (self.usual or self.instead_of):
            raise ValueError("usual keeps every value already; it needs no conflicts")
        if self.unit:
            if not re.fullmatch(r"\S.* to \S.*", self.unit):
                raise ValueError(
                    f'"{self.unit}" is not a conversion of units; write it like "lb to kg"'
                )
            if self.type == "text" or self.type.split("(")[0].split(" ")[0] not in (
                "integer",
                "decimal",
                "real",
            ):
                raise ValueError("a column with a unit must have a type that is a number")
        return self

    @property
    def is_plain(self) -> bool:
        """Whether it has the values of one header, as they are."""
        return bool(self.header) and not (
            self.split or self.usual or self.instead_of or self.treats or self.unit
        )

    @property
    def treats(self) -> bool:
        """Whether cells are changed before they get their type."""
        return bool(self.clean or self.means or self.default)

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
        return _type_of(self.type)


@lru_cache(maxsize=4096)
def _type_of(text: str) -> ColumnType:
    return parse_type(text)


class LinkSpec(_Part):
    """A link to a table: through the row itself or, with `by`, to the record whose columns have the
    values of headers.

    `by` maps columns of the parent to headers of this table's source; where the parent is known by
    a link of its own as well, `link.column` says what that one leads to. Where no such record is
    known, one is made of these values, unless `missing` says to refuse the row or to leave the link
    blank. `loose` takes no notice of case, spaces and the Unicode form. `repeats` maps further
    columns of the parent, or of tables that it links to (`link.column`), to headers that say the
    same again, which is checked in every row.
    """

    to: str
    by: dict[str, str] = {}
    loose: bool = False
    missing: Missing = "create"
    repeats: dict[str, str] = {}

    @model_validator(mode="before")
    @classmethod
    def _short(cls, value: Any) -> Any:
        return {"to": value} if isinstance(value, str) else value


class TableSpec(_Part):
    """A table: see the module's docstring. `links` maps the foreign key column to the table it
    leads to.

    All columns and links must be filled unless they are listed in `optional`. `unique` lists
    further sets of columns that tell records apart. `key` is the name of the generated primary key,
    or the list of columns that are the primary key themselves. Where the name is that of a column,
    the source says the number already: it must count from 1. `only_rows` is an expression: rows for
    which it does not hold make no record. `order` are columns by which records are numbered
    (`-day`: the latest first); otherwise they are in the order of the file. `known` says what a
    later file does to a record that is there already: see `verbs.add`. With `missing = "refuse"`
    rows that name a record which the database does not have are refused. A table that is
    `also_from` other sources has the records of all of them, found by `known_by` under the same
    headers.

    In short, `columns` may be a list of headers and `links` a list of tables; the names are then
    made from these. Where columns are listed, they may be called by their headers.
    """

    comment: str = ""
    source: str = ""
    also_from: tuple[str, ...] = ()
    each_row: bool = False
    only_rows: str = ""
    part_of: str = ""
    known_by: tuple[str, ...] = ()
    unique: tuple[tuple[str, ...], ...] = ()
    optional: tuple[str, ...] = ()
    order: tuple[str, ...] = ()
    known: Known = ""
    missing: Literal["", "refuse"] = ""
    key: str | tuple[str, ...] = ""
    links: dict[str, LinkSpec] = {}
    columns: dict[str, ColumnSpec] = {}

    @model_validator(mode="before")
    @classmethod
    def _short(cls, value: Any) -> Any:
        if not isinstance(value, dict):
            return value
        value = dict(value)
        if isinstance(value.get("links"), list | tuple):
            value["links"] = {f"{to}_id": to for to in value["links"]}
        if isinstance(value.get("columns"), list | tuple):
            taken = {*value["links"]} if isinstance(value.get("links"), dict) else set()
            value["columns"] = {
                free_name(snake(h), taken, f"{snake(h) or 'column'}_value"): c
                for c in value["columns"]
                for h in [str(c.get("header", "") if isinstance(c, dict) else c)]
            }
        if not isinstance(value.get("columns"), dict):
            return value
        names = {
            c if isinstance(c, str) else c.get("header", "") if isinstance(c, dict) else c.header: n
            for n, c in value["columns"].items()
            if isinstance(c, str | dict | ColumnSpec)
        }

        def named(one: Any) -> Any:
            if isinstance(one, list | tuple):
                return [named(o) for o in one]
            if not isinstance(one, str) or one in value["columns"]:
                return one
            return (
                "-" + named(one[1:])
                if one.startswith("-") and len(one) > 1
                else names.get(one, one)
            )

        for key in ("known_by", "unique", "optional", "order"):
            if key in value:
                value[key] = named(value[key])
        if isinstance(value.get("key"), list | tuple):
            value["key"] = named(value["key"])
        return value

    @property
    def computed_key(self) -> tuple[str, ...]:
        """The columns of its primary key that are computed, and not from the source as they are."""
        key = () if isinstance(self.key, str) else self.key
        return tuple(c for c in key if c in self.columns and self.columns[c].derived)

    @property
    def parents(self) -> dict[str, str]:
        """The table that each link leads to."""
        return {name: link.to for name, link in self.links.items()}

    @property
    def headers(self) -> list[str]:
        """The headers whose values are in this table, or are found again through its links."""
        own = [h for c in self.columns.values() for h in c.sources]
        return own + [
            h for link in self.links.values() for h in (*link.by.values(), *link.repeats.values())
        ]

    @property
    def unique_sets(self) -> list[tuple[str, ...]]:
        """All sets of columns that tell records apart, the natural key first."""
        return [s for s in (self.known_by, *self.unique) if s]


def parents_first(parents: Mapping[str, Collection[str]]) -> list[str]:
    """Names in an order in which each comes after its parents, those that are among the names; as
    they are otherwise."""
    out: list[str] = []

    def visit(name: str, on_the_way: tuple[str, ...]) -> None:
        if name in parents and name not in out and name not in on_the_way:
            for parent in parents[name]:
                visit(parent, (*on_the_way, name))
            out.append(name)

    for name in parents:
        visit(name, ())
    return out


def _with_form(column: Any, source: dict[str, Any]) -> Any:
    """A column as a layout has it, with the form of its type that its source says."""
    if not isinstance(column, dict) or not isinstance(column.get("type"), str):
        return column
    try:
        forms = SourceSpec.model_validate(source).forms
        return column | {"type": str(parse_type(column["type"], forms))}
    except ValueError:  # it is told where the source and the column are looked at
        return column


def generated_key(table: str, names: Collection[str]) -> str:
    """The name of the primary key of a table whose other columns have these names."""
    return next(
        n
        for n in (f"{table}_id", f"{table}_key", f"{table}_record_no", f"{table}_record_key")
        if n not in names
    )


Path = list[tuple[str, str, str]]
"""How links lead from one table to another: table, foreign key column, parent."""


class LayoutIndex:
    """What is looked for in a layout again and again: the tables of each source, the one with a
    record per row first; the tables that links look up by value; and, once it is asked for, where
    links lead from a table, and where the headers of a source end up."""

    def __init__(self, layout: Layout) -> None:
        self.tables: dict[str, dict[str, TableSpec]] = {}
        for first in (True, False):
            for name, table in layout.tables.items():
                if table.each_row == first:
                    self.tables.setdefault(table.source, {})[name] = table
        self.looked_up = {
            link.to for t in layout.tables.values() for link in t.links.values() if link.by
        }
        self._paths: dict[str, dict[str, Path]] = {}
        self._columns: dict[str, dict[str, tuple[str, ColumnSpec] | None]] = {}

    def paths(self, layout: Layout, base: str) -> dict[str, Path]:
        """The ways that links through the row lead from a table to others."""
        if base not in self._paths:
            reached: dict[str, Path] = {base: []}
            queue = [base]
            for name in queue:
                for column, link in layout.tables[name].links.items():
                    if link.to not in reached and not link.by:
                        reached[link.to] = [*reached[name], (name, column, link.to)]
                        queue.append(link.to)
            self._paths[base] = reached
        return self._paths[base]

    def columns(self, layout: Layout, source: str) -> dict[str, tuple[str, ColumnSpec] | None]:
        """The table and the column in which each header of a source ends up."""
        if source not in self._columns:
            found: dict[str, tuple[str, ColumnSpec] | None] = {}
            for name, table in layout.tables_of(source).items():
                for column in table.columns.values():
                    for header in column.sources:
                        found.setdefault(header, (name, column))
                for link in table.links.values():
                    for parent_column, h in (*link.by.items(), *link.repeats.items()):
                        if h not in found:
                            found[h] = layout.follow(link.to, parent_column)
            self._columns[source] = found
        return self._columns[source]


class Layout(_Part):
    """A whole layout. `existing`: its tables are in the database already, made by somebody else,
    and are filled, not made."""

    kerfmark: int
    existing: bool = False
    sources: dict[str, SourceSpec]
    tables: dict[str, TableSpec]

    @cached_property
    def index(self) -> LayoutIndex:
        """What is looked for in it again and again."""
        return LayoutIndex(self)

    def model_copy(self, *, update: Mapping[str, Any] | None = None, deep: bool = False) -> Layout:
        """Another layout, which has yet to find what is looked for in it."""
        out = super().model_copy(update=update, deep=deep)
        out.__dict__.pop("index", None)
        return out

    @model_validator(mode="before")
    @classmethod
    def _derived(cls, value: Any) -> Any:
        """Fills in what can be told from elsewhere: the source where there is one only, and the
        forms that it says."""
        if not isinstance(value, dict) or not all(
            isinstance(value.get(k), dict) for k in ("sources", "tables")
        ):
            return value
        sources, tables = value["sources"], dict(value["tables"])
        for name, table in tables.items():
            if not isinstance(table, dict):
                continue
            table = dict(table)
            if "source" not in table and len(sources) == 1:
                table["source"] = next(iter(sources))
            source = table.get("source")
            spec = sources.get(source) if isinstance(source, str) else None
            tables[name] = table
            columns = table.get("columns")
            if isinstance(spec, dict) and isinstance(columns, dict):
                table["columns"] = {n: _with_form(c, spec) for n, c in columns.items()}
            elif isinstance(spec, dict) and isinstance(columns, list):
                table["columns"] = [_with_form(c, spec) for c in columns]
        return value | {"tables": tables}

    def has_generated_key(self, table: str) -> bool:
        """Whether a table's primary key is a number that Kerfmark (and later the engine) gives
        out."""
        return isinstance(self.tables[table].key, str)

    def counted(self, table: str) -> str:
        """The column of a table whose values are its generated key ("": it has none)."""
        spec = self.tables[table]
        return spec.key if isinstance(spec.key, str) and spec.key in spec.columns else ""

    def key_of(self, table: str) -> str:
        """The name of a table's generated primary key column (also where it has none: then none of
        its columns is called so)."""
        spec = self.tables[table]
        return (isinstance(spec.key, str) and spec.key) or generated_key(
            table, [*spec.columns, *spec.links]
        )

    def key_columns(self, table: str) -> list[str]:
        """The columns of a table's primary key, as they are in the database."""
        key = self.tables[table].key
        return [self.key_of(table)] if isinstance(key, str) else self.stored_as(table, key)

    def stored_as(self, table: str, names: Collection[str]) -> list[str]:
        """Columns and links of a table as columns in the database."""
        links = self.tables[table].links
        return [
            c
            for n in names
            for c in ([own for own, _ in self.link_columns(table, n)] if n in links else [n])
        ]

    def link_columns(self, table: str, link: str) -> list[tuple[str, str]]:
        """The columns of a link in the database, each with the column of the parent's primary key
        that it leads to."""
        parent = self.tables[table].links[link].to
        keys = self.key_columns(parent)
        return [(link if len(keys) == 1 else f"{link}_{k}", k) for k in keys]

    def parents_first(self) -> list[str]:
        """The tables in an order in which each comes after those it links to; names as in the
        layout otherwise."""
        return parents_first({n: tuple(t.parents.values()) for n, t in self.tables.items()})

    def path(self, base: str, table: str) -> list[tuple[str, str, str]] | None:
        """How links through the row lead from one table to another, as (table, foreign key column,
        parent); None when they do not. A table that is part of another is reached through that
        one."""
        if self.tables[table].part_of:
            return self.path(base, self.tables[table].part_of)
        return self.index.paths(self, base).get(table)

    def base_of(self, source: str) -> str:
        """The table that holds a record per row of a source."""
        return next(n for n, t in self.index.tables[source].items() if t.each_row)

    def tables_of(self, source: str) -> dict[str, TableSpec]:
        """The tables of a source, the one with a record per row first: what a row says is looked
        for there before it is looked for elsewhere."""
        return self.index.tables.get(source, {})

    def key_headers(self, table: str) -> list[str]:
        """The headers by which the records of a table are known, of links those of their tables."""
        spec, out = self.tables[table], list[str]()
        for name in spec.known_by:
            if name in spec.columns:
                out.append(spec.columns[name].header or name)
            elif spec.links[name].by:
                out += spec.links[name].by.values()
            else:
                out += self.key_headers(spec.links[name].to)
        return out

    def exceptional(self, source: str, header: str) -> tuple[str, str, str, str] | None:
        """Where the exceptions of a header are and where what is usual is: table and column of
        each; None when it has none."""
        for name, table in self.tables.items():
            for column, spec in table.columns.items() if table.source == source else ():
                if spec.header == header and spec.instead_of in self.tables:
                    for usual, c in self.tables[spec.instead_of].columns.items():
                        if c.usual and c.header == header:
                            return name, column, spec.instead_of, usual
        return None

    def keeps_order(self, source: str, header: str) -> bool:
        """Whether the table of the parts of a cell has the order in which they are in it."""
        return any(
            any(c.position for c in t.columns.values())
            for t in self.tables_of(source).values()
            if t.part_of
            and header
            in (
                *(c.header for c in t.columns.values()),
                *(h for link in t.links.values() for h in link.by.values()),
            )
        )

    def is_looked_up(self, table: str) -> bool:
        """Whether some link finds its record in a table by value, and so may have added to it."""
        return table in self.index.looked_up

    def owner_link(self, table: str) -> str:
        """The link of a table that is part of another by which it belongs to that one."""
        spec = self.tables[table]
        return next(n for n, link in spec.links.items() if link.to == spec.part_of and not link.by)

    def column_of(self, source: str, header: str) -> tuple[str, ColumnSpec] | None:
        """The table whose column a header of a source ends up in, and that column; None when it
        ends up in none."""
        return self.index.columns(self, source).get(header)

    def follow(self, table: str, path: str) -> tuple[str, ColumnSpec] | None:
        """The table and the column that `column` or `link.column` (or `link.link.column`), seen
        from a table, mean; None when there is none."""
        *links, column = path.split(".")
        for link in links:
            if link not in self.tables[table].links:
                return None
            table = self.tables[table].links[link].to
        found = self.tables[table].columns.get(column)
        return None if found is None else (table, found)
