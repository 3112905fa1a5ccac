"""A sample of sources that are too large for one machine: the driver asks the executors for rows
from which tables can be proposed, and for more of them where all rows refute what was proposed."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, Sequence
from functools import partial
from typing import TYPE_CHECKING, Any, TypeVar

import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.cluster.build import SourceFiles, in_tasks, units_of
from kerfmark.cluster.files import Unit
from kerfmark.cluster.frames import AT, col, glob_escaped, local_frame
from kerfmark.cluster.problems import Places
from kerfmark.cluster.sample_rows import (
    ALL_ROWS,
    WANTED,
    SampleWish,
    UnitSampled,
    count,
    rows_at,
    rows_like,
    sample,
    sampled,
    texts_under,
)
from kerfmark.cluster.staging import PLACE_BITS, Job, Opener, ProblemRows
from kerfmark.layout.model import Layout
from kerfmark.plan.model import Plan
from kerfmark.profile.encode import EncodedSource
from kerfmark.progress import Progress
from kerfmark.read.source import Batches, Found, Piece, Source
from kerfmark.read.wrapped import WrappedSource

if TYPE_CHECKING:
    from collections.abc import Generator

    from pyspark.sql import DataFrame, SparkSession

T = TypeVar("T")

ROWS = 200_000
"""Rows of all sources together of which a sample is made; fewer are taken as they are."""
LOOKED_AT = 8
"""Units whose rows are counted, to tell how many there are."""
MOST_FORMS = 200
"""Forms of a column's texts of which the extremes are taken."""
REPEATS = 10
"""Rows of a value that show what goes with it."""
OFTEN = 3
"""Rows of a value in a unit from which on it is thought to be in most units."""
ALIKE = 20
"""Rows of a unit that are taken beside one that refutes something."""


class SampledSource(WrappedSource):
    """A source of which only some rows are read: `rows` has their places and texts, and `places`
    tells where these are in the files (see `read.source.Source`)."""

    def __init__(self, part: Source, rows: pa.Table, places: Places) -> None:
        super().__init__(part, part.headers)
        self._rows, self._places = rows, places

    def map_batches(
        self, work: Callable[[pa.RecordBatch], T], *, workers: int = 2, strict: bool = True
    ) -> Batches:
        """Applies `work` to every batch of the rows."""
        return Batches(self._pieces(work))

    def _pieces(self, work: Callable[[pa.RecordBatch], T]) -> Generator[Piece, None, Found]:
        names = [f"t{i}" for i in range(len(self.headers))]
        first = 0
        for batch in self._rows.select(names).to_batches(max_chunksize=65_536):
            yield Piece(first, batch.num_rows, work(batch))
            first += batch.num_rows
        at = self._rows[AT]

        def place(record: int | None, header: str | None) -> Any:
            if record is None:
                return self.part.origin(header)
            return self._places.origin(at[record].as_py(), header or "")

        return Found("", self._rows.nbytes, place)


