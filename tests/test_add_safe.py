"""A load lands whole or not at all: killed programs, several at once, locks, full disks."""

from __future__ import annotations

import os
import random
import signal
import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

import kerfmark
from conftest import Runner
from kerfmark.verbs.loads import loads

Write = Callable[..., Path]
LAYOUT = """\
kerfmark = 1
[sources.visits]
file = "visits.csv"
[tables.visit]
each_row = true
known_by = ["no"]
links = ["hive", "keeper"]
optional = ["kg"]
[tables.visit.columns]
no = {header = "no", type = "integer"}
kg = {header = "kg", type = "decimal(5,1)"}
[tables.hive]
known_by = ["hive"]
links = ["apiary"]
columns = ["hive"]
[tables.apiary]
known_by = ["apiary"]
columns = ["apiary"]
[tables.keeper]
known_by = ["keeper"]
columns = ["keeper"]
"""


def visits(first: int, rows: int, spread: int) -> str:
    lines = [
        f"{i},{i % 97 / 10:.1f},H{i * 7 % spread},A{i * 7 % spread % 11},K{i * 3 % (spread // 2 + 1)}"
        for i in range(first, first + rows)
    ]
    return "no,kg,hive,apiary,keeper\n" + "\n".join(lines) + "\n"


def content(path: Path) -> dict[str, list[Any]]:
    """Every row of every table."""
    with sqlite3.connect(path) as db:
        assert db.execute("PRAGMA integrity_check").fetchall() == [("ok",)]
        assert db.execute("PRAGMA foreign_key_check").fetchall() == []
        names = [
            n
            for (n,) in db.execute(
                "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite%'"
            )
        ]
        return {
            n: db.execute(f"SELECT * FROM {n} ORDER BY rowid").fetchall() for n in sorted(names)
        }


def user_rows(whole: dict[str, list[Any]]) -> dict[str, int]:
    return {n: len(rows) for n, rows in whole.items() if not n.startswith("kerfmark")}


@pytest.mark.parametrize("verb", ["add", "undo"])
def test_a_killed_program_leaves_all_as_before_or_as_after(
    write: Write, kerfmark: Runner, tmp_path: Path, verb: str
) -> None:
    write("visits.csv", visits(0, 500, 90))
    write("more.csv", visits(10_000, 12_000, 1_000))
    write("l.toml", LAYOUT)
    kerfmark("cut", "l.toml", "--into", "v.db")
    if verb == "undo":
        kerfmark("add", "more.csv", "--into", "v.db")
    path, command = (
        tmp_path / "v.db",
        ["add", "more.csv", "--into", "v.db"] if verb == "add" else ["undo", "v.db"],
    )
    start = path.read_bytes()
    before = user_rows(content(path))
    began = time.perf_counter()
    kerfmark(*command)
    whole = time.perf_counter() - began
    after = user_rows(content(path))
    assert before != after
    chance, seen = random.Random(7), set()
    for n in range(20):
        path.write_bytes(start)
        process = subprocess.Popen(
            [sys.executable, "-m", "kerfmark", *command],
            cwd=tmp_path,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        time.sleep(whole * (0.3 + 0.65 * (n + chance.random()) / 20))
        process.send_signal(signal.SIGKILL)
        process.wait()
        loads(path)  # the next command works without repair
        here = user_rows(content(path))
        assert here in (before, after)
        seen.add(here == after)
        for rest in tmp_path.glob("v.db-*"):  # what the next command would have taken over
            rest.unlink()
    assert False in seen
    path.write_bytes(start)
    kerfmark(*command)
    assert user_rows(content(path)) == after


def test_two_at_once_wait_for_each_other(write: Write, kerfmark: Runner, tmp_path: Path) -> None:
    write("visits.csv", visits(0, 500, 50))
    write("l.toml", LAYOUT)
    kerfmark("cut", "l.toml", "--into", "v.db")
    for n in (1, 2, 3):
        write(f"more{n}.csv", visits(n * 10_000, 4_000, 500 * n))
    running = [
        subprocess.Popen(
            [sys.executable, "-m", "kerfmark", "add", f"more{n}.csv", "--into", "v.db"],
            cwd=tmp_path,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.PIPE,
            text=True,
        )
        for n in (1, 2, 3)
    ]
    done = [(p.wait(), p.stderr.read() if p.stderr else "") for p in running]
    assert [code for code, _ in done] == [0, 0, 0], done
    assert user_rows(content(tmp_path / "v.db"))["visit"] == 12_500
    assert kerfmark("prove", "v.db", "--json").json["holds"]


def test_a_locked_and_a_read_only_database_are_told(write: Write, tmp_path: Path) -> None:
    write("visits.csv", visits(0, 50, 9))
    write("more.csv", visits(100, 50, 9))
    write("l.toml", LAYOUT)
    kerfmark.cut([tmp_path / "l.toml"], tmp_path / "v.db")
    from kerfmark.store.sqlite import changing

    holder = subprocess.Popen(
        [
            sys.executable,
            "-c",
            "import sqlite3, sys, time; d = sqlite3.connect(sys.argv[1]); "
            "d.execute('BEGIN IMMEDIATE'); print('held', flush=True); time.sleep(60)",
            str(tmp_path / "v.db"),
        ],
        stdout=subprocess.PIPE,
        text=True,
    )
    assert holder.stdout is not None and holder.stdout.readline() == "held\n"
    patience, changing.PATIENCE = changing.PATIENCE, 0.3
    try:
        with pytest.raises(kerfmark.TargetError, match="another program is writing"):
            kerfmark.add([tmp_path / "more.csv"], tmp_path / "v.db")
    finally:
        changing.PATIENCE = patience
        holder.kill()
        holder.wait()
    assert kerfmark.add([tmp_path / "more.csv"], tmp_path / "v.db").load == 2


@pytest.mark.skipif(not hasattr(os, "geteuid"), reason="limits of a process are a matter of Unix")
def test_a_full_disk_leaves_everything_as_it_was(
    write: Write, kerfmark: Runner, tmp_path: Path
) -> None:
    write("visits.csv", visits(0, 500, 50))
    write("more.csv", visits(10_000, 60_000, 900))
    write("l.toml", LAYOUT)
    kerfmark("cut", "l.toml", "--into", "v.db")
    before = content(tmp_path / "v.db")
    limit = (tmp_path / "v.db").stat().st_size + 200_000
    script = (
        "import resource, signal, sys; signal.signal(signal.SIGXFSZ, signal.SIG_IGN); "
        f"resource.setrlimit(resource.RLIMIT_FSIZE, ({limit}, {limit})); "
        "from kerfmark.cli.main import main; sys.exit(main(['add', 'more.csv', '--into', 'v.db']))"
    )
    done = subprocess.run(
        [sys.executable, "-c", script], cwd=tmp_path, capture_output=True, text=True, check=False
    )
    assert done.returncode == 2 and "Traceback" not in done.stderr, done
    assert content(tmp_path / "v.db") == before
