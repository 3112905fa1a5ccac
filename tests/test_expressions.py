"""Expressions: each function does what its name says in a spreadsheet or in SQL, and mistakes point
at a character."""

from __future__ import annotations

import datetime
import math
from collections.abc import Callable
from decimal import ROUND_HALF_UP, Decimal, localcontext
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from conftest import Runner
from kerfmark.layout.expression import ExpressionError, parse_expression
from kerfmark.layout.validation import _stored_type
from kerfmark.normalize.evaluate import as_type, combinations, evaluate
from kerfmark.profile.types import INTEGER, TEXT, ColumnType, parse_type

TYPES = {
    "day": parse_type("date DD.MM.YYYY"),
    "at": parse_type("timestamp YYYY-MM-DD hh:mm"),
    "kg": parse_type("decimal(5,1) 0,0"),
    "kind": TEXT,
    "n": INTEGER,
    "ok": parse_type("boolean yes/no"),
    "x": ColumnType("real"),
    "a]b": TEXT,
}
COLUMNS = {
    "day": pa.array([datetime.date(2024, 2, 29), datetime.date(2025, 12, 1), None]),
    "at": pa.array(
        [datetime.datetime(2025, 1, 2, 3, 4), None, datetime.datetime(1999, 12, 31, 23, 59)],
        pa.timestamp("s"),
    ),
    "kg": pa.array([Decimal("1.5"), Decimal("-2.5"), None], pa.decimal128(5, 1)),
    "kind": pa.array(["Wood", " cork ", None]),
    "n": pa.array([7, -2, None]),
    "ok": pa.array([True, False, None]),
    "x": pa.array([0.5, 4.0, None]),
    "a]b": pa.array(["q", "r", None]),
}


def typed(header: str, at: int) -> ColumnType:
    if header not in TYPES:
        raise ExpressionError(f'no column "{header}"', "", at)
    return TYPES[header]


def compute(text: str) -> list[Any]:
    node = parse_expression(text, typed)
    values = evaluate(node, COLUMNS, 3)
    assert values.type == node.type.arrow, (values.type, node.type)
    return list(values.to_pylist())


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("year([day])", [2024, 2025, None]),
        ("month([day])", [2, 12, None]),
        ("day([day])", [29, 1, None]),
        ("hour([at])", [3, None, 23]),
        ("minute([at])", [4, None, 59]),
        ("year([at])", [2025, None, 1999]),
        ("date('03.04.2025', 'DD.MM.YYYY')", [datetime.date(2025, 4, 3)] * 3),
        ("upper([kind])", ["WOOD", " CORK ", None]),
        ("lower([kind])", ["wood", " cork ", None]),
        ("trim([kind])", ["Wood", "cork", None]),
        ("left([kind], 2)", ["Wo", " c", None]),
        ("right([kind], 2)", ["od", "k ", None]),
        ("mid([kind], 2, 2)", ["oo", "co", None]),
        ("right([kind], 0)", ["", "", None]),
        ("left([kind], [n])", ["Wood", "", None]),
        ("mid([kind], [n], 9)", ["", " cork ", None]),
        ("replace([kind], 'o', '0')", ["W00d", " c0rk ", None]),
        ("before([kind], 'o')", ["W", " c", None]),
        ("before_last([kind], 'o')", ["Wo", " c", None]),
        ("after([kind], 'o')", ["od", "rk ", None]),
        ("after_last([kind], 'o')", ["d", "rk ", None]),
        ("before([kind], 'W')", [None, None, None]),  # nothing precedes it: a blank
        ("after_last('1.2.3', '.')", ["3"] * 3),
        ("before_last('a\n(b) c', ' ')", ["a\n(b)"] * 3),
        ("length([kind])", [4, 6, None]),
        ("concat([kind], '-', [n])", ["Wood-7", " cork --2", "-"]),
        ("[kind] & [day]", ["Wood29.02.2024", " cork 01.12.2025", None]),
        ("[kg] & ' kg'", ["1,5 kg", "-2,5 kg", " kg"]),
        ("[ok] & ''", ["yes", "no", None]),
        ("[a]]b]", ["q", "r", None]),
        ("coalesce([n], 0)", [7, -2, 0]),
        ("coalesce([kg], [n])", [Decimal("1.5"), Decimal("-2.5"), None]),
        ("if([ok], 'y', 'n')", ["y", "n", "n"]),
        ("if([n] > 0, [n], 0.5)", [Decimal("7.0"), Decimal("0.5"), Decimal("0.5")]),
        ("if([ok], [kind], '')", ["Wood", None, None]),
        ("isblank([kg])", [False, False, True]),
        ("[n] + 1", [8, -1, None]),
        ("[n] - 1.25", [Decimal("5.75"), Decimal("-3.25"), None]),
        ("-[kg]", [Decimal("-1.5"), Decimal("2.5"), None]),
        ("[kg] * 2", [Decimal("3.0"), Decimal("-5.0"), None]),
        ("[kg] * [kg]", [Decimal("2.25"), Decimal("6.25"), None]),
        ("[n] / 2", [3.5, -1.0, None]),
        ("123456789012345678 / 2", [61728394506172839.0] * 3),
        ("[x] + 123456789012345678", [123456789012345678.5, 123456789012345682.0, None]),
        ("[n] / ([n] - [n])", [None, None, None]),
        ("[x] * 2", [1.0, 8.0, None]),
        ("2 + 3 * 4 - 1", [13] * 3),
        ("(2 + 3) * 4", [20] * 3),
        ("round([kg])", [2, -3, None]),
        ("round([n] / 3, 2)", [Decimal("2.33"), Decimal("-0.67"), None]),
        ("abs([n])", [7, 2, None]),
        ("floor([kg])", [1, -3, None]),
        ("ceiling([kg])", [2, -2, None]),
        ("mod([n], 3)", [1, 1, None]),
        ("mod([n], 0)", [None, None, None]),
        ("number('12.5')", [12.5] * 3),
        ("number([kind])", [None, None, None]),
        ("[n] = 7", [True, False, None]),
        ("[n] <> 7", [False, True, None]),
        ("[kg] >= 1.5", [True, False, None]),
        ("[day] < '2025-01-01'", [True, False, None]),
        ("[kind] in ('Wood', 'Tin')", [True, False, None]),
        ("[n] in (-2, 9)", [False, True, None]),
        ("not [ok]", [False, True, None]),
        ("[ok] and [n] > 100", [False, False, None]),
        ("[ok] or true", [True, True, True]),
        ("[n] > 0 or [n] < 0 and [ok]", [True, False, None]),
        ("[kind] = 'it''s'", [False, False, None]),
    ],
)
def test_each_gives_what_its_name_says(text: str, expected: list[Any]) -> None:
    assert compute(text) == expected


