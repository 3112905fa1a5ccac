"""cut --beside: files of another kind become tables of their own in a database that is there, linked
to its records, on every engine; whole or not at all, and a load like any other."""

from __future__ import annotations

import csv
import io
import random
import re
from collections.abc import Callable
from pathlib import Path
from typing import Any

import openpyxl
import pytest

from conftest import Runner
from engines import Target, run_and_kill
from kerfmark import Steering, UsageError, cut, prove

Write = Callable[..., Path]
NAMES = ["Ada", "Bo", "Cleo", "Dan", "Eva", "Fay", "Gus", "Hal", "Ida", "Jon", "Kai", "Lea"]
KEEPERS = [[f"K{i:02}", f"{NAMES[i % 12]} {['Weir', 'Mill', 'Ford'][i // 12]}"] for i in range(30)]
HIVES = [[f"H{i:03}", ("wood", "straw", "cork")[i % 3], KEEPERS[i * 7 % 30][0]] for i in range(60)]


def text(head: list[str], rows: list[list[Any]]) -> str:
    out = io.StringIO()
    csv.writer(out, lineterminator="\n").writerows([head, *rows])
    return out.getvalue()


def harvest(first: int, rows: int, seed: int = 1) -> list[list[Any]]:
    """Harvests with what a hive says (its kind), who took them, and a honey that decides a
    flower."""
    rng = random.Random(seed)
    out = []
    for i in range(first, first + rows):
        hive, honey = rng.choice(HIVES), rng.randrange(4)
        keeper = rng.choice(KEEPERS)
        out.append([
            i, f"2040-0{rng.randint(6, 9)}-{rng.randint(10, 28)}", hive[0], hive[1], keeper[1],
            ("Linden", "Heather", "Acacia", "Clover")[honey], ("early", "late", "early", "mid")[honey],
            f"{rng.randint(10, 300) / 10:.1f}",
        ])  # fmt: skip
    return out


HEAD = ["Harvest no", "Taken on", "Hive code", "Hive kind", "Taken by", "Honey", "Flowers", "Kg"]
JOINED = (
    "SELECT h.harvest_no, h.taken_on, hive.code, hive.kind, k.name, o.honey, o.flowers, h.kg "
    "FROM harvest h JOIN hive USING (hive_id) JOIN keeper k ON k.keeper_id = h.taken_by_id "
    "JOIN honey o USING (honey_id)"
)
REGISTER = """
kerfmark = 1
[sources.keepers]
file = "keepers.csv"
[sources.hives]
file = "hives.csv"

[tables.keeper]
source = "keepers"
each_row = true
known_by = ["code"]
unique = [["name"]]
columns = {code = "code", name = "name"}

[tables.hive]
source = "hives"
each_row = true
known_by = ["code"]
columns = {code = "code", kind = "kind"}
links = {keeper_id = {to = "keeper", by = {code = "keeper"}, missing = "refuse"}}
"""


@pytest.fixture
def register(db: Target, write: Write, kerfmark: Runner) -> Target:
    """A database of keepers and hives, whose tables somebody has named."""
    write("keepers.csv", text(["code", "name"], KEEPERS))
    write("hives.csv", text(["code", "kind", "keeper"], HIVES))
    write("register.toml", REGISTER)
    kerfmark("cut", "register.toml", "--into", str(db))
    return db


def there(db: Target, kerfmark: Runner) -> tuple[Any, ...]:
    """The tables with their rows, and the loads, as a plain client and the program see them."""
    shown = kerfmark("show", str(db), "--json").json
    names = sorted(t["name"] for t in shown["tables"])
    loads = kerfmark("loads", str(db), "--json").json["loads"]
    counts = [db.ask(f"SELECT count(*) FROM {n}")[0] for n in names]
    return names, counts, sorted(shown["views"]), [one["undone_at"] == "" for one in loads]


