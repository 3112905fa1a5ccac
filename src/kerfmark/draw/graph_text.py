"""The picture of tables as text that other programs draw: Mermaid's erDiagram, and DOT of
Graphviz."""

from __future__ import annotations

import re

from kerfmark.layout.diagram import Diagram


def mermaid(diagram: Diagram) -> str:
    """An `erDiagram` of Mermaid."""
    out = ["erDiagram"]
    for line in diagram.lines:
        many = "o|" if line.single else "o{"
        out.append(
            f"    {_name(line.parent)} {'|o' if line.optional else '||'}--{many} "
            f"{_name(line.child)} : "
            f'"{_plain(", ".join(line.columns))}"'
        )
    for box in diagram.boxes:
        out.append(f"    {_name(box.name)} {{")
        for row in box.columns:
            marks = ", ".join(
                [
                    *(["PK"] if row.key else []),
                    *(["FK"] if row.link else []),
                    *(["UK"] if row.natural and not row.key else []),
                ]
            )
            word = re.sub(r"\W+", "_", row.name) or "column"
            type_ = re.sub(r"[^\w(),-]+", "_", row.type).replace(",", "_") or "any"
            out.append(
                f"        {type_} {word if word[0].isalpha() else 'c_' + word}"
                + (f" {marks}" if marks else "")
                + (f' "{_plain(row.name)}"' if word != row.name else "")
            )
        out.append("    }")
    return "\n".join(out) + "\n"


def dot(diagram: Diagram) -> str:
    """A graph of Graphviz."""
    out = [
        f"digraph {_quoted(diagram.title)} {{",
        "  rankdir=BT; nodesep=0.5; ranksep=0.7;",
        '  node [shape=plain, fontname="DejaVu Sans Mono", fontsize=11]; edge [arrowsize=0.8];',
    ]
    for box in diagram.boxes:
        rows = "".join(
            f'<tr><td align="left">{"PK" if r.key else "FK" if r.link else " "}</td>'
            f'<td align="left">{_html(r.name)}</td><td align="left">{_html(r.type)}</td></tr>'
            for r in box.columns
        )
        count = f" ({box.rows:,})" if box.rows is not None else ""
        out.append(
            f'  {_quoted(box.name)} [label=<<table border="0" cellborder="1" cellspacing="0">'
            '<tr><td colspan="3" '
            f'bgcolor="#f3e3cc"><b>{_html(box.name)}</b>{count}</td></tr>{rows}</table>>];'
        )
    for line in diagram.lines:
        foot, head = ("tee" if line.single else "crow"), ("teeodot" if line.optional else "tee")
        out.append(
            f"  {_quoted(line.child)} -> {_quoted(line.parent)} [dir=both, arrowtail={foot}, "
            f"arrowhead={head}, "
            f"style={'dashed' if line.optional else 'solid'}, "
            f"tooltip={_quoted(', '.join(line.columns))}];"
        )
    return "\n".join([*out, "}"]) + "\n"


def _plain(text: str) -> str:
    return text.replace('"', "'").replace("\n", " ")


def _name(text: str) -> str:
    return text if re.fullmatch(r"[A-Za-z_]\w*", text) else f'"{_plain(text)}"'


def _quoted(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n") + '"'


def _html(text: str) -> str:
    return text.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")
