"""Files and layouts of every kind, for which a cluster must give what one process gives. The rows
are made by chance, from a seed."""

from __future__ import annotations

import random
from collections.abc import Callable
from pathlib import Path

HEAD = "kerfmark = 1\n"
VISITS_AND_DISTRICTS = """\
kerfmark = 1
[sources.v]
file = "v.csv"
[sources.d]
file = "d.csv"
[tables.district]
source = "d"
each_row = true
known_by = ["district"]
columns = { district = { header = "District" }, land = { header = "Land" } }
[tables.visit]
source = "v"
each_row = true
known_by = ["no"]
[tables.visit.columns]
no = { header = "No", type = "integer" }
mites = { header = "Mites", type = "integer" }
[tables.visit.links]
keeper_id = { to = "keeper" }
[tables.visit.links.district_id]
to = "district"
by = { district = "District" }
repeats = { land = "Land" }
missing = "refuse"
"""
"""Visits (v.csv) of a keeper, in a district that another file (d.csv) has. No table for keepers."""


def _rows(path: Path, header: str, rows: list[list[object]], delimiter: str = ",") -> None:
    def cell(value: object) -> str:
        text = str(value)
        odd = delimiter in text or '"' in text or "\n" in text
        return '"' + text.replace('"', '""') + '"' if odd else text

    lines = [header, *(delimiter.join(map(cell, row)) for row in rows)]
    path.write_text("\n".join(lines) + "\n", encoding="utf-8")


def composite_keys(folder: Path, chance: random.Random) -> str:
    """Keys of two columns, one of them a link; one value of several; usual values and exceptions;
    what is derived; rows that are left out; an order."""
    rows: list[list[object]] = []
    spot = {
        (a, n): (chance.choice(["sun", "shade"]), chance.choice(["north", "south", ""]))
        for a in "ABCD"
        for n in range(1, 8)
    }
    for i in range(600):
        (apiary, stand), (light, side) = chance.choice([*spot.items()])
        light = light if chance.random() < 0.9 else "dusk"
        rows.append(
            [
                i + 1,
                f"Apiary {apiary}",
                {"A": "Weir", "B": "Mill", "C": "Weir", "D": "Ford"}[apiary],
                stand,
                light,
                side,
                chance.choice(["", "1.50", "2.25", "10.00"]),
                chance.choice(["Ash", "Birch", "Elm", ""]),
                chance.choice([0, 1, 2, 3]),
                f"20{chance.randint(10, 39)}-{chance.randint(1, 12):02}-{chance.randint(1, 28):02}",
            ]
        )
    _rows(folder / "visits.csv", "No,Apiary,Place,Stand,Light,Side,Fee,Tree,Mites,Day", rows)
    return (
        HEAD
        + """
[sources.visits]
file = "visits.csv"

[tables.visit]
each_row = true
only_rows = "[Mites] < 3"
known_by = ["no"]
order = ["-day", "no"]
links = { stand_id = { to = "stand" }, tree_id = { to = "tree" } }
optional = ["fee", "tree_id"]

[tables.visit.columns]
no = { header = "No", type = "integer" }
day = { header = "Day", type = "date YYYY-MM-DD" }
mites = { header = "Mites", type = "integer" }
light = { header = "Light", instead_of = "stand" }
fee = { header = "Fee", type = "decimal(6,2)" }
year = { derived = "year([Day])", type = "integer" }

[tables.stand]
known_by = ["apiary_id", "stand"]
links = { apiary_id = { to = "apiary" } }
optional = ["side"]

[tables.stand.columns]
stand = { header = "Stand", type = "integer" }
light = { header = "Light", usual = true }
side = { header = "Side" }

[tables.apiary]
known_by = ["apiary"]
columns = { apiary = { header = "Apiary" }, place = { header = "Place" } }

[tables.tree]
known_by = ["tree"]
only_rows = "[Mites] > 0"
columns = { tree = { header = "Tree" } }
"""
    )


