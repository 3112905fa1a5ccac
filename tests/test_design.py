"""Small data sets, each with the tables that a good designer would make of it."""

from __future__ import annotations

import csv
import random
import sqlite3
from pathlib import Path
from typing import Any

import openpyxl
import pytest

from kerfmark import Steering, cut, mark, prove
from kerfmark.layout.text import read_layout
from rough_cases import rough_case

Rows = list[list[Any]]
Files = dict[str, Rows]
Design = dict[str, tuple[set[str], set[str]]]
"""Per table its headers, and the tables that it links to."""

NAMES = ["Ada", "Bo", "Cleo", "Dan", "Eva", "Fay", "Gus", "Hal", "Ida", "Jon", "Kai", "Lea"]
TOWNS = ["Weir", "Mill", "Ford", "Heath", "Quay", "Lane"]


def write(files: Files, folder: Path, book: bool = False) -> list[str]:
    """Files of delimited text, or sheets of a workbook."""
    if book:
        made = openpyxl.Workbook()
        made.remove(made.active)
        for name, rows in files.items():
            sheet = made.create_sheet(name)
            for row in rows:
                sheet.append([None if c == "" else c for c in row])
        made.save(folder / "book.xlsx")
        return [str(folder / "book.xlsx")]
    for name, rows in files.items():
        with (folder / f"{name}.csv").open("w", newline="") as file:
            csv.writer(file, lineterminator="\n").writerows(rows)
    return [str(folder / f"{name}.csv") for name in files]


def designed(files: Files, folder: Path, *, book: bool = False, **said: Any) -> Design:
    """What is built of files: proven, and by a layout that says the same again."""
    inputs = write(files, folder, book)
    cut(inputs, folder / "a.db", replace=True, steering=Steering(**said))
    assert prove(folder / "a.db").holds
    layout, _ = read_layout(folder / "a.layout.toml")
    out: Design = {}
    for name, table in layout.tables.items():
        headers = {h for c in table.columns.values() for h in c.sources}
        out[name] = headers, set(table.parents.values())
    return out


def homes(design: Design, header: str) -> set[str]:
    """The tables that hold a header."""
    return {name for name, (headers, _) in design.items() if header in headers}


def rows_in(folder: Path, table: str) -> int:
    with sqlite3.connect(folder / "a.db") as db:
        return int(db.execute(f'SELECT count(*) FROM "{table}"').fetchone()[0])


HIVES = [
    [f"H{i:02}", ["wood", "straw", "cork"][i % 3], f"{i * i % 4}0 l", TOWNS[i * i % 5]]
    for i in range(24)
]


def visits(rng: random.Random, rows: int = 300) -> Rows:
    """Visits with the hive and what it says: a kind, a size and a town."""
    out: Rows = [["day", "hive", "kind", "size", "town", "kg"]]
    for i in range(rows):
        out.append(
            [
                f"2040-{i % 12 + 1:02}-{i % 28 + 1:02}",
                *rng.choice(HIVES),
                rng.randint(100, 999) / 10,
            ]
        )
    return out


def test_what_a_code_decides_is_a_table(tmp_path: Path) -> None:
    assert designed({"visits": visits(random.Random(1))}, tmp_path) == {
        "visit": ({"day", "kg"}, {"hive"}),
        "hive": ({"hive", "kind", "size", "town"}, set()),
    }


def test_rows_that_are_there_twice_are_records_and_no_evidence(tmp_path: Path) -> None:
    rng = random.Random(2)
    rows: Rows = [["sold", "price", "jar", "note"]]
    for i in range(30):
        rows.append(
            [f"2040-03-{i % 28 + 1:02}", rng.randint(300, 900), f"J{rng.randint(0, 9)}", f"n{i}"]
        )
    rows += rows[3:8]
    assert designed({"sales": rows}, tmp_path) == {
        "sale": ({"sold", "price", "jar", "note"}, set())
    }
    assert rows_in(tmp_path, "sale") == 35


