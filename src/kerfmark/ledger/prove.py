"""Proves that nothing was lost: the source is read again, the tables are rejoined, and every row is compared.

First row by row in the order of the generated keys, which settles it when nothing was touched. Where that fails, rows
are compared as a multiset, so that a mere change of order is no difference, and what is left is shown cell by cell.
"""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.build.keys import ordered
from kerfmark.build.prepare import Prepared
from kerfmark.build.problems import Problems
from kerfmark.build.tables import SourceTables, chosen
from kerfmark.build.treat import folded
from kerfmark.layout.model import ColumnSpec, Layout, LinkSpec, TableSpec
from kerfmark.ledger.any_order import same_in_any_order
from kerfmark.ledger.in_order import Part, same_in_order
from kerfmark.profile.codes import combine, first_rows
from kerfmark.profile.encode import EncodedSource
from kerfmark.progress import Progress
from kerfmark.store.ahead import ahead
from kerfmark.store.database import Reader, quote
from kerfmark.store.views import view_columns, view_name

HALVED = 100_000
"""Rows of a half from which two threads read the database."""
SHOWN = 20
"""Differences listed before the rest is only counted."""


@dataclass(frozen=True)
class Difference:
    """A cell, or a whole row (`column` empty), that is not the same in the source and in the database."""

    row: int | None
    column: str
    in_source: str
    in_database: str


@dataclass(frozen=True)
class SourceProof:
    """What comparing one source with its view gave. `changed`: the file is not the one that was loaded; `named` counts the
    records at the end of its table that stand in no row of it: other rows only name them. Rows `set_aside` by the load or
    `left_out` by the layout are not compared, and `changed_cells` are compared with what the layout, or a later load, makes of
    them; `known` rows brought nothing new."""

    source: str
    file: str
    rows: int
    rows_in_database: int
    cells: int
    changed: bool
    total: int
    differences: tuple[Difference, ...]
    named: int = 0
    set_aside: int = 0
    left_out: int = 0
    changed_cells: int = 0
    known: int = 0

    @property
    def holds(self) -> bool:
        """Whether every row is the same."""
        return self.total == 0