def test_a_new_kind_of_file_is_linked_to_what_is_there(
    register: Target, write: Write, kerfmark: Runner
) -> None:
    rows = harvest(1, 150)
    write("harvest.csv", text(HEAD, rows))
    before = there(register, kerfmark)
    rehearsed = kerfmark("cut", "harvest.csv", "--into", str(register), "--beside", "--rehearse")
    assert "nothing was written" in rehearsed.out and there(register, kerfmark) == before

    told = kerfmark("cut", "harvest.csv", "--into", str(register), "--beside")
    assert "79 values" not in told.out and "harvest to hive" in told.out
    assert "harvest to keeper: 30 values of taken_by, all among keeper.name" in told.out

    def joined() -> list[Any]:
        return sorted(
            [int(a), str(b), *rest, float(kg)] for a, b, *rest, kg in register.ask(JOINED)
        )

    assert joined() == sorted([*r[:-1], float(r[-1])] for r in rows)
    assert register.ask("SELECT count(*) FROM hive") == [60]  # an entity that exists is not made
    assert register.ask("SELECT count(*) FROM honey") == [4]
    assert kerfmark("prove", str(register)).code == 0

    more = harvest(1000, 40, seed=2)
    write("harvest-2.csv", text(HEAD, more))
    kerfmark("add", "harvest-2.csv", "--into", str(register))
    assert joined() == sorted([*r[:-1], float(r[-1])] for r in [*rows, *more])
    assert kerfmark("prove", str(register)).code == 0
    traced = kerfmark("trace", str(register), "harvest", "1").out
    assert "harvest.csv" in traced and "row 2" in traced
    kerfmark("undo", str(register))
    kerfmark("undo", str(register))
    names, counts, _, standing = there(register, kerfmark)
    assert dict(zip(names, counts, strict=True))["harvest"] == 0 and standing == [
        True,
        False,
        False,
    ]
    assert kerfmark("prove", str(register)).code == 0
    kerfmark("add", "harvest.csv", "--into", str(register))  # its kind is known from now on
    assert joined() == sorted([*r[:-1], float(r[-1])] for r in rows)
    assert kerfmark("prove", str(register)).code == 0


def test_a_wrong_value_is_told_and_nothing_is_left(
    register: Target, write: Write, kerfmark: Runner
) -> None:
    rows = harvest(1, 100)
    rows[4][2], rows[4][3] = "H999", "wood"
    write("harvest.csv", text(HEAD, rows))
    before = there(register, kerfmark)
    command = [
        "cut",
        "harvest.csv",
        "--into",
        str(register),
        "--beside",
        "--link",
        "Hive code=hive",
    ]
    refused = kerfmark(*command, code=1)
    assert 'row 6, column "Hive code"' in refused.err and "does not exist" in refused.err
    assert there(register, kerfmark) == before
    kerfmark(*command, "--set-aside", "rest.csv", code=3)
    assert register.ask("SELECT count(*) FROM harvest") == [99]
    assert kerfmark("prove", str(register)).code == 0


def test_an_id_of_the_file_and_a_tree_and_a_list_beside(
    register: Target, write: Write, kerfmark: Runner
) -> None:
    """Keys of their own, links within a new table, tables of parts: what a cut makes, beside."""
    rows = [
        [700 + i, f"Swarm {i}", "" if i % 3 == 0 else 700 + i - i % 3, f"H{i:03}", said]
        for i in range(40)
        for said in ["; ".join(NAMES[i % 12 : i % 12 + 1 + i % 3])]
    ]
    write("swarms.csv", text(["swarm_id", "label", "from swarm_id", "hive code", "seen by"], rows))
    kerfmark("cut", "swarms.csv", "--into", str(register), "--beside", "--list", "seen by=;")
    found = register.ask(
        "SELECT s.swarm_id, s.label, p.label, h.code FROM swarm s JOIN hive h USING (hive_id) "
        "LEFT JOIN swarm p ON p.swarm_id = s.from_swarm_id"
    )
    label = {r[0]: r[1] for r in rows}
    assert found == [(r[0], r[1], label.get(r[2]), r[3]) for r in rows]
    parts = sum(len(r[4].split("; ")) for r in rows)
    assert register.ask("SELECT count(*) FROM swarm_seen_by") == [parts]
    assert kerfmark("prove", str(register)).code == 0
    kerfmark("undo", str(register))
    assert register.ask("SELECT count(*) FROM swarm") == [0]


