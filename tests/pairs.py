"""Two commands at one database at once: whatever they are, each does all or nothing, and what it
reports is there."""

from __future__ import annotations

import subprocess
import sys
import threading
import time
from collections.abc import Callable
from itertools import combinations_with_replacement
from pathlib import Path

from conftest import Run
from engines import Target

COMMANDS: dict[str, Callable[[str, int], list[str]]] = {
    "add": lambda db, n: ["add", f"c{n}.csv", "--into", db],
    "undo": lambda db, n: ["undo", db],
    "refresh": lambda db, n: ["refresh", db],
    "recut": lambda db, n: ["recut", db, "new.toml"],
    "export": lambda db, n: ["export", db, "-o", f"out{n}"],
    "prove": lambda db, n: ["prove", db],
    "cut": lambda db, n: ["cut", "a.csv", "--into", db],
    "cut --replace": lambda db, n: ["cut", "a.csv", "--into", db, "--replace", "--discard"],
}
PAIRS = tuple(combinations_with_replacement(COMMANDS, 2))
FIRST = {"a.csv": 200, "b.csv": 400, "c1.csv": 300, "c2.csv": 300}
"""The rows of the files."""


Program = Callable[[list[str], Path], Run]
"""Runs a command line in a folder."""


def rows(name: str, mood: str) -> str:
    """The text of a file."""
    first = {"a.csv": 0, "b.csv": 1000, "c1.csv": 5000, "c2.csv": 10000}[name]
    return "no,mood\n" + "".join(f"{n},{mood}{n % 3}\n" for n in range(first, first + FIRST[name]))


def alone(folder: Path, *args: str) -> subprocess.CompletedProcess[str]:
    """Runs the program by itself."""
    return subprocess.run(
        [sys.executable, "-m", "kerfmark", *args],
        cwd=folder,
        capture_output=True,
        text=True,
        timeout=100,
        check=False,
    )


def at_once(
    run: Program, folder: Path, db: Target, first: str, second: str, after: float
) -> list[str]:
    """Makes a database with two loads (by a `run` of the program), one of whose files is changed,
    and starts two commands at it, the second some seconds after the first (or before it, if it is negative); what is wrong
    then."""
    for old in folder.glob("*.layout.toml"):
        old.unlink()
    for name in FIRST:
        (folder / name).write_text(rows(name, "m"))
    for made in (["cut", "a.csv"], ["add", "b.csv"]):
        assert run([*made, "--into", str(db)], folder).code == 0
    text = run(["show", str(db), "--layout"], folder).out
    (folder / "new.toml").write_text(text.replace("mood =", "temper ="))
    (folder / "b.csv").write_text(rows("b.csv", "other"))
    done: dict[int, subprocess.CompletedProcess[str]] = {}

    def start(n: int, name: str, wait: float) -> None:
        time.sleep(wait)
        done[n] = alone(folder, *COMMANDS[name](str(db), n))

    waits = (max(0.0, -after), max(0.0, after))
    threads = [
        threading.Thread(target=start, args=(n, name, wait))
        for n, name, wait in zip((1, 2), (first, second), waits, strict=True)
    ]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    wrong = []
    for n in (1, 2):
        said = done[n].stdout + done[n].stderr
        if done[n].returncode not in (0, 1, 2) or "Traceback" in said or "fault of" in said:
            wrong.append(f"{n}: code {done[n].returncode}: {said[-300:]}")
    files = db.ask(
        "SELECT file FROM kerfmark_files f JOIN kerfmark_loads l ON l.load_id = f.load_id "
        "WHERE undone_at IS NULL"
    )
    loads = [Path(f).name for f in files]
    there = db.ask("SELECT COUNT(*) FROM a")[0]
    if there != sum(FIRST[f] for f in loads):
        wrong.append(f"{there} rows of {loads}")
    taken = {"undo", "cut --replace"} & {first, second}
    for n, name in ((1, first), (2, second)):
        if name == "add" and done[n].returncode == 0 and not taken and f"c{n}.csv" not in loads:
            wrong.append(f"{n}: add was reported, and is not there")
    if "refresh" in (first, second):
        run(["refresh", str(db)], folder)
    else:
        (folder / "b.csv").write_text(rows("b.csv", "m"))
    proof = run(["prove", str(db)], folder)
    if proof.code:
        wrong.append(f"not proven: {(proof.out + proof.err)[-300:]}")
    wrong += [f"left over: {t}" for t in db.tables() if t.startswith("kerfmark_part")]
    return wrong
