"""What commands that work on a database take: where it is."""

from __future__ import annotations

import argparse
from collections.abc import Mapping

from kerfmark.engines import example_url, file_engine, script_names, servers
from kerfmark.errors import UsageError

A_FILE = file_engine().a_file
"""The kind of database that is a file, in a sentence."""
EXAMPLE_URL = example_url()
"""The URL of a database, for examples."""
EXAMPLE_ENGINE = servers()[0].name
"""An engine, for examples."""
SCRIPTS = script_names()
"""The engines that scripts can be written for, in a sentence."""
EXAMPLE_CLUSTER = "spark://head.example:7077"
"""The address of a cluster, for examples."""
A_DATABASE = f"{A_FILE}, or the URL of a database on a server"


def argument(parser: argparse.ArgumentParser, what: str = A_DATABASE) -> None:
    """The database as a plain argument, and its schema."""
    parser.add_argument("database", metavar="DB", help=what)
    schema(parser)


def option(parser: argparse.ArgumentParser, what: str, *, required: bool = True) -> None:
    """The database after --into, and its schema."""
    parser.add_argument("--into", required=required, default="", metavar="DB", help=what)
    schema(parser)


def schema(parser: argparse.ArgumentParser) -> None:
    """The schema."""
    parser.add_argument(
        "--schema",
        default="",
        metavar="NAME",
        help="the schema on the server (usual: the user's own, or public)",
    )


def script_engine(parser: argparse.ArgumentParser) -> None:
    """The engine that a script is for."""
    parser.add_argument(
        "--for",
        dest="engine",
        default="",
        metavar="ENGINE",
        help=f"the engine of the script: {SCRIPTS}",
    )


def cluster(parser: argparse.ArgumentParser, more: str) -> None:
    """The cluster that does the work."""
    parser.add_argument(
        "--cluster",
        default="",
        metavar="ADDRESS",
        help=f"let a cluster do the work: spark://HOST:7077, yarn, k8s://HOST or sc://HOST; {more}",
    )


def shared(parser: argparse.ArgumentParser, when: str) -> None:
    """The folder for what a cluster needs on the way."""
    parser.add_argument(
        "--shared",
        default="",
        metavar="FOLDER",
        help=f"{when}: a folder that all machines reach, for what is needed on the way",
    )


def refuse_on_cluster(options: Mapping[str, object]) -> None:
    """Raises UsageError for options that a cluster does not take."""
    if said := [name for name, value in options.items() if value]:
        raise UsageError(
            f"a cluster does not take {', '.join(said)}",
            code="cluster.option",
            next="say it in the layout where a layout can, or leave out --cluster",
        )


def chosen(args: argparse.Namespace) -> str:
    """The database that was named."""
    from kerfmark.address import with_schema

    return with_schema(args.into if hasattr(args, "into") else args.database, args.schema)