def values_chosen(folder: Path, chance: random.Random) -> str:
    """One of the values that rows say of a record, by each of the three ways; cells that are made
    clean; blanks; every type."""
    rows: list[list[object]] = []
    for _ in range(500):
        hive = chance.randint(1, 60)
        rows.append(
            [
                f"  H{hive:03} ",
                chance.choice(["red", "Red", "blue", "n/a", ""]),
                chance.choice(["1.234,5", "7,25", "-", "12,0"]),
                chance.choice(["yes", "no", ""]),
                f"{chance.randint(0, 23):02}:{chance.randint(0, 59):02}",
                f"{chance.randint(1, 28):02}.{chance.randint(1, 12):02}.2031 "
                f"{chance.randint(0, 23):02}:{chance.randint(0, 59):02}",
                chance.choice(["1e3", "0.5", "2.25"]),
                chance.choice(["a note", "two\nlines", 'so "quoted"', "plain, with comma", ""]),
                chance.choice([3, 10, 400]),
            ]
        )
    _rows(folder / "hives.csv", "Hive;Colour;Weight;Queen;At;When;Ratio;Note;Pounds", rows, ";")
    return (
        HEAD
        + """
[sources.hives]
file = "hives.csv"
delimiter = ";"
trim = true
blanks = ["n/a", "-"]

[tables.reading]
each_row = true
links = { hive_id = { to = "hive" } }
optional = ["queen", "weight", "note", "colour"]

[tables.reading.columns]
colour = { header = "Colour", clean = ["lower"] }
weight = { header = "Weight", type = "decimal(8,2) 0.000,##" }
queen = { header = "Queen", type = "boolean yes/no" }
at = { header = "At", type = "time hh:mm" }
moment = { header = "When", type = "timestamp DD.MM.YYYY hh:mm" }
ratio = { header = "Ratio", type = "real" }
note = { header = "Note" }
kilos = { header = "Pounds", type = "decimal(8,3)", unit = "lb to kg" }

[tables.hive]
known_by = ["hive"]

[tables.hive.columns]
hive = { header = "Hive" }
"""
    )


def one_of_several(folder: Path, chance: random.Random) -> str:
    """The first, the last, and the most frequent of the values of a record."""
    rows = [
        [
            i,
            f"K{chance.randint(1, 40)}",
            chance.choice(["", "Ann", "Bea", "Cy"]),
            chance.choice(["", "1", "2", "3"]),
            chance.choice(["", "x", "y", "z", "z"]),
        ]
        for i in range(400)
    ]
    _rows(folder / "calls.csv", "No,Keeper,First,Last,Often", [*map(list, rows)])
    return (
        HEAD
        + """
[sources.calls]
file = "calls.csv"

[tables.call]
each_row = true
links = { keeper_id = { to = "keeper" } }
columns = { no = { header = "No", type = "integer" } }

[tables.keeper]
known_by = ["keeper"]
optional = ["first", "last", "often"]

[tables.keeper.columns]
keeper = { header = "Keeper" }
first = { header = "First", conflicts = "first" }
last = { header = "Last", type = "integer", conflicts = "last" }
often = { header = "Often", conflicts = "most frequent" }
"""
    )


