"""A page to keep: a verdict, then sections of plain lines and tables."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from kerfmark.draw.page import page, said


@dataclass(frozen=True)
class Section:
    """A part of the page. The columns in `right` are numbers; `text` is shown as it stands."""

    title: str
    lines: tuple[str, ...] = ()
    heads: tuple[str, ...] = ()
    rows: tuple[tuple[object, ...], ...] = ()
    right: tuple[int, ...] = ()
    text: str = ""


def document(title: str, about: str, verdict: str, good: bool, sections: Sequence[Section]) -> str:
    """The whole page."""
    colour, plain = "odd" if good else "broken", "font-size: 1.05rem; margin: .8rem 0"
    body = [f"<h1>{said(title)}</h1>", f'<p class="faint">{said(about)}</p>',
            f'<p style="{plain}"><span class="{colour}" style="white-space: normal">{said(verdict)}</span></p>']
    for section in sections:
        body.append(f"<h2>{said(section.title)}</h2>")
        body += [f"<p>{said(line)}</p>" for line in section.lines]
        if section.heads:
            narrow = ' style="width: fit-content; min-width: 22rem"' if len(section.heads) < 3 else ""
            body.append(f'<div class="wide"{narrow}><table><tr>' + "".join(
                f"<th{' class=n' if i in section.right else ''}>{said(h)}</th>" for i, h in enumerate(section.heads)) + "</tr>")
            for row in section.rows:
                body.append("<tr>" + "".join(f'<td class="{"n" if i in section.right else "name" if i == 0 else ""}">'
                                             f"{said('' if c is None else c)}</td>" for i, c in enumerate(row)) + "</tr>")
            body.append("</table></div>")
        if section.text:
            body.append(f'<div class="wide"><pre style="margin: .6rem 1rem; font-size: .82rem">{said(section.text)}</pre></div>')
    return page(title, body)
