"""The picture of tables: parents above their children, each link from the children's foot to the
parent it leads to."""

from __future__ import annotations

import itertools
from collections.abc import Sequence

from kerfmark.draw.layered_layout import place_boxes
from kerfmark.draw.scene import Path, Rect, Scene, Text, width_of
from kerfmark.errors import counted
from kerfmark.layout.diagram import Box, Diagram, Line, Row

Point = tuple[float, float]
SIZE, LINE, PAD, MARGIN, HEAD, SPARED = 12.0, 15.5, 10.0, 24.0, 24.0, 13.0
MARK = 24.0
"""The width of the column of marks: PK, FK, and a diamond for what a record is known by."""
FEW = 14
"""Columns of a table that are shown before the rest is counted."""


def tables(diagram: Diagram) -> Scene:
    """The picture."""
    sizes = {b.name: size(b) for b in diagram.boxes}
    links = [(line.child, line.parent) for line in diagram.lines]
    widest = 1220.0 if len(diagram.boxes) <= 20 else 1900.0
    placed = place_boxes(
        sizes, links, rise=42, widest=max(widest, max((w for w, _ in sizes.values()), default=0))
    )
    legend = (
        "PK primary key   FK leads to another table   ◆ records are known by it   ? may be blank"
    )
    loops = any(line.child == line.parent for line in diagram.lines)
    top = MARGIN + 62 + 24 * loops  # a table that links to itself has the link above it
    wide = max(placed.width, width_of(legend, 10.5)) + 2 * MARGIN
    scene = Scene(wide, placed.height + top + MARGIN, f"Tables of {diagram.title}")
    shift = (scene.width - 2 * MARGIN - placed.width) / 2 + MARGIN
    scene.shapes += [
        Text(MARGIN, MARGIN + 8, diagram.title, 16, "name", True),
        Text(MARGIN, MARGIN + 28, _summary(diagram), 11.5, "faint"),
        Text(MARGIN, MARGIN + 45, legend, 10.5, "faint"),
    ]
    corner = {n: (x + shift, y + top) for n, (x, y) in placed.corners.items()}
    ends = _ends(diagram, corner, sizes)
    for line in diagram.lines:
        if line.parent not in corner or line.child not in corner:
            continue
        way = placed.ways.get((line.child, line.parent))
        turned = way is None and line.child != line.parent
        way = placed.ways.get((line.parent, line.child), [])[::-1] if turned else way or []
        points = [(x + shift, y + top) for x, y in way]
        foot = ends[line][0]
        roof = placed.roofs[line.child] + top - 4
        if (
            not turned and line.child != line.parent and roof < foot[1] - 12
        ):  # past taller boxes beside it
            points = [(foot[0], roof), *points]
        scene.shapes += _link(line, ends[line], points)
    for box in diagram.boxes:
        scene.shapes += box_shapes(box, corner[box.name], sizes[box.name])
    return scene


def size(box: Box) -> Point:
    """The width and height of a box."""
    shown = box.columns[:FEW]
    wide = max(
        [
            width_of(r.name + ("?" if r.optional else ""), SIZE)
            + MARK
            + width_of(r.type, 10.5)
            + 14
            for r in shown
        ]
        + [
            width_of(box.name, 13.5) + 14 + width_of(_count(box), 10.5),
            width_of(_spared(box), 10.5),
        ],
        default=80,
    )
    more = len(box.columns) > FEW
    return wide + 2 * PAD, head_of(box) + LINE * (len(shown) + more) + 7


def head_of(box: Box) -> float:
    """The height of the head of a box."""
    return HEAD + (SPARED if box.saved else 0)


def _count(box: Box) -> str:
    return counted(box.rows, "row") if box.rows is not None else counted(len(box.columns), "column")


def _spared(box: Box) -> str:
    return f"spares {counted(box.saved, 'repeated value')}" if box.saved else ""


def _summary(diagram: Diagram) -> str:
    saved = sum(b.saved for b in diagram.boxes)
    parts = [counted(len(diagram.boxes), "table"), counted(len(diagram.lines), "link")]
    if any(b.rows is not None for b in diagram.boxes):
        parts.append(counted(sum(b.rows or 0 for b in diagram.boxes), "row"))
    return ", ".join(parts) + (
        f"; {saved:,} values of a flat table are not repeated" if saved else ""
    )


