"""Splits encoded sources into the tables of a layout.

Promises: 1. every column of a source is in a table or listed as left out; 2. a table's record says for each of its rows
what the row says, or the whole is refused with the rows that differ; 3. generated keys count from 1 in the order in
which records first appear; 4. nothing is written here.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import pyarrow as pa

from kerfmark.build.drafts import SHOWN, Problems, TableRows, Values
from kerfmark.build.lookup import Cells, differing, resolve
from kerfmark.build.parts import filled_groups, parts_of_records, split_cells, stacked
from kerfmark.errors import DataRefused, LayoutError, counted
from kerfmark.layout.model import ColumnSpec, Layout, LinkSpec, TableSpec
from kerfmark.profile.codes import combine, first_rows, holds, usual
from kerfmark.profile.convert import misfits, to_typed
from kerfmark.profile.encode import EncodedColumn, EncodedSource

__all__ = ["TableRows", "split"]


def split(layout: Layout, sources: Mapping[str, EncodedSource]) -> list[TableRows]:
    """The rows of all tables, parents before their children.

    `sources` maps the layout's names to the encoded sources. Raises LayoutError when a header has no home or does not
    exist, DataRefused with every kind of problem and its rows when the data do not fit.
    """
    problems = Problems()
    splitter = {name: _Splitter(layout, name, encoded, problems) for name, encoded in sources.items()}
    for one in splitter.values():
        one.check_headers()
    order = layout.parents_first()
    tables: dict[str, TableRows] = {}
    for name in order:
        spec = layout.tables[name]
        if not spec.part_of:
            tables[name] = splitter[spec.source].table(name)
    for name in order:
        spec = layout.tables[name]
        if spec.part_of:
            tables[name] = splitter[spec.source].part(name, tables[spec.part_of])
    for name in layout.tables:                          # every table as its own source says it, before others add to it
        spec = layout.tables[name]
        for link, target in spec.links.items():
            if target.by:
                splitter[spec.source].look_up(tables[name], link, target, tables[target.to])
    for name, spec in layout.tables.items():
        for link, target in spec.links.items():
            for path, header in target.repeats.items():
                splitter[spec.source].check_repeat(tables, name, link, path, header)
    for name, spec in layout.tables.items():
        splitter[spec.source].check_filled(tables[name])
    if problems.total:
        raise DataRefused(
            f"{counted(problems.total, 'problem')} between the data and the layout",
            code="data.misfit", more=problems.lines, total=problems.total, next="; or ".join(problems.remedies))
    return [tables[name] for name in order]


class _Splitter:
    """The tables fed by one source."""

    def __init__(self, layout: Layout, name: str, encoded: EncodedSource, problems: Problems) -> None:
        self.layout, self.name, self.problems = layout, name, problems
        blanks = list(layout.sources[name].blanks)
        self.encoded = EncodedSource(encoded.source, encoded.rows,
                                     [c.without(blanks) if blanks else c for c in encoded.columns])
        self._identity: dict[str, tuple[np.ndarray, int]] = {}
        self._parts: dict[tuple[str, str], tuple[pa.StringArray, np.ndarray, np.ndarray]] = {}
        self._places: dict[str, tuple[np.ndarray, np.ndarray]] = {}

    def check_headers(self) -> None:
        """Raises LayoutError unless every header of the source has a home, and every home a header."""
        spec = self.layout.sources[self.name]
        homes = {h: f"tables > {t}" for t, table in self.layout.tables.items() if table.source == self.name
                 for h in table.headers}
        there = set(self.encoded.source.headers)
        lost = [h for h in self.encoded.source.headers if h not in homes and h not in spec.left_out]
        wrong = [f'{place}: the file has no column "{h}"' for h, place in homes.items() if h not in there]
        wrong += [f'sources > {self.name} > left_out: the file has no column "{h}"' for h in spec.left_out if h not in there]
        wrong += [f'column "{h}" of the file has no table' for h in lost]
        if wrong:
            raise LayoutError("the layout and the file do not have the same columns", code="layout.headers",
                              origin=self.encoded.source.origin(), more=wrong, total=len(wrong),
                              next=f"give it a table, or list it under left_out of sources > {self.name}" if lost
                              else "correct the header in the layout")

    def identity(self, name: str) -> tuple[np.ndarray, int]:
        """Per row of the source the number (from 0) of its record in a table, -1 for none; and how many there are."""
        if name not in self._identity:
            spec = self.layout.tables[name]
            parts = [self.encoded.column(spec.columns[k].header) if k in spec.columns else None for k in spec.known_by]
            codes = [(p.codes, len(p.values)) if p else self._link_identity(spec.links[k])
                     for p, k in zip(parts, spec.known_by, strict=True)]
            self._identity[name] = combine([c for c, _ in codes], [n for _, n in codes])
        return self._identity[name]

    def _link_identity(self, link: LinkSpec) -> tuple[np.ndarray, int]:
        """Per row of the source a number for the record that a link leads to."""
        if not link.by:
            return self.identity(link.to)
        columns = [self.encoded.column(h) for h in link.by.values()]
        return combine([c.codes for c in columns], [len(c.values) for c in columns])

    def table(self, name: str) -> TableRows:
        """The records of a table, without those links that are looked up; what is wrong is added to the problems."""
        spec = self.layout.tables[name]
        listed = next((c for c in spec.columns.values() if c.split), None)
        if listed is not None:
            return self._all_parts(name, spec, listed)
        codes, count = (None, self.encoded.rows) if spec.each_row else self.identity(name)
        first = None if codes is None else first_rows(codes, count)
        columns = {self.layout.key_of(name): Values(None, None)}
        for link, target in spec.links.items():
            link_codes, _ = self._link_identity(target)
            headers = list(target.by.values()) or self._key_headers(target.to)
            self._agree(name, codes, count, link_codes, " + ".join(headers))
            columns[link] = Values(None, link_codes if first is None else link_codes[first])
        for column, c in spec.columns.items():
            column_codes = self.encoded.column(c.header).codes
            typed = self._typed(name, column, c, self.encoded.column(c.header))
            if c.usual and codes is not None:
                columns[column] = Values(typed, usual(codes, column_codes, count, len(typed)))
                continue
            if c.instead_of:
                column_codes = self._exceptions(c)
            elif column not in spec.known_by:
                self._agree(name, codes, count, column_codes, c.header)
            columns[column] = Values(typed, column_codes if first is None else column_codes[first])
        table = TableRows(name, spec, count, columns, first)
        for unique in spec.unique_sets:
            if spec.each_row or unique != spec.known_by:
                self._unique(table, unique)
        return table

    def _exceptions(self, spec: ColumnSpec) -> np.ndarray:
        """The codes of a column where they differ from what is usual, -1 elsewhere."""
        encoded = self.encoded.column(spec.header)
        codes, count = self.identity(spec.instead_of)
        expected = np.append(usual(codes, encoded.codes, count, len(encoded.values)), -1)[codes]
        rows = np.flatnonzero((encoded.codes < 0) & (expected >= 0))
        if len(rows):
            self.problems.add([(self.encoded.source.origin(r, spec.header), f"is blank where {spec.instead_of} usually has a value")
                               for r in rows[:SHOWN].tolist()], len(rows),
                              f'fill the cells, or take "{spec.header}" out of tables > {spec.instead_of}')
        return np.where(encoded.codes != expected, encoded.codes, -1)

    def _all_parts(self, name: str, spec: TableSpec, listed: ColumnSpec) -> TableRows:
        """The distinct parts of the cells of a column, in the order in which they first appear."""
        parts, _, _ = self._split(listed.header, listed.split)
        column = next(n for n, c in spec.columns.items() if c is listed)
        typed = self._typed(name, column, listed, EncodedColumn(listed.header, parts, np.arange(len(parts), dtype=np.int32)))
        return TableRows(name, spec, len(parts), {
            self.layout.key_of(name): Values(None, None), column: Values(typed, np.arange(len(parts), dtype=np.int32))},
            np.full(len(parts), -1))

    def _split(self, header: str, separator: str) -> tuple[pa.StringArray, np.ndarray, np.ndarray]:
        if (header, separator) not in self._parts:
            self._parts[header, separator] = split_cells(self.encoded.column(header), separator)
        return self._parts[header, separator]

    def part(self, name: str, owner: TableRows) -> TableRows:
        """The records of a table that is part of another."""
        spec = self.layout.tables[name]
        rows = owner.source_rows()
        link = self.layout.owner_link(name)
        columns: dict[str, Values] = {self.layout.key_of(name): Values(None, None)}
        several = [c for c in spec.columns.values() if c.headers]
        if several:
            headers = list(zip(*(c.headers for c in several), strict=True))
            record, place = filled_groups([[self.encoded.column(h).codes[rows] for h in group] for group in headers])
        else:
            header, separator = self._listed(spec)
            _, codes, starts = self._split(header, separator)
            record, place, at = parts_of_records(self.encoded.column(header).codes[rows], starts)
            self._places[name] = codes[at], rows[record]
        columns |= {n: Values(None, record.astype(np.int32)) for n in spec.links if n == link}
        columns |= {n: Values(None, np.full(len(record), -1, np.int32)) for n in spec.links if n != link}
        for n, c in spec.columns.items():
            if c.headers:
                encoded = [self.encoded.column(h) for h in c.headers]
                typed = [self._typed(name, n, c, e) for e in encoded]
                columns[n] = Values(*stacked(typed, [e.codes[rows] for e in encoded], record, place))
            elif c.told:
                columns[n] = Values(to_typed(pa.array(c.told), c.of_type), place.astype(np.int32))
            elif c.position:
                most = int(place.max(initial=0)) + 1
                columns[n] = Values(pa.array(np.arange(1, most + 1)), place.astype(np.int32))
            else:
                parts, codes, starts = self._split(c.header, c.split)
                whole = EncodedColumn(c.header, parts, np.arange(len(parts), dtype=np.int32))
                columns[n] = Values(self._typed(name, n, c, whole), self._places[name][0].astype(np.int32))
        return TableRows(name, spec, len(record), columns, rows[record])

    def _listed(self, spec: TableSpec) -> tuple[str, str]:
        """The header whose cells a table holds the parts of, and what separates them."""
        for column in spec.columns.values():
            if column.split:
                return column.header, column.split
        link = next(link for link in spec.links.values() if link.by)
        parent = self.layout.tables[link.to]
        [(column_name, header)] = link.by.items()
        return header, parent.columns[column_name].split

    def look_up(self, table: TableRows, name: str, link: LinkSpec, parent: TableRows) -> None:
        """Fills in a link that is found by value; what is said twice and differs is added to the problems."""
        rows = self._own_rows(table)                    # records that others added know nothing of this link
        cells: dict[str, Cells] = {}
        for column, header in (*link.by.items(), *link.repeats.items()):
            if "." not in column:
                cells[column] = self._cells(table, parent, column, header, rows)
        record = resolve(parent, list(link.by), cells, rows)
        whole = np.concatenate([record, np.full(table.rows - len(record), -1)]) if len(record) < table.rows else record
        table.columns[name] = Values(None, whole)

    def _own_rows(self, table: TableRows) -> np.ndarray:
        """The source rows of the records that this source gave, which come first."""
        rows = table.source_rows()
        return rows if table.row_of is None else rows[:int(np.count_nonzero(rows >= 0))]

    def _cells(self, table: TableRows, parent: TableRows, column: str, header: str, rows: np.ndarray) -> Cells:
        """What the records of a table say under a header, as values of a parent's column."""
        spec = parent.spec.columns[column]
        if table.name in self._places:
            parts, _, _ = self._split(header, spec.split)
            return to_typed(parts, spec.of_type), self._places[table.name][0]
        encoded = self.encoded.column(header)
        return self._typed(parent.name, column, spec, encoded), encoded.codes[rows]

    def check_repeat(self, tables: Mapping[str, TableRows], name: str, link: str, path: str, header: str) -> None:
        """Adds a problem for each record that says under a header something else than what its link leads to."""
        table, target = tables[name], self.layout.tables[name].links[link]
        parent, rows = tables[target.to], self._own_rows(table)
        record = table.columns[link].codes
        assert record is not None
        record = record[:len(rows)]
        *links, column = path.split(".")
        for further in links:
            next_ = parent.columns[further].codes
            assert next_ is not None
            record, parent = np.append(next_, -1)[record], tables[parent.spec.links[further].to]
        wrong = differing(parent, column, self._cells(table, parent, column, header, rows), record)
        if len(wrong):
            known = " + ".join(target.by.values())
            self.problems.add(
                [(self.encoded.source.origin(r, header), f"differs from what {parent.name} says of the same {known}")
                 for r in rows[wrong[:SHOWN]].tolist()], len(wrong),
                f'mend the cells, or take "{header}" out of repeats of tables > {name} > links > {link} and give it a column')

    def _key_headers(self, name: str) -> list[str]:
        """The headers by which a table's records are known."""
        spec = self.layout.tables[name]
        return [h for k in spec.known_by for h in
                ([spec.columns[k].header] if k in spec.columns else
                 list(spec.links[k].by.values()) or self._key_headers(spec.links[k].to))]

    def _typed(self, table: str, name: str, spec: ColumnSpec, column: EncodedColumn) -> pa.Array:
        typed = column.typed(spec.of_type)
        wrong = misfits(column.values, typed)
        if len(wrong):
            there = self.encoded.column(column.header)
            rows = (np.flatnonzero(np.isin(there.codes, wrong)) if there is column or not spec.split else
                    np.flatnonzero(there.codes >= 0)[:1])
            kind = spec.of_type.kind
            self.problems.add(
                [(self.encoded.source.origin(r, column.header),
                  f'"{there.values[int(there.codes[r])].as_py()}" is no {kind} ({spec.type})') for r in rows[:SHOWN].tolist()],
                len(rows), f'mend the cells, or set type = "text" for {table}.{name} in the layout')
        return typed

    def _agree(self, table: str, codes: np.ndarray | None, count: int, other: np.ndarray, header: str) -> None:
        """Adds a problem for each row that says something else than the first row with the same key."""
        if codes is None or holds(codes, other, count):
            return
        first = np.append(other[first_rows(codes, count)], -1)
        rows = np.flatnonzero(first[codes] != other)
        key = " + ".join(self._key_headers(table))
        self.problems.add(
            [(self.encoded.source.origin(r, header), f"differs from an earlier row with the same {key}" if codes[r] >= 0
              else f"is filled though {key} is blank") for r in rows[:SHOWN].tolist()],
            len(rows), f'mend the cells, or move "{header}" from tables > {table} to a table with a record per row')

    def check_filled(self, table: TableRows) -> None:
        """Adds a problem for each record in which something is blank that must be filled."""
        for name, column in table.columns.items():
            own = table.spec.columns.get(name)
            if column.codes is None or name in table.spec.optional or (own and own.instead_of):
                continue
            records = np.flatnonzero(column.codes < 0)
            if not len(records):
                continue
            link = table.spec.links.get(name)
            header = (own.header or own.headers[0] if own and not own.told else
                      next(iter(link.by.values()), "") or (self._key_headers(link.to) or [""])[0] if link else "")
            rows = table.source_rows()[records]
            if (rows < 0).all():
                self.problems.add([(self.encoded.source.origin(None, header), f"records of {table.name} that only others name "
                                    "have none")], len(rows), f'list "{name}" under optional of tables > {table.name}')
                continue
            self.problems.add([(self.encoded.source.origin(r, header), "is blank") for r in rows[rows >= 0][:SHOWN].tolist()],
                              len(rows), f'fill the cells, or list "{name}" under optional of tables > {table.name}')

    def _unique(self, table: TableRows, unique: tuple[str, ...]) -> None:
        spec = table.spec
        parts = [table.columns[n].codes for n in unique]
        codes, count = combine(parts, [int(p.max(initial=-1)) + 1 for p in parts])  # type: ignore[union-attr, arg-type]
        if int(np.count_nonzero(codes >= 0)) == count:
            return
        again = np.ones(len(codes), bool)
        again[first_rows(codes, count)] = False
        rows = table.source_rows()[np.flatnonzero(again & (codes >= 0))]
        headers = [spec.columns[n].header if n in spec.columns else n for n in unique]
        self.problems.add([(self.encoded.source.origin(r, " + ".join(headers)), "stands in an earlier row too")
                           for r in rows[:SHOWN].tolist()], len(rows),
                          f"mend the rows, or take {', '.join(unique)} out of known_by or unique of tables > {table.name}")
