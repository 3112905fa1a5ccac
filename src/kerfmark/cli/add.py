"""kerfmark add"""

from __future__ import annotations

import argparse
import shlex
from typing import TYPE_CHECKING

from kerfmark.cli import database, loading, reading
from kerfmark.cli.check import tell_group
from kerfmark.cli.deciding import corrections
from kerfmark.cli.pairs import pairs
from kerfmark.cli.terminal import BAD, FAINT, GOOD, Terminal
from kerfmark.cli.terminal import NAME as BOLD
from kerfmark.errors import counted

if TYPE_CHECKING:
    from kerfmark.verbs.add_result import AddResult

ROWS_SET_ASIDE = 3
LISTED = 10
"""Cells that differ from what is kept that are listed."""
NAME = "add"
SUMMARY = "put later files into the right tables of a database"
ABOUT = f"""\
Finds out by its headers which source each file feeds, resolves what the database knows already,
adds what is new, and refuses what does not fit. Everything lands, or nothing; `kerfmark undo` takes
a load back.

  kerfmark add inspections-2026-01.csv --into apiary.db
  kerfmark add inspections-2026-*.csv --into apiary.db --rehearse
  kerfmark add incoming/ --into apiary.db                                   what is new in a folder, every night
  kerfmark add inspections-2026-06.csv --into apiary.db --known keep        only what is new of a file that overlaps
  kerfmark add corrected.csv --into apiary.db                                  rows that --set-aside wrote, after they were corrected
  kerfmark add "2026-02-*.csv" --into /shared/apiary --cluster {database.EXAMPLE_CLUSTER}   to the tables that a cluster wrote
"""  # noqa: E501


def arguments(parser: argparse.ArgumentParser) -> None:
    """Declares what the command takes."""
    parser.add_argument(
        "files", nargs="+", metavar="FILE", help="whatever `kerfmark measure` reads"
    )
    database.option(parser, f"the database that Kerfmark made: {database.A_FILE}, or a URL")
    parser.add_argument(
        "--as", dest="source", default="", metavar="SOURCE", help="the source that the files feed"
    )
    database.cluster(parser, "--into then names a folder that `kerfmark cut --cluster` wrote")
    reading.arguments(parser)
    reading.forms(parser)
    loading.known(
        parser,
        "existing records: refuse the row (usual), keep what is there, fill its "
        "blanks, overwrite it, replace it with everything that belongs to it, or add it again "
        "under a new key",
        "replace",
        "add",
    )
    parser.add_argument(
        "--only-known",
        action="store_true",
        help="only existing records: rows for others are refused, nothing is made; the file needs "
        "only the columns that records are known by, and those to fill or change",
    )
    loading.rehearse(parser)
    loading.set_aside(parser)
    loading.replace_rows_set_aside(parser)
    parser.add_argument(
        "--only-new",
        action="store_true",
        help="skip files that were loaded already (usual for a folder or a pattern)",
    )
    parser.add_argument("--again", action="store_true", help="load a file that was loaded already")
    parser.add_argument(
        "--learn",
        action="store_true",
        help="accept a header that is nearly known as another spelling",
    )
    parser.add_argument(
        "--means",
        action="append",
        default=[],
        metavar="HEADER=KNOWN",
        help="this header means a known one, now and from then on",
    )
    parser.add_argument(
        "--lacking",
        action="append",
        default=[],
        metavar="COLUMN[=VALUE]",
        help="files need not have this column: it is blank then, or has that value",
    )
    parser.add_argument(
        "--leave-out",
        action="append",
        default=[],
        metavar="HEADER",
        help="leave out a column that is new",
    )
    parser.add_argument(
        "--put",
        action="append",
        default=[],
        metavar="HEADER=TABLE",
        help="put a column that is new into a table",
    )
    parser.add_argument(
        "--widen", action="store_true", help="widen columns that new values do not fit into"
    )
    parser.add_argument(
        "--correct",
        action="append",
        default=[],
        metavar="COLUMN:TEXT=RIGHT",
        help="what a misspelt text means, now and from then on; nothing after = is a blank",
    )
    parser.add_argument("--backup", metavar="FILE", help="copy the database there first")
    parser.add_argument(
        "--changes",
        action="store_true",
        help="tell each value that is changed, before and after, and each that is kept",
    )


def run(args: argparse.Namespace, terminal: Terminal) -> int:
    """Runs the command."""
    from kerfmark.verbs.add import NewHeaders, add

    new_headers = NewHeaders(
        args.learn,
        tuple(args.leave_out),
        dict(pairs(args.put, "HEADER=TABLE", '--put "Weather=inspection"')),
        dict(pairs(args.means, "HEADER=KNOWN", '--means "Paid with=Paid by"')),
        {header: value for one in args.lacking for header, _, value in [one.partition("=")]},
    )
    if args.cluster:
        return _on_cluster(args, terminal)
    with terminal.progress() as progress:
        result = add(
            args.files,
            database.chosen(args),
            source=args.source,
            known=loading.known_said(args),
            only_known=args.only_known,
            again=args.again,
            only_new=args.only_new,
            new_headers=new_headers,
            widen=args.widen,
            rehearsal=args.rehearse,
            set_aside=args.set_aside,
            replace=args.replace,
            backup=args.backup,
            reading=reading.chosen(args),
            forms=reading.chosen_forms(args),
            corrections=corrections(args.correct),
            progress=progress,
        )
    terminal.result(result)
    tell(result, terminal, changes=args.changes)
    if result.rehearsed and result.problems and not result.set_aside:
        return 1
    return ROWS_SET_ASIDE if result.set_aside else 0


