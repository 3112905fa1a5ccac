"""cut and check on a cluster: what a layout names is read by the executors of a cluster, and the
tables become data sets in a folder that every machine of it reaches."""

from __future__ import annotations

import shlex
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from kerfmark.cluster.build import Built, SourceFiles, build
from kerfmark.cluster.folder import Target, absolute, is_folder, read_folder
from kerfmark.cluster.session import connected
from kerfmark.cluster.staging import Staged
from kerfmark.errors import DataRefused, Origin, TargetError, UsageError
from kerfmark.layout.derive import settled
from kerfmark.layout.model import Layout, PartSpec, SourceSpec
from kerfmark.layout.text import read_layout
from kerfmark.normalize.problems import Problem, Problems, advice
from kerfmark.normalize.split import LinkCount, refusal
from kerfmark.profile.encode import encode
from kerfmark.progress import Progress, silent
from kerfmark.read.open import places
from kerfmark.read.source import Source
from kerfmark.verbs.atomic_write import write_atomically
from kerfmark.verbs.check import CheckResult, SourceChecked, TableChecked
from kerfmark.verbs.cluster_records import data_sets
from kerfmark.verbs.cut import CutResult, SourceRead, table_made
from kerfmark.verbs.problem_groups import Group, group_of, places_of
from kerfmark.verbs.rejects import RejectedRow, ragged_cells, rejects_of, writable_rejects
from kerfmark.verbs.replace_check import load_lost, losing
from kerfmark.verbs.server_on_cluster import IntoServer, ServerTarget, is_server
from kerfmark.verbs.sources import check_headers, filled_in, open_described
from kerfmark.write.rejects import files

if TYPE_CHECKING:
    from pyspark.sql import SparkSession

DELIMITED = {".csv", ".tsv", ".tab", ".txt"}
"""Endings of files that executors read, those that are large in blocks."""
IN_WHOLE = {".parquet", ".jsonl", ".ndjson"}
"""Endings of files that executors read in whole."""


@dataclass
class Sources:
    """The sources of a layout: those for executors, and those that this process reads."""

    distributed: dict[str, SourceFiles] = field(default_factory=dict)
    here: dict[str, Source] = field(default_factory=dict)
    headers: dict[str, tuple[str, ...]] = field(default_factory=dict)


def cut_on_cluster(
    inputs: Sequence[str | Path],
    into: str | Path,
    cluster: str,
    *,
    shared: str | Path = "",
    replace: bool = False,
    discard: bool = False,
    rehearsal: bool = False,
    set_aside: str | Path | None = None,
    progress: Progress = silent,
) -> CutResult:
    """Builds the folder of data sets `into`, or the tables of a server, from one layout, on the
    cluster at an address. Either all of it is in force afterwards, or everything is as before. For
    a server, `shared` is a folder that all machines reach, for what is needed on the way. What has
    later loads is replaced only with `discard`. Data that do not fit refuse the whole, unless
    `set_aside` names a file (.csv or .xlsx) for them.

    Raises UsageError for what cannot be read or written, and where there is no cluster (then its
    code begins with `cluster`); DataRefused when the data do not fit.
    """
    started, path = time.perf_counter(), _layout_of(inputs)
    layout, text = read_layout(path)
    _refuse_existing(layout, path)
    sources = opened_sources(layout, text, path)
    whole = settled(layout, sources.headers)
    # a target that will not do is told before the work
    how = ServerTarget(text, replace, discard, rehearsal)
    server = _server(str(into), str(shared), how)
    if server is None and replace and not discard:
        _refuse_to_lose(str(into))
    place = str(shared) if server else str(into)
    aside = None if set_aside is None else writable_rejects(Path(set_aside), replace)
    target = Target(place, replace=replace, working=server is not None)
    try:
        data = f"{target.place}/{target.data}"
        with ExitStack() as written:
            with connected(cluster, progress) as (session, step):
                apart = aside is not None
                built = built_tables(
                    session, whole, sources, target.staging, data, step, apart=apart
                )
                if built.problems:
                    raise refused_by_cluster(built, _deciding(path))
                rejects = dict(rejected_there(aside, built, sources)) if aside else {}
                written.enter_context(write_atomically({} if rehearsal else rejects))
                if server is not None:
                    server.take(session, built, target, sources.headers, step)
            if server is None and not rehearsal:
                target.publish(data_sets(built, text, target.data, target.place, sources.headers))
    finally:
        target.close()
    size = sum(f.bytes for files in built.files.values() for f in files)
    return CutResult(
        server.shown if server else str(into),
        0 if rehearsal or server else size,
        False,
        str(path),
        False,
        tuple(_read(n, units, sources.headers[n]) for n, units in built.staged.items()),
        tuple(table_made(whole, n, built.rows[n]) for n in layout.tables),
        (),
        (),
        (),
        link_counts(built),
        len(built.apart),
        tuple(map(str, rejects)),
        {n: total for n, u in built.staged.items() if (total := sum(s.left_out for s in u))},
        rehearsal,
        round(time.perf_counter() - started, 3),
    )


