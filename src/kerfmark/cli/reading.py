"""The options that say how files are written, for every command that reads them."""

from __future__ import annotations

import argparse
import csv
import re
from typing import TYPE_CHECKING

from kerfmark.errors import UsageError

if TYPE_CHECKING:
    from kerfmark.verbs.own_forms import SaidForms
    from kerfmark.verbs.reading import Reading

_SIZES = {"": 1, "K": 10**3, "M": 10**6, "G": 10**9, "T": 10**12}


def arguments(parser: argparse.ArgumentParser) -> None:
    """Declares the options."""
    group = parser.add_argument_group("how the files are written (found by itself)")
    group.add_argument(
        "--delimiter", metavar="C", help="what separates the fields: a character, or several"
    )
    group.add_argument(
        "--widths",
        metavar="N,N,...",
        help="the columns have fixed widths, of so many characters each",
    )
    group.add_argument(
        "--quote", metavar="C", help='what fields are quoted with; "none" where nothing is'
    )
    group.add_argument(
        "--encoding", metavar="NAME", help="the encoding of the text, such as utf-8 or cp1252"
    )
    header = group.add_mutually_exclusive_group()
    header.add_argument(
        "--header-row", type=int, metavar="N", help="the row that names the columns"
    )
    header.add_argument("--no-header", action="store_true", help="no row names the columns")
    group.add_argument(
        "--columns",
        metavar="NAMES",
        help="the names of all columns, in their order (A,B,C), where no row names them",
    )
    group.add_argument(
        "--header-rows", type=int, metavar="N", help="over how many rows the header goes"
    )
    group.add_argument(
        "--sheet", default="", metavar="NAME", help="only this sheet of a workbook, hidden or not"
    )
    group.add_argument(
        "--skip-rows",
        metavar="ROWS",
        help="rows that are not data, such as 2,-1,40-60,80- (-1: the last one), or kinds of them: "
        "notes, totals, duplicates; keep-headers keeps repeated headers; of "
        "one file: may.csv:-1",
    )
    group.add_argument(
        "--fill-down",
        action="append",
        default=[],
        metavar="HEADER",
        help="a blank cell of this column means the same as the one above it",
    )
    group.add_argument(
        "--json-cells",
        action="append",
        default=[],
        metavar="HEADER",
        help="the cells of this column hold lists of records, written as JSON: they are a source "
        "of their own",
    )
    group.add_argument("--first-rows", type=int, metavar="N", help="only the first N rows of each")
    group.add_argument(
        "--cells",
        default="",
        metavar="RANGE",
        help="only this range (C5:H200), defined name or table of it",
    )
    group.add_argument(
        "--block",
        type=int,
        metavar="N",
        help="only the N-th of several tables in a sheet or file; 0: all of it is one table",
    )
    group.add_argument(
        "--member", default="", metavar="NAME", help="only this file of a zip archive"
    )
    group.add_argument("--table", default="", metavar="NAME", help="only this table of a database")
    group.add_argument(
        "--query", default="", metavar="SQL", help="what this query of a database gives"
    )
    group.add_argument(
        "--unpack-limit",
        metavar="SIZE",
        help="the most that a packed file may unpack to, such as 100GB",
    )


def forms(parser: argparse.ArgumentParser) -> None:
    """Declares the options that say how later files write values that the database knows in another
    form."""
    group = parser.add_argument_group("how the values are written (found where it is certain)")
    group.add_argument(
        "--dates", default="", metavar="FORM", help="the form of the dates, such as DD.MM.YYYY"
    )
    group.add_argument(
        "--decimals",
        default="",
        metavar="MARK",
        help="the mark of the decimals: a point or a comma",
    )


def chosen_forms(args: argparse.Namespace) -> SaidForms:
    """These options as the verbs take them."""
    from kerfmark.verbs.own_forms import SaidForms

    return SaidForms(args.dates, args.decimals)


def chosen(args: argparse.Namespace) -> Reading:
    """The options as the verbs take them.

    Raises UsageError for what cannot be.
    """
    from kerfmark.verbs.reading import Reading

    if args.header_row is not None and args.header_row < 1:
        raise UsageError(
            "rows are counted from 1", next="use --no-header where no row names the columns"
        )
    if args.delimiter == "":
        raise UsageError("a delimiter cannot be nothing", next="name one, such as ; or tab")
    return Reading(
        delimiter={"\\t": "\t", "tab": "\t"}.get(args.delimiter, args.delimiter),
        quote=_quote(args.quote),
        encoding=args.encoding,
        edges=_edges(args.widths),
        header_row=0
        if args.no_header or (args.columns and args.header_row is None)
        else args.header_row,
        columns=_names(args.columns),
        header_rows=args.header_rows,
        member=args.member,
        sheet=args.sheet,
        cells=args.cells,
        block=args.block,
        table=args.table,
        query=args.query,
        skip_rows=_rows(args.skip_rows) + _after(args.first_rows),
        fill_down=tuple(args.fill_down),
        json_cells=tuple(args.json_cells),
        unpack_limit=size(args.unpack_limit),
    )


def _quote(said: str | None) -> str | None:
    if said is None or said == "none":
        return "" if said else None
    if len(said) != 1 or not said.isascii():
        raise UsageError(
            f'"{said}" is not one plain character', next="name one, such as ', or none"
        )
    return said


def _names(said: str | None) -> tuple[str, ...]:
    """Names of columns with commas between; one with a comma in it is quoted."""
    names = () if said is None else tuple(n.strip() for n in next(csv.reader([said]), []))
    if "" in names or len({n.lower() for n in names}) < len(names):
        raise UsageError(
            "each column needs a name of its own",
            next='write them like --columns "Day,Keeper,Hive"',
        )
    return names


def _edges(said: str | None) -> tuple[int, ...]:
    """Widths as the positions at which the columns begin."""
    if said is None:
        return ()
    if not re.fullmatch(r"[1-9]\d*(,[1-9]\d*)+", said.replace(" ", "")):
        raise UsageError(f'"{said}" are not widths', next="write them like 10,20,8")
    edges = [0]
    for width in said.replace(" ", "").split(",")[:-1]:
        edges.append(edges[-1] + int(width))
    return tuple(edges)


def _rows(said: str | None) -> tuple[str, ...]:
    from kerfmark.verbs.reading import SKIPPED

    rows = tuple(one.strip() for one in said.split(",")) if said else ()
    for one in rows:
        if not SKIPPED.fullmatch(one.rpartition(":")[2]):
            raise UsageError(
                f'"{one}" is not a row number',
                next="write them like 2,-1,40-60,80- or notes,totals,duplicates,keep-headers",
            )
    return rows


def _after(first_rows: int | None) -> tuple[str, ...]:
    """What is to be skipped where only the first rows are wanted."""
    if first_rows is not None and first_rows < 1:
        wanted = "write it like --first-rows 1000"
        raise UsageError("--first-rows takes a number from 1 on", next=wanted)
    return (f">{first_rows}",) if first_rows else ()


def size(said: str | None) -> int | None:
    """Bytes, as people write them.

    Raises UsageError for what is none.
    """
    if said is None:
        return None
    found = re.fullmatch(r"(\d+(?:\.\d+)?)\s*([KMGT]?)B?", said.strip().upper())
    if not found:
        raise UsageError(f'"{said}" is not a size', next="write it like 500MB or 100GB")
    return int(float(found[1]) * _SIZES[found[2]])
