"""kerfmark mark"""

from __future__ import annotations

import argparse
import shlex
from pathlib import Path
from typing import TYPE_CHECKING

from kerfmark.cli import database, deciding, mapping, reading
from kerfmark.cli.pairs import pairs
from kerfmark.cli.terminal import FAINT, HEAD, Terminal
from kerfmark.cli.terminal import NAME as BOLD
from kerfmark.errors import UsageError, counted

if TYPE_CHECKING:
    from collections.abc import Sequence

    from kerfmark.verbs.beside import BesideResult
    from kerfmark.verbs.mark import (
        MarkResult,
        Reason,
        Reference,
        SampleTested,
        Steering,
        TableMarked,
    )

NAME = "mark"
SUMMARY = "propose the tables, with the evidence for each, as a layout to edit"
ABOUT = f"""\
Reads files wholly and proposes tables, keys and links, with the evidence for each. With -o the
proposal is written as a layout, a text file to edit and to cut from; an existing layout
keeps its edits, and only gets what it does not know yet.

  kerfmark mark inspections-2025.csv
  kerfmark mark register.xlsx inspections-2025.csv -o bees.layout.toml
  kerfmark mark inspections-2025.csv --known-by Queen --apart "Hive,Hive type" --leave-out Notes
  kerfmark mark inspections-2025.csv --onto club.db -o onto.layout.toml     into tables that are there
  kerfmark mark members.csv --onto club.db --map "Surname=person.last_name" --missing "town=create"
  kerfmark mark inspections-2025.csv --report proposal.html                for who owns the data
  kerfmark mark book.xlsx --no-link Code --link "Beekeeper=keeper" -o book.layout.toml
  kerfmark mark visits.csv --type "Day=D/M/YYYY" --key "hive=Tag" --table-name "visit=inspection"
  kerfmark mark book.layout.toml --correct "Kind:wodden=wooden"           decides in a layout that is there
  kerfmark mark /shared/visits.csv -o /shared/visits.layout.toml --cluster {database.EXAMPLE_CLUSTER} --shared /shared/tmp
"""  # noqa: E501
WIDEST = 100


def arguments(parser: argparse.ArgumentParser) -> None:
    """Declares what the command takes."""
    parser.add_argument(
        "inputs",
        nargs="+",
        metavar="FILE",
        help="whatever `kerfmark measure` reads; or one layout, to decide in it",
    )
    parser.add_argument(
        "-o", "--output", type=Path, metavar="LAYOUT", help="where the layout is written"
    )
    parser.add_argument(
        "--report",
        type=Path,
        metavar="FILE.html",
        help="the same as one page for the owner of the data: first rows, doubts, what to say",
    )
    database.cluster(parser, "it proposes from a sample, and tests that on all rows")
    database.shared(parser, "with --cluster")
    parser.add_argument(
        "--replace",
        action="store_true",
        help="write the layout anew, without the edits in it; write over the report",
    )
    parser.add_argument(
        "--onto",
        default="",
        metavar="DB",
        help="map the files onto the tables that a database has already",
    )
    database.schema(parser)
    mapping.arguments(parser)
    steering_arguments(parser)
    reading.arguments(parser)


def steering_arguments(parser: argparse.ArgumentParser) -> None:
    """Declares the options by which a person steers the proposal."""
    group = parser.add_argument_group("what the proposal must keep to (columns by their headers)")
    group.add_argument(
        "--known-by",
        action="append",
        default=[],
        metavar="COLUMN",
        help="this column is the key of something; A,B: these are so together",
    )
    group.add_argument(
        "--no-table",
        action="append",
        default=[],
        metavar="COLUMN",
        help="no table is known by this column; A,B: by these together",
    )
    group.add_argument(
        "--not-unique",
        action="append",
        default=[],
        metavar="COLUMN",
        help="later files may repeat the values of this column",
    )
    group.add_argument(
        "--together", action="append", default=[], metavar="A,B", help="these columns share a table"
    )
    group.add_argument(
        "--apart",
        action="append",
        default=[],
        metavar="A,B",
        help="the second column goes to another table than the first",
    )
    group.add_argument(
        "--leave-out",
        action="append",
        default=[],
        metavar="COLUMN",
        help="no table gets this column",
    )
    group.add_argument(
        "--no-link",
        action="append",
        default=[],
        metavar="COLUMN",
        help="this column refers to no other table",
    )
    group.add_argument(
        "--link",
        action="append",
        default=[],
        metavar="COLUMN=TABLE",
        help="this column refers to that table",
    )
    group.add_argument(
        "--same-as",
        action="append",
        default=[],
        metavar="A=B",
        help="these columns mean records of one table, as buyer and seller do",
    )
    group.add_argument(
        "--repeated",
        action="append",
        default=[],
        metavar="A,B",
        help="these columns repeat one kind of value: a record for each",
    )
    group.add_argument(
        "--list",
        action="append",
        default=[],
        metavar="COLUMN[=;]",
        help="cells of this column hold several values, separated by that: a record for each",
    )
    group.add_argument(
        "--tree",
        action="append",
        default=[],
        metavar="COLUMN",
        help="codes like 1.2.3 are below others: a column with the code above",
    )
    group.add_argument(
        "--only-lookups",
        action="store_true",
        help="tables directly above the rows, none above those",
    )
    group.add_argument("--one-table", action="store_true", help="one table per source")
    deciding.arguments(parser)


