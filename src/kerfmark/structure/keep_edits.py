"""Marking again: an edited layout keeps its edits, and gets only what it does not know yet."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from kerfmark.layout.edit import with_more
from kerfmark.layout.model import Layout, SourceSpec, TableSpec
from kerfmark.layout.names import free_name
from kerfmark.layout.text import parse_layout, write_layout
from kerfmark.read.union import WHERE


@dataclass(frozen=True)
class Kept:
    """The layout with what was added to it, its text with a person's words kept, and what is new
    and what is gone."""

    layout: Layout
    text: str
    new: tuple[str, ...]
    missing: tuple[str, ...]


def keep_edits(old: Layout, text: str, proposed: Layout) -> Kept:
    """An edited layout, brought up to date with a fresh proposal for the same (or further) sources.

    A column that the layout does not know joins the table that the proposal puts it in, if the
    layout has that table (known by the same columns); else the table with a record per row. A
    source that it does not know comes with all its tables.
    """
    import tomlkit

    doc: Any = tomlkit.parse(text)
    new: list[str] = []
    missing: list[str] = []
    names = {n: m for n, s in proposed.sources.items() if (m := _same_source(old, n, s))}
    for name, there in names.items():
        known = {h for t in old.tables.values() if t.source == there for h in t.headers} | set(
            old.sources[there].left_out
        )
        fresh = {h for t in proposed.tables.values() if t.source == name for h in t.headers}
        missing += [h for h in sorted(known - fresh) if h not in old.sources[there].left_out]
        mine = [
            (n, c, s)
            for n, t in proposed.tables.items()
            if t.source == name
            for c, s in t.columns.items()
        ]
        for table, column, spec in mine:
            for header in (h for h in spec.sources if h not in known):
                into = _same_table(old, there, proposed.tables[table]) or old.base_of(there)
                target = doc["tables"][into]
                if "columns" not in target:
                    target["columns"] = tomlkit.table()
                free = free_name(
                    column,
                    {*old.tables[into].columns, *old.tables[into].links, *target["columns"]},
                    f"{column}_2",
                )
                inline = tomlkit.inline_table()
                inline.update({"header": header, "type": spec.type})
                target["columns"][free] = header if spec.type == "text" else inline
                target["optional"] = [*target.get("optional", []), free]
                known.add(header)
                new.append(f'"{header}" joins {into}')
    added = tomlkit.dumps(doc)
    strange = {n: s for n, s in proposed.sources.items() if n not in names}
    if strange:
        tables = {n: t for n, t in proposed.tables.items() if t.source in strange}
        taken = {*old.tables}
        renamed = {n: free_name(n, taken, f"{n}_2") for n in tables}
        more = Layout(
            kerfmark=old.kerfmark,
            sources=strange,
            tables={
                renamed[n]: _renamed(t, renamed, names, old, proposed) for n, t in tables.items()
            },
        )
        added = with_more(added, old, write_layout(more))
        new += [
            f"source {n}: {', '.join(renamed[t] for t in tables if tables[t].source == n)}"
            for n in strange
        ]
    return Kept(
        parse_layout(added, "the layout"), added if new else text, tuple(new), tuple(missing)
    )


def _same_source(old: Layout, name: str, spec: SourceSpec) -> str:
    """The source of a layout that reads the same."""
    for there, known in old.sources.items():
        if known.file and all(
            getattr(known, k) == getattr(spec, k) for k in ("file", "table", *WHERE)
        ):
            return there
    return name if name in old.sources else ""


def _same_table(old: Layout, source: str, table: TableSpec) -> str:
    """The table of a layout whose records are known by the same headers."""
    headers = [table.columns[k].header for k in table.known_by if k in table.columns]
    for name, known in old.tables.items():
        if (
            known.source == source
            and not known.part_of
            and headers
            and headers == [known.columns[k].header for k in known.known_by if k in known.columns]
        ):
            return name
    return ""


def _renamed(
    table: TableSpec,
    renamed: Mapping[str, str],
    names: Mapping[str, str],
    old: Layout,
    proposed: Layout,
) -> TableSpec:
    """A new table whose links lead to what tables are called in the layout it joins."""
    links = {}
    for link, target in table.links.items():
        to = renamed.get(target.to)
        if to is None:
            source = proposed.tables[target.to].source
            to = _same_table(old, names[source], proposed.tables[target.to]) or target.to
        links[link] = target.model_copy(update={"to": to})
    return table.model_copy(
        update={"links": links, "part_of": renamed.get(table.part_of, table.part_of)}
    )
