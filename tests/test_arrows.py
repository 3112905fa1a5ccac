"""The arrows between the rooms run one way."""

from __future__ import annotations

import ast
from pathlib import Path

import pytest

SRC = Path(__file__).parent.parent / "src/kerfmark"
MAY_USE = {
    "read": set(),
    "profile": {"read"},
    "layout": {"profile"},
    "store": {"layout", "profile"},
    "structure": {"layout", "profile", "read"},
    "build": {"layout", "profile", "read"},
    "ledger": {"layout", "profile", "store", "build"},
    "write": {"read", "profile", "store"},
    "draw": {"profile", "layout", "store"},
    "demo": set(),
    "verbs": {"read", "profile", "layout", "store", "structure", "build", "ledger", "write", "draw"},
    "cli": {"verbs", "demo", "draw"},
}
EVERYWHERE = {"errors", "progress", "address", "memory", "soon", ""}


def rooms_used(path: Path) -> set[str]:
    """The rooms that a module imports from, anywhere in it."""
    names = []
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.Import):
            names += [a.name for a in node.names]
        elif isinstance(node, ast.ImportFrom) and node.module:
            names += [node.module] if node.module != "kerfmark" else [f"kerfmark.{a.name}" for a in node.names]
    return {n.split(".")[1] if "." in n else "" for n in names if n.split(".")[0] == "kerfmark"} - {"__version__"}


@pytest.mark.parametrize("room", sorted(MAY_USE))
def test_a_room_uses_only_rooms_below_it(room: str) -> None:
    modules = sorted((SRC / room).rglob("*.py"))
    assert modules
    for path in modules:
        assert rooms_used(path) <= MAY_USE[room] | EVERYWHERE | {room}, path


def test_every_room_is_known_and_says_what_belongs_there() -> None:
    rooms = {p.parent.name for p in SRC.glob("*/__init__.py")}
    assert rooms == set(MAY_USE)
    for room in rooms - {"demo"}:
        text = ast.get_docstring(ast.parse((SRC / room / "__init__.py").read_text(encoding="utf-8")))
        assert text and ("Not here" in text or room == "cli")


def test_nothing_but_the_command_line_prints_or_exits() -> None:
    for path in SRC.rglob("*.py"):
        if "cli" in path.parts or path.name == "__main__.py":
            continue
        calls = [n.func.id for n in ast.walk(ast.parse(path.read_text(encoding="utf-8")))
                 if isinstance(n, ast.Call) and isinstance(n.func, ast.Name)]
        assert not {"print", "input", "exit", "quit"} & set(calls), path
