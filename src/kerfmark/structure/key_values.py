"""The values of columns as texts that can be compared with those of other sources."""

from __future__ import annotations

from collections.abc import Mapping

import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.layout.model import ColumnSpec, Layout
from kerfmark.profile.columns import EncodedColumn
from kerfmark.profile.convert import to_text
from kerfmark.profile.encode import EncodedSource
from kerfmark.structure.header_words import called_like, helpful, looks_like_key, names_things

FEWEST = 3
"""Different values that a column must share with a key before that can mean anything."""
ENOUGH_ROWS = 20
"""Rows from which on a column that is different in each is no accident."""


class KeyValues:
    """The values of columns as one kind of text, so that any two can be compared."""

    def __init__(self, layout: Layout, encoded: Mapping[str, EncodedSource]) -> None:
        self.layout, self.encoded = layout, encoded
        self._texts: dict[tuple[str, str], pa.StringArray] = {}

    def column(self, source: str, header: str) -> EncodedColumn:
        return self.encoded[source].column(header)

    def tells_apart(self, source: str, spec: ColumnSpec) -> bool:
        """Whether a column of words, codes or numbers has a different value in every row, and that
        is no accident: the rows are many, or it is called like a key or a name."""
        column, header = self.column(source, spec.header), spec.header
        return (
            spec.of_type.kind in ("text", "integer")
            and len(column.values) == len(column.codes)
            and (
                len(column.codes) >= ENOUGH_ROWS
                or looks_like_key(header)
                or names_things(header)
                or called_like(header, source)
                or not helpful(header)
            )
        )

    def texts(self, source: str, header: str, spec: ColumnSpec) -> pa.StringArray:
        """The distinct values of a column, each spelled in one way; null for what has not its
        type."""
        if (source, header) not in self._texts:
            column = self.column(source, header)
            typed = column.typed(spec.of_type)
            plain = to_text(typed, spec.of_type)
            if spec.of_type.kind in ("date", "timestamp", "time"):
                plain = pc.cast(typed, pa.string())
            self._texts[source, header] = plain
        return self._texts[source, header]
