"""A whole build on a cluster: units are read, the plan is carried out, what does not fit is told,
the tables are written, and all of it is published at once."""

from __future__ import annotations

import json
import pickle
import re
import uuid
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import TYPE_CHECKING, TypeVar

from kerfmark.cluster import set_aside
from kerfmark.cluster.checks import Checks
from kerfmark.cluster.existing import Existing
from kerfmark.cluster.files import (
    Counts,
    Unit,
    blocks,
    can_be_cut,
    filesystem,
    fingerprint_of,
    is_file,
    look_at,
    settled_blocks,
    size_of,
)
from kerfmark.cluster.folder import FileRead, TableSet
from kerfmark.cluster.frames import col
from kerfmark.cluster.parquet import FileWritten, Shape, published, put_in_order, write_table
from kerfmark.cluster.problems import Places, as_problems, merged, unit_problems
from kerfmark.cluster.set_aside import Apart, RowApart, cells_apart, cells_of
from kerfmark.cluster.staging import (
    KEPT_PROBLEMS,
    PLACE_BITS,
    Job,
    Opener,
    ProblemRows,
    Staged,
    cells_told,
    in_executor,
    stage,
    staged,
    texts_of,
)
from kerfmark.cluster.steps import LookupResult, PlanResult, Steps
from kerfmark.errors import KerfmarkError, Origin, SourceError
from kerfmark.layout.model import Layout, SourceSpec
from kerfmark.normalize.problems import Problem
from kerfmark.plan.compile import compiled
from kerfmark.profile.encode import EncodedSource
from kerfmark.progress import Progress, silent

if TYPE_CHECKING:
    from pyspark.sql import SparkSession


T = TypeVar("T")

SMALL = 64 << 20
"""Bytes of all files up to which the cluster's engine carries plans out as they are."""
SENT = 64 << 20
"""Bytes of a table up to which it is sent to every executor, in place of the rows that are joined
to it."""
_TOGETHER = 256
"""Units that are written together for the tasks that work on them."""
PARTITION = 16 << 20
"""Bytes of the files for each partition in which the cluster's engine joins and groups."""


@dataclass(frozen=True)
class SourceFiles:
    """A source for executors: each file with what a layout says of it alone; whether they are
    delimited text; and the headers of all."""

    files: tuple[tuple[str, SourceSpec], ...]
    delimited: bool
    headers: tuple[str, ...]


@dataclass(frozen=True)
class Adding:
    """What rows are added to: the tables of the folder `place`; and, by source, the headers that
    the files need not have and do not."""

    place: str
    tables: Mapping[str, TableSet]
    lacking: Mapping[str, Collection[str]]


@dataclass
class Built:
    """What a build gave: what became of each unit, by source, problems (then there is nothing
    else; `told` has their places), records of each table, those that rows say and that were there
    before (`known`), what became of links, how many records have a link (`linked`, where it was
    asked), the rows that were set `apart`, and the files that were written."""

    layout: Layout
    staged: dict[str, list[Staged]]
    job: Job
    units: list[Unit]
    problems: list[Problem] = field(default_factory=list)
    rows: dict[str, int] = field(default_factory=dict)
    lookups: list[LookupResult] = field(default_factory=list)
    created: dict[str, int] = field(default_factory=dict)
    known: dict[str, int] = field(default_factory=dict)
    told: list[ProblemRows] = field(default_factory=list)
    linked: dict[tuple[str, str], int] = field(default_factory=dict)
    apart: list[RowApart] = field(default_factory=list)
    files: dict[str, list[FileWritten]] = field(default_factory=dict)
    shapes: dict[str, Shape] = field(default_factory=dict)


def folder_of(layout: Layout, table: str) -> str:
    """What the folder of a table is called: as the table, where that is a plain name."""
    plain = re.fullmatch(r"[\w-]{1,80}", table, re.ASCII)
    return table if plain else f"table-{list(layout.tables).index(table) + 1}"


