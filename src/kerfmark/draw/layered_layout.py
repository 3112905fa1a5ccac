"""Where the boxes of a picture are: parents above their children, in layers, so that lines seldom
cross.

The method of layers: ranks by longest path, dummies where a line passes a layer, order within
layers by barycentres, places by repeated averaging. Source: K. Sugiyama, S. Tagawa, M. Toda,
"Methods for Visual Understanding of Hierarchical System Structures", IEEE Transactions on Systems,
Man, and Cybernetics 11 (1981), 109-125.
"""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

Point = tuple[float, float]
SWEEPS = 24
"""How often the order of the layers is improved, down and up."""


@dataclass(frozen=True)
class Placed:
    """The left upper corner of each box, the points by which each line passes from child to parent
    (without its ends), the upper end of the layer of each box (above it, a line may go aside), and
    the size of the whole."""

    corners: dict[str, Point]
    ways: dict[tuple[str, str], list[Point]]
    roofs: dict[str, float]
    width: float
    height: float


def place_boxes(
    sizes: Mapping[str, Point],
    links: Sequence[tuple[str, str]],
    *,
    gap: float = 36,
    rise: float = 64,
    widest: float = 1900,
) -> Placed:
    """Places boxes of some sizes; `links` are (child, parent). Layers wider than `widest` are
    broken into several."""
    edges = _without_circles(
        list(sizes),
        [(c, p) for c, p in dict.fromkeys(links) if c != p and c in sizes and p in sizes],
    )
    rank = _ranks(list(sizes), edges)
    layers, way_of = _with_dummies(list(sizes), edges, rank)
    near = _neighbours(layers, edges, way_of)
    order = _ordered(layers, near)
    broken = _broken(order, sizes, gap, widest)
    if broken != rank:
        layers, way_of = _with_dummies(
            sorted(sizes, key=[n for layer in order for n in layer].index), edges, broken
        )
        near = _neighbours(layers, edges, way_of)
        order = _ordered(layers, near)
    widths = {n: sizes[n][0] if n in sizes else 12.0 for layer in layers for n in layer}
    x = _across(order, widths, near, gap)
    y: dict[str, float] = {}
    roof: dict[str, float] = {}
    top = 0.0
    for layer in order:
        tall = max((sizes[n][1] for n in layer if n in sizes), default=0.0)
        for n in layer:
            y[n] = top + (tall if n not in sizes else tall - sizes[n][1])
            roof[n] = top
        crowd = sum(1 for n in layer for _ in near[n]) ** 0.5
        top += tall + rise + 5 * crowd
    left = min(x[n] for n in x) if x else 0.0
    corners = {n: (x[n] - left, y[n]) for n in sizes}
    # a line passes a layer straight, between its boxes
    ways = {
        e: [(x[d] - left + 6, at) for d in way for at in (y[d] + 4, roof[d] - 4)]
        for e, way in way_of.items()
    }
    width = max((corners[n][0] + sizes[n][0] for n in sizes), default=0)
    return Placed(
        corners,
        ways,
        {n: roof[n] for n in sizes},
        max(width, max((p[0] for w in ways.values() for p in w), default=0)),
        max((corners[n][1] + sizes[n][1] for n in sizes), default=0),
    )


def _without_circles(
    names: Sequence[str], edges: Sequence[tuple[str, str]]
) -> list[tuple[str, str]]:
    """The edges, those turned round that close a circle."""
    up: dict[str, list[str]] = {n: [p for c, p in edges if c == n] for n in names}
    state: dict[str, int] = {}
    turned: set[tuple[str, str]] = set()

    def visit(n: str) -> None:
        state[n] = 1
        for p in up[n]:
            if state.get(p) == 1:
                turned.add((n, p))
            elif p not in state:
                visit(p)
        state[n] = 2

    for n in names:
        if n not in state:
            visit(n)
    return [(p, c) if (c, p) in turned else (c, p) for c, p in edges]


def _ranks(names: Sequence[str], edges: Sequence[tuple[str, str]]) -> dict[str, int]:
    """The layer of each box, 0 at the top: as low as its children allow, so that lines are
    short."""
    below: dict[str, list[str]] = {n: [c for c, p in edges if p == n] for n in names}
    above: dict[str, list[str]] = {n: [p for c, p in edges if c == n] for n in names}
    depth: dict[str, int] = {}

    def down(n: str) -> int:
        if n not in depth:
            depth[n] = 0
            depth[n] = 1 + max((down(c) for c in below[n]), default=-1)
        return depth[n]

    deepest = max((down(n) for n in names), default=0)
    rank = {n: deepest - depth[n] for n in names}
    for n in sorted(
        names, key=lambda n: rank[n]
    ):  # a child whose parents are all far above comes nearer to them
        if above[n] and not below[n]:
            rank[n] = max(rank[p] for p in above[n]) + 1
    for n in names:
        if not above[n] and not below[n]:
            rank[n] = deepest
    return rank


