"""How many deliberate faults in the core the tests notice.

A sample of mutants (a changed operator, number, condition or loop, by cosmic-ray) is made of the
modules below, one at a time in a copy of the tree, and the quickest of the tests that run the
changed line (as coverage tells) are run until one fails. A mutant that survives is shown with its
change; a slower test, or one on a server, may still notice it, so the figure is a lower bound.

    python bench/mutants.py --sample 300 --seed 1 --workers 2
    python bench/mutants.py --only structure/references.py --sample 40
    python bench/mutants.py --again survivors.json
"""

from __future__ import annotations

import argparse
import ast
import difflib
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from queue import Queue

from cosmic_ray.ast import ast_nodes, get_ast_from_path
from cosmic_ray.mutating import mutate_code
from cosmic_ray.plugins import get_operator, operator_names

ROOT = Path(__file__).parent.parent
LIMIT = 300
"""Seconds after which the tests are taken to hang, which counts as noticed."""
NOT_FAULTS = (
    "core/RemoveDecorator",
    "core/VariableReplacer",
    "core/VariableInserter",
    "core/ExceptionReplacer",
)
"""Operators that are not for here, fail at several exceptions, or mostly change nothing (a cache, a
frozen class)."""
SWAPS = frozenset(
    [
        "Eq_NotEq",
        "NotEq_Eq",
        "Lt_LtE",
        "Lt_GtE",
        "LtE_Lt",
        "LtE_Gt",
        "Gt_GtE",
        "Gt_LtE",
        "GtE_Gt",
        "GtE_Lt",
        "In_NotIn",
        "NotIn_In",
        "Is_IsNot",
        "IsNot_Is",
        "Add_Sub",
        "Sub_Add",
        "Mul_FloorDiv",
        "Div_Mul",
        "FloorDiv_Mul",
        "Mod_FloorDiv",
        "BitAnd_BitOr",
        "BitOr_BitAnd",
        "Delete_USub",
        "Delete_Not",
        "Delete_Invert",
    ]
)
"""The changes of an operator that are made: those that a slip of the hand would make."""
MODULES = (
    *(f"structure/{m}.py" for m in ("entities", "references", "repeats", "near_dependencies")),
    *(f"structure/{m}.py" for m in ("dependencies", "propose", "links", "pair_links")),
    *(f"structure/{m}.py" for m in ("made_records", "repeated", "roles", "changing")),
    *(f"normalize/{m}.py" for m in ("split", "tables", "lookup", "keys", "anomalies", "transform")),
    *(f"normalize/{m}.py" for m in ("match", "compare", "plan", "provenance", "policy")),
    *(f"ledger/{m}.py" for m in ("prove", "expected", "source_values", "compare_by_row", "undo")),
    *(f"profile/{m}.py" for m in ("recognise", "moments", "convert", "types")),
    *(f"verbs/{m}.py" for m in ("add", "refresh", "trace", "undo")),
    *("ledger/row_numbers.py", "layout/validation.py", "read/dialect.py", "store/common_sql.py"),
    *("store/sqlite/new.py", "store/sqlite/changing.py"),
)
"""The modules of the core that are changed."""
Tests = dict[tuple[str, int], set[str]]
"""The tests that run a line of a module."""


