"""add and undo on a cluster: the same records and keys as when the same files are added to a
database on one machine, the same words for what does not fit, and nothing that is half done."""

from __future__ import annotations

import csv
import random
import shutil
import subprocess
import sys
from pathlib import Path

import pyarrow.parquet as pq
import pytest

from cluster import Cluster, differences, proof_said
from cluster_cases import CASES, VISITS_AND_DISTRICTS
from kerfmark.cluster.folder import read_folder
from kerfmark.errors import DataRefused, TargetError, UsageError
from kerfmark.verbs.add import add
from kerfmark.verbs.add_on_cluster import add_on_cluster
from kerfmark.verbs.add_result import AddResult
from kerfmark.verbs.cut import cut
from kerfmark.verbs.loads import loads
from kerfmark.verbs.on_cluster import cut_on_cluster
from kerfmark.verbs.prove import prove
from kerfmark.verbs.prove_on_cluster import prove_on_cluster
from kerfmark.verbs.undo import undo

LATER = {
    "composite_keys": ["visits.csv"],
    "lookups": ["visits.csv"],
    "through_links": ["visits.csv"],
    "parts": ["care.csv"],
    "natural_keys": ["list.csv"],
    "many_files": [],
    "other_files": ["weights.parquet"],
}
"""The files of each case whose last rows come later."""


def split(file: Path, later: Path) -> Path:
    """Takes the last rows of a file out of it, into one of the same name in another folder."""
    later.mkdir(exist_ok=True)
    if file.suffix == ".parquet":
        whole = pq.read_table(file)
        pq.write_table(whole.slice(120), later / file.name)
        pq.write_table(whole.slice(0, 120), file)
        return later / file.name
    delimiter = ";" if ";" in file.read_text(encoding="utf-8").splitlines()[0] else ","
    with file.open(encoding="utf-8", newline="") as open_file:
        header, *rows = csv.reader(open_file, delimiter=delimiter)
    at = len(rows) * 3 // 5
    for place, some in ((file, rows[:at]), (later / file.name, rows[at:])):
        with place.open("w", encoding="utf-8", newline="") as open_file:
            csv.writer(open_file, delimiter=delimiter, lineterminator="\n").writerows(
                [header, *some]
            )
    return later / file.name


def begun(case: str, folder: Path, address: str) -> list[Path]:
    """Builds a case without what comes later, as `here.db` and, by a cluster, as `there`; gives the
    files that come later."""
    layout = folder / "case.layout.toml"
    layout.write_text(CASES[case](folder, random.Random(11)), encoding="utf-8")
    later = [split(folder / name, folder / "later") for name in LATER[case]]
    if not later:  # a file of its own for each month
        (folder / "later").mkdir()
        for month in (4, 5):
            name = f"visits-2031-{month:02}.csv"
            later.append(Path(shutil.move(folder / name, folder / "later" / name)))
    cut([layout], folder / "here.db")
    cut_on_cluster([layout], folder / "there", address)
    return later


