"""The main job through the real program: a flat file becomes linked tables, all or nothing."""

from __future__ import annotations

import csv
import hashlib
import random
import signal
import sqlite3
import subprocess
import sys
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import kerfmark as library
from conftest import DEMO, Runner, flat_visits, hears_interrupts
from kerfmark.normalize import table_rows
from kerfmark.store.sqlite import new as sqlite_new
from kerfmark.store.sqlite import parallel_load as pieces

Write = Callable[..., Path]


def dump(path: Path) -> list[str]:
    """A database's structure and rows, without the time of the load."""
    with sqlite3.connect(path) as db:
        return [
            line
            for line in db.iterdump()
            if "kerfmark_loads" not in line
            and "kerfmark_files" not in line
            and "sqlite_stat" not in line
            and "kerfmark_layouts" not in line
        ]


def ask(path: Path, sql: str) -> list[tuple[object, ...]]:
    with sqlite3.connect(path) as db:
        return db.execute(sql).fetchall()


def test_a_flat_file_becomes_a_normal_database(
    kerfmark: Runner, visits: Path, tmp_path: Path
) -> None:
    told = kerfmark("cut", "visits.csv", "--into", "bees.db").out
    db = tmp_path / "bees.db"
    assert ask(
        db,
        "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'kerfmark_%' AND "
        "name NOT LIKE "
        "'sqlite_%' ORDER BY 1",
    ) == [("apiary",), ("hive",), ("keeper",), ("visit",)]
    assert ask(
        db, "SELECT count(*) FROM visit JOIN hive USING (hive_id) JOIN apiary USING (apiary_id)"
    ) == [(240,)]
    schema = "\n".join(r[0] for r in ask(db, "SELECT sql FROM sqlite_master WHERE sql IS NOT NULL"))  # type: ignore[misc]
    assert "FOREIGN KEY(hive_id) REFERENCES hive (hive_id)" in schema
    assert "day DATE NOT NULL" in schema and "kg NUMERIC(4, 1) NOT NULL" in schema
    assert (
        "CREATE UNIQUE INDEX hive_known_by ON hive (hive)" in schema
        and "CREATE INDEX visit_keeper_id" in schema
    )
    assert ask(db, "PRAGMA foreign_key_check") == [] and ask(db, "PRAGMA integrity_check") == [
        ("ok",)
    ]
    for said in (
        "visits.csv: 240 rows, 9 columns",
        "hive decides kind, apiary",
        "24 values, 216 repeats in visit, 0 exceptions",
        "4 tables, 3 links",
        "saved bees.layout.toml",
    ):
        assert said in told


def test_the_view_shows_the_flat_shape_again(
    kerfmark: Runner, visits: Path, tmp_path: Path
) -> None:
    kerfmark("cut", "visits.csv", "--into", "bees.db")
    with sqlite3.connect(tmp_path / "bees.db") as db:
        rows = db.execute("SELECT * FROM visits_flat")
        head = [d[0] for d in rows.description]
        flat = list(csv.reader(visits.read_text().splitlines()))
        assert head == flat[0]
        assert [[*map(str, row[:-1]), float(row[-1])] for row in rows] == [
            [*row[:-1], float(row[-1])] for row in flat[1:]
        ]


def test_the_engine_enforces_links_and_goes_on_counting(
    kerfmark: Runner, visits: Path, tmp_path: Path
) -> None:
    kerfmark("cut", "visits.csv", "--into", "bees.db")
    with sqlite3.connect(tmp_path / "bees.db") as db:
        db.execute("PRAGMA foreign_keys = on")
        db.execute("INSERT INTO keeper (keeper, phone) VALUES ('Nobody', '0')")
        assert db.execute("SELECT max(keeper_id) FROM keeper").fetchone() == (10,)
        for wrong in (
            "UPDATE visit SET hive_id = 99 WHERE visit_id = 1",
            "INSERT INTO hive (apiary_id, hive, kind) VALUES (1, 'H01', 'x')",
            "UPDATE keeper SET keeper = NULL",
        ):
            with pytest.raises(sqlite3.IntegrityError):
                db.execute(wrong)


