"""How the SQL scripts of an engine are written: one record per engine, made in its package."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.store.ledger_schema import LedgerTypes
from kerfmark.store.sql_dialect import SqlDialect


def quoted_texts(values: pa.Array, before: str = "'") -> pa.Array:
    """Texts as SQL literals."""
    return pc.binary_join_element_wise(before, pc.replace_substring(values, "'", "''"), "'", "")


@dataclass(frozen=True)
class ScriptStyle:
    """How scripts are written: what they `begin` and `end` with, what ends a statement (`stop`),
    how values are spelled, and what comes before and after the rows of a table with a generated key
    ({table} and {key} are quoted names, {table_text} and {key_text} are for use within a literal,
    {rows} is the highest key).

    `ledger` spells the types of the ledger (None: there is none, since Kerfmark cannot work with
    the engine). `row_number` is the type of the numbers of rows that have no generated key (""; the
    engine numbers rows by itself). `in_folder`: the ledger names files as seen from the folder of
    the script.
    """

    dialect: Callable[[], SqlDialect]
    begin: tuple[str, ...]
    end: tuple[str, ...]
    booleans: tuple[str, str] = ("1", "0")
    text: Callable[[pa.Array], pa.Array] = quoted_texts
    moment: str = "'{}'"
    date: str = "'{}'"
    before_rows: str = ""
    after_rows: str = ""
    stop: str = ";"
    row: str = "({})"
    between: str = ",\n"
    insert: str = "INSERT INTO {table} ({columns}) VALUES"
    ledger: LedgerTypes | None = None
    row_number: str = ""
    in_folder: bool = False
