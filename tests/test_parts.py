"""The small things that tables are put together from, each against the plain way to do the same."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import numpy as np
import openpyxl
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import Runner
from kerfmark import Reading, SourceError, mark
from kerfmark.draw.document import Section, document
from kerfmark.layout.model import ColumnSpec, LinkSpec, TableSpec
from kerfmark.normalize.lookup import differing, resolve
from kerfmark.normalize.parts import filled_groups, parts_of_records, split_cells, stacked
from kerfmark.normalize.table_rows import Counted, TableRows, Typed
from kerfmark.profile.codes import most_frequent
from kerfmark.profile.columns import EncodedColumn
from kerfmark.profile.convert import integers
from kerfmark.profile.recognise import recognise
from kerfmark.read.cells import spell_cell, texts
from kerfmark.read.json_records import _records
from kerfmark.read.open import open_all, open_path
from kerfmark.read.union import _telling_name, _telling_parts
from kerfmark.read.workbook.ranges import column_letters, column_number
from kerfmark.store.sqlite.create_table import with_column_type
from kerfmark.structure.near_dependencies import near

Write = Callable[..., Path]
CODES = st.lists(st.integers(-1, 4), min_size=1, max_size=40)


def encoded(cells: list[str | None]) -> EncodedColumn:
    column = pa.array(cells, pa.string()).dictionary_encode()
    return EncodedColumn("x", column.dictionary, column.indices.fill_null(-1).to_numpy())


@given(st.lists(st.tuples(st.integers(-1, 3), st.integers(-1, 3)), min_size=1, max_size=40))
def test_what_is_usual_is_what_stands_there_most_often_and_first(
    rows: list[tuple[int, int]],
) -> None:
    a, b = (np.array(x, np.int32) for x in zip(*rows, strict=True))
    for key, value in enumerate(most_frequent(a, b, 4, 4).tolist()):
        there = [y for x, y in rows if x == key and y >= 0]
        times = Counter(there)
        assert value == (max(times, key=lambda v: (times[v], -there.index(v))) if there else -1)


def test_a_near_dependency_names_its_exceptions_and_no_more() -> None:
    key = np.arange(600, dtype=np.int32) % 30
    other = key % 7
    assert near(key, 30, other, 7) is not None and not len(near(key, 30, other, 7).rows)  # type: ignore[union-attr]
    other = other.copy()
    other[[17, 400]] = (other[[17, 400]] + 1) % 7
    found = near(key, 30, other, 7)
    assert found is not None and found.rows.tolist() == [17, 400] and found.keys == 2
    noise = np.random.default_rng(1).integers(0, 7, 600).astype(np.int32)
    assert near(key, 30, noise, 7) is None


@given(
    st.lists(
        st.lists(st.sampled_from([None, "a", "b"]), min_size=6, max_size=6), min_size=1, max_size=12
    )
)
def test_filled_groups_of_columns_are_the_records(rows: list[list[str | None]]) -> None:
    columns = [encoded([r[i] for r in rows]) for i in range(6)]
    groups = [columns[0:2], columns[2:4], columns[4:6]]
    record, place = filled_groups([[c.codes for c in g] for g in groups])
    expected = [
        (r, g) for r, row in enumerate(rows) for g in range(3) if row[2 * g] or row[2 * g + 1]
    ]
    assert list(zip(record.tolist(), place.tolist(), strict=True)) == expected
    values, codes = stacked(
        [g[0].values for g in groups], [g[0].codes for g in groups], record, place
    )
    assert [None if c < 0 else values[int(c)].as_py() for c in codes] == [
        rows[r][2 * g] for r, g in expected
    ]


@given(
    st.lists(
        st.none() | st.lists(st.sampled_from(["ice", "tide", "wasps"]), min_size=1, max_size=4),
        min_size=1,
        max_size=12,
    )
)
def test_the_parts_of_cells_come_in_their_order(rows: list[list[str] | None]) -> None:
    column = encoded([None if r is None else "; ".join(r) for r in rows])
    parts, codes, starts = split_cells(column, "; ")
    record, position, at = parts_of_records(column.codes, starts)
    got = [
        (int(r), int(p), parts[int(codes[a])].as_py())
        for r, p, a in zip(record, position, at, strict=True)
    ]
    assert got == [(r, p, part) for r, row in enumerate(rows) for p, part in enumerate(row or [])]


@given(
    st.lists(st.sampled_from("abcdef"), unique=True, max_size=5),
    st.lists(st.none() | st.sampled_from("abcdefgh"), max_size=20),
)
def test_links_find_their_record_or_make_one(known: list[str], names: list[str | None]) -> None:
    spec = TableSpec(
        source="p",
        each_row=True,
        known_by=("name",),
        columns={"name": ColumnSpec(header="N"), "grid": ColumnSpec(header="G")},
    )
    parent = TableRows(
        "p",
        spec,
        len(known),
        {
            "p_id": Counted(),
            "name": Typed(pa.array(known, pa.string()), np.arange(len(known), dtype=np.int32)),
            "grid": Typed(pa.array(known, pa.string()), np.arange(len(known), dtype=np.int32)),
        },
    )
    column = encoded(names)
    cells = column.values, column.codes
    record = resolve(parent, LinkSpec(to="p", by={"name": "N"}), {"name": cells}).record
    every = known + [n for n in dict.fromkeys(names) if n and n not in known]
    assert parent.rows == len(every)
    assert record.tolist() == [every.index(n) if n else -1 for n in names]
    expected = [i for i, n in enumerate(names) if n and n not in known]  # a new record has no grid
    assert differing(parent, "grid", cells, record).tolist() == expected


@given(
    st.lists(st.one_of(st.none(), st.integers(1 - 10**17, 10**17)), min_size=1, max_size=30),
    st.integers(1, 9),
)
def test_numbers_are_read_in_slices_as_they_are_whole(numbers: list[int | None], size: int) -> None:
    import kerfmark.profile.convert as convert

    cells = pa.array([None if n is None else str(n) for n in numbers], pa.string())
    before, convert.SLICE = convert.SLICE, size
    try:
        found = integers(cells)
    finally:
        convert.SLICE = before
    assert found is None or found.to_pylist() == numbers
    assert found is not None or None in numbers  # only a slice without any number may give up


CELL = st.one_of(
    st.none(),
    st.just(""),
    st.booleans(),
    st.integers(-(10**6), 10**6),
    st.floats(-1e6, 1e6),
    st.dates(),
    st.text(st.characters(codec="utf-8", exclude_categories=["Cs"]), max_size=4),
)


@given(st.lists(CELL, min_size=1, max_size=20))
def test_whole_columns_of_cells_are_spelled_like_single_ones(cells: list[object]) -> None:
    assert texts(cells).to_pylist() == [spell_cell(c) for c in cells]


@given(
    st.lists(
        st.dictionaries(
            st.text('ab\\"{}[], ', max_size=4), st.text('x\\"{}[],1 ', max_size=6), max_size=3
        ),
        max_size=6,
    ),
    st.booleans(),
)
def test_json_is_cut_at_its_records_whatever_stands_in_strings(
    records: list[dict[str, str]], commas: bool
) -> None:
    data = (", " if commas else "\n").join(map(json.dumps, records)).encode()
    end, count, block = _records(data, commas)
    assert count == len(records) and end == len(data)
    assert [json.loads(line) for line in block.decode().splitlines() if line.strip()] == records


@given(st.integers(0, 20_000))
def test_columns_of_sheets_have_letters(number: int) -> None:
    assert column_number(column_letters(number)) == number


@pytest.mark.parametrize(
    ("names", "common", "told", "telling"),
    [
        (["visits-2025-01", "visits-2025-02"], "visits", ["2025-01", "2025-02"], "month"),
        (["2023", "2024"], "", ["2023", "2024"], "year"),
        (["north harvest", "south harvest"], "harvest", ["north", "south"], "file"),
        (["fees 2024 paid", "fees 2025 paid"], "fees paid", ["2024", "2025"], "year"),
    ],
)
def test_what_tells_files_of_one_shape_apart(
    names: list[str], common: str, told: list[str], telling: str
) -> None:
    assert _telling_parts(names) == (common, told)
    assert _telling_name(told, "file") == telling


def test_sources_of_one_shape_but_with_titles_stay_apart(write: Write) -> None:
    paths = [write("a-2024.csv", "hive,kg\nH1,2\n"), write("a-2025.csv", "Kept\nhive,kg\nH1,2\n")]
    assert len(open_all(paths)) == 2
    assert len(open_all([paths[0], write("a-2026.csv", "hive,kg\nH2,3\n")])) == 1


@pytest.mark.parametrize(
    ("values", "type_"),
    [
        (["1.5e-7", "2", "3.25"], "real"),
        (["12E4", "13E5"], "text"),
        (["1e+5", "7"], "real"),
        (["1.5", "2"], "decimal(2,1) 0.#"),
    ],
)
def test_exponents_make_a_number_only_where_nothing_else_is_meant(
    values: list[str], type_: str
) -> None:
    assert str(recognise(pa.array(values)).type) == type_


@pytest.mark.parametrize(
    ("cells", "said_"),
    [
        ("C9:A1", "is not a range"),
        ("Nowhere!A1:B2", 'no sheet "Nowhere"'),
        ("nothing", "a defined name or a table"),
    ],
)
def test_parts_of_a_workbook_that_are_not_there(tmp_path: Path, cells: str, said_: str) -> None:
    wb = openpyxl.Workbook()
    wb.active.append(["a", "b"])
    wb.active.append([1, 2])
    wb.save(tmp_path / "w.xlsx")
    with pytest.raises(SourceError, match=said_):
        open_path(tmp_path / "w.xlsx", Reading(cells=cells))


@pytest.mark.parametrize(
    ("options", "said_"),
    [
        (["--widths", "ten"], "are not widths"),
        (["--quote", "ab"], "not one plain character"),
        (["--unpack-limit", "much"], "is not a size"),
        (["--header-row", "0"], "counted from 1"),
        (["--encoding", "klingon"], "no encoding called"),
        (["--member", "x.csv"], "no member"),
    ],
)
def test_wrong_ways_to_read_are_told(
    kerfmark: Runner, visits: Path, options: list[str], said_: str
) -> None:
    assert said_ in kerfmark("measure", "visits.csv", *options, code=2).err


def test_years_and_counts_are_no_references(write: Write) -> None:
    write("years.csv", "year,motto\n" + "".join(f"{y},Motto {y}\n" for y in range(2000, 2026)))
    visits = write(
        "visits.csv",
        "visit no,made in,mites\n" + "".join(f"{i},{2000 + i % 26},{i % 9}\n" for i in range(200)),
    )
    result = mark([visits.with_name("years.csv"), visits])
    assert not result.references


def test_pages_show_what_the_data_say_and_do_nothing_else() -> None:
    section = Section("<i>", ("<b>\x07&",), ("<u>",), (("{{ 7 * 7 }}",), (None,)), text="</pre>")
    page = document("<title>", "", "</span>", True, [section])
    assert "<p>&lt;b&gt;␇&amp;</p>" in page and '<td class="name">{{ 7 * 7 }}</td>' in page
    assert not {"<i>", "<u>", "<b>", "</span></span>", "</pre></pre>", "None"} & set(
        page.split(">")
    )
    assert (
        "&lt;i&gt;" in page
        and "&lt;u&gt;" in page
        and page.count("<td") == 2
        and "<script" not in page
    )


CREATED = """CREATE TABLE "t" (
\t"a , b" TEXT NOT NULL, -- a "comment", with (brackets)
\tb NUMERIC(4, 1) DEFAULT (1), [c d] VARCHAR(9) /* x, */ CHECK ([c d] <> 'b INT, "e" INT'),
\t`e` INTEGER,
\tf, PRIMARY KEY (b), FOREIGN KEY(e) REFERENCES b (b)
)"""


@pytest.mark.parametrize(
    ("column", "old", "new"),
    [
        ("a , b", '"a , b" TEXT NOT', '"a , b" NEW(5, 2) NOT'),
        ("b", "b NUMERIC(4, 1) D", "b NEW(5, 2) D"),
        ("c d", "[c d] VARCHAR(9) /*", "[c d] NEW(5, 2) /*"),
        ("e", "`e` INTEGER,", "`e` NEW(5, 2),"),
        ("f", "f, PRIMARY", "f NEW(5, 2), PRIMARY"),
        ("g", "f, PRIMARY", "f, PRIMARY"),
    ],
)
def test_the_type_of_one_column_is_declared_anew(column: str, old: str, new: str) -> None:
    assert CREATED.count(old) == 1
    assert with_column_type(CREATED, column, "NEW(5, 2)") == CREATED.replace(old, new)
