"""kerfmark refresh"""

from __future__ import annotations

import argparse

from kerfmark.cli import database, loading
from kerfmark.cli.add import ROWS_SET_ASIDE, tell
from kerfmark.cli.terminal import GOOD, Terminal
from kerfmark.cli.terminal import NAME as BOLD
from kerfmark.errors import counted

NAME = "refresh"
SUMMARY = "load files anew that have changed since they were loaded"
ABOUT = f"""\
Compares every file that was loaded with what it was then. The loads of those that have changed are
taken back (with all later ones, if what these say depends on them) and made again from the files of
today, in one transaction, each with the policy and the options that it was made with. Records that
stay keep their keys.

  kerfmark refresh apiary.db
  kerfmark refresh apiary.db --rehearse
  kerfmark refresh apiary.db --set-aside bad.csv                           rows that do not fit (any more) go there
  kerfmark refresh {database.EXAMPLE_URL} --schema apiary --known keep
"""  # noqa: E501


def arguments(parser: argparse.ArgumentParser) -> None:
    """Declares what the command takes."""
    database.argument(parser)
    loading.known(parser, "as for `kerfmark add`, instead of what each load was made with")
    loading.rehearse(parser)
    loading.set_aside(parser)
    loading.replace_rows_set_aside(parser)


def run(args: argparse.Namespace, terminal: Terminal) -> int:
    """Runs the command."""
    from kerfmark.verbs.refresh import refresh

    with terminal.progress() as progress:
        result = refresh(
            database.chosen(args),
            known=loading.known_said(args),
            set_aside=args.set_aside,
            replace=args.replace,
            rehearsal=args.rehearse,
            progress=progress,
        )
    terminal.result(result)
    if not result.changed:
        terminal.say(("unchanged  ", GOOD), "every file is what it was when it was loaded")
        return 0
    for file in result.changed:
        terminal.say("changed ", (file, BOLD))
    for added in result.added:
        tell(added, terminal, closing=False)
    again = counted(len(result.undone), "load")
    if result.rehearsed:
        terminal.say(
            ("fits  ", GOOD), f"{again} would be taken back and made again; nothing was written"
        )
    else:
        terminal.say(
            ("refreshed  ", GOOD), f"{again} taken back and made again in {result.seconds:.1f} s"
        )
    return ROWS_SET_ASIDE if any(a.set_aside for a in result.added) else 0
