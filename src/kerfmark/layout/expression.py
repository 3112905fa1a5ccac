"""Expressions over the columns of a source: `year([Date])`, `if([Kind] = 'lb', [Weight] * 0.4536,
[Weight])`.

A column is its header in square brackets (`]]` for a bracket in it), a text is in single quotes
(`''` for a quote in it). Operators, weakest first: or; and; not; = <> < <= > >= in; & (joins
texts); + -; * /; unary -. Function names are those that spreadsheets and SQL share. Text is cut
into tokens, parsed by precedence climbing, and every part gets a type before anything is computed
(`normalize.evaluate` does that).
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import NoReturn

from kerfmark.errors import article
from kerfmark.layout.names import closest
from kerfmark.profile.types import INTEGER, TEXT, ColumnType, parse_type

BOOLEAN = ColumnType("boolean", form="true/false")
REAL = ColumnType("real")
MOST_DIGITS = 38
DEEPEST = 60
"""Levels of brackets."""


SHOWN = 60
"""Characters before and after a mistake that are told."""
LONGEST, CHAIN = 20_000, 150
"""Characters of an expression, and how many of its parts may rest on each other."""


class ExpressionError(ValueError):
    """What is wrong with an expression, and at which character (from 0)."""

    def __init__(self, what: str, text: str, at: int) -> None:
        self.what, self.text, self.at = what, text, at
        before, after = text[:at], text[at:]
        if len(before) > SHOWN:
            before = f"…{before[-SHOWN:]}"
        if len(after) > SHOWN:
            after = f"{after[:SHOWN]}…"
        super().__init__(f"{what}, at character {at + 1}: {before}»{after}")


@dataclass(frozen=True)
class Node:
    """A part of an expression: a `column` (value is its header), a `value` (its text; `type` says
    of what kind), or a `call` of a function or operator (value is its name) on `args`. `at` is
    where it is."""

    what: str
    value: str
    type: ColumnType
    at: int
    args: tuple[Node, ...] = ()

    def headers(self) -> Iterator[str]:
        """The headers of the columns it names."""
        if self.what == "column":
            yield self.value
        for arg in self.args:
            yield from arg.headers()


_TOKEN = re.compile(
    r"""\s*(?:(?P<column>\[(?:[^\]]|\]\])*\])|(?P<text>'(?:[^']|'')*')|(?P<number>\d+(?:\.\d+)?)
    |(?P<name>[A-Za-z_][A-Za-z_0-9]*)|(?P<sign><>|<=|>=|[-+*/&=<>(),]))""",
    re.VERBOSE,
)
_STRENGTH = {
    "or": 1,
    "and": 2,
    "=": 4,
    "<>": 4,
    "<": 4,
    "<=": 4,
    ">": 4,
    ">=": 4,
    "in": 4,
    "&": 5,
    "+": 6,
    "-": 6,
    "*": 7,
    "/": 7,
}
_NOT, _MINUS = 3, 8


def parse_expression(text: str, types: Callable[[str, int], ColumnType]) -> Node:
    """An expression with the type of every part. `types` gives that of the column with a header; it
    may raise ExpressionError.

    Raises ExpressionError.
    """
    return _Parser(text, types).whole()


class _Parser:
    def __init__(self, text: str, types: Callable[[str, int], ColumnType]) -> None:
        self.text, self.types = text, types
        if len(text) > LONGEST:
            raise ExpressionError(f"this is longer than {LONGEST:,} characters", text, LONGEST)
        self.rests_on: dict[int, int] = {}
        self.tokens = list(self._cut())
        self.at, self.depth = 0, 0

    def _cut(self) -> Iterator[tuple[str, str, int]]:
        at = 0
        while self.text[at:].strip():
            found = _TOKEN.match(self.text, at)
            if not found or not found.lastgroup:
                start = at + len(self.text[at:]) - len(self.text[at:].lstrip())
                told = {
                    "[": "this column has no closing bracket",
                    "'": "this text has no closing quote",
                }
                raise ExpressionError(
                    told.get(self.text[start], "this is not allowed here"), self.text, start
                )
            yield found.lastgroup, found[found.lastgroup], found.start(found.lastgroup)
            at = found.end()
        yield "end", "", len(self.text)

    def whole(self) -> Node:
        node = self._operation(0)
        if self.tokens[self.at][0] != "end":
            self._fail("this is left over")
        return node

    def _fail(self, what: str, at: int | None = None) -> NoReturn:
        raise ExpressionError(what, self.text, self.tokens[self.at][2] if at is None else at)

    def _next(self) -> tuple[str, str, int]:
        self.at += 1
        return self.tokens[self.at - 1]

    def _is(self, sign: str) -> bool:
        kind, value, _ = self.tokens[self.at]
        return kind in ("sign", "name") and value.lower() == sign

    def _expect(self, sign: str) -> None:
        if not self._is(sign):
            self._fail(f'"{sign}" is missing')
        self.at += 1

    def _operation(self, weakest: int) -> Node:
        self.depth += 1
        if self.depth > DEEPEST:
            self._fail("this is nested too deeply")
        left = self._single()
        while True:
            kind, value, at = self.tokens[self.at]
            strength = _STRENGTH.get(value.lower(), 0) if kind in ("sign", "name") else 0
            if not strength or strength <= weakest:
                self.depth -= 1
                return left
            self.at += 1
            name = value.lower()
            right = (left, *self._listed()) if name == "in" else (left, self._operation(strength))
            left = self._call(name, right, at)

    def _listed(self) -> tuple[Node, ...]:
        """What is in brackets, separated by commas."""
        self._expect("(")
        out: list[Node] = []
        while not self._is(")"):
            out.append(self._operation(0))
            if not self._is(")"):
                self._expect(",")
        self.at += 1
        return tuple(out)

    def _single(self) -> Node:
        kind, value, at = self._next()
        if kind == "column":
            header = value[1:-1].replace("]]", "]")
            try:
                return Node("column", header, self.types(header, at), at)
            except ExpressionError as error:
                raise ExpressionError(error.what, self.text, at) from None
        if kind == "text":
            return Node("value", value[1:-1].replace("''", "'"), TEXT, at)
        if kind == "number":
            places = len(value.partition(".")[2])
            digits = len(value.replace(".", "").lstrip("0")) or 1
            if digits > 18:
                self._fail("this number has too many digits", at)
            return Node(
                "value",
                value,
                ColumnType("decimal", max(digits, places + 1), places) if places else INTEGER,
                at,
            )
        if value == "(":
            inside = self._operation(0)
            self._expect(")")
            return inside
        if value == "-":
            return self._call("negative", (self._operation(_MINUS),), at)
        if kind == "name":
            name = value.lower()
            if name == "not":
                return self._call("not", (self._operation(_NOT),), at)
            if name in ("true", "false") and not self._is("("):
                return Node("value", name, BOOLEAN, at)
            if self._is("("):
                return self._call(name, self._listed(), at)
            near = "; a column is written [" + value + "]"
            self._fail(f'"{value}" is not a function{near}', at)
        self.at -= 1
        self._fail("something is missing here" if kind == "end" else "this is not allowed here", at)

    def _call(self, name: str, args: tuple[Node, ...], at: int) -> Node:
        rule = FUNCTIONS.get(name)
        if rule is None:
            near = closest(name, FUNCTIONS)
            self._fail(
                f'there is no function "{name}"'
                + (
                    f'; did you mean "{near}"?'
                    if near
                    else f" (known: {', '.join(n for n in FUNCTIONS if n.isidentifier())})"
                ),
                at,
            )
        chain = 1 + max((self.rests_on.get(id(a), 0) for a in args), default=0)
        if chain > CHAIN:
            self._fail("this has too many parts; make a derived column of some of them", at)
        try:
            node = Node("call", name, rule(*args), at, args)
            self.rests_on[id(node)] = chain
            return node
        except TypeError:
            self._fail(f'"{name}" cannot take {len(args)} values', at)
        except _WrongKind as wrong:
            self._fail(wrong.args[0], at if wrong.args[1] < 0 else wrong.args[1])


class _WrongKind(Exception):
    """A value of a kind that a function does not take: what, and where."""


_NUMBERS = ("integer", "decimal", "real")
_MOMENTS = ("date", "timestamp", "time")
_DAY, _CLOCK = r"\d{4}-(0[1-9]|1[0-2])-(0[1-9]|[12]\d|3[01])", r"([01]\d|2[0-3]):[0-5]\d:[0-5]\d"
_ISO = {
    "date": (_DAY, "2025-03-01"),
    "time": (_CLOCK, "14:30:00"),
    "timestamp": (f"{_DAY} {_CLOCK}", "2025-03-01 14:30:00"),
}
"""How moments are written in an expression."""


def _need(node: Node, kinds: tuple[str, ...], what: str) -> None:
    if node.type.kind not in kinds:
        raise _WrongKind(f"this is {article(node.type.kind)}, where {what} is needed", node.at)


def digits(type_: ColumnType) -> tuple[int, int]:
    """Precision and scale of a number without exponent."""
    return (18, 0) if type_.kind == "integer" else (type_.precision, type_.scale)


def _sum(a: Node, b: Node) -> ColumnType:
    _need(a, _NUMBERS, "a number")
    _need(b, _NUMBERS, "a number")
    if "real" in (a.type.kind, b.type.kind):
        return REAL
    if a.type.kind == b.type.kind == "integer":
        return INTEGER
    (p, s), (q, t) = digits(a.type), digits(b.type)
    scale = max(s, t)
    return _computed(max(p - s, q - t) + 1 + scale, scale)


def _product(a: Node, b: Node) -> ColumnType:
    kind = _sum(a, b)
    if kind.kind != "decimal":
        return kind
    (p, s), (q, t) = digits(a.type), digits(b.type)
    return _computed(p + q, s + t)


def _computed(precision: int, scale: int) -> ColumnType:
    """The type of a sum or a product: a digit less than decimals may have, which Arrow adds."""
    return REAL if precision == MOST_DIGITS else _decimal(precision, scale)


def _decimal(precision: int, scale: int) -> ColumnType:
    return (
        REAL
        if precision > MOST_DIGITS
        else ColumnType("decimal", precision, scale, "0." + "0" * scale)
    )


def _quotient(a: Node, b: Node) -> ColumnType:
    _sum(a, b)
    return REAL


def _common(*nodes: Node) -> ColumnType:
    """The one type that several values can have together."""
    first = next(
        (n for n in nodes if not (n.what == "value" and n.value == "" and n.type == TEXT)), nodes[0]
    )
    out = first.type
    for node in nodes:
        if node.what == "value" and node.value == "" and node.type == TEXT:
            continue  # '' is a blank of any type
        if node.type.kind == out.kind and out.kind != "decimal":
            continue
        if node.type.kind in _NUMBERS and out.kind in _NUMBERS:
            if "real" in (node.type.kind, out.kind):
                out = REAL
            else:
                (p, s), (q, t) = digits(out), digits(node.type)
                out = _decimal(max(p - s, q - t) + max(s, t), max(s, t)) if max(s, t) else INTEGER
            continue
        raise _WrongKind(f"this is {article(node.type.kind)}, beside {article(out.kind)}", node.at)
    return TEXT if out.kind == "text" else out


def _compared(a: Node, b: Node) -> ColumnType:
    for moment, text in ((a, b), (b, a)):
        if moment.type.kind in _MOMENTS and text.what == "value" and text.type == TEXT:
            form, example = _ISO[moment.type.kind]
            if text.value and not re.fullmatch(form, text.value):
                raise _WrongKind(f"write a {moment.type.kind} like '{example}'", text.at)
            return BOOLEAN
    _common(a, b)
    return BOOLEAN


def _listed(a: Node, *among: Node) -> ColumnType:
    if not among:
        raise _WrongKind("nothing is listed", -1)
    for one in among:
        _compared(a, one)
    return BOOLEAN


def _logic(*nodes: Node) -> ColumnType:
    for node in nodes:
        _need(node, ("boolean",), "yes or no")
    return BOOLEAN


def _of_moment(kinds: tuple[str, ...]) -> Callable[[Node], ColumnType]:
    def rule(a: Node) -> ColumnType:
        _need(a, kinds, "a date" if "date" in kinds else "a time")
        return INTEGER

    return rule


def _text(a: Node) -> ColumnType:
    _need(a, ("text",), "text")
    return TEXT


def _part(a: Node, n: Node) -> ColumnType:
    _need(n, ("integer",), "a whole number")
    return _text(a)


def _middle(a: Node, start: Node, n: Node) -> ColumnType:
    _need(start, ("integer",), "a whole number")
    return _part(a, n)


def _replaced(a: Node, *written: Node) -> ColumnType:
    for node in written:
        if node.what != "value" or node.type != TEXT:
            raise _WrongKind("this must be a text in quotes", node.at)
    return _text(a)


def _beside(a: Node, mark: Node) -> ColumnType:
    out = _replaced(a, mark)
    if not mark.value:
        raise _WrongKind("this must be a text: the one before or after the part", mark.at)
    return out


def _length(a: Node) -> ColumnType:
    _text(a)
    return INTEGER


def _joined(*nodes: Node) -> ColumnType:
    if not nodes:
        raise TypeError
    return TEXT


def _first(*nodes: Node) -> ColumnType:
    if not nodes:
        raise TypeError
    return _common(*nodes)


def _chosen(condition: Node, yes: Node, no: Node) -> ColumnType:
    _logic(condition)
    return _common(yes, no)


def _rounded(a: Node, n: Node | None = None) -> ColumnType:
    _need(a, _NUMBERS, "a number")
    if n is not None and (n.what != "value" or n.type != INTEGER):
        raise _WrongKind("the number of places must be written out", n.at)
    places = int(n.value) if n else 0
    if not places:
        return INTEGER
    p, s = digits(a.type) if a.type.kind != "real" else (18 + places, places)
    return _decimal(max(p - s, 0) + 1 + places, places)


def _whole(a: Node) -> ColumnType:
    _need(a, _NUMBERS, "a number")
    return INTEGER


def _same(a: Node) -> ColumnType:
    _need(a, _NUMBERS, "a number")
    return (
        a.type
        if a.type.kind != "decimal"
        else ColumnType("decimal", a.type.precision, a.type.scale)
    )


def _remainder(a: Node, b: Node) -> ColumnType:
    _need(a, ("integer",), "a whole number")
    _need(b, ("integer",), "a whole number")
    return INTEGER


def _dated(a: Node, form: Node) -> ColumnType:
    _text(a)
    if form.what != "value":
        raise _WrongKind("the form must be written out, such as 'DD.MM.YYYY'", form.at)
    try:
        return parse_type(f"date {form.value}")
    except ValueError as error:
        raise _WrongKind(str(error), form.at) from None


def _numbered(a: Node) -> ColumnType:
    _need(a, ("text", *_NUMBERS), "a text")
    return REAL


def _anything(a: Node) -> ColumnType:
    return BOOLEAN


FUNCTIONS: Mapping[str, Callable[..., ColumnType]] = {
    "or": _logic,
    "and": _logic,
    "not": lambda a: _logic(a),
    "in": _listed,
    "&": lambda a, b: _joined(a, b),
    **dict.fromkeys(("=", "<>", "<", "<=", ">", ">="), _compared),
    "+": _sum,
    "-": _sum,
    "*": _product,
    "/": _quotient,
    "negative": _same,
    "year": _of_moment(("date", "timestamp")),
    "month": _of_moment(("date", "timestamp")),
    "day": _of_moment(("date", "timestamp")),
    "hour": _of_moment(("timestamp", "time")),
    "minute": _of_moment(("timestamp", "time")),
    "date": _dated,
    "upper": _text,
    "lower": _text,
    "trim": _text,
    "left": _part,
    "right": _part,
    "mid": _middle,
    "replace": lambda a, old, new: _replaced(a, old, new),
    **dict.fromkeys(("before", "after", "before_last", "after_last"), _beside),
    "length": _length,
    "concat": _joined,
    "uuid": _joined,
    "coalesce": _first,
    "if": _chosen,
    "isblank": _anything,
    "round": _rounded,
    "abs": _same,
    "floor": _whole,
    "ceiling": _whole,
    "mod": _remainder,
    "number": _numbered,
}
"""The type that each function and operator gives, from its values; raises where it does not take
them."""
