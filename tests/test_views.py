"""What people look at afterwards: views with all that rows lead to, links with the names of what they
lead to, comments and types, and a statement that counts by group; on every engine, held against
a join in plain Python."""

from __future__ import annotations

import csv
import io
import re
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import Any

from conftest import Runner
from engines import Target

Write = Callable[..., Path]
AREAS = [["Area", "Warden"], ["North", "Ada"], ["South", "Bo"]]
HIVES = [["Hive", "Kind", "Area"], ["H1", "wood", "North"], ["H2", "straw", "South"], ["H3", "cork", ""]]  # fmt: skip
VISITS = [["No", "Hive", "Kg", "Grams"], *([i, f"H{i % 3 + 1}", i, ""] for i in range(1, 31))]
LAYOUT = """
kerfmark = 1
[sources.areas]
file = "areas.csv"
[sources.hives]
file = "hives.csv"
[sources.visits]
file = "visits.csv"
left_out = ["Grams"]
VIEW
[tables.area]
source = "areas"
each_row = true
known_by = ["area"]
columns = {area = "Area", warden = "Warden"}
[tables.hive]
comment = "every hive that somebody looks after"
source = "hives"
each_row = true
known_by = ["hive"]
optional = ["area_id"]
[tables.hive.columns]
hive = {header = "Hive", comment = "painted on the lid"}
kind = "Kind"
[tables.hive.links]
area_id = {to = "area", by = {area = "Area"}, missing = "refuse"}
[tables.visit]
source = "visits"
each_row = true
known_by = ["no"]
[tables.visit.columns]
no = {header = "No", type = "integer"}
kg = {header = "Kg", type = "integer"}
grams = {derived = "[Kg] * 1000", type = "integer"}
[tables.visit.links]
hive_id = {to = "hive", by = {hive = "Hive"}, missing = "refuse"}
"""


def text(rows: list[list[Any]]) -> str:
    out = io.StringIO()
    csv.writer(out, lineterminator="\n").writerows(rows)
    return out.getvalue()


def cut(db: Target, write: Write, kerfmark: Runner, view: str = "", code: int = 0) -> str:
    for name, rows in (("areas", AREAS), ("hives", HIVES), ("visits", VISITS)):
        write(f"{name}.csv", text(rows))
    write("l.toml", LAYOUT.replace("VIEW", view))
    return kerfmark("cut", "l.toml", "--into", str(db), code=code).err


def joined() -> list[tuple[Any, ...]]:
    """No, Hive, Kg, grams, hive_kind, area, warden of each visit."""
    warden = dict(AREAS[1:])
    hive = {h: (k, a or None, warden.get(a)) for h, k, a in HIVES[1:]}
    return [(n, h, kg, kg * 1000, *hive[h]) for n, h, kg, _ in VISITS[1:]]


def test_the_whole_view_shows_what_rows_lead_to(db: Target, write: Write, kerfmark: Runner) -> None:
    cut(db, write, kerfmark)
    found = kerfmark("show", str(db), "visits_whole", "--rows", "99", "--json").json["tables"][0]
    names = [c["name"] for c in found["columns"]]
    assert names == ["No", "Hive", "Kg", "grams", "hive_kind", "area", "area_warden"]
    assert [tuple(r) for r in found["first_rows"]] == joined()
    flat = kerfmark("show", str(db), "visits_flat", "--json").json["tables"][0]
    assert [c["name"] for c in flat["columns"]] == ["No", "Hive", "Kg"]
    # areas lead nowhere: there is no second view of them; all go with what they belong to
    views = kerfmark("show", str(db), "--json").json["views"]
    assert sorted(views) == ["areas_flat", "hives_flat", "hives_whole", "visits_flat", "visits_whole"]  # fmt: skip
    assert kerfmark("prove", str(db)).code == 0
    kerfmark("cut", "l.toml", "--into", str(db), "--replace")
    kerfmark("add", "visits.csv", "--into", str(db), "--again", "--known", "keep")
    assert sorted(kerfmark("show", str(db), "--json").json["views"]) == sorted(views)


