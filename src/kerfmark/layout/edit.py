"""Small edits of a layout's text that keep everything else as somebody wrote it."""

from __future__ import annotations

from typing import Any

import tomlkit

from kerfmark.layout.model import Layout
from kerfmark.layout.names import snake


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


def _column(column: Any, type_: str) -> Any:
    return column if isinstance(column, str) and type_ == "text" else _said(column, "type", type_)
