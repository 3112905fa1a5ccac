"""The types a column may have, as written in a layout: `integer`, `decimal(6,2) 0,00`, `date DD.MM.YYYY`, ...

One neutral set of types stands between the files and the engines: readers are mapped into it, stores out of it.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Literal

import pyarrow as pa

Kind = Literal["text", "integer", "decimal", "real", "boolean", "date", "timestamp", "time"]

_WRITTEN = re.compile(r"(?P<kind>[a-z]+)(?:\((?P<p>\d+)(?:,\s*(?P<s>\d+))?\))?(?:\s+(?P<form>\S.*))?$")


@dataclass(frozen=True)
class ColumnType:
    """A type and how its values are spelled in the source.

    `precision` and `scale` count the digits of a decimal; `form` is how a value is spelled: `0,00` or `0.##` for
    decimals, `yes/no` for booleans, `DD.MM.YYYY` for dates.
    """

    kind: Kind = "text"
    precision: int = 0
    scale: int = 0
    form: str = ""

    def __str__(self) -> str:
        size = f"({self.precision},{self.scale})" if self.kind == "decimal" else ""
        form = "" if self.kind == "decimal" and self.form == plain_form(self.scale) else self.form
        return f"{self.kind}{size} {form}".strip()

    @property
    def mark(self) -> str:
        """The decimal mark in the source."""
        return "," if "," in self.form else "."

    @property
    def padded(self) -> bool:
        """Whether every value is spelled with all its decimal places."""
        return "#" not in self.form

    @property
    def arrow(self) -> pa.DataType:
        """The Arrow type of its values."""
        if self.kind == "decimal":
            return pa.decimal128(self.precision, self.scale)
        return {
            "text": pa.string(), "integer": pa.int64(), "real": pa.float64(), "boolean": pa.bool_(),
            "date": pa.date32(), "timestamp": pa.timestamp("s"), "time": pa.time32("s"),
        }[self.kind]


TEXT = ColumnType("text")
INTEGER = ColumnType("integer")


def plain_form(scale: int, mark: str = ".", padded: bool = True) -> str:
    """How a decimal with so many places is spelled."""
    return "0" + mark + ("0" if padded else "#") * scale


def parse_type(text: str) -> ColumnType:
    """The type that a layout names.

    Raises ValueError with the reason.
    """
    found = _WRITTEN.match(text.strip())
    kinds = ("text", "integer", "decimal", "real", "boolean", "date", "timestamp", "time")
    if not found or found["kind"] not in kinds:
        raise ValueError(f'"{text}" is not a type; the types are {", ".join(kinds)}')
    kind, form = found["kind"], found["form"] or ""
    if kind == "decimal":
        if not found["s"]:
            raise ValueError(f'"{text}" lacks its digits: write it like decimal(6,2)')
        precision, scale = int(found["p"]), int(found["s"])
        if not 1 <= precision <= 38 or scale > precision:
            raise ValueError(f'"{text}": a decimal has 1 to 38 digits, of which at most all are places')
        form = form or plain_form(scale)
        if not re.fullmatch(r"0[.,](0*|#*)", form):
            raise ValueError(f'"{text}": a decimal is spelled like 0.00, 0,00 or 0.##')
        return ColumnType("decimal", precision, scale, form)
    if found["p"]:
        raise ValueError(f'"{text}": only a decimal has digits in parentheses')
    if kind == "boolean" and not re.fullmatch(r"[^/]+/[^/]+", form):
        raise ValueError(f'"{text}" lacks its spellings: write it like boolean yes/no')
    if kind in ("date", "timestamp", "time"):
        if not form:
            raise ValueError(f'"{text}" lacks its form: write it like {kind} {_EXAMPLE[kind]}')
        from kerfmark.profile.moments import check_form

        check_form(kind, form)
    if kind in ("text", "integer", "real") and form:
        raise ValueError(f'"{text}": {kind} takes no form')
    return ColumnType(kind, form=form)  # type: ignore[arg-type]


_EXAMPLE = {"date": "YYYY-MM-DD", "timestamp": "YYYY-MM-DD hh:mm:ss", "time": "hh:mm"}
