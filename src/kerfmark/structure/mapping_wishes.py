"""What a person decides about a mapping onto tables that somebody else made, held against what is
there."""

from __future__ import annotations

import re
from collections.abc import Collection
from dataclasses import dataclass

from kerfmark.errors import UsageError
from kerfmark.layout.names import closest
from kerfmark.structure.column_places import ColumnPlaces, Match
from kerfmark.structure.tables_there import ColumnThere, Place, TableThere

_WRITTEN = {
    "integer": (r"-?\d+", "12"),
    "decimal": (r"-?\d+(\.\d+)?", "12.5"),
    "real": (r"-?\d+(\.\d+)?", "12.5"),
    "boolean": ("(?i)true|false|yes|no|1|0", "yes or no"),
    "date": (r"\d{4}-(0[1-9]|1[0-2])-(0[1-9]|[12]\d|3[01])", "2026-01-31"),
}
"""How a constant of each kind is written, and an example."""


@dataclass(frozen=True)
class Wishes:
    """What a person decides about a mapping: columns with their places (`TABLE.COLUMN`, or
    `TABLE.LINK.COLUMN` for a record that is found by value), the tables that get a record per row
    of a source ("": of all), columns that refer to records of a table, columns that are left out,
    values for columns that are the same in every row, and what is done about records that a table
    does not have ("create" or "refuse")."""

    places: tuple[tuple[str, str], ...] = ()
    rows: tuple[tuple[str, str], ...] = ()
    links: tuple[tuple[str, str], ...] = ()
    leave_out: tuple[str, ...] = ()
    constants: tuple[tuple[str, str], ...] = ()
    missing: tuple[tuple[str, str], ...] = ()


class DecidedPlaces:
    """The `places` (by source and header), the columns that are `left_out` (by source) and the
    `constants` (by table and column) that a person has decided about. Raises UsageError for wishes
    that name what is not there, or do not go together."""

    def __init__(self, wishes: Wishes, where: ColumnPlaces) -> None:
        self.wishes, self.where = wishes, where
        self.sources, self.there = where.sources, where.there
        self.left_out: dict[str, set[str]] = {n: set() for n in self.sources}
        self.places = self._decided()
        self.constants = self._constants()

    def _decided(self) -> dict[str, dict[str, Match]]:
        """The places that a person gives to columns of each source."""
        out: dict[str, dict[str, Match]] = {n: {} for n in self.sources}
        wishes = self.wishes
        for header, said in wishes.places:
            self._give(out, "--map", header, self._place(header, said))
        for header, table in wishes.links:
            self._known_table(table, "--link")
            naming = self.where.naming(table)
            found = [p for p in self.where.all if p.table == table and p.column in naming]
            if not found:
                raise UsageError(
                    f'"{header}" cannot refer to "{table}"',
                    code="map.link",
                    why="no column names its records, and no value finds one",
                    next=f'--map "{header}={table}.COLUMN" gives it a column',
                )
            best = max(found, key=lambda p: (self._score_of(header, p), not p.through))
            self._give(out, "--link", header, best)
        for header in wishes.leave_out:
            for name in self._sources_of("--leave-out", header):
                column = self._header(name, header)
                self.left_out[name].add(column)
                if column in out[name]:
                    raise UsageError(
                        f'"{header}" is given a place and left out',
                        code="map.both",
                        next="use --map or --leave-out for it, not both",
                    )
        for table, how in wishes.missing:
            self._known_table(table, "--missing")
            if how not in ("create", "refuse"):
                raise UsageError(
                    f'--missing: "{how}" is not create or refuse',
                    code="map.missing",
                    next=f'write it like --missing "{table}=create"',
                )
        for _, table in wishes.rows:
            self._known_table(table, "--rows-to")
        return out

    def _give(
        self, out: dict[str, dict[str, Match]], option: str, header: str, place: Place
    ) -> None:
        for name in self._sources_of(option, header):
            column = self._header(name, header)
            taken = next((h for h, m in out[name].items() if m.place == place), "")
            if taken or column in out[name]:
                raise UsageError(
                    f'{option}: "{header}" and "{taken}" cannot both go to {place}'
                    if taken
                    else f'{option}: "{header}" is given two places',
                    code="map.twice",
                    next="give each column one place of its own",
                )
            out[name][column] = Match(place, 2.0, "as you decided", "decided")

    def _header(self, name: str, said: str) -> str:
        """The header of a source that is meant: by its text, or by its position from 1."""
        headers = self.sources[name].headers
        if said in headers or not said.isdigit():
            return said
        return headers[int(said) - 1] if 0 < int(said) <= len(headers) else said

    def _sources_of(self, option: str, header: str) -> list[str]:
        found = [n for n, s in self.sources.items() if self._header(n, header) in s.headers]
        if not found:
            headers = [h for s in self.sources.values() for h in s.headers]
            near = closest(header, headers)
            raise UsageError(
                f'{option}: no source has a column "{header}"',
                code="map.header",
                next=f'did you mean "{near}"?'
                if near
                else f"the columns are {', '.join(headers)}; a number names one by its position",
            )
        return found

    def _known_table(self, table: str, option: str) -> TableThere:
        if table in self.there:
            return self.there[table]
        near = closest(table, self.there)
        raise UsageError(
            f'{option}: there is no table "{table}"',
            code="map.table",
            next=f'did you mean "{near}"?' if near else f"the tables are {', '.join(self.there)}",
        )

    def _place(self, header: str, said: str) -> Place:
        """The place that is written as `TABLE.COLUMN` or `TABLE.LINK.COLUMN`; the second part may
        be a link alone, for a record that is found by what names it."""
        table, *rest = said.split(".")
        there = self._known_table(table, "--map")
        names = [c.name for c in there.columns]
        if not rest or len(rest) > 2 or rest[0] not in names:
            near = closest(rest[0], names) if rest else ""
            raise UsageError(
                f'--map: {table} has no column "{".".join(rest)}"',
                code="map.column",
                next=f'did you mean "{table}.{near}"?'
                if near
                else f'write it like --map "{header}={table}.{names[-1]}"; its columns are '
                f"{', '.join(names)}",
            )
        if rest[0] not in there.links and len(rest) == 1:
            return Place(table, rest[0])
        parent = self.there.get(there.links.get(rest[0], ""))
        if parent is None:
            raise UsageError(
                f"--map: {table}.{rest[0]} does not refer to another table",
                code="map.column",
                next=f'use --map "{header}={table}.{rest[0]}"',
            )
        able = self.where.naming(parent.name) if len(rest) == 1 else tuple(rest[1:])
        if not able or able[0] not in [c.name for c in parent.columns]:
            raise UsageError(
                f"--map: {parent.name} has no column "
                + (f'"{able[0]}"' if able else "that names its records"),
                code="map.column",
                next=f'write it like --map "{header}={table}.{rest[0]}.COLUMN"; its columns are '
                f"{', '.join(c.name for c in parent.columns)}",
            )
        places = [Place(parent.name, c, table, rest[0]) for c in able]
        return max(places, key=lambda p: self._score_of(header, p))

    def _constants(self) -> dict[tuple[str, str], str]:
        out = {}
        for said, value in self.wishes.constants:
            table, _, column = said.partition(".")
            there = self._known_table(table, "--constant")
            if column not in [c.name for c in there.columns]:
                raise UsageError(
                    f'--constant: {table} has no column "{column}"',
                    code="map.column",
                    next=f"its columns are {', '.join(c.name for c in there.columns)}",
                )
            if column in there.links:
                raise UsageError(
                    f"--constant: {said} refers to a record of {there.links[column]}",
                    code="map.constant",
                    next="add a column to the file that names the record",
                )
            if wrong := _unfit(value, there.column(column)):
                raise UsageError(
                    f'--constant: {said} cannot be "{value}"',
                    code="map.constant",
                    why=wrong,
                    next="give a value that the column takes",
                )
            given = [m.place for some in self.places.values() for m in some.values()]
            if Place(table, column) in given:
                raise UsageError(
                    f"--constant: {said} has the values of a column already",
                    code="map.both",
                    next="use --map or --constant for it, not both",
                )
            out[table, column] = value
        return out

    def _score_of(self, header: str, place: Place) -> float:
        """How well a place that a person has named in part fits a column."""
        scores = [
            match.score
            for name in self.sources
            if (match := self.where.match(name, self._header(name, header), place)) is not None
        ]
        return max(scores, default=0.0)


