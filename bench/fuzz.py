"""Runs the program on random rough input - file names, headers, cells, layouts, JSON - and counts
what must never be: tracebacks, faults of the program, hangs, raw control characters on the
terminal, loads that are not proven.

    python bench/fuzz.py [--minutes 10] [--seed 1] [--keep FOLDER]

Each input is made, measured, cut, proven, shown, exported and taken back. A line of results is
printed per kind; inputs that did wrong are kept.
"""

from __future__ import annotations

import argparse
import json
import random
import re
import shutil
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from program import Program

from conftest import Run

LIMIT = 60
"""Seconds after which a command counts as hanging."""
ODD = [
    *"\"'`;,|\t\\/.:*?<>%$&#@!()[]{}=+-_~^ ",
    *("\n", "\r", "\r\n", "\x00", "\x07", "\x1b[31m", "\x7f", "\x85", "\xa0"),
    *(
        "\u2028",
        "\u202e",
        "\u200b",
        "\ufeff",
        "\ufffd",
        "\U0001f41d",
        "e\u0301",
        "\u0130",
        "\u00df",
    ),
    *("NULL", "null", "None", "NaN", "nan", "inf", "-inf", "true", "-0", "-0.0", "1e400", "1e-400"),
    *("0x1F", "007", "1,5", "1.000,5", "1_000", "--", "=1+1", "@a", "DROP TABLE x;--", "' OR 1=1"),
    *("2026-02-30", "31.12.9999", "0000-00-00", "24:00", "2026-01-01T00:00:00+25:00", "1/2/3"),
    *("rowid", "oid", "ctid", "select", "table", "kerfmark_loads", "sqlite_master", "id", "order"),
    *("9" * 40, "a" * 300, "%s", "{0}", "${HOME}", "../../x", "C:\\x", "\\N", "\\", '""', "'"),
]
COMMANDS = {
    "measure": ["measure", "{files}"],
    "cut": ["cut", "{files}", "--into", "x.db"],
    "check": ["check", "x.layout.toml"],
    "prove": ["prove", "x.db"],
    "show": ["show", "x.db"],
    "export": ["export", "x.db", "-o", "out"],
    "again": ["cut", "out", "--into", "y.db"],
    "undo": ["undo", "x.db"],
}


def word(rng: random.Random, most: int = 4) -> str:
    """A text of odd parts and plain ones."""
    parts = [
        rng.choice(ODD) if rng.random() < 0.5 else rng.choice("abcXYZ019")
        for _ in range(rng.randint(1, most))
    ]
    return "".join(parts)


def cell(rng: random.Random, kind: int, row: int) -> str:
    """A cell of a column of some kind, mostly of that kind."""
    if rng.random() < 0.06:
        return word(rng)
    if rng.random() < 0.05:
        return rng.choice(["", " ", "-", "n/a", "?"])
    return [
        str(row),
        f"H{row % 7}",
        f"k{row % 7 % 3}",
        f"{rng.randint(0, 999) / 10}",
        f"2026-{row % 12 + 1:02}-{row % 28 + 1:02}",
        f"{row % 28 + 1}.{row % 12 + 1}.2026",
        rng.choice(["yes", "no"]),
        f"{rng.randint(0, 9)}; {rng.randint(0, 9)}",
        f"{rng.randint(1, 9)}.{rng.randint(100, 999)},{rng.randint(0, 9)}",
        rng.choice(["wood", "straw", "Bräu", "ß"]),
    ][kind]


def a_table(rng: random.Random, odd_headers: float) -> tuple[list[str], list[list[str]]]:
    """Headers and rows."""
    kinds = [rng.randrange(10) for _ in range(rng.randint(1, 9))]
    headers = [
        word(rng) if rng.random() < odd_headers else f"column {i}" for i in range(len(kinds))
    ]
    rows = [[cell(rng, k, row) for k in kinds] for row in range(rng.randint(0, 60))]
    return headers, rows


def as_text(rng: random.Random, headers: list[str], rows: list[list[str]]) -> bytes:
    """A delimited text, at times a broken one."""
    delimiter, end = rng.choice(",;\t|"), rng.choice(["\n", "\r\n", "\r"])
    careful = rng.random() < 0.8

    def one(text: str) -> str:
        if any(c in text for c in (delimiter, '"', "\n", "\r")) and careful:
            return '"' + text.replace('"', '""') + '"'
        return text

    whole = end.join(delimiter.join(map(one, r)) for r in (headers, *rows)) + end * rng.randint(
        0, 2
    )
    encoding = rng.choice(["utf-8", "utf-8", "utf-8-sig", "cp1252", "utf-16", "utf-16-le"])
    data = bytearray(whole.encode(encoding, "replace"))
    for _ in range(rng.choice([0, 0, 0, 1, 3])):
        if data:
            data[rng.randrange(len(data))] = rng.randrange(256)
    return bytes(data)


