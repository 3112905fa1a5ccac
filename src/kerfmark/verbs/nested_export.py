"""Records with the records that lead to them inside: which tables, by which links, and in which
order their rows must come."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from kerfmark.progress import Progress
from kerfmark.store.interface import LinkFacts, Reader
from kerfmark.store.quoting import quote
from kerfmark.verbs.export_rows import ExportRows, Inside, as_declared_or_text, rows_of_table
from kerfmark.write.json_lines import Nested

N, OWNER = "kerfmark_n", "kerfmark_owner"
"""What the number of a record and that of the record it belongs to are called in the queries."""


@dataclass(frozen=True)
class Nesting:
    """Rows that come with a number first, and how to open the children of each, anew for every
    writer."""

    taken: ExportRows
    numbered: tuple[str, ...]
    children: Callable[[], tuple[Nested, ...]]


def nesting(reader: Reader, inside: Inside, table: str, progress: Progress) -> Nesting:
    """A table with all that leads to it, and to that, and so on; a table is not nested in
    itself."""
    known: dict[str, ExportRows] = {}

    def taken(name: str) -> ExportRows:
        if name not in known:
            known[name] = as_declared_or_text(reader, rows_of_table(reader, inside, name), progress)
        return known[name]

    root = taken(table)
    rows = (
        f"SELECT ROW_NUMBER() OVER (ORDER BY {_ordered(root)}) AS {N}, c.* FROM {quote(table)} AS c"
    )
    whole = replace(root, rows=f"({rows}) AS k", order=f"k.{N}")

    def below(name: str, rows: str, path: tuple[str, ...]) -> tuple[Nested, ...]:
        out, called = [], {*taken(name).table.columns}
        for child, link in _leading_to(inside, name, path):
            mine = taken(child)
            numbered = (
                f"SELECT ROW_NUMBER() OVER (ORDER BY p.{N}, {_ordered(mine)}) AS {N}, p.{N} AS "
                f"{OWNER}, c.* "
                f"FROM {quote(child)} AS c JOIN ({rows}) AS p ON {_same(link)}"
            )
            inner = below(child, numbered, (*path, child))
            first = [OWNER, N] if inner else [OWNER]
            name_ = child if child not in called else f"{child} by {' and '.join(link.columns)}"
            called.add(name_)
            batches = replace(mine, rows=f"({numbered}) AS k", order=f"k.{N}").batches(
                reader, progress, first
            )
            out.append(Nested(name_, mine.table, batches, inner))
        return tuple(out)

    has_children = bool(_leading_to(inside, table, (table,)))
    return Nesting(whole, (N,) if has_children else (), lambda: below(table, rows, (table,)))


def _leading_to(inside: Inside, table: str, path: tuple[str, ...]) -> list[tuple[str, LinkFacts]]:
    return [
        (n, link)
        for n, facts in inside.tables.items()
        if n not in path
        for link in facts.links
        if link.to == table
    ]


def _same(link: LinkFacts) -> str:
    return " AND ".join(
        f"c.{quote(own)} = p.{quote(key)}" for own, key in zip(link.columns, link.key, strict=True)
    )


def _ordered(taken: ExportRows) -> str:
    return ", ".join(f"c.{quote(k)}" for k in taken.table.key or taken.table.columns)
