"""What all HTML pages share: one self-contained file, light or dark as the reader's system is, harmless whatever the data say."""

from __future__ import annotations

import html
from collections.abc import Iterable, Sequence

STYLE = """
:root { color-scheme: light dark; --ink: #22252a; --paper: #fbfaf7; --faint: #6a6e76; --line: #dcd8ce; --head: #8a4b08;
  --bar: #3a6ea5; --bad: #b3261e; --odd: #3d6b35; --card: #ffffff; }
@media (prefers-color-scheme: dark) { :root { --ink: #e6e3dc; --paper: #191b1f; --faint: #9a9da5; --line: #3a3d44;
  --head: #e0a458; --bar: #7fb0e0; --bad: #ff8a80; --odd: #9ccc8f; --card: #212429; } }
* { box-sizing: border-box; }
body { margin: 0 auto; padding: 1.5rem 2rem 3rem; max-width: 1240px; background: var(--paper); color: var(--ink);
  font: 15px/1.45 system-ui, "DejaVu Sans", sans-serif; }
h1 { font-size: 1.35rem; margin: 0 0 .2rem; } h2 { font-size: 1.12rem; margin: 2rem 0 .2rem; color: var(--head); }
h3 { font-size: .95rem; margin: 1.2rem 0 .3rem; } p { margin: .2rem 0; } .faint { color: var(--faint); }
.wide { overflow-x: auto; background: var(--card); border: 1px solid var(--line); border-radius: 6px; margin: .6rem 0; }
table { border-collapse: collapse; width: 100%; font-size: .87rem; }
th { text-align: left; color: var(--head); font-weight: 600; white-space: nowrap; }
th, td { padding: .28rem .7rem; border-bottom: 1px solid var(--line); vertical-align: top; }
tr:last-child td { border-bottom: 0; } td.n, th.n { text-align: right; font-variant-numeric: tabular-nums; white-space: nowrap; }
td.name { font-weight: 600; } td.text { max-width: 22rem; overflow-wrap: anywhere; }
.broken { color: var(--bad); font-weight: 700; } .doubtful { color: var(--head); font-weight: 700; }
.broken, .doubtful, .odd { white-space: nowrap; }
.odd { color: var(--odd); font-weight: 600; } svg { display: block; } svg rect { fill: var(--bar); }
"""


def page(title: str, body: Iterable[str]) -> str:
    """A whole page."""
    return (f'<!doctype html>\n<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width">'
            f"<title>{said(title)}</title><style>{STYLE}</style></head>\n<body>\n" + "\n".join(body) + "\n</body></html>\n")


def said(text: object) -> str:
    """A text as HTML shows it; control characters are pictures of themselves."""
    plain = "".join(chr(0x2400 + ord(c)) if ord(c) < 32 and c not in "\n\t" else c for c in str(text))
    return html.escape(plain)


def table(heads: Sequence[str], rows: Iterable[Sequence[str]], *, numbers: Sequence[int] = (), names: Sequence[int] = ()) -> str:
    """A table; its cells are HTML already."""
    def kind(i: int) -> str:
        return "n" if i in numbers else "name" if i in names else "text"

    top = "".join(f'<th class="{kind(i)}">{said(h)}</th>' for i, h in enumerate(heads))
    lines = ("".join(f'<td class="{kind(i)}">{cell}</td>' for i, cell in enumerate(row)) for row in rows)
    return (f'<div class="wide"><table><thead><tr>{top}</tr></thead><tbody>' + "".join(f"<tr>{line}</tr>\n" for line in lines)
            + "</tbody></table></div>")


def bars(counts: Sequence[int], told: str, *, width: int = 132, height: int = 26) -> str:
    """A small picture of some counts, one bar each; `told` is what it says in words."""
    if not counts or not max(counts):
        return ""
    step = width / len(counts)
    most = max(counts)
    parts = []
    for i, n in enumerate(counts):
        if n:
            tall = max(1.0, n / most * height)
            parts.append(f'<rect x="{i * step:.1f}" y="{height - tall:.1f}" width="{max(step - 1, .8):.1f}" height="{tall:.1f}"/>')
    return (f'<svg role="img" width="{width}" height="{height}" viewBox="0 0 {width} {height}"><title>{said(told)}</title>'
            + "".join(parts) + "</svg>")