def test_a_file_with_nothing_in_common_and_a_kind_that_is_known(
    register: Target, write: Write, kerfmark: Runner
) -> None:
    write("prices.csv", text(["Jar", "Cents"], [["small", 450], ["large", 790], ["comb", 990]]))
    kerfmark("cut", "prices.csv", "--into", str(register), "--beside")
    assert register.ask("SELECT jar, cents FROM price") == [
        *(("small", 450), ("large", 790), ("comb", 990))
    ]
    write("more.csv", text(["code", "name"], [["K90", "Zoe"]]))
    told = kerfmark("cut", "more.csv", "--into", str(register), "--beside", code=2).err
    assert 'of the kind "keepers"' in told and "kerfmark add" in told
    told = kerfmark("cut", "prices.csv", "--into", str(register), "--beside", code=2).err
    assert 'of the kind "prices"' in told
    for said in (
        ["--as-script", "x.sql", "--for", "postgresql"],
        ["--discard"],
        ["--known", "keep"],
    ):
        kerfmark("cut", "prices.csv", "--into", str(register), "--beside", *said, code=2)
    kerfmark("cut", "register.toml", "--into", str(register), "--beside", code=2)


@pytest.mark.parametrize("when", range(5))
def test_a_killed_program_leaves_all_as_before_or_as_after(
    register: Target, write: Write, kerfmark: Runner, tmp_path: Path, when: int
) -> None:
    write("harvest.csv", text(HEAD, harvest(1, 4000)))
    before = there(register, kerfmark)
    command = ["cut", "harvest.csv", "--into", str(register), "--beside"]
    run_and_kill(register, command, tmp_path, 0.6 + 0.15 * when, 0.03 * when)
    kerfmark("loads", str(register))  # whatever comes next finds all in order
    after = there(register, kerfmark)
    if after != before:
        assert register.ask("SELECT count(*) FROM harvest") == [4000]
        assert kerfmark("prove", str(register)).code == 0
        return
    kerfmark("cut", "harvest.csv", "--into", str(register), "--beside")
    assert register.ask("SELECT count(*) FROM harvest") == [4000]
    assert kerfmark("prove", str(register)).code == 0


# ------------------------------------------------------------ what one engine shows


def files(folder: Path, **tables: tuple[list[str], list[list[Any]]]) -> list[Path]:
    out = []
    for name, (head, rows) in tables.items():
        (folder / f"{name}.csv").write_text(text(head, rows), encoding="utf-8")
        out.append(folder / f"{name}.csv")
    return out


def test_a_number_within_what_is_there_is_found_by_both(tmp_path: Path) -> None:
    rng = random.Random(3)
    beds = [[f"K{k:02}", n, rng.choice(["long", "stack"])] for k in range(30) for n in (1, 2, 3)]
    visits = [
        [i, keeper, n, rng.randint(1, 99)]
        for i in range(1, 400)
        for keeper, n, _ in [rng.choice(beds)]
    ]
    some = files(
        tmp_path,
        keepers=(["keeper no", "name"], KEEPERS),
        hives=(["keeper no", "hive no", "kind"], beds),
    )
    cut(some, tmp_path / "a.db")
    [path] = files(tmp_path, visits=(["visit no", "keeper no", "hive no", "kg"], visits))
    made = cut([path], tmp_path / "a.db", beside=True)
    [visit] = [t for t in made.tables if t.name == "visit"]
    assert set(visit.links.values()) == {"hive"} and visit.columns == ("visit_no", "kg")
    assert prove(tmp_path / "a.db").holds


def test_a_layout_that_names_no_source_gets_longer(tmp_path: Path) -> None:
    files(tmp_path, hives=(["code", "kind"], [h[:2] for h in HIVES]))
    (tmp_path / "a.layout.toml").write_text(
        'kerfmark = 1  # by hand\n[sources.hives]\nfile = "hives.csv"\n[tables.hive]\n'
        'each_row = true\nknown_by = ["code"]\ncolumns = ["code", "kind"]\n',
        encoding="utf-8",
    )
    cut([tmp_path / "a.layout.toml"], tmp_path / "a.db")
    rows = [[i, HIVES[i % 60][0], i % 7] for i in range(90)]
    [path] = files(tmp_path, weights=(["no", "code", "kg"], rows))
    made = cut([path], tmp_path / "a.db", beside=True, steering=Steering(link=(("code", "hive"),)))
    saved = (tmp_path / "a.layout.toml").read_text(encoding="utf-8")
    assert made.layout.endswith("a.layout.toml") and saved.startswith("kerfmark = 1  # by hand")
    assert prove(tmp_path / "a.db").holds
    built = cut([tmp_path / "a.layout.toml"], tmp_path / "b.db")  # it says the whole again
    assert {t.name for t in built.tables} == {"hive", "weight"}


