"""Layouts as TOML text: reading with every problem told at once, writing with the reasons as comments."""

from __future__ import annotations

import difflib
import textwrap
import tomllib
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from pydantic import ValidationError

from kerfmark.errors import LayoutError, Origin, counted
from kerfmark.layout.model import VERSION, ColumnSpec, Layout, LinkSpec, PartSpec, SourceSpec, TableSpec

if TYPE_CHECKING:
    from tomlkit.items import Table

HEADING = """\
A layout of Kerfmark: how the columns of the sources become the tables of a database.
Edit it, then cut again. A table has one record per distinct combination of its known_by, or, with
each_row, one per row of the source. Every table gets a generated primary key. All columns and links
must be filled unless they are listed as optional. A link leads to the table it names."""


def read_layout(path: Path) -> tuple[Layout, str]:
    """The layout in a file, and its text.

    Raises LayoutError for what is no TOML, no layout, or contradicts itself.
    """
    try:
        text = path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise LayoutError("the layout cannot be read", origin=Origin(str(path)), why=str(error)) from error
    return parse_layout(text, path.name), text


def parse_layout(text: str, name: str) -> Layout:
    """The layout in a text; `name` is what messages call it."""
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise LayoutError("this is not TOML", origin=Origin(name), why=str(error)) from error
    if data.get("kerfmark") != VERSION:
        raise LayoutError(f"the layout does not start with kerfmark = {VERSION}", origin=Origin(name),
                          why="that line says in which version of the layout language it is written",
                          next=f"if it is a layout, add the line kerfmark = {VERSION} at its top")
    try:
        layout = Layout.model_validate(data)
    except ValidationError as error:
        raise _refused(name, [_said(problem) for problem in error.errors()]) from error
    problems = contradictions(layout)
    if problems:
        raise _refused(name, problems)
    return layout


def _refused(name: str, problems: list[str]) -> LayoutError:
    return LayoutError(f"the layout has {counted(len(problems), 'mistake')}",
                       origin=Origin(name), more=problems, total=len(problems), next="mend it and run the command again")


def _said(problem: Mapping[str, Any]) -> str:
    """One of pydantic's problems in our words."""
    place = " > ".join(str(p) for p in problem["loc"])
    if problem["type"] == "extra_forbidden":
        third = PartSpec if "parts" in problem["loc"] else LinkSpec if "links" in problem["loc"] else ColumnSpec
        owner = {1: Layout, 3: SourceSpec if problem["loc"][0] == "sources" else TableSpec, 5: third}
        known = list(owner.get(len(problem["loc"]), Layout).model_fields)
        near = difflib.get_close_matches(str(problem["loc"][-1]), known, 1)
        return f"{place}: there is no such key" + (f'; did you mean "{near[0]}"?' if near else f" (known: {', '.join(known)})")
    if problem["type"] == "missing":
        return f"{place}: this key is missing"
    return f"{place}: {str(problem['msg']).removeprefix('Value error, ')}"


def contradictions(layout: Layout) -> list[str]:
    """What a layout says that cannot all be true, one sentence each."""
    out: list[str] = []
    for name, table in layout.tables.items():
        out += _of_table(layout, name, table)
    for name in layout.sources:
        bases = [n for n, t in layout.tables.items() if t.source == name and t.each_row]
        if len(bases) != 1:
            out.append(f"sources > {name}: {len(bases)} tables have each_row = true for it; exactly one must")
        out += _homes(layout, name)
    out += [] if out else _circles(layout)
    if not out:
        for name, table in layout.tables.items():
            looked_up = any(link.by and link.to == name and t.source == table.source
                            for t in layout.tables.values() for link in t.links.values())
            if not looked_up and layout.path(layout.base_of(table.source), name) is None:
                out.append(f'tables > {name}: no link leads to it from "{layout.base_of(table.source)}"')
    return out


