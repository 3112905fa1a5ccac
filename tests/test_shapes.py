"""Shapes that flat files have beside tables: amounts in lists, trees of codes, attributes and their
values, dated columns, two ends, a key hidden by a duplicate. Each is seen and told, and one option
decides otherwise."""

from __future__ import annotations

import csv
import random
import re
import sqlite3
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import Runner
from engines import Target
from kerfmark import Steering, UsageError, cut, mark, prove
from kerfmark.layout.text import read_layout
from kerfmark.structure.repeats import parse_repeat

Write = Callable[..., Path]
THINGS = ("apples", "pears", "red plums", "figs", "5th nuts")


def file_of(folder: Path, name: str, rows: list[list[Any]]) -> Path:
    """A file of delimited text."""
    with (folder / name).open("w", newline="", encoding="utf-8") as file:
        csv.writer(file).writerows(rows)
    return folder / name


def tables(path: Path, **said: Any) -> dict[str, set[str]]:
    """The headers and derived columns of the tables that are built, which are proven."""
    database = path.with_suffix(".db")
    cut([path], database, replace=True, steering=Steering(**said))
    assert prove(database).holds
    layout, _ = read_layout(path.with_suffix(".layout.toml"))
    return {
        name: {h for c in t.columns.values() for h in (c.sources or (c.derived,)) if h}
        | {f"-> {to}" for to in t.parents.values()}
        for name, t in layout.tables.items()
    }


def told(path: Path, **said: Any) -> str:
    """What is worth knowing of a proposal."""
    return "\n".join(
        f"{what}: {text}" for what, text in mark([path], steering=Steering(**said)).notes
    )


# ------------------------------------------------------------------- amounts in lists

WRITTEN = {
    "{n}x {thing}": r"(?P<n>\d+)x (?P<thing>.*)",
    "{n} x {thing}": r"(?P<n>\d+) x (?P<thing>.*)",
    "{n} {thing}": r"(?P<n>\d+) (?P<thing>.*)",
    "{thing} ({n})": r"(?P<thing>.*) \((?P<n>\d+)\)",
    "{thing} x{n}": r"(?P<thing>.*) x(?P<n>\d+)",
    "{thing}: {n}": r"(?P<thing>.*): (?P<n>\d+)",
    "{thing}={n}": r"(?P<thing>.*)=(?P<n>\d+)",
}
"""How amounts are written, and a plain reader's way of reading them."""


def sales(form: str, between: str, seed: int = 1) -> list[list[Any]]:
    rng = random.Random(seed)
    things = [t for t in THINGS if not (t[0].isdigit() and form.startswith("{n}"))]
    out: list[list[Any]] = [["Sale", "Day", "Items"]]
    for i in range(60):
        some = rng.sample(things, rng.randint(0, 3))
        cell = between.join(form.format(n=rng.randint(1, 12), thing=t) for t in some)
        out.append([f"A{i:03}", f"2040-03-{i % 28 + 1:02}", cell])
    return out


@pytest.mark.parametrize("form", WRITTEN)
def test_amounts_in_a_list_are_numbers_beside_what_they_are_of(
    db: Target, tmp_path: Path, kerfmark: Runner, form: str
) -> None:
    rows = sales(form, "; ")
    path = file_of(tmp_path, "sales.csv", rows)
    kerfmark("cut", path.name, "--into", db.url)
    expected = []
    for number, _, cell in rows[1:]:
        for place, part in enumerate(cell.split("; ") if cell else [], 1):
            found = re.fullmatch(WRITTEN[form], part)
            assert found is not None
            expected.append((number, place, part, int(found["n"]), found["thing"]))
    assert (
        db.ask(
            "SELECT s.sale, i.position_no, i.as_written, i.amount, i.item FROM item i "
            "JOIN sale s USING (sale_id)"
        )
        == expected
    )
    assert kerfmark("prove", db.url).code == 0


LATER = {"A100": "3x pears; 2x quinces", "A101": "", "A102": "1x figs"}


