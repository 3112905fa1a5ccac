"""Two programs at one SQLite file: one waits or is refused, and nothing that was committed vanishes."""

from __future__ import annotations

import contextlib
import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

import kerfmark as library
from conftest import Runner
from engines import SERVERS_ONLY, Target, target
from pairs import PAIRS, Program, at_once

Write = Callable[..., Path]
ROWS = "no,mood\n" + "".join(f"{n},m{n % 3}\n" for n in range(200))


@pytest.fixture
def base(write: Write, kerfmark: Runner) -> Path:
    path = write("a.csv", ROWS)
    kerfmark("cut", "a.csv", "--into", "a.db")
    return path.parent / "a.db"


def other(path: Path, work: str) -> subprocess.Popen[str]:
    """Another program, which has opened the database by the time that this returns."""
    code = (
        "import sqlite3, sys, time\n"
        f"db = sqlite3.connect({str(path)!r}, isolation_level=None, timeout=5)\n{work}\n"
    )
    process = subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    process.stdout.readline()
    return process


def rows(path: Path) -> int:
    with contextlib.closing(sqlite3.connect(path)) as db:
        return int(db.execute("SELECT COUNT(*) FROM a").fetchone()[0])


def test_what_another_program_commits_meanwhile_is_not_replaced(
    base: Path, kerfmark: Runner
) -> None:
    process = other(
        base,
        "db.execute('BEGIN IMMEDIATE')\n"
        "db.execute(\"INSERT INTO a (no, mood) VALUES (900, 'x')\")\n"
        "print('ready', flush=True)\ntime.sleep(2.5)\ndb.execute('COMMIT')",
    )
    told = kerfmark("cut", "a.csv", "--into", "a.db", "--replace", "--discard", code=2).err
    assert process.wait() == 0
    assert "has changed the database meanwhile" in told and rows(base) == 201
    kerfmark("cut", "a.csv", "--into", "a.db", "--replace", "--discard")
    assert rows(base) == 200


def test_replacing_waits_for_a_reader(base: Path, kerfmark: Runner) -> None:
    process = other(
        base,
        "db.execute('BEGIN')\ndb.execute('SELECT * FROM a').fetchone()\n"
        "print('ready', flush=True)\ntime.sleep(2.5)\n"
        "assert db.execute('SELECT COUNT(*) FROM a').fetchone()[0] == 200\ndb.execute('COMMIT')",
    )
    started = time.monotonic()
    kerfmark("cut", "a.csv", "--into", "a.db", "--replace")
    assert process.wait() == 0 and time.monotonic() - started > 1
    assert rows(base) == 200


@pytest.mark.parametrize("wal", [False, True])
def test_a_program_that_has_the_old_file_open_cannot_write_into_nothing(
    base: Path, kerfmark: Runner, wal: bool
) -> None:
    if wal:
        with contextlib.closing(sqlite3.connect(base)) as db:
            db.execute("PRAGMA journal_mode = WAL")
    process = other(
        base,
        "db.execute('SELECT COUNT(*) FROM a').fetchone()\nprint('ready', flush=True)\n"
        "sys.stdout.flush()\ntime.sleep(3)\n"
        "try:\n    db.execute(\"INSERT INTO a (no, mood) VALUES (900, 'x')\")\n"
        "except sqlite3.Error as error:\n    print(error, flush=True)\n    sys.exit(9)",
    )
    if wal:  # it is never without a lock; nothing is replaced under it
        told = kerfmark("cut", "a.csv", "--into", "a.db", "--replace", code=2).err
        assert "another program" in told and process.wait() == 0 and rows(base) == 201
        return
    kerfmark("cut", "a.csv", "--into", "a.db", "--replace")
    assert process.wait() == 9 and rows(base) == 200
    assert kerfmark("prove", "a.db").code == 0