def test_a_misspelt_name_beside_a_clean_code_is_an_exception(tmp_path: Path) -> None:
    rng = random.Random(3)
    rows: Rows = [["day", "keeper no", "keeper name", "level", "kg"]]
    for i in range(600):
        k = rng.randrange(12)
        rows.append([f"2040-01-{i % 28 + 1:02}", f"K{k:02}", f"{NAMES[k]} Marlow", k % 3, i % 97])
    for row, name in ((50, "Marlwo"), (150, "Malow"), (400, "Marlowe")):
        rows[row][2] = f"{rows[row][2].split()[0]} {name}"
    found = designed({"visits": rows}, tmp_path)
    assert {"keeper no", "keeper name", "level"} <= found["keeper"][0]
    assert rows_in(tmp_path, "keeper") == 12
    with sqlite3.connect(tmp_path / "a.db") as db:
        usual = {n for (n,) in db.execute("SELECT keeper_name FROM keeper")}
    assert usual == {f"{n} Marlow" for n in NAMES}


def test_buyer_and_seller_are_two_links_to_one_table(tmp_path: Path) -> None:
    rng = random.Random(4)
    people = [[f"P{i:02}", f"{NAMES[i % 12]} {TOWNS[i % 6]} {i}", TOWNS[i % 5]] for i in range(40)]
    rows: Rows = [
        [
            "deal",
            "buyer no",
            "buyer name",
            "buyer town",
            "seller no",
            "seller name",
            "seller town",
            "kg",
        ]
    ]
    for i in range(300):
        one, other = rng.sample(people, 2)
        rows.append([f"D{i:03}", *one, *other, rng.randint(1, 99)])
    found = designed({"deals": rows}, tmp_path)
    assert set(found) == {"deal", "buyer"} or set(found) == {"deal", "seller"}
    layout, _ = read_layout(tmp_path / "a.layout.toml")
    assert len(layout.tables["deal"].links) == 2
    assert rows_in(tmp_path, next(iter(set(found) - {"deal"}))) == 40
    apart = designed({"deals": rows}, tmp_path, apart=(("buyer no", "seller no"),))
    assert set(apart) == {"deal", "buyer", "seller"}


def test_roles_that_disagree_are_two_tables(tmp_path: Path) -> None:
    rng = random.Random(5)
    rows: Rows = [["deal", "buyer no", "buyer name", "seller no", "seller name", "kg"]]
    for i in range(300):
        a, b = rng.sample(range(20), 2)
        rows.append(
            [
                f"D{i:03}",
                f"P{a:02}",
                f"{NAMES[a % 12]} {a}",
                f"P{b:02}",
                f"{TOWNS[b % 6]} {b}",
                i % 83,
            ]
        )
    assert set(designed({"deals": rows}, tmp_path)) == {"deal", "buyer", "seller"}


def test_a_number_within_a_thing_may_be_blank_where_the_thing_is_not(tmp_path: Path) -> None:
    rng = random.Random(6)
    beds = {
        (k, n): [rng.choice(["clay", "sand", "peat"]), rng.randint(10, 99)]
        for k in range(8)
        for n in range(1, 6)
    }
    rows: Rows = [["day", "keeper", "phone", "bed no", "soil", "length", "kg"]]
    for i in range(500):
        (k, n), bed = rng.choice(list(beds.items()))
        some = [n, *bed] if i % 40 else ["", "", ""]
        rows.append(
            [f"2040-02-{i % 28 + 1:02}", NAMES[k], f"0{k}55", *some, rng.randint(100, 999) / 10]
        )
    found = designed({"visits": rows}, tmp_path)
    assert found["visit"] == ({"day", "kg"}, {"keeper", "bed"})
    assert found["bed"] == ({"bed no", "soil", "length"}, {"keeper"})
    assert found["keeper"] == ({"keeper", "phone"}, set())


def test_a_day_and_a_currency_decide_a_rate(tmp_path: Path) -> None:
    rng = random.Random(7)
    rates = {
        (d, c): rng.randint(1000, 9999) / 1000
        for d in range(1, 15)
        for c in ("KRO", "LIR", "DUC", "ZEC")
    }
    rows: Rows = [["sale", "rate day", "currency", "rate", "kg"]]
    for i in range(400):
        (d, c), rate = rng.choice(list(rates.items()))
        rows.append([f"S{i}", f"2040-05-{d:02}", c, rate, rng.randint(1, 400)])
    found = designed({"sales": rows}, tmp_path)
    [rate_table] = homes(found, "rate")
    assert found[rate_table][0] == {"rate day", "currency", "rate"}