def test_a_layout_that_somebody_edits_is_left_alone(tmp_path: Path) -> None:
    cut(files(tmp_path, hives=(["code", "kind"], [h[:2] for h in HIVES])), tmp_path / "a.db")
    path = tmp_path / "a.layout.toml"
    edited = path.read_text(encoding="utf-8") + "# mine\n"
    path.write_text(edited, encoding="utf-8")
    [other] = files(tmp_path, prices=(["Jar", "Cents"], [["small", 450], ["large", 790]]))
    assert cut([other], tmp_path / "a.db", beside=True).layout == ""
    assert path.read_text(encoding="utf-8") == edited


def test_months_of_one_shape_and_two_kinds_at_once(tmp_path: Path) -> None:
    cut(files(tmp_path, hives=(["code", "kind"], [h[:2] for h in HIVES])), tmp_path / "a.db")
    head = ["weighed", "code", "kg"]
    weights = {
        f"weights-2040-0{m}": (head, [[f"2040-0{m}-{d:02}", HIVES[(d * m) % 60][0], d] for d in range(1, 29)])
        for m in (1, 2, 3)
    }  # fmt: skip
    jars = (["Jar", "Cents"], [["small", 450], ["large", 790]])
    cut(files(tmp_path, **weights, prices=jars), tmp_path / "a.db", beside=True)
    assert prove(tmp_path / "a.db").holds
    import sqlite3

    with sqlite3.connect(tmp_path / "a.db") as db:
        assert db.execute(
            "SELECT count(*), count(DISTINCT code) FROM weight JOIN hive USING (hive_id)"
        ).fetchone() == (84, len({r[1] for _, rows in weights.values() for r in rows}))


def test_nothing_is_put_beside_what_is_not_there(tmp_path: Path) -> None:
    [path] = files(tmp_path, prices=(["Jar", "Cents"], [["small", 450]]))
    with pytest.raises(Exception, match="there is no"):
        cut([path], tmp_path / "none.db", beside=True)
    with pytest.raises(UsageError):
        cut([path], "", beside=True)


def test_beside_tables_that_somebody_else_made(db: Target, write: Write, kerfmark: Runner) -> None:
    if "schema=" in db.url:
        db.do(f"CREATE SCHEMA {db.url.split('schema=')[1]}")
    db.do(
        "CREATE TABLE keeper (keeper_id integer PRIMARY KEY, code varchar(9) NOT NULL UNIQUE, "
        "full_name varchar(40) NOT NULL UNIQUE)"
        if db.is_file
        else "CREATE TABLE keeper (keeper_id serial PRIMARY KEY, code varchar(9) NOT NULL UNIQUE, "
        "full_name varchar(40) NOT NULL UNIQUE)"
    )
    write("keepers.csv", text(["code", "full name"], KEEPERS))
    kerfmark("mark", "keepers.csv", "--onto", str(db), "-o", "onto.toml")
    kerfmark("cut", "onto.toml", "--into", str(db))
    rows = [[i, f"2040-03-{i % 28 + 1:02}", KEEPERS[i * 7 % 30][1], i % 9] for i in range(1, 90)]
    write("duties.csv", text(["Duty no", "Held on", "Held by", "Hours"], rows))
    kerfmark("cut", "duties.csv", "--into", str(db), "--beside")
    found = db.ask(
        "SELECT d.duty_no, k.full_name, d.hours FROM duty d JOIN keeper k ON k.keeper_id = "
        "d.held_by_id"
    )
    assert found == [(r[0], r[2], r[3]) for r in rows]
    assert kerfmark("prove", str(db)).code == 0
    kerfmark("undo", str(db))
    assert db.ask("SELECT count(*) FROM duty") == [0]
    assert db.ask("SELECT count(*) FROM keeper") == [30]