class _Expected:
    """A source as the database should hold it: stored values and codes per column, in the order of the view."""

    def __init__(self, layout: Layout, name: str, encoded: EncodedSource, reader: Reader, without: np.ndarray) -> None:
        self.ready = ready = Prepared(layout, name, encoded, without)
        self.layout, self.rows = layout, ready.rows
        self.feed = SourceTables(layout, ready, Problems())
        self.headers: list[str] = []
        self.named = view_columns(encoded.source.headers, reader.longest_name)
        self.values: list[pa.Array] = []
        self.codes: list[np.ndarray] = []
        self.changed = 0
        for header in encoded.source.headers:
            home = layout.home_of(name, header)
            if home is None:
                continue
            table, spec = home
            self.changed += ready.changed(header, spec)
            values = ready.column(header).values if spec.split else ready.typed(header, spec)
            self.headers.append(header)
            self.values.append(reader.stored(values))
            self.codes.append(self._kept(table, spec, ready.column(header, spec).codes, len(values)))
        for spec_of in layout.tables.values():
            for link in spec_of.links.values():
                if spec_of.source == name and (link.loose or link.missing == "blank"):
                    self._as_looked_up(link, reader)
        self._as_changed(reader)
        self._order(layout.tables[layout.base_of(name)])

    def _as_changed(self, reader: Reader) -> None:
        """Cells that a later load has changed show what it made of them."""
        latest = reader.ask('SELECT table_name, column_name, "row", "after" FROM kerfmark_changes JOIN kerfmark_loads '
                            f"USING (load_id) WHERE undone_at IS NULL ORDER BY load_id, kerfmark_changes.{reader.nth}")
        after: dict[tuple[str, str], dict[int, Any]] = {}
        for table, column, row, value in latest:
            after.setdefault((table, column), {})[row] = value
        for (table, column), rows in after.items():
            spec = self.layout.tables[table]
            own = spec.columns.get(column)
            plain = all(k in spec.columns and spec.columns[k].header in self.headers for k in spec.known_by)
            if own is None or own.header not in self.headers or not spec.known_by or not plain:
                continue
            by = [self.headers.index(spec.columns[k].header) for k in spec.known_by]
            keys = ", ".join(reader.said(f"t.{quote(k)}") for k in spec.known_by)
            here = [r for r in reader.ask(f"SELECT {reader.row(table, 't')}, {keys} FROM {quote(table)} AS t") if r[0] in rows]
            spelled = [reader.as_stored([r[n + 1] for r in here], self.values[i].type).to_pylist() for n, i in enumerate(by)]
            at = self.headers.index(own.header)
            made = reader.as_stored([rows[r[0]] for r in here], self.values[at].type).to_pylist()
            known = dict(zip(zip(*spelled, strict=True), made, strict=True))
            mixed, count = combine([self.codes[i] for i in by], [len(self.values[i]) for i in by])
            first = first_rows(mixed, count)
            named = [tuple(self.values[i][int(self.codes[i][r])].as_py() for i in by) for r in first.tolist()]
            hit = np.append(np.array([n in known for n in named], bool), False)[mixed]
            new = pa.array([known.get(n) for n in named], self.values[at].type)
            mine = self.values[at].take(pa.array(self.codes[at], mask=self.codes[at] < 0))
            whole = pc.if_else(pa.array(hit), new.take(pa.array(mixed, mask=mixed < 0)), mine)
            self.changed += int(np.count_nonzero(hit))
            encoded = whole.dictionary_encode()
            self.values[at] = encoded.dictionary
            self.codes[at] = encoded.indices.fill_null(-1).to_numpy(zero_copy_only=False)

    def _kept(self, table: str, spec: ColumnSpec, codes: np.ndarray, size: int) -> np.ndarray:
        """The codes of a column after the layout has chosen among the values of one record, or has wanted none."""
        whole = self.layout.tables[table]
        if whole.source != self.ready.name or whole.each_row or (spec.conflicts == "refuse" and not whole.only_rows):
            return codes
        record, count = self.feed.identity(table)
        if spec.conflicts != "refuse":
            one: np.ndarray = np.append(chosen(record, codes, count, size, spec.conflicts), -1)[record]
            return one
        return np.where(record >= 0, codes, -1)

    def _as_looked_up(self, link: LinkSpec, reader: Reader) -> None:
        """Cells that were only a way to find a record show what that record says; nothing, where none was to be made for them."""
        plain = {c: h for c, h in (*link.by.items(), *link.repeats.items()) if "." not in c}
        at = {h: self.headers.index(h) for h in (*link.by.values(), *link.repeats.values())}
        known: dict[tuple[Any, ...], tuple[Any, ...]] = {}
        there_now = reader.ask(f"SELECT {', '.join(reader.said(quote(c)) for c in plain)} FROM {quote(link.to)}")
        spelled = [reader.as_stored([r[n] for r in there_now], self.values[at[h]].type).to_pylist()
                   for n, h in enumerate(plain.values())]
        for row in zip(*spelled, strict=True):
            known.setdefault(tuple(_folded(v, link.loose) for v in row[:len(link.by)]), row)
        by = [at[h] for h in link.by.values()]
        mixed, count = combine([self.codes[i] for i in by], [len(self.values[i]) for i in by])
        first = first_rows(mixed, count)
        found = [known.get(tuple(_folded(self.values[i][int(self.codes[i][r])].as_py(), link.loose) for i in by))
                 for r in first.tolist()]
        there = np.append(np.array([f is not None for f in found], bool), False)[mixed]
        for n, (_, header) in enumerate(plain.items()):
            i = at[header]
            if link.loose:
                said = pa.array([None if f is None else f[n] for f in found], self.values[i].type)
                mine = self.values[i].take(pa.array(self.codes[i], mask=self.codes[i] < 0))
                theirs = said.take(pa.array(mixed, mask=mixed < 0))
                alike = pc.fill_null(pc.equal(*[folded(pc.cast(v, pa.string())) for v in (mine, theirs)]), False)
                encoded = pc.if_else(alike, theirs, mine).dictionary_encode()
                self.values[i] = encoded.dictionary
                self.codes[i] = encoded.indices.fill_null(-1).to_numpy(zero_copy_only=False)
        if link.missing == "blank":
            for i in at.values():
                self.codes[i] = np.where(there, self.codes[i], -1)

    def _order(self, base: TableSpec) -> None:
        """Puts the rows in the order in which the layout numbers them."""
        if not base.order:
            self.order = None
            return
        columns = [base.columns[o.removeprefix("-")] for o in base.order]
        cells = [self.ready.derived(c)[0] if c.derived else self.ready.cells(c.header, c) for c in columns]
        self.order = ordered(cells, base.order)
        self.codes = [c[self.order] for c in self.codes]

    def place(self, n: int) -> int | None:
        """The row of the source, as a person counts, that stands at a place."""
        return self.ready.origin(n if self.order is None else int(self.order[n]), None).row

    def cells(self, i: int, start: int, end: int) -> pa.Array:
        """Some cells of column i."""
        codes = self.codes[i][start:end]
        blank = codes < 0
        return self.values[i].take(pa.array(codes, mask=blank if blank.any() else None))

    def asked(self, source: str) -> tuple[str, list[str], list[pa.DataType]]:
        """The view of the source, the names that the headers have there, and the types of the columns."""
        return quote(view_name(source)), [quote(self.named[h]) for h in self.headers], [v.type for v in self.values]

    def row(self, n: int) -> tuple[Any, ...]:
        """One row."""
        return tuple(None if c[n] < 0 else v[int(c[n])].as_py() for v, c in zip(self.values, self.codes, strict=True))


