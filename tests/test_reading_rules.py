"""The small rules by which files are understood, each on the smallest input that shows it."""

from __future__ import annotations

import datetime as dt
from pathlib import Path
from typing import Any

import openpyxl
import pyarrow as pa
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from conftest import Runner
from kerfmark.errors import DataRefused, KerfmarkError, Origin, SourceError
from kerfmark.profile.columns import EncodedColumn
from kerfmark.profile.describe import describe
from kerfmark.profile.encode import encode
from kerfmark.profile.recognise import kind_of, recognise
from kerfmark.profile.settle import mostly
from kerfmark.profile.values import ValuesHere
from kerfmark.read.cells import spell_cell
from kerfmark.read.dialect import find_delimiter
from kerfmark.read.encoding import find_encoding
from kerfmark.read.open import open_path
from kerfmark.read.source import Reading, RowNumbers, distinct_headers
from kerfmark.read.workbook.sheets import _header_rows, sheets

HERE = Origin("x.csv")


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("a,b\n1,2\n3,4\n", ","),
        ("a;b\n1,5;2\n3,5;4\n", ";"),
        ('a\tb\n"x,y"\tz\n"u,v"\tw\n', "\t"),
        ("name\nFar Paddock\nWeir\n", ""),
        ('"one, two";b\n"three, four";d\n', ";"),
        ("a|b|c\n1|2|3\n", "|"),
    ],
)
def test_the_delimiter_is_what_cuts_all_lines_alike(text: str, expected: str) -> None:
    assert find_delimiter(text) == expected


@pytest.mark.parametrize(
    ("sample", "expected"),
    [
        (b"plain", "utf-8"),
        ("\ufeffBOM".encode(), "utf-8"),
        ("Größe".encode(), "utf-8"),
        ("wide".encode("utf-16-le"), "utf-16-le"),
        ("wide".encode("utf-16-be"), "utf-16-be"),
        ("wide".encode("utf-16"), "utf-16-le"),
    ],
)
def test_encodings_by_their_bytes(sample: bytes, expected: str) -> None:
    assert find_encoding(sample, HERE).encoding == expected


@pytest.mark.parametrize(
    "magic",
    [b"PK\x03\x04", b"\x1f\x8b\x08", b"SQLite format 3\x00", b"PAR1", b"%PDF-1.7", b"\x89PNG\r\n"],
)
def test_what_is_no_text_is_named(magic: bytes) -> None:
    with pytest.raises(SourceError, match="not delimited text"):
        find_encoding(magic + b"rest", HERE)


@given(
    st.lists(st.sampled_from(["", " ", "a", "A", "a (2)", "column 1", "b"]), min_size=1, max_size=8)
)
def test_headers_always_differ(cells: list[str]) -> None:
    names = distinct_headers(cells)
    assert len({n.lower() for n in names}) == len(cells) and all(names)


@given(st.sets(st.integers(0, 30)), st.integers(1, 4))
def test_row_numbers_step_over_what_was_skipped(skipped: set[int], first: int) -> None:
    numbers = RowNumbers(first, sorted(skipped))
    there = [p for p in range(60) if p not in skipped]
    assert [numbers.row(i) for i in range(20)] == [first + p for p in there[:20]]


@pytest.mark.parametrize(
    ("rows", "expected"),
    [
        ([["Hive", "kg"], ["H1", 2.5]], 1),
        ([["The hives", ""], ["", ""], ["Hive", "kg"], ["H1", 2.5]], 3),
        ([["H1", 2.5], ["H2", 3.5]], 0),
        ([["Only a title"]], 1),
    ],
)
def test_the_header_of_a_sheet_is_its_first_full_row_of_words(
    rows: list[list[Any]], expected: int
) -> None:
    assert _header_rows(rows, set())[0] == expected


