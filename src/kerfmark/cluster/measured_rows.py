"""What an executor does to tell what is in a source: reads one unit of rows as they stand and
writes the values of its columns, each once, with how many cells have it and where the first of them
are; and answers questions about such values."""

from __future__ import annotations

import base64
import functools
import json
import pickle
from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any, Generic, TypeVar

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import xxhash

from kerfmark.cluster.files import Unit
from kerfmark.cluster.frames import AT
from kerfmark.cluster.staging import (
    Job,
    errors_to_driver,
    file_of,
    places_of,
    row_offset,
    runs_of,
    unit_read,
    write_rows,
)
from kerfmark.profile.columns import EncodedColumn
from kerfmark.profile.convert import to_text, to_typed
from kerfmark.profile.encode import TOLD, EncodedSource
from kerfmark.profile.not_data import GroupHeads, cells_in_groups
from kerfmark.profile.types import ColumnType
from kerfmark.profile.values import FIRST, Mask, as_numbers
from kerfmark.read.source import RaggedRow, Remark

A = TypeVar("A")

FORMS = 2_000
"""Forms of a column's texts of which the extremes are kept."""
_MIXED = (0x9E3779B97F4A7C15, 0xC2B2AE3D27D4EB4F)
"""Odd numbers by which the digests of a row's cells are put together."""


@dataclass
class UnitMeasured:
    """What a unit gave: its rows, those that are skipped as blank, its bytes, the file of its
    values ("": none), its first rows, where its rows are (as `staging.Staged` has it), what reading
    it found, and how many rows are ragged, of which the first are told; and by which groups of rows
    are known (see `profile.not_data`): the first column, the cells of all, and its first blanks."""

    unit: int
    rows: int
    skipped: int
    bytes: int
    file: str
    first: list[list[str | None]]
    runs: list[tuple[int, str, str, int]]
    remarks: list[Remark]
    ragged: int
    ragged_rows: list[RaggedRow]
    heads: GroupHeads
    cells: list[tuple[int, int]]
    blank: list[int]

    @classmethod
    def of(cls, text: str) -> UnitMeasured:
        """From what `text` gives."""
        said = json.loads(text)
        said["remarks"] = [Remark(**r | {"rows": tuple(r["rows"])}) for r in said["remarks"]]
        said["ragged_rows"] = [RaggedRow(*r) for r in said["ragged_rows"]]
        said["heads"] = GroupHeads(**said["heads"])
        return cls(**said)

    def text(self) -> str:
        """As text."""
        remarks, heads = [vars(r) for r in self.remarks], vars(self.heads)
        return json.dumps(vars(self) | {"remarks": remarks, "heads": heads})


def measured_unit(job: Job, first_rows: int, unit: Unit) -> str:
    """Writes the values of a unit, each with its cells and the places of the first of them."""
    with unit_read(job, unit) as encoded:
        found, offset, headers = encoded.found, row_offset(unit), job.headers[unit.source]
        columns = [_column(encoded, h) for h in headers]
        blank = np.flatnonzero(columns[0].codes < 0)[:TOLD].tolist()
        several = next((r for r in found.ragged[FIRST:] if r.fields != 1), None)
        ragged = [*found.ragged[:FIRST], *([several] if several else [])]
        out = UnitMeasured(
            unit.number,
            encoded.rows,
            found.skipped,
            unit.end - unit.start if unit.is_block else found.size,
            "",
            _first_rows(columns, min(first_rows, encoded.rows)),
            runs_of(encoded, unit),
            [_moved(r, offset) for r in found.remarks if _holds_for_all(r, unit)],
            len(found.ragged),
            [r._replace(row=r.row + offset) for r in ragged],
            GroupHeads.of(columns[0].codes),
            cells_in_groups(columns),
            [(encoded.origin(r).row or 0) + offset for r in blank],
        )
        if encoded.rows:
            out.file = file_of(job, unit, "values")
            write_rows(out.file, _values(columns, places_of(encoded, unit).to_numpy()))
    return out.text()


