"""What all tests share: a way to run the real program, and files in a temporary folder."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import IO, TYPE_CHECKING, Any

import pytest

import covered
from engines import ENGINES, Target, target

if TYPE_CHECKING:
    from cluster import Cluster

DEMO = Path(__file__).parent.parent / "src/kerfmark/demo/data"
COMMANDS = (
    *("measure", "mark", "check", "cut", "add", "recut", "show", "draw", "prove", "loads", "undo"),
    *("refresh", "trace", "export", "drop", "demo"),
)
"""All commands, in the order of the work."""


@dataclass(frozen=True)
class Run:
    """What a run of the program did."""

    code: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        """Its standard output as JSON."""
        return json.loads(self.out)


Runner = Callable[..., Run]


def served(env: dict[str, str]) -> tuple[IO[str], IO[str], Callable[[], object]]:
    """A process that runs the program when it is told to: where its orders go, where its answers
    come from, and what waits for its end. `bench/mutants.py` has one ready."""
    ready = os.environ.get("KERFMARK_TEST_SERVED", "")
    if ready:
        to, back = map(int, ready.split(","))
        return os.fdopen(to, "w"), os.fdopen(back), lambda: None
    server = subprocess.Popen(
        [sys.executable, str(Path(__file__).parent / "forked.py")],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
        env=env,
    )
    assert server.stdin is not None and server.stdout is not None
    return server.stdin, server.stdout, server.wait


@pytest.fixture(scope="session")
def program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Callable[[list[str], Path], Run]]:
    """The program: a command line and a folder to run it in; as a child of a process that has
    everything imported, where that can be, else as a process of its own."""
    env = {k: v for k, v in os.environ.items() if not k.startswith("KERFMARK")} | {
        "NO_COLOR": "1",
        "TZ": "Asia/Kathmandu",
    }
    if not hasattr(os, "fork"):

        def alone(args: list[str], folder: Path) -> Run:
            done = subprocess.run(
                [sys.executable, "-m", "kerfmark", *args],
                cwd=folder,
                env=env,
                capture_output=True,
                text=True,
                timeout=120,
                check=False,
                encoding="utf-8",
            )
            return Run(done.returncode, done.stdout, done.stderr)

        yield alone
        return
    streams = tmp_path_factory.mktemp("streams")
    orders, answers, ended = served(env)

    def forked(args: list[str], folder: Path) -> Run:
        out, err = streams / "out", streams / "err"
        orders.write(
            json.dumps(
                {
                    "args": args,
                    "cwd": str(folder),
                    "env": env,
                    "out": str(out),
                    "err": str(err),
                    "test": os.environ.get("PYTEST_CURRENT_TEST", ""),
                    "cover": covered.FOLDER,
                }
            )
            + "\n"
        )
        orders.flush()
        code = int(answers.readline())
        return Run(code, out.read_text(encoding="utf-8"), err.read_text(encoding="utf-8"))

    yield forked
    orders.close()
    ended()


@pytest.fixture(scope="session", autouse=True)
def _elsewhere(tmp_path_factory: pytest.TempPathFactory) -> None:
    """Nothing that a test leaves in its folder is left in the one that is committed."""
    os.chdir(tmp_path_factory.mktemp("elsewhere"))


@pytest.fixture(autouse=True)
def noted(request: pytest.FixtureRequest) -> Iterator[None]:
    """Notes what each test runs, where that is asked for (see `covered`)."""
    with covered.covered(f"{request.node.nodeid} (call)"):
        yield


@pytest.fixture
def kerfmark(tmp_path: Path, program: Callable[[list[str], Path], Run]) -> Runner:
    """Runs the program in a fresh folder; fails, telling everything, unless it ends with the
    expected code."""

    def run(*args: str | Path, code: int = 0) -> Run:
        done = program([*map(str, args)], tmp_path)
        assert done.code == code, (
            f"kerfmark {' '.join(map(str, args))}\nexit code {done.code}, not {code}\n"
            f"--- out\n{done.out}\n--- err\n{done.err}\n--- "
            f"folder\n{sorted(p.name for p in tmp_path.iterdir())}"
        )
        assert "Traceback" not in done.err
        return done

    return run


@pytest.fixture
def write(tmp_path: Path) -> Callable[..., Path]:
    """Writes a file into the test's folder."""

    def write_(name: str, content: str | bytes) -> Path:
        path = tmp_path / name
        path.write_bytes(content.encode() if isinstance(content, str) else content)
        return path

    return write_


@pytest.fixture
def visits(write: Callable[..., Path]) -> Path:
    """A small flat file with the chain visit -> hive -> apiary, and keepers."""
    return write("visits.csv", flat_visits())


def flat_visits(rows: int = 240) -> str:
    """The text of such a file."""
    lines = ["visit no,day,hive,kind,apiary,grid,keeper,phone,kg"]
    for i in range(rows):
        hive, keeper = (i * 7 + i // 11) % 24, (i + i // 17) % 9
        apiary = hive % 6
        kind = ["wood", "straw", "cork"][hive * 5 // 7 % 3]
        lines.append(
            f"{i + 1},2025-{1 + i % 12:02}-{1 + i % 28:02},H{hive:02},{kind},"
            f"Field {apiary},XK {apiary * 37 % 90:02},Keeper {keeper},0555 "
            f"{keeper * 7919 % 1000:03},"
            f"{i * i % 97 / 10:.1f}"
        )
    return "\n".join(lines) + "\n"


@pytest.fixture(params=ENGINES)
def db(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[Target]:
    """A place for a database, on each engine in turn."""
    with target(request.param, tmp_path) as one:
        yield one


def hears_interrupts() -> None:
    """For a program that is to be interrupted: a shell that started the tests in the background has
    made it deaf."""
    signal.signal(signal.SIGINT, signal.SIG_DFL)


@pytest.fixture(scope="session")
def running() -> Iterator[Cluster]:
    """A cluster of two workers, and a session of this process with it. Skips the test where its
    packages are not here."""
    from cluster import SETTINGS, cluster
    from kerfmark.cluster.session import connected

    with cluster() as one:
        os.environ.update(SETTINGS)
        with connected(one.address):
            yield one
