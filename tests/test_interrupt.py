"""Ctrl-C in the middle, on every engine: everything is as it was, and that is said."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
from pathlib import Path

import pymysql
import pytest

from conftest import Runner, flat_visits, hears_interrupts
from engines import Target
from kerfmark.errors import TargetError
from kerfmark.store.mysql.connection import translated

pytestmark = pytest.mark.skipif(os.name != "posix", reason="signals are sent in another way there")


def interrupted(folder: Path, step: str, *command: str) -> tuple[int, str]:
    """Runs a command and interrupts it as soon as it says a step; its exit code, and what it
    said."""
    process = subprocess.Popen(
        [sys.executable, "-m", "kerfmark", *command, "--verbose"],
        cwd=folder,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
        text=True,
        preexec_fn=hears_interrupts,
    )
    assert process.stderr is not None
    said = ""
    while step not in said and (line := process.stderr.readline()):
        said += line
    process.send_signal(signal.SIGINT)
    said += process.communicate(timeout=120)[1]
    return process.returncode, said


def test_an_interrupt_leaves_everything_as_it_was(
    db: Target, kerfmark: Runner, tmp_path: Path
) -> None:
    lines = flat_visits(45_000).splitlines(keepends=True)
    (tmp_path / "visits.csv").write_text("".join(lines[:20_001]))
    (tmp_path / "more.csv").write_text(lines[0] + "".join(lines[20_001:]))
    kerfmark("cut", "visits.csv", "--into", db)
    before, files = db.dump(), {p.name for p in tmp_path.iterdir()}
    for step, *command in (
        ("typing", "cut", "visits.csv", "--replace"),
        ("writing visit", "cut", "visits.csv", "--replace"),
        ("reading", "add", "more.csv"),
        ("writing", "add", "more.csv"),
    ):
        code, said = interrupted(tmp_path, step, *command, "--into", str(db))
        if code == 0 and step.startswith("writing"):  # it was quicker
            if command[0] == "add":
                kerfmark("undo", db)
            continue
        assert (
            code == 130 and "interrupted; nothing was written" in said and "Traceback" not in said
        ), said
        assert db.dump() == before, step
        assert {p.name for p in tmp_path.iterdir()} == files
    kerfmark("add", "more.csv", "--into", db)  # and it all works afterwards
    assert db.ask("SELECT count(*) FROM visit") == [45_000]


@pytest.mark.parametrize("chained", [True, False])
def test_an_interrupt_over_which_a_driver_loses_its_connection_is_still_one(chained: bool) -> None:
    def lose_it() -> None:
        try:
            raise KeyboardInterrupt
        finally:  # as a driver tidies up
            try:
                raise ConnectionResetError("reset")
            except OSError as error:
                if chained:
                    raise pymysql.OperationalError(2013, "Lost connection") from error
                raise pymysql.OperationalError(2013, "Lost connection") from None

    with pytest.raises(KeyboardInterrupt), translated("the server"):
        lose_it()
    with pytest.raises(TargetError, match="broke off"), translated("the server"):
        raise pymysql.OperationalError(2013, "Lost connection")