def _holds_for_all(remark: Remark, unit: Unit) -> bool:
    """Whether what was noticed in a unit is so whatever the rest of its source is."""
    if remark.rule == "notes":  # at the end of a file
        return not unit.is_block or unit.end >= unit.size
    return remark.rule != "below"


def _moved(remark: Remark, offset: int) -> Remark:
    """A remark of a block, with the rows of the whole file."""
    return replace(remark, rows=tuple(r + offset for r in remark.rows))


def _column(encoded: EncodedSource, header: str) -> EncodedColumn:
    """The column of a header; of one that the unit lacks, a blank one."""
    if header in encoded.headers:
        return encoded.column(header)
    return EncodedColumn(header, pa.array([], pa.string()), np.full(encoded.rows, -1, np.int32))


def _first_rows(columns: Sequence[EncodedColumn], rows: int) -> list[list[str | None]]:
    """The first rows as texts."""
    return [
        [None if c.codes[r] < 0 else c.values[int(c.codes[r])].as_py() for c in columns]
        for r in range(rows)
    ]


def _values(columns: Sequence[EncodedColumn], at: np.ndarray) -> dict[str, pa.Array]:
    """The values of all columns, the number of the column (`header`) beside each; `at` has the
    places of rows."""
    number, texts, times, places = [], list[pa.Array](), list[np.ndarray](), list[np.ndarray]()
    sizes: list[np.ndarray] = []
    for i, column in enumerate(columns):
        rows = np.flatnonzero(column.codes >= 0)
        order = rows[np.argsort(column.codes[rows], kind="stable")]
        codes = column.codes[order]
        count = np.bincount(codes, minlength=len(column.values))
        nth = np.arange(len(order)) - np.repeat(np.cumsum(count) - count, count)
        number.append(np.full(len(column.values), i, np.int32))
        texts.append(column.values)
        times.append(count)
        places.append(at[order[nth < FIRST]])
        sizes.append(np.minimum(count, FIRST))
    offsets = np.append(0, np.cumsum(np.concatenate(sizes))).astype(np.int32)
    return {
        "header": pa.array(np.concatenate(number)),
        "value": pa.concat_arrays(texts),
        "times": pa.array(np.concatenate(times).astype(np.int64)),
        "places": pa.ListArray.from_arrays(pa.array(offsets), pa.array(np.concatenate(places))),
    }


def row_digests(job: Job, trim: bool, blanks: Collection[str], unit: Unit) -> str:
    """Writes a digest of each row of a unit (of 128 bits, in two numbers), by which rows that are
    the same in every column are found; gives the file ("": no rows)."""
    with unit_read(job, unit) as encoded:
        if not encoded.rows:
            return ""
        encoded = encoded.trimmed(trim).with_blanks(blanks)
        low, high = np.zeros(encoded.rows, np.uint64), np.zeros(encoded.rows, np.uint64)
        for header in job.headers[unit.source]:
            column = _column(encoded, header)
            digests = _digests(column.values)
            # a blank has the code -1, and the last digest
            low = low * np.uint64(_MIXED[0]) + digests[column.codes, 0]
            high = high * np.uint64(_MIXED[1]) + digests[column.codes, 1]
        file = file_of(job, unit, "digests")
        columns = {
            "low": pa.array(low.view(np.int64)),
            "high": pa.array(high.view(np.int64)),
            AT: places_of(encoded, unit),
        }
        write_rows(file, columns)
    return file


def _digests(values: pa.StringArray) -> np.ndarray:
    """Two numbers for each text, and for none."""
    texts = [t.encode() for t in values.to_pylist()]
    whole = b"".join(xxhash.xxh3_128_digest(t) for t in texts) + bytes(16)
    return np.frombuffer(whole, np.uint64).reshape(-1, 2)


