"""mark --onto and cutting from such a layout: sources are poured into tables that a database has
already, made by anyone."""

from __future__ import annotations

import shlex
import time
from collections.abc import Sequence
from dataclasses import dataclass
from dataclasses import replace as replaced
from pathlib import Path

from kerfmark.address import database_at
from kerfmark.errors import Origin, TargetError, UsageError
from kerfmark.layout.edit import with_column
from kerfmark.layout.model import Layout
from kerfmark.layout.names import free_name, snake
from kerfmark.layout.text import write_layout
from kerfmark.ledger.records import Ledger
from kerfmark.profile.encode import EncodedSource, encode
from kerfmark.profile.settle import settle
from kerfmark.profile.types import declared_type
from kerfmark.progress import Progress, silent
from kerfmark.read.source import Reading
from kerfmark.store.check_rules import listed_values
from kerfmark.store.interface import Reader, TableFacts, has_no_loads
from kerfmark.store.quoting import quote
from kerfmark.structure.mapping import Fed, Unmapped, onto
from kerfmark.structure.mapping_wishes import Wishes
from kerfmark.structure.propose import source_name
from kerfmark.structure.tables_there import ColumnThere, TableThere
from kerfmark.verbs.add import Adding, AddOptions
from kerfmark.verbs.add_result import AddResult
from kerfmark.verbs.atomic_write import require_writable, write_atomically
from kerfmark.verbs.retry import retried
from kerfmark.verbs.sources import open_inputs, spec_of

__all__ = ["Fed", "OntoResult", "Unmapped", "Wishes", "fill", "mark_onto"]
MOST_VALUES = 2000
"""Values of a column that sources are compared with."""


@dataclass(frozen=True)
class OntoResult:
    """How sources would feed the tables of a database: what feeds what, and how sure that is;
    columns that no table takes; what is required and fed by nothing; what becomes of records that a
    table does not have; what is odd; where the layout was written ("": nowhere); and the tables
    that are left alone."""

    database: str
    layout: str
    fed: tuple[Fed, ...]
    unmapped: tuple[Unmapped, ...]
    required: tuple[str, ...]
    missing: tuple[tuple[str, str], ...]
    odd: tuple[str, ...]
    left_alone: tuple[str, ...]
    seconds: float


def mark_onto(
    inputs: Sequence[str | Path],
    database: str | Path,
    layout: str | Path | None = None,
    *,
    put: Sequence[tuple[str, str]] = (),
    wishes: Wishes = Wishes(),
    reading: Reading = Reading(),
    replace: bool = False,
    progress: Progress = silent,
) -> OntoResult:
    """Proposes which column of files feeds which column of the tables of a database, and writes
    that to `layout` if it is given.

    `wishes` are what a person decides about it; `put` names tables that are to get a new column for
    a header. Nothing else is written. Raises UsageError for what cannot be read or be so,
    TargetError for a database that cannot be read, or has no tables.
    """
    started = time.perf_counter()
    path = None if layout is None else Path(layout)
    if path is not None:
        require_writable(path, replace, "it may hold somebody's edits")
    where = database_at(database)
    sources: dict[str, EncodedSource] = {}
    types, specs = {}, {}
    for found in open_inputs(inputs, reading):
        name = source_name(found.name, sources)
        sources[name] = encode(found, progress)
        types[name] = [settle(c).type for c in sources[name].columns]
        specs[name] = spec_of(found, path.parent if path else Path())
    progress("comparing with the database", 0, 0)
    with where.reading() as reader:
        if reader.facts("kerfmark_loads") and not has_no_loads(reader):
            raise TargetError(
                "Kerfmark knows these tables already",
                code="target.exists",
                origin=Origin(where.name),
                next=f"kerfmark add {shlex.join(map(str, inputs))} --into "
                f"{shlex.quote(where.name)} puts the files into them\n"
                f"kerfmark undo {shlex.quote(where.name)} takes its loads back; after that, "
                "another layout can be used",
            )
        there = [_there(reader, facts) for t in reader.tables() if (facts := reader.facts(t))]
    if not there:
        raise TargetError(
            "the database has no tables",
            code="target.missing",
            origin=Origin(where.name),
            next="kerfmark cut builds them",
        )
    found_ = onto(sources, types, specs, there, wishes)
    if not found_.layout.tables:
        raise UsageError(
            "no table of the database fits these files",
            origin=Origin(where.name),
            why=f"its tables are {', '.join(t.name for t in there)}",
            next="kerfmark cut builds tables for them",
        )
    text, unmapped = write_layout(found_.layout, found_.comments), list(found_.unmapped)
    for header, table in put:
        source = next((u.source for u in unmapped if u.header == header), None)
        spec = found_.layout.tables.get(table)
        if source is None or spec is None or spec.source != source:
            raise UsageError(
                f'"{header}" cannot be put into {table}',
                next="name a column that matches nothing ("
                + ", ".join(f'"{u.header}"' for u in unmapped)
                + f") and a table that its source feeds ({', '.join(found_.layout.tables)})",
            )
        column = next(
            t
            for c, t in zip(sources[source].columns, types[source], strict=True)
            if c.header == header
        )
        taken = {c.name for t in there if t.name == table for c in t.columns} | {*spec.columns}
        text = with_column(
            text,
            source,
            table,
            free_name(snake(header), taken, f"{table}_{snake(header)}"),
            header,
            str(column),
        )
        unmapped = [u for u in unmapped if (u.source, u.header) != (source, header)]
    if path is not None:
        with write_atomically({path: text}):
            pass
    return OntoResult(
        where.name,
        str(path or ""),
        found_.fed,
        tuple(unmapped),
        found_.required,
        found_.missing,
        found_.odd,
        tuple(t.name for t in there if t.name not in found_.layout.tables),
        round(time.perf_counter() - started, 3),
    )


