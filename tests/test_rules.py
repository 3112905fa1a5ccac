"""Rules that carry the whole, each in a plain case that is counted here by hand."""

from __future__ import annotations

import csv
import os
import random
import re
import sqlite3
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pyarrow as pa
import pytest

import kerfmark as library
from conftest import Runner
from engines import Target
from kerfmark.address import database_at
from kerfmark.profile.recognise import recognise
from kerfmark.store.server import Numbered
from kerfmark.store.sqlite.new import NewFile

Write = Callable[..., Path]
VISITS = "no,hive,kg\n" + "".join(f"{i},H{i % 3},{i}.5\n" for i in range(1, 9))


@pytest.mark.parametrize(
    "harm",
    [
        "DELETE FROM visit WHERE visit_id = 1",
        "DELETE FROM visit WHERE visit_id = 4",
        "DELETE FROM visit WHERE visit_id = 8",
        "INSERT INTO visit SELECT 9, no + 90, hive, kg FROM visit WHERE visit_id = 1",
        "UPDATE visit SET visit_id = 99 WHERE visit_id = 4",
    ],
)
def test_a_built_file_has_the_rows_that_were_to_be_in_it(
    write: Write, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, harm: str
) -> None:
    write("visits.csv", VISITS)
    verify = NewFile.verify

    def harmed(new: NewFile, expected: dict[str, int]) -> None:
        new._db.execute(harm)
        verify(new, expected)

    monkeypatch.setattr(NewFile, "verify", harmed)
    with pytest.raises(library.KerfmarkError, match="is not what it should be"):
        library.cut([tmp_path / "visits.csv"], tmp_path / "v.db")
    assert [f.name for f in tmp_path.iterdir()] == ["visits.csv"]


@pytest.mark.parametrize("db", ["PostgreSQL", "MariaDB"], indirect=True)
def test_a_server_s_table_has_the_rows_that_were_to_be_in_it(
    write: Write, kerfmark: Runner, db: Target
) -> None:
    write("visits.csv", VISITS)
    kerfmark("cut", "visits.csv", "--into", db)
    with database_at(str(db)).reading() as reader:
        assert isinstance(reader, Numbered)
        assert reader.nearly_all({"visit": 8}) == []
        assert reader.nearly_all({"visit": 7}) and reader.nearly_all({"visit": 9})


def test_what_a_killed_program_left_is_swept_and_nothing_else(write: Write, tmp_path: Path) -> None:
    write("visits.csv", VISITS)
    ended = subprocess.Popen([sys.executable, "-c", ""])
    ended.wait()
    gone = [f".v.db.{ended.pid}.part", f".v.db.{ended.pid}.part-wal", f".v.db.{os.getpid()}.part"]
    kept = [
        f".v.db.{os.getppid()}.part",  # of a program that still runs
        ".v.db.mine.part",
        f".w.db.{ended.pid}.part",
        f".v.db.{ended.pid}.copy",
    ]
    for name in [*gone, *kept]:
        write(name, "")
    library.cut([tmp_path / "visits.csv"], tmp_path / "v.db")
    there = {f.name for f in tmp_path.iterdir()}
    assert there.isdisjoint(gone) and there >= set(kept)


CHOOSING = """kerfmark = 1
[sources.visits]
file = "visits.csv"
[tables.visit]
each_row = true
known_by = ["no"]
columns = ["no"]
links = ["keeper"]
optional = ["keeper_id"]
[tables.keeper]
known_by = ["keeper"]
optional = ["phone"]
[tables.keeper.columns]
keeper = "keeper"
phone = {header = "phone", conflicts = "RULE"}
"""


@pytest.mark.parametrize(
    ("rule", "first", "then"),
    [("first", "1", "1"), ("last", "2", "9"), ("most frequent", "2", "2")],
)
def test_one_of_several_values_is_chosen_in_every_load_and_proven(
    write: Write, tmp_path: Path, rule: str, first: str, then: str
) -> None:
    layout = write("l.toml", CHOOSING.replace("RULE", rule))
    write("visits.csv", "no,keeper,phone\n1,Ada,1\n2,,\n3,Ada,2\n4,Ada,2\n5,Bo,7\n6,,\n")
    more = write("more.csv", "no,keeper,phone\n11,Ada,9\n12,,\n13,Cy,\n14,Cy,5\n")
    database = tmp_path / "v.db"

    def phones() -> list[str]:
        assert library.prove(database).holds
        with sqlite3.connect(database) as db:
            return [p for (p,) in db.execute("SELECT phone FROM keeper ORDER BY keeper_id")]

    library.cut([layout], database)
    assert phones() == [first, "7"]
    library.add([more], database)
    assert phones() == [then, "7", "5"]
    library.undo(database)
    assert phones() == [first, "7"]


