"""The tables as they are published: in their order, links as the keys that they lead to, written by
the executors as Parquet files of so many records each. Which records are in which file depends on
their numbers alone, not on the machines."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq
import xxhash

from kerfmark.cluster.files import filesystem, to_write
from kerfmark.cluster.frames import ID, ID_BITS, col, glob_escaped, joined, numbered, uri
from kerfmark.cluster.staging import errors_to_driver
from kerfmark.cluster.steps import PlanResult, Steps
from kerfmark.errors import KerfmarkError
from kerfmark.layout.model import Layout

if TYPE_CHECKING:
    from pyspark.sql import Column, DataFrame

RECORDS = 1 << 20
"""Records of a file."""
_GROUP = 131_072
_SORTED_BITS = 33
"""Bits of what the engine numbers sorted rows with that are not the partition."""


@dataclass(frozen=True)
class FileWritten:
    """A file of a table: its place, records, bytes, and the fingerprint of these."""

    file: str
    rows: int
    bytes: int
    fingerprint: str


@dataclass(frozen=True)
class Shape:
    """The columns of a table as it is published: names, types of values, and whether each may be
    blank."""

    names: tuple[str, ...]
    types: tuple[pa.DataType, ...]
    optional: tuple[bool, ...]

    @property
    def schema(self) -> pa.Schema:
        """The same as the schema of its files."""
        fields = zip(self.names, self.types, self.optional, strict=True)
        return pa.schema([pa.field(n, t, o) for n, t, o in fields])


def put_in_order(steps: Steps, done: PlanResult, folder: str) -> None:
    """Numbers the records of tables that have an order anew, and what leads to them."""
    from pyspark.sql import functions as F

    for name, table in done.tables.items():
        if not table.step.order:
            continue
        by: list[Column] = []
        for said in table.step.order:
            column = col(table.columns[said.removeprefix("-")])
            by.append(
                F.desc_nulls_last(column) if said.startswith("-") else F.asc_nulls_last(column)
            )
        place = f"{folder}/order-{list(done.tables).index(name)}"
        # what numbers depend on is written, so that no part of it can be made anew in another order
        ranked = table.frame.orderBy(*by, F.asc(ID)).select(
            col(ID).alias("_old"), F.monotonically_increasing_id().alias("_rank_of_all")
        )
        ranked.write.parquet(uri(place))
        numbers = numbered(
            steps.session.read.parquet(glob_escaped(place)),
            ["_rank_of_all"],
            _SORTED_BITS,
            name="_new",
        ).select("_old", "_new")
        numbers = steps.written(numbers)
        table.frame = _renumbered(table.frame, ID, numbers)
        for other in done.tables.values():
            for link, step in other.step.links.items():
                if step.spec.to == name:
                    other.frame = _renumbered(other.frame, other.links[link], numbers)
            if other.step.owner == name:
                owner = next(n for n, link in other.step.links.items() if link.owner)
                again = numbered(other.frame, [other.links[owner], ID], ID_BITS, name="_new")
                other.frame = steps.written(again.drop(ID).withColumnRenamed("_new", ID))


def _renumbered(frame: DataFrame, column: str, numbers: DataFrame) -> DataFrame:
    return joined(frame, numbers, {column: "_old"}, {"_new": column})


def published(layout: Layout, done: PlanResult, name: str) -> tuple[DataFrame, Shape]:
    """A table with its columns as they are published, named `o0`, `o1` ..., and `_id`."""
    table = done.tables[name]
    frame, out = table.new, list[tuple[str, str, pa.DataType, bool]]()
    optional = {*table.optional}
    if layout.has_generated_key(name):
        out.append((layout.key_of(name), ID, pa.int64(), False))
    for i, (link, step) in enumerate(table.step.links.items()):
        parent, blank = step.spec.to, link in optional
        if layout.has_generated_key(parent):
            out.append((link, table.links[link], pa.int64(), blank))
            continue
        keys, types = _keys_of(layout, done, parent)
        pairs = layout.link_columns(name, link)
        take = {key: f"n{i}_{j}" for j, (_, key) in enumerate(pairs)}
        frame = joined(
            frame.withColumn(f"_to{i}", col(table.links[link])), keys, {f"_to{i}": ID}, take
        )
        out += [(own, take[key], types[key], blank) for own, key in pairs]
    counted = layout.counted(name)
    for column, column_step in table.step.columns.items():
        if column != counted:
            blank = column in optional or bool(column_step.spec.instead_of)
            type_ = column_step.spec.of_type.arrow
            out.append((column, table.columns[column], type_, blank))
    whole = frame.select(
        col(ID), *[col(inner).alias(f"o{i}") for i, (_, inner, _, _) in enumerate(out)]
    )
    names, _, types_, blanks = zip(*out, strict=True)
    return whole, Shape(names, types_, blanks)


def _keys_of(
    layout: Layout, done: PlanResult, name: str
) -> tuple[DataFrame, dict[str, pa.DataType]]:
    """The records of a table without a generated key, with the columns of their keys."""
    table = done.tables[name]
    spec = layout.tables[name]
    assert not isinstance(spec.key, str)
    frame, columns, types = table.frame, dict[str, str](), dict[str, pa.DataType]()
    for key in spec.key:
        if key in spec.columns:
            columns[key], types[key] = table.columns[key], spec.columns[key].of_type.arrow
            continue
        parent = spec.links[key].to
        if layout.has_generated_key(parent):
            columns[key], types[key] = table.links[key], pa.int64()
            continue
        further, more = _keys_of(layout, done, parent)
        pairs = layout.link_columns(name, key)
        take = {k: f"_{own}" for own, k in pairs}
        frame = joined(frame.withColumn("_to", col(table.links[key])), further, {"_to": ID}, take)
        columns |= {own: take[k] for own, k in pairs}
        types |= {own: more[k] for own, k in pairs}
    return frame.select(col(ID), *[col(c).alias(k) for k, c in columns.items()]), types


def write_table(
    frame: DataFrame, shape: Shape, folder: str, tasks: int, before: int = 0
) -> list[FileWritten]:
    """Writes a table's records (see `published`), which come after so many that were there before,
    below a folder, in order of `_id`."""
    from pyspark.sql import functions as F

    bucket = F.shiftright(col(ID) - 1, RECORDS.bit_length() - 1)
    sorted_ = (
        frame.withColumn("_file", bucket)
        .repartition(max(tasks, 1), "_file")
        .sortWithinPartitions(ID)
    )
    schema = "file string, rows bigint, bytes bigint, fingerprint string"
    system, path = filesystem(folder)
    system.create_dir(path, recursive=True)  # executors make no folder of a load that is given up
    written = sorted_.mapInArrow(_writer(shape, folder, before), schema).collect()
    return [FileWritten(*row) for row in sorted(written)]


def _writer(
    shape: Shape, folder: str, before: int
) -> Callable[[Iterator[pa.RecordBatch]], Iterator[pa.RecordBatch]]:
    """A task that writes sorted records, a file for each number in `_file`."""

    def task(batches: Iterator[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
        with errors_to_driver():
            yield from files(batches)

    def files(batches: Iterator[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
        current: int | None = None
        waiting: list[pa.RecordBatch] = []
        for batch in batches:
            numbers = batch.column(batch.schema.get_field_index("_file"))
            for number in pc.unique(numbers).to_pylist():
                if current is not None and number != current:
                    yield _file_written(shape, folder, current, waiting, before)
                    waiting = []
                current = number
                waiting.append(batch.filter(pc.equal(numbers, number)))
        if current is not None:
            yield _file_written(shape, folder, current, waiting, before)

    return task


def _file_written(
    shape: Shape, folder: str, number: int, batches: Sequence[pa.RecordBatch], before: int
) -> pa.RecordBatch:
    whole = pa.Table.from_batches(batches).combine_chunks()
    start = max(number * RECORDS, before) + 1
    if not np.array_equal(whole.column(ID).to_numpy(), np.arange(start, start + len(whole))):
        raise KerfmarkError(
            "the records of a table are not numbered one after the other; nothing was published",
            code="internal",
            why=f"in those from {start:,} on",
            next="this is a fault of Kerfmark: please report it",
        )
    columns = [as_published(whole.column(f"o{i}"), type_) for i, type_ in enumerate(shape.types)]
    table = pa.Table.from_arrays(columns, schema=shape.schema)
    name = f"{number + 1:06}.parquet"
    buffer = pa.BufferOutputStream()
    pq.write_table(table, buffer, row_group_size=_GROUP, compression="zstd")
    data = buffer.getvalue()
    system, path = to_write(f"{folder}/{name}")
    # a task that is tried again writes the same bytes under the same name
    with system.open_output_stream(path) as out:
        out.write(data)
    print_ = xxhash.xxh3_128(data).hexdigest()
    return pa.RecordBatch.from_arrays(
        [pa.array([name]), pa.array([len(table)]), pa.array([data.size]), pa.array([print_])],
        names=["file", "rows", "bytes", "fingerprint"],
    )


def as_published(values: Any, type_: pa.DataType) -> Any:
    """Values as the engine has them, in the type that is published (see `staging.for_engine`)."""
    if pa.types.is_time(type_):
        return pc.cast(pc.cast(values, pa.int32()), type_)
    return pc.cast(values, type_)
