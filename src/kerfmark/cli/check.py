"""kerfmark check"""

from __future__ import annotations

import argparse
import sys
from typing import TYPE_CHECKING

from kerfmark.cli import database, loading, reading
from kerfmark.cli.terminal import BAD, FAINT, GOOD, HEAD, Terminal
from kerfmark.cli.terminal import NAME as BOLD
from kerfmark.errors import UsageError, counted

if TYPE_CHECKING:
    from kerfmark.verbs.check import CheckResult, Group

NAME = "check"
SUMMARY = "rehearse a cut and tell every problem by row; nothing is written"
ABOUT = """\
Reads everything that a layout names, converts, splits and looks up everything, writes nothing, and
tells all problems at once, worst first, each with its rows and what to do; then what is legal but
odd. Exit code 1 when a cut would be refused.

  kerfmark check apiary.layout.toml
  kerfmark check apiary.layout.toml inspections-2026-04.csv     this file in place of the one that the layout names
  kerfmark check apiary.layout.toml --into apiary.db            ask the database too
  kerfmark check apiary.layout.toml --all --json
  kerfmark check --schema > layout.schema.json                  for editors that check and complete layouts
"""  # noqa: E501


ALL = " (--all tells them)"
"""What tells all places of a problem."""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Declares what the command takes."""
    parser.add_argument("layout", nargs="?", metavar="LAYOUT", help="a layout (.toml)")
    parser.add_argument(
        "files", nargs="*", metavar="FILE", help="files in place of those that the layout names"
    )
    parser.add_argument(
        "--into",
        default="",
        metavar="DB",
        help="ask this database whether it would take the tables, or, where they are there, what "
        "they hold; a schema of a server goes into the URL: ?schema=NAME",
    )
    database.cluster(parser, "--into names the folder where the tables would go")
    loading.known_in_filled_tables(parser)
    reading.forms(parser)
    parser.add_argument(
        "--all", action="store_true", help="tell all rows of every problem, not the first ten"
    )
    parser.add_argument("--stop-after", type=int, metavar="N", help="end early, after N problems")
    parser.add_argument(
        "--schema", action="store_true", help="print the JSON Schema of layouts, and nothing else"
    )


def run(args: argparse.Namespace, terminal: Terminal) -> int:
    """Runs the command."""
    from kerfmark.verbs.check import check, schema

    if args.schema:
        sys.stdout.write(schema())
        return 0
    if args.layout is None:
        raise UsageError("name a layout", next="kerfmark mark FILES -o LAYOUT makes one")
    if args.stop_after is not None and args.stop_after < 1:
        raise UsageError(
            "--stop-after takes a number from 1 on",
            next="write it like --stop-after 10, or leave it out",
        )
    if args.cluster:
        result = _on_cluster(args, terminal)
        terminal.result(result)
        _tell(result, args, terminal)
        return 1 if result.problems else 0
    with terminal.progress() as progress:
        result = check(
            args.layout,
            args.files,
            into=args.into,
            known=loading.known_said(args),
            forms=reading.chosen_forms(args),
            places=None if args.all else 10,
            stop_after=args.stop_after or 0,
            progress=progress,
        )
    terminal.result(result)
    _tell(result, args, terminal)
    return 1 if result.problems else 0


def _on_cluster(args: argparse.Namespace, terminal: Terminal) -> CheckResult:
    """The same on a cluster."""
    from kerfmark.verbs.on_cluster import check_on_cluster

    database.refuse_on_cluster(
        {
            "files in place of those that the layout names": args.files,
            "--known": loading.known_said(args),
            "--stop-after": args.stop_after,
            "--all": args.all,
        }
    )
    if not args.into:
        raise UsageError(
            "a cluster needs a place that all of its machines reach",
            code="cluster.place",
            next="name the folder where the tables would go: --into FOLDER",
        )
    with terminal.progress() as progress:
        return check_on_cluster(args.layout, args.cluster, args.into, progress=progress)


def _tell(result: CheckResult, args: argparse.Namespace, terminal: Terminal) -> None:
    for s in result.sources:
        more = [f"{counted(s.left_out, 'row')} left out by the layout"] if s.left_out else []
        more += [
            f'{counted(n, "cell")} of "{h}" changed by the layout' for h, n in s.changed.items()
        ]
        terminal.say(
            "read ",
            (s.file, BOLD),
            f": {counted(s.rows, 'row')}",
            (f"  ({'; '.join(more)})" if more else "", FAINT),
        )
    for note in result.notes:
        terminal.note(("odd  ", BAD), note)
    if result.tables:
        terminal.say()
        named = any(t.created for t in result.tables)
        terminal.table(
            ["table", "rows", *(["only referred to"] if named else [])],
            [
                (
                    t.name,
                    f"{t.rows:,}",
                    *([f"{t.created:,}" if t.created else "-"] if named else []),
                )
                for t in result.tables
            ],
            right=[1, 2],
        )
    if result.links:
        terminal.say()
        terminal.table(
            ["lookup", "in", "resolved", "created", "left blank"],
            [
                (
                    f"{c.table}.{c.link}",
                    c.to,
                    f"{c.resolved:,}",
                    f"{c.created:,}" if c.created else "-",
                    f"{c.blank:,}" if c.blank else "-",
                )
                for c in result.links
            ],
            right=[2, 3, 4],
        )
    for group in result.groups:
        tell_group(group, terminal, each=args.all, more="" if args.cluster else ALL)
    terminal.say()
    if not result.problems:
        done = (
            "add just this, unless the database refuses it by a rule of its own"
            if result.existing
            else "build just this"
        )
        terminal.say(
            ("fits  ", GOOD),
            "everything: a cut from ",
            (result.layout, BOLD),
            f" would {done} ({result.seconds:.1f} s)",
        )
        return
    kinds = sum(g.severity == "broken" for g in result.groups)
    perhaps = "" if result.complete else ", and perhaps more: it ended early"
    aside = "" if args.cluster else ", unless --set-aside FILE lets the other rows land"
    terminal.say(
        ("refused  ", BAD),
        f"{counted(result.problems, 'problem')} of {counted(kinds, 'kind')}{perhaps}; a cut would "
        f"write nothing{aside} ({result.seconds:.1f} s)",
    )


def tell_group(group: Group, terminal: Terminal, *, each: bool = False, more: str = ALL) -> None:
    """Problems of one kind, those that say the same on one line (or `each` on its own), and what to
    do; `more` is said where not all places are told."""
    terminal.say()
    style = {"broken": BAD, "doubtful": HEAD, "odd": FAINT}[group.severity]
    where = f' in "{group.column}"' if group.column else ""
    terminal.say((group.severity, style), "  ", (f"{group.what}{where}: {group.total:,}", BOLD))
    rows: dict[tuple[str, str, str, int], list[str]] = {}
    for n, p in enumerate(group.places):
        file = p.origin.file + (f', sheet "{p.origin.sheet}"' if p.origin.sheet else "")
        same = rows.setdefault((file, p.value or "-", p.reason, n if each else 0), [])
        same += [f"{p.origin.row or '-'}"] if f"{p.origin.row or '-'}" not in same else []
    several = len({file for file, *_ in rows}) > 1
    terminal.say((f"  {next(iter(rows))[0]}" if not several else "", FAINT))
    many = any(len(some) > 1 for some in rows.values())
    terminal.table(
        [*(["file"] if several else []), "  rows" if many else "  row", "value", "why"],
        [
            (*([f"  {file}"] if several else []), f"  {', '.join(some)}", value, why)
            for (file, value, why, _), some in rows.items()
        ],
        right=[int(several)],
        cut=[1 + several, 2 + several],
    )
    if group.total > len(group.places):
        terminal.say(f"  ... and {group.total - len(group.places):,} more{more}")
    if group.remedy:
        terminal.say("  next: ", group.remedy.replace("\n", "\n        "))
