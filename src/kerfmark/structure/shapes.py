"""What a source is shaped like, beside tables: a tree by its codes (`1`, `1.1`, `1.1.2`), rows that
say an attribute and its value, a key that a duplicate or two hide."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.errors import counted
from kerfmark.profile.codes import distinct
from kerfmark.profile.columns import EncodedColumn
from kerfmark.profile.encode import EncodedSource
from kerfmark.profile.recognise import kind_of, recognise
from kerfmark.profile.types import ColumnType
from kerfmark.structure.entities import Entity
from kerfmark.structure.header_words import looks_like_key

MARKS = (".", "-", "/")
"""What codes of a tree are made of parts with."""
FEWEST_ABOVE = 3
"""Different codes that have others below them."""
IN_A_TREE = 0.95
"""The share of the longer codes whose beginning must be a code as well."""
MOST_ATTRIBUTES = 60
MOST_COLUMNS = 8
"""Columns of a source that holds attributes and values, and the attributes that it has."""
FEWEST_VALUES = 3
"""Values of an attribute from which on their kind can be seen."""
HIDING = 0.02
"""The share of rows that may hide a key because they repeat a value of it."""
SHOWN = 3


@dataclass(frozen=True)
class CodeTree:
    """A column of codes each of which begins with the code above it, up to the last `mark`."""

    header: str
    mark: str
    codes: int
    below: int

    def __str__(self) -> str:
        return (
            f"its codes are a tree: {self.below:,} of {self.codes:,} begin with another one and "
            f'"{self.mark}". --tree "{self.header}" adds a column with the code above each'
        )


def code_tree(column: EncodedColumn, *, said: bool = False) -> CodeTree | None:
    """The tree that a column's codes make, if they do; where it is `said` that they do, the mark
    that most of them have is enough."""
    values = column.values
    best: CodeTree | None = None
    for mark in MARKS:
        longer = values.filter(pc.match_substring(values, mark))
        if not len(longer):
            continue
        above = pc.struct_field(
            pc.extract_regex(longer, rf"(?s)^(?P<above>.*)[{mark}][^{mark}]*$"), 0
        )
        there = pc.is_in(above, value_set=values)
        below = int(pc.sum(there).as_py() or 0)
        plain = said or (
            below >= IN_A_TREE * len(longer)
            and 2 * below >= len(values)
            and len(above.filter(there).unique()) >= FEWEST_ABOVE
        )
        if plain and (best is None or below > best.below):
            best = CodeTree(column.header, mark, len(values), below)
    return best


@dataclass(frozen=True)
class AttributeValues:
    """Two columns of a source (their positions), one of which names the attribute that the other
    has the value of; `kinds` are the kinds of values of some attributes."""

    attribute: int
    value: int
    headers: tuple[str, str]
    kinds: tuple[tuple[str, str], ...]

    def __str__(self) -> str:
        attribute, value = self.headers
        some = ", ".join(f"{a}: {k}" for a, k in self.kinds)
        return (
            f"tells in each row what {value} is ({some}). The rows stay as they are, and {value} "
            f'is text; --known-by "{attribute}" makes a table of these kinds'
        )


def attribute_values(
    columns: Sequence[EncodedColumn], types: Sequence[ColumnType]
) -> AttributeValues | None:
    """The columns of attributes and their values, if a source has any: of each attribute all values
    are of one kind, and of several attributes they are of different kinds."""
    if not 2 <= len(columns) <= MOST_COLUMNS:
        return None
    texts = [i for i, t in enumerate(types) if t.kind == "text" and len(columns[i].values)]
    for a in texts:
        if not 2 <= len(columns[a].values) <= MOST_ATTRIBUTES:
            continue
        for v in texts:
            if v == a or len(columns[v].values) <= len(columns[a].values):
                continue
            kinds = _kinds(columns[a], columns[v])
            if kinds:
                return AttributeValues(a, v, (columns[a].header, columns[v].header), kinds)
    return None


def _kinds(attribute: EncodedColumn, value: EncodedColumn) -> tuple[tuple[str, str], ...]:
    """An attribute of each kind of values, and that kind; nothing where these are not mixed."""
    found: dict[str, str] = {}
    seen = 0
    for code, name in enumerate(attribute.values.to_pylist()):
        rows = np.flatnonzero((attribute.codes == code) & (value.codes >= 0))
        own = value.values.take(pa.array(distinct(value.codes[rows])))
        if len(rows) < FEWEST_VALUES or len(own) < 2:
            continue
        type_ = recognise(own, spelled=value.spelled).type
        kind = kind_of(own, type_)
        kind = "number" if kind in ("integer", "decimal", "real") else kind
        seen += 1
        found.setdefault(kind, name)
    if seen < 3 or len(found) < 2 or not set(found) & {"number", "date", "timestamp"}:
        return ()
    return tuple((name, _KINDS.get(kind, f"{kind}s")) for kind, name in found.items())


_KINDS = {"text": "texts", "boolean": "yes or no"}


def hidden_keys(base: Entity, encoded: EncodedSource) -> list[tuple[str, str]]:
    """What would be a key of the rows but for a few of them, as (header, what is told)."""
    if base.key:
        return []
    out = []
    for c in base.own:
        column, rows = encoded.columns[c], encoded.rows
        again = rows - len(column.values) - column.blanks
        if not looks_like_key(column.header) or not rows or column.blanks:
            continue
        if not 0 < again <= max(1, HIDING * rows):
            continue
        out.append(
            (
                column.header,
                f"tells rows apart but for {_again(column, encoded)}; once these are corrected, "
                "it is proposed as their key",
            )
        )
    return out


def _again(column: EncodedColumn, encoded: EncodedSource) -> str:
    """The values that are there several times, with their rows."""
    times = np.bincount(column.codes, minlength=len(column.values))
    several = np.flatnonzero(times > 1)
    said = []
    for code in several[:SHOWN].tolist():
        some = np.flatnonzero(column.codes == code)[:SHOWN]
        rows = [f"{encoded.origin(int(r)).row or 0:,}" for r in some]
        said.append(f'"{column.values[code]}" (rows {", ".join(rows[:-1])} and {rows[-1]})')
    more = "; ..." if len(several) > SHOWN else ""
    return f"{counted(len(several), 'value')}: {'; '.join(said)}{more}"