KNOWN = [("", ""), ("", "oak"), ("elm", ""), ("elm", "elm"), ("elm", "oak")]


@pytest.mark.parametrize(
    ("policy", "after"),
    [
        ("keep", ["", "", "elm", "elm", "elm"]),
        ("fill", ["", "oak", "elm", "elm", "elm"]),
        ("overwrite", ["", "oak", "", "elm", "oak"]),
    ],
)
def test_what_becomes_of_a_known_record(
    write: Write, kerfmark: Runner, tmp_path: Path, policy: str, after: list[str]
) -> None:
    write(
        "l.toml",
        'kerfmark = 1\n[sources.trees]\nfile = "a.csv"\n[tables.tree]\neach_row = true\nknown_by = '
        '["no"]\ncolumns = ["no", "tree"]\noptional = ["tree"]\n',
    )
    write("a.csv", "no,tree\n" + "".join(f"{i},{a}\n" for i, (a, _) in enumerate(KNOWN)))
    kerfmark("cut", "l.toml", "--into", "t.db")
    write("b.csv", "no,tree\n" + "".join(f"{i},{b}\n" for i, (_, b) in enumerate(KNOWN)))
    kerfmark("add", "b.csv", "--into", "t.db", "--known", policy)
    with sqlite3.connect(tmp_path / "t.db") as db:
        there = [t or "" for (t,) in db.execute("SELECT tree FROM tree ORDER BY tree_id")]
    assert there == after
    kerfmark("prove", "t.db")


def test_each_record_is_traced_to_the_row_that_first_says_it(
    write: Write, kerfmark: Runner, tmp_path: Path
) -> None:
    chance = random.Random(5)
    first: dict[str, tuple[str, int, int]] = {}
    says: dict[str, int] = {}
    for n, name in enumerate(["visits.csv", "may.csv", "june.csv"]):
        hives = [f"H{chance.randrange(6 + 9 * n)}" for _ in range(40)]
        lines = [f"{n}{i:02},{h},kind of {h},{i % 7}" for i, h in enumerate(hives)]
        write(name, "no,hive,kind,kg\n" + "\n".join(lines) + "\n")
        kerfmark(*(["add"] if n else ["cut"]), name, "--into", "v.db")
        for i, hive in enumerate(hives):
            first.setdefault(hive, (name, i + 2, n))
        says = says | {h: hives.count(h) for h in hives if first[h][0] == name}
    with sqlite3.connect(tmp_path / "v.db") as db:
        records = db.execute("SELECT hive_id, hive FROM hive ORDER BY hive_id").fetchall()
    assert {h for _, h in records} == set(first)
    for key, hive in records:
        traced = library.trace(tmp_path / "v.db", "hive", str(key))
        assert traced.origin is not None
        where = (Path(str(traced.origin.file)).name, traced.origin.row, traced.load - 1)
        assert (where, traced.rows) == (first[hive], says[hive])
    for key in (1, 40, 41, 80, 81, 120):
        traced = library.trace(tmp_path / "v.db", "visit", str(key))
        assert traced.origin is not None and traced.origin.row == (key - 1) % 40 + 2


def test_what_a_link_and_a_link_beside_it_say_otherwise_is_known(
    write: Write, kerfmark: Runner
) -> None:
    write(
        "l.toml",
        'kerfmark = 1\n[sources.hives]\nfile = "hives.csv"\n'
        '[tables.hive]\neach_row = true\nknown_by = ["hive"]\noptional = ["swarm_of_id"]\n'
        'columns = ["hive"]\n[tables.hive.links]\n'
        'swarm_of_id = {to = "hive", by = {hive = "swarm of"}}\napiary_id = {to = "apiary"}\n'
        '[tables.apiary]\nknown_by = ["apiary"]\ncolumns = ["apiary", "lane"]\n',
    )
    write("hives.csv", "hive,swarm of,apiary,lane\nH1,,Weir,1\nH2,H1,Weir,1\nH3,H1,Fen,2\n")
    write("more.csv", "hive,swarm of,apiary,lane\nH4,H2,Weir,9\nH5,H4,Fen,2\nH2,H1,Weir,9\n")
    kerfmark("cut", "l.toml", "--into", "v.db")
    kerfmark("prove", "v.db")
    added = kerfmark("add", "more.csv", "--into", "v.db", "--known", "keep", "--json").json
    told = [(c["origin"]["row"], c["origin"]["column"]) for c in added["different"]]
    assert sorted(told) == [(2, "lane"), (4, "lane")]
    assert kerfmark("prove", "v.db", "--json").json["holds"]


