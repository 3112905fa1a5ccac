"""What the engines have in common: changing the rows of a database that is there, in the SQL that all of them speak.

What is looked for goes into a temporary table, as whole columns, and is joined; nothing is asked row by row. Each engine says in
its own module how it spells what they do not share.
"""

from __future__ import annotations

import abc
import contextlib
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import numpy as np
import pyarrow as pa

from kerfmark.store.database import TableFacts, literal, quote

SOUGHT = "kerfmark_sought"
_BITS = 60
"""Columns compared in one query: each is a bit of a number."""


class SharedSql(abc.ABC):
    """The part of `database.Changing` that is the same for every engine."""

    sought = SOUGHT
    drop = "DROP TABLE"
    """How a temporary table is taken away."""
    outer_first = "JOIN"
    """A join that begins with its left side."""

    @abc.abstractmethod
    def ask(self, sql: str) -> Sequence[Sequence[Any]]:
        """See `database.Reader`."""

    @abc.abstractmethod
    def execute(self, sql: str, rows: Sequence[Sequence[Any]] = ((),)) -> None:
        """See `database.Changing`."""

    @abc.abstractmethod
    def row(self, table: str, alias: str) -> str:
        """See `database.Reader`."""

    @abc.abstractmethod
    def text(self, expression: str) -> str:
        """See `database.Reader`."""

    @abc.abstractmethod
    def facts(self, table: str) -> TableFacts | None:
        """See `database.Reader`."""

    @abc.abstractmethod
    def kept(self, expression: str) -> str:
        """A value as `kerfmark_changes` keeps it."""

    @abc.abstractmethod
    def given_back(self, table: str, column: str, expression: str) -> str:
        """A value that `kerfmark_changes` keeps, as a column takes it."""

    @abc.abstractmethod
    def same(self, one: str, other: str) -> str:
        """The condition that two expressions are the same, or both blank."""

    @abc.abstractmethod
    def fill_sought(self, table: str, columns: Sequence[tuple[str, pa.Array]], numbers: np.ndarray) -> None:
        """Makes the temporary table: a number `n`, and columns c0, c1 ..., each typed like a column of the table ("": a number)."""

    @abc.abstractmethod
    def update(self, table: str, column: str, value: str, others: str, condition: str) -> None:
        """Gives a column of a table, called t, the value of an expression over `others`, where a condition holds."""

    @contextlib.contextmanager
    def _seeking(self, table: str, columns: Sequence[tuple[str, pa.Array]]) -> Iterator[None]:
        self.fill_sought(table, columns, np.arange(len(columns[0][1])))
        try:
            yield
        finally:
            with contextlib.suppress(Exception):        # where the transaction has failed it is gone already
                self.execute(f"{self.drop} {self.sought}")

    def at_row(self, table: str, number: str) -> str:
        """Joins a table, called t, at the row of a number."""
        return f"{self.outer_first} {quote(table)} AS t ON {self.row(table, 't')} = {number}"

    def match(self, table: str, columns: Mapping[str, pa.Array]) -> np.ndarray:
        """See `database.Changing`."""
        rows = len(next(iter(columns.values())))
        out = np.full(rows, -1, np.int64)
        if not rows:
            return out
        with self._seeking(table, list(columns.items())):
            same = " AND ".join(f"t.{quote(c)} = k.c{i}" for i, c in enumerate(columns))
            found = self.ask(f"SELECT k.n, {self.row(table, 't')} FROM {self.sought} AS k "
                             f"{self.outer_first} {quote(table)} AS t ON {same}")
        for n, row in found:
            out[n] = row
        return out

    def differing(self, table: str, rows: np.ndarray, columns: Mapping[str, pa.Array]) -> dict[str, np.ndarray]:
        """See `database.Changing`."""
        out = {c: np.zeros(len(rows), bool) for c in columns}
        names = list(columns) if len(rows) else []
        for start in range(0, len(names), _BITS):
            some = names[start:start + _BITS]
            with self._seeking(table, [("", pa.array(rows)), *((c, columns[c]) for c in some)]):
                bits = " + ".join(f"CASE WHEN {self.same(f't.{quote(c)}', f'k.c{i + 1}')} THEN 0 ELSE {1 << i} END"
                                  for i, c in enumerate(some))
                found = self.ask(f"SELECT k.n, {bits} FROM {self.sought} AS k {self.at_row(table, 'k.c0')}")
            for n, mask in found:
                for i, c in enumerate(some):
                    out[c][n] = bool(int(mask) >> i & 1)
        return out

    def texts(self, table: str, column: str, rows: Sequence[int]) -> dict[int, str | None]:
        """See `database.Changing`."""
        out: dict[int, str | None] = {}
        row = self.row(table, "t")
        for start in range(0, len(rows), 500):
            numbers = ", ".join(map(str, rows[start:start + 500]))
            out |= {int(n): said for n, said in self.ask(
                f"SELECT {row}, COALESCE({self.text(f't.{quote(column)}')}, '') FROM {quote(table)} AS t "
                f"WHERE {row} IN ({numbers})")}
        return out

    def known_texts(self, table: str, column: str, most: int) -> list[str]:
        """See `database.Changing`."""
        return [r[0] for r in self.ask(f"SELECT DISTINCT {self.text(quote(column))} FROM {quote(table)} "
                                       f"WHERE {quote(column)} IS NOT NULL LIMIT {most}")]

    def change(self, table: str, load: int, rows: np.ndarray, column: str, values: pa.Array) -> None:
        """See `database.Changing`."""
        c = f"t.{quote(column)}"
        with self._seeking(table, [("", pa.array(rows)), (column, values)]):
            self.execute(f'INSERT INTO kerfmark_changes (load_id, table_name, "row", column_name, "before", "after") '
                         f"SELECT {load}, {literal(table)}, k.c0, {literal(column)}, {self.kept(c)}, {self.kept('k.c1')} "
                         f"FROM {self.sought} AS k {self.at_row(table, 'k.c0')}")
            self.update(table, column, "k.c1", f"{self.sought} AS k", f"{self.row(table, 't')} = k.c0")

    def loose_ends(self, table: str, first: int) -> list[str]:
        """See `database.Changing`."""
        facts, out = self.facts(table), []
        for link in facts.links if facts else ():
            pairs = list(zip(link.columns, link.key, strict=True))
            there = " AND ".join(f"p.{quote(key)} = t.{quote(own)}" for own, key in pairs)
            filled = " AND ".join(f"t.{quote(own)} IS NOT NULL" for own, _ in pairs)
            if self.ask(f"SELECT 1 FROM {quote(table)} AS t WHERE {self.row(table, 't')} >= {first} AND {filled} AND NOT EXISTS "
                        f"(SELECT 1 FROM {quote(link.to)} AS p WHERE {there}) LIMIT 1"):
                out.append(" + ".join(own for own, _ in pairs))
        return out

    # -- taking back

    def _changed(self, load: int, table: str, column: str) -> str:
        return (f"kerfmark_changes AS k WHERE k.load_id = {load} AND k.table_name = {literal(table)} "
                f"AND k.column_name = {literal(column)}")

    def changed_again(self, load: int, table: str, column: str, later: Sequence[int]) -> int:
        """See `database.Changing`."""
        if not later:
            return 0
        found = self.ask(
            "SELECT DISTINCT o.load_id FROM kerfmark_changes AS o JOIN "
            f"{self._changed(load, table, column).replace(' WHERE', ' ON')} "
            f'AND o.table_name = k.table_name AND o.column_name = k.column_name AND o."row" = k."row" '
            f"WHERE o.load_id IN ({', '.join(map(str, later))})")
        return int(found[0][0]) if found else 0

    def still_so(self, load: int, table: str, column: str) -> tuple[int, int]:
        """See `database.Changing`."""
        mine = self._changed(load, table, column)
        now = self.same(self.kept(f"t.{quote(column)}"), 'k."after"')
        return tuple(int(self.ask(f"SELECT COUNT(*) FROM {mine}{more}")[0][0]) for more in (  # type: ignore[return-value]
            "", f" AND EXISTS (SELECT 1 FROM {quote(table)} AS t WHERE {self.row(table, 't')} = k.\"row\" AND {now})"))

    def restore(self, load: int, table: str, column: str) -> None:
        """See `database.Changing`."""
        others, mine = self._changed(load, table, column).split(" WHERE ", 1)
        self.update(table, column, self.given_back(table, column, 'k."before"'), others,
                    f'{mine} AND {self.row(table, "t")} = k."row"')

    def needed(self, table: str, first: int, last: int, child: str, pairs: Sequence[tuple[str, str]]) -> list[tuple[int, int]]:
        """See `database.Changing`."""
        same = " AND ".join(f"p.{quote(key)} = c.{quote(own)}" for own, key in pairs)
        row, by = self.row(table, "p"), self.row(child, "c")
        mine = f"BETWEEN {first} AND {last}"
        own_rows = f" AND NOT ({by} {mine})" if child.lower() == table.lower() else ""
        return [(int(r[0]), int(r[1])) for r in self.ask(
            f"SELECT {row}, MIN({by}) FROM {quote(table)} AS p JOIN {quote(child)} AS c ON {same} WHERE {row} {mine}{own_rows} "
            f"GROUP BY {row}")]

    def remove(self, table: str, first: int, last: int, keep: Sequence[int]) -> int:
        """See `database.Changing`."""
        row = self.row(table, quote(table))
        those = f"{row} BETWEEN {first} AND {last}" + (f" AND {row} NOT IN ({', '.join(map(str, sorted(keep)))})" if keep else "")
        gone = int(self.ask(f"SELECT COUNT(*) FROM {quote(table)} WHERE {those}")[0][0])
        every = not keep and gone == int(self.ask(f"SELECT COUNT(*) FROM {quote(table)}")[0][0])
        self.execute(f"DELETE FROM {quote(table)}" + ("" if every else f" WHERE {those}"))     # all at once is much quicker
        return gone