@dataclass(frozen=True)
class Values:
    """Some values of a column, in any order: how many cells have each, and the places of their
    first cells."""

    texts: pa.StringArray
    times: np.ndarray
    places: pa.ListArray

    @property
    def first(self) -> np.ndarray:
        """The place of the first cell of each."""
        first: np.ndarray = pc.list_element(self.places, 0).to_numpy()
        return first


@dataclass(frozen=True)
class Question(Generic[A]):
    """What is asked of the values of a column: `of` answers for some of them, and `both` puts two
    answers together."""

    of: Callable[[Values], A]
    both: Callable[[A, A], A]

    def all(self, answers: Sequence[A]) -> A:
        """Several answers together."""
        return functools.reduce(self.both, answers)

    def task(self) -> Callable[[Iterator[pa.RecordBatch]], Iterator[pa.RecordBatch]]:
        """The task that answers for a part of all values (`value`, `times`, `places`)."""
        return functools.partial(_answered, self)


def _answered(
    question: Question[Any], batches: Iterator[pa.RecordBatch]
) -> Iterator[pa.RecordBatch]:
    answers = []
    for batch in batches:
        if batch.num_rows:
            texts, times, places = batch.columns
            values = Values(texts.cast(pa.string()), times.to_numpy(), places)
            with errors_to_driver():
                answers.append(question.of(values))
            answers = [question.all(answers)]
    said = [base64.b64encode(pickle.dumps(a)).decode() for a in answers]
    yield pa.RecordBatch.from_arrays([pa.array(said, pa.string())], names=["said"])


def answer_of(said: str) -> Any:
    """What a task has answered."""
    return pickle.loads(base64.b64decode(said))


First = tuple[int, list[tuple[int, str]], list[int]]
"""Cells; the first values with their places; the places of the first cells."""


def first_matching(mask: Mask, most: int, rows: int) -> Question[First]:
    """Which values are meant: how many cells have them, and the first of them and of these."""

    def of(values: Values) -> First:
        here = pc.fill_null(mask(values.texts), False)
        at = np.flatnonzero(here.to_numpy(zero_copy_only=False))
        if not len(at):
            return 0, [], []
        first = values.first[at]
        early = at[np.argsort(first, kind="stable")[: max(most, rows)]]
        texts = values.texts.take(pa.array(early)).to_pylist()
        places = sorted(values.places.take(pa.array(early)).flatten().to_pylist())
        told = [*zip(np.sort(first)[:most].tolist(), texts[:most], strict=True)]
        return int(values.times[at].sum()), told, places[:rows]

    def both(a: First, b: First) -> First:
        return a[0] + b[0], sorted([*a[1], *b[1]])[:most], sorted([*a[2], *b[2]])[:rows]

    return Question(of, both)


def is_not_spelled(
    types: Sequence[ColumnType], blanks: Sequence[str], texts: pa.StringArray
) -> pa.BooleanArray:
    """Which texts, as they stand or without spaces at their ends, are no values of one of some
    types that are spelled like this."""
    bare = pc.utf8_trim_whitespace(texts)
    free = pc.or_(pc.equal(bare, ""), pc.is_in(bare, value_set=pa.array(blanks, pa.string())))
    out = pc.is_null(texts)
    for type_ in types:
        fits = pc.or_(_is_spelled(texts, type_), _is_spelled(bare, type_))
        out = pc.or_(out, pc.invert(pc.or_(fits, free)))
    return out


def _is_spelled(texts: pa.StringArray, type_: ColumnType) -> pa.BooleanArray:
    typed = to_typed(texts, type_)
    return pc.fill_null(pc.equal(to_text(typed, type_), texts), False)


Ends = dict[tuple[str, str], tuple[str, str, int]]
"""By form and order: the key, the text and the place of its first cell."""


