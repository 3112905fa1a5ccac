"""Layouts as TOML text: reading with every problem told at once, writing with the reasons as
comments."""

from __future__ import annotations

import shlex
import textwrap
import tomllib
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kerfmark.errors import LayoutError, Origin, counted
from kerfmark.layout.line_numbers import line_of, lines_of
from kerfmark.layout.model import (
    VERSION,
    ColumnSpec,
    Layout,
    LinkSpec,
    PartSpec,
    SourceSpec,
    TableSpec,
)
from kerfmark.layout.validation import Mistake, read_data
from kerfmark.visible import TURNING, visible

if TYPE_CHECKING:
    pass

HEADING = """\
A layout of Kerfmark: how the columns of the sources become the tables of a database.
Edit it, then cut again. A table has one record per distinct combination of its known_by, or, with
each_row, one per row of the source. Every table gets a generated primary key. All columns and links
must be filled unless they are listed as optional. A link leads to the table it names."""


def read_layout(path: Path) -> tuple[Layout, str]:
    """The layout in a file, and its text.

    Raises LayoutError for what is not TOML, not a layout, or contradicts itself.
    """
    try:
        text = path.read_text(encoding="utf-8")
    except FileNotFoundError:
        raise LayoutError(
            "there is no such file",
            origin=Origin(str(path)),
            next="check the name and the folder\n"
            f"kerfmark mark FILES -o {shlex.quote(str(path))} makes a layout\n"
            "kerfmark show DB --layout prints the one of a database",
        ) from None
    except (OSError, UnicodeDecodeError) as error:
        raise LayoutError(
            "the layout cannot be read",
            origin=Origin(str(path)),
            why=error.strerror or "" if isinstance(error, OSError) else "it is not UTF-8 text",
            next="name a layout, a text file (.toml) that kerfmark mark has written",
        ) from error
    return parse_layout(text, path.name), text


def parse_layout(text: str, name: str) -> Layout:
    """The layout in a text; `name` is what messages call it."""
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise LayoutError(
            "this is not TOML",
            origin=Origin(name),
            why=str(error),
            next="correct it at that place; kerfmark mark FILES -o LAYOUT writes one anew",
        ) from error
    except RecursionError as error:
        raise LayoutError(
            "this is nested too deeply", origin=Origin(name), next="a layout has four levels"
        ) from error
    version = data.get("kerfmark")
    if isinstance(version, int) and version > VERSION:
        raise LayoutError(
            f"the layout is written in version {version} of the layout language",
            origin=Origin(name),
            why=f"this Kerfmark reads version {VERSION}",
            next="install a newer Kerfmark",
        )
    if version != VERSION:
        raise LayoutError(
            f"the layout does not start with kerfmark = {VERSION}",
            origin=Origin(name),
            why="that line says in which version of the layout language it is written",
            next=f"if it is a layout, add the line kerfmark = {VERSION} at its top",
        )
    layout, mistakes = read_data(data)
    if mistakes:
        raise refused(name, text, mistakes)
    assert layout is not None
    return layout


def refused(name: str, text: str, mistakes: Sequence[Mistake]) -> LayoutError:
    """The error that tells all mistakes of a layout, each with its line."""
    lines = lines_of(text)
    told = sorted((line_of(lines, m.path), str(m)) for m in dict.fromkeys(mistakes))
    return LayoutError(
        f"the layout has {counted(len(told), 'mistake')}",
        origin=Origin(name),
        more=[f"line {line}, {said}" if line else said for line, said in told],
        total=len(told),
        next="correct it and run the command again",
    )


def write_layout(layout: Layout, reasons: Mapping[str, list[str]] | None = None) -> str:
    """The text of a layout. `reasons` are comments by "sources.NAME", "tables.NAME" or
    "tables.NAME.COLUMN"."""
    said = reasons or {}
    lines = [f"# {_one_line(line)}" for line in HEADING.splitlines()]
    lines.append(_line("kerfmark", layout.kerfmark))
    if layout.existing:
        lines.append("# The tables are in the database already: cut fills them.")
        lines.append(_line("existing", True))
    for name, source in layout.sources.items():
        place = f"sources.{name}"
        lines += _part(("sources", name), said.get(place, []), _plain(source))
    for name, spec in layout.tables.items():
        place = f"tables.{name}"
        plain = _plain(spec, ("links", "columns"))
        if plain or said.get(place):
            lines += _part(("tables", name), said.get(place, []), plain)
        for part, values in (
            (
                "links",
                {
                    n: link.to if link == LinkSpec(to=link.to) else _inline(link)
                    for n, link in spec.links.items()
                },
            ),
            (
                "columns",
                {
                    n: c.header if c == ColumnSpec(header=c.header or "-") else _inline(c)
                    for n, c in spec.columns.items()
                },
            ),
        ):
            if values:
                told = {n: said.get(f"{place}.{n}", [])[-1:] for n in values}
                lines += _part(("tables", name, part), [], values, told)
    text = "\n".join(lines) + "\n"
    return TURNING.sub(lambda c: f"\\u{ord(c[0]):04X}", text)


def _plain(part: SourceSpec | TableSpec, skip: tuple[str, ...] = ()) -> dict[str, Any]:
    """The keys of a part of a layout that are not as usual, with their values as TOML."""
    return {
        key: _item(getattr(part, key))
        for key, field in type(part).model_fields.items()
        if key not in skip and (field.is_required() or getattr(part, key) != field.default)
    }


def _part(
    path: Sequence[str],
    comments: Sequence[str],
    values: Mapping[str, Any],
    told: Mapping[str, Sequence[str]] | None = None,
) -> list[str]:
    """The lines of a TOML table, with comments above its keys, and behind those that are told
    of."""
    import tomlkit

    lines = ["", f"[{'.'.join(tomlkit.key(p).as_string() for p in path)}]"]
    wrapped = (part for long in comments for part in textwrap.wrap(long, 100))
    lines += [f"# {_one_line(line)}" for line in wrapped]
    for key, value in values.items():
        behind = "".join(f" # {_one_line(line)}" for line in (told or {}).get(key, ()))
        lines.append(_line(key, value) + behind)
    return lines


def _line(key: str, value: Any) -> str:
    import tomlkit

    return f"{tomlkit.key(key).as_string()} = {tomlkit.item(value).as_string()}"


def _one_line(comment: str) -> str:
    """A comment in which nothing ends its line or is obeyed by an editor."""
    return visible(comment.replace("\n", " "))


def _item(value: Any) -> Any:
    """A value as TOML; parts of a source are one below the other."""
    import tomlkit

    if isinstance(value, dict):
        return _inline_of(value)
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
        said.pop("type", None)  # it can only be a number
    for key, value in said.items():
        inline.add(
            key,
            list(value)
            if isinstance(value, tuple)
            else tomlkit.item(value)
            if not isinstance(value, dict)
            else _inline_of(value),
        )
    return inline


def _inline_of(value: Mapping[str, Any]) -> Any:
    import tomlkit

    inline = tomlkit.inline_table()
    inline.update({k: list(v) if isinstance(v, tuple) else v for k, v in value.items()})
    return inline