def test_later_amounts_are_added_taken_back_and_refused_where_there_are_none(
    db: Target, tmp_path: Path, kerfmark: Runner
) -> None:
    path = file_of(tmp_path, "sales.csv", sales("{n}x {thing}", "; "))
    kerfmark("cut", path.name, "--into", db.url)
    asked = "SELECT as_written, amount, item FROM item"
    before = db.ask(asked)
    head = ["Sale", "Day", "Items"]
    more = file_of(tmp_path, "more.csv", [head, *([k, "2040-05-01", v] for k, v in LATER.items())])
    assert kerfmark("add", more.name, "--into", db.url).code == 0
    added = [("3x pears", 3, "pears"), ("2x quinces", 2, "quinces"), ("1x figs", 1, "figs")]
    assert db.ask(asked) == [*before, *added]
    assert kerfmark("prove", db.url).code == 0
    assert kerfmark("undo", db.url).code == 0
    assert db.ask(asked) == before
    wrong = file_of(tmp_path, "wrong.csv", [head, ["A200", "2040-05-01", "3x pears; a few figs"]])
    refused = kerfmark("add", wrong.name, "--into", db.url, code=1)
    assert refused.code == 1 and "row 2" in refused.err and "amount" in refused.err
    assert db.ask(asked) == before


def test_a_list_of_amounts_is_kept_whole_on_wish(tmp_path: Path) -> None:
    path = file_of(tmp_path, "sales.csv", sales("{n}x {thing}", "; "))
    assert "Items" in tables(path, no_table=(("Items",),))["sale"]


@pytest.mark.parametrize(
    ("said", "between"), [("", "; "), (";", "; "), (";", ";"), ("+", "+"), ("", " | ")]
)
def test_a_column_is_a_list_on_wish(tmp_path: Path, said: str, between: str) -> None:
    rows = [["No", "Who"], *([i, between.join([f"A{i}", f"B{i}"][: i % 3])] for i in range(12))]
    path = file_of(tmp_path, "visits.csv", rows)
    assert tables(path) == {"visit": {"No", "Who"}}  # no part is there twice
    found = tables(path, lists=(("Who", said),))
    assert found["visit"] == {"No"} and found["who"] == {"Who"}
    layout, _ = read_layout(path.with_suffix(".layout.toml"))
    assert layout.tables["who"].columns["name"].split == between


def test_what_is_no_list_is_refused_as_one(tmp_path: Path) -> None:
    path = file_of(tmp_path, "visits.csv", [["No", "Who"], [1, "Ada"], [2, "Bo"]])
    with pytest.raises(UsageError, match='no cell of "Who" holds several values separated by ";"'):
        mark([path], steering=Steering(lists=(("Who", ";"),)))
    with pytest.raises(UsageError, match='no cell of "Who" holds several values'):
        mark([path], steering=Steering(lists=(("Who", ""),)))


# ------------------------------------------------------------------------ trees of codes


def tree(mark: str) -> list[list[Any]]:
    out: list[list[Any]] = [["Code", "Title"]]
    for a in range(1, 5):
        out.append([f"{a}", f"Topic {a}"])
        for b in range(1, 4):
            out.append([f"{a}{mark}{b}", f"Part {a}{b}"])
            out += [[f"{a}{mark}{b}{mark}{c}", f"Item {a}{b}{c}"] for c in (1, 2)]
    return out


@pytest.mark.parametrize("mark_", [".", "-", "/"])
def test_a_tree_of_codes_is_told_and_gets_the_code_above_on_wish(
    tmp_path: Path, kerfmark: Runner, mark_: str
) -> None:
    rows = tree(mark_)
    path = file_of(tmp_path, "topics.csv", rows)
    assert "36 of 40 begin with another one" in told(path) and '--tree "Code"' in told(path)
    assert kerfmark("cut", path.name, "--into", "a.db", "--tree", "Code").code == 0
    with sqlite3.connect(tmp_path / "a.db") as db:
        found = dict(db.execute("SELECT code, coalesce(code_above, '') FROM topic"))
    assert found == {code: mark_.join(code.split(mark_)[:-1]) for code, _ in rows[1:]}
    assert kerfmark("prove", "a.db").code == 0


@pytest.mark.parametrize(
    "codes",
    [
        [f"2040-{m:02}" for m in range(1, 13)],  # years are no codes of these
        [f"{i}.5" for i in range(1, 20)],
        [f"A-{i}" for i in range(1, 20)],
        ["1", "1.1", "1.2", "1.3", "2", "3", "4", "5"],  # one code alone has some below it
    ],
)
def test_what_is_no_tree_is_not_called_one(tmp_path: Path, codes: list[str]) -> None:
    path = file_of(tmp_path, "t.csv", [["Code", "Title"], *([c, f"T {c}"] for c in codes)])
    assert "tree" not in told(path)


