"""Compiles a layout into a plan: every decision that needs no data."""

from __future__ import annotations

from kerfmark.layout.model import ColumnSpec, Layout, LinkSpec, TableSpec
from kerfmark.plan.model import (
    Cell,
    ColumnStep,
    Form,
    Identity,
    Kind,
    LinkStep,
    LookUpStep,
    Plan,
    Rule,
    TableStep,
)

_NONE = Identity(())


def compiled(layout: Layout) -> Plan:
    """The plan of a settled layout (see `layout.derive`)."""
    return _Compiler(layout).plan()


def column_rule(spec: TableSpec, name: str) -> Rule:
    """By which rule a column of a table of records gets its value."""
    column = spec.columns[name]
    if column.usual and not spec.each_row:
        return "most frequent"
    if column.conflicts != "refuse" and not spec.each_row:
        return column.conflicts
    if column.instead_of:
        return "exception"
    return "own" if spec.each_row or name in spec.known_by else "same"


def part_rule(column: ColumnSpec) -> Rule:
    """Where a column of a table of parts gets its value."""
    if column.headers:
        return "group"
    if column.told:
        return "told"
    return "position" if column.position else "part"


def listed(layout: Layout, table: str) -> tuple[str, str]:
    """The header whose cells a table holds the parts of, and what separates them."""
    spec = layout.tables[table]
    for column in spec.columns.values():
        if column.split:
            return column.header, column.split
    link = next(link for link in spec.links.values() if link.by)
    [(column_name, header)] = link.by.items()
    return header, layout.tables[link.to].columns[column_name].split


def in_order_of_lookup(layout: Layout) -> list[tuple[str, str, LinkSpec]]:
    """The links that are found by value, those that need others after these."""
    links = [
        (name, link, target)
        for name, spec in layout.tables.items()
        for link, target in spec.links.items()
        if target.by
    ]
    return sorted(links, key=lambda one: any("." in path for path in one[2].by))