@pytest.mark.parametrize(
    ("texts", "kind"),
    [
        (["9" * 18, "1"], "integer"),
        (["9" * 19, "1"], "text"),
        (["-" + "9" * 18, "1"], "integer"),
        (["9" * 16 + ".25", "1.5"], "decimal"),
        (["9" * 17 + ".25", "1.5"], "text"),
    ],
)
def test_numbers_have_at_most_eighteen_digits(texts: list[str], kind: str) -> None:
    assert recognise(pa.array(texts)).type.kind == kind


def test_the_rows_of_a_view_are_those_of_the_file(
    write: Write, kerfmark: Runner, tmp_path: Path
) -> None:
    path = write("visits.csv", VISITS)
    kerfmark("cut", path, "--into", "v.db")
    with path.open(newline="") as file:
        rows = [tuple(r) for r in list(csv.reader(file))[1:]]
    with sqlite3.connect(tmp_path / "v.db") as db:
        there = db.execute("SELECT * FROM visits_flat").fetchall()
    assert [tuple(map(str, r)) for r in there] == rows


@pytest.mark.parametrize(
    ("harm", "there", "differences"),
    [
        (["DELETE FROM visit WHERE visit_id IN (2, 5)"], 6, 2),
        (["UPDATE visit SET kg = 99 WHERE visit_id IN (2, 5, 6)"], 8, 3),
        (["UPDATE visit SET kg = 99, hive = 'H9' WHERE visit_id = 2"], 8, 2),
        (["INSERT INTO visit VALUES (9, 91, 'H1', 1.5), (10, 92, 'H2', 2.5)"], 10, 2),
        (
            [
                "DELETE FROM visit WHERE visit_id IN (2, 5)",
                "INSERT INTO visit VALUES (9, 91, 'H1', 1.5)",
            ],
            7,
            3,
        ),
    ],
)
def test_what_the_proof_counts(
    write: Write, tmp_path: Path, harm: list[str], there: int, differences: int
) -> None:
    write("visits.csv", VISITS)
    library.cut([tmp_path / "visits.csv"], tmp_path / "v.db")
    with sqlite3.connect(tmp_path / "v.db") as db:
        for statement in harm:
            db.execute(statement)
    [proof] = library.prove(tmp_path / "v.db").proofs
    assert (proof.rows, proof.rows_in_database, proof.cells) == (8, there, 24)
    assert (proof.total, len(proof.differences), proof.holds) == (differences, differences, False)


@pytest.mark.parametrize(
    ("texts", "types"),
    [
        (["01.02.24", "13.04.24"], ["date DD.MM.YY"]),
        (["01/02/24", "03/04/24"], ["date DD/MM/YY", "date MM/DD/YY"]),
        (["01/02/2024", "03/04/2024"], ["date DD/MM/YYYY", "date MM/DD/YYYY"]),
    ],
)
def test_the_types_that_dates_may_have_are_told(texts: list[str], types: list[str]) -> None:
    found = recognise(pa.array(texts))
    assert found.type.kind == "text"
    assert [*found.choices] == types