def refuse_idle(
    wishes: Wishes, sources: Collection[str], tables: Collection[str], missing: Collection[str]
) -> None:
    """Raises UsageError for wishes that change nothing: about sources that are not there, tables
    that the files do not fill (`tables` are those that they do), and records that are not looked
    up (`missing` are those tables whose are)."""
    for said, _ in wishes.rows:
        if said and said not in sources:
            raise UsageError(
                f'--rows-to: there is no source "{said}"',
                code="map.source",
                next=f"the sources are {', '.join(sources)}",
            )
    place = "leave it out, or give a column of the files a place in that table"
    filled = [said.partition(".")[0] for said, _ in wishes.constants]
    referred = [table for table, _ in wishes.missing]
    for option, do, wanted, known, remedy in (
        ("--constant", "fill", filled, tables, place),
        ("--missing", "refer to", referred, missing, "leave it out"),
    ):
        if idle := next((table for table in wanted if table not in known), ""):
            raise UsageError(
                f"{option}: the files {do} no record of {idle}",
                code="map.idle",
                why=f"they {do} {', '.join(known) or 'none of other tables'}",
                next=remedy,
            )


def _unfit(value: str, there: ColumnThere) -> str:
    """Why a column does not take a value in every row; "" where it does."""
    kind = there.type.kind
    if there.computed:
        return "the database computes the column"
    if there.allowed and value not in there.allowed:
        return f"it takes {', '.join(sorted(there.allowed))}"
    if kind in ("timestamp", "time"):
        return f"a {kind} cannot be the same in every row: add a column to the file"
    form = _WRITTEN.get(kind)
    return "" if form is None or re.fullmatch(form[0], value) else f"write it like {form[1]}"
