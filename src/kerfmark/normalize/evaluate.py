"""Expressions computed on whole columns.

An expression is computed once per distinct combination of the values that it names, so that its
cost does not grow with the rows. A blank gives a blank, except where a function is about blanks
(coalesce, isblank, concat).
"""

from __future__ import annotations

import math
import re
import uuid
from collections.abc import Callable, Mapping
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.layout.expression import MOST_DIGITS, Node, digits
from kerfmark.profile.convert import to_text
from kerfmark.profile.types import TEXT, ColumnType


def evaluate(node: Node, columns: Mapping[str, pa.Array], rows: int) -> pa.Array:
    """The values of an expression. `columns` holds the typed values of each column that it names,
    all of `rows` entries.

    A result that does not fit its type (a division by nothing, a sum beyond all digits) is null.
    """
    return _array(_value(node, columns), rows)


def _array(value: Any, rows: int) -> pa.Array:
    return pa.array([value.as_py()] * rows, value.type) if isinstance(value, pa.Scalar) else value


def _value(node: Node, columns: Mapping[str, pa.Array]) -> Any:
    if node.what == "column":
        return columns[node.value]
    if node.what == "value":
        if node.type == TEXT:
            return pa.scalar(node.value or None, pa.string())
        if node.type.kind == "boolean":
            return pa.scalar(node.value == "true")
        return pc.cast(pa.scalar(node.value), node.type.arrow)
    args = [_value(a, columns) for a in node.args]
    if node.value in _COMPARISONS:
        return _COMPARISONS[node.value](*_comparable(node.args, args))
    if node.value == "in":
        return _any(
            [
                pc.equal(*_comparable((node.args[0], b), (args[0], v)))
                for b, v in zip(node.args[1:], args[1:], strict=True)
            ]
        )
    return _FUNCTIONS[node.value](node, args)


def _any(found: list[Any]) -> Any:
    out = found[0]
    for one in found[1:]:
        out = pc.or_kleene(out, one)
    return out


def _comparable(nodes: tuple[Node, ...], args: Any) -> list[Any]:
    """Two values as of one type: a text beside a date is read as YYYY-MM-DD; a real number decides
    over a decimal."""
    kinds = [n.type.kind for n in nodes]
    if kinds[0] != kinds[1] and "text" in kinds:
        other = args[1 - kinds.index("text")].type
        blank = any(isinstance(a, pa.Scalar) and not a.is_valid for a in args)
        return [
            pa.scalar(None, other)
            if blank and k == "text"
            else pc.cast(a, other)
            if k == "text"
            else a
            for a, k in zip(args, kinds, strict=True)
        ]
    if "real" in kinds:
        return [_real(a) for a in args]
    if set(kinds) <= {"integer", "decimal"}:
        (p, s), (q, t) = (digits(n.type) for n in nodes)
        if max(p - s, q - t) + max(s, t) > MOST_DIGITS:  # more than any decimal number has
            return [_real(a) for a in args]
    return list(args)


def _real(value: Any) -> Any:
    """A number as a floating-point one, the nearest for numbers of more than 15 digits."""
    if pa.types.is_floating(value.type):
        return value
    return pc.cast(value, pa.float64(), safe=False)


def _fit(value: Any, type_: ColumnType) -> Any:
    """A value as one of the type that its expression was found to have; blanks of no type become
    blanks of this."""
    if type_.kind == "decimal" and pa.types.is_floating(value.type):
        return pc.cast(pc.round(value, type_.scale), type_.arrow, safe=False)
    return _cast(value, type_.arrow)


def _cast(value: Any, to: pa.DataType) -> Any:
    """A value as another type. A whole number becomes a decimal by way of one with room for any
    whole number."""
    if value.type == to:
        return value
    if pa.types.is_floating(to):
        return _real(value)
    if pa.types.is_decimal(to) and pa.types.is_integer(value.type):
        value = pc.cast(value, pa.decimal128(min(19 + to.scale, 38), min(to.scale, 19)))
    return pc.cast(value, to)


