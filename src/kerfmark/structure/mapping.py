"""Mapping sources onto tables that a database has already, made by anyone: which source column
feeds which column of which table.

What is weighed: how alike the names are (those of table and column together, and of the foreign key
that leads there), how many of the values the database has already, and whether types, lengths and
rules allow them. The links decide what can belong to one row: from the table that gets a record per
row, every other table must be reached by foreign keys. Each mapping is told with how sure it is;
what is only possible is told, and not made.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from kerfmark.errors import UsageError
from kerfmark.layout.model import VERSION, Layout, SourceSpec
from kerfmark.profile.codes import holds
from kerfmark.profile.encode import EncodedSource
from kerfmark.profile.types import ColumnType
from kerfmark.structure.column_places import CLOSE, ENOUGH, TAKES, ColumnPlaces, Match, fits
from kerfmark.structure.mapped_lists import ListPlace, find_lists
from kerfmark.structure.mapped_tables import MappedTables
from kerfmark.structure.mapping_wishes import DecidedPlaces, Wishes, refuse_idle
from kerfmark.structure.name_likeness import table_words, words
from kerfmark.structure.tables_there import ColumnThere, Place, TableThere, depth, reached

LIKELY, SURE = 0.75, 0.94
"""The scores from which a mapping is called likely, and sure."""
POSSIBLE = 0.35
"""The score from which a place is told as possible."""
_ALIKE = {"decimal": {"decimal", "real"}, "integer": {"integer", "decimal", "real"}}
"""Kinds of columns that take values of a kind as they are."""


@dataclass(frozen=True)
class Fed:
    """A source column and the column that it feeds, how sure that is (`sure`, `likely`, `doubtful`
    or `decided`), and why. `link` is the foreign key by which the record is found by value ("": the
    record is one of the row itself); `place` is what a person would call all of it."""

    source: str
    header: str
    table: str
    column: str
    sure: str
    why: str
    link: str = ""
    place: str = ""


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
        self.where = ColumnPlaces(sources, types, self.there)
        decided = DecidedPlaces(wishes, self.where)
        self.decided, self.left_out = decided.places, decided.left_out
        self.constants = decided.constants
        self.fed: dict[str, dict[str, Match]] = {}
        self.scored: dict[str, dict[str, list[Match]]] = {}
        self.lists: dict[str, dict[str, ListPlace]] = {}
        self.bases: dict[str, str] = {}

    def propose(self) -> Onto:
        """The whole proposal."""
        found: dict[str, dict[str, list[ListPlace]]] = {}
        for name in self.sources:
            given = {*self.decided[name], *self.left_out[name]}
            some = find_lists(self.where, name)
            found[name] = {h: places for h, places in some.items() if h not in given}
            self.lists[name] = {h: places[0] for h, places in found[name].items()}
            self.fed[name] = self._assigned(name)
        for name in self.sources:
            self._choose_base(name)
            base = self.bases.get(name, "")
            if base:  # what is not reached from there has another place, or none
                mine = {h: [p for p in some if p.owner == base] for h, some in found[name].items()}
                self.lists[name] = {h: some[0] for h, some in mine.items() if some}
                self.fed[name] = self._assigned(name, base)
            self._left_over(name)
        built = MappedTables(
            self.sources,
            self.types,
            self.there,
            self.bases,
            {n: {h: m.place for h, m in f.items()} for n, f in self.fed.items()},
            self.constants,
            dict(self.wishes.missing),
            self.lists,
        )
        refuse_idle(self.wishes, self.sources, built.tables, built.missing_records)
        self.odd += built.odd
        specs = {}
        for name, spec in self.specs.items():
            if name in self.bases:
                placed = {h for t in built.tables.values() if t.source == name for h in t.headers}
                self.fed[name] |= {
                    h: Match(p.place, 1.0, p.why, "sure" if p.share >= ENOUGH else "likely")
                    for h, p in self.lists[name].items()
                }
                self.fed[name] = {h: f for h, f in self.fed[name].items() if h in placed}
                out = tuple(h for h in self.sources[name].headers if h not in self.fed[name])
                specs[name] = spec.model_copy(update={"left_out": out})
        told = tuple(
            Fed(n, h, m.place.table, m.place.column, m.sure, m.why, m.place.through, str(m.place))
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

    # -- which column goes where

    def _assigned(self, name: str, base: str = "") -> dict[str, Match]:
        """The best place for each column of a source, each place used once; of those only that
        links lead to from a table, where it is given."""
        source, decided = self.sources[name], self.decided[name]
        reach = reached(self.there, base) if base else self.there
        places = [p for p in self.where.all if p.of in reach]
        self.scored[name] = {}
        ranked: list[tuple[float, int, Match]] = []
        for i, header in enumerate(source.headers):
            if header in {*decided, *self.lists[name], *self.left_out[name]}:
                continue
            found = [m for p in places if (m := self.where.match(name, header, p)) is not None]
            found.sort(key=lambda m: (-m.score, m.place.through, m.place.table))
            self.scored[name][header] = [m for m in found if m.score >= POSSIBLE]
            ranked += [(m.score, i, m) for m in found if m.score >= ENOUGH]
        out = dict(decided)
        used = {m.place for m in decided.values()}
        used |= {Place(*place) for place in self.constants}
        for score, i, match in sorted(
            ranked, key=lambda r: (-r[0], r[1], r[2].place.through, r[2].place.table)
        ):
            header = source.headers[i]
            if header in out or match.place in used:
                continue
            used.add(match.place)
            out[header] = Match(match.place, score, match.why)
        for header, match in out.items():
            if not match.sure:
                out[header] = self._with_doubt(name, header, match, used)
        return {h: out[h] for h in source.headers if h in out}

    def _with_doubt(self, name: str, header: str, match: Match, used: set[Place]) -> Match:
        """A mapping with how sure it is: another place that nothing takes may be as good."""
        others = [
            m.place
            for m in self.scored[name][header]
            if m.score > match.score - CLOSE and m.place not in used
        ]
        if others and match.score < 1:
            return Match(
                match.place, match.score, f"{match.why}, but so is {others[0]}", "doubtful"
            )
        sure = "sure" if match.score >= SURE else "likely" if match.score >= LIKELY else "doubtful"
        return Match(match.place, match.score, match.why, sure)

    def _perhaps(self, name: str, header: str) -> tuple[str, ...]:
        """The places that a column without one might have."""
        used = {str(m.place) for m in self.fed.get(name, {}).values()}
        said = self.types[name][self.sources[name].headers.index(header)]
        places = [
            str(m.place)
            for m in self.scored[name].get(header, ())
            if said.kind in TAKES[self.there[m.place.table].column(m.place.column).type.kind]
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
            lacks = {*there.needed} - mine - {c for t, c in self.constants if t == table}
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
            if h not in self.left_out[name]
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
                fed[alone[0]] = Match(Place(base, column.name), ENOUGH, why, "doubtful")
        for header in (h for h in kinds if h not in fed):
            for table in reached(self.there, base):
                keys = [
                    h
                    for h, m in fed.items()
                    if m.place.table == table and m.place.column in self.where.naming(table)
                ]
                decides = keys and holds(
                    source.column(keys[0]).codes,
                    source.column(header).codes,
                    len(source.column(keys[0]).values),
                )
                if decides or table == base:
                    self.scored[name].setdefault(header, []).extend(
                        Match(Place(table, c.name), 0.0, "")
                        for c in self._open(name, table, kinds[header])
                        if fits(kinds[header], source.column(header).values, c)
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
            for table in sorted({m.place.table for m in self.fed[name].values()} - {base}):
                fed = {
                    m.place.column: h
                    for h, m in self.fed[name].items()
                    if m.place.table == table and not m.place.through
                }
                key = next((fed[c] for c in self.where.naming(table) if c in fed), "")
                for column, header in fed.items() if key else ():
                    codes, size = source.column(key).codes, len(source.column(key).values)
                    if not holds(codes, source.column(header).codes, size):
                        out.append(
                            f'"{header}" has several values for one "{key}", so {table}.{column} '
                            "cannot hold it"
                        )
        return out


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
