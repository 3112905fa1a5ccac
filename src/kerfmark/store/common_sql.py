"""What the engines have in common: changing the rows of a database that is there, in the SQL that
all of them have.

What is looked for goes into a temporary table, as whole columns, and is joined; nothing is asked
row by row. Each engine says in its own module how it spells what they do not share.
"""

from __future__ import annotations

import abc
import contextlib
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import numpy as np
import pyarrow as pa

from kerfmark.store.interface import TableFacts
from kerfmark.store.quoting import literal, quote

SOUGHT = "kerfmark_sought"
_PASSING = 9
"""How values on their way to a column are told apart in `kerfmark_changes`."""
_RANGES = 400
"""Ranges of rows named in one statement."""
_BITS = 60
"""Columns compared in one query: each is a bit of a number."""


class SharedSql(abc.ABC):
    """The part of `interface.Changing` that is the same for every engine."""

    sought = SOUGHT
    drop = "DROP TABLE"
    """How a temporary table is taken away."""
    outer_first = "JOIN"
    """A join that begins with its left side."""

    @abc.abstractmethod
    def ask(self, sql: str) -> Sequence[Sequence[Any]]:
        """See `interface.Reader`."""

    @abc.abstractmethod
    def execute(self, sql: str) -> None:
        """See `interface.Changing`."""

    @abc.abstractmethod
    def row(self, table: str, alias: str) -> str:
        """See `interface.Reader`."""

    @abc.abstractmethod
    def text(self, expression: str) -> str:
        """See `interface.Reader`."""

    @abc.abstractmethod
    def facts(self, table: str) -> TableFacts | None:
        """See `interface.Reader`."""

    @abc.abstractmethod
    def is_numbered(self, table: str) -> bool:
        """Whether the rows of a table have numbers."""

    @abc.abstractmethod
    def exact(self, expression: str) -> str:
        """See `interface.Reader`."""

    @abc.abstractmethod
    def record_changes(
        self, table: str, column: str, rows: Sequence[tuple[int, int, str | None, str | None, int]]
    ) -> None:
        """See `interface.Changing`."""

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
    def fill_sought(
        self, table: str, columns: Sequence[tuple[str, pa.Array]], numbers: np.ndarray
    ) -> None:
        """Makes the temporary table: a number `n`, and columns c0, c1 ..., each typed like a column
        of the table ("": a number)."""

    @abc.abstractmethod
    def update(self, table: str, column: str, value: str, others: str, condition: str) -> None:
        """Gives a column of a table, called t, the value of an expression over `others`, where a
        condition holds."""

    @contextlib.contextmanager
    def _seeking(self, table: str, columns: Sequence[tuple[str, pa.Array]]) -> Iterator[None]:
        self.fill_sought(table, columns, np.arange(len(columns[0][1])))
        try:
            yield
        finally:
            with contextlib.suppress(
                Exception
            ):  # where the transaction has failed it is gone already
                self.execute(f"{self.drop} {self.sought}")

    def at_row(self, table: str, number: str) -> str:
        """Joins a table, called t, at the row of a number."""
        return f"{self.outer_first} {quote(table)} AS t ON {self.row(table, 't')} = {number}"

    def match(self, table: str, columns: Mapping[str, pa.Array]) -> np.ndarray:
        """See `interface.Changing`."""
        rows = len(next(iter(columns.values())))
        out = np.full(rows, -1, np.int64)
        if not rows:
            return out
        with self._seeking(table, list(columns.items())):
            same = " AND ".join(f"t.{quote(c)} = k.c{i}" for i, c in enumerate(columns))
            found = self.ask(
                f"SELECT k.n, {self.row(table, 't')} FROM {self.sought} AS k "
                f"{self.outer_first} {quote(table)} AS t ON {same}"
            )
        for n, row in found:
            out[n] = row
        return out

    def count_matches(self, table: str, columns: Mapping[str, pa.Array]) -> np.ndarray:
        """See `interface.Changing`."""
        out = np.zeros(len(next(iter(columns.values()))), np.int64)
        if len(out):
            with self._seeking(table, list(columns.items())):
                same = " AND ".join(f"t.{quote(c)} = k.c{i}" for i, c in enumerate(columns))
                found = self.ask(
                    f"SELECT k.n, COUNT(*) FROM {self.sought} AS k {self.outer_first} "
                    f"{quote(table)} AS t ON {same} "
                    "GROUP BY k.n"
                )
            for n, count in found:
                out[n] = count
        return out

    def matching_rows(
        self, table: str, columns: Mapping[str, pa.Array]
    ) -> tuple[np.ndarray, np.ndarray]:
        """See `interface.Changing`."""
        found: Sequence[Sequence[Any]] = ()
        if len(next(iter(columns.values()))):
            with self._seeking(table, list(columns.items())):
                same = " AND ".join(f"t.{quote(c)} = k.c{i}" for i, c in enumerate(columns))
                found = self.ask(
                    f"SELECT k.n, {self.row(table, 't')} FROM {self.sought} AS k JOIN "
                    f"{quote(table)} AS t ON {same}"
                )
        both = np.array([(int(n), int(row)) for n, row in found], np.int64).reshape(-1, 2)
        return both[:, 0], both[:, 1]

    def differing(
        self, table: str, rows: np.ndarray, columns: Mapping[str, pa.Array]
    ) -> dict[str, np.ndarray]:
        """See `interface.Changing`."""
        out = {c: np.zeros(len(rows), bool) for c in columns}
        names = list(columns) if len(rows) else []
        for start in range(0, len(names), _BITS):
            some = names[start : start + _BITS]
            with self._seeking(table, [("", pa.array(rows)), *((c, columns[c]) for c in some)]):
                bits = " + ".join(
                    f"CASE WHEN {self.same(f't.{quote(c)}', f'k.c{i + 1}')} THEN 0 ELSE {1 << i} "
                    "END"
                    for i, c in enumerate(some)
                )
                found = self.ask(
                    f"SELECT k.n, {bits} FROM {self.sought} AS k {self.at_row(table, 'k.c0')}"
                )
            for n, mask in found:
                for i, c in enumerate(some):
                    out[c][n] = bool(int(mask) >> i & 1)
        return out

    def texts(self, table: str, column: str, rows: Sequence[int]) -> dict[int, str | None]:
        """See `interface.Changing`."""
        out: dict[int, str | None] = {}
        row = self.row(table, "t")
        for start in range(0, len(rows), 500):
            numbers = ", ".join(map(str, rows[start : start + 500]))
            out |= {
                int(n): said
                for n, said in self.ask(
                    f"SELECT {row}, COALESCE({self.text(f't.{quote(column)}')}, '') FROM "
                    f"{quote(table)} AS t "
                    f"WHERE {row} IN ({numbers})"
                )
            }
        return out

    def parent_rows(
        self, table: str, pairs: Sequence[tuple[str, str]], to: str, rows: Sequence[int]
    ) -> dict[int, int]:
        """See `interface.Changing`."""
        out: dict[int, int] = {}
        row, parent = self.row(table, "t"), self.row(to, "p")
        same = " AND ".join(f"p.{quote(key)} = t.{quote(own)}" for own, key in pairs)
        for start in range(0, len(rows), 500):
            numbers = ", ".join(map(str, rows[start : start + 500]))
            out |= {
                int(n): int(there)
                for n, there in self.ask(
                    f"SELECT {row}, {parent} FROM {quote(table)} AS t JOIN {quote(to)} AS p ON "
                    f"{same} WHERE {row} IN ({numbers})"
                )
            }
        return out

    def sample_texts(self, table: str, column: str, most: int) -> list[str]:
        """See `interface.Changing`."""
        return [
            r[0]
            for r in self.ask(
                f"SELECT DISTINCT {self.text(quote(column))} FROM {quote(table)} "
                f"WHERE {quote(column)} IS NOT NULL LIMIT {most}"
            )
        ]

    def update_values(
        self,
        table: str,
        load: int,
        rows: np.ndarray,
        column: str,
        values: pa.Array,
        *,
        keep: bool = False,
    ) -> None:
        """See `interface.Changing`."""
        c = f"t.{quote(column)}"
        with self._seeking(table, [("", pa.array(rows)), (column, values)]):
            self.execute(
                'INSERT INTO kerfmark_changes (load_id, table_name, "row", column_name, "before", '
                "said, kept) "
                f"SELECT {load}, {literal(table)}, k.c0, {literal(column)}, {self.kept(c)}, "
                f"{self.kept('k.c1')}, "
                f"{int(keep)} FROM {self.sought} AS k {self.at_row(table, 'k.c0')}"
            )
            if not keep:
                self.update(
                    table, column, "k.c1", f"{self.sought} AS k", f"{self.row(table, 't')} = k.c0"
                )

    def broken_links_from(self, table: str, first: int) -> list[str]:
        """See `interface.Changing`."""
        facts, out = self.facts(table), []
        for link in facts.links if facts else ():
            pairs = list(zip(link.columns, link.key, strict=True))
            there = " AND ".join(f"p.{quote(key)} = t.{quote(own)}" for own, key in pairs)
            filled = " AND ".join(f"t.{quote(own)} IS NOT NULL" for own, _ in pairs)
            if self.ask(
                f"SELECT 1 FROM {quote(table)} AS t WHERE {self.row(table, 't')} >= {first} AND "
                f"{filled} AND NOT EXISTS "
                f"(SELECT 1 FROM {quote(link.to)} AS p WHERE {there}) LIMIT 1"
            ):
                out.append(" + ".join(own for own, _ in pairs))
        return out

    # -- taking back

    def exact_values(self, table: str, column: str, rows: np.ndarray) -> list[str | None]:
        """See `interface.Changing`."""
        out: list[str | None] = [None] * len(rows)
        with self._seeking(table, [("", pa.array(rows))]):
            for n, value in self.ask(
                f"SELECT k.n, {self.exact(f't.{quote(column)}')} FROM {self.sought} AS k "
                f"{self.at_row(table, 'k.c0')}"
            ):
                out[int(n)] = value
        return out

    def restore_values(
        self, table: str, load: int, column: str, rows: Sequence[int], values: Sequence[str | None]
    ) -> None:
        """See `interface.Changing`. The values go by way of `kerfmark_changes`, which takes any."""
        self.record_changes(
            table,
            column,
            [(load, row, None, value, _PASSING) for row, value in zip(rows, values, strict=True)],
        )
        passing = f"k.load_id = {load} AND k.kept = {_PASSING}"
        self.update(
            table,
            column,
            self.given_back(table, column, "k.said"),
            "kerfmark_changes AS k",
            f'{passing} AND {self.row(table, "t")} = k."row"',
        )
        self.execute(f"DELETE FROM kerfmark_changes WHERE load_id = {load} AND kept = {_PASSING}")

    def delete_changes(
        self, table: str, column: str, loads: Sequence[int], rows: Sequence[tuple[int, int]]
    ) -> None:
        """See `interface.Changing`."""
        for start in range(0, len(rows), _RANGES):
            ranges = " OR ".join(
                f'"row" BETWEEN {a} AND {b}' for a, b in rows[start : start + _RANGES]
            )
            self.execute(
                f"DELETE FROM kerfmark_changes WHERE load_id IN ({', '.join(map(str, loads))}) AND "
                "table_name = "
                f"{literal(table)} AND column_name = {literal(column)} AND ({ranges})"
            )

    def referring_rows(
        self, table: str, rows: np.ndarray, child: str, pairs: Sequence[tuple[str, str]]
    ) -> list[tuple[int, int]]:
        """See `interface.Changing`."""
        if not len(rows):
            return []
        same = " AND ".join(f"t.{quote(key)} = c.{quote(own)}" for own, key in pairs)
        by = self.row(child, "c") if self.is_numbered(child) else "0"
        itself = child.lower() == table.lower()
        with self._seeking(table, [("", pa.array(rows))]):
            found = self.ask(
                f"SELECT k.c0, {by if itself else f'MIN({by})'} FROM {self.sought} AS k "
                f"{self.at_row(table, 'k.c0')} "
                f"{self.outer_first} {quote(child)} AS c ON {same}"
                + ("" if itself else " GROUP BY k.c0")
            )
        going = set(rows.tolist()) if itself else set()
        return [(int(r[0]), int(r[1])) for r in found if int(r[1]) not in going]

    def delete_rows(self, table: str, rows: np.ndarray) -> int:
        """See `interface.Changing`."""
        row = self.row(table, quote(table))
        if not len(rows):
            return 0
        count = f"SELECT COUNT(*) FROM {quote(table)}"
        before = int(self.ask(count)[0][0])
        if len(rows) == rows[-1] - rows[0] + 1:
            those = f"{row} BETWEEN {rows[0]} AND {rows[-1]}"
            every = before == int(self.ask(f"{count} WHERE {those}")[0][0])
            self.execute(
                f"DELETE FROM {quote(table)}" + ("" if every else f" WHERE {those}")
            )  # all at once is much quicker
        else:
            with self._seeking(table, [("", pa.array(rows))]):
                self.execute(
                    f"DELETE FROM {quote(table)} WHERE {row} IN (SELECT c0 FROM {self.sought})"
                )
        return before - int(self.ask(count)[0][0])
