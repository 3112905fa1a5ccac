"""kerfmark drop"""

from __future__ import annotations

import argparse
import shlex

from kerfmark.cli import database
from kerfmark.cli.terminal import BAD, GOOD, Terminal
from kerfmark.cli.terminal import NAME as BOLD
from kerfmark.errors import counted

NAME = "drop"
SUMMARY = "take everything out of a database that Kerfmark made there"
ABOUT = """\
Tells what Kerfmark made in a database: tables with their rows, views, loads, its own tables. With
--discard, takes it all away, in one step; what other people made stays. In tables that others made,
only the rows that loads put there go.

  kerfmark drop trial.db                                                   what would go
  kerfmark drop trial.db --discard
"""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Declares what the command takes."""
    database.argument(parser)
    parser.add_argument(
        "--discard",
        action="store_true",
        help="do it; without this option, what would go is only listed",
    )


def run(args: argparse.Namespace, terminal: Terminal) -> int:
    """Runs the command."""
    from kerfmark.verbs.drop import drop

    with terminal.progress() as progress:
        result = drop(database.chosen(args), discard=args.discard, progress=progress)
    terminal.result(result)
    goes = result.goes
    terminal.table(
        ["table", "rows"], [(t, f"{n:,}") for t, n in (*goes.tables, *result.rows)], right=[1]
    )
    for view in goes.views:
        terminal.say("view ", (view, BOLD))
    terminal.say("Kerfmark's own tables, with the history of all loads")
    for loss in goes.losses:
        label = "lost  " if result.dropped else "would be lost  "
        terminal.say((label, BAD), loss.removesuffix(" would be lost"))
    terminal.say()
    if result.dropped:
        terminal.say(
            ("dropped  ", GOOD),
            f"{counted(len(goes.tables), 'table')} of ",
            (result.database, BOLD),
            f" in {result.seconds:.1f} s",
        )
        return 0
    terminal.say(
        ("nothing was dropped  ", BAD),
        f"kerfmark drop {shlex.quote(result.database)} --discard takes all of this away",
    )
    return 1
