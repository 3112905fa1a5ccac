"""kerfmark show"""

from __future__ import annotations

import argparse
import re
from typing import TYPE_CHECKING

from kerfmark.cli import database
from kerfmark.cli.terminal import FAINT, HEAD, Terminal
from kerfmark.cli.terminal import NAME as BOLD
from kerfmark.errors import counted

if TYPE_CHECKING:
    from kerfmark.verbs.show import TableShown

_NUMBERS = r"(tiny|small|big)?int|numeric|decimal|double|real|float"
NAME = "show"
SUMMARY = "tables, row counts, keys, links and first rows of a database"
ABOUT = """\
Shows what is in a database: its tables with row counts, keys, links and first rows.

  kerfmark show apiary.db
  kerfmark show apiary.db hive --rows 10
"""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Declares what the command takes."""
    database.argument(parser)
    parser.add_argument("table", nargs="?", metavar="TABLE", help="one table or view only")
    parser.add_argument("--rows", type=int, default=3, metavar="N", help="first rows shown of each table (default: 3)")


def run(args: argparse.Namespace, terminal: Terminal) -> int:
    """Runs the command."""
    from kerfmark.verbs.show import show

    result = show(database.chosen(args), args.table, rows=max(args.rows, 0))
    terminal.result(result)
    for i, table in enumerate(result.tables):
        if i:
            terminal.say()
        _tell(table, terminal)
    if result.views:
        terminal.say()
        terminal.say("views: ", (", ".join(result.views), BOLD), (" (a source in its flat shape again)", FAINT))
    return 0


def _tell(table: TableShown, terminal: Terminal) -> None:
    facts = [counted(table.rows, "row")]
    if table.key:
        facts.append(f"key {', '.join(table.key)}")
    facts += [f"unique {' + '.join(u)}" for u in table.unique]
    facts += [f"{c.name} leads to {c.links_to}" for c in table.columns if c.links_to]
    terminal.say((table.name, HEAD), "  ", "; ".join(facts))
    if table.first_rows:
        numbers = [i for i, c in enumerate(table.columns) if re.match(_NUMBERS, c.type.lower())]
        heads = [c.name for c in table.columns]
        rows = [["" if v is None else v for v in row] for row in table.first_rows]
        if terminal.fits(heads, rows):
            terminal.table(heads, rows, right=numbers)
        else:                                           # too wide to be read across: a line per column instead
            terminal.table(["column", "type", *(f"row {i + 1}" for i in range(len(rows)))],
                           [[c.name, c.type, *(row[i] for row in rows)] for i, c in enumerate(table.columns)])