def _below(value: Any, limit: float) -> Any:
    """Numbers with a blank in place of those that are not below a limit, whatever their sign, or
    are no numbers."""
    fits = pc.less(pc.abs(_real(value)), limit)
    return pc.if_else(fits, value, pa.scalar(None, value.type))


def _limit(type_: ColumnType) -> float:
    """What numbers of a type are below."""
    whole, places = digits(type_) if type_.kind != "real" else (309, 0)
    return 10.0 ** (whole - places) if whole < 309 else math.inf


_IN_64_BITS = 4e18
"""What a result must be below for its 64 bits not to be those of another number, though it is only
known nearly."""


def _arithmetic(name: str) -> Callable[[Node, list[Any]], Any]:
    exact = _exact(name)

    def compute(node: Node, args: list[Any]) -> Any:
        out = exact(node, args)
        if node.type.kind == "integer":  # beyond 64 bits the result is another number
            near = getattr(pc, name)(*[_real(a) for a in args])
            whole = 10 ** digits(node.type)[0]  # the nearest real number may be just that
            fits = pc.and_(pc.less(pc.abs(near), _IN_64_BITS), pc.less(pc.abs(out), whole))
            return pc.if_else(fits, out, pa.scalar(None, out.type))
        return _below(out, math.inf) if node.type.kind == "real" else out

    return compute


def _exact(name: str) -> Callable[[Node, list[Any]], Any]:
    def compute(node: Node, args: list[Any]) -> Any:
        if node.type.kind == "real":
            args = [_real(a) for a in args]
            if name == "divide":
                args[1] = pc.if_else(pc.equal(args[1], 0.0), pa.scalar(None, pa.float64()), args[1])
        elif node.type.kind == "decimal":
            args = [
                _cast(a, pa.decimal128(*digits(n.type)))
                for a, n in zip(args, node.args, strict=True)
            ]
            if name != "multiply":  # room for the digit that a sum may have more
                wide = pa.decimal128(node.type.precision, node.type.scale)
                return _fit(getattr(pc, name)(*[_cast(a, wide) for a in args]), node.type)
        return _fit(getattr(pc, name)(*args), node.type)

    return compute


def _moment(name: str) -> Callable[[Node, list[Any]], Any]:
    return lambda node, args: pc.cast(getattr(pc, name)(args[0]), pa.int64())


def _said(node: Node, value: Any) -> Any:
    """A value as text, as it is spelled in its source."""
    if node.type.kind == "text":
        return value
    if isinstance(value, pa.Scalar):
        return to_text(pa.array([value.as_py()], value.type), node.type)[0]
    return to_text(value, node.type)


def _joined(node: Node, args: list[Any]) -> Any:
    texts = [_said(n, a) for n, a in zip(node.args, args, strict=True)]
    if all(isinstance(t, pa.Scalar) for t in texts):
        return pa.scalar("".join(t.as_py() or "" for t in texts))
    out = pc.binary_join_element_wise(
        "", *texts, "", null_handling="skip"
    )  # Arrow drops a row in which all are null
    return pc.if_else(pc.equal(out, ""), pa.scalar(None, pa.string()), out)


def _typed_as(node: Node, args: list[Any]) -> list[Any]:
    """Arguments as values of the type that the whole has."""
    return [
        pa.scalar(None, node.type.arrow)
        if isinstance(a, pa.Scalar) and not a.is_valid
        else _fit(a, node.type)
        for a in args
    ]


def _chosen(node: Node, args: list[Any]) -> Any:
    yes, no = _typed_as(node, args[1:])
    return pc.if_else(pc.fill_null(args[0], False), yes, no)


def _round(node: Node, args: list[Any]) -> Any:
    places = node.type.scale if node.type.kind == "decimal" else 0
    value = _with_room(_below(args[0], _limit(node.type)))
    rounded = pc.round(value, places, round_mode="half_towards_infinity")
    return _fit(_below(rounded, _limit(node.type)), node.type)


def _with_room(value: Any) -> Any:
    """Decimals of a type with a digit more, for what rounding may add."""
    if not pa.types.is_decimal(value.type) or value.type.precision == MOST_DIGITS:
        return value
    return pc.cast(value, pa.decimal128(value.type.precision + 1, value.type.scale))


