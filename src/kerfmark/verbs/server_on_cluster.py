"""cut on a cluster into the tables of a server: executors write the tables as files and bring these
to the server at the same time, each into a part of its own; one transaction makes the tables of
them, with keys, links, views and the ledger."""

from __future__ import annotations

import uuid
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from kerfmark.address import address, database_at, is_url
from kerfmark.cluster.build import Built, folder_of, in_tasks
from kerfmark.cluster.folder import Part, Target, read_part
from kerfmark.cluster.staging import fingerprint_as_read
from kerfmark.engines import by_scheme, servers
from kerfmark.errors import UsageError
from kerfmark.ledger.records import (
    LoadedFile,
    Options,
    Says,
    file_beside,
    write_layout_text,
    write_load,
    write_says,
)
from kerfmark.normalize.policy import CREATED, MADE
from kerfmark.profile.types import ColumnType, parse_type
from kerfmark.progress import Progress
from kerfmark.store.interface import New, Parts
from kerfmark.verbs.cluster_records import load_of, rows_apart, type_of_stored
from kerfmark.verbs.recording import check_balance, new_load
from kerfmark.verbs.replace_check import refuse_to_replace

if TYPE_CHECKING:
    from pyspark.sql import SparkSession


@dataclass(frozen=True)
class _Bringing:
    """What one task brings: a file that executors wrote, below a folder, as the part of a number;
    its columns, and the number of its first row where the table has a key of its own (0: it has
    not)."""

    number: int
    table: str
    folder: str
    part: Part
    types: tuple[tuple[str, ColumnType], ...]
    first: int


def server_parts(into: str) -> Parts:
    """What takes the parts of a server. Raises UsageError for one that takes none."""
    found = address(into)
    if found.engine.parts is None:
        raise UsageError(
            f"a cluster brings nothing to {found.engine.title} yet",
            code="cluster.target",
            next="name a folder, or a server of "
            f"{' or '.join(e.title for e in servers() if e.parts)}",
        )
    parts: Parts = found.engine.parts(found, uuid.uuid4().hex[:12])
    return parts


@dataclass(frozen=True)
class ServerTarget:
    """How the tables of a server are built: the layout's text; whether those that are there are
    replaced, also with later loads (`discard`); and whether nothing is kept (`rehearsal`)."""

    text: str
    replace: bool
    discard: bool
    rehearsal: bool


class IntoServer:
    """The tables of a server, as the target of a cut on a cluster."""

    def __init__(self, into: str, how: ServerTarget) -> None:
        self.into, self.how = into, how
        self.parts = server_parts(into)
        self.shown = database_at(into).name
        self._new().discard()  # one that will not do is told before the work

    def _new(self) -> New:
        """The tables to build. Raises what building there would raise."""
        database = database_at(self.into)
        new: New = database.new(self.how.replace)
        try:
            if self.how.replace:  # what others commit from here on is noticed
                refuse_to_replace(database, self.how.discard)
        except BaseException:
            new.discard()
            raise
        return new

    def take(
        self,
        session: SparkSession,
        built: Built,
        target: Target,
        headers: Mapping[str, Sequence[str]],
        progress: Progress,
    ) -> None:
        """Brings what was built below the folder `target`."""
        bringing = [*self._bringing(built, target)]
        with self.parts.held():
            put = _putting(self.parts)
            in_tasks(session, target.staging, bringing, put, "copying", progress)
            prints = self._fingerprints(session, built, target, progress)
            progress("inserting", 0, 0)
            with self._new() as new:
                self._insert(new, built, bringing, headers)
                progress("indexing", 0, 0)
                new.finish()
                self._record(new, built, prints)
                new.verify(dict(built.rows))
                if not self.how.rehearsal:
                    new.publish()

    def _bringing(self, built: Built, target: Target) -> Sequence[_Bringing]:
        out: list[_Bringing] = []
        for name in built.layout.parents_first():
            numbered = built.layout.has_generated_key(name)
            types = tuple(
                (c, parse_type(type_of_stored(built.layout, name, c)))
                for c in built.shapes[name].names
            )
            first = 1
            for file in built.files[name]:
                place = f"{target.data}/{folder_of(built.layout, name)}/{file.file}"
                part = Part(place, file.rows, file.bytes, file.fingerprint, 1)
                out.append(
                    _Bringing(len(out), name, target.place, part, types, 0 if numbered else first)
                )
                first += file.rows
        return out

    def _fingerprints(
        self, session: SparkSession, built: Built, target: Target, progress: Progress
    ) -> dict[str, str]:
        """Those of the files that were read in blocks, by which they are known again."""
        units = [*{u.place: u for u in built.units if u.is_block}.values()]
        job = built.job
        found = in_tasks(
            session,
            target.staging,
            units,
            lambda unit: fingerprint_as_read(job, unit),
            "fingerprints",
            progress,
        )
        return {file_beside(u.place, None): f for u, f in zip(units, found, strict=True)}

    def _insert(
        self,
        new: New,
        built: Built,
        bringing: Sequence[_Bringing],
        headers: Mapping[str, Sequence[str]],
    ) -> None:
        layout = built.layout
        new.create(layout, headers)
        for name in layout.parents_first():
            keys = [] if layout.has_generated_key(name) else layout.key_columns(name)
            mine = [one.number for one in bringing if one.table == name]
            self.parts.take_in(new, name, built.shapes[name].names, keys, mine)

    def _record(self, new: New, built: Built, prints: Mapping[str, str]) -> None:
        """Writes the ledger."""
        write_layout_text(new.append, 1, self.how.text)
        load = load_of(built, "cut", 1)
        files = [
            LoadedFile(
                1,
                f.source,
                f.file,
                f.bytes,
                prints[f.file] if f.blocks else f.as_read,
                f.rows,
                f.told,
                f.reading,
                f.left_out,
            )
            for f in load.files
        ]
        says: list[Says] = []
        for name, rows in built.rows.items():
            created = load.created.get(name, 0)
            if rows > created:
                says.append(Says(1, name, 1, rows - created, MADE))
            if created:
                says.append(Says(1, name, rows - created + 1, rows, CREATED))
        apart = [*rows_apart(built, 1)]
        check_balance(built.layout, files, says, apart)
        options = Options(set_aside=built.job.apart)
        write_load(new.append, new_load(1, "cut", 1, options), files, apart)
        write_says(new.append, says)


def _putting(parts: Parts) -> Callable[[_Bringing], str]:
    """The task of an executor that brings a file."""

    def put(one: _Bringing) -> str:
        rows = read_part(one.folder, one.part, {n: t.arrow for n, t in one.types})
        parts.put(one.number, one.types, rows, one.first)
        return ""

    return put


def is_server(into: str | Path) -> bool:
    """Whether a target is a server, and not a folder."""
    return by_scheme(str(into).partition("://")[0]) is not None and is_url(str(into))
