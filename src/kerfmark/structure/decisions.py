"""What a person decides about the tables and columns of a proposal, each decision a key of the
layout: names, types, keys, what may be blank, what is unique, what counts as blank, units, meanings
and derived columns."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import pyarrow as pa

from kerfmark.errors import UsageError, counted
from kerfmark.layout.expression import ExpressionError
from kerfmark.layout.model import ColumnSpec, Layout, SourceSpec, TableSpec
from kerfmark.layout.names import closest, free_name, is_kept_back, is_reserved, snake
from kerfmark.layout.validation import derived_type, unknown_unit
from kerfmark.profile.decided_types import misfit, said_type, type_by_forms
from kerfmark.profile.encode import EncodedSource
from kerfmark.profile.recognise import Recognised
from kerfmark.profile.types import ColumnType, with_headroom
from kerfmark.structure.table_names import with_column_names, with_table_names

Pairs = tuple[tuple[str, str], ...]
_WISHES = {
    "type": ("unfit", "too wide"),
    "unit": ("unfit",),
    "required": ("blank", "cannot be"),
    "unique": ("again",),
    "key": ("again", "blank"),
}
"""By option, the kinds of problems of rows that do not do as it says."""
_PLACES = 3
"""Digits behind the mark of a number whose unit was changed, at least."""


@dataclass(frozen=True)
class Decisions:
    """What a person has decided. A column is named by its header (then it is meant in every source
    that has it) or as TABLE.COLUMN of the proposal; a table by the name that it is proposed
    under, or by the header that it is known by.

    `types` are pairs of a column and its type, of which the form, or the digits of a decimal, may
    be left out; `dates` is the form of all dates, `decimals` the mark of all decimals ("": found).
    `table_names`, `column_names` are pairs of what is renamed and its name. `keys` are pairs of a
    table and its primary key: columns of its own, with commas between, or a name for the generated
    one. `optional`, `required`: columns that may be blank, and may not. `unique`: sets of columns
    that tell records apart. `blanks`: spellings that count as blank everywhere; `not_blanks`:
    spellings that do not. `units`: pairs of a column and a change of units (`lb to kg`). `means`:
    `COLUMN: SPELLING` and what that means. `derived`: pairs of a name and an expression.
    """

    types: Pairs = ()
    dates: str = ""
    decimals: str = ""
    table_names: Pairs = ()
    column_names: Pairs = ()
    keys: Pairs = ()
    optional: tuple[str, ...] = ()
    required: tuple[str, ...] = ()
    unique: tuple[tuple[str, ...], ...] = ()
    blanks: tuple[str, ...] = ()
    not_blanks: tuple[str, ...] = ()
    units: Pairs = ()
    means: Pairs = ()
    derived: Pairs = ()


NOTHING = Decisions()
"""Nothing is decided."""


@dataclass(frozen=True)
class Decided:
    """A layout in which decisions hold, what they changed in words, by header the kinds of problems
    that rows have which do not do as it was `wished`, and the names that tables and
    columns (by table, as they are called now) had before, each with the one it has."""

    layout: Layout
    told: tuple[str, ...]
    wished: frozenset[tuple[str, str]]
    tables: Mapping[str, str]
    columns: Mapping[str, Mapping[str, str]]


def recognised_as(
    column_types: Sequence[Recognised], headers: Sequence[str], values: Sequence[pa.StringArray],
    decisions: Decisions,
) -> list[Recognised]:  # fmt: skip
    """The types of columns, those that a person decided by their headers as decided."""
    said = dict(decisions.types)
    out = []
    for found, header, texts in zip(column_types, headers, values, strict=True):
        if header in said:
            out.append(Recognised(said_type(said[header], texts, header)))
        elif by_form := type_by_forms(texts, decisions.dates, decisions.decimals):
            out.append(Recognised(by_form))
        else:
            out.append(found)
    return out


def decide(
    layout: Layout,
    encoded: Mapping[str, EncodedSource],
    decisions: Decisions,
    held: Collection[str] = (),
) -> Decided:
    """A layout in which decisions hold; the tables that are `held` stay as they are.

    Raises UsageError for a decision about a table or column that is not there, and for one that a
    layout cannot say.
    """
    deciding = _Deciding(layout, encoded, held, dict(decisions.table_names))
    deciding.values(decisions)
    for said, type_ in decisions.types:
        deciding.type(said, type_)
    for said, unit in decisions.units:
        deciding.unit(said, unit)
    for said, meaning in decisions.means:
        deciding.meaning(said, meaning)
    for name, expression in decisions.derived:
        deciding.derived(name, expression)
    for said in decisions.optional:
        deciding.optional(said, True)
    for said in decisions.required:
        deciding.optional(said, False)
    for names in decisions.unique:
        deciding.unique(names)
    for table, key in decisions.keys:
        deciding.key(table, key)
    return deciding.renamed(decisions)


class _Deciding:
    """A layout as decisions change it."""

    def __init__(
        self,
        layout: Layout,
        encoded: Mapping[str, EncodedSource],
        held: Collection[str],
        names: Mapping[str, str],
    ) -> None:
        self.layout, self.encoded, self.held, self.names = layout, encoded, held, names
        self.told: list[str] = []
        self.wished: set[tuple[str, str]] = set()

    # what is meant

    def table(self, said: str, option: str) -> str:
        """The table that a person means."""
        free = [n for n in self.layout.tables if n not in self.held]
        before = {new: old for old, new in self.names.items()}
        for name in (said, before.get(said, said)):
            if name in free:
                return name
            known = [n for n in free if self.layout.key_headers(n) == [name]]
            if len(known) == 1:
                return known[0]
        near = closest(said, free)
        raise UsageError(
            f'--{option}: no table of the proposal is called "{said}"',
            code="decide.table",
            why=f"the tables are {', '.join(free)}",
            next=f'did you mean "{near}"?' if near else "name one of them",
        )

    def columns(self, said: str, option: str) -> list[tuple[str, str]]:
        """The columns that a person means, as (table, column)."""
        free = {n: t for n, t in self.layout.tables.items() if n not in self.held}
        found = [(n, c) for n, t in free.items() for c, s in t.columns.items() if said in s.sources]
        if not found and option == "correct":  # what finds a record of another source
            places = [self.layout.column_of(s, said) for s in self.encoded]
            found = [
                (t, next(n for n, c in self.spec(t).columns.items() if c == spec))
                for t, spec in filter(None, places)
            ]
        if found:
            self._wish(option, said)
            return found
        table, _, column = said.rpartition(".")
        before = {new: old for old, new in self.names.items()}.get(table, table)
        for name in (table, before):
            if name in free and column in free[name].columns:
                self._wish(option, *free[name].columns[column].sources)
                return [(name, column)]
        links = [n for n, t in free.items() if said in t.headers]
        left = [s for s in self.layout.sources.values() if said in s.left_out]
        known = [h for t in free.values() for c in t.columns.values() for h in c.sources]
        known += [f"{n}.{c}" for n, t in free.items() for c in t.columns]
        near = closest(said, known)
        raise UsageError(
            f'--{option}: there is no column "{said}"',
            code="decide.column",
            why=f"{links[0]} links to another table by it, and keeps no column of its own"
            if links
            else "it is left out"
            if left
            else "",
            next=f'did you mean "{near}"?'
            if near
            else 'write the header as it is in the file, or "table.column"',
        )

    def _wish(self, option: str, *headers: str) -> None:
        """Notes which problems with headers mean that a decision cannot be followed."""
        self.wished |= {(h, kind) for h in headers for kind in _WISHES.get(option, ())}

    def change(self, table: str, **fields: Any) -> None:
        """Changes keys of a table."""
        spec = self.layout.tables[table].model_copy(update=fields)
        self._set(tables={**self.layout.tables, table: spec})

    def _set(
        self,
        sources: Mapping[str, SourceSpec] | None = None,
        tables: Mapping[str, TableSpec] | None = None,
    ) -> None:
        old = self.layout
        self.layout = Layout(
            kerfmark=old.kerfmark,
            existing=old.existing,
            sources=dict(sources or old.sources),
            tables=dict(tables or old.tables),
        )

    def change_column(self, table: str, column: str, option: str, **fields: Any) -> None:
        """Changes keys of a column. Raises UsageError for what a layout cannot say."""
        spec = self.layout.tables[table]
        try:
            new = ColumnSpec.model_validate(
                spec.columns[column].model_dump(exclude_defaults=True) | fields
            )
        except ValueError as error:
            raise UsageError(
                f"--{option}: {table}.{column} does not take this",
                code="decide.column",
                why=_why(error),
                next=f"leave --{option} out for this column",
            ) from None
        self.change(table, columns={**spec.columns, column: new})

    def spec(self, table: str) -> TableSpec:
        """A table as it is now."""
        return self.layout.tables[table]

    def texts(self, table: str, column: str) -> pa.StringArray:
        """The distinct texts of a column, without blanks."""
        spec = self.spec(table)
        headers = spec.columns[column].sources
        some = [self.encoded[spec.source].column(h).values for h in headers]
        return pa.concat_arrays(some).unique() if len(some) > 1 else some[0]

    # the decisions

    def values(self, decisions: Decisions) -> None:
        """What counts as blank everywhere, and the forms of all dates and numbers."""
        said = {*decisions.blanks}
        sources = {}
        for name, source in self.layout.sources.items():
            kept = {*source.blanks} | said if name in self.encoded else {*source.blanks}
            sources[name] = source.model_copy(
                update={"blanks": tuple(sorted(kept - {*decisions.not_blanks}))}
            )
        self._set(sources=sources)
        for blank in decisions.blanks:
            self.told.append(f'"{blank}" counts as blank')
        for blank in decisions.not_blanks:
            self.told.append(f'"{blank}" does not count as blank')
        by_header = {h for h, _ in decisions.types}
        if not decisions.dates and not decisions.decimals:
            return
        for table, spec in self.layout.tables.items():
            read = spec.source in self.encoded and table not in self.held
            for column, c in spec.columns.items() if read else ():
                if not c.sources or c.split or by_header & {*c.sources}:
                    continue
                found = type_by_forms(
                    self.texts(table, column), decisions.dates, decisions.decimals
                )
                kinds = {"date", "timestamp"} if decisions.dates else set()
                kinds |= {"decimal", "integer"} if decisions.decimals else set()
                if found:
                    self._typed(table, column, with_headroom(found), "dates or --decimals")
                elif c.of_type.kind in kinds - {"integer"}:
                    form = decisions.dates if "date" in c.type or "time" in c.type else "that mark"
                    self.told.append(
                        f"{table}.{column} stays {c.type}: not all of its values fit {form}"
                    )

    def type(self, said: str, text: str) -> None:
        """The type of a column."""
        for table, column in self.columns(said, "type"):
            spec = self.spec(table)
            read = spec.columns[column].sources and spec.source in self.encoded
            values = self.texts(table, column) if read else pa.array([], pa.string())
            type_ = said_type(text, values, said)
            self._typed(table, column, type_, "type")
            wrong, first = misfit(values, type_)
            if wrong:
                self.told.append(
                    f"{table}.{column}: {counted(wrong, 'value')} of {len(values):,} "
                    f'{"does" if wrong == 1 else "do"} not fit that type, such as "{first}"'
                )

    def _typed(self, table: str, column: str, type_: ColumnType, option: str) -> None:
        self.change_column(table, column, option, type=str(type_))
        self.told.append(f"{table}.{column} has type {type_}")

    def unit(self, said: str, unit: str) -> None:
        """Another unit for a column."""
        if wrong := "" if " to " not in unit else unknown_unit(unit):
            raise UsageError(
                f"--unit: {wrong}",
                code="decide.unit",
                next='write it like --unit "Weight=lb to kg"',
            )
        for table, column in self.columns(said, "unit"):
            old = self.spec(table).columns[column]
            type_ = old.of_type
            fields, told = {"unit": unit}, ""
            if type_.kind in ("decimal", "integer") and " to " in unit:
                fields["type"] = str(_converted(self.texts(table, column), type_, unit))
                told = f", type {fields['type']}"
            self.change_column(table, column, "unit", **fields)
            self.told.append(f"{table}.{column} is changed from {unit}{told}")

    def meaning(self, said: str, meaning: str) -> None:
        """What a spelling means."""
        column, spelling = self._spelling(said)
        for table, name in self.columns(column, "correct"):
            known = self.spec(table).columns[name].means
            self.change_column(table, name, "correct", means={**known, spelling: meaning})
            self.told.append(
                f'{table}.{name}: "{spelling}" means '
                + (f'"{meaning}"' if meaning else "that it is blank")
            )

    def _spelling(self, said: str) -> tuple[str, str]:
        """The column and the spelling in `COLUMN: SPELLING`; either may have a colon in it."""
        cuts = [i for i, c in enumerate(said) if c == ":"]
        headers = {h for e in self.encoded.values() for h in e.source.headers}
        headers |= {f"{n}.{c}" for n, t in self.layout.tables.items() for c in t.columns}
        for cut in cuts:
            if said[:cut].strip() in headers:
                return said[:cut].strip(), said[cut + 1 :].strip()
        if not cuts:
            raise UsageError(
                f'--correct: "{said}" is not COLUMN:TEXT=RIGHT',
                code="decide.means",
                next='write it like --correct "Kind:wodden=wooden"',
            )
        return said[: cuts[0]].strip(), said[cuts[0] + 1 :].strip()

    def derived(self, name: str, expression: str) -> None:
        """A column that is computed from others of its row."""
        column = snake(name)
        wrong: ExpressionError | None = None
        for source in self.encoded:
            if source not in self.layout.sources or not self.layout.tables_of(source):
                continue
            try:
                type_, headers = derived_type(self.layout, source, expression)
            except ExpressionError as error:
                wrong = wrong or error
                continue
            homes = [h for h in (self.layout.column_of(source, h) for h in headers) if h]
            base = self.layout.base_of(source)
            table = homes[0][0] if len({t for t, _ in homes}) == 1 else base
            if table in self.held:
                continue
            spec = self.spec(table)
            taken = {*spec.columns, *spec.links, self.layout.key_of(table)}
            self._check_name(column, name, taken, "derive")
            blank = any(
                c == other and n in self.spec(t).optional
                for t, c in homes
                for n, other in self.spec(t).columns.items()
            )
            blank |= table == base and bool({*self.spec(base).optional} & {*spec.links})
            columns = {**spec.columns, column: ColumnSpec(derived=expression, type=str(type_))}
            more = (column,) if blank or not headers else ()
            self.change(table, columns=columns, optional=(*spec.optional, *more))
            self.told.append(f"{table}.{column} is computed: {expression}")
            return
        raise UsageError(
            f'--derive: "{name}" cannot be computed',
            code="decide.derive",
            why=str(wrong or "there is no source"),
            next='write it like --derive "year=year([Day])", headers in brackets',
        )

    def optional(self, said: str, may: bool) -> None:
        """Whether a column may be blank."""
        for table, column in self._columns_or_links(said, "optional" if may else "required"):
            spec = self.spec(table)
            rest = tuple(n for n in spec.optional if n != column)
            if may and column in spec.known_by and not spec.each_row:
                raise UsageError(
                    f"--optional: {table}.{column} must be filled",
                    code="decide.optional",
                    why=f"the records of {table} are known by it",
                    next=f'leave --optional "{said}" out: where it is blank there is no record',
                )
            self.change(table, optional=(*rest, column) if may else rest)
            self.told.append(f"{table}.{column} {'may' if may else 'must not'} be blank")

    def _columns_or_links(self, said: str, option: str) -> list[tuple[str, str]]:
        """The columns that a person means, or the link TABLE.LINK."""
        table, _, link = said.rpartition(".")
        free = table in self.layout.tables and table not in self.held
        if free and link in self.layout.tables[table].links:
            return [(table, link)]
        return self.columns(said, option)

    def unique(self, names: Sequence[str]) -> None:
        """Columns that tell records apart."""
        places = [self.columns(n, "unique") for n in names]
        tables = [t for t in dict.fromkeys(t for t, _ in places[0]) if t not in self.held]
        common = [t for t in tables if all(t in {x for x, _ in p} for p in places)]
        if not common:
            raise UsageError(
                f"--unique: {', '.join(names)} are columns of different tables",
                code="decide.unique",
                why=", ".join(f"{t}.{c}" for p in places for t, c in p[:1]),
                next="name columns of one table",
            )
        for table in common:
            columns = tuple(next(c for t, c in p if t == table) for p in places)
            spec = self.spec(table)
            if columns not in spec.unique_sets:
                self.change(table, unique=(*spec.unique, columns))
            self.told.append(f"{table}: no two records have the same {' and '.join(columns)}")

    def key(self, said: str, key: str) -> None:
        """The primary key of a table: columns of its own, or a name for the generated one."""
        names = [n.strip() for n in key.split(",")]
        table = self.table(said, "key") if said else self.columns(names[0], "key")[0][0]
        spec = self.spec(table)
        columns = []
        for name in names:
            header = [c for c, s in spec.columns.items() if name in s.sources]
            columns += header[:1] or [name.removeprefix(f"{table}.")]
        there = [c for c in columns if c in spec.columns]
        if len(there) == len(columns):
            known = {frozenset(u) for u in spec.unique_sets}
            more = () if frozenset(columns) in known else (tuple(columns),)
            self.change(
                table,
                key=tuple(columns),
                unique=(*spec.unique, *more),
                optional=tuple(n for n in spec.optional if n not in columns),
            )
            self.told.append(f"{table} has the primary key {', '.join(columns)}, of the file")
            return
        if there or len(columns) > 1 or not said:
            missing = next(c for c in columns if c not in spec.columns)
            raise UsageError(
                f'--key: {table} has no column "{missing}"',
                code="decide.key",
                why=f"its columns are {', '.join(spec.columns)}",
                next=f"name its own columns, or one new name for a generated key: "
                f'--key "{table}={table}_no"',
            )
        name = snake(columns[0])
        self._check_name(name, columns[0], {*spec.columns, *spec.links}, "key")
        self.change(table, key=name)
        self.told.append(f"{table} has a generated primary key, {name}")

    def renamed(self, decisions: Decisions) -> Decided:
        """The layout with the names that were decided."""
        columns: dict[str, dict[str, str]] = {}
        for said, wanted in decisions.column_names:
            for table, column in self.columns(said, "column-name"):
                spec = self.spec(table)
                name = snake(wanted)
                taken = {*spec.columns, *spec.links, *columns.get(table, {}).values()} - {column}
                self._check_name(name, wanted, taken, "column-name")
                columns.setdefault(table, {})[column] = name
                self.told.append(f"{table}.{column} is called {name}")
        names: dict[str, str] = {}
        for said, wanted in decisions.table_names:
            table, name = self.table(said, "table-name"), snake(wanted)
            taken = {*self.layout.tables, *names.values()} - {table}
            self._check_name(name, wanted, taken, "table-name")
            names[table] = name
            self.told.append(f"{table} is called {name}")
        layout = with_table_names(with_column_names(self.layout, columns), names)
        return Decided(
            layout,
            tuple(self.told),
            frozenset(self.wished),
            names,
            {names.get(t, t): c for t, c in columns.items()},
        )

    def _check_name(self, name: str, said: str, taken: Collection[str], option: str) -> None:
        """Raises UsageError for a name that nothing can have."""
        why = (
            "it has no letters or digits"
            if not name
            else "a name begins with a letter"
            if name[0].isdigit()
            else "it is a reserved word of databases"
            if is_reserved(name)
            else "Kerfmark or an engine keeps such names for itself"
            if is_kept_back(name) or free_name(name, set(), "") != name
            else "it is taken"
            if name in taken
            else ""
        )
        if why:
            raise UsageError(
                f'--{option}: "{said}" cannot be a name here',
                code="decide.name",
                why=why,
                next="choose another name",
            )


def _converted(texts: pa.StringArray, type_: ColumnType, unit: str) -> ColumnType:
    """A type for numbers of a type whose unit is changed, with the marks that they have."""
    import numpy as np

    from kerfmark.profile.convert import to_typed
    from kerfmark.profile.units import changed

    numbers = to_typed(texts, type_).cast(pa.float64()).drop_null().to_numpy()
    new = np.abs(changed(numbers, unit)) if len(numbers) else np.zeros(1)
    scale = max(type_.scale, _PLACES)
    whole = len(str(int(new.max())))
    thousands = type_.thousands
    mark = type_.mark if type_.kind == "decimal" else "," if thousands == "." else "."
    form = (f"0{thousands}000" if thousands else "0") + mark + "#" * scale
    return with_headroom(ColumnType("decimal", min(whole + scale, 38), scale, form))


def _why(error: ValueError) -> str:
    """Why the layout language does not allow a key."""
    told = getattr(error, "errors", None)
    return str(told()[0]["msg"]).removeprefix("Value error, ") if told else str(error)
