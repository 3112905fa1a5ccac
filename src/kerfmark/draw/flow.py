"""The picture of a cut: the flat columns on the left, flowing into the tables on the right; beside
these, what links two of them."""

from __future__ import annotations

from dataclasses import replace

from kerfmark.draw.scene import Path, Rect, Scene, Text, width_of
from kerfmark.draw.tables import FEW, LINE, MARGIN, PAD, Point, box_shapes, head_of, size
from kerfmark.errors import counted
from kerfmark.layout.diagram import Box, Diagram

GAP = 12.0
SIDE = 70.0
"""Room at the right for the links of tables that only link others."""
_COLOURS = ("c0", "c1", "c2", "c3", "c4", "c5", "c6")
Shape = Rect | Text | Path


class _Signs:
    """How each table that columns flow into is told from the others: by its colour, and where there
    are more tables than colours, also by a number and by the kind of its lines."""

    def __init__(self, names: list[str]) -> None:
        self._place = {n: i for i, n in enumerate(names)}
        self.numbered = len(names) > len(_COLOURS)

    def colour(self, table: str) -> str:
        """The colour of a table."""
        return _COLOURS[self._place[table] % len(_COLOURS)]

    def dashed(self, table: str) -> bool:
        """Whether the lines to a table are dashed."""
        return self._place[table] // len(_COLOURS) % 2 == 1

    def number(self, table: str) -> str:
        """The number of a table, where tables have one."""
        return str(self._place[table] + 1) if self.numbered else ""


def flow(diagram: Diagram) -> Scene:
    """The picture. Tables that no column flows into are shown where they link others."""
    went = {(f.table, f.column) for f in diagram.flows}
    fed = [
        replace(b, columns=tuple(c for c in b.columns if (b.name, c.name) in went))
        for b in diagram.boxes
        if any(f.table == b.name for f in diagram.flows)
    ]
    between = _between(diagram, {b.name for b in fed})
    sources = list(dict.fromkeys(f.source for f in diagram.flows))
    left = max((width_of(f.header, 12) for f in diagram.flows), default=80) + 44
    top = MARGIN + 44
    spots: dict[tuple[str, str], float] = {}
    y = top
    for source in sources:
        mine = [f for f in diagram.flows if f.source == source]
        for i, f in enumerate(mine):
            spots[source, f.header] = y + 24 + LINE * i + LINE / 2
        y += 24 + LINE * len(mine) + 6 + 24
    # each table is where its columns come from, on the average; one below the other, so that no
    # line passes behind one
    middle = {
        b.name: _mean([spots[f.source, f.header] for f in diagram.flows if f.table == b.name])
        for b in fed
    }
    middle |= {b.name: _mean([middle[p] for p in parents]) for b, parents in between}
    order = sorted([*fed, *(b for b, _ in between)], key=lambda b: middle[b.name])
    signs = _Signs([b.name for b in order if b in fed])
    shown = {b.name: _numbered(b, signs.number(b.name) if b in fed else "") for b in order}
    sizes = {n: size(b) for n, b in shown.items()}
    x0 = MARGIN + left + 260
    high = sum(sizes[b.name][1] + GAP for b in order) - GAP
    tall = max(y - 24 - top, high)
    at = top + (tall - high) / 2
    shift = top + (tall - (y - 24 - top)) / 2 - top  # the sources are in the middle too
    corner = {}
    for b in order:
        corner[b.name] = x0, at
        at += sizes[b.name][1] + GAP
    spots = {k: v + shift for k, v in spots.items()}
    wide = max((w for w, _ in sizes.values()), default=0)
    scene = Scene(
        x0 + wide + MARGIN + (SIDE if between else 0),
        top + tall + MARGIN,
        f"Where the columns of {diagram.title} go",
    )
    scene.shapes = [
        Text(MARGIN, MARGIN + 8, diagram.title, 16, "name", True),
        Text(MARGIN, MARGIN + 28, _summary(diagram, sources, fed, len(between)), 11.5, "faint"),
        *_lines(diagram, fed, signs, spots, corner, left),
        *_sources(diagram, sources, signs, spots, left),
    ]
    for b, parents in between:
        lines = [_side_line(corner, sizes, b.name, p, wide, i) for i, p in enumerate(parents)]
        scene.shapes += lines
    for b in order:
        colour = signs.colour(b.name) if b in fed else ""
        scene.shapes += box_shapes(shown[b.name], corner[b.name], sizes[b.name], colour)
    return scene