def test_the_coarser_key_decides(tmp_path: Path) -> None:
    rng = random.Random(8)
    county = {t: f"{t[:2]}shire" if i % 2 else f"{t[:1]}land" for i, t in enumerate(TOWNS * 2)}
    towns = {f"{t} {n}": (county[t], f"{t[:2]}{n}") for t in TOWNS for n in range(3)}
    products = {f"Honey {n}": n * 7 + 11 for n in range(6)}
    discounts = {(c, p): rng.randint(1, 40) for c in set(county.values()) for p in products}
    rows: Rows = [["order", "town", "postmark", "county", "product", "weight", "discount"]]
    for i in range(700):
        town, (c, mark_) = rng.choice(list(towns.items()))
        product, weight = rng.choice(list(products.items()))
        rows.append([f"O{i}", town, mark_, c, product, weight, discounts[c, product]])
    found = designed({"orders": rows}, tmp_path)
    [table] = homes(found, "discount")
    assert homes(found, "town") == homes(found, "postmark") and "discount" not in found["town"][0]
    assert homes(found, "weight") == homes(found, "product")
    assert rows_in(tmp_path, table) == len(discounts)


@pytest.mark.parametrize(
    "derive",
    [
        lambda score: "high" if score > 70 else "middle" if score > 40 else "low",
        lambda score: score // 10,
    ],
)
def test_classes_of_a_number_stay_with_it(tmp_path: Path, derive: Any) -> None:
    rng = random.Random(9)
    rows: Rows = [["pupil", "score", "grade", "note"]]
    for i in range(400):
        score = rng.randint(1, 99)
        rows.append([f"P{i}", score, derive(score), rng.choice(TOWNS)])
    assert set(designed({"tests": rows}, tmp_path)) == {"test"}
    notes = dict(mark([tmp_path / "tests.csv"]).notes)
    assert notes["grade"] == "is computed from score: it stays in the same table"


@pytest.mark.parametrize("form", ["month", "year", "both", "weekday"])
def test_parts_of_the_calendar_stay_with_their_day(tmp_path: Path, form: str) -> None:
    rng = random.Random(10)
    import datetime as dt

    rows: Rows = [["visit", "seen", *(["month", "year"] if form == "both" else [form]), "kg"]]
    for i in range(400):
        day = dt.date(2040, 1, 1) + dt.timedelta(rng.randrange(900))
        said = {
            "month": [day.strftime("%B")],
            "year": [day.year],
            "both": [f"{day:%Y-%m}", day.year],
            "weekday": [day.strftime("%A")],
        }[form]
        rows.append([f"V{i}", day, *said, rng.randint(1, 99)])
    assert set(designed({"visits": rows}, tmp_path)) == {"visit"}


def test_a_price_that_changes_stays_with_the_row(tmp_path: Path) -> None:
    rng = random.Random(11)
    rows: Rows = [["sold", "jar", "shape", "price", "count"]]
    for i in range(480):
        jar, month = rng.randrange(12), i // 40 + 1
        rows.append(
            [
                f"2040-{month:02}-{i % 28 + 1:02}",
                f"J{jar:02}",
                ["round", "tall"][jar % 2],
                400 + jar * 10 + month * 5,
                i % 7,
            ]
        )
    found = designed({"sales": rows}, tmp_path)
    assert homes(found, "price") == {"sale"} and homes(found, "shape") == {"jar"}
    notes = dict(mark([tmp_path / "sales.csv"]).notes)
    assert notes["price"].startswith("changes over time beside jar: 136 stretches of sold for 12")
    assert "count" not in notes
    history = designed({"sales": rows}, tmp_path, known_by=(("jar", "price"),))
    assert homes(history, "price") & {"price", "jar_price"}


def test_a_thing_that_most_rows_do_without_is_a_table(tmp_path: Path) -> None:
    rng = random.Random(12)
    gifts = [[f"A{i:02}", f"Comb {i}", i % 4] for i in range(15)]
    rows: Rows = [["order", "gift no", "gift name", "gift size", "kg"]]
    for i in range(500):
        rows.append(
            [f"O{i}", *(rng.choice(gifts) if i % 5 < 2 else ["", "", ""]), rng.randint(1, 99)]
        )
    found = designed({"orders": rows}, tmp_path)
    assert found["gift"][0] == {"gift no", "gift name", "gift size"}


