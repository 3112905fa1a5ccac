"""What an executor does for a sample: reads one unit of rows as they stand and writes those from
which tables can be proposed.

A few rows taken at random show nothing that repeats. So rows go together: some that are beside each
other, and all of those with a value, for values of each column that are chosen by a hash, so that
every executor chooses the same ones. Beside them the rows with the extremes of each column, for
each form that its texts have, which decide about types.
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import xxhash

from kerfmark.cluster.files import Unit
from kerfmark.cluster.frames import AT
from kerfmark.cluster.staging import Job, file_of, places_of, runs_of, unit_read, write_rows
from kerfmark.profile.encode import EncodedSource

WANTED = "_wanted"
"""Column of the rows: whether a row is wanted whatever the others are (else as an extreme)."""
ENDS = 3
"""Rows at each end of a unit that are taken."""
FORMS = 40
"""Forms of a column's texts of which a unit gives the extremes."""
_HASHES = 1 << 32


@dataclass(frozen=True)
class SampleWish:
    """Which rows of a unit are wanted: all (`every` is 1), or one of `every` so many by the values
    of each column, at most `each` with the same one; and `beside` rows together. Of a column
    whose values are in many rows, more values are taken, and `thin` tells by column of how many
    of the rows of each (1: all)."""

    every: int
    each: int
    beside: int
    thin: tuple[float, ...] = ()


ALL_ROWS = SampleWish(1, 0, 0)


@dataclass
class UnitSampled:
    """What a unit gave: its rows as read, those that remain, the file of those that were taken, and
    that of the extremes ("": none), and runs of rows as `staging.Staged` has them."""

    unit: int
    read: int
    rows: int
    file: str
    extremes: str
    runs: list[tuple[int, str, str, int]]

    @classmethod
    def of(cls, text: str) -> UnitSampled:
        """From what `text` gives."""
        return cls(**json.loads(text))

    def text(self) -> str:
        """As text."""
        return json.dumps(vars(self))


def count(job: Job, unit: Unit) -> str:
    """How many rows a unit has, and how many different values each of its columns (JSON)."""
    with unit_read(job, unit) as encoded:
        return json.dumps([encoded.rows, [len(c.values) for c in encoded.columns]])


def sample(job: Job, unit: Unit, wish: SampleWish) -> UnitSampled:
    """Takes rows of a unit."""
    with unit_read(job, unit) as encoded:
        return sampled(job, unit, encoded, wish)


def sampled(job: Job, unit: Unit, encoded: EncodedSource, wish: SampleWish) -> UnitSampled:
    """Takes rows of a source that is read, and writes them: t0, t1 ... for its headers."""
    rows, extremes = encoded.rows, list[_Extreme]()
    wanted = np.ones(rows, bool)
    if wish.every > 1:
        wanted = _wanted(encoded, unit, wish)
        extremes = [e for i in range(len(encoded.columns)) for e in _extremes(encoded, i)]
    taken = wanted.copy()
    taken[[e.row for e in extremes]] = True
    at = np.flatnonzero(taken)
    out = UnitSampled(unit.number, encoded.read, rows, "", "", runs_of(encoded, unit))
    if not len(at):
        return out
    out.file = file_of(job, unit, "rows")
    write_rows(out.file, _texts(encoded, unit, at) | {WANTED: pa.array(wanted[at])})
    if extremes:
        out.extremes = file_of(job, unit, "extremes")
        write_rows(
            out.extremes,
            {
                "header": pa.array([e.header for e in extremes], pa.int32()),
                "form": pa.array([e.form for e in extremes]),
                "key": pa.array([e.key for e in extremes]),
                AT: places_of(encoded, unit).take(pa.array([e.row for e in extremes])),
            },
        )
    return out


def rows_at(job: Job, unit: Unit, records: Sequence[int]) -> str:
    """Writes some records (as read) of a unit; gives the file."""
    with unit_read(job, unit) as encoded:
        return _written(job, unit, encoded, np.isin(_records(encoded), list(records)))


def rows_like(
    job: Job, unit: Unit, alike: Sequence[tuple[Sequence[str], Sequence[Sequence[str]]]], each: int
) -> str:
    """Writes the rows of a unit that have some texts under some headers, at most `each` with the
    same ones; gives the file ("": none)."""
    with unit_read(job, unit) as encoded:
        keep = np.zeros(encoded.rows, bool)
        for headers, wanted in alike:
            columns = [encoded.column(h) for h in headers]
            for texts in wanted:
                here = np.ones(encoded.rows, bool)
                for column, text in zip(columns, texts, strict=True):
                    code = pc.index(column.values, pa.scalar(text)).as_py() if text else -1
                    here &= column.codes == code if code >= 0 or not text else False
                keep[np.flatnonzero(here)[:each]] = True
        return _written(job, unit, encoded, keep)