class _Compiler:
    """Compiles one layout; keeps the cells that were asked for, each once."""

    def __init__(self, layout: Layout) -> None:
        self.layout = layout
        self._cells: dict[str, dict[str, Cell]] = {n: {} for n in layout.sources}
        self._identities: dict[str, Identity] = {}

    def plan(self) -> Plan:
        """The whole plan."""
        order = self.layout.parents_first()
        parts_last = sorted(order, key=lambda n: bool(self.layout.tables[n].part_of))
        tables = {n: self._table(n, self.layout.tables[n]) for n in parts_last}
        lookups = tuple(self._lookup(*one) for one in in_order_of_lookup(self.layout))
        return Plan(tables, lookups, {n: tuple(c.values()) for n, c in self._cells.items()})

    def _cell(
        self, source: str, form: Form, header: str, spec: ColumnSpec, split: str = ""
    ) -> Cell:
        said = (
            (spec.clean, spec.means, spec.default, spec.unit, spec.type)
            if form != "text"
            else (spec.clean, spec.means, spec.default)
        )
        key = repr((form, header, split, said))
        mine = self._cells[source]
        if key not in mine:
            mine[key] = Cell(f"c{len(mine)}", source, form, header, spec, split)
        return mine[key]

    def _value(self, source: str, spec: ColumnSpec, header: str = "") -> Cell:
        """The value of a column in a row."""
        if spec.derived:
            return self._cell(source, "derived", spec.derived, spec)
        return self._cell(source, "value", header or spec.header, spec)

    def _identity(self, name: str) -> Identity:
        """What tells the records of a table apart, in rows of its own source."""
        if name not in self._identities:
            spec, cells, only = self.layout.tables[name], list[Cell](), list[Cell]()
            for key in spec.known_by:
                if key in spec.columns:
                    cells.append(self._value(spec.source, spec.columns[key]))
                else:
                    through = self._of_link(spec.source, spec.links[key])
                    cells += through.cells
                    only += through.only
            if spec.only_rows and not spec.each_row:
                only.append(
                    self._cell(spec.source, "holds", spec.only_rows, ColumnSpec(header="-"))
                )
            self._identities[name] = Identity(
                tuple(dict.fromkeys(cells)), tuple(dict.fromkeys(only))
            )
        return self._identities[name]

    def _of_link(self, source: str, link: LinkSpec) -> Identity:
        """What tells apart the records that a link leads to, in rows of a source."""
        if not link.by:
            return self._identity(link.to)
        cells = [
            self._cell(source, "value", header, found[1])
            for column, header in link.by.items()
            if (found := self.layout.follow(link.to, column))
        ]
        return Identity(tuple(dict.fromkeys(cells)))

    def _table(self, name: str, spec: TableSpec) -> TableStep:
        if spec.part_of:
            return self._part(name, spec)
        if whole := next((c for c in spec.columns.values() if c.split), None):
            parts = self._cell(spec.source, "parts", whole.header, whole, whole.split)
            column = next(n for n, c in spec.columns.items() if c is whole)
            step = ColumnStep(column, whole, "part", (parts,))
            kind: Kind = "all parts"
            return TableStep(
                name, spec.source, kind, _NONE, {column: step}, {}, parts=parts, order=spec.order
            )
        columns = {n: self._column(spec, n, c) for n, c in spec.columns.items()}
        links = {
            n: LinkStep(
                n,
                link,
                tuple(link.by.values()) or tuple(self.layout.key_headers(link.to)),
                self._of_link(spec.source, link),
                agreed=n not in spec.known_by and not spec.each_row,
                required=n not in spec.optional,
            )
            for n, link in spec.links.items()
        }
        sets = spec.unique_sets if isinstance(spec.key, str) else [*spec.unique_sets, spec.key]
        unique = tuple(
            u
            for u in sets
            if (spec.each_row or u != spec.known_by) and (spec.known != "add" or u != spec.known_by)
        )
        kind = "rows" if spec.each_row else "records"
        identity = _NONE if spec.each_row else self._identity(name)
        return TableStep(
            name, spec.source, kind, identity, columns, links, unique=unique, order=spec.order
        )

    def _column(self, spec: TableSpec, name: str, column: ColumnSpec) -> ColumnStep:
        cells: tuple[Cell, ...] = (self._value(spec.source, column),)
        if column.instead_of:
            cells += (self._cell(spec.source, "text", column.header, column),)
        required = name not in spec.optional and not column.instead_of
        return ColumnStep(name, column, column_rule(spec, name), cells, column.instead_of, required)

    def _part(self, name: str, spec: TableSpec) -> TableStep:
        source, owner_link = spec.source, self.layout.owner_link(name)
        grouped = any(c.headers for c in spec.columns.values())
        header, split = ("", "") if grouped else listed(self.layout, name)
        columns: dict[str, ColumnStep] = {}
        parts: Cell | None = None
        for n, c in spec.columns.items():
            rule, cells = part_rule(c), tuple[Cell, ...]()
            if rule == "group":
                cells = tuple(self._value(source, c, h) for h in c.headers)
            elif rule == "part" and c.derived:
                cells = (self._cell(source, "derived parts", c.derived, c, f"{header}\n{split}"),)
            elif rule == "part":
                cells = (self._cell(source, "parts", c.header, c, c.split),)
                parts = parts or cells[0]
            columns[n] = ColumnStep(n, c, rule, cells, required=n not in spec.optional)
        links = {
            n: LinkStep(
                n,
                link,
                tuple(link.by.values()) or tuple(self.layout.key_headers(link.to)),
                _NONE,
                owner=n == owner_link,
                required=n not in spec.optional,
            )
            for n, link in spec.links.items()
        }
        if not grouped and parts is None:  # it has them through a link only
            parts = self._linked_part(source, spec)
        kind: Kind = "groups of records" if grouped else "parts of records"
        return TableStep(
            name, source, kind, _NONE, columns, links, spec.part_of, parts, order=spec.order
        )

    def _linked_part(self, source: str, spec: TableSpec) -> Cell:
        link = next(link for link in spec.links.values() if link.by)
        [(column, header)] = link.by.items()
        of_parent = self.layout.tables[link.to].columns[column]
        return self._cell(source, "parts", header, of_parent, of_parent.split)

    def _lookup(self, table: str, name: str, link: LinkSpec) -> LookUpStep:
        spec = self.layout.tables[table]
        in_parts = bool(spec.part_of) and not any(c.headers for c in spec.columns.values())

        def cell(path: str, header: str) -> Cell:
            found = self.layout.follow(link.to, path)
            assert found is not None
            if in_parts:
                return self._cell(spec.source, "parts", header, found[1], found[1].split)
            return self._cell(spec.source, "value", header, found[1])

        return LookUpStep(
            table,
            name,
            link,
            {path: cell(path, header) for path, header in link.by.items()},
            {path: cell(path, header) for path, header in link.repeats.items()},
        )