def lookups(folder: Path, chance: random.Random) -> str:
    """Links by value: records that are made, and have what rows repeat, also those of a source that
    does not make them; loosely; none; to itself; through another link; to a sheet of a workbook."""
    from openpyxl import Workbook

    book = Workbook()
    sheet = book.active
    sheet.title = "Districts"
    sheet.append(["District", "Land"])
    for name in ("Weir", "Mill", "Ford", "Holm"):
        sheet.append([name, "North" if name < "N" else "South"])
    book.save(folder / "register.xlsx")
    keepers = [
        [
            f"K{n}",
            chance.choice(["weir", "MILL ", "Ford", "Nowhere"]),
            f"K{max(1, n // 2)}",
            chance.choice(["Dale", "Ford", ""]),
        ]
        for n in range(1, 31)
    ]
    keepers += [["K90", "Ford", "K77", ""], ["K91", "Ford", "", ""], ["K92", "", "K91", "Dale"]]
    _rows(folder / "keepers.csv", "Keeper,District,Mentor,Home", [*map(list, keepers)])
    visits = [
        [
            i,
            chance.choice(["K1", "K5", "K30", "K99", "K98"]),
            chance.choice(["Ford", "Mill", "Dale"]),
            chance.choice(["B1", "B2", "B3"]),
        ]
        for i in range(300)
    ]
    land = {"Ford": "North", "Mill": "North", "Dale": "East"}
    _rows(
        folder / "visits.csv",
        "No,Keeper,District,Box,Land",
        [[*v, land[str(v[2])]] for v in visits],
    )
    return (
        HEAD
        + """
[sources.districts]
file = "register.xlsx"
sheet = "Districts"

[sources.keepers]
file = "keepers.csv"

[sources.visits]
file = "visits.csv"

[tables.district]
source = "districts"
each_row = true
known_by = ["district"]
columns = { district = { header = "District" }, land = { header = "Land" } }
optional = ["land"]

[tables.keeper]
source = "keepers"
each_row = true
known_by = ["keeper"]
columns = { keeper = { header = "Keeper" } }
optional = ["mentor_id", "district_id", "home_id"]

[tables.keeper.links]
home_id = { to = "district", by = { district = "Home" } }
mentor_id = { to = "keeper", by = { keeper = "Mentor" } }
district_id = { to = "district", by = { district = "District" }, loose = true, missing = "blank" }

[tables.visit]
source = "visits"
each_row = true
columns = { no = { header = "No", type = "integer" } }

[tables.visit.links]
keeper_id = { to = "keeper", by = { keeper = "Keeper" } }
district_id = { to = "district", by = { district = "District" }, repeats = { land = "Land" } }
box_id = { to = "box" }

[tables.box]
source = "visits"
known_by = ["box"]
columns = { box = { header = "Box" } }
"""
    )


def through_links(folder: Path, chance: random.Random) -> str:
    """Records that are found by a column and by what a link of theirs leads to, and made with that;
    a table that has the records of two sources."""
    hives = [[p, n, chance.choice("rgb")] for p in ("Weir", "Mill") for n in range(1, 9)]
    _rows(folder / "apiaries.csv", "Apiary,District", [["Weir", "North"], ["Holm", "South"]])
    _rows(folder / "hives.csv", "Place,No,Colour", [*map(list, hives)])
    _rows(folder / "keepers.csv", "Keeper,Town", [[f"K{n}", f"T{n % 4}"] for n in range(12)])
    visits = [
        [
            i,
            chance.choice(["Weir", "Mill", "Dale"]),
            chance.randint(1, 10),
            f"K{chance.randint(3, 20)}",
        ]
        for i in range(250)
    ]
    _rows(folder / "visits.csv", "Nr,Apiary,Hive,Keeper", [*map(list, visits)])
    return (
        HEAD
        + """
[sources.v]
file = "visits.csv"

[sources.h]
file = "hives.csv"

[sources.a]
file = "apiaries.csv"

[sources.k]
file = "keepers.csv"

[tables.visit]
source = "v"
each_row = true
columns = { nr = { header = "Nr", type = "integer" } }

[tables.visit.links]
hive_id = { to = "hive", by = { "apiary_id.apiary" = "Apiary", no = "Hive" } }
keeper_id = { to = "keeper" }

[tables.hive]
source = "h"
each_row = true
known_by = ["apiary_id", "no"]
optional = ["colour"]
links = { apiary_id = { to = "apiary", by = { apiary = "Place" } } }
columns = { no = { header = "No", type = "integer" }, colour = { header = "Colour" } }

[tables.apiary]
source = "a"
each_row = true
known_by = ["apiary"]
optional = ["district"]
columns = { apiary = { header = "Apiary" }, district = { header = "District" } }

[tables.keeper]
source = "k"
also_from = ["v"]
each_row = true
known_by = ["keeper"]
optional = ["town"]
columns = { keeper = { header = "Keeper" }, town = { header = "Town" } }
"""
    )


