"""Makes the demo data in src/kerfmark/demo/data: a beekeepers' association that does not exist.

    python tools/make_demo.py

Always the same bytes. The year's inspections are one flat file; the register is a workbook; the
later months have the usual troubles: a renamed header (February), a new column (March), a typo in
an apiary (April), a date that is none (May), and rows that were in an earlier file (June).
"""

from __future__ import annotations

import csv
import datetime as dt
import io
import random
from dataclasses import dataclass
from pathlib import Path

import xlsxwriter

DATA = Path(__file__).parent.parent / "src/kerfmark/demo/data"
HEADERS = [
    "Inspection no",
    "Date",
    "Keeper",
    "Keeper phone",
    "Member since",
    "Apiary",
    "Grid ref",
    "Altitude m",
    "District",
    "District inspector",
    "Hive",
    "Hive type",
    "Queen",
    "Queen year",
    "Breed",
    "Breed origin",
    "Frames",
    "Honey kg",
    "Mites 1",
    "Mites 2",
    "Mites 3",
    "Treatments",
    "Calm",
    "Notes",
]
REGIONS = ["Overmere", "Netherdale"]
DISTRICTS = [
    ("Tarnholt", "Overmere"),
    ("Ashwick", "Overmere"),
    ("Little Fenning", "Overmere"),
    ("Brindle Moor", "Netherdale"),
    ("Saltersby", "Netherdale"),
]
APIARIES = [
    "Nothing Mill",
    "Far Paddock",
    "Convent Wall",
    "Quarry Ledge",
    "Low Orchard",
    "Widow's Acre",
    "Station Bank",
    "Heron Pool",
    "Lime Avenue",
    "Upper Common",
    "Chapel Yard",
    "Ropewalk",
    "Gorse Bottom",
    "Kiln Field",
    "School Garden",
    "Ferry House",
    "Long Hedge",
    "Signal Hill",
    "Old Nursery",
    "Weir Cottage",
    "Drift Lane",
    "Tithe Barn",
]
FIRST = [
    "Agnes",
    "Bertil",
    "Cosima",
    "Dunstan",
    "Elfreda",
    "Fabian",
    "Greta",
    "Hamo",
    "Isolde",
    "Jasper",
    "Klara",
    "Ludo",
    "Mabel",
    "Norbert",
    "Odile",
    "Piers",
    "Quentin",
    "Rosalind",
    "Stellan",
    "Thora",
    "Ulrich",
    "Viola",
    "Wendel",
    "Yrsa",
]
LAST = [
    "Ambleforth",
    "Birkenshaw",
    "Coldwell",
    "Drosselmann",
    "Eddowes",
    "Fennimore",
    "Grünhagen",
    "Hollis-Pryce",
    "Ivesdale",
    "Jernigan",
    "Köstlin",
    "Larkspur",
    "Merridew",
    "Nightingirl",
    "Ottoway",
]
BREEDS = [
    ("Carnica", "Carinthia"),
    ("Buckfast", "Devon"),
    ("Ligustica", "Liguria"),
    ("Mellifera", "Jura"),
]
TYPES = ["National", "Langstroth", "Top bar", "Warré"]
TREATMENTS = ["thymol", "oxalic acid", "formic acid", "drone comb", "brood break"]
NOTES = [
    "calm on the comb",
    "two frames of stores left",
    'heard the queen "piping"',
    "swarm cells torn down",
    "supers added; weather fair",
    "entrance narrowed against wasps",
    "mouse guard fitted",
    "colour mark renewed",
    "fed 2 l of syrup",
    "Königin nicht gesehen",
]


@dataclass
class Queen:
    """A queen, in the year she was raised, of a breed."""

    tag: str
    year: int
    breed: tuple[str, str]


@dataclass
class Hive:
    """A hive in its apiary, with the queen it has at the time."""

    tag: str
    kind: str
    apiary: int
    made: dt.date
    queen: Queen


