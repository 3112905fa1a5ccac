"""`kerfmark mark --onto`: how files feed tables that a database has already."""

from __future__ import annotations

import argparse
import shlex
from collections.abc import Callable, Iterator, Sequence
from dataclasses import fields
from typing import TYPE_CHECKING

from kerfmark.cli import reading
from kerfmark.cli.pairs import pairs
from kerfmark.cli.terminal import FAINT, HEAD, Terminal
from kerfmark.cli.terminal import NAME as BOLD
from kerfmark.errors import UsageError

if TYPE_CHECKING:
    from kerfmark.verbs.map_onto import OntoResult, Unmapped
    from kerfmark.verbs.mark import Steering

_OPTIONS = ("map", "rows_to", "constant", "missing", "put")
_BOTH = ("left_out", "link")
"""What steers a proposal of new tables and a mapping alike."""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Declares the options by which a person steers a mapping."""
    group = parser.add_argument_group("with --onto: where columns go (a number: by position)")
    for option, metavar, meaning in (
        ("--map", "HEADER=TABLE.COLUMN", "this column feeds that one; TABLE.LINK.COLUMN: it names "
         "the record that the link refers to"),
        ("--rows-to", "TABLE", "each row is a record of this table; SOURCE=TABLE: of one source"),
        ("--constant", "TABLE.COLUMN=VALUE", "this column has the same value in every row"),
        ("--missing", "TABLE=HOW", "records that the table does not have: create or refuse"),
        ("--put", "HEADER=TABLE", "add a column that matches nothing to that table"),
    ):  # fmt: skip
        group.add_argument(option, action="append", default=[], metavar=metavar, help=meaning)


def refuse_without_database(args: argparse.Namespace) -> None:
    """Raises UsageError for options of a mapping without a database."""
    given = [f"--{o.replace('_', '-')}" for o in _OPTIONS if getattr(args, o)]
    given += ["--schema"] if args.schema else []
    if given:
        one = len(given) == 1
        raise UsageError(
            f"{' and '.join(given)} {'needs' if one else 'need'} a database",
            next="name it with --onto",
        )


def run(args: argparse.Namespace, steering: Steering, terminal: Terminal) -> int:
    """Maps files onto the tables of a database."""
    from kerfmark.address import with_schema
    from kerfmark.verbs.map_onto import Wishes, mark_onto

    _refuse_others(args, steering)
    wishes = Wishes(
        places=tuple(pairs(args.map, "HEADER=TABLE.COLUMN", '--map "Keeper=member.name"')),
        rows=tuple(
            (source, table) for said in args.rows_to for source, _, table in [said.rpartition("=")]
        ),
        links=steering.link,
        leave_out=steering.left_out,
        constants=tuple(
            pairs(
                args.constant, "TABLE.COLUMN=VALUE", '--constant "visit.source=sheet"', first=True
            )
        ),
        missing=tuple(pairs(args.missing, "TABLE=HOW", '--missing "keeper=create"')),
    )
    with terminal.progress() as progress:
        result = mark_onto(
            args.inputs,
            with_schema(args.onto, args.schema),
            args.output,
            put=pairs(args.put, "HEADER=TABLE", '--put "Weather=inspection"'),
            wishes=wishes,
            reading=reading.chosen(args),
            replace=args.replace,
            progress=progress,
        )
    terminal.result(result)
    _tell(result, terminal)
    return 0


def _refuse_others(args: argparse.Namespace, steering: Steering) -> None:
    """Raises UsageError for what steers a proposal of new tables."""
    if args.report:
        raise UsageError(
            "--report shows tables that are proposed",
            next="leave it out; kerfmark draw shows those of the database",
        )
    usual = type(steering)()
    for one in fields(steering):
        if one.name in _BOTH or getattr(steering, one.name) == getattr(usual, one.name):
            continue
        if one.name == "decisions":
            raise UsageError(
                "--onto takes the types and keys of columns from the tables",
                next="use --map, --link, --rows-to, --leave-out, --constant, --missing or --put\n"
                "kerfmark mark LAYOUT --type and the like decide in the layout that --onto writes",
            )
        plural = {"depth": "one_table", "lists": "list", "trees": "tree"}
        option = "--" + plural.get(one.name, one.name).replace("_", "-")
        raise UsageError(
            f"{option} is for tables that are to be made",
            why="those of the database are as they are",
            next="leave it out: --map, --link, --rows-to, --leave-out, --constant, --missing and "
            "--put say where columns go",
        )


def _tell(result: OntoResult, terminal: Terminal) -> None:
    several = len({f.source for f in result.fed} | {u.source for u in result.unmapped}) > 1

    def of(source: str) -> str:
        return f" of {source}" if several else ""

    rows = [
        ((f.source,) if several else ())
        + (
            f.header,
            f"{f.table}.{f.column}" + (f" through {f.link}" if f.link else ""),
            f.sure,
            f.why,
        )
        for f in result.fed
    ]
    terminal.table([*(["source"] if several else []), "column", "goes to", "sure?", "why"], rows)
    doubtful = [f for f in result.fed if f.sure == "doubtful"]
    for title, lines in (
        (
            "doubtful: look at these",
            [
                f'"{f.header}"{of(f.source)}: --map '
                + shlex.quote(f"{f.header}={f.place}")
                + f" confirms it, --leave-out {shlex.quote(f.header)} undoes it"
                for f in doubtful
            ],
        ),
        (
            "left out: no column matches",
            [
                *_perhaps(result.unmapped, of),
                *(
                    ['--put "HEADER=TABLE" gives one a new column in a table']
                    if result.unmapped
                    else []
                ),
            ],
        ),
        ("required, but no column of the files matches", result.required),
        (
            "records that a table does not have",
            [
                f"{t}: made (--missing {t}=refuse refuses the rows)"
                if how == "create"
                else f"{t}: the rows that name them are refused (--missing {t}=create makes them)"
                for t, how in result.missing
            ],
        ),
        ("worth knowing", result.odd),
    ):
        if lines:
            terminal.say()
            terminal.say((title, HEAD))
            for line in lines:
                terminal.say("  ", line)
    terminal.say()
    if result.left_alone:
        terminal.say("left alone: ", ", ".join(result.left_alone))
    if result.layout:
        command = f"kerfmark cut {shlex.quote(result.layout)} --into {shlex.quote(result.database)}"
        terminal.say("layout ", (result.layout, BOLD), f": look at it, then {command}")
    else:
        terminal.say(
            ("nothing was written: ", FAINT),
            "-o LAYOUT writes this as a file to edit and to cut from",
        )


def _perhaps(unmapped: Sequence[Unmapped], of: Callable[[str], str]) -> Iterator[str]:
    """What is said of columns without a place: those for which none is likely are on one line for
    each source."""
    alone: dict[str, list[str]] = {}
    for u in unmapped:
        if not u.perhaps:
            alone.setdefault(u.source, []).append(f'"{u.header}"')
    for source, headers in alone.items():
        yield ", ".join(headers) + of(source)
    for u in unmapped:
        if u.perhaps:
            best, *others = u.perhaps
            more = f" (or {', '.join(others)})" if others else ""
            command = f"--map {shlex.quote(f'{u.header}={best}')}"
            yield f'"{u.header}"{of(u.source)}: perhaps {command}{more}'
