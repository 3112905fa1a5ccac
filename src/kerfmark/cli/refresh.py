"""kerfmark refresh"""

from __future__ import annotations

import argparse

from kerfmark.cli import database
from kerfmark.cli.add import tell
from kerfmark.cli.terminal import GOOD, Terminal
from kerfmark.cli.terminal import NAME as BOLD
from kerfmark.errors import counted

NAME = "refresh"
SUMMARY = "load files anew that have changed since they were loaded"
ABOUT = """\
Compares every file that was loaded with what it was then. The loads of those that have changed are taken back (with all later
ones, if one of these depends on them) and made again from the files of today, in one transaction. The others are left alone.

  kerfmark refresh apiary.db
  kerfmark refresh postgresql://me@db.example/club --schema apiary --known keep
"""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Declares what the command takes."""
    database.argument(parser)
    parser.add_argument("--known", default="", choices=["refuse", "keep", "fill", "overwrite"], help="as for `kerfmark add`")


def run(args: argparse.Namespace, terminal: Terminal) -> int:
    """Runs the command."""
    from kerfmark.verbs.refresh import refresh

    with terminal.progress() as progress:
        result = refresh(database.chosen(args), known=args.known, progress=progress)
    terminal.result(result)
    if not result.changed:
        terminal.say(("unchanged  ", GOOD), "every file is what it was when it was loaded")
        return 0
    for file in result.changed:
        terminal.say("changed ", (file, BOLD))
    for added in result.added:
        tell(added, terminal)
    again = counted(len(result.undone), "load")
    terminal.say(("refreshed  ", GOOD), f"{again} taken back and made again in {result.seconds:.1f} s")
    return 0
