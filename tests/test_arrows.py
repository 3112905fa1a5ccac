"""The arrows between the rooms run one way."""

from __future__ import annotations

import ast
import re
from itertools import pairwise
from pathlib import Path

import pytest

SRC = Path(__file__).parent.parent / "src/kerfmark"
MAY_USE = {
    "read": set(),
    "profile": {"read"},
    "layout": {"profile"},
    "store": {"layout", "profile"},
    "structure": {"layout", "profile", "read"},
    "plan": {"layout", "profile"},
    "normalize": {"plan", "layout", "profile", "read"},
    "cluster": {"plan", "normalize", "ledger", "store", "layout", "profile", "read"},
    "ledger": {"layout", "profile", "store", "normalize"},
    "write": {"read", "profile", "store"},
    "draw": {"profile", "layout", "store"},
    "demo": set(),
    "verbs": {
        "read",
        "profile",
        "layout",
        "store",
        "structure",
        "normalize",
        "cluster",
        "ledger",
        "write",
        "draw",
    },
    "cli": {"verbs", "demo", "draw"},
}
EVERYWHERE = {
    "errors",
    "progress",
    "address",
    "memory",
    "background_import",
    "engines",
    "own_tables",
    "leftovers",
    "visible",
    "",
}


def rooms_used(path: Path) -> set[str]:
    """The rooms that a module imports from, anywhere in it."""
    names = []
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.Import):
            names += [a.name for a in node.names]
        elif isinstance(node, ast.ImportFrom) and node.module:
            names += (
                [node.module]
                if node.module != "kerfmark"
                else [f"kerfmark.{a.name}" for a in node.names]
            )
    return {n.split(".")[1] if "." in n else "" for n in names if n.split(".")[0] == "kerfmark"} - {
        "__version__"
    }


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
        text = ast.get_docstring(
            ast.parse((SRC / room / "__init__.py").read_text(encoding="utf-8"))
        )
        assert text and ("Not here" in text or room == "cli")


def imports(path: Path) -> set[str]:
    """The modules that a module imports, anywhere in it, also for types alone."""
    found = set()
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.Import):
            found |= {a.name for a in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            found |= {node.module, *(f"{node.module}.{a.name}" for a in node.names)}
    return found


def test_no_modules_import_each_other_in_a_circle() -> None:
    modules = {
        ".".join(("kerfmark", *p.relative_to(SRC).with_suffix("").parts)).removesuffix(
            ".__init__"
        ): p
        for p in SRC.rglob("*.py")
    }
    arrows = {name: imports(path) & (modules.keys() - {name}) for name, path in modules.items()}
    packages = {name for name, path in modules.items() if path.name == "__init__.py"}
    while loose := [n for n, to in arrows.items() if not to - packages]:
        for name in loose:
            del arrows[name]
        arrows = {n: to - set(loose) for n, to in arrows.items()}
    assert not arrows


def test_no_engine_is_named_outside_its_package() -> None:
    engines = {p.parent.name for p in (SRC / "store").glob("*/engine.py")}
    assert engines == {"mysql", "oracle", "postgresql", "sqlite", "sqlserver"}
    names = re.compile("sqlite|mysql|mariadb|postgres|oracle|sql.?server|mssql", re.IGNORECASE)
    for path in SRC.rglob("*.py"):
        if path.parent.name not in engines and path.name != "reserved.py":
            assert not names.search(path.read_text(encoding="utf-8")), path


def test_nothing_but_the_command_line_prints_or_exits() -> None:
    for path in SRC.rglob("*.py"):
        if "cli" in path.parts or path.name == "__main__.py":
            continue
        calls = [
            n.func.id
            for n in ast.walk(ast.parse(path.read_text(encoding="utf-8")))
            if isinstance(n, ast.Call) and isinstance(n.func, ast.Name)
        ]
        assert not {"print", "input", "exit", "quit"} & set(calls), path


PATHS = ("link", "outer")
"""What paths of columns begin with, in examples."""


def test_what_docstrings_and_comments_name_is_there() -> None:
    """`room.module`, `module.Name` and `room.module.name` in backquotes."""
    names: dict[str, set[str]] = {room: set() for room in MAY_USE}
    for path in SRC.rglob("*.py"):
        names.setdefault(path.parent.name, set()).add(path.stem)
        names.setdefault(path.stem, set()).update(
            re.findall(r"^ *(?:def |class )?(\w+)", path.read_text(encoding="utf-8"), re.MULTILINE)
        )
    lost = [
        f"{path.relative_to(SRC)}: {named}"
        for path in SRC.rglob("*.py")
        for named in re.findall(r"(?<!`)`([a-z_]+(?:\.\w+)+)`(?!`)", path.read_text("utf-8"))
        for first, then in pairwise(named.split("."))
        if first not in ("kerfmark", *PATHS) and then not in names.get(first, set())
    ]
    assert lost == []


def test_every_error_says_what_to_do_next() -> None:
    """Unless what it says begins with it: `name at least one file`."""
    errors = {"SourceError", "TargetError", "LayoutError", "UsageError", "DataRefused"}
    silent = [
        f"{path.name}:{call.lineno}"
        for path in sorted(SRC.rglob("*.py"))
        for call in ast.walk(ast.parse(path.read_text(encoding="utf-8")))
        if isinstance(call, ast.Call)
        and isinstance(call.func, ast.Name)
        and call.func.id in errors
        and not any(k.arg in ("next", None) for k in call.keywords)
        and not ast.unparse(call.args[0]).strip("'\"").startswith("name ")
    ]
    assert silent == []
