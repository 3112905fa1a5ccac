"""Rows set aside by a cut on a cluster: those that one machine sets aside, with the same reasons,
and a proof that passes over no others."""

from __future__ import annotations

import json
import random
import re
import sqlite3
from pathlib import Path

import pytest
import xlsxwriter

from cluster import Cluster, differences, proof_said
from kerfmark.cli.main import main
from kerfmark.cluster.set_aside import MOST, Apart
from kerfmark.cluster.staging import PLACE_BITS, ProblemRows
from kerfmark.verbs.add import add
from kerfmark.verbs.add_on_cluster import add_on_cluster
from kerfmark.verbs.add_result import AddResult
from kerfmark.verbs.cut import CutResult, cut
from kerfmark.verbs.on_cluster import cut_on_cluster
from kerfmark.verbs.prove import prove
from kerfmark.verbs.prove_on_cluster import prove_on_cluster

LAYOUT = """\
kerfmark = 1
[sources.visits]
file = "visits.csv"
[sources.districts]
file = "districts.xlsx"
sheet = "Districts"
[tables.district]
source = "districts"
each_row = true
known_by = ["district"]
[tables.district.columns]
district = { header = "District" }
hives = { header = "Hives", type = "integer" }
[tables.visit]
source = "visits"
each_row = true
known_by = ["no"]
optional = ["mites"]
only_rows = "[Kind] <> 'test'"
[tables.visit.columns]
no = { header = "No", type = "integer" }
day = { header = "Day", type = "date YYYY-MM-DD" }
mites = { header = "Mites", type = "integer" }
kind = { header = "Kind", allowed = ["visit", "test", "swarm"] }
[tables.visit.links]
keeper_id = { to = "keeper" }
[tables.visit.links.district_id]
to = "district"
by = { district = "District" }
missing = "refuse"
[tables.keeper]
source = "visits"
known_by = ["keeper"]
columns = { keeper = { header = "Keeper" }, phone = { header = "Phone" } }
"""
DISTRICTS = ["Weir", "Mill", "Ford", "Holm", "Dale"]


def files(folder: Path, rows: int) -> Path:
    """Visits and a register, with mistakes of every kind; the layout."""
    chance = random.Random(23)
    keepers = {f"Keeper {k}": f"0555 {chance.randint(10**5, 10**6 - 1)}" for k in range(25)}
    lines = []
    for n in range(1, rows + 1):
        keeper = chance.choice([*keepers])
        cells = [n, f"2031-{chance.randint(1, 12):02}-{chance.randint(1, 28):02}"]
        cells += [chance.randint(0, 40), chance.choice(["visit", "visit", "test", "swarm"])]
        lines.append([*map(str, cells), keeper, keepers[keeper], chance.choice(DISTRICTS[:4])])
    for at in (10, 16, 200, 300, 400, 500, 501, 502, 600):  # no tests, which are left out
        lines[at][3] = "visit"
    lines[10][1] = "2031-02-30"
    lines[200][2] = "many"
    lines[201][3] = "swam"
    lines[300][0] = "17"  # as the seventeenth has
    lines[400][5] = "0555 000000"
    lines[500][6] = "Weyr"
    lines[501][6] = "Dale"  # whose own row is refused
    lines[502][4] = ""
    lines[600][1], lines[600][6] = "soon", "Nowhere"
    text = [",".join(cells) for cells in lines]
    text[350] += ",and more"
    text[351] = "a note"
    (folder / "visits.csv").write_text(
        "\n".join(["No,Day,Mites,Kind,Keeper,Phone,District", *text, ""]), encoding="utf-8"
    )
    with xlsxwriter.Workbook(str(folder / "districts.xlsx")) as book:
        sheet = book.add_worksheet("Districts")
        sheet.write_row(0, 0, ["District", "Hives"])
        for at, name in enumerate(DISTRICTS, 1):
            sheet.write_row(at, 0, [name, "lost" if name == "Dale" else at])
    layout = folder / "case.layout.toml"
    layout.write_text(LAYOUT, encoding="utf-8")
    return layout


def test_a_cluster_sets_aside_what_one_machine_does(
    running: Cluster,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    capsys: pytest.CaptureFixture[str],
) -> None:
    monkeypatch.setenv("KERFMARK_BLOCK", "9000")
    layout = files(tmp_path, 800)
    folder, rejects = tmp_path / "there", tmp_path / "there.csv"
    here = cut([layout], tmp_path / "here.db", set_aside=tmp_path / "here.csv")
    assert isinstance(here, CutResult) and here.set_aside == 12
    said = ["cut", str(layout), "--into", str(folder), "--cluster", running.address]
    assert main([*said, "--set-aside", str(rejects)]) == 3
    assert "12 rows" in capsys.readouterr().out
    for other in ("", "-districts"):
        mine, theirs = (tmp_path / f"{n}{other}.csv" for n in ("there", "here"))
        assert mine.read_text(encoding="utf-8") == theirs.read_text(encoding="utf-8")
    assert differences(tmp_path / "here.db", folder) == []
    # the ledger has them as one machine's has
    with sqlite3.connect(tmp_path / "here.db") as connection:
        asked = "SELECT source, file, row, record, reason FROM kerfmark_set_aside ORDER BY 1, 3"
        theirs = connection.execute(asked).fetchall()
    told = json.loads((folder / "kerfmark.json").read_text(encoding="utf-8"))
    mine = [
        (r["source"], r["file"], r["row"], r["record"], r["reason"])
        for r in told["loads"][0]["set_aside"]
    ]
    assert sorted(mine) == sorted(theirs)
    monkeypatch.setenv("KERFMARK_BLOCK", "7000")  # a file need not be read again as it was
    proof = prove(folder)
    assert proof.holds and proof_said(prove_on_cluster(folder, running.address)) == proof_said(
        proof
    )
    assert {p.source: p.set_aside for p in proof.proofs} == {"visits": 11, "districts": 1}
    # a row fewer among those that are passed over is noticed
    told["loads"][0]["set_aside"] = [r for r in told["loads"][0]["set_aside"] if r["row"] != 12]
    (folder / "kerfmark.json").write_text(json.dumps(told), encoding="utf-8")
    assert not prove(folder).holds
    # and so is one more that has no place in the tables
    with (tmp_path / "visits.csv").open("a", encoding="utf-8") as file:
        file.write("another note\n")
    [proof, _] = prove_on_cluster(folder, running.address).proofs
    row = proof.differences[0]
    assert (row.row, row.in_source) == (802, "a row that has 1 field instead of 7")
    assert proof.total == 2 and proof.set_aside == 10