def check_on_cluster(
    layout: str | Path, cluster: str, staging: str | Path, *, progress: Progress = silent
) -> CheckResult:
    """Rehearses a whole cut on the cluster at an address, and tells the problems; what is needed on
    the way is in the folder `staging`, which all machines reach, and is gone afterwards.

    Raises as `cut_on_cluster`, but not for data that do not fit.
    """
    started, path = time.perf_counter(), Path(layout)
    spec, text = read_layout(path)
    _refuse_existing(spec, path)
    sources = opened_sources(spec, text, path)
    whole = settled(spec, sources.headers)
    target = Target(str(staging), working=True)
    try:
        with connected(cluster, progress) as (session, step):
            built = built_tables(session, whole, sources, target.staging, "", step)
    finally:
        target.close()
    found = Problems(found=built.problems).worst_first()
    return CheckResult(
        str(path),
        False,
        tuple(
            SourceChecked(
                n,
                _file(units),
                sum(s.read for s in units),
                sum(s.left_out for s in units),
                _sums([s.changed for s in units]),
            )
            for n, units in built.staged.items()
        ),
        tuple(TableChecked(n, built.rows[n], built.created[n]) for n in spec.tables),
        link_counts(built),
        sum(p.total for p in found),
        tuple(group_on_cluster(p, _deciding(path)) for p in found),
        True,
        round(time.perf_counter() - started, 3),
    )


def built_tables(
    session: SparkSession,
    layout: Layout,
    sources: Sources,
    staging: str,
    data: str,
    progress: Progress,
    *,
    count_links: bool = False,
    apart: bool = False,
) -> Built:
    """Builds the tables of a settled layout on a cluster; their files are below the folder `data`
    ("": only what does not fit is looked for), and what is needed on the way below `staging`. See
    `cluster.build.build`."""
    here = {n: encode(s, progress, strict=False) for n, s in sources.here.items()}
    return build(
        session,
        layout,
        open_described,
        sources.distributed,
        here,
        staging,
        data,
        progress,
        count_links=count_links,
        apart=apart,
    )


def rejected_there(path: Path, built: Built, sources: Sources) -> Iterator[tuple[Path, bytes]]:
    """The files for rows that were set aside, with their contents."""
    out = []
    for name in dict.fromkeys(one.row.source for one in built.apart):
        mine = [one for one in built.apart if one.row.source == name]
        spec, headers = built.layout.sources[name], sources.headers[name]
        there = sources.here.get(name)
        said = there.settings().get("delimiter", ",") if there else spec.delimiter
        lacking = {
            i
            for i, h in enumerate(headers)
            if h in spec.may_lack and all(one.cells[i] is None for one in mine if one.cells)
        }
        rows = [
            RejectedRow(
                one.row,
                one.at,
                ragged_cells(one.row.ragged, len(headers), str(said))
                if one.row.ragged
                else [cell or "" for cell in one.cells],
            )
            for one in mine
        ]
        shown = [i for i in range(len(headers)) if i not in lacking]
        out.append(rejects_of(name, str(said), headers, shown, rows))
    yield from files(path, out).items() if out else ()


def _server(into: str, shared: str, how: ServerTarget) -> IntoServer | None:
    """The tables of a server, where the target is one. Raises UsageError where it is and there is
    no folder for what is needed on the way."""
    if not is_server(into):
        return None
    require_shared(shared)
    return IntoServer(into, how)


def require_shared(folder: str) -> None:
    """Raises UsageError where no folder is named for what a cluster needs on the way."""
    if not folder:
        raise UsageError(
            "a cluster needs a folder that all of its machines reach",
            code="cluster.shared",
            why="what it reads is kept there until it is done",
            next="name one with --shared FOLDER: what is put there is gone afterwards",
        )


def _refuse_to_lose(folder: str) -> None:
    """Raises TargetError for a folder with later loads."""
    if not is_folder(absolute(folder)):
        return
    try:
        sets = read_folder(absolute(folder))
    except TargetError:  # one that cannot be read is to be replaced
        return
    later = [load for load in sets.live if load.number > 1]
    if later:
        lost = [load_lost(n.number, n.verb, [f.file for f in n.files]) for n in later]
        raise losing(folder, lost)


def _layout_of(inputs: Sequence[str | Path]) -> Path:
    """The one layout. Raises UsageError for anything else."""
    paths = [Path(p) for p in inputs]
    if len(paths) != 1 or paths[0].suffix.lower() != ".toml":
        files = shlex.join(str(p) for p in inputs)
        raise UsageError(
            "a cluster carries out a layout",
            code="cluster.layout",
            next=f"kerfmark mark {files} -o LAYOUT makes one; name that",
        )
    return paths[0]


