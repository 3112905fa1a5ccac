"""How the SQL scripts of an engine are written: one record per engine, made in its package."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass

import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.store.ledger_schema import LedgerTypes
from kerfmark.store.sql_dialect import SqlDialect


def quoted_texts(values: pa.Array, before: str = "'") -> pa.Array:
    """Texts as SQL literals."""
    return pc.binary_join_element_wise(before, pc.replace_substring(values, "'", "''"), "'", "")


def pieced_texts(
    values: pa.Array, before: str, join: str, codes: Mapping[str, str], longest: int = 0
) -> pa.Array:
    """Texts as SQL literals in which some characters are written by their numbers: a client would
    take them, or the line that they begin, for something of its own. `codes` are these characters
    with how they are written (or strings that are cut in two, with nothing); a piece has `longest`
    characters at most (0: any number), and `join` is between pieces."""
    marks = re.compile("|".join(map(re.escape, codes)))
    odd = pc.match_substring_regex(values, marks.pattern)
    if longest:
        odd = pc.or_(odd, pc.greater(pc.utf8_length(values), longest))
    if not pc.any(odd).as_py():
        return quoted_texts(values, before)

    def pieces(text: str) -> Iterator[str]:
        at = 0
        for found in (*marks.finditer(text), None):
            end = len(text) if found is None else found.start()
            code = "" if found is None else codes[found[0]]
            if found is not None and not code:  # cut between its characters
                end += 1
            step = longest or max(end - at, 1)
            for start in range(at, end, step):
                part = text[start : min(start + step, end)]
                yield before + part.replace("'", "''") + "'"
            if code:
                yield code
            at = end if found is None or not code else found.end()

    return pa.array(
        [None if v is None else join.join(pieces(v)) or f"{before}'" for v in values.to_pylist()],
        pa.string(),
    )


@dataclass(frozen=True)
class ScriptStyle:
    """How scripts are written: the lines for the client at their `head`, the statements that they
    `begin` and `end` with, what ends a statement (`stop`), how values are spelled and what is
    between the `cells` of a row, and what comes before and after the rows of a table with a
    generated key ({table} and {key} are quoted names, {table_text} and {key_text} are for use
    within a literal, {rows} is the highest key). A column whose texts have at most `short_texts`
    characters is declared so (0: as any other).

    `ledger` spells the types of the ledger (None: there is none, since Kerfmark cannot work with
    the engine). `row_number` is the type of the numbers of rows that have no generated key (""; the
    engine numbers rows by itself). `in_folder`: the ledger names files as seen from the folder of
    the script.
    """

    dialect: Callable[[], SqlDialect]
    begin: tuple[str, ...]
    end: tuple[str, ...]
    head: str = ""
    booleans: tuple[str, str] = ("1", "0")
    text: Callable[[pa.Array], pa.Array] = quoted_texts
    moment: str = "'{}'"
    date: str = "'{}'"
    time: str = "'{}'"
    cells: str = ", "
    short_texts: int = 0
    before_rows: str = ""
    after_rows: str = ""
    stop: str = ";"
    row: str = "({})"
    between: str = ",\n"
    insert: str = "INSERT INTO {table} ({columns}) VALUES"
    ledger: LedgerTypes | None = None
    row_number: str = ""
    in_folder: bool = False
