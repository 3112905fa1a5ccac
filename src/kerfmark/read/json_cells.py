"""Delimited text with lists of records in its cells, written as JSON: each list becomes a source of
its own, as in a file of JSON records."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.errors import DataRefused, Origin, SourceError
from kerfmark.read.delimited import DelimitedSource
from kerfmark.read.json_records import TooDeep, parse_lines, refuse_depth, with_texts
from kerfmark.read.nested import NestedSource
from kerfmark.read.source import Found

_UNEVEN = "the cell holds another kind of value than others in this column"
_PLACE = re.compile(r"Column\(/(?P<header>[^/)]*).*in row (?P<row>\d+)")
"""Where the library says that it met another kind of value."""


class JsonCells:
    """A text as records (see `read.nested.Records`): the columns `of_json` hold what their cells
    say in JSON, the others texts."""

    def __init__(self, text: DelimitedSource, of_json: Sequence[str]) -> None:
        missing = [h for h in of_json if h not in text.headers]
        if missing:
            raise SourceError(
                f'there is no column "{missing[0]}" with JSON in its cells',
                code="source.no-column",
                origin=text.origin(),
                next=f"its columns are {', '.join(text.headers)}",
            )
        self.text, self.of_json = text, tuple(of_json)
        self.path, self.how = Path(text.location), text.how
        self.found: Found | None = None
        self._schema: pa.Schema | None = None

    def schema(self) -> pa.Schema:
        """The fields: those in JSON by a first reading of all cells."""
        if self._schema is None:
            schemas = [parsed.schema for _, parsed in self._read(None)]
            if not schemas:
                schemas = [pa.schema([pa.field(h, pa.string()) for h in self.of_json])]
            try:
                inner = with_texts(pa.unify_schemas(schemas, promote_options="permissive"))
            except pa.ArrowException as error:
                raise SourceError(
                    _UNEVEN,
                    code="source.json",
                    origin=self.text.origin(self.of_json[0]),
                    why=str(error).split("\n")[0],
                    next="write it the same way in every cell",
                ) from error
            fields = [
                inner.field(h) if h in self.of_json else pa.field(h, pa.string())
                for h in self.text.headers
            ]
            self._schema = pa.schema(fields)
        return self._schema

    def batches(self) -> Iterator[pa.RecordBatch]:
        """The rows."""
        schema = self.schema()
        inner = pa.schema([schema.field(h) for h in self.of_json])
        for batch, parsed in self._read(inner):
            columns = [
                parsed.column(h) if h in self.of_json else batch.column(i)
                for i, h in enumerate(self.text.headers)
            ]
            yield pa.RecordBatch.from_arrays(columns, schema=schema)

    def _read(self, inner: pa.Schema | None) -> Iterator[tuple[pa.RecordBatch, pa.RecordBatch]]:
        """Batches of texts, and what their cells of JSON say."""
        batches = self.text.map_batches(lambda batch: batch)
        bad: list[tuple[int, str, str, str]] = []
        for piece in batches:
            columns = {h: piece.result.column(self.text.headers.index(h)) for h in self.of_json}
            bad += [
                (piece.first + row, header, "the cell is not JSON", why)
                for header, cells in columns.items()
                for row, why in _not_json(cells)
            ]
            if bad:
                continue  # the rows of all bad cells are known once the whole text was read
            try:
                yield piece.result, parse_lines(_lines(columns), inner)
            except pa.ArrowInvalid as error:
                found = _PLACE.search(str(error))
                row = int(found["row"]) if found else 0
                header = found["header"] if found else self.of_json[0]
                bad.append((piece.first + row, header, _UNEVEN, str(error).split("\n")[0]))
        self.found = batches.found
        if bad:
            row, header, what, why = bad[0]
            raise DataRefused(
                what,
                code="data.json",
                origin=self.found.origin(row, header),
                total=len(bad),
                why=why,
                next=f"correct it, or leave out --json-cells {header}: its cells are then texts",
            )


class JsonCellSource(NestedSource):
    """The rows of a text, or the records in the lists of its cells."""

    def settings(self) -> dict[str, Any]:
        """What a layout must say to read it again."""
        assert isinstance(self._records, JsonCells)
        said = {"json_cells": list(self._records.of_json)}
        return self._records.text.settings() | said | super().settings()

    def _found(self) -> Found:
        assert isinstance(self._records, JsonCells) and self._records.found is not None
        found = self._records.found
        remarks = (*found.remarks, *self._of_header)
        if self._lists:  # its records are no rows of the file
            return Found(found.fingerprint, found.size, self._origin, remarks=remarks)
        return replace(found, remarks=remarks)

    def _origin(self, record: int | None, header: str | None) -> Origin:
        assert isinstance(self._records, JsonCells)
        if self._lists or self._records.found is None:
            named = self._records.text.origin().file  # what is piped has no name of its own
            return replace(super()._origin(record, header), file=named)
        return self._records.found.origin(record, header)


def _refuse_constant(said: str) -> Any:
    raise ValueError(f"{said} is not JSON")


def _not_json(cells: pa.StringArray) -> Iterator[tuple[int, str]]:
    """The cells that are not JSON, each with its place, and why it is none."""
    for row, cell in enumerate(cells.to_pylist()):
        if cell is not None:
            try:
                json.loads(cell, parse_constant=_refuse_constant)
                refuse_depth(cell.encode())
            except RecursionError:
                yield row, str(TooDeep())
            except ValueError as error:
                yield row, str(error)


def _lines(columns: dict[str, pa.StringArray]) -> bytes:
    """One object a line, with what the cells of a row say under their headers."""
    parts: list[Any] = []
    for header, cells in columns.items():
        flat = pc.replace_substring_regex(pc.fill_null(cells, "null"), r"[\r\n]+", " ")
        parts += [f"{', ' if parts else '{'}{json.dumps(header)}: ", flat]
    lines = pc.binary_join_element_wise(*parts, "}", "")
    return "\n".join(lines.to_pylist()).encode() + b"\n"
