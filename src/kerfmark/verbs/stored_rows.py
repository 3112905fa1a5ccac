"""The rows of a source as a database gives them back, where the file that they came from is
gone."""

from __future__ import annotations

from collections.abc import Callable, Generator, Sequence
from typing import Any, TypeVar

import numpy as np
import pyarrow as pa

from kerfmark.errors import Origin
from kerfmark.ledger.account import expanded, read_says
from kerfmark.ledger.records import MAKERS, LoadedFile
from kerfmark.profile.convert import to_text
from kerfmark.progress import Progress
from kerfmark.read.source import Batches, Found, Piece, RowRules
from kerfmark.read.text_style import TextStyle
from kerfmark.store.interface import Reader
from kerfmark.store.quoting import quote
from kerfmark.verbs.export_rows import Inside, rows_of_source

T = TypeVar("T")


class StoredSource:
    """Rows of a source that a database has given back (see `read.source.Source`)."""

    spells_numbers = False
    how = "from the database"

    def __init__(self, name: str, headers: Sequence[str], rows: pa.Table, file: LoadedFile) -> None:
        self.name, self.headers, self._rows, self._file = name, tuple(headers), rows, file
        self.location, self.rules, self.may_be_empty = file.file, RowRules(), True

    def origin(self, header: str | None = None) -> Origin:
        """The place of a column."""
        return Origin(self._file.file, column=header)

    def settings(self) -> dict[str, Any]:
        """It is read from the database."""
        return {}

    def map_batches(
        self, work: Callable[[pa.RecordBatch], T], *, workers: int = 2, strict: bool = True
    ) -> Batches:
        """Applies `work` to every batch of rows."""
        return Batches(self._pieces(work))

    def _pieces(self, work: Callable[[pa.RecordBatch], T]) -> Generator[Piece, None, Found]:
        first = 0
        for batch in self._rows.to_batches():
            yield Piece(first, batch.num_rows, work(batch))
            first += batch.num_rows
        style = TextStyle.from_dict(self._file.style)
        return Found(self._file.fingerprint, self._file.bytes, self._place, style=style)

    def _place(self, record: int | None, header: str | None) -> Origin:
        return Origin(self._file.file, row=None if record is None else record + 1, column=header)


def stored_rows(
    reader: Reader, inside: Inside, source: str, files: Sequence[LoadedFile], progress: Progress
) -> dict[int, StoredSource]:
    """The rows of a source in the texts of its files, by the load that they came with."""
    assert inside.layout is not None
    rows, _, _ = rows_of_source(reader, inside, source)
    base = inside.layout.base_of(source)
    number = reader.row(base, quote(base))
    numbers: list[np.ndarray] = []
    batches: list[pa.RecordBatch] = []
    for batch in rows.batches(reader, progress, [number]):
        numbers.append(batch.column(0).to_numpy(zero_copy_only=False))
        texts = [to_text(batch.column(i + 1), type_) for i, type_ in enumerate(rows.table.types)]
        batches.append(pa.RecordBatch.from_arrays(texts, [str(i) for i in range(len(texts))]))
    names = [str(i) for i in range(len(rows.table.columns))]
    whole = pa.Table.from_batches(batches, pa.schema([(n, pa.string()) for n in names]))
    of_row = np.concatenate(numbers) if numbers else np.empty(0, np.int64)
    out: dict[int, StoredSource] = {}
    for load in dict.fromkeys(f.load for f in files):
        says = [s for s in read_says(reader, [load], [base]) if s.role in MAKERS]
        mine = np.flatnonzero(np.isin(of_row, expanded([(s.first, s.last) for s in says])))
        file = next(f for f in files if f.load == load)
        out[load] = StoredSource(source, rows.table.columns, whole.take(pa.array(mine)), file)
    return out
