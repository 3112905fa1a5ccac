"""What a person says about the structure before it is proposed, and moving columns between entities
accordingly."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Literal

from kerfmark.errors import UsageError
from kerfmark.layout.names import closest
from kerfmark.structure.decisions import NOTHING, Decisions
from kerfmark.structure.entities import Entity

Depth = Literal["full", "lookups", "flat"]


@dataclass(frozen=True)
class Steering:
    """What the proposal must keep to. All names are headers.

    `left_out`: columns that no table gets. `together`: sets that must share a table. `apart`: pairs
    of which the second must not share the table of the first. `known_by`: sets of columns that are
    the key of something; `no_table`: sets that are not. `not_unique`: columns that tell no records
    apart. `no_link`: columns that refer to no other table; `link`: columns that do, as (header,
    table). `same_as`: pairs of columns that mean records of one table, as buyer and seller do.
    `repeated`: sets of columns that say the same several times over. `lists`: columns whose cells
    hold several values, each with what separates these ("" where that is to be found). `trees`:
    columns of codes that begin with the code above them. `depth`: to third normal form, only tables
    directly above the rows ("lookups"), or one table per source ("flat"). `decisions`: what a
    person decides about the tables and columns that come of it.
    """

    left_out: tuple[str, ...] = ()
    together: tuple[tuple[str, ...], ...] = ()
    apart: tuple[tuple[str, ...], ...] = ()
    known_by: tuple[tuple[str, ...], ...] = ()
    no_table: tuple[tuple[str, ...], ...] = ()
    not_unique: tuple[str, ...] = ()
    no_link: tuple[str, ...] = ()
    link: tuple[tuple[str, str], ...] = ()
    same_as: tuple[tuple[str, str], ...] = ()
    repeated: tuple[tuple[str, ...], ...] = ()
    lists: tuple[tuple[str, str], ...] = ()
    trees: tuple[str, ...] = ()
    depth: Depth = "full"
    decisions: Decisions = NOTHING

    def settled(self, headers: set[str]) -> Steering:
        """The same, where a header with a comma in it is not taken for two. Raises UsageError for
        a header that no source has."""

        def whole(some: tuple[str, ...]) -> tuple[str, ...]:
            return next(((h,) for h in (", ".join(some), ",".join(some)) if h in headers), some)

        steering = replace(
            self,
            known_by=tuple(map(whole, self.known_by)),
            no_table=tuple(map(whole, self.no_table)),
        )
        steering._check(headers)
        return steering

    def _check(self, headers: set[str]) -> None:
        said = {
            *self.left_out,
            *(h for s in (*self.together, *self.apart, *self.same_as) for h in s),
            *(h for s in (*self.known_by, *self.no_table, *self.repeated) for h in s),
            *self.trees,
            *(h for h, _ in self.lists),
            *self.not_unique,
            *self.no_link,
            *(h for h, _ in self.link),
        }
        unknown = sorted(said - headers)
        if unknown:
            near = closest(unknown[0], sorted(headers))
            raise UsageError(
                f'no source has a column "{unknown[0]}"',
                code="steer.header",
                next=f'did you mean "{near}"?' if near else "write it as in the file's header",
            )


def steer(base: Entity, headers: Sequence[str], steering: Steering) -> Entity:
    """The entities of a source as a person wants them."""
    if steering.depth == "flat":
        return Entity(
            base.key,
            base.alternates,
            sorted(base.everything - {*base.key, *base.alternates}),
            [],
            base.rows,
        )
    if steering.depth == "lookups":
        lookups = list(base.parents)
        inside = [e for p in base.parents for e in _inside(p, lookups) if e is not p]
        times = Counter(map(id, inside))
        lookups += {id(e): e for e in inside if times[id(e)] > 1}.values()
        for entity in lookups:
            _flatten(entity, lookups)
    place = {h: c for c, h in enumerate(headers)}
    said = {
        place[h] for names in (*steering.together, *steering.apart) for h in names if h in place
    }
    for entity in base.all():  # what a person names is in one entity only
        base.columns = sorted([*base.columns, *(c for c in entity.usual if c in said)])
        entity.usual = [c for c in entity.usual if c not in said]
    base.exceptions = [c for c in base.exceptions if c not in said]
    for names in steering.together:
        _together(base, [place[h] for h in names if h in place])
    for names in steering.apart:
        columns = [place[h] for h in names if h in place]
        for moved in columns[1:]:
            entity, below = _entity_with(base, moved)
            if below is not None and columns[0] in entity.own and moved not in entity.key:
                _move(entity, below, moved)
    for names in steering.no_table:
        if {*names} <= place.keys():
            _dissolve(base, {place[h] for h in names}, names)
    for header in steering.not_unique:
        if header in place:
            _not_unique(base, place[header])
    _prune(base, base, {place[h] for names in steering.known_by for h in names if h in place})
    return base


def known_by(base: Entity, key: set[int]) -> Entity | None:
    """The entity above the rows that is known by some columns, or could be."""
    return next(
        (e for e in base.all() if e is not base and key in ({*e.key}, {*e.alternates})), None
    )


def _dissolve(base: Entity, key: set[int], names: Sequence[str]) -> None:
    """Gives up the entity that is known by some columns: what it has goes to what refers to it."""
    found = known_by(base, key)
    if found is None:
        return
    entity = found
    below = [e for e in base.all() if any(p is entity for p in e.parents)]
    if sum(key <= {*e.key} for e in below) > 1:
        raise UsageError(
            f'"{", ".join(names)}" cannot be without a table',
            code="steer.no-table",
            why="several other tables are known by it and something else",
            next="give up these tables first, with --no-table",
        )
    home = below[0] if len(below) == 1 else base
    home.columns = sorted({*home.columns, *entity.own, *entity.usual} - {*home.key})
    base.exceptions = [c for c in base.exceptions if c not in entity.usual]
    for one in below:
        more = [p for p in entity.parents if not any(p is q for q in one.parents)]
        one.parents = [p for p in one.parents if p is not entity] + more


def _not_unique(base: Entity, column: int) -> None:
    """Makes a column one that tells no records apart, unless others depend on it."""
    for entity in base.all():
        if column in entity.alternates:
            entity.alternates = [c for c in entity.alternates if c != column]
            entity.columns = sorted([*entity.columns, column])
    if base.key == [column]:
        base.key, base.alternates = base.alternates[:1], base.alternates[1:]
        base.columns = sorted([*base.columns, column])


def _inside(entity: Entity, lookups: Sequence[Entity]) -> list[Entity]:
    """An entity and those above it that are reached without passing through other `lookups`."""
    out = [entity]
    for parent in entity.parents:
        if not any(parent is p for p in lookups):
            out += _inside(parent, lookups)
    return list({id(e): e for e in out}.values())


def _flatten(entity: Entity, lookups: Sequence[Entity]) -> None:
    """Takes what is above an entity into it, but for other `lookups`."""
    inside = _inside(entity, lookups)
    apart = list(
        {id(p): p for e in inside for p in e.parents if any(p is one for one in lookups)}.values()
    )
    theirs = {c for e in apart for c in e.everything}
    entity.columns = sorted(entity.everything - theirs - {*entity.key, *entity.alternates})
    entity.evidence = {c: e for a in inside for c, e in a.evidence.items()}
    entity.usual = [c for a in inside for c in a.usual]
    entity.parents = apart


def _entity_with(base: Entity, column: int) -> tuple[Entity, Entity | None]:
    """The entity that has a column, and the one below that."""
    for entity in base.all():
        for parent in entity.parents:
            if column in parent.own:
                return parent, entity
    return base, None


def _together(base: Entity, columns: list[int]) -> None:
    """Moves columns down, towards the rows, until they share an entity."""
    while len({id(_entity_with(base, c)[0]) for c in columns}) > 1:
        depth = {c: _depth(base, c) for c in columns}
        deepest = max(columns, key=lambda c: depth[c])
        entity, below = _entity_with(base, deepest)
        if below is None or (deepest in entity.key and len(entity.key) > 1):
            raise UsageError(
                "these columns cannot share a table",
                code="steer.together",
                next="write the layout with -o, and move the columns there",
            )
        if deepest in entity.key:  # its table is given up
            below.columns = sorted([*below.columns, *entity.own])
            below.parents = [p for p in below.parents if p is not entity] + entity.parents
        else:
            _move(entity, below, deepest)


def _depth(base: Entity, column: int) -> int:
    def down(entity: Entity, depth: int) -> int:
        if column in entity.own:
            return depth
        return max((down(p, depth + 1) for p in entity.parents), default=-1)

    return down(base, 0)


def _move(entity: Entity, below: Entity, column: int) -> None:
    entity.columns = [c for c in entity.columns if c != column]
    entity.alternates = [c for c in entity.alternates if c != column]
    below.columns = sorted([*below.columns, column])


def _prune(whole: Entity, base: Entity, wanted: set[int]) -> None:
    """Takes a parent of which nothing but its key is left back into what refers to it, unless the
    key is wanted or part of another key."""
    for parent in list(base.parents):
        _prune(whole, parent, wanted)
        below = [e for e in whole.all() if any(p is parent for p in e.parents)]
        if wanted & set(parent.key) or below != [base]:
            continue
        if (
            not (parent.columns or parent.alternates or parent.parents or parent.usual)
            and len(parent.key) == 1
        ):
            base.parents.remove(parent)
            base.columns = sorted([*base.columns, *parent.key])
