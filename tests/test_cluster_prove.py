"""prove on a cluster: the same proof as on one machine, and no proof of what was changed in the
tables or in the files."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
import xxhash

from cluster import Cluster
from kerfmark.cli.main import main
from kerfmark.errors import TargetError
from kerfmark.verbs.add_on_cluster import add_on_cluster
from kerfmark.verbs.on_cluster import cut_on_cluster
from kerfmark.verbs.prove import prove
from kerfmark.verbs.prove_on_cluster import prove_on_cluster


def rewritten(folder: Path, table: str, change: Callable[[pa.Table], pa.Table]) -> None:
    """Changes the first file of a table, and what the folder says of it: as somebody would who
    wants that not to be noticed."""
    place = folder / "kerfmark.json"
    told = json.loads(place.read_text(encoding="utf-8"))
    [file, *_] = told["tables"][table]["files"]
    rows = change(pq.read_table(folder / file["file"]))
    pq.write_table(rows, folder / file["file"])
    data = (folder / file["file"]).read_bytes()
    told["tables"][table]["rows"] += len(rows) - file["rows"]
    file |= {
        "rows": len(rows),
        "bytes": len(data),
        "fingerprint": xxhash.xxh3_128(data).hexdigest(),
    }
    place.write_text(json.dumps(told), encoding="utf-8")


def with_cell(column: str, row: int, value: object) -> Callable[[pa.Table], pa.Table]:
    """What changes one cell."""

    def change(rows: pa.Table) -> pa.Table:
        cells = rows[column].to_pylist()
        cells[row] = value
        at = rows.column_names.index(column)
        field = rows.schema.field(at).with_nullable(True)
        return rows.set_column(at, field, pa.array(cells, field.type))

    return change


VISITS = """\
kerfmark = 1
[sources.visits]
file = "visits.csv"
[tables.visit]
source = "visits"
each_row = true
[tables.visit.columns]
no = { header = "No", type = "integer" }
day = { header = "Day", type = "date YYYY-MM-DD" }
fee = { header = "Fee", type = "decimal(6,2)" }
[tables.visit.links]
keeper_id = { to = "keeper" }
[tables.keeper]
source = "visits"
known_by = ["name"]
columns = { name = { header = "Keeper" }, phone = { header = "Phone" } }
"""
CHANGES: dict[str, tuple[str, Callable[[pa.Table], pa.Table]]] = {
    "a number": ("visit", with_cell("no", 7, 99)),
    "a blank": ("visit", with_cell("fee", 7, None)),
    "a link": ("visit", with_cell("keeper_id", 7, 3)),
    "a record that others lead to": ("keeper", with_cell("phone", 1, "0")),
    "a row fewer": ("visit", lambda rows: rows.slice(0, len(rows) - 1)),
    "a row twice": ("visit", lambda rows: pa.concat_tables([rows, rows.slice(3, 1)])),
    "two rows in place of two": (
        "visit",
        lambda rows: pa.concat_tables([rows.slice(1), rows.slice(4, 1)]),
    ),
}


def visits(folder: Path, address: str, layout: str = VISITS) -> Path:
    """A folder of data sets of some visits."""
    rows = [
        f"{i},2031-04-{i % 28 + 1:02},{i % 7}.50,Keeper {i % 3},{555 + i % 3}" for i in range(40)
    ]
    (folder / "visits.csv").write_text("\n".join(["No,Day,Fee,Keeper,Phone", *rows, ""]))
    (folder / "visits.layout.toml").write_text(layout)
    cut_on_cluster([folder / "visits.layout.toml"], folder / "there", address)
    return folder / "there"


def test_the_commands_do_the_same(
    running: Cluster, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    visits(tmp_path, running.address)
    (tmp_path / "visits.layout.toml").unlink()
    on = ["--cluster", running.address]
    layout, shared, there = (str(tmp_path / n) for n in ("v.toml", "shared", "built"))
    words = ["mark", str(tmp_path / "visits.csv"), "-o", layout, "--shared", shared, *on]
    assert main(words) == 0
    said = capsys.readouterr().out
    assert "proposed from 40 rows\n" in said
    assert f"then kerfmark cut {layout} --into FOLDER --cluster {running.address}" in said
    assert main(["cut", layout, "--into", there, *on]) == 0
    said = capsys.readouterr().out
    assert f"kerfmark prove {there} --cluster {running.address} compares every row" in said
    report = tmp_path / "proof.html"
    assert main(["prove", there, "--shared", shared, "--report", str(report), *on]) == 0
    said = capsys.readouterr().out
    assert "visits.csv: 40 rows and 200 cells compared, all in the database, and no others" in said
    assert "visits.csv: 41 in the file: 1 in the header, 40 read" in said
    assert "40 rows" in report.read_text(encoding="utf-8")
    with (tmp_path / "visits.csv").open("a") as file:
        file.write("40,2031-05-01,1.50,Keeper 1,556\n")
    assert main(["prove", there, *on]) == 1
    said = capsys.readouterr()
    assert "41 rows in the file, 40 in the database; 1 difference" in said.out
    assert "is not the file that was loaded" in said.err


def test_what_a_cluster_does_not_do_is_told_before_it_is_asked(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    (tmp_path / "v.csv").write_text("No,Keeper\n1,A\n2,A\n")
    on = ["--cluster", "spark://nowhere.example:7077"]
    file, shared = str(tmp_path / "v.csv"), ["--shared", str(tmp_path / "shared")]
    assert main(["cut", file, "--into", str(tmp_path / "v.db"), "--quiet"]) == 0
    layout = str(tmp_path / "v.layout.toml")
    for words, what in (
        (["mark", file], "a cluster needs a folder that all of its machines reach"),
        (["mark", file, "--report", "p.html", *shared], "a cluster does not take --report"),
        (["mark", file, "--onto", str(tmp_path / "v.db")], "a cluster does not take --onto"),
        (["mark", layout, "--optional", "v.keeper", *shared], "needs no cluster"),
        (["prove", str(tmp_path / "v.db")], "a cluster proves a folder that a cluster wrote"),
    ):
        capsys.readouterr()
        assert main([*words, *on]) == 2, words
        assert what in capsys.readouterr().err, words


def test_nothing_is_proven_that_was_changed_in_the_tables(running: Cluster, tmp_path: Path) -> None:
    there = visits(tmp_path, running.address)
    kept = {p: p.read_bytes() for p in there.rglob("*") if p.is_file()}
    for what, (table, change) in CHANGES.items():
        rewritten(there, table, change)
        found = prove_on_cluster(there, running.address)
        assert not found.holds, what
        assert found.proofs[0].total and found.proofs[0].differences, what
        for place, data in kept.items():
            place.write_bytes(data)
    cell = with_cell("keeper_id", 7, 4)  # there are three
    rewritten(there, "visit", cell)
    assert prove_on_cluster(there, running.address).broken_links == ("visit.keeper_id",)


def test_a_file_that_has_changed_is_told_cell_by_cell(running: Cluster, tmp_path: Path) -> None:
    there = visits(tmp_path, running.address)
    file = tmp_path / "visits.csv"
    file.write_text(file.read_text().replace("\n5,2031-04-06,5.50", "\n5,2031-04-07,5.50"))
    [found] = prove_on_cluster(there, running.address).proofs
    [here] = prove(there).proofs
    assert found.changed and here.changed
    assert found.differences == here.differences
    [cell] = found.differences
    assert (cell.row, cell.column, cell.in_source) == (7, "Day", '"2031-04-07"')


def test_a_cell_that_is_no_value_is_not_the_blank_that_the_tables_have(
    running: Cluster, tmp_path: Path
) -> None:
    there = visits(
        tmp_path, running.address, VISITS.replace("each_row", 'optional = ["fee", "day"]\neach_row')
    )
    file = tmp_path / "visits.csv"
    file.write_text(file.read_text().replace("\n5,2031-04-06,5.50", "\n5,2031-02-30,lost"))
    rewritten(there, "visit", with_cell("fee", 5, None))
    rewritten(there, "visit", with_cell("day", 5, None))
    [found] = prove_on_cluster(there, running.address).proofs
    day, fee = found.differences
    assert found.total == 2 and {day.row, fee.row} == {7}
    assert (day.column, day.in_source, day.in_database) == ("Day", '"2031-02-30"', "blank")
    assert (fee.column, fee.in_source, fee.in_database) == ("Fee", '"lost"', "blank")


def test_a_file_of_the_folder_that_is_not_as_it_was_written_is_told(
    running: Cluster, tmp_path: Path
) -> None:
    there = visits(tmp_path, running.address)
    [part] = there.glob("load-*/keeper/*.parquet")
    part.write_bytes(part.read_bytes()[:-1] + b"x")
    with pytest.raises(TargetError, match="is not as it was written"):
        prove_on_cluster(there, running.address)
    assert not list(there.glob(".*")), "what was needed on the way is gone"


def test_a_value_that_a_later_file_says_otherwise_and_that_stays_is_no_difference(
    running: Cluster, tmp_path: Path
) -> None:
    chosen = VISITS.replace('{ header = "Phone" }', '{ header = "Phone", conflicts = "first" }')
    for name, phone, numbers in (("visits", 500, range(20)), ("more", 700, range(20, 40))):
        rows = [
            f"{i},2031-04-{i % 28 + 1:02},{i % 7}.50,Keeper {i % 3},{phone + i}" for i in numbers
        ]
        text = "\n".join(["No,Day,Fee,Keeper,Phone", *rows, ""])
        (tmp_path / f"{name}.csv").write_text(text)
    (tmp_path / "visits.layout.toml").write_text(chosen)
    there = tmp_path / "there"
    cut_on_cluster([tmp_path / "visits.layout.toml"], there, running.address)
    add_on_cluster([tmp_path / "more.csv"], there, running.address)
    assert prove_on_cluster(there, running.address).holds
    rewritten(there, "keeper", with_cell("phone", 1, "702"))
    assert not prove_on_cluster(there, running.address).holds
