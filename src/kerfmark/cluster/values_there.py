"""The values of a source's columns whose rows executors have read: few of them brought to the
driver, of many those by which types are told, and all else asked of the executors."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import Any, TypeVar

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.cluster.questions import (
    Asked,
    Question,
    alike,
    answers_of_part,
    answers_said,
    counts_in_steps,
    extremes,
    first_matching,
    frequent,
    is_not_spelled,
    lengths,
    longest,
    text_ends,
    typed_ends,
)
from kerfmark.cluster.value_files import PartWritten, bare_part, merged, values_in
from kerfmark.profile.columns import EncodedColumn, trimmed
from kerfmark.profile.describe import STEPS
from kerfmark.profile.recognise import BLANKS, Recognised, recognise, recognise_column
from kerfmark.profile.types import TEXT, ColumnType
from kerfmark.profile.values import (
    FIRST,
    Alike,
    Mask,
    Matching,
    Naming,
    Test,
    ValuesHere,
    in_one_case,
    spelled_ends,
)

A = TypeVar("A")

BROUGHT = 100_000
"""Values of a column up to which all of them are brought to the driver."""
BYTES = 16 << 20
"""Bytes of a column's values up to which they are."""
HEAD = 1_000
"""First values of a column that the driver has in any case."""
_WRONG = 20
"""Values that are no values of a type, which the driver asks for at a time."""
Tasks = Callable[[Sequence[str], Callable[[str], str]], list[str]]
"""What some work of the executors says for each of some files."""


class Parts:
    """All values of a source's columns, which are `written` in parts; `tasks` has executors work
    on these. What they write is in a folder."""

    def __init__(self, written: Sequence[PartWritten], folder: str, tasks: Tasks) -> None:
        self.written, self.folder, self.tasks = written, folder, tasks

    def bare(self) -> Parts:
        """The same without spaces at the ends of values."""
        said = self.tasks([p.file for p in self.written], partial(bare_part, self.folder))
        return Parts([PartWritten.of(text) for text in said], self.folder, self.tasks)

    def answers(self, asked: Asked) -> dict[int, list[Any]]:
        """By column what all its values answer."""
        if not asked:
            return {}
        said = self.tasks([p.file for p in self.written], partial(answers_of_part, asked))
        return answers_said(asked, said)

    def columns(
        self, headers: Sequence[str], rows: int, spelled: bool
    ) -> list[ValuesBrought | ValuesThere]:
        """The columns of the source, which has so many rows."""
        sums = [
            np.sum(c, axis=0).tolist() for c in zip(*(p.counts for p in self.written), strict=True)
        ]
        few = [i for i, (count, _, size) in enumerate(sums) if count <= BROUGHT and size <= BYTES]
        read = [[*values_in(p.file, few)] for p in self.written]
        out: dict[int, ValuesBrought | ValuesThere] = {}
        for i, some in zip(few, zip(*read, strict=True), strict=True):
            values = merged(some)
            column = _column(headers[i], values.texts, spelled)
            out[i] = ValuesBrought(column, rows, values.times, values.places)
        empty = pa.array([], pa.string())
        many = [
            ValuesThere(self, i, rows, count, filled, _column(headers[i], empty, spelled))
            for i, (count, filled, _) in enumerate(sums)
            if i not in out
        ]
        out |= {c.place: c for c in _with_telling(self, many)}
        return [out[i] for i in range(len(headers))]


class ValuesBrought(ValuesHere):
    """The values of a column of `cells` rows, which were all brought to the driver."""

    def __init__(
        self, column: EncodedColumn, cells: int, times: np.ndarray, places: pa.ListArray
    ) -> None:
        super().__init__(column)
        self._cells, self._times, self._places = cells, times, places

    @property
    def cells(self) -> int:
        """How many rows there are."""
        return self._cells

    @property
    def blanks(self) -> int:
        """How many of them are blank."""
        return self._cells - int(self._times.sum())

    @property
    def times(self) -> np.ndarray | None:
        """How many cells have each value; None where each has one."""
        return None if self.count == self._times.sum() else self._times

    @property
    def telling(self) -> EncodedColumn:
        """The values by which types are told."""
        return self.column

    def rows_of(self, these: np.ndarray, most: int) -> tuple[int, tuple[int, ...]]:
        """How many rows have one of some values, and the places of the first of them."""
        places = np.sort(self._places.filter(pa.array(these)).flatten().to_numpy())
        return int(self._times[these].sum()), tuple(places[:most].tolist())

    def without(self, spellings: Sequence[str]) -> ValuesBrought:
        """The same with some spellings taken as blank."""
        where = pc.is_in(self.values, value_set=pa.array(spellings, pa.string()))
        keep = pc.invert(where)
        column = self.column.without([*spellings])
        times = self._times[keep.to_numpy(zero_copy_only=False)]
        return ValuesBrought(column, self._cells, times, self._places.filter(keep))


