"""A whole build on a cluster: units are read, the plan is carried out, what does not fit is told,
the tables are written, and all of it is published at once."""

from __future__ import annotations

import json
import pickle
import re
import uuid
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, TypeVar

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
from kerfmark.cluster.problems import Places, as_problems, unit_problems
from kerfmark.cluster.staging import (
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
    asked), and the files that were written."""

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
) -> Built:
    """Builds the tables of a settled layout below the folder `target` ("": writes none), with
    `staging` for what is needed on the way. Sources `here` were read by this process. When
    `adding`, only what is not there yet is made. With `count_links` it is told how many records
    have each link, where nothing is written."""
    plan = compiled(layout)
    headers = {n: s.headers for n, s in distributed.items()}
    headers |= {n: e.source.headers for n, e in here.items()}
    job = Job(layout, plan, staging, opener, headers)
    units = units_of(session, staging, distributed, progress)
    numbers = len(units)
    size = sum(u.end - u.start or size_of(u.place) for u in units)
    prepare(session, size)
    done: dict[str, list[Staged]] = {n: [] for n in layout.sources}
    for one, unit in zip(
        in_tasks(session, staging, units, lambda u: _stage(job, u), "reading", progress),
        units,
        strict=True,
    ):
        done[unit.source].append(Staged.of(one))
    _refuse_empty(done, distributed)
    read_here: dict[int, EncodedSource] = {}
    for name, encoded in here.items():
        read_here[numbers] = encoded
        unit = Unit(numbers, name, encoded.source.location, layout.sources[name])
        numbers += 1
        done[name].append(staged(job, unit, encoded))
    places = Places.of(done)
    out = Built(layout, done, job, units)
    told = unit_problems(done)
    existing = None
    if adding is not None:
        fed = {n for n, some in done.items() if some}
        existing = Existing(session, layout, plan, fed, adding.tables, adding.place)
    steps = Steps(session, layout, plan, done, staging, existing)
    try:
        progress("linking", 0, 0)
        carried = steps.carried_out()
        progress("checking", 0, 0)
        lacking = adding.lacking if adding is not None else {}
        told += Checks(steps, carried, places, lacking).all()
        if told:
            _add_values(session, job, told, {u.number: u for u in units}, read_here, progress)
        out.problems, out.told = as_problems(told, places), told
        out.lookups = carried.lookups
        out.created = {n: t.created for n, t in carried.tables.items()}
        out.known = {n: t.met.count() for n, t in carried.tables.items() if t.met is not None}
        if out.problems or not target:
            out.rows = {n: t.new.count() for n, t in carried.tables.items()}
            out.linked = dict(_linked(carried)) if count_links else {}
            return out
        if adding is None:  # what is there already keeps its numbers
            put_in_order(steps, carried, staging)
        tasks = max(2, sum(len(u) for u in done.values()))
        for name in layout.parents_first():
            table = carried.tables[name]
            if table.step.source not in steps.fed and not table.created:
                out.rows[name], out.files[name] = 0, []
                continue
            progress(f"writing {name}", 0, 0)
            frame, out.shapes[name] = published(layout, carried, name)
            out.files[name] = write_table(
                frame, out.shapes[name], f"{target}/{folder_of(layout, name)}", tasks, table.before
            )
            out.rows[name] = sum(f.rows for f in out.files[name])
        _check_account(layout, out)
    finally:
        steps.release()
    return out


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


def _add_values(
    session: SparkSession,
    job: Job,
    told: Sequence[ProblemRows],
    units: Mapping[int, Unit],
    here: Mapping[int, EncodedSource],
    progress: Progress,
) -> None:
    """Adds to problems what the cells of their first rows have: these are read once more."""
    wanted: dict[int, list[tuple[int, Sequence[str]]]] = {}
    for one in told:
        for at, _ in one.rows:
            cell = at & ((1 << PLACE_BITS) - 1), one.headers
            wanted.setdefault(at >> PLACE_BITS, []).append(cell)
    again = [units[number] for number in wanted if number in units]
    texts = in_tasks(
        session,
        job.folder,
        again,
        lambda u: json.dumps(cells_told(job, u, wanted[u.number])),
        "reading what is told",
        progress,
    )
    found = {unit.number: iter(json.loads(said)) for unit, said in zip(again, texts, strict=True)}
    found |= {n: iter(texts_of(here[n], wanted[n])) for n in wanted if n in here}
    for one in told:
        one.values = [next(found[at >> PLACE_BITS]) for at, _ in one.rows]


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


def _stage(job: Job, unit: Unit) -> str:
    return stage(job, unit).text()


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
