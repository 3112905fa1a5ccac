"""kerfmark measure"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from kerfmark import __version__
from kerfmark.cli import database, reading
from kerfmark.cli.terminal import BAD, FAINT, HEAD, Terminal, size
from kerfmark.cli.terminal import NAME as BOLD
from kerfmark.errors import counted, in_rows

if TYPE_CHECKING:
    from kerfmark.verbs.measure import Finding, MeasureResult, SourceMeasured

NAME = "measure"
SUMMARY = "what is in files: columns, types, blanks, first rows, findings"
ABOUT = f"""\
Reads files wholly and tells what is in them: how they are written, the type of each column from all
its rows, how full and how varied it is, the first rows, and what a person should know before
loading them. Nothing is written.

  kerfmark measure inspections-2025.csv
  kerfmark measure register.xlsx --rows 10
  kerfmark measure folder/ archive.zip data.csv.gz 'more/*.jsonl' old.parquet --json
  kerfmark measure book.xlsx --sheet Hives --cells C5:H200
  kerfmark measure inspections-2025.csv --report inspections.html
  kerfmark measure '/shared/visits/*.csv' --cluster {database.EXAMPLE_CLUSTER} --shared /shared/tmp
"""
LONGEST = 26
STYLES = {"broken": BAD, "doubtful": HEAD, "odd": BOLD}


def arguments(parser: argparse.ArgumentParser) -> None:
    """Declares what the command takes."""
    parser.add_argument(
        "inputs",
        nargs="+",
        metavar="FILE",
        help="text files, workbooks, JSON, Parquet, ORC, databases, packed files, "
        "folders, patterns, -",
    )
    parser.add_argument(
        "--rows",
        type=int,
        default=3,
        metavar="N",
        help="first rows shown of each source (default: 3)",
    )
    parser.add_argument(
        "--report", type=Path, metavar="FILE.html", help="the same as one HTML page, with pictures"
    )
    parser.add_argument(
        "--replace", action="store_true", help="write the page over a file that exists"
    )
    database.cluster(parser, "it counts the values of each column")
    database.shared(parser, "with --cluster")
    reading.arguments(parser)


def run(args: argparse.Namespace, terminal: Terminal) -> int:
    """Runs the command."""
    if args.report is not None:
        from kerfmark.verbs.atomic_write import require_writable, write_atomically

        require_writable(args.report, args.replace)
    result = _measured(args, terminal)
    if args.report is not None:
        from kerfmark.draw.measure_page import measured_page

        with write_atomically({args.report: measured_page(result.sources, __version__)}):
            pass
        terminal.note("wrote ", (str(args.report), BOLD))
    terminal.result(result)
    for i, source in enumerate(result.sources):
        if i:
            terminal.say()
        _tell(source, terminal)
    return 0


def _measured(args: argparse.Namespace, terminal: Terminal) -> MeasureResult:
    """What is in the files, which this machine reads or a cluster."""
    rows, how = max(args.rows, 0), reading.chosen(args)
    with terminal.progress() as progress:
        if args.cluster:
            from kerfmark.verbs.measure_on_cluster import measure_on_cluster

            return measure_on_cluster(
                args.inputs, args.cluster, args.shared, rows=rows, reading=how, progress=progress
            )
        from kerfmark.verbs.measure import measure

        return measure(args.inputs, rows=rows, reading=how, progress=progress)


def _tell(source: SourceMeasured, terminal: Terminal) -> None:
    skipped = f", {counted(source.skipped, 'blank row')} skipped" if source.skipped else ""
    facts = (
        f"  {counted(source.rows, 'row')}, {counted(len(source.columns), 'column')}, "
        f"{size(source.bytes)}{skipped}"
    )
    terminal.say((source.file, HEAD), facts, (f"  ({source.how})", FAINT))
    if source.columns:
        terminal.table(
            [
                "column",
                "type",
                "blank",
                "distinct",
                "longest",
                "smallest",
                "largest",
                "most frequent",
            ],
            [
                (
                    c.header,
                    f"{c.mostly} (nearly)" if c.mostly else c.type,
                    f"{c.blanks:,}" if c.blanks else "-",
                    "unique" if c.unique and c.distinct > 1 else f"{c.distinct:,}",
                    c.longest,
                    _short(c.smallest),
                    _short(c.largest),
                    ", ".join(f"{_short(v)} ({n:,})" for v, n in c.frequent) or "-",
                )
                for c in source.columns
            ],
            right=[2, 3, 4],
            cut=[5, 6, 7],
        )
    blanks = sorted({s for c in source.columns for s in c.blank_as})
    if blanks:
        terminal.say((f"taken as blank: {', '.join(blanks)} (layout: blanks)", FAINT))
    if source.first_rows:
        terminal.say()
        heads = [c.header for c in source.columns]
        rows = [["" if v is None else v for v in row] for row in source.first_rows]
        if terminal.fits(heads, rows):
            terminal.table(heads, rows)
        else:
            terminal.table(
                ["column", *(f"row {i + 1}" for i in range(len(rows)))],
                [[h, *(_short(row[i], 40) for row in rows)] for i, h in enumerate(heads)],
            )
    if source.findings:
        terminal.say()
        terminal.say(("findings", HEAD))
    for finding in source.findings:
        _tell_finding(finding, source, terminal)


def _tell_finding(f: Finding, source: SourceMeasured, terminal: Terminal) -> None:
    where = f'column "{f.origin.column}"' if f.origin.column else "rows"
    if f.origin.file != source.file and f.rows:
        where = f"{f.origin.file}, {where}"
    terminal.say(
        "  ",
        (f"{f.severity:<9}", STYLES[f.severity]),
        f"{where}: {f.what}{in_rows(f.rows, f.total)}",
    )
    for line in f.next.split("\n") if f.next else ():
        terminal.say((f"           {line}", FAINT))


def _short(text: str, most: int = LONGEST) -> str:
    return text if len(text) <= most else text[: most - 1] + "…"
