"""What an executor does: reads one unit of rows, turns its cells into values with the same code as
in one process, and writes them, as columns, where the cluster's engine reads them.

Each row has its place (`_at`: the number of its unit and of its record in it, which is the order of
the files and rows), and its number among the unit's rows that remain (`_n`).
"""

from __future__ import annotations

import base64
import json
import tempfile
import uuid
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import asdict, dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq

from kerfmark.cluster.files import (
    Unit,
    bytes_of_block,
    filesystem,
    fingerprint_of,
    is_file,
    size_of,
    to_write,
)
from kerfmark.cluster.session import MARK
from kerfmark.errors import KerfmarkError, Origin, SourceError
from kerfmark.layout.model import Layout
from kerfmark.normalize.parts import parts_of_records, split_cells
from kerfmark.normalize.prepare import Prepared
from kerfmark.normalize.problems import Problem, Problems
from kerfmark.normalize.split import unreadable
from kerfmark.normalize.tables import SourceTables
from kerfmark.plan.model import Cell, Plan
from kerfmark.profile.convert import to_typed
from kerfmark.profile.encode import EncodedSource, encode
from kerfmark.read.delimited import DelimitedSource
from kerfmark.read.source import RaggedRow, Source, with_changes
from kerfmark.read.union import UnionSource, parts_of
from kerfmark.read.wrapped import unwrapped

PLACE_BITS = 32
"""Bits of a place that number the record within its unit."""
KEPT_PROBLEMS = 10
"""Rows of each kind of problem that a unit tells; the others are counted."""
_GROUP = 131_072
_BREAKS = 500

Opener = Callable[[Layout, str, Path], Source]
"""Opens a source of a layout, whose files are seen from a folder."""


@dataclass(frozen=True)
class Job:
    """What all units have in common: the settled layout as a source's units see it, its plan, the
    folder for what they write, how a source is opened, and the headers of each source. Of each kind
    of problem a unit tells `kept` rows; where rows are set `apart`, ragged ones are no problem."""

    layout: Layout
    plan: Plan
    folder: str
    opener: Opener
    headers: dict[str, tuple[str, ...]]
    kept: int = KEPT_PROBLEMS
    apart: bool = False


@dataclass
class ProblemRows:
    """A problem, or some of it, as plain data: what `normalize.problems.Problem` has; `rows` are
    (place, reason) of the first ones, of `total`, and `values` what their cells have; `origins` are
    (file, sheet, row, reason) of rows that are no records; `suggested` (place, header, value) what
    cells may have been meant to say."""

    kind: str
    source: str
    headers: list[str]
    remedy: str
    table: str
    severity: str
    decide: dict[str, str]
    rows: list[tuple[int, str]]
    total: int
    origins: list[tuple[str, str, int, str]] = field(default_factory=list)
    values: list[str] = field(default_factory=list)
    suggested: list[tuple[int, str, str]] = field(default_factory=list)
    of_all: bool = False


@dataclass
class FileStaged:
    """A file, or a part of one, of a unit: its place, what the telling column has for it, how it is
    read (JSON, in the layout's keys), its bytes, their fingerprint, and its rows as read, of which
    some are left out; of a block, where it begins and ends. `as_read` is the fingerprint that the
    reader of a whole file tells."""

    place: str
    told: str
    reading: str
    bytes: int
    fingerprint: str
    rows: int
    left_out: int
    start: int = 0
    end: int = 0
    as_read: str = ""


@dataclass
class Staged:
    """What became of a unit: its rows as read, those that remain, the file they are in, the rows
    that the layout leaves out, the cells that it changes by header, its problems; its files, and
    its rows: (first record, file, sheet, row), for each run of rows without a gap; and the `ragged`
    rows, where such are set apart."""

    unit: int
    read: int
    rows: int
    file: str
    left_out: int
    changed: dict[str, int]
    problems: list[ProblemRows]
    files: list[FileStaged]
    runs: list[tuple[int, str, str, int]]
    how: str = ""
    ragged: list[RaggedRow] = field(default_factory=list)

    @classmethod
    def of(cls, text: str) -> Staged:
        """From what `text` gives."""
        said = json.loads(text)
        said["problems"] = [ProblemRows(**p) for p in said["problems"]]
        said["files"] = [FileStaged(**f) for f in said["files"]]
        said["ragged"] = [RaggedRow(*r) for r in said["ragged"]]
        return cls(**said)

    def text(self) -> str:
        """As text."""
        return json.dumps(asdict(self))