def test_codes_of_digits_within_each_other_are_no_link(tmp_path: Path) -> None:
    rng = random.Random(13)
    one: Rows = [["visit", "crate code", "kg"]]
    one += [[f"V{i}", f"{rng.randrange(40):04}", rng.randint(1, 99)] for i in range(200)]
    other: Rows = [["shelf code", "shelf width", "wood"]]
    other += [[f"{i:04}", rng.randint(10, 99), TOWNS[i % 6]] for i in range(60)]
    found = designed({"visits": one, "shelves": other}, tmp_path)
    assert all(not links for _, links in found.values())


def test_a_first_column_of_titles_is_no_key(tmp_path: Path) -> None:
    rows: Rows = [["caption", "frames", "kg"]]
    rows += [[f"Swarm of the {i}th morning", i % 9, i % 31] for i in range(1, 120)]
    designed({"swarms": rows}, tmp_path)
    layout, _ = read_layout(tmp_path / "a.layout.toml")
    assert layout.tables["swarm"].known_by == () and not layout.tables["swarm"].unique


def test_what_is_called_like_the_id_of_the_rows_is_their_key(tmp_path: Path) -> None:
    """Though a code of something else, which is in one row each, comes before it."""
    rows = [[f"H{i:03}", 700 + i, f"Swarm {i}"] for i in range(40)]
    found = designed({"swarms": [["hive code", "swarm_id", "label"], *rows]}, tmp_path)
    assert found == {"swarm": ({"hive code", "swarm_id", "label"}, set())}
    layout, _ = read_layout(tmp_path / "a.layout.toml")
    assert layout.tables["swarm"].key == ("swarm_id",)


@pytest.mark.parametrize(("rows", "is_key"), [(19, False), (20, True)])
def test_a_header_that_says_nothing_makes_no_key_of_few_rows(
    tmp_path: Path, rows: int, is_key: bool
) -> None:
    table: Rows = [["n", "mood"], *([f"x{i}", TOWNS[i % 3]] for i in range(rows))]
    designed({"visits": table}, tmp_path)
    layout, _ = read_layout(tmp_path / "a.layout.toml")
    assert layout.tables["visit"].known_by == (("n",) if is_key else ())


KEEPERS: Rows = [["keeper no", "keeper name", "town"]] + [
    [f"K{i:02}", f"{NAMES[i % 12]} {i}", TOWNS[i % 6]] for i in range(30)
]


def hives_of(rng: random.Random, rows: int = 80) -> Rows:
    out: Rows = [["hive no", "keeper no", "kind"]]
    for i in range(rows):
        out.append([f"H{i:03}", f"K{rng.randrange(30):02}", rng.choice(["wood", "straw"])])
    return out


@pytest.mark.parametrize("turned", [False, True])
@pytest.mark.parametrize("book", [False, True])
def test_what_a_sheet_repeats_of_its_parent_lives_in_the_parent(
    tmp_path: Path, turned: bool, book: bool
) -> None:
    rng = random.Random(14)
    by_no = {r[0]: r for r in KEEPERS[1:]}
    hives = hives_of(rng)
    hives = [[*hives[0], "keeper name"], *([*r, by_no[r[1]][1]] for r in hives[1:])]
    files = {"keepers": KEEPERS, "hives": hives}
    files = dict(reversed(files.items())) if turned else files
    assert designed(files, tmp_path, book=book) == {
        "keeper": ({"keeper no", "keeper name", "town"}, set()),
        "hive": ({"hive no", "kind"}, {"keeper"}),
    }


def test_one_code_without_a_parent_does_not_hide_the_link(tmp_path: Path) -> None:
    rng = random.Random(15)
    hives = hives_of(rng, 600)
    hives[77][1] = "K99"
    found = designed({"keepers": KEEPERS, "hives": hives}, tmp_path)
    assert found["hive"] == ({"hive no", "kind"}, {"keeper"})
    assert rows_in(tmp_path, "keeper") == 31


