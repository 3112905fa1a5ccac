"""Several tables in one sheet or file, below or beside each other, as people lay them out.

A sheet is cut at columns that are blank throughout and at blank rows, and only where what follows
begins with a header of its own: a blank row within a table cuts nothing.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

from kerfmark.errors import Origin, SourceError
from kerfmark.read.header import CERTAIN, find_header, header_likelihood
from kerfmark.read.source import Remark

Grid = Sequence[Sequence[str]]

MOST_CELLS = 200_000
"""Cells looked at: who lays out several tables on one sheet does so by hand."""
MOST_GROUPS, MOST_BESIDE = 300, 30
"""Groups of rows between blank ones, and of columns; with more, these are no tables."""
HELD_AGAINST = 100
"""Rows that a header is held against."""
DENSE = 0.8
"""The share of the rows of a table that are filled, where another one is beside it."""
SHOWN = 6
"""Cells outside of all tables that are shown."""
LONGEST_TITLE, MOST_WORDS = 40, 5
"""Characters and words of a title that may name a table."""


@dataclass(frozen=True)
class Block:
    """A table within a sheet or file: its rows and columns (from 0, the ends excluded), with what
    is written above it, of which `title` may name it; `header` is the row of its header."""

    top: int
    left: int
    bottom: int
    right: int
    header: int = -1
    title: str = ""

    def told(self) -> str:
        """Where it is, as a person counts."""
        return f"rows {self.top + 1:,}-{self.bottom:,}"


def find_blocks(grid: Grid) -> list[Block]:
    """The tables in a grid of cells ("" for a blank one), in reading order; [] unless there are
    several."""
    width = max(map(len, grid), default=0)
    full = [[*(c.strip() for c in row), *[""] * (width - len(row))] for row in grid]
    whole = _trimmed(full, Block(0, 0, len(full), width))
    found = [_named(full, b) for b in _tables(full, whole) if b.header >= 0] if whole else []
    return sorted(found, key=lambda b: (b.top, b.left)) if len(found) > 1 else []


def cells_outside(grid: Grid, blocks: Sequence[Block]) -> list[tuple[int, str]]:
    """The filled cells that are in none of some blocks, each with its row (from 0)."""
    return [
        (i, cell.strip())
        for i, row in enumerate(grid)
        for j, cell in enumerate(row)
        if cell.strip() and not any(b.top <= i < b.bottom and b.left <= j < b.right for b in blocks)
    ]


def block_remarks(
    names: Sequence[str], blocks: Sequence[Block], grid: Grid, what: str, remedy: str = ""
) -> Iterator[Remark]:
    """That a sheet or file (`what`) holds several tables, how one of them is read alone, and which
    cells of the grid are in none of them."""
    told = [f'"{n}" in {b.told()}' for n, b in zip(names, blocks, strict=True)]
    yield Remark(
        "odd",
        None,
        f"the {what} holds {len(blocks)} tables: {', '.join(told)}",
        tuple(b.top + 1 for b in blocks),
        len(blocks),
        remedy or "--block 2 reads only the second one, --block 0 the whole as one table",
    )
    outside = cells_outside(grid, blocks)
    if not outside:
        return
    shown = ", ".join(f'"{cell}"' for _, cell in outside[:SHOWN])
    yield Remark(
        "doubtful",
        None,
        f"beside the tables, and left out: {shown}{' ...' if len(outside) > SHOWN else ''}",
        tuple(dict.fromkeys(row + 1 for row, _ in outside[:SHOWN])),
        len(outside),
        "if they belong to a table, use --block 0, or name its range with --cells",
    )


def no_block(origin: Origin, number: int, tables: int) -> SourceError:
    """That there is no table of this number."""
    return SourceError(
        f"there is no table {number}",
        code="source.no-block",
        origin=origin,
        why=f"{tables} tables were found" if tables else "only one table was found",
        next="leave --block out, or name the cells with --cells",
    )


def _tables(grid: Grid, area: Block) -> Iterator[Block]:
    """The tables of an area, beside each other, or else below each other."""
    parts = _beside(grid, area) or _below(grid, area)
    if len(parts) == 1:
        yield parts[0]
        return
    for part in parts:
        yield from _tables(grid, part)


def _beside(grid: Grid, area: Block) -> list[Block]:
    """The tables of an area that have blank columns between them: they end at different rows, or
    have titles of their own, or the same header; [] unless there are several. What is not a table
    by itself belongs to the one at its left, if it begins and ends with that."""
    used = [any(row[j] for row in grid[area.top : area.bottom]) for j in range(area.right)]
    edges = [
        j for j in range(area.left, area.right) if used[j] and (j == area.left or not used[j - 1])
    ]
    out: list[Block] = []
    if not 2 <= len(edges) <= MOST_BESIDE:
        return out
    for left, right in zip(edges, (*edges[1:], area.right), strict=True):
        band = _trimmed(grid, replace(area, left=left, right=right, header=-1))
        if band is None:
            continue
        table = _with_header(grid, band)
        last = out[-1] if out else None
        if all(b.header >= 0 and _is_dense(grid, b) for b in _below(grid, table)):
            if last is None or _separate(grid, last, table):
                out.append(table)
            else:
                out[-1] = replace(last, right=table.right)
        elif (
            last
            and band.top == last.header  # a column of its own, after a blank one
            and band.bottom <= last.bottom
        ):
            out[-1] = replace(last, right=band.right)
    return out if len(out) > 1 else []


def _separate(grid: Grid, one: Block, other: Block) -> bool:
    inside, beside = _below(grid, one), _below(grid, other)
    return (
        [(b.header, b.bottom) for b in inside] != [(b.header, b.bottom) for b in beside]
        or all(_named(grid, b).title for b in (*inside, *beside))
        or _header(grid, one) == _header(grid, other)
    )


def _below(grid: Grid, area: Block) -> list[Block]:
    """The tables of an area that are below each other, each with the titles above it."""
    groups = list(_groups(grid, area))
    if len(groups) > MOST_GROUPS:
        return [area]
    out: list[Block] = []
    for group in groups:
        inner = _beside(grid, group) if len(groups) > 1 else []
        inner = inner or [_with_header(grid, group)]
        table = replace(group, header=min(b.header for b in inner))
        if out and not all(b.header >= 0 and _begins(grid, out[-1], b) for b in inner):
            if out[-1].header < 0 <= table.header:
                out[-1] = replace(table, top=out[-1].top)
            else:
                out[-1] = replace(out[-1], bottom=group.bottom)
        elif out and (title := _title_row(grid, out[-1], table)) is not None:
            out[-1] = replace(out[-1], bottom=title)
            out.append(replace(table, top=title))
        else:
            out.append(table)
    return [_trimmed(grid, b) or b for b in out]


def _groups(grid: Grid, area: Block) -> Iterator[Block]:
    """The rows of an area between blank ones, and from those on that have but one cell, where they
    are of a table with more columns."""
    start = area.top
    for i in range(area.top, area.bottom + 1):
        filled = _filled(grid[i], area) if i < area.bottom else 0
        alone = filled == 1 and i > start and _filled(grid[i - 1], area) > 1
        if not filled or alone:
            if i > start:
                yield replace(area, top=start, bottom=i, header=-1)
            start = i if alone else i + 1


def _begins(grid: Grid, above: Block, table: Block) -> bool:
    """Whether a group of rows is a table of its own, and does not go on with the one above."""
    if above.header < 0:
        return False
    here = replace(above, left=table.left, right=table.right)
    header, before = _header(grid, table), _header(grid, here)
    rows = _records(grid, here, above.header + 1, above.bottom)
    if header == before:
        return table.header > table.top  # a title, which says what these rows have in common
    if not rows or not any(before):
        return bool(rows)
    if len(header) < above.right - above.left or _extent(header) != _extent(before):
        return header_likelihood(header, rows) > 0 and _is_header(header)
    return header_likelihood(header, rows) > CERTAIN and _is_header(header)


def _is_header(cells: Sequence[str]) -> bool:
    """Whether the cells, from the first filled one to the last one, are all filled, and differ."""
    first, last = _extent(cells)
    named = [c.lower() for c in cells[first : last + 1]]
    return all(named) and len(set(named)) == len(named)


def _title_row(grid: Grid, above: Block, table: Block) -> int | None:
    """The row of a title that is nearer to a table than to the one above, where the table has none
    of its own."""
    if table.header > table.top:
        return None
    last = above.bottom - 1
    before = last - 1
    if last <= above.header or not _title_in(grid[last], above):
        return None
    gap = table.top - above.bottom
    while before > above.header and not _filled(grid[before], above):
        before -= 1
    return last if last - before - 1 >= gap > 0 else None


def _title_in(row: Sequence[str], area: Block) -> str:
    """What a row says if it may name the table below; "" if it may not."""
    filled = [c for c in row[area.left : area.right] if c]
    may = len(filled) == 1 and len(filled[0]) <= LONGEST_TITLE
    return filled[0] if may and len(filled[0].split()) <= MOST_WORDS else ""


def _with_header(grid: Grid, area: Block) -> Block:
    """An area with the row of its header, if it is a table with one and with rows below it."""
    rows = _records(grid, area, area.top, min(area.bottom, area.top + HELD_AGAINST))
    full = [r for r in rows if len(r) - r.count("") > 1]
    if len(full) < 2 or area.right - area.left < 2:
        return area
    found = find_header(rows)
    top = area.top + found.row - 1
    if not found.row or top >= area.bottom - 1 or not _are_names(grid[top], area):
        return area
    return replace(area, header=top + found.rows - 1)


def _are_names(row: Sequence[str], area: Block) -> bool:
    """Whether some cells, most of them words, may be the names of columns."""
    cells = [c for c in row[area.left : area.right] if c]
    if {"TRUE", "FALSE"} & set(cells):
        return False
    words = [c for c in cells if re.search(r"[^\W\d_]", c)]
    return len(cells) > 1 and len(words) > len(cells) / 2


def _named(grid: Grid, table: Block) -> Block:
    """A table with its title, if it has one that may name it."""
    for i in range(table.header - 1, table.top - 1, -1):
        if title := _title_in(grid[i], table):
            return replace(table, title=title.strip("[]:#= "))
    return table


def _trimmed(grid: Grid, area: Block) -> Block | None:
    """An area without blank rows and columns around it; None where it is blank throughout."""
    rows = [i for i in range(area.top, area.bottom) if _filled(grid[i], area)]
    if not rows:
        return None
    columns = [j for j in range(area.left, area.right) if any(grid[i][j] for i in rows)]
    return replace(area, top=rows[0], bottom=rows[-1] + 1, left=columns[0], right=columns[-1] + 1)


def _is_dense(grid: Grid, table: Block) -> bool:
    filled = sum(bool(_filled(grid[i], table)) for i in range(table.top, table.bottom))
    return filled >= DENSE * (table.bottom - table.top)


def _filled(row: Sequence[str], area: Block) -> int:
    mine = row[area.left : area.right]
    return len(mine) - mine.count("")


def _header(grid: Grid, table: Block) -> list[str]:
    return list(grid[table.header][table.left : table.right])


def _extent(cells: Sequence[str]) -> tuple[int, int]:
    """The first and the last filled cell."""
    filled = [i for i, c in enumerate(cells) if c]
    return filled[0], filled[-1]


def _records(grid: Grid, area: Block, top: int, bottom: int) -> list[Sequence[str]]:
    return [grid[i][area.left : area.right] for i in range(top, min(bottom, top + HELD_AGAINST))]