def _of_table(layout: Layout, name: str, table: TableSpec) -> list[str]:
    """What one table says that cannot be true."""
    out: list[str] = []
    here = f"tables > {name}"
    if table.source not in layout.sources:
        out.append(f'{here} > source: there is no source "{table.source}"{_near(table.source, layout.sources)}')
    for column, link in table.links.items():
        parent = layout.tables.get(link.to)
        if parent is None:
            out.append(f'{here} > links > {column}: there is no table "{link.to}"{_near(link.to, layout.tables)}')
        elif link.by:
            out += [f'{here} > links > {column}: the table "{link.to}" has no column "{c}"{_near(c, parent.columns)}'
                    for c in (*link.by, *link.repeats) if layout.follow(link.to, c) is None]
            if set(link.by) not in [set(u) for u in parent.unique_sets]:
                out.append(f'{here} > links > {column}: {" + ".join(link.by)} is not what the table "{link.to}" is known_by, '
                           "nor unique in it")
        elif link.repeats:
            out.append(f"{here} > links > {column}: repeats needs by")
        elif not parent.known_by and table.part_of != link.to:
            out.append(f'{here} > links > {column}: the table "{link.to}" has no known_by to be found through')
        elif parent.source != table.source:
            out.append(f'{here} > links > {column}: the table "{link.to}" is fed by another source; say by = {{ ITS COLUMN = '
                       '"HEADER" }')
        if column in table.columns:
            out.append(f"{here} > links > {column}: a column has the same name")
    known = {*table.columns, *table.links}
    for key in ("known_by", "optional"):
        out += [f'{here} > {key}: there is no column or link "{c}"{_near(c, known)}'
                for c in getattr(table, key) if c not in known]
    out += [f'{here} > unique: there is no column or link "{c}"{_near(c, known)}'
            for some in table.unique for c in some if c not in known]
    out += [f'{here} > optional: "{c}" is part of known_by, which must be filled'
            for c in table.optional if c in table.known_by and not table.each_row]
    if not table.each_row and not table.known_by:
        out.append(f"{here}: say known_by, or each_row = true for a record per row")
    return out + _parts(layout, here, table) + _exceptions(layout, name, table)


def _parts(layout: Layout, here: str, table: TableSpec) -> list[str]:
    """What a table that is part of another, or is not, says wrongly about that."""
    several = {n: c for n, c in table.columns.items() if c.headers or c.told or c.position or c.split}
    splits = [c for c in table.columns.values() if c.split]
    if not table.part_of:
        wrong = [n for n, c in several.items() if not c.split]
        if not table.each_row and len(splits) == len(table.columns) == 1 and table.known_by:
            return []                                   # the list of all parts
        return [f"{here} > columns > {n}: only a table that is part_of another can have such a column" for n in wrong] + [
            f"{here}: a column with split needs part_of"] * bool(splits)
    if table.part_of not in layout.tables:
        return [f'{here} > part_of: there is no table "{table.part_of}"{_near(table.part_of, layout.tables)}']
    out: list[str] = []
    if not any(link.to == table.part_of and not link.by for link in table.links.values()):
        out.append(f'{here}: it is part_of "{table.part_of}", but no link leads there')
    counts = {len(c.headers or c.told) for c in table.columns.values() if c.headers or c.told}
    cells = {c.header for c in splits} | {h for link in table.links.values() for h in link.by.values()}
    if (counts and cells) or len(counts) > 1 or not (counts or cells) or len(cells) > 1:
        out.append(f"{here}: its columns must come from the same number of headers each, or from the parts of one cell")
    out += [f"{here} > columns > {n}: a plain header cannot stand beside such columns"
            for n, c in table.columns.items() if c.header and not c.split]
    return out


def _exceptions(layout: Layout, name: str, table: TableSpec) -> list[str]:
    """Columns of exceptions without what is usual, and the other way round."""
    out: list[str] = []
    for column, spec in table.columns.items():
        here = f"tables > {name} > columns > {column}"
        if spec.instead_of and not table.each_row:
            out.append(f"{here}: only a table with each_row can have instead_of")
        elif (spec.instead_of or spec.usual) and not layout.exceptional(table.source, spec.header):
            other = f'in table "{spec.instead_of}" with usual = true' if spec.instead_of else f'with instead_of = "{name}"'
            out.append(f'{here}: there must be a column {other} for the same header')
    return out


