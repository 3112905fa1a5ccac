"""Several tables in one sheet or file are told apart, and one table is never taken for several."""

from __future__ import annotations

import csv
import random
import sqlite3
from pathlib import Path

import openpyxl
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from openpyxl.worksheet.table import Table

from conftest import Runner
from kerfmark.read.blocks import find_blocks

Grid = list[list[str]]

HIVES = [
    ["name", "town", "hives"],
    ["Ash", "Weir", "3"],
    ["Elm", "Mill", "4"],
    ["Oak", "Weir", "9"],
]
KEEPERS = [["keeper", "since"], ["Ann", "2001"], ["Ben", "2002"]]
PRICES = [["code", "price", "unit"], ["A", "1.5", "jar"], ["B", "2.5", "kg"]]
STATES = [["state", "meaning"], ["A", "active"], ["B", "gone"]]


def placed(*tables: tuple[Grid, int, int], height: int = 0, width: int = 0) -> Grid:
    """A grid with tables at rows and columns (from 0)."""
    rows = max([height, *(top + len(t) for t, top, _ in tables)])
    columns = max([width, *(left + max(map(len, t)) for t, _, left in tables)])
    out = [[""] * columns for _ in range(rows)]
    for table, top, left in tables:
        for i, row in enumerate(table):
            out[top + i][left : left + len(row)] = row
    return out


def write_grid(grid: Grid, path: Path) -> None:
    """A grid as delimited text, padded or not, or as a workbook with numbers as such."""
    if path.suffix == ".xlsx":
        book = openpyxl.Workbook()
        for i, row in enumerate(grid, 1):
            for j, cell in enumerate(row, 1):
                if cell:
                    number = cell.replace(".", "").isdecimal()
                    book.active.cell(i, j, float(cell) if number else cell)
        book.save(path)
        return
    with path.open("w", newline="") as file:
        writer = csv.writer(file, lineterminator="\n")
        for row in grid:
            short = list(row)
            while path.stem.endswith("short") and short and not short[-1]:
                short.pop()
            writer.writerow(short)


def tables_read(kerfmark: Runner, *arguments: str) -> list[Grid]:
    """What `measure` reads: of each source the headers and all rows."""
    out = []
    for source in kerfmark("measure", *arguments, "--rows", "99", "--json").json["sources"]:
        rows = [["" if c is None else c for c in row] for row in source["first_rows"]]
        out.append([[c["header"] for c in source["columns"]], *rows])
    return out


LAID_OUT = {
    "below": placed((HIVES, 0, 0), (STATES, 5, 0)),
    "below, two rows between": placed((HIVES, 0, 0), (STATES, 6, 0)),
    "below, same width": placed((HIVES, 0, 0), (PRICES, 5, 0)),
    "below, wider": placed((STATES, 0, 0), (HIVES, 4, 0)),
    "titles": placed(([["Hives"], *HIVES], 0, 0), ([["Prices"], *PRICES], 6, 0)),
    "titles without a blank row": placed(
        ([["[Hives]"], *HIVES], 0, 0), ([["[States]"], *STATES], 5, 0)
    ),
    "titles with a blank row": placed(
        ([["Hives"]], 0, 0), (HIVES, 2, 0), ([["Prices"]], 8, 0), (PRICES, 10, 0)
    ),
    "beside": placed((HIVES, 0, 0), (KEEPERS, 0, 4)),
    "beside, further right and down": placed((HIVES, 2, 1), (KEEPERS, 1, 6)),
    "beside, both with titles": placed(
        ([["Hives"], *HIVES[:3]], 0, 0), ([["Keepers"], *KEEPERS], 0, 5)
    ),
    "four": placed(
        ([["Hives"], *HIVES], 0, 0),
        ([["Keepers"], *KEEPERS], 0, 4),
        ([["States"], *STATES], 7, 0),
        ([["Prices"], *PRICES], 7, 4),
    ),
    "two above one": placed(
        (HIVES, 0, 0),
        (KEEPERS, 0, 4),
        ([["day", "a", "b", "c", "d", "e"], ["2040-01-02", *"12345"]] * 1, 6, 0),
    ),
}
"""Cases with the tables in the order in which they are read."""
MEANT = {
    "below": [HIVES, STATES],
    "below, two rows between": [HIVES, STATES],
    "below, same width": [HIVES, PRICES],
    "below, wider": [STATES, HIVES],
    "titles": [HIVES, PRICES],
    "titles without a blank row": [HIVES, STATES],
    "titles with a blank row": [HIVES, PRICES],
    "beside": [HIVES, KEEPERS],
    "beside, further right and down": [KEEPERS, HIVES],
    "beside, both with titles": [HIVES[:3], KEEPERS],
    "four": [HIVES, KEEPERS, STATES, PRICES],
    "two above one": [HIVES, KEEPERS, [["day", "a", "b", "c", "d", "e"], ["2040-01-02", *"12345"]]],
}


