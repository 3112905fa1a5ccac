"""The folder that a cluster writes: a data set of Parquet files for each table, and one file that
says which files of which are in force.

    kerfmark.json                 tables, keys, links, fingerprints, loads; published last
    layout.toml                   the layout, for people
    load-000001-1f3a.../TABLE/    the files of a load

Only what `kerfmark.json` lists is there for a reader. It is written under another name and moved
over the old one, so that a reader sees all of a load or nothing of it.
"""

from __future__ import annotations

import json
import os
import socket
import time
import uuid
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.fs as pafs
import pyarrow.parquet as pq
import xxhash

from kerfmark import __version__
from kerfmark.address import DATA_SETS
from kerfmark.cluster.files import filesystem
from kerfmark.errors import Origin, TargetError
from kerfmark.ledger.records import RowSetAside
from kerfmark.leftovers import is_running

NAME = DATA_SETS
LAYOUT = "layout.toml"
STAGING = ".kerfmark-"
"""How the folder of a run begins, which is gone when the run has ended."""
LOAD = "load-"
_DRIVER = "driver.json"
_OLD = 7 * 24 * 3600.0
"""Seconds after which a run on another machine is taken for one that was killed."""
FORM = 1


@dataclass(frozen=True)
class Part:
    """A file of a table: its place in the folder, its records, bytes, and their fingerprint (XXH3
    of 128 bits), and the load that it is of."""

    file: str
    rows: int
    bytes: int
    fingerprint: str
    load: int


@dataclass(frozen=True)
class Link:
    """A foreign key: the columns, the table they refer to, and its columns."""

    columns: tuple[str, ...]
    to: str
    to_columns: tuple[str, ...]


@dataclass(frozen=True)
class TableSet:
    """A table: its columns with their types in the layout's words, which of them may be blank, its
    keys and links, its records, and its files in the order of the primary key."""

    columns: tuple[tuple[str, str], ...]
    optional: tuple[str, ...]
    key: tuple[str, ...]
    known_by: tuple[str, ...]
    unique: tuple[tuple[str, ...], ...]
    links: tuple[Link, ...]
    rows: int
    files: tuple[Part, ...]


@dataclass(frozen=True)
class Block:
    """Bytes of a file that were read at once, and their fingerprint."""

    start: int
    end: int
    fingerprint: str


@dataclass(frozen=True)
class FileRead:
    """A file that a load took in, as seen from the folder; rows `left_out` are those that the
    layout wants no record of. `told` and `reading`: see `ledger.records.LoadedFile`. Fingerprints
    are those of bytes; where it was read in `blocks`, these have some, and the whole has none.
    `as_read` is the fingerprint that one machine knows the file by."""

    source: str
    file: str
    bytes: int
    fingerprint: str
    rows: int
    left_out: int
    told: str = ""
    reading: str = ""
    blocks: tuple[Block, ...] = ()
    as_read: str = ""

    @property
    def sheet(self) -> str:
        """The sheet of a workbook that it is."""
        return str(json.loads(self.reading or "{}").get("sheet", ""))


@dataclass(frozen=True)
class LoadMade:
    """A load: its number, what made it and when (UTC), the files that it took in, and the records
    that it made of each table, of which some were `created` last, as others only name them; when it
    was taken back ("": it was not); and the rows that were `set_aside`, if such were to be."""

    number: int
    verb: str
    made: str
    version: str
    files: tuple[FileRead, ...]
    rows: Mapping[str, int] = field(default_factory=dict)
    created: Mapping[str, int] = field(default_factory=dict)
    undone: str = ""
    apart: bool = False
    set_aside: tuple[RowSetAside, ...] = ()


@dataclass(frozen=True)
class DataSets:
    """What `kerfmark.json` says: the layout, the headers of each source, tables, and loads."""

    layout: str
    sources: Mapping[str, tuple[str, ...]]
    tables: Mapping[str, TableSet]
    loads: tuple[LoadMade, ...]

    @property
    def live(self) -> tuple[LoadMade, ...]:
        """The loads that were not taken back."""
        return tuple(load for load in self.loads if not load.undone)

    def text(self) -> str:
        """As JSON."""
        said = {"kerfmark": FORM, "version": __version__, **asdict(self)}
        return json.dumps(said, ensure_ascii=False, indent=1) + "\n"

    @classmethod
    def of(cls, text: str, place: str) -> DataSets:
        """From JSON. Raises TargetError for what is none of ours."""
        try:
            said = json.loads(text)
            if said["kerfmark"] != FORM:
                raise TargetError(
                    "this folder was written by a later version of Kerfmark",
                    code="target.version",
                    origin=Origin(place),
                    next=f"install version {said.get('version', '')} or later",
                )
            tables = {n: _table(t) for n, t in said["tables"].items()}
            loads = tuple(_load(one) for one in said["loads"])
            outside = [
                f.file
                for t in tables.values()
                for f in t.files
                if f.file.startswith(("/", "\\")) or ".." in f.file.split("/")
            ]
            if outside:
                raise ValueError(f"{outside[0]} is not in the folder")
            sources = {n: tuple(headers) for n, headers in said["sources"].items()}
            return cls(said["layout"], sources, tables, loads)
        except (ValueError, KeyError, TypeError, AttributeError) as error:
            raise TargetError(
                f"{NAME} of this folder cannot be read",
                code="target.damaged",
                origin=Origin(place),
                why=str(error) or repr(error),
                next="put back the file as it was written, or build the folder anew with --replace",
            ) from error


