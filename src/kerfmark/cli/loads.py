"""kerfmark loads"""

from __future__ import annotations

import argparse

from kerfmark.cli.terminal import NAME as BOLD
from kerfmark.cli.terminal import Terminal, size

NAME = "loads"
SUMMARY = "what was loaded into a database, and when"
ABOUT = """\
Lists every load: its files with their sizes and fingerprints, the rows it added to each table, the values it changed, the rows
it set aside, and whether it was taken back.

  kerfmark loads apiary.db
  kerfmark loads apiary.db --json
"""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Declares what the command takes."""
    parser.add_argument("database", metavar="DB", help="an SQLite file that Kerfmark made")


def run(args: argparse.Namespace, terminal: Terminal) -> int:
    """Runs the command."""
    from kerfmark.verbs.undo import loads

    result = loads(args.database)
    terminal.result(result)
    rows = []
    for load in result.loads:
        files = [(f.file, f"{f.rows:,}", size(f.bytes), f.fingerprint[:8]) for f in load.files] or [("-", "-", "-", "-")]
        said = ", ".join(f"{t} {n:,}" for t, n, _ in load.tables if n)
        changed = sum(c for _, _, c in load.tables)
        state = f"taken back {load.undone_at}" if load.undone_at else said or "nothing new"
        for i, (file, count, bytes_, print_) in enumerate(files):
            before = (str(load.number), load.verb, load.at)
            after = (f"{changed:,}" if changed else "-", f"{load.set_aside:,}" if load.set_aside else "-", f"v{load.layout}", state)
            blank = i > 0                               # said once, beside the first file
            rows.append((*(("",) * 3 if blank else before), file, count, bytes_, print_, *(("",) * 4 if blank else after)))
    terminal.table(["load", "by", "at (UTC)", "file", "rows", "size", "print", "changed", "aside", "layout", "added"], rows,
                   right=[0, 4, 5, 7, 8], cut=[3, 10])
    live = [load for load in result.loads if not load.undone_at]
    if live:
        terminal.say()
        terminal.say("kerfmark undo ", (result.database, BOLD), f" takes load {live[-1].number} back")
    return 0