@pytest.mark.parametrize("case", LAID_OUT)
@pytest.mark.parametrize("name", ["padded.csv", "short.csv", "book.xlsx"])
def test_each_table_is_a_source(kerfmark: Runner, tmp_path: Path, case: str, name: str) -> None:
    write_grid(LAID_OUT[case], tmp_path / name)
    assert tables_read(kerfmark, name) == MEANT[case]
    for n, table in enumerate(MEANT[case], 1):
        assert tables_read(kerfmark, name, "--block", str(n)) == [table]


ONE_TABLE = {
    "blank rows": placed((HIVES[:2], 0, 0), (HIVES[2:], 3, 0)),
    "blank rows, all text": placed(
        ([r[:2] for r in HIVES[:3]], 0, 0), ([["Fir", "Ford"], ["Yew", "Mill"]], 4, 0)
    ),
    "a blank column": placed(([r[:1] for r in HIVES], 0, 0), ([r[1:] for r in HIVES], 0, 2)),
    "remarks in some rows": placed(
        (HIVES, 0, 0), ([["remark", "seen by"], ["", ""], ["swarm", "Ann"], ["", ""]], 0, 4)
    ),
    "a last part without numbers": placed(
        ([["name", "town", "note"], ["Ash", "Weir", "good"], ["Elm", "Mill", "bad"]], 0, 0),
        ([["Oak", "Weir"], ["Fir", "Mill"]], 4, 0),
    ),
    "rows that name a group": placed(
        ([HIVES[0], ["Weir"], HIVES[1], HIVES[3], ["Mill"], HIVES[2]], 0, 0)
    ),
    "the header once more": placed((HIVES, 0, 0), (HIVES, 5, 0)),
    "a total": placed((HIVES, 0, 0), ([["Total", "", "16"]], 5, 0)),
}


@pytest.mark.parametrize("case", ONE_TABLE)
@pytest.mark.parametrize("name", ["padded.csv", "book.xlsx"])
def test_one_table_stays_one(kerfmark: Runner, tmp_path: Path, case: str, name: str) -> None:
    write_grid(ONE_TABLE[case], tmp_path / name)
    assert len(tables_read(kerfmark, name)) == 1


def random_table(rng: random.Random, number: int) -> Grid:
    """A table with its own headers: a name, then texts and numbers."""
    kinds = ["name", *rng.choices(["word", "number", "day"], k=rng.randint(1, 4))]
    kinds += ["number"] if not {"number", "day"} & set(kinds) else []
    stems = rng.sample(
        ["name", "town", "kind", "kg", "count", "since", "shade", "price"], len(kinds)
    )
    rows = [[f"{s} {'abcdefgh'[number]}" for s in stems]]
    for i in range(rng.randint(3, 12)):
        rows.append(
            [
                f"{rng.choice(['Ash', 'Elm', 'Oak', 'Fir'])}{number}{i}"
                if k == "name"
                else rng.choice(["wood", "field", "shore"])
                if k == "word"
                else str(rng.randint(1, 900))
                if k == "number"
                else f"2040-{rng.randint(1, 12):02}-{rng.randint(1, 28):02}"
                for k in kinds
            ]
        )
    return rows


