"""Which row names the columns: no record becomes the header, and no header a record; what is not
certain is told with its row."""

from __future__ import annotations

import csv
import io
import random
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Runner
from kerfmark.read.header import find_header

Write = Callable[..., Path]

CASES = {
    "a year among numbers": ("a1,2041,17\na2,2040,3\na3,2039,4\n", 0, 1),
    "one name short": ("id;name;qty\n1;n1;1;\n2;n2;4;\n", 1, 1),
    "no name for the numbers of the rows": ("name,qty\n1,Anna,4\n2,Ben,5\n3,Cleo,6\n", 1, 1),
    "quotes after spaces": ('"id", "name", "qty"\n1, "n1", 3\n2, "n2", 4\n', 1, 1),
    "a first cell that never changes": ("A,Anna,3\nA,Ben,4\nA,Cleo,5\n", 0, 1),
    "a constant column under its name": ("kind,name,n\nA,Ben,4\nA,Cleo,5\n", 1, 1),
    "a padded title": ("Report 2040;;;\n;;;\nno;name;qty;x\n1;a;2;3\n2;b;3;4\n", 3, 1),
    "a title alone": ("Visits of the year\n\nno,name\n1,Weir\n2,Mill\n", 3, 1),
    "a comment with a comma": ("# made by x, 2040\nno,name,qty\n1,a,2\n2,b,3\n", 2, 1),
    "a header that begins like a comment": ("#no,name\n1,a\n2,b\n", 1, 1),
    "a line that says the delimiter": ("sep=;\nno;name\n1;a\n", 2, 1),
    "units": ("time,temp,weight\ns,°C,kg\n1,20.5,3\n2,21,4\n", 1, 2),
    "no units but a word among numbers": ("name,kg\nAnna,heavy\nBen,4\nCleo,5\n", 1, 1),
    "years as names": ("site,2039,2040,2041\nWeir,3,4,5\nMill,6,7,8\n", 1, 1),
    "months as names": ("site,2039-12,2040-01\nWeir,3,4\nMill,6,7\n", 1, 1),
    "numbers as names": ("pupil,1,2,3,4\nAnna,1,0,1,1\nBen,0,1,1,1\n", 1, 1),
    "words over words": ("name,town\nAnna,Weir\nBen,Mill\nCleo,Weir\n", 1, 1),
    "words that are there again": ("Anna,Weir\nBen,Mill\nCleo,Weir\nDan,Mill\nEva,Weir\n", 0, 1),
    "names of another language": ("Zelle,Farbe\nrot,blau\ngelb,blau\n", 1, 1),
    "dates under a word": ("Weir,2025-01-02\nMill,2025-01-03\nHeath,2025-01-05\n", 0, 1),
    "names over several columns": (
        ",,2040,,2041,\nsite,crop,mean,max,mean,max\nA,b,1,2,3,4\nC,d,1,2,3,4\n",
        1,
        2,
    ),
    "names over names over names": (
        ",,2040,,,,2041,,,\n,,wet,,dry,,wet,,dry,\nsite,crop,kg,n,kg,n,kg,n,kg,n\n"
        "A,b,1,2,3,4,5,6,7,8\nC,d,1,2,3,4,5,6,7,8\n",
        1,
        3,
    ),
    "names that only those above tell apart": (
        ",,wet,,dry,\nsite,crop,kg,n,kg,n\nA,b,1,2,3,4\nC,d,1,2,3,4\n",
        1,
        2,
    ),
    "a corner without a name": (",qty,price\nAnna,1,2\nBen,3,4\n", 1, 1),
    "records of an export": (
        "10001,Anna Huber,anna@x.example,12.5\n10002,Ben Maier,b@x.example,13\n",
        0,
        1,
    ),
    "numbered names": ("hive,kg 1,kg 2,kg 3\nH1,2,3,4\nH2,3,4,5\n", 1, 1),
    "numbered names over numbered words": ("day 1,day 2,day 3\nrow 4,row 5,row 6\n", 1, 1),
    "no header under a first record with one cell": (
        "Weir,,\n" + "".join(f"P{n},{n},{n / 4:.2f}\n" for n in range(9)),
        0,
        1,
    ),
    "only a header": ("no,name\n", 1, 1),
}


