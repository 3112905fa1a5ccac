"""Types are taken from all values, and only where nothing is lost."""

from __future__ import annotations

import contextlib
import datetime as dt
import re
import sqlite3
from decimal import Decimal
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import Runner
from kerfmark.profile.codes import combine, first_rows, holds
from kerfmark.profile.columns import EncodedColumn
from kerfmark.profile.convert import integers, misfits, to_text, to_typed
from kerfmark.profile.moments import CANDIDATES, read_moments
from kerfmark.profile.recognise import blank_spellings, recognise
from kerfmark.profile.types import ColumnType, parse_type


@pytest.mark.parametrize(
    ("texts", "expected"),
    [
        (["1", "22", "-3"], "integer"),
        (["007", "12"], "text"),
        (["12345678901234567890", "1"], "text"),
        (["1.10", "2.35"], "decimal(3,2)"),
        (["1.1", "2.35", "3"], "decimal(3,2) 0.##"),
        (["1,5", "2,0"], "decimal(2,1) 0,0"),
        (["1.5", "1.50"], "text"),
        (["1,234", "2,345"], "text"),
        (["-0", "1"], "text"),
        (["yes", "no"], "boolean yes/no"),
        (["Ja", "Nein"], "boolean Ja/Nein"),
        (["0", "1"], "integer"),
        (["2025-03-04", "2025-12-31"], "date YYYY-MM-DD"),
        (["31.12.2025", "01.02.2024"], "date DD.MM.YYYY"),
        (["13/4/2025", "4/5/2025"], "date D/M/YYYY"),
        (["12/31/2025", "01/02/2024"], "date MM/DD/YYYY"),
        (["3/4/2025", "4/5/2025"], "text"),
        (["31.02.2025", "30.01.2025"], "text"),
        (["2 Jan 2024", "13 Mar 2025"], "date D Mon YYYY"),
        (["13.04.2025 08:15", "01.02.2025 09:30"], "timestamp DD.MM.YYYY hh:mm"),
        (["10:30", "09:15"], "time hh:mm"),
        (["10:30 PM", "12:15 AM"], "time hh:mm AM"),
        (["9:05am", "11:00pm"], "time h:mmam"),
        (["13:05 PM"], "text"),
        (["0:30 AM"], "text"),
        (["3/14/2025 2:05 PM", "4/5/2025 12:00 AM"], "timestamp M/D/YYYY h:mm AM"),
        (["2025-01-18T04:15:00Z", "2025-02-01T00:00:00Z"], "timestamp YYYY-MM-DDThh:mm:ssZ"),
        (["2025-01-18 04:15:00.000"], "timestamp YYYY-MM-DD hh:mm:ss.000"),
        (["calm", "1"], "text"),
    ],
)
def test_the_narrowest_type_that_loses_nothing(texts: list[str], expected: str) -> None:
    assert str(recognise(pa.array(texts)).type) == expected


def test_one_bad_value_among_many_is_seen() -> None:
    texts = [str(i) for i in range(200_000)]
    texts[123_456] = "12x"
    assert recognise(pa.array(texts)).type.kind == "text"


@pytest.mark.parametrize(
    ("texts", "types"),
    [
        (["1,234", "2,500,000", "10"], ["integer 0,000"]),
        (["-1'234", "0"], ["integer 0'000"]),
        (["1 234", "12"], ["integer 0 000"]),
        (["1.234,50", "2.500,00", "3,10"], ["decimal(6,2) 0.000,00"]),
        (["1,234.5", "12.25"], ["decimal(6,2) 0,000.##"]),
        (["1,234", "999", "12,501"], ["integer 0,000", "decimal(6,3) 0,###"]),
        (["1.234", "999", "12.501"], ["integer 0.000", "decimal(6,3) 0.###"]),
        (["1,234", "12,500"], ["integer 0,000", "decimal(5,3) 0,000"]),
        ([*map(str, range(900)), "1,234"], ["integer 0,000", "decimal(6,3) 0,###"]),
    ],
)
def test_marked_thousands_stay_text_and_the_types_that_are_told_fit(
    texts: list[str], types: list[str]
) -> None:
    found = recognise(pa.array(texts))
    assert found.type.kind == "text" and [*found.choices] == types
    for type_ in map(parse_type, types):
        assert to_text(to_typed(pa.array(texts), type_), type_).to_pylist() == texts


