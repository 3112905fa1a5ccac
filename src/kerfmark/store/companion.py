"""Companion tables: they number the rows of tables whose records have a key of their own.

Servers do not number rows. A row is called by its generated key; where there is none, a small
companion table numbers the rows. It follows its table by a foreign key, so that nobody has to look
after it.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import TYPE_CHECKING

from kerfmark.own_tables import COMPANIONS
from kerfmark.store.names import INDEX_NAME, fit_name
from kerfmark.store.quoting import quote

if TYPE_CHECKING:
    import pyarrow as pa

    from kerfmark.layout.model import Layout
    from kerfmark.store.interface import Reader

NUMBER = "kerfmark_row"
"""The column of a companion table that numbers the rows."""


def companion(table: str) -> str:
    """The table that numbers the rows of one whose records have a key of their own."""
    return fit_name(f"{COMPANIONS}{table}", INDEX_NAME)


def natural_keys(layout: Layout) -> dict[str, list[str]]:
    """The tables whose records have a key of their own, and its columns."""
    return {t: layout.key_columns(t) for t in layout.tables if not layout.has_generated_key(t)}


def companions(reader: Reader, layout: Layout) -> list[str]:
    """The companions of the tables of a layout; of tables that somebody else made, all that an
    earlier layout may have needed, too."""
    if not layout.existing:
        return [*map(companion, natural_keys(layout))]
    return [c for c in map(companion, reader.tables()) if reader.facts(c)]


def with_companion(
    batches: Iterable[pa.RecordBatch], keys: Sequence[str], mine: list[pa.RecordBatch]
) -> Iterator[pa.RecordBatch]:
    """The same batches; the rows that number theirs from 1 are gathered in `mine`, where there are
    `keys` to know them by."""
    first = 1
    for batch in batches:
        if keys:
            mine.append(numbered_keys(batch, keys, first))
        first += batch.num_rows
        yield batch


def numbered_keys(batch: pa.RecordBatch, keys: Sequence[str], first: int) -> pa.RecordBatch:
    """The rows of a companion for rows of its table, numbered from `first`."""
    import numpy as np
    import pyarrow as pa

    numbers = pa.array(np.arange(first, first + batch.num_rows, dtype=np.int64))
    return pa.RecordBatch.from_arrays(
        [numbers, *(batch.column(k) for k in keys)], names=[NUMBER, *keys]
    )


def companion_keys(table: str, numbers: str, keys: Sequence[str]) -> str:
    """The keys of a companion (called `numbers`) of a table, as the statement that adds them."""
    own = ", ".join(map(quote, keys))
    return (
        f"ALTER TABLE {quote(numbers)} ADD PRIMARY KEY ({NUMBER}), ADD UNIQUE ({own}), "
        f"ADD FOREIGN KEY ({own}) REFERENCES {quote(table)} ({own}) ON UPDATE CASCADE ON DELETE "
        "CASCADE"
    )
