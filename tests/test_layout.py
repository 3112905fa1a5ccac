"""Layouts are read and written without loss, and every mistake in one is told at once."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kerfmark.errors import LayoutError
from kerfmark.layout.model import ColumnSpec, Layout, SourceSpec, TableSpec
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
    assert layout.path("visit", "hive") == [("visit", "hive_id", "hive")] and layout.path("hive", "visit") is None


@pytest.mark.parametrize(("old", "new", "said"), [
    ("kerfmark = 1", "kerfmark = 7", "newer Kerfmark"),
    ("kerfmark = 1", "", "kerfmark = 1"),
    ("kerfmark = 1", "kerfmark = ", "not TOML"),
    ("each_row = true", "each_rwo = true", 'did you mean "each_row"'),
    ('hive_id = "hive"', 'hive_id = "hvie"', 'did you mean "hive"'),
    ('known_by = ["tag"]', 'known_by = ["tog"]', 'did you mean "tag"'),
    ('known_by = ["tag"]', "", "say known_by"),
    ("date YYYY-MM-DD", "date", "lacks its form"),
    ('source = "visits"\neach_row', 'source = "visit"\neach_row', 'there is no source "visit"'),
    ("each_row = true", 'known_by = ["day"]', "exactly one must"),
    ('columns = {tag = "hive"}', 'columns = {tag = "hive"}\nlinks = {visit_id = "visit"}', "no known_by"),
    ('links = {hive_id = "hive"}', "", "no link leads to it"),
    ('columns = {tag = "hive"}', 'columns = {tag = "hive"}\nlinks = {up = "hive"}', "lead back to itself"),
    ('file = "visits.csv"', "", "name either its file or its parts"),
])
def test_a_mistake_is_told_where_it_is(old: str, new: str, said: str) -> None:
    assert old in GOOD
    assert said in mistakes(GOOD.replace(old, new, 1))


def test_all_mistakes_are_told_at_once() -> None:
    text = GOOD.replace("each_row = true", "each_rwo = true").replace("date YYYY-MM-DD", "dote")
    assert "2 mistakes" in mistakes(text)


NAMES = st.from_regex(r"[a-z][a-z_]{0,8}", fullmatch=True)
HEADERS = st.text(st.characters(codec="utf-8", exclude_categories=["Cs", "Cc"]), min_size=1, max_size=15)


@settings(deadline=None, max_examples=60)
@given(st.dictionaries(NAMES, HEADERS, min_size=1, max_size=5), st.sampled_from([",", ";", "\t", "|"]),
       st.lists(HEADERS, max_size=3), st.sampled_from(["text", "integer", "decimal(8,2) 0,00", "boolean yes/no"]))
def test_a_layout_written_is_the_layout_read(columns: dict[str, str], delimiter: str, blanks: list[str], kind: str) -> None:
    layout = Layout(kerfmark=1, sources={"s": SourceSpec(file="a b.csv", delimiter=delimiter, blanks=tuple(blanks))}, tables={
        "base": TableSpec(source="s", each_row=True, links={"up_id": "up"}, optional=("up_id",)),
        "up": TableSpec(source="s", known_by=(next(iter(columns)),),
                        columns={n: ColumnSpec(header=h, type=kind) for n, h in columns.items()})})
    text = write_layout(layout, {"tables.up": ["because " + "of this " * 30], "sources.s": ["read"]})
    assert parse_layout(text, "x") == layout
    assert max(len(line) for line in text.splitlines() if line.startswith("# ")) <= 102
