"""From entities to a layout: names, keys, what must be filled, and the reasons in words."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.errors import UsageError, counted
from kerfmark.layout.model import (
    VERSION,
    ColumnSpec,
    Layout,
    LinkSpec,
    SourceSpec,
    TableSpec,
    generated_key,
)
from kerfmark.layout.names import free_name, is_reserved, singular, snake
from kerfmark.profile.codes import most_frequent
from kerfmark.profile.encode import EncodedSource
from kerfmark.profile.recognise import Recognised, kind_of, recognise
from kerfmark.profile.reserved import RESERVED
from kerfmark.profile.types import TEXT, ColumnType, with_headroom
from kerfmark.structure.changing import changing_columns
from kerfmark.structure.decisions import Decided
from kerfmark.structure.entities import (
    MOST_FOR_TRIPLES,
    Entity,
    Trait,
    decides_misspelt,
    find_entities,
)
from kerfmark.structure.header_words import called_like, helpful, looks_like_key, stem
from kerfmark.structure.near_dependencies import NearMiss, assign_near_dependencies, near_misses
from kerfmark.structure.prepare import prepare
from kerfmark.structure.references import Reference
from kerfmark.structure.repeats import (
    Listed,
    Repetition,
    list_of,
    repetitions,
    said_to_be_list,
    said_to_repeat,
    two_ends,
)
from kerfmark.structure.shapes import MARKS, CodeTree, attribute_values, code_tree, hidden_keys
from kerfmark.structure.steering import Steering, known_by, steer

FEWEST_CODES = 3
"""Values from which on it can be seen that they are numbers behind the same letters."""
POSITION = "position_no"
"""The column that counts repeated columns and the parts of a cell."""


@dataclass(frozen=True)
class Reason:
    """Why a table was split off: what decides what, on how much evidence.

    `table` is the new table, `by` and `decides` are headers, `values` the distinct values of the
    determinant, `repeats` its further records in table `within`, `exceptions` how many contradicted
    it, `by_chance` how many would be expected if the columns had nothing to do with each other (of
    the column decided in which these are most).
    """

    table: str
    within: str
    by: tuple[str, ...]
    decides: tuple[str, ...]
    values: int
    repeats: int
    exceptions: int
    by_chance: int

    def __str__(self) -> str:
        return f"{self.claim}: {self.evidence}" if self.decides else self.claim

    @property
    def claim(self) -> str:
        """What decides what."""
        by = " + ".join(self.by)
        if not self.decides:
            return f"{by} has {counted(self.values, 'value')}, and links lead to each"
        return f"{by} decides {', '.join(self.decides)}"

    @property
    def evidence(self) -> str:
        """On how much evidence; "" for what decides nothing."""
        if not self.decides:
            return ""
        return (
            f"{counted(self.values, 'value')}, {counted(self.repeats, 'repeat')} in {self.within}, "
            f"{counted(self.exceptions, 'exception')}, about {self.by_chance:,} expected by chance"
        )


def _size_of_source(rows: int) -> str:
    return f"{rows:,} rows"


def _rows_of_base(rows: int) -> str:
    return f"one record per row: {rows:,}"


@dataclass(frozen=True)
class Proposal:
    """A layout with the reasons for it: one `Reason` per table that was split off, notes per
    column, and the same as comments for the layout's text; how many records tables have, the
    references that links by value rest on, what nearly holds, what was decided against, and the
    pairs of columns that may be two ends of something (as source, header, header); what a person
    `decided`, in words, and by header the kinds of problems that this may cause (`wished`)."""

    layout: Layout
    reasons: tuple[Reason, ...]
    notes: tuple[tuple[str, str], ...]
    comments: dict[str, list[str]]
    rows: dict[str, int] = field(default_factory=dict)
    references: tuple[Reference, ...] = ()
    near: tuple[NearMiss, ...] = ()
    against: tuple[str, ...] = ()
    ends: tuple[tuple[str, str, str], ...] = ()
    decided: tuple[str, ...] = ()
    wished: frozenset[tuple[str, str]] = frozenset()

    def with_evidence(
        self,
        reasons: Sequence[Reason],
        rows: Mapping[str, int],
        of_sources: Mapping[str, tuple[int, int]],
    ) -> Proposal:
        """The same, for the same `reasons` with other counts, and records of its tables; each
        source has other rows than it was proposed from (those, and these)."""
        said = {str(old): str(new) for old, new in zip(self.reasons, reasons, strict=True)}
        for name, (few, all_) in of_sources.items():
            for key, words in (
                (f"sources.{name}", _size_of_source),
                (f"tables.{self.layout.base_of(name)}", _rows_of_base),
            ):
                for old in self.comments.get(key, ()):
                    said[old] = old.replace(words(few), words(all_), 1)
        comments = {k: [said.get(c, c) for c in v] for k, v in self.comments.items()}
        return replace(self, reasons=tuple(reasons), comments=comments, rows=dict(rows))

    def as_decided(self, decided: Decided) -> Proposal:
        """The same, in which a person's decisions hold."""

        def new(name: str) -> str:
            return decided.tables.get(name, name)

        def place(key: str) -> str:
            kind, name, *rest = key.split(".", 2)
            if kind == "tables":
                name = new(name)
                rest = [decided.columns.get(name, {}).get(c, c) for c in rest]
            return ".".join((kind, name, *rest))

        reasons = [replace(r, table=new(r.table), within=new(r.within)) for r in self.reasons]
        links = [replace(r, table=new(r.table), parent=new(r.parent)) for r in self.references]
        said = {str(old): str(r) for old, r in zip(self.reasons, reasons, strict=True)}
        for old, r in zip(self.references, links, strict=True):
            said[f"links to {old.parent}: {old}"] = f"links to {r.parent}: {r}"
        return replace(
            self,
            layout=decided.layout,
            reasons=tuple(reasons),
            notes=tuple((new(what), told) for what, told in self.notes),
            comments={place(k): [said.get(c, c) for c in v] for k, v in self.comments.items()},
            rows={new(n): count for n, count in self.rows.items()},
            references=tuple(links),
            near=tuple(replace(n, table=new(n.table)) for n in self.near),
            decided=decided.told,
            wished=decided.wished,
        )