def test_the_layout_repeats_the_cut(kerfmark: Runner, visits: Path, tmp_path: Path) -> None:
    kerfmark("cut", "visits.csv", "--into", "bees.db")
    text = (tmp_path / "bees.layout.toml").read_text()
    told = kerfmark("cut", "bees.layout.toml", "--into", "other.db").out
    assert "why these tables" not in told
    assert dump(tmp_path / "bees.db") == dump(tmp_path / "other.db")
    assert (tmp_path / "bees.layout.toml").read_text() == text and not (
        tmp_path / "other.layout.toml"
    ).exists()


def test_the_same_file_gives_the_same_database(
    kerfmark: Runner, visits: Path, tmp_path: Path
) -> None:
    kerfmark("cut", "visits.csv", "--into", "a.db")
    kerfmark("cut", "visits.csv", "--into", "b.db")
    assert dump(tmp_path / "a.db") == dump(tmp_path / "b.db")


def test_an_edited_layout_is_obeyed(kerfmark: Runner, visits: Path, tmp_path: Path) -> None:
    kerfmark("cut", "visits.csv", "--into", "bees.db")
    path = tmp_path / "bees.layout.toml"
    text = path.read_text().replace('phone = "phone"\n', "")
    text = text.replace('file = "visits.csv"', 'file = "visits.csv"\nleft_out = ["phone"]')
    path.write_text(text.replace("[tables.apiary]", '[tables.apiary]\nkey = "site"'))
    kerfmark("cut", "bees.layout.toml", "--into", "other.db")
    assert ask(tmp_path / "other.db", "SELECT site FROM apiary ORDER BY 1 LIMIT 1") == [(1,)]
    assert "0555" not in "\n".join(dump(tmp_path / "other.db"))


def test_a_header_without_a_home_is_refused(kerfmark: Runner, visits: Path, tmp_path: Path) -> None:
    kerfmark("cut", "visits.csv", "--into", "bees.db")
    path = tmp_path / "bees.layout.toml"
    path.write_text(path.read_text().replace('phone = "phone"\n', ""))
    err = kerfmark("cut", "bees.layout.toml", "--into", "other.db", code=2).err
    assert 'column "phone" of the file has no table' in err and "left_out" in err
    assert not (tmp_path / "other.db").exists()


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (
            lambda t: t.replace("2025-07-07", "2025-07-32", 1),
            'visits.csv, row 8, column "day": "2025-07-32" is not a date',
        ),
        (
            lambda t: t.replace(",straw,", ",cork,", 1),
            'column "kind": differs from most rows with the same hive',
        ),
        (
            lambda t: t.replace("\n5,", "\n4,", 1),
            'row 6, column "visit no": duplicates an earlier row',
        ),
        (
            lambda t: t.replace(",Keeper 3,", ",,", 1),
            'column "phone": is filled though keeper is blank',
        ),
        (lambda t: t.replace(",Keeper 3,0555 757,", ",,,", 1), 'column "keeper": is blank'),
    ],
)
def test_data_that_do_not_fit_the_layout_are_refused_by_row(
    kerfmark: Runner, visits: Path, tmp_path: Path, change: Callable[[str], str], said: str
) -> None:
    kerfmark("cut", "visits.csv", "--into", "bees.db")
    assert change(flat_visits()) != flat_visits()
    visits.write_text(change(flat_visits()))
    err = kerfmark("cut", "bees.layout.toml", "--into", "other.db", code=1).err
    assert said in err and "next:" in err
    assert not (tmp_path / "other.db").exists() and not list(tmp_path.glob("*.part"))


