"""add: puts later files into the right tables of a database that is there, in one transaction.

A record that the database has already, found by its natural key, is resolved. What becomes of the
row that says it again, and of what it says differently, is told by `known`: `refuse` (usual),
`keep` what is there, `fill` its blanks only, `overwrite`.
"""

from __future__ import annotations

import contextlib
import shlex
import time
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from dataclasses import replace as replaced
from glob import has_magic
from pathlib import Path

import numpy as np
import pyarrow as pa

from kerfmark.address import database_at, is_url
from kerfmark.errors import DataRefused, Origin, TargetError, UsageError, in_rows
from kerfmark.layout.derive import settled
from kerfmark.layout.model import Layout
from kerfmark.layout.text import parse_layout
from kerfmark.ledger.account import FileAccount, accounts
from kerfmark.ledger.records import Ledger, Options, write_layout_text, write_load
from kerfmark.ledger.row_numbers import Numbering, Reserved
from kerfmark.normalize.policy import policies, policy_of
from kerfmark.normalize.split import MergeTarget, Split, refused, rehearse
from kerfmark.profile.encode import EncodedSource, encode
from kerfmark.progress import Progress, silent
from kerfmark.read.open import described_as
from kerfmark.read.source import Reading
from kerfmark.read.union import parts_of
from kerfmark.read.wrapped import AlsoSaidSource
from kerfmark.store.interface import Changing, Database
from kerfmark.store.names import view_name
from kerfmark.verbs.add_result import AddResult, FileAdded, changed_values, different_cells
from kerfmark.verbs.atomic_write import write_atomically
from kerfmark.verbs.layout_beside import kept_beside, told_beside
from kerfmark.verbs.layout_in_force import LayoutInForce
from kerfmark.verbs.left_as_it_was import left_as_it_was, parents_left
from kerfmark.verbs.loaded_before import loaded_already, named_twice
from kerfmark.verbs.new_headers import NewHeaders, likeness
from kerfmark.verbs.own_forms import SaidForms, in_own_forms
from kerfmark.verbs.problem_groups import problem_groups
from kerfmark.verbs.recording import loaded_files, new_load, rows_set_aside, write_merged
from kerfmark.verbs.refusals import broken_rule
from kerfmark.verbs.rejects import rejected, writable_rejects
from kerfmark.verbs.retry import retried
from kerfmark.verbs.routing import Routed, expected_headers, route
from kerfmark.verbs.sources import rules_of, together

__all__ = ["NewHeaders", "add"]


MOST_WALKED = 50_000
"""Records of a table up to which all links to it are looked at."""


def add(
    files: Sequence[str | Path],
    into: str | Path,
    *,
    source: str = "",
    known: str = "",
    only_known: bool = False,
    again: bool = False,
    only_new: bool = False,
    new_headers: NewHeaders = NewHeaders(),
    widen: bool = False,
    rehearsal: bool = False,
    set_aside: str | Path | None = None,
    replace: bool = False,
    backup: str | Path | None = None,
    reading: Reading = Reading(),
    forms: SaidForms = SaidForms(),
    corrections: Sequence[tuple[str, str]] = (),
    progress: Progress = silent,
) -> AddResult:
    """Adds files to the tables of a database that Kerfmark made. Everything lands, or nothing.

    Each file feeds the source whose headers it has (`source` names it). Rows that do not fit refuse
    the whole, unless `set_aside` names a file for them. A file that was loaded already is refused
    unless `again`; with `only_new`, and where a folder or a pattern is named, it is skipped.
    `widen` lets a column take values for which its type was too narrow; `backup`
    names a file for a copy of the database as it was; `reading` says how the files are written,
    and `forms` how their dates and numbers are, where that is not found by itself; `corrections`
    are misspelt texts (`COLUMN:TEXT`) with what they mean, now and from then on. With
    `rehearsal` nothing is written, and problems are told instead of raised.

    Raises UsageError for what cannot be read or fits no source, DataRefused when the data do not
    fit, TargetError for a database that cannot be written to.
    """
    database = database_at(into)
    aside = None if set_aside is None else writable_rejects(Path(set_aside), replace)
    if not files:
        raise UsageError("name at least one file")
    if backup is not None:
        database.copy(Path(backup))
    several = any(not is_url(str(f)) and (has_magic(str(f)) or Path(f).is_dir()) for f in files)

    def once() -> AddResult:
        with database.changing() as file, contextlib.ExitStack() as written:
            adding = Adding(file, database, Ledger(file), progress)
            result = adding.add(
                files,
                AddOptions(
                    source,
                    known,
                    again,
                    new_headers,
                    widen,
                    rehearsal,
                    aside,
                    reading=reading,
                    only_new=not again and (only_new or several),
                    forms=forms,
                    only_known=only_known,
                    corrections=tuple(corrections),
                ),
            )
            told = told_beside(database, file, adding.ledger.layout)
            saved: dict[Path, str | bytes] = {}
            if not rehearsal:
                saved = kept_beside(database, adding.ledger.layout, adding.text)
            written.enter_context(write_atomically(adding.rejects | saved))
            if not rehearsal and result.load:
                file.commit()
        return replaced(result, notes=(*result.notes, *told))

    return retried(once)


