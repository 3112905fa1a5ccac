"""recut: a living database gets the tables of an edited layout. Its loads, their history and the keys
of its records stay; everything is changed, or nothing; on every engine."""

from __future__ import annotations

import csv
import io
import random
import sqlite3
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from conftest import Runner
from engines import Target, run_and_kill
from kerfmark import DataRefused, UsageError, add, cut, prove, recut

Write = Callable[..., Path]
LAYOUT = """
kerfmark = 1
[sources.visits]
file = "visits.csv"
blanks = ["?"]

[tables.visit]
source = "visits"
each_row = true
known_by = ["no"]
optional = ["kg"]
links = ["hive", "keeper"]

[tables.visit.columns]
no = {header = "No", type = "integer"}
day = "Day"
kg = {header = "Kg", type = "integer"}

[tables.hive]
source = "visits"
known_by = ["hive"]
links = ["site"]
columns = {hive = "Hive", kind = "Kind"}

[tables.site]
source = "visits"
known_by = ["site"]
columns = {site = "Site"}

[tables.keeper]
source = "visits"
known_by = ["keeper"]
columns = {keeper = "Keeper", phone = "Phone"}

[tables.plant]
source = "visits"
known_by = ["name"]
columns = {name = {header = "Plants", split = "; "}}

[tables.visit_plant]
source = "visits"
part_of = "visit"
known_by = ["visit_id", "place"]
columns = {place = {position = true}}
links = {visit_id = "visit", plant_id = {to = "plant", by = {name = "Plants"}}}
"""
HEAD = ["No", "Day", "Kg", "Hive", "Kind", "Site", "Keeper", "Phone", "Plants"]
PLANTS = ["lime", "heath", "clover", "rape"]


def visits(first: int, rows: int, seed: int) -> list[list[Any]]:
    rng = random.Random(seed)
    out = []
    for i in range(first, first + rows):
        hive, keeper = rng.randrange(12 + seed), rng.randrange(8)
        out.append([
            i, f"2040-0{rng.randint(1, 9)}-{rng.randint(10, 28)}", rng.choice(["", 3, 14, 25]),
            f"H{hive:02}", ("wood", "straw")[hive % 2], f"Site {hive % 5}", f"K{keeper}",
            f"0555 {keeper * 7919}", "; ".join(rng.sample(PLANTS, rng.randint(0, 3))),
        ])  # fmt: skip
    return out


def text(rows: list[list[Any]]) -> str:
    out = io.StringIO()
    csv.writer(out, lineterminator="\n").writerows([HEAD, *rows])
    return out.getvalue()


def edited(*changes: tuple[str, str]) -> str:
    out = LAYOUT
    for old, new in changes:
        assert out.count(old) == 1, old
        out = out.replace(old, new)
    return out


TYPES = edited(
    ('day = "Day"', 'day = {header = "Day", type = "date YYYY-MM-DD"}'),
    ('kg = {header = "Kg", type = "integer"}', 'kg = {header = "Kg", type = "decimal(6,1)"}'),
    ('phone = "Phone"', 'phone = {header = "Phone", type = "text(40)", comment = "by day"}'),
)
NAMES = edited(
    ("[tables.keeper]", "[tables.member]"),
    ('links = ["hive", "keeper"]', 'links = {hive_id = "hive", seen_by = "member"}'),
    ('day = "Day"', 'seen_on = "Day"'),
    ('phone = "Phone"', 'call = "Phone"'),
)
MOVED = edited(
    ('columns = {hive = "Hive", kind = "Kind"}', 'columns = {hive = "Hive"}\noptional = []'),
    (
        'day = "Day"',
        'day = "Day"\nkind = "Kind"\nyear = {derived = "left([Day], 4)", type = "text"}',
    ),
)
SPLIT = edited(
    ('columns = {hive = "Hive", kind = "Kind"}', 'columns = {hive = "Hive"}'),
    ('links = ["site"]', 'links = ["site", "kind"]'),
    ("[tables.site]", '[tables.kind]\nsource = "visits"\nknown_by = ["kind"]\ncolumns = ["Kind"]\n\n[tables.site]'),
)  # fmt: skip
JOINED = edited(
    ('links = ["site"]\n', ""),
    ('columns = {hive = "Hive", kind = "Kind"}', 'columns = {hive = "Hive", kind = "Kind", site = "Site"}'),
    ('[tables.site]\nsource = "visits"\nknown_by = ["site"]\ncolumns = {site = "Site"}\n', ""),
)  # fmt: skip
LOOSER = edited(
    ('known_by = ["no"]\n', 'unique = [["no"]]\n'),
    ('optional = ["kg"]', 'optional = ["kg", "day"]'),
    ('kg = {header = "Kg", type = "integer"}', 'kg = {header = "Kg", type = "integer", default = "0", least = 0}'),
)  # fmt: skip
EDITS = {
    "types": TYPES, "names": NAMES, "moved": MOVED, "split": SPLIT, "joined": JOINED,
    "looser": LOOSER,
}  # fmt: skip


