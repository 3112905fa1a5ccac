"""What a layout does to cells, where it stands in its text, and the order and keys of records: the
parts, on their own."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pytest
import tomlkit
from hypothesis import given
from hypothesis import strategies as st

from kerfmark.layout.edit import with_column, with_spelling, with_type, without_column
from kerfmark.layout.line_numbers import line_of, lines_of
from kerfmark.layout.model import ColumnSpec
from kerfmark.layout.text import parse_layout
from kerfmark.normalize.keys import ordered
from kerfmark.normalize.lookup import circular
from kerfmark.normalize.tables import choose_value
from kerfmark.normalize.transform import not_allowed, to_column_type, transformed
from kerfmark.profile.columns import EncodedColumn
from kerfmark.profile.convert import folded, to_text, to_typed
from kerfmark.profile.types import parse_type, with_headroom
from kerfmark.profile.units import why_not


def column(cells: list[str | None]) -> EncodedColumn:
    encoded = pa.array(cells, pa.string()).dictionary_encode()
    return EncodedColumn(
        "c",
        encoded.dictionary,
        encoded.indices.fill_null(-1).to_numpy(zero_copy_only=False).astype(np.int32),
    )


def cells(one: EncodedColumn) -> list[str | None]:
    return [None if c < 0 else one.values[int(c)].as_py() for c in one.codes]


@pytest.mark.parametrize(
    ("spec", "before", "after"),
    [
        ({"clean": "trim"}, [" a ", "a", None, "b c"], ["a", "a", None, "b c"]),
        ({"clean": ["spaces"]}, [" a\u00a0 b ", "a b", "  "], ["a b", "a b", None]),
        ({"clean": ["spaces", "upper"]}, ["x  y", "X Y"], ["X Y", "X Y"]),
        ({"clean": "capitals"}, ["nothing mill", "Old"], ["Nothing Mill", "Old"]),
        ({"clean": "unicode"}, ["Ko\u0308stlin", "Köstlin"], ["Köstlin", "Köstlin"]),
        ({"means": {"y": "yes", "?": ""}}, ["y", "yes", "?", None], ["yes", "yes", None, None]),
        ({"default": 0}, [None, "5", None], ["0", "5", "0"]),
        (
            {"clean": "lower", "means": {"n/a": ""}, "default": "none"},
            ["N/A", "X", None],
            ["none", "x", "none"],
        ),
    ],
)
def test_cells_are_understood_as_the_layout_says(
    spec: dict[str, object], before: list[str | None], after: list[str | None]
) -> None:
    done = transformed(column(before), ColumnSpec.model_validate({"header": "c"} | spec))
    assert cells(done) == after
    firsts = [int(np.flatnonzero(done.codes == c)[0]) for c in range(len(done.values))]
    assert firsts == sorted(firsts)  # codes count in the order in which values first appear


@given(
    st.lists(st.one_of(st.none(), st.sampled_from(["a", "b", "c", "dd"])), min_size=1, max_size=30),
    st.dictionaries(st.sampled_from(["a", "b", "c"]), st.sampled_from(["b", "z", ""]), max_size=3),
)
def test_meanings_are_given_cell_by_cell(before: list[str | None], means: dict[str, str]) -> None:
    done = transformed(column(before), ColumnSpec(header="c", means=means))
    assert cells(done) == [None if c is None else means.get(c, c) or None for c in before]


def test_units_and_limits() -> None:
    lb = ColumnSpec.model_validate(
        {"header": "c", "type": "decimal(5,1) 0,0", "unit": "lb to kg", "most": "100"}
    )
    values = to_column_type(pa.array(["10", "0,5", "x", "1000", "99999999"]), lb)
    assert [None if v is None else str(v) for v in values.to_pylist()] == [
        "4.5",
        "0.2",
        None,
        "453.6",
        None,
    ]
    wrong, said = not_allowed(values, lb)
    assert wrong.tolist() == [3] and said == "at most 100"
    warm = ColumnSpec(header="c", type="real", unit="degF to degC")
    assert to_column_type(pa.array(["32", "-40"]), warm).to_pylist() == pytest.approx([0, -40])
    assert (
        why_not("lb to kg") == ""
        and "measure different things" in why_not("lb to m")
        and "is not a known unit" in why_not("lb to foo")
    )


@given(st.lists(st.integers(-(10**9), 10**9), min_size=1, max_size=20))
def test_marked_thousands_are_read_and_spelled_again(numbers: list[int]) -> None:
    type_ = parse_type("integer 0.000")
    texts = [f"{n:,}".replace(",", ".") for n in numbers]
    read = to_typed(pa.array(texts), type_)
    assert read.to_pylist() == numbers and to_text(read, type_).to_pylist() == texts
    money = parse_type("decimal(14,2) 0 000,00")
    texts = [f"{n / 100:,.2f}".replace(",", " ").replace(".", ",") for n in numbers]
    assert to_text(to_typed(pa.array(texts), money), money).to_pylist() == texts


def test_types_found_have_room_for_larger_numbers() -> None:
    found = ("decimal(3,1) 0,0", "decimal(14,2)", "decimal(17,2)", "integer", "text")
    assert [str(with_headroom(parse_type(t))) for t in found] == [
        "decimal(5,1) 0,0",
        "decimal(15,2)",
        "decimal(17,2)",
        "integer",
        "text",
    ]


@given(
    st.lists(
        st.sampled_from([" Nothing  Mill", "nothing mill", "NOTHING MILL ", "Weir"]), min_size=1
    )
)
def test_loose_texts_are_those_that_read_the_same(texts: list[str]) -> None:
    assert set(folded(pa.array(texts)).to_pylist()) <= {"nothing mill", "weir"}


@pytest.mark.parametrize(
    ("rule", "expected"),
    [("first", [1, -1, 2]), ("last", [2, -1, 0]), ("most frequent", [1, -1, 0])],
)
def test_one_value_of_each_record_is_kept(rule: str, expected: list[int]) -> None:
    records, values = (
        np.array([0, 0, 0, 0, 1, 2, 2, 2, -1]),
        np.array([-1, 1, 1, 2, -1, 2, 0, 0, 1]),
    )
    assert choose_value(records, values, 3, 3, rule).tolist() == expected


@given(st.lists(st.one_of(st.none(), st.integers(0, 9)), min_size=1, max_size=20), st.booleans())
def test_records_are_put_in_order_with_blanks_last(days: list[int | None], down: bool) -> None:
    one = column([None if d is None else str(d) for d in days])
    at = ordered(
        [(pa.array([int(v) for v in one.values.to_pylist()], pa.int64()), one.codes)],
        ["-d" if down else "d"],
    )
    filled = [i for i, d in enumerate(days) if d is not None]
    expected = sorted(filled, key=lambda i: -(days[i] or 0) if down else days[i] or 0)
    assert at.tolist() == expected + [i for i, d in enumerate(days) if d is None]


@given(st.lists(st.integers(-1, 9), min_size=1, max_size=10))
def test_circles_are_the_records_that_lead_back_to_themselves(leads: list[int]) -> None:
    leads = [n if n < len(leads) else -1 for n in leads]

    def returns(start: int) -> bool:
        here = leads[start]
        for _ in leads:
            if here in (-1, start):
                break
            here = leads[here]
        return here == start

    assert circular(np.array(leads)).tolist() == [i for i in range(len(leads)) if returns(i)]


TEXT = '''kerfmark = 1   # [sources.x]
[sources.v]
file = "v.csv"
parts = [
    {told = "a = {b", file = "f"},   # told = 1
    {told = "]", file = "g"},
]
note = """
[tables.no]
x = 1
"""
[tables."my table".columns]
day = {header = "D", type = "date"}
"a b" = 'x = 1'
'''


def test_every_key_has_its_line() -> None:
    lines = lines_of(TEXT)
    assert (
        lines["sources", "v", "file"] == 3
        and lines["sources", "v", "parts"] == 4
        and lines["sources", "v", "note"] == 8
    )
    assert (
        lines["tables", "my table", "columns", "day", "type"] == 13
        and lines["tables", "my table", "columns", "a b"] == 14
    )
    assert ("tables", "no") not in lines and ("sources", "x") not in lines
    assert line_of(lines, ["sources", "v", "nothing"]) == 2 and line_of(lines, ["nowhere"]) == 0


NAMES = st.from_regex(r"[a-z]{1,6}", fullmatch=True)


@given(
    st.dictionaries(
        NAMES,
        st.dictionaries(
            NAMES,
            st.one_of(st.text(max_size=9), st.lists(st.text(max_size=4), max_size=3)),
            min_size=1,
            max_size=4,
        ),
        min_size=1,
        max_size=4,
    )
)
def test_lines_are_those_where_keys_stand(data: dict[str, dict[str, object]]) -> None:
    text = tomlkit.dumps(data)
    lines = lines_of(text)
    for heading, keys in data.items():
        for key in keys:
            assert text.split("\n")[lines[heading, key] - 1].startswith(key)


LAYOUT = """kerfmark = 1
# of the association
[sources.v]
file = "v.csv"  # every month
[tables.t]
each_row = true
columns = ["A", {header = "B", type = "text(3)"}]
"""


def test_small_edits_keep_what_somebody_wrote() -> None:
    text = with_spelling(LAYOUT, "v", "A", "Aa")
    text = with_spelling(text, "v", "A", "Ah")
    text = without_column(text, "v", "C")
    text = with_column(text, "v", "t", "d", "D", "integer")
    text = with_type(text, "t", "b", "text(9)")
    assert "# of the association" in text and "# every month" in text
    layout = parse_layout(text, "x")
    source, table = layout.sources["v"], layout.tables["t"]
    assert (
        source.also == {"A": ("Aa", "Ah")}
        and source.left_out == ("C",)
        and set(source.may_lack) == {"C", "D"}
    )
    assert {n: c.type for n, c in table.columns.items()} == {
        "a": "text",
        "b": "text(9)",
        "d": "integer",
    }
    assert table.optional == ("d",)
    named = with_column(
        LAYOUT.replace('["A", {header = "B", type = "text(3)"}]', '{a = "A"}'),
        "v",
        "t",
        "d",
        "D",
        "text",
    )
    assert parse_layout(named, "x").tables["t"].columns["d"].header == "D"
