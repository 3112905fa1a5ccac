"""kerfmark cut"""

from __future__ import annotations

import argparse
import shlex
from typing import TYPE_CHECKING

from kerfmark.cli import database, loading, reading
from kerfmark.cli.add import tell as tell_added
from kerfmark.cli.mark import decided, evidence, steering, steering_arguments, why, worth_knowing
from kerfmark.cli.pairs import pairs
from kerfmark.cli.terminal import BAD, FAINT, Terminal, size
from kerfmark.cli.terminal import NAME as BOLD
from kerfmark.engines import script_engine
from kerfmark.errors import UsageError, counted

if TYPE_CHECKING:
    from kerfmark.verbs.beside import BesideResult
    from kerfmark.verbs.cut import CutResult

ROWS_SET_ASIDE = 3
NAME = "cut"
SUMMARY = "build a database of linked tables from flat files or a layout"
ABOUT = f"""\
Builds the tables: {database.A_FILE}, or tables on a server. Given plain files, finds the tables in
them first and saves that layout (beside the file, or here); given a layout, builds exactly what it
says, or fills the tables that are there (kerfmark mark --onto). Either all of it is there
afterwards, or everything is as before.

  kerfmark cut inspections-2025.csv --into apiary.db
  kerfmark cut apiary.layout.toml --into other.db
  kerfmark cut apiary.layout.toml --into {database.EXAMPLE_URL} --schema apiary
  kerfmark cut apiary.layout.toml --as-script apiary.sql --for {database.EXAMPLE_ENGINE}
  kerfmark cut harvest.csv --into apiary.db --beside            tables for files of another kind
  kerfmark cut apiary.layout.toml --into /shared/apiary --cluster {database.EXAMPLE_CLUSTER}
  kerfmark cut apiary.layout.toml --into {database.EXAMPLE_URL} --shared /shared --cluster {database.EXAMPLE_CLUSTER}
"""  # noqa: E501


def arguments(parser: argparse.ArgumentParser) -> None:
    """Declares what the command takes."""
    parser.add_argument(
        "inputs",
        nargs="+",
        metavar="FILE",
        help="whatever `kerfmark measure` reads, or one layout (.toml)",
    )
    database.option(parser, f"the database to make: {database.A_DATABASE}", required=False)
    parser.add_argument(
        "--as-script",
        metavar="FILE",
        help="build nothing: write an SQL script that the engine's own client runs",
    )
    database.script_engine(parser)
    loading.set_aside(parser)
    parser.add_argument(
        "--replace", action="store_true", help="build anew what Kerfmark built there before"
    )
    parser.add_argument(
        "--discard",
        action="store_true",
        help="with --replace: lose later loads, changes of the layout and rows that no load made",
    )
    parser.add_argument(
        "--beside",
        action="store_true",
        help="put tables for files of another kind beside those of the database, linked to them",
    )
    parser.add_argument(
        "--put",
        action="append",
        default=[],
        metavar="HEADER=TABLE",
        help="with --beside: make a column of the files one of a table that is there, to whose "
        "records they lead",
    )
    database.cluster(
        parser, "--into then names a folder for the tables, as data sets in Parquet, or a server"
    )
    database.shared(parser, "with --cluster and a server")
    loading.known_in_filled_tables(parser)
    loading.rehearse(parser, "build and check everything, and keep nothing")
    steering_arguments(parser)
    reading.arguments(parser)


def run(args: argparse.Namespace, terminal: Terminal) -> int:
    """Runs the command."""
    from kerfmark.verbs.beside import BesideResult
    from kerfmark.verbs.cut import CutResult, cut

    if bool(args.into) == bool(args.as_script) or bool(args.as_script) != bool(args.engine):
        raise UsageError(
            "say where the tables go",
            next="--into DB builds them, --as-script FILE --for ENGINE writes a script that does",
        )
    if args.cluster:
        return _on_cluster(args, terminal)
    with terminal.progress() as progress:
        result = cut(
            args.inputs,
            database.chosen(args),
            script=args.as_script,
            engine=args.engine,
            replace=args.replace,
            discard=args.discard,
            rehearsal=args.rehearse,
            known=loading.known_said(args),
            beside=args.beside,
            put=dict(pairs(args.put, "HEADER=TABLE", '--put "Colour=hive"')),
            progress=progress,
            reading=reading.chosen(args),
            steering=steering(args),
            set_aside=args.set_aside,
        )
    terminal.result(result)
    if isinstance(result, CutResult):
        _tell(result, terminal, args.engine)
        return ROWS_SET_ASIDE if result.set_aside else 0
    if isinstance(result, BesideResult):
        _tell_beside(result, terminal)
        result = result.added
    else:
        tell_added(result, terminal)
    if result.rehearsed and result.problems and not result.set_aside:
        return 1
    return ROWS_SET_ASIDE if result.set_aside else 0


