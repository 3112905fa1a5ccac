"""kerfmark draw"""

from __future__ import annotations

import argparse
from pathlib import Path

from kerfmark.cli import database
from kerfmark.cli.terminal import NAME as BOLD
from kerfmark.cli.terminal import Terminal, size
from kerfmark.errors import Origin, UsageError, counted

NAME = "draw"
SUMMARY = "the tables and links as a picture"
ABOUT = """\
Draws the tables of a layout or of a database, whoever made it: columns, keys, types, links, and for a database how many rows there
are and what is no longer repeated. The ending of the name says what is written: .svg, .png, .pdf, or text that other programs
draw: .mmd (Mermaid), .dot (Graphviz).

  kerfmark draw apiary.db -o apiary.svg
  kerfmark draw apiary.layout.toml -o apiary.png --before-after
  kerfmark draw postgresql://me@db.example/club --schema apiary -o club.pdf
"""
ENDINGS = (".svg", ".png", ".pdf", ".mmd", ".dot")


def arguments(parser: argparse.ArgumentParser) -> None:
    """Declares what the command takes."""
    database.argument(parser, "a layout (.toml), an SQLite file, or the URL of a database on a server")
    parser.add_argument("-o", "--output", required=True, type=Path, metavar="PICTURE", help="the file to write")
    parser.add_argument("--before-after", action="store_true", help="the flat columns, flowing into the tables")
    parser.add_argument("--dark", action="store_true", help="light on dark (an SVG is as its reader's system is)")
    parser.add_argument("--replace", action="store_true", help="overwrite the file")


def run(args: argparse.Namespace, terminal: Terminal) -> int:
    """Runs the command."""
    from kerfmark.draw.flow import flow
    from kerfmark.draw.scene import raster, svg
    from kerfmark.draw.tables import tables
    from kerfmark.draw.words import dot, mermaid
    from kerfmark.verbs.draw import draw
    from kerfmark.verbs.sources import saving, writable

    ending = args.output.suffix.lower()
    if ending not in ENDINGS:
        raise UsageError(f'"{args.output.name}" does not say what to write', next=f"let its name end in {', '.join(ENDINGS)}")
    writable(args.output, args.replace)
    diagram = draw(database.chosen(args))
    if args.before_after and not diagram.flows:
        raise UsageError("Kerfmark did not make these tables, so it does not know what they were before",
                         origin=Origin(diagram.title), next="leave out --before-after, or draw a layout")
    if args.before_after and ending in (".mmd", ".dot"):
        raise UsageError("these forms show tables only", next="leave out --before-after, or write .svg, .png or .pdf")
    content: str | bytes
    if ending in (".mmd", ".dot"):
        content = mermaid(diagram) if ending == ".mmd" else dot(diagram)
    else:
        scene = flow(diagram) if args.before_after else tables(diagram)
        content = svg(scene) if ending == ".svg" else raster(scene, ending[1:], dark=args.dark)
    with saving({args.output: content}):
        pass
    terminal.result(diagram)
    terminal.say("drew ", (str(args.output), BOLD), f" ({size(args.output.stat().st_size)}): "
                 f"{counted(len(diagram.boxes), 'table')}, {counted(len(diagram.lines), 'link')}")
    return 0