@pytest.fixture
def living(db: Target, write: Write, kerfmark: Runner) -> Target:
    """A database with a history: a load taken back, gaps in its keys, values overwritten."""
    write("visits.csv", text(visits(1, 60, 1)))
    write("l.toml", LAYOUT)
    kerfmark("cut", "l.toml", "--into", str(db))
    write("more.csv", text(visits(100, 25, 2)))
    kerfmark("add", "more.csv", "--into", str(db))
    write("later.csv", text(visits(200, 30, 4)))
    kerfmark("add", "later.csv", "--into", str(db))
    kerfmark("undo", str(db), "2")
    changed = [[*r[:7], "0777 1", *r[8:]] if r[6] == "K3" else r for r in visits(300, 20, 5)]
    write("calls.csv", text(changed))
    kerfmark("add", "calls.csv", "--into", str(db), "--known", "overwrite")
    return db


def joined(db: Target, edit: str) -> list[Any]:
    """What each visit says, with the keys of what it leads to, whatever things are called."""
    names = edit == "names"
    keeper, day, link = (
        ("member", "seen_on", "seen_by") if names else ("keeper", "day", "keeper_id")
    )
    phone = "k.call" if names else "k.phone"
    kind = {"moved": "v.kind", "split": "d.kind"}.get(edit, "h.kind")
    site = "h.site" if edit == "joined" else "s.site"
    more = "" if edit == "joined" else " JOIN site s USING (site_id)"
    more += " JOIN kind d USING (kind_id)" if edit == "split" else ""
    rows = db.ask(
        f"SELECT v.visit_id, v.no, v.{day}, v.kg, h.hive_id, h.hive, {kind}, {site}, k.{keeper}_id, "
        f"k.keeper, {phone} FROM visit v JOIN hive h USING (hive_id) JOIN {keeper} k ON "
        f"k.{keeper}_id = v.{link}{more}"
    )
    empty = 0 if edit == "looser" else None
    return sorted(
        [a, b, str(c), empty if d is None else float(d), *rest] for a, b, c, d, *rest in rows
    )


def plants(db: Target) -> list[Any]:
    return sorted(
        db.ask("SELECT v.visit_plant_id, v.visit_id, v.place, p.plant_id, p.name FROM visit_plant v JOIN plant p USING (plant_id)")
    )  # fmt: skip


@pytest.mark.parametrize("edit", EDITS)
def test_a_living_database_gets_other_tables(
    living: Target, write: Write, kerfmark: Runner, edit: str
) -> None:
    before, lists = joined(living, "looser" if edit == "looser" else ""), plants(living)
    history = [
        (n["number"], n["at"], n["verb"], n["undone_at"])
        for n in kerfmark("loads", str(living), "--json").json["loads"]
    ]
    write("new.toml", EDITS[edit])
    rehearsed = kerfmark("recut", str(living), "new.toml", "--rehearse")
    assert "nothing was changed" in rehearsed.out
    assert joined(living, "looser" if edit == "looser" else "") == before
    kerfmark("recut", str(living), "new.toml")
    assert joined(living, edit) == before and plants(living) == lists
    assert kerfmark("prove", str(living)).code == 0
    assert kerfmark("show", str(living), "--layout").out == EDITS[edit]
    assert history == [
        (n["number"], n["at"], n["verb"], n["undone_at"])
        for n in kerfmark("loads", str(living), "--json").json["loads"]
    ]
    # the history goes on as it would have
    kerfmark("undo", str(living))
    phones = {r[9]: r[10] for r in joined(living, edit)}
    assert phones["K3"] == f"0555 {3 * 7919}"
    assert kerfmark("prove", str(living)).code == 0
    write("next.csv", text(visits(500, 15, 6)))
    kerfmark("add", "next.csv", "--into", str(living))
    assert kerfmark("trace", str(living), "hive", "1").code == 0
    write("later.csv", text(visits(200, 28, 4)))
    kerfmark("refresh", str(living))
    assert kerfmark("prove", str(living)).code == 0