class ValuesThere:
    """The values of a column of `cells` rows, of which `count` are in the parts of all values, as
    the column at a `place`, in `filled` cells, beside those that are `taken` as blank; `telling`
    are those by which types are told."""

    def __init__(
        self,
        parts: Parts,
        place: int,
        cells: int,
        count: int,
        filled: int,
        telling: EncodedColumn,
        taken: tuple[str, ...] = (),
    ) -> None:
        self.parts, self.place, self.cells, self.taken = parts, place, cells, taken
        self.count, self.filled, self.telling = count, filled, telling
        self.header, self.spelled = telling.header, telling.spelled
        self.blank_as = telling.blank_as
        self._known: dict[tuple[Any, ...], Any] = {}

    @property
    def blanks(self) -> int:
        """How many rows are blank."""
        return self.cells - self.filled

    def ask(self, question: Question[A]) -> A:
        """The answer of all values."""
        answer: A = self.parts.answers({self.place: ([question], self.taken)})[self.place][0]
        return answer

    def learn(
        self, questions: dict[tuple[Any, ...], Question[Any]], answers: Sequence[Any]
    ) -> None:
        """Takes the answers to some questions, by names that this gives them."""
        self._known.update(zip(questions, answers, strict=True))

    def usual(self) -> dict[tuple[Any, ...], Question[Any]]:
        """What is asked of every column, as far as it depends on nothing that is not known."""
        type_ = self.recognised().type
        out: dict[tuple[Any, ...], Question[Any]] = {
            ("longest",): longest(),
            ("frequent", STEPS): frequent(STEPS),
        }
        if type_.kind in ("text", "boolean"):
            out["ends",] = text_ends()
        elif (ends := self._known.get(("ends", type_))) is None:
            out["ends", type_] = typed_ends(type_)
        else:
            return {("steps", type_, STEPS): counts_in_steps(type_, STEPS, *ends[2:])}
        return out

    def recognised(self) -> Recognised:
        """The type of the column."""
        return recognise_column(self.telling)

    def head(self, most: int) -> pa.StringArray:
        """The first values."""
        return self.telling.values.slice(0, min(most, HEAD))

    def longest(self) -> int:
        """The characters of the longest value."""
        return self._asked(("longest",), longest())

    def usual_length(self) -> int:
        """The bytes that most values have."""
        found = self.ask(lengths())
        return int(min(found, key=lambda length: (-found[length], length)))

    def all(self, test: Test) -> bool:
        """Whether something holds for all values."""
        return test(self.telling.values) and self.ask(
            Question(lambda v: test(v.texts), lambda a, b: a and b)
        )

    def matching(self, mask: Mask, values: int = 1, rows: int = FIRST) -> Matching:
        """Which values are meant."""
        cells, first, places = self.ask(first_matching(mask, values, rows))
        return Matching(cells, tuple(text for _, text in first), tuple(places))

    def names(self, naming: Naming) -> set[str | None]:
        """All names that values have."""
        return self.ask(
            Question(lambda v: {*naming(v.texts).unique().to_pylist()}, lambda a, b: a | b)
        )

    def frequent(self, most: int) -> tuple[tuple[str, int], ...]:
        """The most frequent values."""
        found = self._asked(("frequent", most), frequent(most))
        return tuple((text, -times) for times, _, text in found)

    def ends(self, type_: ColumnType) -> tuple[str, str]:
        """The smallest and the largest value of a type."""
        if type_.kind in ("text", "boolean"):
            return self._asked(("ends",), text_ends())
        smallest, largest, _, _ = self._typed_ends(type_)
        return spelled_ends(smallest, largest, type_)

    def steps(self, type_: ColumnType, steps: int) -> tuple[int, ...]:
        """How many cells fall into each of equal steps."""
        _, _, low, high = self._typed_ends(type_)
        if low == high:
            return ()
        counts = self._asked(("steps", type_, steps), counts_in_steps(type_, steps, low, high))
        return tuple(int(n) for n in counts)

    def _typed_ends(self, type_: ColumnType) -> tuple[Any, Any, float, float]:
        found = self._asked(("ends", type_), typed_ends(type_))
        assert found is not None
        return found

    def _asked(self, name: tuple[Any, ...], question: Question[A]) -> A:
        """The answer to a question with a name, which is asked once."""
        if name not in self._known:
            self._known[name] = self.ask(question)
        answer: A = self._known[name]
        return answer

    def alike(self) -> Alike | None:
        """Values that differ only in case or spaces from a more frequent one."""
        if in_one_case(self):
            return None
        found = self.ask(alike())
        return found and found[1]

    def without(self, spellings: Sequence[str]) -> ValuesThere | ValuesBrought:
        """The same with some spellings taken as blank."""
        telling = self.telling.without([*spellings])
        if telling is self.telling:
            return self
        cells, gone, _ = self.ask(first_matching(partial(_is_one_of, spellings), len(spellings), 0))
        count, filled = self.count - len(gone), self.filled - cells
        if not count:
            none = merged([])
            return ValuesBrought(telling, self.cells, none.times, none.places)
        taken = (*self.taken, *spellings)
        return ValuesThere(self.parts, self.place, self.cells, count, filled, telling, taken)


