"""recut: applies an edited layout to a database that is in use. Its loads are made again by the new
layout, in their order and with the options that they were made with, from their files or, where
these are gone, from the rows that the database has; in one transaction, under the numbers that
the records had."""

from __future__ import annotations

import contextlib
import copy
import time
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from kerfmark.address import database_at
from kerfmark.errors import DataRefused, Origin, UsageError, counted
from kerfmark.layout.changes import layout_changes, renamed_tables
from kerfmark.layout.derive import settled
from kerfmark.layout.model import Layout, TableSpec
from kerfmark.layout.text import parse_layout, read_layout
from kerfmark.ledger.account import expanded, read_says
from kerfmark.ledger.records import MAKERS, Ledger, Load, LoadedFile, write_layout_text, write_load
from kerfmark.ledger.row_numbers import Reserved
from kerfmark.normalize.policy import CREATED, MADE, SAID
from kerfmark.normalize.split import Split, refused
from kerfmark.profile.encode import EncodedSource, encode
from kerfmark.progress import Progress, silent
from kerfmark.store.interface import Changing, Database, Reader
from kerfmark.store.names import view_name
from kerfmark.store.quoting import literal, quote
from kerfmark.verbs.add import Adding, AddOptions
from kerfmark.verbs.add_result import AddResult, FileAdded
from kerfmark.verbs.atomic_write import write_atomically
from kerfmark.verbs.export_rows import look_inside
from kerfmark.verbs.layout_beside import kept_beside
from kerfmark.verbs.problem_groups import problem_groups
from kerfmark.verbs.prove import prove
from kerfmark.verbs.recording import loaded_files, now, rows_set_aside, write_merged
from kerfmark.verbs.replace_check import find_losses
from kerfmark.verbs.retry import changed_meanwhile, retried
from kerfmark.verbs.sources import open_loaded
from kerfmark.verbs.stored_rows import stored_rows


@dataclass(frozen=True)
class TableRecut:
    """A table before, under whatever name, and after: its rows (None: it is not there), and whether
    the records that it had before have the keys that they had."""

    name: str
    before: int | None
    after: int | None
    keys_kept: bool


@dataclass(frozen=True)
class RecutResult:
    """What a new layout made of a database: its tables before and after, the changes in words, the
    loads that were made again, and from where their rows came (`from_database`: files that are
    gone). With problems, when it is rehearsed, nothing was changed."""

    database: str
    layout: str
    tables: tuple[TableRecut, ...]
    changes: tuple[str, ...]
    loads: tuple[AddResult, ...]
    from_database: tuple[str, ...]
    rehearsed: bool
    problems: int
    seconds: float


def recut(
    database: str | Path,
    layout: str | Path,
    *,
    rehearsal: bool = False,
    progress: Progress = silent,
) -> RecutResult:
    """Gives a database that Kerfmark made the tables of an edited layout. Everything is changed, or
    nothing; loads, their history and the keys of records stay. With `rehearsal` nothing is changed,
    and problems are told instead of raised.

    Raises UsageError for a layout that the database cannot be given, DataRefused when the data do
    not fit it, TargetError for a database that cannot be written to.
    """
    started, where = time.perf_counter(), database_at(database)
    new, text = read_layout(Path(layout))
    with where.reading() as reader:
        ledger = Ledger(reader)
        old = parse_layout(ledger.layout, "the layout in the database")
        _refuse_what_cannot_be(reader, ledger, old, new, where.name)
        encoded, gone = _rows_again(reader, ledger, old, new, where, progress)
        before = {n: _count(reader, n) for n in old.tables}
    _refuse_changes_by_hand(database, ledger, gone, progress)

    def once() -> tuple[list[AddResult], dict[str, int], set[str], list[str]]:
        with where.changing() as file, contextlib.ExitStack() as written:
            there = Ledger(file)
            if (there.layout, there.loads) != (ledger.layout, ledger.loads):
                raise changed_meanwhile(where.name)
            done = _Recutting(file, where, ledger, old, new, text, progress)
            results = done.recut(encoded, gone, rehearsal=rehearsal)
            after = {} if done.stopped else {n: _count(file, n) for n in new.tables}
            beside = {} if rehearsal else kept_beside(where, ledger.layout, text)
            written.enter_context(write_atomically(beside))
            told = len(file.remarks)
            if not rehearsal:
                file.commit()
        return results, after, done.kept, file.remarks[told:]

    results, after, kept, rights = retried(once)
    called = renamed_tables(old, new)
    names = dict.fromkeys((*new.tables, *(n for n in old.tables if n not in called.values())))
    return RecutResult(
        where.name,
        str(layout),
        tuple(TableRecut(n, before.get(called.get(n, n)), after.get(n), n in kept) for n in names),
        (*layout_changes(old, new), *rights),
        tuple(results),
        tuple(gone),
        rehearsal,
        sum(r.problems for r in results),
        round(time.perf_counter() - started, 3),
    )