def _load(said: dict[str, Any]) -> LoadMade:
    files = tuple(_file(f) for f in said["files"])
    apart = tuple(RowSetAside(**r) for r in said.get("set_aside", ()))
    return LoadMade(**{**said, "files": files, "set_aside": apart})


def _file(said: dict[str, Any]) -> FileRead:
    return FileRead(**{**said, "blocks": tuple(Block(**b) for b in said["blocks"])})


def _table(said: dict[str, Any]) -> TableSet:
    return TableSet(
        tuple((n, t) for n, t in said["columns"]),
        tuple(said["optional"]),
        tuple(said["key"]),
        tuple(said["known_by"]),
        tuple(tuple(u) for u in said["unique"]),
        tuple(Link(tuple(k["columns"]), k["to"], tuple(k["to_columns"])) for k in said["links"]),
        said["rows"],
        tuple(Part(**f) for f in said["files"]),
    )


class Target:
    """A folder that is to be written; nothing in it changes for a reader until `publish`. With
    `changing` it is one that is there, with what was read of it; when it is only `working` there,
    nothing is published, and it may hold anything."""

    def __init__(
        self,
        place: str,
        *,
        replace: bool = False,
        changing: DataSets | None = None,
        working: bool = False,
    ) -> None:
        self.place = absolute(place)
        self.system, self.path = filesystem(self.place)
        self.run, self._replace, self._changing = uuid.uuid4().hex[:12], replace, changing
        self._made = self.system.get_file_info(self.path).type == pafs.FileType.NotFound
        if changing is None and not working:
            self._refuse(replace)
        self._sweep()
        self.data = f"{LOAD}{self._next():06}-{self.run}"
        """The folder, in this one, of the files of this load."""
        self.staging = f"{self.place}/{STAGING}{self.run}"
        self._create(f"{self.path}/{STAGING}{self.run}")
        who = {"host": socket.gethostname(), "process": os.getpid(), "began": time.time()}
        self._write(f"{self.path}/{STAGING}{self.run}/{_DRIVER}", json.dumps(who))

    def _refuse(self, replace: bool) -> None:
        """Raises TargetError where something is there that must not be replaced."""
        info = self.system.get_file_info(self.path)
        if info.type == pafs.FileType.File:
            raise TargetError(
                "a cluster writes a folder, and this is a file",
                code="target.exists",
                origin=Origin(self.place),
                next="name another place",
            )
        inside = [i.base_name for i in self._inside()]
        ours = NAME in inside
        strangers = [n for n in inside if not (n in (NAME, LAYOUT) or n.startswith((LOAD, ".")))]
        if (inside and not ours and strangers) or (ours and strangers and replace):
            raise TargetError(
                "the folder holds files that Kerfmark did not write",
                code="target.exists",
                origin=Origin(self.place),
                why=f"there is {', '.join(sorted(strangers)[:3])}",
                next="name another folder, or an empty one",
            )
        if ours and not replace:
            raise TargetError(
                "the folder exists already",
                code="target.exists",
                origin=Origin(self.place),
                next="use --replace to build it anew, or name another folder",
            )

    def _inside(self) -> list[pafs.FileInfo]:
        if self.system.get_file_info(self.path).type != pafs.FileType.Directory:
            return []
        return list(self.system.get_file_info(pafs.FileSelector(self.path)))

    def _next(self) -> int:
        numbers = [
            int(i.base_name.split("-")[1])
            for i in self._inside()
            if i.base_name.startswith(LOAD) and i.base_name.split("-")[1].isdigit()
        ]
        return max(numbers, default=0) + 1

    def _sweep(self) -> None:
        """Removes what programs that were killed have left, and nothing of one that still runs."""
        for info in self._inside():
            name = info.base_name
            if not name.startswith(STAGING) or self._runs(info.path):
                continue
            run = name.removeprefix(STAGING)
            for other in self._inside():
                if other.base_name.startswith(LOAD) and other.base_name.endswith(run):
                    self.system.delete_dir(other.path)
            self.system.delete_dir(info.path)

    def _runs(self, staging: str) -> bool:
        """Whether the program that made a folder may still run."""
        try:
            with self.system.open_input_stream(f"{staging}/{_DRIVER}") as file:
                who = json.loads(file.read())
        except (OSError, ValueError):
            return False
        if who["host"] != socket.gethostname():
            return bool(time.time() - who["began"] < _OLD)
        return is_running(who["process"])

    def published(self) -> bool:
        """Whether what this run has written is in force."""
        try:
            sets = read_folder(self.place)
        except TargetError:
            return False
        return any(self.data in f.file for t in sets.tables.values() for f in t.files)

    def publish(self, sets: DataSets) -> None:
        """Puts what was written in force, in one step, and removes what it replaces. Raises
        TargetError where another program has published there meanwhile, unless that is to be
        replaced."""
        if self._changing is not None:
            if read_folder(self.place) != self._changing:
                raise TargetError(
                    "another program has changed the folder meanwhile",
                    code="target.changed",
                    origin=Origin(self.place),
                    next="run the same command again: nothing was published",
                )
        elif not self._replace and is_folder(self.place):
            raise TargetError(
                "the folder exists already: another program made it meanwhile",
                code="target.exists",
                origin=Origin(self.place),
                next="name another folder, or look at this one and use --replace",
            )
        before = [i for i in self._inside() if i.base_name.startswith(LOAD)]
        part = f"{self.path}/{STAGING}{self.run}/{NAME}"
        self._write(part, sets.text())
        self.system.move(part, f"{self.path}/{NAME}")
        self._write(f"{self.path}/{LAYOUT}", sets.layout)
        needed = {f.file.split("/")[0] for t in sets.tables.values() for f in t.files}
        others = {i.base_name.removeprefix(STAGING) for i in self._inside()} - {self.run}
        for old in before:
            under_way = old.base_name.rpartition("-")[2] in others  # another program writes there
            if old.base_name not in needed and old.base_name != self.data and not under_way:
                self.system.delete_dir(old.path)

    def close(self) -> None:
        """Removes what is needed only while it is written, and all of it where it was not
        published."""
        done = self.published()
        for info in self._inside():
            if info.base_name == f"{STAGING}{self.run}" or (
                not done and info.base_name == self.data
            ):
                self._remove(info.path)
        if self._made and not done and not self._inside():
            self.system.delete_dir(self.path)

    def _remove(self, path: str) -> None:
        """Removes a folder, into which a task that was given up may be writing."""
        for pause in (0.1, 0.5, 2.0):
            try:
                self.system.delete_dir(path)
            except FileNotFoundError:
                return
            except OSError:
                time.sleep(pause)
            else:
                return
        self.system.delete_dir(path)

    def _create(self, path: str) -> None:
        try:
            self.system.create_dir(path, recursive=True)
        except OSError as error:
            raise TargetError(
                "the folder cannot be made",
                code="target.place",
                origin=Origin(self.place),
                why=str(error),
                next="name another place, or look at its permissions and its room",
            ) from error

    def _write(self, path: str, text: str) -> None:
        with self.system.open_output_stream(path) as out:
            out.write(text.encode())


