"""cut --beside: files of another kind become tables of their own in a database that Kerfmark made,
linked to the records that it has. They land as a load like any other."""

from __future__ import annotations

import contextlib
import shlex
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import pyarrow.compute as pc

from kerfmark.address import database_at
from kerfmark.errors import DataRefused, KerfmarkError, Origin, TargetError, UsageError
from kerfmark.layout.edit import with_more
from kerfmark.layout.model import VERSION, ColumnSpec, Layout, LinkSpec, SourceSpec, TableSpec
from kerfmark.layout.text import parse_layout, write_layout
from kerfmark.ledger.records import Ledger
from kerfmark.profile.codes import first_rows, gather
from kerfmark.profile.columns import EncodedColumn
from kerfmark.profile.encode import EncodedSource, encode
from kerfmark.profile.types import canonical
from kerfmark.progress import Progress, silent
from kerfmark.read.database import TableSource
from kerfmark.read.source import Reading, Source, with_changes
from kerfmark.store.interface import Database
from kerfmark.structure.near_dependencies import NearMiss
from kerfmark.structure.propose import Proposal, Reason
from kerfmark.structure.references import Reference
from kerfmark.structure.steering import Steering
from kerfmark.verbs.add import Adding, AddOptions, AddResult, FileAdded
from kerfmark.verbs.atomic_write import write_atomically
from kerfmark.verbs.layout_beside import kept_beside
from kerfmark.verbs.mark import TableMarked
from kerfmark.verbs.proposing import Held, mark_sources
from kerfmark.verbs.recording import loaded_files
from kerfmark.verbs.rejects import writable_rejects
from kerfmark.verbs.retry import retried
from kerfmark.verbs.routing import fitting_source
from kerfmark.verbs.sources import open_inputs


@dataclass(frozen=True)
class BesideResult:
    """What was put beside the tables of a database: the new tables and those that they lead to, why
    they are as they are, and the load. `layout` is the file that the longer layout was saved in
    ("": in none, as there is no file beside the database with the layout in force)."""

    layout: str
    tables: tuple[TableMarked, ...]
    reasons: tuple[Reason, ...]
    references: tuple[Reference, ...]
    notes: tuple[tuple[str, str], ...]
    near: tuple[NearMiss, ...]
    against: tuple[str, ...]
    added: AddResult
    seconds: float


def cut_beside(
    inputs: Sequence[str | Path],
    into: str | Path,
    *,
    steering: Steering = Steering(),
    reading: Reading = Reading(),
    rehearsal: bool = False,
    set_aside: str | Path | None = None,
    replace: bool = False,
    progress: Progress = silent,
) -> BesideResult:
    """Makes tables for files of a kind that a database does not know, beside those that it has, and
    links them to the records that are there: what only says again what these say is no table of
    its own. Everything lands, or nothing; `undo` takes the rows back.

    `steering` and `reading` are as in `cut`, `rehearsal` and `set_aside` as in `add`.

    Raises UsageError for a file that the database knows the kind of, DataRefused when the data do
    not fit, TargetError for a database that cannot be written to.
    """
    started = time.perf_counter()
    database: Database = database_at(into)
    aside = None if set_aside is None else writable_rejects(Path(set_aside), replace)
    with database.reading() as reader:
        text = Ledger(reader).layout
    layout = parse_layout(text, "the layout in the database")
    sources, known = _of_new_kinds(layout, open_inputs(inputs, reading), database.name)
    held = held_tables(layout, str(into), progress)
    marked = mark_sources(
        sources, database.layout_path.parent, progress, steering, strict=aside is None, held=held
    )
    proposal, encoded = _only_new(marked.proposal, marked.encoded, layout)
    longer = _longer(text, layout, proposal)
    read = tuple(
        FileAdded(f.file, f.source, "a source of its own from now on", f.rows)
        for f in loaded_files(0, encoded, database.folder)
    )

    def once() -> AddResult:
        with database.changing() as file, contextlib.ExitStack() as written:
            adding = Adding(file, database, Ledger(file), progress)
            if adding.text != text:
                raise TargetError(
                    "another program has changed the layout of the database meanwhile",
                    code="target.changed",
                    origin=Origin(database.name),
                    next="run the command again",
                )
            adding.enlarge(longer, encoded)
            result = adding.land(
                encoded, read, AddOptions(rehearsal=rehearsal, aside=aside), started
            )
            files: Mapping[Path, str | bytes] = adding.rejects
            if not rehearsal:
                files = {**files, **saved}
            written.enter_context(write_atomically(files))
            if not rehearsal:
                file.commit()
        return result

    saved = kept_beside(database, text, longer)
    try:
        added = retried(once)
    except DataRefused as refusal:
        refusal.next = (
            "correct the cells\n"
            "--set-aside FILE lets the other rows land\n"
            "--no-link COLUMN keeps a column as it is"
        )
        raise
    return BesideResult(
        str(database.layout_path) if saved and not rehearsal else "",
        _told(proposal, held),
        proposal.reasons,
        proposal.references,
        (*known, *proposal.notes),
        proposal.near,
        proposal.against,
        added,
        round(time.perf_counter() - started, 3),
    )


