"""What the database should show of a source that is read again: its cells as the engine holds
them."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.errors import Origin
from kerfmark.layout.model import ColumnSpec, Layout, LinkSpec, TableSpec
from kerfmark.ledger.account import read_says
from kerfmark.ledger.records import MAKERS
from kerfmark.ledger.source_values import source_values
from kerfmark.normalize.keys import ordered
from kerfmark.normalize.prepare import Prepared
from kerfmark.normalize.problems import Problems
from kerfmark.normalize.tables import SourceTables, choose_value
from kerfmark.profile.codes import combine, distinct, first_rows
from kerfmark.profile.convert import folded
from kerfmark.profile.encode import EncodedSource
from kerfmark.store.interface import Reader
from kerfmark.store.names import view_columns, view_name
from kerfmark.store.quoting import quote

NEVER = 1 << 40
"""The load of what was never there."""


@dataclass(frozen=True)
class ExpectedColumn:
    """A header of a source: the table and the column that it is of, its distinct texts, these as
    values that an engine should give (null for what is no value of the column's type), the code of
    each row (-1: blank), and how many cells the layout changes."""

    header: str
    table: str
    spec: ColumnSpec
    texts: pa.StringArray
    values: pa.Array
    codes: np.ndarray
    changed: int

    def misfits(self) -> Iterator[tuple[int, str]]:
        """The rows with a text that is no value of the column's type, and that."""
        if self.values.null_count:
            lost = np.append(self.values.is_null().to_numpy(zero_copy_only=False), False)
            for row in np.flatnonzero(lost[self.codes]).tolist():
                yield row, self.texts[int(self.codes[row])].as_py()


def expected_columns(
    layout: Layout, ready: Prepared, to_engine: Callable[[pa.Array], pa.Array]
) -> Iterator[ExpectedColumn]:
    """What an engine, whose values `to_engine` gives, should show under each header of a source
    that some table takes."""
    for header in ready.encoded.source.headers:
        column_at = layout.column_of(ready.name, header)
        if column_at is not None:
            table, spec = column_at
            column = ready.column(header, spec)
            values = _values(layout, ready, header, spec, to_engine)
            changed = ready.changed(header, spec)
            yield ExpectedColumn(header, table, spec, column.values, values, column.codes, changed)


def _values(
    layout: Layout,
    ready: Prepared,
    header: str,
    spec: ColumnSpec,
    to_engine: Callable[[pa.Array], pa.Array],
) -> pa.Array:
    """The distinct values of a column, as the engine should give them."""
    if spec.split:
        cells: pa.Array = ready.column(header).values
        if layout.keeps_order(ready.name, header):
            return cells
        parts = [c.split(spec.split) for c in cells.to_pylist()]
        return pa.array([spec.split.join(sorted(p)) for p in parts], pa.string())
    if spec.unit:  # arithmetic of the units library, not a reading of texts
        return to_engine(ready.typed(header, spec))
    given = to_engine(pa.array([], spec.of_type.arrow)).type
    return source_values(ready.column(header, spec).values, spec.of_type, given)


class Expected:
    """A source as the database should hold it: stored values and codes per column, in the order of
    the view."""

    def __init__(
        self,
        layout: Layout,
        name: str,
        encoded: EncodedSource,
        reader: Reader,
        without: np.ndarray,
        loads: Sequence[tuple[int, int]] = ((0, 0),),
        ordered_loads: Sequence[int] = (0,),
        standing: Sequence[int] = (),
    ) -> None:
        self.ready = ready = Prepared(layout, name, encoded, without)
        self.layout, self.rows = layout, ready.rows
        starts, numbers = (np.array(some, np.int64) for some in zip(*loads, strict=True))
        self.records = (
            np.arange(ready.rows) if ready.encoded.records is None else ready.encoded.records
        )
        self.load = numbers[np.searchsorted(starts, self.records, "right") - 1]
        """The load of each row."""
        self.ordered_loads, self.standing = ordered_loads, standing
        self.feed = SourceTables(layout, ready, Problems())
        self.order: np.ndarray | None = None
        self.headers: list[str] = []
        self.named = view_columns(encoded.source.headers, reader.longest_name)
        self.values: list[pa.Array] = []
        self.codes: list[np.ndarray] = []
        self.changed = 0
        self.misfits: dict[int, dict[int, str]] = {}
        """By the place of a header, records whose cell is no value of its column's type, with the
        texts: whatever the database has there, it is not what the file says."""
        for one in expected_columns(layout, ready, reader.to_engine):
            self.changed += one.changed
            if misfits := {int(self.records[row]): text for row, text in one.misfits()}:
                self.misfits[len(self.headers)] = misfits
            self.headers.append(one.header)
            self.values.append(one.values)
            self.codes.append(self._kept(one.table, one.spec, one.codes, len(one.values)))
        for spec_of in layout.tables.values():
            for link in spec_of.links.values():
                if spec_of.source == name and (link.loose or link.missing == "blank"):
                    self._as_looked_up(link, reader)
        self._order(layout.tables[layout.base_of(name)])

    def _kept(self, table: str, spec: ColumnSpec, codes: np.ndarray, size: int) -> np.ndarray:
        """The codes of a column after the layout has chosen among the values of one record, or has
        wanted none."""
        whole = self.layout.tables[table]
        if (
            whole.source != self.ready.name
            or whole.each_row
            or (spec.conflicts == "refuse" and not whole.only_rows)
        ):
            return codes
        record, count = self.feed.identity(table)
        if len(distinct(self.load)) > 1:  # each load has chosen for itself
            record, count = combine(
                [record, self.load.astype(np.int32)], [count, int(self.load.max()) + 1]
            )
        if spec.conflicts != "refuse":
            one: np.ndarray = np.append(
                choose_value(record, codes, count, size, spec.conflicts), -1
            )[record]
            return one
        return np.where(record >= 0, codes, -1)

    def _as_looked_up(self, link: LinkSpec, reader: Reader) -> None:
        """Cells that were only a way to find a record show what that record says; nothing, where
        none was to be made for them."""
        plain = {c: h for c, h in (*link.by.items(), *link.repeats.items()) if "." not in c}
        at = {h: self.headers.index(h) for h in (*link.by.values(), *link.repeats.values())}
        known: dict[tuple[Any, ...], tuple[Any, ...]] = {}
        since: dict[tuple[Any, ...], int] = {}
        asked = ", ".join([reader.row(link.to, "t"), *(reader.raw(f"t.{quote(c)}") for c in plain)])
        there_now = reader.ask(f"SELECT {asked} FROM {quote(link.to)} AS t")
        spelled = [
            reader.from_engine([r[n + 1] for r in there_now], self.values[at[h]].type).to_pylist()
            for n, h in enumerate(plain.values())
        ]
        made = self._made_by(reader, link.to, np.array([int(r[0]) for r in there_now], np.int64))
        for load, *row in sorted(zip(made.tolist(), *spelled, strict=True), key=lambda r: r[0]):
            key = tuple(_folded(v, link.loose) for v in row[: len(link.by)])
            known.setdefault(key, tuple(row))
            since.setdefault(key, load)
        by = [at[h] for h in link.by.values()]
        mixed, count = combine([self.codes[i] for i in by], [len(self.values[i]) for i in by])
        first = first_rows(mixed, count)
        found = [
            known.get(
                tuple(
                    _folded(self.values[i][int(self.codes[i][r])].as_py(), link.loose) for i in by
                )
            )
            for r in first.tolist()
        ]
        begun = np.append(
            np.array(
                [
                    since.get(
                        tuple(
                            _folded(self.values[i][int(self.codes[i][r])].as_py(), link.loose)
                            for i in by
                        ),
                        NEVER,
                    )
                    for r in first.tolist()
                ],
                np.int64,
            ),
            NEVER,
        )[mixed]
        there = begun <= self.load  # what a later load has brought was not there to be found
        for n, (_, header) in enumerate(plain.items()):
            i = at[header]
            if link.loose:
                said = pa.array([None if f is None else f[n] for f in found], self.values[i].type)
                mine = self.values[i].take(pa.array(self.codes[i], mask=self.codes[i] < 0))
                theirs = said.take(pa.array(mixed, mask=mixed < 0))
                alike = pc.fill_null(
                    pc.equal(*[folded(pc.cast(v, pa.string())) for v in (mine, theirs)]), False
                )
                encoded = pc.if_else(alike, theirs, mine).dictionary_encode()
                self.values[i] = encoded.dictionary
                self.codes[i] = encoded.indices.fill_null(-1).to_numpy(zero_copy_only=False)
        if link.missing == "blank":
            for i in at.values():
                self.codes[i] = np.where(there, self.codes[i], -1)

    def _made_by(self, reader: Reader, table: str, rows: np.ndarray) -> np.ndarray:
        """The load that made each of some rows; 0 for those that none has made."""
        out = np.zeros(len(rows), np.int64)
        for s in read_says(reader, self.standing, [table]):
            if s.role in MAKERS:
                out[(rows >= s.first) & (rows <= s.last)] = s.load
        return out

    def _order(self, base: TableSpec) -> None:
        """Puts the rows in the order in which the layout numbers them."""
        if not base.order:
            return
        columns = [base.columns[o.removeprefix("-")] for o in base.order]
        cells = [
            self.ready.derived(c)[0] if c.derived else self.ready.cells(c.header, c)
            for c in columns
        ]
        rank = np.argsort(ordered(cells, base.order), kind="stable")
        in_layout_s = np.isin(
            self.load, list(self.ordered_loads)
        )  # later loads stay in the order of their files
        self.order = np.lexsort((np.where(in_layout_s, rank, np.arange(self.rows)), self.load))
        self.codes = [c[self.order] for c in self.codes]
        self.load, self.records = self.load[self.order], self.records[self.order]

    def unsaid(self, i: int, rows: np.ndarray) -> np.ndarray:
        """In which of some rows column i says nothing, as their file has no such column."""
        encoded = self.ready.encoded
        header, telling = self.headers[i], getattr(encoded.source, "telling", "")
        parts = encoded.parts()
        lacking = np.array([header not in part.headers for part, _, _ in parts])
        if header == telling or not lacking.any():
            return np.zeros(len(rows), bool)
        ends = np.cumsum([count for _, _, count in parts])
        out: np.ndarray = lacking[np.searchsorted(ends, self.records[rows], "right")]
        return out

    def place(self, n: int) -> int | None:
        """The row of the source, as a person counts, that is at a place."""
        return self.at(n).row

    def at(self, n: int, header: str | None = None) -> Origin:
        """The place in the source of the row that is at a place."""
        return self.ready.encoded.found.origin(int(self.records[n]), header)

    def cells(self, i: int, start: int, end: int) -> pa.Array:
        """Some cells of column i."""
        codes = self.codes[i][start:end]
        blank = codes < 0
        return self.values[i].take(pa.array(codes, mask=blank if blank.any() else None))

    def taken(self, i: int, rows: np.ndarray) -> pa.Array:
        """The cells of column i in some rows."""
        codes = self.codes[i][rows]
        return self.values[i].take(pa.array(codes, mask=codes < 0))

    def asked(self, source: str) -> tuple[str, list[str], list[pa.DataType]]:
        """The view of the source, the names that the headers have there, and the types of the
        columns."""
        return (
            quote(view_name(source)),
            [quote(self.named[h]) for h in self.headers],
            [v.type for v in self.values],
        )

    def partition(self, reader: Reader, source: str, before: int) -> tuple[str, str] | None:
        """What to ask instead of the view, so that two may ask at once: its first rows, and the
        others. None where that cannot be told."""
        from kerfmark.store.views import view

        made = view(self.layout, source, self.ready.encoded.source.headers, reader.dialect())
        return reader.partition(made, self.layout.base_of(source), before)

    def row(self, n: int) -> tuple[Any, ...]:
        """One row; what is no value is a text."""
        values = (
            None if c[n] < 0 else v[int(c[n])].as_py()
            for v, c in zip(self.values, self.codes, strict=True)
        )
        record = int(self.records[n])
        return tuple(
            self.misfits[i].get(record, v) if i in self.misfits else v for i, v in enumerate(values)
        )

    def misread(self, i: int, rows: np.ndarray) -> np.ndarray:
        """In which of some rows the cell of column i is no value of its type."""
        return np.isin(self.records[rows], [*self.misfits.get(i, ())])


def _folded(value: Any, loose: bool) -> Any:
    """A value as it is looked up."""
    return folded(pa.array([str(value)]))[0].as_py() if loose and value is not None else value
