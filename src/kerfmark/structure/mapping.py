"""Mapping sources onto tables that a database has already, made by anyone: which source column
feeds which column of which table.

What is weighed: how alike the names are (those of table and column together, and of the foreign key
that leads there), how many of the values the database has already, and whether types, lengths and
rules allow them. The links decide what can belong to one row: from the table that gets a record per
row, every other table must be reached by foreign keys. Each mapping is told with how sure it is;
what is only possible is told, and not made.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.errors import UsageError
from kerfmark.layout.model import VERSION, Layout, SourceSpec
from kerfmark.layout.names import closest
from kerfmark.profile.codes import holds
from kerfmark.profile.encode import EncodedSource
from kerfmark.profile.types import TEXT, ColumnType
from kerfmark.structure.mapped_tables import MappedTables
from kerfmark.structure.name_likeness import (
    TABLE_S_NAME,
    is_naming,
    likeness,
    shared_prefix,
    table_words,
    words,
)
from kerfmark.structure.tables_there import ColumnThere, Place, TableThere, depth, reached

ENOUGH = 0.6
"""The score from which a source column is mapped to a column of a table."""
LIKELY, SURE = 0.75, 0.94
"""The scores from which a mapping is called likely, and sure."""
POSSIBLE = 0.35
"""The score from which a place is told as possible."""
CLOSE = 0.05
"""Two places whose scores differ by less are as good as each other."""
_TAKES = {
    "text": frozenset(
        {"text", "integer", "decimal", "real", "boolean", "date", "timestamp", "time"}
    ),
    "integer": frozenset({"integer"}),
    "decimal": frozenset({"integer", "decimal"}),
    "real": frozenset({"integer", "decimal", "real"}),
    "boolean": frozenset({"boolean"}),
    "date": frozenset({"date"}),
    "timestamp": frozenset({"date", "timestamp"}),
    "time": frozenset({"time"}),
}
_ALIKE = {"decimal": {"decimal", "real"}, "integer": {"integer", "decimal", "real"}}
"""Kinds of columns that take values of a kind as they are."""
_UUID = r"^\{?[0-9A-Fa-f]{8}-?([0-9A-Fa-f]{4}-?){3}[0-9A-Fa-f]{12}\}?$"
_SOME = 5000
"""Values of a source column that are compared."""


@dataclass(frozen=True)
class Wishes:
    """What a person decides about a mapping: columns with their places (`table.column`, or
    `table.link.column` for a record that is found by value), the tables that get a record per row
    of a source ("": of all), columns that refer to records of a table, columns that are left out,
    values for columns that are the same in every row, and what is done about records that a table
    does not have ("create" or "refuse")."""

    places: tuple[tuple[str, str], ...] = ()
    rows: tuple[tuple[str, str], ...] = ()
    links: tuple[tuple[str, str], ...] = ()
    leave_out: tuple[str, ...] = ()
    constants: tuple[tuple[str, str], ...] = ()
    missing: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True)
class Fed:
    """A source column and the column that it feeds, how sure that is (`sure`, `likely`, `doubtful`
    or `decided`), and why. `link` is the foreign key by which the record is found by value ("": the
    record is one of the row itself)."""

    source: str
    header: str
    table: str
    column: str
    sure: str
    why: str
    link: str = ""


@dataclass(frozen=True)
class Unmapped:
    """A source column that no table takes, and the places that it might have, the best first."""

    source: str
    header: str
    perhaps: tuple[str, ...] = ()


@dataclass(frozen=True)
class Onto:
    """The proposal: a layout, what feeds what, columns that no table takes, what is required and
    has no source, in words, and what becomes of records that a table does not have ("create" or
    "refuse"). `odd` tells what could not be mapped."""

    layout: Layout
    fed: tuple[Fed, ...]
    unmapped: tuple[Unmapped, ...]
    required: tuple[str, ...]
    missing: tuple[tuple[str, str], ...]
    odd: tuple[str, ...]
    comments: dict[str, list[str]] = field(default_factory=dict)


@dataclass(frozen=True)
class _Match:
    """A place for a source column, how good it is, and why."""

    place: Place
    score: float
    why: str
    sure: str = ""


def onto(
    sources: Mapping[str, EncodedSource],
    types: Mapping[str, Sequence[ColumnType]],
    specs: Mapping[str, SourceSpec],
    there: Sequence[TableThere],
    wishes: Wishes = Wishes(),
) -> Onto:
    """Proposes how sources feed tables that are there. `types` are those of the columns of each
    source.

    Raises UsageError for wishes that name what is not there, or do not go together.
    """
    return _Mapping(sources, types, specs, there, wishes).propose()


class _Mapping:
    """Where the columns of some sources go, found step by step: places, tables with a record per
    row, what is left over."""

    def __init__(
        self,
        sources: Mapping[str, EncodedSource],
        types: Mapping[str, Sequence[ColumnType]],
        specs: Mapping[str, SourceSpec],
        there: Sequence[TableThere],
        wishes: Wishes,
    ) -> None:
        self.sources, self.types, self.specs, self.wishes = sources, types, specs, wishes
        self.there = {t.name: t for t in there if t.key}
        self.odd = [f"{t.name} has no primary key and is left alone" for t in there if not t.key]
        self.prefixes = {
            t.name: shared_prefix([c.name for c in t.columns if c.name not in t.links])
            for t in there
        }
        self.places = self._places()
        self.fed: dict[str, dict[str, _Match]] = {}
        self.scored: dict[str, dict[str, list[_Match]]] = {}
        self.bases: dict[str, str] = {}

    def propose(self) -> Onto:
        """The whole proposal."""
        decided = self._decided()
        for name in self.sources:
            self.fed[name] = self._assigned(name, decided[name])
        for name in self.sources:
            self._choose_base(name)
            if name in self.bases:  # what is not reached from there has another place, or none
                self.fed[name] = self._assigned(name, decided[name], self.bases[name])
            self._left_over(name)
        built = MappedTables(
            self.sources,
            self.types,
            self.there,
            self.bases,
            {n: {h: m.place for h, m in f.items()} for n, f in self.fed.items()},
            self._constants(),
            dict(self.wishes.missing),
        )
        specs = {}
        for name, spec in self.specs.items():
            if name in self.bases:
                placed = {h for t in built.tables.values() if t.source == name for h in t.headers}
                self.fed[name] = {h: f for h, f in self.fed[name].items() if h in placed}
                out = tuple(h for h in self.sources[name].headers if h not in self.fed[name])
                specs[name] = spec.model_copy(update={"left_out": out})
        told = tuple(
            Fed(n, h, m.place.table, m.place.column, m.sure, m.why, m.place.through)
            for n in specs
            for h in self.sources[n].headers
            if h in self.fed[n]
            for m in [self.fed[n][h]]
        )
        unmapped = tuple(
            Unmapped(n, h, self._perhaps(n, h)) for n, s in specs.items() for h in s.left_out
        )
        self.odd += [
            f"{n}: no table of the database fits it" for n in self.sources if n not in self.bases
        ]
        layout = Layout(kerfmark=VERSION, existing=True, sources=specs, tables=built.tables)
        return Onto(
            layout,
            told,
            unmapped,
            tuple(built.required),
            tuple(built.missing_records.items()),
            (*self.odd, *self._undecided()),
            _comments(told, unmapped, built.required),
        )

    # -- what a person decides

    def _decided(self) -> dict[str, dict[str, _Match]]:
        """The places that a person gives to columns of each source."""
        out: dict[str, dict[str, _Match]] = {n: {} for n in self.sources}
        wishes = self.wishes
        for header, said in wishes.places:
            self._give(out, "--map", header, self._place(header, said))
        for header, table in wishes.links:
            self._known_table(table, "--link")
            found = [p for p in self.places if p.table == table and p.column in self._naming(table)]
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
                if header in out[name]:
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
        self, out: dict[str, dict[str, _Match]], option: str, header: str, place: Place
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
            out[name][column] = _Match(place, 2.0, "as you decided", "decided")

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
        """The place that is written as `table.column` or `table.link.column`; the second part may
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
        able = self._naming(parent.name) if len(rest) == 1 else tuple(rest[1:])
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
            out[table, column] = value
        return out

    # -- which column goes where

    def _places(self) -> list[Place]:
        out = []
        for t in self.there.values():
            for c in t.columns:
                if c.computed or c.name in t.links:
                    continue
                out.append(Place(t.name, c.name))
            for link, parent in t.links.items():
                several = [k for k, p in t.links.items() if p == parent]
                if parent in self.there and (parent == t.name or len(several) > 1):
                    out += [Place(parent, c, t.name, link) for c in self._naming(parent)]
        return out

    def _naming(self, table: str) -> tuple[str, ...]:
        """The columns by which a record of a table is recognised: unique ones, a key that is said,
        and one that is called like a name."""
        t = self.there[table]
        said = {c.name: c for c in t.columns}
        unique = [u[0] for u in t.unique if len(u) == 1 and u[0] not in t.links]
        if len(t.key) == 1 and not t.generated and t.key[0] not in t.links:
            unique += [t.key[0]] if not said[t.key[0]].filled else []
        called = [
            c
            for c in said
            if is_naming(c, table, self.prefixes[table]) and c not in (*t.key, *t.links)
        ]
        return tuple(dict.fromkeys([*unique, *called[: 0 if unique else 1]]))

    def _score_of(self, header: str, place: Place) -> float:
        """How well a place that a person has named in part fits a column."""
        scores = [
            match.score
            for name in self.sources
            for match in [self._match(name, self._header(name, header), place)]
            if match is not None
        ]
        return max(scores, default=0.0)

    def _match(self, name: str, header: str, place: Place) -> _Match | None:
        """How well a column of a source fits a place; None where it cannot go there."""
        source = self.sources[name]
        if header not in source.headers:
            return None
        i = source.headers.index(header)
        said, values = self.types[name][i], source.columns[i].values
        there = self.there[place.table]
        c = there.column(place.column)
        if not _fits(said, values, c):
            return None
        prefix = self.prefixes[place.table]
        alike = likeness(header, place.table, place.column, place.through, prefix)
        if c.filled and place.column == there.generated and alike < 1:
            return None
        known = set(values.slice(0, _SOME).to_pylist())
        share = len(known & c.values) / len(known) if known and c.values else None
        why = _in_words(alike, place)
        if alike == TABLE_S_NAME and not c.optional:
            alike += 1.2 * CLOSE  # of a code and a name, the one that every record has
        score = alike
        if share is not None:
            by_values = 0.4 * alike + 0.6 * share if len(c.values) > 2 else 0.0
            score = max(alike, by_values) + 0.1 * share
            score += 0.1 * (share >= 0.9 and len(known) > 2)
        if share:
            why += (", " if why else "") + f"{share:.0%} of its values are there"
        if c.allowed:
            inside = len(known & c.allowed) / max(len(known), 1)
            if inside < 0.5:
                return None
            score = max(score, 0.4 * alike + 0.6 * inside if len(known) > 1 else score)
            why += (", " if why else "") + "the column takes such values only"
        if said == TEXT and c.type.kind != "text":
            score *= 0.9  # its values do not all fit; the check will tell
        return _Match(place, score, why or "the names are a little alike")

    def _assigned(
        self, name: str, decided: Mapping[str, _Match], base: str = ""
    ) -> dict[str, _Match]:
        """The best place for each column of a source, each place used once; of those only that
        links lead to from a table, where it is given."""
        source = self.sources[name]
        reach = reached(self.there, base) if base else self.there
        places = [p for p in self.places if p.of in reach]
        self.scored[name] = {}
        ranked: list[tuple[float, int, _Match]] = []
        for i, header in enumerate(source.headers):
            if header in decided or header in self.wishes.leave_out:
                continue
            found = [m for p in places if (m := self._match(name, header, p)) is not None]
            found.sort(key=lambda m: (-m.score, m.place.through, m.place.table))
            self.scored[name][header] = [m for m in found if m.score >= POSSIBLE]
            ranked += [(m.score, i, m) for m in found if m.score >= ENOUGH]
        out = dict(decided)
        used = {m.place for m in decided.values()}
        used |= {Place(*said.split(".", 1)) for said, _ in self.wishes.constants if "." in said}
        for score, i, match in sorted(
            ranked, key=lambda r: (-r[0], r[1], r[2].place.through, r[2].place.table)
        ):
            header = source.headers[i]
            if header in out or match.place in used:
                continue
            used.add(match.place)
            out[header] = _Match(match.place, score, match.why)
        for header, match in out.items():
            if not match.sure:
                out[header] = self._with_doubt(name, header, match, used)
        return {h: out[h] for h in source.headers if h in out}

    def _with_doubt(self, name: str, header: str, match: _Match, used: set[Place]) -> _Match:
        """A mapping with how sure it is: another place that nothing takes may be as good."""
        others = [
            m.place
            for m in self.scored[name][header]
            if m.score > match.score - CLOSE and m.place not in used
        ]
        if others and match.score < 1:
            return _Match(
                match.place, match.score, f"{match.why}, but so is {others[0]}", "doubtful"
            )
        sure = "sure" if match.score >= SURE else "likely" if match.score >= LIKELY else "doubtful"
        return _Match(match.place, match.score, match.why, sure)

    def _perhaps(self, name: str, header: str) -> tuple[str, ...]:
        """The places that a column which goes nowhere might have."""
        used = {str(m.place) for m in self.fed.get(name, {}).values()}
        said = self.types[name][self.sources[name].headers.index(header)]
        places = [
            str(m.place)
            for m in self.scored[name].get(header, ())
            if said.kind in _TAKES[self.there[m.place.table].column(m.place.column).type.kind]
        ]
        reach = reached(self.there, self.bases[name])
        return tuple(
            p for p in dict.fromkeys(places) if p not in used and p.split(".")[0] in reach
        )[:3]

    # -- the table with a record per row

    def _choose_base(self, name: str) -> None:
        """The table from which all, or most, of what a source feeds is reached; what is not reached
        has no place there."""
        fed = self.fed[name]
        wanted = next((t for s, t in self.wishes.rows if s in (name, "")), "")
        owners = {m.place.of for m in fed.values()}
        if not owners and not wanted:
            return
        reach = {t: reached(self.there, t) for t in self.there}

        def weight(table: str) -> tuple[float, ...]:
            """How much of the source is reached from a table, less what its records would lack."""
            inside = [m for m in fed.values() if m.place.of in reach[table]]
            mine = {m.place.column for m in inside if m.place.of == table and not m.place.through}
            mine |= {m.place.through for m in inside if m.place.owner == table}
            there = self.there[table]
            for link, parent in there.links.items():
                if any(m.place.of in reached(self.there, parent) for m in inside):
                    mine.add(link)
            repeats = any(
                m.place.of == table
                and not m.place.through
                and (m.place.column,) in (there.key, *there.unique)
                and len(self.sources[name].column(h).values) < self.sources[name].rows
                for h, m in fed.items()
            )
            lacks = {*there.needed} - mine - {c for t, c in self._constants() if t == table}
            sure = sum(min(m.score, 1.0) if m.sure != "doubtful" else 0.2 for m in inside)
            return (
                round(sure - len(lacks) / 2 - 2 * repeats, 6),
                table in owners,
                {*table_words(table)} == {*words(name)},
                len(mine),
                -len(reach[table]) if table not in owners else depth(self.there, table),
            )

        base = wanted or max(sorted(self.there), key=weight)
        self.bases[name] = base
        for header, match in fed.items():
            if match.sure == "decided" and match.place.of not in reach[base]:
                raise UsageError(
                    f'"{header}" cannot go to {match.place}',
                    code="map.reach",
                    why=f"the rows make records of {base}, and no link leads from there to "
                    f"{match.place.of}",
                    next='--rows-to "TABLE" makes the rows records of another table',
                )

    def _left_over(self, name: str) -> None:
        """The only date, or number, for the only one that must be filled; and, as what is possible
        only, the column that is left in a table whose records decide a header."""
        if name not in self.bases:
            return
        fed, source, base = self.fed[name], self.sources[name], self.bases[name]
        kinds = {
            h: t
            for h, t in zip(source.headers, self.types[name], strict=True)
            if h not in self.wishes.leave_out
        }
        for column in self.there[base].columns:
            alone = [h for h, t in kinds.items() if h not in fed and t.kind == column.type.kind]
            able = [
                c
                for c in self._open(name, base, column.type)
                if c.type.kind == column.type.kind and c.name != self.there[base].generated
            ]
            needed = [c for c in able if not c.optional] or able
            if column.type.kind != "text" and needed == [column] and len(alone) == 1:
                why = f"the only {column.type.kind} that is left"
                fed[alone[0]] = _Match(Place(base, column.name), ENOUGH, why, "doubtful")
        for header in (h for h in kinds if h not in fed):
            for table in reached(self.there, base):
                keys = [
                    h
                    for h, m in fed.items()
                    if m.place.table == table and m.place.column in self._naming(table)
                ]
                decides = keys and holds(
                    source.column(keys[0]).codes,
                    source.column(header).codes,
                    len(source.column(keys[0]).values),
                )
                if decides or table == base:
                    self.scored[name].setdefault(header, []).extend(
                        _Match(Place(table, c.name), 0.0, "")
                        for c in self._open(name, table, kinds[header])
                        if _fits(kinds[header], source.column(header).values, c)
                    )

    def _open(self, name: str, table: str, type_: ColumnType) -> list[ColumnThere]:
        """The columns of a table that nothing feeds and that take values of a type."""
        t = self.there[table]
        used = {m.place.column for m in self.fed[name].values() if m.place.of == table}
        return [
            c
            for c in t.columns
            if c.name not in used
            and c.name not in t.links
            and not c.computed
            and not c.filled
            and c.type.kind in _ALIKE.get(type_.kind, {type_.kind})
        ]

    def _undecided(self) -> list[str]:
        """Columns of records that what names these does not decide."""
        out = []
        for name, base in self.bases.items():
            source = self.sources[name]
            for table in {m.place.table for m in self.fed[name].values()} - {base}:
                fed = {
                    m.place.column: h
                    for h, m in self.fed[name].items()
                    if m.place.table == table and not m.place.through
                }
                key = next((fed[c] for c in self._naming(table) if c in fed), "")
                for column, header in fed.items() if key else ():
                    codes, size = source.column(key).codes, len(source.column(key).values)
                    if not holds(codes, source.column(header).codes, size):
                        out.append(
                            f'"{header}" has several values for one "{key}", so {table}.{column} '
                            "cannot hold it"
                        )
        return out