def test_there_and_back_is_as_before(living: Target, write: Write, kerfmark: Runner) -> None:
    before = living.dump()
    write("new.toml", SPLIT)
    write("old.toml", LAYOUT)
    kerfmark("recut", str(living), "new.toml")
    assert living.dump() != before
    kerfmark("recut", str(living), "old.toml")
    assert living.dump() == before


def test_what_does_not_fit_is_told_by_row_and_nothing_is_changed(
    living: Target, write: Write, kerfmark: Runner
) -> None:
    before = living.dump()
    wrong = edited(
        (
            'kg = {header = "Kg", type = "integer"}',
            'kg = {header = "Kg", type = "integer", most = 20}',
        )
    )
    write("new.toml", wrong)
    told = kerfmark("recut", str(living), "new.toml", "--rehearse", code=1)
    assert '"25" is not at most 20' in told.out and "visits.csv" in told.out
    refused = kerfmark("recut", str(living), "new.toml", code=1)
    assert '"25" is not at most 20' in refused.err and "rows " in refused.err
    assert living.dump() == before and kerfmark("prove", str(living)).code == 0
    assert kerfmark("show", str(living), "--layout").out == LAYOUT


@pytest.mark.parametrize("when", range(6))
def test_a_killed_program_leaves_all_as_before_or_as_after(
    living: Target, write: Write, kerfmark: Runner, tmp_path: Path, when: int
) -> None:
    write("new.toml", SPLIT)
    before = living.dump()
    run_and_kill(
        living, ["recut", str(living), "new.toml"], tmp_path, 0.9 + 0.15 * when, 0.04 * when
    )
    kerfmark("loads", str(living))
    if living.dump() == before:
        assert kerfmark("show", str(living), "--layout").out == LAYOUT
        kerfmark("recut", str(living), "new.toml")
    assert living.ask("SELECT count(*) FROM kind") == [2]
    assert not [t for t in living.tables() if t.startswith("kerfmark_part")]
    assert kerfmark("prove", str(living)).code == 0


def test_two_kinds_of_files_and_a_load_beside(
    living: Target, write: Write, kerfmark: Runner
) -> None:
    write("jars.csv", "Jar,Hive,Cents\n" + "".join(f"J{i},H0{i % 9},{i * 10}\n" for i in range(40)))
    kerfmark("cut", "jars.csv", "--into", str(living), "--beside")
    longer = kerfmark("show", str(living), "--layout").out
    write(
        "new.toml",
        longer.replace('type = "integer"}\n\n[tables.hive]', 'type = "real"}\n\n[tables.hive]'),
    )
    jars = sorted(
        living.ask("SELECT j.jar_id, j.jar, h.hive FROM jar j JOIN hive h USING (hive_id)")
    )
    kerfmark("recut", str(living), "new.toml")
    assert jars == sorted(
        living.ask("SELECT j.jar_id, j.jar, h.hive FROM jar j JOIN hive h USING (hive_id)")
    )
    assert kerfmark("prove", str(living)).code == 0
    kerfmark("undo", str(living))
    assert kerfmark("prove", str(living)).code == 0


# ------------------------------------------------------------ what one engine shows


def of_two_loads(folder: Path) -> Path:
    (folder / "visits.csv").write_text(text(visits(1, 60, 1)), encoding="utf-8")
    (folder / "l.toml").write_text(LAYOUT, encoding="utf-8")
    cut([folder / "l.toml"], folder / "a.db")
    return folder / "a.db"


