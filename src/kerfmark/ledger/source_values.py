"""What the texts of a source mean, found in the proof's own way.

The proof holds what the database gives against the texts of the source. If it turned these into
values by the functions that the tables were made with, a fault in those would be proven. So nothing
of `profile.convert`, of `profile.moments` and of the engines' `to_engine` is used here: texts go to
the form in which the engine gives values, by columns of text and the library's own casts.
"""

from __future__ import annotations

import calendar
import json
import re
from collections.abc import Callable
from importlib.resources import files

import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.profile.types import ColumnType

_DIGITS = {"YYYY": 4, "MM": 2, "DD": 2, "hh": 2, "mm": 2, "ss": 2}
_FIELD = re.compile("YYYY|YY|Month|MONTH|month|Mon|MON|mon|MM|DD|hh|mm|ss|AM|am|M|D|h")
_ENGLISH = ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"]
_CENTURY = 69
"""Two digits of a year from these on are of the last century."""


def source_values(texts: pa.StringArray, type_: ColumnType, given: pa.DataType) -> pa.Array:
    """What an engine should give for texts in a column of a type; null where a text is not
    a value of its type.

    `given` is the Arrow type in which the engine gives values of such a column: numbers and truth
    as such or as text, everything else as text.
    """
    if type_.kind == "text":
        return texts
    if type_.kind == "boolean":
        return _truth(texts, type_, given)
    if type_.kind in ("date", "time", "timestamp"):
        return _iso(texts, type_)
    plain = _plain_numbers(texts, type_)
    if pa.types.is_string(given):
        return _with_places(plain, type_.scale) if type_.kind == "decimal" else plain
    return _cast(plain, given)


def as_known(own: ColumnType, known: ColumnType) -> Callable[[pa.StringArray], pa.StringArray]:
    """What spells texts that a file has in a form of its `own` as the column's `known` type spells
    them, by means of plain text; those that do not fit stay as they are."""

    def spelled(texts: pa.StringArray) -> pa.StringArray:
        distinct = texts.dictionary_encode()
        values = distinct.dictionary
        plain = (_iso if own.kind in ("date", "time", "timestamp") else _plain_numbers)(values, own)
        out = [
            old if new is None else _in_form(new, known)
            for old, new in zip(values.to_pylist(), plain.to_pylist(), strict=True)
        ]
        return pa.array(out, pa.string()).take(distinct.indices)

    return spelled


def _in_form(plain: str, type_: ColumnType) -> str:
    """A moment as ISO 8601 has it, or a number with a point, in the form of a type."""
    if type_.kind in ("integer", "decimal"):
        whole, point, places = plain.partition(".")
        digits = whole.lstrip("-")
        if type_.thousands and digits.isdigit():
            grouped = f"{int(digits):,}".replace(",", type_.thousands)
            whole = whole.replace(digits, grouped)
        return whole + (type_.mark if point else "") + places
    form, _, language = type_.form.partition(" [")
    day, _, clock = plain.rpartition(" ") if type_.kind == "timestamp" else (plain, "", plain)
    year, month, number = day.split("-") if type_.kind != "time" else ("", "1", "1")
    hour, minute, second = [*clock.split(":"), "00"][:3] if type_.kind != "date" else ["0"] * 3
    half = "PM" if int(hour) > 11 else "AM"
    if "am" in form.lower().replace("mm", ""):
        hour = f"{(int(hour) - 1) % 12 + 1:02}"
    said = {"YYYY": year, "YY": year[2:], "MM": month, "M": str(int(month)), "DD": number}
    said |= {"D": str(int(number)), "hh": hour, "h": str(int(hour)), "mm": minute, "ss": second}
    said |= {"AM": half, "am": half.lower()}
    for token in ("Month", "Mon") if "mon" in form.lower() else ():
        name = _name_of_month(int(month), token.lower(), language.rstrip("]"))
        said |= {token: name, token.upper(): name.upper(), token.lower(): name.lower()}
    return _FIELD.sub(lambda field: said[field[0]], form)


def _name_of_month(month: int, kind: str, language: str) -> str:
    if not language:
        return calendar.month_name[month] if kind == "month" else calendar.month_abbr[month]
    text = files("kerfmark.profile").joinpath("months.json").read_text("utf-8")
    return str(json.loads(text)[language][kind][month - 1]).capitalize()


def _cast(texts: pa.StringArray, to: pa.DataType) -> pa.Array:
    """Texts as numbers; null where one is none."""
    try:
        return pc.cast(texts, to)
    except pa.ArrowInvalid:
        number = (
            r"^-?[0-9]+$"
            if pa.types.is_integer(to)
            else r"^[-+]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][-+]?[0-9]+)?$"
        )
        return pc.cast(
            pc.if_else(
                pc.match_substring_regex(texts, number), texts, pa.scalar(None, pa.string())
            ),
            to,
        )


