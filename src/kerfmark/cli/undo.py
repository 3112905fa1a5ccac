"""kerfmark undo"""

from __future__ import annotations

import argparse

from kerfmark.cli import database
from kerfmark.cli.terminal import GOOD, Terminal
from kerfmark.cli.terminal import NAME as BOLD
from kerfmark.errors import counted

NAME = "undo"
SUMMARY = "take a load back"
ABOUT = """\
Takes the latest load back, or the one that is named: the rows it added go, the values it changed
come back, and records that it made for others to lead to go if nothing else leads to them. When a
later load depends on it, nothing happens.

  kerfmark undo apiary.db
  kerfmark undo apiary.db 3
  kerfmark undo apiary.db 3 --through          the later loads too
  kerfmark undo /shared/apiary                 in a folder that a cluster wrote: the latest load
"""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Declares what the command takes."""
    database.argument(parser)
    parser.add_argument(
        "load",
        nargs="?",
        type=int,
        metavar="LOAD",
        help="the number of a load, as `kerfmark loads` tells it",
    )
    parser.add_argument("--backup", metavar="FILE", help="copy the database there first")
    parser.add_argument("--through", action="store_true", help="take all later loads back as well")


def run(args: argparse.Namespace, terminal: Terminal) -> int:
    """Runs the command."""
    from kerfmark.verbs.undo import undo

    with terminal.progress() as progress:
        result = undo(
            database.chosen(args),
            args.load,
            through=args.through,
            backup=args.backup,
            progress=progress,
        )
    terminal.result(result)
    values = any(v for _, _, v in result.tables)
    shown = [(t, n, v) for t, n, v in result.tables if n or v]
    if shown:
        terminal.table(
            ["table", "rows gone", *(["values changed"] if values else [])],
            [(t, f"{n:,}", *([f"{v:,}" if v else "-"] if values else [])) for t, n, v in shown],
            right=[1, 2],
        )
    terminal.say()
    for table, rows in result.stay:
        terminal.say(
            f"{counted(rows, 'row')} of {table} {'stay' if rows > 1 else 'stays'}, because rows "
            "that no load made refer "
            f"to {'them' if rows > 1 else 'it'}"
        )
    for table, rows in result.said_by_others:
        terminal.say(
            f"{counted(rows, 'row')} of {table} {'stay' if rows > 1 else 'stays'}, because other "
            "loads have "
            f"{'them' if rows > 1 else 'it'} too"
        )
    numbers = ", ".join(map(str, result.loads))
    terminal.say(
        ("taken back  ", GOOD),
        f"load{'s' if len(result.loads) > 1 else ''} {numbers} of ",
        (result.database, BOLD),
        f" in {result.seconds:.1f} s",
    )
    return 0