def _whole(name: str) -> Callable[[Node, list[Any]], Any]:
    def compute(node: Node, args: list[Any]) -> Any:
        if pa.types.is_integer(args[0].type):
            return args[0]
        value = _with_room(_below(args[0], _limit(node.type)))
        return pc.cast(_below(getattr(pc, name)(value), _limit(node.type)), pa.int64())

    return compute


def _part(node: Node, args: list[Any]) -> Any:
    """The left, right or middle part of texts; how many characters may differ from text to text."""
    texts, counts = args[0], args[1:]
    if any(not isinstance(c, pa.Scalar) for c in counts):
        rows = len(next(c for c in args if not isinstance(c, pa.Scalar)))
        lists = [_array(a, rows).to_pylist() for a in args]
        return pa.array(
            [
                None if None in some else _cut(node.value, *some)
                for some in zip(*lists, strict=True)
            ],
            pa.string(),
        )
    whole = [c.as_py() or 0 for c in counts]
    if node.value == "left":
        return pc.utf8_slice_codeunits(texts, 0, max(whole[0], 0))
    if node.value == "right":
        return (
            pc.utf8_slice_codeunits(texts, -whole[0])
            if whole[0] > 0
            else pc.utf8_slice_codeunits(texts, 0, 0)
        )
    return pc.utf8_slice_codeunits(
        texts, max(whole[0] - 1, 0), max(whole[0] - 1, 0) + max(whole[1], 0)
    )


_BESIDE = {
    "before": r"(?s)^(?P<part>.*?){}",
    "after": r"(?s)^.*?{}(?P<part>.*)$",
    "before_last": r"(?s)^(?P<part>.*){}",
    "after_last": r"(?s)^.*{}(?P<part>.*)$",
}
"""What is taken of a text that has a mark in it: what precedes or follows it."""


def _beside(node: Node, args: list[Any]) -> Any:
    """What precedes or follows the first or last mark in texts; a blank where there is none."""
    pattern = _BESIDE[node.value].format(re.escape(node.args[1].value))
    one = isinstance(args[0], pa.Scalar)
    texts = pa.array([args[0].as_py()], pa.string()) if one else args[0]
    found = pc.struct_field(pc.extract_regex(texts, pattern), 0)
    found = pc.if_else(pc.equal(found, ""), pa.scalar(None, pa.string()), found)
    return found[0] if one else found


_NAMESPACE = uuid.UUID("6b0a6c2e-7f0d-5c3b-9a51-4d1f0e6f3a77")
"""The name space of the UUIDs that are made of texts."""


def _uuid(node: Node, args: list[Any]) -> Any:
    """The UUID that follows from texts (version 5 of RFC 9562): the same texts always give the same
    one, others another one."""
    texts = [_said(n, a) for n, a in zip(node.args, args, strict=True)]
    rows = next((len(t) for t in texts if not isinstance(t, pa.Scalar)), 1)
    made = [
        str(uuid.uuid5(_NAMESPACE, "\x1f".join(t or "" for t in some)))
        for some in zip(*(_array(t, rows).to_pylist() for t in texts), strict=True)
    ]
    out = pa.array(made, pa.string())
    return out[0] if all(isinstance(t, pa.Scalar) for t in texts) else out


def _cut(name: str, text: str, *counts: int) -> str:
    if name == "mid":
        return text[max(counts[0] - 1, 0) :][: max(counts[1], 0)]
    return (
        text[: max(counts[0], 0)]
        if name == "left"
        else text[len(text) - max(counts[0], 0) :]
        if counts[0] <= len(text)
        else text
    )


def _number(node: Node, args: list[Any]) -> Any:
    if not pa.types.is_string(args[0].type):
        return _real(args[0])
    texts = pc.utf8_trim_whitespace(args[0])
    fits = pc.match_substring_regex(texts, r"^[-+]?[0-9]+(\.[0-9]+)?$")
    return pc.cast(pc.if_else(fits, texts, pa.scalar(None, pa.string())), pa.float64())