@dataclass(frozen=True)
class Replay:
    """All loads of a database but some, read again: the `ledger` in which those are taken back, the
    sources of each other load, and the files that are gone."""

    ledger: Ledger
    without: tuple[int, ...]
    encoded: Mapping[int, Mapping[str, EncodedSource]]
    gone: Mapping[str, None]


def read_again(
    address: str | Path, ledger: Ledger, without: Collection[int], progress: Progress
) -> Replay:
    """Reads the files of all loads of a database (at an address) but some. To be done before the
    database is locked, as it is read for it.

    Raises DataRefused where somebody has changed cells by hand, SourceError when a file is no
    longer there.
    """
    layout = parse_layout(ledger.layout, "the layout in the database")
    database, at = database_at(address), now()
    rest = copy.copy(ledger)
    rest.loads = [replace(n, undone_at=at) if n.number in without else n for n in ledger.loads]
    with database.reading() as reader:
        _refuse_what_cannot_be(reader, ledger, layout, layout, database.name)
        encoded, gone = _rows_again(reader, rest, layout, layout, database, progress)
    folder = database.folder or Path()
    theirs = [f for f in ledger.live_files if f.load in without]
    if other := next((f for f in theirs if not _is_there(f, layout, layout, folder)), None):
        raise DataRefused(
            f"load {other.load} cannot be taken back",
            code="data.gone",
            origin=Origin(other.file),
            why="it has changed since, or is missing; all files are read again, as records were "
            "replaced with everything that belongs to them",
            next="put the file back, as it was when it was loaded",
        )
    _refuse_changes_by_hand(address, ledger, {}, progress)
    return Replay(rest, tuple(sorted(without)), encoded, gone)


def make_again(file: Changing, database: Database, replay: Replay, progress: Progress) -> None:
    """Makes all loads of an open database again but those that are taken back. Raises DataRefused
    where they could not have been made without them."""
    ledger = replay.ledger
    [at] = {n.undone_at for n in ledger.loads if n.number in replay.without}
    numbers = ", ".join(map(str, replay.without))
    file.execute(
        f"UPDATE kerfmark_loads SET undone_at = {literal(at)} WHERE load_id IN ({numbers})"
    )
    layout = parse_layout(ledger.layout, "the layout in the database")
    done = _Recutting(file, database, ledger, layout, layout, ledger.layout, progress)
    done.undone = [*replay.without]
    done.recut(replay.encoded, replay.gone, rehearsal=False)


def _count(reader: Reader, table: str) -> int:
    return (
        int(reader.ask(f"SELECT COUNT(*) FROM {quote(table)}")[0][0]) if reader.facts(table) else 0
    )


def _refuse_what_cannot_be(
    reader: Reader, ledger: Ledger, old: Layout, new: Layout, name: str
) -> None:
    """Raises UsageError for what no layout can make of a database."""

    def refuse(what: str, why: str, next_: str) -> UsageError:
        return UsageError(what, code="usage.recut", origin=Origin(name), why=why, next=next_)

    if old.existing or new.existing:
        raise refuse(
            "the tables of this database were made by somebody else",
            "their structure is not for Kerfmark to change",
            "change them by SQL, and map files onto them with kerfmark mark --onto",
        )
    if strange := sorted({*new.sources} - {*old.sources}):
        raise refuse(
            f'the database has no rows of the source "{strange[0]}"',
            "a layout is applied to what is in the database",
            "leave it out, and put its files beside with kerfmark cut FILES --into DB --beside",
        )
    used = {f.source for f in ledger.live_files}
    if lost := sorted(used - {*new.sources}):
        raise refuse(
            f'the layout has no source "{lost[0]}", of which the database has rows',
            "they would be lost",
            f"keep [sources.{lost[0]}] and its tables; kerfmark undo takes loads back",
        )
    if ordered := [n for n, t in new.tables.items() if t.order]:
        raise refuse(
            f'records of "{ordered[0]}" cannot be put into another order',
            "they keep the keys that they have",
            f"take order out of tables > {ordered[0]}",
        )
    for table in old.tables:
        _refuse_what_no_row_says(reader, ledger, old, table, refuse)
    losses = find_losses(reader, whole=False)
    if losses.by_hand:
        table, rows = losses.by_hand[0]
        raise refuse(
            f"{counted(rows, 'row')} of {table} came with no load",
            "rows that are in no file are lost when loads are made again",
            "write them into a file, delete them here, and kerfmark add that file afterwards",
        )
    if losses.others:
        kind, what = losses.others[0]
        raise refuse(
            f"the {kind} {what} depends on tables that would be made anew",
            "it would be lost, or prevent the change",
            "drop it, and make it again afterwards",
        )


