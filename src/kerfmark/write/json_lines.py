"""JSON Lines: a record per line, its children nested in it where that is wanted. Records are put
together as whole columns of text.

A table of children comes sorted by the records that own them, as these come themselves; so both are
read side by side, and memory holds no more than what belongs to some records.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.profile.convert import one_after_the_other, to_text
from kerfmark.write.table import TableOut

_ESCAPES = (("\\", "\\\\"), ('"', '\\"'), ("\n", "\\n"), ("\r", "\\r"), ("\t", "\\t"))
_SMALL, _LARGE = 1 << 20, 16 << 20
"""Bytes of records with children that are made at once: more than the first, if that can be, and
less than the second."""
_CONTROL = r"[\x00-\x1f]"


@dataclass(frozen=True)
class Nested:
    """Rows with the number of the record that each belongs to (rising), and the children of each.
    `called` is what they are called in the record that they belong to."""

    called: str
    table: TableOut
    batches: Iterator[pa.RecordBatch]
    children: tuple[Nested, ...] = ()


class JsonLines:
    """A JSON Lines file that is being written."""

    def __init__(self, path: Path, table: TableOut, children: Sequence[Nested] = ()) -> None:
        self.table, self.rows = table, 0
        self._making = _Making(table, children)
        self._file = path.open("wb")

    def put(self, batch: pa.RecordBatch) -> None:
        """Writes rows of typed values; where there are children, the number of each record comes
        first."""
        for lines in self._making.records(batch):
            self._file.write(one_after_the_other(pc.binary_join_element_wise(lines, "\n", "")))
        self.rows += batch.num_rows

    def close(self) -> None:
        """Writes what is left."""
        self._file.close()


class _Making:
    """Makes JSON objects of the rows of a table. Those with children are made a few at a time: as
    many as keep memory small."""

    def __init__(self, table: TableOut, children: Sequence[Nested]) -> None:
        self.table, self.children = table, [_Reading(c) for c in children]
        self._step = 64

    def records(self, batch: pa.RecordBatch) -> Iterator[pa.StringArray]:
        """The rows of a batch, some at a time."""
        start = 0
        while start < batch.num_rows:
            some = batch.slice(start, self._step) if self.children else batch
            lines = _records(self.table, some, self.children)
            start += some.num_rows
            if lines.nbytes > _LARGE:
                self._step = max(1, self._step // 4)
            elif lines.nbytes < _SMALL:
                self._step *= 2
            yield lines


class _Reading:
    """Children that are read along with the records that own them."""

    def __init__(self, nested: Nested) -> None:
        self.nested = nested
        self._made = self._all()
        self._left: tuple[np.ndarray, pa.StringArray] | None = None

    def of(self, owners: np.ndarray) -> pa.StringArray:
        """The children of each of some owners, in their order, as a JSON array."""
        keys, texts = self._until(int(owners[-1]))
        where = np.searchsorted(keys, np.append(owners, np.iinfo(np.int64).max)).astype(np.int32)
        lists = pa.ListArray.from_arrays(pa.array(where), texts)
        return pc.binary_join_element_wise("[", pc.binary_join(lists, ", "), "]", "")

    def _all(self) -> Iterator[tuple[np.ndarray, pa.StringArray]]:
        making = _Making(self.nested.table, self.nested.children)
        for batch in self.nested.batches:
            owners, start = batch.column(0).to_numpy(zero_copy_only=False), 0
            for texts in making.records(batch.select(list(range(1, batch.num_columns)))):
                yield owners[start : start + len(texts)], texts
                start += len(texts)

    def _until(self, last: int) -> tuple[np.ndarray, pa.StringArray]:
        """What belongs to owners up to one."""
        keys, texts = [np.empty(0, np.int64)], [pa.array([], pa.string())]
        while (found := self._left or next(self._made, None)) is not None:
            here, those = found
            cut = int(np.searchsorted(here, last, "right"))
            keys.append(here[:cut])
            texts.append(those.slice(0, cut))
            self._left = None
            if cut < len(here):
                self._left = here[cut:], those.slice(cut)
                break
        return np.concatenate(keys), pa.concat_arrays(texts)


def _records(
    table: TableOut, batch: pa.RecordBatch, children: Sequence[_Reading]
) -> pa.StringArray:
    """Rows as JSON objects; with children, the number of each row comes before its cells."""
    cells = batch.columns[1:] if children else batch.columns
    pieces: list[pa.Array | str] = []
    for name, type_, values in zip(table.columns, table.types, cells, strict=True):
        texts = to_text(values, type_)
        if type_.kind == "real":
            texts = pc.if_else(pc.is_finite(values), texts, pa.scalar(None, pa.string()))
        elif type_.kind not in ("integer", "decimal", "boolean"):
            texts = _quoted(texts)
        pieces += [
            f"{', ' if pieces else '{'}{json.dumps(name, ensure_ascii=False)}: ",
            pc.fill_null(texts, "null"),
        ]
    if children and batch.num_rows:
        owners = batch.column(0).to_numpy(zero_copy_only=False)
        for child in children:
            pieces += [
                f", {json.dumps(child.nested.called, ensure_ascii=False)}: ",
                child.of(owners),
            ]
    return pc.binary_join_element_wise(*pieces, "}", "")


def _quoted(texts: pa.StringArray) -> pa.StringArray:
    """Texts as JSON strings."""
    for plain, escaped in _ESCAPES:
        texts = pc.replace_substring(texts, plain, escaped)
    if pc.any(pc.match_substring_regex(texts, _CONTROL)).as_py():
        texts = pa.array(
            [
                None if t is None else re.sub(_CONTROL, lambda m: f"\\u{ord(m[0]):04x}", t)
                for t in texts.to_pylist()
            ]
        )
    return pc.binary_join_element_wise('"', texts, '"', "")
