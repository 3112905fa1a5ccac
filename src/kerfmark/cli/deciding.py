"""The options by which a person decides about the tables and columns of a proposal. Each is a key
of the layout, and is written there."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from typing import TYPE_CHECKING

from kerfmark.cli.pairs import pairs
from kerfmark.errors import UsageError

if TYPE_CHECKING:
    from kerfmark.verbs.mark import Decisions

_SEVERAL: tuple[tuple[str, str, str], ...] = (
    ("table-name", "TABLE=NAME", "what this table is called"),
    ("column-name", "COLUMN=NAME", "what this column is called"),
    (
        "type",
        "COLUMN=TYPE",
        'the type of this column, or its form: "Day=D/M/YYYY", "Code=text", "Kg=decimal(6,2)"',
    ),
    (
        "key",
        "TABLE=COLUMN",
        "the primary key: a column of the file (A,B: several), or a name for the one generated",
    ),
    ("optional", "COLUMN", "this column may be blank"),
    ("required", "COLUMN", "this column must not be blank"),
    ("unique", "COLUMN", "no two records have the same in this column; A,B: in both together"),
    ("blank", "TEXT", "cells with this text count as blank"),
    ("not-blank", "TEXT", "cells with this text (n/a, say) do not count as blank"),
    ("unit", "COLUMN=CHANGE", 'the unit is changed: "Weight=lb to kg"'),
    (
        "correct",
        "COLUMN:TEXT=RIGHT",
        'what a misspelt text means: "Kind:wodden=wooden"; nothing after = is a blank',
    ),
    ("derive", "NAME=EXPRESSION", 'a column computed from others: "year=year([Day])"'),
)
"""Each option, what it takes, and what it decides."""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Declares the options."""
    group = parser.add_argument_group(
        "what you decide (COLUMN: a header, or table.column; written into the layout)"
    )
    for option, form, help_ in _SEVERAL:
        group.add_argument(f"--{option}", action="append", default=[], metavar=form, help=help_)
    group.add_argument(
        "--dates", default="", metavar="FORM", help="the form of all dates, such as D/M/YYYY"
    )
    group.add_argument(
        "--decimals", default="", metavar="MARK", help="the mark of all decimals: . or ,"
    )


def chosen(args: argparse.Namespace) -> Decisions:
    """The options as the verbs take them.

    Raises UsageError for what cannot be.
    """
    from kerfmark.verbs.mark import Decisions
    from kerfmark.verbs.own_forms import check_forms

    check_forms(args.dates, args.decimals)
    return Decisions(
        types=tuple(pairs(args.type, "COLUMN=TYPE", '--type "Day=D/M/YYYY"')),
        dates=args.dates,
        decimals=args.decimals,
        table_names=tuple(pairs(args.table_name, "TABLE=NAME", '--table-name "hive=colony"')),
        column_names=tuple(pairs(args.column_name, "COLUMN=NAME", '--column-name "Kg=honey_kg"')),
        keys=tuple(
            (table.strip(), column.strip())
            for table, _, column in (k.rpartition("=") for k in args.key)
        ),
        optional=tuple(args.optional),
        required=tuple(args.required),
        unique=tuple(tuple(c.strip() for c in u.split(",")) for u in args.unique),
        blanks=tuple(args.blank),
        not_blanks=tuple(args.not_blank),
        units=tuple(pairs(args.unit, "COLUMN=CHANGE", '--unit "Weight=lb to kg"')),
        means=corrections(args.correct),
        derived=tuple(
            pairs(args.derive, "NAME=EXPRESSION", '--derive "year=year([Day])"', first=True)
        ),
    )


def corrections(said: Sequence[str]) -> tuple[tuple[str, str], ...]:
    """`COLUMN:TEXT=RIGHT` as pairs of `COLUMN:TEXT` and what that means, which may be
    nothing."""
    out = []
    for one in said:
        what, equals, meaning = one.rpartition("=")
        if not equals or ":" not in what:
            raise UsageError(
                f'"{one}" is not COLUMN:TEXT=RIGHT',
                next='write it like --correct "Kind:wodden=wooden"',
            )
        out.append((what.strip(), meaning.strip()))
    return tuple(out)
