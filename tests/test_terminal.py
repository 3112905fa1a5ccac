"""What is printed, and where: plain in pipes, harmless always, a bar only where someone looks."""

from __future__ import annotations

import io
import os
import pty
import re
import subprocess
import sys
import time
from pathlib import Path

import pytest

from conftest import COMMANDS, Runner, flat_visits
from kerfmark.cli.terminal import Bar, Terminal, plain, size
from kerfmark.errors import counted
from kerfmark.verbs.show import ColumnShown, ShowResult, TableShown
from kerfmark.visible import visible


@pytest.mark.parametrize(
    ("n", "said"),
    [
        (0, "0 bytes"),
        (999, "999 bytes"),
        (1000, "1.0 KB"),
        (261_538, "261.5 KB"),
        (3_200_000, "3.2 MB"),
        (7_000_000_000, "7.0 GB"),
        (9_000_000_000_000, "9000.0 GB"),
    ],
)
def test_sizes_are_said_as_a_person_says_them(n: int, said: str) -> None:
    assert size(n) == said


def test_numbers_have_their_nouns() -> None:
    assert (
        counted(1, "row") == "1 row"
        and counted(1512, "row") == "1,512 rows"
        and counted(2, "entry", "entries") == "2 entries"
    )


def test_control_characters_are_shown_and_not_obeyed() -> None:
    assert visible("a\x1b[31mb\x07\x7f\nc") == "a␛[31mb␇␡\nc"


def test_markup_in_data_is_data(capsys: pytest.CaptureFixture[str]) -> None:
    terminal = Terminal()
    terminal.say("[bold]x[/bold] ", ("[/nothing]", "bold"))
    terminal.table(["[id]", "n"], [["[red]", 5]], right=[1])
    assert capsys.readouterr().out == "[bold]x[/bold] [/nothing]\n[id]    n\n[red]   5\n"


def test_json_is_the_only_thing_on_standard_output(capsys: pytest.CaptureFixture[str]) -> None:
    terminal = Terminal(as_json=True)
    terminal.say("talk")
    terminal.table(["a"], [["b"]])
    table = TableShown(
        "t", 1, ("id",), (), (ColumnShown("id", "INTEGER", False, ""),), ((b"\x00",),)
    )
    terminal.result(ShowResult("x.db", (table,), ()))
    out = capsys.readouterr().out
    assert out.startswith('{\n "database": "x.db"') and '"00"' in out and "talk" not in out
    assert plain({"p": Path("a/b")}) == {"p": str(Path("a/b"))}


def test_quiet_leaves_errors(capsys: pytest.CaptureFixture[str]) -> None:
    terminal = Terminal(quiet=True)
    terminal.note("by the way")
    terminal.fail("no such file\nnext: look again")
    assert capsys.readouterr().err == "error: no such file\nnext: look again\n"


def test_verbose_tells_each_step_once(capsys: pytest.CaptureFixture[str]) -> None:
    with Terminal(verbose=True).progress() as progress:
        for step in ("reading", "reading", "writing"):
            progress(step, 1, 2)
    assert [line.split(" s  ")[1] for line in capsys.readouterr().err.splitlines()] == [
        "reading",
        "writing",
    ]


def test_a_bar_appears_only_when_it_takes_long() -> None:
    from rich.console import Console

    shown = io.StringIO()
    console = Console(file=shown, force_terminal=True, width=80)
    with Bar(lambda error: console) as bar:
        bar("reading", 10, 100)
        assert shown.getvalue() == ""
        bar._started -= 5
        bar("reading", 50, 100)
        assert bar._bar is not None
        bar._bar.refresh()
        bar("writing", 0, 0)
    assert "reading" in shown.getvalue() and "50 rows" in shown.getvalue()
    late = io.StringIO()
    with Bar(lambda error: Console(file=late, force_terminal=True, width=80)) as bar:
        bar("indexing", 0, 0)
        deadline = time.monotonic() + 20
        while (
            "indexing" not in late.getvalue() and time.monotonic() < deadline
        ):  # though nobody calls again
            time.sleep(0.05)
    assert "indexing" in late.getvalue()
    with Bar(None) as silent:
        silent._started -= 5
        silent("reading", 1, 1)


