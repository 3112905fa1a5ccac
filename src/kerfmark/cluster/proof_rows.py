"""What an executor does for a proof: reads one unit of a source again, and writes what the tables
should show of its rows, in the proof's own way."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from dataclasses import asdict, dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.cluster.files import Unit
from kerfmark.cluster.frames import AT
from kerfmark.cluster.staging import (
    FileStaged,
    Job,
    cell_values,
    file_of,
    files_of,
    for_engine,
    places_of,
    row_offset,
    runs_of,
    unit_read,
    write_rows,
)
from kerfmark.layout.model import ColumnSpec, Layout
from kerfmark.ledger.expected import expected_columns
from kerfmark.ledger.file_rows import FileRows, rows_of_files
from kerfmark.normalize.prepare import Prepared
from kerfmark.plan.model import Cell, Identity, Plan
from kerfmark.profile.convert import decimal_texts
from kerfmark.profile.encode import EncodedSource, records_of
from kerfmark.read.source import RaggedRow

MISFITS = "_misfits"
"""Column of the rows: cells that are no values of their columns' types, as JSON: texts by the place
of the header; blank where there are none."""


RAGGED_TOLD = 100
"""Ragged rows that a unit tells."""


@dataclass
class UnitExpected:
    """What a unit says: its rows as read, the file of those that the tables should show, rows that
    the layout leaves out, and cells that it changes; its files, what all of their rows are, and
    runs of rows as `staging.Staged` has them; and how many are ragged, with the first of these."""

    unit: int
    read: int
    rows: int
    file: str
    left_out: int
    changed: int
    files: list[FileStaged]
    all_rows: list[FileRows]
    runs: list[tuple[int, str, str, int]]
    ragged: int
    ragged_rows: list[RaggedRow]

    @classmethod
    def of(cls, text: str) -> UnitExpected:
        """From what `text` gives."""
        said = json.loads(text)
        said["files"] = [FileStaged(**f) for f in said["files"]]
        said["all_rows"] = [FileRows(**f) for f in said["all_rows"]]
        said["ragged_rows"] = [RaggedRow(*r) for r in said["ragged_rows"]]
        return cls(**said)

    def text(self) -> str:
        """As text."""
        return json.dumps(asdict(self))


@dataclass(frozen=True)
class Chosen:
    """A header whose cells show one of several values of a record, or nothing where its table wants
    none (`rule` is "refuse" then); the cells by which the record is known are written too."""

    header: str
    rule: str
    identity: Identity


def shown_headers(layout: Layout, source: str, headers: Sequence[str]) -> list[str]:
    """The headers of a source that some table takes."""
    return [h for h in headers if layout.column_of(source, h)]


def column_specs(layout: Layout, source: str, headers: Sequence[str]) -> list[ColumnSpec]:
    """The columns of headers that some table takes."""
    found = [layout.column_of(source, h) for h in headers]
    return [at[1] for at in found if at]


def chosen(layout: Layout, plan: Plan, source: str, headers: Sequence[str]) -> list[Chosen]:
    """The headers of a source whose cells the layout chooses, or does not always want."""
    out = []
    for header in shown_headers(layout, source, headers):
        table, spec = layout.column_of(source, header) or ("", ColumnSpec())
        whole = layout.tables[table]
        may_differ = spec.conflicts != "refuse" or whole.only_rows
        if whole.source == source and not whole.each_row and may_differ:
            out.append(Chosen(header, spec.conflicts, plan.tables[table].identity))
    return out


def identity_cells(some: Sequence[Chosen]) -> list[Cell]:
    """The cells by which the records of chosen cells are known, each once."""
    cells = [c for one in some for c in (*one.identity.cells, *one.identity.only)]
    return list({c.name: c for c in cells}.values())


def expected_type(spec: ColumnSpec) -> str:
    """The type, in the cluster's engine, of what the tables should show of a column."""
    kind = "text" if spec.split else spec.of_type.kind
    numbers = {"integer": "bigint", "boolean": "bigint", "real": "double", "time": "int"}
    return numbers.get(kind, "string")


def as_compared(values: pa.Array) -> pa.Array:
    """Typed values in the form in which they are written: numbers and truth as such, the rest as
    text."""
    kind = values.type
    if pa.types.is_boolean(kind):
        return pc.cast(values, pa.int64())
    if pa.types.is_decimal(kind):
        return decimal_texts(values)
    if pa.types.is_integer(kind) or pa.types.is_floating(kind):
        return values
    return pc.cast(values, pa.string())


