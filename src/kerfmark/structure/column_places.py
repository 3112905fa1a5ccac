"""Where a column of a source may go in tables that somebody else made, and how good each place is:
by names, values, types, lengths and rules."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.profile.encode import EncodedSource
from kerfmark.profile.types import TEXT, ColumnType
from kerfmark.structure.name_likeness import TABLE_S_NAME, is_naming, likeness, shared_prefix
from kerfmark.structure.tables_there import ColumnThere, Place, TableThere

ENOUGH = 0.6
"""The score from which a source column is mapped to a column of a table."""
CLOSE = 0.05
"""Two places whose scores differ by less are as good as each other."""
TAKES = {
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
_UUID = r"^\{?[0-9A-Fa-f]{8}-?([0-9A-Fa-f]{4}-?){3}[0-9A-Fa-f]{12}\}?$"
_TOO_LONG = 0.75
"""What is left of a score where some texts are longer than the column takes."""
_SOME = 5000
"""Values of a source column that are compared."""


@dataclass(frozen=True)
class Match:
    """A place for a source column, how good it is, and why."""

    place: Place
    score: float
    why: str
    sure: str = ""


class ColumnPlaces:
    """The places in the tables that are `there`, and how well columns of `sources` fit them."""

    def __init__(
        self,
        sources: Mapping[str, EncodedSource],
        types: Mapping[str, Sequence[ColumnType]],
        there: Mapping[str, TableThere],
    ) -> None:
        self.sources, self.types, self.there = sources, types, there
        self.prefixes = {
            n: shared_prefix([c.name for c in t.columns if c.name not in t.links])
            for n, t in there.items()
        }
        self.all = self._places()

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
                    out += [Place(parent, c, t.name, link) for c in self.naming(parent)]
        return out

    def naming(self, table: str) -> tuple[str, ...]:
        """The columns by which a record of a table is recognised: unique ones, a key that is said,
        and one that is called like a name."""
        t = self.there[table]
        said = {c.name: c for c in t.columns}
        unique = [u[0] for u in t.unique if len(u) == 1 and u[0] not in t.links]
        if len(t.key) == 1 and not (t.generated or t.by_chance) and t.key[0] not in t.links:
            unique += t.key
        called = [
            c
            for c in said
            if is_naming(c, table, self.prefixes[table]) and c not in (*t.key, *t.links)
        ]
        return tuple(dict.fromkeys([*unique, *called[: 0 if unique else 1]]))

    def match(self, name: str, header: str, place: Place) -> Match | None:
        """How well a column of a source fits a place; None where it cannot go there."""
        source = self.sources[name]
        if header not in source.headers:
            return None
        i = source.headers.index(header)
        said, values = self.types[name][i], source.columns[i].values
        there = self.there[place.table]
        c = there.column(place.column)
        if not fits(said, values, c):
            return None
        prefix = self.prefixes[place.table]
        alike = likeness(header, place.table, place.column, place.through, prefix)
        if c.filled and place.column in there.key and alike < 1:  # the database makes it
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
        if c.type.width and (pc.max(pc.utf8_length(values)).as_py() or 0) > c.type.width:
            score *= _TOO_LONG
            why += (", " if why else "") + f"but it takes {c.type.width} characters only"
        return Match(place, score, why or "the names are a little alike")


def fits(said: ColumnType, values: pa.StringArray, there: ColumnThere) -> bool:
    """Whether a column takes the values of another one, as far as types and forms tell."""
    if said.kind not in TAKES[there.type.kind] and said != TEXT:
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