def map_of(folder: Path) -> tuple[Tests, Callable[[str, str], float]]:
    """The tests that run each line, and how late each is to be tried for a module; made by a run of
    all that need no server, unless the folder has it."""
    if not any(folder.glob("*.json")):
        folder.mkdir(parents=True, exist_ok=True)
        only = ["-k", "not PostgreSQL and not MariaDB and not histories and not limit"]
        subprocess.run(
            [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", *only],
            cwd=ROOT,
            env=os.environ | {"KERFMARK_TEST_COVERAGE": str(folder)},
            check=False,
        )
    tests: Tests = {}
    seconds: Counter[str] = Counter()
    lines_of: dict[str, Counter[str]] = {}
    for file in folder.glob("*.json"):
        noted = json.loads(file.read_text(encoding="utf-8"))
        name = noted["test"].removesuffix(" (call)")
        if "::" not in name or "(" in name[-10:]:
            continue
        seconds[name] += noted["seconds"]
        for module, lines in noted["lines"].items():
            lines_of.setdefault(name, Counter())[module] += len(lines)
            for line in lines:
                tests.setdefault((module, line), set()).add(name)

    def late(test: str, module: str) -> float:
        return seconds[test] * sum(lines_of[test].values()) / lines_of[test][module]

    return tests, late


class Mutant:
    """A change of one place in a module."""

    def __init__(self, module: str, operator: str, occurrence: int, line: int) -> None:
        self.module, self.operator, self.occurrence, self.line = module, operator, occurrence, line

    def code(self) -> str:
        """The module with the change."""
        source = (ROOT / "src/kerfmark" / self.module).read_text(encoding="utf-8")
        changed = mutate_code(source.encode(), get_operator(self.operator)(), self.occurrence)
        return changed if isinstance(changed, str) else (changed or b"").decode()

    def shown(self) -> str:
        """The changed lines."""
        source = (ROOT / "src/kerfmark" / self.module).read_text(encoding="utf-8")
        lines = difflib.unified_diff(
            source.splitlines(), self.code().splitlines(), n=0, lineterm=""
        )
        return "\n".join(
            line for line in lines if line[:1] in "+-" and line[:3] not in ("+++", "---")
        )

    def lines(self) -> range:
        """The lines of the statement that is changed."""
        path = ROOT / "src/kerfmark" / self.module
        best = range(self.line, self.line + 1)
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if not isinstance(node, ast.stmt):
                continue
            body = getattr(node, "body", None)
            end = body[0].lineno - 1 if body else node.end_lineno or node.lineno
            if node.lineno <= self.line <= end:
                best = range(node.lineno, end + 1)
            for inner in body or ():  # a jump is no line of its own to coverage
                if isinstance(inner, ast.Continue | ast.Break) and inner.lineno == self.line:
                    return range(node.lineno, self.line + 1)
        return best

    def key(self) -> list[object]:
        """What it is known by in a file."""
        return [self.module, self.operator, self.occurrence, self.line]


def silent_lines(path: Path) -> set[int]:
    """Lines on which a change is none: annotations, docstrings, and what is only for types."""
    out: set[int] = set()
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        some: list[ast.AST | None] = []
        if isinstance(node, ast.FunctionDef):
            some = [node.returns, *(a.annotation for a in (*node.args.args, *node.args.kwonlyargs))]
        elif isinstance(node, ast.AnnAssign):
            some = [node.annotation]
        elif isinstance(node, ast.If) and getattr(node.test, "id", "") == "TYPE_CHECKING":
            some = [node]
        for one in some:
            if one is not None:
                out |= set(range(one.lineno, (one.end_lineno or one.lineno) + 1))  # type: ignore[attr-defined]
    return out


def mutants_of(module: str) -> list[Mutant]:
    """All mutants of a module."""
    path = ROOT / "src/kerfmark" / module
    silent, tree = silent_lines(path), get_ast_from_path(path)
    out = []
    for name in operator_names():
        if name in NOT_FAULTS or ("_" in name and name.split("_", 1)[1] not in SWAPS):
            continue
        operator, occurrence = get_operator(name)(), 0
        for node in ast_nodes(tree):
            for start, _ in operator.mutation_positions(node):
                if start[0] not in silent:
                    out.append(Mutant(module, name, occurrence, start[0]))
                occurrence += 1
    return out


class Worker:
    """A copy of the tree, and a process that has all libraries imported, whose children run tests
    in it."""

    def __init__(self, folder: Path) -> None:
        self.copy = folder
        folder.mkdir()
        for part in ("src", "tests", "docs", "README.md", "pyproject.toml"):
            source = ROOT / part
            (shutil.copytree if source.is_dir() else shutil.copy)(source, folder / part)
        self.process = subprocess.Popen(
            [sys.executable, str(Path(__file__).with_name("warm_tests.py"))],
            cwd=folder,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            text=True,
            env=os.environ | {"PYTHONPATH": str(folder / "src"), "TMPDIR": str(folder / "tmp")},
        )

    def noticed(self, mutant: Mutant, tests: list[str]) -> tuple[bool, float]:
        """Whether tests notice a mutant; and the seconds that took."""
        path = self.copy / "src/kerfmark" / mutant.module
        before, started = path.read_text(encoding="utf-8"), time.perf_counter()
        path.write_text(mutant.code(), encoding="utf-8")
        (self.copy / "tmp").mkdir(exist_ok=True)
        assert self.process.stdin is not None and self.process.stdout is not None
        self.process.stdin.write(json.dumps({"tests": tests, "limit": LIMIT}) + "\n")
        self.process.stdin.flush()
        found = self.process.stdout.readline().strip() != "0"
        path.write_text(before, encoding="utf-8")
        shutil.rmtree(self.copy / "tmp", ignore_errors=True)
        return found, time.perf_counter() - started


def main() -> None:
    """Runs the sample and prints what survived."""
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawTextHelpFormatter
    )
    parser.add_argument("--sample", type=int, default=300)
    parser.add_argument("--skip", type=int, default=0, help="begin after so many of the sample")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--tests", type=int, default=50, help="the most that are run for a mutant")
    parser.add_argument("--workers", type=int, default=2)
    parser.add_argument("--only", default="", help="one module, such as structure/entities.py")
    parser.add_argument("--map", default="/tmp/kerfmark-tests", help="which test runs which line")
    parser.add_argument("--again", default="", help="the mutants of a file that a run has written")
    parser.add_argument("--survivors", default="", help="write those that survived to this file")
    args = parser.parse_args()
    if args.again:
        chosen = [Mutant(*key) for key in json.loads(Path(args.again).read_text(encoding="utf-8"))]
    else:
        all_ = [m for module in ([args.only] if args.only else MODULES) for m in mutants_of(module)]
        places: dict[tuple[str, int, str], list[Mutant]] = {}
        for mutant in all_:  # each place counts once, whatever may be put there
            family = mutant.operator.split("_")[0]
            places.setdefault((mutant.module, mutant.line, family), []).append(mutant)
        print(f"{len(all_):,} mutants at {len(places):,} places", flush=True)
        chance = random.Random(args.seed)
        some = chance.sample(sorted(places), min(args.sample, len(places)))
        chosen = [chance.choice(places[place]) for place in some][args.skip :]
    tests, late = map_of(Path(args.map))

    def of(mutant: Mutant) -> list[str]:
        found = {t for line in mutant.lines() for t in tests.get((mutant.module, line), ())}
        if not found:  # a constant: its line runs when the module is imported
            found = {
                t for (module, _), some in tests.items() for t in some if module == mutant.module
            }
        return sorted(found, key=lambda t: late(t, mutant.module))[: args.tests]

    survived: list[Mutant] = []
    killed: Counter[str] = Counter()
    with tempfile.TemporaryDirectory(prefix="kerfmark-mutants-") as folder:
        workers: Queue[Worker] = Queue()
        for i in range(args.workers):
            workers.put(Worker(Path(folder) / str(i)))

        def run(mutant: Mutant) -> tuple[Mutant, bool, float]:
            worker, tests = workers.get(), of(mutant)
            try:
                return mutant, *(worker.noticed(mutant, tests) if tests else (False, 0.0))
            finally:
                workers.put(worker)

        with ThreadPoolExecutor(args.workers) as pool:
            for n, (mutant, found, seconds) in enumerate(pool.map(run, chosen), 1):
                killed[mutant.module] += found
                if not found:
                    survived.append(mutant)
                    where = f"{mutant.module}:{mutant.line}"
                    print(f"survived {where} {mutant.operator}\n{mutant.shown()}", flush=True)
                if n % 20 == 0:
                    share = sum(killed.values()) / n
                    print(f"{n}: {share:.0%} noticed ({seconds:.0f} s the last)", flush=True)
                if args.survivors:
                    keys = [m.key() for m in survived]
                    Path(args.survivors).write_text(json.dumps(keys), encoding="utf-8")
    print(
        f"{sum(killed.values())} of {len(chosen)} noticed: {sum(killed.values()) / len(chosen):.1%}"
    )


if __name__ == "__main__":
    main()
