"""The types a column may have, as written in a layout: `integer`, `decimal(6,2) 0,00`, `date
DD.MM.YYYY`, ...

One neutral set of types is between the files and the engines: readers are mapped into it,
stores out of it.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, replace
from types import MappingProxyType
from typing import Literal

import pyarrow as pa

Kind = Literal["text", "integer", "decimal", "real", "boolean", "date", "timestamp", "time"]

_WRITTEN = re.compile(
    r"(?P<kind>[a-z]+)(?:\((?P<p>\d+)(?:,\s*(?P<s>\d+))?\))?(?:\s+(?P<form>\S.*))?$"
)


@dataclass(frozen=True)
class ColumnType:
    """A type and how its values are spelled in the source.

    `precision` and `scale` count the digits of a decimal; `width` the most characters of a text (0:
    any number); `form` is how a value is spelled: `0,00`, `0.000,00` or `0.##` for decimals,
    `0.000` for integers with marked thousands, `yes/no` for booleans, `DD.MM.YYYY` for dates.
    """

    kind: Kind = "text"
    precision: int = 0
    scale: int = 0
    form: str = ""
    width: int = 0

    def __str__(self) -> str:
        size = (
            f"({self.precision},{self.scale})"
            if self.kind == "decimal"
            else f"({self.width})"
            if self.width
            else ""
        )
        form = "" if self.kind == "decimal" and self.form == plain_form(self.scale) else self.form
        return f"{self.kind}{size} {form}".strip()

    @property
    def mark(self) -> str:
        """The decimal mark in the source."""
        found = _DECIMAL_FORM.fullmatch(self.form)
        return found["mark"] if found and found["mark"] else "."

    @property
    def thousands(self) -> str:
        """What marks the thousands in the source, or ""."""
        found = (_DECIMAL_FORM if self.kind == "decimal" else _INTEGER_FORM).fullmatch(self.form)
        return (found["thousands"] or "") if found else ""

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
            "text": pa.string(),
            "integer": pa.int64(),
            "real": pa.float64(),
            "boolean": pa.bool_(),
            "date": pa.date32(),
            "timestamp": pa.timestamp("s"),
            "time": pa.time32("s"),
        }[self.kind]


_THOUSANDS = "(?:(?P<thousands>[.,' \u2019\u00a0\u202f])000)"
_DECIMAL_FORM = re.compile(rf"0{_THOUSANDS}?(?P<mark>[.,])(?:0*|#*)")
_INTEGER_FORM = re.compile(rf"0{_THOUSANDS}")

HEADROOM = 2
"""Digits before the mark that a proposed decimal has more than its longest value needs."""
MOST_EXACT = 15
"""Digits that every engine's numbers keep exactly; headroom does not go beyond."""


def with_headroom(type_: ColumnType) -> ColumnType:
    """A type that was found in all rows, with room for somewhat larger numbers in later files."""
    if type_.kind != "decimal" or type_.precision >= MOST_EXACT:
        return type_
    return replace(type_, precision=min(type_.precision + HEADROOM, MOST_EXACT))


TEXT = ColumnType("text")
INTEGER = ColumnType("integer")


def plain_form(scale: int, mark: str = ".", padded: bool = True) -> str:
    """How a decimal with so many places is spelled."""
    return "0" + mark + ("0" if padded else "#") * scale


def parse_type(text: str, usual: Mapping[str, str] = MappingProxyType({})) -> ColumnType:
    """The type that a layout names. `usual` gives the form of a kind whose form is not said.

    Raises ValueError with the reason.
    """
    found = _WRITTEN.match(text.strip())
    kinds = ("text", "integer", "decimal", "real", "boolean", "date", "timestamp", "time")
    if not found or found["kind"] not in kinds:
        raise ValueError(f'"{text}" is not a type; the types are {", ".join(kinds)}')
    kind = found["kind"]
    form = found["form"] or usual.get(kind, "")
    if kind == "decimal":
        return _decimal(text, found, form)
    if kind == "text" and found["p"] and not found["s"]:
        if form or not 1 <= int(found["p"]) <= 10_000_000:
            raise ValueError(f'"{text}": write the width of a text like text(40)')
        return ColumnType("text", width=int(found["p"]))
    if found["p"]:
        raise ValueError(f'"{text}": only a text and a decimal have a number in parentheses')
    if kind == "integer" and form:
        if not _INTEGER_FORM.fullmatch(form):
            raise ValueError(
                f'"{text}": an integer with marked thousands is spelled like 0.000 or 0 000'
            )
        return ColumnType("integer", form=form)
    if kind == "boolean" and not re.fullmatch(r"[^/]+/[^/]+", form):
        raise ValueError(f'"{text}" lacks its spellings: write it like boolean yes/no')
    if kind in ("date", "timestamp", "time"):
        if not form:
            raise ValueError(f'"{text}" lacks its form: write it like {kind} {_EXAMPLE[kind]}')
        from kerfmark.profile.moments import check_form

        check_form(kind, form)
    if kind in ("text", "real") and form:
        raise ValueError(f'"{text}": {kind} takes no form')
    return ColumnType(kind, form=form)  # type: ignore[arg-type]