def in_executor(work: Callable[[int], str]) -> Callable[[Iterator[pa.RecordBatch]], Iterator[Any]]:
    """A task that does some work for each number it gets, and gives what that says; an error of our
    own is sent to the driver as such."""

    def task(batches: Iterator[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
        for batch in batches:
            for number in batch.column(0).to_pylist():
                with errors_to_driver():
                    said = work(number)
                yield pa.RecordBatch.from_arrays(
                    [pa.array([number]), pa.array([said])], names=["id", "said"]
                )

    return task


@contextmanager
def errors_to_driver() -> Iterator[None]:
    """Sends an error of our own to the driver as what it is (see `session.error_from_executor`)."""
    try:
        yield
    except KerfmarkError as error:
        said = {
            "kind": type(error).__name__,
            "what": error.what,
            "code": error.code,
            "why": error.why,
            "next": error.next,
            "origin": vars(error.origin) if error.origin else None,
            "more": list(error.more),
            "total": error.total,
        }
        raise RuntimeError(MARK + base64.b64encode(json.dumps(said).encode()).decode()) from error


def stage(job: Job, unit: Unit, without: Sequence[int] = ()) -> Staged:
    """Reads a unit and writes its cells; `without` some records (as read). Raises what reading
    raises."""
    with unit_read(job, unit) as encoded:
        return staged(job, unit, encoded, without)


def cells_told(job: Job, unit: Unit, cells: Sequence[tuple[int, Sequence[str]]]) -> list[str]:
    """Reads a unit again for what some of its records (as read) have under some headers."""
    with unit_read(job, unit) as encoded:
        return texts_of(encoded, cells)


def fingerprint_as_read(job: Job, unit: Unit) -> str:
    """The fingerprint that the reader of a whole file tells, of one that was read in blocks."""
    whole = replace(unit, start=0, end=0, above=0, size=0)
    with _place_of(whole) as place:
        source = job.opener(_with_place(job.layout, whole, place), unit.source, Path())
        [part] = parts_of(source)
        inner = unwrapped(part)
        assert isinstance(inner, DelimitedSource)
        return inner.fingerprint()


def texts_of(encoded: EncodedSource, cells: Sequence[tuple[int, Sequence[str]]]) -> list[str]:
    """What some records (as read) of a source have under some headers."""
    there = {*encoded.headers}
    return [
        " + ".join(encoded.text(header, record) for header in headers if header in there)
        for record, headers in cells
    ]


@contextmanager
def unit_read(job: Job, unit: Unit) -> Iterator[EncodedSource]:
    """What a unit says."""
    with _place_of(unit) as place:
        yield _encoded(job, _with_place(job.layout, unit, place), unit)


@contextmanager
def _place_of(unit: Unit) -> Iterator[str]:
    """A file of this machine with what is a unit's own."""
    system, path = filesystem(unit.place)
    with tempfile.TemporaryDirectory(prefix="kerfmark-") as folder:
        if unit.is_block:
            path = str(_copied(Path(folder), unit.place, bytes_of_block(unit)))
        elif "://" in unit.place:
            with system.open_input_stream(path) as file:
                path = str(_copied(Path(folder), unit.place, file.read()))
        yield path


def _copied(folder: Path, place: str, data: bytes) -> Path:
    """A file with some bytes, below a folder, called as at its place, whose folders it keeps."""
    parts = [p for p in place.split("://")[-1].split("/") if p not in ("", ".", "..")]
    path = folder.joinpath(*parts)
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(data)
    return path


def _with_place(layout: Layout, unit: Unit, place: str) -> Layout:
    """The layout in which a source is this one file."""
    spec = unit.spec
    spec = (
        spec.model_copy(update={"parts": (spec.parts[0].model_copy(update={"file": place}),)})
        if spec.parts
        else spec.model_copy(update={"file": place})
    )
    return layout.model_copy(update={"sources": {**layout.sources, unit.source: spec}})


def _encoded(job: Job, layout: Layout, unit: Unit) -> EncodedSource:
    source = job.opener(layout, unit.source, Path())
    wanted, may_lack = job.headers[unit.source], layout.sources[unit.source].may_lack
    if lost := [h for h in wanted if h not in source.headers and h not in may_lack]:
        raise SourceError(
            "the files of one source do not have the same columns",
            code="source.shape",
            origin=Origin(unit.place),
            why="; ".join(f'"{h}" is missing' for h in lost),
            next="give it a source of its own in the layout, or correct its header",
        )
    if more := [h for h in source.headers if h not in wanted]:
        raise SourceError(
            "the files of one source do not have the same columns",
            code="source.shape",
            origin=Origin(unit.place),
            why="; ".join(f'"{h}" is new' for h in more),
            next="give it a source of its own in the layout, or correct its header",
        )
    # whether there are any rows is asked of all units together
    return encode(with_changes(source, may_be_empty=True), strict=False)


def staged(job: Job, unit: Unit, encoded: EncodedSource, without: Sequence[int] = ()) -> Staged:
    """Writes the cells of a source that is encoded, `without` some records (as read)."""
    problems = Problems()
    ready = Prepared(job.layout, unit.source, encoded, np.array(without, np.int64))
    feed = SourceTables(job.layout, ready, problems)
    feed.check_rows(job.plan)
    for problem in unreadable({unit.source: encoded}, ragged=not job.apart):
        problems.add(problem)
    cells = job.plan.cells[unit.source]
    file = ""
    if ready.rows:
        file = file_of(job, unit)
        _write(file, ready, cells, unit)
    headers = [h for h in encoded.source.headers if h in {c.header for c in encoded.columns}]
    return Staged(
        unit.number,
        encoded.read,
        ready.rows,
        file,
        ready.left_out,
        {
            h: n
            for h in headers
            if (at := job.layout.column_of(unit.source, h)) and (n := ready.changed(h, at[1]))
        },
        [_told(p, unit, job.kept) for p in problems.found],
        list(files_of(ready, encoded, unit)),
        runs_of(encoded, unit),
        encoded.source.how,
        [r._replace(row=r.row + row_offset(unit)) for r in encoded.found.ragged]
        if job.apart
        else [],
    )


def file_of(job: Job, unit: Unit, what: str = "source") -> str:
    """A file for what is written of a unit: each attempt has its own."""
    # a name of a source may be anything, and so is not the name of a folder
    which = list(job.plan.cells).index(unit.source)
    return f"{job.folder}/{what}-{which}/{unit.number:06}-{uuid.uuid4().hex[:12]}.parquet"


def _write(file: str, ready: Prepared, cells: tuple[Cell, ...], unit: Unit) -> None:
    rows = ready.rows
    columns: dict[str, pa.Array] = {
        "_at": places_of(ready.encoded, unit),
        "_n": pa.array(np.arange(rows, dtype=np.int64)),
    }
    unfit: dict[int, list[str]] = {}
    for cell in cells:
        columns[cell.name] = for_engine(cell_values(ready, cell))
        if cell.form == "value" and columns[cell.name].null_count:
            filled = ready.column(cell.header, cell.spec).codes >= 0
            lost = columns[cell.name].is_null().to_numpy(zero_copy_only=False) & filled
            for row in np.flatnonzero(lost).tolist():
                unfit.setdefault(row, []).append(cell.name)
    columns["_unfit"] = (
        pa.array([unfit.get(row) for row in range(rows)], pa.list_(pa.string()))
        if unfit
        else pa.nulls(rows, pa.list_(pa.string()))
    )
    write_rows(file, columns)


def places_of(encoded: EncodedSource, unit: Unit) -> pa.Array:
    """The place of each row of a unit."""
    records = encoded.records
    at = (np.arange(encoded.rows) if records is None else records) + (unit.number << PLACE_BITS)
    return pa.array(at.astype(np.int64))


def write_rows(file: str, columns: dict[str, pa.Array]) -> None:
    """Writes rows where the cluster's engine reads them."""
    system, path = to_write(file)
    with system.open_output_stream(path) as out:
        pq.write_table(pa.table(columns), out, row_group_size=_GROUP, compression="zstd")


def cell_values(ready: Prepared, cell: Cell) -> pa.Array:
    """A cell of all rows."""
    spec = cell.spec
    if cell.form == "holds":
        return pa.array(ready.holds(cell.header))
    if cell.form == "derived":
        (values, codes), _ = ready.derived(spec)
    elif cell.form == "text":
        column = ready.column(cell.header, spec)
        values, codes = column.values, column.codes
    elif cell.form == "value":
        values, codes = ready.typed(cell.header, spec), ready.column(cell.header, spec).codes
    else:
        return _lists(ready, cell)
    return values.take(pa.array(codes, mask=codes < 0))


def _lists(ready: Prepared, cell: Cell) -> pa.Array:
    """The parts of a cell, of all rows."""
    header, _, split = (
        cell.split.partition("\n")
        if cell.form == "derived parts"
        else (cell.header, "", cell.split)
    )
    parts, codes, starts = split_cells(ready.column(header), split)
    if cell.form == "derived parts":
        (values, of_parts), _ = ready.derived_of_parts(cell.spec, header, parts)
        values = values.take(pa.array(of_parts, mask=of_parts < 0))
    else:
        values = to_typed(parts, cell.spec.of_type)
    record, _, at = parts_of_records(ready.column(header).codes, starts)
    offsets = np.append(0, np.cumsum(np.bincount(record, minlength=ready.rows)))
    return pa.ListArray.from_arrays(
        pa.array(offsets.astype(np.int32)), values.take(pa.array(codes[at]))
    )


def for_engine(values: pa.Array) -> pa.Array:
    """Values in a type that the cluster's engine has."""
    if pa.types.is_list(values.type):
        return pa.ListArray.from_arrays(values.offsets, for_engine(values.values))
    if pa.types.is_timestamp(values.type):
        return pc.cast(values, pa.timestamp("us"))
    return pc.cast(values, pa.int32()) if pa.types.is_time(values.type) else values


def _told(problem: Problem, unit: Unit, kept: int) -> ProblemRows:
    """A problem as plain data, with so many rows."""
    base = unit.number << PLACE_BITS
    first = problem.records[:kept].tolist()
    offset = row_offset(unit)
    return ProblemRows(
        problem.kind,
        problem.source,
        list(problem.headers),
        problem.remedy,
        problem.table,
        problem.severity,
        dict(problem.decide),
        [(base + r, problem.why(r)) for r in first],
        problem.total,
        [
            (Path(o.file).name, o.sheet or "", (o.row or 0) + offset, why)
            for o, why in problem.places[:kept]
        ],
        [],
        [(base + r, *found) for r in first if (found := problem.suggestion(r))],
    )


def files_of(ready: Prepared, encoded: EncodedSource, unit: Unit) -> Iterator[FileStaged]:
    """The files of a unit. What rules of reading pass over is left out as well; what is set aside
    is not."""
    read = np.arange(encoded.rows) if encoded.records is None else encoded.records
    parts, source = encoded.parts(), encoded.source
    told = source.told if isinstance(source, UnionSource) else [""] * len(parts)
    start = 0
    for (part, found, rows), said in zip(parts, told, strict=True):
        ends = [start, start + rows]
        kept, dropped = (np.diff(np.searchsorted(r, ends)) for r in (read, ready.left_out_records))
        left_out = rows - int(kept[0]) + int(dropped[0])
        start += rows
        place = unit.place if len(parts) == 1 else part.location
        size, print_ = found.size, found.fingerprint
        if is_file(place):  # what has no bytes of its own, such as a table, is known by its rows
            size = (unit.end or size_of(place)) - unit.start
            print_ = fingerprint_of(place, unit.start, unit.start + size)
        reading = json.dumps(part.settings() | part.rules.settings(), ensure_ascii=False)
        yield FileStaged(
            place,
            said,
            reading,
            size,
            print_,
            rows,
            left_out,
            unit.start,
            unit.end,
            "" if unit.is_block else found.fingerprint,
        )


def first_row(unit: Unit) -> int:
    """The row of the first record of a file, as a person counts."""
    spec = unit.spec
    return spec.header_row + spec.header_rows if spec.header_row else 1


def row_offset(unit: Unit) -> int:
    """How many rows of its file are before those that a block has by itself."""
    return unit.before - first_row(unit) + 1 if unit.is_block and unit.start else 0


def runs_of(encoded: EncodedSource, unit: Unit) -> list[tuple[int, str, str, int]]:
    """The rows of a unit's records, as runs without a gap."""
    out: list[tuple[int, str, str, int]] = []
    offset = row_offset(unit)
    start = 0
    for _, found, count in encoded.parts():

        def row(record: int, place: Callable[..., Origin] = found.origin) -> int:
            return place(record, None).row or 0

        def between(low: int, high: int) -> None:
            """Adds where runs begin after `low`, up to `high`."""
            if row(high) - row(low) == high - low or len(out) > _BREAKS:
                return
            if high - low == 1:
                at = found.origin(high, None)  # noqa: B023
                out.append((start + high, at.file, at.sheet or "", (at.row or 0) + offset))  # noqa: B023
                return
            middle = (low + high) // 2
            between(low, middle)
            between(middle, high)

        if count:
            at = found.origin(0, None)
            out.append((start, at.file, at.sheet or "", (at.row or 0) + offset))
            between(0, count - 1)
        start += count
    return out
