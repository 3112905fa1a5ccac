"""The tables that one source feeds: one record per key, values and links as codes, and every row
that does not fit."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from types import MappingProxyType

import numpy as np
import pyarrow as pa

from kerfmark.errors import article
from kerfmark.layout.model import ColumnSpec, Layout, LinkSpec, TableSpec
from kerfmark.normalize import sentences
from kerfmark.normalize.lookup import Found, differing, fill_unsaid, nearest, resolve
from kerfmark.normalize.nearest import nearest_of
from kerfmark.normalize.parts import filled_groups, parts_of_records, split_cells, stacked
from kerfmark.normalize.prepare import Cells, Prepared
from kerfmark.normalize.problems import Problem, Problems, Reason, is_misspelt
from kerfmark.normalize.remedies import of_misfits
from kerfmark.normalize.table_rows import Column, Counted, Linked, TableRows, Typed
from kerfmark.normalize.transform import not_allowed
from kerfmark.plan.compile import listed
from kerfmark.plan.model import ColumnStep, Plan, TableStep
from kerfmark.profile.codes import (
    combine,
    distinct,
    filled,
    first_rows,
    gather,
    holds,
    most_frequent,
)
from kerfmark.profile.columns import EncodedColumn
from kerfmark.profile.convert import misfits, to_text, to_typed


class SourceTables:
    """The tables fed by one source."""

    def __init__(self, layout: Layout, ready: Prepared, problems: Problems) -> None:
        self.layout, self.ready, self.problems, self.name = layout, ready, problems, ready.name
        self._identity: dict[str, tuple[np.ndarray, int]] = {}
        self._parts: dict[tuple[str, str], tuple[pa.StringArray, np.ndarray, np.ndarray]] = {}
        self._places: dict[str, tuple[np.ndarray, np.ndarray]] = {}
        self._told: set[tuple[str, str, str]] = set()

    def problem(
        self,
        kind: str,
        headers: tuple[str, ...],
        rows: np.ndarray,
        reason: Reason,
        remedy: str,
        table: str = "",
        against: np.ndarray | None = None,
        suggested: Callable[[int], str] | None = None,
        suggested_for: str = "",
        decide: Mapping[str, str] = MappingProxyType({}),
        of_all: bool = False,
    ) -> None:
        """Adds a problem; `rows` are those of the prepared source, and what `reason` and
        `suggested` are asked about. `against` are the rows of the database that they are held
        against. See Problem for the rest."""
        records = self.records(rows)
        asked = suggested is not None or not isinstance(reason, str)
        back = dict(zip(records.tolist(), rows.tolist(), strict=True)) if asked else {}

        def of_records(ask: Callable[[int], str]) -> Callable[[int], str]:
            return lambda record: ask(back[record])

        if not isinstance(reason, str):
            reason = of_records(reason)
        held = {} if against is None else dict(zip(records.tolist(), against.tolist(), strict=True))
        self.problems.add(
            Problem(
                kind,
                self.name,
                headers,
                records,
                reason,
                remedy,
                table=table,
                against=held,
                suggested=of_records(suggested) if suggested else None,
                suggested_for=suggested_for,
                decide=decide,
                of_all=of_all,
            )
        )

    def records(self, rows: np.ndarray) -> np.ndarray:
        """The records, as read, that rows of the prepared source are."""
        numbers = self.ready.encoded.records
        return rows if numbers is None or not len(rows) else numbers[rows]

    def identity(self, name: str) -> tuple[np.ndarray, int]:
        """Per row of the source the number (from 0) of its record in a table, -1 for none; and how
        many there are."""
        if name not in self._identity:
            spec = self.layout.tables[name]
            codes = [
                self._coded(spec.columns[k])
                if k in spec.columns
                else self._link_identity(spec.links[k])
                for k in spec.known_by
            ]
            mixed, count = combine([c for c, _ in codes], [n for _, n in codes])
            if spec.only_rows and not spec.each_row:
                inside = np.where(self.ready.holds(spec.only_rows), mixed, -1).astype(np.int32)
                mixed, count = combine(
                    [inside, np.where(inside >= 0, 0, -1).astype(np.int32)], [count, 1]
                )
            self._identity[name] = mixed, count
        return self._identity[name]

    def _whole_keys(self, name: str, codes: np.ndarray) -> None:
        """Adds a problem for each row in which a part of a table's key is blank and another is
        filled: that would be lost, as the row leads to no record."""
        spec = self.layout.tables[name]
        if len(spec.known_by) < 2 or spec.only_rows:
            return
        base = self.layout.base_of(self.name)
        key = " + ".join(self.layout.key_headers(name))
        for part in spec.known_by:
            own = spec.columns.get(part)
            if own is None and (name, part, spec.links[part].to) not in (
                self.layout.path(base, spec.links[part].to) or []
            ):
                continue  # the row leads to that on another way
            filled_codes = self._coded(own)[0] if own else self._link_identity(spec.links[part])[0]
            rows = np.flatnonzero((codes < 0) & (filled_codes >= 0))
            headers = (
                (own.header or part,)
                if own
                else tuple(self.layout.key_headers(spec.links[part].to))
            )
            header = " + ".join(headers)
            if len(rows):
                self.problem(
                    "blank",
                    headers,
                    rows,
                    f"is filled, but another part of {key} is blank",
                    f'fill the cells\nput "{header}" into a table with a record per row and '
                    "take it out of known_by "
                    f"of tables > {name}",
                    name,
                )

    def _coded(self, spec: ColumnSpec) -> tuple[np.ndarray, int]:
        """The code of each row in a column, and how many values it has."""
        values, codes = (
            self.ready.derived(spec)[0] if spec.derived else self.ready.cells(spec.header, spec)
        )
        return codes, len(values)

    def _link_identity(self, link: LinkSpec) -> tuple[np.ndarray, int]:
        """Per row of the source a number for the record that a link leads to."""
        if not link.by:
            return self.identity(link.to)
        columns = [
            self.ready.cells(h, found[1])
            for c, h in link.by.items()
            if (found := self.layout.follow(link.to, c))
        ]
        return combine([codes for _, codes in columns], [len(values) for values, _ in columns])

    def table(self, step: TableStep) -> TableRows:
        """The records of a table, without those links that are looked up; what is wrong is added to
        the problems."""
        name, spec = step.name, self.layout.tables[step.name]
        if step.kind == "all parts":
            return self._all_parts(step)
        codes, count = (None, self.ready.rows) if step.kind == "rows" else self.identity(name)
        first = None if codes is None else first_rows(codes, count)
        if codes is not None:
            self._whole_keys(name, codes)
        columns: dict[str, Column] = {self.layout.key_of(name): Counted()}
        for link in step.links.values():
            link_codes, size = self._link_identity(link.spec)
            if link.agreed:
                self._agree(name, codes, count, link_codes, size, link.headers)
            columns[link.name] = Linked(link_codes if first is None else gather(link_codes, first))
        for column in step.columns.values():
            columns[column.name] = self._column(name, spec, column, codes, count, first)
        table = TableRows(name, spec, count, columns, first)
        for unique in step.unique:
            self._unique(table, unique)
        return table

    def _column(
        self,
        name: str,
        spec: TableSpec,
        step: ColumnStep,
        codes: np.ndarray | None,
        count: int,
        first: np.ndarray | None,
    ) -> Column:
        """The values of one column."""
        column, c = step.name, step.spec
        if c.derived:
            (values, of_rows), wrong = self.ready.derived(c)
            header = ""
            if len(wrong):
                self._unfit_derived(name, column, c, (), wrong)
        else:
            header = c.header
            self._check(name, column, c, header)
            exact = (
                codes is not None
                or any(column in u for u in spec.unique_sets)
                or not isinstance(spec.key, str)
            )
            values, of_rows = (
                self.ready.cells(header, c)
                if exact and not c.instead_of
                else (self.ready.typed(header, c), self.ready.column(header, c).codes)
            )
        if step.rule in ("most frequent", "first", "last") and codes is not None:
            return Typed(values, choose_value(codes, of_rows, count, len(values), step.rule))
        if step.rule == "exception":
            of_rows = self._exceptions(c)
        elif step.rule == "same":
            self._agree(name, codes, count, of_rows, len(values), (header or column,))
        return Typed(values, of_rows if first is None else gather(of_rows, first))

    def _exceptions(self, spec: ColumnSpec) -> np.ndarray:
        """The codes of a column where they differ from what is usual, -1 elsewhere."""
        encoded = self.ready.column(spec.header, spec)
        codes, count = self.identity(spec.instead_of)
        expected = np.append(most_frequent(codes, encoded.codes, count, len(encoded.values)), -1)[
            codes
        ]
        rows = np.flatnonzero((encoded.codes < 0) & (expected >= 0))
        if len(rows):
            self.problem(
                "differs",
                (spec.header,),
                rows,
                sentences.blank_exception(spec.instead_of),
                sentences.fill_exception(spec.header, spec.instead_of),
                spec.instead_of,
            )
        return np.where(encoded.codes != expected, encoded.codes, -1)

    def check_rows(self, plan: Plan) -> None:
        """Adds what is wrong with rows each for itself: cells that do not fit, or are not allowed,
        and keys of which only a part is filled."""
        for step in plan.of_source(self.name):
            if step.kind == "records":
                self._whole_keys(step.name, self.identity(step.name)[0])
            for column in step.columns.values():
                self._check_column(step.name, column)
        for lookup in plan.lookups:
            for path, cell in (*lookup.by.items(), *lookup.repeats.items()):
                found = self.layout.follow(lookup.spec.to, path)
                if cell.source == self.name and cell.form == "value" and found:
                    self._check(found[0], path.split(".")[-1], cell.spec, cell.header)

    def _check_column(self, table: str, column: ColumnStep) -> None:
        """Adds what is wrong with the cells of a column, each for itself."""
        for cell in column.cells:
            if cell.form == "value":
                self._check(table, column.name, column.spec, cell.header)
            elif cell.form == "parts":
                parts, _, _ = self._split(cell.header, cell.split)
                self._part_values(table, column.name, column.spec, parts)
            elif cell.form == "derived":
                _, wrong = self.ready.derived(column.spec)
                if len(wrong):
                    self._unfit_derived(table, column.name, column.spec, (), wrong)
            elif cell.form == "derived parts":
                header, _, split = cell.split.partition("\n")
                parts, codes, starts = self._split(header, split)
                _, misfit = self.ready.derived_of_parts(column.spec, header, parts)
                if len(misfit):
                    rows, _, at = parts_of_records(self.ready.column(header).codes, starts)
                    wrong = distinct(rows[np.isin(codes[at], misfit)])
                    self._unfit_derived(table, column.name, column.spec, (header,), wrong)

    def _all_parts(self, step: TableStep) -> TableRows:
        """The distinct parts of the cells of a column, in the order in which they first appear."""
        name, [(column, whole)] = step.name, step.columns.items()
        parts, _, _ = self._split(whole.spec.header, whole.spec.split)
        values = self._part_values(name, column, whole.spec, parts)
        return TableRows(
            name,
            self.layout.tables[name],
            len(parts),
            {
                self.layout.key_of(name): Counted(),
                column: Typed(values, np.arange(len(parts), dtype=np.int32)),
            },
            np.full(len(parts), -1),
        )

    def _split(self, header: str, separator: str) -> tuple[pa.StringArray, np.ndarray, np.ndarray]:
        if (header, separator) not in self._parts:
            self._parts[header, separator] = split_cells(self.ready.column(header), separator)
        return self._parts[header, separator]

    def part(self, step: TableStep, owner: TableRows) -> TableRows:
        """The records of a table that is part of another."""
        name, spec = step.name, self.layout.tables[step.name]
        rows = owner.source_rows()
        columns: dict[str, Column] = {self.layout.key_of(name): Counted()}
        several = [c.spec for c in step.columns.values() if c.rule == "group"]
        if several:
            groups = [
                [self.ready.column(h, c).codes[rows] for h, c in zip(group, several, strict=True)]
                for group in zip(*(c.headers for c in several), strict=True)
            ]
            record, place = filled_groups(groups)
        else:
            header, separator = listed(self.layout, name)
            _, codes, starts = self._split(header, separator)
            record, place, at = parts_of_records(self.ready.column(header).codes[rows], starts)
            self._places[name] = codes[at], rows[record]
        columns |= {n: Linked(record.astype(np.int32)) for n, k in step.links.items() if k.owner}
        nowhere = Linked(np.full(len(record), -1, np.int32))  # until they are looked up
        columns |= {n: nowhere for n, k in step.links.items() if not k.owner}
        for n, column in step.columns.items():
            c = column.spec
            if column.rule == "group":
                for h in c.headers:
                    self._check(name, n, c, h)
                columns[n] = Typed(
                    *stacked(
                        [self.ready.typed(h, c) for h in c.headers],
                        [self.ready.column(h, c).codes[rows] for h in c.headers],
                        record,
                        place,
                    )
                )
            elif column.rule == "told":
                columns[n] = Typed(to_typed(pa.array(c.told), c.of_type), place.astype(np.int32))
            elif column.rule == "position":
                most = int(place.max(initial=0)) + 1
                columns[n] = Typed(pa.array(np.arange(1, most + 1)), place.astype(np.int32))
            elif c.derived:
                columns[n] = self._derived_of_parts(name, n, c)
            else:
                parts, codes, starts = self._split(c.header, c.split)
                columns[n] = Typed(
                    self._part_values(name, n, c, parts), self._places[name][0].astype(np.int32)
                )
        return TableRows(name, spec, len(record), columns, rows[record])

    def _derived_of_parts(self, name: str, column: str, spec: ColumnSpec) -> Typed:
        """A column that is computed from each part of a cell."""
        header, separator = listed(self.layout, name)
        parts, _, _ = self._split(header, separator)
        codes, rows = self._places[name]
        (values, of_parts), wrong = self.ready.derived_of_parts(spec, header, parts)
        if len(wrong):
            self._unfit_derived(name, column, spec, (header,), rows[np.isin(codes, wrong)])
        return Typed(values, gather(of_parts, codes, blank=-1))

    def _unfit_derived(
        self, name: str, column: str, spec: ColumnSpec, headers: tuple[str, ...], rows: np.ndarray
    ) -> None:
        self.problem(
            "unfit",
            headers,
            rows,
            f"what {column} is derived from it does not fit {spec.type}",
            f"set a wider type for {name}.{column} in the layout",
            name,
        )

    def look_up(
        self, table: TableRows, name: str, link: LinkSpec, tables: Mapping[str, TableRows]
    ) -> Found:
        """Fills in a link that is found by value; rows for which nothing is found are added to the
        problems, if so wanted."""
        parent = tables[link.to]
        rows = self._own_rows(table)  # records that others added know nothing of this link
        linked: dict[str, np.ndarray] = {}
        for path, header in link.by.items():
            own, _, column = path.partition(".")
            if column:
                target = parent.spec.links[own]
                said = {column: self._cells(table, tables[target.to], column, header, rows)}
                linked[own] = resolve(tables[target.to], target, said).record
        cells: dict[str, Cells] = {}
        for column, header in (*link.by.items(), *link.repeats.items()):
            if "." not in column:
                cells[column] = self._cells(table, parent, column, header, rows)
        found = resolve(parent, link, cells, linked)
        fill_unsaid(parent, {c: cells[c] for c in link.repeats if c in cells}, found)
        if link.missing == "refuse" and len(found.unknown):
            by = list(link.by)
            values, codes = cells[by[0]]
            there = dict(zip(rows[found.unknown].tolist(), found.unknown.tolist(), strict=True))
            known = nearest(parent, by[0], parent.spec.columns[by[0]].of_type)

            def text(row: int) -> str:
                return str(values[int(codes[there[row]])].as_py())

            def near(row: int) -> str:
                return known(text(row)) if len(by) == 1 else ""

            def reason(row: int) -> str:
                return sentences.not_found(text(row), link.to, near(row))

            self.problem(
                "unknown",
                tuple(link.by.values()),
                rows[found.unknown],
                reason,
                sentences.find_or_create(table.name, name),
                link.to,
                suggested=near,
            )
        record = found.record
        whole = (
            np.concatenate([record, np.full(table.rows - len(record), -1)])
            if len(record) < table.rows
            else record
        )
        table.columns[name] = Linked(whole)
        return found

    def _own_rows(self, table: TableRows) -> np.ndarray:
        """The source rows of the records that this source gave, which come first."""
        rows = table.source_rows()
        return rows if table.row_of is None else rows[: int(np.count_nonzero(rows >= 0))]

    def _cells(
        self, table: TableRows, parent: TableRows, column: str, header: str, rows: np.ndarray
    ) -> Cells:
        """What the records of a table say under a header, as values of a parent's column."""
        spec = parent.spec.columns[column]
        if table.name in self._places:
            parts, _, _ = self._split(header, spec.split)
            return to_typed(parts, spec.of_type), self._places[table.name][0]
        self._check(parent.name, column, spec, header)
        return self.ready.typed(header, spec), self.ready.column(header, spec).codes[rows]

    def check_repeat(
        self,
        tables: Mapping[str, TableRows],
        name: str,
        link: str,
        path: str,
        header: str,
        found: Found,
    ) -> None:
        """Adds a problem for each record that says under a header something else than what its link
        leads to."""
        table, target = tables[name], self.layout.tables[name].links[link]
        parent, rows = tables[target.to], self._own_rows(table)
        record = table.codes(link)[: len(rows)]
        *links, column = path.split(".")
        for further in links:
            record, parent = (
                np.append(parent.codes(further), -1)[record],
                tables[parent.spec.links[further].to],
            )
        wrong = differing(
            parent, column, self._cells(table, parent, column, header, rows), record, target.loose
        )
        nowhere = found.unknown[found.record[found.unknown] < 0]
        wrong = np.setdiff1d(wrong, nowhere)
        if len(wrong):
            known = " + ".join(target.by.values())
            self.problem(
                "differs",
                (header,),
                rows[wrong],
                sentences.differs_from_parent(parent.name, known),
                sentences.no_repeat(header, name, link),
                parent.name,
            )

    def check_created(
        self, tables: Mapping[str, TableRows], name: str, link: str, found: Found
    ) -> None:
        """Adds a problem for each record of which another one is made that has, in columns which
        tell records apart, what one has already."""
        table, target = tables[name], self.layout.tables[name].links[link]
        parent, rows = tables[target.to], self._own_rows(table)
        record = table.codes(link)[: len(rows)]
        said = {*target.by, *target.repeats}
        for unique in parent.spec.unique_sets if len(found.created) else ():
            if not {*unique} <= said or {*unique} == {*target.by}:
                continue
            parts = [parent.codes(n) for n in unique]
            codes, count = combine(parts, [int(p.max(initial=-1)) + 1 for p in parts])
            made = found.created[codes[found.created] >= 0]
            first = first_rows(codes, count)
            wrong = np.flatnonzero(np.isin(record, made[first[codes[made]] != made]))
            if not len(wrong):
                continue
            headers = tuple((target.by | target.repeats)[c] for c in unique)
            key, by = next(iter(target.by.items()))
            owner = dict(
                zip(rows[wrong].tolist(), first[codes[record[wrong]]].tolist(), strict=True)
            )

            def meant(row: int, owner: Mapping[int, int] = owner, key: str = key) -> str:
                return _known_text(parent, key, owner[row])

            same = " + ".join(headers)

            def reason(
                row: int, by: str = by, same: str = same, meant: Callable[[int], str] = meant
            ) -> str:
                there, has = meant(row), f"has the same {same}"
                asked = f"; is {self.text(by, row)} a misspelling of it?"
                return (
                    f'{parent.name} "{there}" {has}{asked}'
                    if there
                    else f"another {parent.name} {has}"
                )

            self.problem(
                "again",
                headers,
                rows[wrong],
                reason,
                f"correct {by} or {same} in the file\ntake {same} out of repeats "
                f"of tables > {name} > links > {link} and give it a column",
                parent.name,
                suggested=meant if len(target.by) == 1 else None,
                suggested_for=by,
            )

    def _part_values(
        self, table: str, name: str, spec: ColumnSpec, parts: pa.StringArray
    ) -> pa.Array:
        """The parts of cells in their type."""
        values = to_typed(parts, spec.of_type)
        if len(wrong := misfits(parts, values)):
            _, codes, starts = self._split(spec.header, spec.split)
            cells = np.flatnonzero(
                np.add.reduceat(np.append(np.isin(codes, wrong), 0), starts[:-1]) > 0
            )
            remedy, decide = self._for_misfits(parts, wrong, table, name)
            self.problem(
                "unfit",
                (spec.header,),
                np.flatnonzero(np.isin(self.ready.column(spec.header).codes, cells)),
                f'"{parts[int(wrong[0])].as_py()}" is not {article(spec.of_type.kind)} '
                f"({spec.type})",
                remedy,
                table,
                decide=decide,
            )
        return values

    def _for_misfits(
        self, values: pa.StringArray, wrong: np.ndarray, table: str, column: str
    ) -> tuple[str, dict[str, str]]:
        """What to do about values that do not fit their type (see `of_misfits`)."""
        spec = self.layout.tables[table]
        required = column not in spec.optional
        place = f"{table}.{column}"
        return of_misfits(values, wrong, spec.columns[column], place, self.name, required)

    def _check(self, table: str, name: str, spec: ColumnSpec, header: str) -> None:
        """Adds the cells of a column that have no value of its type, or one that is not allowed;
        once."""
        if (table, name, header) in self._told:
            return
        self._told.add((table, name, header))
        column, values = self.ready.column(header, spec), self.ready.typed(header, spec)
        kind = spec.of_type.kind

        def rows(codes: np.ndarray) -> np.ndarray:
            return np.flatnonzero(np.isin(column.codes, codes))

        if len(wrong := misfits(column.values, values)):
            wide = spec.of_type.width
            remedy, decide = self._for_misfits(column.values, wrong, table, name)
            self.problem(
                "too wide" if wide else "unfit",
                (header,),
                rows(wrong),
                lambda r: (
                    f"{_shown(column, r)} has more than {wide} characters"
                    if wide
                    else f"{_shown(column, r)} is not {article(kind)} "
                    f"({spec.type}{', ' + spec.unit if spec.unit else ''})"
                ),
                remedy,
                table,
                decide=decide,
            )
        wrong, said = not_allowed(values, spec)
        if len(wrong):
            self.problem(
                "not allowed",
                (header,),
                rows(wrong),
                lambda r: f"{_shown(column, r)} is not {said}",
                f"correct the cells\nallow it for {table}.{name} in the layout",
                table,
                suggested=lambda r: nearest_of(spec.allowed, _shown(column, r).strip('"')),
            )

    def _agree(
        self,
        table: str,
        codes: np.ndarray | None,
        count: int,
        other: np.ndarray,
        size: int,
        headers: tuple[str, ...],
    ) -> None:
        """Adds a problem for each row that says something else than most rows with the same key."""
        if codes is None or holds(codes, other, count):
            return
        expected = np.append(most_frequent(codes, other + 1, count, size + 1) - 1, -1)
        rows = np.flatnonzero(
            (expected[codes] != other) & ((codes >= 0) | (not self.layout.tables[table].only_rows))
        )
        if not len(rows):
            return
        key = " + ".join(self.layout.key_headers(table))
        first = first_rows(codes, count)
        fitting = np.flatnonzero((codes >= 0) & (expected[codes] == other))
        example = np.full(count, -1, np.int64)  # a row that says what most say
        example[codes[fitting][::-1]] = fitting[::-1]

        def reason(row: int) -> str:
            code = codes[row]
            if code < 0:
                return sentences.filled_without_key(key)
            earlier = first[code] < row and other[first[code]] == expected[code]
            usual_text = " + ".join(self.text(h, int(example[code])) for h in headers)
            return sentences.differs_from_others(key, usual_text, bool(earlier))

        def meant(row: int) -> str:
            usual = self.cell(headers[0], int(example[codes[row]])) if codes[row] >= 0 else ""
            return usual if is_misspelt(self.cell(headers[0], row), usual) else ""

        self.problem(
            "differs",
            headers,
            rows,
            reason,
            sentences.agree(headers, table),
            table,
            suggested=meant if len(headers) == 1 else None,
        )

    def supersede(
        self,
        kind: str,
        headers: tuple[str, ...],
        rows: np.ndarray,
        table: str = "",
        *,
        held: bool = True,
    ) -> None:
        """Takes problems of rows back, where more is known of them: of a table, if one is named,
        and not those that are `held` against the database, if so said."""
        gone, left = self.records(rows), list[Problem]()
        for p in self.problems.found:
            same = (p.kind, p.source, p.headers) == (kind, self.name, headers)
            if same and table in ("", p.table) and (held or not p.against):
                p = replace(p, records=p.records[~np.isin(p.records, gone)])
                if not len(p.records):
                    continue
            left.append(p)
        self.problems.found[:] = left

    def cell(self, header: str, row: int) -> str:
        """The text of a cell; "" for a blank."""
        column = self.ready.column(header)
        return "" if column.codes[row] < 0 else str(column.values[int(column.codes[row])])

    def text(self, header: str, row: int) -> str:
        """The text of a cell, in quotes."""
        if header not in self.ready.encoded.source.headers:
            return "something else"
        column = self.ready.column(header)
        return "nothing" if column.codes[row] < 0 else _shown(column, row)

    def check_filled(self, table: TableRows, *, named: bool = True) -> None:
        """Adds a problem for each record in which something is blank that must be filled; unless
        `named` is false, also for records that only others name."""
        for name, column in table.columns.items():
            own = table.spec.columns.get(name)
            if (
                isinstance(column, Counted)
                or name in table.spec.optional
                or (own and own.instead_of)
            ):
                continue
            records = np.flatnonzero(column.codes < 0)
            if not len(records):
                continue
            link = table.spec.links.get(name)
            header = self.header_of(table, name)
            rows = table.source_rows()[records]
            remedy = sentences.optional(name, table.name)
            decide = {remedy: f"--optional {table.name}.{name} lets it be blank"}
            if (rows < 0).all() and not named:
                continue
            if (rows < 0).all():
                why = sentences.only_referred_to(table.name)
                self.problem(
                    "cannot be",
                    (header,) if header else (),
                    np.empty(0, np.int64),
                    why,
                    remedy,
                    table.name,
                    decide=decide,
                )
                continue
            if link and link.missing != "create":  # there is a value, but it refers to no record
                unknown = {
                    p.headers
                    for p in self.problems.found
                    if p.kind == "unknown" and p.source == self.name
                }
                if tuple(link.by.values()) in unknown:
                    rows = rows[self.ready.column(header).codes[rows] < 0]
            if len(rows := distinct(rows[rows >= 0])):
                self.problem(
                    "blank",
                    (header,) if header else (),
                    rows,
                    "is blank",
                    f"fill the cells\n{remedy}",
                    table.name,
                    decide=decide,
                )

    def header_of(self, table: TableRows, name: str) -> str:
        """The header under which the cells of a column, or what a link is found by, stand."""
        own, link = table.spec.columns.get(name), table.spec.links.get(name)
        if own and not own.told:
            return own.header or (own.headers[0] if own.headers else name)
        return (
            (next(iter(link.by.values()), "") or (self.layout.key_headers(link.to) or [""])[0])
            if link
            else ""
        )

    def _unique(self, table: TableRows, unique: tuple[str, ...]) -> None:
        spec = table.spec
        parts = [table.codes(n) for n in unique]
        codes, count = combine(parts, [int(p.max(initial=-1)) + 1 for p in parts])
        if filled(codes) == count:
            return
        again = np.ones(len(codes), bool)
        first = first_rows(codes, count)
        again[first] = False
        rows = table.source_rows()
        records = np.flatnonzero(again & (codes >= 0))
        if not len(records):  # some value is that of no record
            return
        earlier = dict(
            zip(rows[records].tolist(), rows[first[codes[records]]].tolist(), strict=True)
        )

        def reason(row: int) -> str:
            here, there = self.ready.origin(row, None), self.ready.origin(earlier[row], None)
            other = f"{there.file}, " if there.file != here.file else ""
            place = f"{other}row {there.row:,}"
            if like := meant(row):
                asked = f"is {self.text(keys[0], row)} a misspelling of it?"
                return f'{table.name} "{like}" ({place}) has the same; {asked}'
            return sentences.duplicates(place)

        keys = self.layout.key_headers(table.name)
        named = len(keys) == 1 and unique != spec.known_by
        named = named and keys[0] in self.ready.encoded.source.headers

        def meant(row: int) -> str:
            like = self.cell(keys[0], earlier[row]) if named else ""
            return like if is_misspelt(self.cell(keys[0], row), like) else ""

        headers = tuple(spec.columns[n].header or n if n in spec.columns else n for n in unique)
        self.problem(
            "again",
            headers,
            rows[records],
            reason,
            sentences.tell_apart(unique, table.name),
            table.name,
            suggested=meant if named else None,
            suggested_for=keys[0] if named else "",
        )


def _known_text(parent: TableRows, column: str, record: int) -> str:
    """A value of a record as text; "" for one that only its links know."""
    held = parent.columns.get(column)
    if not isinstance(held, Typed) or held.codes[record] < 0:
        return ""
    value = held.values.slice(int(held.codes[record]), 1)
    return str(to_text(value, parent.spec.columns[column].of_type)[0])


def _shown(column: EncodedColumn, row: int) -> str:
    """A cell in quotes, shortened."""
    return sentences.quoted(column.values[int(column.codes[row])].as_py())


def choose_value(
    codes: np.ndarray, values: np.ndarray, count: int, size: int, which: str
) -> np.ndarray:
    """The one value of each record (of `count`) that is kept of those its rows say: the first, the
    last or the most frequent."""
    if which == "most frequent":
        return most_frequent(codes, values, count, size)
    rows = np.flatnonzero((codes >= 0) & (values >= 0))
    rows = rows[::-1] if which == "first" else rows
    out = np.full(count, -1, np.int32)
    out[codes[rows]] = values[rows]  # of several the one that is written last stays
    return out