def _on_cluster(args: argparse.Namespace, terminal: Terminal) -> int:
    """The same on a cluster."""
    from kerfmark.verbs.mark import Steering
    from kerfmark.verbs.on_cluster import cut_on_cluster

    database.refuse_on_cluster(
        {
            "--as-script": args.as_script,
            "--beside": args.beside,
            "--put": args.put,
            "--known": loading.known_said(args),
            "--schema": args.schema if "://" not in args.into else "",
            "--shared without a server": args.shared if "://" not in args.into else "",
            "what steers the marking": steering(args) != Steering(),
            "how files are read": reading.chosen(args).is_given,
        }
    )
    with terminal.progress() as progress:
        result = cut_on_cluster(
            args.inputs,
            database.chosen(args),
            args.cluster,
            shared=args.shared,
            replace=args.replace,
            discard=args.discard,
            rehearsal=args.rehearse,
            set_aside=args.set_aside,
            progress=progress,
        )
    terminal.result(result)
    _tell(result, terminal, cluster=args.cluster)
    return ROWS_SET_ASIDE if result.set_aside else 0


def _tell_beside(result: BesideResult, terminal: Terminal) -> None:
    """The tables beside those that a database has, and the load."""
    evidence(result, terminal)
    terminal.say()
    tell_added(result.added, terminal)
    if result.layout:
        terminal.say("saved ", (result.layout, BOLD), ": the layout of the whole database")
    elif not result.added.rehearsed:
        command = f"kerfmark show {shlex.quote(result.added.database)} --layout"
        terminal.say((command, BOLD), " prints the layout of the whole database")


def _tell(result: CutResult, terminal: Terminal, engine: str = "", *, cluster: str = "") -> None:
    """What a cut has made; one on a `cluster` has not held every cell against its source."""
    for s in result.sources:
        terminal.say(
            "read ",
            (s.file, BOLD),
            f": {counted(s.rows, 'row')}, {counted(s.columns, 'column')}, {size(s.bytes)}",
            (f"  ({s.how})", FAINT),
        )
    terminal.say()
    terminal.table(
        ["table", "rows", "key", "known by", "links to"],
        [
            (
                t.name,
                f"{t.rows:,}",
                t.key,
                ", ".join(t.known_by) or "its row",
                ", ".join(t.links.values()) or "-",
            )
            for t in result.tables
        ],
        right=[1],
    )
    decided(result.decided, terminal)
    why(result.reasons, result.references, terminal)
    worth_knowing(result.notes, terminal)
    terminal.say()
    links = sum(len(t.links) for t in result.tables)
    large = f" ({size(result.bytes)})" if result.bytes else ""
    done = "would build " if result.rehearsed else "wrote " if result.script else "built "
    terminal.say(
        done,
        (result.database, BOLD),
        f"{large} in {result.seconds:.1f} s: "
        f"{counted(len(result.tables), 'table')}, {counted(links, 'link')}"
        + (", every cell, link and row count checked" if not (cluster or result.script) else ""),
    )
    if cluster and not result.rehearsed:
        command = f"kerfmark prove {shlex.quote(result.database)}"
        command += f" --cluster {cluster}" if "://" not in result.database else ""
        terminal.say((command, BOLD), " compares every row with its file")
    for source, rows in result.left_out.items():
        terminal.say(
            "left out ",
            (counted(rows, "row"), BOLD),
            f" of {source}, for which its only_rows does not hold",
        )
    if result.rehearsed:
        terminal.say(
            "nothing was written: this was a rehearsal"
            + (
                f"; {counted(result.set_aside, 'row')} would be set aside"
                if result.set_aside
                else ""
            )
        )
        return
    if result.set_aside:
        terminal.say(
            "set aside ",
            (counted(result.set_aside, "row"), BAD),
            " in ",
            (", ".join(result.rejects), BOLD),
            ", with the reason: correct what is in it, and add that file",
        )
    into = (
        f"--as-script {shlex.quote(result.database)} --for {engine}"
        if result.script
        else f"--into {shlex.quote(result.database)}"
    )
    if result.marked:
        terminal.say(
            "saved ",
            (result.layout, BOLD),
            ": edit it to build other tables, then "
            f"kerfmark cut {shlex.quote(result.layout)} {into} --replace",
        )
    if result.script:
        terminal.say(
            "run it with ",
            (script_engine(engine).script_command(result.database, "DATABASE"), BOLD),
        )
