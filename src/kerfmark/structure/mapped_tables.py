"""The tables of a layout that fills those of a database: made from the places that a mapping has
found for the columns of sources."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Literal

import numpy as np

from kerfmark.layout.model import ColumnSpec, LinkSpec, TableSpec
from kerfmark.profile.codes import holds
from kerfmark.profile.encode import EncodedSource
from kerfmark.profile.types import TEXT, ColumnType
from kerfmark.structure.mapped_lists import ListPlace, tables_of_list
from kerfmark.structure.tables_there import ColumnThere, Place, TableThere, depth, reached

_FORMS = {
    "date": "YYYY-MM-DD",
    "timestamp": "YYYY-MM-DD hh:mm:ss",
    "time": "hh:mm",
    "boolean": "yes/no",
}
"""The forms of values that do not all fit the column: what is wrong is told by its cell."""


class MappedTables:
    """The `tables` that sources feed, what is `required` and fed by nothing, what is `odd`, and
    what becomes of `missing_records`, those that rows name and a table does not have."""

    def __init__(
        self,
        sources: Mapping[str, EncodedSource],
        types: Mapping[str, Sequence[ColumnType]],
        there: Mapping[str, TableThere],
        bases: Mapping[str, str],
        places: Mapping[str, Mapping[str, Place]],
        constants: Mapping[tuple[str, str], str],
        missing: Mapping[str, str],
        lists: Mapping[str, Mapping[str, ListPlace]],
    ) -> None:
        self.sources, self.types, self.there, self.bases = sources, types, there, bases
        self.places, self.lists = places, lists
        self.constants, self.missing = constants, missing
        self.tables: dict[str, TableSpec] = {}
        self.required: list[str] = []
        self.odd: list[str] = []
        self.missing_records: dict[str, Literal["create", "refuse"]] = {}
        for name in sorted(bases, key=lambda n: depth(there, bases[n])):
            self._build(name)
        for name in bases:  # tables that sources feed by columns of their own come first
            self._add_lists(name)

    def _build(self, name: str) -> None:
        """Adds the tables that a source feeds."""
        base, places = self.bases[name], self.places[name]
        ways = reached(self.there, base)
        mine = {base}
        for place in places.values():
            at = place.of
            while at != base:  # the tables on the way are needed too
                mine.add(at)
                at = ways[at][0]
        owned = {
            t: {p.column: h for h, p in places.items() if not p.through and p.table == t}
            for t in mine
        }
        looked_up = self._looked_up(mine - {base}, owned, ways)
        by_value = {t for t in mine - {base} if t in self.tables}
        """What another source has records of is found by value."""
        for table in sorted(mine - by_value, key=lambda t: (depth(self.there, t), t)):
            t = self.there[table]
            columns = {c: self._column(name, h, t.column(c)) for c, h in owned[table].items()}
            columns |= {
                column: _constant(value, t.column(column))
                for (of, column), value in self.constants.items()
                if of == table
            }
            links: dict[str, LinkSpec] = {}
            for link, parent in t.links.items():
                on_the_way = ways.get(parent) == (table, link)
                through = {
                    p.column: h for h, p in places.items() if p.owner == table and p.through == link
                }
                leads = (
                    LinkSpec(to=parent, by=through, missing=self._of_link(parent))
                    if through
                    else self._by_value(parent, owned, by_value, ways)
                    if on_the_way and parent in by_value
                    else LinkSpec(to=parent)
                    if on_the_way and parent in mine
                    else None
                )
                if leads is not None:
                    links[link] = leads
            if table not in looked_up:
                self._say_required(table, columns, links)
            spec = self._table(name, t, columns, links, table == base)
            if table in looked_up:
                spec = spec.model_copy(update={"missing": "refuse"})
            if table != base:
                self.missing_records[table] = "refuse" if table in looked_up else "create"
            self.tables[table] = spec
        for target in [k for spec in self.tables.values() for k in spec.links.values()]:
            if target.by and target.to not in self.tables:  # and otherwise fed by nobody
                self.tables[target.to] = self._found_by_value(name, target.to, target.by)

    def _add_lists(self, name: str) -> None:
        """Adds the tables that lists in the cells of a source feed; those are told that a layout
        cannot express."""
        for header, one in self.lists[name].items():
            why = (
                "whose keys the database makes by chance"
                if self.there[one.parent].by_chance
                else "which other columns feed too"
                if one.parent in self.tables or one.table in self.tables
                else ""
            )
            if why:
                said = f'"{header}" of {name} lists records of {one.parent}, {why}: it is left out'
                self.odd.append(said)
                continue
            listed = self._found_by_value(name, one.parent, {one.column: header})
            self.tables |= tables_of_list(name, one, self.there[one.table], listed, header)

    def _found_by_value(self, name: str, table: str, by: Mapping[str, str]) -> TableSpec:
        """A table whose records rows only name, by columns with the values of headers."""
        t, how = self.there[table], self._missing(table)
        columns = {c: self._column(name, h, t.column(c)) for c, h in by.items()}
        if how == "create":
            self._say_required(table, columns, {})
        self.missing_records[table] = how
        spec = self._table(name, t, columns, {}, False)
        return spec.model_copy(update={"missing": "refuse"} if how == "refuse" else {})

    def _looked_up(
        self,
        tables: set[str],
        owned: Mapping[str, Mapping[str, str]],
        ways: Mapping[str, tuple[str, str]],
    ) -> set[str]:
        """The tables whose records are looked up, and not made: by a person's wish, or as rows say
        only what names a record and there are some already."""
        above = {ways[t][0] for t in tables}
        named = {t for t in tables - above if len(owned[t]) == 1 and self.there[t].rows}
        return {
            t
            for t in tables - {*self.tables} - {*self.bases.values()}
            if self.missing.get(t, "refuse" if t in named else "create") == "refuse"
        }

    def _missing(self, table: str) -> Literal["create", "refuse"]:
        """What becomes of a value that no record of a table has."""
        usual = self.there[table].rows or table in self.bases.values()
        said = self.missing.get(table, "refuse" if usual else "create")
        return "create" if said == "create" else "refuse"

    def _of_link(self, table: str) -> Literal["create", "refuse"]:
        """What a link says of values that no record of a table has: the table itself says it, where
        rows only name its records."""
        return self._missing(table) if table in self.bases.values() else "create"

    def _by_value(
        self,
        parent: str,
        owned: Mapping[str, Mapping[str, str]],
        by_value: set[str],
        ways: Mapping[str, tuple[str, str]],
    ) -> LinkSpec | None:
        """A link to a table of which another source has the records."""
        spec = self.tables[parent]
        by = {c: h for c, h in owned[parent].items() if c in spec.known_by}
        more = {
            c: h for c, h in owned[parent].items() if c not in spec.known_by and c in spec.columns
        }
        for further in sorted(by_value - {parent}):
            more |= self._said_again(ways, parent, further, owned[further])
        if {*by} != {*spec.known_by}:
            return None
        return LinkSpec(to=parent, by=by, missing="refuse", repeats=more)

    def _said_again(
        self,
        ways: Mapping[str, tuple[str, str]],
        parent: str,
        further: str,
        owned: Mapping[str, str],
    ) -> dict[str, str]:
        """What rows say again of a table further up than one that is found by value: as
        `link.column`, seen from that one."""
        way: list[str] = []
        at = further
        while at != parent:
            if at not in ways or not ways[at][0]:
                return {}
            at, link = ways[at]
            way.insert(0, link)
            if at not in self.tables or link not in self.tables[at].links:
                return {}
        columns = self.tables[further].columns
        return {".".join([*way, c]): h for c, h in owned.items() if c in columns}

    def _table(
        self,
        name: str,
        t: TableThere,
        columns: dict[str, ColumnSpec],
        links: dict[str, LinkSpec],
        base: bool,
    ) -> TableSpec:
        natural = not t.generated or t.generated in columns
        known_by = self._known_by(name, t, columns, links, base)
        if t.by_chance and t.by_chance not in columns:
            columns |= self._made_key(name, t, columns, known_by)
        needed = () if base else known_by
        optional = tuple(c for c in (*columns, *links) if t.column(c).optional and c not in needed)
        more = tuple(u for u in t.unique if set(u) <= {*columns, *links} and u != known_by)
        return TableSpec(
            source=name,
            each_row=base,
            known_by=known_by,
            unique=more,
            optional=optional,
            key=tuple(t.key) if natural else t.generated,
            links=links,
            columns=columns,
        )

    def _made_key(
        self, name: str, t: TableThere, columns: Mapping[str, ColumnSpec], known_by: Sequence[str]
    ) -> dict[str, ColumnSpec]:
        """A key that the database would make by chance, made of what tells records apart (all that
        a row says, where nothing else does): the same record has the same one whenever it is
        loaded."""
        headers = [columns[c].header for c in known_by if c in columns and columns[c].header]
        parents = {t.links[c] for c in known_by if c in t.links}
        headers += [h for h, p in self.places[name].items() if p.table in parents]
        said = ", ".join(f"[{h.replace(']', ']]')}]" for h in headers or self.places[name])
        table = t.name.replace("'", "''")
        return {t.key[0]: ColumnSpec(derived=f"uuid('{table}', {said})", type="text(36)")}

    def _column(self, name: str, header: str, there: ColumnThere) -> ColumnSpec:
        """The column as the source says it and the database takes it."""
        said = self.types[name][self.sources[name].headers.index(header)]
        type_ = said
        if there.type.kind == "text" and said.kind != "text":
            type_ = replace(TEXT, width=there.type.width)
        elif there.type.kind == "text":
            type_ = replace(said, width=there.type.width)
        elif said == TEXT:
            type_ = replace(there.type, form=_FORMS.get(there.type.kind, there.type.form))
        elif said.kind in ("integer", "decimal") and not said.thousands:
            type_ = _as_wide(said, there.type)
        allowed = tuple(sorted(there.allowed)) if type_.kind == "text" else ()
        return ColumnSpec(header=header, type=str(type_), allowed=allowed)

    def _known_by(
        self,
        name: str,
        t: TableThere,
        columns: Mapping[str, ColumnSpec],
        links: Mapping[str, LinkSpec],
        base: bool,
    ) -> tuple[str, ...]:
        there = {*columns, *links}
        natural = [t.key] if not t.generated or t.generated in columns else []
        for unique in (*t.unique, *natural):
            if set(unique) <= there:
                return unique
        if base or not columns:
            return ()
        source = self.sources[name]
        codes = {c: source.column(spec.header) for c, spec in columns.items() if spec.header}
        for c, column in codes.items():
            if all(holds(column.codes, o.codes, len(column.values)) for o in codes.values()):
                return (
                    (c, *links)
                    if links and not self._decides_links(name, column.codes, len(column.values), t)
                    else (c,)
                )
        return tuple(codes)

    def _decides_links(self, name: str, codes: np.ndarray, size: int, t: TableThere) -> bool:
        """Whether a column decides what a table links to, as far as the source says it."""
        parents = {h for h, p in self.places[name].items() if p.table in t.links.values()}
        return all(holds(codes, self.sources[name].column(h).codes, size) for h in parents)

    def _say_required(
        self, table: str, columns: Mapping[str, ColumnSpec], links: Mapping[str, LinkSpec]
    ) -> None:
        for c in self.there[table].needed:
            if c not in columns and c not in links:
                self.required.append(
                    f"{table}.{c} must be filled, and no column of the sources feeds it"
                )


def _as_wide(said: ColumnType, there: ColumnType) -> ColumnType:
    """The type of numbers in a source as wide as a column takes them: later files may have more
    digits and places."""
    if there.kind == "decimal" and said.scale <= there.scale:
        return replace(there, form=f"0{said.mark}{'#' * there.scale}")
    if there.kind == "real" and said.mark == ".":
        return there
    return said


def _constant(value: str, there: ColumnThere) -> ColumnSpec:
    """A column that has the same value in every row."""
    text = "'" + value.replace("'", "''") + "'"
    if there.type.kind == "text":
        return ColumnSpec(derived=text, type=str(replace(TEXT, width=there.type.width)))
    if there.type.kind in ("integer", "decimal", "real"):
        return ColumnSpec(derived=value, type=str(there.type))
    if there.type.kind == "boolean":
        yes = value.lower() in ("true", "yes", "1")
        return ColumnSpec(derived="1 = 1" if yes else "1 = 0", type="boolean true/false")
    form = _FORMS[there.type.kind]
    made = f"date({text}, '{form}')" if there.type.kind == "date" else text
    return ColumnSpec(derived=made, type=f"{there.type.kind} {form}")
