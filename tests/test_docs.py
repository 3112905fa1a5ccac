"""What the docs show holds."""

from __future__ import annotations

import re
import shutil
from pathlib import Path

import pytest

from conftest import DEMO, Runner

ROOT = Path(__file__).parent.parent


def blocks(page: str, language: str) -> list[str]:
    return re.findall(rf"```{language}\n(.*?)```", (ROOT / page).read_text(encoding="utf-8"), re.S)


def examples(page: str) -> list[tuple[dict[str, str], str]]:
    """The layouts of a page, each with the files that stand before it."""
    out: list[tuple[dict[str, str], str]] = []
    files: dict[str, str] = {}
    for kind, name, body in re.findall(r"```(csv|toml) ?(\S*)\n(.*?)```", (ROOT / page).read_text(encoding="utf-8"), re.S):
        if kind == "csv":
            files[name] = body
        else:
            out.append((files, body))
            files = {}
    return out


@pytest.mark.parametrize("number", range(len(examples("docs/layout.md"))))
def test_every_layout_that_is_shown_builds_what_can_be_proven(kerfmark: Runner, tmp_path: Path, number: int) -> None:
    files, layout = examples("docs/layout.md")[number]
    assert files
    for name, body in files.items():
        (tmp_path / name).write_text(body, encoding="utf-8")
    (tmp_path / "x.layout.toml").write_text(layout, encoding="utf-8")
    assert kerfmark("check", "x.layout.toml", "--json").json["problems"] == 0
    kerfmark("cut", "x.layout.toml", "--into", "x.db")
    assert kerfmark("prove", "x.db", "--json").json["holds"]


def test_the_readme_s_program_runs(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.chdir(tmp_path)
    shutil.copy(DEMO / "inspections-2025.csv", tmp_path)
    [program] = blocks("README.md", "python")
    exec(program, {})
    assert (tmp_path / "apiary.db").exists()


def test_the_readme_shows_every_command_and_picture_there_is(kerfmark: Runner) -> None:
    readme = (ROOT / "README.md").read_text(encoding="utf-8")
    for command in ("measure", "mark", "check", "cut", "add", "show", "prove", "loads", "undo", "refresh", "demo"):
        assert f"kerfmark {command}" in readme
    for picture in (ROOT / "docs/screenshots").glob("*.png"):
        assert f"docs/screenshots/{picture.name}" in readme