def _written(job: Job, unit: Unit, encoded: EncodedSource, keep: np.ndarray) -> str:
    at = np.flatnonzero(keep)
    if not len(at):
        return ""
    file = file_of(job, unit, "more")
    write_rows(file, _texts(encoded, unit, at) | {WANTED: pa.array(np.ones(len(at), bool))})
    return file


def _wanted(encoded: EncodedSource, unit: Unit, wish: SampleWish) -> np.ndarray:
    """Which rows are wanted whatever the others are."""
    rows = encoded.rows
    wanted = np.zeros(rows, bool)
    wanted[: max(ENDS, wish.beside)] = True
    wanted[-ENDS:] = True
    chance = np.random.default_rng(unit.number)
    for i, column in enumerate(encoded.columns):
        every = max(1.0, wish.every * wish.thin[i])
        # each column chooses values of its own: those of one would bring the same rows each time
        chosen = np.fromiter(
            (
                xxhash.xxh3_64_intdigest(t.encode(), seed=i) % _HASHES * every < _HASHES
                for t in column.values.to_pylist()
            ),
            bool,
            len(column.values),
        )
        here = np.flatnonzero((column.codes >= 0) & np.append(chosen, False)[column.codes])
        here = here[chance.random(len(here)) < wish.thin[i]]
        codes = column.codes[here]
        order = np.argsort(codes, kind="stable")
        nth = np.arange(len(here)) - np.searchsorted(codes[order], codes[order], "left")
        wanted[here[order[nth < wish.each]]] = True
    return wanted


@dataclass(frozen=True)
class _Extreme:
    """A row that has an extreme of a column (by its position): which form of text, under which
    order, and the key by which it is one."""

    header: int
    form: str
    key: str
    row: int


def _extremes(encoded: EncodedSource, i: int) -> Iterator[_Extreme]:
    """The rows with the first and the last text of each form of a column's texts, ordered by their
    length and as texts, and by the second number in them; and one that is blank."""
    column = encoded.columns[i]
    blank = np.flatnonzero(column.codes < 0)
    if len(blank):
        yield _Extreme(i, "", "", int(blank[0]))
    if not len(column.values):
        return
    first = np.full(len(column.values), -1, np.int64)
    filled = np.flatnonzero(column.codes >= 0)[::-1]
    first[column.codes[filled]] = filled
    forms = pc.utf8_slice_codeunits(
        pc.replace_substring_regex(
            pc.replace_substring_regex(column.values, "[0-9]+", "0"), r"\p{L}+", "a"
        ),
        0,
        20,
    ).dictionary_encode()
    lengths = pc.utf8_lpad(pc.cast(pc.utf8_length(column.values), pa.string()), 9, "0")
    second = pc.extract_regex(column.values, r"^[^0-9]*[0-9]+[^0-9]+(?P<second>[0-9]+)")
    keys = {
        "length": pc.binary_join_element_wise(lengths, column.values, ""),
        "second": pc.utf8_lpad(pc.fill_null(second.field("second"), ""), 20, "0"),
    }
    known = forms.dictionary.to_pylist()[:FORMS]
    codes = forms.indices.to_numpy()
    for order, texts in keys.items():
        rank = pc.array_sort_indices(texts).to_numpy()
        place = np.empty(len(rank), np.int64)
        place[rank] = np.arange(len(rank))
        for n, form in enumerate(known):
            here = np.flatnonzero(codes == n)
            for code in {int(here[place[here].argmin()]), int(here[place[here].argmax()])}:
                yield _Extreme(i, f"{order} {form}", texts[code].as_py(), int(first[code]))


def _records(encoded: EncodedSource) -> np.ndarray:
    return np.arange(encoded.rows) if encoded.records is None else encoded.records


def _texts(encoded: EncodedSource, unit: Unit, rows: np.ndarray) -> dict[str, pa.Array]:
    """Some rows as texts."""
    out = {AT: places_of(encoded, unit).take(pa.array(rows))}
    for i, column in enumerate(encoded.columns):
        codes = column.codes[rows]
        out[f"t{i}"] = column.values.take(pa.array(codes, mask=codes < 0))
    return out


def texts_under(
    rows: pa.Table, headers: Mapping[str, int], wanted: Sequence[str]
) -> list[list[str]]:
    """What rows have under some headers, each once; "" for a blank."""
    columns = [pc.fill_null(rows[f"t{headers[h]}"], "").to_pylist() for h in wanted]
    return [list(t) for t in dict.fromkeys(zip(*columns, strict=True))]