def steering(args: argparse.Namespace) -> Steering:
    """The options as the verbs take them.

    Raises UsageError for what cannot be.
    """
    from kerfmark.verbs.mark import Steering

    def several(option: str, said: list[str]) -> tuple[tuple[str, ...], ...]:
        out = tuple(tuple(h.strip() for h in one.split(",")) for one in said)
        if any(len(s) < 2 for s in out):
            raise UsageError(f"--{option} needs two columns", next="write them like A,B")
        return out

    def columns(said: list[str]) -> tuple[tuple[str, ...], ...]:
        return tuple(tuple(h.strip() for h in one.split(",")) for one in said)

    return Steering(
        left_out=tuple(args.leave_out),
        together=several("together", args.together),
        apart=several("apart", args.apart),
        known_by=columns(args.known_by),
        no_table=columns(args.no_table),
        not_unique=tuple(args.not_unique),
        no_link=tuple(args.no_link),
        link=tuple(pairs(args.link, "COLUMN=TABLE", '--link "Keeper=keeper"')),
        same_as=tuple(pairs(args.same_as, "A=B", '--same-as "Seen by=Keeper"')),
        repeated=several("repeated", args.repeated),
        lists=tuple(
            (h.strip(), s.strip(" ")) for h, _, s in (one.partition("=") for one in args.list)
        ),
        trees=tuple(args.tree),
        depth="flat" if args.one_table else "lookups" if args.only_lookups else "full",
        decisions=deciding.chosen(args),
    )


def run(args: argparse.Namespace, terminal: Terminal) -> int:
    """Runs the command."""
    from kerfmark.verbs.mark import mark

    if args.onto:
        database.refuse_on_cluster({"--onto": args.cluster})
        return mapping.run(args, steering(args), terminal)
    mapping.refuse_without_database(args)
    if args.cluster:
        result = _on_cluster(args, terminal)
        terminal.result(result)
        _tell(result, args, terminal)
        return 0
    with terminal.progress() as progress:
        result = mark(
            args.inputs,
            args.output,
            steering=steering(args),
            reading=reading.chosen(args),
            report=args.report,
            replace=args.replace,
            progress=progress,
        )
    terminal.result(result)
    _tell(result, args, terminal)
    return 0


def _on_cluster(args: argparse.Namespace, terminal: Terminal) -> MarkResult:
    """The same on a cluster."""
    from kerfmark.verbs.mark_on_cluster import mark_on_cluster

    database.refuse_on_cluster({"--report": args.report})
    with terminal.progress() as progress:
        return mark_on_cluster(
            args.inputs,
            args.output,
            args.cluster,
            args.shared,
            steering=steering(args),
            reading=reading.chosen(args),
            replace_layout=args.replace,
            progress=progress,
        )


def _tell(result: MarkResult, args: argparse.Namespace, terminal: Terminal) -> None:
    evidence(result, terminal)
    if result.sample is not None:
        _tell_sample(result.sample, terminal)
    if result.new or result.missing:
        terminal.say()
        terminal.say(("new since the layout was written", HEAD))
        for line in (
            *result.new,
            *(f'"{h}" is in the layout, but no longer in the file' for h in result.missing),
        ):
            terminal.say("  ", line)
    terminal.say()
    files = shlex.join(map(str, args.inputs))
    if result.layout:
        kept = " (your edits are kept)" if result.new else ""
        into = f"FOLDER --cluster {args.cluster}" if args.cluster else "DB"
        terminal.say(
            "layout ",
            (result.layout, BOLD),
            f"{kept}: edit it, then kerfmark cut {shlex.quote(result.layout)} --into {into}",
        )
    else:
        terminal.say(
            ("no layout was written: " if args.report else "nothing was written: ", FAINT),
            f"kerfmark mark {files} -o LAYOUT writes this as a file to edit",
        )
    if args.report:
        terminal.note("wrote ", (str(args.report), BOLD))


def _tell_sample(sample: SampleTested, terminal: Terminal) -> None:
    """Of how many rows a proposal was made, and on how many it was tested."""
    terminal.say()
    whole = sample.rows == sample.of_rows
    terminal.say(
        "proposed from ",
        (counted(sample.rows, "row"), BOLD),
        "" if whole else f" of {sample.of_rows:,}, and tested on all of them",
        "" if whole else f" ({counted(sample.rounds, 'proposal')})",
    )


