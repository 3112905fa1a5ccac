"""Takes a load back so that what remains is what the other loads, in their order, would have made
without it.

Promises: 1. a record stays while another load says it that would have made it, under the same key;
the first of these is then the one that made it; 2. a value becomes what the loads that say it make
of it, each by the policy it was made with; 3. where another load could not have been made without
this one, or something was changed by hand since, everything is refused, and what was changed so far
is for the caller to roll back.
"""

from __future__ import annotations

import shlex
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

import numpy as np

from kerfmark.errors import DataRefused, Origin
from kerfmark.layout.model import Layout
from kerfmark.ledger.account import (
    Change,
    SpelledRuns,
    expanded,
    known_runs,
    read_changes,
    read_known,
    read_says,
    runs,
)
from kerfmark.ledger.records import MAKERS, OWN, WOULD_MAKE, Ledger, Says, write_known, write_says
from kerfmark.normalize.policy import CREATED, EXCEPTION, MADE, REFERRED, SAID, rule_of
from kerfmark.profile.codes import distinct
from kerfmark.store.interface import Changing
from kerfmark.store.quoting import literal

Objects = np.ndarray
"""An array of objects: texts as `Reader.exact` gives values, None for a blank."""


@dataclass
class _Successors:
    """The rows of a table that a load had made (ascending), and for each the load that makes it now
    (0: none)."""

    made: np.ndarray
    heir: np.ndarray

    def heir_of(self, rows: np.ndarray) -> np.ndarray:
        """The heir of each of some rows; -1 for a row that the load had not made."""
        if not len(self.made):
            return np.full(len(rows), -1, np.int64)
        at = np.minimum(np.searchsorted(self.made, rows), len(self.made) - 1)
        return np.where(self.made[at] == rows, self.heir[at], -1)


@dataclass
class _Rewrite:
    """What becomes of a column: cells that get another value, and what is noted of later loads
    instead of what was."""

    table: str
    column: str
    rows: np.ndarray
    values: Objects
    affected: np.ndarray
    noted: list[tuple[int, int, str | None, str | None, int]] = field(default_factory=list)