def build(
    session: SparkSession,
    layout: Layout,
    opener: Opener,
    distributed: Mapping[str, SourceFiles],
    here: Mapping[str, EncodedSource],
    staging: str,
    target: str,
    progress: Progress,
    adding: Adding | None = None,
    count_links: bool = False,
    apart: bool = False,
) -> Built:
    """Builds the tables of a settled layout below the folder `target` ("": writes none), with
    `staging` for what is needed on the way. Sources `here` were read by this process. When
    `adding`, only what is not there yet is made. With `count_links` it is told how many records
    have each link, where nothing is written. With `apart`, rows with problems are taken out until
    what is left has none."""
    plan = compiled(layout)
    headers = {n: s.headers for n, s in distributed.items()}
    headers |= {n: e.source.headers for n, e in here.items()}
    kept = set_aside.MOST if apart else KEPT_PROBLEMS
    units = units_of(session, staging, distributed, progress)
    of_unit = max(set_aside.FEWEST, 10 * kept // max(1, len(units))) if apart else kept
    job = Job(layout, plan, staging, opener, headers, min(kept, of_unit), apart)
    prepare(session, sum(u.end - u.start or size_of(u.place) for u in units))
    reading = _Reading(session, job, units, here, progress)
    _refuse_empty(reading.by_source(), distributed)
    existing = None
    if adding is not None:
        fed = {n for n, some in reading.by_source().items() if some}
        existing = Existing(session, layout, plan, fed, adding.tables, adding.place)
    gone, rounds = Apart(), 0
    while True:
        done = reading.by_source()
        out = Built(layout, done, job, units)
        told = unit_problems(done, kept)
        rounds += 1
        steps = Steps(session, layout, plan, done, f"{staging}/round-{rounds}", existing)
        try:
            progress("linking", 0, 0)
            carried = steps.carried_out()
            progress("checking", 0, 0)
            lacking = adding.lacking if adding is not None else {}
            told += Checks(steps, carried, Places.of(done), lacking, kept).all()
            if apart:
                told = [*gone.told_by_parents(layout, told, done, reading.texts)]
            if apart and (refused := gone.take(told)):
                reading.again(refused, gone)
                if any(unit.rows for some in reading.by_source().values() for unit in some):
                    continue
            if told:
                told = merged(told)
                reading.add_values(told)
            out.problems, out.told = as_problems(told, Places.of(done)), told
            out.lookups = carried.lookups
            out.created = {n: t.created for n, t in carried.tables.items()}
            out.known = {n: t.met.count() for n, t in carried.tables.items() if t.met is not None}
            if apart and not out.problems:
                out.apart = gone.rows(
                    done, headers, reading.cells({n: gone.of(n) for n in gone.gone})
                )
            if out.problems or not target:
                out.rows = {n: t.new.count() for n, t in carried.tables.items()}
                out.linked = dict(_linked(carried)) if count_links else {}
                return out
            if adding is None:  # what is there already keeps its numbers
                put_in_order(steps, carried, staging)
            _write(out, steps, carried, target, progress)
            _check_account(layout, out)
            return out
        finally:
            steps.release()


class _Reading:
    """Units as they were read, by the executors and here: what became of each."""

    def __init__(
        self,
        session: SparkSession,
        job: Job,
        units: Sequence[Unit],
        here: Mapping[str, EncodedSource],
        progress: Progress,
    ) -> None:
        self.session, self.job, self.progress = session, job, progress
        self.units = {u.number: u for u in units}
        self.here: dict[int, tuple[Unit, EncodedSource]] = {}
        for number, (name, encoded) in enumerate(here.items(), len(units)):
            unit = Unit(number, name, encoded.source.location, job.layout.sources[name])
            self.here[number] = unit, encoded
        self.staged: dict[int, Staged] = {}
        self._read([*self.units, *self.here], Apart())

    def by_source(self) -> dict[str, list[Staged]]:
        """What became of the units of each source."""
        out: dict[str, list[Staged]] = {n: [] for n in self.job.layout.sources}
        for number, unit in (*self.units.items(), *((n, u) for n, (u, _) in self.here.items())):
            out[unit.source].append(self.staged[number])
        return out

    def again(self, units: Collection[int], gone: Apart) -> None:
        """Reads some units again, without the rows that are set aside."""
        self._read(sorted(units), gone)

    def _read(self, units: Sequence[int], gone: Apart) -> None:
        asked = [(self.units[n], gone.of(n)) for n in units if n in self.units]
        said = self._in_tasks(asked, partial(_stage, self.job), "reading")
        for (unit, _), text in zip(asked, said, strict=True):
            self.staged[unit.number] = Staged.of(text)
        for number in units:
            if number in self.here:
                self.staged[number] = staged(self.job, *self.here[number], gone.of(number))

    def cells(self, records: Mapping[int, Sequence[int]]) -> dict[int, list[list[str | None]]]:
        """The cells of some records (as read) of units: these are read once more."""
        asked = [(self.units[n], some) for n, some in records.items() if n in self.units]
        said = self._in_tasks(asked, partial(_cells_apart, self.job), "reading what is set aside")
        out = {unit.number: json.loads(text) for (unit, _), text in zip(asked, said, strict=True)}
        for number in records.keys() & self.here.keys():
            unit, encoded = self.here[number]
            out[number] = cells_of(encoded, self.job.headers[unit.source], records[number])
        return out

    def texts(self, places: Sequence[int], headers: Sequence[str]) -> dict[int, tuple[str, ...]]:
        """What is at some places under some headers; "" for a blank."""
        records: dict[int, list[int]] = {}
        for place in places:
            records.setdefault(place >> PLACE_BITS, []).append(place & ((1 << PLACE_BITS) - 1))
        out: dict[int, tuple[str, ...]] = {}
        for number, rows in self.cells(records).items():
            unit = self.units.get(number) or self.here[number][0]
            at = [self.job.headers[unit.source].index(h) for h in headers]
            for record, cells in zip(records[number], rows, strict=True):
                out[(number << PLACE_BITS) + record] = tuple(cells[i] or "" for i in at)
        return out

    def add_values(self, told: Sequence[ProblemRows]) -> None:
        """Adds to problems what the cells of their first rows have: these are read once more."""
        wanted: dict[int, list[tuple[int, Sequence[str]]]] = {}
        for one in told:
            for at, _ in one.rows:
                cell = at & ((1 << PLACE_BITS) - 1), one.headers
                wanted.setdefault(at >> PLACE_BITS, []).append(cell)
        asked = [(self.units[n], wanted[n]) for n in wanted if n in self.units]
        texts = self._in_tasks(asked, partial(_cells_told, self.job), "reading what is told")
        found = {
            u.number: iter(json.loads(said)) for (u, _), said in zip(asked, texts, strict=True)
        }
        found |= {
            n: iter(texts_of(self.here[n][1], cells))
            for n, cells in wanted.items()
            if n in self.here
        }
        for one in told:
            one.values = [next(found[at >> PLACE_BITS]) for at, _ in one.rows]

    def _in_tasks(self, asked: Sequence[T], work: Callable[[T], str], step: str) -> list[str]:
        return in_tasks(self.session, self.job.folder, asked, work, step, self.progress)


def _stage(job: Job, asked: tuple[Unit, Sequence[int]]) -> str:
    return stage(job, *asked).text()


def _cells_apart(job: Job, asked: tuple[Unit, Sequence[int]]) -> str:
    return cells_apart(job, *asked)


def _cells_told(job: Job, asked: tuple[Unit, Sequence[tuple[int, Sequence[str]]]]) -> str:
    return json.dumps(cells_told(job, *asked))


def _write(
    built: Built, steps: Steps, carried: PlanResult, target: str, progress: Progress
) -> None:
    """Writes the tables below a folder."""
    layout = built.layout
    tasks = max(2, sum(len(u) for u in built.staged.values()))
    for name in layout.parents_first():
        table = carried.tables[name]
        if table.step.source not in steps.fed and not table.created:
            built.rows[name], built.files[name] = 0, []
            continue
        progress(f"writing {name}", 0, 0)
        frame, built.shapes[name] = published(layout, carried, name)
        built.files[name] = write_table(
            frame, built.shapes[name], f"{target}/{folder_of(layout, name)}", tasks, table.before
        )
        built.rows[name] = sum(f.rows for f in built.files[name])


def _linked(carried: PlanResult) -> Iterator[tuple[tuple[str, str], int]]:
    """How many records have each link."""
    from pyspark.sql import functions as F

    for name, table in carried.tables.items():
        if table.links:
            counts = table.frame.agg(*[F.count(col(place)) for place in table.links.values()])
            for link, n in zip(table.links, counts.collect()[0], strict=True):
                yield (name, link), int(n)


def read_before(
    session: SparkSession,
    staging: str,
    files: Sequence[tuple[str, str, str]],
    known: Sequence[FileRead],
) -> dict[int, FileRead]:
    """Those of some files (source, place and sheet) that have the bytes of one that was read before
    for the same source, by their position, with that one. Only those of the same size are looked
    into."""
    asked: list[tuple[int, str, FileRead]] = []
    for number, (source, place, sheet) in enumerate(files):
        if not is_file(place):  # such as a table of a database
            continue
        size = size_of(place)
        asked += [
            (number, place, k)
            for k in known
            if (k.source, k.bytes, k.sheet) == (source, size, sheet)
        ]
    pairs = [(place, old) for _, place, old in asked]
    same = in_tasks(session, staging, pairs, _same_bytes, "comparing files", silent)
    return {number: old for (number, _, old), said in zip(asked, same, strict=True) if said}


def _same_bytes(asked: tuple[str, FileRead]) -> str:
    """Whether a file has the bytes of another: "yes", or nothing."""
    place, known = asked
    parts = [(b.start, b.end, b.fingerprint) for b in known.blocks]
    parts = parts or [(0, known.bytes, known.fingerprint)]
    return "yes" if all(fingerprint_of(place, s, e) == print_ for s, e, print_ in parts) else ""


def _check_account(layout: Layout, built: Built) -> None:
    """Raises KerfmarkError unless every row that was read, and not left out, has its record."""
    for source, units in built.staged.items():
        if not units:
            continue
        base = layout.base_of(source)
        own, rows = built.rows[base] - built.created[base], sum(unit.rows for unit in units)
        if own != rows:
            raise KerfmarkError(
                "the account of a source does not balance; nothing was published",
                code="internal",
                why=f"{source}: {rows:,} rows, {own:,} records in {base}",
                next="this is a fault of Kerfmark: please report it",
            )


def prepare(session: SparkSession, size: int) -> None:
    """Sets how the engine works on so many bytes: making programs of its plans, and changing these
    on the way, takes longer than small files do."""
    large = size > SMALL
    session.conf.set("spark.sql.shuffle.partitions", str(max(2, size // PARTITION)))
    session.conf.set("spark.sql.autoBroadcastJoinThreshold", str(SENT))
    session.conf.set("spark.sql.adaptive.enabled", str(large).lower())
    session.conf.set("spark.sql.codegen.wholeStage", str(large).lower())
    session.conf.set("spark.sql.codegen.factoryMode", "FALLBACK" if large else "NO_CODEGEN")


def _refuse_empty(
    done: Mapping[str, Sequence[Staged]], distributed: Mapping[str, SourceFiles]
) -> None:
    """Raises SourceError for a source without any row."""
    for name, source in distributed.items():
        if not sum(unit.read for unit in done[name]):
            raise SourceError(
                "there are no rows in it",
                code="source.no-rows",
                origin=Origin(source.files[0][0]),
                next="check that the export was complete",
            )


def _look(unit: Unit) -> str:
    counts = look_at(unit)
    outside, inside = counts.proper
    return f"{counts.quotes} {counts.even} {counts.odd} {int(outside)} {int(inside)}"


def units_of(
    session: SparkSession, staging: str, distributed: Mapping[str, SourceFiles], progress: Progress
) -> list[Unit]:
    """All units, in the order of sources, files and rows."""
    pieces: list[list[Unit]] = []
    for name, source in distributed.items():
        for place, spec in source.files:
            unit = Unit(0, name, place, spec)
            pieces.append(blocks(unit) if can_be_cut(spec, source.delimited) else [unit])
    cut = [unit for piece in pieces if len(piece) > 1 for unit in piece]
    looked = iter(in_tasks(session, staging, cut, _look, "looking at blocks", progress))
    out: list[Unit] = []
    for piece in pieces:
        if len(piece) > 1:
            said = [next(looked).split() for _ in piece]
            counts = [
                Counts(int(q), int(e), int(o), (a == "1", b == "1")) for q, e, o, a, b in said
            ]
            piece = settled_blocks(piece, counts)
        out += piece
    return [Unit(**{**vars(unit), "number": number}) for number, unit in enumerate(out)]


def in_tasks(
    session: SparkSession,
    staging: str,
    units: Sequence[T],
    work: Callable[[T], str],
    step: str,
    progress: Progress,
) -> list[str]:
    """What some work says for each of some units, in their order; a task for each. The units are
    written below the folder `staging`, so that no task gets more than those around its own."""
    if not units:
        return []
    progress(step, 0, len(units))
    size, place = len(units), f"{staging}/units-{uuid.uuid4().hex[:12]}"
    system, path = filesystem(place)
    system.create_dir(path, recursive=True)
    for start in range(0, size, _TOGETHER):
        with system.open_output_stream(f"{path}/{start // _TOGETHER}") as file:
            file.write(pickle.dumps([*units[start : start + _TOGETHER]]))

    def one(number: int) -> str:
        system, path = filesystem(place)
        with system.open_input_stream(f"{path}/{number // _TOGETHER}") as file:
            return work(pickle.loads(file.read())[number % _TOGETHER])

    frame = session.range(0, size, 1, size).mapInArrow(in_executor(one), "id bigint, said string")
    out = [""] * size
    for row in frame.collect():
        out[row["id"]] = row["said"]
    progress(step, size, size)
    return out
