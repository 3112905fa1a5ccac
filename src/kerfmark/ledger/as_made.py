"""Whether a database is still made as its layout says, beside what its rows say: tables, keys,
links, unique columns, required ones and views, and rows that came with no load."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from kerfmark.layout.model import Layout
from kerfmark.ledger.account import expanded, read_says
from kerfmark.ledger.records import MAKERS, Ledger
from kerfmark.store.interface import Reader, TableFacts
from kerfmark.store.names import view_name


def what_is_gone(reader: Reader, layout: Layout) -> Iterator[str]:
    """What is missing of what a layout asks for, in words. Tables that others made are
    theirs to change."""
    if layout.existing:
        return
    for name in layout.tables:
        facts = reader.facts(name)
        if facts is None:
            yield f"the table {name}"
        else:
            yield from _of_table(layout, name, facts)
    views = {v.lower() for v in reader.views()}
    used = {t.source for t in layout.tables.values()}
    for source in layout.sources:
        if source in used and view_name(source).lower() not in views:
            yield f"the view {view_name(source)}"


def _of_table(layout: Layout, name: str, facts: TableFacts) -> Iterator[str]:
    spec = layout.tables[name]
    key = _set(layout.key_columns(name))
    unique = {_set(u) for u in (facts.key, *facts.unique)}
    if _set(facts.key) != key:
        yield f"the primary key of {name}"
    for columns in spec.unique_sets:
        if columns == spec.known_by and spec.known == "add":
            continue
        if _set(layout.stored_as(name, columns)) not in unique:
            yield f"that {' + '.join(columns)} of {name} is unique"
    links = {(_set(k.columns), k.to.lower()) for k in facts.links}
    for link, target in spec.links.items():
        own = _set([column for column, _ in layout.link_columns(name, link)])
        if (own, target.to.lower()) not in links:
            yield f"the foreign key {name}.{link}"
    loose = {c.name.lower() for c in facts.columns if c.optional}
    optional = {*layout.stored_as(name, spec.optional)}
    optional |= {n for n, c in spec.columns.items() if c.instead_of}  # blank where nothing differs
    for column in (*spec.columns, *layout.stored_as(name, list(spec.links))):
        if column not in optional and column.lower() in loose:
            yield f"that {name}.{column} is required"


def _set(columns: list[str] | tuple[str, ...]) -> frozenset[str]:
    return frozenset(c.lower() for c in columns)


def rows_by_hand(
    reader: Reader, ledger: Ledger, tables: Mapping[str, int]
) -> Iterator[tuple[str, int]]:
    """The tables (with their rows) that have rows which no load made, and how many."""
    says = [s for s in read_says(reader, [n.number for n in ledger.live]) if s.role in MAKERS]
    for table, rows in tables.items():
        more = rows - len(expanded([(s.first, s.last) for s in says if s.table == table]))
        if more > 0:
            yield table, more