def test_a_sheet_of_a_known_kind_is_passed_over(tmp_path: Path) -> None:
    book = openpyxl.Workbook()
    book.active.title = "Hives"
    for row in [["code", "kind"], *(h[:2] for h in HIVES)]:
        book.active.append(row)
    book.save(tmp_path / "register.xlsx")
    cut([tmp_path / "register.xlsx"], tmp_path / "a.db")
    jars = book.create_sheet("Jars")
    for row in [["Jar", "Cents"], ["small", 450], ["large", 790], ["comb", 990]]:
        jars.append(row)
    book.save(tmp_path / "register-2.xlsx")
    made = cut([tmp_path / "register-2.xlsx"], tmp_path / "a.db", beside=True)
    assert [t.name for t in made.tables] == ["jar"]
    assert any('skipped: register-2.xlsx, sheet "Hives"' in told for _, told in made.notes)
    assert prove(tmp_path / "a.db").holds


def test_columns_that_a_table_lacks_are_offered_and_put_there(
    db: Target, write: Write, kerfmark: Runner
) -> None:
    rng = random.Random(5)
    hives = [f"H-{n:03}" for n in range(20)]
    rows = [[n, h, "wood" if int(h[2:]) % 2 else "straw"] for n, h in enumerate(rng.choices(hives, k=200) + hives)]  # fmt: skip
    write("visits.csv", "No,Hive,Kind\n" + "".join(f"{n},{h},{k}\n" for n, h, k in rows))
    into = ["--into", str(db)]
    kerfmark("cut", "visits.csv", *into)
    said = {h: (("red", "blue")[i % 2], i * 3) for i, h in enumerate(hives[:15])}
    write("colours.csv", "Hive,Colour,Weight\n" + "".join(f"{h},{c},{w}\n" for h, (c, w) in said.items()))  # fmt: skip
    told = kerfmark("cut", "colours.csv", *into, "--beside", "--rehearse").out
    offered = re.findall(r'--put "(\w+=\w+)"', told)
    assert offered == ["Colour=hive", "Weight=hive"]
    put = [part for one in offered for part in ("--put", one)]
    kerfmark("cut", "colours.csv", *into, "--beside", *put)
    asked = "SELECT hive, colour, weight FROM hive ORDER BY hive"
    assert [tuple(r) for r in db.ask(asked)] == [(h, *said.get(h, (None, None))) for h in hives]
    assert kerfmark("prove", str(db)).code == 0
    # files as before, corrections of what was put there, unknown hives
    write("more.csv", "No,Hive,Kind\n900,H-001,wood\n")
    kerfmark("add", "more.csv", *into)
    write("new.csv", "Hive,Colour,Weight\nH-000,green,0\n")
    kerfmark("add", "new.csv", *into, code=1)
    kerfmark("add", "new.csv", *into, "--known", "overwrite")
    assert db.ask(asked)[0] == ("H-000", "green", 0)
    write("wrong.csv", "Hive,Colour,Weight\nH-O01,green,4\n")
    assert 'the nearest is "H-001"' in kerfmark("add", "wrong.csv", *into, code=1).err
    assert kerfmark("prove", str(db)).code == 0
    kerfmark("undo", str(db))
    kerfmark("undo", str(db), "2")
    assert db.ask("SELECT COUNT(*) FROM hive WHERE colour IS NOT NULL") == [0]
    assert kerfmark("prove", str(db)).code == 0
    told = kerfmark("cut", "colours.csv", *into, "--put", "Colour=hive", code=2).err
    assert "--beside puts the files" in told


def test_a_column_cannot_be_put_where_its_rows_lead_to_nothing(
    db: Target, write: Write, kerfmark: Runner
) -> None:
    write("visits.csv", "No,Hive,Kind\n" + "".join(f"{n},H{n % 9},k{n % 3}\n" for n in range(90)))
    kerfmark("cut", "visits.csv", "--into", str(db))
    write("c.csv", "Hive,Colour\n" + "".join(f"H{n},c{n}\n" for n in range(9)))
    options = ["--into", str(db), "--beside", "--put"]
    told = kerfmark("cut", "c.csv", *options, "Colour=visit", code=2).err
    assert '"Colour" cannot be a column of visit' in told and "lead to records of hive" in told
    assert (
        "no new table has such a column"
        in kerfmark("cut", "c.csv", *options, "Color=hive", code=2).err
    )
