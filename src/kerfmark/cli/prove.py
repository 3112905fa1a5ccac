"""kerfmark prove"""

from __future__ import annotations

import argparse
import shlex
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from kerfmark.cli import database
from kerfmark.cli.terminal import BAD, FAINT, GOOD, Terminal
from kerfmark.cli.terminal import NAME as BOLD
from kerfmark.errors import counted

if TYPE_CHECKING:
    from kerfmark.verbs.prove import FileRows, ProveResult, SaidOtherwise, SourceProof

LISTED = 10
"""Explained differences, and files, that are listed."""
NAME = "prove"
SUMMARY = "compare the sources with the database, row by row"
ABOUT = f"""\
Reads the sources again, rejoins the tables, and compares every row and cell. Exit code 1 when
anything differs.

  kerfmark prove apiary.db
  kerfmark prove apiary.db --report proof.html                           a page that an auditor can keep
  kerfmark prove /shared/apiary --cluster {database.EXAMPLE_CLUSTER}        tables that a cluster wrote
"""  # noqa: E501


def arguments(parser: argparse.ArgumentParser) -> None:
    """Declares what the command takes."""
    database.argument(parser)
    database.cluster(parser, "the folder that is proven is one that all of its machines reach")
    database.shared(parser, "with --cluster, where the folder that is proven is only read")
    parser.add_argument(
        "--report", type=Path, metavar="FILE", help="write the proof as one HTML page to keep"
    )
    parser.add_argument(
        "--replace", action="store_true", help="write the page over a file that exists"
    )


def run(args: argparse.Namespace, terminal: Terminal) -> int:
    """Runs the command."""
    from kerfmark.verbs.atomic_write import require_writable, write_atomically
    from kerfmark.verbs.prove import prove

    if args.report is not None:
        require_writable(args.report, args.replace)
    with terminal.progress() as progress:
        if args.cluster:
            from kerfmark.verbs.prove_on_cluster import prove_on_cluster

            result = prove_on_cluster(
                database.chosen(args), args.cluster, shared=args.shared, progress=progress
            )
        else:
            result = prove(database.chosen(args), progress=progress)
    if args.report is not None:
        from kerfmark.cli.proof import proof_page

        with write_atomically({args.report: proof_page(result)}):
            pass
        terminal.note("wrote ", (str(args.report), BOLD))
    terminal.result(result)
    several = len({p.file for p in result.proofs}) < len(result.proofs)
    for p in result.proofs:
        name = f"{p.file}, {p.source}" if several else p.file
        if p.changed:
            terminal.note(
                (name, BOLD), " is not the file that was loaded: its contents have changed since"
            )
        if p.holds:
            whole = "" if p.otherwise or result.by_hand else ", all in the database, and no others"
            terminal.say(
                ("proven  ", GOOD),
                (name, BOLD),
                f": {counted(p.rows, 'row')} and {counted(p.cells, 'cell')} compared{whole}",
            )
            for line in told(p):
                terminal.say("        ", line)
            _tell_otherwise(p, terminal)
            continue
        terminal.say(
            ("differs ", BAD),
            (name, BOLD),
            f": {counted(p.rows, 'row')} in the file, {p.rows_in_database:,} in the "
            f"database; {counted(p.total, 'difference')}",
        )
        terminal.say()
        terminal.table(
            ["row", "column", "in the file", "in the database"],
            [
                (d.row or "-", d.column or "(all)", d.in_source, d.in_database)
                for d in p.differences
            ],
        )
        if p.total > len(p.differences):
            terminal.say(f"... and {p.total - len(p.differences):,} more")
    files = sorted(result.files, key=lambda f: not (f.above or f.blank or f.left_out))
    for f in files[:LISTED]:
        terminal.say(("rows    ", FAINT), _rows_told(f))
    if len(files) > LISTED:
        terminal.say(f"        ... and {len(files) - LISTED:,} more files or sheets")
    for a in result.account:
        if not a.balances:
            terminal.say(
                ("differs ", BAD),
                (a.file, BOLD),
                f": {counted(a.read, 'row')} read with load {a.load}, but the ledger "
                f"tells of {a.own + a.set_aside + a.left_out + a.same + a.different:,}",
            )
    if result.broken_links:
        terminal.say(
            ("broken  ", BAD), f"{', '.join(result.broken_links)}: some values refer to no record"
        )
    _tell_made(result, terminal)
    return 0 if result.holds else 1