def read_part(place: str, part: Part, types: Mapping[str, pa.DataType]) -> pa.Table:
    """A file of a table of a folder: columns with their types, in which Parquet does not have all
    of them. Raises TargetError where it is not as it was written."""
    system, path = filesystem(f"{place}/{part.file}")
    try:
        with system.open_input_stream(path) as file:
            data = file.read()
    except OSError as error:
        raise _damaged(f"{place}/{part.file}", "cannot be read", str(error)) from error
    if xxhash.xxh3_128(data).hexdigest() != part.fingerprint:
        why = f"{len(data):,} bytes with another fingerprint, of {part.bytes:,}"
        raise _damaged(f"{place}/{part.file}", "is not as it was written", why)
    table = pq.read_table(pa.BufferReader(data), columns=[*types])
    return table.cast(pa.schema([pa.field(n, t) for n, t in types.items()]))


def _damaged(place: str, what: str, why: str) -> TargetError:
    return TargetError(
        f"a file of the folder {what}",
        code="target.damaged",
        origin=Origin(place),
        why=why,
        next="put it back as it was written, or build the folder anew with --replace",
    )


def absolute(place: str) -> str:
    """A place as every machine names it."""
    return place.rstrip("/") if "://" in place else str(Path(place).absolute())


def is_folder(place: str) -> bool:
    """Whether a place is a folder that a cluster wrote."""
    system, path = filesystem(place)
    return bool(system.get_file_info(f"{path}/{NAME}").type == pafs.FileType.File)


def read_folder(place: str) -> DataSets:
    """What is in force in a folder. Raises TargetError where it is none of ours."""
    system, path = filesystem(place.rstrip("/"))
    try:
        with system.open_input_stream(f"{path}/{NAME}") as file:
            text = file.read().decode()
    except OSError as error:
        raise TargetError(
            "this is not a folder that Kerfmark wrote",
            code="target.none",
            origin=Origin(place),
            why=f"there is no {NAME} in it",
            next="name one that `kerfmark cut LAYOUT --cluster ADDRESS --into FOLDER` made",
        ) from error
    return DataSets.of(text, place)
