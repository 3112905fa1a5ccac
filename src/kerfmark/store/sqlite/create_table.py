"""SQLite: the text of a CREATE TABLE statement, taken apart: the declared type of a column, and the
conditions that are checked."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import NamedTuple

from kerfmark.store.quoting import unquote

_TOKEN = re.compile(
    r"""
    (?P<space>\s+|--[^\n]*|/\*.*?\*/) | (?P<name>"(?:[^"]|"")*"|`(?:[^`]|``)*`|\[[^\]]*\]) | (?P<text>'(?:[^']|'')*')
    | (?P<word>[^\W\d][\w$]*) | (?P<sign>.)""",  # noqa: E501
    re.VERBOSE | re.DOTALL,
)
_AFTER_TYPE = frozenset(
    {
        "CONSTRAINT",
        "PRIMARY",
        "NOT",
        "NULL",
        "UNIQUE",
        "CHECK",
        "DEFAULT",
        "COLLATE",
        "REFERENCES",
        "GENERATED",
        "AS",
    }
)
"""What may follow the type of a column."""


class Token(NamedTuple):
    """A piece of SQL: its kind, its text, where it begins, and how many parentheses it is
    in."""

    kind: str
    text: str
    start: int
    depth: int

    @property
    def end(self) -> int:
        """Where it ends."""
        return self.start + len(self.text)


def tokens(sql: str) -> Iterator[Token]:
    """The pieces of a statement, without spaces and comments."""
    depth = 0
    for found in _TOKEN.finditer(sql):
        kind, text = found.lastgroup or "", found[0]
        depth -= text == ")"
        if kind != "space":
            yield Token(kind, text, found.start(), depth)
        depth += text == "("


def with_column_type(create: str, column: str, declared: str) -> str:
    """A CREATE TABLE statement in which a column is declared with another type; the same statement
    where the column is not found."""
    inside = [t for t in tokens(create) if t.depth > 0]
    begins = True
    for i, token in enumerate(inside):
        if begins and token.kind in ("name", "word") and unquote(token.text) == column:
            rest = inside[i + 1 :]
            stop = next(
                (
                    n
                    for n, t in enumerate(rest)
                    if t.depth == 1
                    and (t.text == "," or (t.kind == "word" and t.text.upper() in _AFTER_TYPE))
                ),
                len(rest),
            )
            end = rest[stop - 1].end if stop else token.end
            return f"{create[: token.end]} {declared}{create[end:]}"
        begins = token.depth == 1 and token.text == ","
    return create


def checks_of(create: str) -> Iterator[tuple[str, str]]:
    """The conditions in a CREATE TABLE statement, with their names: a condition without one is
    called as it is written."""
    some = [*tokens(create)]
    for i, token in enumerate(some[:-1]):
        if token.kind == "word" and token.text.upper() == "CHECK" and some[i + 1].text == "(":
            inside = (t for t in some[i + 2 :] if t.text == ")" and t.depth == some[i + 1].depth)
            said = create[some[i + 1].end : next(inside, some[-1]).start].strip()
            named = i > 1 and some[i - 2].text.upper() == "CONSTRAINT"
            yield unquote(some[i - 1].text) if named else said, said
