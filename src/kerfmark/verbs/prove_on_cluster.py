"""prove on a cluster: the executors read the sources again, the cluster's engine joins the tables
of a folder, and both are held against each other."""

from __future__ import annotations

import os
import time
from collections.abc import Mapping, Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from kerfmark import __version__
from kerfmark.cluster.build import SourceFiles, in_tasks, prepare, units_of
from kerfmark.cluster.files import Unit, fingerprint_of, is_file, size_of
from kerfmark.cluster.folder import DataSets, FileRead, Target, absolute, is_folder, read_folder
from kerfmark.cluster.problems import Places
from kerfmark.cluster.proof import Compared, Proof
from kerfmark.cluster.proof_rows import UnitExpected, expect, expected
from kerfmark.cluster.session import connected
from kerfmark.cluster.staging import Job
from kerfmark.errors import Origin, SourceError, TargetError
from kerfmark.layout.derive import settled
from kerfmark.layout.model import Layout, PartSpec, SourceSpec
from kerfmark.layout.text import parse_layout
from kerfmark.ledger.account import accounts
from kerfmark.ledger.file_rows import FileRows
from kerfmark.ledger.prove import (
    Difference,
    SourceProof,
    comparable_row,
    told_differences,
    with_ragged,
)
from kerfmark.ledger.records import Ledger, RowSetAside
from kerfmark.ledger.source_values import as_known
from kerfmark.profile.encode import encode
from kerfmark.progress import Progress, silent
from kerfmark.verbs.folder_database import FolderDatabase, loaded_file
from kerfmark.verbs.loads import shown
from kerfmark.verbs.on_cluster import DELIMITED, files_for_executors
from kerfmark.verbs.prove import ProveResult, on_purpose
from kerfmark.verbs.recording import now
from kerfmark.verbs.sources import as_loaded, open_described, open_loaded

if TYPE_CHECKING:
    from pyspark.sql import SparkSession


def prove_on_cluster(
    folder: str | Path, cluster: str, *, shared: str | Path = "", progress: Progress = silent
) -> ProveResult:
    """Compares every row of every source with what the tables of a folder show, on the cluster at
    an address. What is needed on the way is in the folder `shared` ("": in the one that is proven),
    and is gone afterwards.

    Raises as `prove`; and UsageError where there is no cluster.
    """
    started, place = time.perf_counter(), absolute(str(folder))
    if not is_folder(place):
        raise TargetError(
            "a cluster proves a folder that a cluster wrote",
            code="target.none",
            origin=Origin(str(folder)),
            next="kerfmark prove DB, without --cluster, proves a database",
        )
    sets = read_folder(place)
    layout = settled(parse_layout(sets.layout, f"{place}/kerfmark.json"), sets.sources)
    target = Target(str(shared) or place, working=True)
    try:
        with connected(cluster, progress) as (session, step):
            work = _Work(session, layout, sets, place, target.staging, step)
            proofs = [work.proof(name) for name in layout.sources if name in work.units]
            progress("checking links", 0, 0)
            broken = tuple(work.proven.broken_links())
    finally:
        target.close()
    with FolderDatabase(Path(place)).reading_ledger() as reader:
        ledger = Ledger(reader)
        account = tuple(accounts(ledger, reader, {s: layout.base_of(s) for s in layout.sources}))
        loads = tuple(shown(ledger, load) for load in ledger.live)
    return ProveResult(
        str(folder),
        tuple(proofs),
        account,
        tuple(one for units in work.units.values() for one in _whole_files(units, work.loads)),
        broken,
        loads,
        tuple((n, t.rows) for n, t in sets.tables.items()),
        tuple(row for load in sets.live for row in load.set_aside),
        (),
        (),
        tuple(on_purpose(layout)),
        sets.layout,
        now(),
        __version__,
        round(time.perf_counter() - started, 3),
    )