def _refuse_what_no_row_says(
    reader: Reader, ledger: Ledger, old: Layout, table: str, refuse: Callable[..., UsageError]
) -> None:
    """Raises UsageError for columns of a table that the layout does not know, and for cells that
    somebody has filled in records that rows only name."""
    facts, spec = reader.facts(table), old.tables[table]
    if facts is None:
        return
    links = old.stored_as(table, list(spec.links))
    known = {c.lower() for c in (*old.key_columns(table), *spec.columns, *links)}
    if extra := [c.name for c in facts.columns if c.name.lower() not in known]:
        raise refuse(
            f"the layout has no column {table}.{extra[0]}",
            "what somebody has added to a table by hand would be lost",
            f'drop the column and make it again afterwards\n--put "HEADER={table}" makes it a '
            "column of the layout, with a file that has it",
        )
    says = read_says(reader, [load.number for load in ledger.live], [table])
    made = expanded([(s.first, s.last) for s in says if s.role == CREATED])
    said = expanded([(s.first, s.last) for s in says if s.role in (MADE, SAID)])
    only_named = set(np.setdiff1d(made, said).tolist())
    named = {*spec.known_by, *(c for u in spec.unique for c in u), *links}
    others = [c for c, s in spec.columns.items() if c not in named and not s.derived]
    if not only_named or not others or any(c.split for c in spec.columns.values()):
        return
    by = {c for t in old.tables.values() for k in t.links.values() if k.to == table for c in k.by}
    by |= {c for t in old.tables.values() for k in t.links.values() for c in k.repeats}
    others = [c for c in others if c not in by and not spec.columns[c].default]
    filled = " OR ".join(f"{quote(c)} IS NOT NULL" for c in others)
    number = reader.row(table, quote(table))
    rows = reader.ask(f"SELECT {number} FROM {quote(table)} WHERE {filled}") if filled else []
    if hand := [int(r[0]) for r in rows if int(r[0]) in only_named]:
        raise refuse(
            f"{counted(len(hand), 'record')} of {table}, which files only refer to, "
            f"{'was' if len(hand) == 1 else 'were'} filled by hand",
            "these cells are in no file, so they would be lost when the loads are made again",
            "put them into a file, and add it with --known fill",
        )


def _rows_again(
    reader: Reader, ledger: Ledger, old: Layout, new: Layout, where: Database, progress: Progress
) -> tuple[dict[int, dict[str, EncodedSource]], dict[str, None]]:
    """The sources of each load, from their files; all from the database, where one of these is gone
    or is another one (so that what somebody has changed by hand stays), which are told."""
    folder = where.folder or Path()
    out: dict[int, dict[str, EncodedSource]] = {load.number: {} for load in ledger.live}
    gone: dict[str, None] = {}
    missing = [f for f in ledger.live_files if not _is_there(f, old, new, folder)]
    for source in dict.fromkeys(f.source for f in ledger.live_files):
        files = [f for f in ledger.live_files if f.source == source]
        if not missing:
            for number in dict.fromkeys(f.load for f in files):
                mine = [f for f in files if f.load == number]
                apart = next(n.options.set_aside for n in ledger.live if n.number == number)
                opened = open_loaded(new, source, mine, folder)
                out[number][source] = encode(opened, progress, strict=not apart)
            continue
        _refuse_what_rows_do_not_tell(ledger, source, missing[0], where.name)
        gone |= dict.fromkeys(f.file for f in files)
        for number, stored in stored_rows(
            reader, look_inside(reader), source, files, progress
        ).items():
            out[number][source] = encode(stored, progress)
    order = list(dict.fromkeys(f.source for f in ledger.live_files))
    return {n: {s: some[s] for s in order if s in some} for n, some in out.items()}, gone


def _is_there(file: LoadedFile, old: Layout, new: Layout, folder: Path) -> bool:
    """Whether a file is what it was when it was loaded."""
    if file.file == "-" or "://" in file.file or not (folder / file.file).exists():
        return False
    source = open_loaded(old, file.source, [file], folder)
    batches = source.map_batches(lambda batch: None, strict=False)
    for _ in batches:
        pass
    return (*batches.found.parts, batches.found)[0].fingerprint == file.fingerprint


