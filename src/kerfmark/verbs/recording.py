"""What a load writes into the ledger."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from pathlib import Path

import numpy as np

from kerfmark import __version__
from kerfmark.errors import KerfmarkError
from kerfmark.layout.model import Layout
from kerfmark.ledger.account import REPLACED, known_runs, runs
from kerfmark.ledger.records import (
    DIFFERENT,
    OWN,
    SAME,
    STYLE,
    Load,
    LoadedFile,
    Options,
    RowSetAside,
    Says,
    file_beside,
    write_known,
    write_says,
)
from kerfmark.normalize.merged import Merged
from kerfmark.normalize.policy import CREATED, MADE
from kerfmark.normalize.split import Split
from kerfmark.normalize.table_rows import TableRows
from kerfmark.profile.encode import EncodedSource
from kerfmark.read.union import UnionSource
from kerfmark.store.interface import Changing
from kerfmark.verbs.rejects import place_of


def now() -> str:
    """The time as the ledger writes it, in UTC."""
    return datetime.now(UTC).strftime("%Y-%m-%d %H:%M:%S")


def new_load(number: int, verb: str, layout: int, options: Options) -> Load:
    """A load that is made now."""
    return Load(number, verb, now(), __version__, layout, "", options)


def loaded_files(
    load: int, sources: Mapping[str, EncodedSource], folder: Path | None, done: Split | None = None
) -> list[LoadedFile]:
    """The files that sources were read from, named as seen from a folder (None: from anywhere).
    Rows left out are those that the layout skips, and, once a split is `done`, those that it wants
    no record of."""
    out = []
    for name, encoded in sources.items():
        source = encoded.source
        parts = encoded.parts()
        told = source.told if isinstance(source, UnionSource) else [""]
        starts = np.append(0, np.cumsum([rows for _, _, rows in parts]))
        left_out = np.diff(starts)
        if encoded.records is not None:  # the others were skipped
            left_out = left_out - np.diff(np.searchsorted(encoded.records, starts))
        else:
            left_out = left_out * 0
        if done is not None and name in done.left_out_records:
            left_out = left_out + np.diff(np.searchsorted(done.left_out_records[name], starts))
        for (part, found, rows), said, gone in zip(parts, told, left_out.tolist(), strict=True):
            said_of_it = part.settings() | part.rules.settings()
            if found.style is not None and (style := found.style.to_dict()):
                said_of_it[STYLE] = style
            reading = json.dumps(said_of_it, ensure_ascii=False)
            out.append(
                LoadedFile(
                    load,
                    name,
                    file_beside(part.location, folder),
                    found.size,
                    found.fingerprint,
                    rows,
                    said,
                    reading,
                    gone,
                )
            )
    return out


def rows_set_aside(
    load: int, sources: Mapping[str, EncodedSource], done: Split
) -> list[RowSetAside]:
    """The rows that were set aside."""
    out = []
    for row in done.set_aside:
        at = place_of(sources, row)
        reason = "; ".join(why for why, _ in row.reasons)
        out.append(
            RowSetAside(
                load,
                row.source,
                at.file,
                at.sheet or "",
                at.row or 0,
                row.record,
                reason,
                *row.against,
            )
        )
    return out


def first_provenance(load: int, tables: Sequence[TableRows]) -> list[Says]:
    """What the first load of a new database says: it made every record, those that others only name
    behind the rest."""
    out = []
    for table in tables:
        named = table.source_rows() < 0
        if any(c.split for c in table.spec.columns.values()):
            named = np.zeros(table.rows, bool)
        for role, numbers in ((MADE, np.flatnonzero(~named)), (CREATED, np.flatnonzero(named))):
            out += [Says(load, table.name, a + 1, b + 1, role) for a, b in runs(numbers)]
    return out


def check_balance(
    layout: Layout, files: Sequence[LoadedFile], says: Sequence[Says], aside: Sequence[RowSetAside]
) -> None:
    """Raises KerfmarkError unless every row that the first load read has a record of its own, was
    set aside, or was left out."""
    for source in dict.fromkeys(f.source for f in files):
        base = layout.base_of(source)
        made = sum(s.count for s in says if s.table == base and s.role == MADE)
        apart = sum(r.source == source and r.record >= 0 for r in aside)
        read, left_out = (
            sum(getattr(f, n) for f in files if f.source == source) for n in ("rows", "left_out")
        )
        if read != made + apart + left_out:
            raise KerfmarkError(
                "the account of a source does not balance; nothing was kept",
                code="internal",
                why=f"{source}: {read} rows read, {made} records, {apart} set aside, "
                f"{left_out} left out",
                next="this is a fault of Kerfmark: please report it",
            )


def write_merged(file: Changing, load: int, merged: Merged) -> None:
    """Writes down what a load has for an existing database."""
    says = [
        Says(load, s.table, a, b, s.role, s.columns)
        for s in merged.sayings
        for a, b in runs(s.rows)
    ]
    known = [
        run
        for source, k in merged.known.items()
        for run in known_runs(
            load, source, k.records, k.rows, np.where(k.different, DIFFERENT, SAME)
        )
    ]
    known += [
        run
        for source, k in merged.own.items()
        for run in known_runs(load, source, k.records, k.rows, np.full(len(k.rows), OWN, object))
    ]
    write_says(file.append, says)
    write_known(file.append, known)
    for update in merged.kept:
        file.update_values(update.table, load, update.rows, update.column, update.values, keep=True)
    for update in merged.updates:
        file.update_values(update.table, load, update.rows, update.column, update.values)
    for table, rows in merged.replaced.items():
        said = [(load, row, None, None, 1) for row in rows.tolist()]
        file.record_changes(table, REPLACED, said)
    for table, rows in merged.kept_parts.items():
        file.record_changes(table, "", [(load, row, None, None, 1) for row in rows.tolist()])