def source_name(stem_: str, taken: Collection[str] = ()) -> str:
    """The name of a source: that of its file without the date or number at its end."""
    words = snake(stem_).split("_")
    while len(words) > 1 and words[-1].isdigit():
        words.pop()
    name = "_".join(words)
    plain = bool(name) and not name[0].isdigit()
    return free_name(name, set(taken), f"{name}_records" if plain else "source")


def propose(
    encoded: EncodedSource,
    recognised: Sequence[Recognised],
    name: str,
    spec: SourceSpec,
    taken: set[str],
    steering: Steering = Steering(),
) -> Proposal:
    """The tables that a flat source holds. `name` is what the layout calls it, `spec` how it is
    read; names in `taken` are not given to tables, and those given are added."""
    kinds = [kind_of(c.values, r.type) for c, r in zip(encoded.columns, recognised, strict=True)]
    place = {c.header: i for i, c in enumerate(encoded.columns)}
    repeated, ends = _repeated(encoded, kinds, steering, place)
    lists = _lists(encoded, recognised, kinds, repeated, steering)
    lengths = [float(pc.mean(pc.binary_length(c.values)).as_py() or 0) for c in encoded.columns]

    types = [r.type for r in recognised]
    prepared = prepare(encoded.columns, types, kinds)
    as_written: set[int] = set()
    named_values = attribute_values(encoded.columns, types)
    decide_nothing = {named_values.value} if named_values else set()
    said = [[place[h] for h in names] for names in steering.known_by if {*names} <= place.keys()]

    def entities() -> tuple[Entity, list[Trait]]:
        several = {c for r in repeated for c in r.columns} | {*lists} | decide_nothing
        traits = [
            Trait(
                c.header,
                k,
                n,
                i in several,
                [i] in said,
                k == "text" and called_like(c.header, name),
                k == "text" and _is_coded(c.values),
                looks_like_key(c.header) and called_like(c.header, name),
            )
            for i, (c, k, n) in enumerate(zip(encoded.columns, kinds, lengths, strict=True))
        ]
        nonlocal prepared
        while True:
            base = find_entities(prepared, traits, encoded.rows, said)
            decide = decides_misspelt(base, prepared)
            if not decide:
                return base, traits
            as_written.update(decide)
            prepared = prepare(encoded.columns, types, kinds, as_written)

    base, traits = entities()
    above = {c for e in base.parents for c in e.everything}
    for one, other in steering.same_as:  # records of one table though nothing is known of them
        pair = [place[h] for h in (one, other) if h in place]
        if len(pair) == 2 and not {*pair} & above:
            more = [[c] for c in pair if [c] not in said]
            said += more
            known = tuple((encoded.columns[c].header,) for [c] in more)
            steering = replace(steering, known_by=(*steering.known_by, *known))
            base, traits = entities()
    true = [r for r in repeated if any(r.columns <= set(e.own) for e in base.all())]
    against = tuple(
        f"{', '.join(encoded.columns[c].header for c in sorted(r.columns))} are not one thing "
        "repeated: they belong to "
        "different tables"
        for r in repeated
        if r not in true
    )
    if against:  # columns of different things do not say the same of one
        repeated = true
        base, traits = entities()
    if steering.depth != "flat":
        assign_near_dependencies(base, encoded.columns, traits)
    in_vain = [
        (" + ".join(names), "no table is known by it, so --no-table changes nothing")
        for names in steering.no_table
        if {*names} <= place.keys()
        and known_by(base, {place[h] for h in names}) is None
        and not _several(names, encoded, kinds)
    ]
    base = steer(base, [c.header for c in encoded.columns], steering)
    trees = _trees(base, encoded, steering)
    wanted = {c: t for c, t in trees.items() if t.header in steering.trees}
    proposal = _Writer(encoded, recognised, name, spec, taken, wanted).write(
        base, repeated, lists, traits, (*against, *_unexamined(encoded, traits))
    )
    computed = tuple(
        (
            encoded.columns[b].header,
            f"is computed from {encoded.columns[a].header}: it stays in the same table",
        )
        for b, a in sorted(prepared.derived.items())
    )
    changing = [(c.header, str(c)) for c in changing_columns(base, encoded.columns, types)]
    shapes = [
        *((t.header, str(t)) for t in trees.values() if t.header not in steering.trees),
        *(
            [(named_values.headers[0], str(named_values))]
            if named_values and (named_values.headers[0],) not in steering.known_by
            else []
        ),
        *hidden_keys(base, encoded),
    ]
    pairs = tuple(
        (name, encoded.columns[first].header, encoded.columns[second].header)
        for one in ends
        for _, (first, second) in one.members
    )
    notes = (*proposal.notes, *computed, *changing, *shapes, *in_vain)
    return replace(proposal, notes=notes, ends=pairs)


