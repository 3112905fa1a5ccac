"""Who says what, as the ledger keeps it: records as ranges of row numbers, rows of files as runs,
values with what they replaced; and the account of every file that follows from it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from kerfmark.ledger.records import DIFFERENT, SAME, KnownRows, Ledger, LoadedFile, Says, columns_of
from kerfmark.normalize.policy import MADE
from kerfmark.profile.codes import distinct
from kerfmark.store.interface import Reader
from kerfmark.store.quoting import literal


def runs(numbers: np.ndarray) -> Iterator[tuple[int, int]]:
    """Ascending numbers as ranges (first, last)."""
    if not len(numbers):
        return
    breaks = np.flatnonzero(np.diff(numbers) != 1)
    firsts, lasts = numbers[np.append(0, breaks + 1)], numbers[np.append(breaks, len(numbers) - 1)]
    yield from zip(firsts.tolist(), lasts.tolist(), strict=True)


def expanded(ranges: Sequence[tuple[int, int]]) -> np.ndarray:
    """The numbers (int64, ascending, each once) in some ranges."""
    if not ranges:
        return np.empty(0, np.int64)
    ordered = np.array(sorted(ranges), np.int64)
    lengths = ordered[:, 1] - ordered[:, 0] + 1
    out = np.repeat(ordered[:, 0] - np.append(0, np.cumsum(lengths)[:-1]), lengths) + np.arange(
        int(lengths.sum())
    )
    return distinct(out) if len(ordered) > 1 and (ordered[1:, 0] <= ordered[:-1, 1]).any() else out


def read_says(reader: Reader, loads: Sequence[int], tables: Sequence[str] = ()) -> list[Says]:
    """What some loads say, of some tables (none: of all), the first load first."""
    if not loads:
        return []
    where = f"load_id IN ({', '.join(map(str, loads))})"
    where += f" AND table_name IN ({', '.join(map(literal, tables))})" if tables else ""
    return [
        Says(int(r[0]), r[1], int(r[2]), int(r[3]), r[4], columns_of(r[5]))
        for r in reader.ask(
            "SELECT load_id, table_name, first_row, last_row, role, columns FROM kerfmark_says "
            f"WHERE {where} "
            f"ORDER BY load_id, {reader.sequence}"
        )
    ]


def read_known(reader: Reader, loads: Sequence[int], source: str = "") -> list[KnownRows]:
    """The rows of some loads' files whose records were there already, in the order of the files."""
    if not loads:
        return []
    where = f"load_id IN ({', '.join(map(str, loads))})" + (
        f" AND source = {literal(source)}" if source else ""
    )
    return [
        KnownRows(int(r[0]), r[1], int(r[2]), int(r[3]), int(r[4]), r[5])
        for r in reader.ask(
            'SELECT load_id, source, first_record, "rows", first_row, outcome FROM kerfmark_known '
            f"WHERE {where} ORDER BY load_id, source, first_record"
        )
    ]


def known_runs(
    load: int, source: str, records: np.ndarray, rows: np.ndarray, outcomes: np.ndarray
) -> Iterator[KnownRows]:
    """Known rows as runs: ascending records as read, the number of the row that each says, and what
    became of it."""
    if not len(records):
        return
    new = (np.diff(records) != 1) | (np.diff(rows) != 1) | (outcomes[1:] != outcomes[:-1])
    starts = np.append(0, np.flatnonzero(new) + 1)
    for start, end in zip(
        starts.tolist(), np.append(starts[1:], len(records)).tolist(), strict=True
    ):
        yield KnownRows(
            load, source, int(records[start]), end - start, int(rows[start]), str(outcomes[start])
        )


@dataclass(frozen=True)
class SpelledRuns:
    """Known rows one by one: the record as read of each, the number of the row that it says, and
    what became of it."""

    records: np.ndarray
    rows: np.ndarray
    outcomes: np.ndarray

    @classmethod
    def of(cls, known: Sequence[KnownRows]) -> SpelledRuns:
        """From runs of one load and source."""
        lengths = np.array([k.rows for k in known], np.int64)
        within = (
            np.arange(int(lengths.sum()))
            - np.repeat(np.append(0, np.cumsum(lengths)[:-1]), lengths)
            if known
            else np.empty(0, np.int64)
        )
        first, row = (
            np.repeat(np.array([getattr(k, n) for k in known], np.int64), lengths)
            for n in ("first_record", "first_row")
        )
        return cls(
            first + within,
            row + within,
            np.repeat(np.array([k.outcome for k in known], object), lengths),
        )