class Association:
    """Everything that the files are written from."""

    def __init__(self) -> None:
        rng = self.rng = random.Random(1853)
        phone = iter(rng.sample(range(100_000, 999_999), 200))
        self.inspectors = [
            (f"{rng.choice(FIRST)} {rng.choice(LAST)}", f"0555 {next(phone)}") for _ in DISTRICTS
        ]
        self.grid = [f"XK {rng.randint(10, 99)} {rng.randint(10, 99)}" for _ in APIARIES]
        self.altitude = [rng.randrange(20, 460, 5) for _ in APIARIES]
        self.district = [
            i % len(DISTRICTS) if i < 10 else rng.randrange(len(DISTRICTS))
            for i in range(len(APIARIES))
        ]
        names = rng.sample([f"{f} {n}" for f in FIRST for n in LAST], 34)
        self.keepers = [(n, f"0555 {next(phone)}", rng.randint(1974, 2023)) for n in names]
        self.serials = rng.sample(range(100, 1000), 700)
        self.hives = [self._hive(i) for i in range(96)]
        self.number = 0

    def _queen(self, year: int) -> Queen:
        serial = self.serials.pop()
        return Queen(f"Q{year % 100:02}-{serial}", year, self.rng.choices(BREEDS, [5, 4, 2, 1])[0])

    def _hive(self, i: int) -> Hive:
        apiary = i if i < len(APIARIES) else self.rng.randrange(len(APIARIES))
        made = dt.date(2012, 1, 1) + dt.timedelta(self.rng.randrange(4000))
        kind = self.rng.choices(TYPES, [6, 3, 1, 2])[0]
        return Hive(
            f"{17 + 9 * i:04}", kind, apiary, made, self._queen(self.rng.randint(2021, 2024))
        )

    def inspection(self, day: dt.date) -> list[str]:
        """One row: a keeper looks at a hive."""
        rng = self.rng
        self.number += 1
        hive = rng.choice(self.hives)
        if rng.random() < 0.02:  # a new queen, or one from another hive, which then gets a new one
            other = rng.choice(self.hives)
            hive.queen = other.queen
            other.queen = self._queen(day.year - rng.randint(0, 1))
        keeper = self.keepers[
            (hive.apiary * 3 + rng.choice([0, 0, 0, 1, 1, 2, 7])) % len(self.keepers)
        ]
        d = self.district[hive.apiary]
        counted = rng.choices([0, 1, 2, 3], [3, 4, 3, 5])[0]
        mites = [str(min(int(rng.expovariate(1 / 9)), 80)) if i < counted else "" for i in range(3)]
        treated = rng.sample(TREATMENTS, rng.choices([0, 1, 2, 3], [10, 6, 3, 1])[0])
        honey = f"{rng.uniform(0, 28):.1f}".replace(".", ",") if 5 <= day.month <= 9 else ""
        return [
            str(self.number),
            f"{day:%d.%m.%Y}",
            *map(str, keeper),
            APIARIES[hive.apiary],
            self.grid[hive.apiary],
            str(self.altitude[hive.apiary]),
            DISTRICTS[d][0],
            self.inspectors[d][0],
            hive.tag,
            hive.kind,
            hive.queen.tag,
            str(hive.queen.year),
            *hive.queen.breed,
            str(rng.randint(3, 11)),
            honey,
            *mites,
            ", ".join(treated),
            rng.choices(["yes", "no"], [7, 2])[0],
            rng.choice(NOTES) if rng.random() < 0.18 else "",
        ]

    def inspections(self, first: dt.date, last: dt.date, count: int) -> list[list[str]]:
        """Rows in the order of their days."""
        span = (last - first).days + 1
        return [
            self.inspection(first + dt.timedelta(n))
            for n in sorted(self.rng.randrange(span) for _ in range(count))
        ]


def write_csv(name: str, headers: list[str], rows: list[list[str]]) -> None:
    """Writes a file as the association's office does: semicolons, UTF-8."""
    out = io.StringIO()
    csv.writer(out, delimiter=";", lineterminator="\n").writerows([headers, *rows])
    (DATA / name).write_text(out.getvalue(), encoding="utf-8", newline="")