def test_numbers_that_a_reader_spelled_have_no_thousands_marked_with_a_point() -> None:
    texts = pa.array(["1.234", "999", "12.501"])
    assert str(recognise(texts, spelled=True).type) == "decimal(6,3) 0.###"
    assert recognise(pa.array(["1,234", "999"]), spelled=True).type.kind == "text"


@pytest.mark.parametrize(
    ("texts", "expected"),
    [
        (["0,125", "1,234"], "decimal(4,3) 0,000"),
        (["1234,567", "1,234"], "decimal(7,3) 0,000"),
        (["1.234", "12.500"], "decimal(5,3)"),
        (["1.5", "2.125", "999"], "decimal(6,3) 0.###"),
    ],
)
def test_what_cannot_be_thousands_is_a_decimal(texts: list[str], expected: str) -> None:
    assert str(recognise(pa.array(texts)).type) == expected


DERIVED = "; for numbers add a column that is derived: number(replace([header], '{}', ''))"


@pytest.mark.parametrize(
    ("texts", "told"),
    [
        (["12.5%", "7%"], f'numbers with "%": kept as text{DERIVED}'.format("%")),
        (["€ 12.50", "€ 7.00"], f'numbers with "€": kept as text{DERIVED}'.format("€ ")),
        (
            ["$1,234.50", "$7.00"],
            'numbers with "$": kept as text; for numbers add a column that is derived: '
            "number(replace(replace([header], '$', ''), ',', ''))",
        ),
        (["$1,234", "$7"], 'numbers with "$": kept as text'),
        (["12,5 %", "7,0 %"], 'numbers with "%": kept as text'),
        (["5 kg", "7 kg"], ""),
        (["$5", "€7"], ""),
        (["%", "5%"], ""),
    ],
)
def test_a_sign_keeps_numbers_text_and_is_told(texts: list[str], told: str) -> None:
    found = recognise(pa.array(texts))
    assert (found.type.kind, found.note) == ("text", told)


@settings(max_examples=300, deadline=None)
@given(
    st.lists(
        st.one_of(
            st.integers(-(10**18) + 1, 10**18 - 1).map(str),
            st.sampled_from(
                ["-0", "+5", "007", "0x1F", "0x3E8FFFF", "1e3", " 5", "--1", "-", "1.0", "1/2", ""]
            ),
        ),
        min_size=1,
        max_size=4,
    ),
    st.booleans(),
)
def test_whole_numbers_are_those_that_are_spelled_the_same_again(
    texts: list[str], blank: bool
) -> None:
    def number(text: str) -> int | None:
        return (
            int(text)
            if text.removeprefix("-").isdecimal() and str(int(text)) == text and len(text) <= 18
            else None
        )

    within = pa.array(["x", *texts, *([None] if blank else []), "y"]).slice(1, len(texts) + blank)
    expected = [number(t) for t in texts]
    found = integers(within)
    assert (found is None) == (None in expected)
    assert found is None or found.to_pylist() == [*expected, *([None] if blank else [])]


@pytest.mark.parametrize(
    ("texts", "types"),
    [
        (["13.04.25", "01.02.99"], ["date DD.MM.YY"]),
        (["03/04/25", "04/05/25"], ["date DD/MM/YY", "date MM/DD/YY"]),
        (["3-4-68", "13-4-69"], ["date D-M-YY"]),
    ],
)
def test_years_of_two_digits_stay_text_and_the_types_that_are_told_fit(
    texts: list[str], types: list[str]
) -> None:
    found = recognise(pa.array(texts))
    assert found.type.kind == "text" and [*found.choices] == types
    for type_ in map(parse_type, types):
        typed = to_typed(pa.array(texts), type_)
        assert to_text(typed, type_).to_pylist() == texts
        assert [d.year for d in typed.to_pylist()] == [
            int(t[-2:]) + (1900 if t[-2:] >= "69" else 2000) for t in texts
        ]


