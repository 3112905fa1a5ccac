"""What a layout can say beyond one table per thing: links by value, repeated columns, lists in
cells. All is proven."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Runner

Write = Callable[..., Path]

HIVES = "tag,place,mother\nH1,Weir,\nH2,Mill,H3\nH3,Weir,H1\nH4,Ford,H9\n"
PLACES = "name,grid\nWeir,XK 1\nMill,XK 2\n"
LINKED = """\
kerfmark = 1
[sources.hives]
file = "hives.csv"
[sources.places]
file = "places.csv"
[tables.hive]
source = "hives"
each_row = true
known_by = ["tag"]
optional = ["mother_id", "place_id"]
[tables.hive.links]
place_id = { to = "place", by = { name = "place" } }
mother_id = { to = "hive", by = { tag = "mother" } }
[tables.hive.columns]
tag = "tag"
[tables.place]
source = "places"
each_row = true
known_by = ["name"]
optional = ["grid"]
[tables.place.columns]
name = "name"
grid = "grid"
"""


def rows(path: Path, sql: str) -> list[tuple[object, ...]]:
    with sqlite3.connect(path) as db:
        assert db.execute("PRAGMA foreign_key_check").fetchall() == []
        return db.execute(sql).fetchall()


def test_links_by_value_also_to_the_same_table_and_to_what_is_new(
    write: Write, kerfmark: Runner, tmp_path: Path
) -> None:
    write("hives.csv", HIVES)
    write("places.csv", PLACES)
    write("l.toml", LINKED)
    kerfmark("cut", "l.toml", "--into", "l.db")
    assert rows(tmp_path / "l.db", "SELECT * FROM place") == [
        (1, "Weir", "XK 1"),
        (2, "Mill", "XK 2"),
        (3, "Ford", None),
    ]
    assert rows(
        tmp_path / "l.db",
        "SELECT h.tag, m.tag FROM hive h LEFT JOIN hive m ON m.hive_id = h.mother_id",
    ) == [("H1", None), ("H2", "H3"), ("H3", "H1"), ("H4", "H9"), ("H9", None)]
    proofs = {p["source"]: p for p in kerfmark("prove", "l.db", "--json").json["proofs"]}
    assert {n: (p["rows"], p["named"], p["holds"]) for n, p in proofs.items()} == {
        "hives": (4, 1, True),
        "places": (2, 1, True),
    }


def test_what_is_said_twice_must_be_the_same(
    write: Write, kerfmark: Runner, tmp_path: Path
) -> None:
    write("places.csv", PLACES)
    layout = (
        LINKED.replace(
            'by = { name = "place" } }', 'by = { name = "place" }, repeats = { grid = "grid" } }'
        )
        .replace('mother_id = { to = "hive", by = { tag = "mother" } }\n', "")
        .replace('"mother_id", ', "")
    )
    write("l.toml", layout)
    write("hives.csv", "tag,place,grid\nH1,Weir,XK 1\nH2,Mill,XK 2\nH3,Ford,XK 3\n")
    kerfmark("cut", "l.toml", "--into", "l.db")
    assert kerfmark("prove", "l.db", "--json").json["holds"]
    assert rows(tmp_path / "l.db", "SELECT grid FROM place") == [("XK 1",), ("XK 2",), ("XK 3",)]
    write("hives.csv", "tag,place,grid\nH1,Weir,XK 1\nH2,Mill,XK 9\n")
    told = kerfmark("cut", "l.toml", "--into", "m.db", code=1).err
    assert (
        'row 3, column "grid": differs from place, which has another value for the same place'
        in told
    )


GROUPS = """\
kerfmark = 1
[sources.visits]
file = "visits.csv"
[tables.visit]
source = "visits"
each_row = true
known_by = ["no"]
[tables.visit.columns]
no = { header = "no", type = "integer" }
[tables.count]
source = "visits"
part_of = "visit"
known_by = ["visit_id", "nth"]
optional = ["note"]
[tables.count.links]
visit_id = "visit"
[tables.count.columns]
nth = { told = ["1", "2", "3"], type = "integer" }
mites = { headers = ["Mites 1", "Mites 2", "Mites 3"], type = "integer" }
note = { headers = ["Note 1", "Note 2", "Note 3"] }
[tables.treatment]
source = "visits"
known_by = ["name"]
[tables.treatment.columns]
name = { header = "given", split = "; " }
[tables.visit_treatment]
source = "visits"
part_of = "visit"
known_by = ["visit_id", "nth"]
[tables.visit_treatment.links]
visit_id = "visit"
treatment_id = { to = "treatment", by = { name = "given" } }
[tables.visit_treatment.columns]
nth = { position = true }
"""
VISITS = (
    "no,Mites 1,Note 1,Mites 2,Note 2,Mites 3,Note 3,given\n7,3,,4,few,,,thymol; "
    "sugar\n8,,,,,,,\n9,0,,,,5,late,sugar\n"
    "10,1,,,,,,sugar; thymol; sugar\n"
)


def test_repeated_columns_and_lists_become_records_and_come_back(
    write: Write, kerfmark: Runner, tmp_path: Path
) -> None:
    write("visits.csv", VISITS)
    write("g.toml", GROUPS)
    kerfmark("cut", "g.toml", "--into", "g.db")
    assert rows(tmp_path / "g.db", "SELECT visit_id, nth, mites, note FROM count") == [
        (1, 1, 3, None),
        (1, 2, 4, "few"),
        (3, 1, 0, None),
        (3, 3, 5, "late"),
        (4, 1, 1, None),
    ]
    assert rows(tmp_path / "g.db", "SELECT name FROM treatment") == [("thymol",), ("sugar",)]
    assert rows(tmp_path / "g.db", "SELECT visit_id, nth, treatment_id FROM visit_treatment") == [
        (1, 1, 1),
        (1, 2, 2),
        (3, 1, 2),
        (4, 1, 2),
        (4, 2, 1),
        (4, 3, 2),
    ]
    assert kerfmark("prove", "g.db", "--json").json["holds"]
    with sqlite3.connect(tmp_path / "g.db") as db:
        db.execute("UPDATE count SET mites = 6 WHERE count_id = 4")
    assert "Mites 3" in kerfmark("prove", "g.db", code=1).out


def test_what_is_computed_from_parts(write: Write, kerfmark: Runner, tmp_path: Path) -> None:
    write("visits.csv", VISITS)
    place = "nth = { position = true }"
    write("g.toml", GROUPS.replace(place, f'{place}\nsize = {{ derived = "length([given])" }}'))
    kerfmark("cut", "g.toml", "--into", "g.db")
    assert rows(tmp_path / "g.db", "SELECT visit_id, nth, size FROM visit_treatment") == [
        *((1, 1, 6), (1, 2, 5), (3, 1, 5), (4, 1, 5), (4, 2, 6), (4, 3, 5))
    ]
    assert kerfmark("prove", "g.db", "--json").json["holds"]
    small = 'size = { derived = "length([given]) * 100", type = "decimal(2,0)" }'
    write("g.toml", GROUPS.replace(place, f"{place}\n{small}"))
    told = kerfmark("cut", "g.toml", "--into", "h.db", code=1).err
    assert (
        "rows 2, 4, 5" in told
        and 'column "given": what size is derived from it does not fit' in told
    )


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        (
            'part_of = "visit"\nknown_by = ["visit_id", "nth"]\noptional',
            'part_of = "vist"\nknown_by = ["visit_id", "nth"]\noptional',
            'did you mean "visit"',
        ),
        ('"Mites 2", "Mites 3"]', '"Mites 2"]', "same number of headers"),
        (
            "nth = { position = true }",
            'nth = { position = true, header = "x" }',
            "one of header, headers, told, position and derived",
        ),
        (
            'by = { name = "given" }',
            'by = { nam = "given" }',
            'has no column "nam"; did you mean "name"',
        ),
        (
            'no = { header = "no", type = "integer" }',
            'no = { header = "no", splt = ";" }',
            'did you mean "split"',
        ),
        (
            "nth = { position = true }",
            'nth = { position = true }\nsize = { derived = "length([given] & [no])" }',
            "it can name only the column that is split",
        ),
        (
            'note = { headers = ["Note 1", "Note 2", "Note 3"] }',
            'note = { headers = ["Note 1", "Note 2", "Note 3"] }\n'
            'size = { derived = "length([given])" }',
            "only a table of the parts of a cell can have such a column",
        ),
        (
            "nth = { position = true }",
            """nth = { position = true }\nsize = { derived = "before([given], '')" }""",
            "this must be a text: the one before or after the part",
        ),
    ],
)
def test_mistakes_in_such_layouts_are_told(
    write: Write, kerfmark: Runner, old: str, new: str, said: str
) -> None:
    write("visits.csv", VISITS)
    assert old in GROUPS
    write("g.toml", GROUPS.replace(old, new))
    assert said in kerfmark("cut", "g.toml", "--into", "g.db", code=2).err
