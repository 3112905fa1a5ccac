"""kerfmark show"""

from __future__ import annotations

import argparse
import csv
import re
import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING

from kerfmark.cli import database
from kerfmark.cli.terminal import FAINT, HEAD, Terminal
from kerfmark.cli.terminal import NAME as BOLD
from kerfmark.errors import UsageError, counted

if TYPE_CHECKING:
    from kerfmark.verbs.show import RecordResult, TableShown

_NUMBERS = r"(tiny|small|big)?int|numeric|decimal|double|real|float"
NAME = "show"
SUMMARY = "tables, row counts, keys, links and first rows of a database"
ABOUT = """\
Shows what is in a database: its tables with row counts, keys, links and first rows; one table; or
one record with what it leads to and what leads to it.

  kerfmark show apiary.db
  kerfmark show apiary.db hive --rows 10 --where "hive_type=National"
  kerfmark show apiary.db --layout > apiary.layout.toml                  the layout in force
  kerfmark show club.db district --tree                                  a table that refers to itself
  kerfmark show apiary.db hive 17                                        one record, its parents and its children
  kerfmark show apiary.db inspections_flat --csv --where "Keeper~Hollis" > hollis.csv
"""  # noqa: E501


def arguments(parser: argparse.ArgumentParser) -> None:
    """Declares what the command takes."""
    database.argument(parser)
    parser.add_argument("table", nargs="?", metavar="TABLE", help="one table or view only")
    parser.add_argument("key", nargs="?", metavar="KEY", help="one record only, by its primary key")
    parser.add_argument(
        "--rows",
        type=int,
        metavar="N",
        help="first rows shown of each table (default: 3; with --csv: all)",
    )
    parser.add_argument(
        "--where",
        action="append",
        default=[],
        metavar="TEST",
        help="only rows of which this holds: kg>=5, keeper=Ada, note~dry (contains), note= (is "
        "blank); may be "
        "repeated",
    )
    parser.add_argument(
        "--sort",
        action="append",
        default=[],
        metavar="COLUMN",
        help='sort the rows by a column ("COLUMN desc": the largest first); may be repeated',
    )
    parser.add_argument(
        "--tree", action="store_true", help="a table that refers to itself, as a tree"
    )
    parser.add_argument(
        "--layout", action="store_true", help="the layout in force, as text to edit (see recut)"
    )
    parser.add_argument("--csv", action="store_true", help="the rows of one table as CSV")


def run(args: argparse.Namespace, terminal: Terminal) -> int:
    """Runs the command."""
    from kerfmark.verbs.show import layout_of, rows_of, show, show_record, tree_of

    where, few = database.chosen(args), 3 if args.rows is None else max(args.rows, 0)
    if args.layout:
        if args.table is not None or args.csv or args.where:
            raise UsageError(
                "--layout prints the layout of the whole database", next="leave the table out"
            )
        sys.stdout.write(layout_of(where))
        return 0
    if args.tree:
        if args.table is None or args.key is not None or args.csv or args.where or args.sort:
            raise UsageError(
                "--tree needs a table", next="write it like kerfmark show DB TABLE --tree"
            )
        tree = tree_of(where, args.table)
        terminal.result(tree)
        for depth, key, name in tree.lines:
            terminal.say("   " * depth, (name, BOLD), (f"  {key}", FAINT))
        if tree.circles:
            terminal.say(f"{counted(tree.circles, 'record')} refer to each other in a circle")
        return 0
    if args.csv:
        if args.table is None or args.key is not None or args.json:
            raise UsageError(
                "--csv needs a table", next="write it like kerfmark show DB TABLE --csv"
            )
        writer = csv.writer(sys.stdout, lineterminator="\n")
        for row in rows_of(
            where, args.table, args.where, None if args.rows is None else few, args.sort
        ):
            writer.writerow(["" if v is None else v for v in row])
        return 0
    if args.key is not None:
        record = show_record(where, args.table, args.key, rows=few)
        terminal.result(record)
        _tell_record(record, terminal)
        return 0
    with terminal.progress() as progress:
        result = show(
            where, args.table, rows=few, where=args.where, sort=args.sort, progress=progress
        )
    terminal.result(result)
    if not result.tables:
        terminal.say("the database has no tables")
    for i, table in enumerate(result.tables):
        if i:
            terminal.say()
        _tell(table, terminal, alone=args.table is not None)
    if result.views:
        terminal.say()
        terminal.say(
            "views: ",
            (", ".join(result.views), BOLD),
            (" (flat: a source in its shape again; whole: with all that its rows lead to)", FAINT),
        )
    return 0