def ask_the_usual(columns: Sequence[ValuesBrought | ValuesThere]) -> None:
    """Asks what is asked of every column of one source of all of them together."""
    there = [c for c in columns if isinstance(c, ValuesThere)]
    for _ in ("what each is", "what depends on its ends"):
        asked = {c.place: (c, c.usual()) for c in there}
        answers = (
            there[0].parts.answers(
                {i: ([*questions.values()], c.taken) for i, (c, questions) in asked.items()}
            )
            if there
            else {}
        )
        for i, (column, questions) in asked.items():
            column.learn(questions, answers[i])
        there = [c for c in there if c.recognised().type.kind not in ("text", "boolean")]


def _column(header: str, texts: pa.StringArray, spelled: bool) -> EncodedColumn:
    """A column that has each of some texts once."""
    return EncodedColumn(header, texts, np.arange(len(texts), dtype=np.int32), (), spelled)


def _with_telling(parts: Parts, columns: Sequence[ValuesThere]) -> list[ValuesThere]:
    """Columns with the values by which types are told: the first ones, those of all blank
    spellings, the extremes of each form of text, and those that are no values of what the others
    say."""
    blank = partial(_is_one_of, BLANKS)
    questions = (
        first_matching(pc.is_valid, HEAD, 0),
        first_matching(blank, len(BLANKS), 0),
        extremes(),
    )
    known: dict[int, dict[str, int]] = {}
    for i, (head, blanks, forms) in parts.answers(
        {c.place: (questions, ()) for c in columns}
    ).items():
        known[i] = {text: at for at, text in (*head[1], *blanks[1])}
        known[i] |= {t: at for _, ends in forms.values() for _, t, at in ends.values()}
    told: dict[int, EncodedColumn] = {}
    waiting = [*columns]
    while waiting:
        asked: dict[int, tuple[list[Question[Any]], tuple[str, ...]]] = {}
        for column in waiting:
            texts = pa.array(
                sorted(known[column.place], key=known[column.place].__getitem__), pa.string()
            )
            told[column.place] = _column(column.header, texts, column.spelled)
            if types := _types(told[column.place]):
                wrong = first_matching(partial(is_not_spelled, types, BLANKS), _WRONG, 0)
                asked[column.place] = [wrong], ()
        new = {
            i: {text: at for at, text in wrong if text not in known[i]}
            for i, [(_, wrong, _)] in parts.answers(asked).items()
        }
        for i, texts in new.items():
            known[i] |= texts
        waiting = [c for c in waiting if new.get(c.place)]
    return [ValuesThere(parts, c.place, c.cells, c.count, c.filled, told[c.place]) for c in columns]


def _is_one_of(values: Sequence[str], texts: pa.StringArray) -> pa.BooleanArray:
    return pc.is_in(texts, value_set=pa.array(values, pa.string()))


def _types(column: EncodedColumn) -> list[ColumnType]:
    """The types that a column has, with and without spaces at the ends of cells, and with and
    without the spellings of blanks."""
    found = {
        recognise(c.values, spelled=c.spelled).type
        for some in (column, trimmed(column))
        for c in (some, some.without([*BLANKS]))
    }
    return sorted(found - {TEXT}, key=str)
