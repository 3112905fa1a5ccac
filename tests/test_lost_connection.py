"""A connection that breaks off while a server commits: what the program says of it is so."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest

from breakable import When, breakable
from conftest import Runner
from engines import SERVERS_ONLY, Target

Write = Callable[..., Path]
HEAD = "no,hive,kind\n"


def rows(first: int, many: int) -> str:
    return "".join(f"{n},H{n % 9},k{n % 9 % 2}\n" for n in range(first, first + many))


def last_step(words: bytes) -> When:
    """The message with these words that follows what is written into the ledger."""
    written = False

    def when(_number: int, text: bytes) -> bool:
        nonlocal written
        big = text.upper()
        hit = written and words in big
        if b"KERFMARK_" in big and b"LOADS" in big:
            written |= any(w in big for w in (b"COPY ", b"LOAD DATA", b"INSERT", b"UPDATE"))
        return hit

    return when


@SERVERS_ONLY
@pytest.mark.parametrize("answers", [True, False], ids=["answers again", "is gone"])
@pytest.mark.parametrize("delivered", [True, False], ids=["it lands", "it does not"])
@pytest.mark.parametrize("command", ["cut", "add", "undo"])
def test_whether_it_landed_is_found_out_or_said_to_be_unknown(
    db: Target, write: Write, kerfmark: Runner, command: str, delivered: bool, answers: bool
) -> None:
    write("a.csv", HEAD + rows(0, 60))
    write("b.csv", HEAD + rows(1000, 40))
    if command != "cut":
        kerfmark("cut", "a.csv", "--into", db)
    if command == "undo":
        kerfmark("add", "b.csv", "--into", db)
    arguments = {
        "cut": ["cut", "a.csv", "--into"],
        "add": ["add", "b.csv", "--into"],
        "undo": ["undo"],
    }[command]
    renames = command == "cut" and db.engine == "MariaDB"
    words = b"RENAME TABLE" if renames else b"COMMIT"
    good = delivered and answers
    with breakable(db.engine, last_step(words), delivered=delivered, admitted=answers) as way:
        told = kerfmark(*arguments, way.url(str(db)), code=0 if good else 2)
        assert way.broken
    if not answers:
        assert "it is not known whether the changes were written" in told.err
        assert (
            "kerfmark loads lists what was written" in told.err
            and "nothing was written" not in told.err
        )
    elif not delivered:
        assert "nothing was written" in told.err
    kerfmark("loads", db, code=2 if command == "cut" and not delivered else 0)
    there = db.ask("SELECT no FROM a") if "a" in db.tables() else []
    before, after = {"cut": (0, 60), "add": (60, 100), "undo": (100, 60)}[command]
    assert len(there) == (after if delivered else before)
    if not delivered:
        kerfmark(*arguments, db)
    assert len(db.ask("SELECT no FROM a")) == after
    assert kerfmark("prove", db).code == 0
    assert not [t for t in db.tables() if t.startswith("kerfmark_part")]


@pytest.mark.parametrize("db", ["MariaDB"], indirect=True)
def test_nothing_waits_for_rows_that_nobody_reads(
    db: Target, write: Write, kerfmark: Runner
) -> None:
    write("a.csv", HEAD + rows(0, 60))
    for _ in range(6):
        with breakable(db.engine, lambda _n, text: b"LOAD DATA" in text, delivered=False) as way:
            told = kerfmark("cut", "a.csv", "--into", way.url(str(db)), code=2).err
        assert way.broken and "nothing was written" in told
    assert db.tables() == []