def _decimal(text: str, found: re.Match[str], form: str) -> ColumnType:
    if not found["s"]:
        raise ValueError(f'"{text}" lacks its digits: write it like decimal(6,2)')
    precision, scale = int(found["p"]), int(found["s"])
    if not 1 <= precision <= 38 or scale > precision:
        raise ValueError(f'"{text}": a decimal has 1 to 38 digits, of which at most all are places')
    if not found["form"]:
        marks = _DECIMAL_FORM.fullmatch(form)
        form = (
            plain_form(scale)
            if marks is None
            else form[: marks.start("mark")] + plain_form(scale, marks["mark"])[1:]
        )
    marks = _DECIMAL_FORM.fullmatch(form)
    if not marks or marks["thousands"] == marks["mark"]:
        raise ValueError(f'"{text}": a decimal is spelled like 0.00, 0,00, 0.000,00 or 0.##')
    return ColumnType("decimal", precision, scale, form)


def with_marks(type_: ColumnType, form: str) -> ColumnType | None:
    """A number of a type as a file writes it whose marks are those of a form (`0.000,0`, `0,0`, of
    integers `0.000`); None where the form is not that of such a number. A decimal may have any
    number of digits that a decimal can have."""
    if type_.kind == "integer":
        marks = _INTEGER_FORM.fullmatch(form)
        return None if marks is None else ColumnType("integer", form=form)
    marks = _DECIMAL_FORM.fullmatch(form) if type_.kind == "decimal" else None
    if marks is None or marks["thousands"] == marks["mark"]:
        return None
    return ColumnType("decimal", 38, 12, form[: marks.end("mark")] + "#" * 12)


_EXAMPLE = {"date": "YYYY-MM-DD", "timestamp": "YYYY-MM-DD hh:mm:ss", "time": "hh:mm"}

_DECLARED: tuple[tuple[str, Kind], ...] = (
    ("bool", "boolean"),
    ("tinyint(1)", "boolean"),
    ("bit(1)", "boolean"),
    ("int", "integer"),
    ("serial", "integer"),
    ("numeric", "decimal"),
    ("decimal", "decimal"),
    ("double", "real"),
    ("float", "real"),
    ("real", "real"),
    ("timestamp", "timestamp"),
    ("datetime", "timestamp"),
    ("date", "date"),
    ("time", "time"),
)


def declared_type(sql: str) -> ColumnType:
    """A type as a database declares it, in our words; without a form, for its values are no
    texts."""
    low = sql.lower()
    kind: Kind = next(
        (k for words, k in _DECLARED if words in low and "interval" not in low), "text"
    )
    size = [int(n) for n in re.findall(r"\d+", low.split("(", 1)[1])] if "(" in low else []
    if kind == "decimal":
        if not size:
            return ColumnType("decimal", 38, 10, plain_form(10))
        scale = size[1] if len(size) > 1 else 0
        return ColumnType("decimal", size[0], scale, plain_form(scale)) if scale else INTEGER
    if kind == "text":
        return ColumnType("text", width=size[0]) if size and "char" in low else TEXT
    return ColumnType(kind)


def canonical(type_: ColumnType) -> ColumnType:
    """The same type, its values spelled as programs do: 1234.50, 2025-04-01, 2025-04-01 08:30:00,
    true."""
    return replace(
        type_,
        form=plain_form(type_.scale) if type_.kind == "decimal" else _CANONICAL.get(type_.kind, ""),
    )


_CANONICAL = _EXAMPLE | {"time": "hh:mm:ss", "boolean": "true/false"}
