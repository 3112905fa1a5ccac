"""What commands that put rows into a database take alike: what becomes of records that are there,
of rows that do not fit, and whether anything is written."""

from __future__ import annotations

import argparse

KNOWN = ("refuse", "keep", "fill", "overwrite")
"""What may become of a record that is there already."""


def known(parser: argparse.ArgumentParser, what: str, *more: str) -> None:
    """What becomes of known records; `more` are further choices."""
    parser.add_argument("--known", default="", choices=[*KNOWN, *more], help=what)


def known_in_filled_tables(parser: argparse.ArgumentParser) -> None:
    """The same, for a layout of tables that others made."""
    known(
        parser,
        "with a layout of tables that are there: what becomes of records that they have (see "
        "kerfmark add)",
    )


def set_aside(parser: argparse.ArgumentParser) -> None:
    """Where rows that do not fit go."""
    parser.add_argument(
        "--set-aside",
        metavar="FILE",
        help="let the good rows land, and write the others there (.csv or .xlsx)",
    )


def rehearse(
    parser: argparse.ArgumentParser, what: str = "tell what would be done, and write nothing"
) -> None:
    """Whether nothing is to be written."""
    parser.add_argument("--rehearse", action="store_true", help=what)


def replace_rows_set_aside(parser: argparse.ArgumentParser) -> None:
    """Whether a file that is there may be overwritten."""
    parser.add_argument(
        "--replace", action="store_true", help="overwrite the file for rows set aside"
    )