@pytest.mark.parametrize("case", LATER)
def test_what_is_added_is_the_same_as_on_one_machine(
    case: str, running: Cluster, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    later = begun(case, tmp_path, running.address)
    monkeypatch.setenv("KERFMARK_BLOCK", "3000")
    here = add(later, tmp_path / "here.db")
    there = add_on_cluster(later, tmp_path / "there", running.address)
    assert differences(tmp_path / "here.db", tmp_path / "there") == []
    added = {t.name: t.added for t in here.tables if t.added}
    assert {t.name: t.added for t in there.tables if t.added} == added and added
    known = {t.name: t.known for t in here.tables if t.known}
    shown = {t.name: t.known for t in there.tables if t.known}  # not those that are looked up
    assert shown.items() <= known.items()
    assert shown or case in ("through_links", "other_files")
    assert [(f.source, f.rows) for f in there.files] == [(f.source, f.rows) for f in here.files]
    proof = prove(tmp_path / "there")
    assert proof.holds and sum(p.rows for p in proof.proofs) > sum(f.rows for f in here.files)
    by_cluster = prove_on_cluster(tmp_path / "there", running.address)
    assert proof_said(by_cluster) == proof_said(proof)
    assert [p.name for p in (tmp_path / "there").iterdir() if p.name.startswith(".")] == []


def test_a_load_is_taken_back_and_made_again(running: Cluster, tmp_path: Path) -> None:
    [later] = begun("parts", tmp_path, running.address)
    there = tmp_path / "there"
    before = read_folder(str(there)).tables
    add_on_cluster([later], there, running.address)
    with pytest.raises(DataRefused) as refused:
        undo(there, 1)
    assert "load 1 is not the latest one" in str(refused.value)
    assert "1 --through takes them back as well" in refused.value.next
    result = undo(there)
    assert result.loads == (2,) and {t: n for t, n, _ in result.tables}["care"] == 120
    assert read_folder(str(there)).tables == before
    assert len([*there.glob("load-*")]) == 1
    [first, second] = loads(there).loads
    assert not first.undone_at and second.undone_at
    assert {t[0]: t[1] for t in second.tables}["care"] == 120  # what it had added
    assert prove(there).holds
    add([later], tmp_path / "here.db")
    assert add_on_cluster([later], there, running.address).load == 3
    assert differences(tmp_path / "here.db", there) == []
    layout, address = tmp_path / "case.layout.toml", running.address
    with pytest.raises(TargetError) as lost:  # before any work
        cut_on_cluster([layout], there, "spark://127.0.0.1:1", replace=True)
    assert "load 3 (add: ../later/care.csv) would be lost" in str(lost.value)
    assert "--replace --discard loses that" in lost.value.next
    cut_on_cluster([layout], tmp_path / "other", address)
    add_on_cluster([later], tmp_path / "other", address)
    cut_on_cluster([layout], tmp_path / "other", address, replace=True, discard=True)
    assert len(read_folder(str(tmp_path / "other")).loads) == 1
    assert undo(there, 1, through=True).loads == (3, 1)
    assert {t.rows for t in read_folder(str(there)).tables.values()} == {0}


def test_a_file_is_not_added_twice(
    running: Cluster, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    april, may = begun("many_files", tmp_path, running.address)
    there, address = tmp_path / "there", running.address
    again = tmp_path / "later/visits-2031-06.csv"
    shutil.copy(tmp_path / "visits-2031-02.csv", again)  # what the cut had, under another name
    with pytest.raises(DataRefused) as refused:
        add_on_cluster([again], there, address)
    assert "this file was loaded already" in str(refused.value)
    assert "visits-2031-02.csv with load 1" in refused.value.why
    monkeypatch.setenv("KERFMARK_BLOCK", "700")  # another way to read it makes it no other file
    with pytest.raises(DataRefused):
        add_on_cluster([again], there, address)
    with pytest.raises(DataRefused) as refused:
        shutil.copy(april, tmp_path / "later/visits-2031-07.csv")
        add_on_cluster([april, tmp_path / "later/visits-2031-07.csv"], there, address)
    assert "this file is named twice" in str(refused.value)
    (tmp_path / "later/visits-2031-07.csv").unlink()
    result = add_on_cluster([tmp_path / "later"], there, address)  # of a folder, what is new
    assert result.known_files == 1 and [Path(f.file).name for f in result.files] == [
        april.name,
        may.name,
    ]
    nothing = add_on_cluster([tmp_path / "later"], there, address)
    assert (nothing.load, nothing.known_files, nothing.tables) == (0, 3, ())
    assert add_on_cluster([again], there, address, again=True).load == 3


LAYOUT = f"""\
{VISITS_AND_DISTRICTS}[tables.keeper]
source = "v"
known_by = ["keeper"]
links = {{ town_id = {{ to = "town" }} }}
unique = [["phone"]]
optional = ["phone"]
[tables.keeper.columns]
keeper = {{ header = "Keeper" }}
queens = {{ header = "Queens", type = "integer" }}
phone = {{ header = "Phone" }}
[tables.town]
source = "v"
known_by = ["town"]
columns = {{ town = {{ header = "Town" }} }}
"""
FIRST = """\
No,Keeper,Queens,Phone,Town,Mites,District,Land
1,Ann,3,0555,Weir,3,Ford,South
2,Bea,4,,Mill,1,Weir,North
"""
LATER_AND_WRONG = """\
No,Keeper,Queens,Phone,Town,Mites,District,Land
2,Bea,4,,Mill,2,Weir,North
3,Ann,7,0555,Weir,3,Ford,South
4,Bea,4,,Ford,x,Weir,North
5,Cy,1,,Weir,4,Dale,East
6,Cy,1,,Weir,4,Weir,South
7,Zebedee,1,0555,Weir,4,Weir,North
"""


def wrong(folder: Path, address: str) -> list[Path]:
    """A database and a folder, and a file with rows that contradict what they have."""
    (folder / "d.csv").write_text("District,Land\nWeir,North\nFord,South\n")
    (folder / "v.csv").write_text(FIRST)
    (folder / "case.layout.toml").write_text(LAYOUT)
    (folder / "later.csv").write_text(LATER_AND_WRONG)
    cut([folder / "case.layout.toml"], folder / "here.db")
    cut_on_cluster([folder / "case.layout.toml"], folder / "there", address)
    return [folder / "later.csv"]


def told(result: AddResult) -> list[tuple[object, ...]]:
    """The problems with their rows and reasons."""
    return sorted(
        (g.kind, g.column, g.total, p.origin.row, p.reason)
        for g in result.groups
        for p in g.places
        if g.severity == "broken"
    )


def test_what_contradicts_the_folder_is_told_as_on_one_machine_and_nothing_changes(
    running: Cluster, tmp_path: Path
) -> None:
    later = wrong(tmp_path, running.address)
    there = tmp_path / "there"
    before = {p: p.read_bytes() for p in there.rglob("*") if p.is_file()}
    here = told(add(later, tmp_path / "here.db", rehearsal=True))
    assert len(here) == 7
    rehearsed = add_on_cluster(later, there, running.address, rehearsal=True)
    assert told(rehearsed) == here and rehearsed.load == 0
    with pytest.raises(DataRefused) as refused:
        add_on_cluster(later, there, running.address)
    assert "7 problems between the data and the layout" in str(refused.value)
    assert {p: p.read_bytes() for p in there.rglob("*") if p.is_file()} == before


def test_a_layout_that_changes_records_is_refused_and_what_to_do_is_told(
    running: Cluster, tmp_path: Path
) -> None:
    layout = tmp_path / "case.layout.toml"
    layout.write_text(CASES["one_of_several"](tmp_path, random.Random(3)))
    cut_on_cluster([layout], tmp_path / "there", running.address)
    with pytest.raises(UsageError) as refused:
        add_on_cluster([tmp_path / "calls.csv"], tmp_path / "there", running.address)
    assert 'conflicts = "last" of tables > keeper > last' in refused.value.why
    assert "--replace --cluster" in refused.value.next


def test_a_folder_that_changed_meanwhile_or_is_damaged_is_left_as_it_is(
    running: Cluster, tmp_path: Path
) -> None:
    [later] = begun("parts", tmp_path, running.address)
    there = tmp_path / "there"

    def another(step: str, done: int, total: int) -> None:
        if step == "checking" and len(read_folder(str(there)).live) == 1:
            undo(there)

    with pytest.raises(TargetError) as refused:
        add_on_cluster([later], there, running.address, progress=another)
    assert "another program has changed the folder meanwhile" in str(refused.value)
    assert [load.number for load in read_folder(str(there)).loads] == [1]
    cut_on_cluster([tmp_path / "case.layout.toml"], there, running.address, replace=True)
    file = next(there.glob("load-*/hive/*.parquet"))
    file.write_bytes(file.read_bytes()[:-9] + b"123456789")
    with pytest.raises(TargetError) as refused:
        add_on_cluster([later], there, running.address)
    assert "is not as it was written" in str(refused.value) and "hive" in str(refused.value)


def test_the_command_says_what_it_did_and_how_to_take_it_back(
    running: Cluster, tmp_path: Path
) -> None:
    [later] = begun("parts", tmp_path, running.address)
    one = subprocess.run(
        [sys.executable, "-m", "kerfmark", "add", str(later), "--into", "there"],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        check=False,
    )
    assert one.returncode == 2 and "--cluster ADDRESS --into FOLDER adds to it" in one.stderr
    undone = subprocess.run(
        [sys.executable, "-m", "kerfmark", "undo", "there", "--backup", "x.db"],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        check=False,
    )
    assert undone.returncode == 2 and "leave out --backup" in undone.stderr


def test_sheets_of_one_workbook_are_files_of_their_own(running: Cluster, tmp_path: Path) -> None:
    from openpyxl import Workbook

    def book(name: str, *months: str) -> Path:
        whole = Workbook()
        whole.remove(whole.active)
        for month in months:
            sheet = whole.create_sheet(month)
            for row in (["Hive", "Mites"], [f"H{month}", 3], ["H1", 4]):
                sheet.append(row)
        whole.save(tmp_path / name)
        return tmp_path / name

    book("year.xlsx", "May", "June")
    layout = tmp_path / "case.layout.toml"
    layout.write_text("""\
kerfmark = 1
[sources.visits]
file = "year.xlsx"
sheet = "*"
telling = "month"
[tables.visit]
each_row = true
columns = { month = { header = "month" }, mites = { header = "Mites", type = "integer" } }
links = { hive_id = { to = "hive" } }
[tables.hive]
known_by = ["hive"]
columns = { hive = { header = "Hive" } }
""")
    later = book("later.xlsx", "July", "August")
    cut([layout], tmp_path / "here.db")
    cut_on_cluster([layout], tmp_path / "there", running.address)
    add([later], tmp_path / "here.db")
    result = add_on_cluster([later], tmp_path / "there", running.address)
    assert [f.rows for f in result.files] == [2, 2]
    assert differences(tmp_path / "here.db", tmp_path / "there") == []
    assert prove(tmp_path / "there").holds
    with pytest.raises(DataRefused) as refused:
        add_on_cluster([later], tmp_path / "there", running.address)
    assert "this file was loaded already" in str(refused.value)
