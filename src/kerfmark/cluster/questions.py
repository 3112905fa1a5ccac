"""What is asked of all values of a column of which each part is somewhere else: answers for some
values, and how two of them are put together."""

from __future__ import annotations

import base64
import functools
import pickle
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.cluster.value_files import Values, values_in
from kerfmark.profile.convert import to_text, to_typed
from kerfmark.profile.types import ColumnType
from kerfmark.profile.values import FIRST, Alike, Mask, as_numbers, plain

A = TypeVar("A")

FORMS = 2_000
"""Forms of a column's texts of which the extremes are kept."""


@dataclass(frozen=True)
class Question(Generic[A]):
    """What is asked of the values of a column: `of` answers for the values of a part (at least
    one), and `both` puts two answers together."""

    of: Callable[[Values], A]
    both: Callable[[A, A], A]

    def all(self, answers: Sequence[A]) -> A:
        """Several answers together."""
        return functools.reduce(self.both, answers)


Asked = Mapping[int, tuple[Sequence[Question[Any]], Sequence[str]]]
"""By column what is asked of its values, and which values are taken as blank."""


def answers_of_part(asked: Asked, file: str) -> str:
    """What the values in a file answer, for `answers_said`."""
    out: dict[int, list[Any]] = {}
    for column, values in zip(asked, values_in(file, [*asked]), strict=True):
        questions, blanks = asked[column]
        if len(values := values.without(blanks) if blanks else values):
            out[column] = [q.of(values) for q in questions]
    return base64.b64encode(pickle.dumps(out)).decode()


def answers_said(asked: Asked, said: Sequence[str]) -> dict[int, list[Any]]:
    """By column what the values of all parts answer to its questions."""
    parts = [pickle.loads(base64.b64decode(text)) for text in said]
    out: dict[int, list[Any]] = {}
    for column, (questions, _) in asked.items():
        answers = zip(*(part[column] for part in parts if column in part), strict=True)
        out[column] = [q.all(some) for q, some in zip(questions, answers, strict=True)]
    return out


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


def longest() -> Question[int]:
    """The characters of the longest value."""
    return Question(lambda v: int(pc.max(pc.utf8_length(v.texts)).as_py()), max)


def lengths() -> Question[Counter[int]]:
    """How many values have how many bytes."""
    return Question(lambda v: Counter(pc.binary_length(v.texts).to_pylist()), lambda a, b: a + b)


def text_ends() -> Question[tuple[str, str]]:
    """The smallest and the largest text."""

    def of(values: Values) -> tuple[str, str]:
        ends = pc.min_max(values.texts)
        return str(ends["min"]), str(ends["max"])

    return Question(of, lambda a, b: (min(a[0], b[0]), max(a[1], b[1])))


Frequent = list[tuple[int, int, str]]
"""Values with how many cells have them (less than nothing), and the place of the first."""


def frequent(most: int) -> Question[Frequent]:
    """The values that most cells have, the earlier ones of equals."""

    def of(values: Values) -> Frequent:
        top = np.lexsort((values.first, -values.times))[:most]
        texts = values.texts.take(pa.array(top)).to_pylist()
        return [*zip((-values.times[top]).tolist(), values.first[top].tolist(), texts, strict=True)]

    return Question(of, lambda a, b: sorted([*a, *b])[:most])


Unlike = tuple[int, Alike]
"""Values that are alike, and the place of the first of the earliest that are."""


def alike() -> Question[Unlike | None]:
    """Values that differ only in case or spaces from a more frequent one, all of which are in the
    same part."""

    def of(values: Values) -> Unlike | None:
        groups = plain(values.texts).dictionary_encode().indices.to_numpy()
        order = np.lexsort((values.first, -values.times, groups))
        usual = np.append(True, groups[order][1:] != groups[order][:-1])
        if usual.all():
            return None
        earliest = np.full(groups.max() + 1, np.iinfo(np.int64).max)
        np.minimum.at(earliest, groups, values.first)
        rare = order[~usual]
        group = groups[rare][np.argmin(earliest[groups[rare]])]
        one, other = order[groups[order] == group][:2].tolist()
        return int(earliest[group]), Alike(
            values.texts[other].as_py(),
            values.texts[one].as_py(),
            int(values.times[rare].sum()),
            tuple(np.sort(values.take(rare).places.flatten().to_numpy())[:FIRST].tolist()),
        )

    def both(a: Unlike | None, b: Unlike | None) -> Unlike | None:
        if a is None or b is None:
            return a or b
        (at, told), (_, other) = sorted((a, b), key=lambda one: one[0])
        rows = tuple(sorted([*told.rows, *other.rows])[:FIRST])
        return at, Alike(told.rare, told.usual, told.cells + other.cells, rows)

    return Question(of, both)