def test_what_can_be_no_tree_is_refused_as_one(tmp_path: Path) -> None:
    path = file_of(tmp_path, "t.csv", [["Code", "Title"], ["1", "a"], ["2", "b"]])
    with pytest.raises(UsageError, match='the codes in "Code" do not form a tree'):
        mark([path], steering=Steering(trees=("Code",)))


# -------------------------------------------------------------- attributes and their values


def attributes(kinds: int = 4) -> list[list[Any]]:
    rng = random.Random(3)
    out: list[list[Any]] = [["Hive", "Attribute", "Value"]]
    for i in range(1, 31):
        said = [
            ["Born", f"20{rng.randint(10, 24)}-0{rng.randint(1, 9)}-1{rng.randint(0, 9)}"],
            ["Weight", f"{rng.randint(100, 900) / 10}"],
            ["Colour", rng.choice(["white", "blue", "yellow"])],
            ["Frames", str(rng.randint(5, 12))],
        ]
        out += [[f"H{i:03}", *one] for one in said[:kinds]]
    return out


def test_values_of_attributes_decide_nothing_and_are_told(tmp_path: Path) -> None:
    path = file_of(tmp_path, "facts.csv", attributes())
    assert tables(path) == {"fact": {"Hive", "Attribute", "Value"}}
    assert "Born: dates, Weight: numbers, Colour: texts" in told(path)
    with_table = tables(path, known_by=(("Attribute",),))
    assert with_table["attribute"] == {"Attribute"} and "-> attribute" in with_table["fact"]
    assert "Born: dates" not in told(path, known_by=(("Attribute",),))


def test_a_kind_and_a_text_are_no_attribute_and_value(tmp_path: Path) -> None:
    rng = random.Random(4)
    kinds = {f"T{i}": rng.choice(["wood", "straw"]) for i in range(12)}
    rows = [[i, kinds[t], t] for i in range(90) for t in [rng.choice([*kinds])]]
    path = file_of(tmp_path, "visits.csv", [["No", "Kind", "Type"], *rows])
    assert "names what" not in told(path)
    assert tables(path)["type"] == {"Kind", "Type"}


# ------------------------------------------------------------------- keys of the rows


def test_a_key_that_a_duplicate_hides_is_told_with_its_rows(tmp_path: Path) -> None:
    rows = [[f"K{i:03}", f"Name {i * 7 % 50}"] for i in range(1, 81)]
    path = file_of(tmp_path, "m.csv", [["Member id", "Name"], *rows, ["K017", "Other"]])
    assert 'Member id: tells rows apart but for 1 value: "K017" (rows 18 and 82)' in told(path)
    fine = file_of(tmp_path, "n.csv", [["Member id", "Name"], *rows])  # as it says
    assert "tells rows apart" not in told(fine)
    assert tables(fine) == {"n": {"Member id", "Name"}}
    layout, _ = read_layout(fine.with_suffix(".layout.toml"))
    assert layout.tables["n"].known_by == ("member_id",)
    many = [["K017", "Other"]] * 3 + [["K018", "Other"]] * 3
    path = file_of(tmp_path, "o.csv", [["Member id", "Name"], *rows, *many])
    assert "tells rows apart" not in told(path)


def test_columns_that_tell_all_rows_apart_are_their_key_on_wish(tmp_path: Path) -> None:
    path = file_of(tmp_path, "facts.csv", attributes())
    assert tables(path, known_by=(("Hive", "Attribute"),)) == {
        "fact": {"Hive", "Attribute", "Value"}
    }
    layout, _ = read_layout(path.with_suffix(".layout.toml"))
    assert layout.tables["fact"].known_by == ("hive", "attribute")
    found = tables(path, known_by=(("Hive", "Attribute"), ("Hive",)))
    assert found == {"fact": {"Attribute", "Value", "-> hive"}, "hive": {"Hive"}}
    layout, _ = read_layout(path.with_suffix(".layout.toml"))
    assert layout.tables["fact"].known_by == ("hive_id", "attribute")
    one = file_of(tmp_path, "topics.csv", tree("."))
    assert tables(one, known_by=(("Title",),)) == {"topic": {"Code", "Title"}}
    layout, _ = read_layout(one.with_suffix(".layout.toml"))
    assert layout.tables["topic"].known_by == ("title",)


# ----------------------------------------------------------- repeated columns and two ends