class _Work:
    """The sources of a folder, read again by the executors of a cluster: what became of the units
    of each, and with which load each unit came."""

    def __init__(
        self,
        session: SparkSession,
        layout: Layout,
        sets: DataSets,
        place: str,
        staging: str,
        progress: Progress,
    ) -> None:
        self.layout, self.sets, self.place = layout, sets, place
        self.session, self.staging, self.progress = session, staging, progress
        self.proven = Proof(session, layout, sets.tables, place)
        self.files = {
            name: [(load.number, f) for load in sets.live for f in load.files if f.source == name]
            for name in layout.sources
        }
        self.units: dict[str, list[UnitExpected]] = {}
        self.loads: dict[int, int] = {}
        job = Job(layout, self.proven.plan, staging, open_described, dict(sets.sources))
        self._read_by_executors(session, job)
        self._read_here(job)

    def _read_by_executors(self, session: SparkSession, job: Job) -> None:
        distributed, load_of = dict[str, SourceFiles](), dict[int, int]()
        apart_of: dict[int, list[int]] = {}
        for name, files in self.files.items():
            found = [
                files_for_executors(
                    _spec(self.layout, load, f, _seen_from(self.place, f.file)), Path()
                )
                for load, f in files
            ]
            mine = [file for some in found if some is not None for file in some]
            if not files or None in found:
                continue
            apart = self._apart(name)
            for (load, f), (place, spec), rows in zip(files, mine, apart, strict=True):
                _require_there(place, f)
                load_of[id(spec)] = load
                apart_of[id(spec)] = [row.row for _, row in rows]
            delimited = all(Path(place).suffix.lower() in DELIMITED for place, _ in mine)
            distributed[name] = SourceFiles(tuple(mine), delimited, self.sets.sources[name])
        units = units_of(session, job.folder, distributed, self.progress)
        prepare(session, sum(u.end - u.start or size_of(u.place) for u in units))
        asked = [(unit, apart_of[id(unit.spec)]) for unit in units]
        said = in_tasks(
            session, job.folder, asked, partial(_expected, job), "reading", self.progress
        )
        for unit, text in zip(units, said, strict=True):
            self.units.setdefault(unit.source, []).append(UnitExpected.of(text))
            self.loads[unit.number] = load_of[id(unit.spec)]

    def _read_here(self, job: Job) -> None:
        """The sources that only this process reads: a unit for each file."""
        number = len(self.loads)
        for name, files in self.files.items():
            if name in self.units:
                continue
            for (load, f), rows in zip(files, self._apart(name), strict=True):
                mine = [loaded_file(load, f, f.as_read)]
                apart = np.array([record for record, _ in rows], np.int64)
                source = open_loaded(self.layout, name, mine, Path(self.place), as_known)
                unit = Unit(number, name, source.location, self.layout.sources[name])
                encoded = encode(source, self.progress, strict=False)
                self.units.setdefault(name, []).append(expected(job, unit, encoded, apart))
                self.loads[number] = load
                number += 1

    def _apart(self, name: str) -> list[list[tuple[int, RowSetAside]]]:
        """For each file of a source the rows that were set aside, with their records in it."""
        out: list[list[tuple[int, RowSetAside]]] = []
        begins: dict[int, int] = {}
        loads = {load.number: load for load in self.sets.live}
        for load, f in self.files[name]:
            first = begins.get(load, 0)
            begins[load] = first + f.rows
            out.append(
                [
                    (row.record - first, row)
                    for row in loads[load].set_aside
                    if row.source == name and first <= row.record < begins[load]
                ]
            )
        return out

    def proof(self, name: str) -> SourceProof:
        """The proof of one source."""
        units = self.units[name]
        self.progress(f"comparing {name}", 0, 0)
        found = self.proven.compare(name, self.sets.sources[name], units, self.loads)
        rows, named = sum(u.rows for u in units), found.named
        apart = sum(map(len, self._apart(name)))
        differences, total = _differences(found, Places({u.unit: u.runs for u in units}))
        proof = SourceProof(
            name,
            _called([f for _, f in self.files[name]]),
            rows,
            found.shown - named,
            rows * len(found.headers),
            self._changed(name),
            total,
            differences,
            named,
            apart,
            sum(u.left_out for u in units),
            sum(u.changed for u in units),
            rows,
        )
        aside = (r for load in self.sets.live for r in load.set_aside)
        told = [r for r in aside if r.source == name and r.record < 0]
        width = len(self.sets.sources[name])
        ragged = [(r.file, r.row, r.told(width)) for u in units for r in u.ragged_rows]
        return with_ragged(proof, ragged, sum(u.ragged for u in units), told)

    def _changed(self, name: str) -> bool:
        """Whether a file has other bytes than when it was loaded."""
        was = [part for _, f in self.files[name] for part in self._parts(f)]
        now = [(f.place, f.start, f.fingerprint) for u in self.units[name] for f in u.files]
        if [at for *at, _ in was] == [at for *at, _ in now]:
            return was != now
        # it was read in other blocks
        parts = [
            (place, start, end, said)
            for _, f in self.files[name]
            for place, start, end, said in self._blocks(f)
        ]
        same = in_tasks(
            self.session, self.staging, parts, _as_it_was, "comparing files", self.progress
        )
        return not all(same)

    def _parts(self, file: FileRead) -> list[tuple[str, int, str]]:
        return [(place, start, said) for place, start, _, said in self._blocks(file)]

    def _blocks(self, file: FileRead) -> list[tuple[str, int, int, str]]:
        """The parts of a file that was loaded: its place, where they begin and end, and their
        fingerprints. The last one goes to the end that the file has now."""
        place = _seen_from(self.place, file.file)
        some = [(b.start, b.end, b.fingerprint) for b in file.blocks]
        some = some or [(0, file.bytes, file.fingerprint)]
        end = max(size_of(place), some[-1][0]) if is_file(place) else some[-1][1]
        some[-1] = (some[-1][0], end, some[-1][2])
        return [(place, *one) for one in some]


