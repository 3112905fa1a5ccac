"""Layouts are read and written without loss, and every mistake in one is told at once."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import Runner
from kerfmark.errors import LayoutError
from kerfmark.layout.model import ColumnSpec, Layout, LinkSpec, SourceSpec, TableSpec
from kerfmark.layout.text import parse_layout, write_layout

GOOD = """
kerfmark = 1
[sources.visits]
file = "visits.csv"
[tables.visit]
source = "visits"
each_row = true
links = {hive_id = "hive"}
columns = {day = {header = "day", type = "date YYYY-MM-DD"}}
[tables.hive]
source = "visits"
known_by = ["tag"]
columns = {tag = "hive"}
"""


def mistakes(text: str) -> str:
    with pytest.raises(LayoutError) as caught:
        parse_layout(text, "x.layout.toml")
    return str(caught.value)


def test_a_layout_written_by_hand_is_read() -> None:
    layout = parse_layout(GOOD, "x")
    assert layout.key_of("hive") == "hive_id" and layout.parents_first() == ["hive", "visit"]
    assert (
        layout.path("visit", "hive") == [("visit", "hive_id", "hive")]
        and layout.path("hive", "visit") is None
    )


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ("kerfmark = 1", "kerfmark = 7", "newer Kerfmark"),
        ("kerfmark = 1", "", "kerfmark = 1"),
        ("kerfmark = 1", "kerfmark = ", "not TOML"),
        ("each_row = true", "each_rwo = true", 'did you mean "each_row"'),
        ('hive_id = "hive"', 'hive_id = "hvie"', 'did you mean "hive"'),
        ('known_by = ["tag"]', 'known_by = ["tog"]', 'did you mean "tag"'),
        ('known_by = ["tag"]', "", "set known_by"),
        ("date YYYY-MM-DD", "date", "lacks its form"),
        ('source = "visits"\neach_row', 'source = "visit"\neach_row', 'there is no source "visit"'),
        ("each_row = true", 'known_by = ["day"]', "exactly one must"),
        (
            'columns = {tag = "hive"}',
            'columns = {tag = "hive"}\nlinks = {visit_id = "visit"}',
            "no known_by",
        ),
        ('links = {hive_id = "hive"}', "", "no link leads to it"),
        (
            'columns = {tag = "hive"}',
            'columns = {tag = "hive"}\nlinks = {up = "hive"}',
            "lead back to itself",
        ),
        ('file = "visits.csv"', "", "name either its file or its parts"),
    ],
)
def test_a_mistake_is_told_where_it_is(old: str, new: str, said: str) -> None:
    assert old in GOOD
    assert said in mistakes(GOOD.replace(old, new, 1))


@pytest.mark.parametrize(
    ("old", "new"),
    [
        ("each_row = true", 'each_row = true\nknown = "add"'),
        ("each_row = true", 'each_row = true\nkey = ["hive_id"]\noptional = ["day"]'),
        ('tag = "hive"', 'tag = {header = "hive", type = "integer", unit = "lb to kg"}'),
        ('tag = "hive"', 'tag = {header = "hive", allowed = ["H1", "H2"]}'),
        (
            'columns = {tag = "hive"}',
            'columns = {tag = "hive"}\nlinks = {mother_id = {to = "hive", by = {tag = "mother"}}}',
        ),
        ('file = "visits.csv"', 'file = "visits.csv"\nskip_rows = ["9-", ">20", "notes", -1]'),
    ],
)
def test_what_is_no_mistake_is_not_told_as_one(old: str, new: str) -> None:
    assert old in GOOD
    parse_layout(GOOD.replace(old, new, 1), "x")


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        (
            'file = "visits.csv"',
            'file = "visits.csv"\nskip_rows = ["9-3"]',
            'line 5, sources > visits > skip_rows: "9-3" is not a row number',
        ),
        ('file = "visits.csv"', 'file = "visits.csv"\ntelling = "x"', "telling needs parts"),
        (
            'file = "visits.csv"',
            'file = "visits.csv"\nthousands = "."',
            "another than the decimals",
        ),
        (
            'file = "visits.csv"',
            'file = "visits.csv"\ndates = "DD-YY"',
            "line 5, sources > visits > dates",
        ),
        (
            "each_row = true",
            'each_row = true\nkey = ["day", "nay"]',
            'key: there is no column or link "nay"; did you mean "day"?',
        ),
        (
            "each_row = true",
            'each_row = true\norder = ["-dya"]',
            'order: there is no column or link "dya"; did you mean "day"?',
        ),
        (
            "each_row = true",
            'each_row = true\nonly_rows = "[day]"',
            "this gives a date; it must say yes or no",
        ),
        (
            "each_row = true",
            'each_row = true\nalso_from = ["visit"]',
            'there is no source "visit"; did you mean "visits"?',
        ),
        (
            '{hive_id = "hive"}',
            '{hive_id = {to = "hive", loose = true}}',
            "repeats, loose and missing need by",
        ),
        (
            '{hive_id = "hive"}',
            '{hive_id = {to = "hive", by = {tag = "hive"}, missing = "creat"}}',
            'did you mean "create"?',
        ),
        ("each_row = true", 'each_row = true\nkey = "DAY"', "the primary key is called so"),
        (
            "each_row = true",
            'each_row = true\nkey = ["day"]\noptional = ["day"]',
            '"day" is part of the key, which must be filled',
        ),
        (
            "each_row = true",
            'each_row = true\nkey = ["day"]\nknown = "add"',
            "with each_row and a generated key can be added again",
        ),
        (
            'known_by = ["tag"]',
            'known_by = ["tag"]\nknown = "add"',
            "with each_row and a generated key can be added again",
        ),
        (
            'columns = {tag = "hive"}',
            'columns = {tag = "hive"}\nlinks = {a_id = "a"}\n[tables.a]\nsource = "visits"\n'
            'known_by = ["a"]\ncolumns = {a = "a"}\nlinks = {hive_id = "hive"}',
            "lead back to itself through",
        ),
        ('{hive_id = "hive"}', '{DAY = "hive"}', "is the same name to a database"),
        ('{tag = "hive"}', '{tag = {header = "hive", conflicts = "newest"}}', "is not one of"),
        ('{tag = "hive"}', '{tag = {header = "hive", clean = "trimm"}}', 'did you mean "trim"?'),
        (
            '{tag = "hive"}',
            '{tag = {header = "hive", type = "integer", unit = "lb to kg to g"}}',
            "lb to kg",
        ),
        (
            '{tag = "hive"}',
            '{tag = {header = "hive", unit = "lb to kg"}}',
            "must have a type that is a number",
        ),
        ('{tag = "hive"}', '{tag = {header = "hive", least = 3}}', "a text has no order"),
        (
            '{tag = "hive"}',
            '{tag = {header = "hive", type = "integer", allowed = [1, "x"]}}',
            '"x" is not an integer',
        ),
        (
            '{tag = "hive"}',
            '{tag = {derived = "upper([hive])", default = "x"}}',
            "are for a column with a header",
        ),
        (
            '{header = "day", type',
            '{header = "day", conflicts = "last", type',
            "nothing to choose from",
        ),
        ("[tables.hive]", "[tables.VISIT]", "is the same name to a database"),
    ],
)
def test_a_mistake_in_what_a_layout_says_further_is_told(old: str, new: str, said: str) -> None:
    assert old in GOOD
    assert said in mistakes(GOOD.replace(old, new, 1))


def test_links_by_value_may_lead_in_circles_and_the_rows_decide(
    write: Callable[..., Path], kerfmark: Runner
) -> None:
    write("a.csv", "n,b\n1,2\n")
    write("b.csv", "n,a\n2,1\n")
    write(
        "l.toml",
        'kerfmark = 1\n[sources.a]\nfile = "a.csv"\n[sources.b]\nfile = "b.csv"\n'
        '[tables.a]\nsource = "a"\neach_row = true\n'
        'known_by = ["n"]\ncolumns = ["n"]\nlinks = {b_id = {to = "b", by = {n = '
        '"b"}}}\n[tables.b]\nsource = "b"\n'
        'each_row = true\nknown_by = ["n"]\ncolumns = ["n"]\nlinks = {a_id = {to = "a", by = {n = '
        '"a"}}}\n',
    )
    kerfmark("cut", "l.toml", "--into", "c.db")
    assert kerfmark("prove", "c.db", "--json").json["holds"]
    write("b.csv", "n,a\n2,9\n")
    assert (
        "records of a that are only referred to have no value"
        in kerfmark("cut", "l.toml", "--into", "d.db", code=1).err
    )


def test_everything_is_told_at_once_each_with_its_line() -> None:
    text = GOOD
    for old, new in (
        ("each_row", "each_rwo"),
        ('"hive"}', '"hvie"}'),
        ("date YYYY-MM-DD", "dote"),
        ('known_by = ["tag"]', 'known_by = ["tog"]'),
        ('"visits.csv"', '"visits.csv"\nblank = ["-"]'),
    ):
        text = text.replace(old, new, 1)
    told = mistakes(text)
    assert "5 mistakes" in told
    assert [line.split(",")[0].strip() for line in told.splitlines()[1:6]] == [
        "line 5",
        "line 8",
        "line 9",
        "line 10",
        "line 13",
    ]


def test_all_mistakes_are_told_at_once() -> None:
    text = GOOD.replace("each_row = true", "each_rwo = true").replace("date YYYY-MM-DD", "dote")
    assert "2 mistakes" in mistakes(text)


NAMES = st.from_regex(r"[a-z][a-z_]{0,8}", fullmatch=True)
HEADERS = st.text(
    st.characters(codec="utf-8", exclude_categories=["Cs", "Cc"]), min_size=1, max_size=15
)
COLUMNS = st.fixed_dictionaries(
    {
        "header": HEADERS,
        "type": st.sampled_from(
            ["text", "integer", "decimal(8,2) 0,00", "boolean yes/no", "text(40)"]
        ),
    },
    optional={
        "clean": st.lists(
            st.sampled_from(["trim", "spaces", "lower", "unicode"]),
            min_size=1,
            max_size=2,
            unique=True,
        ),
        "means": st.dictionaries(HEADERS, HEADERS, min_size=1, max_size=2),
        "default": HEADERS,
        "comment": HEADERS,
        "conflicts": st.sampled_from(["first", "last", "most frequent"]),
    },
)


@settings(deadline=None, max_examples=60)
@given(
    st.dictionaries(NAMES, COLUMNS, min_size=1, max_size=5),
    st.sampled_from([",", ";", "\t", "|"]),
    st.lists(HEADERS, max_size=3),
    st.dictionaries(HEADERS, st.lists(st.just("other"), min_size=1, max_size=1), max_size=1),
    st.booleans(),
)
def test_a_layout_written_is_the_layout_read(
    columns: dict[str, dict[str, Any]],
    delimiter: str,
    blanks: list[str],
    also: dict[str, list[str]],
    natural: bool,
) -> None:
    for n, column in enumerate(columns.values()):
        column["header"] = f"{column['header']}{n}"  # no two from the same header
    first = next(iter(columns))
    source = SourceSpec.model_validate(
        {
            "file": "a b.csv",
            "delimiter": delimiter,
            "blanks": blanks,
            "also": also,
            "skip_rows": [3, "7-9"],
        }
    )
    layout = Layout(
        kerfmark=1,
        sources={"s": source},
        tables={
            "base": TableSpec(
                source="s",
                each_row=True,
                links={"up_id": LinkSpec(to="up")},
                optional=("up_id",),
                comment="all",
            ),
            "up": TableSpec(
                source="s",
                known_by=(first,),
                order=(first,),
                key=(first,) if natural else "",
                columns={n: ColumnSpec.model_validate(c) for n, c in columns.items()},
            ),
        },
    )
    text = write_layout(
        layout, {"tables.up": ["because " + "of this " * 30], "sources.s": ["read"]}
    )
    assert parse_layout(text, "x") == layout
    assert max(len(line) for line in text.splitlines() if line.startswith("# ")) <= 102