def _fits(said: ColumnType, values: pa.StringArray, there: ColumnThere) -> bool:
    """Whether a column takes the values of another one, as far as types, lengths and forms tell."""
    if said.kind not in _TAKES[there.type.kind] and said != TEXT:
        return False
    if there.uuid:
        return len(values) > 0 and bool(pc.all(pc.match_substring_regex(values, _UUID)).as_py())
    if re.search("e_?mail", there.name.lower()) and len(values):
        return bool(pc.mean(pc.match_substring(values, "@")).as_py() > 0.5)
    return True


def _in_words(alike: float, place: Place) -> str:
    """How alike the names are."""
    if alike == TABLE_S_NAME:
        return f"{place.column} is what names a record of {place.table}"
    return (
        "of the same name"
        if alike > TABLE_S_NAME
        else "the names are alike"
        if alike >= ENOUGH
        else ""
    )


def _comments(
    fed: Sequence[Fed], unmapped: Sequence[Unmapped], required: Sequence[str]
) -> dict[str, list[str]]:
    """What the layout says above its sources and tables."""
    out: dict[str, list[str]] = {}
    for name in dict.fromkeys(u.source for u in unmapped):
        headers = ", ".join(f'"{u.header}"' for u in unmapped if u.source == name)
        out[f"sources.{name}"] = [
            f"no column of the database matches {headers}. They are left out, unless you give them "
            "a place under columns of a table: cut then adds the column"
        ]
    for line in required:
        out.setdefault(f"tables.{line.split('.')[0]}", []).append(line)
    for one in fed:
        if one.sure == "doubtful":
            out.setdefault(f"tables.{one.table}", []).append(
                f'doubtful: "{one.header}" goes to {one.column}: {one.why}'
            )
    return out