def _told(proposal: Proposal, held: Held) -> tuple[TableMarked, ...]:
    """The new tables, and those of the database that they lead to."""
    new, old = proposal.layout.tables, held.layout.tables
    reached, waiting = set[str](), [to for t in new.values() for to in t.parents.values()]
    while waiting:
        name = waiting.pop()
        if name in old and name not in reached:
            reached.add(name)
            waiting += old[name].parents.values()
    rows = proposal.rows | {n: held.encoded[_called(n)].rows for n in reached}
    return tuple(
        TableMarked(
            n, t.source, rows.get(n), t.known_by, tuple(t.columns), t.parents, t.part_of, n in old
        )
        for n, t in (*new.items(), *((n, t) for n, t in old.items() if n in reached))
    )


def _of_new_kinds(
    layout: Layout, sources: Sequence[Source], database: str
) -> tuple[list[Source], list[tuple[str, str]]]:
    """Sources of kinds that a database does not know, and what is to be told of the others. Raises
    UsageError where there are no such."""
    new: list[Source] = []
    known: list[tuple[str, str]] = []
    for source in sources:
        kind = fitting_source(layout, source)
        if kind:
            told = (
                f'passed over: {source.origin()} is of the kind "{kind}", which the database knows'
            )
            known.append((source.name, told))
        else:
            new.append(source)
    if new:
        return new, known
    kind, file = fitting_source(layout, sources[0]), sources[0].origin().file
    raise UsageError(
        f'this is a file of the kind "{kind}", which the database knows',
        code="usage.known-kind",
        origin=sources[0].origin(),
        next=f"kerfmark add {shlex.quote(file)} --into {shlex.quote(database)} puts it into its "
        "tables",
    )


def held_tables(layout: Layout, location: str, progress: Progress = silent) -> Held:
    """The tables of a database that others can link to, as sources of records that are known by
    plain columns, or by one and a link to such a table."""
    sources: dict[str, SourceSpec] = {}
    tables: dict[str, TableSpec] = {}
    encoded: dict[str, EncodedSource] = {}
    for name in layout.parents_first():
        spec = layout.tables[name]
        plain = {
            n: ColumnSpec(header=n, type=str(canonical(c.of_type)))
            for n, c in spec.columns.items()
            if not (c.split or c.told or c.position or c.instead_of)
        }
        sets = [u for u in spec.unique_sets if {*u} <= {*plain}]
        within = _numbered_within(spec, plain, tables)
        if spec.part_of or not (sets or within):
            continue
        progress(f"reading {name}", 0, 0)
        source = TableSource(location, table=name)
        try:
            one = encode(source, progress)
        except KerfmarkError as error:
            if error.code != "source.no-rows":
                raise
            continue
        plain = {n: _as_given(c, one) for n, c in plain.items()}
        links: dict[str, LinkSpec] = {}
        known_by = spec.known_by if spec.known_by in sets else ()
        if within:
            number, link, parent = within
            key = layout.key_columns(parent)[0]
            by = tables[parent].known_by[0]
            column = _through(one.column(link), encoded[_called(parent)], key, by)
            one = _with_column(one, column)
            links = {link: LinkSpec(to=parent, by={by: column.header})}
            known_by = (number, link)
        tables[name] = TableSpec(
            source=_called(name),
            each_row=True,
            known_by=known_by,
            unique=tuple(u for u in sets if u != known_by),
            optional=tuple(o for o in spec.optional if o in plain),
            columns=plain,
            links=links,
        )
        sources[_called(name)] = SourceSpec(file=name)
        encoded[_called(name)] = one
    taken = frozenset({*layout.tables, *layout.sources})
    return Held(Layout(kerfmark=VERSION, sources=sources, tables=tables), encoded, taken)