class Sample:
    """Rows of `sources` (by name), which executors read where `distributed` has their files, and
    `here` where this process has read them. `staging` is for what is needed on the way."""

    def __init__(
        self,
        session: SparkSession,
        sources: Mapping[str, Source],
        layout: Layout,
        opener: Opener,
        distributed: Mapping[str, SourceFiles],
        here: Mapping[str, EncodedSource],
        staging: str,
        progress: Progress,
    ) -> None:
        self.session, self.sources, self.staging = session, sources, staging
        self.progress, self._here = progress, here
        headers = {n: tuple(s.headers) for n, s in sources.items()}
        plan = Plan({}, (), dict.fromkeys(sources, ()))
        self.job = Job(layout, plan, staging, opener, headers)
        self.units = units_of(session, staging, distributed, progress)
        self.rows: dict[str, pa.Table] = {}
        self.of_all = 0
        """How many rows all sources have."""
        self._read: dict[int, int] = {}
        self._places = Places({})
        self._take()

    @property
    def taken(self) -> int:
        """How many rows there are in the sample."""
        return sum(len(t) for t in self.rows.values())

    def as_sources(self) -> list[Source]:
        """The sources, with the rows of the sample only."""
        return [SampledSource(s, self.rows[n], self._places) for n, s in self.sources.items()]

    def _take(self) -> None:
        wishes = self._wishes()
        done: dict[str, list[UnitSampled]] = {n: [] for n in self.sources}
        work = partial(_sampled, self.job, wishes)
        said = in_tasks(self.session, self.staging, self.units, work, "taking rows", self.progress)
        for unit, text in zip(self.units, said, strict=True):
            done[unit.source].append(UnitSampled.of(text))
        number = len(self.units)
        for name, encoded in self._here.items():
            unit = Unit(number, name, encoded.source.location, self.job.layout.sources[name])
            done[name].append(sampled(self.job, unit, encoded, ALL_ROWS))
            number += 1
        self._read = {u.unit: u.read for units in done.values() for u in units}
        self.of_all = sum(u.rows for units in done.values() for u in units)
        self._places = Places({u.unit: u.runs for units in done.values() for u in units})
        for name, units in done.items():
            self.rows[name] = self._collected(name, units)

    def _wishes(self) -> dict[str, SampleWish]:
        """Which rows to take of each source: all, where it has fewer than its share of a sample, so
        that what others refer to is there."""
        looked: list[Unit] = []
        for name in self.sources:
            mine = [u for u in self.units if u.source == name]
            looked += mine[:: max(1, len(mine) // LOOKED_AT)]
        counted = in_tasks(
            self.session, self.staging, looked, partial(count, self.job), "counting", self.progress
        )
        told: dict[str, list[tuple[int, list[int]]]] = {n: [] for n in self.sources}
        for unit, text in zip(looked, counted, strict=True):
            told[unit.source].append(tuple(json.loads(text)))
        return {name: self._wish(name, told[name]) for name in self.sources}

    def _wish(self, name: str, looked: Sequence[tuple[int, list[int]]]) -> SampleWish:
        """Which rows to take of a source, some of whose units have so many rows, and so many
        different values in each column."""
        units = sum(u.source == name for u in self.units)
        rows = sum(n for n, _ in looked) * units // max(1, len(looked))
        share, columns = ROWS // len(self.sources), len(self.sources[name].headers)
        if rows <= share:
            return ALL_ROWS
        return SampleWish(
            max(2, rows * 2 * columns // share),
            max(3, share // (4 * columns * units)),
            share // (4 * units),
            tuple(_thinned([(r, d[i]) for r, d in looked], rows) for i in range(columns)),
        )

    def _schema(self, name: str) -> str:
        texts = [f"t{i} string" for i in range(len(self.sources[name].headers))]
        return ", ".join([f"{AT} bigint", *texts, f"{WANTED} boolean"])

    def _frame(self, name: str, files: Sequence[str]) -> DataFrame:
        schema = self._schema(name)
        if not files:
            return local_frame(self.session, [], schema)
        return self.session.read.schema(schema).parquet(*[glob_escaped(f) for f in files])

    def _collected(self, name: str, units: Sequence[UnitSampled]) -> pa.Table:
        """The rows of a source that are wanted, and those with the extremes of all units."""
        from pyspark.sql import Window
        from pyspark.sql import functions as F

        frame = self._frame(name, [u.file for u in units if u.file])
        extremes = [u.extremes for u in units if u.extremes]
        if extremes:
            found = self.session.read.schema(
                f"header int, form string, key string, {AT} bigint"
            ).parquet(*[glob_escaped(f) for f in extremes])
            ends = found.groupBy("header", "form").agg(
                F.min_by(AT, "key").alias("low"),
                F.max_by(AT, "key").alias("high"),
                F.count(F.lit(1)).alias("times"),
            )
            rank = F.row_number().over(
                Window.partitionBy("header").orderBy(F.desc("times"), "form")
            )
            some = ends.withColumn("rank", rank).where(col("rank") <= MOST_FORMS)
            at = some.select(col("low").alias("_end")).union(some.select("high")).distinct()
            frame = frame.join(F.broadcast(at), col(AT) == col("_end"), "left").where(
                col(WANTED) | col("_end").isNotNull()
            )
        return self._sorted(name, frame)

    def _sorted(self, name: str, frame: DataFrame) -> pa.Table:
        names = [AT, *[f"t{i}" for i in range(len(self.sources[name].headers))]]
        rows = frame.select(*names).toArrow()
        return rows.cast(
            pa.schema([(AT, pa.int64()), *[(n, pa.string()) for n in names[1:]]])
        ).sort_by(AT)

    def refuted(
        self, layout: Layout, told: Sequence[ProblemRows], units: Mapping[int, Unit]
    ) -> bool:
        """Adds the rows by which a proposal was refuted, and some that are like them in what tells
        records apart; whether any of them is new. `told` are problems with places in the `units` of
        whoever has tested it."""
        more = False
        for one in told:
            at: dict[int, list[int]] = {}
            for place, _ in one.rows:
                unit = units.get(place >> PLACE_BITS)
                if unit is not None:
                    number, record = self._own(unit, place & ((1 << PLACE_BITS) - 1))
                    at.setdefault(number, []).append(record)
            asked = [self.units[n] for n in sorted(at)]
            if not asked:
                continue
            name = asked[0].source
            found = self._read_again(name, asked, partial(_rows_at, self.job, at))
            places = {h: i for i, h in enumerate(self.sources[name].headers)}
            keys = [list(one.headers)]
            if one.table in layout.tables:
                keys.append(layout.key_headers(one.table))
            alike = [
                (key, texts_under(found, places, key)[:ALIKE])
                for key in keys
                if key and all(h in places for h in key)
            ]
            mine = [u for u in self.units if u.source == name]
            like = self._read_again(name, mine, partial(_rows_like, self.job, alike))
            more |= self._add(name, found)
            more |= self._add(name, like)
        return more

    def _own(self, unit: Unit, record: int) -> tuple[int, int]:
        """A record (as read) of a unit of somebody else's as one of a unit of ours: a file that is
        read in whole there may have been read in blocks here."""
        mine = [u for u in self.units if u.place == unit.place and u.start >= unit.start]
        for own in mine:
            if record < self._read[own.number] or own is mine[-1]:
                return own.number, record
            record -= self._read[own.number]
        raise AssertionError(unit.place)

    def _read_again(
        self, name: str, units: Sequence[Unit], work: Callable[[Unit], str]
    ) -> pa.Table:
        said = in_tasks(
            self.session, self.staging, units, work, "reading what refutes it", self.progress
        )
        return self._sorted(name, self._frame(name, [f for f in said if f]))

    def _add(self, name: str, rows: pa.Table) -> bool:
        """Adds rows that are not there yet; whether there are any."""
        known = self.rows[name]
        new = rows.filter(pc.invert(pc.is_in(rows[AT], value_set=known[AT])))
        self.rows[name] = pa.concat_tables([known, new]).sort_by(AT)
        return len(new) > 0


def _thinned(looked: Sequence[tuple[int, int]], rows: int) -> float:
    """Of how many of the rows of a value (1: all) a sample is made, where units had so many rows
    and different values in a column, and all have so many rows."""
    if not looked or any(n < OFTEN * max(1, values) for n, values in looked):
        return 1.0  # values that others have may be anywhere, or nowhere
    return min(1.0, REPEATS * max(values for _, values in looked) / rows)


def _sampled(job: Job, wishes: Mapping[str, SampleWish], unit: Unit) -> str:
    return sample(job, unit, wishes[unit.source]).text()


def _rows_at(job: Job, at: Mapping[int, Sequence[int]], unit: Unit) -> str:
    return rows_at(job, unit, at[unit.number])


def _rows_like(
    job: Job, alike: Sequence[tuple[Sequence[str], Sequence[Sequence[str]]]], unit: Unit
) -> str:
    return rows_like(job, unit, alike, ALIKE)
