"""Delimited text that holds several tables, below or beside each other: each is read as a file of
its own, whose rows keep their numbers."""

from __future__ import annotations

import io
from collections.abc import Sequence
from dataclasses import replace
from typing import BinaryIO, cast

from kerfmark.errors import Origin
from kerfmark.read.archives import Bytes
from kerfmark.read.blocks import MOST_CELLS, Block, block_remarks, find_blocks, no_block
from kerfmark.read.dialect import (
    HEADER_RECORDS,
    SAMPLE,
    Dialect,
    find_dialect,
    read_sample,
    sample_records,
    with_header,
)
from kerfmark.read.encoding import decode_sample
from kerfmark.read.source import Reading, Remark


def find_dialects(source: Bytes, reading: Reading) -> list[Dialect]:
    """The dialects of the tables in a text file: usually of the one that it is.

    Raises SourceError for the number of a table that is not there.
    """
    whole = find_dialect(source, reading)
    one = reading.block == 0 or (reading.header_row is not None and not reading.block)
    grid = [] if one or whole.edges or whole.ruled else _grid(source, whole)
    blocks = find_blocks(grid) if _may_hold_several(grid) else []
    if reading.block and reading.block > len(blocks):
        raise no_block(Origin(source.name), reading.block, len(blocks))
    if not blocks:
        return [whole]
    out = []
    for n in [reading.block] if reading.block else range(1, len(blocks) + 1):
        block = blocks[n - 1]
        records = [r[block.left : block.right] for r in grid[block.top : block.bottom]]
        dialect = with_header(whole, records[:HEADER_RECORDS], reading)
        remarks = [_shifted(r, block.top) for r in dialect.of_header]
        out.append(replace(dialect, block=n, of_header=tuple(remarks)))
    if not reading.block:
        called = [b.title or f"{source.stem} {n}" for n, b in enumerate(blocks, 1)]
        told = block_remarks(called, blocks, grid, "file")
        out[0] = replace(out[0], remarks=(*out[0].remarks, *told))
        out[1:] = [replace(d, remarks=()) for d in out[1:]]
    return out


def only_block(source: Bytes, dialect: Dialect) -> tuple[Bytes, Block]:
    """A file as if it held but one of its tables, and that.

    Raises SourceError when it has no table of this number.
    """
    grid = _grid(source, dialect)
    blocks = find_blocks(grid)
    if dialect.block > len(blocks):
        raise no_block(Origin(source.name), dialect.block, len(blocks))
    block = blocks[dialect.block - 1]
    lines = [
        dialect.delimiter.join(_written(cell, dialect) for cell in _cells(row, block))
        for row in grid[block.top : block.bottom]
    ]
    data = ("\n".join(lines) + "\n").encode(dialect.encoding)
    return replace(source, open=lambda: cast(BinaryIO, io.BytesIO(data))), block


def _cells(row: Sequence[str], block: Block) -> Sequence[str]:
    """The cells of a row in a table: blank ones for a blank row."""
    mine = row[block.left : block.right]
    return mine if any(mine) else [""] * (block.right - block.left)


def _written(cell: str, dialect: Dialect) -> str:
    q, e = dialect.quote, dialect.escape
    if not q or not any(c in cell for c in (dialect.delimiter, q, "\n", "\r")):
        return cell
    return q + (cell.replace(e, 2 * e) if e else cell).replace(q, (e or q) + q) + q


def _grid(source: Bytes, dialect: Dialect) -> list[list[str]]:
    """The records of a file; none of one that is too large to have been laid out by hand, or not
    all text."""
    sample = read_sample(source)
    if len(sample) >= SAMPLE:
        return []
    try:
        text = decode_sample(sample, dialect.encoding, Origin(source.name))
        text.encode(dialect.encoding)
    except UnicodeError:
        return []
    grid = sample_records(text, dialect, most=len(text))
    return grid if sum(map(len, grid)) <= MOST_CELLS else []


def _may_hold_several(grid: Sequence[Sequence[str]]) -> bool:
    """Whether there is anything that could be a border of tables: a row with one cell or none, or a
    blank column."""
    widths = set(map(len, grid))
    if len(widths) != 1:
        return True
    return any(len(row) - row.count("") < 2 for row in grid) or any(
        not any(column) for column in zip(*grid, strict=True)
    )


def _shifted(remark: Remark, rows: int) -> Remark:
    return replace(remark, rows=tuple(r + rows for r in remark.rows))
