"""What commands that work on a database take: where it is."""

from __future__ import annotations

import argparse


def argument(parser: argparse.ArgumentParser, what: str = "an SQLite file, or the URL of a database on a server") -> None:
    """The database as a plain argument, and its schema."""
    parser.add_argument("database", metavar="DB", help=what)
    schema(parser)


def option(parser: argparse.ArgumentParser, what: str, *, required: bool = True) -> None:
    """The database after --into, and its schema."""
    parser.add_argument("--into", required=required, default="", metavar="DB", help=what)
    schema(parser)


def schema(parser: argparse.ArgumentParser) -> None:
    """The schema."""
    parser.add_argument("--schema", default="", metavar="NAME", help="the schema on the server (usual: the user's own, or public)")


def chosen(args: argparse.Namespace) -> str:
    """The database that was named."""
    from kerfmark.address import with_schema

    return with_schema(args.into if hasattr(args, "into") else args.database, args.schema)