@pytest.mark.parametrize(
    ("text", "at", "what"),
    [
        ("yaer([day])", 0, 'did you mean "year"'),
        ("foo(1)", 0, 'no function "foo"'),
        ("[kg] +", 6, "something is missing"),
        ("year([kind])", 5, "this is text, where a date is needed"),
        ("[nope]", 0, 'no column "nope"'),
        ("left([kind])", 0, "cannot take 1"),
        ("'abc", 0, "no closing quote"),
        ("[abc", 0, "no closing bracket"),
        ("kg", 0, "a column is written [kg]"),
        ("(1", 2, '")" is missing'),
        ("[n] = 'x'", 6, "this is text, beside an integer"),
        ("1 ? 2", 2, "not allowed here"),
        ("1 2", 2, "left over"),
        ("[kg] and true", 0, "yes or no is needed"),
        ("round([kg], [n])", 12, "must be written out"),
        ("[day] = 'soon'", 8, "like '2025-03-01'"),
        ("date([kind], 'soon')", 13, "is not a form of a date"),
        ("[n] in ()", 4, "nothing is listed"),
        ("if([n], 1, 2)", 3, "yes or no is needed"),
        ("12345678901234567890", 0, "too many digits"),
        ("replace([kind], [kind], 'x')", 16, "a text in quotes"),
        ("", 0, "something is missing"),
        ("mod([kg], 2)", 4, "a whole number is needed"),
        ("upper([n])", 6, "this is an integer"),
        ("(" * 80 + "1", 60, "nested too deeply"),
    ],
)
def test_a_mistake_points_at_its_character(text: str, at: int, what: str) -> None:
    with pytest.raises(ExpressionError) as caught:
        parse_expression(text, typed)
    assert what in str(caught.value) and caught.value.at == at
    assert f"at character {at + 1}" in str(caught.value)


def test_the_headers_of_an_expression() -> None:
    assert list(parse_expression("[a]]b] & [kg]", typed).headers()) == ["a]b", "kg"]
    assert list(parse_expression("if([ok], [n], 1)", typed).headers()) == ["ok", "n"]


NUMBERS = st.decimals(-999, 999, places=2)


