"""kerfmark export"""

from __future__ import annotations

import argparse
from pathlib import Path

from kerfmark.cli import database
from kerfmark.cli.terminal import BAD, FAINT, GOOD, Terminal, size
from kerfmark.cli.terminal import NAME as BOLD
from kerfmark.errors import counted

NAME = "export"
SUMMARY = "tables, or a source in its flat shape, as files again"
ABOUT = """\
Takes tables out of a database (all, unless some are named), or with --flat a source: its own
columns, in the order of its rows, written as the file was. The ending of the name says what is
written: .csv, .parquet or .jsonl hold one table, .xlsx has a sheet for each, .sql makes them anew,
and a name without an ending is a folder of files. A folder of CSV has a csv-metadata.json (an open
standard) with types, keys and links, so that kerfmark cut FOLDER makes the same tables again.

  kerfmark export apiary.db -o tables                              a folder of CSV
  kerfmark export apiary.db keeper hive -o register.xlsx
  kerfmark export apiary.db --flat inspections -o inspections.csv
  kerfmark export apiary.db apiary --nested -o apiaries.jsonl      each with its hives, with their inspections
"""  # noqa: E501


def arguments(parser: argparse.ArgumentParser) -> None:
    """Declares what the command takes."""
    database.argument(parser)
    parser.add_argument("tables", nargs="*", metavar="TABLE", help="only these tables")
    parser.add_argument(
        "-o",
        "--output",
        required=True,
        type=Path,
        metavar="TARGET",
        help="the file or folder to write",
    )
    parser.add_argument(
        "--flat", default="", metavar="SOURCE", help="a source as it was, its tables joined again"
    )
    parser.add_argument(
        "--as",
        dest="form",
        choices=("csv", "parquet", "json-lines"),
        default="",
        help="what the files of a folder are (csv)",
    )
    database.script_engine(parser)
    parser.add_argument(
        "--nested", action="store_true", help="JSON Lines: each record holds those that lead to it"
    )
    parser.add_argument(
        "--formulas",
        choices=("harmless", "as-they-are"),
        help="cells of CSV that a spreadsheet would run: with an apostrophe before them (usual "
        "for tables), or as "
        "they are (usual for --flat)",
    )
    parser.add_argument(
        "--delimiter", default="", metavar="TEXT", help="what separates the cells of CSV"
    )
    parser.add_argument("--encoding", default="", help="the encoding of CSV")
    parser.add_argument("--replace", action="store_true", help="overwrite files that are there")


def run(args: argparse.Namespace, terminal: Terminal) -> int:
    """Runs the command."""
    from kerfmark.verbs.export import Spelled, export

    harmless = None if args.formulas is None else args.formulas == "harmless"
    delimiter = "\t" if args.delimiter in ("\\t", "tab") else args.delimiter
    with terminal.progress() as progress:
        result = export(
            database.chosen(args),
            args.output,
            args.tables,
            flat=args.flat,
            form=args.form,
            engine=args.engine,
            nested=args.nested,
            spelled=Spelled(delimiter, args.encoding, harmless),
            replace=args.replace,
            progress=progress,
        )
    terminal.result(result)
    folder = any(w.file != result.target for w in result.written)
    if len(result.written) > 1:
        terminal.table(
            ["table", "rows", "file"][: 2 + folder],
            [[w.table, f"{w.rows:,}", Path(w.file).name][: 2 + folder] for w in result.written],
            right=[1],
        )
        terminal.say()
    for remark in result.remarks:
        terminal.note(("note  ", BAD), remark)
    first = result.written[0]
    what = (
        counted(len(result.written), "table")
        if len(result.written) > 1
        else f"{first.table} ({counted(first.rows, 'row')})"
    )
    terminal.say(
        ("exported", GOOD),
        f"  {what} of {result.database} to ",
        (result.target, BOLD),
        f" ({size(result.bytes)}) in {result.seconds:.1f} s",
    )
    if result.same_bytes_as:
        terminal.say(("the same bytes as ", GOOD), result.same_bytes_as)
    if folder and result.form == "csv":
        terminal.say((f"kerfmark cut {result.target} --into DB makes the same tables again", FAINT))
    return 0