def _as_given(spec: ColumnSpec, encoded: EncodedSource) -> ColumnSpec:
    """A column in the type of its values as the database spells them; text, where it spells them
    in a way of its own."""
    typed = encoded.column(spec.header).typed(spec.of_type)
    return spec if not typed.null_count else spec.model_copy(update={"type": "text"})


def _called(table: str) -> str:
    """The source of a table of the database."""
    return f"{table} in the database"


def _numbered_within(
    spec: TableSpec, plain: Mapping[str, ColumnSpec], tables: Mapping[str, TableSpec]
) -> tuple[str, str, str] | None:
    """The number and the link by which the records of a table are known, and where that leads;
    None for others."""
    numbers = [k for k in spec.known_by if k in plain]
    links = [k for k in spec.known_by if k in spec.links]
    if len(numbers) != 1 or len(links) != 1 or len(spec.known_by) != 2:
        return None
    parent = spec.links[links[0]].to
    if parent not in tables or len(tables[parent].known_by) != 1:
        return None
    return numbers[0], links[0], parent


def _through(link: EncodedColumn, parent: EncodedSource, key: str, by: str) -> EncodedColumn:
    """What the records that a column leads to are known by."""
    keys, known = parent.column(key), parent.column(by)
    row_of = first_rows(keys.codes, len(keys.values))
    there = pc.index_in(link.values, value_set=keys.values).fill_null(-1)
    rows = gather(
        row_of.astype(np.int64), there.to_numpy(zero_copy_only=False).astype(np.int64), blank=-1
    )
    codes = gather(known.codes, rows, blank=-1)
    of_rows = gather(codes.astype(np.int32), link.codes, blank=-1)
    return EncodedColumn(f"{link.header}.{by}", known.values, of_rows)


def _with_column(encoded: EncodedSource, column: EncodedColumn) -> EncodedSource:
    """A source with a column more."""
    source = with_changes(encoded.source, headers=(*encoded.source.headers, column.header))
    return EncodedSource(source, encoded.found, encoded.rows, [*encoded.columns, column])


def _only_new(
    proposal: Proposal, encoded: Mapping[str, EncodedSource], layout: Layout
) -> tuple[Proposal, dict[str, EncodedSource]]:
    """A proposal and its sources without those of the tables that the database has."""
    old = {_called(name) for name in layout.tables}
    whole = proposal.layout
    kept = Layout.model_construct(
        kerfmark=VERSION,
        existing=False,
        sources={n: s for n, s in whole.sources.items() if n not in old},
        tables={n: t for n, t in whole.tables.items() if t.source not in old},
    )
    return (replace(proposal, layout=kept), {n: e for n, e in encoded.items() if n not in old})


def _longer(text: str, layout: Layout, proposal: Proposal) -> str:
    """The text of the layout in the database with the proposal after it. Raises KerfmarkError
    unless it is read again as both."""
    out = with_more(text, layout, write_layout(proposal.layout, proposal.comments))
    whole = parse_layout(out, "the layout")
    wanted = (layout.sources | proposal.layout.sources, layout.tables | proposal.layout.tables)
    if (whole.sources, whole.tables) != wanted:
        raise KerfmarkError(
            "the layout that was proposed cannot be saved; nothing was kept",
            code="internal",
            next="this is a fault of Kerfmark: please report it",
        )
    return out
