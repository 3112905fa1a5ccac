"""cut: builds a database from a layout, or from plain files by proposing a layout first."""

from __future__ import annotations

import contextlib
import shlex
import threading
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from types import MappingProxyType
from typing import TYPE_CHECKING

import pyarrow.compute as pc

from kerfmark.address import database_at
from kerfmark.engines import script_engine
from kerfmark.errors import DataRefused, Origin, UsageError
from kerfmark.layout.model import Layout
from kerfmark.layout.text import read_layout
from kerfmark.ledger.records import Options, write_layout_text, write_load, write_says
from kerfmark.normalize.split import LinkCount, Split, refused, rehearse
from kerfmark.normalize.table_rows import TableRows
from kerfmark.profile.encode import EncodedSource, encode
from kerfmark.profile.types import TEXT
from kerfmark.progress import Progress, silent
from kerfmark.read.source import Reading
from kerfmark.store.interface import Database, New
from kerfmark.structure.propose import Proposal, Reason
from kerfmark.structure.references import Reference
from kerfmark.structure.steering import Steering
from kerfmark.verbs.add import AddOptions
from kerfmark.verbs.add_result import AddResult
from kerfmark.verbs.atomic_write import write_atomically
from kerfmark.verbs.map_onto import fill
from kerfmark.verbs.mark import layout_text
from kerfmark.verbs.proposing import mark_inputs
from kerfmark.verbs.recording import (
    check_balance,
    first_provenance,
    loaded_files,
    new_load,
    rows_set_aside,
)
from kerfmark.verbs.rejects import rejected, writable_rejects
from kerfmark.verbs.replace_check import as_decided_before, refuse_other_layout, refuse_to_replace
from kerfmark.verbs.sources import open_sources

if TYPE_CHECKING:
    from kerfmark.verbs.beside import BesideResult


@dataclass(frozen=True)
class SourceRead:
    """A source that was read: rows without the header, columns, bytes."""

    name: str
    file: str
    rows: int
    columns: int
    bytes: int
    how: str


@dataclass(frozen=True)
class TableMade:
    """A table that was made. `links` maps foreign key columns to tables."""

    name: str
    rows: int
    key: str
    known_by: tuple[str, ...]
    links: dict[str, str]
    columns: tuple[str, ...]


@dataclass(frozen=True)
class CutResult:
    """What a cut did. `bytes` is the size of the database (0: its server does not tell), or of the
    `script` that builds it; `rehearsed`: nothing was kept; `layout` is the file the layout was
    saved in, or came from; `notes` are (header, remark); `set_aside` counts the rows that were
    written to `rejects` instead, `left_out` those that the layout wants no record of, by source."""

    database: str
    bytes: int
    script: bool
    layout: str
    marked: bool
    sources: tuple[SourceRead, ...]
    tables: tuple[TableMade, ...]
    reasons: tuple[Reason, ...]
    references: tuple[Reference, ...]
    notes: tuple[tuple[str, str], ...]
    links: tuple[LinkCount, ...]
    set_aside: int
    rejects: tuple[str, ...]
    left_out: dict[str, int]
    rehearsed: bool
    seconds: float
    decided: tuple[str, ...] = ()