@pytest.mark.parametrize("seed", range(60))
def test_random_layouts(kerfmark: Runner, tmp_path: Path, seed: int) -> None:
    rng = random.Random(seed)
    tables = [random_table(rng, n) for n in range(rng.randint(2, 5))]
    titled = rng.random() < 0.5
    drawn = [[[f"Part {'ABCDE'[n]}"], *t] if titled else t for n, t in enumerate(tables)]
    at, top, left, tallest, widest = [], 0, 0, 0, 0
    for table in drawn:
        if at and rng.random() < 0.5 and (titled or len(table) != len(at[-1][0])):
            left += widest + rng.randint(1, 2)  # beside, else below
        else:
            top, left, tallest = top + tallest + (rng.randint(1, 2) if at else 0), 0, 0
        at.append((table, top, left))
        widest, tallest = max(map(len, table)), max(tallest, len(table))
    name = rng.choice(["a.csv", "a.xlsx"])
    write_grid(placed(*at), tmp_path / name)
    got = tables_read(kerfmark, name)
    assert sorted(got) == sorted(tables)


CELLS = st.sampled_from(["", "", "name", "town", "7", "2040-01-02", "3.5", "TRUE", " x y z "])


@settings(max_examples=400, deadline=None)
@given(st.lists(st.lists(CELLS, max_size=9), max_size=14))
def test_any_grid_is_cut_into_areas_that_do_not_overlap(grid: Grid) -> None:
    blocks = find_blocks(grid)
    assert len(blocks) != 1
    for n, one in enumerate(blocks):
        header = grid[one.header][one.left : one.right]
        assert one.top <= one.header < one.bottom - 1 and sum(bool(c.strip()) for c in header) > 1
        for other in blocks[n + 1 :]:
            below = max(one.top, other.top) >= min(one.bottom, other.bottom)
            assert below or max(one.left, other.left) >= min(one.right, other.right)


def test_what_is_beside_the_tables_is_told(kerfmark: Runner, tmp_path: Path) -> None:
    grid = placed((HIVES, 0, 0), (KEEPERS, 0, 4), ([["checked by hand"]], 9, 8))
    write_grid(grid, tmp_path / "a.xlsx")
    sources = kerfmark("measure", "a.xlsx", "--json").json["sources"]
    told = [f for s in sources for f in s["findings"] if "beside the tables" in f["what"]]
    assert [(f["rows"], "checked by hand" in f["what"]) for f in told] == [([10], True)]


def test_declared_tables_are_sources_that_grow(kerfmark: Runner, tmp_path: Path) -> None:
    def save(name: str, more: Grid) -> None:
        book = openpyxl.Workbook()
        for table, left, called in (([*HIVES, *more], 1, "Apiaries"), (KEEPERS, 4, "Keepers")):
            for i, row in enumerate(table, 1):
                for j, cell in enumerate(row, left):
                    book.active.cell(i, j, int(cell) if cell.isdecimal() else cell)
            first, last = (
                book.active.cell(1, left),
                book.active.cell(len(table), left + len(row) - 1),
            )
            area = f"{first.coordinate}:{last.coordinate}"
            book.active.add_table(Table(displayName=called, ref=area))
        book.save(tmp_path / name)

    save("a.xlsx", [])
    assert tables_read(kerfmark, "a.xlsx") == [HIVES, KEEPERS]
    kerfmark("cut", "a.xlsx", "--into", "a.db")
    save("a.xlsx", [["Fir", "Ford", "8"]])
    kerfmark("refresh", "a.db")
    with sqlite3.connect(tmp_path / "a.db") as db:
        assert db.execute("SELECT count(*) FROM apiary").fetchall() == [(4,)]
        assert db.execute("SELECT keeper, since FROM keeper").fetchall() == [
            ("Ann", 2001),
            ("Ben", 2002),
        ]


