"""What is in sources that are too large for one machine: executors read them and put equal values
together, and answer what the driver asks of the values of each column (`values_there`)."""

from __future__ import annotations

import functools
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import partial
from typing import TYPE_CHECKING, Any

import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.cluster.build import SourceFiles, in_tasks, prepare, units_of
from kerfmark.cluster.files import size_of
from kerfmark.cluster.frames import AT, col, glob_escaped
from kerfmark.cluster.measured_rows import UnitMeasured, measured_unit, row_digests
from kerfmark.cluster.problems import Places
from kerfmark.cluster.staging import Job, Opener
from kerfmark.cluster.value_files import PartWritten, part_of_all
from kerfmark.cluster.values_there import Parts, ask_the_usual
from kerfmark.layout.model import Layout
from kerfmark.plan.model import Plan
from kerfmark.profile.encode import TOLD
from kerfmark.profile.not_data import GroupHeads, blank_below, grouped_columns
from kerfmark.profile.recognise import blank_spellings, is_padded
from kerfmark.profile.values import FIRST, Matching, SourceValues
from kerfmark.progress import Progress
from kerfmark.read.source import RaggedRow, Remark, Source

if TYPE_CHECKING:
    from pyspark.sql import SparkSession

PART = 64 << 20
"""Bytes of files for each part of their values (see `value_files`)."""
PARTS = 1_000
"""Parts that there are at most: each unit's file is read once for each of them."""
PACKED = 10
"""How many times its size a file may hold that is not cut into blocks."""


