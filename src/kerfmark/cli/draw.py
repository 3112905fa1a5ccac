"""kerfmark draw"""

from __future__ import annotations

import argparse
from pathlib import Path

from kerfmark.cli import database
from kerfmark.cli.terminal import NAME as BOLD
from kerfmark.cli.terminal import Terminal, size
from kerfmark.errors import counted

NAME = "draw"
SUMMARY = "the tables and links as a picture"
ABOUT = f"""\
Draws the tables of a layout or of a database, whoever made it: columns, keys, types, links, and for
a database how many rows there are and what is no longer repeated. The ending of the name says what
is written: .svg, .png, .pdf, or text that other programs draw: .mmd (Mermaid), .dot (Graphviz).

  kerfmark draw apiary.db -o apiary.svg
  kerfmark draw apiary.layout.toml -o apiary.png --before-after
  kerfmark draw {database.EXAMPLE_URL} --schema apiary -o club.pdf
"""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Declares what the command takes."""
    database.argument(parser, f"a layout (.toml), {database.A_DATABASE}")
    parser.add_argument(
        "-o", "--output", required=True, type=Path, metavar="PICTURE", help="the file to write"
    )
    parser.add_argument(
        "--before-after", action="store_true", help="the flat columns, flowing into the tables"
    )
    parser.add_argument(
        "--dark", action="store_true", help="light on dark (an SVG is as its reader's system is)"
    )
    parser.add_argument("--replace", action="store_true", help="overwrite the file")


def run(args: argparse.Namespace, terminal: Terminal) -> int:
    """Runs the command."""
    from kerfmark.verbs.draw import picture

    with terminal.progress() as progress:
        diagram = picture(
            database.chosen(args),
            args.output,
            before_after=args.before_after,
            dark=args.dark,
            replace=args.replace,
            progress=progress,
        )
    terminal.result(diagram)
    terminal.say(
        "drew ",
        (str(args.output), BOLD),
        f" ({size(args.output.stat().st_size)}): "
        f"{counted(len(diagram.boxes), 'table')}, {counted(len(diagram.lines), 'link')}",
    )
    return 0
