"""kerfmark trace"""

from __future__ import annotations

import argparse

from kerfmark.cli import database
from kerfmark.cli.terminal import NAME as BOLD
from kerfmark.cli.terminal import Terminal
from kerfmark.errors import counted

NAME = "trace"
SUMMARY = "from which load, file and row a record came"
ABOUT = """\
Tells the load that made a record, the row of the file in which it is first said, and what later
loads have changed of it.

  kerfmark trace apiary.db hive 17
  kerfmark trace apiary.db hive 17 --json
"""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Declares what the command takes."""
    database.argument(parser)
    parser.add_argument("table", metavar="TABLE", help="one of its tables")
    parser.add_argument(
        "key",
        metavar="KEY",
        help="the primary key of a record (several columns: separated by commas)",
    )


def run(args: argparse.Namespace, terminal: Terminal) -> int:
    """Runs the command."""
    from kerfmark.verbs.trace import trace

    with terminal.progress() as progress:
        result = trace(database.chosen(args), args.table, args.key, progress=progress)
    terminal.result(result)
    if not result.load:
        terminal.say(
            (f"{result.table} {result.key}", BOLD), ": not from a load; it was inserted otherwise"
        )
    else:
        where = (
            f", first in {result.origin}"
            if result.origin
            else "; its file is missing, has changed, or has it only in a list of values"
        )
        more = f" ({counted(result.rows, 'row')} there refer to it)" if result.rows > 1 else ""
        terminal.say(
            (f"{result.table} {result.key}", BOLD),
            f": came with load {result.load} on {result.at} (UTC){where}{more}",
        )
    if result.changes:
        terminal.say()
        terminal.table(
            ["load", "column", "before", "after"],
            [(n, c, b or "-", a or "-") for n, c, b, a in result.changes],
            right=[0],
        )
    return 0
