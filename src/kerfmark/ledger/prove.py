"""Proves that nothing was lost: the source is read again, the tables are rejoined, and every row is
compared.

Where every row has made a record of its own, first row by row in the order of the generated keys,
which settles it when nothing was touched; where that fails, rows are compared as a multiset, so
that another order alone is not a difference. Where loads have met records that were there already,
row by row by the numbers that the ledger keeps (see `compare_by_row`). What is left is shown cell
by cell.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from kerfmark.errors import Origin
from kerfmark.layout.model import Layout
from kerfmark.ledger.account import SpelledRuns, expanded, read_changes, read_known, read_says
from kerfmark.ledger.compare_by_row import Changes, Compared, Comparison, Mismatch, Rows
from kerfmark.ledger.compare_ordered import Part, same_in_order
from kerfmark.ledger.compare_unordered import same_in_any_order
from kerfmark.ledger.expected import Expected
from kerfmark.ledger.records import OWN, Ledger, RowSetAside
from kerfmark.normalize.policy import MADE
from kerfmark.profile.encode import EncodedSource
from kerfmark.progress import Progress
from kerfmark.store.interface import Reader
from kerfmark.store.names import view_name
from kerfmark.store.prefetch import prefetch
from kerfmark.store.quoting import quote

HALVED = 100_000
"""Rows of a half from which two threads read the database."""
SHOWN = 20
"""Differences listed before the rest is only counted."""


@dataclass(frozen=True)
class Difference:
    """A cell, or a whole row (`column` empty), that is not the same in the source and in the
    database."""

    row: int | None
    column: str
    in_source: str
    in_database: str


@dataclass(frozen=True)
class SaidOtherwise:
    """A cell of a file that says something else than the database, for a reason that the ledger
    knows: where it is, the load that it came with, both values, and the load that made the
    value what it is (0: it was there before all loads, or several made it). `kept`: that value was
    there before, and stayed; else that load has changed it since. `known`: the record of its row
    was there already."""

    origin: Origin
    load: int
    in_file: str
    in_database: str
    by: int
    kept: bool
    known: bool

    @property
    def reason(self) -> str:
        """Why the cell is not what its file says."""
        if self.kept:
            return f"kept; load {self.by} has it" if self.by else "kept"
        return f"changed by load {self.by}"


@dataclass(frozen=True)
class SourceProof:
    """What comparing one source with its view gave. `changed`: the file is not the one that was
    loaded; `named` counts the records at the end of its table that no row of it is about: other
    rows only name them. Rows `set_aside` by the load or `left_out` by the layout are not compared,
    and `changed_cells` are compared with what the layout makes of them. Of the `rows` that were
    compared, `own` have records of their own; of the others, whose records were there already,
    `same` say the same, and `different` something else: `otherwise` lists their cells, and those of
    other rows that loads have changed since."""

    source: str
    file: str
    rows: int
    rows_in_database: int
    cells: int
    changed: bool
    total: int
    differences: tuple[Difference, ...]
    named: int = 0
    set_aside: int = 0
    left_out: int = 0
    changed_cells: int = 0
    own: int = 0
    same: int = 0
    different: int = 0
    otherwise: tuple[SaidOtherwise, ...] = ()

    @property
    def holds(self) -> bool:
        """Whether every row is the same, or differs for a reason that the ledger knows."""
        return self.total == 0


@dataclass(frozen=True)
class _History:
    """What the ledger says of one source: the loads that feed it, in their order, with the record
    (as read) at which each begins; the loads that a cut has made, and all in force; the records
    that were set aside; and, by load, the rows whose records were there already, and what stands
    otherwise in tables that the source shows."""

    starts: list[tuple[int, int]]
    cuts: list[int]
    standing: list[int]
    aside: np.ndarray
    known: dict[int, SpelledRuns]
    changes: Changes

    @classmethod
    def of(
        cls, reader: Reader, ledger: Ledger, layout: Layout, name: str, encoded: EncodedSource
    ) -> _History:
        """As the ledger has it."""
        files = [f for f in ledger.live_files if f.source == name]
        begins: dict[int, int] = {}
        at = 0
        for f, (_, _, count) in zip(files, encoded.parts(), strict=True):
            begins.setdefault(f.load, at)
            at += count
        standing = [load.number for load in ledger.live]
        aside = [
            begins[r.load] + r.record
            for r in ledger.set_aside
            if r.source == name and r.load in begins and r.record >= 0
        ]
        return cls(
            [(start, load) for load, start in begins.items()],
            [n.number for n in ledger.loads if n.verb == "cut"],
            standing,
            np.array(aside, np.int64),
            {load: SpelledRuns.of(read_known(reader, [load], name)) for load in begins},
            _concerning(read_changes(reader, standing), layout, name),
        )

    def met(self, layout: Layout) -> bool:
        """Whether any load has met records that were there already, or may have chosen among values
        that were."""
        named = any(
            link.by and link.repeats for t in layout.tables.values() for link in t.links.values()
        )
        chosen = any(
            c.conflicts != "refuse" for t in layout.tables.values() for c in t.columns.values()
        )
        return bool(
            self.changes
            or layout.existing
            or (chosen and len(self.starts) > 1)
            or (named and len(self.standing) > 1)
            or any((k.outcomes != OWN).any() for k in self.known.values())
        )


def prove_source(
    reader: Reader,
    ledger: Ledger,
    layout: Layout,
    name: str,
    encoded: EncodedSource,
    file: str,
    changed: bool,
    progress: Progress,
) -> SourceProof:
    """Compares one source, read anew, with what the database holds of it."""
    found = _proof_of_records(reader, ledger, layout, name, encoded, changed, progress)
    live = {load.number for load in ledger.live}
    aside = (r for r in ledger.set_aside if r.load in live)
    told = [r for r in aside if r.source == name and r.record < 0]
    width = len(encoded.source.headers)
    ragged = [(r.file, r.row, r.told(width)) for r in encoded.found.ragged]
    return with_ragged(replace(found, file=file), ragged, len(ragged), told)


def with_ragged(
    proof: SourceProof,
    ragged: Sequence[tuple[str, int, str]],
    total: int,
    told: Sequence[RowSetAside],
) -> SourceProof:
    """A proof of a source that has `total` rows with too few or too many fields (`ragged`: file,
    row and what is wrong with each of the first ones), of which the ledger has `told`: others are
    in no table, and nobody was told of them."""
    more = total - len(told)
    apart = replace(proof, set_aside=proof.set_aside + min(total, len(told)))
    if more <= 0:
        return apart
    known = {(r.file, r.row) for r in told}
    new = [(row, what) for file, row, what in ragged if (file, row) not in known]
    differences = [
        Difference(row, "", f"a row that {what}", "no such row")
        for row, what in new[: min(more, SHOWN)]
    ]
    return replace(
        apart, total=apart.total + more, differences=(*differences, *apart.differences)[:SHOWN]
    )


def _proof_of_records(
    reader: Reader,
    ledger: Ledger,
    layout: Layout,
    name: str,
    encoded: EncodedSource,
    changed: bool,
    progress: Progress,
) -> SourceProof:
    """The same of the rows that could be cut into columns."""
    history = _History.of(reader, ledger, layout, name, encoded)
    more = (
        layout.is_looked_up(layout.base_of(name)) or layout.existing
    )  # then there may be rows that only others say
    apart = len(history.aside)
    if history.met(layout):
        found = _ByNumber(reader, layout, name, encoded, history, progress).proof(more)
        return replace(found, changed=changed, set_aside=apart)
    expected = Expected(
        layout, name, encoded, reader, history.aside, history.starts, history.cuts, history.standing
    )
    compare = _same_in_order if reader.ordered_views else _same_in_any_order
    same, count = (
        (False, 0) if expected.misfits else compare(reader, name, expected, progress, more)
    )
    named = max(0, _count(reader, name) - expected.rows) if more else 0
    differences, total = ((), 0) if same else _differences(reader, name, expected, named)
    return SourceProof(
        name,
        "",
        expected.rows,
        count if same else _count(reader, name) - named,
        expected.rows * len(expected.headers),
        changed,
        total,
        differences,
        named,
        apart,
        expected.ready.left_out,
        expected.changed,
        expected.rows,
    )


def _concerning(changes: Changes, layout: Layout, source: str) -> Changes:
    """The changes of tables that a source can show something of."""
    shown = {n for n, t in layout.tables.items() if t.source == source}
    while more := {link.to for n in shown for link in layout.tables[n].links.values()} - shown:
        shown |= more
    return {k: c for k, c in changes.items() if k[0] in shown}


class _ByNumber:
    """The proof of a source whose loads have met records that were there already."""

    def __init__(
        self,
        reader: Reader,
        layout: Layout,
        name: str,
        encoded: EncodedSource,
        history: _History,
        progress: Progress,
    ) -> None:
        self.reader, self.layout, self.name, self.history = reader, layout, name, history
        begins = {load: start for start, load in history.starts}
        met = {load: k.outcomes != OWN for load, k in history.known.items()}
        none = np.empty(0, np.int64)
        records = np.concatenate(
            [none, *(k.records[met[load]] + begins[load] for load, k in history.known.items())]
        )
        rows = np.concatenate([none, *(k.rows[met[load]] for load, k in history.known.items())])
        everything = np.arange(encoded.rows) if encoded.records is None else encoded.records
        order = history.starts, history.cuts, history.standing
        self.own = Expected(
            layout, name, encoded, reader, np.union1d(history.aside, records), *order
        )
        self.met = Expected(
            layout, name, encoded, reader, np.setdiff1d(everything, records), *order
        )
        self.own_numbers = self._numbered(
            {
                load: SpelledRuns(k.records[~met[load]], k.rows[~met[load]], k.outcomes[~met[load]])
                for load, k in history.known.items()
            }
        )
        at = dict(zip(records.tolist(), rows.tolist(), strict=True))
        self.met_numbers = np.array([at.get(r, -1) for r in self.met.records.tolist()], np.int64)
        self.comparison = Comparison(
            reader,
            layout,
            name,
            self.own,
            history.changes,
            history.standing,
            lambda rows: progress(f"comparing {name}", rows, self.own.rows),
        )

    def _numbered(self, told: dict[int, SpelledRuns]) -> np.ndarray:
        """The number of the record of each row that has one of its own: as the ledger says, else in
        the order of the rows."""
        out = np.full(self.own.rows, -1, np.int64)
        base = self.layout.base_of(self.name)
        for start, load in self.history.starts:
            made = expanded(
                [
                    (s.first, s.last)
                    for s in read_says(self.reader, [load], [base])
                    if s.role == MADE
                ]
            )
            by_record = dict(
                zip((told[load].records + start).tolist(), told[load].rows.tolist(), strict=True)
            )
            here = np.flatnonzero(self.own.load == load)
            out[here] = (
                [by_record.get(r, -1) for r in self.own.records[here].tolist()] if by_record else -1
            )
            rest, free = here[out[here] < 0], np.setdiff1d(made, told[load].rows)
            size = min(len(rest), len(free))
            out[rest[:size]] = free[:size]
        return out

    def proof(self, others: bool) -> SourceProof:
        """The whole proof, but for what it says of the file; whether the view may show rows that
        `others` made."""
        own = self.comparison.compare(Rows(self.own, self.own_numbers), alone=not others)
        met = (
            self.comparison.compare(Rows(self.met, self.met_numbers), alone=False)
            if self.met.rows
            else Compared()
        )
        met_cells = {e.mismatch.row for e in met.explained}
        differences, total = self._differences(own)
        more, more_total = self._differences_of_known(met)
        differences = (*differences, *more)[:SHOWN]
        total += more_total
        rows = self.own.rows + self.met.rows
        wrong = {m.row for m in met.unexplained} | set(met.missing)
        return SourceProof(
            self.name,
            "",
            rows,
            rows - len(own.missing) - len(met.missing) + len(own.strange),
            rows * len(self.own.headers),
            False,
            total,
            differences,
            0,
            0,
            self.own.ready.left_out,
            self.own.changed + self.met.changed,
            self.own.rows,
            self.met.rows - len(met_cells | wrong),
            len(met_cells - wrong),
            tuple(
                sorted(
                    [*self._told(self.own, own, False), *self._told(self.met, met, True)],
                    key=lambda s: (s.load, s.origin.file, s.origin.sheet or "", s.origin.row or 0),
                )
            ),
        )

    def _told(self, expected: Expected, compared: Compared, known: bool) -> list[SaidOtherwise]:
        out = []
        for e in compared.explained:
            m, header = e.mismatch, expected.headers[e.mismatch.header]
            in_file = _shown_value(_comparable(expected.row(m.row)[m.header]))
            out.append(
                SaidOtherwise(
                    expected.at(m.row, header),
                    int(expected.load[m.row]),
                    in_file,
                    _shown_value(_comparable(m.found)),
                    e.load,
                    e.kept,
                    known,
                )
            )
        return out

    def _differences(self, own: Compared) -> tuple[tuple[Difference, ...], int]:
        """What differs of rows with records of their own. Rows that are not at their place may be
        at another one."""
        wrong = sorted({m.row for m in own.unexplained} | set(own.missing))
        if not wrong and not own.strange:
            return (), 0
        taken = {m.number for m in own.unexplained}
        spare = Counter(
            tuple(_comparable(v) for v in row) for n, row in own.strange if n not in taken
        )
        missing, cells = set(own.missing), dict[int, list[Mismatch]]()
        for m in own.unexplained:
            cells.setdefault(m.row, []).append(m)
        out: list[Difference] = []
        lost = 0
        for n in wrong:
            row = comparable_row(self.own.row(n))
            if n in missing and spare[row] > 0:
                spare[row] -= 1
                continue
            lost += max(1, len(cells.get(n, ())))
            if len(out) < SHOWN:
                place = self.own.place(n)
                out += [
                    Difference(
                        place,
                        self.own.headers[m.header],
                        _shown_value(row[m.header]),
                        _shown_value(_comparable(m.found)),
                    )
                    for m in cells.get(n, ())
                ] or [Difference(place, "", "the row", "no such row")]
        strange = list(spare.elements())
        out += [
            Difference(None, "", "no such row", "; ".join(_shown_value(v) for v in row))
            for row in strange
        ]
        return tuple(out[:SHOWN]), lost + len(strange)

    def _differences_of_known(self, met: Compared) -> tuple[tuple[Difference, ...], int]:
        """What differs of rows whose records were there already."""
        out = [
            Difference(
                self.met.place(m.row),
                self.met.headers[m.header],
                _shown_value(_comparable(self.met.row(m.row)[m.header])),
                _shown_value(_comparable(m.found)),
            )
            for m in met.unexplained
        ]
        out += [Difference(self.met.place(n), "", "the row", "no such row") for n in met.missing]
        return tuple(out[:SHOWN]), len(out)


def _count(reader: Reader, source: str) -> int:
    return int(reader.ask(f"SELECT count(*) FROM {quote(view_name(source))}")[0][0])


def _same_in_order(
    reader: Reader, source: str, expected: Expected, progress: Progress, more: bool
) -> tuple[bool, int]:
    """Whether the view's rows are the source's, one after the other (`more` rows may follow), and
    how many these are."""
    view, cells, types = expected.asked(source)
    half = expected.rows // 2
    partition = expected.partition(reader, source, half) if half >= HALVED else None
    if partition:
        parts = [
            Part(reader.batches(partition[0], cells, types), 0, half),
            Part(reader.batches(partition[1], cells, types), half, expected.rows, more),
        ]
    else:
        parts = [Part(reader.batches(view, cells, types), 0, expected.rows, more)]
    try:
        same = same_in_order(
            parts, expected.cells, lambda rows: progress(f"comparing {source}", rows, expected.rows)
        )
    except OSError:  # a cell of another type than its column
        same = False
    return same, expected.rows if same else 0


def _same_in_any_order(
    reader: Reader, source: str, expected: Expected, progress: Progress, more: bool
) -> tuple[bool, int]:
    """Whether the view's rows are the source's, in whatever order it gives them (`more` rows may be
    there), and how many these are."""

    def told(rows: int) -> None:
        progress(f"comparing {source}", rows, expected.rows)

    return same_in_any_order(
        prefetch(reader.batches(*expected.asked(source))),
        expected.values,
        expected.codes,
        expected.rows,
        told,
        more,
    ), expected.rows


def _differences(
    reader: Reader, source: str, expected: Expected, named: int
) -> tuple[tuple[Difference, ...], int]:
    """What differs when rows are compared as a multiset; `named` rows may be there beside. Slow,
    and only walked when something does."""
    found = Counter(comparable_row(row) for row in reader.rows(*expected.asked(source)))
    lost: list[int] = []
    for n in range(expected.rows):
        row = comparable_row(expected.row(n))
        if found[row] > 0:
            found[row] -= 1
        else:
            lost.append(n)
    return told_differences(
        [(expected.place(n), comparable_row(expected.row(n))) for n in lost[:SHOWN]],
        len(lost),
        list(found.elements()),
        named,
        expected.headers,
    )


def told_differences(
    lost: Sequence[tuple[int | None, Sequence[Any]]],
    total: int,
    strange: Sequence[Sequence[Any]],
    named: int,
    headers: Sequence[str],
) -> tuple[tuple[Difference, ...], int]:
    """Rows of a source that are `lost` (of `total`, each with its row in the file), and rows of the
    database that are `strange`, told cell by cell where one is much like another; `named` strange
    rows may be there. All of them as `comparable_row` gives them. Also how many differences there
    are."""
    left, out = [tuple(row) for row in strange], list[Difference]()
    for place, values in lost:
        row = tuple(values)
        twin = max(
            left,
            key=lambda other: sum(a == b for a, b in zip(row, other, strict=True)),
            default=None,
        )
        if twin is None or sum(a == b for a, b in zip(row, twin, strict=True)) * 2 < len(row):
            out.append(Difference(place, "", "the row", "no such row"))
        else:
            left.remove(twin)
            out += [
                Difference(place, h, _shown_value(a), _shown_value(b))
                for h, a, b in zip(headers, row, twin, strict=True)
                if a != b
            ]
        if len(out) >= SHOWN:
            break
    left = left[: max(0, len(left) - named)]
    total = max(len(out), total, len(left))
    if len(out) < SHOWN:
        out += [
            Difference(None, "", "no such row", "; ".join(_shown_value(v) for v in row))
            for row in left[: SHOWN - len(out)]
        ]
        total = max(total, len(out))
    return tuple(out[:SHOWN]), total


def comparable_row(row: Sequence[Any]) -> tuple[Any, ...]:
    """A row as it is compared."""
    return tuple(_comparable(v) for v in row)


def _comparable(value: Any) -> Any:
    """A value as it is compared: a number is not the text that spells it, but 5 is 5.0, as some
    engines keep whole decimals."""
    return value if value is None or isinstance(value, str) else ("number", value)


def _shown_value(value: Any) -> str:
    """A value as a person writes it."""
    if value is None:
        return "blank"
    return str(value[1]) if isinstance(value, tuple) else f'"{value}"'