def _as_it_was(part: tuple[str, int, int, str]) -> str:
    """Whether some bytes of a file have a fingerprint: "yes", or nothing."""
    place, start, end, said = part
    return "yes" if fingerprint_of(place, start, end) == said else ""


def _expected(job: Job, asked: tuple[Unit, Sequence[int]]) -> str:
    return expect(job, *asked).text()


def _seen_from(folder: str, file: str) -> str:
    """The place of a file that is called so as seen from a folder."""
    return file if "://" in file else os.path.normpath(f"{folder}/{file}")


def _require_there(place: str, file: FileRead) -> None:
    """Raises SourceError unless a file that was loaded is there."""
    if not is_file(place):
        raise SourceError(
            "the file that was loaded is no longer there",
            code="source.missing",
            origin=Origin(file.file),
            next="put it back, or move the folder with it",
        )


def _spec(layout: Layout, load: int, file: FileRead, place: str) -> SourceSpec:
    """How one file is read again."""
    spec = layout.sources[file.source]
    said = as_loaded(spec, loaded_file(load, file, "")).model_copy(update={"file": place})
    if not (spec.telling or file.told):
        return said
    part = PartSpec(told=file.told, file=place)
    return said.model_copy(update={"file": "", "telling": spec.telling, "parts": (part,)})


def _differences(found: Compared, places: Places) -> tuple[tuple[Difference, ...], int]:
    differences, total = told_differences(
        [(places.origin(at).row, comparable_row(row)) for at, row in found.only_in_source],
        found.lost,
        [comparable_row(row) for row in found.only_in_tables],
        min(found.named, len(found.only_in_tables)),
        found.headers,
    )
    return differences, max(total, found.strange - found.named)


def _called(files: Sequence[FileRead]) -> str:
    names = list(dict.fromkeys(Path(f.file).name for f in files))
    more = f" and {len(names) - 1} more of its shape" if len(names) > 1 else ""
    return f"{names[0]}{more}" if names else ""


def _whole_files(units: Sequence[UnitExpected], loads: Mapping[int, int]) -> list[FileRows]:
    """What the rows of files are, where these were read in several units too."""
    out: dict[tuple[object, ...], FileRows] = {}
    for unit in units:
        for one in unit.all_rows:
            place = {f.place for f in unit.files}
            key = (loads[unit.unit], *sorted(place), one.file, one.sheet, one.part)
            known = out.get(key)
            counts = ("rows", "above", "header", "blank", "left_out", "records")
            sums: Mapping[str, int] = {
                c: getattr(one, c) + (getattr(known, c) if known else 0) for c in counts
            }
            out[key] = FileRows(**{**vars(one), **sums})
    return list(out.values())