def test_an_add_that_waits_for_a_replacement_goes_into_the_new_file(
    base: Path, write: Write, kerfmark: Runner, tmp_path: Path
) -> None:
    """The new file gets its name while `add` waits for the lock of the old one."""
    write("b.csv", "no,mood\n901,m1\n")
    new = tmp_path / "new.db"
    kerfmark("cut", "a.csv", "--into", "new.db")
    process = other(
        base,
        "import os\nhandle = os.open('" + str(base) + "', os.O_RDWR)\n"
        "db.execute('BEGIN EXCLUSIVE')\nprint('ready', flush=True)\ntime.sleep(2)\n"
        f"os.replace({str(new)!r}, {str(base)!r})\nos.pwrite(handle, bytes(16), 0)\ndb.close()",
    )
    kerfmark("add", "b.csv", "--into", "a.db")
    assert process.wait() == 0 and rows(base) == 201
    assert kerfmark("prove", "a.db").code == 0


ON_SERVERS = {("add", "add"), ("add", "recut"), ("undo", "refresh"), ("add", "cut --replace")}


@pytest.mark.parametrize(("first", "second"), PAIRS)
def test_of_two_commands_at_once_each_does_all_or_nothing(
    program: Program, tmp_path: Path, first: str, second: str
) -> None:
    """Whatever the two are. `bench/pairs.py` tries them at ten moments, on servers too."""
    with target("SQLite", tmp_path) as db:
        assert at_once(program, tmp_path, db, first, second, 0.1 * (len(first + second) % 4)) == []


@SERVERS_ONLY
@pytest.mark.parametrize(("first", "second"), sorted(ON_SERVERS))
def test_of_two_commands_at_a_server_each_does_all_or_nothing(
    program: Program, db: Target, tmp_path: Path, first: str, second: str
) -> None:
    assert at_once(program, tmp_path, db, first, second, 0.1) == []


@pytest.fixture
def impatient(monkeypatch: pytest.MonkeyPatch) -> None:
    """Nobody waits long for a lock."""
    for name, module in [*sys.modules.items()]:
        if name.startswith("kerfmark.store") and getattr(module, "PATIENCE", None) == 10:
            monkeypatch.setattr(module, "PATIENCE", 0.1)


@contextlib.contextmanager
def locked(path: Path) -> Iterator[None]:
    process = other(path, "db.execute('BEGIN EXCLUSIVE')\nprint('ready', flush=True)\ntime.sleep(60)")  # fmt: skip
    try:
        yield
    finally:
        process.kill()
        process.wait()


CALLS: dict[str, Callable[[Path], Any]] = {
    "show": lambda db: library.show(db),
    "show_record": lambda db: library.show_record(db, "a", "1"),
    "prove": lambda db: library.prove(db),
    "loads": lambda db: library.loads(db),
    "trace": lambda db: library.trace(db, "a", "1"),
    "export": lambda db: library.export(db, db.parent / "out"),
    "draw": lambda db: library.picture(db, db.parent / "out.svg"),
    "add": lambda db: library.add([db.parent / "b.csv"], db),
    "undo": lambda db: library.undo(db),
    "refresh": lambda db: library.refresh(db),
    "recut": lambda db: library.recut(db, db.parent / "a.layout.toml"),
    "drop": lambda db: library.drop(db, discard=True),
    "cut": lambda db: library.cut([db.parent / "a.csv"], db, replace=True),
    "beside": lambda db: library.cut([db.parent / "c.csv"], db, beside=True),
    "onto": lambda db: library.mark_onto([db.parent / "c.csv"], db),
    "measure": lambda db: library.measure([db]),
}


@pytest.mark.parametrize("call", CALLS)
def test_a_locked_file_is_called_that(base: Path, write: Write, impatient: None, call: str) -> None:
    write("b.csv", "no,mood\n901,m1\n")
    write("c.csv", "sort,price\nx,4\ny,5\nz,6\n")
    before = base.read_bytes()
    with locked(base), pytest.raises(library.KerfmarkError) as refused:
        CALLS[call](base)
    said = f"{refused.value} {refused.value.why}"
    assert "another program" in said or "locked" in said, said
    assert "not an SQLite database" not in said and base.read_bytes() == before