class UndoPlan:
    """Takes one load back in an open database. `later` are the loads after it in force."""

    def __init__(
        self, file: Changing, ledger: Ledger, layout: Layout, number: int, later: Sequence[int]
    ) -> None:
        self.file, self.layout, self.number, self.later = file, layout, number, sorted(later)
        self.options = {load.number: load.options for load in ledger.loads}
        says = read_says(file, [number, *self.later])
        self.mine = [s for s in says if s.load == number]
        self.said: dict[str, list[Says]] = {}
        for s in says:
            if s.load != number:
                self.said.setdefault(s.table.lower(), []).append(s)
        self.changes = read_changes(file, [number, *self.later])
        self.tables = list(dict.fromkeys(s.table for s in self.mine))
        self._refuse_where_rows_were_set_aside(ledger)
        self.heirs = {t: self._heirs(t) for t in self.tables}
        self.columns = {
            t.lower(): {
                c: name
                for name in (*spec.links, *spec.columns)
                for c in layout.stored_as(t, [name])
            }
            for t, spec in layout.tables.items()
        }

    def depends(self, why: str) -> DataRefused:
        """The error for a load that others depend on."""
        numbers = f"load{'s' if len(self.later) > 1 else ''} {', '.join(map(str, self.later))}"
        undo = f"kerfmark undo {shlex.quote(self.file.name)} {self.number} --through"
        return DataRefused(
            f"load {self.number} cannot be taken back alone",
            code="data.depends",
            origin=Origin(self.file.name),
            why=why,
            next=f"{undo} takes back {numbers} too",
        )

    # -- finding out

    def _refuse_where_rows_were_set_aside(self, ledger: Ledger) -> None:
        """Raises DataRefused where a later load has set rows aside because of what this one says:
        without it they had landed."""
        for r in ledger.set_aside:
            if r.load in self.later and any(
                s.table == r.against_table and s.first <= r.against_row <= s.last for s in self.mine
            ):
                raise self.depends(
                    f"load {r.load} set rows aside because they differ from load {self.number}, "
                    f"such as {r.file}, row {r.row}: {r.reason}"
                )

    def _heirs(self, table: str) -> _Successors:
        """Which load makes each record that this one had made, once it is gone."""
        made = expanded(
            [(s.first, s.last) for s in self.mine if s.table == table and s.role in MAKERS]
        )
        heir = np.zeros(len(made), np.int64)
        for s in self.said.get(table.lower(), []):  # the first load first
            a, b = np.searchsorted(made, [s.first, s.last + 1])
            free = heir[a:b] == 0
            if s.role in WOULD_MAKE:
                heir[a:b][free] = s.load
            elif s.role == REFERRED and free.any():
                raise self.depends(
                    f"rows of load {s.load} refer to rows of {table} that only load {self.number} "
                    "added"
                )
        return _Successors(made, heir)

    def rewrites(self) -> list[_Rewrite]:
        """What becomes of every value that depends on this load. Raises DataRefused where that
        cannot be."""
        self._refuse_where_parts_differ()
        out = []
        for table in self.tables:
            inherited = self.heirs[table].made[self.heirs[table].heir > 0]
            columns = [c for t, c in self.changes if t.lower() == table.lower()]
            partial = [s for s in self.said.get(table.lower(), []) if s.columns is not None]
            whole = self.columns.get(table.lower(), {}) if partial else {}
            for column in dict.fromkeys([*columns, *whole]):
                if column not in self.columns.get(table.lower(), {}):
                    continue  # a column that the layout has no more
                if done := self._rewrite(table, column, inherited, partial):
                    out.append(done)
        self._compared(out)
        return out

    def _refuse_where_parts_differ(self) -> None:
        """Raises DataRefused where a later load says other parts of a record that would be its own:
        these are noted of the record to which they belong, and not kept anywhere."""
        for (part, column), changes in self.changes.items():
            owner = (
                self.layout.tables[part].part_of
                if not column and part in self.layout.tables
                else ""
            )
            heirs = self.heirs.get(owner)
            inherited = heirs.made[heirs.heir > 0] if heirs else np.empty(0, np.int64)
            for c in changes:
                if c.load != self.number and bool(np.isin(c.row, inherited)):
                    raise self.depends(
                        f"load {c.load} has other rows of {part} for records of {owner} that load "
                        f"{self.number} added"
                    )

    def _compared(self, rewrites: Sequence[_Rewrite]) -> None:
        """Raises DataRefused where a value changes that later loads have only compared with
        theirs."""
        for spec in self.layout.tables.values():
            for link in spec.links.values():
                for path in link.repeats:
                    found = self.layout.follow(link.to, path) if "." in path else None
                    for r in rewrites if found and self.later else ():
                        if (
                            found
                            and r.table.lower() == found[0].lower()
                            and path.endswith(f".{r.column}")
                            and len(r.rows)
                        ):
                            raise self.depends(
                                f"later loads were compared with the {r.table}.{r.column} of load "
                                f"{self.number}"
                            )

    def _rewrite(
        self, table: str, column: str, inherited: np.ndarray, partial: Sequence[Says]
    ) -> _Rewrite | None:
        changes = next(
            (
                c
                for (t, name), c in self.changes.items()
                if (t.lower(), name) == (table.lower(), column)
            ),
            [],
        )
        mine = [c for c in changes if c.load == self.number and not c.kept]
        theirs = [c for c in changes if c.load != self.number]
        concerned = np.array(sorted({c.row for c in theirs}), np.int64)
        concerned = concerned[np.isin(concerned, inherited)]
        quiet = [
            (s.first, s.last)
            for s in partial
            if column not in (s.columns or ()) and column not in self._key_of(table)
        ]
        silent = [np.intersect1d(inherited, expanded(quiet))]
        rows = distinct(
            np.concatenate([np.array([c.row for c in mine], np.int64), concerned, *silent])
        )
        return self._folded(table, column, rows, changes) if len(rows) else None

    def _key_of(self, table: str) -> set[str]:
        return {
            c
            for t, spec in self.layout.tables.items()
            if t.lower() == table.lower()
            for c in self.layout.stored_as(t, spec.known_by)
        }

    def _folded(
        self, table: str, column: str, rows: np.ndarray, changes: Sequence[Change]
    ) -> _Rewrite:
        """The values of a column in some rows: first what each load said, from the last one back,
        then what becomes of it without this load, from its place on."""
        now = np.array(self.file.exact_values(table, column, rows), object)
        at = {int(r): i for i, r in enumerate(rows.tolist())}
        there, said, stays = now.copy(), {}, {}
        for load in [*reversed(self.later), self.number]:
            said[load], stays[load] = there.copy(), there
            there = there.copy()
            for change in changes:
                if change.load == load and change.row in at:
                    i = at[change.row]
                    said[load][i] = change.said
                    if not change.kept:
                        self._same_as_left(table, column, change, stays[load][i], load)
                        there[i] = change.before
        heir = self.heirs[table].heir_of(rows)
        state, begun = there.copy(), heir < 0
        state[~begun] = None
        out = _Rewrite(table, column, rows[:0], now[:0], rows)
        for load in self.later:
            speaks, makes = self._speaks(table, column, load, rows), heir == load
            state[makes & speaks] = said[load][makes & speaks]
            if (makes & (said[load] != stays[load])).any() and self._rule(
                table, column, load
            ) == EXCEPTION:
                raise self.depends(
                    f"rows of load {load} differ from the usual {column} of {table}, which only "
                    "this load has"
                )
            begun |= makes
            other = speaks & begun & ~makes
            for i in np.flatnonzero(other & (said[load] != state)).tolist():
                state[i] = self._meets(
                    out,
                    table,
                    column,
                    load,
                    int(rows[i]),
                    state[i],
                    said[load][i],
                    bool(stays[load][i] == state[i]),
                )
        self._must_be_filled(table, column, rows, state, now)
        differs = state != now
        out.rows, out.values = rows[differs], state[differs]
        return out

    def _meets(
        self,
        out: _Rewrite,
        table: str,
        column: str,
        load: int,
        row: int,
        state: str | None,
        said: str | None,
        as_before: bool,
    ) -> str | None:
        """What becomes of a value when a load says another one; noted as what that load did."""
        rule = self._rule(table, column, load)
        if rule == "refuse" or (rule == EXCEPTION and not as_before):
            raise self.depends(
                f"without it, row {row} of {table} would have {column} {_shown(state)}, and load "
                f"{load} has {_shown(said)}"
            )
        takes = rule == "overwrite" or (rule == "fill" and state is None and said is not None)
        out.noted.append((load, row, state, said, int(not takes)))
        return said if takes else state

    def _rule(self, table: str, column: str, load: int) -> str:
        name = next(t for t in self.layout.tables if t.lower() == table.lower())
        return rule_of(
            self.layout, name, self.columns[table.lower()][column], self.options[load].known
        )

    def _same_as_left(
        self, table: str, column: str, change: Change, there: str | None, load: int
    ) -> None:
        if change.said != there:
            raise DataRefused(
                f"load {self.number} cannot be taken back",
                code="data.changed",
                origin=Origin(self.file.name),
                why=f"a value of {table}.{column} that load {load} changed was changed by "
                "hand since: row "
                f"{change.row} held {_shown(change.said)} and holds {_shown(there)}",
                next="set it to what the load made of it (kerfmark trace tells), or leave the load",
            )

    def _must_be_filled(
        self, table: str, column: str, rows: np.ndarray, state: Objects, now: Objects
    ) -> None:
        """Raises DataRefused where a value that must be there would be blank."""
        lost = np.flatnonzero((state == None) & (now != None))  # noqa: E711  elementwise
        facts = self.file.facts(table) if len(lost) else None
        if facts and any(c.name == column and not c.optional for c in facts.columns):
            raise self.depends(
                f"no other load has a value for {table}.{column} of row {rows[lost[0]]}, which "
                "must not be blank"
            )

    def _speaks(self, table: str, column: str, load: int, rows: np.ndarray) -> np.ndarray:
        """In which of some rows a load says anything in a column."""
        out = np.zeros(len(rows), bool)
        for s in self.said.get(table.lower(), []):
            if s.load == load and (
                s.columns is None or column in s.columns or column in self._key_of(table)
            ):
                out |= (rows >= s.first) & (rows <= s.last)
        return out

    # -- doing it

    def apply(self, rewrites: Iterable[_Rewrite]) -> dict[str, int]:
        """Changes the values, and what the ledger says of them and of the records; how many values
        changed, by table."""
        out: dict[str, int] = {}
        for r in rewrites:
            if len(r.rows):
                self.file.restore_values(
                    r.table, self.number, r.column, r.rows.tolist(), r.values.tolist()
                )
                out[r.table] = out.get(r.table, 0) + len(r.rows)
            if self.later:
                self.file.delete_changes(r.table, r.column, self.later, list(runs(r.affected)))
                self.file.record_changes(r.table, r.column, sorted(r.noted))
        for table, heirs in self.heirs.items():
            for load in distinct(heirs.heir[heirs.heir > 0]).tolist():
                self._inherit(table, load, heirs.made[heirs.heir == load])
        return out

    def _inherit(self, table: str, load: int, rows: np.ndarray) -> None:
        """Notes that a load made some records that it had only said."""
        mine = [s for s in self.said[table.lower()] if s.load == load]
        new: list[Says] = []
        for s in mine:
            if s.role not in WOULD_MAKE:
                new.append(s)
                continue
            whole = np.arange(s.first, s.last + 1)
            made = np.isin(whole, rows)
            for role, some in (
                (s.role, whole[~made]),
                (MADE if s.role == SAID else CREATED, whole[made]),
            ):
                new += [Says(load, s.table, a, b, role, s.columns) for a, b in runs(some)]
        self.file.execute(
            f"DELETE FROM kerfmark_says WHERE load_id = {load} AND table_name = "
            f"{literal(mine[0].table)}"
        )
        write_says(self.file.append, new)
        base = [
            n for n, t in self.layout.tables.items() if n.lower() == table.lower() and t.each_row
        ]
        if base:
            self._own_rows(load, self.layout.tables[base[0]].source, rows)

    def _own_rows(self, load: int, source: str, rows: np.ndarray) -> None:
        """Notes that rows of a load's files have records of their own by now."""
        known = SpelledRuns.of(read_known(self.file, [load], source))
        hit = np.isin(known.rows, rows) & (known.outcomes != OWN)
        if hit.any():
            outcomes = np.where(hit, OWN, known.outcomes)
            self.file.execute(
                f"DELETE FROM kerfmark_known WHERE load_id = {load} AND source = {literal(source)}"
            )
            write_known(
                self.file.append,
                list(known_runs(load, source, known.records, known.rows, outcomes)),
            )

    def lost(self, table: str) -> np.ndarray:
        """The rows of a table that no other load would have made."""
        heirs = self.heirs[table]
        out: np.ndarray = heirs.made[heirs.heir == 0]
        return out

    def later_load_of(self, table: str, row: int) -> int:
        """A later load that says a row of a table; 0 for none."""
        return next(
            (s.load for s in self.said.get(table.lower(), []) if s.first <= row <= s.last), 0
        )


def _shown(value: str | None) -> str:
    """A value as a person reads it."""
    return "nothing" if value is None else value if value.startswith("'") else f'"{value}"'