def _refuse_what_rows_do_not_tell(ledger: Ledger, source: str, file: LoadedFile, name: str) -> None:
    """Raises DataRefused where the rows of a database do not tell what its loads said."""
    numbers = {load.number for load in ledger.live}
    told = any(load in numbers for load, *_ in (*ledger.changed, *ledger.known))
    if told or any(r.source == source and r.load in numbers for r in ledger.set_aside):
        raise DataRefused(
            "a file is missing, and the database does not have all that was in it",
            code="data.gone",
            origin=Origin(file.file),
            why="some loads had rows for existing records, or set rows aside; those rows are only "
            "in the files",
            next=f"put the file back, as it was when it was loaded into {name}",
        )


def _refuse_changes_by_hand(
    database: str | Path, ledger: Ledger, gone: Mapping[str, None], progress: Progress
) -> None:
    """Raises DataRefused where somebody has changed cells, which files do not say."""
    if gone:
        return  # what is taken from the database is taken as it is
    proof = prove(database, progress=progress)
    if not proof.rows_hold:
        wrong = next((p for p in proof.proofs if not p.holds), None)
        raise DataRefused(
            "the database differs from its files",
            code="data.by-hand",
            origin=Origin(wrong.source if wrong else str(database)),
            why="cells were changed by hand; these changes would be lost when the loads are made "
            "again",
            next=f"kerfmark prove {database} lists them\n"
            "write the changes into a file and add it with --known overwrite",
        )


class _Recutting:
    """Making the loads of an open database again. `undone` are loads that are taken back on the
    way, `kept` the tables whose records have the keys that they had; `stopped` is true where a
    rehearsal has met problems."""

    def __init__(
        self,
        file: Changing,
        database: Database,
        ledger: Ledger,
        old: Layout,
        new: Layout,
        text: str,
        progress: Progress,
    ) -> None:
        self.file, self.database, self.ledger, self.progress = file, database, ledger, progress
        self.old, self.new, self.text = old, new, text
        self.undone: list[int] = []
        self.kept: set[str] = set()
        self.stopped = False

    def recut(
        self,
        encoded: Mapping[int, Mapping[str, EncodedSource]],
        gone: Mapping[str, None],
        *,
        rehearsal: bool,
    ) -> list[AddResult]:
        """Makes the new tables and all loads again."""
        numbers = [load.number for load in self.ledger.live]
        reserved = self._reserved([*numbers, *self.undone])
        headers = {n: e.source.headers for some in encoded.values() for n, e in some.items()}
        for name in self.new.sources:  # those of which no load is left
            facts = self.file.facts(view_name(name)) if name not in headers else None
            headers |= {name: tuple(c.name for c in facts.columns)} if facts else {}
        whole = settled(self.new, headers)
        self.file.clear(self.old)
        self.file.add_tables(whole, whole.parents_first())
        self.file.refresh_views(self.new, {s: headers[s] for s in self.new.sources if s in headers})
        live = ", ".join(map(str, numbers)) or "0"
        for table in ("says", "changes", "known", "set_aside", "files", "loads"):
            self.file.execute(f"DELETE FROM kerfmark_{table} WHERE load_id IN ({live})")
        out: list[AddResult] = []
        for load in self.ledger.live:
            again = _Again(self, load, reserved, gone)
            if load is self.ledger.live[0] and self.text != self.ledger.layout:
                again.write_layout()
            out.append(again.make(encoded[load.number], rehearsal=rehearsal))
            if out[-1].problems:
                self.stopped = True
                break
        return out

    def _reserved(self, loads: Sequence[int]) -> Reserved:
        """The numbers that records had, for the tables of the new layout."""
        out = Reserved()
        says = [s for s in read_says(self.file, loads) if s.role in MAKERS]
        had = Reserved.of(self.file, self.old, loads)
        for name in self.new.parents_first():
            spec = self.new.tables[name]
            before = self._same_table(name)
            if before is None or not (
                self.new.has_generated_key(name) and self.old.has_generated_key(before)
            ):
                continue
            same = self._known_by(self.old, before) == self._known_by(self.new, name)
            order = self._same_key(name, before) if same and before in had.keys else None
            if order:
                cells, numbers = had.keys[before]
                if cells:
                    out.keys[name] = [cells[i] for i in order], numbers
                self.kept.add(name)
            elif spec.each_row:  # the ledger names records in the order of their rows
                for load in loads:
                    mine = [s for s in says if (s.load, s.table) == (load, before)]
                    ranges = [np.arange(s.first, s.last + 1) for s in mine]
                    out.places.setdefault(load, {})[name] = np.concatenate(
                        [*ranges, np.empty(0, np.int64)]
                    )
                self.kept.add(name)
        return out

    def _same_table(self, name: str) -> str | None:
        """The table that had the records of a new one: of the same source, and known by the same
        headers, under whatever name."""
        spec = self.new.tables[name]
        old = [
            n
            for n, t in self.old.tables.items()
            if (t.source, t.each_row, bool(t.part_of))
            == (spec.source, spec.each_row, bool(spec.part_of))
            and (t.each_row or self._known_by(self.old, n) == self._known_by(self.new, name))
        ]
        return name if name in old else old[0] if old else None

    def _known_by(self, layout: Layout, name: str) -> list[str]:
        """What records of a table are known by, whatever its columns are called."""
        spec = layout.tables[name]
        return sorted(self._meaning(layout, spec, k) for k in spec.known_by)

    def _meaning(self, layout: Layout, spec: TableSpec, part: str) -> str:
        """What a part of a natural key is: a header, a position, what a link leads to."""
        if part in spec.links:
            to = spec.links[part].to
            return f"link to {to if layout is self.old else self._same_table(to)}"
        c = spec.columns[part]
        return f"{c.sources} {c.told} {c.position} {c.split} {c.derived} {c.of_type.kind}"

    def _same_key(self, name: str, before: str) -> list[int] | None:
        """For each column of a new natural key, the place of the one that it was before; None where
        the numbers of what it leads to are others."""
        new, old = self.new.tables[name], self.old.tables[before]
        stored: list[str] = []
        for part in new.known_by:
            if part in new.links and new.links[part].to not in self.kept:
                return None
            stored.append(self._meaning(self.new, new, part))
        there = [self._meaning(self.old, old, part) for part in old.known_by]
        plain = all(
            len(layout.stored_as(n, spec.known_by)) == len(spec.known_by)
            for layout, n, spec in ((self.new, name, new), (self.old, before, old))
        )
        return [there.index(one) for one in stored] if plain else None