def _tell_made(result: ProveResult, terminal: Terminal) -> None:
    """What is missing of the tables, and rows that came with no load."""
    for what in result.gone:
        terminal.say(("gone    ", BAD), f"{what}, which the layout asks for")
    if result.gone:
        where = shlex.quote(result.database)
        terminal.say(
            f"        next: kerfmark show {where} --layout > layout.toml, then kerfmark recut "
            f"{where} layout.toml, make it again"
        )
    for table, rows in result.by_hand:
        terminal.say(("odd     ", FAINT), f"{counted(rows, 'row')} of {table} came with no load")


def _rows_told(f: FileRows) -> str:
    """What all rows of a file are."""
    parts = (
        (f.above, "above the header"),
        (f.header, "in the header"),
        (f.blank, "blank"),
        (f.left_out, "left out"),
        (f.records, "read"),
    )
    place = f"{f.file}, sheet {f.sheet}" if f.sheet else f.file
    said = ", ".join(f"{number:,} {what}" for number, what in parts if number)
    where = f"table {f.part}" if f.part.isdecimal() else f.part or "the file"
    return f"{place}: {f.rows:,} in {where}: {said}"


def told(p: SourceProof) -> list[str]:
    """What became of rows and cells, where it is not the usual."""
    out = []
    if p.same or p.different:
        out.append(
            f"{counted(p.own, 'row')} with records of their own; rows for existing records: "
            f"{p.same:,} the same, "
            f"{p.different:,} different and not taken over"
        )
    since = sum(not o.kept for o in p.otherwise)
    if since:
        out.append(f"{counted(since, 'cell')} changed by later loads")
    on_purpose = [f"{counted(p.set_aside, 'row')} set aside by the load"] if p.set_aside else []
    on_purpose += [f"{counted(p.left_out, 'row')} left out by the layout"] if p.left_out else []
    on_purpose += (
        [f"{counted(p.changed_cells, 'cell')} changed by the layout"] if p.changed_cells else []
    )
    return out + (["on purpose: " + ", ".join(on_purpose)] if on_purpose else [])


def _tell_otherwise(p: SourceProof, terminal: Terminal) -> None:
    """The first cells that differ for a reason that the ledger knows: what was not taken over
    first, and one value that is in many rows (a keeper's phone) once."""
    if not p.otherwise:
        return
    alike: dict[tuple[str, ...], list[SaidOtherwise]] = {}
    for o in sorted(p.otherwise, key=lambda o: not o.known):
        cell = (
            o.origin.file,
            o.origin.sheet or "",
            o.origin.column or "",
            o.in_file,
            o.in_database,
            o.reason,
        )
        alike.setdefault(cell, []).append(o)
    terminal.say()
    terminal.table(
        ["file", "row", "column", "in the file", "in the database", "why"],
        [
            (file, _rows(some), column, in_file, in_database, why)
            for (file, _, column, in_file, in_database, why), some in list(alike.items())[:LISTED]
        ],
    )
    if len(alike) > LISTED:
        more = sum(map(len, list(alike.values())[LISTED:]))
        terminal.say(f"... and {counted(more, 'more cell')}; --report and --json tell all")
    terminal.say()


def _rows(some: Sequence[SaidOtherwise]) -> str:
    first = str(some[0].origin.row or "-")
    return first if len(some) == 1 else f"{first} and {len(some) - 1:,} more"
