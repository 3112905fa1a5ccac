"""What an executor does to tell what is in a source: reads one unit of rows as they stand, and
writes the values of its columns, or a digest of each row."""

from __future__ import annotations

import json
from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace

import numpy as np
import pyarrow as pa
import xxhash

from kerfmark.cluster.files import Unit
from kerfmark.cluster.frames import AT
from kerfmark.cluster.staging import (
    Job,
    file_of,
    places_of,
    row_offset,
    runs_of,
    unit_read,
    write_rows,
)
from kerfmark.cluster.value_files import values_of, write_unit
from kerfmark.profile.columns import EncodedColumn
from kerfmark.profile.encode import TOLD, EncodedSource
from kerfmark.profile.not_data import GroupHeads, cells_in_groups
from kerfmark.profile.values import FIRST
from kerfmark.read.source import RaggedRow, Remark

_MIXED = (0x9E3779B97F4A7C15, 0xC2B2AE3D27D4EB4F)
"""Odd numbers by which the digests of a row's cells are put together."""


@dataclass
class UnitMeasured:
    """What a unit gave: its rows, those that are skipped as blank, its bytes, the file of its
    values ("": none), its first rows, where its rows are (as `staging.Staged` has it), what reading
    it found, and how many rows are ragged, of which the first are told; and by which groups of rows
    are known (see `profile.not_data`): the first column, the cells of all, and its first blanks."""

    unit: int
    rows: int
    skipped: int
    bytes: int
    file: str
    first: list[list[str | None]]
    runs: list[tuple[int, str, str, int]]
    remarks: list[Remark]
    ragged: int
    ragged_rows: list[RaggedRow]
    heads: GroupHeads
    cells: list[tuple[int, int]]
    blank: list[int]

    @classmethod
    def of(cls, text: str) -> UnitMeasured:
        """From what `text` gives."""
        said = json.loads(text)
        said["remarks"] = [Remark(**r | {"rows": tuple(r["rows"])}) for r in said["remarks"]]
        said["ragged_rows"] = [RaggedRow(*r) for r in said["ragged_rows"]]
        said["heads"] = GroupHeads(**said["heads"])
        return cls(**said)

    def text(self) -> str:
        """As text."""
        remarks, heads = [vars(r) for r in self.remarks], vars(self.heads)
        return json.dumps(vars(self) | {"remarks": remarks, "heads": heads})


def measured_unit(job: Job, first_rows: int, parts: int, unit: Unit) -> str:
    """Writes the values of a unit in so many parts."""
    with unit_read(job, unit) as encoded:
        found, offset, headers = encoded.found, row_offset(unit), job.headers[unit.source]
        columns = [_column(encoded, h) for h in headers]
        blank = np.flatnonzero(columns[0].codes < 0)[:TOLD].tolist()
        several = next((r for r in found.ragged[FIRST:] if r.fields != 1), None)
        ragged = [*found.ragged[:FIRST], *([several] if several else [])]
        out = UnitMeasured(
            unit.number,
            encoded.rows,
            found.skipped,
            unit.end - unit.start if unit.is_block else found.size,
            "",
            _first_rows(columns, min(first_rows, encoded.rows)),
            runs_of(encoded, unit),
            [_moved(r, offset) for r in found.remarks if _holds_for_all(r, unit)],
            len(found.ragged),
            [r._replace(row=r.row + offset) for r in ragged],
            GroupHeads.of(columns[0].codes),
            cells_in_groups(columns),
            [(encoded.origin(r).row or 0) + offset for r in blank],
        )
        if encoded.rows:
            out.file = file_of(job, unit, "values")
            at = places_of(encoded, unit).to_numpy()
            write_unit(out.file, [values_of(column, at) for column in columns], parts)
    return out.text()


def _holds_for_all(remark: Remark, unit: Unit) -> bool:
    """Whether what was noticed in a unit is so whatever the rest of its source is."""
    if remark.rule == "notes":  # at the end of a file
        return not unit.is_block or unit.end >= unit.size
    return remark.rule != "below"


def _moved(remark: Remark, offset: int) -> Remark:
    """A remark of a block, with the rows of the whole file."""
    return replace(remark, rows=tuple(r + offset for r in remark.rows))


def _column(encoded: EncodedSource, header: str) -> EncodedColumn:
    """The column of a header; of one that the unit lacks, a blank one."""
    if header in encoded.headers:
        return encoded.column(header)
    return EncodedColumn(header, pa.array([], pa.string()), np.full(encoded.rows, -1, np.int32))


def _first_rows(columns: Sequence[EncodedColumn], rows: int) -> list[list[str | None]]:
    """The first rows as texts."""
    return [
        [None if c.codes[r] < 0 else c.values[int(c.codes[r])].as_py() for c in columns]
        for r in range(rows)
    ]


def row_digests(job: Job, trim: bool, blanks: Collection[str], unit: Unit) -> str:
    """Writes a digest of each row of a unit (of 128 bits, in two numbers), by which rows that are
    the same in every column are found; gives the file ("": no rows)."""
    with unit_read(job, unit) as encoded:
        if not encoded.rows:
            return ""
        encoded = encoded.trimmed(trim).with_blanks(blanks)
        low, high = np.zeros(encoded.rows, np.uint64), np.zeros(encoded.rows, np.uint64)
        for header in job.headers[unit.source]:
            column = _column(encoded, header)
            digests = _digests(column.values)
            # a blank has the code -1, and the last digest
            low = low * np.uint64(_MIXED[0]) + digests[column.codes, 0]
            high = high * np.uint64(_MIXED[1]) + digests[column.codes, 1]
        file = file_of(job, unit, "digests")
        columns = {
            "low": pa.array(low.view(np.int64)),
            "high": pa.array(high.view(np.int64)),
            AT: places_of(encoded, unit),
        }
        write_rows(file, columns)
    return file


def _digests(values: pa.StringArray) -> np.ndarray:
    """Two numbers for each text, and for none."""
    texts = [t.encode() for t in values.to_pylist()]
    whole = b"".join(xxhash.xxh3_128_digest(t) for t in texts) + bytes(16)
    return np.frombuffer(whole, np.uint64).reshape(-1, 2)