class _Again(Adding):
    """One load that is made again under its number."""

    def __init__(
        self, whole: _Recutting, load: Load, reserved: Reserved, gone: Mapping[str, None]
    ) -> None:
        ledger = Ledger(whole.file)
        super().__init__(whole.file, whole.database, ledger, whole.progress, reserved, load.number)
        self.text, self.layout, self.load, self.gone = whole.text, whole.new, load, gone
        self.before = whole.ledger
        self.layout_number = whole.ledger.layout_number + (whole.text != whole.ledger.layout)

    def write_layout(self) -> None:
        """Keeps the new layout."""
        write_layout_text(self.file.append, self.layout_number, self.text)

    def make(self, encoded: Mapping[str, EncodedSource], *, rehearsal: bool) -> AddResult:
        """Makes it."""
        options = AddOptions(
            self.load.options.source,
            self.load.options.known,
            again=True,
            apart=self.load.options.set_aside,
            rehearsal=rehearsal,
        )
        done = self._rehearse(encoded, options.known, options.apart, self.load.options.only_known)
        if done.problems.total and not rehearsal:
            raise refused(done.problems, encoded)
        if not done.problems.total:
            self._write_again(done, encoded)
            self._balanced(self.load.number)
        order = list(self.layout.tables)
        return AddResult(
            database=self.database.name,
            load=self.load.number,
            files=tuple(
                FileAdded(f.file, f.source, "made again", f.rows)
                for f in self.before.files
                if f.load == self.load.number
            ),
            tables=tuple(sorted(done.merged.counts, key=lambda c: order.index(c.name))),
            links=tuple(done.links),
            set_aside=len(done.set_aside),
            known_rows=sum(len(k.rows) for k in done.merged.known.values()),
            rehearsed=rehearsal,
            problems=done.problems.total,
            groups=problem_groups(done.problems, encoded, 10),
            notes=tuple(self.file.remarks),
        )

    def _write_again(self, done: Split, encoded: Mapping[str, EncodedSource]) -> None:
        number = self.load.number
        self.remove_parts(done)
        self.write_rows(done, encoded)
        mine = [f for f in self.before.files if f.load == number]
        left_out = {
            (f.source, f.file): f.left_out
            for f in loaded_files(number, encoded, self.database.folder, done)
        }
        files = [
            f if f.file in self.gone else replace(f, left_out=left_out.get((f.source, f.file), 0))
            for f in mine
        ]
        load = replace(self.load, layout=self.layout_number)
        write_load(self.file.append, load, files, rows_set_aside(number, encoded, done))
        write_merged(self.file, number, done.merged)