def test_leading_zeros_long_numbers_and_blanks_survive(
    kerfmark: Runner, write: Write, tmp_path: Path
) -> None:
    write(
        "ids.csv",
        "code,long,version,kg,note\n"
        + "".join(
            f"{i:05},{10**19 + i},{i % 3}.{'10' if i % 2 else '1'},{'n/a' if i == 7 else i},{'' if i % 5 else ' x '}\n"
            for i in range(60)
        ),
    )
    kerfmark("cut", "ids.csv", "--into", "ids.db")
    rows = ask(tmp_path / "ids.db", "SELECT code, long, version, kg, note FROM ids_flat")
    assert rows[7] == ("00007", "10000000000000000007", "1.10", None, None) and rows[10][4] == " x "
    assert 'blanks = ["n/a"]' in (tmp_path / "ids.layout.toml").read_text()
    kerfmark("prove", "ids.db")


def test_hostile_headers_and_cells_are_plain_data(
    kerfmark: Runner, write: Write, tmp_path: Path
) -> None:
    head = ['"; DROP TABLE x; --', "select", "[bold]red[/bold]", "=1+1", "naïve\x1b[31m", "order"]
    path = write("hostile.csv", "")
    with path.open("w", newline="") as file:
        rows = [
            [f"'); DROP TABLE hostile;-- {i}", "[/x]", "=cmd()", i, "\x1b]0;x\x07", "%s"]
            for i in range(9)
        ]
        csv.writer(file).writerows([head, *rows])
    told = kerfmark("cut", "hostile.csv", "--into", "x.db").out
    assert "\x1b" not in told
    kerfmark("prove", "x.db")
    assert "\x1b" not in kerfmark("show", "x.db").out


def test_json_gives_the_same_as_data(kerfmark: Runner, visits: Path) -> None:
    result = kerfmark("cut", "visits.csv", "--into", "bees.db", "--json").json
    assert {t["name"]: t["rows"] for t in result["tables"]} == {
        "visit": 240,
        "hive": 24,
        "apiary": 6,
        "keeper": 9,
    }
    assert result["reasons"][0]["exceptions"] == 0 and result["marked"] is True
    assert kerfmark("prove", "bees.db", "--json").json["holds"] is True
    shown = kerfmark("show", "bees.db", "hive", "--rows", "1", "--json").json
    assert shown["tables"][0]["columns"][1]["links_to"] == "apiary"
    error = kerfmark("cut", "nowhere.csv", "--into", "c.db", "--json", code=2).json["error"]
    assert error["code"] == "source.missing" and error["origin"] == {"file": "nowhere.csv"}


def test_the_library_gives_the_same(visits: Path, tmp_path: Path) -> None:
    steps: set[str] = set()
    result = library.cut(
        [visits], tmp_path / "bees.db", progress=lambda step, done, total: steps.add(step)
    )
    assert [t.name for t in result.tables] == ["visit", "hive", "apiary", "keeper"]
    assert {"reading visits", "writing visit", "indexing", "checking"} <= steps
    assert library.prove(tmp_path / "bees.db").holds
    assert library.show(tmp_path / "bees.db", "keeper").tables[0].rows == 9
    with pytest.raises(library.TargetError):
        library.cut([visits], tmp_path / "bees.db")
    with pytest.raises(AttributeError):
        library.nothing  # noqa: B018


def test_nothing_is_overwritten_unasked(kerfmark: Runner, visits: Path, tmp_path: Path) -> None:
    kerfmark("cut", "visits.csv", "--into", "bees.db")
    before = (tmp_path / "bees.db").read_bytes()
    assert "--replace" in kerfmark("cut", "visits.csv", "--into", "bees.db", code=2).err
    assert (tmp_path / "bees.db").read_bytes() == before
    layout = tmp_path / "bees.layout.toml"
    layout.write_text(layout.read_text() + "# mine\n")
    (tmp_path / "bees.db").unlink()
    assert "somebody's edits" in kerfmark("cut", "visits.csv", "--into", "bees.db", code=2).err
    assert layout.read_text().endswith("# mine\n") and not (tmp_path / "bees.db").exists()
    assert (
        "somebody's edits"
        in kerfmark("cut", "visits.csv", "--into", "bees.db", "--replace", code=2).err
    )
    kerfmark("cut", "visits.csv", "--into", "bees.db", "--replace", "--discard")
    assert not layout.read_text().endswith("# mine\n")


