"""Compares a source with the database row by row, where loads have met records that were there
already: the ledger tells the row of the database for each row of the files, the cells are compared,
and each one that differs must be explained by what the ledger says of that very value: a later load
has changed it, or what was there was kept. What is explained so is told; the rest differs."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.layout.model import Layout
from kerfmark.ledger.account import REPLACED, Change, read_says
from kerfmark.ledger.expected import Expected
from kerfmark.ledger.records import MAKERS, Says
from kerfmark.store.interface import Reader
from kerfmark.store.quoting import literal, quote
from kerfmark.store.views import flat, ways

Changes = dict[tuple[str, str], list[Change]]
_ASKED = 200
"""Rows asked for in one query."""


@dataclass(frozen=True)
class Mismatch:
    """A cell that is not the same in the file and in the database: the row among those expected,
    the header by its place, the row of the database (its number), and what the database has."""

    row: int
    header: int
    number: int
    found: Any


@dataclass(frozen=True)
class Explained:
    """A mismatch that the ledger explains: by the load that made the value what it is now (0: no
    load), and whether that had been there before the row was loaded, and was kept."""

    mismatch: Mismatch
    load: int
    kept: bool


@dataclass
class Compared:
    """What comparing gave: the mismatches that are explained and those that are not, expected rows
    that are not there, and rows of the database (numbers, with their cells) that nobody expects."""

    explained: list[Explained] = field(default_factory=list)
    unexplained: list[Mismatch] = field(default_factory=list)
    missing: list[int] = field(default_factory=list)
    strange: list[tuple[int, tuple[Any, ...]]] = field(default_factory=list)


@dataclass(frozen=True)
class Rows:
    """Rows that are expected, and the number of the row of the database for each (-1: unknown)."""

    expected: Expected
    numbers: np.ndarray


class Comparison:
    """Compares rows of one source. `changes` are those of the `loads` in force; `told` hears how
    many rows were looked at."""

    def __init__(
        self,
        reader: Reader,
        layout: Layout,
        source: str,
        expected: Expected,
        changes: Changes,
        loads: Sequence[int],
        told: Callable[[int], None],
    ) -> None:
        self.loads, self._made = loads, dict[str, list[Says]]()
        self.reader, self.layout, self.source, self.told = reader, layout, source, told
        self.headers, self.base = expected.headers, layout.base_of(source)
        self.types = [v.type for v in expected.values]
        dialect = reader.dialect()
        cells, self.rows = flat(layout, source, self.headers, dialect)
        self.cells = [cells[h] for h in self.headers]
        self.ways, self.joined = ways(layout, source, self.headers, dialect)
        self.number = reader.row(self.base, quote(self.base))
        self.changes: dict[tuple[str, str], dict[int, list[Change]]] = {}
        for (table, column), some in changes.items():
            if not self._is_usual(
                table, column
            ):  # a row that says another value than usual keeps it itself
                for c in some:
                    self.changes.setdefault((table, column), {}).setdefault(c.row, []).append(c)
        self._of_parts = self._parts_otherwise()
        self._now: dict[tuple[str, str], dict[int, str | None]] = {}

    def _is_usual(self, table: str, column: str) -> bool:
        spec = self.layout.tables.get(table)
        return spec is not None and column in spec.columns and spec.columns[column].usual

    # -- finding what differs

    def compare(self, rows: Rows, *, alone: bool) -> Compared:
        """Compares expected rows; unless they are to be there `alone`, the database may have
        others."""
        out, seen = Compared(), np.zeros(len(rows.numbers), bool)
        known = np.flatnonzero(rows.numbers >= 0)
        known = known[np.argsort(rows.numbers[known], kind="stable")]
        numbers = rows.numbers[known]
        mismatches: list[Mismatch] = []
        done = 0
        for here, columns in self._batches():
            order = np.argsort(here, kind="stable")
            low, high = (
                np.searchsorted(numbers, [here[order[0]], here[order[-1]] + 1])
                if len(here)
                else (0, 0)
            )
            at = np.minimum(np.searchsorted(here[order], numbers[low:high]), max(len(here) - 1, 0))
            hit = here[order][at] == numbers[low:high] if len(here) else np.zeros(0, bool)
            mine, theirs = known[low:high][hit], order[at[hit]]
            seen[mine] = True
            for i, column in enumerate(columns):
                wrong = _differs(rows.expected.taken(i, mine), column, theirs)
                if i in rows.expected.misfits:
                    wrong = np.union1d(wrong, np.flatnonzero(rows.expected.misread(i, mine)))
                if len(wrong):
                    wrong = wrong[~rows.expected.unsaid(i, mine[wrong])]
                mismatches += [
                    Mismatch(int(mine[w]), i, int(here[theirs[w]]), _value(column, int(theirs[w])))
                    for w in wrong.tolist()
                ]
            if alone:
                unknown = np.setdiff1d(np.arange(len(here)), theirs)
                out.strange += [
                    (int(here[n]), tuple(_value(c, n) for c in columns)) for n in unknown.tolist()
                ]
            done += len(here)
            self.told(done)
        out.missing = np.flatnonzero(~seen).tolist()
        self._explain(rows.expected, mismatches, out)
        return out

    def _batches(self) -> Iterator[tuple[np.ndarray, list[Any]]]:
        """Row numbers, and the cells of each column (lists, where the engine gives something that
        is not of the column's type)."""
        try:
            for batch in self.reader.batches(
                self.rows, [self.number, *self.cells], [pa.int64(), *self.types]
            ):
                if batch.num_rows:
                    yield batch.column(0).to_numpy(zero_copy_only=False), batch.columns[1:]
        except (OSError, pa.ArrowInvalid):
            found = list(
                self.reader.rows(self.rows, [self.number, *self.cells], [pa.int64(), *self.types])
            )
            if found:
                numbers, *columns = zip(*found, strict=True)
                yield np.array([int(n) for n in numbers], np.int64), [list(c) for c in columns]

    # -- explaining it

    def _explain(self, expected: Expected, mismatches: Sequence[Mismatch], out: Compared) -> None:
        if not mismatches:
            return
        numbers = sorted({m.number for m in mismatches})
        places = self._places(numbers)
        left: list[Mismatch] = []
        for m in mismatches:
            cause = self._cause(m, int(expected.load[m.row]), places[m.number])
            if cause is None and expected.codes[m.header][m.row] < 0:
                cause = self._unsaid(m, places[m.number])
            if cause is None:
                left.append(m)
            else:
                out.explained.append(Explained(m, *cause))
        same = self._same_to_the_engine(expected, left, places)
        out.unexplained += [m for m in left if m not in same]

    def _places(self, numbers: Sequence[int]) -> dict[int, dict[str, int]]:
        """For rows of the base table, the number of the row of each table on the ways (by what that
        is called)."""
        steps = {s.alias: s.table for some in self.ways.values() for way in some for s in way}
        asked = ", ".join([self.number, *(self.reader.row(t, alias) for alias, t in steps.items())])
        out: dict[int, dict[str, int]] = {}
        for start in range(0, len(numbers), _ASKED):
            some = ", ".join(map(str, numbers[start : start + _ASKED]))
            for n, *found in self.reader.ask(
                f"SELECT {asked} FROM {self.joined} WHERE {self.number} IN ({some})"
            ):
                out[int(n)] = {
                    a: -1 if f is None else int(f) for a, f in zip(steps, found, strict=True)
                }
        return out

    def _cause(self, m: Mismatch, load: int, places: dict[str, int]) -> tuple[int, bool] | None:
        """The load that made a value what it is now, for a row of another load, and whether it was
        kept; None where the ledger has nothing about it."""
        for way in self.ways[self.headers[m.header]]:
            for step in way:
                row = places.get(step.alias, -1)
                if step.part and load in self._of_parts.get((step.part, row), set()):
                    return 0, True
                later = [c.load for c in self._replaced(step.part, row) if c.load > load]
                if later:
                    return later[-1], False
                for column in step.columns:
                    found = self.changes.get((step.table, column), {}).get(row, [])
                    later = [c.load for c in found if c.load > load and not c.kept]
                    mine = [c for c in found if c.load == load and c.kept]
                    if (later or mine) and self._as_left(step.table, column, row, found):
                        before = [c.load for c in found if c.load < load and not c.kept]
                        return (
                            (later[-1], False)
                            if later
                            else (before[-1] if before else self._maker(step.table, row), True)
                        )
        return None

    def _replaced(self, part: str, row: int) -> list[Change]:
        """The loads that have replaced the parts of a record, the first one first."""
        return self.changes.get((part, REPLACED), {}).get(row, []) if part else []

    def _unsaid(self, m: Mismatch, places: dict[str, int]) -> tuple[int, bool] | None:
        """Who says a value of a record that a row only names, beside a blank; None where the row
        does more than name it."""
        header = self.headers[m.header]
        for way in self.ways[header]:
            if len(way) > 1 and any(
                header in link.repeats.values()
                for link in self.layout.tables[way[-2].table].links.values()
            ):
                step = way[-1]
                row = places.get(step.alias, -1)
                found = [
                    c.load
                    for c in self.changes.get((step.table, step.columns[0]), {}).get(row, [])
                    if not c.kept
                ]
                return found[-1] if found else self._maker(step.table, row), True
        return None

    def _maker(self, table: str, row: int) -> int:
        """The load that made a row; 0 for none."""
        if table not in self._made:
            self._made[table] = [
                s for s in read_says(self.reader, self.loads, [table]) if s.role in MAKERS
            ]
        return next((s.load for s in self._made[table] if s.first <= row <= s.last), 0)

    def _as_left(self, table: str, column: str, row: int, changes: Sequence[Change]) -> bool:
        """Whether a value is what the loads have made of it."""
        taken = [c for c in changes if not c.kept]
        left = taken[-1].said if taken else changes[0].before
        if (table, column) not in self._now:
            now: dict[int, str | None] = {}
            number, numbers = self.reader.row(table, "t"), sorted(self.changes[table, column])
            for start in range(0, len(numbers), _ASKED):
                now |= {
                    int(r[0]): r[1]
                    for r in self.reader.ask(
                        f"SELECT {number}, {self.reader.exact(f't.{quote(column)}')} FROM "
                        f"{quote(table)} AS t "
                        f"WHERE {number} IN "
                        f"({', '.join(map(str, numbers[start : start + _ASKED]))})"
                    )
                }
            self._now[table, column] = now
        return row in self._now[table, column] and self._now[table, column][row] == left

    def _parts_otherwise(self) -> dict[tuple[str, int], set[int]]:
        """By part table and row of the owner, the loads that say other parts of it than those that
        were kept."""
        out: dict[tuple[str, int], set[int]] = {}
        for part, spec in self.layout.tables.items():
            if not spec.part_of:
                continue
            for row, changes in self.changes.get((part, ""), {}).items():
                out.setdefault((part, row), set()).update(c.load for c in changes)
            loads: dict[int, set[int]] = {}
            for (table, column), some in self.changes.items():
                if table == part and column not in ("", REPLACED):
                    for row, changes in some.items():
                        loads.setdefault(row, set()).update(c.load for c in changes if c.kept)
            link = self.layout.owner_link(part)
            same = " AND ".join(
                f"o.{quote(k)} = p.{quote(own)}" for own, k in self.layout.link_columns(part, link)
            )
            numbers = sorted(loads)
            for start in range(0, len(numbers), _ASKED):
                own, theirs = self.reader.row(part, "p"), self.reader.row(spec.part_of, "o")
                for row, owner in self.reader.ask(
                    f"SELECT {own}, {theirs} FROM {quote(part)} AS p JOIN {quote(spec.part_of)} AS "
                    "o "
                    f"ON {same} WHERE {own} IN "
                    f"({', '.join(map(str, numbers[start : start + _ASKED]))})"
                ):
                    out.setdefault((part, int(owner)), set()).update(loads[int(row)])
        return out

    def _same_to_the_engine(
        self, expected: Expected, mismatches: Sequence[Mismatch], places: dict[int, dict[str, int]]
    ) -> set[Mismatch]:
        """Mismatches of which the engine itself says that they are none: 120.5 is 120.50 in a
        column of two places, and "elm" is "Elm" in one whose collation takes no notice of case.
        Asked only of tables that somebody else made."""
        out: set[Mismatch] = set()
        if not self.layout.existing:
            return out
        asked: dict[tuple[str, str], list[tuple[int, str, Mismatch]]] = {}
        for m in mismatches:
            code = int(expected.codes[m.header][m.row])
            for way in self.ways[self.headers[m.header]]:
                step = way[-1]
                if code >= 0 and len(step.columns) == 1 and m.found is not None:
                    said = str(expected.row(m.row)[m.header])
                    asked.setdefault((step.table, step.columns[0]), []).append(
                        (places[m.number].get(step.alias, -1), said, m)
                    )
        for (table, column), some in asked.items():
            row = self.reader.row(table, "t")
            wanted = sorted({(r, said) for r, said, _ in some})
            same: set[tuple[int, str]] = set()
            for start in range(0, len(wanted), _ASKED):
                part = wanted[start : start + _ASKED]
                asks = " UNION ALL ".join(
                    f"SELECT {n} AS n FROM {quote(table)} AS t WHERE {row} = {r} "
                    f"AND t.{quote(column)} = {literal(said)}"
                    for n, (r, said) in enumerate(part)
                )
                same |= {part[int(n)] for (n,) in self.reader.ask(asks)}
            out |= {m for r, said, m in some if (r, said) in same}
        return out


def _differs(expected: pa.Array, column: Any, at: np.ndarray) -> np.ndarray:
    """Which of some cells of a column are not what is expected (positions)."""
    if isinstance(column, list):
        found = [column[i] for i in at.tolist()]
        return np.array(
            [
                n
                for n, (a, b) in enumerate(zip(expected.to_pylist(), found, strict=True))
                if a != b or isinstance(a, str) != isinstance(b, str)
            ],
            np.int64,
        )
    found = column.take(pa.array(at))
    same = pc.or_(
        pc.fill_null(pc.equal(expected, found), False), pc.and_(expected.is_null(), found.is_null())
    )
    return np.flatnonzero(~same.to_numpy(zero_copy_only=False))


def _value(column: Any, at: int) -> Any:
    return column[at] if isinstance(column, list) else column[at].as_py()
