"""Breaks the connection to a server off at every message of a command, before and after the server
got it, and holds what Kerfmark says against what is in the database.

    python bench/lost_connections.py [--every 5] [--engine MariaDB] [--command add]

Prints a row per command: how many breaks were tried, how many loads had landed, how often something
else was said than what was so, tracebacks, and databases that were not whole afterwards.
"""

from __future__ import annotations

import argparse
import itertools
import sys
import tempfile
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from program import Program

from breakable import When, breakable
from engines import Target, target

HEAD = "no,hive,kind,mood\n"
COMMANDS = {
    "cut": ["cut", "a.csv", "--into"],
    "cut --replace": ["cut", "a.csv", "--replace", "--discard", "--into"],
    "add": ["add", "b.csv", "--into"],
    "add --put": ["add", "c.csv", "--put", "note=a", "--into"],
    "cut --beside": ["cut", "d.csv", "--beside", "--into"],
    "cut --onto": ["cut", "onto.toml", "--into"],
    "undo": ["undo"],
    "refresh": ["refresh"],
    "recut": ["recut"],
    "drop": ["drop", "--discard"],
}


def lines(first: int, many: int, more: str = "") -> str:
    """Rows of visits."""
    numbers = range(first, first + many)
    return "".join(f"{n},H{n % 9},k{n % 9 % 2},m{n % 3}{more}\n" for n in numbers)


COLUMNS = (
    "SELECT column_name FROM information_schema.columns WHERE table_schema = '{}'"
    " AND table_name = 'hive'"
)
FILES = {
    "a.csv": HEAD + lines(0, 60),
    "b.csv": HEAD + lines(1000, 40),
    "c.csv": HEAD[:-1] + ",note\n" + lines(2000, 40, ",new"),
    "d.csv": "hive,day\n" + "".join(f"H{n % 9},2026-01-{n + 1:02}\n" for n in range(20)),
}


def prepare(run: Program, folder: Path, db: Target, command: str) -> list[str]:
    """A database as the command finds it, and what is put behind its name."""
    for name, text in FILES.items():
        (folder / name).write_text(text)
    for old in folder.glob("*.layout.toml"):
        old.unlink()
    if command == "cut":
        return []
    if command == "cut --onto":
        if db.engine == "PostgreSQL":
            db.do(f"CREATE SCHEMA {db.url.split('=')[1]}")
        db.do("CREATE TABLE hive (hive varchar(20) PRIMARY KEY, kind varchar(20))")
        db.do("CREATE TABLE a (no int PRIMARY KEY, hive varchar(20) REFERENCES hive, mood text)")
        onto = run(["mark", "a.csv", "--onto", str(db), "-o", "onto.toml", "--replace"], folder)
        assert onto.code == 0, onto
        return []
    assert run(["cut", "a.csv", "--into", str(db)], folder).code == 0
    if command in ("undo", "refresh", "recut", "drop"):
        assert run(["add", "b.csv", "--into", str(db)], folder).code == 0
    if command == "cut --replace":
        (folder / "a.csv").write_text(HEAD + lines(0, 70))
    if command == "refresh":
        (folder / "b.csv").write_text(HEAD + lines(1000, 50))
    if command != "recut":
        return []
    text = run(["show", str(db), "--layout"], folder).out
    (folder / "new.toml").write_text(text.replace("mood =", "temper ="))
    return ["new.toml"]


def not_whole(run: Program, folder: Path, db: Target) -> str:
    """What is wrong with a database, after a command that clears up what was left."""
    if "kerfmark_loads" not in db.tables():
        return ""
    run(["undo", str(db), "9999"], folder)
    proof = run(["prove", str(db)], folder)
    left = [t for t in db.tables() if t.startswith("kerfmark_part")]
    return (proof.out + proof.err if proof.code else "")[-300:] + " ".join(left)


def contents(db: Target) -> dict[str, Any]:
    """All that is in a database."""
    there = db.tables()
    if "temper" in str(db.ask(COLUMNS.format(db.url.split("=")[-1].split("/")[-1]))):
        return {"recut": []}
    return (
        db.dump()
        if "kerfmark_loads" in there
        else {t: db.ask(f'SELECT * FROM "{t}"') for t in there}
    )


def tried(
    run: Program, folder: Path, engine: str, command: str, when: When, delivered: bool
) -> dict[str, int]:
    """One break: what was so of it. Nothing where the command was done before."""
    with target(engine, folder) as db:
        more = prepare(run, folder, db, command)
        before = contents(db)
        with breakable(engine, when, delivered=delivered) as way:
            done = run([*COMMANDS[command], way.url(str(db)), *more], folder)
        if not way.broken:
            return {}
        said = done.out + done.err
        landed = contents(db) != before
        for name, text in FILES.items() if not landed else ():  # as they were loaded
            (folder / name).write_text(text)
        wrong = not_whole(run, folder, db)
        untrue = (done.code == 0) != landed and "is not known" not in said
        fault = "Traceback" in said or "fault of" in said
        if untrue or fault or wrong:
            place = f"{way.messages} {'after' if delivered else 'before'}"
            print(f"  {place}: code {done.code}, landed {landed}: {said[-500:]!r} {wrong}")
        return dict(zip(FIGURES, map(int, (True, landed, untrue, fault, bool(wrong))), strict=True))


FIGURES = ("breaks", "landed", "untrue", "tracebacks", "not whole")


def main() -> None:
    """Tries them and prints the table."""
    parser = argparse.ArgumentParser(description="Breaks connections off at every message.")
    parser.add_argument("--every", type=int, default=1, help="only every so many messages")
    parser.add_argument("--engine", nargs="*", default=["PostgreSQL", "MariaDB"])
    parser.add_argument("--command", nargs="*", default=list(COMMANDS))
    wanted = parser.parse_args()
    run = Program()
    print(f"{'engine':<11} {'command':<14}", *(f"{f:>10}" for f in FIGURES))
    with tempfile.TemporaryDirectory() as name:
        for engine in wanted.engine:
            for command in wanted.command:
                sums = dict.fromkeys(FIGURES, 0)
                for n in itertools.count(1, wanted.every):
                    found: dict[str, int] = {}
                    for delivered in (False, True):
                        when: When = lambda at, _text, n=n: at == n  # noqa: E731
                        found = tried(run, Path(name), engine, command, when, delivered)
                        sums = {f: sums[f] + found.get(f, 0) for f in FIGURES}
                    if not found:
                        break
                print(
                    f"{engine:<11} {command:<14}", *(f"{s:>10}" for s in sums.values()), flush=True
                )


if __name__ == "__main__":
    main()
