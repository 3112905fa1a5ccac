"""Dependencies that hold but for a few rows: probable typos, a keeper who got another phone.

All are told with their rows. Where hardly any row is an exception, the column goes where it is
decided, and the rows that differ keep what they say: nothing is lost either way.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import compress

import numpy as np
import pyarrow as pa

from kerfmark.errors import counted
from kerfmark.layout.model import Layout
from kerfmark.profile.codes import holds
from kerfmark.profile.columns import EncodedColumn
from kerfmark.profile.encode import EncodedSource
from kerfmark.structure.dependencies import MOST, Near, may_be_near, near
from kerfmark.structure.entities import Entity, Trait
from kerfmark.structure.header_words import helpful, looks_like_key, reaches_things, share_words

FEW_ROWS, TOGETHER = 4_000, 500
"""Rows up to which columns are looked at together, and how many."""
SHOWN = 1_000
"""Exceptions listed of each."""
FORGIVEN = 0.005
"""The share of rows that may be exceptions when a column is moved to a table all the same."""
FEWEST_KEYS = 20
"""Values below which a near dependency is too easily had: a category that mostly goes with
another."""


@dataclass(frozen=True)
class NearMiss:
    """A column that `by` decides in all but a few rows: how many rows there are, and the first
    exceptions as (row, value there, value elsewhere beside the same `by`). `table` is the one in
    which it is all the same, the exceptions apart; "" if none.
    """

    source: str
    by: str
    header: str
    rows: int
    exceptions: int
    first: tuple[tuple[int, str, str], ...]
    table: str = ""

    def __str__(self) -> str:
        told = "; ".join(
            f'row {row:,} has "{here}" instead of "{usual}"' for row, here, usual in self.first[:3]
        )
        more = "; ..." if self.exceptions > 3 else ""
        return (
            f"{self.by} decides {self.header} but for {counted(self.exceptions, 'row')} of "
            f"{self.rows:,}: {told}{more}"
        )


def near_misses(
    layout: Layout, name: str, encoded: EncodedSource, traits: Sequence[Trait]
) -> list[NearMiss]:
    """The near dependencies of the columns of the table with a record per row, fewest exceptions
    first. `traits` are those of the columns of `encoded`."""
    base = layout.tables[layout.base_of(name)]
    loose = {c.header for n, c in base.columns.items() if c.header and (n,) not in base.unique_sets}
    moved_to = {c.header: c.instead_of for c in base.columns.values() if c.instead_of}
    keys = {
        t: [c.columns[k].header for k in c.known_by if k in c.columns]
        for t, c in layout.tables.items()
    }
    place = {c.header: i for i, c in enumerate(encoded.columns)}
    targets = [place[h] for h in encoded.source.headers if h in loose and h in place]
    out: list[NearMiss] = []
    for k, key in enumerate(encoded.columns):
        if traits[k].caution is None or not 3 <= len(key.values) <= encoded.rows / 3:
            continue
        may = []
        for t in targets:
            header = encoded.columns[t].header
            if t == k or (header in moved_to and [key.header] != keys[moved_to[header]]):
                continue
            if header in moved_to or _may_belong(header, key.header, keys):
                may.append(t)
        for t in _not_refuted(key, encoded.columns, may):
            header = encoded.columns[t].header
            found = near_columns(key, encoded.columns[t])
            if found is None or not len(found.rows):
                continue
            values, codes = encoded.columns[t].values, encoded.columns[t].codes
            first = tuple(
                (
                    encoded.origin(int(r)).row or 0,
                    _cell_text(values, codes[r]),
                    _cell_text(values, found.usual[key.codes[r]]),
                )
                for r in found.rows[:SHOWN]
            )
            out.append(
                NearMiss(
                    name,
                    key.header,
                    header,
                    encoded.rows,
                    len(found.rows),
                    first,
                    moved_to.get(header, ""),
                )
            )
    return sorted(out, key=lambda m: m.exceptions)


def _not_refuted(
    key: EncodedColumn, columns: Sequence[EncodedColumn], targets: Sequence[int]
) -> Iterator[int]:
    """The columns among some that may be near to a key: of few rows, many are looked at together;
    of more, each is as quick."""
    if len(key.codes) > FEW_ROWS:
        yield from targets
        return
    for i in range(0, len(targets), TOGETHER):
        some = targets[i : i + TOGETHER]
        others = np.stack([columns[t].codes for t in some])
        yield from compress(some, may_be_near(key.codes, len(key.values), others))


def _may_belong(header: str, key: str, keys: Mapping[str, Sequence[str]]) -> bool:
    """Whether it would mean anything that a key decides a column: they are called alike, or it is
    called like a key or is one. (Of the others most are accidents, and bury these.)"""
    return (
        not (helpful(header) and helpful(key))
        or looks_like_key(key)
        or share_words(header, key)
        or any(key in known for known in keys.values())
    )


def _cell_text(values: pa.StringArray, code: int) -> str:
    return "" if code < 0 else str(values[int(code)])


def near_columns(key: EncodedColumn, other: EncodedColumn, most: float = MOST) -> Near | None:
    """The same of two columns."""
    return near(key.codes, len(key.values), other.codes, len(other.values), most)


def assign_near_dependencies(
    base: Entity, columns: Sequence[EncodedColumn], traits: Sequence[Trait]
) -> None:
    """Moves columns that are decided but for a few rows to the entity that decides them, as what is
    usual there; a key that decides such columns only becomes an entity.

    Far less is forgiven than a near miss may have: half a percent of the rows, a tenth of the keys,
    a fiftieth of the exceptions that chance would have made, and none where the value is missing.
    """
    _name_by_things(base, columns, traits)
    rows = base.rows
    keyed = {e.key[0]: e for e in base.all() if e is not base and len(e.key) == 1}
    fresh = [
        c
        for c in base.columns
        if traits[c].caution is not None and FEWEST_KEYS <= len(columns[c].values) <= rows / 4
    ]
    best: dict[int, tuple[tuple[bool, int, int], int]] = {}
    for k in [*keyed, *fresh]:
        if len(columns[k].values) < FEWEST_KEYS:
            continue
        for t in base.columns:
            if t == k or traits[t].several or (k in fresh and (traits[k].caution or 0) > 1):
                continue
            found = near_columns(columns[k], columns[t], FORGIVEN)
            if (
                found is None
                or not len(found.rows)
                or found.keys > 0.1 * len(columns[k].values) + 1
            ):
                continue
            if found.expected < 50 * len(found.rows) or bool(
                (columns[t].codes[found.rows] < 0).any()
            ):
                continue
            rank = (k not in keyed, len(found.rows), len(columns[k].values))
            if t not in best or rank < best[t][0]:
                best[t] = rank, k
    moved: set[int] = set()
    for t, (_, k) in sorted(best.items()):
        if k in moved or (
            t in {o for _, o in best.values()} and (k in best and best[k][1] == t and t < k)
        ):
            continue  # two that nearly decide each other: the first names the thing
        if k not in keyed:
            if bool((columns[k].codes < 0).any()):
                continue
            keyed[k] = Entity([k], [], [], [], len(columns[k].values))
            base.parents.append(keyed[k])
            base.columns = [c for c in base.columns if c != k]
        keyed[k].usual.append(t)
        base.columns = [c for c in base.columns if c != t]
        base.exceptions.append(t)
        moved.add(t)


def _name_by_things(
    base: Entity, columns: Sequence[EncodedColumn], traits: Sequence[Trait]
) -> None:
    """Entities that are known by a phone or the like because somebody has two of them: known by the
    thing's own name again, the phone being what is usual."""
    for entity in base.parents:
        if len(entity.key) != 1 or not reaches_things(traits[entity.key[0]].header):
            continue
        k = entity.key[0]
        for t in [*entity.alternates, *entity.columns]:
            others = [c for c in entity.everything if c not in (t, k)]
            if (
                traits[t].caution is None
                or reaches_things(traits[t].header)
                or bool((columns[t].codes < 0).any())
            ):
                continue
            found = near_columns(columns[t], columns[k], FORGIVEN)
            if (
                found is None
                or not len(found.rows)
                or bool((columns[k].codes[found.rows] < 0).any())
            ):
                continue
            if all(
                holds(columns[t].codes, columns[c].codes, len(columns[t].values)) for c in others
            ):
                entity.columns = [c for c in entity.columns if c != t]
                entity.key, entity.alternates, entity.rows = [t], [], len(columns[t].values)
                entity.usual.append(k)
                base.exceptions.append(k)
                break
