"""The statements that make tables anew as a database has them, whoever made them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import partial
from typing import Any

from sqlalchemy import Column, ForeignKeyConstraint, Identity, Index, Integer, MetaData, PrimaryKeyConstraint, Table
from sqlalchemy.engine import Dialect
from sqlalchemy.schema import AddConstraint, CreateIndex, CreateTable

from kerfmark.profile.types import ColumnType, declared_type
from kerfmark.store.database import TableFacts
from kerfmark.store.ddl import Statements, Way, compiled, in_order
from kerfmark.store.views import fitting, quoting


def as_they_are(tables: Sequence[TableFacts], types: Mapping[str, Mapping[str, ColumnType]], dialect: Dialect, way: Way
                   ) -> Statements:
    """The statements for tables as a database has them, parents first; `types` by table and column. Keys that it gives out itself
    go on counting."""
    metadata = MetaData()
    indexes: list[Index] = []
    taken = {t.name for t in tables}
    counting = {(t.name, counting_key(t)) for t in tables}
    for facts in tables:
        sets = (facts.key, *facts.unique, *(link.columns for link in facts.links))
        counts = counting_key(facts)
        parts: list[Any] = []
        for c in facts.columns:
            among = max((len(s) for s in sets if c.name in s), default=0)
            of = types[facts.name][c.name]
            leads = any(link.columns == (c.name,) and (link.to, *link.key) in counting for link in facts.links)
            type_ = Integer() if c.name == counts or leads else way.keyed(of, among) if way.keyed and among else way.mapper(of)
            own = [Identity()] if c.name == counts and way.identity else []
            parts.append(Column(c.name, type_, *own, primary_key=c.name == counts and not way.keys_later, nullable=c.optional,
                                autoincrement=c.name == counts))
        if facts.key and not counts and not way.keys_later:
            parts.append(PrimaryKeyConstraint(*facts.key))
        parts += [ForeignKeyConstraint(link.columns, [f"{link.to}.{k}" for k in link.key]) for link in facts.links
                  if link.to in taken]
        table: Table = Table(facts.name, metadata, *parts, **way.options)
        for columns, unique in [*((u, True) for u in facts.unique), *((link.columns, False) for link in facts.links)]:
            if columns not in [facts.key, *(tuple(i.columns.keys()) for i in indexes if i.table is table)]:
                name = fitting(f"{facts.name}_{'_'.join(columns)}", 60, taken)
                taken.add(name)
                indexes.append(Index(name, *(table.c[c] for c in columns), unique=unique))
    made = [metadata.tables[t.name] for t in tables]
    quote = quoting(dialect)
    spelled = partial(compiled, dialect)
    keys = [f"ALTER TABLE {quote(t.name)} ADD PRIMARY KEY ({', '.join(map(quote, t.key))})" for t in tables if t.key]
    return Statements(
        [spelled(CreateTable(t, include_foreign_key_constraints=[] if way.links_later else None)) for t in made],
        keys if way.keys_later else [], [spelled(CreateIndex(i)) for i in indexes],
        [spelled(AddConstraint(c)) for t in made for c in in_order(t.foreign_key_constraints)] if way.links_later else [], [], [])


def counting_key(facts: TableFacts) -> str:
    """The key of a table that the engine gives out by itself; "" where it has none."""
    return next((c.name for c in facts.columns if facts.key == (c.name,) and c.filled and not c.computed
                 and declared_type(c.type).kind == "integer"), "")