@dataclass(frozen=True)
class AddOptions:
    """How files are added (see `add`); rows that do not fit are taken `apart` also where no file is
    named for them (`aside`)."""

    source: str = ""
    known: str = ""
    again: bool = False
    new_headers: NewHeaders = field(default_factory=NewHeaders)
    widen: bool = False
    rehearsal: bool = False
    aside: Path | None = None
    apart: bool = False
    verb: str = "add"
    reading: Reading = Reading()
    only_new: bool = False
    forms: SaidForms = SaidForms()
    only_known: bool = False
    corrections: tuple[tuple[str, str], ...] = ()


def _notes_of_reading(encoded: Mapping[str, EncodedSource]) -> Iterator[str]:
    """What was doubtful when files were read, and which of their rows were left out."""
    for whole in encoded.values():
        file = "" if whole.found.parts else f"{whole.source.origin().file}: "
        for r in whole.found.remarks:
            if r.severity == "doubtful" or not r.header:
                remedy = f"; {r.remedies}" if r.next else ""
                yield f"{file}{r.what}{in_rows(r.rows, r.total)}{remedy}"


class Adding(LayoutInForce):
    """One load into an open database."""

    def __init__(
        self,
        file: Changing,
        database: Database,
        ledger: Ledger,
        progress: Progress,
        reserved: Reserved | None = None,
        made_again: int = 0,
    ) -> None:
        super().__init__(file, ledger.layout)
        self.database, self.ledger, self.progress = database, ledger, progress
        self.reserved, self.made_again = reserved, made_again
        self.notes: list[str] = []
        self.rejects: dict[Path, str | bytes] = {}
        self.adopted = False

    def add(self, files: Sequence[str | Path], wanted: AddOptions) -> AddResult:
        """Does everything but the commit, also when it is rehearsed, unless there are problems."""
        started = time.perf_counter()
        self.check(wanted)
        alike = likeness(self.layout, self.file)
        routed = route(
            self.layout,
            files,
            wanted.source,
            wanted.new_headers,
            wanted.reading,
            alike,
            self.notes,
            self._orders(),
            self._order_of,
            wanted.only_known,
        )
        return self.add_routed(routed, wanted, started)

    def check(self, wanted: AddOptions) -> None:
        """Raises TargetError for a database that lacks what its layout needs, UsageError for
        options that it does not allow."""
        self._check_tables()
        self._check_known(wanted.known, wanted.only_known)

    def add_routed(self, routed: Sequence[Routed], wanted: AddOptions, started: float) -> AddResult:
        """The same of files that are open already, and whose sources are known."""
        apart = wanted.apart or wanted.aside is not None
        strict = not apart and not wanted.rehearsal
        encoded = self._read(routed, strict=strict)
        known_files = 0
        if wanted.only_new:
            fresh = self._fresh(routed, encoded)
            known_files = len(routed) - len(fresh)
            if not fresh:
                return self._nothing(known_files, started)
            if known_files:
                routed = fresh
                encoded = self._read(routed, strict=strict)
        if not wanted.again:
            self._refuse_known_files(encoded)
        self.learn(routed, encoded)
        self.correct(wanted.corrections, encoded)
        encoded, in_own_form = in_own_forms(
            self.layout, encoded, wanted.forms, lambda s: encode(s, self.progress, strict=strict)
        )
        self.notes += in_own_form
        counts = {id(r): 0 for r in routed}
        for name, e in encoded.items():
            mine = [r for r in routed if r.source == name]
            for r, part in zip(mine, loaded_files(0, {name: e}, self.database.folder), strict=True):
                counts[id(r)] = part.rows
        read = tuple(FileAdded(_called(r), r.source, r.why, counts[id(r)]) for r in routed)
        return replaced(self.land(encoded, read, wanted, started), known_files=known_files)

    def _orders(self) -> dict[str, tuple[str, ...]]:
        """In which order the latest file without a header of each source had its columns."""
        said = [(f.source, f.read_as) for f in self.ledger.live_files]
        return {source: tuple(s["columns"]) for source, s in said if s.get("columns")}

    def _order_of(self, source: str) -> Sequence[str]:
        """The headers that files of a source must have, in the order of its first file."""
        needed, _ = expected_headers(self.layout, source)
        facts = self.file.facts(view_name(source))
        order = [c.name for c in facts.columns if c.name in needed] if facts else []
        return order if len(order) == len(needed) else sorted(needed)

    def _fresh(
        self, routed: Sequence[Routed], encoded: Mapping[str, EncodedSource]
    ) -> list[Routed]:
        """The files that were not loaded yet, each once."""
        seen = {(f.source, f.fingerprint) for f in self.ledger.live_files}
        out: list[Routed] = []
        for name, e in encoded.items():
            mine = [r for r in routed if r.source == name]
            for r, (_, found, _) in zip(mine, e.parts(), strict=True):
                if (name, found.fingerprint) not in seen:
                    seen.add((name, found.fingerprint))
                    out.append(r)
        return [r for r in routed if any(r is f for f in out)]

    def _nothing(self, known_files: int, started: float) -> AddResult:
        """What there is to tell where all files were loaded already."""
        seconds = round(time.perf_counter() - started, 3)
        return AddResult(self.database.name, 0, seconds=seconds, known_files=known_files)

    def land(
        self,
        encoded: Mapping[str, EncodedSource],
        read: tuple[FileAdded, ...],
        wanted: AddOptions,
        started: float,
    ) -> AddResult:
        """The same of sources that are encoded already; `read` tells what they were read from."""
        apart, rehearsal = wanted.apart or wanted.aside is not None, wanted.rehearsal
        if self.adopted:
            self.file.refresh_views(self.layout, {n: e.source.headers for n, e in encoded.items()})
        done = self._rehearse(encoded, wanted.known, apart, wanted.only_known)
        if done.problems.total and wanted.widen and self.widen(done, encoded):
            done = self._rehearse(encoded, wanted.known, apart, wanted.only_known)
        if done.problems.total and not rehearsal:
            refusal = refused(done.problems, encoded)
            told_of = ("tables > ", "sources > ", "in the layout")
            if wanted.verb == "add" and any(w in refusal.next for w in told_of):
                layout = shlex.quote(str(self.database.layout_path))
                name = shlex.quote(self.file.name)
                refusal.next += (
                    f"\nto change the layout: edit {layout} (kerfmark show {name} --layout prints "
                    f"it), then kerfmark recut {name} {layout}"
                )
            raise refusal
        if wanted.aside is not None and done.set_aside and not rehearsal:
            self.rejects = rejected(wanted.aside, encoded, done.set_aside)
        number = self.ledger.next_load
        changes = changed_values(self.layout, self.file, done)
        before = parents_left(self.file, self.layout, done)
        account: tuple[FileAccount, ...] = ()
        if not done.problems.total:
            options = Options(wanted.known, apart, wanted.source, wanted.only_known)
            self._write(number, wanted.verb, done, encoded, options)
            self.notes += left_as_it_was(self.file, self.layout, done, encoded, before)
            account = self._balanced(number)
        assert sum(e.read for e in encoded.values()) == sum(f.rows for f in read)
        return AddResult(
            self.database.name,
            0 if rehearsal else number,
            read,
            tuple(sorted(done.merged.counts, key=lambda c: list(self.layout.tables).index(c.name))),
            tuple(done.links),
            changes,
            tuple(self.learned),
            len(done.set_aside),
            sum(len(k.rows) for k in done.merged.known.values()),
            account,
            different_cells(done, encoded, self.file),
            tuple(map(str, self.rejects)),
            rehearsal,
            done.problems.total,
            problem_groups(done.problems, encoded, 10),
            (*self.notes, *_notes_of_reading(encoded), *self._loose(), *self.file.remarks),
            round(time.perf_counter() - started, 3),
        )

    def enlarge(
        self,
        text: str,
        encoded: Mapping[str, EncodedSource],
        columns: Sequence[tuple[str, str, str]] = (),
    ) -> None:
        """Makes the tables that a longer layout has more than the database's own, and takes it for
        that. `encoded` are its new sources, `columns` (table, column, header) those that tables
        which are there get."""
        self._check_tables()
        self._refuse_known_files(encoded)
        before = set(self.layout.tables)
        self.text, self.layout = text, parse_layout(text, "the layout")
        whole = settled(self.layout, {n: e.source.headers for n, e in encoded.items()})
        shown: dict[str, list[str]] = {}
        for table, name, header in columns:
            spec = self.layout.tables[table]
            self.file.add_column(table, name, spec.columns[name].of_type)
            facts = self.file.facts(view_name(spec.source))
            there = [c.name for c in facts.columns] if facts else []
            shown.setdefault(spec.source, there).append(header)
        if shown:
            self.file.refresh_views(self.layout, shown)
        self.file.add_tables(whole, [n for n in whole.parents_first() if n not in before])
        self.adopted = True

    def adopt(self) -> None:
        """Keeps the layout of a database that somebody else made, and makes the views of its
        sources."""
        write_layout_text(self.file.append, 1, self.text)
        self.adopted = True

    def adopt_instead(self, text: str) -> None:
        """Goes by another layout of tables that somebody else made, where all loads were taken
        back. It is written with the load: what changes tables comes before what changes rows."""
        before, self.text, self.layout = self.layout, text, parse_layout(text, "the layout")
        gone = [s for s in before.sources if s not in self.layout.sources]
        self.file.refresh_views(before, dict.fromkeys(gone, ()))
        self.adopted = True

    def _check_tables(self) -> None:
        """Raises TargetError when something that the layout needs was dropped."""
        for name, table in self.layout.tables.items():
            facts = self.file.facts(name)
            there = {c.name for c in facts.columns} if facts else ()
            wanted = {
                *self.layout.key_columns(name),
                *table.columns,
                *self.layout.stored_as(name, list(table.links)),
            }
            if lost := [c for c in sorted(wanted) if c not in there]:
                raise TargetError(
                    f'the table "{name}" '
                    + (f'has no column "{lost[0]}" any more' if there else "is no longer there"),
                    code="target.changed",
                    origin=Origin(self.database.name),
                    why="the layout in the database needs it",
                    next="put it back, or cut the files anew",
                )

    def _loose(self) -> tuple[str, ...]:
        """What somebody has left without the record it leads to; tables with very many records are
        not asked."""
        out = []
        for name, table in self.layout.tables.items() if not self.file.enforces_links else ():
            if table.links and all(
                self.file.last_row(to) <= MOST_WALKED for to in table.parents.values()
            ):
                out += [
                    f"rows of {name} lead by {c} to records that are no longer there: kerfmark "
                    "prove tells more"
                    for c in self.file.broken_links(name)
                ]
        return tuple(out)

    def _check_known(self, known: str, only_known: bool) -> None:
        """Raises UsageError where what is to become of known records is said of no table, or the
        database would not take a record a second time, or `only_known` ones would be refused."""
        general, own = policies(known)
        if only_known and not known and not any(t.known for t in self.layout.tables.values()):
            raise UsageError(
                "--only-known needs to know what happens to existing records",
                code="usage.only-known",
                next="--known fill fills their blanks\n--known overwrite replaces their values",
            )
        if strange := next((t for t in own if t not in self.layout.tables), ""):
            raise UsageError(
                f'there is no table "{strange}"',
                next=f"the tables are {', '.join(self.layout.tables)}",
            )
        for name, table in self.layout.tables.items():
            adding = own.get(name, general if table.each_row else "") == "add"
            if adding and table.known_by and table.known != "add":
                raise UsageError(
                    f"the database keeps {' + '.join(table.known_by)} of {name} unique, so none "
                    "can be added again",
                    next="--known keep, fill or overwrite makes no second record\n"
                    f'set known = "add" in tables > {name} of the layout, and cut anew',
                )

    def _read(self, routed: Sequence[Routed], *, strict: bool) -> dict[str, EncodedSource]:
        """The sources that files feed, encoded; those of one source are one."""
        out: dict[str, EncodedSource] = {}
        for name in dict.fromkeys(r.source for r in routed):
            mine = [r for r in routed if r.source == name]
            spec = self.layout.sources[name]
            parts = [described_as(r.opened, name, rules_of(r.spec), r.spec.also) for r in mine]
            parts = [
                AlsoSaidSource(p, {"may_lack": r.unsaid}) if r.unsaid else p
                for p, r in zip(parts, mine, strict=True)
            ]
            lack = {
                *spec.may_lack,
                *(h for r in mine for h in (*r.left_out, *r.put, *r.lacking, *r.unsaid)),
            }
            out[name] = encode(
                together(parts, [r.told for r in mine], spec.telling, name, lack),
                self.progress,
                strict=strict,
            )
        return out

    def _refuse_known_files(self, encoded: Mapping[str, EncodedSource]) -> None:
        loads = {load.number: load for load in self.ledger.live}
        known = {f.fingerprint: f for f in self.ledger.live_files}
        seen: dict[str, str] = {}
        for name, e in encoded.items():
            for part, found, _ in e.parts():
                place = part.origin().file
                old = known.get(found.fingerprint)
                if old and old.source == name:
                    at = loads[old.load].at
                    raise loaded_already(part.origin(), old.file, old.load, at, self.database.name)
                if found.fingerprint in seen:
                    raise named_twice(part.origin(), seen[found.fingerprint])
                seen[found.fingerprint] = place

    def _rehearse(
        self,
        encoded: Mapping[str, EncodedSource],
        known: str,
        set_aside: bool,
        only_known: bool = False,
    ) -> Split:
        self.progress("rehearsing", 0, 0)
        lacking = {name: self._lacking(name, e, known, only_known) for name, e in encoded.items()}
        numbering = Numbering(self.file, self.layout, self.ledger, self.reserved, self.made_again)
        return rehearse(
            _nothing_required(self.layout, lacking) if only_known else self.layout,
            encoded,
            set_aside=set_aside,
            target=MergeTarget(
                self.file, numbering.free, self.file.to_engine, known, lacking, only_known
            ),
            codec=self.file.codec,
        )

    def _lacking(self, name: str, encoded: EncodedSource, known: str, only_known: bool) -> set[str]:
        """The headers that files of a source need not have and do not. Raises UsageError where
        some of them have one and others have not, and blanks would be written over what is
        there."""
        parts = parts_of(encoded.source)
        may = {*self.layout.sources[name].may_lack}
        may |= {h for part in parts for h in part.settings().get("may_lack", ())}
        there = [set(part.headers) for part in parts]
        mixed = sorted(h for h in may if len({h in some for some in there}) > 1)
        writing = {"overwrite", "replace"} & {
            policy_of(self.layout, t, known) for t in self.layout.tables_of(name)
        }
        if mixed and (writing or only_known):
            raise UsageError(
                f'some of these files have "{mixed[0]}", and others do not',
                code="usage.mixed",
                origin=next(p.origin() for p in parts if mixed[0] not in p.headers),
                next="add those that have it, and those that do not, one after the other",
            )
        return {h for h in may if not any(h in some for some in there)}

    def _balanced(self, number: int) -> tuple[FileAccount, ...]:
        """The account of a load, as the database has it by now. Raises TargetError where a row of a
        file is in no part of it."""
        ledger = Ledger(self.file)
        base_of = {s: self.layout.base_of(s) for s in self.layout.sources}
        account = tuple(a for a in accounts(ledger, self.file, base_of, [number]))
        if wrong := [a for a in account if not a.balances]:
            raise TargetError(
                "the account of a file does not balance; nothing was kept",
                code="internal",
                origin=Origin(wrong[0].file),
                why=f"{wrong[0]}",
                next="this is a fault of Kerfmark: please report it",
            )
        return account

    def _write(
        self,
        number: int,
        verb: str,
        done: Split,
        encoded: Mapping[str, EncodedSource],
        options: Options,
    ) -> None:
        layout_number = self.ledger.layout_number
        if self.text != self.ledger.layout:
            layout_number += 1
            write_layout_text(self.file.append, layout_number, self.text)
        self.remove_parts(done)
        self.write_rows(done, encoded)
        write_load(
            self.file.append,
            new_load(number, verb, layout_number, options),
            loaded_files(number, encoded, self.database.folder, done),
            rows_set_aside(number, encoded, done),
        )
        write_merged(self.file, number, done.merged)

    def remove_parts(self, done: Split) -> None:
        """Deletes the parts of records that are replaced and have fewer, or others."""
        for name in reversed(self.layout.parents_first()):
            if len(rows := done.merged.removed.get(name, np.empty(0, np.int64))):
                self.file.delete_rows(name, rows)

    def write_rows(self, done: Split, encoded: Mapping[str, EncodedSource]) -> None:
        """Adds the new rows of all tables, and looks whether they are there."""
        added = []
        order = self.layout.parents_first()
        for name in order:
            table = done.merged.new.get(name)
            if table is None or not table.num_rows:
                continue
            self.progress(f"writing {name}", table.num_rows, table.num_rows)
            numbers = done.merged.numbers[name]
            before = self.file.last_row(name)
            self._put_rows(name, table, int(numbers[0]), done, encoded)
            added.append((name, int(numbers.min()), max(before, int(numbers.max()))))
        self.progress("checking", 0, 0)
        for name, first, last in added:
            if (highest := self.file.last_row(name)) != last or (
                loose := self.file.broken_links_from(name, first)
            ):
                raise TargetError(
                    "the rows that were added are not what they should be; nothing was kept",
                    code="internal",
                    origin=Origin(self.database.name),
                    why=f"{name}: last row {highest}, expected {last}"
                    if highest != last
                    else f"{name}: {', '.join(loose)} refers to a missing record",
                    next="look whether a trigger of the database changes rows; else "
                    "please report it",
                )

    def _put_rows(
        self,
        name: str,
        table: pa.Table,
        first: int,
        done: Split,
        encoded: Mapping[str, EncodedSource],
    ) -> None:
        """Adds rows; what the database refuses is told with the row of the source that it comes
        from."""
        self.file.savepoint("kerfmark_rows")
        batch = table.combine_chunks()
        try:
            self.file.insert(name, batch.schema, batch.to_batches(), first)
            return
        except (DataRefused, TargetError) as refusal:
            if refusal.code not in ("data.refused", "target.failed"):
                raise
            try:
                self.file.rollback_to("kerfmark_rows")
            except TargetError:  # the engine has given up the whole transaction
                raise refusal from None
            good, bad = 0, batch.num_rows  # the first rows that go in, and the fewest that do not
            while bad - good > 1:
                middle = (good + bad) // 2
                self.file.savepoint("kerfmark_rows")
                try:
                    self.file.insert(name, batch.schema, batch.slice(0, middle).to_batches(), first)
                    good = middle
                except (DataRefused, TargetError) as error:
                    bad, refusal = middle, error
                self.file.rollback_to("kerfmark_rows")
            source, rows = done.merged.said_in[name]
            said = ", ".join(
                f"{c} {batch.column(c)[bad - 1].as_py()}" for c in batch.column_names[1:6]
            )
            rule, about = broken_rule(self.file, name, batch.column_names, refusal.why)
            spec = self.layout.tables[name]
            headers = [h for c in about if c in spec.columns for h in spec.columns[c].sources]
            at = (
                encoded[source].origin(int(rows[bad - 1]), *headers[:1])
                if source in encoded and rows[bad - 1] >= 0
                else None
            )
            raise DataRefused(
                f"the database refuses a record of {name}" + (f" by {rule}" if rule else ""),
                code="data.refused",
                origin=at,
                why=refusal.why,
                more=[f"{name}: {said}"],
                total=1,
                next="correct the row\nif it is right, ask who made the rule of the database",
            ) from refusal


def _nothing_required(layout: Layout, lacking: Mapping[str, set[str]]) -> Layout:
    """A layout in which nothing is required of tables whose files say only some of it."""
    tables = {
        n: t.model_copy(update={"optional": tuple({*t.optional, *t.columns, *t.links})})
        if lacking.get(t.source)
        else t
        for n, t in layout.tables.items()
    }
    return layout.model_copy(update={"tables": tables})


def _called(routed: Routed) -> str:
    sheet = f', sheet "{routed.spec.sheet}"' if routed.spec.sheet else ""
    return (routed.place if "://" in routed.place else Path(routed.place).name) + sheet