def test_one_row_of_a_register_that_is_there_twice_does_not_hide_its_key(tmp_path: Path) -> None:
    rng = random.Random(16)
    keepers = [*KEEPERS, KEEPERS[7]]
    found = designed({"keepers": keepers, "hives": hives_of(rng)}, tmp_path)
    assert found["hive"][1] == {"keeper"} and rows_in(tmp_path, "keeper") == 30
    layout, _ = read_layout(tmp_path / "a.layout.toml")
    assert layout.sources["keepers"].skip_rows == ("duplicates",)
    [told] = [f for f in prove(tmp_path / "a.db").files if f.file == "keepers.csv"]
    assert (told.records, told.left_out) == (30, 1)


def test_references_that_differ_in_case_and_spaces_are_links(tmp_path: Path) -> None:
    rng = random.Random(17)
    hives = hives_of(rng, 300)
    for row in (20, 40, 60):
        hives[row][1] = f" {hives[row][1].lower()}"
    found = designed({"keepers": KEEPERS, "hives": hives}, tmp_path)
    assert found["hive"][1] == {"keeper"} and rows_in(tmp_path, "keeper") == 30


@pytest.mark.parametrize("book", [False, True])
def test_a_number_within_a_thing_of_another_sheet_is_linked_by_both(
    tmp_path: Path, book: bool
) -> None:
    rng = random.Random(18)
    beds: Rows = [["keeper no", "bed number", "soil"]]
    beds += [
        [f"K{k:02}", n, rng.choice(["clay", "sand"])]
        for k in range(30)
        for n in range(1, rng.randint(3, 6))
    ]
    harvests: Rows = [["harvest", "keeper no", "bed number", "kg"]]
    harvests += [[f"V{i:03}", *rng.choice(beds[1:])[:2], rng.randint(1, 99)] for i in range(400)]
    files = {"harvests": harvests, "beds": beds, "keepers": KEEPERS}
    assert designed(files, tmp_path, book=book) == {
        "harvest": ({"harvest", "kg"}, {"bed"}),
        "bed": ({"bed number", "soil"}, {"keeper"}),
        "keeper": ({"keeper no", "keeper name", "town"}, set()),
    }
    layout, _ = read_layout(tmp_path / "a.layout.toml")
    assert set(layout.tables["bed"].known_by) == {"keeper_id", "bed_number"}


def test_who_takes_part_in_what_is_known_by_both(tmp_path: Path) -> None:
    rng = random.Random(19)
    courses: Rows = [["course no", "course name"]] + [[f"C{i:02}", f"Wax {i}"] for i in range(20)]
    pairs = rng.sample([(f"K{k:02}", f"C{c:02}") for k in range(30) for c in range(20)], 180)
    takes: Rows = [
        ["keeper no", "course no", "mark"],
        *([k, c, rng.randint(1, 6)] for k, c in pairs),
    ]
    found = designed({"keepers": KEEPERS, "courses": courses, "places": takes}, tmp_path)
    assert found["place"] == ({"mark"}, {"keeper", "course"})
    layout, _ = read_layout(tmp_path / "a.layout.toml")
    assert set(layout.tables["place"].known_by) == {"keeper_id", "course_id"}


def test_one_list_of_codes_serves_several_columns(tmp_path: Path) -> None:
    rng = random.Random(20)
    codes: Rows = [["state code", "meaning"]] + [
        [c, f"is {c}"] for c in ("NEW", "OLD", "SICK", "DEAD", "SOLD", "LOST")
    ]
    hives: Rows = [["hive no", "state code", "earlier state", "kg"]]
    hives += [
        [f"H{i:03}", rng.choice(codes[1:])[0], rng.choice(codes[1:])[0], i % 41] for i in range(200)
    ]
    found = designed({"hives": hives, "states": codes}, tmp_path)
    layout, _ = read_layout(tmp_path / "a.layout.toml")
    assert found["hive"][0] == {"hive no", "kg"}
    assert [lk.to for lk in layout.tables["hive"].links.values()] == ["state", "state"]


@pytest.mark.parametrize("book", [False, True])
def test_a_sheet_with_a_header_alone_is_passed_over(tmp_path: Path, book: bool) -> None:
    files = {"keepers": KEEPERS, "guests": KEEPERS[:1], "hives": hives_of(random.Random(21))}
    found = designed(files, tmp_path, book=book)
    assert set(found) == {"keeper", "hive"} and found["hive"][1] == {"keeper"}