@pytest.mark.parametrize("ending", ["csv", "xlsx"])
def test_later_files_may_have_other_heights(kerfmark: Runner, tmp_path: Path, ending: str) -> None:
    titled = [["Hives"], *HIVES]
    write_grid(placed((titled, 0, 0), ([["Keepers"], *KEEPERS], 6, 0)), tmp_path / f"a.{ending}")
    more = [["Hives"], HIVES[0], *([f"Fir {i}", "Ford", str(i)] for i in range(1, 9))]
    others = [["Keepers"], KEEPERS[0], ["Cid", "2009"]]
    write_grid(placed((more, 0, 0), (others, 12, 1)), tmp_path / f"b.{ending}")
    kerfmark("cut", f"a.{ending}", "--into", "a.db")
    kerfmark("add", f"b.{ending}", "--into", "a.db")
    assert kerfmark("prove", "a.db").code == 0
    again = kerfmark("add", f"b.{ending}", "--into", "a.db", code=1)
    assert "loaded already" in again.err
    with sqlite3.connect(tmp_path / "a.db") as db:
        names = [n for (n,) in db.execute("SELECT name FROM hive ORDER BY hive_id")]
        assert names == ["Ash", "Elm", "Oak", *(f"Fir {i}" for i in range(1, 9))]
        keepers = db.execute("SELECT keeper FROM keeper ORDER BY 1").fetchall()
        assert keepers == [("Ann",), ("Ben",), ("Cid",)]
    rows = kerfmark("prove", "a.db", "--json").json["files"]
    assert sorted((r["part"], r["records"]) for r in rows) == [
        ("1", 3),
        ("1", 8),
        ("2", 1),
        ("2", 2),
    ]


def test_tables_of_one_shape_are_one_source_told_apart_by_their_titles(
    kerfmark: Runner, tmp_path: Path
) -> None:
    table = [["month", "kg"], ["Jan", "1"], ["Feb", "2"]]
    grid = placed(([["2040"], *table], 0, 0), ([["2041"], *table], 4, 0))
    write_grid(grid, tmp_path / "a.csv")
    [read] = tables_read(kerfmark, "a.csv")
    assert read == [
        ["year", "month", "kg"],
        *([year, *row] for year in ("2040", "2041") for row in table[1:]),
    ]
    kerfmark("cut", "a.csv", "--into", "a.db")
    assert kerfmark("prove", "a.db").code == 0


def test_a_table_that_is_not_there(kerfmark: Runner, tmp_path: Path) -> None:
    write_grid(placed((HIVES, 0, 0), (STATES, 5, 0)), tmp_path / "a.csv")
    write_grid(placed((HIVES, 0, 0)), tmp_path / "b.csv")
    for name, number in (("a.csv", "3"), ("b.csv", "1")):
        assert (
            f"there is no table {number}"
            in kerfmark("measure", name, "--block", number, code=2).err
        )
    [whole] = tables_read(kerfmark, "a.csv", "--block", "0")
    assert len(whole) == 7


def test_a_sheet_of_notes_is_passed_over_and_told(kerfmark: Runner, tmp_path: Path) -> None:
    book = openpyxl.Workbook()
    book.active.title = "Read me"
    for line in ("The hives of the club", "Numbers are those on the lids.", "Ask Ada for more."):
        book.active.append([line])
    sheet = book.create_sheet("Hives")
    for row in HIVES:
        sheet.append(row)
    kinds = book.create_sheet("Towns")
    for town in ("town of the hive as it was", "Weir", "Mill"):
        kinds.append([town])
    book.save(tmp_path / "a.xlsx")
    told = kerfmark("cut", "a.xlsx", "--into", "a.db").out
    assert 'skipped: a.xlsx, sheet "Read me" holds notes, not a table' in told
    with sqlite3.connect(tmp_path / "a.db") as db:
        tables = {n for (n,) in db.execute("SELECT name FROM sqlite_master WHERE type = 'table'")}
    assert {n for n in tables if not n.startswith(("kerfmark", "sqlite"))} == {"hive", "town"}
    assert kerfmark("prove", "a.db").code == 0
    [notes] = tables_read(kerfmark, "a.xlsx", "--sheet", "Read me")
    assert "Ask Ada for more." in [cell for row in notes for cell in row]
    assert "skipped" not in kerfmark("mark", "a.xlsx", "--sheet", "Read me").out


def test_page_breaks_with_the_header_again(kerfmark: Runner, tmp_path: Path) -> None:
    pages = "no,name\n1,Ash\n2,Elm\n\x0cno,name\n3,Oak\n"
    (tmp_path / "a.csv").write_text(pages)
    assert tables_read(kerfmark, "a.csv") == [
        [["no", "name"], ["1", "Ash"], ["2", "Elm"], ["3", "Oak"]]
    ]
    kerfmark("cut", "a.csv", "--into", "a.db")
    assert kerfmark("prove", "a.db").code == 0
