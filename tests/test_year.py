"""A year of a database, as docs/changing.md and docs/adding.md tell it: monthly files that are never
as the one before, a second kind of file, a changed layout, corrections; held against a plain reading
of the same files at its end, and proven, on every engine."""

from __future__ import annotations

import csv
import io
import random
from collections.abc import Callable
from pathlib import Path
from typing import Any

import openpyxl

from conftest import Runner
from engines import Target

Write = Callable[..., Path]
HEAD = ["Visit no", "Day", "Hive", "Hive kind", "Keeper", "Keeper phone", "Frames", "Mood"]
HIVES = {f"H{i:02}": ("wood", "straw", "cork")[i % 3] for i in range(14)}
KEEPERS = {f"{n} {s}": f"0555 {i}{j}7" for i, n in enumerate(("Ada", "Bo", "Cleo", "Dan"))
           for j, s in enumerate(("Weir", "Mill"))}  # fmt: skip


def month(m: int, rows: int) -> list[list[Any]]:
    rng = random.Random(m)
    out = []
    for i in range(rows):
        hive, keeper = rng.choice([*HIVES]), rng.choice([*KEEPERS])
        day = f"{rng.randint(13, 28)}.{m:02}.2040"
        out.append([m * 1000 + i, day, hive, HIVES[hive], keeper, KEEPERS[keeper],
                    rng.randint(4, 11), rng.choice(["calm", "wild"])])  # fmt: skip
    return out


def text(head: list[str], rows: list[list[Any]], delimiter: str = ",") -> str:
    out = io.StringIO()
    csv.writer(out, delimiter=delimiter, lineterminator="\n").writerows([head, *rows])
    return out.getvalue()