@pytest.mark.parametrize(
    ("cell", "text"),
    [
        ("", None),
        ("007", "007"),
        (7.0, "7"),
        (0.1, "0.1"),
        (1e-7, "0.0000001"),
        (123456789012.5, "123456789012.5"),
        (True, "TRUE"),
        (False, "FALSE"),
        (dt.date(2025, 3, 4), "2025-03-04"),
        (dt.datetime(2025, 3, 4, 9, 5), "2025-03-04 09:05:00"),
        (dt.time(9, 5), "09:05:00"),
        (-3.0, "-3"),
    ],
)
def test_a_cell_is_spelled_as_a_person_reads_it(cell: Any, text: str | None) -> None:
    assert spell_cell(cell) == text


CELLS = st.one_of(
    st.none(),
    st.booleans(),
    st.integers(-(10**9), 10**9),
    st.dates(dt.date(1950, 1, 1), dt.date(2090, 1, 1)),
    st.text(st.characters(codec="ascii", categories=["L", "N"]), min_size=1, max_size=8),
)


@settings(
    max_examples=40, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture]
)
@given(st.lists(st.lists(CELLS, min_size=3, max_size=3), min_size=1, max_size=15))
def test_what_another_library_writes_into_a_workbook_is_read_back(
    tmp_path: Path, rows: list[list[Any]]
) -> None:
    rows = [r if any(c is not None for c in r) else ["x", *r[1:]] for r in rows]
    book = openpyxl.Workbook()
    book.active.append(["one", "two", "three"])
    for row in rows:
        book.active.append(row)
    book.save(tmp_path / "b.xlsx")
    [sheet] = sheets(tmp_path / "b.xlsx", Reading(block=0))  # chance may make a title of a row
    got = [
        tuple(r.values())
        for piece in sheet.map_batches(lambda b: b.to_pylist())
        for r in piece.result
    ]

    def said(cell: Any) -> str | None:
        if isinstance(cell, bool):
            return "TRUE" if cell else "FALSE"
        return (
            None if cell is None else cell.isoformat() if isinstance(cell, dt.date) else str(cell)
        )

    assert sheet.headers == ("one", "two", "three")
    assert got == [tuple(map(said, row)) for row in rows]


def column(texts: list[str | None]) -> EncodedColumn:
    encoded = pa.array(texts, pa.string()).dictionary_encode()
    return EncodedColumn("c", encoded.dictionary, encoded.indices.fill_null(-1).to_numpy())


def test_a_description_counts_everything() -> None:
    told = describe(ValuesHere(column(["10", "9", None, "10", "-2"])))
    assert (told.type, told.blanks, told.distinct, told.unique, told.longest) == (
        "integer",
        1,
        3,
        False,
        2,
    )
    assert (told.smallest, told.largest, told.frequent) == ("-2", "10", (("10", 2),))
    assert describe(ValuesHere(column([None, None]))).note == "the column is blank in every row"
    assert describe(ValuesHere(column(["b", "a"]))).unique


@pytest.mark.parametrize(
    ("texts", "expected"),
    [
        ([*map(str, range(200)), "x"], ("integer", ("x",), 1)),
        (
            [f"{i % 28 + 1:02}.{i % 12 + 1:02}.2025" for i in range(200)] + ["31.02.2025"],
            ("date DD.MM.YYYY", ("31.02.2025",), 1),
        ),
        ([f"{i}.{i % 7 + 1}" for i in range(300)] + ["n.b."], ("decimal(4,1)", ("n.b.",), 1)),
        ([*map(str, range(40)), *"abcdefgh"], None),
        (["calm", "cross", "1"] * 30, None),
        (["1", "x"], None),
    ],
)
def test_what_a_column_is_meant_to_be(
    texts: list[str], expected: tuple[str, tuple[str, ...], int] | None
) -> None:

    c = column(list(texts))
    found = mostly(ValuesHere(c))
    assert (found and (str(found[0]), found[1], found[2])) == expected


