"""Roles: buyer and seller, origin and destination, out of one stock of things.

Two tables of a source that hold the same kinds of columns, share many of their keys, and say the
same of all that they share are one table; its records are found by value in the second role.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from itertools import combinations
from math import log

import numpy as np
import pyarrow.compute as pc

from kerfmark.errors import UsageError, counted
from kerfmark.layout.model import ColumnSpec, Layout, LinkSpec, TableSpec
from kerfmark.profile.codes import first_rows
from kerfmark.profile.columns import EncodedColumn
from kerfmark.profile.encode import EncodedSource
from kerfmark.structure.header_words import words

FEWEST_SHARED = 3
"""Keys that two roles share at least."""
SHARED = 0.25
"""The share of the smaller role's keys that the other one has at least."""
ENOUGH = 7.0
"""Nats that the agreement of what is shared must be beyond chance."""


@dataclass(frozen=True)
class Role:
    """A table whose records turned out to be those of another one: which columns of the other one
    its headers are, how many keys both have, and of how many."""

    table: str
    other: str
    columns: dict[str, str]
    shared: int
    keys: int
    records: int

    def __str__(self) -> str:
        return (
            f"{self.table} and {self.other} are two roles of the same things: they share "
            f"{self.shared:,} of {counted(self.keys, 'key')} and agree in every column"
        )


def join_roles(
    layout: Layout,
    encoded: Mapping[str, EncodedSource],
    apart: Sequence[Sequence[str]] = (),
    elsewhere: Collection[str] = (),
    same_as: Sequence[tuple[str, str]] = (),
) -> tuple[Layout, list[Role]]:
    """A layout in which the roles of one stock are one table, but for those with headers that are
    to be `apart`, and tables whose stock is `elsewhere`; those known by two headers that mean the
    `same_as` each other need no evidence. Raises UsageError where these say different things."""
    roles: list[Role] = []
    tables = dict(layout.tables)
    plain: dict[str, list[str]] = {}
    wished = {h for pair in same_as for h in pair}
    for name, spec in layout.tables.items():
        if name not in elsewhere and _is_plain(name, tables, wished):
            plain.setdefault(spec.source, []).append(name)
    for one, other in (pair for names in plain.values() for pair in combinations(names, 2)):
        if one not in tables or other not in tables:
            continue
        headers = {*tables[one].headers, *tables[other].headers}
        if any(set(said) <= headers for said in apart):
            continue
        wanted = {h for pair in same_as if {*pair} <= headers for h in pair}
        found = _role(one, other, tables, encoded, wanted)
        if found is not None:
            tables = _joined(tables, found)
            roles.append(found)
    if not roles:
        return layout, []
    whole = Layout(kerfmark=layout.kerfmark, sources=layout.sources, tables=tables)
    return whole, roles


def headers_alike(layout: Layout, roles: Sequence[Role]) -> dict[tuple[str, str], str]:
    """For the headers that say which record is meant in a role, those that do so in the other one,
    and the other way round; each with its source."""
    out: dict[tuple[str, str], str] = {}
    for role in roles:
        spec = layout.tables[role.other]
        for name, header in role.columns.items():
            theirs = spec.columns[name].header
            out |= {(spec.source, header): theirs}
            out.setdefault((spec.source, theirs), header)
    return out


def _is_plain(name: str, tables: Mapping[str, TableSpec], wished: Collection[str]) -> bool:
    """Whether a table is known by one column, has another one (unless it is `wished` to be a role),
    has no links and is linked to by rows only."""
    spec = tables[name]
    return (
        not spec.each_row
        and not spec.part_of
        and not spec.links
        and len(spec.known_by) == 1
        and (len(spec.columns) > 1 or bool(set(wished) & {*spec.headers}))
        and all(c.is_plain and not c.usual and not c.instead_of for c in spec.columns.values())
        and not any(t.part_of == name for t in tables.values())
    )


def _role(
    one: str,
    other: str,
    tables: Mapping[str, TableSpec],
    encoded: Mapping[str, EncodedSource],
    wanted: Collection[str],
) -> Role | None:
    """How a table is a role of another one of the same source, if it is, or if headers are `wanted`
    to mean the same."""
    if len(tables[one].columns) < len(tables[other].columns):
        one, other = other, one
    a, b = tables[one], tables[other]
    unique = dict.fromkeys((b.known_by[0], *(u[0] for u in b.unique if len(u) == 1)))
    if wanted:
        unique = {n: None for n in unique if b.columns[n].header in wanted}
    options = [_role_by(one, other, name, a, b, encoded[a.source], bool(wanted)) for name in unique]
    found = [r for r in options if r is not None]
    if wanted and not found:
        raise UsageError(
            f"{one} and {other} cannot be one table",
            code="steer.same-as",
            why="records with the same key differ in other columns, or their columns are not of "
            "the same kinds",
            next="leave out --same-as; kerfmark mark without it shows both tables",
        )
    return max(found, key=lambda r: r.shared) if found else None