def fill(
    layout: Layout,
    text: str,
    folder: Path,
    database: str | Path,
    wanted: AddOptions,
    *,
    files: Sequence[str | Path] = (),
    progress: Progress = silent,
) -> AddResult:
    """Pours the sources of a layout into tables that are there, as a first load. Everything lands,
    or nothing. `files` come in place of those that the layout names.

    Raises what `add` raises; TargetError when Kerfmark knows the database already.
    """
    where = database_at(database)

    def once() -> AddResult:
        with where.changing(layout) as file:
            for name, table in layout.tables.items():  # columns that were put into tables
                facts = file.facts(name)
                for column, spec in table.columns.items() if facts else ():
                    if facts and column not in {c.name for c in facts.columns}:
                        file.add_column(name, column, spec.of_type)
            if file.ask("SELECT layout_id FROM kerfmark_layouts LIMIT 1"):
                adding = Adding(file, where, Ledger(file), progress)
                adding.adopt_instead(text)
            else:
                adding = Adding(file, where, Ledger.empty(text), progress)
                adding.adopt()
            named = dict.fromkeys(
                f for s in layout.sources.values() for f in ([p.file for p in s.parts] or [s.file])
            )
            places = [str(f) for f in files] or [
                f if f == "-" or "://" in f else str(folder / f) for f in named
            ]
            result = adding.add(places, replaced(wanted, verb="cut"))
            if not wanted.rehearsal:
                with write_atomically(adding.rejects):
                    file.commit()
        return result

    return retried(once)


def _there(reader: Reader, facts: TableFacts) -> TableThere:
    """A table as the mapping sees it."""
    links = {link.columns[0]: link.to for link in facts.links if len(link.columns) == 1}
    name = quote(facts.name)
    allowed = listed_values(reader.checks(facts.name).values()) | {
        c: frozenset(values) for c, values in reader.choices(facts.name).items()
    }
    columns = []
    for c in facts.columns:
        type_ = declared_type(c.type)
        known: frozenset[str] = frozenset()
        if type_.kind in ("text", "integer") and not c.computed and c.name not in links:
            known = frozenset(
                str(r[0])
                for r in reader.ask(
                    f"SELECT DISTINCT {reader.text(quote(c.name))} FROM {name} WHERE "
                    f"{quote(c.name)} IS NOT NULL LIMIT {MOST_VALUES}"
                )
            )
        columns.append(
            ColumnThere(
                c.name,
                type_,
                c.optional,
                c.filled,
                c.computed,
                known,
                allowed.get(c.name, frozenset()),
                c.type.lower() in ("uuid", "uniqueidentifier"),
            )
        )
    rows = int(reader.ask(f"SELECT COUNT(*) FROM {name}")[0][0])
    return TableThere(facts.name, tuple(columns), facts.key, facts.unique, links, rows)
