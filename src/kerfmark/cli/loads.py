"""kerfmark loads"""

from __future__ import annotations

import argparse
import shlex

from kerfmark.cli import database
from kerfmark.cli.terminal import BAD, FAINT, HEAD, Terminal, size
from kerfmark.cli.terminal import NAME as BOLD

NAME = "loads"
SUMMARY = "what was loaded into a database, and when"
ABOUT = """\
Lists every load: its files with their sizes and fingerprints, the rows it added to each table, the
values it changed, the rows it set aside, and whether it was taken back.

  kerfmark loads apiary.db
  kerfmark loads apiary.db --json
"""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Declares what the command takes."""
    database.argument(parser)


def run(args: argparse.Namespace, terminal: Terminal) -> int:
    """Runs the command."""
    from kerfmark.verbs.loads import loads

    result = loads(database.chosen(args))
    terminal.result(result)
    for load in result.loads:
        state = (f"   taken back {load.undone_at}", BAD) if load.undone_at else ("", FAINT)
        terminal.say(
            (f"load {load.number}", HEAD),
            f"   {load.verb}   {load.at} (UTC)   ",
            (f"layout {load.layout}", FAINT),
            state,
        )
        if load.files:
            terminal.table(
                ["  file", "rows", "size", "fingerprint"],
                [
                    (f"  {f.place}", f"{f.rows:,}", size(f.bytes), f.fingerprint[:12])
                    for f in load.files
                ],
                right=[1, 2],
                cut=[0],
            )
        added = ", ".join(f"{t} {n:,}" for t, n, _ in sorted(load.tables, key=lambda t: -t[1]) if n)
        changed = ", ".join(f"{t} {n:,}" for t, _, n in load.tables if n)
        terminal.say(
            "  added: ",
            added or "nothing new",
            f"; values changed: {changed}" if changed else "",
            f"; rows set aside: {load.set_aside:,}" if load.set_aside else "",
        )
        terminal.say()
    live = [load for load in result.loads if not load.undone_at]
    if live:
        terminal.say(
            "kerfmark undo ",
            (shlex.quote(result.database), BOLD),
            f" takes load {live[-1].number} back",
        )
    return 0