class Measured:
    """Sources (by name), read by the executors, which have their files in `distributed`; the first
    `rows` rows of each are kept. `staging` is for what is needed on the way."""

    def __init__(
        self,
        session: SparkSession,
        sources: Mapping[str, Source],
        layout: Layout,
        opener: Opener,
        distributed: Mapping[str, SourceFiles],
        rows: int,
        staging: str,
        progress: Progress,
    ) -> None:
        self.session, self.sources, self.staging = session, sources, staging
        self.progress = progress
        headers = {n: tuple(s.headers) for n, s in sources.items()}
        self.job = Job(layout, Plan({}, (), dict.fromkeys(sources, ())), staging, opener, headers)
        self.units = units_of(session, staging, distributed, progress)
        size = sum(u.end - u.start or PACKED * size_of(u.place) for u in self.units)
        prepare(session, size)
        self.parts = min(size // PART + 1, PARTS)
        self.read: dict[str, list[UnitMeasured]] = {n: [] for n in sources}
        work = partial(measured_unit, self.job, rows, self.parts)
        said = in_tasks(session, staging, self.units, work, "reading", progress)
        for unit, text in zip(self.units, said, strict=True):
            self.read[unit.source].append(UnitMeasured.of(text))
        self.places = Places({u.unit: u.runs for units in self.read.values() for u in units})

    def rows(self, name: str) -> int:
        """How many rows a source has."""
        return sum(u.rows for u in self.read[name])

    def first_rows(self, name: str, most: int, trim: bool) -> tuple[tuple[str | None, ...], ...]:
        """The first rows of a source, without spaces at the ends of cells if they are to be."""
        rows = [r for u in self.read[name] for r in u.first][:most]
        if not trim:
            return tuple(map(tuple, rows))
        bare = [pc.utf8_trim_whitespace(pa.array(r, pa.string())).to_pylist() for r in rows]
        return tuple(tuple(cell or None for cell in row) for row in bare)

    def source(self, name: str) -> tuple[SourceValues, bool]:
        """What is asked of a source, and whether its cells are padded with spaces, which are not
        there then."""
        units, rows = self.read[name], self.rows(name)
        parts = self._parts(name)
        about = self.job.headers[name], rows, self.sources[name].spells_numbers
        columns = parts.columns(*about)
        below = [*self._blank_below(name, columns[0].count)]
        if padded := is_padded([c.telling for c in columns]):
            columns = parts.bare().columns(*about)
        blanks = blank_spellings([c.telling for c in columns])
        if blanks:
            columns = [c.without(blanks) for c in columns]
        ask_the_usual(columns)
        at = self.sources[name].origin

        def origin(place: int | None, header: str | None) -> Any:
            return at(header) if place is None else self.places.origin(place, header or "")

        ragged = [r for u in units for r in u.ragged_rows]
        values = SourceValues(
            columns,
            rows,
            origin,
            [*_together(u.remarks for u in units), *below],
            sum(u.ragged for u in units),
            _first_and_one_of_several(ragged),
            lambda: self._repeated(name, padded, blanks),
        )
        return values, padded

    def _blank_below(self, name: str, values: int) -> Iterator[Remark]:
        """What is told of columns that are filled once in each group of rows, if there are any; the
        first column has so many values."""
        units, rows = self.read[name], self.rows(name)
        heads = functools.reduce(GroupHeads.then, [u.heads for u in units])
        cells = [
            (sum(filled for filled, _ in some), sum(beside for _, beside in some))
            for some in zip(*[u.cells for u in units], strict=True)
        ]
        if len(cells) > 1 and heads.show_groups(values):
            grouped = [self.job.headers[name][i] for i in grouped_columns(rows, cells)]
            if grouped:
                yield blank_below(grouped, [r for u in units for r in u.blank][:TOLD], heads.blank)

    def _parts(self, name: str) -> Parts:
        """The values of a source, in parts, equal ones of a column as one."""

        def tasks(files: Sequence[str], work: Callable[[str], str]) -> list[str]:
            what = f"looking at {self.sources[name].name}"
            return in_tasks(self.session, self.staging, files, work, what, self.progress)

        files = [u.file for u in self.read[name] if u.file]
        width = len(self.job.headers[name])
        work = partial(part_of_all, self.staging, files, width, self.parts)
        what = f"finding equal values in {self.sources[name].name}"
        said = in_tasks(self.session, self.staging, [*range(self.parts)], work, what, self.progress)
        return Parts([PartWritten.of(text) for text in said], self.staging, tasks)

    def _repeated(self, name: str, trim: bool, blanks: Sequence[str]) -> Matching:
        """The rows that are the same as an earlier one: sources are read once more."""
        from pyspark.sql import functions as F

        units = [u for u in self.units if u.source == name]
        work = partial(row_digests, self.job, trim, blanks)
        said = in_tasks(
            self.session, self.staging, units, work, "looking for equal rows", self.progress
        )
        files = [glob_escaped(f) for f in said if f]
        rows = self.session.read.schema(f"low bigint, high bigint, {AT} bigint").parquet(*files)
        groups = (
            rows.groupBy("low", "high")
            .agg(F.count(F.lit(1)).alias("n"), F.min(AT).alias("first"))
            .where(col("n") > 1)
        )
        total = groups.agg(F.sum("n"), F.count(F.lit(1))).collect()[0]
        if not total[1]:
            return Matching(0, (), ())
        again = rows.join(groups, ["low", "high"]).where(col(AT) > col("first"))
        first = again.select(AT).orderBy(AT).limit(FIRST).collect()
        return Matching(int(total[0] - total[1]), (), tuple(int(r[AT]) for r in first))


def _together(remarks: Iterable[Sequence[Remark]]) -> list[Remark]:
    """What was noticed in units, the same of several as one."""
    found: dict[tuple[object, ...], Remark] = {}
    for one in (r for some in remarks for r in some):
        key = one.severity, one.header, one.what, one.next
        known = found.get(key)
        rows = (*(known.rows if known else ()), *one.rows)
        total = (known.total if known else 0) + one.total
        found[key] = Remark(one.severity, one.header, one.what, rows, total, one.next)
    return list(found.values())


def _first_and_one_of_several(rows: Sequence[RaggedRow]) -> list[RaggedRow]:
    """The first ragged rows, and one with several fields, if there is one."""
    several = next((r for r in rows[FIRST:] if r.fields != 1), None)
    return [*rows[:FIRST], *([several] if several else [])]