def _with_dummies(
    names: Sequence[str], edges: Sequence[tuple[str, str]], rank: Mapping[str, int]
) -> tuple[list[list[str]], dict[tuple[str, str], list[str]]]:
    layers: list[list[str]] = [[] for _ in range(max(rank.values(), default=-1) + 1)]
    for n in names:
        layers[rank[n]].append(n)
    ways: dict[tuple[str, str], list[str]] = {}
    for c, p in edges:
        way = []
        for r in range(rank[c] - 1, rank[p], -1):
            dummy = f"\0{c}\0{p}\0{r}"
            layers[r].append(dummy)
            way.append(dummy)
        ways[c, p] = way
    return layers, ways


def _neighbours(
    layers: Sequence[Sequence[str]],
    edges: Sequence[tuple[str, str]],
    ways: Mapping[tuple[str, str], list[str]],
) -> dict[str, list[str]]:
    near: dict[str, list[str]] = {n: [] for layer in layers for n in layer}
    for c, p in edges:
        chain = [c, *ways[c, p], p]
        for a, b in itertools.pairwise(chain):
            near[a].append(b)
            near[b].append(a)
    return near


def _ordered(layers: list[list[str]], near: Mapping[str, list[str]]) -> list[list[str]]:
    best, fewest = [list(layer) for layer in layers], crossings(layers, near)
    order = [list(layer) for layer in layers]
    for sweep in range(SWEEPS):
        rows = range(1, len(order)) if sweep % 2 == 0 else range(len(order) - 2, -1, -1)
        for r in rows:
            fixed = {n: i for i, n in enumerate(order[r - 1 if sweep % 2 == 0 else r + 1])}
            now = {n: i for i, n in enumerate(order[r])}

            def centre(
                n: str, fixed: Mapping[str, int] = fixed, now: Mapping[str, int] = now
            ) -> float:
                at = [fixed[m] for m in near[n] if m in fixed]
                return sum(at) / len(at) if at else now[n]

            order[r].sort(key=centre)
        crossed = crossings(order, near)
        if crossed < fewest:
            best, fewest = [list(layer) for layer in order], crossed
    return best


def crossings(layers: Sequence[Sequence[str]], near: Mapping[str, list[str]]) -> int:
    """How many lines between neighbouring layers cross."""
    total = 0
    for upper, lower in itertools.pairwise(layers):
        at = {n: i for i, n in enumerate(upper)}
        ends = [sorted(at[m] for m in near[n] if m in at) for n in lower]
        flat = [e for one in ends for e in one]
        total += sum(a > b for i, a in enumerate(flat) for b in flat[i + 1 :])
    return total


def _broken(
    order: Sequence[Sequence[str]], sizes: Mapping[str, Point], gap: float, widest: float
) -> dict[str, int]:
    """The layer of each box when those that are too wide become several: lines that pass one of
    these then keep clear of its boxes, as those that pass any other."""
    out: dict[str, int] = {}
    row = 0
    for layer in order:
        across = 0.0
        for n in layer:
            if n not in sizes:
                continue
            if across and across + sizes[n][0] > widest:
                row, across = row + 1, 0.0
            out[n] = row
            across += sizes[n][0] + gap
        row += 1
    return out


def _across(
    order: Sequence[Sequence[str]],
    widths: Mapping[str, float],
    near: Mapping[str, list[str]],
    gap: float,
) -> dict[str, float]:
    """The left edges: each box as near as possible above or below what it is linked with, none upon
    another."""
    x: dict[str, float] = {}
    for layer in order:
        at = 0.0
        for n in layer:
            x[n] = at
            at += widths[n] + gap
    middle = max((x[layer[-1]] + widths[layer[-1]] for layer in order if layer), default=0) / 2
    for layer in order:
        shift = middle - (x[layer[-1]] + widths[layer[-1]]) / 2 if layer else 0
        for n in layer:
            x[n] += shift
    for sweep in range(40):
        for layer in order if sweep % 2 == 0 else reversed(order):
            wanted = {}
            for n in layer:
                at_ = [x[m] + widths[m] / 2 for m in near[n]]
                wanted[n] = sum(at_) / len(at_) - widths[n] / 2 if at_ else x[n]
            _settle(list(layer), wanted, widths, gap, x)
    return x


def _settle(
    layer: list[str],
    wanted: Mapping[str, float],
    widths: Mapping[str, float],
    gap: float,
    x: dict[str, float],
) -> None:
    """Gives a layer's boxes the places nearest to those wanted, in their order: boxes that would
    overlap move as one block."""
    blocks: list[
        tuple[float, float, list[str]]
    ] = []  # left edge wanted on the average, width, boxes
    for n in layer:
        block: tuple[float, float, list[str]] = (wanted[n], widths[n], [n])
        while blocks and blocks[-1][0] + blocks[-1][1] + gap > block[0]:
            left, wide, names = blocks.pop()
            total = [*names, *block[2]]
            whole = wide + gap + block[1]
            block = (
                (left * len(names) + (block[0] - wide - gap) * len(block[2])) / len(total),
                whole,
                total,
            )
        blocks.append(block)
    for left, _, names in blocks:
        at = left
        for n in names:
            x[n] = at
            at += widths[n] + gap