@given(st.lists(st.tuples(NUMBERS, NUMBERS), min_size=1, max_size=20))
def test_sums_and_products_are_exact(pairs: list[tuple[Decimal, Decimal]]) -> None:
    type_ = ColumnType("decimal", 5, 2, "0.00")
    columns = {
        "a": pa.array([a for a, _ in pairs], pa.decimal128(5, 2)),
        "b": pa.array([b for _, b in pairs], pa.decimal128(5, 2)),
    }
    for sign, python in (("+", Decimal.__add__), ("-", Decimal.__sub__), ("*", Decimal.__mul__)):
        node = parse_expression(f"[a] {sign} [b]", lambda h, at: type_)
        assert evaluate(node, columns, len(pairs)).to_pylist() == [python(a, b) for a, b in pairs]
    node = parse_expression("round([a], 1)", lambda h, at: type_)
    assert evaluate(node, columns, len(pairs)).to_pylist() == [
        a.quantize(Decimal("0.1"), ROUND_HALF_UP) for a, _ in pairs
    ]


@given(st.lists(st.one_of(st.none(), st.floats(-1e6, 1e6)), min_size=1, max_size=20))
def test_a_result_is_rounded_to_its_column_or_does_not_fit(numbers: list[float | None]) -> None:
    out = as_type(pa.array(numbers, pa.float64()), ColumnType("decimal", 6, 1, "0.0")).to_pylist()
    for number, got in zip(numbers, out, strict=True):
        if number is None or got is None:
            assert number is None or abs(number) > 99_999
        else:
            assert abs(float(got) - number) <= 0.0501 and abs(got) < 100_000


@given(st.lists(st.tuples(st.integers(-1, 3), st.integers(-1, 4)), min_size=1, max_size=40))
def test_combinations_are_those_of_the_rows(rows: list[tuple[int, int]]) -> None:
    codes = [np.array([r[i] for r in rows], np.int32) for i in (0, 1)]
    for chosen in ([0, 1], [0]):
        mixed, first = combinations([codes[i] for i in chosen], [[4, 5][i] for i in chosen])
        seen = [tuple(int(codes[i][r]) for i in chosen) for r in first]
        assert len(set(seen)) == len(seen)
        assert [seen[m] for m in mixed] == [tuple(r[i] for i in chosen) for r in rows]


GIVEN = {
    "integer": pa.array([5, 600, -(10**17), None]),
    "decimal": pa.array([Decimal("1.5"), Decimal("99999.5"), Decimal("-0.1"), None]),
    "real": pa.array([0.5, 1e30, -99.5, None]),
}


@pytest.mark.parametrize("given_", GIVEN)
@pytest.mark.parametrize(
    ("type_", "limit"),
    [
        ("integer", 10**18),
        ("decimal(2,0)", 100),
        ("decimal(6,2)", 10_000),
        ("decimal(38,0)", 10**38),
    ],
)
def test_a_number_that_its_column_cannot_hold_is_blank(given_: str, type_: str, limit: int) -> None:
    found = as_type(GIVEN[given_], parse_type(type_)).to_pylist()
    places = parse_type(type_).scale
    for value, stored in zip(GIVEN[given_].to_pylist(), found, strict=True):
        if value is None:
            assert stored is None
            continue
        exact = Decimal(repr(value)) if isinstance(value, float) else Decimal(value)
        with localcontext(prec=60):
            rounded = exact.quantize(Decimal(1).scaleb(-places), ROUND_HALF_UP)
        wanted = rounded if abs(rounded) < limit else None
        assert stored == wanted or (
            wanted is not None and abs(stored - wanted) < abs(wanted) / 10**14
        )


@pytest.mark.parametrize(
    ("derived", "type_", "said"),
    [
        ("[word]", "integer", "what is derived here is text, and the type is integer; number(..)"),
        ("[word]", "date YYYY-MM-DD", "date(.., 'DD.MM.YYYY') makes one of a text"),
        ("[day]", "decimal(4,1)", "what is derived here is a date, and the type is decimal(4,1)"),
        ("[no] > 1", "integer", "what is derived here is a boolean, and the type is integer"),
        ("[no]", "boolean yes/no", "what is derived here is an integer, and the type is boolean"),
    ],
)
def test_a_type_that_an_expression_cannot_give_is_told(
    write: Callable[..., Path], kerfmark: Runner, derived: str, type_: str, said: str
) -> None:
    write("v.csv", "no,word,day\n1,a,2040-03-01\n2,7,2040-03-02\n")
    write(
        "v.toml",
        'kerfmark = 1\n[sources.v]\nfile = "v.csv"\n[tables.v]\neach_row = true\n'
        '[tables.v.columns]\nno = {header = "no", type = "integer"}\nword = "word"\n'
        'day = {header = "day", type = "date YYYY-MM-DD"}\n'
        f'more = {{derived = "{derived}", type = "{type_}"}}\n',
    )
    assert said in " ".join(kerfmark("check", "v.toml", code=2).err.split())


