"""trace: from which load, file and row a record came."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from kerfmark.address import database_at
from kerfmark.errors import Origin, SourceError, UsageError
from kerfmark.layout.derive import settled
from kerfmark.layout.model import Layout
from kerfmark.layout.text import parse_layout
from kerfmark.ledger.account import expanded, read_says
from kerfmark.ledger.records import MAKERS, Ledger
from kerfmark.ledger.source_values import as_known
from kerfmark.normalize.prepare import Prepared
from kerfmark.profile.encode import encode, records_of
from kerfmark.progress import Progress, silent
from kerfmark.store.interface import Reader
from kerfmark.store.quoting import literal, quote
from kerfmark.verbs.sources import open_loaded


@dataclass(frozen=True)
class TraceResult:
    """Where a record came from: the load that made it, and the file, sheet and row in which it is
    first said there (None: that file is gone, or has changed); how many rows say it there; and
    later changes as (load, column, before, after)."""

    database: str
    table: str
    key: str
    load: int
    at: str
    origin: Origin | None
    rows: int
    changes: tuple[tuple[int, str, str, str], ...]


def trace(
    database: str | Path, table: str, key: str, *, progress: Progress = silent
) -> TraceResult:
    """Where a record of a table (`key` is its primary key) came from.

    The file is read again to find the row; where it is gone or has changed, only the load is told.
    Raises UsageError when there is no such table or record.
    """
    where = database_at(database)
    with where.reading() as reader:
        ledger = Ledger(reader)
        layout = parse_layout(ledger.layout, "the layout in the database")
        if table not in layout.tables:
            raise UsageError(
                f'there is no table "{table}"',
                origin=Origin(where.name),
                next=f"the tables are {', '.join(layout.tables)}",
            )
        spec = layout.tables[table]
        plain = [k for k in spec.known_by if k in spec.columns]
        row, known_by = _record(reader, layout, table, key, plain)
        live = [n.number for n in ledger.live]
        made = [s for s in read_says(reader, live, [table]) if s.role in MAKERS]
        number = next((s.load for s in made if s.first <= row <= s.last), 0)
        before, after = (f"COALESCE({reader.text(quote(c))}, '')" for c in ("before", "said"))
        changes = tuple(
            (int(r[0]), str(r[1]), str(r[2]), str(r[3]))
            for r in reader.ask(
                f"SELECT load_id, column_name, {before}, {after}"
                " FROM kerfmark_changes JOIN kerfmark_loads USING (load_id) WHERE undone_at IS "
                f"NULL AND table_name = {literal(table)}"
                f" AND \"row\" = {row} AND kept = 0 AND column_name <> '' ORDER BY "
                f"kerfmark_changes.{reader.sequence}"
            )
        )
    load = next((n for n in ledger.loads if n.number == number), None)
    if load is None:
        return TraceResult(where.name, table, key, 0, "", None, 0, changes)
    nth = int(np.searchsorted(expanded([(s.first, s.last) for s in made if s.load == number]), row))
    if len(plain) < len(spec.known_by) and not spec.each_row:
        return TraceResult(where.name, table, key, number, load.at, None, 0, changes)
    known = known_by if len(plain) == len(spec.known_by) else ()
    with where.reading() as reader:
        origin, rows = _first_row_of(
            reader, ledger, layout, where.folder or Path(), number, table, known, nth, progress
        )
    return TraceResult(where.name, table, key, number, load.at, origin, rows, changes)


def _record(
    reader: Reader, layout: Layout, table: str, key: str, columns: Sequence[str]
) -> tuple[int, tuple[object, ...]]:
    """The number of the row of a record, and the values of some of its columns."""
    keys = layout.key_columns(table)
    wanted = key.split(",") if len(keys) > 1 else [key]
    asked = ", ".join([reader.row(table, "t"), *(reader.raw(f"t.{quote(c)}") for c in columns)])
    same = " AND ".join(
        f"{reader.text(f't.{quote(k)}')} = {literal(v)}" for k, v in zip(keys, wanted, strict=False)
    )
    found = (
        reader.ask(f"SELECT {asked} FROM {quote(table)} AS t WHERE {same}")
        if len(wanted) == len(keys)
        else []
    )
    if not found:
        raise UsageError(
            f"{table} has no record {key}",
            origin=Origin(reader.name),
            next=f"name a value of {', '.join(keys)}",
        )
    return int(found[0][0]), tuple(found[0][1:])


def _first_row_of(
    reader: Reader,
    ledger: Ledger,
    layout: Layout,
    folder: Path,
    number: int,
    table: str,
    known_by: tuple[object, ...],
    nth: int,
    progress: Progress,
) -> tuple[Origin | None, int]:
    """The row of a load's files in which a record is first said, and how many rows say it; None
    when it cannot be told."""
    spec = layout.tables[table]
    files = [f for f in ledger.files if f.load == number and f.source == spec.source]
    try:
        encoded = encode(
            open_loaded(layout, spec.source, files, folder, as_known), progress, strict=False
        )
    except SourceError:
        return None, 0
    if spec.part_of or [found.fingerprint for _, found, _ in encoded.parts()] != [
        f.fingerprint for f in files
    ]:
        return None, 0
    apart = records_of(
        encoded,
        [
            (r.file, r.sheet, r.row)
            for r in ledger.set_aside
            if r.load == number and r.source == spec.source
        ],
    )
    ready = Prepared(
        settled(layout, {spec.source: encoded.source.headers}), spec.source, encoded, apart
    )
    hits = np.ones(ready.rows, bool)
    for name, value in zip(spec.known_by, known_by, strict=bool(known_by)):
        column = spec.columns[name]
        if column.split:
            return None, 0
        values, codes = (
            ready.derived(column)[0] if column.derived else ready.cells(column.header, column)
        )
        spelled = reader.to_engine(values)
        there = [
            i
            for i, v in enumerate(spelled.to_pylist())
            if v == reader.from_engine([value], spelled.type)[0].as_py()
        ]
        hits &= np.isin(codes, there)
    if not known_by:
        hits[:] = False
        hits[nth : nth + 1] = spec.each_row
    rows = np.flatnonzero(hits)
    return (ready.origin(int(rows[0]), None), len(rows)) if len(rows) else (None, 0)
