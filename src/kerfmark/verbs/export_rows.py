"""What export takes out of a database: tables, or a source in its flat shape, as typed batches."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

import pyarrow as pa

from kerfmark.errors import NO_TABLES, DataRefused, Origin, UsageError
from kerfmark.layout.derive import settled
from kerfmark.layout.model import Layout, SourceSpec, parents_first
from kerfmark.layout.text import parse_layout
from kerfmark.ledger.account import accounts, read_says
from kerfmark.ledger.records import Ledger
from kerfmark.normalize.policy import CREATED
from kerfmark.profile.types import TEXT, ColumnType, canonical, declared_type
from kerfmark.progress import Progress
from kerfmark.store.engine_values import WrongType, cast_batch
from kerfmark.store.interface import Reader, TableFacts
from kerfmark.store.names import view_columns, view_name
from kerfmark.store.prefetch import prefetch
from kerfmark.store.quoting import quote
from kerfmark.store.views import flat
from kerfmark.write.table import TableOut

_BYTES = ("blob", "binary", "bytea")


@dataclass(frozen=True)
class ExportRows:
    """Rows that are taken out: what they are, an SQL expression for each cell, what these are asked
    of and in which order, and how many rows there are."""

    table: TableOut
    cells: tuple[str, ...]
    rows: str
    order: str
    count: int

    def batches(
        self, reader: Reader, progress: Progress, before: Sequence[str] = ()
    ) -> Iterator[pa.RecordBatch]:
        """The rows, typed; with further numbers (expressions) before their cells.

        Raises WrongType where a cell does not have its column's type; the place counts the cells
        only.
        """
        types = [*(pa.int64() for _ in before), *(t.arrow for t in self.table.types)]
        asked = [reader.to_engine(pa.array([], t)).type for t in types]
        done = 0
        try:
            for batch in prefetch(
                reader.batches(self.rows, [*before, *self.cells], asked, self.order)
            ):
                if batch.num_rows:
                    yield cast_batch(batch, types)
                done += batch.num_rows
                progress(f"exporting {self.table.name}", done, self.count)
        except WrongType as wrong:
            raise WrongType(wrong.column - len(before)) from wrong
        except OSError as error:  # a cell of another type than its column
            odd = reader.mistyped(self.rows, self.cells, self.table.types)
            if not odd:
                raise DataRefused(
                    "the database gives a value that does not have the type of its column",
                    code="data.type",
                    origin=Origin(self.table.name),
                    why=str(error).splitlines()[0],
                    next=f"correct the value: kerfmark show DB {self.table.name} shows the rows",
                ) from error
            raise WrongType(odd[0]) from error

    def without(self, reader: Reader, column: int) -> ExportRows:
        """The same, where a column holds values of another type: as numbers, if it
        is one of decimals; else as text."""
        types, cells = list(self.table.types), list(self.cells)
        if types[column].kind == "decimal":
            types[column] = ColumnType("real")
        else:
            types[column], cells[column] = TEXT, reader.readable_text(cells[column])
        return replace(self, table=replace(self.table, types=tuple(types)), cells=tuple(cells))


def as_declared_or_text(reader: Reader, taken: ExportRows, progress: Progress) -> ExportRows:
    """The same with types that all its cells are values of; all rows are looked at."""
    while True:
        try:
            for _ in taken.batches(reader, progress):
                pass
        except WrongType as wrong:
            taken = taken.without(reader, wrong.column)
        else:
            return taken


@dataclass(frozen=True)
class Inside:
    """What is in a database: its tables, and the layout that Kerfmark keeps there (none: somebody
    else made it all) with the headers of each source in their order."""

    tables: dict[str, TableFacts]
    layout: Layout | None
    ledger: Ledger | None
    headers: Mapping[str, Sequence[str]]


def look_inside(reader: Reader) -> Inside:
    """What is in a database. Raises UsageError when there is nothing."""
    tables = {n: f for n in reader.tables() if (f := reader.facts(n))}
    if not tables:
        raise UsageError(
            "there are no tables to export", origin=Origin(reader.name), next=NO_TABLES
        )
    if reader.facts("kerfmark_layouts") is None:
        return Inside(tables, None, None, {})
    ledger = Ledger(reader)
    layout = parse_layout(ledger.layout, "the layout in the database")
    headers = {s: _headers(reader, layout, s) for s in layout.sources}
    return Inside(tables, settled(layout, headers), ledger, headers)


def _headers(reader: Reader, layout: Layout, source: str) -> list[str]:
    """The headers of a source that were not left out, in the order of its view."""
    known = list(
        dict.fromkeys(h for t in layout.tables.values() if t.source == source for h in t.headers)
    )
    for (
        table
    ) in layout.tables.values():  # headers of links that only the other source's columns name
        known += [
            c.header
            for c in table.columns.values()
            if source in table.also_from and c.header and c.header not in known
        ]
    facts = reader.facts(view_name(source))
    if facts is None:
        return known
    shown = {short: h for h, short in view_columns(known, reader.longest_name).items()}
    return [shown.get(c.name, c.name) for c in facts.columns]


def tables_parents_first(tables: Mapping[str, TableFacts]) -> list[str]:
    """Names of tables, each after those that it links to."""
    return parents_first({n: [link.to for link in facts.links] for n, facts in tables.items()})


def rows_of_table(reader: Reader, inside: Inside, name: str) -> ExportRows:
    """A table, with all its columns, in the order of its key."""
    facts = inside.tables[name]
    spec = inside.layout.tables.get(name) if inside.layout else None
    types, cells = [], []
    for c in facts.columns:
        known = spec.columns.get(c.name) if spec else None
        bytes_ = any(word in c.type.lower() for word in _BYTES)
        types.append(
            canonical(TEXT if bytes_ else known.of_type if known else declared_type(c.type))
        )
        cells.append(reader.hex_text(quote(c.name)) if bytes_ else quote(c.name))
    table = TableOut(
        name,
        tuple(c.name for c in facts.columns),
        tuple(types),
        frozenset(c.name for c in facts.columns if c.optional),
        facts.key,
        facts.unique,
        facts.links,
    )
    order = ", ".join(
        f"{quote(name)}.{quote(k)}" for k in facts.key
    )  # what is asked for may be called so too, and be text
    return ExportRows(table, tuple(cells), quote(name), order, _count(reader, quote(name)))


def rows_of_source(
    reader: Reader, inside: Inside, source: str
) -> tuple[ExportRows, SourceSpec, list[str]]:
    """A source in its flat shape, in the order of its rows; how the source was written; and what
    cannot be as it was.

    Raises UsageError when there is no such source.
    """
    layout, ledger = inside.layout, inside.ledger
    if layout is None or ledger is None or source not in layout.sources:
        there = ", ".join(layout.sources) if layout else ""
        raise UsageError(
            f'there is no source "{source}"',
            origin=Origin(reader.name),
            code="export.source",
            why=""
            if there
            else "Kerfmark did not make these tables, so it does not know what they were before",
            next=f"its sources are {there}" if there else "leave out --flat to export the tables",
        )
    cells, rows = flat(layout, source, inside.headers[source], reader.dialect())
    types = []
    for header in cells:
        column_at = layout.column_of(source, header)
        types.append(TEXT if column_at is None or column_at[1].split else column_at[1].of_type)
    base = layout.base_of(source)
    number = reader.row(base, quote(base))
    only_named = _only_named(reader, inside, base)
    if only_named:
        rows += (
            " WHERE NOT ("
            + " OR ".join(f"{number} BETWEEN {a} AND {b}" for a, b in only_named)
            + ")"
        )
    table = TableOut(source, tuple(cells), tuple(types), frozenset(cells))
    return (
        ExportRows(table, tuple(cells.values()), rows, number, _count(reader, rows)),
        layout.sources[source],
        _not_as_it_was(reader, layout, ledger, source),
    )


def _count(reader: Reader, rows: str) -> int:
    return int(reader.ask(f"SELECT COUNT(*) FROM {rows}")[0][0])


def _only_named(reader: Reader, inside: Inside, base: str) -> list[tuple[int, int]]:
    """Rows of the table with a record per row that are in no row of the source: other sources
    only name them."""
    layout, ledger = inside.layout, inside.ledger
    assert layout is not None and ledger is not None
    if not layout.is_looked_up(base):
        return []
    says = read_says(reader, [load.number for load in ledger.live], [base])
    return [(s.first, s.last) for s in says if s.role == CREATED]


def _not_as_it_was(reader: Reader, layout: Layout, ledger: Ledger, source: str) -> list[str]:
    """What of a source is not in the database as it was in the files."""
    spec, out = layout.sources[source], []
    if spec.left_out:
        out.append(f"left out by the layout, so not in this file: {', '.join(spec.left_out)}")
    if spec.blanks:
        out.append(f"cells with {', '.join(spec.blanks)} are blank (layout: blanks)")
    account = [
        a
        for a in accounts(ledger, reader, {s: layout.base_of(s) for s in layout.sources})
        if a.source == source
    ]
    apart, same, different = (
        sum(getattr(a, k) for a in account) for k in ("set_aside", "same", "different")
    )
    if apart:
        out.append(f"rows that were set aside are not in this file: {apart:,}")
    if same:
        out.append(f"rows that repeat existing records are not in this file: {same:,}")
    if different:
        out.append(
            "rows that differ from existing records, which were kept, are not in this file: "
            f"{different:,}; kerfmark prove lists their cells"
        )
    changed = [
        h
        for t in layout.tables.values()
        for c in t.columns.values()
        if t.source == source and (c.treats or c.unit)
        for h in c.sources
    ]
    if changed:
        out.append(
            f"as the layout has made them, not as in the file: {', '.join(dict.fromkeys(changed))}"
        )
    if layout.tables[layout.base_of(source)].order:
        out.append("rows are in the order that the layout gives them")
    return out
