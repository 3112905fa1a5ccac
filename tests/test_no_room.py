"""Disks that are full, places that cannot be written to, and what killed programs have left: told in
plain words, nothing half done stays, and what was there is as before."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

import kerfmark as library
from conftest import Runner
from engines import Target

Write = Callable[..., Path]
DEMO = Path(library.__file__).parent / "demo" / "data"
LIMITED = (
    "import resource, runpy, signal, sys\n"
    "signal.signal(signal.SIGXFSZ, signal.SIG_IGN)\n"
    "resource.setrlimit(resource.RLIMIT_FSIZE, (int(sys.argv[1]), resource.RLIM_INFINITY))\n"
    "sys.argv[:2] = ['kerfmark']\n"
    "runpy.run_module('kerfmark', run_name='__main__')\n"
)
COMMANDS = {
    "cut": ["cut", "inspections-2025.csv", "--into", "n.db"],
    "cut --replace": ["cut", "inspections-2025.csv", "--into", "a.db", "--replace"],
    "cut --as-script": ["cut", "inspections-2025.csv", "--as-script", "n.sql", "--for", "sqlite"],
    "mark": ["mark", "inspections-2025.csv", "-o", "m.toml"],
    "mark --report": ["mark", "inspections-2025.csv", "--report", "m.html"],
    "measure --report": ["measure", "inspections-2025.csv", "--report", "m.html"],
    "add": ["add", "inspections-2026-01.csv", "--into", "a.db"],
    "add --backup": ["add", "inspections-2026-01.csv", "--into", "a.db", "--backup", "copy.db"],
    "set aside": ["add", "inspections-2026-05.csv", "--into", "a.db", "--set-aside", "aside.xlsx"],
    "beside": ["cut", "harvest-2025.csv", "--into", "a.db", "--beside"],
    "recut": ["recut", "a.db", "new.toml"],
    "undo --backup": ["undo", "a.db", "--backup", "copy.db"],
    "refresh": ["refresh", "a.db"],
    "export folder": ["export", "a.db", "-o", "out"],
    "export workbook": ["export", "a.db", "-o", "out.xlsx"],
    "export script": ["export", "a.db", "-o", "out.sql", "--for", "sqlite"],
    "draw": ["draw", "a.db", "-o", "out.svg"],
    "draw png": ["draw", "a.db", "-o", "out.png"],
    "prove --report": ["prove", "a.db", "--report", "out.html"],
    "demo": ["demo", "folder"],
}


@pytest.fixture(scope="module")
def built(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("built")
    for file in DEMO.iterdir():
        shutil.copy(file, folder)
    subprocess.run([sys.executable, "-m", "kerfmark", "cut", "inspections-2025.csv", "--into", "a.db"], cwd=folder, check=True, capture_output=True)  # fmt: skip
    text = (folder / "a.layout.toml").read_text()
    (folder / "new.toml").write_text(text.replace("honey_kg =", "honey ="))
    return folder


@pytest.mark.parametrize("room", [3_000, 60_000, 400_000])
@pytest.mark.parametrize("name", COMMANDS)
def test_every_path_that_writes_meets_a_full_disk(
    built: Path, tmp_path: Path, kerfmark: Runner, name: str, room: int
) -> None:
    shutil.copytree(built, tmp_path, dirs_exist_ok=True)
    before = {p.name for p in tmp_path.iterdir()}
    done = subprocess.run(
        [sys.executable, "-c", LIMITED, str(room), *COMMANDS[name]],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        timeout=120,
        check=False,
    )
    told = done.stderr
    assert "Traceback" not in told and "fault of the program" not in told, told
    assert "Exception ignored" not in told and "internal" not in told.lower().replace("internal: failed", ""), told  # fmt: skip
    if done.returncode in (0, 3):
        return  # there was room enough
    assert done.returncode == 2 and "error: " in told and "next: " in told, told
    new = {p.name for p in tmp_path.iterdir()} - before
    assert new <= {"a.db-journal", "folder"}, new  # the engine takes back what that says
    assert kerfmark("prove", "a.db").code == 0
    assert len(library.loads(tmp_path / "a.db").loads) == 1


NOWHERE = "/proc" if Path("/proc/self").exists() else ""


@pytest.mark.skipif(not NOWHERE, reason="this system has no folder that nobody can write to")
@pytest.mark.parametrize("name", [n for n in COMMANDS if n not in ("add", "cut --replace", "beside", "recut", "refresh")])  # fmt: skip
def test_a_folder_that_cannot_be_written_to_is_called_that(
    built: Path, tmp_path: Path, kerfmark: Runner, name: str
) -> None:
    shutil.copytree(built, tmp_path, dirs_exist_ok=True)
    *rest, last = COMMANDS[name]
    targets = ("n.db", "n.sql", "m.toml", "m.html", "copy.db", "aside.xlsx", "out", "out.xlsx", "out.sql", "out.svg", "out.png", "out.html", "folder")  # fmt: skip
    command = [f"{NOWHERE}/{c}" if c in targets else c for c in (*rest, last)]
    told = kerfmark(*command, code=2).err
    assert "fault of the program" not in told and ".part" not in told and "next: " in told, told
    assert kerfmark("prove", "a.db").code == 0


def test_what_killed_programs_left_is_swept_and_nothing_of_one_that_runs(
    built: Path, tmp_path: Path, kerfmark: Runner
) -> None:
    shutil.copytree(built, tmp_path, dirs_exist_ok=True)
    gone = subprocess.Popen([sys.executable, "-c", ""])
    gone.wait()
    swept, kept = [], []
    for target in ("n.db", "n.layout.toml", "out.xlsx", "out", "copy.db", "out.svg", "n.sql"):
        for process, some in ((gone.pid, swept), (os.getpid(), kept)):
            part = tmp_path / f".{target}.{process}.part"
            if target == "out":
                part.mkdir()
                (part / "a.csv").write_text("half")
            else:
                part.write_text("half")
            some.append(part)
    for name in ("cut", "export workbook", "export folder", "undo --backup", "draw", "cut --as-script"):  # fmt: skip
        kerfmark(*COMMANDS[name], code=0)
    assert not [p for p in swept if p.exists()] and all(p.exists() for p in kept)


def test_tables_that_a_killed_program_was_building_go_with_the_next_change(
    db: Target, write: Write, kerfmark: Runner
) -> None:
    write("a.csv", "no,mood\n" + "".join(f"{n},m{n % 3}\n" for n in range(30)))
    write("b.csv", "no,mood\n99,m1\n")
    kerfmark("cut", "a.csv", "--into", str(db), "--one-table")
    if db.engine != "MariaDB":
        return  # there all is done in one transaction
    db.do("CREATE TABLE kerfmark_part_0 (n INT)", "CREATE TABLE kerfmark_part_loads (n INT)")
    kerfmark("show", str(db))
    kerfmark("add", "b.csv", "--into", str(db))
    assert not [t for t in db.tables() if t.startswith("kerfmark_part")]