def prove_source(reader: Reader, layout: Layout, name: str, encoded: EncodedSource, file: str,
                 changed: bool, progress: Progress, aside: np.ndarray, known: np.ndarray) -> SourceProof:
    """Compares one source, read anew, with the view that rejoins it. The records in `aside` were set aside, and those in `known`
    brought nothing new, as their records were there already."""
    expected = _Expected(layout, name, encoded, reader, np.union1d(aside, known))
    more = layout.is_looked_up(layout.base_of(name)) or layout.existing     # then there may be rows that only others say
    compare = _same_in_order if reader.in_order and not layout.existing else _same_in_any_order
    same, count = compare(reader, name, expected, progress, more)
    named = max(0, _count(reader, name) - expected.rows) if more else 0
    differences, total = ((), 0) if same else _differences(reader, name, expected, named)
    return SourceProof(name, file, expected.rows, count if same else _count(reader, name) - named,
                       expected.rows * len(expected.headers), changed, total, differences, named,
                       len(aside) + len(encoded.source.ragged), expected.ready.left_out, expected.changed, len(known))


def _count(reader: Reader, source: str) -> int:
    return int(reader.ask(f"SELECT count(*) FROM {quote(view_name(source))}")[0][0])


def _same_in_order(reader: Reader, source: str, expected: _Expected, progress: Progress, more: bool) -> tuple[bool, int]:
    """Whether the view's rows are the source's, one after the other (`more` rows may follow), and how many these are."""
    view, cells, types = expected.asked(source)
    half = expected.rows // 2
    halves = reader.halves(view_name(source), expected.layout.base_of(source), half) if half >= HALVED else None
    if halves:
        parts = [Part(reader.batches(halves[0], cells, types), 0, half),
                 Part(reader.batches(halves[1], cells, types), half, expected.rows, more)]
    else:
        parts = [Part(reader.batches(view, cells, types), 0, expected.rows, more)]
    try:
        same = same_in_order(parts, expected.cells, lambda rows: progress(f"comparing {source}", rows, expected.rows))
    except OSError:                                     # a cell of another type than its column
        same = False
    return same, expected.rows if same else 0


def _same_in_any_order(reader: Reader, source: str, expected: _Expected, progress: Progress, more: bool) -> tuple[bool, int]:
    """Whether the view's rows are the source's, in whatever order it gives them (`more` rows may be there), and how many these
    are."""
    def told(rows: int) -> None:
        progress(f"comparing {source}", rows, expected.rows)

    return same_in_any_order(ahead(reader.batches(*expected.asked(source))), expected.values, expected.codes, expected.rows, told,
                             more), expected.rows


def _differences(reader: Reader, source: str, expected: _Expected, named: int) -> tuple[tuple[Difference, ...], int]:
    """What differs when rows are compared as a multiset; `named` rows may be there beside. Slow, and only walked when
    something does."""
    found = Counter(tuple(_typed(v) for v in row) for row in reader.rows(*expected.asked(source)))
    lost: list[int] = []
    for n in range(expected.rows):
        row = tuple(_typed(v) for v in expected.row(n))
        if found[row] > 0:
            found[row] -= 1
        else:
            lost.append(n)
    strange = list(found.elements())
    out: list[Difference] = []
    for n in lost:
        row = tuple(_typed(v) for v in expected.row(n))
        twin = max(strange, key=lambda other: sum(a == b for a, b in zip(row, other, strict=True)), default=None)
        at = expected.place(n)
        if twin is None or sum(a == b for a, b in zip(row, twin, strict=True)) * 2 < len(row):
            out.append(Difference(at, "", "the row", "no such row"))
        else:
            strange.remove(twin)
            out += [Difference(at, h, _said(a), _said(b))
                    for h, a, b in zip(expected.headers, row, twin, strict=True) if a != b]
        if len(out) >= SHOWN:
            break
    strange = strange[:max(0, len(strange) - named)]
    total = max(len(out), len(lost), len(strange))
    if len(out) < SHOWN:
        out += [Difference(None, "", "no such row", "; ".join(_said(v) for v in row)) for row in strange[: SHOWN - len(out)]]
        total = max(total, len(out))
    return tuple(out[:SHOWN]), total


def _folded(value: Any, loose: bool) -> Any:
    """A value as it is looked up."""
    return folded(pa.array([str(value)]))[0].as_py() if loose and value is not None else value


def _typed(value: Any) -> Any:
    """A value as it is compared: a number is no text that spells it, but 5 is 5.0 (SQLite keeps whole decimals so)."""
    return value if value is None or isinstance(value, str) else ("number", value)


def _said(value: Any) -> str:
    """A value as a person writes it."""
    if value is None:
        return "blank"
    return str(value[1]) if isinstance(value, tuple) else f'"{value}"'