def test_hours_from_noon_are_those_of_the_day() -> None:
    type_ = parse_type("time h:mm AM")
    texts = pa.array(
        [
            "12:00 AM",
            "1:00 AM",
            "11:59 AM",
            "12:00 PM",
            "1:00 PM",
            "11:59 PM",
            "0:10 AM",
            "13:00 PM",
        ]
    )
    assert [t and t.strftime("%H:%M") for t in to_typed(texts, type_).to_pylist()] == [
        "00:00",
        "01:00",
        "11:59",
        "12:00",
        "13:00",
        "23:59",
        None,
        None,
    ]


def test_why_a_column_stays_text_is_told() -> None:
    assert (
        "parts of a second"
        in recognise(pa.array(["2025-01-18 04:15:00.120", "2025-01-18 04:15:00.000"])).note
    )
    assert (
        "hours from UTC"
        in recognise(pa.array(["2025-01-18T04:15:00+02:00", "2025-02-18T04:15:00+01:00"])).note
    )
    assert "leading zeros" in recognise(pa.array(["007", "012"])).note
    assert "date D/M/YYYY" in recognise(pa.array(["3/4/2025", "4/5/2025"])).choices


@settings(max_examples=200, deadline=None)
@given(
    st.sampled_from([(k, f) for k, forms in CANDIDATES.items() for f in forms]),
    st.lists(st.datetimes(dt.datetime(1, 1, 1), dt.datetime(9999, 12, 31)), min_size=1, max_size=5),
)
def test_a_moment_is_spelled_the_same_again(
    kind_form: tuple[str, str], moments: list[dt.datetime]
) -> None:
    kind, form = kind_form
    type_ = ColumnType(kind, form=form)  # type: ignore[arg-type]
    values = pa.array([m.replace(microsecond=0) for m in moments], pa.timestamp("s"))
    if kind == "date":
        values = values.cast(pa.date32())
    elif kind == "time":
        values = pa.array([m.time().replace(microsecond=0) for m in moments], pa.time32("s"))
    texts = to_text(values, type_)
    again = to_typed(texts, type_)
    assert again.null_count == 0
    assert to_text(again, type_).equals(texts)
    assert parse_type(str(type_)) == type_


@settings(max_examples=200, deadline=None)
@given(
    st.lists(
        st.decimals(
            allow_nan=False, allow_infinity=False, places=3, min_value=-(10**9), max_value=10**9
        ).map(str),
        min_size=1,
        max_size=20,
    )
)
def test_decimals_keep_every_digit(texts: list[str]) -> None:
    found = recognise(pa.array(sorted(set(texts)))).type
    typed = to_typed(pa.array(texts), found)
    assert to_text(typed, found).to_pylist() == texts


def test_what_does_not_fit_is_found() -> None:
    texts = pa.array(["1", None, "x", "3"])
    typed = to_typed(texts, parse_type("integer"))
    assert typed.to_pylist() == [1, None, None, 3]
    assert misfits(texts, typed).tolist() == [2]


@pytest.mark.parametrize(
    "wrong",
    ["number", "decimal", "decimal(40,2)", "date", "date XX", "boolean", "integer(3)", "text 00"],
)
def test_types_that_are_none_are_refused_with_a_reason(wrong: str) -> None:
    with pytest.raises(ValueError, match=r"\w+"):
        parse_type(wrong)


def column(texts: list[str | None]) -> EncodedColumn:
    encoded = pa.array(texts, pa.string()).dictionary_encode()
    return EncodedColumn("c", encoded.dictionary, encoded.indices.fill_null(-1).to_numpy())


def test_a_blank_spelling_counts_for_the_whole_source_once_it_is_sure() -> None:
    numbers, words = column(["1", "n/a", "3"]), column(["calm", "n/a", "-"])
    assert blank_spellings([numbers, words]) == ["n/a"]
    assert blank_spellings([words]) == []
    left = words.without(["n/a"])
    assert (
        left.codes.tolist() == [0, -1, 1]
        and left.values.to_pylist() == ["calm", "-"]
        and left.blank_as == ("n/a",)
    )


CODES = st.lists(st.tuples(st.integers(-1, 4), st.integers(-1, 4)), min_size=1, max_size=40)


