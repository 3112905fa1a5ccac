"""From dependencies to entities: which things a flat table is about, and which belongs to which.

The base is what each row is about. The widest determinants among its columns are its parents; each
parent is reduced to one row per record, and the same question is asked of that smaller table. So
chains come out as chains (inspection -> hive -> apiary -> district), and evidence is counted once
per record of the parent, not once per row of the file: that all inspections of a hive agree says
nothing new about its apiary.

Evidence against chance: were two columns independent, each repeat of a determinant's value would
agree with the first only as often as two rows drawn at random (`sameness`). The chance that all
agree by accident is sameness ** repeats; its negative logarithm (in nats), summed over what a
column decides, must reach `ENOUGH` before it counts as the key of something, and more for columns
that rarely identify anything. (Counting only the column that says most was tried: it loses more
small parents than it spares false ones.) A single attribute of what is one already needs little.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from itertools import combinations
from math import log

import numpy as np

from kerfmark import memory
from kerfmark.profile.codes import Codes, combine, filled, first_rows, gather, holds, value_counts
from kerfmark.structure.dependencies import Evidence, Relation
from kerfmark.structure.header_words import (
    helpful,
    looks_like_key,
    names_things,
    reaches_things,
    share_stem,
    stem,
)
from kerfmark.structure.key_values import ENOUGH_ROWS
from kerfmark.structure.prepare import Prepared

ENOUGH = 14.0
"""Nats of evidence that all dependencies on a column need together (odds of about a million to
one)."""
FEWEST_REPEATING = 3
"""Different values that are there more than once before a column can be the key of anything."""
LITTLE = 1.5
"""Nats that each of them needs."""
ENOUGH_FOR_PAIRS = 20.0
"""Exceptions that a dependency on two columns must have been spared, given what each column says
alone."""
LITTLE_ALONE = 0.3
"""The share of the exceptions expected by chance that each column of a pair must leave when it
is tried alone: what one column nearly decides (a queen that was moved once) is no matter for a
pair."""
MOST_FOR_TRIPLES = 16
"""Columns that may be part of a key from which combinations of three are no longer tried: there are
too many."""
LONGEST_KEY = 60
"""Mean length of a text beyond which it is prose, which decides nothing."""


@dataclass(frozen=True)
class Trait:
    """What structure needs to know of a column: header, kind of type, mean length of its texts."""

    header: str
    kind: str
    length: float = 0.0
    several: bool = False
    """Whether it is one of several columns that repeat, or holds several values per cell: such a
    column decides nothing."""
    said: bool = False
    """Whether a person says that it is the key of something."""
    thing: bool = False
    """Whether it is called like its source: `hive` in a sheet of hives."""
    coded: bool = False
    """Whether all its values are numbers behind the same letters: H001, H002."""
    own_id: bool = False
    """Whether it is called like the key of what its source holds: `hive_id` in a sheet of hives."""

    @property
    def may_be_part(self) -> bool:
        """Whether it may be a part of a key of several columns: days may, besides what may be a key
        alone."""
        return self.caution is not None or (self.kind == "date" and not self.several)

    @property
    def caution(self) -> float | None:
        """By how much more evidence is needed before this column decides others; None when it never
        does."""
        if self.said:
            return 0.0
        if self.kind in ("decimal", "real", "date", "timestamp", "time", "boolean") or (
            self.length > LONGEST_KEY or self.several
        ):
            return None
        if looks_like_key(self.header):
            return 1.0
        return 2.5 if self.kind == "integer" else 1.0 if self.length <= 30 else 2.0


@dataclass
class Entity:
    """A thing with records of its own. All numbers are positions of columns in the source.

    `key` is how a record is recognised (empty: only by its row), `alternates` are columns that
    would do as well, `columns` its other columns, `rows` how many records there are, `evidence` why
    each column belongs here.
    """

    key: list[int]
    alternates: list[int] = field(default_factory=list)
    columns: list[int] = field(default_factory=list)
    parents: list[Entity] = field(default_factory=list)
    rows: int = 0
    evidence: dict[int, Evidence] = field(default_factory=dict)
    usual: list[int] = field(default_factory=list)
    """Columns that the records have but for a few rows of the base, where they are `exceptions`."""
    exceptions: list[int] = field(default_factory=list)

    @property
    def own(self) -> list[int]:
        """All columns of its own, in their order in the source."""
        return sorted(
            {*self.key, *self.alternates, *self.columns}
            - {c for p in self.parents for c in p.everything}
        )

    def all(self) -> list[Entity]:
        """This entity and all above it, each once."""
        found = [self, *(e for p in self.parents for e in p.all())]
        return list({id(e): e for e in found}.values())

    @property
    def everything(self) -> set[int]:
        """All columns of its own and of those above."""
        return {*self.key, *self.alternates, *self.columns}.union(
            *(p.everything for p in self.parents)
        )


@dataclass
class _Determinant:
    """Columns that decide others at one level; `peers` are single columns that decide these and are
    decided by them."""

    by: tuple[int, ...]
    codes: Codes
    values: int
    decided: dict[int, Evidence]
    peers: dict[int, Evidence] = field(default_factory=dict)
    beside: tuple[int, ...] = ()
    """Those of its columns that are filled in rows where others of them are blank."""

    @property
    def everything(self) -> set[int]:
        """Itself and all that it decides."""
        return {*self.by, *self.peers, *self.decided}


def find_entities(
    prepared: Prepared, traits: Sequence[Trait], rows: int, keys: Sequence[Sequence[int]] = ()
) -> Entity:
    """The base entity of a source with so many rows, with its parents above it. A person says that
    the sets of columns in `keys` are keys of something."""
    sizes, derived = prepared.sizes, prepared.derived
    everything, relation = prepared.columns, prepared.relation
    of_rows = [k for k in keys if _tells_apart(k, prepared, rows)]
    alone = {c for k in of_rows if len(k) == 1 for c in k}
    traits = [replace(t, said=t.said and c not in alone) for c, t in enumerate(traits)]
    parents, left = _parents(
        relation, everything, everything, traits, [k for k in keys if k not in of_rows]
    )
    unique = [
        c
        for c in left
        if prepared.rows is None and sizes[c] == rows > 1 and traits[c].caution is not None
    ]
    keyed = _preferred(
        [
            c
            for c in unique
            if _is_called_like_a_key(traits[c]) or (rows >= ENOUGH_ROWS and _identifies(traits[c]))
        ],
        relation,
        everything,
        traits,
    )
    base = Entity(keyed[:1], keyed[1:], [c for c in left if c not in keyed], parents, rows)
    reached = {*left, *(e.key[0] for e in parents if len(e.key) == 1)}
    for key in of_rows:
        if {*key} <= reached:
            base.alternates = sorted({*base.alternates, *base.key} - {*key})
            base.key = sorted(key)
            base.columns = [c for c in base.columns if c not in key]
    for b, a in derived.items():
        home = next((e for e in base.all() if a in e.own), base)
        home.columns = sorted([*home.columns, b])
    for name in prepared.misspelt:
        _read_as_usual(base, name)
    return base


def _tells_apart(key: Sequence[int], prepared: Prepared, rows: int) -> bool:
    """Whether no two rows of a source say the same in some columns, all of them filled."""
    if prepared.rows is not None or not {*key} <= {*prepared.columns}:
        return False
    codes, count = combine([prepared.codes[c] for c in key], [prepared.sizes[c] for c in key])
    return count == rows == filled(codes)


def decides_misspelt(base: Entity, prepared: Prepared) -> list[int]:
    """The names that were read as what is usual, but are part of how records are known: where
    their rows say something else, these are other records."""
    return [n for n in prepared.misspelt if any(n in e.own for e in base.all() if e is not base)]


def _read_as_usual(base: Entity, name: int) -> None:
    """Makes a name that is misspelt in some rows what an entity usually has, if it is known by
    something else."""
    home = next((e for e in base.all() if e is not base and name in e.own), None)
    if home is None:
        return
    known = [c for c in (*home.key, *home.alternates) if c != name]
    if len(home.key) > 1 or not known:
        return
    home.key, home.alternates = known[:1], known[1:]
    home.columns = [c for c in home.columns if c != name]
    home.usual.append(name)
    base.exceptions.append(name)


def _parents(
    relation: Relation,
    columns: list[int],
    inner: list[int],
    traits: Sequence[Trait],
    keys: Sequence[Sequence[int]],
) -> tuple[list[Entity], list[int]]:
    """The entities above a relation whose columns have these positions, and the columns that stay
    in it.

    `inner` are the columns that may go up; the others are known to identify the relation's own
    records.
    """
    found = _single(relation, columns, inner, traits)
    pairs = _pairs(relation, columns, inner, traits, found)
    found += pairs + _triples(relation, columns, inner, traits, [*found, *pairs])
    wanted = {frozenset(key) for key in keys if len(key) > 1 and {*key} <= {*inner}}
    found += [
        _said(relation, columns, inner, sorted(key))
        for key in wanted - {frozenset(d.by) for d in found}
    ]
    top = _widest(found)
    beside = [d for d in found if any({*d.by} & {*t.beside} and len(d.by) == 1 for t in top)]
    top += [d for d in beside if not any(d is t for t in top)]
    top, shared = _with_shared_parts(top, found, relation, columns, traits, wanted)
    assigned = _assign(top, found, columns, traits)
    parents: list[Entity] = []
    gone: set[int] = set()
    for determinant in sorted(top, key=lambda d: (bool(d.beside), -d.values)):
        mine = assigned[determinant.by]
        said = any(traits[c].said for c in determinant.by) or frozenset(determinant.by) in wanted
        if not mine and not said and not shared & {*determinant.by}:
            continue  # a list of values that nothing depends on stays a column
        members = sorted({*determinant.by, *determinant.peers, *mine})
        above = [e for e in parents if len(e.key) == 1 and e.key[0] in determinant.beside]
        if len(above) < len(determinant.beside):
            continue
        reached = {c for e in above for c in e.everything} - {*determinant.by}
        members = [c for c in members if c not in reached]
        entity = _raise_up(relation, columns, determinant, members, traits, keys)
        entity.parents += above
        if len(entity.key) > 1 and not (entity.columns or entity.alternates or said):
            back = set(entity.own)  # nothing is known of these combinations but that they are there
            raised = entity.parents
        else:
            back, raised = set(), [entity]
        parents += [e for e in raised if not any(e is p for p in parents)]
        gone.update(set(members) - back)
    place = {c: i for i, c in enumerate(columns)}
    direct = {
        c
        for d in top
        for c in shared & {*d.by}
        if len(d.by) > 1 and filled(d.codes) < relation.filled[place[c]]
    }  # there are rows with the one, but without what is known by it
    known = {id(a) for e in parents for a in e.all() if a is not e}
    parents = [
        e
        for e in parents
        if len(e.key) > 1 or e.key[0] not in shared - direct or id(e) not in known
    ]
    parents.sort(key=lambda e: min(e.everything))
    return parents, [c for c in columns if c not in gone]


def _raise_up(
    relation: Relation,
    columns: list[int],
    determinant: _Determinant,
    members: list[int],
    traits: Sequence[Trait],
    keys: Sequence[Sequence[int]],
) -> Entity:
    """The entity of a determinant, reduced to one row per record, with what is above it."""
    rows = first_rows(determinant.codes, determinant.values)
    place = {c: i for i, c in enumerate(columns)}
    codes, sizes = [], []
    for c in members:
        some = gather(relation.columns[place[c]], rows)
        dense, size = _compact(some, relation.sizes[place[c]])
        codes.append(dense)
        sizes.append(size)
    smaller = Relation(codes, sizes)
    single = len(determinant.by) == 1
    same = [*determinant.by, *determinant.peers] if single else []
    known = {*same, *determinant.beside}
    inside = [c for c in members if c not in known]
    others = [key for key in keys if {*key} != {*determinant.by}]
    parents, left = _parents(smaller, members, inside, traits, others)
    names = _preferred(same, smaller, members, traits) if single else list(determinant.by)
    names = [c for i, c in enumerate(names) if not (single and i) or _identifies(traits[c])]
    key, alternates = (names[:1], names[1:]) if single else (names, [])
    return Entity(
        key,
        alternates,
        [c for c in left if c not in names],
        parents,
        determinant.values,
        determinant.decided | determinant.peers,
    )


def _compact(codes: Codes, size: int) -> tuple[Codes, int]:
    """Codes of a part of the rows, renumbered without gaps."""
    used = np.zeros(size + 1, bool)
    for start in memory.at_a_time(len(codes)):
        used[codes[start : start + memory.ROWS]] = True
    used[-1] = False
    number = np.cumsum(used, out=memory.room(size + 1, np.int32))
    number -= 1
    number[-1] = -1
    return gather(number, codes), int(used.sum())


def _identifies(trait: Trait) -> bool:
    """Whether a column that happens to be unique is meant to be: phones and inspectors mostly are
    by accident. Where the header says nothing at all, or the values are codes, it counts."""
    return (
        _is_called_like_a_key(trait)
        or trait.coded
        or (not helpful(trait.header) and trait.caution is not None)
    )


def _is_called_like_a_key(trait: Trait) -> bool:
    return trait.thing or looks_like_key(trait.header) or names_things(trait.header)


def _preferred(
    names: list[int], relation: Relation, columns: list[int], traits: Sequence[Trait]
) -> list[int]:
    """Interchangeable keys, best first: without blanks, then what is called like the key of the
    rows, then the code of what another one names, then file order."""
    stems = {c: tuple(stem(traits[c].header)) for c in names}

    def rank(c: int) -> tuple[bool, bool, bool, bool, bool, bool, bool, int]:
        shared = any(stems[c] == stems[d] for d in names if d != c) or not helpful(traits[c].header)
        return (
            not traits[c].said,
            relation.filled[columns.index(c)] < relation.rows,
            not traits[c].own_id,
            not (shared and looks_like_key(traits[c].header)),
            reaches_things(traits[c].header),
            not traits[c].coded,
            traits[c].kind != "text" and not looks_like_key(traits[c].header),
            c,
        )

    return sorted(names, key=rank)


def _single(
    relation: Relation, columns: list[int], inner: list[int], traits: Sequence[Trait]
) -> list[_Determinant]:
    """The single columns that decide others, those that decide each other taken together."""
    sameness = relation.sameness  # asked for once, before the threads do

    def decided_by(a: int, c: int) -> _Determinant | None:
        caution, values = traits[c].caution, relation.sizes[a]
        repeats = relation.filled[a] - values
        if c not in inner or caution is None:
            return None
        if not traits[c].said and (
            values < 3 or repeats < 3 or _repeating(relation.columns[a], values) < FEWEST_REPEATING
        ):
            return None
        decided, total = {}, 0.0
        may = relation.disagreement(a) == 0
        for b, d in enumerate(columns):
            if not may[b] or b == a or d not in inner:
                continue
            if relation.states[b] < 2 or relation.sizes[b] > values:
                continue
            nats = repeats * -log(max(sameness[b], 1e-300))
            if (
                nats >= LITTLE or share_stem(traits[d].header, traits[c].header)
            ) and relation.decides(a, b):
                decided[d] = relation.evidence(a, b)
                total += nats
        return (
            _Determinant((c,), relation.columns[a], values, decided)
            if total >= ENOUGH * caution
            else None
        )

    with ThreadPoolExecutor(2) as pool:
        found = {
            d.by[0]: d for d in pool.map(decided_by, range(len(columns)), columns) if d is not None
        }
    out: list[_Determinant] = []
    merged: set[int] = set()
    for c, determinant in found.items():
        if c in merged:
            continue
        same = [c, *(d for d in determinant.decided if d in found and c in found[d].decided)]
        merged.update(same)
        best = found[_preferred(same, relation, columns, traits)[0]]
        everything = {d: e for p in same for d, e in found[p].decided.items()} | best.decided
        best.peers = {p: best.decided[p] for p in same if p not in best.by}
        best.decided = {d: e for d, e in everything.items() if d not in same}
        out.append(best)
    return out


def _repeating(codes: Codes, size: int) -> int:
    """How many values more than one row has."""
    return int(np.count_nonzero(value_counts(codes, size) > 1))


def _pairs(
    relation: Relation,
    columns: list[int],
    inner: list[int],
    traits: Sequence[Trait],
    single: list[_Determinant],
) -> list[_Determinant]:
    """Pairs of columns that decide what neither decides alone, as a number within a parent does."""
    alone: dict[int, set[int]] = {}
    for determinant in single:
        for c in (*determinant.by, *determinant.peers):
            alone[c] = {*determinant.decided, *determinant.peers, *determinant.by} - {c}
    skip = {p for d in single for p in d.peers}
    place = {c: i for i, c in enumerate(columns)}
    usable = [
        c
        for c in inner
        if traits[c].may_be_part
        and c not in skip
        and 2 <= relation.sizes[place[c]] <= relation.rows / 3
    ]
    wanted = np.zeros(len(columns), bool)
    wanted[[place[t] for t in inner if relation.states[place[t]] >= 2]] = True
    own = {c: wanted.copy() for c in usable}
    for c in usable:
        own[c][[place[t] for t in {*alone.get(c, ()), c} if t in place]] = False
    out: list[_Determinant] = []
    for (c, d), targets in _candidates(relation, usable, place, own, alone):
        a, b = place[c], place[d]
        decided = _decided_by_pair(relation, a, b, targets)
        whole = filled(decided[0]) if decided else 0
        beside = tuple(k for k in (c, d) if relation.filled[place[k]] != whole)
        if decided and len(beside) < 2 and all(k in alone for k in beside):
            codes, values, evidence = decided
            both = {columns[i]: e for i, e in evidence.items()}
            for determinant in single:
                if {c, d} & {*determinant.by, *determinant.peers}:
                    if {*determinant.by} & {*beside}:
                        continue  # what is known of it is reached without this pair
                    both |= {t: e for t, e in determinant.decided.items() if t not in (c, d)}
                    both |= {
                        p: Evidence(values, 0, 0.0)
                        for p in (*determinant.by, *determinant.peers)
                        if p not in (c, d)
                    }
            out.append(_Determinant((c, d), codes, values, both, beside=beside))
    return out


def _candidates(
    relation: Relation,
    usable: Sequence[int],
    place: Mapping[int, int],
    own: Mapping[int, np.ndarray],
    alone: Mapping[int, set[int]],
) -> list[tuple[tuple[int, int], np.ndarray]]:
    """The pairs of columns that may decide something together, of what they do not decide alone,
    and what that may be."""
    nothing: set[int] = set()
    order = {c: i for i, c in enumerate(usable)}
    out: dict[tuple[int, int], np.ndarray] = {}
    for c in usable:  # rows that agree in the column of more values mostly agree in the other
        rank = relation.sizes[place[c]], c
        others = [
            d
            for d in usable
            if (relation.sizes[place[d]], d) < rank
            and d not in alone.get(c, nothing)
            and c not in alone.get(d, nothing)
        ]
        if not others:
            continue
        targets = np.stack([own[d] for d in others]) & own[c]
        found = relation.unrefuted(place[c], np.array([place[d] for d in others]), targets)
        for i in np.flatnonzero(found.any(axis=1)).tolist():
            first, second = sorted((c, others[i]), key=order.__getitem__)
            out[first, second] = found[i]
    return sorted(out.items(), key=lambda p: (order[p[0][0]], order[p[0][1]]))


def _decided_by_pair(
    relation: Relation, a: int, b: int, wanted: np.ndarray
) -> tuple[Codes, int, dict[int, Evidence]] | None:
    """What two columns decide together among those that are wanted (a mask), with codes of their
    combinations; None when nothing that is not chance."""
    limits = [relation.sizes[a], relation.sizes[b]]
    rows = relation.cluster(max(a, b, key=relation.sizes.__getitem__))
    some, size = combine([relation.columns[a][rows], relation.columns[b][rows]], limits)
    if (
        int(np.count_nonzero(some >= 0)) < 1.3 * size
    ):  # too few repeats for the whole to have enough of them
        return None
    one, other = _same(some, size)
    one, other = (
        rows[one],
        rows[other],
    )  # a few rows that agree in both columns: most targets fail there
    alive = np.flatnonzero(relation.agreeing(one, other) & wanted).tolist()
    alive = [t for t in alive if holds(some, relation.columns[t][rows], size)]
    most = min(relation.filled[a], relation.filled[b]) - max(limits)
    spared = {t: min(_exceptions(relation, x, t) for x in (a, b)) for t in alive}
    alive = [
        t
        for t in alive
        if spared[t] * most >= ENOUGH_FOR_PAIRS
        and spared[t] >= LITTLE_ALONE * (1 - relation.sameness[t])
    ]
    if not alive:
        return None
    codes, values = relation.pair(a, b)
    whole = filled(codes)
    repeats = whole - values
    if repeats < values / 2 or values <= max(limits):
        return None
    found = {}
    for t in alive:
        if not holds(codes, relation.columns[t], values):
            continue
        expected = spared[t] * repeats
        if expected >= ENOUGH_FOR_PAIRS:
            found[t] = Evidence(values, repeats, expected)
    return (codes, values, found) if found else None


def _triples(
    relation: Relation,
    columns: list[int],
    inner: list[int],
    traits: Sequence[Trait],
    found: list[_Determinant],
) -> list[_Determinant]:
    """Three columns that decide what no two of them do, as a year, a class and a number within
    it."""
    place = {c: i for i, c in enumerate(columns)}
    alone: dict[int, set[int]] = {}
    skip: set[int] = set()
    for d in found:
        skip.update(d.peers)
        if len(d.by) == 1:
            for c in (*d.by, *d.peers):
                alone[c] = {*d.decided, *d.peers, *d.by} - {c}
    usable = [
        c
        for c in inner
        if traits[c].caution is not None
        and c not in skip
        and 2 <= relation.sizes[place[c]] <= relation.rows / 6
    ]
    if len(usable) > MOST_FOR_TRIPLES:
        return []
    by_pair = {frozenset(d.by): {*d.decided} for d in found if len(d.by) == 2}
    out: list[_Determinant] = []
    for three in combinations(usable, 3):
        if any(b in alone.get(a, ()) for a in three for b in three):
            continue
        known = {t for c in three for t in alone.get(c, ())}
        known |= {t for pair in combinations(three, 2) for t in by_pair.get(frozenset(pair), ())}
        if any(c in known for c in three):
            continue
        targets = [
            place[t]
            for t in inner
            if t not in known and t not in three and relation.states[place[t]] >= 2
        ]
        decided = _decided_by_three(relation, [place[c] for c in three], targets)
        if decided:
            codes, values, evidence = decided
            both = {columns[i]: e for i, e in evidence.items()} | {
                t: Evidence(values, 0, 0.0) for t in known
            }
            out.append(_Determinant(three, codes, values, both))
    return out


def _decided_by_three(
    relation: Relation, three: list[int], targets: list[int]
) -> tuple[Codes, int, dict[int, Evidence]] | None:
    """What three columns decide together; None when nothing that is not chance."""
    sizes = [relation.sizes[i] for i in three]
    rows = relation.cluster(max(three, key=relation.sizes.__getitem__))
    some, size = combine([relation.columns[i][rows] for i in three], sizes)
    if int(np.count_nonzero(some >= 0)) < 2 * size:
        return None
    one, other = _same(some, size)
    agree = relation.agreeing(rows[one], rows[other])
    alive = [t for t in targets if agree[t] and holds(some, relation.columns[t][rows], size)]
    if not alive:
        return None
    spared = {
        t: min(_pair_exceptions(relation, pair, t, rows) for pair in combinations(three, 2))
        for t in alive
    }
    alive = [t for t in alive if spared[t] >= LITTLE_ALONE * (1 - relation.sameness[t])]
    if not alive:
        return None
    codes, values = combine([relation.columns[i] for i in three], sizes)
    whole = filled(codes)
    if any(relation.filled[i] != whole for i in three):
        return None  # as above
    repeats = whole - values
    if repeats < values:
        return None
    kept = {
        t: Evidence(values, repeats, spared[t] * repeats)
        for t in alive
        if spared[t] * repeats >= 2 * ENOUGH_FOR_PAIRS and holds(codes, relation.columns[t], values)
    }
    return (codes, values, kept) if kept else None


def _pair_exceptions(relation: Relation, pair: tuple[int, ...], t: int, rows: np.ndarray) -> float:
    """The share of rows in which a column is not what it is elsewhere beside the same two
    values."""
    codes, size = combine(
        [relation.columns[i][rows] for i in pair], [relation.sizes[i] for i in pair]
    )
    other = relation.columns[t][rows]
    last = np.full(size + 1, -1, other.dtype)
    last[codes] = other
    return float(np.count_nonzero(last[codes] != other)) / max(len(rows), 1)


def _same(codes: Codes, size: int, most: int = 48) -> tuple[np.ndarray, np.ndarray]:
    """Positions of some pairs with the same code, spread over all."""
    last = np.zeros(size + 1, np.int64)
    places = np.arange(len(codes))
    last[codes] = places
    repeated = np.flatnonzero((last[codes] != places) & (codes >= 0))
    chosen = repeated[:: max(1, len(repeated) // most)][:most]
    return chosen, last[codes[chosen]]


def _exceptions(relation: Relation, a: int, b: int) -> float:
    """The share of rows in which column b is not what it is elsewhere beside the same a (seen on
    some values of a)."""
    rows = relation.cluster(a)
    codes, other = relation.columns[a][rows], relation.columns[b][rows]
    last = np.full(relation.sizes[a] + 1, -1, other.dtype)
    last[codes] = other
    return float(np.count_nonzero(last[codes] != other)) / max(len(rows), 1)


def _widest(found: list[_Determinant]) -> list[_Determinant]:
    """The determinants that no other one decides; of pairs that say the same, the one deciding
    most."""
    ranked = sorted(
        found, key=lambda d: (-len(d.decided) - len(d.peers), len(d.by), d.values, d.by)
    )
    top: list[_Determinant] = []
    for determinant in ranked:
        mine = {*determinant.by}
        if not any(mine <= other.everything - {*other.beside} for other in top):
            top.append(determinant)
    return [
        d
        for d in top
        if not any(
            o is not d
            and {*d.by} <= o.everything - {*o.beside}
            and (
                len(o.decided) > len(d.decided) or (o.values == d.values and len(o.by) > len(d.by))
            )
            for o in top
        )
    ]


def _with_shared_parts(
    top: list[_Determinant],
    found: list[_Determinant],
    relation: Relation,
    columns: list[int],
    traits: Sequence[Trait],
    wanted: Collection[frozenset[int]],
) -> tuple[list[_Determinant], set[int]]:
    """The widest determinants, where a column that is part of several keys (rooms and shifts of a
    site) is one of them itself, and which columns these are; so is a part of a key that a person
    wants if it is filled where others of its parts are not."""
    alone = {d.by[0]: d for d in (*found, *top) if len(d.by) == 1}
    more = {
        c
        for d in top
        if frozenset(d.by) in wanted
        for c in d.by
        if relation.filled[columns.index(c)] > filled(d.codes)
    }
    shared: set[int] = set()
    while True:
        shared |= more
        for c in more - alone.keys():
            place = columns.index(c)
            alone[c] = _Determinant((c,), relation.columns[place], relation.sizes[place], {})
        out = _told_apart(top, shared, alone)
        assigned = _assign(out, found, columns, traits)
        kept = [d for d in out if assigned[d.by] or frozenset(d.by) in wanted]
        parts = Counter(c for d in kept if len(d.by) > 1 for c in d.by)
        more = {c for c, times in parts.items() if times > 1} - shared
        if not more:
            return out, shared


def _said(
    relation: Relation, columns: list[int], inner: list[int], key: Sequence[int]
) -> _Determinant:
    """Several columns that a person says are the key of something, with what they decide."""
    place = {c: i for i, c in enumerate(columns)}
    codes, values = combine(
        [relation.columns[place[c]] for c in key], [relation.sizes[place[c]] for c in key]
    )
    repeats = filled(codes) - values
    decided = {
        t: Evidence(values, repeats, 0.0)
        for t in inner
        if t not in key and holds(codes, relation.columns[place[t]], values)
    }
    return _Determinant(tuple(key), codes, values, decided)


def _told_apart(
    top: Sequence[_Determinant], shared: set[int], alone: dict[int, _Determinant]
) -> list[_Determinant]:
    """Determinants, of which those of several columns leave to the shared ones what these decide
    alone."""
    out = [d for d in top if len(d.by) == 1 and d.by[0] not in shared]
    out += [alone[c] for c in sorted(shared)]
    for d in top:
        if len(d.by) > 1:
            more = tuple(c for c in d.by if c in shared and c not in d.beside)
            reached = {t for c in more for t in alone[c].everything}
            decided = {t: e for t, e in d.decided.items() if t not in reached}
            out.append(replace(d, decided=decided, beside=(*d.beside, *more)))
    return out


def _assign(
    top: list[_Determinant], found: list[_Determinant], columns: list[int], traits: Sequence[Trait]
) -> dict[tuple[int, ...], list[int]]:
    """Which columns go up into which of the widest determinants.

    A column that several decide goes to the one whose header it shares, else to where the smallest
    entity decides it: the smaller one was tested by more repeats.
    """
    assigned: dict[tuple[int, ...], list[int]] = {d.by: list(d.peers) for d in top}
    heads = {c: d for d in top for c in (*d.by, *d.peers)}
    parts = {c for d in top if len(d.by) > 1 for c in d.by}
    for c in sorted(columns, key=lambda c: c in heads):
        owners = [d for d in top if c in d.decided]
        if not owners or c in parts:
            continue
        if c in heads and (assigned[heads[c].by] or not any(len(d.by) > 1 for d in owners)):
            continue  # a key that nothing depends on may go where several decide it

        def rank(d: _Determinant, c: int = c) -> tuple[bool, int, int]:
            within = [
                f.values
                for f in found
                if c in f.decided and set(f.by) <= {*d.by, *d.peers, *d.decided}
            ]
            named = any(share_stem(traits[c].header, traits[k].header) for k in (*d.by, *d.peers))
            return not named, min(within, default=d.values), abs(min(d.by) - c)

        best = min(owners, key=rank)
        assigned[best.by].append(c)
    return assigned