def cut(
    inputs: Sequence[str | Path],
    into: str | Path = "",
    *,
    script: str | Path | None = None,
    engine: str = "",
    replace: bool = False,
    discard: bool = False,
    rehearsal: bool = False,
    known: str = "",
    beside: bool = False,
    put: Mapping[str, str] = MappingProxyType({}),
    reading: Reading = Reading(),
    steering: Steering = Steering(),
    set_aside: str | Path | None = None,
    progress: Progress = silent,
) -> CutResult | AddResult | BesideResult:
    """Builds the database `into` (a path, or the URL of a server) from one layout (a .toml file) or
    from files of any kind that can be read. With `script` nothing is built: an SQL script for an
    `engine` is written there instead, which builds it.

    Given plain files, the tables are proposed first and the layout is saved beside the database.
    Either the whole database is there afterwards, or everything is as before. `reading` overrules
    what is found about the files, `steering` says what the proposed tables must keep to. Rows that
    do not fit refuse the whole, unless `set_aside` names a file (.csv or .xlsx) for them.

    With `replace`, what Kerfmark made there before is replaced; loads after the first one, changes
    of the layout and rows that no load made are lost only when they are to be discarded
    (`discard`), and what others made never.

    With `rehearsal`, everything is built and checked and nothing is kept.

    With `beside`, files of a kind that the database does not know become tables beside those that
    it has, linked to them; that is a load like those of `add`, and gives a BesideResult. `put`
    gives columns of these files (by header) to tables that are there.

    A layout whose tables are in the database already (`existing`) fills them, which gives an
    AddResult; `known` says what becomes of records that are there.

    Raises UsageError for what cannot be read or written, DataRefused when the data do not fit.
    """
    started = time.perf_counter()
    paths = [Path(p) for p in inputs]
    if beside or put:
        _check_beside(paths, into, beside, new_only=bool(script is not None or discard or known))
        from kerfmark.verbs.beside import cut_beside

        return cut_beside(
            inputs,
            into,
            steering=steering,
            reading=reading,
            put=put,
            rehearsal=rehearsal,
            set_aside=set_aside,
            replace=replace,
            progress=progress,
        )
    if known and not any(p.suffix.lower() == ".toml" for p in paths):
        raise _known_without_records()
    database: Database = database_at(into) if script is None else _script(Path(script), engine)
    given = reading.is_given or steering != Steering()
    if replace and not (given or discard or script):
        paths = [*as_decided_before(database, paths)]
    again = paths != [Path(p) for p in inputs]
    if len(paths) == 1 and paths[0].suffix.lower() == ".toml":
        layout, text = read_layout(paths[0])
        if layout.existing and script is not None:
            raise UsageError(
                "the tables of this layout are in a database already, so no script makes them",
                origin=Origin(str(paths[0])),
                next="use --into DB to fill them",
            )
        if known and not layout.existing:
            raise _known_without_records()
        if layout.existing:
            aside = None if set_aside is None else writable_rejects(Path(set_aside), replace)
            return fill(
                layout,
                text,
                paths[0].parent,
                into,
                AddOptions(known=known, rehearsal=rehearsal, aside=aside),
                progress=progress,
            )
    new = database.new(replace)  # a target that will not do is told before the work
    with contextlib.ExitStack() as always:
        always.callback(new.discard)  # an interrupt may come at any time
        if replace and script is None:  # what others commit from here on is noticed
            refuse_to_replace(database, discard)
        aside = None if set_aside is None else writable_rejects(Path(set_aside), replace)
        if len(paths) == 1 and paths[0].suffix.lower() == ".toml":
            if given:
                raise UsageError(
                    "a layout decides this already",
                    next=f"kerfmark mark {shlex.quote(str(paths[0]))} takes --type and the like "
                    "and writes them; how its sources are read is changed in it",
                )
            layout, text = read_layout(paths[0])
            sources = open_sources(layout, text, paths[0].name, paths[0].parent)
            read = encoded = {
                name: encode(source, progress, strict=aside is None)
                for name, source in sources.items()
            }
            why = "what was decided before holds again (--discard proposes the tables anew)"
            notes = ((paths[0].name, why),) if again else ()
            proposal, saved, built = Proposal(layout, (), notes, {}), paths[0], None
        else:
            saved = database.layout_path
            marked = mark_inputs(
                inputs, reading, saved.parent, progress, steering, strict=aside is None
            )
            proposal, encoded, read = marked.proposal, marked.encoded, marked.read
            built = marked.built if aside is None and not new.codec else None
            layout = proposal.layout
            text = layout_text(layout, proposal.comments)
            refuse_other_layout(saved, text, database, replace=replace, discard=discard)
        try:
            done = built or rehearse(layout, encoded, set_aside=aside is not None, codec=new.codec)
            if done.problems.total:
                own = saved == paths[0]
                mark = f"kerfmark mark {shlex.quote(str(saved))}" if own else ""
                raise refused(done.problems, encoded, mark)
        except DataRefused as error:
            if saved != paths[0]:  # there is no layout yet in which to follow the advice
                files = shlex.join(map(str, inputs))
                error.next += (
                    f"\nkerfmark mark {files} -o {shlex.quote(str(saved))} writes the "
                    "layout to edit and to cut from"
                )
            raise
        rejects = (
            rejected(aside, read, done.set_aside) if aside is not None and done.set_aside else {}
        )
        with write_atomically(
            {} if rehearsal else rejects | ({saved: text} if saved != paths[0] else {})
        ):
            options = Options(set_aside=aside is not None, decided=again or bool(proposal.decided))
            _build(database, new, done, text, encoded, options, rehearsal, progress)
        rows = {t.name: t.rows for t in done.tables}
        return CutResult(
            database.name,
            0 if rehearsal else database.size(),
            script is not None,
            str(saved),
            saved != paths[0],
            tuple(
                SourceRead(
                    n, e.source.origin().file, e.rows, len(e.columns), e.found.size, e.source.how
                )
                for n, e in encoded.items()
            ),
            tuple(table_made(layout, n, rows[n]) for n in layout.tables if n in rows),
            proposal.reasons,
            proposal.references,
            (*proposal.notes, *((database.name, r) for r in new.remarks)),
            tuple(done.links),
            len(done.set_aside),
            tuple(map(str, rejects)),
            done.left_out,
            rehearsal,
            round(time.perf_counter() - started, 3),
            proposal.decided,
        )