def _repeated(
    encoded: EncodedSource, kinds: Sequence[str], steering: Steering, place: Mapping[str, int]
) -> tuple[list[Repetition], list[Repetition]]:
    """The repeated columns of a source, and those that are rather two ends of something."""
    if steering.depth == "flat":
        return [], []
    said = [said_to_repeat(names, place) for names in steering.repeated if {*names} <= place.keys()]
    known = {c for r in said for c in r.columns}
    unwanted = [{place[h] for h in names if h in place} for names in steering.no_table]
    unwanted += [{place[h] for h in names if h in place} for names in steering.same_as]
    found = [
        r
        for r in repetitions(encoded.columns, kinds)
        if not r.columns & known and not any(u and u <= r.columns for u in unwanted)
    ]
    ends = [r for r in found if two_ends(r, encoded.columns)]
    return [*said, *(r for r in found if r not in ends)], ends


def _lists(
    encoded: EncodedSource,
    recognised: Sequence[Recognised],
    kinds: Sequence[str],
    repeated: Sequence[Repetition],
    steering: Steering,
) -> dict[int, Listed]:
    """The columns whose cells hold several values each."""
    if steering.depth == "flat":
        return {}
    several, said = {c for r in repeated for c in r.columns}, dict(steering.lists)
    out: dict[int, Listed] = {}
    for c, column in enumerate(encoded.columns):
        if column.header in said:
            out[c] = said_to_be_list(column, said[column.header])
        elif (
            c not in several
            and (column.header,) not in steering.no_table
            and recognised[c].type == TEXT
            and kinds[c] == "text"
            and (found := list_of(column))
        ):
            out[c] = found
    return out