def test_its_columns_can_be_chosen_and_ordered(db: Target, write: Write, kerfmark: Runner) -> None:
    cut(db, write, kerfmark, 'view = ["area_warden", "No", "grams"]')
    rows = kerfmark("show", str(db), "visits_whole", "--rows", "99", "--json").json["tables"][0]
    assert [c["name"] for c in rows["columns"]] == ["area_warden", "No", "grams"]
    assert sorted(rows["first_rows"], key=lambda r: r[1]) == [[r[6], r[0], r[3]] for r in joined()]
    layout = kerfmark("show", str(db), "--layout").out
    write("new.toml", layout.replace('view = ["area_warden", "No", "grams"]', 'view = ["hive_kind"]'))  # fmt: skip
    kerfmark("recut", str(db), "new.toml")
    rows = kerfmark("show", str(db), "visits_whole", "--json").json["tables"][0]
    assert [c["name"] for c in rows["columns"]] == ["hive_kind"]


def test_a_column_that_no_row_leads_to_is_told(db: Target, write: Write, kerfmark: Runner) -> None:
    told = cut(db, write, kerfmark, 'view = ["No", "hive_kinds"]', code=2)
    assert 'the rows lead to no column "hive_kinds"; did you mean "hive_kind"?' in told


def test_a_table_called_like_the_view_is_kept(write: Write, kerfmark: Runner) -> None:
    write("a.csv", "n,w\n1,x\n2,y\n")
    write("l.toml", 'kerfmark = 1\n[sources.a]\nfile = "a.csv"\nview = ["n"]\n[tables.a_whole]\nsource = "a"\neach_row = true\nknown_by = ["n"]\ncolumns = {n = "n", w = "w"}\n')  # fmt: skip
    for options in ([], ["--replace"]):
        kerfmark("cut", "l.toml", "--into", "a.db", *options)
    assert [t["name"] for t in kerfmark("show", "a.db", "--json").json["tables"]] == ["a_whole"]


def test_show_tells_names_comments_types_and_how_to_count(
    db: Target, write: Write, kerfmark: Runner
) -> None:
    cut(db, write, kerfmark)
    told = kerfmark("show", str(db), "visit").out
    assert "1 (H1)" in told and "2 (H2)" in told
    plain = " ".join(told.split())
    assert "column type may be blank leads to" in plain
    assert re.search(r"hive_id \S+ - hive", plain)
    counting = re.search(r"to count by group, in SQL: +(.*)", told)
    assert counting
    found = db.ask(counting[1].replace("`", '"'))
    assert dict(found) == dict(Counter(v[1] for v in VISITS[1:]))
    told = kerfmark("show", str(db), "hive").out
    assert "every hive that somebody looks after" in told and "painted on the lid" in told
    hive = kerfmark("show", str(db), "hive", "--json").json["tables"][0]
    assert hive["called"] == {"area_id": ["North", "South", ""]}
    assert hive["columns"][1]["name"] == "area_id" and hive["columns"][1]["optional"]


def test_comments_of_tables_that_others_made_are_told(db: Target, kerfmark: Runner) -> None:
    if db.engine == "MariaDB":
        db.do("CREATE TABLE t (a INT COMMENT 'how many', b TEXT) COMMENT 'of somebody'")
    else:
        schema = ["CREATE SCHEMA IF NOT EXISTS " + str(db).rpartition("=")[2]]
        db.do(*([] if db.is_file else schema), "CREATE TABLE t (a INT, b TEXT)")
    if db.engine == "PostgreSQL":
        db.do("COMMENT ON TABLE t IS 'of somebody'", "COMMENT ON COLUMN t.a IS 'how many'")
    [table] = kerfmark("show", str(db), "t", "--json").json["tables"]
    told = [table["comment"], *(c["comment"] for c in table["columns"])]
    assert told == (["", "", ""] if db.is_file else ["of somebody", "how many", ""])


def test_headers_that_are_truth_values_are_shown_and_proven(
    db: Target, write: Callable[..., Path], kerfmark: Runner, tmp_path: Path
) -> None:
    """SQLite calls a column of a view "column1" that is to be called "true"."""
    text = "no,true,FALSE,true_\n" + "".join(f"{n},H{n % 7},K{n % 5},x{n}\n" for n in range(40))
    write("v.csv", text)
    kerfmark("cut", "v.csv", "--into", db)
    assert kerfmark("prove", db).code == 0
    kerfmark("export", db, "--flat", "v", "-o", "back.csv")
    assert (tmp_path / "back.csv").read_text() == text
    assert db.ask('SELECT "true__", "FALSE_" FROM v_flat WHERE no = 8') == [("H1", "K3")]