def test_the_files_may_be_gone(tmp_path: Path) -> None:
    """The database gives its rows back: all of them, in the texts of the files."""
    database = of_two_loads(tmp_path)
    (tmp_path / "more.csv").write_text(text(visits(100, 25, 2)), encoding="utf-8")
    fresh = tmp_path / "fresh"
    fresh.mkdir()
    for name in ("visits.csv", "more.csv"):
        (fresh / name).write_bytes((tmp_path / name).read_bytes())
    # what a later file adds is new, so that the rows alone tell what each load said
    changed = [
        [*r[:3], f"N{r[3]}", r[4], f"N{r[5]}", f"N{r[6]}", *r[7:]] for r in visits(100, 25, 2)
    ]
    for folder in (tmp_path, fresh):
        (folder / "more.csv").write_text(text(changed), encoding="utf-8")
    add([tmp_path / "more.csv"], database)
    for name in ("visits.csv", "more.csv"):
        (tmp_path / name).unlink()
    (tmp_path / "new.toml").write_text(SPLIT, encoding="utf-8")
    result = recut(database, tmp_path / "new.toml")
    assert result.from_database == ("visits.csv", "more.csv")

    (fresh / "new.toml").write_text(SPLIT, encoding="utf-8")
    cut([fresh / "new.toml"], fresh / "b.db")
    add([fresh / "more.csv"], fresh / "b.db")
    with sqlite3.connect(database) as one, sqlite3.connect(fresh / "b.db") as other:
        names = [r[0] for r in other.execute("SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'kerfmark%' AND name NOT LIKE 'sqlite%'")]  # fmt: skip
        assert len(names) == 7
        for name in names:
            query = f"SELECT * FROM {name}"
            assert one.execute(query).fetchall() == other.execute(query).fetchall(), name
    for name in ("visits.csv", "more.csv"):  # and when they are back, they prove it
        (tmp_path / name).write_bytes((fresh / name).read_bytes())
    assert prove(database).holds


def test_a_table_with_another_name_is_told_as_one(tmp_path: Path) -> None:
    database = of_two_loads(tmp_path)
    with sqlite3.connect(database) as file:
        [(keepers,)] = file.execute("SELECT count(*) FROM keeper").fetchall()
    (tmp_path / "new.toml").write_text(NAMES, encoding="utf-8")
    result = recut(database, tmp_path / "new.toml")
    assert "table keeper is called member" in result.changes
    tables = {t.name: (t.before, t.after, t.keys_kept) for t in result.tables}
    assert tables["member"] == (keepers, keepers, True) and "keeper" not in tables


def test_what_only_a_file_tells_needs_the_file(tmp_path: Path) -> None:
    database = of_two_loads(tmp_path)
    rows = [[*r[:7], "0777 1", *r[8:]] for r in visits(100, 5, 1)]
    (tmp_path / "more.csv").write_text(text(rows), encoding="utf-8")
    add([tmp_path / "more.csv"], database, known="overwrite")
    (tmp_path / "visits.csv").unlink()
    (tmp_path / "new.toml").write_text(SPLIT, encoding="utf-8")
    before = database.read_bytes()
    with pytest.raises(DataRefused, match="a file is missing"):
        recut(database, tmp_path / "new.toml")
    assert database.read_bytes() == before


def test_cells_changed_by_hand_are_not_lost(tmp_path: Path) -> None:
    database = of_two_loads(tmp_path)
    with sqlite3.connect(database) as db:
        db.execute("UPDATE keeper SET phone = 'none' WHERE keeper_id = 1")
    (tmp_path / "new.toml").write_text(SPLIT, encoding="utf-8")
    with pytest.raises(DataRefused, match="differs from its files"):
        recut(database, tmp_path / "new.toml")
    with sqlite3.connect(database) as db:
        db.execute("UPDATE keeper SET phone = '0555 0' WHERE keeper = 'K0'")
        db.execute("INSERT INTO site (site) VALUES ('by hand')")
    with pytest.raises(UsageError, match="1 row of site came with no load"):
        recut(database, tmp_path / "new.toml")