def _several(names: Collection[str], encoded: EncodedSource, kinds: Sequence[str]) -> bool:
    """Whether these columns would be a list or repeat each other, were it not said otherwise."""
    places = {i for i, c in enumerate(encoded.columns) if c.header in names}
    return any(list_of(encoded.columns[c]) for c in places if len(places) == 1) or any(
        places <= r.columns for r in repetitions(encoded.columns, kinds)
    )


def _trees(base: Entity, encoded: EncodedSource, steering: Steering) -> dict[int, CodeTree]:
    """The columns of codes that make a tree: what records are known by, and what a person says."""
    keys = {c for e in base.all() for c in (*(e.key if len(e.key) == 1 else ()), *e.alternates)}
    out: dict[int, CodeTree] = {}
    for c, column in enumerate(encoded.columns):
        said = column.header in steering.trees
        found = code_tree(column, said=said) if said or c in keys else None
        if found:
            out[c] = found
        elif said:
            raise UsageError(
                f'the codes in "{column.header}" do not form a tree',
                code="steer.tree",
                why=f"none of them has one of {' '.join(MARKS)} in it",
                next="leave --tree out",
            )
    return out


def _is_coded(values: pa.StringArray) -> bool:
    """Whether texts are numbers behind the same letters, all of them: H001, H002."""
    first = (
        re.fullmatch(r"([^\W\d_]{1,6}[-_/.]?)\d{1,12}", values[0].as_py()) if len(values) else None
    )
    if first is None or len(values) < FEWEST_CODES:
        return False
    pattern = f"^{re.escape(first[1])}[0-9]{{1,12}}$"
    return all(
        bool(pc.all(pc.match_substring_regex(some, pattern)).as_py())
        for some in (values.slice(0, 20), values)
    )


def _unexamined(encoded: EncodedSource, traits: Sequence[Trait]) -> list[str]:
    """What was not tried because there is too much of it."""
    able = sum(
        t.caution is not None and 2 <= len(c.values) <= encoded.rows / 6
        for t, c in zip(traits, encoded.columns, strict=True)
    )
    if able <= MOST_FOR_TRIPLES:
        return []
    return [
        f"{encoded.source.name}: combinations of three columns were tried as keys only where few "
        "columns can be part of one "
        f"({able} can here)"
    ]


def merged(proposals: Sequence[Proposal]) -> Proposal:
    """Several proposals as one layout."""
    layout = Layout(
        kerfmark=VERSION,
        sources={n: s for p in proposals for n, s in p.layout.sources.items()},
        tables={n: t for p in proposals for n, t in p.layout.tables.items()},
    )
    return Proposal(
        layout,
        tuple(r for p in proposals for r in p.reasons),
        tuple(n for p in proposals for n in p.notes),
        {k: v for p in proposals for k, v in p.comments.items()},
        {k: v for p in proposals for k, v in p.rows.items()},
        near=tuple(n for p in proposals for n in p.near),
        against=tuple(a for p in proposals for a in p.against),
        ends=tuple(e for p in proposals for e in p.ends),
    )