def ledger_of(database: Path, load: int) -> list[tuple[object, ...]]:
    """The rows that a load of one machine set aside."""
    with sqlite3.connect(database) as connection:
        asked = "SELECT source, row, record, reason FROM kerfmark_set_aside WHERE load_id = ?"
        return sorted(connection.execute(asked, (load,)).fetchall())


def test_later_files_are_set_aside_in_part_as_on_one_machine(
    running: Cluster,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    capsys: pytest.CaptureFixture[str],
) -> None:
    monkeypatch.setenv("KERFMARK_BLOCK", "5000")
    layout, later = files(tmp_path, 800), tmp_path / "later"
    later.mkdir()
    whole = (tmp_path / "visits.csv").read_text(encoding="utf-8").split("\n")
    whole[1 + 700] = whole[1 + 3].replace(",test,", ",visit,")  # a row of the first file again
    (tmp_path / "visits.csv").write_text("\n".join([*whole[:300], ""]), encoding="utf-8")
    (later / "visits.csv").write_text("\n".join([whole[0], *whole[300:]]), encoding="utf-8")
    here, there = tmp_path / "here.db", tmp_path / "there"
    cut([layout], here, set_aside=tmp_path / "first.csv")
    cut_on_cluster([layout], there, running.address, set_aside=tmp_path / "first-there.csv")
    done = add([later / "visits.csv"], here, set_aside=tmp_path / "here.csv")
    assert isinstance(done, AddResult) and done.set_aside == 9
    said = ["add", str(later / "visits.csv"), "--into", str(there), "--cluster", running.address]
    assert main([*said, "--rehearse", "--set-aside", str(tmp_path / "there.csv")]) == 3
    assert not (tmp_path / "there.csv").exists()
    capsys.readouterr()
    assert main([*said, "--set-aside", str(tmp_path / "there.csv")]) == 3
    assert "9 rows" in capsys.readouterr().out
    mine, theirs = (tmp_path / f"{n}.csv" for n in ("there", "here"))
    # what a cluster does not offer
    only_here = re.compile("'?--known (keep|fill|overwrite|replace) [^;]*; ")
    assert mine.read_text(encoding="utf-8") == only_here.sub("", theirs.read_text(encoding="utf-8"))
    assert differences(here, there) == []
    told = json.loads((there / "kerfmark.json").read_text(encoding="utf-8"))["loads"][1]
    rows = [(r["source"], r["row"], r["record"], r["reason"]) for r in told["set_aside"]]
    assert sorted(rows) == ledger_of(here, 2)
    proof = prove(there)
    assert proof.holds
    assert proof_said(prove_on_cluster(there, running.address)) == proof_said(proof)
    # what is corrected in the file lands then, and what is not is set aside again
    text = mine.read_text(encoding="utf-8").replace("soon", "2031-05-05").replace("Nowhere", "Mill")
    mine.write_text(text, encoding="utf-8")
    theirs.write_text(text, encoding="utf-8")
    again = add([theirs], here, set_aside=tmp_path / "here-2.csv")
    landed = add_on_cluster([mine], there, running.address, set_aside=tmp_path / "there-2.csv")
    assert isinstance(again, AddResult)
    assert again.set_aside == landed.set_aside == 7  # "a note" is of no kind: left out
    assert differences(here, there) == [] and prove(there).holds


def test_a_rehearsal_sets_nothing_aside(running: Cluster, tmp_path: Path) -> None:
    layout = files(tmp_path, 700)
    rejects = tmp_path / "rejects.xlsx"
    rehearsed = cut_on_cluster(
        [layout], tmp_path / "there", running.address, set_aside=rejects, rehearsal=True
    )
    assert rehearsed.set_aside == 12 and not rejects.exists()
    assert not (tmp_path / "there").exists()


def problem(total: int, *, of_all: bool = False) -> ProblemRows:
    """Rows that do not fit, the first two of them told."""
    rows = [((3 << PLACE_BITS) + n, "is not an integer") for n in (5, 8)]
    told = ProblemRows(
        "unfit", "visits", ["Mites"], "correct the cells", "", "broken", {}, rows, total
    )
    told.of_all = of_all
    return told


def test_what_is_wrong_as_a_whole_is_not_set_aside() -> None:
    apart = Apart()
    assert apart.take([problem(MOST + 1)]) == set() and apart.count == 0
    assert apart.take([problem(2), problem(2, of_all=True)]) == set() and apart.count == 0
    assert apart.take([problem(2)]) == {3} and apart.of(3) == [5, 8]
    assert apart.take([problem(2)]) == set(), "nothing new is there to be taken out"