def write_harvest(a: Association) -> None:
    """Writes a file of another kind: which keeper took which honey from which hive."""
    rng = random.Random(1862)
    honeys = [("Linden", "July"), ("Heather", "August"), ("Acacia", "June"), ("Clover", "June")]
    days = sorted(rng.randrange(100) for _ in range(140))
    rows = []
    for n, at in enumerate(days, 1):
        hive, (honey, month) = rng.choice(a.hives), rng.choice(honeys)
        keeper = a.keepers[rng.randrange(len(a.keepers))][0]
        day = dt.date(2025, 6, 10) + dt.timedelta(at)
        kilos = f"{rng.uniform(2, 31):.1f}".replace(".", ",")
        jars = rng.randint(3, 60)
        rows.append(
            [str(n), f"{day:%d.%m.%Y}", hive.tag, hive.kind, keeper, honey, month, kilos, str(jars)]
        )
    head = [
        "Harvest no",
        "Taken on",
        "Hive",
        "Hive type",
        "Taken by",
        "Honey",
        "Flowers in",
        "Kg",
        "Jars",
    ]
    write_csv("harvest-2025.csv", head, rows)


def write_register(a: Association) -> None:
    """Writes the register: a sheet per thing, districts within districts by name."""
    book = xlsxwriter.Workbook(str(DATA / "register.xlsx"))
    book.set_properties({"created": dt.datetime(2025, 1, 2)})
    day = book.add_format({"num_format": "yyyy-mm-dd"})
    rows: dict[str, list[list[object]]] = {
        "Districts": [
            ["District", "Part of", "Inspector", "Inspector phone"],
            *([r, "", "", ""] for r in REGIONS),
            *([d, region, *who] for (d, region), who in zip(DISTRICTS, a.inspectors, strict=True)),
        ],
        "Apiaries": [
            ["Apiary", "Grid ref", "Altitude m", "District"],
            *(
                [n, a.grid[i], a.altitude[i], DISTRICTS[a.district[i]][0]]
                for i, n in enumerate(APIARIES)
            ),
        ],
        "Keepers": [
            ["Member no", "Keeper", "Phone", "Member since"],
            *([f"M{101 + 3 * i}", *k] for i, k in enumerate(a.keepers)),
        ],
        "Hives": [
            ["Hive", "Hive type", "Apiary", "Made on"],
            *([h.tag, h.kind, APIARIES[h.apiary], h.made] for h in a.hives),
        ],
    }
    for title, lines in rows.items():
        sheet = book.add_worksheet(title)
        for r, line in enumerate(lines):
            for c, value in enumerate(line):
                if isinstance(value, dt.date):
                    sheet.write_datetime(r, c, dt.datetime.combine(value, dt.time()), day)
                elif value != "":
                    sheet.write(r, c, value)
    book.close()


def main() -> None:
    """Writes every file."""
    DATA.mkdir(parents=True, exist_ok=True)
    a = Association()
    write_csv(
        "inspections-2025.csv",
        HEADERS,
        a.inspections(dt.date(2025, 2, 10), dt.date(2025, 11, 22), 1512),
    )
    write_register(a)
    months = [
        a.inspections(dt.date(2026, m, 1), dt.date(2026, m, 28), 40 + 11 * m) for m in range(1, 7)
    ]
    headers = [list(HEADERS) for _ in months]
    headers[1][HEADERS.index("Keeper")] = "Beekeeper"
    headers[2].insert(2, "Weather")
    for row in months[2]:
        row.insert(2, a.rng.choice(["fair", "overcast", "showers", "wind"]))
    at = HEADERS.index("Apiary")
    for row in [r for r in months[3] if r[at] == "Nothing Mill"] or [months[3][7]]:
        row[at] = "Nothing Mil"
    months[4][22][1] = "31.04.2026"
    months[5] = months[4][-12:] + months[5]
    for m, (head, rows) in enumerate(zip(headers, months, strict=True), 1):
        write_csv(f"inspections-2026-{m:02}.csv", head, rows)
    write_harvest(a)


if __name__ == "__main__":
    main()