@pytest.mark.parametrize(
    ("texts", "kind"),
    [
        (["£1,200.50", "£3.00"], "decimal"),
        (["12%", "7%"], "decimal"),
        (["20250304", "19991231"], "date"),
        (["20259904", "19991231"], "integer"),
        (["calm", "12"], "text"),
        (["XK 12 60", "XK 3 9"], "text"),
        (["12", "13"], "integer"),
    ],
)
def test_amounts_and_days_decide_nothing_whatever_their_type(texts: list[str], kind: str) -> None:
    values = pa.array(texts)
    assert kind_of(values, recognise(values).type) == kind


def test_hardly_repeating_columns_are_encoded_the_same(tmp_path: Path) -> None:
    """Numbers that ascend, numbers that do not, texts, and blanks among them."""
    rows = [
        (i, (i * 7919) % 5000, f"t{i // 2}", "" if i % 9 == 0 else f"u{i}") for i in range(5000)
    ]
    (tmp_path / "m.csv").write_text(
        "a,b,c,d\n" + "\n".join(",".join(map(str, r)) for r in rows) + "\n"
    )
    [source] = open_path(tmp_path / "m.csv")
    encoded = encode(source)
    for i, c in enumerate(encoded.columns):
        texts = [None if k < 0 else c.values[k].as_py() for k in c.codes.tolist()]
        assert texts == [str(r[i]) or None for r in rows]
        firsts = [k for k in dict.fromkeys(c.codes.tolist()) if k >= 0]
        assert firsts == list(range(len(c.values)))


def test_errors_carry_the_same_facts_as_text_and_as_data() -> None:
    error = DataRefused(
        "does not fit",
        code="data.misfit",
        origin=Origin("a.xlsx", "Hives", 1412, "kg"),
        why="it is text",
        next="mend it",
        more=["row 1: x", "row 2: y"],
        total=7,
    )
    assert str(error) == (
        'a.xlsx, sheet "Hives", row 1,412, column "kg": does not fit\n  row 1: x\n  row 2: y\n  '
        "... and 5 more\n"
        "why:  it is text\nnext: mend it"
    )
    assert error.to_dict() == {
        "code": "data.misfit",
        "what": "does not fit",
        "why": "it is text",
        "next": "mend it",
        "origin": {"file": "a.xlsx", "sheet": "Hives", "row": 1412, "column": "kg"},
        "more": ["row 1: x", "row 2: y"],
        "total": 7,
    }
    assert KerfmarkError("plain").to_dict() == {"code": "error", "what": "plain"}


def test_too_many_sheets_or_shapes_are_refused_at_once(kerfmark: Runner, tmp_path: Path) -> None:
    import xlsxwriter

    with xlsxwriter.Workbook(tmp_path / "book.xlsx", {"constant_memory": True}) as book:
        for i in range(2001):
            book.add_worksheet(f"s{i}").write_row(0, 0, ["a", "b"])
    told = kerfmark("cut", "book.xlsx", "--into", "x.db", code=2).err
    assert "has 2,001 sheets, and 2,000 are read at once" in told and "--sheet" in told
    (tmp_path / "files").mkdir()
    for i in range(501):
        (tmp_path / f"files/f{i}.csv").write_text(f"a{i},b{i}\n1,2\n")
    told = kerfmark("cut", "files", "--into", "x.db", code=2).err
    assert "501 sources of different shapes" in told and not (tmp_path / "x.db").exists()


def test_hundreds_of_files_of_one_shape_are_one_source(kerfmark: Runner, tmp_path: Path) -> None:
    (tmp_path / "days").mkdir()
    for i in range(400):
        (tmp_path / f"days/visits-{i:03}.csv").write_text(
            "no,hive,kg\n" + "".join(f"{i * 3 + j},H{j},{j}.5\n" for j in range(3))
        )
    result = kerfmark("cut", "days", "--into", "x.db", "--json").json
    assert [s["rows"] for s in result["sources"]] == [1200]
    assert kerfmark("prove", "x.db", "--json").json["holds"]
