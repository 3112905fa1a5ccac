"""Links by two columns of which one is a link itself, and two roles of one stock, on every engine:
built, added to, proven, taken back."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from conftest import Runner
from engines import Target

Write = Callable[..., Path]

KEEPERS = "code,name\nR1,Ann\nR2,Ben\nR3,Cid\n"
HIVES = "keeper,no,kind\nR1,1,wood\nR1,2,straw\nR2,1,cork\n"
VISITS = "day,keeper,hive no,kg\n1,R1,1,5\n2,R1,2,6\n3,R2,1,7\n4,R3,9,8\n5,R9,1,9\n6,,,10\n"
LATER = "day,keeper,hive no,kg\n7,R1,1,5\n8,R9,1,6\n9,R2,2,7\n10,R8,4,1\n"
BY_BOTH = """
kerfmark = 1
[sources.keepers]
file = "keepers.csv"
[sources.hives]
file = "hives.csv"
[sources.visits]
file = "visits.csv"

[tables.keeper]
source = "keepers"
each_row = true
known_by = ["code"]
optional = ["name"]
columns = {code = "code", name = "name"}

[tables.hive]
source = "hives"
each_row = true
known_by = ["keeper_id", "no"]
optional = ["kind"]
links = {keeper_id = {to = "keeper", by = {code = "keeper"}}}
columns = {no = {header = "no", type = "integer"}, kind = "kind"}

[tables.visit]
source = "visits"
each_row = true
known_by = ["day"]
optional = ["hive_id"]
links = {hive_id = {to = "hive", by = {no = "hive no", "keeper_id.code" = "keeper"}}}
[tables.visit.columns]
day = {header = "day", type = "integer"}
kg = {header = "kg", type = "integer"}
"""
VISITED = (
    "SELECT v.day, k.code, h.no, h.kind FROM visit v LEFT JOIN hive h USING (hive_id) "
    "LEFT JOIN keeper k USING (keeper_id) ORDER BY v.day"
)
FIRST = [
    (1, "R1", 1, "wood"),
    (2, "R1", 2, "straw"),
    (3, "R2", 1, "cork"),
    (4, "R3", 9, None),
    (5, "R9", 1, None),
    (6, None, None, None),
]


def test_a_number_within_a_thing_is_found_by_both(
    db: Target, write: Write, kerfmark: Runner
) -> None:
    write("keepers.csv", KEEPERS)
    write("hives.csv", HIVES)
    write("visits.csv", VISITS)
    write("l.toml", BY_BOTH)
    kerfmark("cut", "l.toml", "--into", str(db))
    assert kerfmark("prove", str(db)).code == 0
    assert db.ask(VISITED) == FIRST
    assert db.ask("SELECT count(*) FROM hive") == [5]

    write("visits-2.csv", LATER)
    kerfmark("add", "visits-2.csv", "--into", str(db))
    assert kerfmark("prove", str(db)).code == 0
    assert db.ask(VISITED) == [
        *FIRST,
        (7, "R1", 1, "wood"),
        (8, "R9", 1, None),
        (9, "R2", 2, None),
        (10, "R8", 4, None),
    ]
    assert db.ask("SELECT count(*) FROM keeper") == [5]

    write("hives-2.csv", "keeper,no,kind\nR9,1,straw\nR8,4,wood\n")
    told = kerfmark("add", "hives-2.csv", "--into", str(db), "--known", "fill")
    assert "hive" in told.out and kerfmark("prove", str(db)).code == 0
    assert db.ask("SELECT count(*) FROM hive WHERE kind IS NULL") == [2]

    kerfmark("undo", str(db))
    kerfmark("undo", str(db))
    assert db.ask(VISITED) == FIRST
    assert db.ask("SELECT count(*) FROM keeper") == [4]
    assert kerfmark("prove", str(db)).code == 0


def test_a_way_to_the_key_of_a_link_must_be_how_that_link_is_found(
    write: Write, kerfmark: Runner
) -> None:
    for name, text in (("keepers", KEEPERS), ("hives", HIVES), ("visits", VISITS)):
        write(f"{name}.csv", text)
    for said, told in (
        ('"keeper_id.name" = "keeper"', '"keeper_id" is found by code itself'),
        ('"keeper_id.cod" = "keeper"', 'has no column "keeper_id.cod"'),
        ('"kind" = "keeper"', 'is not what the table "hive" is known_by'),
    ):
        write("l.toml", BY_BOTH.replace('"keeper_id.code" = "keeper"', said))
        assert told in kerfmark("check", "l.toml", code=2).err
    loose = BY_BOTH.replace(
        '"keeper_id.code" = "keeper"}', '"keeper_id.code" = "keeper"}, loose = true'
    )
    write("l.toml", loose)
    assert "loose and missing need columns" in kerfmark("check", "l.toml", code=2).err


DEALS = (
    "deal,buyer,buyer name,buyer town,seller,seller name,seller town\n"
    "1,P1,Ann,Weir,P2,Ben,Mill\n2,P2,Ben,Mill,P3,Cid,Ford\n3,P1,Ann,Weir,P3,Cid,Ford\n"
    "4,P4,Dot,Weir,P1,Ann,Weir\n5,,,,P5,Eve,Mill\n"
)
MORE = (
    "deal,buyer,buyer name,buyer town,seller,seller name,seller town\n"
    "6,P5,Eve,Mill,P6,Fay,Mill\n7,P7,Gus,Mill,P6,Fay,Mill\n"
)
ROLES = """
kerfmark = 1
[sources.deals]
file = "deals.csv"
[tables.deal]
source = "deals"
each_row = true
known_by = ["deal"]
optional = ["buyer_id"]
[tables.deal.links]
buyer_id = "person"
seller_id = {to = "person", by = {code = "seller"}, repeats = {name = "seller name", town = "seller town"}}
[tables.deal.columns]
deal = {header = "deal", type = "integer"}
[tables.person]
source = "deals"
known_by = ["code"]
columns = {code = "buyer", name = "buyer name", town = "buyer town"}
"""
PEOPLE = [("P1", "Ann"), ("P2", "Ben"), ("P3", "Cid"), ("P4", "Dot"), ("P5", "Eve")]


def test_two_roles_of_one_stock(db: Target, write: Write, kerfmark: Runner) -> None:
    write("deals.csv", DEALS)
    write("l.toml", ROLES)
    kerfmark("cut", "l.toml", "--into", str(db))
    assert kerfmark("prove", str(db)).code == 0
    assert db.ask("SELECT code, name FROM person ORDER BY code") == PEOPLE
    sold = (
        "SELECT b.name, s.name FROM deal d LEFT JOIN person b ON b.person_id = d.buyer_id "
        "JOIN person s ON s.person_id = d.seller_id ORDER BY d.deal"
    )
    first = [("Ann", "Ben"), ("Ben", "Cid"), ("Ann", "Cid"), ("Dot", "Ann"), (None, "Eve")]
    assert db.ask(sold) == first

    write("deals-2.csv", MORE)
    kerfmark("add", "deals-2.csv", "--into", str(db))
    assert kerfmark("prove", str(db)).code == 0
    assert db.ask(sold) == [*first, ("Eve", "Fay"), ("Gus", "Fay")]
    kerfmark("undo", str(db))
    assert db.ask("SELECT code, name FROM person ORDER BY code") == PEOPLE

    write("deals-3.csv", MORE.replace("P6,Fay,Mill\n7", "P1,Nan,Weir\n7"))
    told = kerfmark("add", "deals-3.csv", "--into", str(db), code=1).err
    assert 'row 2, column "seller name": differs from the database, where this person has' in told


NAMED = """
kerfmark = 1
[sources.districts]
file = "districts.csv"
[sources.keepers]
file = "keepers.csv"
[sources.visits]
file = "visits.csv"

