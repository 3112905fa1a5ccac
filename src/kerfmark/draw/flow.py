"""The picture of a cut: the flat columns on the left, flowing into the tables on the right."""

from __future__ import annotations

from dataclasses import replace

from kerfmark.draw.scene import Path, Rect, Scene, Text, width_of
from kerfmark.draw.tables import FEW, LINE, MARGIN, box_shapes, head_of, size
from kerfmark.errors import counted
from kerfmark.layout.diagram import Diagram

GAP = 12.0
_COLOURS = ("c0", "c1", "c2", "c3", "c4", "c5", "c6")


def flow(diagram: Diagram) -> Scene:
    """The picture. Tables that no column flows into are left out."""
    went = {(f.table, f.column) for f in diagram.flows}
    fed = [
        replace(b, columns=tuple(c for c in b.columns if (b.name, c.name) in went))
        for b in diagram.boxes
        if any(f.table == b.name for f in diagram.flows)
    ]
    colour = {b.name: _COLOURS[i % len(_COLOURS)] for i, b in enumerate(fed)}
    sources = list(dict.fromkeys(f.source for f in diagram.flows))
    left = max((width_of(f.header, 12) for f in diagram.flows), default=80) + 30
    top = MARGIN + 44
    spots: dict[tuple[str, str], float] = {}
    shapes: list[Rect | Text | Path] = []
    y = top
    for source in sources:
        mine = [f for f in diagram.flows if f.source == source]
        shapes += [
            Rect(MARGIN, y, left, 24 + LINE * len(mine) + 6, "card", "edge", 5),
            Rect(MARGIN, y, left, 22, "head", "edge", 5),
            Text(MARGIN + 10, y + 15, source, 13, "name", True),
        ]
        for i, f in enumerate(mine):
            row = y + 24 + LINE * i
            if f.table:
                shapes.append(Rect(MARGIN + left - 6, row + 2.5, 5, LINE - 5, colour[f.table]))
            shapes.append(Text(MARGIN + 10, row + 12, f.header, 12, "ink" if f.table else "faint"))
            spots[source, f.header] = row + LINE / 2
        y += 24 + LINE * len(mine) + 6 + 24
    # each table stands where its columns come from, on the average; one below the other, so that no
    # line passes behind one
    starts = {
        b.name: [spots[f.source, f.header] for f in diagram.flows if f.table == b.name] for b in fed
    }
    order = sorted(fed, key=lambda b: sum(starts[b.name]) / len(starts[b.name]))
    sizes = {b.name: size(b) for b in fed}
    x0 = MARGIN + left + 260
    high = sum(sizes[b.name][1] + GAP for b in fed) - GAP
    tall = max(y - 24 - top, high)
    at = top + (tall - high) / 2
    shift = top + (tall - (y - 24 - top)) / 2 - top  # the sources stand in the middle too
    corner = {}
    for b in order:
        corner[b.name] = x0, at
        at += sizes[b.name][1] + GAP
    spots = {k: v + shift for k, v in spots.items()}
    shapes = [replace(s, y=s.y + shift) for s in shapes if not isinstance(s, Path)]
    lines: list[Rect | Text | Path] = []
    for f in diagram.flows:
        if not f.table:
            continue
        box = next(b for b in fed if b.name == f.table)
        i = next((i for i, r in enumerate(box.columns) if r.name == f.column), 0)
        bx, by = corner[f.table]
        end = by + head_of(box) + 3 + LINE * (min(i, FEW) + 0.5)
        a, start = MARGIN + left, spots[f.source, f.header]
        reach = (bx - a) * 0.55
        lines.append(
            Path(
                ((a, start), (a + reach, start), (bx - reach, end), (bx, end)),
                colour[f.table],
                1.6,
                curved=True,
            )
        )
    out = sum(not f.table for f in diagram.flows)
    said = (
        f"{counted(len(diagram.flows), 'column')} of {counted(len(sources), 'source')} in "
        f"{counted(len(fed), 'table')}" + (f"; {counted(out, 'column')} left out" if out else "")
    )
    wide = max((w for w, _ in sizes.values()), default=0)
    scene = Scene(
        x0 + wide + MARGIN, top + tall + MARGIN, f"Where the columns of {diagram.title} go"
    )
    scene.shapes = [
        Text(MARGIN, MARGIN + 8, diagram.title, 16, "name", True),
        Text(MARGIN, MARGIN + 28, said, 11.5, "faint"),
        *lines,
        *shapes,
    ]
    for b in fed:
        scene.shapes += box_shapes(b, corner[b.name], sizes[b.name], colour[b.name])
    return scene
