"""The numbers of new rows: never those of rows that a load names, and, when loads are made
again, those that the same records had before."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa

from kerfmark.layout.model import Layout
from kerfmark.ledger.account import expanded, read_says
from kerfmark.ledger.records import MAKERS, Ledger
from kerfmark.profile.codes import combine, first_rows
from kerfmark.store.interface import Changing, Reader
from kerfmark.store.quoting import quote


@dataclass
class Reserved:
    """Numbers that records had: by table, the natural keys (as `Reader.said` gives them, column by
    column) with the number of each; and by load and table, those of records without such a key, in
    their order."""

    keys: dict[str, tuple[list[list[Any]], np.ndarray]] = field(default_factory=dict)
    places: dict[int, dict[str, np.ndarray]] = field(default_factory=dict)

    @classmethod
    def of(cls, reader: Reader, layout: Layout, loads: Sequence[int]) -> Reserved:
        """Those of the records that some loads have made."""
        out = cls()
        says = [s for s in read_says(reader, loads) if s.role in MAKERS]
        for table, spec in layout.tables.items():
            mine = [s for s in says if s.table == table]
            if not mine or not layout.has_generated_key(table):
                continue
            if not spec.known_by or spec.known == "add":
                for load in loads:
                    out.places.setdefault(load, {})[table] = expanded(
                        [(s.first, s.last) for s in mine if s.load == load]
                    )
                continue
            numbers = expanded([(s.first, s.last) for s in mine])
            row = reader.row(table, "t")
            cells = ", ".join(
                reader.raw(f"t.{quote(c)}") for c in layout.stored_as(table, spec.known_by)
            )
            found = reader.ask(
                f"SELECT {row}, {cells} FROM {quote(table)} AS t WHERE {row} BETWEEN {numbers[0]} "
                f"AND {numbers[-1]}"
            )
            at = np.array([int(r[0]) for r in found], np.int64)
            ours = np.flatnonzero(np.isin(at, numbers)).tolist()
            out.keys[table] = (
                [[found[i][c + 1] for i in ours] for c in range(len(found[0]) - 1)]
                if found
                else [],
                at[ours],
            )
        return out


class Numbering:
    """Numbers for the new rows of a database. `made_again` is the load that is being made once more
    (0: none)."""

    def __init__(
        self,
        file: Changing,
        layout: Layout,
        ledger: Ledger,
        reserved: Reserved | None = None,
        made_again: int = 0,
    ) -> None:
        self.file, self.layout, self.reserved = file, layout, reserved or Reserved()
        self.places = self.reserved.places.get(made_again, {})
        self.said: dict[str, int] = {}
        if ledger.live:
            live = ", ".join(str(load.number) for load in ledger.live)
            self.said = {
                r[0]: int(r[1])
                for r in file.ask(
                    "SELECT table_name, MAX(last_row) FROM kerfmark_says WHERE load_id IN "
                    f"({live}) GROUP BY table_name"
                )
            }

    def free(self, table: str, keys: Sequence[pa.Array] | int) -> np.ndarray:
        """Numbers for new rows of a table: so many, or those with these natural keys."""
        count = keys if isinstance(keys, int) else len(keys[0])
        highest = self.file.last_row(table)
        if not self.layout.has_generated_key(
            table
        ):  # the engine, or a companion, counts these on by itself
            return highest + 1 + np.arange(count)
        kept = self.reserved.keys.get(table, ([], np.empty(0, np.int64)))[1]
        places = [p[table] for p in self.reserved.places.values() if table in p]
        start = (
            max(
                highest,
                self.said.get(table, 0),
                *(int(some.max(initial=0)) for some in (kept, *places)),
            )
            + 1
        )
        out = np.full(count, -1, np.int64)
        if table in self.places:
            mine = self.places[table][:count]
            out[: len(mine)] = mine
        elif len(kept) and not isinstance(keys, int):
            out = self._found_again(table, keys)
        new = np.flatnonzero(out < 0)
        out[new] = start + np.arange(len(new))
        return out

    def _found_again(self, table: str, keys: Sequence[pa.Array]) -> np.ndarray:
        """The number that a record with each of these natural keys had; -1 for none."""
        had, numbers = self.reserved.keys[table]
        codes, sizes = [], []
        for old, new in zip(had, keys, strict=True):
            both = pa.concat_arrays(
                [
                    self.file.from_engine(old, new.type),
                    new.combine_chunks() if isinstance(new, pa.ChunkedArray) else new,
                ]
            ).dictionary_encode()
            codes.append(both.indices.fill_null(-1).to_numpy(zero_copy_only=False))
            sizes.append(len(both.dictionary))
        mixed, size = combine(codes, sizes, blanks=True)
        first = first_rows(mixed[: len(numbers)], size, -1)
        at = first[mixed[len(numbers) :]]
        out: np.ndarray = np.where(at >= 0, numbers[at], -1)
        _, once = np.unique(out, return_index=True)
        again = np.ones(len(out), bool)
        again[once] = False
        out[again] = -1
        return out