def _role_by(
    one: str,
    other: str,
    known_by: str,
    a: TableSpec,
    b: TableSpec,
    source: EncodedSource,
    wanted: bool,
) -> Role | None:
    """The same, where a column of the other table says which record of the first one is meant."""
    key, same = a.columns[a.known_by[0]], b.columns[known_by]
    if key.of_type.kind != same.of_type.kind:
        return None
    mine, theirs = source.column(key.header), source.column(same.header)
    where = pc.index_in(theirs.values, value_set=mine.values).fill_null(-1).to_numpy()
    shared = np.flatnonzero(where >= 0)
    fewer = min(len(mine.values), len(theirs.values))
    if not wanted and len(shared) < max(FEWEST_SHARED, SHARED * fewer):
        return None
    rows_here = first_rows(mine.codes, len(mine.values))[where[shared]]
    rows_there = first_rows(theirs.codes, len(theirs.values))[shared]
    columns, nats = {a.known_by[0]: same.header}, 0.0
    for name, spec in b.columns.items():
        if name == known_by:
            continue
        options = [
            (_likeness(spec, c), agreed, n)
            for n, c in a.columns.items()
            if n not in columns
            and c.of_type.kind == spec.of_type.kind
            and (
                agreed := _agreed(
                    source.column(c.header), rows_here, source.column(spec.header), rows_there
                )
            )
            is not None
        ]
        if not options:
            return None
        _, agreed, chosen = max(options, key=lambda o: (o[0], o[1]))
        columns[chosen] = spec.header
        nats += agreed
    records = len(mine.values) + len(theirs.values) - len(shared)
    if nats < ENOUGH and not wanted:
        return None
    return Role(other, one, columns, len(shared), fewer, records)


def _likeness(one: ColumnSpec, other: ColumnSpec) -> int:
    """How many words two headers have in common."""
    return len(set(words(one.header)) & set(words(other.header)))


def _agreed(
    here: EncodedColumn, rows_here: np.ndarray, there: EncodedColumn, rows_there: np.ndarray
) -> float | None:
    """How much it says (in nats) that two columns agree in all of some rows; None where they do
    not."""
    place = pc.index_in(there.values, value_set=here.values).fill_null(-2).to_numpy()
    one = here.codes[rows_here]
    if not np.array_equal(one, np.append(place, -1)[there.codes[rows_there]]):
        return None
    _, times = np.unique(one, return_counts=True)
    by_chance = float(((times / len(one)) ** 2).sum())
    return -log(by_chance) * len(one) if 0 < by_chance < 1 else 0.0


def _joined(tables: Mapping[str, TableSpec], role: Role) -> dict[str, TableSpec]:
    """The tables without the second role's, whose records are found by value in the first one."""
    gone, kept = tables[role.table], tables[role.other]
    optional = {n for n, h in role.columns.items() if _name_of(gone, h) in gone.optional}
    lacking = set(kept.columns) - set(role.columns)
    key = kept.known_by[0]
    by = {key: role.columns[key]}
    repeats = {n: h for n, h in role.columns.items() if n != key}
    out = {n: t for n, t in tables.items() if n != role.table}
    types = {
        n: _wider(kept.columns[n], gone.columns[_name_of(gone, h)]) for n, h in role.columns.items()
    }
    out[role.other] = kept.model_copy(
        update={
            "columns": {n: types.get(n, c) for n, c in kept.columns.items()},
            "optional": tuple(dict.fromkeys((*kept.optional, *sorted(optional | lacking)))),
            "unique": (),
        }
    )
    link = LinkSpec(to=role.other, by=by, repeats=repeats)
    for name, spec in out.items():
        if any(target.to == role.table for target in spec.links.values()):
            links = {n: link if t.to == role.table else t for n, t in spec.links.items()}
            out[name] = spec.model_copy(update={"links": links})
    return out


def _name_of(spec: TableSpec, header: str) -> str:
    return next(n for n, c in spec.columns.items() if c.header == header)


def _wider(one: ColumnSpec, other: ColumnSpec) -> ColumnSpec:
    """The column whose type has more room."""
    a, b = one.of_type, other.of_type
    return one.model_copy(update={"type": other.type}) if b.precision > a.precision else one
