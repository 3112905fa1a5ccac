"""cut --beside: files of another kind become tables of their own in a database that Kerfmark made,
linked to the records that it has. They land as a load like any other."""

from __future__ import annotations

import contextlib
import shlex
import time
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from types import MappingProxyType

import numpy as np
import pyarrow.compute as pc

from kerfmark.address import database_at
from kerfmark.errors import DataRefused, KerfmarkError, UsageError
from kerfmark.layout.edit import with_column, with_more
from kerfmark.layout.model import VERSION, ColumnSpec, Layout, LinkSpec, SourceSpec, TableSpec
from kerfmark.layout.names import free_name, snake
from kerfmark.layout.text import parse_layout, write_layout
from kerfmark.ledger.records import Ledger
from kerfmark.profile.codes import distinct, first_rows, gather
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
from kerfmark.verbs.add import Adding, AddOptions
from kerfmark.verbs.add_result import AddResult, FileAdded
from kerfmark.verbs.atomic_write import write_atomically
from kerfmark.verbs.layout_beside import kept_beside
from kerfmark.verbs.mark import TableMarked
from kerfmark.verbs.proposing import Held, mark_sources
from kerfmark.verbs.recording import loaded_files
from kerfmark.verbs.rejects import writable_rejects
from kerfmark.verbs.retry import changed_meanwhile, retried
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
    decided: tuple[str, ...] = ()


def cut_beside(
    inputs: Sequence[str | Path],
    into: str | Path,
    *,
    steering: Steering = Steering(),
    reading: Reading = Reading(),
    put: Mapping[str, str] = MappingProxyType({}),
    rehearsal: bool = False,
    set_aside: str | Path | None = None,
    replace: bool = False,
    progress: Progress = silent,
) -> BesideResult:
    """Makes tables for files of a kind that a database does not know, beside those that it has, and
    links them to the existing records: a table that would repeat one of the database is not made.
    Everything lands, or nothing; `undo` takes the rows back.

    `steering` and `reading` are as in `cut`, `rehearsal` and `set_aside` as in `add`. `put` gives
    columns of the files (by header) to tables that are there, whose records they are then said of.

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
    with_columns, proposal, more = _put(text, layout, proposal, encoded, put)
    longer = _longer(with_columns, parse_layout(with_columns, "the layout"), proposal)
    read = tuple(
        FileAdded(f.file, f.source, "a source of its own from now on", f.rows)
        for f in loaded_files(0, encoded, database.folder)
    )

    def once() -> AddResult:
        with database.changing() as file, contextlib.ExitStack() as written:
            adding = Adding(file, database, Ledger(file), progress)
            if adding.text != text:
                raise changed_meanwhile(database.name)
            adding.enlarge(longer, encoded, more)
            known = ", ".join(f"{table}=fill" for table in dict.fromkeys(put.values()))
            wanted = AddOptions(known=known, rehearsal=rehearsal, aside=aside)
            result = adding.land(encoded, read, wanted, started)
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
        (*known, *proposal.notes, *_offers(proposal.layout, encoded, layout)),
        proposal.near,
        proposal.against,
        added,
        round(time.perf_counter() - started, 3),
        proposal.decided,
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
            told = f'skipped: {source.origin()} is of the kind "{kind}", which the database knows'
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


def _offers(
    new: Layout, encoded: Mapping[str, EncodedSource], there: Layout
) -> Iterator[tuple[str, str]]:
    """What a table of the database could be given: columns of a new one with a row for each of its
    records, at most."""
    for table in new.tables.values():
        columns = [c.header for c in table.columns.values() if c.is_plain]
        for name, link in table.links.items() if table.each_row else ():
            own = [h for h in columns if h not in {*link.by.values(), *link.repeats.values()}]
            if link.to not in there.tables or len(link.by) != 1 or not own:
                continue
            if _once_each(table, name, encoded):
                options = " ".join(f'--put "{h}={link.to}"' for h in own)
                yield (
                    ", ".join(own),
                    f"no record of {link.to} has more than one row: {options} makes "
                    f"{'it a column' if len(own) == 1 else 'them columns'} of {link.to} instead",
                )


def _once_each(table: TableSpec, link: str, encoded: Mapping[str, EncodedSource]) -> bool:
    """Whether no two rows lead to the same record."""
    cells = encoded[table.source].column(next(iter(table.links[link].by.values())))
    filled = cells.codes[cells.codes >= 0]
    return len(distinct(filled)) == len(filled)


def _put(
    text: str,
    layout: Layout,
    proposal: Proposal,
    encoded: Mapping[str, EncodedSource],
    put: Mapping[str, str],
) -> tuple[str, Proposal, list[tuple[str, str, str]]]:
    """Gives columns of new sources to tables that are there, each to the records to which its rows
    lead: the text of the layout with these columns, the proposal without them, and which ones
    these are (table, column, header). Raises UsageError for what cannot be put there."""
    tables, more = dict(proposal.layout.tables), list[tuple[str, str, str]]()
    for header, to in put.items():
        base, column = next(
            ((n, c) for n, t in tables.items() for c, s in t.columns.items() if s.header == header),
            ("", ""),
        )
        links = tables[base].links if base else {}
        link = next((n for n, k in links.items() if k.to == to and k.by), "")
        if not link or not tables[base].each_row or column in tables[base].known_by:
            reached = {
                k.to for t in tables.values() for k in t.links.values() if k.to not in tables
            }
            raise UsageError(
                f'"{header}" cannot be a column of {to}',
                code="usage.put",
                why="its rows lead to no record of it"
                if base
                else "no new table has such a column",
                next=f"its rows lead to records of {', '.join(sorted(reached)) or 'no table'}",
            )
        spec, there = tables[base], parse_layout(text, "the layout").tables[to]
        name = free_name(
            snake(header),
            {*there.columns, *there.links, *layout.key_columns(to)},
            f"{to}_{snake(header)}",
        )
        known = {h for t in layout.tables.values() if t.source == there.source for h in t.headers}
        own = header if header not in known else f"{header} of {spec.source}"
        text = with_column(text, there.source, to, name, own, spec.columns[column].type)
        repeats = {**links[link].repeats, name: header}
        tables[base] = spec.model_copy(
            update={
                "columns": {n: c for n, c in spec.columns.items() if n != column},
                "optional": tuple(o for o in spec.optional if o != column),
                "links": links | {link: links[link].model_copy(update={"repeats": repeats})},
                "known_by": spec.known_by or ((link,) if _once_each(spec, link, encoded) else ()),
            }
        )
        more.append((to, name, own))
    kept = proposal.layout.model_copy(update={"tables": tables})
    return text, replace(proposal, layout=kept), more


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
