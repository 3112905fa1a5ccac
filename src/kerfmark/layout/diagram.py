"""What a picture of tables shows: boxes with columns, links, and where the columns of flat sources
went."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

from kerfmark.layout.model import Layout


@dataclass(frozen=True)
class Row:
    """A column of a table. `key`: it is (part of) the primary key; `link`: it leads to another
    table; `natural`: records are known by it; `optional`: it may be blank."""

    name: str
    type: str
    key: bool = False
    link: bool = False
    natural: bool = False
    optional: bool = False


@dataclass(frozen=True)
class Box:
    """A table. `rows` counts its records (None: not counted), `saved` the values that are in it
    once and would be repeated in a flat table."""

    name: str
    columns: tuple[Row, ...]
    rows: int | None = None
    saved: int = 0


@dataclass(frozen=True)
class Line:
    """A link: from a table's columns to the table that they lead to. `optional`: not every record
    has it; `single`: no two records lead to the same."""

    child: str
    columns: tuple[str, ...]
    parent: str
    optional: bool = False
    single: bool = False


@dataclass(frozen=True)
class Flow:
    """A column of a flat source, and the table and column that it went to ("": left out)."""

    source: str
    header: str
    table: str
    column: str


@dataclass(frozen=True)
class Diagram:
    """The whole picture."""

    title: str
    boxes: tuple[Box, ...]
    lines: tuple[Line, ...]
    flows: tuple[Flow, ...] = ()


def diagram_of(layout: Layout, title: str, rows: Mapping[str, int] | None = None) -> Diagram:
    """The picture of a layout; `rows` counts the records of tables, where they are built."""
    boxes, lines = [], []
    for name, table in layout.tables.items():
        keys = layout.key_columns(name)
        natural = set(layout.stored_as(name, table.known_by))
        columns = [Row(k, "integer", key=True) for k in keys if layout.has_generated_key(name)]
        for link, target in table.links.items():
            own = [c for c, _ in layout.link_columns(name, link)]
            columns += [
                Row(
                    c,
                    "integer" if layout.has_generated_key(target.to) else "",
                    c in keys,
                    True,
                    c in natural,
                    link in table.optional,
                )
                for c in own
            ]
            single = any(set(u) == {link} for u in table.unique_sets)
            lines.append(Line(name, tuple(own), target.to, link in table.optional, single))
        columns += [
            Row(
                c, str(s.of_type).split(" ")[0], c in keys, False, c in natural, c in table.optional
            )
            for c, s in table.columns.items()
            if c != layout.counted(name)
        ]
        boxes.append(Box(name, tuple(columns), None if rows is None else rows.get(name)))
    flows = []
    for source, spec in layout.sources.items():
        targets: dict[str, tuple[str, str]] = {}
        for name, table in layout.tables.items():
            for c, column in table.columns.items() if table.source == source else ():
                targets |= {h: (name, c) for h in column.sources if h not in targets}
        for table in layout.tables.values():
            for target in table.links.values() if table.source == source else ():
                for path, h in (*target.by.items(), *target.repeats.items()):
                    if h not in targets:
                        *way, c = path.split(".")
                        at = target.to
                        for step in way:
                            at = layout.tables[at].links[step].to
                        targets[h] = at, c
        flows += [
            Flow(source, h, *targets.get(h, ("", "")))
            for h in dict.fromkeys([*targets, *spec.left_out])
        ]
    return replace(_saving(layout, Diagram(title, tuple(boxes), tuple(lines), tuple(flows))))


def _saving(layout: Layout, diagram: Diagram) -> Diagram:
    """How many values each table spares: each of its columns would be repeated in every row of its
    source."""
    rows = {b.name: b.rows for b in diagram.boxes}
    boxes = []
    for box in diagram.boxes:
        table = layout.tables[box.name]
        flat = max(
            (
                rows.get(n) or 0
                for n, t in layout.tables.items()
                if t.each_row and t.source == table.source
            ),
            default=0,
        )
        own = sum(not c.link and not (c.key and not c.natural) for c in box.columns)
        spared = (
            0
            if table.each_row or table.part_of or box.rows is None
            else max(0, flat - box.rows) * own
        )
        boxes.append(replace(box, saved=spared))
    return replace(diagram, boxes=tuple(boxes))