def _homes(layout: Layout, source: str) -> list[str]:
    """Headers that are said to live in several places."""
    seen: dict[str, str] = {}
    out: list[str] = []
    for name, table in layout.tables.items():
        for header in dict.fromkeys(table.headers if table.source == source else []):
            listed = [t for t in (name, seen.get(header, "")) if t and any(c.split for c in layout.tables[t].columns.values())]
            if header in seen and not listed and not layout.exceptional(source, header):
                out.append(f'tables > {name}: "{header}" of source "{source}" already lives in table "{seen[header]}"')
            seen.setdefault(header, name)
    return out


def _circles(layout: Layout) -> list[str]:
    """Links that must be filled and lead back to where they started."""
    for name in layout.tables:
        seen, at = {name}, [name]
        for here in at:
            for column, link in layout.tables[here].links.items():
                if link.to == name and not link.by:
                    return [f'tables > {name}: its links lead back to itself through "{here}"']
                if link.to not in seen and not link.by and column:
                    seen.add(link.to)
                    at.append(link.to)
    return []


def _near(word: str, known: Mapping[str, object] | set[str]) -> str:
    near = difflib.get_close_matches(word, list(known), 1)
    return f'; did you mean "{near[0]}"?' if near else ""


def write_layout(layout: Layout, reasons: Mapping[str, list[str]] | None = None) -> str:
    """The text of a layout. `reasons` are comments by "sources.NAME", "tables.NAME" or "tables.NAME.COLUMN"."""
    import tomlkit

    said = reasons or {}
    doc = tomlkit.document()
    for line in HEADING.splitlines():
        doc.add(tomlkit.comment(line))
    doc.add("kerfmark", tomlkit.item(layout.kerfmark))

    def plain(part: SourceSpec | TableSpec, skip: tuple[str, ...] = ()) -> Table:
        table = tomlkit.table()
        for key, field in type(part).model_fields.items():
            value = getattr(part, key)
            if key not in skip and (field.is_required() or value != field.default):
                table.add(key, _item(value))
        return table

    sources = tomlkit.table(is_super_table=True)
    for name, source in layout.sources.items():
        sources.add(name, _commented(plain(source), said.get(f"sources.{name}", [])))
    doc.add("sources", sources)
    tables = tomlkit.table(is_super_table=True)
    for name, spec in layout.tables.items():
        table = _commented(plain(spec, ("links", "columns")), said.get(f"tables.{name}", []))
        if spec.links:
            links = tomlkit.table()
            for link, parent in spec.links.items():
                links.add(link, parent.to if not parent.by else _inline(parent))
                for line in said.get(f"tables.{name}.{link}", []):
                    links[link].comment(line)
            table.add("links", links)
        columns = tomlkit.table()
        for column, c in spec.columns.items():
            columns.add(column, c.header if c == ColumnSpec(header=c.header or "-") else _inline(c))
            for line in said.get(f"tables.{name}.{column}", []):
                columns[column].comment(line)
        if spec.columns:
            table.add("columns", columns)
        tables.add(name, table)
    doc.add("tables", tables)
    return tomlkit.dumps(doc)


def _item(value: Any) -> Any:
    """A value as TOML; parts of a source stand one below the other."""
    import tomlkit

    if not isinstance(value, tuple):
        return value
    if not value or not isinstance(value[0], PartSpec):
        return [list(v) if isinstance(v, tuple) else v for v in value]
    parts = tomlkit.array()
    for part in value:
        parts.append(_inline(part))
    return parts.multiline(True)


def _inline(part: ColumnSpec | LinkSpec | PartSpec) -> Any:
    """A part of a layout on one line."""
    import tomlkit

    inline = tomlkit.inline_table()
    said = part.model_dump(exclude_defaults=True)
    if said.get("position"):
        said.pop("type", None)                          # it can only be a number
    for key, value in said.items():
        inline.add(key, list(value) if isinstance(value, tuple) else tomlkit.item(value) if not isinstance(value, dict) else
                   _inline_of(value))
    return inline


def _inline_of(value: Mapping[str, str]) -> Any:
    import tomlkit

    inline = tomlkit.inline_table()
    inline.update(value)
    return inline


def _commented(table: Table, lines: list[str]) -> Table:
    """A TOML table with comment lines above its keys."""
    import tomlkit

    out = tomlkit.table()
    for line in (part for long in lines for part in textwrap.wrap(long, 100)):
        out.add(tomlkit.comment(line))
    for key, value in table.items():
        out.add(key, value)
    return out
