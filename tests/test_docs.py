"""What the docs show holds."""

from __future__ import annotations

import re
import shlex
import shutil
import sqlite3
from pathlib import Path

import pytest

from conftest import COMMANDS, DEMO, Runner
from engines import Target

ROOT = Path(__file__).parent.parent


def blocks(page: str, language: str) -> list[str]:
    return re.findall(rf"```{language}\n(.*?)```", (ROOT / page).read_text(encoding="utf-8"), re.S)


def examples(page: str) -> list[tuple[dict[str, str], str]]:
    """The layouts of a page, each with the files that stand before it."""
    out: list[tuple[dict[str, str], str]] = []
    files: dict[str, str] = {}
    for kind, name, body in re.findall(
        r"```(csv|toml) ?(\S*)\n(.*?)```", (ROOT / page).read_text(encoding="utf-8"), re.S
    ):
        if kind == "csv":
            files[name] = body
        else:
            out.append((files, body))
            files = {}
    return out


@pytest.mark.parametrize("number", range(len(examples("docs/layout.md"))))
def test_every_layout_that_is_shown_builds_what_can_be_proven(
    kerfmark: Runner, tmp_path: Path, number: int
) -> None:
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
    for command in COMMANDS:
        assert f"kerfmark {command}" in readme
    for picture in (ROOT / "docs/screenshots").glob("*.png"):
        assert f"docs/screenshots/{picture.name}" in readme


def commands(page: str) -> list[list[str]]:
    """The lines of a page's shell blocks, as words."""
    return [
        shlex.split(line)
        for block in blocks(page, "sh")
        for line in block.splitlines()
        if line.strip()
    ]


def test_the_page_about_existing_tables_can_be_followed(kerfmark: Runner, tmp_path: Path) -> None:
    for name in ("club.sql", "inspections-2025.csv", "inspections-2026-01.csv"):
        shutil.copy(DEMO / name, tmp_path)
    first, *rest = commands("docs/existing.md")
    assert first == ["sqlite3", "club.db", "<", "club.sql"]
    with sqlite3.connect(tmp_path / "club.db") as db:
        db.executescript((tmp_path / "club.sql").read_text("utf-8"))
        before = {
            t: db.execute(f"SELECT * FROM {t}").fetchall()
            for t in ("district", "apiary", "hive", "keeper", "inspection")
        }
    for words in rest:
        done = kerfmark(*words[1:])
        assert words[0] == "kerfmark" and (
            words[1] != "mark" or "Date                 inspection.inspected_on" in done.out
        )
    with sqlite3.connect(tmp_path / "club.db") as db:
        assert {t: db.execute(f"SELECT * FROM {t}").fetchall() for t in before} == before


@pytest.mark.parametrize("page", ["first", "workbooks", "refused", "export", "questions", "adding"])
def test_the_pages_by_task_can_be_followed(kerfmark: Runner, tmp_path: Path, page: str) -> None:
    for file in DEMO.iterdir():
        shutil.copy(file, tmp_path)
    if page == "adding":
        kerfmark("cut", "inspections-2025.csv", "--into", "apiary.db")
    said = ""
    for kind, block in re.findall(
        r"```(sh|text)\n(.*?)```", (ROOT / f"docs/{page}.md").read_text("utf-8"), re.S
    ):
        for line in block.splitlines():
            if kind == "text":
                assert line in said
                continue
            words = shlex.split(line, comments=True)
            assert words[0] == "kerfmark"
            if "to-correct.csv" in words[:3]:  # what a person does by hand
                there = tmp_path / "to-correct.csv"
                text = there.read_text("utf-8-sig")
                there.write_text(
                    text.replace("31.04.2026", "30.04.2026").replace(
                        "Nothing Mil;", "Nothing Mill;"
                    ),
                    "utf-8-sig",
                )
            done = kerfmark(
                *words[1:], code=int((re.findall(r"# exit code (\d)", line) or ["0"])[0])
            )
            said = done.out + done.err
    assert said


def test_the_page_about_python_can_be_followed(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    import dataclasses

    import kerfmark as library

    monkeypatch.chdir(tmp_path)
    for file in DEMO.iterdir():
        shutil.copy(file, tmp_path)
    [program] = blocks("docs/library.md", "python")
    exec(program, {})
    assert (
        (tmp_path / "tables/hive.csv").exists()
        and (tmp_path / "apiary.svg").exists()
        and (tmp_path / "to-correct.csv").exists()
    )
    page = (ROOT / "docs/library.md").read_text("utf-8")
    for name in library.__all__:
        one = getattr(library, name)
        assert f"`{name}" in page or name == "__version__", name
        if name.endswith("Result"):
            assert dataclasses.is_dataclass(one) and one.__dataclass_params__.frozen, name  # type: ignore[attr-defined]


@pytest.mark.parametrize("db", ["PostgreSQL"], indirect=True)
def test_the_page_about_servers_can_be_followed(
    kerfmark: Runner, db: Target, tmp_path: Path
) -> None:
    for name in ("inspections-2025.csv", "inspections-2026-01.csv"):
        shutil.copy(DEMO / name, tmp_path)
    url, schema = str(db).split("?schema=")
    for words in commands("docs/servers.md"):
        said = [
            url if w.startswith("postgresql://") else schema if w == "apiary" else w for w in words
        ]
        assert said[0] == "kerfmark"
        kerfmark(*said[1:])
    assert (tmp_path / "apiary.sql").exists() and db.ask("SELECT count(*) FROM inspection") == [
        1563
    ]
