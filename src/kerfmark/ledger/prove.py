"""Proves that nothing was lost: the source is read again, the tables are rejoined, and every row is compared.

First row by row in the order of the generated keys, which settles it when nothing was touched. Where that fails, rows
are compared as a multiset, so that a mere change of order is no difference, and what is left is shown cell by cell.
"""

from __future__ import annotations

import sqlite3
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from kerfmark.layout.model import Layout
from kerfmark.profile.encode import EncodedSource
from kerfmark.progress import Progress
from kerfmark.store.ddl import view_name
from kerfmark.store.sqlite.build import stored
from kerfmark.store.sqlite.files import quote, translated

BATCH = 65_536
SHOWN = 20
"""Differences listed before the rest is only counted."""
_SAMPLES = {"int64": "0", "double": "0.5", "string": "''"}


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
    records at the end of its table that stand in no row of it: other rows only name them."""

    source: str
    file: str
    rows: int
    rows_in_database: int
    cells: int
    changed: bool
    total: int
    differences: tuple[Difference, ...]
    named: int = 0

    @property
    def holds(self) -> bool:
        """Whether every row is the same."""
        return self.total == 0


class _Expected:
    """A source as the database should hold it: stored values and codes per column, in the order of the view."""

    def __init__(self, layout: Layout, name: str, encoded: EncodedSource) -> None:
        spec = layout.sources[name]
        self.rows, self.source = encoded.rows, encoded.source
        self.headers: list[str] = []
        self.values: list[pa.Array] = []
        self.codes: list[np.ndarray] = []
        homes = {h: home[1] for h in encoded.source.headers if (home := layout.home_of(name, h))}
        for header, spec_of in homes.items():
            texts = encoded.column(header).without(list(spec.blanks))
            self.headers.append(header)
            self.values.append(stored(texts.values if spec_of.split else texts.typed(spec_of.of_type)))
            self.codes.append(texts.codes)

    def cells(self, i: int, start: int, end: int) -> pa.Array:
        """Some cells of column i."""
        codes = self.codes[i][start:end]
        blank = codes < 0
        return self.values[i].take(pa.array(codes, mask=blank if blank.any() else None))

    def row(self, n: int) -> tuple[Any, ...]:
        """One row."""
        return tuple(None if c[n] < 0 else v[int(c[n])].as_py() for v, c in zip(self.values, self.codes, strict=True))


def prove_source(database: Path, db: sqlite3.Connection, layout: Layout, name: str, encoded: EncodedSource, file: str,
                 changed: bool, progress: Progress) -> SourceProof:
    """Compares one source, read anew, with the view that rejoins it."""
    expected = _Expected(layout, name, encoded)
    more = layout.is_looked_up(layout.base_of(name))    # then rows may follow that only others name
    same, count = _same_in_order(database, name, expected, progress, more)
    named = max(0, _count(db, name) - encoded.rows) if more else 0
    differences, total = ((), 0) if same else _differences(db, name, expected, named)
    return SourceProof(name, file, encoded.rows, count if same else _count(db, name) - named,
                       encoded.rows * len(expected.headers), changed, total, differences, named)


def _count(db: sqlite3.Connection, source: str) -> int:
    return int(db.execute(f"SELECT count(*) FROM {quote(view_name(source))}").fetchone()[0])


def _same_in_order(database: Path, source: str, expected: _Expected, progress: Progress, more: bool) -> tuple[bool, int]:
    """Whether the view's rows are the source's, one after the other (`more` rows may follow), and how many these are."""
    at = 0
    try:
        for batch in _view_batches(database, source, expected):
            batch = batch.slice(0, expected.rows - at) if more else batch
            end = at + batch.num_rows
            if end > expected.rows or not all(
                    batch.column(i).equals(expected.cells(i, at, end)) for i in range(len(expected.headers))):
                return False, 0
            at = end
            progress(f"comparing {source}", at, expected.rows)
    except OSError:                                     # a cell of another type than its column
        return False, 0
    return at == expected.rows, at


def _view_batches(database: Path, source: str, expected: _Expected) -> Iterator[pa.RecordBatch]:
    """The view as Arrow batches. The driver takes a column's type from its first row, so a sample row goes before."""
    import adbc_driver_sqlite.dbapi as driver

    types = [str(v.type) for v in expected.values]
    columns = ", ".join(quote(h) for h in expected.headers)
    sample = ", ".join(_SAMPLES[t] for t in types)
    uri = f"file:{database.resolve().as_posix()}?mode=ro"
    with translated(database), driver.connect(uri, autocommit=True) as connection, connection.cursor() as cursor:
        cursor.adbc_statement.set_options(**{"adbc.sqlite.query.batch_rows": str(BATCH)})
        cursor.execute(f"SELECT {sample} UNION ALL SELECT {columns} FROM {quote(view_name(source))}")
        first = True
        for batch in cursor.fetch_record_batch():
            yield batch.slice(1) if first else batch
            first = False


def _differences(db: sqlite3.Connection, source: str, expected: _Expected, named: int) -> tuple[tuple[Difference, ...], int]:
    """What differs when rows are compared as a multiset; `named` rows may be there beside. Slow, and only walked when
    something does."""
    columns = ", ".join(quote(h) for h in expected.headers)
    found = Counter(tuple(row) for row in _typed_rows(db.execute(f"SELECT {columns} FROM {quote(view_name(source))}")))
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
        at = expected.source.origin(n).row
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


def _typed_rows(rows: sqlite3.Cursor) -> Iterator[tuple[Any, ...]]:
    for row in rows:
        yield tuple(_typed(v) for v in row)


def _typed(value: Any) -> Any:
    """A value as it is compared: a number is no text that spells it, but 5 is 5.0 (SQLite keeps whole decimals so)."""
    return value if value is None or isinstance(value, str) else ("number", value)


def _said(value: Any) -> str:
    """A value as a person writes it."""
    if value is None:
        return "blank"
    return str(value[1]) if isinstance(value, tuple) else f'"{value}"'