def on_a_terminal(command: list[str], folder: Path, **env: str) -> str:
    """What a command prints on a terminal of its own."""
    ours, theirs = pty.openpty()
    usual = {k: v for k, v in os.environ.items() if k != "NO_COLOR"} | {
        "TERM": "xterm-256color",
        "COLUMNS": "100",
    }
    process = subprocess.Popen(
        [sys.executable, "-m", "kerfmark", *command],
        stdout=theirs,
        stderr=theirs,
        stdin=theirs,
        cwd=folder,
        env=usual | env,
    )
    os.close(theirs)
    said = b""
    while True:
        try:
            data = os.read(ours, 65536)
        except OSError:
            break
        if not data:
            break
        said += data
    os.close(ours)
    assert process.wait() == 0
    return said.decode()


def test_colour_is_for_terminals_that_want_it(tmp_path: Path, visits: Path) -> None:
    assert "\x1b[1;" in on_a_terminal(["measure", "visits.csv"], tmp_path)
    assert not re.search(
        r"\x1b\[[0-9;]*m", on_a_terminal(["measure", "visits.csv"], tmp_path, NO_COLOR="1")
    )


def test_a_wide_table_is_turned_where_it_does_not_fit(tmp_path: Path) -> None:
    head = ",".join(f"a rather long header {i}" for i in range(12))
    (tmp_path / "wide.csv").write_text(
        head + "\n" + ",".join(f"value {i}" for i in range(12)) + "\n"
    )
    lines = on_a_terminal(["measure", "wide.csv"], tmp_path, NO_COLOR="1").splitlines()
    assert max(len(line.rstrip()) for line in lines) <= 100
    assert any(
        line.split() == ["a", "rather", "long", "header", "11", "value", "11"] for line in lines
    )


def test_a_reader_that_leaves_ends_the_program_quietly(tmp_path: Path) -> None:
    (tmp_path / "big.csv").write_text(flat_visits(3000))
    done = subprocess.run(
        f"{sys.executable} -m kerfmark measure big.csv --rows 3000 | head -1",
        shell=True,
        cwd=tmp_path,
        capture_output=True,
        text=True,
        timeout=60,
        check=False,
    )
    assert (
        done.stdout.startswith("big.csv  3,000 rows")
        and "Traceback" not in done.stderr
        and "rror" not in done.stderr
    )


@pytest.mark.parametrize(
    ("line", "wanted", "not_wanted"),
    [
        ("kerfmark pro", {"prove"}, {"show"}),
        ("kerfmark show v.db hi", {"hive"}, {"keeper"}),
        ("kerfmark export v.db hive ap", {"apiary"}, {"hive"}),
        ("kerfmark export v.db --flat ", {"visits"}, {"hive"}),
        ("kerfmark undo v.db ", {"1", "--through"}, {"2"}),
        ("kerfmark cut --as", {"--as-script"}, {"--into"}),
    ],
)
def test_the_shell_is_told_what_could_follow(
    visits: Path,
    kerfmark: Runner,
    tmp_path: Path,
    line: str,
    wanted: set[str],
    not_wanted: set[str],
) -> None:
    kerfmark("cut", "visits.csv", "--into", "v.db")
    asked = {
        "COMP_LINE": line,
        "COMP_POINT": str(len(line)),
        "_ARGCOMPLETE": "1",
        "_ARGCOMPLETE_IFS": "\n",
        "_ARGCOMPLETE_STDOUT_FILENAME": "said",
    }
    done = subprocess.run(
        [sys.executable, "-m", "kerfmark"],
        cwd=tmp_path,
        env=os.environ | asked,
        capture_output=True,
        check=False,
    )
    said = {w.strip() for w in (tmp_path / "said").read_text().splitlines()}
    assert done.returncode == 0 and wanted <= said and not said & not_wanted


def test_help_lists_every_command_in_the_order_of_the_work(kerfmark: Runner) -> None:
    text = kerfmark("--help").out
    order = [text.index(f"\n  {c} ") for c in COMMANDS]
    assert order == sorted(order)
    for command in COMMANDS:
        assert kerfmark(command, "--help").out.count(f"\n  kerfmark {command}") >= 2


@pytest.mark.skipif(os.name != "posix", reason="streams are closed by a shell of Unix")
@pytest.mark.parametrize(
    ("file", "closed", "code"),
    [("none.csv", "2>&-", 2), ("there.csv", "2>&-", 0), ("there.csv", ">&-", 0)],
)
def test_a_closed_stream_changes_nothing(file: str, closed: str, code: int, tmp_path: Path) -> None:
    (tmp_path / "there.csv").write_text("a,b\n1,2\n", encoding="utf-8")
    done = subprocess.run(
        f"'{sys.executable}' -m kerfmark measure {file} {closed}",
        shell=True,
        cwd=tmp_path,
        check=False,
        stdin=subprocess.DEVNULL,
    )
    assert done.returncode == code