def _numbered(box: Box, number: str) -> Box:
    return replace(box, name=f"{number}  {box.name}") if number else box


def _between(diagram: Diagram, fed: set[str]) -> list[tuple[Box, list[str]]]:
    """The tables that no column flows into and that link others, with these."""
    out = []
    for box in diagram.boxes:
        parents = [line.parent for line in diagram.lines if line.child == box.name]
        if box.name not in fed and len({*parents} & fed) > 1:
            out.append((box, [p for p in dict.fromkeys(parents) if p in fed]))
    return out


def _mean(some: list[float]) -> float:
    return sum(some) / len(some)


def _summary(diagram: Diagram, sources: list[str], fed: list[Box], between: int) -> str:
    out = sum(not f.table for f in diagram.flows)
    return (
        f"{counted(len(diagram.flows), 'column')} of {counted(len(sources), 'source')} in "
        f"{counted(len(fed), 'table')}"
        + ("; 1 more table links two of them" if between == 1 else "")
        + (f"; {between} more tables link two of them each" if between > 1 else "")
        + (f"; {counted(out, 'column')} left out" if out else "")
    )


def _sources(
    diagram: Diagram,
    sources: list[str],
    signs: _Signs,
    spots: dict[tuple[str, str], float],
    left: float,
) -> list[Shape]:
    """The flat columns, each with the sign of the table that it flows into."""
    out: list[Shape] = []
    for source in sources:
        mine = [f for f in diagram.flows if f.source == source]
        y = spots[source, mine[0].header] - 24 - LINE / 2
        out += [
            Rect(MARGIN, y, left, 24 + LINE * len(mine) + 6, "card", "edge", 5),
            Rect(MARGIN, y, left, 22, "head", "edge", 5),
            Text(MARGIN + 10, y + 15, source, 13, "name", True),
        ]
        for f in mine:
            row = spots[source, f.header] - LINE / 2
            if f.table:
                out.append(Rect(MARGIN + left - 6, row + 2.5, 5, LINE - 5, signs.colour(f.table)))
                if number := signs.number(f.table):
                    where = MARGIN + left - PAD
                    out.append(Text(where, row + 12, number, 10.5, "faint", anchor="end"))
            out.append(Text(MARGIN + 10, row + 12, f.header, 12, "ink" if f.table else "faint"))
    return out


def _lines(
    diagram: Diagram,
    fed: list[Box],
    signs: _Signs,
    spots: dict[tuple[str, str], float],
    corner: dict[str, Point],
    left: float,
) -> list[Shape]:
    """From each flat column to the column that it is in a table."""
    out: list[Shape] = []
    boxes = {b.name: b for b in fed}
    for f in diagram.flows:
        if not f.table:
            continue
        box = boxes[f.table]
        i = next((i for i, r in enumerate(box.columns) if r.name == f.column), 0)
        bx, by = corner[f.table]
        end = by + head_of(box) + 3 + LINE * (min(i, FEW) + 0.5)
        a, start = MARGIN + left, spots[f.source, f.header]
        reach = (bx - a) * 0.55
        points = ((a, start), (a + reach, start), (bx - reach, end), (bx, end))
        colour, dashed = signs.colour(f.table), signs.dashed(f.table)
        out.append(Path(points, colour, 1.6, curved=True, dashed=dashed))
    return out


def _side_line(
    corner: dict[str, Point], sizes: dict[str, Point], child: str, parent: str, wide: float, i: int
) -> Path:
    """The link of a table to another one, at their right."""
    (cx, cy), (px, py) = corner[child], corner[parent]
    start = cx + sizes[child][0], cy + 14 + 8 * i
    end = px + sizes[parent][0], py + 12
    out = cx + wide + SIDE * (0.5 + 0.4 * (i % 2))
    return Path((start, (out, start[1]), (out, end[1]), end), "line", 1.2, curved=True)
