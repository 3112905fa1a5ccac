"""The layout file beside a database, and the layout in force, which is in the database: kept the
same where nobody has edited the file, and told where somebody has."""

from __future__ import annotations

import shlex
from pathlib import Path

from kerfmark.errors import LayoutError
from kerfmark.layout.text import parse_layout
from kerfmark.store.interface import Changing, Database


def kept_beside(database: Database, before: str, after: str) -> dict[Path, str | bytes]:
    """What is to be written beside a database whose layout changes: the new layout, where the file
    is just what the layout was `before`; else nothing."""
    path = database.layout_path
    return {path: after} if after != before and _text(path) == before else {}


def told_beside(database: Database, file: Changing, in_force: str) -> list[str]:
    """What is to be told of a layout beside a database that says something else than the one in
    force."""
    path = database.layout_path
    there = _text(path)
    if there is None or there == in_force or _alike(there, in_force):
        return []
    name, where = shlex.quote(str(path)), shlex.quote(database.name)
    earlier = [str(r[0]) for r in file.ask("SELECT layout FROM kerfmark_layouts")]
    if any(there == one for one in earlier):
        return [
            f"{path} is an earlier layout of this database; the one in force is in the database: "
            f"kerfmark show {where} --layout > {name}"
        ]
    return [
        f"{path} was edited, and the database goes by the layout that is in it: kerfmark recut "
        f"{where} {name} --rehearse tells what the edited one would change"
    ]


def _text(path: Path) -> str | None:
    try:
        return path.read_text(encoding="utf-8", errors="replace")
    except OSError:
        return None


def _alike(one: str, other: str) -> bool:
    """Whether two layouts say the same, whatever their comments."""
    try:
        return parse_layout(one, "") == parse_layout(other, "")
    except LayoutError:
        return False
