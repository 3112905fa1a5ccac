"""What an add did: the files and tables, the values it changed, and the cells that say something
else than the database keeps."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import pyarrow as pa

from kerfmark.errors import Origin
from kerfmark.layout.model import Layout
from kerfmark.ledger.account import FileAccount
from kerfmark.normalize.merged import OtherwiseSaid, TableCount
from kerfmark.normalize.split import LinkCount, Split
from kerfmark.profile.convert import to_text, to_typed
from kerfmark.profile.encode import EncodedSource
from kerfmark.profile.types import ColumnType, canonical
from kerfmark.store.interface import Changing
from kerfmark.verbs.problem_groups import Group

MOST_CHANGES = 1000
"""Changed values that are told."""


@dataclass(frozen=True)
class FileAdded:
    """A file or sheet, the source that it feeds, why that one, and its rows."""

    file: str
    source: str
    why: str
    rows: int


@dataclass(frozen=True)
class ValueChanged:
    """A value that a load changes: where, what was there, and what is there now."""

    table: str
    column: str
    row: int
    before: str
    after: str


@dataclass(frozen=True)
class DifferentCell:
    """A cell of a file that says something else than the database, which keeps what it has: where
    it is, its text, and the value in the database."""

    source: str
    origin: Origin
    in_file: str
    in_database: str


@dataclass(frozen=True)
class AddResult:
    """What a load did (or would do, when `rehearsed`). `load` is its number, 0 when nothing was
    written; `learned` are changes of the layout and of the tables' columns, in words; `account`
    tells what became of the rows of each file, and `different` the cells that say something else
    than the database, which has kept what it had; `problems` are told when rehearsed, what is
    doubtful always (`groups`); `notes` tell what else is odd; `known_files` were loaded already,
    and skipped."""

    database: str
    load: int
    files: tuple[FileAdded, ...] = ()
    tables: tuple[TableCount, ...] = ()
    links: tuple[LinkCount, ...] = ()
    changes: tuple[ValueChanged, ...] = ()
    learned: tuple[str, ...] = ()
    set_aside: int = 0
    known_rows: int = 0
    account: tuple[FileAccount, ...] = ()
    different: tuple[DifferentCell, ...] = ()
    rejects: tuple[str, ...] = ()
    rehearsed: bool = False
    problems: int = 0
    groups: tuple[Group, ...] = ()
    notes: tuple[str, ...] = ()
    seconds: float = 0.0
    known_files: int = 0


def changed_values(layout: Layout, file: Changing, done: Split) -> tuple[ValueChanged, ...]:
    """The values that are changed, before and after."""
    out: list[ValueChanged] = []
    for update in done.merged.updates:
        rows = update.rows[: MOST_CHANGES - len(out)].tolist()
        before = file.texts(update.table, update.column, rows) if rows else {}
        new = update.values.slice(0, len(rows))
        after = ["" if v is None else str(v) for v in new.to_pylist()]
        own = layout.tables[update.table].columns.get(update.column)
        if own is not None:
            before = _as_in_files(before, own.of_type)
            spelled = _as_in_files(dict(enumerate(after)), own.of_type)
            after = [v or "" for v in spelled.values()]
        out += [
            ValueChanged(update.table, update.column, r, before.get(r) or "", v)
            for r, v in zip(rows, after, strict=True)
        ]
    return tuple(out)


def different_cells(
    done: Split, encoded: Mapping[str, EncodedSource], file: Changing
) -> tuple[DifferentCell, ...]:
    """The cells that say something else than the database keeps, in the order of their rows."""
    found: dict[tuple[str, int, str], DifferentCell] = {}
    for some in done.merged.otherwise:
        source = encoded[some.source]
        there = _existing_texts(done, some, file)
        column = source.column(some.header) if some.header in source.source.headers else None
        places = (
            some.records
            if source.records is None
            else np.searchsorted(source.records, some.records)
        )
        for record, place, row in zip(
            some.records.tolist(), places.tolist(), some.rows.tolist(), strict=True
        ):
            code = -1 if column is None else int(column.codes[place])
            text = "" if column is None or code < 0 else column.values[code].as_py()
            found.setdefault(
                (some.source, record, some.header),
                DifferentCell(
                    some.source,
                    source.found.origin(record, some.header),
                    text,
                    there.get(row) or "",
                ),
            )
    return tuple(found[k] for k in sorted(found))


def _existing_texts(done: Split, some: OtherwiseSaid, file: Changing) -> dict[int, str | None]:
    """What the database has in the rows where cells say something else; of a link, what the record
    that it leads to is known by."""
    if not some.column:
        return dict.fromkeys(some.rows.tolist(), "other parts")
    there = file.texts(some.table, some.column, sorted(set(some.rows.tolist())))
    own = done.layout.tables[some.table].columns.get(some.column)
    if own is not None:
        return _as_in_files(there, own.of_type)
    spec = done.layout.tables.get(some.to)
    if spec is None or not done.layout.has_generated_key(some.to):
        return there
    shown = next((k for k in spec.known_by if k in spec.columns), "")
    ids = sorted({int(t) for t in there.values() if t})
    called = file.texts(some.to, shown, ids) if shown and ids else {}
    return {row: called.get(int(t), t) if t else t for row, t in there.items()}


def _as_in_files(texts: Mapping[int, str | None], type_: ColumnType) -> dict[int, str | None]:
    """Texts of an engine's as the files spell such values, where they can be spelled so."""
    if type_.kind in ("text", "real"):
        return dict(texts)
    values = [t or None for t in texts.values()]
    if type_.kind == "boolean":
        words = {"1": "true", "0": "false", "t": "true", "f": "false"}
        values = [words.get(t.lower(), t.lower()) if t else None for t in values]
    plain = pa.array(values, pa.string())
    spelled = to_text(to_typed(plain, canonical(type_)), type_).to_pylist()
    return {row: new or old for (row, old), new in zip(texts.items(), spelled, strict=True)}