@pytest.mark.parametrize("seed", range(6))
def test_columns_that_have_nothing_to_do_with_each_other_are_one_table(
    tmp_path: Path, seed: int
) -> None:
    rng = random.Random(100 + seed)
    many = rng.choice([25, 80, 300])
    rows: Rows = [["no", "colour", "town", "frames", "mood"]]
    for i in range(many):
        rows.append(
            [
                i + 1,
                rng.choice(["red", "blue", "white"]),
                rng.choice(TOWNS),
                rng.randint(1, 12),
                rng.choice(NAMES),
            ]
        )
    assert len(designed({"visits": rows}, tmp_path)) == 1


def test_what_several_keys_share_is_a_table_of_its_own(tmp_path: Path) -> None:
    """Rooms and shifts are numbered within a site, which is nothing but its name."""
    rng = random.Random(22)
    sites, rooms, shifts = (
        ("North", "South", "West", "Hill"),
        range(1, 7),
        ("early", "late", "night"),
    )
    size = {(s, r): rng.randint(10, 90) for s in sites for r in rooms}
    guard = {(s, t): rng.choice(NAMES) for s in sites for t in shifts}
    rows: Rows = [["site", "room no", "room size", "shift", "guard", "kg"]]
    for _ in range(400):
        s, r, t = rng.choice(sites), rng.choice(rooms), rng.choice(shifts)
        rows.append([s, r, size[s, r], t, guard[s, t], rng.randint(1, 900)])
    found = designed({"visits": rows}, tmp_path)
    assert found["site"] == ({"site"}, set())
    assert found["room"] == ({"room no", "room size"}, {"site"})
    assert found["shift"] == ({"shift", "guard"}, {"site"})
    assert found["visit"] == ({"kg"}, {"room", "shift"})


def test_roles_of_people_in_a_register_are_links_to_it(tmp_path: Path) -> None:
    rng = random.Random(23)
    rows: Rows = [["keeper no", "keeper name", "buyer no", "buyer name", "kg"]]
    for _ in range(200):
        rows.append(
            [*rng.choice(KEEPERS[1:])[:2], *rng.choice(KEEPERS[1:])[:2], rng.randint(1, 99)]
        )
    found = designed({"keepers": KEEPERS, "sales": rows}, tmp_path)
    assert found["sale"] == ({"kg"}, {"keeper"}) and len(found) == 2
    layout, _ = read_layout(tmp_path / "a.layout.toml")
    assert len(layout.tables["sale"].links) == 2


def test_hives_and_shifts_of_a_keeper_of_a_register_link_there(tmp_path: Path) -> None:
    """What three tables of a file say of a keeper, each of them finds in the register."""
    rng = random.Random(24)
    people = KEEPERS[1:]
    kind = {(k, n): rng.choice(["long", "stack"]) for k in range(len(people)) for n in range(1, 5)}
    guard = {(k, s): rng.choice(NAMES) for k in range(len(people)) for s in "ABC"}
    rows: Rows = [["keeper no", "keeper name", "hive no", "hive kind", "shift", "guard", "kg"]]
    for _ in range(600):
        k, n, s = rng.randrange(len(people)), rng.randint(1, 4), rng.choice("ABC")
        rows.append([*people[k][:2], n, kind[k, n], s, guard[k, s], rng.randint(1, 900)])
    found = designed({"keepers": KEEPERS, "visits": rows}, tmp_path)
    assert found["hive"] == ({"hive no", "hive kind"}, {"keeper"})
    assert found["shift"] == ({"shift", "guard"}, {"keeper"})
    assert found["visit"] == ({"kg"}, {"keeper", "hive", "shift"}) and len(found) == 4


@pytest.mark.parametrize("start", range(0, 120, 20))
def test_what_is_proposed_is_never_refused(tmp_path: Path, start: int) -> None:
    """Files of random numbers, gaps, roles, registers, duplicates and slips, with the tables as
    deep as can be, lookups only, or none: whatever is proposed can be cut, and is proven."""
    for seed in range(start, start + 20):
        files, depth = rough_case(seed)
        folder = tmp_path / str(seed)
        folder.mkdir()
        designed(files, folder, depth=depth)


def test_the_reasons_are_in_proportion(tmp_path: Path) -> None:
    inputs = write({"visits": visits(random.Random(30))}, tmp_path)
    for reason in mark(inputs).reasons:
        assert reason.by_chance <= reason.repeats
