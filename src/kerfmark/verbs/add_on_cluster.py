"""add to a folder that a cluster wrote, on a cluster: the records that are new become further files
of its tables, and nothing that is there changes."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from dataclasses import replace as replaced
from glob import has_magic
from pathlib import Path

from kerfmark.cluster.build import Adding, Built, SourceFiles, build, read_before
from kerfmark.cluster.folder import DataSets, FileRead, LoadMade, Target, absolute, read_folder
from kerfmark.cluster.session import connected
from kerfmark.errors import DataRefused, Origin, UsageError
from kerfmark.layout.derive import settled
from kerfmark.layout.model import Layout
from kerfmark.layout.text import parse_layout
from kerfmark.normalize.merged import TableCount
from kerfmark.normalize.problems import Problems
from kerfmark.profile.encode import encode
from kerfmark.progress import Progress, silent
from kerfmark.read.source import Source
from kerfmark.verbs.add_result import AddResult, FileAdded
from kerfmark.verbs.atomic_write import write_atomically
from kerfmark.verbs.cluster_records import load_of, parts_of_load
from kerfmark.verbs.loaded_before import loaded_already, named_twice
from kerfmark.verbs.on_cluster import (
    DELIMITED,
    Sources,
    files_for_executors,
    group_on_cluster,
    link_counts,
    refused_by_cluster,
    rejected_there,
)
from kerfmark.verbs.rejects import writable_rejects
from kerfmark.verbs.routing import Routed, route, with_files
from kerfmark.verbs.sources import open_described


def add_on_cluster(
    files: Sequence[str | Path],
    into: str | Path,
    cluster: str,
    *,
    source: str = "",
    again: bool = False,
    only_new: bool = False,
    rehearsal: bool = False,
    set_aside: str | Path | None = None,
    replace: bool = False,
    progress: Progress = silent,
) -> AddResult:
    """Adds files to the tables of the folder `into`, on the cluster at an address. Everything
    lands, or nothing, but for rows that do not fit where `set_aside` names a file (.csv or .xlsx)
    for them, which is replaced only with `replace`. For the other options, see
    `kerfmark.verbs.add`.

    Raises UsageError for what cannot be read or fits no source, for a layout whose records would
    have to be changed, and where there is no cluster; DataRefused when the data do not fit;
    TargetError for a folder that is not there, or is not as it was written.
    """
    started = time.perf_counter()
    sets = read_folder(absolute(str(into)))
    plain = parse_layout(sets.layout, f"the layout in {into}")
    _refuse_changing(settled(plain, sets.sources), str(into))
    several = any(has_magic(str(f)) or Path(f).is_dir() for f in files)
    routed = _routed(plain, files, source)
    aside = None if set_aside is None else writable_rejects(Path(set_aside), replace)
    target = Target(str(into), changing=sets)
    try:
        with connected(cluster, progress) as (session, step):
            seen = [f for load in sets.live for f in load.files]
            asked = [] if again else [(r.source, _place(r), r.spec.sheet) for r in routed]
            known = read_before(session, target.staging, asked, seen)
            fresh = [r for number, r in enumerate(routed) if number not in known]
            if known and not (only_new or several):
                number, old = next(iter(known.items()))
                raise _known(_place(routed[number]), old, sets, str(into))
            if not fresh:
                seconds = round(time.perf_counter() - started, 3)
                return AddResult(str(into), 0, seconds=seconds, known_files=len(known))
            layout, sources, lacking = _sources(plain, sets, fresh)
            here = {n: encode(s, step, strict=False) for n, s in sources.here.items()}
            built = build(
                session,
                layout,
                open_described,
                sources.distributed,
                here,
                target.staging,
                "" if rehearsal else f"{target.place}/{target.data}",
                step,
                Adding(target.place, sets.tables, lacking),
                apart=aside is not None,
            )
        if built.problems and not rehearsal:
            raise refused_by_cluster(built, None)
        number = max((load.number for load in sets.loads), default=0) + 1
        load = load_of(built, "add", number, target.place)
        if not again:
            _refuse_twice(load)
        rejects: dict[Path, bytes] = {}
        if not rehearsal:
            rejects = dict(rejected_there(aside, built, sources)) if aside else {}
            with write_atomically(rejects):
                target.publish(_grown(sets, built, target, load))
    finally:
        target.close()
    found = Problems(found=built.problems).worst_first()
    return AddResult(
        str(into),
        0 if rehearsal else number,
        tuple(FileAdded(str(r.place), r.source, r.why, _rows(built, r)) for r in fresh),
        tuple(
            TableCount(n, built.rows[n], built.known.get(n, 0))
            for n in layout.tables
            if n in built.rows
        ),
        link_counts(built),
        rehearsed=rehearsal,
        problems=sum(p.total for p in found),
        groups=tuple(group_on_cluster(p, None) for p in found),
        set_aside=len(built.apart),
        rejects=tuple(map(str, rejects)),
        seconds=round(time.perf_counter() - started, 3),
        known_files=len(known),
    )


def _routed(layout: Layout, files: Sequence[str | Path], source: str) -> list[Routed]:
    """See `kerfmark.verbs.routing.route`; on a cluster no header is learned."""
    try:
        return route(layout, files, source)
    except UsageError as error:
        if error.code == "source.unknown":
            error.next = (
                "correct the header of the file\nbuild the folder anew with a layout that knows it "
                "(also, may_lack or left_out in its source): on a cluster no header is learned"
            )
        if error.code == "source.encoding":
            error.next = "write the file anew in UTF-8"
        raise


def _refuse_changing(layout: Layout, folder: str) -> None:
    """Raises UsageError for a layout by which later rows change records that are there, or ask
    more of them than a cluster looks for."""
    why = ""
    for name, table in layout.tables.items():
        if table.known not in ("", "refuse"):
            why = f'known = "{table.known}" in tables > {name}'
        elif table.missing:
            why = f'missing = "{table.missing}" in tables > {name}'
        elif table.computed_key:
            why = f"tables > {name} has a key that is computed"
        elif table.part_of and not layout.tables[table.part_of].each_row:
            why = (
                f"tables > {name} is part of {table.part_of}, whose records several rows are about"
            )
        elif any(table.links[k].loose for k in table.known_by if k in table.links):
            why = f"tables > {name} is known by a link that is found loosely"
        for column, spec in table.columns.items():
            if spec.conflicts == "last":
                why = f'conflicts = "last" of tables > {name} > {column}'
    if why:
        raise UsageError(
            "on a cluster nothing is added by a layout like this one",
            code="cluster.layout",
            origin=Origin(folder),
            why=f"{why}: records that are there may have to be changed or compared",
            next="build the folder anew of all files: kerfmark cut LAYOUT --replace --cluster "
            "ADDRESS --into FOLDER",
        )


def _place(routed: Routed) -> str:
    """The place of a file as every machine names it."""
    return absolute(routed.place)


def _known(place: str, old: FileRead, sets: DataSets, folder: str) -> DataRefused:
    """The error for a file whose bytes are those of one that was read before."""
    load = next(n for n in sets.live if any(f is old for f in n.files))
    return loaded_already(Origin(place), old.file, load.number, load.made, folder)


def _refuse_twice(load: LoadMade) -> None:
    """Raises DataRefused where two files of a load have the same content."""
    seen: dict[tuple[object, ...], str] = {}
    for file in load.files:
        content = (file.source, file.fingerprint, file.blocks, file.sheet)
        if content in seen:
            raise named_twice(Origin(file.file), seen[content])
        seen[content] = file.file


def _sources(
    plain: Layout, sets: DataSets, routed: Sequence[Routed]
) -> tuple[Layout, Sources, Mapping[str, set[str]]]:
    """The settled layout with these files as its sources, these sources, and the headers that they
    may lack and do."""
    there, fed = with_files(plain, routed)
    out, lacking = Sources(), dict[str, set[str]]()
    for name in fed:
        spec = there.sources[name]
        out.headers[name] = sets.sources[name]
        files = files_for_executors(spec, Path())
        if files is None:
            out.here[name] = open_described(there, name, Path())
        else:
            delimited = all(Path(place).suffix.lower() in DELIMITED for place, _ in files)
            out.distributed[name] = SourceFiles(tuple(files), delimited, sets.sources[name])
        said = {h for r in routed if r.source == name for h in _headers(r.opened, spec.also)}
        lacking[name] = set(spec.may_lack) - said
    return settled(there, sets.sources), out, lacking


def _headers(source: Source, also: Mapping[str, Sequence[str]]) -> set[str]:
    """The headers of a file, as the layout spells them."""
    known = {other: h for h, others in also.items() for other in others}
    return {known.get(h, h) for h in source.headers}


def _rows(built: Built, routed: Routed) -> int:
    """The rows of a file, or of a sheet that is told apart from others of its workbook."""
    place, told = _place(routed), routed.told
    files = [f for unit in built.staged.get(routed.source, ()) for f in unit.files]
    mine = [f for f in files if absolute(f.place) == place]
    return sum(f.rows for f in mine if not told or f.told == told)


def _grown(sets: DataSets, built: Built, target: Target, load: LoadMade) -> DataSets:
    """What is published."""
    tables = {
        n: replaced(
            t,
            rows=t.rows + built.rows[n],
            files=(*t.files, *parts_of_load(built, n, target.data, load.number)),
        )
        for n, t in sets.tables.items()
    }
    return replaced(sets, tables=tables, loads=(*sets.loads, load))