class _Writer:
    """Turns the entities of one source into tables."""

    def __init__(
        self,
        encoded: EncodedSource,
        recognised: Sequence[Recognised],
        name: str,
        spec: SourceSpec,
        taken: set[str],
        trees: Mapping[int, CodeTree],
    ) -> None:
        self.encoded, self.recognised, self.name, self.spec, self.taken = (
            encoded,
            recognised,
            name,
            spec,
            taken,
        )
        self.trees = trees
        self.headers = [c.header for c in encoded.columns]
        self.tables: dict[str, TableSpec] = {}
        self.reasons: list[Reason] = []
        self.comments: dict[str, list[str]] = {}
        self.notes: list[tuple[str, str]] = []
        self.table_of: dict[int, str] = {}
        self.rows: dict[str, int] = {}
        self.names: dict[int, str] = {}
        self.moved: set[int] = set()
        self.exceptions: list[tuple[str, int, Entity]] = []

    def write(
        self,
        base: Entity,
        repeated: Sequence[Repetition],
        lists: Mapping[int, Listed],
        traits: Sequence[Trait],
        against: tuple[str, ...],
    ) -> Proposal:
        """The proposal for the entities above the rows and what repeats in them."""
        name = self.name
        self.moved = {c for r in repeated for c in r.columns} | set(lists)
        table = self._named(singular(name))
        self._table(base, table, name, None)
        for base_table, c, owner in self.exceptions:
            self._exception(base_table, c, owner)
        for one in repeated:
            self._repetition(one)
        for c, listed in lists.items():
            if listed.counted:
                self._list_of_amounts(c, listed)
            else:
                self._list(c, listed.separator)
        spelled = sorted({s for c in self.encoded.columns for s in c.blank_as})
        spec = self.spec.model_copy(update={"blanks": tuple(spelled)})
        self.comments[f"sources.{name}"] = [
            f"{_size_of_source(self.encoded.rows)}, {len(self.headers)} columns"
        ]
        layout = Layout(kerfmark=VERSION, sources={name: spec}, tables=self.tables)
        near = tuple(near_misses(layout, name, self.encoded, traits))
        return Proposal(
            layout,
            tuple(self.reasons),
            tuple(self.notes),
            self.comments,
            self.rows,
            near=near,
            against=against,
        )

    def _table(
        self, entity: Entity, name: str, source: str, within: tuple[str, Entity] | None
    ) -> None:
        """Adds the table of an entity, then those of its parents."""
        self.tables[name] = TableSpec(source=source)  # keeps the children before their parents
        new = [p for p in entity.parents if id(p) not in self.names]
        parents = [(self._name(p), p) for p in entity.parents]
        self.table_of |= dict.fromkeys(entity.own, name)
        self.rows[name] = entity.rows
        named = self._column_names(entity, name)
        columns: dict[str, ColumnSpec] = {}
        for c, column in named.items():
            columns[column] = ColumnSpec(
                header=self.headers[c], type=str(with_headroom(self.recognised[c].type))
            )
            if self.recognised[c].note:
                header = self.headers[c]
                self.notes.append((header, self.recognised[c].remark(header)))
                self.comments[f"tables.{name}.{column}"] = [self.recognised[c].comment]
        above = {
            free_name(f"{column}_above", {*columns}, f"{name}_{column}_above"): self.trees[c]
            for c, column in named.items()
            if c in self.trees
        }
        for column, tree in above.items():
            code = "[" + tree.header.replace("]", "]]") + "]"
            columns[column] = ColumnSpec(derived=f"before_last({code} & '', '{tree.mark}')")
        optional_usual: list[str] = []
        for c in entity.usual:
            column = free_name(
                snake(self.headers[c]), {*columns}, f"{name}_{snake(self.headers[c]) or c + 1}"
            )
            columns[column] = ColumnSpec(
                header=self.headers[c], type=str(with_headroom(self.recognised[c].type)), usual=True
            )
        for c, owner in [(c, p) for p in entity.all() for c in p.usual] if within is None else []:
            self.exceptions.append((name, c, owner))
        for c in entity.usual:
            known, value = (self.encoded.columns[i] for i in (entity.key[0], c))
            if bool(
                (
                    most_frequent(known.codes, value.codes, len(known.values), len(value.values))
                    < 0
                ).any()
            ):
                optional_usual.append(
                    next(n for n, s in columns.items() if s.header == self.headers[c])
                )
        taken, links = set(columns), {}
        for parent, e in parents:
            key = generated_key(parent, self._column_names(e, parent).values())
            links[free_name(key, taken, f"{parent}_link")] = LinkSpec(to=parent)
        link_of = {
            c: link for (_, e), link in zip(parents, links, strict=True) for c in e.everything
        }
        known_by = tuple(dict.fromkeys(named.get(c) or link_of[c] for c in entity.key))
        optional = [
            n
            for c, n in named.items()
            if self.encoded.columns[c].blanks and self._blank_here(c, entity)
        ]
        optional += [*optional_usual, *above]
        optional += [
            link
            for (_, e), link in zip(parents, links, strict=True)
            if any(self._blank_here(c, entity) for c in e.key)
        ]
        self.tables[name] = TableSpec(
            source=source,
            each_row=within is None,
            known_by=known_by,
            columns=columns,
            links=links,
            unique=tuple((named[c],) for c in entity.alternates if c in named),
            optional=tuple(optional),
        )
        if within:
            self._explain(name, entity, within)
        else:
            self.comments[f"tables.{name}"] = [_rows_of_base(entity.rows)]
        for e in new:
            self._table(e, self.names[id(e)], source, (name, entity))

    def _column_names(self, entity: Entity, table: str) -> dict[int, str]:
        """A name for each column of an entity's table."""
        taken: set[str] = set()
        return {
            c: free_name(
                snake(self.headers[c]), taken, f"{table}_{snake(self.headers[c]) or c + 1}"
            )
            for c in entity.own
            if c not in self.moved
        }

    def _exception(self, base: str, c: int, owner: Entity) -> None:
        """A column of the base for the rows that say something else than is usual."""
        parent, spec, header = self.table_of[owner.key[0]], self.tables[base], self.headers[c]
        wanted = f"{snake(header) or parent}_here"
        column = free_name(wanted, {*spec.columns, *spec.links}, f"{base}_{wanted}")
        self.tables[base] = spec.model_copy(
            update={
                "columns": {
                    **spec.columns,
                    column: ColumnSpec(
                        header=header,
                        type=str(with_headroom(self.recognised[c].type)),
                        instead_of=parent,
                    ),
                }
            }
        )
        note = f"is a column of {parent}; a few rows have another value, in {base}.{column}"
        self.notes.append((header, note))
        self.comments[f"tables.{base}.{column}"] = [
            f"only where it differs from what {parent} usually has"
        ]

    def _repetition(self, one: Repetition) -> None:
        """A table with a record per filled group of repeated columns."""
        lead_words, lead = one.members[0]
        owner = self.table_of[lead[0]]
        plain = singular("_".join(lead_words)) if lead_words else one.what
        longer = f"{owner}_{plain or 'part'}"
        name = free_name(
            longer if plain in RESERVED or len(plain) < 4 else plain, self.taken, longer
        )
        key = self._key(owner)
        taken = {key}
        numbers = all(t.isdigit() for t in one.told)
        called = {"number": POSITION, "date": "day"}.get(one.what, one.what)
        telling = free_name(called, taken, f"{one.what}_name")
        type_ = "date YYYY-MM-DD" if one.what == "date" else "integer" if numbers else "text"
        columns = {telling: ColumnSpec(told=one.told, type=type_)}
        optional: list[str] = []
        for said, members in one.members:
            column = free_name(
                "_".join(said) or "value", taken, f"{plain}_{'_'.join(said) or 'value'}"
            )
            headers = tuple(self.headers[c] for c in members)
            columns[column] = ColumnSpec(
                headers=headers, type=str(with_headroom(self._common_type(members)))
            )
            if len(one.members) > 1 and self._blank_beside(one, members):
                optional.append(column)
        self.tables[name] = TableSpec(
            source=self.name,
            part_of=owner,
            known_by=(key, telling),
            optional=tuple(optional),
            links={key: LinkSpec(to=owner)},
            columns=columns,
        )
        groups = counted(len(one.told), one.what if one.what != "number" else "numbered group")
        listed = ", ".join(self.headers[c] for c in sorted(one.columns))
        self.comments[f"tables.{name}"] = [f"{groups} of repeated columns: {listed}"]
        self.notes.append(
            (
                name,
                f"{listed} hold the same kind of value several times over: a table with a record "
                "for each, without blanks",
            )
        )

    def _blank_beside(self, one: Repetition, members: Sequence[int]) -> bool:
        """Whether one of the columns is blank somewhere in a group that is filled."""
        for i, c in enumerate(members):
            others = [m[i] for _, m in one.members if m[i] != c]
            blank = self.encoded.columns[c].codes < 0
            if any(bool(np.any(blank & (self.encoded.columns[o].codes >= 0))) for o in others):
                return True
        return False

    def _common_type(self, members: Sequence[int]) -> ColumnType:
        """The one type that all columns of a meaning have, or text."""
        values = pa.concat_arrays([self.encoded.columns[c].values for c in members]).unique()
        return (
            recognise(values, spelled=self.encoded.columns[members[0]].spelled).type
            if len(values)
            else TEXT
        )

    def _list(self, c: int, separator: str) -> None:
        """A table with the distinct parts of a column's cells, and one that says which record has
        which."""
        owner, header = self.table_of[c], self.headers[c]
        plain = singular(snake(header)) or "part"
        parts = free_name(plain, self.taken, f"{owner}_{plain}")
        column = free_name("name", set(), "name")
        self.tables[parts] = TableSpec(
            source=self.name,
            known_by=(column,),
            columns={column: ColumnSpec(header=header, split=separator)},
        )
        self.comments[f"tables.{parts}"] = [
            f'the values in the cells of "{header}", separated by "{separator}"'
        ]
        between = free_name(f"{owner}_{parts}", self.taken, f"{owner}_{parts}_list")
        key, link = self._key(owner), f"{parts}_id"
        self.tables[between] = TableSpec(
            source=self.name,
            part_of=owner,
            known_by=(key, POSITION),
            columns={POSITION: ColumnSpec(position=True)},
            links={key: LinkSpec(to=owner), link: LinkSpec(to=parts, by={column: header})},
        )
        self.comments[f"tables.{between}"] = [
            f"which {owner} has which {parts}, in the order of the cell"
        ]
        self.notes.append(
            (header, f'cells hold several values, separated by "{separator}": a record for each')
        )

    def _list_of_amounts(self, c: int, listed: Listed) -> None:
        """A table with a record per part of a column's cells, each an amount of something."""
        owner, header = self.table_of[c], self.headers[c]
        plain = singular(snake(header)) or "part"
        longer = f"{owner}_{plain}"
        name = free_name(
            longer if plain in RESERVED or len(plain) < 4 else plain, self.taken, longer
        )
        key = self._key(owner)
        amount, what = listed.expressions(header)
        columns = {
            POSITION: ColumnSpec(position=True),
            "as_written": ColumnSpec(header=header, split=listed.separator),
            "amount": ColumnSpec(derived=amount, type="integer"),
        }
        columns[free_name(plain, {key, *columns}, f"{plain}_name")] = ColumnSpec(derived=what)
        self.tables[name] = TableSpec(
            source=self.name,
            part_of=owner,
            known_by=(key, POSITION),
            links={key: LinkSpec(to=owner)},
            columns=columns,
        )
        self.comments[f"tables.{name}"] = [
            f'the amounts in the cells of "{header}", separated by "{listed.separator}"'
        ]
        self.notes.append(
            (
                header,
                f'cells hold several amounts, separated by "{listed.separator}": a record for each',
            )
        )

    def _key(self, table: str) -> str:
        spec = self.tables[table]
        return generated_key(table, [*spec.columns, *spec.links])

    def _blank_here(self, c: int, entity: Entity) -> bool:
        """Whether a column is blank in some record of an entity (not only in rows that have no such
        record)."""
        codes = self.encoded.columns[c].codes
        blank = codes < 0
        for key in entity.key if entity.rows < self.encoded.rows else ():
            blank = blank & (self.encoded.columns[key].codes >= 0)
        return bool(np.any(blank))

    def _name(self, entity: Entity) -> str:
        """The name for the table of an entity, from the header of its key or what the others have
        in common."""
        if id(entity) in self.names:
            return self.names[id(entity)]
        keys = [self.headers[c] for c in [*reversed(entity.key), *entity.alternates]]
        good = (
            [h for h in keys if helpful(h)]
            or [h for h in map(self.headers.__getitem__, entity.own) if helpful(h)]
            or keys
        )
        words = stem(good[0])
        if len(entity.key) > 1 and len(words) > 1 and words[-1] in ("number", "no", "nr"):
            words = words[:-1]
        name = singular(snake(" ".join(words)))
        self.names[id(entity)] = self._named(name or "part")
        return self.names[id(entity)]

    def _named(self, wanted: str) -> str:
        """A free name for a table; what is called otherwise than one would think says why."""
        name = free_name(wanted, self.taken, f"{wanted}_record")
        word = name.removesuffix("_record")
        if word != name and is_reserved(word):
            self.notes.append((name, f'called so because "{word}" is a reserved word of databases'))
        return name

    def _explain(self, name: str, entity: Entity, within: tuple[str, Entity]) -> None:
        direct = {*entity.own, *(c for p in entity.parents for c in p.key)} - {*entity.key}
        decided = {c: e for c, e in sorted(entity.evidence.items()) if c in direct and e.repeats}
        reason = Reason(
            name,
            within[0],
            tuple(self.headers[c] for c in entity.key),
            tuple(self.headers[c] for c in decided),
            entity.rows,
            max((e.repeats for e in decided.values()), default=0),
            0,
            round(max((e.expected for e in decided.values()), default=0.0)),
        )
        self.reasons.append(reason)
        self.comments[f"tables.{name}"] = [str(reason)]