def box_shapes(box: Box, corner: Point, size_: Point, colour: str = "") -> list[Rect | Text | Path]:
    """A table."""
    (x, y), (w, h) = corner, size_
    head = head_of(box)
    out: list[Rect | Text | Path] = [
        Rect(x, y, w, h, "card", "edge", 5),
        Rect(x, y, w, head, "head", "edge", 5),
        Text(x + PAD, y + 16, box.name, 13.5, "name", True),
        Text(x + w - PAD, y + 16, _count(box), 10.5, "faint", anchor="end"),
    ]
    if colour:
        out.append(Rect(x, y, 5, head, colour))
    if box.saved:
        out.append(Text(x + PAD, y + 30, _spared(box), 10.5, "faint"))
    for i, row in enumerate(box.columns[:FEW]):
        out += _row(row, x, y + head + 3 + LINE * i, w, i)
    if len(box.columns) > FEW:
        out.append(
            Text(
                x + PAD + MARK,
                y + head + 15 + LINE * FEW,
                f"and {len(box.columns) - FEW} more",
                10.5,
                "faint",
            )
        )
    return out


def _row(row: Row, x: float, y: float, w: float, i: int) -> list[Rect | Text | Path]:
    mark = "PK" if row.key else "FK" if row.link else "◆" if row.natural else ""
    out: list[Rect | Text | Path] = [Rect(x + 1, y, w - 2, LINE, "stripe")] if i % 2 else []
    if mark:
        out.append(Text(x + PAD, y + 11.5, mark, 10, "name" if mark != "FK" else "line", True))
    out.append(
        Text(
            x + PAD + MARK,
            y + 11.5,
            row.name + ("?" if row.optional else ""),
            SIZE,
            "ink",
            row.key or row.natural,
        )
    )
    return [*out, Text(x + w - PAD, y + 11.5, row.type, 10.5, "faint", anchor="end")]


def _ends(
    diagram: Diagram, corner: dict[str, Point], sizes: dict[str, Point]
) -> dict[Line, tuple[Point, Point]]:
    """Where each link leaves its child (above) and reaches its parent (below), in the order in
    which the other ends are."""
    out: dict[Line, list[Point]] = {}
    for name, (x, y) in corner.items():
        w, h = sizes[name]
        up = [line for line in diagram.lines if line.child == name and line.parent in corner]
        down = [line for line in diagram.lines if line.parent == name and line.child in corner]
        for lines, other, at in ((up, "parent", y), (down, "child", y + h)):
            lines = sorted(
                lines,
                key=lambda line: (
                    corner[getattr(line, other)][0] + sizes[getattr(line, other)][0] / 2
                ),
            )
            for i, line in enumerate(lines):
                out.setdefault(line, [(0, 0), (0, 0)])[other == "child"] = (
                    x + w * (i + 1) / (len(lines) + 1),
                    at,
                )
    return {line: (ends[0], ends[1]) for line, ends in out.items()}


def _link(line: Line, ends: tuple[Point, Point], way: Sequence[Point]) -> list[Rect | Text | Path]:
    (cx, cy), (px, py) = ends
    if line.child == line.parent:
        w = 26.0
        loop = Path(
            (
                (cx, cy - 8),
                (cx, cy - 34),
                (cx + 2.2 * w, cy - 34),
                (cx + 2.2 * w, cy - 8),
                (cx + 2.2 * w, cy - 4),
                (cx + 2.2 * w, cy - 2),
                (cx + 2.2 * w, cy),
            ),
            curved=True,
            dashed=line.optional,
        )
        return [loop, *_foot(cx, cy, line.single), *_bar(cx + 2.2 * w, cy - 4)]
    upward = py < cy
    step = 8.0 if upward else -8.0
    points = [(cx, cy - step), *way, (px, py + step)]
    curve: list[Point] = [points[0]]
    for (ax, ay), (bx, by) in itertools.pairwise(points):
        reach = (ay - by) * 0.5
        curve += [(ax, ay - reach), (bx, by + reach), (bx, by)]
    return [
        Path(tuple(curve), curved=True, dashed=line.optional),
        *_foot(cx, cy, line.single),
        Path(((px, py + step), (px, py))),
        *_bar(px, py + step * 0.6),
    ]


def _foot(x: float, y: float, single: bool) -> list[Rect | Text | Path]:
    """The end at the child: three toes where many records lead to one, a bar where only one
    does."""
    if single:
        return [Path(((x, y), (x, y - 8))), *_bar(x, y - 5)]
    return [Path(((x - 5, y), (x, y - 8), (x + 5, y))), Path(((x, y), (x, y - 8)))]


def _bar(x: float, y: float) -> list[Rect | Text | Path]:
    return [Path(((x - 5, y), (x + 5, y)))]