def expect(job: Job, unit: Unit, apart: Sequence[int]) -> UnitExpected:
    """Reads a unit again, and writes what is expected of it; some rows of its file were set
    `apart`. Raises what reading raises."""
    with unit_read(job, unit) as encoded:
        at, offset = encoded.parts()[0][0].origin(), row_offset(unit)
        places = [(at.file, at.sheet or "", row - offset) for row in apart]
        return expected(job, unit, encoded, records_of(encoded, places))


def expected(job: Job, unit: Unit, encoded: EncodedSource, apart: np.ndarray) -> UnitExpected:
    """Writes what is expected of a source that is read: e0, e1 ... for the headers that tables
    take; without the records (as read) that were set apart."""
    ready = Prepared(job.layout, unit.source, encoded, apart)
    columns: dict[str, pa.Array] = {AT: places_of(ready.encoded, unit)}
    misfits, changed = dict[int, dict[int, str]](), 0
    for i, one in enumerate(expected_columns(job.layout, ready, as_compared)):
        changed += one.changed
        cells = one.values.take(pa.array(one.codes, mask=one.codes < 0))
        impossible = _impossible(one.values, one.spec.of_type.kind)
        for row, text in one.misfits():
            misfits.setdefault(row, {})[i] = text
        for row in np.flatnonzero(np.append(impossible, False)[one.codes]).tolist():
            misfits.setdefault(row, {})[i] = cells[row].as_py()
        if impossible.any():
            cells = pc.if_else(np.append(impossible, False)[one.codes], None, cells)
        if expected_type(one.spec) == "int":
            cells = _seconds(cells)
        columns[f"e{i}"] = cells
    headers = job.headers[unit.source]
    for cell in identity_cells(chosen(job.layout, job.plan, unit.source, headers)):
        columns[cell.name] = for_engine(cell_values(ready, cell))
    columns[MISFITS] = pa.nulls(ready.rows, pa.string())
    if misfits:
        said = [json.dumps(misfits[row]) if row in misfits else None for row in range(ready.rows)]
        columns[MISFITS] = pa.array(said, pa.string())
    file = ""
    if ready.rows:
        file = file_of(job, unit)
        write_rows(file, columns)
    return UnitExpected(
        unit.number,
        encoded.read,
        ready.rows,
        file,
        ready.left_out,
        changed,
        list(files_of(ready, encoded, unit)),
        list(_of_whole_file(unit, rows_of_files(encoded))),
        runs_of(encoded, unit),
        len(encoded.found.ragged),
        [
            r._replace(row=r.row + row_offset(unit), text="")
            for r in encoded.found.ragged[:RAGGED_TOLD]
        ],
    )


def _impossible(values: pa.Array, kind: str) -> np.ndarray:
    """Which of some dates and moments, as text, are none, such as the 30th of February."""
    type_ = {"date": pa.date32(), "timestamp": pa.timestamp("us")}.get(kind)
    if type_ is None or not pa.types.is_string(values.type) or _is_all(values, type_):
        return np.zeros(len(values), bool)
    return np.array([not _is_all(values.slice(i, 1), type_) for i in range(len(values))], bool)


def _is_all(values: pa.StringArray, type_: pa.DataType) -> bool:
    """Whether all texts are spelled like values of a type."""
    try:
        pc.cast(values, type_)
    except pa.ArrowInvalid:
        return False
    return True


def _seconds(times: pa.StringArray) -> pa.Array:
    """Times like 08:30:00 as seconds since midnight, which are what the engine has for them."""
    hour, minute, second = (
        pc.cast(pc.utf8_slice_codeunits(times, at, at + 2), pa.int32()) for at in (0, 3, 6)
    )
    seconds = pc.add(pc.multiply(pc.add(pc.multiply(hour, 60), minute), 60), second)
    return pc.cast(seconds, pa.int32())


def _of_whole_file(unit: Unit, rows: Iterator[FileRows]) -> Iterator[FileRows]:
    """What the rows of a unit are in its file: a block that is not the first one was read with a
    header that is not its own."""
    for one in rows:
        if not unit.is_block or not unit.start:
            yield one
            continue
        more = one.above + one.header
        yield FileRows(**{**vars(one), "rows": one.rows - more, "above": 0, "header": 0})
