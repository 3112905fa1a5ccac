"""A picture as a few plain shapes, and the same picture as SVG, PNG or PDF.

Colours are names, so that one picture can be light or dark. They keep apart for people who see
colours otherwise (M. Okabe, K. Ito, "Color Universal Design", 2008), and nothing is told by colour
alone. Letters are of one width, so that texts fit everywhere.
"""

from __future__ import annotations

import html
import io
from collections.abc import Mapping
from dataclasses import dataclass, field

from kerfmark.draw.page import shown

Point = tuple[float, float]
LIGHT = {
    "paper": "#fbfaf7",
    "card": "#ffffff",
    "ink": "#22252a",
    "faint": "#6a6e76",
    "edge": "#c9c4b8",
    "head": "#f3e3cc",
    "name": "#6b3a05",
    "line": "#3d5a78",
    "stripe": "#f7f5f0",
    "c0": "#0072b2",
    "c1": "#d55e00",
    "c2": "#009e73",
    "c3": "#cc79a7",
    "c4": "#a07800",
    "c5": "#56b4e9",
    "c6": "#5c5c5c",
}
DARK = {
    "paper": "#191b1f",
    "card": "#212429",
    "ink": "#e6e3dc",
    "faint": "#9a9da5",
    "edge": "#4a4e57",
    "head": "#4a3415",
    "name": "#f0c48a",
    "line": "#8fb4d9",
    "stripe": "#262a30",
    "c0": "#5aa9dd",
    "c1": "#f08a4b",
    "c2": "#3fc79f",
    "c3": "#e3a3c6",
    "c4": "#d9b84a",
    "c5": "#8ccdf2",
    "c6": "#b0b0b0",
}
LETTER = 0.602
"""The width of a letter, of its size: that of DejaVu Sans Mono."""
_FONT = "'DejaVu Sans Mono', Menlo, Consolas, 'Liberation Mono', monospace"


@dataclass(frozen=True)
class Rect:
    """A box with round corners."""

    x: float
    y: float
    width: float
    height: float
    fill: str
    edge: str = ""
    round: float = 0


@dataclass(frozen=True)
class Text:
    """A line of text; `x` is its left end, or its right end or middle (`anchor` start, end,
    middle), `y` the line it is on."""

    x: float
    y: float
    text: str
    size: float = 12
    colour: str = "ink"
    bold: bool = False
    anchor: str = "start"


@dataclass(frozen=True)
class Path:
    """A line through points: straight, or as a curve whose points come in threes after the first
    (two handles and an end)."""

    points: tuple[Point, ...]
    colour: str = "line"
    width: float = 1.4
    curved: bool = False
    dashed: bool = False


@dataclass
class Scene:
    """A picture: its size, its title for those who cannot see it, and its shapes, the hindmost
    first."""

    width: float
    height: float
    title: str
    shapes: list[Rect | Text | Path] = field(default_factory=list)


def width_of(text: str, size: float) -> float:
    """The width of a line of text; letters of East Asia are twice as wide."""
    return sum(2 if ord(c) > 0x2E7F else 1 for c in text) * size * LETTER


def svg(scene: Scene) -> str:
    """The picture as an SVG file, light or dark as the reader's system is."""
    light, dark = ("; ".join(f"--{k}: {v}" for k, v in c.items()) for c in (LIGHT, DARK))
    out = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {scene.width:.0f} '
        f'{scene.height:.0f}" width="{scene.width:.0f}" '
        f'height="{scene.height:.0f}" role="img" '
        f'font-family="{_FONT}"><title>{_escaped(scene.title)}</title>'
        f"<style>svg {{ {light} }} @media (prefers-color-scheme: dark) {{ svg {{ {dark} }} }} text "
        f"{{ white-space: pre }}"
        "</style>",
        f'<rect width="{scene.width:.0f}" height="{scene.height:.0f}" style="fill: var(--paper)"/>',
    ]
    for s in scene.shapes:
        if isinstance(s, Rect):
            edge = f"; stroke: var(--{s.edge})" if s.edge else ""
            out.append(
                f'<rect x="{s.x:.1f}" y="{s.y:.1f}" width="{s.width:.1f}" height="{s.height:.1f}" '
                f'rx="{s.round}" '
                f'style="fill: var(--{s.fill}){edge}"/>'
            )
        elif isinstance(s, Text):
            bold = ' font-weight="bold"' if s.bold else ""
            anchor = f' text-anchor="{s.anchor}"' if s.anchor != "start" else ""
            out.append(
                f'<text x="{s.x:.1f}" y="{s.y:.1f}" font-size="{s.size}"{bold}{anchor} '
                f'style="fill: var(--{s.colour})">'
                f"{_escaped(s.text)}</text>"
            )
        else:
            first, *rest = [f"{x:.1f} {y:.1f}" for x, y in s.points]
            dashes = "; stroke-dasharray: 5 4" if s.dashed else ""
            out.append(
                f'<path d="M {first} {"C" if s.curved else "L"} {" ".join(rest)}" '
                f'style="fill: none; stroke: var(--{s.colour}); stroke-width: {s.width}{dashes}"/>'
            )
    return "\n".join([*out, "</svg>"]) + "\n"


def raster(scene: Scene, kind: str, *, dark: bool = False) -> bytes:
    """The picture as PNG (two dots per unit) or PDF."""
    import matplotlib

    matplotlib.use("agg")
    from matplotlib.figure import Figure
    from matplotlib.patches import FancyBboxPatch, PathPatch
    from matplotlib.path import Path as Way

    colours: Mapping[str, str] = DARK if dark else LIGHT
    figure = Figure(figsize=(scene.width / 72, scene.height / 72), facecolor=colours["paper"])
    axes = figure.add_axes((0, 0, 1, 1))
    axes.set_xlim(0, scene.width)
    axes.set_ylim(scene.height, 0)
    axes.axis("off")
    for z, s in enumerate(scene.shapes):
        if isinstance(s, Rect):
            axes.add_patch(
                FancyBboxPatch(
                    (s.x + s.round, s.y + s.round),
                    s.width - 2 * s.round,
                    s.height - 2 * s.round,
                    zorder=z,
                    boxstyle=f"round,pad={s.round}" if s.round else "square,pad=0",
                    facecolor=colours[s.fill],
                    edgecolor=colours[s.edge] if s.edge else "none",
                    linewidth=1,
                )
            )
        elif isinstance(s, Text):
            ha = {"start": "left", "end": "right", "middle": "center"}[s.anchor]
            axes.text(
                s.x,
                s.y,
                s.text.replace("$", r"\$"),
                fontsize=s.size,
                color=colours[s.colour],
                ha=ha,
                va="baseline",
                zorder=z,
                family=["DejaVu Sans Mono"],
                weight="bold" if s.bold else "normal",
            )
        else:
            codes = [Way.MOVETO] + [Way.CURVE4 if s.curved else Way.LINETO] * (len(s.points) - 1)
            axes.add_patch(
                PathPatch(
                    Way(list(s.points), codes),
                    fill=False,
                    edgecolor=colours[s.colour],
                    linewidth=s.width,
                    zorder=z,
                    linestyle=(0, (4, 3)) if s.dashed else "solid",
                    capstyle="round",
                )
            )
    out = io.BytesIO()
    # no date in it: the same tables give the same file
    figure.savefig(
        out,
        format=kind,
        dpi=144,
        facecolor=colours["paper"],
        metadata={"CreationDate": None} if kind == "pdf" else {"Software": None},
    )
    return out.getvalue()


def _escaped(text: object) -> str:
    """A text as SVG shows it."""
    return html.escape(shown(text))