def test_a_failed_replacement_leaves_the_old_database(
    kerfmark: Runner, visits: Path, tmp_path: Path
) -> None:
    kerfmark("cut", "visits.csv", "--into", "bees.db")
    before = (tmp_path / "bees.db").read_bytes()
    visits.write_text(flat_visits() + "1,2\n")
    kerfmark("cut", "visits.csv", "--into", "bees.db", "--replace", code=1)
    assert (tmp_path / "bees.db").read_bytes() == before


def test_the_source_is_not_written_to(kerfmark: Runner, visits: Path) -> None:
    before = hashlib.sha256(visits.read_bytes()).digest(), visits.stat().st_mtime_ns
    kerfmark("cut", "visits.csv", "--into", "bees.db")
    kerfmark("prove", "bees.db")
    assert (hashlib.sha256(visits.read_bytes()).digest(), visits.stat().st_mtime_ns) == before


BY_TWO = [
    sys.executable,
    "-c",
    "from kerfmark.normalize import table_rows; from kerfmark.cli import main; from "
    "kerfmark.store.sqlite import new; table_rows.BATCH = 512; new.worth_two = lambda batches: "
    "len(batches) > 8; main.run()",
]
"""The program, writing in batches so small that two threads write one table after a few thousand
rows, not half a million."""


