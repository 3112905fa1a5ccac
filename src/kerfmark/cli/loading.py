"""What commands that put rows into a database take alike: what becomes of records that are there,
of rows that do not fit, and whether anything is written."""

from __future__ import annotations

import argparse

KNOWN = ("refuse", "keep", "fill", "overwrite")
"""What may become of a record that is there already."""


def known(parser: argparse.ArgumentParser, what: str, *more: str) -> None:
    """What becomes of known records; `more` are further choices."""
    choices = (*KNOWN, *more)

    def policy(said: str) -> str:
        if said.rpartition("=")[2].strip() not in choices or said.startswith("="):
            raise argparse.ArgumentTypeError(
                f'"{said}" is not one of {", ".join(choices)}, or TABLE= and one of them'
            )
        return said.replace(" ", "")

    parser.add_argument(
        "--known",
        action="append",
        default=[],
        type=policy,
        metavar="[TABLE=]WHAT",
        help=f"{what}; one of {', '.join(choices)}; may be repeated, for a table of its own",
    )


def known_said(args: argparse.Namespace) -> str:
    """What was said of known records, as the verbs take it."""
    return ", ".join(args.known)


def known_in_filled_tables(parser: argparse.ArgumentParser) -> None:
    """The same, for a layout of tables that others made."""
    known(
        parser,
        "with a layout of tables that are there: what becomes of records that they have (see "
        "kerfmark add)",
        "replace",
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