EXTREME_TYPES = TYPES | {
    "kg": parse_type("decimal(15,3)"),
    "big": parse_type("decimal(38,4)"),
    "time": parse_type("time hh:mm"),
}
EXTREME: dict[str, pa.Array] = {
    "day": pa.array([datetime.date(1, 1, 1), datetime.date(9999, 12, 31), None]),
    "at": pa.array([datetime.datetime(1, 1, 1), None, datetime.datetime(9999, 12, 31)]).cast("timestamp[s]"),
    "time": pa.array([datetime.time(0), datetime.time(23, 59, 59), None], pa.time32("s")),
    "kg": pa.array([Decimal("999999999999.999"), Decimal("-0.001"), None], pa.decimal128(15, 3)),
    "big": pa.array([Decimal("9" * 34 + ".9999"), Decimal("-" + "9" * 34), None], pa.decimal128(38, 4)),
    "kind": pa.array(["", "999999999999999999999", None]),
    "n": pa.array([10**18 - 1, 1 - 10**18, None]),
    "ok": pa.array([True, False, None]),
    "x": pa.array([1e308, float("5e-324"), None]),
    "a]b": pa.array(["a b; 3.5", ".", None]),
}  # fmt: skip
LEAVES = [f"[{h.replace(']', ']]')}]" for h in EXTREME] + [
    *("0", "1", "-3", "2.50", "'a'", "''", "'12.5'", "'2024-01-02'", "true", "999999999999999999")
]
CALLS = [
    *(f"({{}} {sign} {{}})" for sign in ("+", "-", "*", "/", "&", "=", "<", "<>", "and", "or")),
    *(
        f"{one}({{}})"
        for one in ("year", "day", "hour", "minute", "upper", "trim", "length", "not")
    ),
    *(f"{one}({{}})" for one in ("isblank", "abs", "floor", "ceiling", "number", "-", "round")),
    *("left({}, {})", "right({}, {})", "mid({}, {}, {})", "replace({}, 'a', 'b')", "mod({}, {})"),
    *("concat({}, {})", "coalesce({}, {})", "if({}, {}, {})", "round({}, 3)", "before({}, '.')"),
    *("after_last({}, '.')", "({} in ({}, {}))", "date({}, 'DD.MM.YYYY')"),
]


def filled_in(call: str, some: list[str]) -> str:
    return call.format(*(some * 3)[: call.count("{}")])


EXPRESSIONS = st.recursive(
    st.sampled_from(LEAVES),
    lambda inner: st.builds(filled_in, st.sampled_from(CALLS), st.lists(inner, min_size=1, max_size=3)),
    max_leaves=5,
)  # fmt: skip


@settings(max_examples=2000, deadline=None)  # a stalled machine is no failure
@given(EXPRESSIONS)
def test_whatever_is_understood_is_computed_of_any_values(text: str) -> None:
    """Of the largest and smallest values too: what does not fit is blank, and nothing fails."""
    try:
        node = parse_expression(text, _extreme)
    except ExpressionError:
        return
    values = evaluate(node, EXTREME, 3)
    assert values.type == node.type.arrow or pa.types.is_null(values.type)
    for stored in ("text", "text(3)", str(_stored_type(node.type))):
        assert len(as_type(values, parse_type(stored))) == 3
    if pa.types.is_floating(values.type):
        assert all(v is None or math.isfinite(v) for v in values.to_pylist())


def _extreme(header: str, at: int) -> ColumnType:
    return EXTREME_TYPES[header]


@example("+", 0, 10**18 - 64)
@example("-", 1 - 10**18, 0)
@example("*", 10**9, 10**9 - 1)
@given(st.sampled_from("+-*"), st.integers(1 - 10**18, 10**18 - 1), st.integers(0, 10**18 - 1))
def test_whole_numbers_are_computed_exactly_or_not_at_all(sign: str, a: int, b: int) -> None:
    node = parse_expression(f"[n] {sign} {b}", typed)
    exact = {"+": a + b, "-": a - b, "*": a * b}[sign]
    [found] = evaluate(node, {"n": pa.array([a])}, 1).to_pylist()
    assert found == exact if abs(exact) < 10**18 else found is None or found == exact
