"""The rows that are to be merged with a database, and what can be asked about them."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import pyarrow as pa

from kerfmark.layout.expression import parse_expression
from kerfmark.layout.model import Layout, TableSpec
from kerfmark.layout.validation import types_of
from kerfmark.normalize.lookup import Found
from kerfmark.normalize.merged import Existing, Numbers
from kerfmark.normalize.policy import policy_of
from kerfmark.normalize.table_rows import TableRows
from kerfmark.normalize.tables import SourceTables


@dataclass(frozen=True)
class Incoming:
    """The tables of one run (`tables`, from the `feeds` of their sources, with what looking up
    `found`), the database that they are to meet, the `free` numbers of its
    tables, how its engine takes values, what becomes of
    `known` records, and the headers, by source, that the files need not have and do not
    (`lacking`). With `only_known` no record is made."""

    layout: Layout
    feeds: Mapping[str, SourceTables]
    tables: Mapping[str, TableRows]
    found: Mapping[tuple[str, str], Found]
    existing: Existing
    free: Numbers
    to_engine: Callable[[pa.Array], pa.Array]
    known: str
    lacking: Mapping[str, set[str]]
    only_known: bool = False

    def order(self) -> list[str]:
        """The tables, parents first."""
        return [n for n in self.layout.parents_first() if n in self.tables]

    def policy(self, name: str) -> str:
        """What becomes of a known record of a table."""
        return policy_of(self.layout, name, self.known)

    def filled(self, table: TableRows, columns: Sequence[str]) -> np.ndarray:
        """Which records of a table have something in all of some columns."""
        out = np.ones(table.rows, bool)
        for c in columns:
            out &= table.codes(c) >= 0
        return out

    def links_to(self, name: str) -> list[tuple[str, str, np.ndarray]]:
        """The links by value that lead to a table: table, link, and the record that each of its
        records leads to."""
        out = []
        for other, table in self.tables.items():
            for link, target in table.spec.links.items() if table.spec.source in self.feeds else ():
                codes = table.codes(link)
                if target.to == name and target.by:
                    out.append((other, link, codes))
        return out

    def creatable(self, name: str) -> np.ndarray:
        """Which records may be made: those that a file has itself, and those that a link may
        create."""
        out = np.ones(self.tables[name].rows, bool)
        if self.makes_none(name):
            return ~out
        for other, link, _ in self.links_to(name):
            out[self.found[other, link].created] = False
        for other, link, codes in self.links_to(name):
            if self.tables[other].spec.links[link].missing == "create":
                out[codes[codes >= 0]] = True
        return out

    def makes_none(self, name: str) -> bool:
        """Whether no record of a table is made: those that are not there are refused. Parts belong
        to a known record."""
        spec = self.tables[name].spec
        return (self.only_known and not spec.part_of) or spec.missing == "refuse"

    def provided_columns(self, name: str) -> list[str]:
        """The columns and links of a table, beside its natural key, of which these files say
        anything. A key that is computed says nothing of a record that has one."""
        spec = self.tables[name].spec
        return [
            c
            for c in (*spec.links, *spec.columns)
            if c not in (*spec.known_by, *spec.computed_key) and self.provides(spec, c)
        ]

    def only_named(self, name: str) -> np.ndarray:
        """Which records of a table no row says itself: others only name them."""
        table = self.tables[name]
        if any(c.split for c in table.spec.columns.values()):
            return np.zeros(table.rows, bool)
        named: np.ndarray = table.source_rows() < 0
        return named

    def provides(self, spec: TableSpec, column: str) -> bool:
        """Whether the file says anything in a column or link: not so where all headers that it
        comes from are ones that the file may lack, and does; nor in a derived column that comes
        from any such."""
        lacking = self.lacking.get(spec.source, set())
        if not lacking:
            return True
        if column in spec.links:
            link = spec.links[column]
            headers = tuple(link.by.values()) or tuple(self.layout.key_headers(link.to))
            return not any(h in lacking for h in headers)
        if spec.columns[column].derived:
            return not derived_from(self.layout, spec, column) & lacking
        headers = spec.columns[column].sources
        return not headers or any(h not in lacking for h in headers)

    def rows_of(
        self, name: str, records: np.ndarray
    ) -> tuple[SourceTables, np.ndarray, np.ndarray]:
        """The rows of a source that say something of some records of a table, and which record each
        is about."""
        table, spec = self.tables[name], self.tables[name].spec
        feed = self.feeds.get(spec.source) or next(iter(self.feeds.values()))
        if spec.each_row or spec.part_of or any(c.split for c in spec.columns.values()):
            rows = table.source_rows()[records]
            if (rows >= 0).any():
                return feed, rows[rows >= 0], records[rows >= 0]
        elif spec.source in self.feeds:
            codes, _ = feed.identity(name)
            rows = np.flatnonzero(np.isin(codes, records))
            if len(rows):
                return feed, rows, codes[rows]
        for other, _, codes in self.links_to(name):  # records that only others name
            at = np.flatnonzero(np.isin(codes, records))
            rows = self.tables[other].source_rows()[at]
            if (rows >= 0).any():
                return (
                    self.feeds[self.tables[other].spec.source],
                    rows[rows >= 0],
                    codes[at[rows >= 0]],
                )
        return feed, np.empty(0, np.int64), np.empty(0, np.int64)


def derived_from(layout: Layout, spec: TableSpec, column: str) -> set[str]:
    """The headers that a derived column is computed from."""
    node = parse_expression(spec.columns[column].derived, types_of(layout, spec.source))
    return set(node.headers())