def extremes() -> Question[dict[str, tuple[int, Ends]]]:
    """The values by which types are told: of each form of text, with every digit as 0 and letters
    as one, how many values have it, and the first and the last by their letters and by each
    number in them; and the longest of all."""

    def of(values: Values) -> dict[str, tuple[int, Ends]]:
        forms = pc.replace_substring_regex(
            pc.replace_substring_regex(values.texts, "[0-9]", "0"), r"\p{L}+", "a"
        )
        lengths = pc.utf8_length(values.texts)
        longest = int(np.argmax(lengths.to_numpy()))
        keys = {
            "text": values.texts,
            "length": pc.utf8_lpad(pc.cast(lengths, pa.string()), 9, "0"),
            "second": _number(values.texts, 1),
            "third": _number(values.texts, 2),
            "last": pc.utf8_reverse(values.texts),
        }
        forms = pc.utf8_slice_codeunits(forms, 0, 40).dictionary_encode()
        codes = forms.indices.to_numpy()
        out: dict[str, tuple[int, Ends]] = {}
        count = np.bincount(codes, minlength=len(forms.dictionary))
        kept = np.argsort(-count, kind="stable")[:FORMS]
        names, first = forms.dictionary.to_pylist(), values.first
        for n in kept.tolist():
            out[names[n]] = (int(count[n]), {})
        for order, key in keys.items():
            rank = pc.array_sort_indices(key).to_numpy()
            of_form = codes[rank]
            by_form = np.argsort(of_form, kind="stable")
            bounds = np.append(0, np.cumsum(count))
            for n in kept.tolist():
                ends = rank[by_form[[bounds[n], bounds[n + 1] - 1]]]
                for end, at in zip(("low", "high"), ends.tolist(), strict=True):
                    said = key[at].as_py(), values.texts[at].as_py(), int(first[at])
                    out[names[n]][1][order, end] = said
        text = values.texts[longest].as_py()
        out[""] = (1 << 60, {("longest", "high"): (f"{len(text):09}", text, int(first[longest]))})
        return out

    return Question(of, _further)


def _number(texts: pa.StringArray, before: int) -> pa.StringArray:
    """A number in each text, after so many others."""
    found = pc.extract_regex(texts, "^[^0-9]*" + "[0-9]+[^0-9]+" * before + "(?P<number>[0-9]+)")
    return pc.utf8_lpad(pc.fill_null(found.field("number"), ""), 20, "0")


def _further(
    a: dict[str, tuple[int, Ends]], b: dict[str, tuple[int, Ends]]
) -> dict[str, tuple[int, Ends]]:
    """The extremes of two; of the forms that most values have."""
    out = dict(a)
    for form, (count, ends) in b.items():
        known, mine = out.get(form, (0, {}))
        merged = dict(mine)
        for key, end in ends.items():
            better = min if key[1] == "low" else max
            merged[key] = better(merged[key], end) if key in merged else end
        out[form] = (known + count, merged)
    most = sorted(out, key=lambda f: (-out[f][0], f))[:FORMS]
    return {form: out[form] for form in most}


def counts_in_steps(type_: ColumnType, steps: int, low: float, high: float) -> Question[np.ndarray]:
    """How many cells fall into each of equal steps of the values of a type."""

    def of(values: Values) -> np.ndarray:
        numbers, known = as_numbers(to_typed(values.texts, type_))
        return np.histogram(numbers, steps, (low, high), weights=values.times[known])[0]

    return Question(of, np.add)


def typed_ends(type_: ColumnType) -> Question[tuple[Any, Any, float, float] | None]:
    """The smallest and the largest value of a type, as such and as numbers."""

    def of(values: Values) -> tuple[Any, Any, float, float] | None:
        typed = to_typed(values.texts, type_)
        ends = pc.min_max(typed)
        if not ends["min"].is_valid:
            return None
        numbers, _ = as_numbers(typed)
        return ends["min"].as_py(), ends["max"].as_py(), float(numbers.min()), float(numbers.max())

    def both(a: Any, b: Any) -> Any:
        if a is None or b is None:
            return a or b
        return min(a[0], b[0]), max(a[1], b[1]), min(a[2], b[2]), max(a[3], b[3])

    return Question(of, both)