def records_of(text: str) -> list[list[str]]:
    return list(csv.reader(io.StringIO(text, newline=""), delimiter=";" if ";" in text else ","))


@pytest.mark.parametrize(("text", "row", "rows"), CASES.values(), ids=CASES)
def test_where_the_header_is(text: str, row: int, rows: int) -> None:
    found = find_header(records_of(text))
    assert (found.row, found.rows) == (row, rows)


WORDS = [
    "Weir",
    "Mill",
    "Heath",
    "Quarry",
    "Orchard",
    "Chapel",
    "Ferry",
    "Tower",
    "Meadow",
    "Hollow",
    "Ridge",
    "Bridge",
]
KINDS: dict[str, Callable[[random.Random, int], str]] = {
    "code": lambda r, n: f"{r.choice('HKM')}{r.randrange(10, 99)}",
    "number": lambda r, n: str(r.randrange(1, 500)),
    "year": lambda r, n: str(r.randrange(2030, 2042)),
    "amount": lambda r, n: f"{r.uniform(0, 90):.2f}",
    "serial": lambda r, n: str(1001 + n),
    "date": lambda r, n: f"20{r.randrange(30, 42)}-{r.randrange(1, 13):02}-{r.randrange(1, 29):02}",
    "place": lambda r, n: r.choice(WORDS),
    "name": lambda r, n: f"{r.choice('ABCDEFG')}{r.choice(['nna', 'en', 'leo'])} {r.choice(WORDS)}",
    "mail": lambda r, n: f"{r.choice(WORDS).lower()}{n}@x.example",
    "truth": lambda r, n: r.choice(["yes", "no"]),
    "always": lambda r, n: "honey",
}
NAMES = {
    "code": "hive",
    "number": "frames",
    "year": "queen born",
    "amount": "kg",
    "serial": "Nr",
    "date": "Visited",
    "place": "APIARY",
    "name": "Beekeeper",
    "mail": "reached_by",
    "truth": "fed",
    "always": "yield",
}


def table(seed: int) -> tuple[list[str], list[list[str]]]:
    """A random table: kinds of columns, and records."""
    chance = random.Random(seed)
    kinds = chance.sample(list(KINDS), chance.randrange(2, 7))
    rows = chance.randrange(4, 60)
    return kinds, [[KINDS[k](chance, n) for k in kinds] for n in range(rows)]


def test_a_title_over_records_without_a_header_loses_neither(
    kerfmark: Runner, write: Write
) -> None:
    write("a.csv", "Report of the year\n" + "".join(f"{n},{n / 2},x{n}\n" for n in range(9)))
    told = kerfmark("cut", "a.csv", "--into", "a.db", code=1).err
    assert "a.csv, row 1: 1 row does not have as many fields" in told
    assert "--skip-rows notes leaves them out" in told
    kerfmark("cut", "a.csv", "--into", "a.db", "--skip-rows", "notes")
    assert "9 rows and 27 cells compared" in kerfmark("prove", "a.db").out


def test_random_files_with_and_without_a_header() -> None:
    wrong: list[tuple[int, bool]] = []
    untold = []
    for seed in range(400):
        kinds, records = table(seed)
        for with_header in (False, True):
            whole = [[NAMES[k] for k in kinds], *records] if with_header else records
            found = find_header(whole)
            if (found.row == 1) is not with_header:
                wrong.append((seed, with_header))
                if not [r for r in found.remarks if r.severity == "doubtful"]:
                    untold.append((seed, with_header))
    assert len(wrong) <= 2, wrong  # of 800
    assert not untold
