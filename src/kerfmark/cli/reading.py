"""The options that say how files are written, for every command that reads them."""

from __future__ import annotations

import argparse
from typing import Any

from kerfmark.errors import UsageError


def arguments(parser: argparse.ArgumentParser) -> None:
    """Declares the options."""
    group = parser.add_argument_group("how the files are written (found by itself)")
    group.add_argument("--delimiter", metavar="C", help="what separates the fields")
    group.add_argument("--encoding", metavar="NAME", help="the encoding of the text, such as utf-8 or cp1252")
    header = group.add_mutually_exclusive_group()
    header.add_argument("--header-row", type=int, metavar="N", help="the row that names the columns")
    header.add_argument("--no-header", action="store_true", help="no row names the columns")


def chosen(args: argparse.Namespace) -> dict[str, Any]:
    """The options as the verbs take them.

    Raises UsageError for what cannot be.
    """
    delimiter = {"\\t": "\t", "tab": "\t"}.get(args.delimiter, args.delimiter)
    if delimiter is not None and len(delimiter) != 1:
        raise UsageError(f'"{args.delimiter}" is not one character', next="name one, such as ; or tab")
    if args.header_row is not None and args.header_row < 1:
        raise UsageError("rows are counted from 1", next="say --no-header where no row names the columns")
    return {"delimiter": delimiter, "encoding": args.encoding, "header_row": 0 if args.no_header else args.header_row}
