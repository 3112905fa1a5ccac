"""The tables that were built are rejoined by their integer codes and held against the codes of the
source, every cell, before anything is written: each value of the source must lead to one value of
the table, the same one, in every row.

It looks only at what the tables hold and how they are linked, not at how they came to be. A
difference is a fault of Kerfmark, and refuses the load.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark import memory
from kerfmark.errors import KerfmarkError
from kerfmark.layout.model import ColumnSpec, Layout, LinkSpec
from kerfmark.normalize.prepare import Prepared
from kerfmark.normalize.table_rows import Counted, TableRows
from kerfmark.profile.codes import first_rows, gather
from kerfmark.profile.columns import EncodedColumn
from kerfmark.profile.convert import to_typed
from kerfmark.profile.types import ColumnType

_PRIME = np.uint64(1_099_511_628_211)
"""What the parts of a list are mixed with, so that another order gives another number."""


def check_rejoined(
    layout: Layout,
    sources: Mapping[str, Prepared],
    tables: Mapping[str, TableRows],
    *,
    adding: bool = False,
) -> None:
    """Raises KerfmarkError, naming the table, where a cell of a source is not in the tables. When
    `adding`, what tables further away say is in the database, and compared there."""
    for ready in sources.values():
        rejoined = _Rejoined(layout, ready, tables, adding)
        headers = ready.encoded.source.headers
        with ThreadPoolExecutor(1 if memory.scarce() else 2) as pool:
            for header, wrong in zip(headers, pool.map(rejoined.differs, headers), strict=True):
                if wrong is not None:
                    raise KerfmarkError(
                        "the tables that were built do not hold what is in the file; nothing was "
                        "kept",
                        code="internal",
                        origin=ready.origin(wrong[0], header),
                        why=f"the table is {wrong[1]}",
                        next="this is a fault of Kerfmark: please report it",
                    )


class _Rejoined:
    """The tables of one source, seen from the table with a record per row."""

    def __init__(
        self, layout: Layout, ready: Prepared, tables: Mapping[str, TableRows], adding: bool
    ) -> None:
        self.layout, self.ready, self.tables, self.source = layout, ready, tables, ready.name
        self.adding = adding
        self.base = layout.base_of(self.source)
        rows = tables[self.base].source_rows()
        self.records = np.flatnonzero(rows >= 0).astype(np.int32)
        self.rows = rows[self.records].astype(np.int32)
        self.as_read = tables[self.base].row_of is None and tables[self.base].rows == ready.rows
        """Whether every row is the record of its number."""
        self.lost = None if self.as_read else self._lost()
        self._ways: dict[str, np.ndarray] = {}
        self._places = self._where()

    def differs(self, header: str) -> tuple[int, str] | None:
        """A row of the source whose cell is not the same in the tables, and the table where it
        should be; None for none."""
        if self.lost is not None:
            return self.lost, self.base
        place = self._places.get(header)
        if place is None:
            return None
        name, where, path = place
        if path:
            link = self.layout.tables[name].links[where]
            at = self._looked_up(name, where, link, path, header)
            return None if at is None else (at, link.to)
        spec = self.layout.tables[name].columns[where]
        at = (
            self._list(name, header, spec.split)
            if spec.split
            else self._own(name, where, spec, header)
        )
        return None if at is None else (at, name)

    def _where(self) -> dict[str, tuple[str, str, str]]:
        """For each header the table and the column that hold it; or the link that looks it up, and
        the column of the parent."""
        out: dict[str, tuple[str, str, str]] = {}
        for name, table in self.layout.tables_of(self.source).items():
            for column, spec in table.columns.items():
                for header in spec.sources:
                    out.setdefault(header, (name, column, ""))
            for link_name, link in table.links.items():
                for path, header in (*link.by.items(), *link.repeats.items()):
                    if not (self.adding and "." in path):
                        out.setdefault(header, (name, link_name, path))
        return out

    def _lost(self) -> int | None:
        """A row of the source that has no record of its own, or more than one; None for none."""
        times = (
            np.bincount(self.rows, minlength=self.ready.rows)
            if len(self.rows)
            else np.zeros(self.ready.rows, np.int64)
        )
        wrong = np.flatnonzero(times != 1)
        return int(wrong[0]) if len(wrong) else None

    # -- columns of the tables that the row leads to

    def _own(self, name: str, column: str, spec: ColumnSpec, header: str) -> int | None:
        table = self.layout.tables[name]
        if spec.conflicts != "refuse" or (table.only_rows and not table.each_row):
            return None  # the layout wants another value here and there
        if spec.usual or spec.instead_of:
            return self._exceptional(header, spec)
        if table.part_of:
            return self._of_group(name, column, spec, header)
        return self._same(header, spec, *self._values(name, column, self._reached(name)))

    def _reached(self, name: str) -> np.ndarray:
        """The record of a table that each row leads to; -1 for none."""
        if name not in self._ways:
            record = self.records
            for child, link, _ in self.layout.path(self.base, name) or []:
                record = gather(self.tables[child].codes(link), record, blank=-1)
            self._ways[name] = record
        return self._ways[name]

    def _values(self, name: str, column: str, record: np.ndarray) -> tuple[pa.Array, np.ndarray]:
        """The values of a column, and the code of each row there."""
        table = self.tables[name]
        if isinstance(
            table.columns[column], Counted
        ):  # a key that counts from 1, which the source says too
            return pa.array(np.arange(1, table.rows + 1)), record
        values = table.typed(column)
        return values.values, values.codes if self.as_read and record is self.records else gather(
            values.codes, record, blank=-1
        )

    def _said(self, column: EncodedColumn) -> np.ndarray:
        """The code of each row in a column of the source."""
        return column.codes if self.as_read else column.codes[self.rows]

    def _same(
        self,
        header: str,
        spec: ColumnSpec,
        values: pa.Array,
        codes: np.ndarray,
        *,
        loose: bool = False,
        may_lack: bool = False,
    ) -> int | None:
        """The first row that does not have, under a header, what these values say."""
        said, wanted = self._said(self.ready.column(header, spec)), self.ready.typed(header, spec)
        if values is wanted and (codes is said or np.array_equal(codes, said)):
            return None
        first = first_rows(said, len(wanted), -1)
        led = gather(codes, first, blank=-1)  # the value of the table for each value of the source
        here = gather(led, said, blank=-1)
        wrong = here != codes if not may_lack else (codes >= 0) & (here != codes) & (here >= 0)
        if wrong.any():
            return int(self.rows[np.flatnonzero(wrong)[0]])
        used = np.flatnonzero((first >= 0) & (led >= 0))
        lost = np.flatnonzero((first >= 0) & (led < 0)) if not may_lack else used[:0]
        if len(lost):
            return int(self.rows[first[lost[0]]])
        if loose or (values is wanted and np.array_equal(led[used], used)):
            return None
        ours, theirs = wanted.take(pa.array(used)), values.take(pa.array(led[used]))
        same = pc.fill_null(pc.equal(ours, theirs), False).to_numpy(zero_copy_only=False)
        return None if same.all() else int(self.rows[first[used[np.flatnonzero(~same)[0]]]])

    def _exceptional(self, header: str, spec: ColumnSpec) -> int | None:
        """What a row says itself, or else what is usual."""
        found = self.layout.exceptional(self.source, header)
        assert found is not None
        base, column, table, usual = found
        own, own_codes = self._values(base, column, self.records)
        other, codes = self._values(table, usual, self._reached(table))
        own = own.cast(other.type)
        mixed = np.where(own_codes >= 0, own_codes + len(other), codes)
        both = pa.concat_arrays([other, own]).dictionary_encode()
        where = both.indices.fill_null(-1).to_numpy(zero_copy_only=False)
        return self._same(header, spec, both.dictionary, gather(where, mixed, blank=-1))

    # -- parts

    def _of_group(self, name: str, column: str, spec: ColumnSpec, header: str) -> int | None:
        """One of several columns of the same meaning: the parts of its kind."""
        table, rows = self.layout.tables[name], self.tables[name]
        owner = rows.codes(self.layout.owner_link(name))
        told = next((n for n, c in table.columns.items() if c.told), "")
        if not told:
            return None
        values = rows.typed(column)
        mine = np.flatnonzero(rows.codes(told) == spec.headers.index(header))
        of_owner = np.full(self.tables[table.part_of].rows, -1, np.int64)
        of_owner[owner[mine]] = values.codes[mine]
        return self._same(
            header, spec, values.values, gather(of_owner, self._reached(table.part_of), blank=-1)
        )

    def _list(self, name: str, header: str, separator: str) -> int | None:
        """The parts of a cell, in their order."""
        for part, spec in self.layout.tables.items():
            if spec.part_of and spec.source == self.source:
                for column, c in spec.columns.items():
                    if c.header == header and c.split:
                        values = self.tables[part].typed(column)
                        return self._parts(
                            part, header, separator, c.of_type, values.values, values.codes
                        )
                for link, target in spec.links.items():
                    for column, said in target.by.items():
                        if said == header:
                            values, parent = (
                                self.tables[target.to].typed(column),
                                self.layout.tables[target.to],
                            )
                            codes = gather(values.codes, self.tables[part].codes(link), blank=-1)
                            return self._parts(
                                part,
                                header,
                                separator,
                                parent.columns[column].of_type,
                                values.values,
                                codes,
                            )
        return None

    def _parts(
        self,
        part: str,
        header: str,
        separator: str,
        type_: ColumnType,
        values: pa.Array,
        codes: np.ndarray,
    ) -> int | None:
        """Every list must have one sequence of parts, and that of the first row with it must be its
        text."""
        owner = self.tables[part].codes(self.layout.owner_link(part))
        owners = self.tables[self.layout.tables[part].part_of].rows
        order = np.argsort(owner, kind="stable")
        starts = np.searchsorted(owner[order], np.arange(owners + 1))
        mixed = np.zeros(owners, np.uint64)
        place = np.arange(len(order)) - starts[owner[order]]
        powers = (
            np.cumprod(np.full(int(place.max(initial=0)) + 1, _PRIME))
            if len(place)
            else np.ones(1, np.uint64)
        )
        np.add.at(mixed, owner[order], (codes[order] + 1).astype(np.uint64) * powers[place])
        said = self.ready.column(header)
        cells, of_rows = self._said(said), mixed[self._reached(self.layout.tables[part].part_of)]
        first = first_rows(cells, len(said.values), -1)
        wrong = np.flatnonzero(np.append(of_rows, 0)[gather(first, cells, blank=-1)] != of_rows)
        if len(wrong):
            return int(self.rows[wrong[0]])
        used = np.flatnonzero(first >= 0)
        record = self._reached(self.layout.tables[part].part_of)[first[used]]
        lists = pc.split_pattern(said.values.take(pa.array(used)), separator)
        lengths, there = (
            pc.list_value_length(lists).to_numpy(zero_copy_only=False),
            np.diff(starts)[record],
        )
        if (wrong := np.flatnonzero(lengths != there)).size:
            return int(self.rows[first[used[wrong[0]]]])
        cell = np.repeat(np.arange(len(used)), lengths)
        within = np.arange(len(cell)) - np.repeat(np.cumsum(lengths) - lengths, lengths)
        ours = values.take(pa.array(codes[order[starts[record[cell]] + within]]))
        same = pc.fill_null(
            pc.equal(ours, to_typed(pc.list_flatten(lists), type_)), False
        ).to_numpy(zero_copy_only=False)
        return None if same.all() else int(self.rows[first[used[cell[np.flatnonzero(~same)[0]]]]])

    # -- links by value

    def _looked_up(
        self, name: str, link_name: str, link: LinkSpec, path: str, header: str
    ) -> int | None:
        """What a link that is found by value leads to."""
        table = self.layout.tables[name]
        if table.part_of:
            return (
                self._list(name, header, self.layout.tables[link.to].columns[path].split)
                if path in link.by
                else None
            )
        record = self._reached(name)
        for child, further in self._steps(name, link_name, path):
            record = gather(self.tables[child].codes(further), record, blank=-1)
        column_at = self.layout.follow(link.to, path)
        if column_at is None or column_at[1].usual or column_at[1].conflicts != "refuse":
            return None
        spec = self.layout.follow(link.to, path)
        assert spec is not None
        values, codes = self._values(spec[0], path.split(".")[-1], record)
        return self._same(
            header,
            spec[1],
            values,
            codes,
            loose=link.loose,
            may_lack=link.missing != "create" or link.loose,
        )

    def _steps(self, name: str, link: str, path: str) -> Iterator[tuple[str, str]]:
        yield name, link
        table = self.layout.tables[name].links[link].to
        further: Sequence[str] = path.split(".")[:-1]
        for step in further:
            yield table, step
            table = self.layout.tables[table].links[step].to