@pytest.mark.parametrize("rows", [8 * 64, 8 * 64 + 1, 11 * 64, 12 * 64 + 5, 1000])
def test_two_threads_write_the_same_table_as_one(
    rows: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    file = tmp_path / "visits.csv"
    file.write_text(flat_visits(rows))
    library.cut([file], tmp_path / "one.db")
    monkeypatch.setattr(table_rows, "BATCH", 64)
    asked: list[int] = []
    monkeypatch.setattr(
        sqlite_new, "worth_two", lambda batches: asked.append(len(batches)) or len(batches) > 1
    )
    told: list[int] = []
    library.cut(
        [file],
        tmp_path / "two.db",
        progress=lambda step, done, _: told.append(done) if step == "writing visit" else None,
    )
    assert max(asked) == -(-rows // 64) and told == sorted(told) and told[-1] == rows
    assert dump(tmp_path / "two.db") == dump(tmp_path / "one.db")
    assert ask(tmp_path / "two.db", "PRAGMA integrity_check") == [("ok",)]
    assert library.prove(tmp_path / "two.db").holds


@pytest.mark.parametrize("where", ["_write", "_move"])
def test_when_one_of_two_threads_fails_nothing_is_left(
    where: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    file = tmp_path / "visits.csv"
    file.write_text(flat_visits(3000))
    monkeypatch.setattr(table_rows, "BATCH", 64)
    monkeypatch.setattr(sqlite_new, "worth_two", lambda batches: len(batches) > 8)
    done, real = [], getattr(pieces, where)

    def fails(*args: Any) -> None:
        if len(done) == 2:
            raise sqlite3.OperationalError("database or disk is full")
        done.append(real(*args))

    monkeypatch.setattr(pieces, where, fails)
    with pytest.raises(library.TargetError, match="full"):
        library.cut([file], tmp_path / "two.db")
    assert [p.name for p in tmp_path.iterdir()] == ["visits.csv"]


def test_a_killed_cut_leaves_all_or_nothing(visits: Path, tmp_path: Path) -> None:
    """SIGKILL at ten moments: the database is as before, or new and whole; and the next cut
    works."""
    rng = random.Random(11)
    big, target = tmp_path / "big.csv", tmp_path / "big.db"
    big.write_text(flat_visits(40_000))
    library.cut([visits], target)
    old = target.read_bytes()
    command = [*BY_TWO, "cut", str(big), "--into", str(target), "--replace", "--quiet"]
    start = time.monotonic()
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
    whole, seen = time.monotonic() - start, Counter[str]()
    for _ in range(10):
        target.write_bytes(old)
        process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        time.sleep(rng.uniform(0, whole * 1.05))
        process.send_signal(signal.SIGKILL)
        process.wait()
        if target.read_bytes() == old:
            seen["as before"] += 1
        else:
            assert ask(target, "PRAGMA integrity_check") == [("ok",)]
            assert ask(target, "SELECT count(*) FROM big_flat") == [(40_000,)]
            seen["as after"] += 1
    assert seen["as before"] > 0
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
    assert library.prove(target).holds
    assert not list(tmp_path.glob(".big.db.*"))  # what the killed ones left is swept away


def test_an_interrupt_is_said_and_leaves_nothing(tmp_path: Path) -> None:
    big = tmp_path / "big.csv"
    big.write_text(flat_visits(400_000))  # so many that it is not done before the signal comes
    process = subprocess.Popen(
        [*BY_TWO, "cut", str(big), "--into", str(tmp_path / "x.db")],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        preexec_fn=hears_interrupts,
    )
    while not list(tmp_path.glob(".x.db.*.part-*")):  # until it is in the middle of writing
        assert process.poll() is None
        time.sleep(0.005)
    process.send_signal(signal.SIGINT)
    _, err = process.communicate(timeout=60)
    assert process.returncode == 130 and "nothing was written" in err
    assert [p.name for p in tmp_path.iterdir()] == ["big.csv"]


def test_an_interrupt_while_the_result_is_told_does_not_deny_it(
    visits: Path, tmp_path: Path
) -> None:
    code = (
        "from kerfmark.cli import main, terminal\n"
        "def table(*_, **__): raise KeyboardInterrupt\nterminal.Terminal.table = table\nmain.run()"
    )
    command = [sys.executable, "-c", code, "cut", str(visits), "--into", str(tmp_path / "x.db")]
    done = subprocess.run(command, capture_output=True, text=True, timeout=60)
    assert (
        done.returncode == 0
        and "it stays done" in done.stderr
        and "nothing was written" not in done.stderr
    )
    assert library.prove(tmp_path / "x.db").holds


CELL = st.one_of(
    st.sampled_from(["", "a", "b", "1", "02", "3,5", "x y"]),
    st.text(st.characters(codec="utf-8", exclude_categories=["Cs", "Cc"]), max_size=6),
)


@settings(
    max_examples=40, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture]
)
@given(st.data())
def test_whatever_is_cut_is_proven(tmp_path: Path, data: st.DataObject) -> None:
    """Random tables, some columns depending on others: the rejoined rows are the rows of the
    file."""
    width = data.draw(st.integers(2, 5))
    rows = data.draw(
        st.lists(st.lists(CELL, min_size=width, max_size=width), min_size=2, max_size=30)
    )
    base = data.draw(st.integers(1, 4))
    rows = [[str(i % base), *row, f"v{i % base}"] for i, row in enumerate(rows)] * data.draw(
        st.integers(1, 4)
    )
    path, target = tmp_path / "t.csv", tmp_path / "t.db"
    with path.open("w", newline="", encoding="utf-8") as file:
        csv.writer(file).writerows([[f"head {chr(97 + i)}" for i in range(width + 2)], *rows])
    result = library.cut(
        [path], target, replace=True, reading=library.Reading(delimiter=",", encoding="utf-8")
    )
    assert result.sources[0].rows == len(rows)
    proof = library.prove(target)
    assert proof.holds, proof


def test_the_demo_files_are_cut_and_proven(kerfmark: Runner) -> None:
    for month in ("2025", "2026-01", "2026-03"):
        kerfmark("cut", DEMO / f"inspections-{month}.csv", "--into", f"{month}.db")
        assert "all in the database" in kerfmark("prove", f"{month}.db").out
