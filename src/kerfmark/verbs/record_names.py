"""What the records of a table are called by people: the columns by which they tell them apart."""

from __future__ import annotations

from collections.abc import Iterable

from kerfmark.store.interface import Reader, TableFacts
from kerfmark.store.quoting import literal, quote

NAMES = ("name", "title")
"""Columns that are names by what they are called."""


def naming_columns(facts: TableFacts) -> tuple[str, ...]:
    """The columns that name a record: a unique set of plain ones, that of the name before that of a
    code, else the first plain column; none where there is none."""
    links = {c for k in facts.links for c in k.columns}
    plain = [c.name for c in facts.columns if c.name not in links and c.name not in facts.key]
    sets = [u for u in facts.unique if {*u} <= {*plain}]
    called = (u for u in sets if len(u) == 1 and u[0].lower() in (facts.name.lower(), *NAMES))
    return tuple(next(called, sets[0] if sets else plain[:1]))


def names_of(reader: Reader, table: str, key: str, values: Iterable[object]) -> dict[str, str]:
    """What some records of a table are called, by the values of their key as text."""
    facts = reader.facts(table)
    names = naming_columns(facts) if facts else ()
    wanted = sorted({str(v) for v in values if v is not None})
    if not names or not wanted:
        return {}
    asked = ", ".join(map(quote, names))
    same = f"{reader.text(quote(key))} IN ({', '.join(map(literal, wanted))})"
    rows = reader.ask(f"SELECT {reader.text(quote(key))}, {asked} FROM {quote(table)} WHERE {same}")
    return {str(k): " ".join("" if v is None else str(v) for v in said) for k, *said in rows}


def counting_by_group(reader: Reader, facts: TableFacts) -> str:
    """A statement that counts the rows of a table by what its first link leads to, or by its first
    column that is not unique; "" where there is nothing to count by."""
    name = reader.dialect().quote
    for link in facts.links:
        parent = reader.facts(link.to)
        if parent is None or not (names := naming_columns(parent)) or link.to == facts.name:
            continue
        by = ", ".join(f"p.{name(n)}" for n in names)
        same = " AND ".join(
            f"p.{name(k)} = t.{name(c)}" for c, k in zip(link.columns, link.key, strict=True)
        )
        return (
            f"SELECT {by}, COUNT(*) AS n FROM {name(facts.name)} AS t JOIN {name(link.to)} AS p ON "
            f"{same} GROUP BY {by} ORDER BY n DESC"
        )
    if not facts.key and not facts.unique:  # a view may show the same record many times over
        return ""
    alone = {u[0] for u in (facts.key, *facts.unique) if len(u) == 1}
    column = next((name(c.name) for c in facts.columns if c.name not in alone), "")
    return (
        f"SELECT {column}, COUNT(*) AS n FROM {name(facts.name)} GROUP BY {column} ORDER BY n DESC"
        if column
        else ""
    )
