"""What the docs show holds."""

from __future__ import annotations

import re
import shutil
from pathlib import Path

import pytest

from conftest import DEMO, Runner
from kerfmark.layout.text import parse_layout

ROOT = Path(__file__).parent.parent


def blocks(page: str, language: str) -> list[str]:
    return re.findall(rf"```{language}\n(.*?)```", (ROOT / page).read_text(encoding="utf-8"), re.S)


def test_the_example_of_a_layout_is_one(kerfmark: Runner, tmp_path: Path) -> None:
    text = blocks("docs/layout.md", "toml")[0]
    layout = parse_layout(text, "docs")
    assert layout.tables["hive"].columns["kind"].header == "kind"
    (tmp_path / "visits.csv").write_text("hive;kind;day;kg;scratch\nH1;wood;03.04.2025;1,5;x\nH2;n/a;04.04.2025;;y\n")
    (tmp_path / "x.layout.toml").write_text(text)
    err = kerfmark("cut", "x.layout.toml", "--into", "x.db", code=1).err
    assert 'visits.csv, row 3, column "kind": is blank' in err          # as the page says: not optional, so it must be filled
    (tmp_path / "visits.csv").write_text("hive;kind;day;kg;scratch\nH1;wood;03.04.2025;1,5;x\nH2;straw;04.04.2025;n/a;y\n")
    kerfmark("cut", "x.layout.toml", "--into", "x.db")


def test_the_readme_s_program_runs(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.chdir(tmp_path)
    shutil.copy(DEMO / "inspections-2025.csv", tmp_path)
    [program] = blocks("README.md", "python")
    exec(program, {})
    assert (tmp_path / "apiary.db").exists()


def test_the_readme_shows_every_command_and_picture_there_is(kerfmark: Runner) -> None:
    readme = (ROOT / "README.md").read_text(encoding="utf-8")
    for command in ("measure", "mark", "cut", "show", "prove", "demo"):
        assert f"kerfmark {command}" in readme
    for picture in (ROOT / "docs/screenshots").glob("*.png"):
        assert f"docs/screenshots/{picture.name}" in readme


def test_the_further_examples_of_layouts_are_ones() -> None:
    """Each is a piece of a layout: together with what it leaves out it must be one."""
    _, parts, links, several, exceptions = blocks("docs/layout.md", "toml")
    parse_layout('kerfmark = 1\n' + parts + '[tables.visit]\nsource = "visits"\neach_row = true\n', "docs")
    base = ('kerfmark = 1\n[sources.s]\nfile = "s.csv"\n[sources.p]\nfile = "p.csv"\n[sources.d]\nfile = "d.csv"\n'
            '[tables.hive]\nsource = "s"\neach_row = true\nknown_by = ["tag"]\n[tables.hive.columns]\ntag = "Tag"\n'
            '[tables.place]\nsource = "p"\neach_row = true\nknown_by = ["name"]\n[tables.place.columns]\nname = "N"\ngrid = "G"\n'
            '[tables.place.links]\ndistrict_id = {to = "district", by = {district = "D"}}\n'
            '[tables.district]\nsource = "d"\neach_row = true\nknown_by = ["district"]\ncolumns = {district = "District"}\n')
    assert parse_layout(base + links, "docs").tables["hive"].links["place_id"].repeats["grid"] == "Grid ref"
    inspections = ('kerfmark = 1\n[sources.inspections]\nfile = "i.csv"\n[tables.inspection]\nsource = "inspections"\n'
                   'each_row = true\ncolumns = {no = "No"}\n')
    assert parse_layout(inspections + several, "docs").tables["mite_count"].part_of == "inspection"
    visits = ('kerfmark = 1\n[sources.v]\nfile = "v.csv"\n[tables.visit]\nsource = "v"\neach_row = true\n'
              'links = {keeper_id = "keeper"}\n[tables.keeper]\nsource = "v"\nknown_by = ["keeper"]\n')
    whole = visits + exceptions.replace("[tables.keeper.columns]", '[tables.keeper.columns]\nkeeper = "Keeper"')
    layout = parse_layout(whole, "docs")
    assert layout.exceptional("v", "Phone") == ("visit", "phone_here", "keeper", "phone")