@dataclass(frozen=True)
class Change:
    """A value of a known record for which a load has another one: `before` is what was
    there, `said` what the load says; `kept`: what was there has stayed. Values as `Reader.exact`
    gives them."""

    load: int
    row: int
    before: str | None
    said: str | None
    kept: bool


REPLACED = "*"
"""The column under which it is written that a load has replaced the parts of a record (in the table
of the parts; the row is that of the record)."""


def read_changes(reader: Reader, loads: Sequence[int]) -> dict[tuple[str, str], list[Change]]:
    """By table and column, what some loads said otherwise, the first load first. A column "" is
    for the parts of a record as a whole, which were not taken over; REPLACED for such that were."""
    out: dict[tuple[str, str], list[Change]] = {}
    if loads:
        before, said = reader.exact('"before"'), reader.exact("said")
        for r in reader.ask(
            f'SELECT table_name, column_name, load_id, "row", {before}, {said}, kept FROM '
            "kerfmark_changes "
            f"WHERE load_id IN ({', '.join(map(str, loads))}) ORDER BY load_id, {reader.sequence}"
        ):
            out.setdefault((r[0], r[1]), []).append(
                Change(int(r[2]), int(r[3]), r[4], r[5], bool(r[6]))
            )
    return out


@dataclass(frozen=True)
class FileAccount:
    """What became of the rows of a file of a load: those `read` are those with a record of their
    `own`, those that were set aside, those left out by the layout, and those whose records were
    there already and say the `same` or something `different` that was not taken over."""

    load: int
    source: str
    file: str
    read: int
    own: int
    set_aside: int
    left_out: int
    same: int
    different: int

    @property
    def balances(self) -> bool:
        """Whether every row that was read became something."""
        return self.read == self.own + self.set_aside + self.left_out + self.same + self.different


def accounts(
    ledger: Ledger, reader: Reader, base_of: Mapping[str, str], loads: Sequence[int] = ()
) -> list[FileAccount]:
    """The account of every file of the loads in force (or of some `loads`); `base_of` tells the
    table with a record per row of each source. How many rows have records of their own is asked of
    the records, so that the sum says something."""
    live = list(loads) or [load.number for load in ledger.live]
    made = {(load, table): 0 for load in live for table in base_of.values()}
    for says in read_says(reader, live, sorted(set(base_of.values()))):
        if says.role == MADE:
            made[says.load, says.table] += says.count
    out: list[FileAccount] = []
    for load in live:
        for source in dict.fromkeys(f.source for f in ledger.files if f.load == load):
            files = [f for f in ledger.files if f.load == load and f.source == source]
            some = _of_files(ledger, files, read_known(reader, [load], source))
            here = made[load, base_of[source]]
            extra = here - sum(
                a.own for a in some
            )  # where there is one, some file's account does not balance
            out += [
                a if not extra or n else FileAccount(**{**vars(a), "own": a.own + extra})
                for n, a in enumerate(some)
            ]
    return out


def _of_files(
    ledger: Ledger, files: Sequence[LoadedFile], known: Sequence[KnownRows]
) -> list[FileAccount]:
    """The accounts of the files of one load that feed one source, in their order."""
    starts = np.append(0, np.cumsum([f.rows for f in files]))
    spelled = SpelledRuns.of(known)
    where = np.searchsorted(starts, spelled.records, "right") - 1
    aside = [r for r in ledger.set_aside if r.load == files[0].load and r.source == files[0].source]
    placed = (
        np.searchsorted(
            starts, np.array([r.record for r in aside if r.record >= 0], np.int64), "right"
        )
        - 1
    )
    out = []
    for n, f in enumerate(files):
        mine = spelled.outcomes[where == n]
        same, different = (int(np.count_nonzero(mine == outcome)) for outcome in (SAME, DIFFERENT))
        uncut = (
            sum(r.record < 0 and r.file == _shown(f) for r in aside)
            if len(files) > 1
            else sum(r.record < 0 for r in aside)
        )
        apart = int(np.count_nonzero(placed == n)) + uncut
        read = f.rows + uncut
        out.append(
            FileAccount(
                f.load,
                f.source,
                f.file,
                read,
                read - apart - f.left_out - same - different,
                apart,
                f.left_out,
                same,
                different,
            )
        )
    return out


def _shown(file: LoadedFile) -> str:
    """What messages call a file."""
    return file.file.rsplit("/", 1)[-1] if "://" not in file.file else file.file
