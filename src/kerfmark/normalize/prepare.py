"""The rows of a source as its layout wants them: without what means a blank, without rows that
are left out or set aside, and with every column treated, typed or derived. Both the splitting and
the proof begin here, and go separate ways after it."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark import memory
from kerfmark.errors import Origin
from kerfmark.layout.expression import Node, parse_expression
from kerfmark.layout.model import ColumnSpec, Layout
from kerfmark.layout.validation import types_of
from kerfmark.normalize.evaluate import as_type, combinations, evaluate
from kerfmark.normalize.transform import to_column_type, transformed
from kerfmark.profile.codes import first_rows, gather
from kerfmark.profile.columns import EncodedColumn, by_first_appearance
from kerfmark.profile.encode import EncodedSource
from kerfmark.profile.spilled import MANY, number_texts

Cells = tuple[pa.Array, np.ndarray]
"""Typed values, and a code per row (-1: blank)."""
_PLAIN = ColumnSpec(header="-")


class Prepared:
    """A source that is ready to be split. Rows are counted from 0 among those that remain; `record`
    gives back where they stood."""

    def __init__(
        self, layout: Layout, name: str, encoded: EncodedSource, without: np.ndarray | None = None
    ) -> None:
        self.layout, self.name = layout, name
        spec = layout.sources[name]
        self.encoded = encoded.trimmed(spec.trim).with_blanks(spec.blanks)
        if without is not None and len(without):
            numbers = np.arange(encoded.rows) if encoded.records is None else encoded.records
            self.encoded = self.encoded.pick(~np.isin(numbers, without))
        self.left_out_records = np.empty(0, np.int64)
        self._treated: dict[tuple[str, str], EncodedColumn] = {}
        self._typed: dict[tuple[str, str], pa.Array] = {}
        self._nodes: dict[str, Node] = {}
        self._specs = dict(_specs(layout, name))
        base = layout.tables[layout.base_of(name)]
        if base.only_rows:
            keep = self.holds(base.only_rows)
            dropped = np.flatnonzero(~keep)
            self.left_out_records = (
                dropped if self.encoded.records is None else self.encoded.records[dropped]
            )
            self.encoded = self.encoded.pick(keep)
            self._treated.clear()
            self._typed.clear()

    @property
    def left_out(self) -> int:
        """How many rows the layout wants no record of."""
        return len(self.left_out_records)

    @property
    def rows(self) -> int:
        """How many rows there are."""
        return self.encoded.rows

    def origin(self, row: int | None, header: str | None) -> Origin:
        """The place of a row and column."""
        return self.encoded.origin(row, header)

    def column(self, header: str, spec: ColumnSpec = _PLAIN) -> EncodedColumn:
        """A column as the layout wants its texts."""
        if not spec.treats:
            return self.encoded.column(header)
        key = header, repr((spec.clean, spec.means, spec.default))
        if key not in self._treated:
            self._treated[key] = transformed(self.encoded.column(header), spec)
        return self._treated[key]

    def typed(self, header: str, spec: ColumnSpec) -> pa.Array:
        """The distinct values of a column in its type; null where one does not fit."""
        column = self.column(header, spec)
        if not spec.unit:
            return column.typed(spec.of_type)
        key = header, spec.unit + spec.type
        if key not in self._typed:
            self._typed[key] = to_column_type(column.values, spec)
        return self._typed[key]

    def cells(self, header: str, spec: ColumnSpec) -> Cells:
        """A column's distinct values and the code of each row, so that equal values have equal
        codes."""
        values, codes = self.typed(header, spec), self.column(header, spec).codes
        if self.column(header, spec).known_type == spec.of_type and not spec.unit:
            return values, codes  # ascending numbers: each is there once
        return (
            _distinct(values, codes)
            if spec.of_type.kind != "text" or spec.unit
            else (values, codes)
        )

    def derived(self, spec: ColumnSpec) -> tuple[Cells, np.ndarray]:
        """The values that an expression gives, as `cells`; and the rows whose value does not fit
        the column's type."""
        node = self._node(spec.derived)
        whole, combination = self._evaluated(node)
        fitted = as_type(whole, spec.of_type)
        lost = (fitted.is_null().to_numpy(zero_copy_only=False)) & whole.is_valid().to_numpy(
            zero_copy_only=False
        )
        rows = np.flatnonzero(lost[combination]) if lost.any() else np.empty(0, np.int64)
        codes = np.where(
            fitted.is_null().to_numpy(zero_copy_only=False), -1, np.arange(len(fitted))
        )[combination]
        return by_first_appearance(*_distinct(fitted, codes.astype(np.int32))), rows

    def derived_of_parts(
        self, spec: ColumnSpec, header: str, parts: pa.StringArray
    ) -> tuple[Cells, np.ndarray]:
        """The values that an expression gives for the parts of a column's cells, as `cells`; and
        the parts whose value does not fit the column's type."""
        node = self._node(spec.derived)
        whole = evaluate(node, {h: parts for h in node.headers() if h == header}, len(parts))
        fitted = as_type(whole, spec.of_type)
        blank = fitted.is_null().to_numpy(zero_copy_only=False)
        lost = np.flatnonzero(blank & whole.is_valid().to_numpy(zero_copy_only=False))
        return _distinct(fitted, np.where(blank, -1, np.arange(len(parts))).astype(np.int32)), lost

    def holds(self, expression: str) -> np.ndarray:
        """For which rows an expression is true; a blank is not."""
        whole, combination = self._evaluated(self._node(expression))
        found: np.ndarray = pc.fill_null(whole, False).to_numpy(zero_copy_only=False)[combination]
        return found

    def _node(self, expression: str) -> Node:
        if expression not in self._nodes:
            self._nodes[expression] = parse_expression(expression, types_of(self.layout, self.name))
        return self._nodes[expression]

    def _evaluated(self, node: Node) -> tuple[pa.Array, np.ndarray]:
        """The values of an expression for each combination of its columns, and the combination of
        each row."""
        headers = list(dict.fromkeys(node.headers()))
        if not headers:
            return evaluate(node, {}, 1), np.zeros(self.rows, np.int64)
        columns = [
            (
                self.typed(h, self._specs.get(h, _PLAIN)),
                self.column(h, self._specs.get(h, _PLAIN)).codes,
            )
            for h in headers
        ]
        combination, first = combinations([c for _, c in columns], [len(v) for v, _ in columns])
        chosen = {
            h: v.take(pa.array(c[first], mask=c[first] < 0))
            for h, (v, c) in zip(headers, columns, strict=True)
        }
        return evaluate(node, chosen, len(first)), combination

    def changed(self, header: str, spec: ColumnSpec) -> int:
        """How many cells of a column hold something else than the file says, because the layout
        wants it so."""
        if not spec.treats:
            return 0
        before, after = self.encoded.column(header), self.column(header, spec)
        texts = [c.values.take(pa.array(c.codes, mask=c.codes < 0)) for c in (before, after)]
        same = pc.fill_null(pc.equal(*texts), False)
        both = pc.and_(pc.is_null(texts[0]), pc.is_null(texts[1]))
        return int(len(both) - (pc.sum(pc.or_(same, both)).as_py() or 0))


def _specs(layout: Layout, source: str) -> Iterator[tuple[str, ColumnSpec]]:
    """The column in which each header of a source ends up."""
    headers = {h for t in layout.tables_of(source).values() for h in t.headers}
    for header in headers:
        column_at = layout.column_of(source, header)
        if column_at:
            yield header, _PLAIN if column_at[1].split else column_at[1]


def _distinct(values: pa.Array, codes: np.ndarray) -> Cells:
    """The same cells with every value there once."""
    if memory.scarce() and len(values) > MANY:
        where, count = number_texts(pc.cast(some, pa.string()) for some in memory.slices(values))
        if count + values.null_count == len(values):
            return values, codes
        return values.take(pa.array(first_rows(where, count))), gather(where, codes, blank=-1)
    encoded = values.dictionary_encode()
    if len(encoded.dictionary) + values.null_count == len(values):
        return values, codes
    where = encoded.indices.fill_null(-1).to_numpy(zero_copy_only=False)
    return encoded.dictionary, gather(np.append(where, -1).astype(np.int32), codes)
