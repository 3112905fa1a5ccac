"""What would go with the tables that Kerfmark made, told before anything is replaced or dropped."""

from __future__ import annotations

import re
import shlex
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from kerfmark.errors import KerfmarkError, Origin, TargetError, counted
from kerfmark.layout.model import Layout
from kerfmark.layout.text import parse_layout
from kerfmark.ledger.as_made import rows_by_hand
from kerfmark.ledger.records import Ledger
from kerfmark.store.interface import Database, Reader, not_ours
from kerfmark.store.names import INDEX_NAME, fit_name, views_of
from kerfmark.store.quoting import quote


@dataclass(frozen=True)
class Losses:
    """What is in a database that Kerfmark made: tables with their rows, views, loads after the
    first one (that they would be lost), changes of the layout since the first one, rows
    that no load made (by table), and objects of other people that would go too, or prevent it
    (kind and name). `ours`: Kerfmark made it, or filled it (`existing`)."""

    ours: bool
    existing: bool
    tables: tuple[tuple[str, int], ...] = ()
    views: tuple[str, ...] = ()
    later: tuple[str, ...] = ()
    edits: int = 0
    by_hand: tuple[tuple[str, int], ...] = ()
    others: tuple[tuple[str, str], ...] = ()

    @property
    def losses(self) -> list[str]:
        """What cannot be had again by building the same tables from the same files, in words."""
        out = [*self.later]
        if self.edits:
            out.append(
                f"{counted(self.edits, 'change')} of the layout since the first load would be lost"
            )
        return out + [
            f"{counted(rows, 'row')} of {table} that no load made would be lost"
            for table, rows in self.by_hand
        ]


def find_losses(reader: Reader, whole: bool) -> Losses:
    """What would go; with the `whole` file, everything in it."""
    tables = {t: _count(reader, t) for t in reader.tables()}
    if reader.facts("kerfmark_layouts") is None:
        others = [*(("table", t) for t in tables), *(("view", v) for v in reader.views())]
        return Losses(False, False, others=tuple(others) if whole else ())
    ledger = Ledger(reader)
    layout = parse_layout(ledger.layout, "the layout in the database")
    mine = (
        {}
        if layout.existing
        else {t: tables[n] for t in layout.tables for n in tables if n.lower() == t.lower()}
    )
    views = [v for v in views_of(layout) if v in reader.views()]
    named = {n.lower() for n in (*mine, *views)}
    others = [
        (kind, name)
        for kind, name in reader.dependents(list(mine))
        if name.lower() not in named
        and not (kind == "index" and re.sub(r"~\d+$", "", name) in _indexes(layout))
    ]
    if whole:
        others += [("table", t) for t in tables if t.lower() not in named]
        others += [("view", v) for v in reader.views() if v.lower() not in named]
    later = [
        load_lost(n.number, n.verb, [f.file for f in ledger.files if f.load == n.number])
        for n in ledger.live
        if n.number > 1
    ]
    return Losses(
        True,
        layout.existing,
        tuple(mine.items()),
        tuple(views),
        tuple(later),
        ledger.layout_number - 1,
        tuple(rows_by_hand(reader, ledger, mine)),
        tuple(dict.fromkeys(others)),
    )


def _indexes(layout: Layout) -> set[str]:
    """What the indexes of a layout's tables are called."""
    names = {f"{t}_known_by" for t in layout.tables} | {
        f"{t}_{link}" for t, spec in layout.tables.items() for link in spec.links
    }
    names |= {f"{t}_unique_{'_'.join(u)}" for t, spec in layout.tables.items() for u in spec.unique}
    return {fit_name(n, INDEX_NAME) for n in names} | {
        re.sub(r"~\d+$", "", fit_name(n, INDEX_NAME)) for n in names
    }


def _count(reader: Reader, table: str) -> int:
    return int(reader.ask(f"SELECT COUNT(*) FROM {quote(table)}")[0][0])


def refuse_to_replace(database: Database, discard: bool) -> None:
    """Raises TargetError where replacing what is in a database would take other people's objects
    away, or, unless these are to be discarded, later loads, changes of the layout, or rows that no
    load made."""
    if not database.exists():
        return
    try:
        with database.reading() as reader:
            goes = find_losses(reader, database.replaced_whole)
    except TargetError as error:
        if error.code == "target.missing":  # a schema that is still to be made
            return
        raise
    where = Origin(database.name)
    if goes.existing:
        raise not_ours(database.name)
    if goes.others:
        raise TargetError(
            "the database holds what Kerfmark did not make, so it is not replaced",
            code="target.not-ours",
            origin=where,
            more=[f"{kind} {name}" for kind, name in goes.others][:10],
            total=len(goes.others),
            next="name another place, or drop these first",
        )
    if goes.losses and not discard:
        raise losing(database.name, goes.losses)


def losing(name: str, losses: Sequence[str]) -> TargetError:
    """The error for what would be lost if a database were replaced."""
    return TargetError(
        "replacing the database would lose more than its first load",
        code="target.losses",
        origin=Origin(name),
        more=losses[:10],
        total=len(losses),
        next="--replace --discard loses that\nname another place",
    )


def load_lost(number: int, verb: str, files: Sequence[str]) -> str:
    """That a load would be lost."""
    return f"load {number} ({verb}: {', '.join(dict.fromkeys(files))}) would be lost"


def refuse_other_layout(
    path: Path, text: str, database: Database, *, replace: bool, discard: bool
) -> None:
    """Raises TargetError where a saved layout says something else than a `text` that is to be
    written there: somebody may have edited it. One that is just what the database was built from
    may be replaced."""
    if not path.exists():
        return
    there = path.read_text(encoding="utf-8", errors="replace")
    if there == text or (replace and (discard or there in _layouts_of(database))):
        return
    raise TargetError(
        "a layout of that name exists already, and differs",
        code="target.layout-exists",
        origin=Origin(str(path)),
        why="it may hold somebody's edits",
        next=f"kerfmark cut {shlex.quote(str(path))} --into {shlex.quote(database.name)} cuts from "
        "it\nname another database\n--replace --discard loses it",
    )


def as_decided_before(database: Database, inputs: Sequence[Path]) -> Sequence[Path]:
    """The saved layout in place of the files that a database is to be built of again, where a
    person decided about its tables when it was built from just these files: decided once is
    decided. Otherwise the files."""
    saved = database.layout_path
    if not saved.exists() or not database.exists():
        return inputs
    try:
        with database.reading() as reader:
            ledger = Ledger(reader)
    except KerfmarkError:  # what is wrong with it is told where it is replaced
        return inputs
    there = saved.read_text(encoding="utf-8", errors="replace")
    if there != ledger.layout or not any(n.options.decided for n in ledger.live[:1]):
        return inputs
    layout = parse_layout(there, "the layout in the database")
    files = [f for s in layout.sources.values() for f in (s.file, *(p.file for p in s.parts)) if f]
    mine = {(saved.parent / f).resolve() for f in files}
    named = {p.resolve() for p in inputs}
    same = all(f in named or {*f.parents} & named for f in mine) and all(
        n in mine or any(n in f.parents for f in mine) for n in named
    )
    return [saved] if same else inputs


def _layouts_of(database: Database) -> Sequence[str]:
    """The layouts that a database was built and filled by."""
    try:
        if not database.exists():
            return ()
        with database.reading() as reader:
            if reader.facts("kerfmark_layouts") is None:
                return ()
            return [
                str(r[0])
                for r in reader.ask("SELECT layout FROM kerfmark_layouts ORDER BY layout_id")
            ]
    except KerfmarkError:
        return ()