@given(CODES)
def test_combinations_are_numbered_as_they_first_appear(rows: list[tuple[int, int]]) -> None:
    import numpy as np

    a, b = (np.array(c, np.int32) for c in zip(*rows, strict=True))
    codes, count = combine([a, b], [5, 5])
    seen: dict[tuple[int, int], int] = {}
    expected = [-1 if -1 in row else seen.setdefault(row, len(seen)) for row in rows]
    assert codes.tolist() == expected and count == len(seen)
    assert [rows[r] for r in first_rows(codes, count)] == list(seen)


@given(CODES)
def test_deciding_is_what_its_definition_says(rows: list[tuple[int, int]]) -> None:
    import numpy as np

    a, b = (np.array(c, np.int32) for c in zip(*rows, strict=True))
    goes_with: dict[int, set[int]] = {}
    for x, y in rows:
        goes_with.setdefault(x, set()).add(y)
    assert holds(a, b, 5) == all(
        len(ys) == 1 and (x >= 0 or ys == {-1}) for x, ys in goes_with.items()
    )


def test_long_decimals_have_no_exponent_and_a_zero_with_a_minus_stays_as_it_is(
    tmp_path: Path, kerfmark: Runner
) -> None:
    shares = [Decimal(n).scaleb(-16) for n in (0, 1, 10**9, 55 * 10**15)]
    pq.write_table(
        pa.table({"no": [1, 2, 3, 4], "share": pa.array(shares, pa.decimal128(18, 16))}),
        tmp_path / "p.parquet",
    )
    kerfmark("cut", "p.parquet", "--into", "p.db")
    with contextlib.closing(sqlite3.connect(tmp_path / "p.db")) as db:
        there = [r[0] for r in db.execute("SELECT p_share FROM p ORDER BY no")]
    assert there == [f"{s:.16f}" for s in shares]
    assert kerfmark("prove", "p.db").code == 0
    (tmp_path / "z.csv").write_text("no,z\n1,0.0\n2,-0.0\n3,1.5\n")
    told = kerfmark("measure", "z.csv").out
    assert "a zero with a minus (-0.0): kept as text" in told


@given(
    moments=st.lists(
        st.tuples(st.integers(1, 9999), st.integers(0, 14), st.integers(0, 33), st.integers(0, 25)),
        min_size=1,
        max_size=8,
    ),
    form=st.sampled_from(["YYYY-MM-DD", "DD.MM.YYYY hh:mm:ss", "MM/DD/YY", "YYYYMMDDThh:mm:ssZ"]),
    odd=st.sampled_from(
        ["", "2025-0x-01", "１2.03.2025 10:00:00", "01/02-25", "20250102 10:00:00Z"]
    ),
    skipped=st.integers(0, 2),
)
def test_moments_of_fixed_places_are_read_as_the_calendar_has_them(
    moments: list[tuple[int, int, int, int]], form: str, odd: str, skipped: int
) -> None:
    """Held against Python's own calendar, in columns with and without a text that does not fit,
    and in parts of columns."""
    signs = {"YYYY": "%Y", "YY": "%y", "MM": "%m", "DD": "%d", "hh": "%H", "mm": "%M", "ss": "%S"}
    python = re.sub("YYYY|YY|MM|DD|hh|mm|ss", lambda m: signs[m[0]], form)
    kind = "timestamp" if "hh" in form else "date"

    def spelled(year: int, month: int, day: int, hour: int) -> str:
        parts = {"YYYY": f"{year:04}", "YY": f"{year % 100:02}", "MM": f"{month:02}"}
        parts |= {"DD": f"{day:02}", "hh": f"{hour:02}", "mm": "30", "ss": "07"}
        return re.sub("YYYY|YY|MM|DD|hh|mm|ss", lambda m: parts[m[0]], form)

    def read(text: str) -> dt.datetime | None:
        try:
            return dt.datetime.strptime(text, python) if text.isascii() else None
        except ValueError:
            return None

    texts = [*(spelled(*m) for m in moments), *([odd] if odd else [])]
    column = pa.array([*["x"] * skipped, *texts]).slice(skipped)
    for text, value in zip(texts, read_moments(column, kind, form).to_pylist(), strict=True):
        wanted = read(text) if len(text) == len(spelled(1, 1, 1, 1)) else None
        found = wanted if wanted is None or kind == "timestamp" else wanted.date()
        assert value == found, (text, form)