def test_a_year(db: Target, write: Write, kerfmark: Runner, tmp_path: Path) -> None:
    into = ["--into", str(db)]
    visits: dict[int, list[Any]] = {}

    def took(rows: list[list[Any]]) -> None:
        visits.update({r[0]: r for r in rows})

    # January: the first file
    rows = month(1, 60)
    write("2040-01.csv", text(HEAD, rows))
    kerfmark("cut", "2040-01.csv", *into)
    took(rows)
    # February: another delimiter, order of columns, encoding, and form of the dates
    rows = month(2, 30)
    rows[3][4], rows[3][5] = "Jürg Weir", "0555 999"
    iso = [[r[0], "-".join(r[1].split(".")[::-1]), *r[2:]] for r in rows]
    back = text(HEAD[::-1], [r[::-1] for r in iso], ";")
    (tmp_path / "2040-02.csv").write_bytes(back.encode("cp1252"))
    told = kerfmark("add", "2040-02.csv", *into).err
    assert '"Day" is written YYYY-MM-DD here, and DD.MM.YYYY in the files before it' in told
    took(rows)
    # March: a renamed header, and a second kind of file
    rows = month(3, 30)
    write("2040-03.csv", text([*HEAD[:4], "Seen by", *HEAD[5:]], rows))
    told = " ".join(kerfmark("add", "2040-03.csv", *into, code=2).err.split())
    assert '--means "Seen by=Keeper"' in told and "are in keeper.keeper" in told
    kerfmark("add", "2040-03.csv", *into, "--means", "Seen by=Keeper")
    took(rows)
    rng = random.Random(0)
    honey = [[i, rng.choice([*HIVES]), rng.choice(["Linden", "Clover"]), rng.randint(2, 30)] for i in range(1, 50)]  # fmt: skip
    write("honey.csv", text(["Jar no", "Hive", "Honey", "Kg"], honey))
    kerfmark("add", "honey.csv", *into, code=2)
    kerfmark("cut", "honey.csv", *into, "--beside")
    # April: a new column, and a wrong file
    rows = month(4, 30)
    weather = {r[0]: random.Random(r[0]).choice(["sun", "rain"]) for r in rows}
    write("2040-04.csv", text([*HEAD, "Weather"], [[*r, weather[r[0]]] for r in rows]))
    kerfmark("add", "2040-04.csv", *into, "--put", "Weather=visit_record", code=2)
    base = kerfmark("show", str(db), "--json").json["tables"]
    [visit] = [t["name"] for t in base if any(c["name"] == "visit_no" for c in t["columns"])]
    kerfmark("add", "2040-04.csv", *into, "--put", f"Weather={visit}")
    took(rows)
    write("prices.csv", text(["Room", "Seats"], [["red", 45], ["blue", 79]]))
    assert "name the right file" in kerfmark("add", "prices.csv", *into, code=2).err
    # May: a workbook in place of a file, and a column that is missing
    rows = month(5, 30)
    book = openpyxl.Workbook()
    for row in [HEAD[:7], *(r[:7] for r in rows)]:
        book.active.append(row)
    book.save(tmp_path / "2040-05.xlsx")
    kerfmark("add", "2040-05.xlsx", *into, code=2)
    kerfmark("add", "2040-05.xlsx", *into, "--lacking", "Mood=unknown")
    took([[*r[:7], "unknown"] for r in rows])
    # June: the layout is changed
    layout = kerfmark("show", str(db), "--layout").out
    changed = layout.replace("hive_kind", "kind").replace('type = "integer"}\nmood', 'type = "decimal(4,1) 0.#"}\nmood')  # fmt: skip
    assert changed != layout
    write("changed.toml", changed)
    assert "nothing was changed" in kerfmark("recut", str(db), "changed.toml", "--rehearse").out
    kerfmark("recut", str(db), "changed.toml")
    # July: corrections of what is there, and a hive that is of another kind from now on
    rows = [[*r[:6], r[6] + 1, r[7]] for r in month(1, 60)[:5]]
    write("corrections.csv", text(HEAD, rows))
    kerfmark("add", "corrections.csv", *into, code=1)
    kerfmark("add", "corrections.csv", *into, "--known", "overwrite")
    took(rows)
    # August: the same file twice, a folder that is named every night
    (tmp_path / "in").mkdir()
    rows = month(8, 20)
    write("in/2040-08.csv", text(HEAD, rows))
    write("in/2040-08 (copy).csv", text(HEAD, rows))
    kerfmark("add", "in", *into)
    took(rows)
    assert "nothing new" in kerfmark("add", "in", *into).out
    # September: rows that do not fit are set aside, mended and added
    rows = month(9, 20)
    bad = [r if i != 7 else [r[0], "31.09.2040", *r[2:]] for i, r in enumerate(rows)]
    write("2040-09.csv", text(HEAD, bad))
    kerfmark("add", "2040-09.csv", *into, code=1)
    kerfmark("add", "2040-09.csv", *into, "--set-aside", "mend.csv", code=3)
    mended = (tmp_path / "mend.csv").read_text("utf-8-sig").replace("31.09.2040", rows[7][1])
    (tmp_path / "mend.csv").write_text(mended, encoding="utf-8")
    kerfmark("add", "mend.csv", *into)
    took(rows)
    # October: a load that was wrong is taken back
    write("2040-10.csv", text(HEAD, month(10, 20)))
    kerfmark("add", "2040-10.csv", *into)
    kerfmark("undo", str(db))
    # November: no header, the columns in another order; visits that moved to another hive
    rows = month(11, 20)
    order = [HEAD[n] for n in (0, 2, 3, 1, 4, 5, 6, 7)]
    bare = [[r[n] for n in (0, 2, 3, 1, 4, 5, 6, 7)] for r in rows]
    write("2040-11.csv", text(order, bare).partition("\n")[2])
    kerfmark("add", "2040-11.csv", *into, "--no-header", code=2)
    kerfmark("add", "2040-11.csv", *into, "--columns", ",".join(order))
    moved = [[*r[:2], "H05", HIVES["H05"], *r[4:]] for r in rows[:4]]
    write("moved.csv", text(order, [[r[n] for n in (0, 2, 3, 1, 4, 5, 6, 7)] for r in moved]).partition("\n")[2])  # fmt: skip
    policies = ["--known", f"{visit}=overwrite", "--known", "refuse"]
    kerfmark("add", "moved.csv", *into, "--no-header", *policies)
    took([*rows, *moved])
    # December: only the frames of visits that are there, and one that is not
    frames = {r[0]: 12 for r in month(9, 20)[:6]}
    write("frames.csv", text(["Visit no", "Frames"], [*frames.items(), [99999, 3]]))
    options = ["--only-known", "--known", "overwrite"]
    told = kerfmark("add", "frames.csv", *into, *options, code=1).err
    assert f'"99999" is not a record of {visit}' in told
    kerfmark("add", "frames.csv", *into, *options, "--set-aside", "strange.csv", code=3)
    took([[*visits[n][:6], f, visits[n][7]] for n, f in frames.items()])

    found = db.ask(
        f"SELECT v.visit_no, v.day, h.hive, h.kind, k.keeper, k.keeper_phone, v.frames, v.mood, "
        f"v.weather FROM {visit} v JOIN hive h USING (hive_id) JOIN keeper k USING (keeper_id)"
    )
    expected = [
        (r[0], "-".join(r[1].split(".")[::-1]), *r[2:6], float(r[6]), r[7], weather.get(r[0]))
        for r in visits.values()
    ]
    plain = [(a, str(b), c, d, e, f, float(g), *rest) for a, b, c, d, e, f, g, *rest in found]
    assert sorted(plain, key=repr) == sorted(expected, key=repr)
    jars = db.ask("SELECT j.jar_no, h.hive, j.honey, j.kg FROM honey j JOIN hive h USING (hive_id)")
    assert jars == [tuple(r) for r in honey]
    assert kerfmark("prove", str(db)).code == 0
    assert len(kerfmark("loads", str(db), "--json").json["loads"]) == 14
