"""What a folder has already, for rows that are added to it: the records of its tables as frames,
which the executors read from its files. Only the columns that a plan asks for are given, and only
of the tables that it asks anything of."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from itertools import accumulate
from typing import TYPE_CHECKING

import numpy as np
import pyarrow as pa

from kerfmark.cluster.folder import Part, TableSet, read_part
from kerfmark.cluster.frames import AT, ID, col, engine_type, joined, local_frame
from kerfmark.cluster.staging import errors_to_driver, for_engine
from kerfmark.layout.model import Layout
from kerfmark.plan.model import Plan, TableStep
from kerfmark.profile.types import parse_type

if TYPE_CHECKING:
    from pyspark.sql import DataFrame, SparkSession

_ROWS = 65_536


class Existing:
    """The tables of the folder `place`, whose files are those of `sets`; `plan` is that of the rows
    of the sources `fed` that are added. What is `needed` of a table is read once, and kept."""

    def __init__(
        self,
        session: SparkSession,
        layout: Layout,
        plan: Plan,
        fed: Collection[str],
        sets: Mapping[str, TableSet],
        place: str,
    ) -> None:
        self.session, self.layout, self.plan, self.sets = session, layout, plan, sets
        self.place, self.needed = place, needed(layout, plan, fed)
        self._kept: dict[str, DataFrame] = {}

    def release(self) -> None:
        """Gives up what the cluster keeps."""
        for frame in self._kept.values():
            frame.unpersist()

    def rows(self, name: str) -> int:
        """How many records a table has."""
        return self.sets[name].rows

    def frame(self, name: str, wanted: Collection[str]) -> DataFrame:
        """The records of a table: `_id`, `_at` (blank), and those of its columns and links that are
        `wanted`, called as in `steps.Table`."""
        step, all_of_it = self.plan.tables[name], self.needed[name]
        if name not in self._kept:
            self._kept[name] = self.read(name, all_of_it).persist()
        whole = self._kept[name]
        if all_of_it <= {*wanted}:
            return whole
        places = {n: f"v{i}" for i, n in enumerate(step.columns)}
        places |= {n: f"k{i}" for i, n in enumerate(step.links)}
        return whole.select(ID, AT, *[places[n] for n in places if n in wanted])

    def read(self, name: str, wanted: Collection[str]) -> DataFrame:
        """See `frame`; whether a build needs them or not."""
        from pyspark.sql import functions as F

        step, counted = self.plan.tables[name], self.layout.counted(name)
        links = [n for n in step.links if n in wanted]
        columns = [n for n in step.columns if n in wanted and n != counted]
        pairs = {n: self.layout.link_columns(name, n) for n in links}
        stored = [*columns, *(own for n in links for own, _ in pairs[n])]
        frame, called = self._stored(name, stored)
        shown = [col(ID), F.lit(None).cast("bigint").alias(AT)]
        for i, column in enumerate(step.columns):
            if column in wanted:
                shown.append(col(ID if column == counted else called[column]).alias(f"v{i}"))
        for i, link in enumerate(step.links):
            if link not in wanted:
                continue
            parent = step.links[link].spec.to
            if self.layout.has_generated_key(parent):
                shown.append(col(called[pairs[link][0][0]]).alias(f"k{i}"))
                continue
            keys, theirs = self._stored(parent, [key for _, key in pairs[link]])
            same = {called[own]: theirs[key] for own, key in pairs[link]}
            frame = joined(frame, keys, same, {ID: f"k{i}"})
            shown.append(col(f"k{i}"))
        return frame.select(*shown)

    def identities(self, name: str, columns: Sequence[str] = ()) -> DataFrame:
        """The records of a table of records: `_id`, the cells by which rows are told to be about
        them, and some `columns`."""
        step, spec = self.plan.tables[name], self.layout.tables[name]
        frame = self.frame(name, {*spec.known_by, *columns})
        places = {n: f"v{i}" for i, n in enumerate(step.columns)}
        cells: dict[str, str] = {}  # of the identity, by what they are called in the frame
        for key in spec.known_by:
            if key in step.columns:
                cells.setdefault(step.columns[key].cells[0].name, places[key])
                continue
            link, to = step.links[key], f"k{[*step.links].index(key)}"
            if link.spec.by:
                of_header = {c.header: c.name for c in link.identity.cells}
                for path, header in link.spec.by.items():
                    frame = self._with_value(frame, to, link.spec.to, path, of_header[header])
            else:
                parent = self.identities(link.spec.to)
                take = {c.name: c.name for c in link.identity.cells}
                frame = joined(frame, parent, {to: ID}, take)
            for cell in link.identity.cells:
                cells.setdefault(cell.name, cell.name)
        return frame.select(
            col(ID),
            *[col(place).alias(cell) for cell, place in cells.items()],
            *[col(places[c]) for c in columns],
        )

    def _with_value(
        self, frame: DataFrame, to: str, parent: str, path: str, name: str
    ) -> DataFrame:
        """A frame with what the records that a column leads `to` have at a path of columns."""
        own, _, further = path.partition(".")
        step = self.plan.tables[parent]
        there = self.frame(parent, {own})
        if not further:
            place = f"v{[*step.columns].index(own)}"
            return joined(frame, there, {to: ID}, {place: name})
        place = f"k{[*step.links].index(own)}"
        frame = joined(frame, there, {to: ID}, {place: f"{name}_to"})
        return self._with_value(frame, f"{name}_to", step.links[own].spec.to, further, name)

    def _stored(self, name: str, wanted: Collection[str]) -> tuple[DataFrame, dict[str, str]]:
        """Columns of a table as its files have them, with `_id`; and what each is called in the
        frame."""
        called = {c: f"s{i}" for i, c in enumerate(dict.fromkeys(wanted))}
        return stored(self.session, self.sets[name], self.place, called), called


def stored(
    session: SparkSession, table: TableSet, place: str, called: Mapping[str, str]
) -> DataFrame:
    """Columns of a table of the folder `place` as its files have them, as they are to be `called`,
    with `_id`. Raises TargetError, when it is looked into, where a file is not as it was
    written."""
    kinds = {c: parse_type(kind) for c, kind in table.columns}
    types = [f"s{i} {engine_type(kinds[c])}" for i, c in enumerate(called)]
    schema = ", ".join([f"{ID} bigint", *types])
    if not table.files:
        frame = local_frame(session, [], schema)
    else:
        firsts = [*accumulate((f.rows for f in table.files), initial=1)][:-1]
        task = _reader(place, table.files, firsts, {c: kinds[c].arrow for c in called})
        size = len(table.files)
        frame = session.range(0, size, 1, size).mapInArrow(task, schema)
    return frame.select(ID, *[col(f"s{i}").alias(n) for i, n in enumerate(called.values())])


def _reader(
    place: str, parts: Sequence[Part], firsts: Sequence[int], columns: Mapping[str, pa.DataType]
) -> Callable[[Iterator[pa.RecordBatch]], Iterator[pa.RecordBatch]]:
    """A task that reads the files whose numbers it gets; `firsts` are the numbers of their first
    records."""

    def task(batches: Iterator[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
        for batch in batches:
            for number in batch.column(0).to_pylist():
                with errors_to_driver():
                    table = read_part(place, parts[number], columns)
                ids = np.arange(firsts[number], firsts[number] + len(table), dtype=np.int64)
                for at in range(0, len(table), _ROWS):
                    some = table.slice(at, _ROWS)
                    values = [for_engine(some.column(c).combine_chunks()) for c in columns]
                    yield pa.RecordBatch.from_arrays(
                        [pa.array(ids[at : at + _ROWS]), *values],
                        names=[ID, *(f"s{i}" for i in range(len(columns)))],
                    )

    return task


def needed(layout: Layout, plan: Plan, fed: Collection[str]) -> dict[str, set[str]]:
    """What a plan asks of records that are there already when rows of some sources are added: the
    columns and links of each table of which anything is asked."""
    out: dict[str, set[str]] = {n: set() for n in plan.tables}

    def at(table: str, path: str) -> None:
        own, _, further = path.partition(".")
        out[table].add(own)
        if further:
            at(plan.tables[table].links[own].spec.to, further)

    growing = {n for n, step in plan.tables.items() if step.source in fed}
    for lookup in plan.lookups:
        if plan.tables[lookup.table].source in fed:
            growing.add(lookup.spec.to)
            for path in (*lookup.by, *lookup.repeats):
                at(lookup.spec.to, path)
    for name in growing:
        step = plan.tables[name]
        if step.source in fed and step.kind in ("records", "all parts"):
            out[name] |= {*step.columns, *step.links}
            for link in step.links.values():
                for path in link.spec.by if link.name in layout.tables[name].known_by else ():
                    at(link.spec.to, path)
            for link in step.links.values():  # what a message calls the other record
                out[link.spec.to] |= {*shown_by(layout, plan.tables[link.spec.to])}
        for unique in step.unique:
            out[name] |= {*unique}
        for link in step.links.values():
            _add_key(layout, link.spec.to, out)
    return {n: some for n, some in out.items() if some}


def shown_by(layout: Layout, step: TableStep) -> list[str]:
    """The column by which a message calls a record of a table, if there is one."""
    return [n for n in layout.tables[step.name].known_by if n in step.columns][:1]


def _add_key(layout: Layout, table: str, out: dict[str, set[str]]) -> None:
    """Adds the primary key of a table that is made of columns and links of its own, and those of
    the tables that these lead to."""
    spec = layout.tables[table]
    if isinstance(spec.key, str):
        return
    for part in spec.key:
        out[table].add(part)
        if part in spec.links:
            _add_key(layout, spec.links[part].to, out)
