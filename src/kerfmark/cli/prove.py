"""kerfmark prove"""

from __future__ import annotations

import argparse
from pathlib import Path

from kerfmark.cli import database
from kerfmark.cli.terminal import BAD, GOOD, Terminal
from kerfmark.cli.terminal import NAME as BOLD
from kerfmark.errors import counted

NAME = "prove"
SUMMARY = "compare the sources with the database, row by row"
ABOUT = """\
Reads the sources again, rejoins the tables, and compares every row and cell. Exit code 1 when anything differs.

  kerfmark prove apiary.db
  kerfmark prove apiary.db --report proof.html                           a page that an auditor can keep
"""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Declares what the command takes."""
    database.argument(parser)
    parser.add_argument("--report", type=Path, metavar="FILE", help="write the proof as one HTML page to keep")
    parser.add_argument("--replace", action="store_true", help="write the page over a file that exists")


def run(args: argparse.Namespace, terminal: Terminal) -> int:
    """Runs the command."""
    from kerfmark.verbs.prove import prove
    from kerfmark.verbs.saving import saving, writable

    if args.report is not None:
        writable(args.report, args.replace)
    with terminal.progress() as progress:
        result = prove(database.chosen(args), progress=progress)
    if args.report is not None:
        from kerfmark.cli.proof import proof_page

        with saving({args.report: proof_page(result)}):
            pass
        terminal.note("wrote ", (str(args.report), BOLD))
    terminal.result(result)
    several = len({p.file for p in result.proofs}) < len(result.proofs)
    for p in result.proofs:
        name = f"{p.file}, {p.source}" if several else p.file
        if p.changed:
            terminal.note((name, BOLD), " is not the file that was loaded: its contents have changed since")
        if p.holds:
            terminal.say(("proven  ", GOOD), (name, BOLD), f": {counted(p.rows, 'row')} and {counted(p.cells, 'cell')} compared, "
                         "all in the database, none too many")
            on_purpose = [f"{counted(p.set_aside, 'row')} set aside by the load"] if p.set_aside else []
            on_purpose += [f"{counted(p.left_out, 'row')} left out by the layout"] if p.left_out else []
            on_purpose += [f"{counted(p.changed_cells, 'cell')} changed by the layout"] if p.changed_cells else []
            if on_purpose:
                terminal.say("        on purpose: ", ", ".join(on_purpose))
            continue
        terminal.say(("differs ", BAD), (name, BOLD), f": {counted(p.rows, 'row')} in the file, {p.rows_in_database:,} in the "
                     f"database; {counted(p.total, 'difference')}")
        terminal.say()
        terminal.table(["row", "column", "in the file", "in the database"],
                       [(d.row or "-", d.column or "(all)", d.in_source, d.in_database) for d in p.differences])
        if p.total > len(p.differences):
            terminal.say(f"... and {p.total - len(p.differences):,} more")
    if result.broken_links:
        terminal.say(("broken  ", BAD), f"{', '.join(result.broken_links)}: some values lead to no record")
    return 0 if result.holds else 1