def _refuse_existing(layout: Layout, path: Path) -> None:
    if layout.existing:
        raise UsageError(
            "the tables of this layout are in a database already",
            code="cluster.layout",
            origin=Origin(str(path)),
            next="leave out --cluster: a cluster makes tables anew",
        )


def opened_sources(layout: Layout, text: str, path: Path) -> Sources:
    """The sources of a layout, whose headers are right; of those for executors the first file is
    opened here, for its headers."""
    out, seen = Sources(), dict[str, Source]()
    for name, spec in layout.sources.items():
        files = files_for_executors(spec, path.parent)
        if files is None:
            out.here[name] = seen[name] = open_described(layout, name, path.parent)
            out.headers[name] = seen[name].headers
            continue
        first = layout.model_copy(update={"sources": {**layout.sources, name: files[0][1]}})
        source = open_described(first, name, Path())
        lacking = [h for h in spec.may_lack if h not in source.headers]
        headers = (*source.headers, *lacking)
        seen[name] = source
        out.headers[name] = headers
        out.distributed[name] = _files(files, headers)
    check_headers(layout, text, path.name, seen)
    return out


def source_files(spec: SourceSpec, folder: Path, source: Source) -> SourceFiles | None:
    """The files of a source that is open, for executors; None where this process is to read it."""
    files = files_for_executors(spec, folder)
    return None if files is None else _files(files, source.headers)


def _files(files: Sequence[tuple[str, SourceSpec]], headers: Sequence[str]) -> SourceFiles:
    delimited = all(Path(place).suffix.lower() in DELIMITED for place, _ in files)
    return SourceFiles(tuple(files), delimited, tuple(headers))


def files_for_executors(spec: SourceSpec, folder: Path) -> list[tuple[str, SourceSpec]] | None:
    """The files of a source for executors, each with what is to be said of it alone; None where
    this process is to read it."""
    known = DELIMITED | IN_WHOLE
    if spec.table or spec.query or spec.file == "-" or spec.sheet or spec.cells:
        return None
    if spec.parts:
        found = [(str((folder / p.file).absolute()), p) for p in spec.parts]
    elif spec.is_pattern:
        found = [
            (
                str(Path(one).absolute()),
                PartSpec(told=filled_in(Path(spec.file).name, Path(one).name), file=one),
            )
            for one in places(str(folder / spec.file))
        ]
    else:
        place = str((folder / spec.file).absolute())
        if "://" in spec.file or Path(place).suffix.lower() not in known:
            return None
        return [(place, spec.model_copy(update={"file": place}))]
    if not all(Path(place).suffix.lower() in known for place, _ in found):
        return None
    return [
        (
            place,
            spec.model_copy(
                update={"file": "", "parts": (part.model_copy(update={"file": place}),)}
            ),
        )
        for place, part in found
    ]


def refused_by_cluster(built: Built, deciding: str | None) -> DataRefused:
    """The error for what does not fit; `deciding`: see `normalize.split.refused`."""
    return refusal(
        Problems(found=built.problems),
        lambda source, record, header: Origin(_file(built.staged[source])),
        _no_text,
        deciding,
    )


def group_on_cluster(problem: Problem, deciding: str | None) -> Group:
    """A problem as it is told."""
    remedies = advice(problem, partial(_no_text, ""), deciding)
    return group_of(problem, places_of(problem), remedies)


def _no_text(source: str, header: str, record: int) -> str:
    """The text of a cell: this process has none."""
    return ""


def _deciding(path: Path) -> str:
    """The command that decides about a layout."""
    return f"kerfmark mark {shlex.quote(str(path))}"


def _file(units: Sequence[Staged]) -> str:
    files = list(dict.fromkeys(r[1] for u in units for r in u.runs[:1]))
    more = f" and {len(files) - 1} more of its shape" if len(files) > 1 else ""
    return f"{files[0]}{more}" if files else ""


def _sums(counts: Sequence[Mapping[str, int]]) -> dict[str, int]:
    out: dict[str, int] = {}
    for one in counts:
        for name, n in one.items():
            out[name] = out.get(name, 0) + n
    return out


def _read(name: str, units: Sequence[Staged], headers: Sequence[str]) -> SourceRead:
    return SourceRead(
        name,
        _file(units),
        sum(u.read for u in units),
        len(headers),
        sum(f.bytes for u in units for f in u.files),
        units[0].how if units else "",
    )


def link_counts(built: Built) -> tuple[LinkCount, ...]:
    """What became of links that are found by value."""
    return tuple(
        LinkCount(
            one.step.table, one.step.link, one.step.spec.to, one.resolved, one.created, one.blank
        )
        for one in built.lookups
    )
