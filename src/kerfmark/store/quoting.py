"""Names and texts in SQL, as the standard has them: names in double quotes, texts in single
ones."""

from __future__ import annotations


def quote(name: str) -> str:
    """A name as an SQL identifier."""
    return '"' + name.replace('"', '""') + '"'


def unquote(identifier: str) -> str:
    """The name that an SQL identifier means, however it is quoted."""
    first, last = identifier[:1], identifier[-1:]
    if len(identifier) > 1 and (first, last) in (('"', '"'), ("`", "`")):
        return identifier[1:-1].replace(first * 2, first)
    return identifier[1:-1] if (first, last) == ("[", "]") else identifier


def literal(value: str) -> str:
    """A text as an SQL literal."""
    return "'" + value.replace("'", "''") + "'"