[tables.district]
source = "districts"
each_row = true
known_by = ["district"]
optional = ["land"]
columns = {district = "district", land = "land"}

[tables.keeper]
source = "keepers"
each_row = true
known_by = ["keeper"]
columns = {keeper = "keeper"}
links = {home_id = {to = "district", by = {district = "home"}}}

[tables.visit]
source = "visits"
each_row = true
known_by = ["no"]
columns = {no = {header = "no", type = "integer"}}
links = {district_id = {to = "district", by = {district = "district"}, repeats = {land = "land"}}}
"""


def test_what_one_source_leaves_unsaid_of_a_record_another_one_says(
    db: Target, write: Write, kerfmark: Runner
) -> None:
    write("districts.csv", "district,land\nWeir,North\n")
    write("keepers.csv", "keeper,home\nAnn,Dale\nBen,Weir\n")
    write("visits.csv", "no,district,land\n1,Dale,East\n2,Weir,North\n3,Holm,\n")
    write("l.toml", NAMED)
    kerfmark("cut", "l.toml", "--into", str(db))
    lands = "SELECT district, land FROM district ORDER BY district_id"
    first = [("Weir", "North"), ("Dale", "East"), ("Holm", None)]
    assert db.ask(lands) == first
    assert kerfmark("prove", str(db)).code == 0

    # what the database has, and what is new, in one load
    write("keepers-2.csv", "keeper,home\nCid,Dale\nDot,Mill\nEve,Ford\n")
    write("visits-2.csv", "no,district,land\n4,Dale,East\n5,Mill,South\n6,Mill,South\n")
    kerfmark("add", "keepers-2.csv", "visits-2.csv", "--into", str(db))
    assert db.ask(lands) == [*first, ("Mill", "South"), ("Ford", None)]
    assert kerfmark("prove", str(db)).code == 0
    kerfmark("undo", str(db))
    assert db.ask(lands) == first

    write("visits-3.csv", "no,district,land\n7,Mill,South\n8,Mill,West\n")
    told = kerfmark("add", "keepers-2.csv", "visits-3.csv", "--into", str(db), code=1).err
    assert 'row 3, column "land": differs from district' in told
