"""draw: the picture of a layout or of a database, as plain data and as a file."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

from kerfmark.errors import NO_TABLES, Origin, UsageError
from kerfmark.layout.derive import settled
from kerfmark.layout.diagram import Box, Diagram, Flow, Line, Row, diagram_of
from kerfmark.layout.text import parse_layout, read_layout
from kerfmark.ledger.records import Ledger
from kerfmark.progress import Progress, silent
from kerfmark.store.interface import Reader, TableFacts
from kerfmark.store.names import view_name
from kerfmark.store.quoting import quote
from kerfmark.verbs.read_only import database_to_read

ENDINGS = (".svg", ".png", ".pdf", ".mmd", ".dot")
"""What a picture may be."""


def picture(
    what: str | Path,
    output: str | Path,
    *,
    before_after: bool = False,
    dark: bool = False,
    replace: bool = False,
    progress: Progress = silent,
) -> Diagram:
    """Draws the tables of a layout or of a database into a file, whose ending says what is written
    (`ENDINGS`); with `before_after` the flat columns flowing into them. Gives what was drawn.

    Raises what `draw` raises; UsageError for what cannot be drawn so, TargetError for a file that
    cannot be written.
    """
    from kerfmark.draw.flow import flow
    from kerfmark.draw.graph_text import dot, mermaid
    from kerfmark.draw.scene import raster, svg
    from kerfmark.draw.tables import tables
    from kerfmark.verbs.atomic_write import require_writable, write_atomically

    path = Path(output)
    ending = path.suffix.lower()
    if ending not in ENDINGS:
        raise UsageError(
            f'"{path.name}" does not say what to write',
            next=f"let its name end in {', '.join(ENDINGS)}",
        )
    require_writable(path, replace)
    diagram = draw(what, progress)
    progress("drawing", 0, 0)
    if before_after and not diagram.flows:
        raise UsageError(
            "Kerfmark did not make these tables, so it does not know what they were before",
            origin=Origin(diagram.title),
            next="leave out --before-after, or draw a layout",
        )
    if before_after and ending in (".mmd", ".dot"):
        raise UsageError(
            "these forms show tables only",
            next="leave out --before-after, or write .svg, .png or .pdf",
        )
    content: str | bytes
    if ending in (".mmd", ".dot"):
        content = mermaid(diagram) if ending == ".mmd" else dot(diagram)
    else:
        scene = flow(diagram) if before_after else tables(diagram)
        content = svg(scene) if ending == ".svg" else raster(scene, ending[1:], dark=dark)
    with write_atomically({path: content}):
        pass
    return diagram


def draw(what: str | Path, progress: Progress = silent) -> Diagram:
    """The tables of a layout (a .toml file) or of a database, whoever made it.

    Raises LayoutError for a file that is not a layout, TargetError for one that is not a database,
    UsageError when there is nothing to draw.
    """
    if str(what).lower().endswith(".toml"):
        path = Path(what)
        return diagram_of(settled(read_layout(path)[0], {}), path.name)
    where = database_to_read(what)
    with where.reading() as reader:
        names = reader.tables()
        if not names:
            raise UsageError(
                "there are no tables to draw", origin=Origin(where.name), next=NO_TABLES
            )
        rows = {}
        for name in names:
            progress(f"counting {name}", 0, 0)
            rows[name] = int(reader.ask(f"SELECT COUNT(*) FROM {quote(name)}")[0][0])
        title = where.name if "://" in where.name else Path(where.name).name
        if reader.facts("kerfmark_layouts") is None:
            return _found(reader, names, rows, title)
        layout = settled(parse_layout(Ledger(reader).layout, "the layout in the database"), {})
        told = diagram_of(layout, title, rows)
        headers = {
            s: [c.name for c in facts.columns]
            for s in layout.sources
            if (facts := reader.facts(view_name(s)))
        }
        others = [n for n in names if n not in layout.tables]
        more = _found(reader, others, rows, title)
        return Diagram(
            title,
            (*told.boxes, *more.boxes),
            (*told.lines, *more.lines),
            _as_in_the_files(told.flows, headers),
        )


def _as_in_the_files(
    flows: Sequence[Flow], headers: Mapping[str, Sequence[str]]
) -> tuple[Flow, ...]:
    """The columns of sources in the order in which the views, and so the files, have them."""
    place = {(s, h): i for s, names in headers.items() for i, h in enumerate(names)}
    sources = list(dict.fromkeys(f.source for f in flows))
    return tuple(
        sorted(
            flows,
            key=lambda f: (sources.index(f.source), place.get((f.source, f.header), len(place))),
        )
    )


def _found(reader: Reader, names: list[str], rows: dict[str, int], title: str) -> Diagram:
    """Tables as the database itself describes them."""
    boxes, lines = [], []
    for facts in (f for n in names if (f := reader.facts(n))):
        boxes.append(
            Box(
                facts.name,
                tuple(_row(facts, i) for i in range(len(facts.columns))),
                rows[facts.name],
            )
        )
        for link in facts.links:
            optional = any(c.optional for c in facts.columns if c.name in link.columns)
            single = any(set(u) == set(link.columns) for u in (*facts.unique, facts.key))
            lines.append(Line(facts.name, link.columns, link.to, optional, single))
    return Diagram(title, tuple(boxes), tuple(lines))


def _row(facts: TableFacts, i: int) -> Row:
    c = facts.columns[i]
    return Row(
        c.name,
        c.type.lower(),
        c.name in facts.key,
        any(c.name in link.columns for link in facts.links),
        any(c.name in u for u in facts.unique),
        c.optional,
    )