def _tell_record(result: RecordResult, terminal: Terminal) -> None:
    key = next(iter(result.record.values.values()), "")
    terminal.say((result.record.table, HEAD), f" {key}")
    terminal.table(
        ["column", "value"], [(c, "" if v is None else v) for c, v in result.record.values.items()]
    )
    for parent in result.parents:
        terminal.say()
        terminal.say("leads to ", (parent.table, HEAD), (f"  through {parent.through}", FAINT))
        terminal.table(
            ["column", "value"], [(c, "" if v is None else v) for c, v in parent.values.items()]
        )
    for child in result.children:
        terminal.say()
        terminal.say(
            counted(child.rows, "record"),
            " of ",
            (child.table, HEAD),
            (f"  through {child.through}", FAINT),
        )
        rows = [["" if v is None else v for v in row] for row in child.first_rows]
        if terminal.fits(child.columns, rows):
            terminal.table(child.columns, rows)
        else:
            terminal.table(
                ["column", *(f"row {i + 1}" for i in range(len(rows)))],
                [[c, *(row[i] for row in rows)] for i, c in enumerate(child.columns)],
            )


def _tell(table: TableShown, terminal: Terminal, *, alone: bool) -> None:
    facts = [counted(table.rows, "row")]
    if table.key:
        facts.append(f"key {', '.join(table.key)}")
    facts += [f"unique {' + '.join(u)}" for u in table.unique]
    facts += [f"{c.name} leads to {c.links_to}" for c in table.columns if c.links_to]
    terminal.say((table.name, HEAD), "  ", "; ".join(facts))
    if table.comment:
        terminal.say("  ", table.comment)
    heads = [c.name for c in table.columns]
    rows = [
        [_cell(table, i, n, value) for i, value in enumerate(row)]
        for n, row in enumerate(table.first_rows)
    ]
    across = bool(rows) and terminal.fits(heads, rows)
    if alone or not across:
        _tell_columns(table, [] if across else rows, terminal, alone=alone)
    if across:
        if alone:
            terminal.say()
        numbers = [
            i
            for i, c in enumerate(table.columns)
            if re.match(_NUMBERS, c.type.lower()) and c.name not in table.called
        ]
        terminal.table(heads, rows, right=numbers)
    if table.counting:
        terminal.say()
        terminal.say(("to count by group, in SQL:  ", FAINT), table.counting)


def _tell_columns(
    table: TableShown, rows: Sequence[Sequence[object]], terminal: Terminal, *, alone: bool
) -> None:
    """A line for each column: what it is, where one table is asked for, and what it has in rows
    that are too wide to be read across."""
    if not alone and not rows:
        return
    said = alone and any(c.comment for c in table.columns)
    terminal.table(
        [
            *("column", "type"),
            *(("may be blank", "leads to") if alone else ()),
            *(("says",) if said else ()),
            *(f"row {i + 1}" for i in range(len(rows))),
        ],
        [
            [
                *(c.name, c.type),
                *(("yes" if c.optional else "-", c.links_to or "-") if alone else ()),
                *((c.comment,) if said else ()),
                *(row[i] for row in rows),
            ]
            for i, c in enumerate(table.columns)
        ],
        cut=[4] if said else [],
    )


def _cell(table: TableShown, column: int, row: int, value: object) -> object:
    """A cell as it is shown; of a link with what its record is called."""
    called = table.called.get(table.columns[column].name)
    if value is None or called is None or not called[row] or called[row] == str(value):
        return "" if value is None else value
    return f"{value} ({called[row]})"