def test_what_somebody_has_added_by_hand_is_not_lost(tmp_path: Path) -> None:
    """A column of a table; the rest of a record that a row only names."""
    (tmp_path / "hives.csv").write_text(
        "hive,mother,colour\nH1,,red\nH2,H9,blue\n", encoding="utf-8"
    )
    layout = (
        'kerfmark = 1\n[sources.hives]\nfile = "hives.csv"\n[tables.hive]\neach_row = true\n'
        'known_by = ["hive"]\noptional = ["colour", "mother_id"]\ncolumns = ["hive", "colour"]\n'
        'links = {mother_id = {to = "hive", by = {hive = "mother"}}}\n'
    )
    (tmp_path / "l.toml").write_text(layout, encoding="utf-8")
    cut([tmp_path / "l.toml"], tmp_path / "a.db")
    (tmp_path / "new.toml").write_text(layout.replace('"colour"]\nlinks', '{header = "colour", type = "text(9)"}]\nlinks'), encoding="utf-8")  # fmt: skip
    with sqlite3.connect(tmp_path / "a.db") as db:
        db.execute("UPDATE hive SET colour = 'green' WHERE hive = 'H9'")
    with pytest.raises(UsageError, match="1 record of hive, which files only refer to"):
        recut(tmp_path / "a.db", tmp_path / "new.toml")
    with sqlite3.connect(tmp_path / "a.db") as db:
        db.execute("UPDATE hive SET colour = NULL WHERE hive = 'H9'")
        db.execute("ALTER TABLE hive ADD COLUMN weight integer")
    with pytest.raises(UsageError, match=r"the layout has no column hive\.weight"):
        recut(tmp_path / "a.db", tmp_path / "new.toml")
    with sqlite3.connect(tmp_path / "a.db") as db:
        db.execute("ALTER TABLE hive DROP COLUMN weight")
    recut(tmp_path / "a.db", tmp_path / "new.toml")
    with sqlite3.connect(tmp_path / "a.db") as db:
        assert db.execute("SELECT * FROM hive ORDER BY 1").fetchall() == [
            *((1, None, "H1", "red"), (2, 3, "H2", "blue"), (3, None, "H9", None))
        ]


def test_where_a_file_is_gone_cells_changed_by_hand_stay(tmp_path: Path) -> None:
    database = of_two_loads(tmp_path)
    (tmp_path / "visits.csv").unlink()
    with sqlite3.connect(database) as db:
        db.execute("UPDATE keeper SET phone = 'none' WHERE keeper = 'K1'")
    (tmp_path / "new.toml").write_text(SPLIT, encoding="utf-8")
    recut(database, tmp_path / "new.toml")
    with sqlite3.connect(database) as db:
        assert db.execute("SELECT phone FROM keeper WHERE keeper = 'K1'").fetchall() == [("none",)]


@pytest.mark.parametrize(
    ("change", "told"),
    [
        (("[sources.visits]", '[sources.jars]\nfile = "j.csv"\n[tables.jar]\nsource = "jars"\neach_row = true\ncolumns = ["Jar"]\n[sources.visits]'), 'no rows of the source "jars"'),
        (("optional = [\"kg\"]\n", "optional = [\"kg\"]\norder = [\"day\"]\n"), "another order"),
        (("kerfmark = 1\n", "kerfmark = 1\nexisting = true\n"), "somebody else"),
    ],
)  # fmt: skip
def test_what_no_layout_can_make_of_a_database_is_refused(
    tmp_path: Path, change: tuple[str, str], told: str
) -> None:
    database = of_two_loads(tmp_path)
    (tmp_path / "new.toml").write_text(edited(change), encoding="utf-8")
    with pytest.raises(UsageError, match=told):
        recut(database, tmp_path / "new.toml")
    assert prove(database).holds


def test_the_layout_beside_the_database_follows_unless_it_was_edited(tmp_path: Path) -> None:
    database = of_two_loads(tmp_path)
    beside = tmp_path / "a.layout.toml"
    beside.write_text(LAYOUT, encoding="utf-8")
    (tmp_path / "new.toml").write_text(SPLIT, encoding="utf-8")
    recut(database, tmp_path / "new.toml")
    assert beside.read_text(encoding="utf-8") == SPLIT
    beside.write_text(TYPES, encoding="utf-8")
    recut(database, beside)
    assert prove(database).holds