def evidence(result: MarkResult | BesideResult, terminal: Terminal) -> None:
    """The tables that are proposed, why, what nearly holds, what was decided against, and what is
    worth knowing."""
    picture(result.tables, terminal)
    decided(result.decided, terminal)
    why(result.reasons, result.references, terminal)
    if result.near:
        terminal.say()
        terminal.say(("nearly", HEAD))
        for near in result.near[:12]:
            lives = (
                f"is a column of {near.table}; these rows keep their own values"
                if near.table
                else "stays with the rows"
            )
            terminal.say("  ", str(near), (f"  ({lives})", FAINT))
        if len(result.near) > 12:
            terminal.say((f"  ... and {len(result.near) - 12:,} more (--json lists all)", FAINT))
    if result.against:
        terminal.say()
        terminal.say(("decided against", HEAD))
        for line in result.against[:12]:
            terminal.say("  ", line)
    worth_knowing(result.notes, terminal)


def picture(tables: Sequence[TableMarked], terminal: Terminal) -> None:
    """The tables as trees: below each table those that it links to, and what it has several of."""
    above = {
        parent for t in tables for parent in t.links.values() if parent not in (t.name, t.part_of)
    }
    drawing = _Picture(tables, terminal)
    for table in tables:
        if table.name not in above and not table.part_of:
            drawing.branch(table, "", "", "")
    for table in tables:
        if (
            table.name not in drawing.shown
            and table.source
            and (not table.part_of or table.part_of not in drawing.known)
        ):
            drawing.branch(table, "", "", "")


class _Picture:
    """Draws each table once, the others as a reference to that."""

    def __init__(self, tables: Sequence[TableMarked], terminal: Terminal) -> None:
        self.known, self.terminal = {t.name: t for t in tables}, terminal
        self.shown: set[str] = set()

    def branch(self, table: TableMarked, mark: str, lead: str, follow: str) -> None:
        """A table and those that link to it; `mark` tells how they do."""
        if table.name in self.shown:
            self.terminal.say((lead, FAINT), (table.name, BOLD), (f"{mark}, see above", FAINT))
            return
        self.shown.add(table.name)
        own = ", ".join(c for c in table.columns if c not in table.known_by)
        own = own if len(own) <= WIDEST else own[: own.rfind(",", 0, WIDEST)] + ", ..."
        key = " + ".join(k for k in table.known_by if not (table.part_of and k in table.links))
        rows = f"  {counted(table.rows, 'record')}" if table.rows is not None else ""
        self.terminal.say(
            (lead, FAINT),
            (table.name, HEAD),
            rows,
            (mark, FAINT),
            ("  existing", FAINT) if table.there else "",
            "  ",
            (key or "each row", BOLD),
            f": {own}" if own else "",
        )
        below: list[tuple[str, TableMarked | None]] = []
        for link, parent in table.links.items():
            if parent == table.name:
                below.append((f"itself, through {link}", None))
            elif parent != table.part_of:
                below.append(
                    (f"  through {link}" if link != f"{parent}_id" else "", self.known[parent])
                )
        below += [("  several each", t) for t in self.known.values() if t.part_of == table.name]
        for i, (said, other) in enumerate(below):
            last = i == len(below) - 1
            start, rest = f"{follow}{'└' if last else '├'}─ ", f"{follow}{' ' if last else '│'}  "
            if other is None:
                self.terminal.say((start + said, FAINT))
            else:
                self.branch(other, said, start, rest)


def why(reasons: Sequence[Reason], references: Sequence[Reference], terminal: Terminal) -> None:
    """The evidence for each table that was split off, and for each link by value."""
    if reasons:
        terminal.say()
        terminal.say(("why these tables", HEAD))
    for r in reasons:
        terminal.say("  ", (r.table, BOLD), f": {r.claim}")
        if r.evidence:
            terminal.say((f"      {r.evidence}", FAINT))
    if references:
        terminal.say()
        terminal.say(("why these links", HEAD))
    for link in references:
        terminal.say("  ", (f"{link.table} to {link.parent}", BOLD), f": {link}")


def decided(lines: Sequence[str], terminal: Terminal) -> None:
    """What a person has decided about the tables and columns."""
    if lines:
        terminal.say()
        terminal.say(("as you decided", HEAD))
        for line in lines:
            terminal.say("  ", line)


def worth_knowing(notes: Sequence[tuple[str, str]], terminal: Terminal) -> None:
    """Remarks about columns."""
    if notes:
        terminal.say()
        terminal.say(("worth knowing", HEAD))
        for header, note in dict.fromkeys(notes):
            terminal.say("  ", (header, BOLD), f": {note}")