def _on_cluster(args: argparse.Namespace, terminal: Terminal) -> int:
    """The same on a cluster."""
    from kerfmark.verbs.add_on_cluster import add_on_cluster

    database.refuse_on_cluster(
        {
            "--known": loading.known_said(args),
            "--only-known": args.only_known,
            "--learn": args.learn,
            "--means": args.means,
            "--lacking": args.lacking,
            "--leave-out": args.leave_out,
            "--put": args.put,
            "--widen": args.widen,
            "--correct": args.correct,
            "--backup": args.backup,
            "--schema": args.schema,
            "how files are read": reading.chosen(args).is_given,
            "--dates": args.dates,
            "--decimals": args.decimals,
        }
    )
    with terminal.progress() as progress:
        result = add_on_cluster(
            args.files,
            args.into,
            args.cluster,
            source=args.source,
            again=args.again,
            only_new=args.only_new,
            rehearsal=args.rehearse,
            set_aside=args.set_aside,
            replace=args.replace,
            progress=progress,
        )
    terminal.result(result)
    tell(result, terminal)
    if result.problems and not result.set_aside:
        return 1
    return ROWS_SET_ASIDE if result.set_aside else 0


def tell(
    result: AddResult, terminal: Terminal, *, changes: bool = False, closing: bool = True
) -> None:
    """What a load did; `closing` with a line that says so."""
    for f in result.files:
        terminal.say(
            "read ",
            (f.file, BOLD),
            f": {counted(f.rows, 'row')} for {f.source}",
            (f"  ({f.why})", FAINT),
        )
    if result.known_files:
        terminal.say("skipped ", (counted(result.known_files, "file"), BOLD), ", loaded already")
    for note in result.notes:
        terminal.note(("odd  ", BAD), note)
    for said in result.learned:
        terminal.say("learned ", said)
    if result.tables:
        shown = [
            t for t in result.tables if t.added or t.known or t.kept or t.filled or t.overwritten
        ]
        more = [k for k in ("kept", "filled", "overwritten") if any(getattr(t, k) for t in shown)]
        terminal.say()
        terminal.table(
            ["table", "added", "known", *more],
            [
                (
                    t.name,
                    *(
                        f"{n:,}" if n else "-"
                        for n in (t.added, t.known, *(getattr(t, k) for k in more))
                    ),
                )
                for t in shown
            ],
            right=[1, 2, 3, 4, 5],
        )
    if changes and result.changes:
        terminal.say()
        terminal.table(
            ["table", "row", "column", "before", "after"],
            [(c.table, c.row, c.column, c.before or "-", c.after or "-") for c in result.changes],
            right=[1],
            cut=[3, 4],
        )
    for group in result.groups:
        tell_group(group, terminal)
    terminal.say()
    if result.known_rows:
        different = sum(a.different for a in result.account)
        terminal.say(
            f"{counted(result.known_rows, 'row')} for existing records: "
            f"{result.known_rows - different:,} the same, {different:,} different and not taken "
            "over"
        )
    if result.different:
        terminal.say()
        terminal.table(
            ["file", "row", "column", "in the file", "in the database, kept"],
            [
                (
                    c.origin.file,
                    c.origin.row or "-",
                    c.origin.column or "",
                    c.in_file or "-",
                    c.in_database or "-",
                )
                for c in (result.different if changes else result.different[:LISTED])
            ],
            right=[1],
        )
        if len(result.different) > LISTED and not changes:
            terminal.say(f"... and {len(result.different) - LISTED:,} more (--changes tells all)")
        terminal.say()
    if result.set_aside:
        would = "would set aside " if result.rehearsed else "set aside "
        terminal.say(
            would,
            (counted(result.set_aside, "row"), BAD),
            " in " if result.rejects else "",
            (", ".join(result.rejects), BOLD),
            ": correct what is in it, and add that file" if result.rejects else "",
        )
    if not closing:
        return
    if not result.files and result.known_files:
        terminal.say(("added  ", GOOD), "nothing: there is nothing new")
        return
    if result.rehearsed:
        refused = result.problems and not result.set_aside
        terminal.say(
            ("refused  ", BAD) if refused else ("fits  ", GOOD),
            f"{counted(result.problems, 'problem')}; nothing would be added"
            if refused
            else "nothing was written: this was a rehearsal",
        )
        return
    terminal.say(
        ("added  ", GOOD),
        f"as load {result.load} to ",
        (result.database, BOLD),
        f" in {result.seconds:.1f} s; kerfmark undo {shlex.quote(result.database)} takes it back",
    )
