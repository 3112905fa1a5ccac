"""Small edits of a layout's text that keep everything else as somebody wrote it."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

import tomlkit
from tomlkit.items import Table

from kerfmark.errors import LayoutError
from kerfmark.layout.model import Layout
from kerfmark.layout.names import snake
from kerfmark.layout.text import parse_layout, write_layout


def with_spelling(text: str, source: str, header: str, spelling: str) -> str:
    """The layout, in which a header may be spelled in another way as well."""
    doc = tomlkit.parse(text)
    spec: Any = doc["sources"][source]
    also = spec.get("also")
    if also is None:
        spec["also"] = also = tomlkit.inline_table()
    also[header] = [*also.get(header, []), spelling]
    return tomlkit.dumps(doc)


def with_more(text: str, layout: Layout, more: str) -> str:
    """The text of a layout with the sources and tables of another text after it, whose tables may
    link to those that are there. Tables that need not name their source now do."""
    doc: Any = tomlkit.parse(text)
    for name, table in layout.tables.items():
        if "source" not in doc["tables"][name] and table.source:
            doc["tables"][name]["source"] = table.source
    return tomlkit.dumps(doc).rstrip() + "\n\n" + more[more.index("[sources.") :]


def without_column(text: str, source: str, header: str) -> str:
    """The layout, in which a header that files may have is left out."""
    doc = tomlkit.parse(text)
    spec: Any = doc["sources"][source]
    spec["left_out"] = [*spec.get("left_out", []), header]
    spec["may_lack"] = [*spec.get("may_lack", []), header]
    return tomlkit.dumps(doc)


def with_lacking(text: str, source: str, header: str, table: str, name: str, value: str) -> str:
    """The layout, in which files need not have a header; where they lack it, or a cell is blank,
    its column (`name`) has a value, if there is one."""
    doc: Any = tomlkit.parse(text)
    of: Any = doc["sources"][source]
    of["may_lack"] = [*of.get("may_lack", []), header]
    if value:
        columns: Any = doc["tables"][table]["columns"]
        if isinstance(columns, list):
            at = next(i for i, c in enumerate(columns) if _named(c) == name)
            columns[at] = _said(columns[at], "default", value)
        else:
            columns[name] = _said(columns[name], "default", value)
    return tomlkit.dumps(doc)


def _named(column: Any) -> str:
    """What a column in a list of columns is called."""
    return snake(column if isinstance(column, str) else column["header"])


def _said(column: Any, key: str, value: str) -> Any:
    """A column that says something more."""
    if isinstance(column, str):
        inline = tomlkit.inline_table()
        inline["header"] = column
        column = inline
    column[key] = value
    return column


def with_column(text: str, source: str, table: str, name: str, header: str, type_: str) -> str:
    """The layout, in which a header that files may have is a column of a table, blank where nothing
    is said."""
    doc = tomlkit.parse(text)
    spec: Any = doc["tables"][table]
    columns = spec.get("columns")
    if columns is None:
        spec["columns"] = columns = tomlkit.table()
    if isinstance(columns, list):
        columns.append(_column(header, type_))
    else:
        columns[name] = _column(header, type_)
    spec["optional"] = [*spec.get("optional", []), name]
    of: Any = doc["sources"][source]
    of["may_lack"] = [*of.get("may_lack", []), header]
    return tomlkit.dumps(doc)


def with_type(text: str, table: str, name: str, type_: str) -> str:
    """The layout, in which a column has another type."""
    doc = tomlkit.parse(text)
    columns: Any = doc["tables"][table]["columns"]
    if isinstance(columns, list):
        at = next(i for i, c in enumerate(columns) if _named(c) == name)
        columns[at] = _column(columns[at], type_)
    else:
        columns[name] = _column(columns[name], type_)
    return tomlkit.dumps(doc)


def with_layout(text: str, old: Layout, new: Layout, renamed: Mapping[str, str]) -> str:
    """The text of a layout, changed where a `new` layout says something else than the `old` one,
    and otherwise as somebody wrote it; tables may be `renamed`."""
    for name, now in renamed.items():
        head = rf"(?m)^(\[\s*tables\s*\.\s*)(?:{re.escape(name)}|\"{re.escape(name)}\")(?=\s*[.\]])"
        text = re.sub(head, lambda m, now=now: m[1] + now, text)  # type: ignore[misc]
    doc: Any = tomlkit.parse(text)
    fresh: Any = tomlkit.parse(write_layout(new))
    before = {renamed.get(n, n): t for n, t in old.tables.items()}
    for name, source in new.sources.items():
        _update(doc["sources"][name], fresh["sources"][name], old.sources[name], source)
    for name, table in new.tables.items():
        if name in doc["tables"]:
            _update(doc["tables"][name], fresh["tables"][name], before[name], table)
    out = tomlkit.dumps(doc)
    try:
        same = parse_layout(out, "the layout") == new
    except LayoutError:
        same = False
    return out if same else write_layout(new)


def _update(part: Any, fresh: Any, old: Any, new: Any) -> None:
    """Sets those keys of a source or table that differ."""
    for key in type(new).model_fields:
        before, now = getattr(old, key), getattr(new, key)
        if before == now and (not isinstance(now, dict) or list(before) == list(now)):
            continue
        if key not in fresh:
            part.pop(key, None)
        elif isinstance(now, dict) and isinstance(part.get(key), Table):
            part[key] = _updated(part[key], fresh[key], before, now)
        else:
            part[key] = fresh[key]


def _updated(part: Table, fresh: Any, old: dict[str, Any], new: dict[str, Any]) -> Any:
    """The columns or links of a table with their comments: one that has another name now is in the
    same place."""
    gone, come = ([n for n in one if n not in other] for one, other in ((old, new), (new, old)))
    names = dict(zip(gone, come, strict=False)) if len(gone) <= len(come) else {}
    out = tomlkit.table()
    for key, item in part.value.body:
        name = None if key is None else names.get(key.key, key.key)
        if name is None:
            out.append(None, item)
        elif name in new:
            before = old.get("" if key is None else key.key)
            out.append(name, item if before == new[name] else _like(fresh[name], item))
    for name in new:
        if name not in out:
            out.append(name, fresh[name])
    return out


def _like(item: Any, old: Any) -> Any:
    """A value with the comment behind the old one."""
    if isinstance(item, str):
        item = tomlkit.item(str(item))
    item.trivia.comment_ws, item.trivia.comment = old.trivia.comment_ws, old.trivia.comment
    return item


def _column(column: Any, type_: str) -> Any:
    return column if isinstance(column, str) and type_ == "text" else _said(column, "type", type_)