@pytest.mark.parametrize("policy", ["keep", "overwrite"])
def test_each_repeated_cell_that_differs_is_told(
    write: Write, kerfmark: Runner, tmp_path: Path, policy: str
) -> None:
    chance = random.Random(3)
    kinds = ["varroa", "tropilaelaps", "acarapis", "none", "mold"]

    def mites(most: int) -> list[str]:
        return [chance.choice(kinds) if i < most else "" for i in range(3)]

    def lines(rows: dict[int, list[str]]) -> str:
        head = "no,day,mite 1,mite 2,mite 3\n"
        return head + "".join(f"{n},{n * 7 % 31},{','.join(m)}\n" for n, m in rows.items())

    first = {n: mites(chance.randrange(4)) for n in range(60)}
    # what is kept may be more or fewer than is said
    later = {
        n: mites(chance.randrange(4) if policy == "keep" else 3 - first[n].count(""))
        for n in range(12)
    }
    write("visits.csv", lines(first))
    write("more.csv", lines(later | {99: ["none", "", ""]}))
    kerfmark("cut", "visits.csv", "--into", "v.db")
    differing = {
        (n + 2, f"mite {i}"): (after, before)
        for n, said in later.items()
        for i, (before, after) in enumerate(zip(first[n], said, strict=True), 1)
        if before != after
    }
    if policy != "keep":
        refused = kerfmark("add", "more.csv", "--into", "v.db", "--known", policy, code=1).err
        told = re.findall(
            r'rows? ([\d, ]+), column "(.*)": differs .* this mite has "(.*)"', refused
        )
        cells = [
            ((int(row), column), before)
            for rows, column, before in told
            for row in rows.split(", ")
        ]
        assert len(cells) == len(differing) or len(told) == 10
        assert all(differing[cell][1] == before for cell, before in cells)
        assert len({c for c, _ in cells}) == len(cells)
        assert "next: correct the cells\n      --known keep leaves what is there\n" in refused
        kerfmark("add", "more.csv", "--into", "v.db", "--known", "keep")
    else:
        kerfmark("add", "more.csv", "--into", "v.db", "--known", policy)
    [proof] = library.prove(tmp_path / "v.db").proofs
    assert proof.holds and proof.rows == 73
    explained = {
        (c.origin.row, c.origin.column): (c.in_file, c.in_database) for c in proof.otherwise
    }
    assert explained == {
        k: (f'"{a}"' if a else "blank", f'"{b}"' if b else "blank")
        for k, (a, b) in differing.items()
    }
    with sqlite3.connect(tmp_path / "v.db") as db:
        db.execute("UPDATE mite SET mite = 'moth' WHERE mite_id = 1")
    assert not library.prove(tmp_path / "v.db").holds


FURTHER = """kerfmark = 1
[sources.hives]
file = "hives.csv"
[sources.visits]
file = "visits.csv"
[tables.hive]
source = "hives"
each_row = true
known_by = ["tag"]
columns = ["tag"]
links = ["apiary"]
HIVE_KEY
[tables.apiary]
source = "hives"
known_by = ["apiary"]
columns = ["apiary", "county", "grid"]
APIARY_KEY
[tables.visit]
source = "visits"
each_row = true
known_by = ["no"]
columns = ["no"]
[tables.visit.links]
hive_id = {to = "hive", by = {tag = "hive"}, repeats = {"apiary_id.county" = "in"}}
"""


@pytest.mark.parametrize("natural", [False, True])
def test_what_a_later_row_says_again_of_a_table_further_away(
    write: Write, kerfmark: Runner, db: Target, natural: bool
) -> None:
    keys = ('key = ["tag"]', 'key = ["apiary"]') if natural else ("", "")
    layout = FURTHER.replace("HIVE_KEY", keys[0]).replace("APIARY_KEY", keys[1])
    write("l.toml", layout)
    write("hives.csv", "tag,apiary,county,grid\nH1,Weir,Moor,1\nH2,Fen,Dale,2\n")
    write("visits.csv", "no,hive,in\n1,H1,Moor\n2,H2,Dale\n")
    kerfmark("cut", "l.toml", "--into", db)
    write("more.csv", "no,hive,in\n3,H2,Dale\n4,H1,Moor\n")
    kerfmark("add", "more.csv", "--into", db)
    write("wrong.csv", "no,hive,in\n5,H1,Moor\n6,H2,Moor\n")
    told = kerfmark("add", "wrong.csv", "--into", db, code=1).err
    assert 'wrong.csv, row 3, column "in": differs from the database' in told
    assert told.count("differs") == 1
    assert db.ask("SELECT count(*) FROM visit") == [4]
    kerfmark("prove", db)
    write("counties.csv", "tag,apiary,county,grid\nH1,Weir,Heath,1\n")
    kerfmark("add", "counties.csv", "--into", db, "--known", "overwrite")
    write("grids.csv", "tag,apiary,county,grid\nH2,Fen,Dale,7\n")
    kerfmark("add", "grids.csv", "--into", db, "--known", "overwrite")
    write("june.csv", "no,hive,in\n5,H1,Heath\n")
    kerfmark("add", "june.csv", "--into", db)
    told = kerfmark("undo", db, 3, code=1).err
    assert "later loads were compared with the apiary.county of load 3" in told
    kerfmark("undo", db, 4)  # nobody was compared with a grid
    assert db.ask("SELECT grid FROM apiary ORDER BY grid") == ["1", "2"]
    kerfmark("prove", db)