@pytest.mark.parametrize(
    ("headers", "what", "in_words"),
    [
        (["2040 Jan", "2040 Feb", "2041 Jan"], "month", ["2040-01", "2040-02", "2041-01"]),
        (["Jan-40", "Feb-40", "Mar-40"], "month", ["2040-01", "2040-02", "2040-03"]),
        (["2040-01", "2040-02", "2040-03"], "month", ["2040-01", "2040-02", "2040-03"]),
        (["12/2040", "01/2041", "02/2041"], "month", ["2040-12", "2041-01", "2041-02"]),
        (["Q1 2040", "Q2 2040", "Q4 2040"], "quarter", ["2040-Q1", "2040-Q2", "2040-Q4"]),
        (["2040 Q1", "2040 Q2", "2040 Q3"], "quarter", ["2040-Q1", "2040-Q2", "2040-Q3"]),
        (["2040-01-06", "2040-01-13", "2040-02-03"], "day", ["2040-01-06", "2040-01-13", "2040-02-03"]),
        (["6.1.2040", "13.1.2040", "3.2.2040"], "day", ["2040-01-06", "2040-01-13", "2040-02-03"]),
        (["2035", "2040", "2045"], "year", ["2035", "2040", "2045"]),
    ],
)  # fmt: skip
def test_columns_of_months_quarters_and_days_are_records(
    tmp_path: Path, headers: list[str], what: str, in_words: list[str]
) -> None:
    rng = random.Random(2)
    rows = [[f"Pupil {i}", *(rng.randint(0, 9) for _ in headers)] for i in range(9)]
    path = file_of(tmp_path, "marks.csv", [["Pupil", *headers], *rows])
    assert len(tables(path)) == 2
    layout, _ = read_layout(path.with_suffix(".layout.toml"))
    [part] = [t for t in layout.tables.values() if t.part_of]
    [telling] = [n for n, c in part.columns.items() if c.told]
    assert (telling, list(part.columns[telling].told)) == (what, in_words)


@given(st.dates().filter(lambda d: 1900 <= d.year <= 2099))
def test_dates_in_headers_are_read_one_way(when: Any) -> None:
    forms = ("%Y-%m-%d", "%d.%m.%Y", "Seen %Y-%m-%d 00:00:00")
    for form in forms:
        slot = parse_repeat(when.strftime(form))
        assert slot is not None and (slot.what, slot.told) == ("date", when.isoformat())


def ends(rng: random.Random, blank: bool = False) -> list[list[Any]]:
    sites = ["Oak", "Elm", "Ash", "Fir", "Yew", "Bay", "Box"]
    out: list[list[Any]] = [["Site 1", "Site 2", "Km"]]
    for _ in range(40):
        one, other = rng.sample(sites, 2)
        out.append([one, "" if blank and rng.random() < 0.4 else other, rng.randint(1, 99)])
    return out


def test_two_ends_stay_two_columns_and_are_told(tmp_path: Path) -> None:
    path = file_of(tmp_path, "ways.csv", ends(random.Random(1)))
    assert tables(path) == {"way": {"Site 1", "Site 2", "Km"}}
    assert '--repeated "Site 1,Site 2"' in told(path)
    assert '--same-as "Site 1=Site 2"' in told(path)
    as_parts = tables(path, repeated=(("Site 1", "Site 2"),))
    assert as_parts == {"way": {"Km"}, "site": {"Site 1", "Site 2", "-> way"}}
    assert tables(path, same_as=(("Site 1", "Site 2"),)) == {
        "way": {"Km", "-> site"},
        "site": {"Site 1"},
    }
    layout, _ = read_layout(path.with_suffix(".layout.toml"))
    assert [*layout.tables["way"].links] == ["site_1_id", "site_2_id"]


def test_what_is_there_up_to_twice_is_repeated(tmp_path: Path) -> None:
    path = file_of(tmp_path, "ways.csv", ends(random.Random(1), blank=True))
    assert {"Site 1", "Site 2"} <= tables(path)["site"]
    assert tables(path, no_table=(("Site 1", "Site 2"),)) == {"way": {"Site 1", "Site 2", "Km"}}


def test_columns_that_are_called_otherwise_repeat_on_wish(tmp_path: Path) -> None:
    rows = [[i, i % 4, i % 3, i % 5] for i in range(20)]
    path = file_of(tmp_path, "counts.csv", [["No", "Morning", "Noon", "Night"], *rows])
    found = tables(path, repeated=(("Morning", "Noon", "Night"),))
    assert found["count_column"] >= {"Morning", "Noon", "Night"}
    layout, _ = read_layout(path.with_suffix(".layout.toml"))
    told_ = [c.told for c in layout.tables["count_column"].columns.values() if c.told]
    assert told_ == [("Morning", "Noon", "Night")]
