"""Makes a flat file of a chosen size for the benchmarks: hive inspections with their parents
repeated inline.

    python bench/make_flat.py ROWS OUT.csv

Thirteen columns, four parents on two levels: inspection -> hive -> apiary, inspection -> keeper ->
club. Always the same bytes for the same number of rows.
"""

from __future__ import annotations

import sys
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

BATCH = 250_000
HEADERS = [
    "inspection",
    "seen on",
    "hive",
    "hive type",
    "queen year",
    "apiary",
    "apiary grid",
    "keeper",
    "keeper phone",
    "club",
    "club founded",
    "mites",
    "remark",
]
REMARKS = [
    "calm on the comb",
    "two frames of stores left",
    "queen seen and marked",
    "swarm cells torn down",
    "supers added, weather fair",
    "entrance narrowed against wasps",
    "varroa board counted after three days",
]


def texts(pattern: str, numbers: np.ndarray) -> pa.Array:
    """One text per number, by a %-pattern."""
    return pa.array([pattern % n for n in numbers.tolist()])


def make_flat(rows: int, out: Path, like: int = 0) -> None:
    """Writes the file, with as many hives, apiaries and keepers as one of `like` rows has (0: of as
    many as it has)."""
    rng = np.random.default_rng(20250301)
    size = like or rows
    hives, apiaries, keepers, clubs = (
        max(size // 100, 20),
        max(size // 2000, 8),
        max(size // 400, 10),
        40,
    )
    apiary_of, club_of = rng.integers(0, apiaries, hives), rng.integers(0, clubs, keepers)
    hive = {
        "hive": texts("H-%06d", np.arange(hives)),
        "hive type": pa.array(["National", "Langstroth", "Top bar", "Warre"]).take(
            pa.array(rng.integers(0, 4, hives))
        ),
        "queen year": texts("%d", rng.integers(2015, 2026, hives)),
        "apiary": texts("Apiary at Low Field %d", apiary_of),
        "apiary grid": texts("XK %06d", rng.integers(0, 999_999, apiaries)[apiary_of]),
    }
    keeper = {
        "keeper": texts("Keeper Marlow Ashby %d", np.arange(keepers)),
        "keeper phone": texts("01632 %06d", rng.integers(0, 999_999, keepers)),
        "club": texts("Thistledown Beekeepers %d", club_of),
        "club founded": texts("%d", rng.integers(1890, 2010, clubs)[club_of]),
    }
    days = np.datetime64("2015-01-01") + np.arange(3650)
    days_text, mites_text = pa.array([str(d) for d in days]), texts("%d", np.arange(400))
    remarks = pa.array([f"{r}{s}" for r in REMARKS for s in ["", " (again)", " - see card"]])
    with out.open("wb") as file:
        file.write((",".join(HEADERS) + "\n").encode())
        for start in range(0, rows, BATCH):
            n = min(BATCH, rows - start)
            h, k = pa.array(rng.integers(0, hives, n)), pa.array(rng.integers(0, keepers, n))
            cells = {
                "inspection": pc.cast(pa.array(np.arange(start + 1, start + n + 1)), pa.string()),
                "seen on": days_text.take(pa.array(rng.integers(0, len(days), n))),
                **{c: a.take(h) for c, a in hive.items()},
                **{c: a.take(k) for c, a in keeper.items()},
                "mites": mites_text.take(pa.array(rng.poisson(40, n))),
                "remark": remarks.take(pa.array(rng.integers(0, len(remarks), n))),
            }
            quoted = pc.binary_join_element_wise('"', cells["remark"], '"', "")
            cells["remark"] = pc.if_else(
                pc.match_substring(cells["remark"], ","), quoted, cells["remark"]
            )
            lines = pc.binary_join_element_wise(*[cells[c] for c in HEADERS], ",")
            file.write("\n".join(lines.to_pylist()).encode() + b"\n")


def make_book(rows: int, path: Path) -> None:
    """A workbook of one sheet with twenty columns: codes, numbers, words and days."""
    import datetime as dt

    import xlsxwriter

    rng = np.random.default_rng(7)
    words, start = ["calm", "busy", "swarm cells seen", "no queen"], dt.date(2020, 1, 1)
    with xlsxwriter.Workbook(str(path), {"constant_memory": True}) as book:
        sheet, day = book.add_worksheet("Visits"), book.add_format({"num_format": "yyyy-mm-dd"})
        sheet.write_row(
            0,
            0,
            [f"{what} {i}" for i in range(4) for what in ("hive", "kg", "count", "note", "day")],
        )
        picks = rng.integers(0, 2000, (rows, 20)).tolist()
        for r, pick in enumerate(picks, 1):
            for c in range(0, 20, 5):
                sheet.write_string(r, c, f"H{pick[c]:04}")
                sheet.write_number(r, c + 1, pick[c + 1] / 10)
                sheet.write_number(r, c + 2, pick[c + 2] % 100)
                sheet.write_string(r, c + 3, words[pick[c + 3] % 4])
                sheet.write_datetime(r, c + 4, start + dt.timedelta(pick[c + 4]), day)


if __name__ == "__main__":
    make_flat(int(sys.argv[1]), Path(sys.argv[2]))