def _truth(texts: pa.StringArray, type_: ColumnType, given: pa.DataType) -> pa.Array:
    yes, no = type_.form.split("/")
    true, false = ("true", "false") if pa.types.is_string(given) else (1, 0)
    otherwise = pc.if_else(pc.equal(texts, no), pa.scalar(false, given), pa.scalar(None, given))
    return pc.if_else(pc.equal(texts, yes), pa.scalar(true, given), otherwise)


def _plain_numbers(texts: pa.StringArray, type_: ColumnType) -> pa.StringArray:
    """Numbers without marks of thousands, and with a point."""
    if type_.thousands:
        texts = pc.replace_substring(texts, type_.thousands, "")
    return (
        pc.replace_substring(texts, type_.mark, ".")
        if type_.kind == "decimal" and type_.mark != "."
        else texts
    )


def _with_places(texts: pa.StringArray, scale: int) -> pa.StringArray:
    """Decimals with just so many places, and no zeros before them that say nothing."""
    parts = pc.extract_regex(texts, r"^(?P<sign>-?)0*(?P<whole>[0-9]*)(?:\.(?P<rest>[0-9]*))?$")
    whole = parts.field("whole")
    whole = pc.if_else(pc.equal(whole, ""), "0", whole)
    if scale:
        rest = pc.utf8_rpad(pc.fill_null(parts.field("rest"), ""), scale, "0")
        whole = pc.binary_join_element_wise(whole, rest, ".")
    nothing = pc.match_substring_regex(whole, r"^[0.]*$")
    signed = pc.if_else(nothing, whole, pc.binary_join_element_wise(parts.field("sign"), whole, ""))
    return pc.if_else(parts.is_valid(), signed, pa.scalar(None, pa.string()))


def _iso(texts: pa.StringArray, type_: ColumnType) -> pa.StringArray:
    """Dates and times as ISO 8601 writes them, with a space between day and time."""
    shape, at = "", 0
    form, _, language = type_.form.partition(" [")
    for field in _FIELD.finditer(form):
        shape += re.escape(form[at : field.start()]) + f"(?P<{field[0]}>{_shape(field[0])})"
        at = field.end()
    found = pc.extract_regex(texts, f"^{shape}{re.escape(form[at:])}$")
    fields = {field.name: found.field(field.name) for field in found.type}
    month = _month(fields, language.rstrip("]"))
    day = [] if type_.kind == "time" else [_year(fields), month, _two(fields, "DD", "D")]
    clock = [] if type_.kind == "date" else [_hour(fields), _two(fields, "mm"), _two(fields, "ss")]
    out = [
        pc.binary_join_element_wise(*some, mark)
        for some, mark in ((day, "-"), (clock, ":"))
        if some
    ]
    whole = out[0] if len(out) == 1 else pc.binary_join_element_wise(*out, " ")
    return pc.if_else(found.is_valid(), whole, pa.scalar(None, pa.string()))


def _shape(field: str) -> str:
    if field in _DIGITS:
        return f"[0-9]{{{_DIGITS[field]}}}"
    if field in ("AM", "am"):
        return "[AaPp][Mm]"
    return r"[\p{L}.]+?" if field.lower() in ("month", "mon") else "[0-9]{1,2}"


def _two(fields: dict[str, pa.Array], *names: str) -> pa.Array:
    """A field as two digits; 00 where the form has none."""
    found = next((fields[n] for n in names if n in fields), None)
    return pa.scalar("00") if found is None else pc.utf8_lpad(found, 2, "0")


def _year(fields: dict[str, pa.Array]) -> pa.Array:
    if "YYYY" in fields:
        return fields["YYYY"]
    late = pc.greater_equal(
        pc.cast(pc.if_else(pc.equal(fields["YY"], ""), "0", fields["YY"]), pa.int64()), _CENTURY
    )
    return pc.binary_join_element_wise(pc.if_else(late, "19", "20"), fields["YY"], "")


def _month(fields: dict[str, pa.Array], language: str) -> pa.Array:
    kind = next((n for n in fields if n.lower() in ("month", "mon")), None)
    if kind is None:
        return _two(fields, "MM", "M")
    name, known = pc.utf8_lower(fields[kind]), _ENGLISH
    if language:  # the list of names is the only thing that the tables were made with as well
        text = files("kerfmark.profile").joinpath("months.json").read_text("utf-8")
        known = json.loads(text)[language][kind.lower()]
    else:
        name = pc.utf8_slice_codeunits(name, 0, 3)
    place = pc.index_in(name, pa.array(known))
    return pc.utf8_lpad(pc.cast(pc.add(place, 1), pa.string()), 2, "0")


def _hour(fields: dict[str, pa.Array]) -> pa.Array:
    half = next((fields[n] for n in ("AM", "am") if n in fields), None)
    if half is None:
        return _two(fields, "hh", "h")
    hour = next(fields[n] for n in ("hh", "h") if n in fields)
    number = pc.cast(pc.if_else(pc.equal(hour, ""), "0", hour), pa.int64())
    number = pc.if_else(pc.equal(number, 12), 0, number)
    number = pc.if_else(pc.equal(pc.utf8_upper(half), "PM"), pc.add(number, 12), number)
    return pc.utf8_lpad(pc.cast(number, pa.string()), 2, "0")
