"""The views that show sources in their flat shape."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from kerfmark.layout.model import Layout, TableSpec
from kerfmark.layout.reached import Reached, reached
from kerfmark.store.names import fit_name, view_columns, view_name, whole_view_name
from kerfmark.store.quoting import literal
from kerfmark.store.sql_dialect import SqlDialect


@dataclass(frozen=True)
class ViewSql:
    """A view: its name, the expressions it shows (with what each is called), and the joined
    tables."""

    name: str
    cells: tuple[tuple[str, str], ...]
    rows: str

    def query(self, condition: str = "") -> str:
        """What it asks."""
        chosen = ",\n       ".join(f"{cell} AS {called}" for cell, called in self.cells)
        return f"SELECT {chosen}\nFROM {self.rows}" + (f"\nWHERE {condition}" if condition else "")

    def create(self, verb: str = "CREATE") -> str:
        """The statement that makes it."""
        return f"{verb} VIEW {self.name} AS\n{self.query()}"


def view(layout: Layout, source: str, headers: Sequence[str], dialect: SqlDialect) -> ViewSql:
    """The view that rejoins a source: its headers in their order."""
    cells, rows = _View(layout, source, dialect).flat(headers)
    named = view_columns(headers, dialect.longest_name)
    return ViewSql(
        dialect.quote(view_name(source)),
        tuple((cell, dialect.quote(named[h])) for h, cell in cells.items()),
        rows,
    )


def views(
    layout: Layout, source: str, headers: Sequence[str], dialect: SqlDialect
) -> list[ViewSql]:
    """The views of a source: that which rejoins it, and that which shows what its rows lead to as
    well, where they lead to more, or the layout chooses what it shows."""
    first, chosen = view(layout, source, headers, dialect), layout.sources[source].view
    more = reached(layout, source, headers)
    if not (more or chosen) or whole_view_name(source) in layout.tables:
        return [first]
    found = _View(layout, source, dialect)
    cells, _ = found.flat(headers)
    cells |= {r.label: found.reached(r) for r in more}
    shown = [h for h in chosen or cells if h in cells]
    named = view_columns(shown, dialect.longest_name)
    _, rows = found.flat(())
    whole = ViewSql(
        dialect.quote(whole_view_name(source)),
        tuple((cells[h], dialect.quote(named[h])) for h in shown),
        rows,
    )
    return [first, whole]


def flat(
    layout: Layout, source: str, headers: Sequence[str], dialect: SqlDialect
) -> tuple[dict[str, str], str]:
    """The same as the parts of a query: an expression for each header that was not left out, and
    the joined tables. The first of these is the one with a record per row, under its own name."""
    return _View(layout, source, dialect).flat(headers)


@dataclass(frozen=True)
class Step:
    """A table on the way from the row of a source to a cell: what it is called in the joined
    tables, and the columns that lead on, or hold the cell in the end. `part`: the cell is one of
    its parts, which that table holds."""

    table: str
    alias: str
    columns: tuple[str, ...]
    part: str = ""


def ways(
    layout: Layout, source: str, headers: Sequence[str], dialect: SqlDialect
) -> tuple[dict[str, list[list[Step]]], str]:
    """For each header the ways on which its cell is found (two where rows may have exceptions), and
    the joined tables."""
    found = _View(layout, source, dialect)
    out = {h: found.ways(h) for h in headers}
    return out, found.flat(headers)[1]


class _View:
    """Finds every header of a source again, from the table with a record per row on."""

    def __init__(self, layout: Layout, source: str, dialect: SqlDialect) -> None:
        self.layout, self.source, self.dialect, self.quote = layout, source, dialect, dialect.quote
        self.base = layout.base_of(source)
        self.joins: dict[str, str] = {}
        self.aliases: dict[str, str] = {}

    def flat(self, headers: Sequence[str]) -> tuple[dict[str, str], str]:
        """An expression for each header, and what to ask them of."""
        cells = {h: cell for h in headers if (cell := self._cell(h))}
        return cells, "\n".join([self.quote(self.base), *self.joins.values()])

    def reached(self, r: Reached) -> str:
        """A column that rows lead to."""
        here, way, table = self._reach(r.table), r.table, r.table
        for link in r.links:
            way = f"{way}.{link}"
            here = self._looked_up(here, way, table, link)
            table = self.layout.tables[table].links[link].to
        return f"{here}.{self.quote(r.column)}"

    def ways(self, header: str) -> list[list[Step]]:
        """See `ways`."""
        for name, table in self.layout.tables_of(self.source).items():
            if table.part_of:
                links = [h for link in table.links.values() for h in link.by.values()]
                if header in links or any(header in c.sources for c in table.columns.values()):
                    way = self._way(table.part_of)
                    return [[*way[:-1], Step(way[-1].table, way[-1].alias, (), name)]]
                continue
            for column, spec in table.columns.items():
                if spec.header == header and (spec.usual or spec.instead_of):
                    found = self.layout.exceptional(self.source, header)
                    assert found is not None
                    return [self._way(found[0], found[1]), self._way(found[2], found[3])]
                if spec.header == header and not spec.split:
                    return [self._way(name, column)]
            for link, target in table.links.items():
                for path, h in (*target.by.items(), *target.repeats.items()):
                    if h == header:
                        return [self._way_through(name, link, path)]
        return []

    def _way(self, name: str, column: str = "") -> list[Step]:
        """The way to a table, and a column of it, through the row."""
        self._reach(name)
        steps = [
            Step(
                child,
                self.quote(child),
                tuple(own for own, _ in self.layout.link_columns(child, link)),
            )
            for child, link, _ in self.layout.path(self.base, name) or []
        ]
        return [*steps, Step(name, self.quote(name), (column,) if column else ())]

    def _way_through(self, name: str, link: str, path: str) -> list[Step]:
        """The way to a column that a link by value leads to."""
        self._through(name, link, self.layout.tables[name].links[link].to, path)
        steps = [*self._way(name)[:-1], Step(name, self.quote(name), self._own(name, link))]
        way, table = f"{name}.{link}", self.layout.tables[name].links[link].to
        *links, column = path.split(".")
        for further in links:
            steps.append(Step(table, self.quote(self.aliases[way]), self._own(table, further)))
            way, table = f"{way}.{further}", self.layout.tables[table].links[further].to
        return [*steps, Step(table, self.quote(self.aliases[way]), (column,))]

    def _own(self, name: str, link: str) -> tuple[str, ...]:
        return tuple(own for own, _ in self.layout.link_columns(name, link))

    def _cell(self, header: str) -> str:
        """What a row says under a header; "" for one that was left out."""
        for name, table in self.layout.tables_of(self.source).items():
            if table.part_of:
                if cell := self._of_part(name, table, header):
                    return cell
                continue
            for column, spec in table.columns.items():
                if spec.header == header and (spec.usual or spec.instead_of):
                    return self._exceptional(header)
                if spec.header == header and not spec.split:
                    return f"{self._reach(name)}.{self.quote(column)}"
            for link, target in table.links.items():
                for column, h in (*target.by.items(), *target.repeats.items()):
                    if h == header:
                        return self._through(name, link, target.to, column)
        return ""

    def _exceptional(self, header: str) -> str:
        """What a row says itself, or else what is usual."""
        found = self.layout.exceptional(self.source, header)
        assert found is not None
        base, column, table, usual = found
        return (
            f"COALESCE({self.quote(base)}.{self.quote(column)}, "
            f"{self._reach(table)}.{self.quote(usual)})"
        )

    def _through(self, name: str, link: str, parent: str, path: str) -> str:
        """A column of what a link by value leads to, or of what that links to."""
        reached = self._looked_up(self._reach(name), f"{name}.{link}", name, link)
        way = f"{name}.{link}"
        *links, column = path.split(".")
        for further in links:
            way = f"{way}.{further}"
            reached = self._looked_up(reached, way, parent, further)
            parent = self.layout.tables[parent].links[further].to
        return f"{reached}.{self.quote(column)}"

    def _reach(self, name: str) -> str:
        """A table that links through the row lead to, joined."""
        for child, link, parent in self.layout.path(self.base, name) or []:
            self.joins.setdefault(
                parent, self._join(self.quote(parent), "", child, link, self.quote(child))
            )
        return self.quote(name)

    def _looked_up(self, reached: str, name: str, child: str, link: str) -> str:
        """What a link of a table leads to, joined under a name of its own; `reached` is what the
        table itself is called."""
        alias = self.quote(
            self.aliases.setdefault(
                name, fit_name(name, self.dialect.longest_name, self.aliases.values())
            )
        )
        parent = self.quote(self.layout.tables[child].links[link].to)
        self.joins.setdefault(
            alias, self._join(parent, self.dialect.alias + alias, child, link, reached, alias)
        )
        return alias

    def _join(
        self, parent: str, as_: str, child: str, link: str, reached: str, alias: str = ""
    ) -> str:
        return f"LEFT JOIN {parent}{as_} ON {self._equal(child, link, reached, alias or parent)}"

    def _equal(self, child: str, link: str, here: str, there: str) -> str:
        """The condition that a record of a table (called `here`) leads to one of its parent (called
        `there`)."""
        return " AND ".join(
            f"{there}.{self.quote(key)} = {here}.{self.quote(own)}"
            for own, key in self.layout.link_columns(child, link)
        )

    def _of_part(self, name: str, table: TableSpec, header: str) -> str:
        """One of several columns, or the parts of a cell put together again."""
        q, mine = self.quote, self.quote(name)
        owner = self._equal(name, self.layout.owner_link(name), mine, self._reach(table.part_of))
        for column, spec in table.columns.items():
            if header in spec.headers:
                which, telling = next((n, c) for n, c in table.columns.items() if c.told)
                told = telling.told[spec.headers.index(header)]
                value = told if telling.of_type.kind == "integer" else literal(told)
                return (
                    f"(SELECT {mine}.{q(column)} FROM {mine} WHERE {owner} AND "
                    f"{mine}.{q(which)} = {value})"
                )
        position = next((q(n) for n, c in table.columns.items() if c.position), "")
        parts = [
            (f"{mine}.{q(n)}", "", c.split)
            for n, c in table.columns.items()
            if c.header == header and c.split
        ]
        for link, target in table.links.items():
            for column, h in target.by.items():
                if h == header:
                    parent = q(target.to)
                    joined = f" JOIN {parent} ON {self._equal(name, link, mine, parent)}"
                    parts.append(
                        (
                            f"{parent}.{q(column)}",
                            joined,
                            self.layout.tables[target.to].columns[column].split,
                        )
                    )
        if not parts:
            return ""
        value, joined, split = parts[0]
        # a table that somebody else made may not keep the order: then they are sorted
        by = f"{mine}.{position}" if position else self.dialect.in_code_points.format(value)
        rows = f"FROM {mine}{joined} WHERE {owner}"
        return self.dialect.string_agg(value, literal(split), f"ORDER BY {by}", rows)
