"""kerfmark recut"""

from __future__ import annotations

import argparse

from kerfmark.cli import database, loading
from kerfmark.cli.check import tell_group
from kerfmark.cli.terminal import BAD, GOOD, HEAD, Terminal
from kerfmark.cli.terminal import NAME as BOLD
from kerfmark.errors import counted

NAME = "recut"
SUMMARY = "apply an edited layout to a database that is there"
ABOUT = """\
Gives a database that Kerfmark made the tables of an edited layout: other names, types, keys and
links, what may be blank, what cells mean, columns in other tables, tables split or joined. Its
loads are made again, in their order, from their files, or from the database's own rows where files
are gone; records keep their keys, loads their history. Everything is changed, or nothing.

  kerfmark show apiary.db --layout > apiary.layout.toml        the layout in force, to edit
  kerfmark recut apiary.db apiary.layout.toml --rehearse
  kerfmark recut apiary.db apiary.layout.toml
"""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Declares what the command takes."""
    database.argument(parser)
    parser.add_argument("layout", metavar="LAYOUT", help="the edited layout")
    loading.rehearse(parser, "do everything, tell every problem by row, and change nothing")


def run(args: argparse.Namespace, terminal: Terminal) -> int:
    """Runs the command."""
    from kerfmark.verbs.recut import recut

    with terminal.progress() as progress:
        result = recut(
            database.chosen(args), args.layout, rehearsal=args.rehearse, progress=progress
        )
    terminal.result(result)
    if result.changes:
        terminal.say(("what changes", HEAD))
        for said in result.changes:
            terminal.say("  ", said)
        terminal.say()
    if not result.problems:
        terminal.table(
            ["table", "before", "after", "keys"],
            [
                (
                    t.name,
                    "-" if t.before is None else f"{t.before:,}",
                    "-" if t.after is None else f"{t.after:,}",
                    "" if t.after is None else "kept" if t.keys_kept else "new",
                )
                for t in result.tables
            ],
            right=[1, 2],
        )
    for load in result.loads:
        for group in load.groups:
            tell_group(group, terminal)
    for file in result.from_database:
        terminal.note(("from the database  ", BAD), f"{file} is missing, or has changed")
    terminal.say()
    if result.problems:
        terminal.say(
            ("refused  ", BAD), f"{counted(result.problems, 'problem')}; nothing would be changed"
        )
        return 1
    if result.rehearsed:
        terminal.say(("fits  ", GOOD), "nothing was changed: this was a rehearsal")
        return 0
    terminal.say(
        ("recut  ", GOOD),
        (result.database, BOLD),
        f" by {result.layout} in {result.seconds:.1f} s: "
        f"{counted(len(result.loads), 'load')} made again",
    )
    return 0
