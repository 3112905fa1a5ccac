"""Splits encoded sources into the tables of a layout.

Promises: 1. every column of a source is in a table or listed as left out; 2. a table's record says for each of its rows
what the row says, or the whole is refused with the rows that differ; 3. generated keys count from 1 in the order in
which records first appear; 4. nothing is written here.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field

import numpy as np
import pyarrow as pa

from kerfmark.errors import DataRefused, LayoutError, Origin, counted
from kerfmark.layout.model import ColumnSpec, Layout, TableSpec
from kerfmark.profile.codes import combine, first_rows, holds
from kerfmark.profile.convert import misfits
from kerfmark.profile.encode import EncodedSource

BATCH = 65_536
"""Rows per batch handed on."""
SHOWN = 10
"""Problems shown before the rest is only counted."""


@dataclass(frozen=True)
class _Values:
    """A column of a table before it is spelled out: typed distinct values, and one code per record (-1: blank)."""

    values: pa.Array | None                 # None: the codes are numbers of records
    codes: np.ndarray | None                # None: a run of numbers that starts at 1


@dataclass
class TableRows:
    """The records of one table, in the order of their generated keys. `columns` maps names to contents, key first."""

    name: str
    rows: int
    columns: dict[str, _Values]

    def batches(self, stored: Callable[[pa.Array], pa.Array]) -> tuple[pa.Schema, Iterator[pa.RecordBatch]]:
        """The records as Arrow batches, and their schema. `stored` turns typed values into what an engine takes; it is
        applied to the distinct values only."""
        columns = {n: _Values(None if v.values is None else stored(v.values), v.codes) for n, v in self.columns.items()}
        schema = pa.schema([(n, pa.int64() if v.values is None else v.values.type) for n, v in columns.items()])

        def spell() -> Iterator[pa.RecordBatch]:
            for start in range(0, self.rows, BATCH):
                end = min(start + BATCH, self.rows)
                yield pa.RecordBatch.from_arrays([_spelled(v, start, end) for v in columns.values()], schema=schema)

        return schema, spell()


def _spelled(column: _Values, start: int, end: int) -> pa.Array:
    if column.codes is None:
        return pa.array(np.arange(start + 1, end + 1, dtype=np.int64))
    codes = column.codes[start:end]
    blank = codes < 0
    if column.values is None:
        return pa.array(codes.astype(np.int64) + 1, mask=blank if blank.any() else None)
    return column.values.take(pa.array(codes, mask=blank if blank.any() else None))


@dataclass
class _Problems:
    """What does not fit, one line each (the first ones), and how many there are."""

    lines: list[str] = field(default_factory=list)
    total: int = 0
    remedies: list[str] = field(default_factory=list)

    def add(self, origins: list[tuple[Origin, str]], total: int, remedy: str) -> None:
        self.lines += [f"{origin}: {reason}" for origin, reason in origins[: max(0, SHOWN - len(self.lines))]]
        self.total += total
        if remedy not in self.remedies:
            self.remedies.append(remedy)


def split(layout: Layout, sources: Mapping[str, EncodedSource]) -> list[TableRows]:
    """The rows of all tables, parents before their children.

    `sources` maps the layout's names to the encoded sources. Raises LayoutError when a header has no home or does not
    exist, DataRefused with every kind of problem and its rows when the data do not fit.
    """
    problems = _Problems()
    splitter = {name: _Splitter(layout, name, encoded, problems) for name, encoded in sources.items()}
    for one in splitter.values():
        one.check_headers()
    tables = [splitter[layout.tables[name].source].table(name) for name in layout.parents_first()]
    if problems.total:
        raise DataRefused(
            f"{counted(problems.total, 'problem')} between the data and the layout",
            code="data.misfit", more=problems.lines, total=problems.total, next="; or ".join(problems.remedies))
    return tables


class _Splitter:
    """The tables fed by one source."""

    def __init__(self, layout: Layout, name: str, encoded: EncodedSource, problems: _Problems) -> None:
        self.layout, self.name, self.problems = layout, name, problems
        blanks = list(layout.sources[name].blanks)
        self.encoded = EncodedSource(encoded.source, encoded.rows,
                                     [c.without(blanks) if blanks else c for c in encoded.columns])
        self._identity: dict[str, tuple[np.ndarray, int]] = {}

    def check_headers(self) -> None:
        """Raises LayoutError unless every header of the source has a home, and every home a header."""
        spec = self.layout.sources[self.name]
        homes = {c.header: f"tables > {t} > columns > {n}" for t, table in self.layout.tables.items()
                 if table.source == self.name for n, c in table.columns.items()}
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
            codes = [(p.codes, len(p.values)) if p else self.identity(spec.links[k])
                     for p, k in zip(parts, spec.known_by, strict=True)]
            self._identity[name] = combine([c for c, _ in codes], [n for _, n in codes])
        return self._identity[name]

    def table(self, name: str) -> TableRows:
        """The records of a table; what is wrong with them is added to the problems."""
        spec = self.layout.tables[name]
        codes, count = (None, self.encoded.rows) if spec.each_row else self.identity(name)
        first = None if codes is None else first_rows(codes, count)
        columns = {self.layout.key_of(name): _Values(None, None)}
        for link, parent in spec.links.items():
            parent_codes, _parents = self.identity(parent)
            key_headers = self._key_headers(parent)
            self._agree(name, codes, count, parent_codes, " + ".join(key_headers))
            columns[link] = _Values(None, parent_codes if first is None else parent_codes[first])
            self._filled(name, link, columns[link].codes, first, key_headers[0], spec)
        for column, c in spec.columns.items():
            column_codes = self.encoded.column(c.header).codes
            typed = self._typed(name, column, c)
            if column not in spec.known_by:
                self._agree(name, codes, count, column_codes, c.header)
            columns[column] = _Values(typed, column_codes if first is None else column_codes[first])
            self._filled(name, column, columns[column].codes, first, c.header, spec)
        for unique in spec.unique_sets:
            if spec.each_row or unique != spec.known_by:
                self._unique(name, unique, columns, first, spec)
        return TableRows(name, count, columns)

    def _key_headers(self, name: str) -> list[str]:
        """The headers by which a table's records are known."""
        spec = self.layout.tables[name]
        return [h for k in spec.known_by for h in
                ([spec.columns[k].header] if k in spec.columns else self._key_headers(spec.links[k]))]

    def _typed(self, table: str, name: str, spec: ColumnSpec) -> pa.Array:
        column = self.encoded.column(spec.header)
        typed = column.typed(spec.of_type)
        wrong = misfits(column.values, typed)
        if len(wrong):
            rows = np.flatnonzero(np.isin(column.codes, wrong))
            kind = spec.of_type.kind
            self.problems.add(
                [(self.encoded.source.origin(r, spec.header),
                  f'"{column.values[int(column.codes[r])].as_py()}" is no {kind} ({spec.type})') for r in rows[:SHOWN].tolist()],
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

    def _filled(self, table: str, name: str, codes: np.ndarray | None, first: np.ndarray | None, header: str,
                spec: TableSpec) -> None:
        if name in spec.optional or codes is None:
            return
        records = np.flatnonzero(codes < 0)
        if len(records):
            rows = records if first is None else first[records]
            self.problems.add([(self.encoded.source.origin(r, header), "is blank") for r in rows[:SHOWN].tolist()],
                              len(rows), f'fill the cells, or list "{name}" under optional of tables > {table}')

    def _unique(self, table: str, unique: tuple[str, ...], columns: dict[str, _Values], first: np.ndarray | None,
                spec: TableSpec) -> None:
        parts = [columns[n].codes for n in unique]
        codes, count = combine(parts, [int(p.max(initial=-1)) + 1 for p in parts])  # type: ignore[union-attr, arg-type]
        if int(np.count_nonzero(codes >= 0)) == count:
            return
        again = np.ones(len(codes), bool)
        again[first_rows(codes, count)] = False
        records = np.flatnonzero(again & (codes >= 0))
        rows = records if first is None else first[records]
        headers = [spec.columns[n].header if n in spec.columns else n for n in unique]
        self.problems.add([(self.encoded.source.origin(r, " + ".join(headers)), "stands in an earlier row too")
                           for r in rows[:SHOWN].tolist()], len(rows),
                          f"mend the rows, or take {', '.join(unique)} out of known_by or unique of tables > {table}")