def parts(folder: Path, chance: random.Random) -> str:
    """Columns that are repeated, and named; lists in cells, with their positions, with a table of
    all parts, and with what is derived of each."""
    rows: list[list[object]] = []
    for i in range(300):
        listed = chance.sample(
            ["oxalic", "formic", "thymol", "lactic", "heat"], chance.randint(0, 3)
        )
        doses = [str(chance.randint(1, 9)) for _ in range(chance.randint(0, 3))]
        rows.append(
            [
                i,
                f"H{chance.randint(1, 30)}",
                *(chance.choice(["", 1, 2, 3]) for _ in range(3)),
                ", ".join(listed),
                "/".join(doses),
            ]
        )
    _rows(folder / "care.csv", "No,Hive,Mites May,Mites June,Mites July,Treatments,Doses", rows)
    return (
        HEAD
        + """
[sources.care]
file = "care.csv"

[tables.care]
each_row = true
known_by = ["no"]
columns = { no = { header = "No", type = "integer" } }
links = { hive_id = { to = "hive" } }

[tables.hive]
known_by = ["hive"]
columns = { hive = { header = "Hive" } }

[tables.mite]
part_of = "care"
known_by = ["care_id", "month"]
links = { care_id = { to = "care" } }

[tables.mite.columns]
month = { told = ["May", "June", "July"] }
count = { headers = ["Mites May", "Mites June", "Mites July"], type = "integer" }

[tables.treatment]
known_by = ["name"]
columns = { name = { header = "Treatments", split = ", " } }

[tables.care_treatment]
part_of = "care"
known_by = ["care_id", "position_no"]
columns = { position_no = { position = true } }

[tables.care_treatment.links]
care_id = { to = "care" }
treatment_id = { to = "treatment", by = { name = "Treatments" } }

[tables.dose]
part_of = "care"
known_by = ["care_id", "position_no"]
links = { care_id = { to = "care" } }

[tables.dose.columns]
position_no = { position = true }
dose = { header = "Doses", split = "/", type = "integer" }
"""
    )


def natural_keys(folder: Path, chance: random.Random) -> str:
    """Tables whose keys are columns of their own, some of them links to others; a key that the
    source says itself."""
    rows: list[list[object]] = []
    for i in range(1, 301):
        district, apiary = chance.choice("ABC"), chance.randint(1, 5)
        rows.append([i, district, f"The {district}", apiary, f"{district}{apiary}", i % 7])
    _rows(folder / "list.csv", "Nr,District,Long name,Apiary,Name,Box", rows)
    return (
        HEAD
        + """
[sources.list]
file = "list.csv"

[tables.entry]
each_row = true
key = "nr"
columns = { nr = { header = "Nr", type = "integer" }, box = { header = "Box", type = "integer" } }
links = { apiary = { to = "apiary" } }

[tables.district]
known_by = ["district"]
key = ["district"]
columns = { district = { header = "District" }, long_name = { header = "Long name" } }

[tables.apiary]
known_by = ["in_district", "number"]
key = ["in_district", "number"]
links = { in_district = { to = "district" } }
columns = { number = { header = "Apiary", type = "integer" }, name = { header = "Name" } }
"""
    )