def names(rng: random.Random, folder: Path) -> list[str]:
    """Files with odd names."""
    out = []
    for _ in range(rng.randint(1, 3)):
        name = word(rng, 3).replace("/", "").replace("\0", "")[:60].strip(".") or "x"
        path = folder / f"{name}{rng.choice(['.csv', '.CSV', '.txt', '', '.tsv'])}"
        try:
            path.write_bytes(as_text(rng, *a_table(rng, 0.1)))
        except OSError:
            continue
        out.append(path.name)
    return out or headers(rng, folder)


def headers(rng: random.Random, folder: Path) -> list[str]:
    """A file with odd headers."""
    (folder / "x.csv").write_bytes(as_text(rng, *a_table(rng, 0.7)))
    return ["x.csv"]


def cells(rng: random.Random, folder: Path) -> list[str]:
    """A file with odd cells, damaged at times."""
    (folder / "x.csv").write_bytes(as_text(rng, *a_table(rng, 0.05)))
    return ["x.csv"]


def as_json(rng: random.Random, folder: Path) -> list[str]:
    """Records with records and lists in them."""

    def value(kind: int, depth: int) -> Any:
        if rng.random() < 0.02:
            kind = rng.randrange(9)
        if kind < 5 or depth > 3:
            numbers = [rng.randint(-5, 10**12), rng.random(), 1e300, -0.0]
            return [word(rng), "x", rng.choice(numbers), rng.randint(0, 9), None][kind % 5]
        if kind < 7:
            return [value(kind - 4 + depth, depth + 1) for _ in range(rng.randint(0, 3))]
        return {k: value(i, depth + 1) for i, k in enumerate(inner[: kind - 5])}

    outer, inner = ["no", "a", "b", word(rng)], ["a", "c", word(rng), "d"]
    kinds = [rng.randrange(9) for _ in outer]
    records = [
        {k: value(kind, 0) for k, kind in zip(outer, kinds, strict=True) if rng.random() < 0.95}
        for _ in range(rng.randint(0, 30))
    ]
    whole: Any = rng.choice(
        [records, records, {"things": records}, {"a": records, "b": records[:2]}]
    )
    text = json.dumps(whole, ensure_ascii=rng.random() < 0.5)
    ending = ".json"
    if rng.random() < 0.4:
        text, ending = "\n".join(json.dumps(r) for r in records), ".jsonl"
    data = bytearray(text.encode("utf-8", "surrogatepass"))
    if rng.random() < 0.2 and data:
        data[rng.randrange(len(data))] = rng.randrange(256)
    (folder / f"x{ending}").write_bytes(bytes(data))
    return [f"x{ending}"]


def layouts(rng: random.Random, folder: Path) -> list[str]:
    """A layout that was edited by a careless hand."""
    (folder / "x.csv").write_text(
        "no,hive,kind,kg\n" + "".join(f"{n},H{n % 7},k{n % 7 % 3},{n}.5\n" for n in range(60))
    )
    text = LAYOUT
    for _ in range(rng.choice([0, 1, 1, 2, 3])):
        lines = text.splitlines()
        at = rng.randrange(len(lines))
        pick = rng.random()
        if pick < 0.35:
            lines[at] = re.sub(r'"[^"]*"', lambda _: json.dumps(word(rng)), lines[at])
        elif pick < 0.4:
            lines.insert(at, rng.choice(lines))
        elif pick < 0.5:
            lines.pop(at)
        elif pick < 0.9:
            key = rng.choice(KEYS)
            lines.insert(at, f"{key} = {rng.choice(VALUES)}")
        else:
            lines[at] = lines[at][: rng.randint(0, len(lines[at]))] + word(rng)
        text = "\n".join(lines) + "\n"
    (folder / "x.toml").write_bytes(text.encode("utf-8", "replace"))
    return ["x.toml"]


