"""Types as a person says them, who need not say all of one: `date` or `D/M/YYYY` alone, `decimal`
without its digits. What is missing is found in the values of the column."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace

import pyarrow as pa

from kerfmark.errors import UsageError
from kerfmark.profile.convert import misfits, to_typed
from kerfmark.profile.moments import CANDIDATES, SHORT, check_form
from kerfmark.profile.recognise import BOOLEANS, recognise
from kerfmark.profile.types import ColumnType, Kind, parse_type, plain_form, with_headroom

_MOMENTS: tuple[Kind, ...] = ("date", "timestamp", "time")
_TIMES = (" hh:mm", " hh:mm:ss", "Thh:mm", "Thh:mm:ss")
_SHORT, _LONG = re.compile(r"(?<![A-Za-z])([DM])(?![A-Za-z])"), re.compile(r"DD|(?<!M)MM(?!M)")
"""A day or month without, and with, a leading zero in a form."""
PROBE = 1000
"""Texts of a column that are looked at before all are."""
_WHOLE, _PLACES = 4, 2
"""Digits before and behind the mark of a decimal of which no value is there."""


def said_type(said: str, values: pa.StringArray, where: str) -> ColumnType:
    """The type that a person means, for a column with these distinct texts; `where` is what it is
    called in a message.

    Raises UsageError for what is not a type, and where the values leave its form open.
    """
    said = said.strip()
    try:
        return _as_padded(parse_type(said), values)
    except ValueError as error:
        wrong = str(error)
    for kind in _MOMENTS:  # the form alone
        try:
            check_form(kind, said)
        except ValueError:
            continue
        return _as_padded(ColumnType(kind, form=said), values)
    if said == "decimal":
        return _decimal(values, where)
    for kind in _MOMENTS:
        if said == kind:
            forms = [
                f
                for f in (*CANDIDATES[kind], *(SHORT if kind == "date" else ()))
                if _fits(values, ColumnType(kind, form=f))
            ]
            return ColumnType(kind, form=_only(kind, _distinct(forms, kind, values), where))
    if said == "boolean":
        spelled = [
            f"{yes}/{no}"
            for pair in BOOLEANS
            for yes, no in (pair, tuple(map(str.upper, pair)), tuple(map(str.capitalize, pair)))
        ]
        fit = [f for f in spelled if _fits(values, ColumnType("boolean", form=f))]
        return ColumnType("boolean", form=_only(said, fit[:1], where))
    raise UsageError(
        wrong,
        code="decide.type",
        next='write it like --type "Day=D/M/YYYY", --type "Code=text" or --type "Kg=decimal(6,2)"',
    )


def type_by_forms(values: pa.StringArray, dates: str, decimals: str) -> ColumnType | None:
    """The type of texts that all are dates of the form `dates`, with a time of the day or without,
    or all numbers whose decimals are marked by `decimals`; None for others."""
    if not len(values):
        return None
    if dates:
        moments = [_as_padded(ColumnType("date", form=dates), values)]
        moments += [
            _as_padded(ColumnType("timestamp", form=dates + time), values) for time in _TIMES
        ]
        return next((t for t in moments if _fits(values, t)), None) or (
            type_by_forms(values, "", decimals) if decimals else None
        )
    if not decimals or (len(values) > PROBE and _number(values.slice(0, PROBE), decimals) is None):
        return None
    found = _number(values, decimals)
    return found if found is not None and _fits(values, found) else None


def _as_padded(type_: ColumnType, values: pa.StringArray) -> ColumnType:
    """A date whose form is said, as the values have its day and month: with a leading zero or
    without; as it is said, where neither fits all."""
    if type_.kind not in ("date", "timestamp") or _fits(values, type_):
        return type_
    forms = (_SHORT.sub(r"\1\1", type_.form), _LONG.sub(lambda m: m[0][0], type_.form))
    others = [replace(type_, form=f) for f in forms if f != type_.form]
    return next((t for t in others if _fits(values, t)), type_)


def misfit(values: pa.StringArray, type_: ColumnType) -> tuple[int, str]:
    """How many distinct texts do not fit a type, and the first of them."""
    wrong = misfits(values, to_typed(values, type_))
    return len(wrong), str(values[int(wrong[0])]) if len(wrong) else ""


def _fits(values: pa.StringArray, type_: ColumnType) -> bool:
    return len(misfits(values, to_typed(values, type_))) == 0


def _distinct(forms: Sequence[str], kind: Kind, values: pa.StringArray) -> list[str]:
    """Forms of which no two read the values alike."""
    out: dict[tuple[object, ...], str] = {}
    for form in forms:
        out.setdefault(tuple(to_typed(values, ColumnType(kind, form=form)).to_pylist()), form)
    return list(out.values())


def _only(kind: str, forms: Sequence[str], where: str) -> str:
    """The only form that fits."""
    if len(forms) == 1:
        return forms[0]
    example = {"boolean": "boolean yes/no", "time": "time hh:mm"}.get(kind, f"{kind} D/M/YYYY")
    raise UsageError(
        f"{where}: the values do not show the form of a {kind}",
        code="decide.form",
        why=f"they fit {' as well as '.join(forms)}" if forms else "no form fits them all",
        next="\n".join(
            f'--type "{where}={said}"' for said in ([f"{kind} {f}" for f in forms[:3]] or [example])
        ),
    )


def _decimal(values: pa.StringArray, where: str) -> ColumnType:
    if not len(values):
        return ColumnType("decimal", _WHOLE + _PLACES, _PLACES, plain_form(_PLACES))
    found = recognise(values).type
    if found.kind == "decimal":
        return with_headroom(found)
    types = [_number(values, mark) for mark in ".,"]
    fit = [t for t in types if t is not None and _fits(values, t)]
    if found.kind == "integer":
        whole = max(len(v.lstrip("-")) for v in values.to_pylist())
        return with_headroom(ColumnType("decimal", whole + _PLACES, _PLACES, "0.##"))
    if len(fit) == 1 and fit[0].kind == "decimal":
        return with_headroom(fit[0])
    raise UsageError(
        f"{where}: the values do not show the mark of the decimals",
        code="decide.form",
        why="they can be read with a point and with a comma" if fit else "not all are numbers",
        next=f'use --type "{where}=decimal(9,2) 0,00"',
    )


def _number(values: pa.StringArray, mark: str) -> ColumnType | None:
    """The type of numbers of which some have decimals behind a mark or thousands in groups."""
    other = "," if mark == "." else "."
    shape = re.compile(
        rf"-?(\d+|\d{{1,3}}(?:{re.escape(other)}\d{{3}})+)(?:{re.escape(mark)}(\d+))?"
    )
    found = [shape.fullmatch(v) for v in values.to_pylist()]
    if not all(found):
        return None
    parts = [(m[1], m[2] or "") for m in found if m]
    grouped = any(other in whole for whole, _ in parts)
    scales = {len(places) for _, places in parts}
    scale = max(scales)
    if not scale:
        return ColumnType("integer", form=f"0{other}000") if grouped else None
    form = plain_form(scale, mark, padded=len(scales) == 1)
    digits = max(len(whole.replace(other, "")) for whole, _ in parts)
    plain = ColumnType("decimal", min(digits + scale, 38), scale, form)
    return replace(plain, form=f"0{other}000{form[1:]}") if grouped else plain