def many_files(folder: Path, chance: random.Random) -> str:
    """A file for each month, with quoted line ends, blank lines, and records across blocks."""
    for month in range(1, 5):
        rows: list[list[object]] = []
        for _ in range(chance.randint(80, 250)):
            note = chance.choice(["", "fine", "two\nlines", 'said "so"', "\n", '"', "a,b\n\nc"])
            rows.append(
                [f"H{chance.randint(1, 50)}", chance.choice(["Ash", "Birch"]), note * 3, month]
            )
        _rows(folder / f"visits-2031-{month:02}.csv", "Hive,Keeper,Note,Mites", rows)
    (folder / "visits-2031-05.csv").write_text("Hive,Keeper,Note,Mites\n")  # nobody came
    return (
        HEAD
        + """
[sources."visits/all"]
file = "visits-*.csv"
telling = "month"

[tables.visit]
each_row = true
optional = ["note"]
links = { hive_id = { to = "hive" }, month_id = { to = "month" } }

[tables.visit.columns]
keeper = { header = "Keeper" }
note = { header = "Note" }
mites = { header = "Mites", type = "integer" }

[tables.month]
known_by = ["month"]
columns = { month = { header = "month" } }

[tables.hive]
known_by = ["hive"]
columns = { hive = { header = "Hive" } }
"""
    )


def other_files(folder: Path, chance: random.Random) -> str:
    """Files that are read in whole: records as JSON lines, Parquet, text in an encoding of two
    bytes, rows that depend on the one above and on their place."""
    import json

    import pyarrow as pa
    import pyarrow.parquet as pq

    hives = [f"H{n}" for n in range(1, 21)]
    kept = [{"Hive": h, "Colour": chance.choice(["red", None, "blue"])} for h in hives]
    lines = [json.dumps({k: v for k, v in one.items() if v is not None}) for one in kept]
    (folder / "hives.jsonl").write_text("\n".join(lines) + "\n", encoding="utf-8")
    weights = pa.table(
        {
            "Of hive": [chance.choice(hives) for _ in range(200)],
            "Kilos": pa.array([chance.randint(100, 900) / 4 for _ in range(200)]),
            "Day": pa.array([19_000 + chance.randint(0, 300) for _ in range(200)], pa.date32()),
        }
    )
    pq.write_table(weights, folder / "weights.parquet")
    queens = "Queen,Bred in\n" + "".join(f"Königin {n},20{n % 30:02}\n" for n in range(40))
    (folder / "queens.csv").write_text(queens, encoding="utf-16")
    visits = [["a list of visits", "", ""], ["Apiary", "Visitor", "Mites"]]
    for apiary in ("Weir", "Mill", "Ford"):
        visits += [[apiary if i == 0 else "", f"K{i}", str(chance.randint(0, 9))] for i in range(5)]
    visits.append(["that was all", "", ""])
    (folder / "visits.csv").write_text("\n".join(",".join(v) for v in visits) + "\n")
    return (
        HEAD
        + """
[sources.hives]
file = "hives.jsonl"

[sources.weights]
file = "weights.parquet"

[sources.queens]
file = "queens.csv"
encoding = "utf-16"

[sources.visits]
file = "visits.csv"
header_row = 2
fill_down = ["Apiary"]
skip_rows = [-1]

[tables.hive]
source = "hives"
each_row = true
known_by = ["hive"]
optional = ["colour"]
columns = { hive = { header = "Hive" }, colour = { header = "Colour" } }

[tables.weight]
source = "weights"
each_row = true
links = { hive_id = { to = "hive", by = { hive = "Of hive" }, missing = "refuse" } }

[tables.weight.columns]
kilos = { header = "Kilos", type = "real" }
day = { header = "Day", type = "date YYYY-MM-DD" }

[tables.queen]
source = "queens"
each_row = true
columns = { queen = { header = "Queen" }, bred_in = { header = "Bred in", type = "integer" } }

[tables.visit]
source = "visits"
each_row = true
links = { apiary_id = { to = "apiary" } }
columns = { visitor = { header = "Visitor" }, mites = { header = "Mites", type = "integer" } }

[tables.apiary]
source = "visits"
known_by = ["apiary"]
columns = { apiary = { header = "Apiary" } }
"""
    )


CASES: dict[str, Callable[[Path, random.Random], str]] = {
    f.__name__: f
    for f in (
        composite_keys,
        values_chosen,
        one_of_several,
        lookups,
        through_links,
        parts,
        natural_keys,
        many_files,
        other_files,
    )
}
"""Each writes its files into a folder, and gives the layout."""
