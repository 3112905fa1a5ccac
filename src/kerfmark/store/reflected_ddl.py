"""The statements that make tables again as a database has them, whoever made them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import (
    Column,
    ForeignKeyConstraint,
    Identity,
    Integer,
    MetaData,
    PrimaryKeyConstraint,
    Table,
)
from sqlalchemy.schema import CreateTable

from kerfmark.profile.types import ColumnType, declared_type
from kerfmark.store.ddl import ConstraintSql, IndexSql, Statements, foreign_key
from kerfmark.store.interface import TableFacts
from kerfmark.store.names import INDEX_NAME, fit_name
from kerfmark.store.sql_dialect import SqlDialect


def reflected_statements(
    tables: Sequence[TableFacts], types: Mapping[str, Mapping[str, ColumnType]], dialect: SqlDialect
) -> Statements:
    """The statements for tables as a database has them, parents first; `types` by table and column.
    Keys that the database generates go on counting."""
    out, quote, metadata = Statements([]), dialect.name, MetaData()
    taken = {t.name for t in tables}
    generated = {(t.name, generated_key(t)) for t in tables}
    inside = set(taken)
    made = [
        _table(facts, types[facts.name], dialect, inside, generated, metadata) for facts in tables
    ]
    for facts, table in zip(tables, made, strict=True):
        create = CreateTable(
            table, include_foreign_key_constraints=[] if dialect.links_later else None
        )
        out.tables.append(dialect.compile(create))
        if facts.key and dialect.keys_later:
            out.keys.append(
                ConstraintSql(
                    quote(facts.name), f"PRIMARY KEY ({', '.join(map(quote, facts.key))})"
                )
            )
        if dialect.links_later:
            links = sorted(
                (link for link in facts.links if link.to in inside), key=lambda link: link.columns
            )
            constraints = [foreign_key(link.columns, link.to, link.key, quote) for link in links]
            out.links.extend(
                ConstraintSql(quote(facts.name), constraint) for constraint in constraints
            )
        known = [facts.key]
        for columns, unique in [
            *((u, True) for u in facts.unique),
            *((link.columns, False) for link in facts.links),
        ]:
            if columns not in known:
                known.append(columns)
                name = fit_name(f"{facts.name}_{'_'.join(columns)}", INDEX_NAME, taken)
                taken.add(name)
                out.indexes.append(
                    IndexSql(quote(name), quote(facts.name), tuple(map(quote, columns)), unique)
                )
    return out


def _table(
    facts: TableFacts,
    types: Mapping[str, ColumnType],
    dialect: SqlDialect,
    inside: set[str],
    generated: set[tuple[str, str]],
    metadata: MetaData,
) -> Table:
    sets = (facts.key, *facts.unique, *(link.columns for link in facts.links))
    counts = generated_key(facts)
    parts: list[Any] = []
    for c in facts.columns:
        among = max((len(s) for s in sets if c.name in s), default=0)
        leads = any(
            link.columns == (c.name,) and (link.to, *link.key) in generated for link in facts.links
        )
        type_: Any = dialect.type_of(types[c.name])
        if c.name == counts or leads:
            type_ = Integer()
        elif dialect.keyed_type_of and among:
            type_ = dialect.keyed_type_of(types[c.name], among)
        own = [Identity()] if c.name == counts and dialect.identity else []
        parts.append(
            Column(
                c.name,
                type_,
                *own,
                primary_key=c.name == counts and not dialect.keys_later,
                nullable=c.optional,
                autoincrement=c.name == counts,
            )
        )
    if facts.key and not counts and not dialect.keys_later:
        parts.append(PrimaryKeyConstraint(*facts.key))
    parts += [
        ForeignKeyConstraint(link.columns, [f"{link.to}.{k}" for k in link.key])
        for link in facts.links
        if link.to in inside
    ]
    return Table(facts.name, metadata, *parts, **dialect.table_options)


def generated_key(facts: TableFacts) -> str:
    """The key of a table that the engine generates by itself; "" where it has none."""
    return next(
        (
            c.name
            for c in facts.columns
            if facts.key == (c.name,)
            and c.filled
            and not c.computed
            and declared_type(c.type).kind == "integer"
        ),
        "",
    )