LAYOUT = """kerfmark = 1
[sources.x]
file = "x.csv"
[tables.x]
each_row = true
known_by = ["no"]
[tables.x.links]
hive_id = "hive"
[tables.x.columns]
no = {header = "no", type = "integer"}
kg = {header = "kg", type = "decimal(4,1)"}
[tables.hive]
known_by = ["hive"]
[tables.hive.columns]
hive = "hive"
kind = "kind"
"""
KEYS = [
    *(
        "type",
        "derived",
        "means",
        "known_by",
        "key",
        "unique",
        "optional",
        "repeats",
        "split",
        "default",
    ),
    *(
        "delimiter",
        "header_row",
        "skip_rows",
        "blanks",
        "fill_down",
        "also",
        "order",
        "only_rows",
        "part_of",
    ),
    *(
        "encoding",
        "decimals",
        "dates",
        "view",
        "conflicts",
        "known",
        "kerfmark",
        "existing",
        "columns",
        "file",
    ),
]
VALUES = [
    *(
        '"x"',
        '""',
        "1",
        "-1",
        "true",
        "[]",
        '["no"]',
        '["kg", "kind"]',
        '{a = "b"}',
        "{}",
        "1.5",
        "2026-01-01",
    ),
    *(
        '"no + kg"',
        '"year(no)"',
        '"if(kg > 1, \\"a\\", \\"b\\")"',
        '"decimal(99,98)"',
        '"date D.M.YYYY"',
        '[["no"]]',
    ),
    *(
        '"cp1252"',
        '"utf-99"',
        '"../x.csv"',
        '{header = "no", type = "integer", derived = "no * 2"}',
        "999999999999",
    ),
]


KINDS: dict[str, Callable[[random.Random, Path], list[str]]] = {
    "names": names,
    "headers": headers,
    "cells": cells,
    "JSON": as_json,
    "layouts": layouts,
}
RAW = re.compile(r"[\x00-\x08\x0b-\x1f\x7f-\x9f\u2028\u2029\u202a-\u202e\u2066-\u2069]")


def wrong(done: Run | None, step: str) -> str:
    """What a run did that must never be; "" for nothing."""
    if done is None:
        return "hangs"
    said = done.out + done.err
    if "Traceback" in said or done.code < 0:
        return "tracebacks"
    if (
        "fault of Kerfmark" in said
        or "fault of the program" in said
        or done.code not in (0, 1, 2, 3)
    ):
        return "faults"
    if RAW.search(said):
        return "raw characters"
    if step == "prove" and done.code:
        return "not proven"
    if re.search(r"Warning:", said):
        return "warnings of libraries"
    return ""


BAD = ("hangs", "tracebacks", "faults", "raw characters", "not proven", "warnings of libraries")


def main() -> None:
    """Tries inputs until the time is up."""
    parser = argparse.ArgumentParser(description="Runs the program on random rough input.")
    parser.add_argument("--minutes", type=float, default=10)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--kind", nargs="*", default=list(KINDS))
    parser.add_argument("--keep", type=Path, default=Path(tempfile.gettempdir()) / "kerfmark-fuzz")
    wanted = parser.parse_args()

    run, until, seed = Program(LIMIT), time.monotonic() + 60 * wanted.minutes, wanted.seed
    sums = {kind: Counter[str]() for kind in wanted.kind}
    while time.monotonic() < until:
        for kind in wanted.kind:
            with tempfile.TemporaryDirectory() as name:
                folder = Path(name)
                files = KINDS[kind](random.Random(f"{kind} {seed}"), folder)
                sums[kind]["inputs"] += 1
                loaded = True
                for step, command in COMMANDS.items():
                    if step not in ("measure", "cut") and not loaded:
                        continue
                    if step == "measure" and kind == "layouts":
                        continue
                    args = [a for c in command for a in (files if c == "{files}" else [c])]
                    if step == "check" and kind == "layouts":
                        args = ["check", "x.toml"]
                    done = run.run(folder, args)
                    sums[kind]["commands"] += 1
                    if what := wrong(done, step):
                        sums[kind][what] += 1
                        kept = wanted.keep / f"{kind}-{seed}"
                        shutil.copytree(folder, kept, dirs_exist_ok=True)
                        said = "" if done is None else (done.out + done.err)[-300:]
                        print(f"  {what}: {kind} {seed}, {step}, kept: {said!r}", flush=True)
                        break
                    if step == "cut" and done is not None:
                        loaded = done.code == 0
                        sums[kind]["loaded"] += loaded
        seed += 1
    columns = ("inputs", "loaded", "commands", *BAD)
    print("| kind | " + " | ".join(columns) + " |\n|" + "---|" * (len(columns) + 1))
    for kind, counts in sums.items():
        print(f"| {kind} | " + " | ".join(f"{counts[c]:,}" for c in columns) + " |")


if __name__ == "__main__":
    main()