def _check_beside(paths: Sequence[Path], into: str | Path, beside: bool, *, new_only: bool) -> None:
    """Raises UsageError for what does not go with tables beside those that are there; `new_only`:
    something is said that is for a new database."""
    if not beside:
        raise UsageError(
            "--put needs --beside",
            next="--beside puts the files beside the tables of a database, where --put works\n"
            "leave --put out: the layout decides about tables that are to be made",
        )
    if new_only or not into:
        raise UsageError(
            "--beside needs an existing database",
            next="name it, and leave out what is for a new one: a script, --discard, --known",
        )
    if any(p.suffix.lower() == ".toml" for p in paths):
        raise UsageError(
            "--beside takes files, not a layout",
            next="name the files; --known-by, --no-link and the like steer what is found",
        )


def _script(path: Path, engine: str) -> Database:
    from kerfmark.store.script import ScriptFile

    return ScriptFile(path, script_engine(engine))


def _known_without_records() -> UsageError:
    return UsageError(
        "a new database has no records yet",
        next="leave out --known; it is for a layout of tables that are there "
        "(kerfmark mark --onto), and for kerfmark add",
    )


def _build(
    database: Database,
    file: New,
    done: Split,
    text: str,
    encoded: dict[str, EncodedSource],
    options: Options,
    rehearsal: bool,
    progress: Progress,
) -> None:
    """Writes the tables into a new database and publishes it, unless it is only rehearsed."""
    tables = done.tables
    with file:
        layout = _with_short_texts(done, file.short_texts) if file.short_texts else done.layout
        file.create(layout, {n: e.source.headers for n, e in encoded.items()})
        for table in tables:
            batches = table.batches(file.to_engine, _counting(table, progress))
            file.load(
                table.name,
                batches.schema,
                batches,
                numbered=done.layout.has_generated_key(table.name),
            )
        progress("indexing", 0, 0)
        file.finish()
        write_layout_text(file.append, 1, text)
        files, apart, says = (
            loaded_files(1, encoded, database.folder, done),
            rows_set_aside(1, encoded, done),
            first_provenance(1, tables),
        )
        check_balance(done.layout, files, says, apart)
        write_load(file.append, new_load(1, "cut", 1, options), files, apart)
        write_says(file.append, says)
        progress("checking", 0, 0)
        file.verify({t.name: t.rows for t in tables})
        if not rehearsal:
            file.publish()


def _with_short_texts(done: Split, most: int) -> Layout:
    """The layout with a width for texts that have none, where all of a column are short."""
    tables = dict(done.layout.tables)
    for table in done.tables:
        columns = dict(tables[table.name].columns)
        for name, spec in columns.items():
            if spec.of_type == TEXT:
                longest = pc.max(pc.utf8_length(table.typed(name).values)).as_py() or 0
                if longest <= most:
                    columns[name] = spec.model_copy(update={"type": f"text({most})"})
        tables[table.name] = tables[table.name].model_copy(update={"columns": columns})
    return done.layout.model_copy(update={"tables": tables})


def _counting(table: TableRows, progress: Progress) -> Callable[[int], None]:
    """Tells how many rows of a table were made, by several threads."""
    done, lock = 0, threading.Lock()

    def told(rows: int) -> None:
        nonlocal done
        with lock:
            done += rows
            progress(f"writing {table.name}", done, table.rows)

    return told


def table_made(layout: Layout, name: str, rows: int) -> TableMade:
    """A table of a layout that was made with so many rows."""
    spec = layout.tables[name]
    key = ", ".join(layout.key_columns(name))
    return TableMade(name, rows, key, spec.known_by, spec.parents, tuple(spec.columns))