def _remainder(node: Node, args: list[Any]) -> Any:
    by = pc.if_else(pc.equal(args[1], 0), pa.scalar(None, pa.int64()), args[1])
    quotient = pc.cast(pc.floor(pc.divide(_real(args[0]), _real(by))), pa.int64())
    return pc.subtract(args[0], pc.multiply(quotient, by))


def _date(node: Node, args: list[Any]) -> Any:
    from kerfmark.profile.moments import read_moments

    whole = pa.array([args[0].as_py()], pa.string()) if isinstance(args[0], pa.Scalar) else args[0]
    found = read_moments(whole, "date", node.type.form)
    return found[0] if isinstance(args[0], pa.Scalar) else found


_COMPARISONS: dict[str, Callable[..., Any]] = {
    "=": pc.equal,
    "<>": pc.not_equal,
    "<": pc.less,
    "<=": pc.less_equal,
    ">": pc.greater,
    ">=": pc.greater_equal,
}
_FUNCTIONS: dict[str, Callable[[Node, list[Any]], Any]] = {
    "or": lambda node, args: pc.or_kleene(*args),
    "and": lambda node, args: pc.and_kleene(*args),
    "not": lambda node, args: pc.invert(args[0]),
    "&": _joined,
    "concat": _joined,
    "uuid": _uuid,
    "+": _arithmetic("add"),
    "-": _arithmetic("subtract"),
    "*": _arithmetic("multiply"),
    "/": _arithmetic("divide"),
    "negative": lambda node, args: _fit(pc.negate(args[0]), node.type),
    "abs": lambda node, args: _fit(pc.abs(args[0]), node.type),
    "year": _moment("year"),
    "month": _moment("month"),
    "day": _moment("day"),
    "hour": _moment("hour"),
    "minute": _moment("minute"),
    "upper": lambda node, args: pc.utf8_upper(args[0]),
    "lower": lambda node, args: pc.utf8_lower(args[0]),
    "trim": lambda node, args: pc.utf8_trim_whitespace(args[0]),
    "left": _part,
    "right": _part,
    "mid": _part,
    "replace": lambda node, args: pc.replace_substring(
        args[0], node.args[1].value, node.args[2].value
    ),
    **dict.fromkeys(_BESIDE, _beside),
    "length": lambda node, args: pc.cast(pc.utf8_length(args[0]), pa.int64()),
    "coalesce": lambda node, args: pc.coalesce(*_typed_as(node, args)),
    "if": _chosen,
    "isblank": lambda node, args: pc.is_null(args[0]),
    "round": _round,
    "floor": _whole("floor"),
    "ceiling": _whole("ceil"),
    "mod": _remainder,
    "number": _number,
    "date": _date,
}


def as_type(values: pa.Array, type_: ColumnType) -> pa.Array:
    """The values of an expression as a column's type: numbers are rounded to its places, others
    spelled as they are. Null where a value does not fit."""
    if values.type == type_.arrow:
        return _narrow(values, type_)
    if type_.kind == "text":
        return _narrow(pc.cast(values, pa.string()), type_)
    if type_.kind in ("decimal", "integer") and not pa.types.is_null(values.type):
        limit = _limit(type_)
        if pa.types.is_integer(values.type):
            return _cast(_below(values, limit), type_.arrow)
        rounded = pc.round(
            _with_room(_below(values, limit)), type_.scale, round_mode="half_towards_infinity"
        )
        return pc.cast(_below(rounded, limit), type_.arrow, safe=False)
    return _cast(values, type_.arrow)


def _narrow(values: pa.Array, type_: ColumnType) -> pa.Array:
    if type_.kind != "text" or not type_.width:
        return values
    return pc.if_else(
        pc.less_equal(pc.utf8_length(values), type_.width), values, pa.scalar(None, pa.string())
    )


def combinations(codes: list[np.ndarray], sizes: list[int]) -> tuple[np.ndarray, np.ndarray]:
    """For columns of codes (-1: blank): a number per row for its combination of values, blanks
    included, and for each combination the first row that has it."""
    from kerfmark.profile.codes import combine, first_rows

    mixed, count = combine(codes, sizes, blanks=True)
    return mixed, first_rows(mixed, count)
