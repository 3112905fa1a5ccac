"""Names, headers and cells that somebody chose with ill intent, or a machine without thinking: plain
data or a plain error, never an internal one, and nothing is obeyed."""

from __future__ import annotations

import gzip
import json
import os
import re
import sqlite3
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq
import pytest

from conftest import Runner
from engines import Target
from kerfmark import SourceError, cut

Write = Callable[..., Path]
ODD = ["\x07", "\x1b[31m", "\x1b[2J", "\u2028", "\u2029", "\u202e", "\u2066", "\x7f", "\x85", "\u200f", "\x02"]  # fmt: skip
OBEYED = {c for text in ODD for c in text if not c.isprintable()}


@pytest.mark.parametrize("odd", ODD, ids=ascii)
def test_a_character_that_would_be_obeyed_is_shown_and_the_layout_can_be_read(
    write: Write, kerfmark: Runner, tmp_path: Path, odd: str
) -> None:
    head = ["no", f"mood{odd}of day", f"when{odd}", f"m{odd} 1", f"m{odd} 2", f"m{odd} 3"]
    rows = [
        f"{n},calm{odd}{n % 4},{n % 12 + 1:02}/{n % 12 + 1:02}/2040,{n % 3 or ''},{n % 4 or ''},{n % 5 or ''}"
        for n in range(60)
    ]
    text = "\n".join([",".join(head), *rows]) + "\n"
    (tmp_path / "a.csv").write_bytes(text.encode())
    for command in (
        ["measure", "a.csv"],
        ["mark", "a.csv", "-o", "m.toml"],
        ["check", "m.toml"],
        ["cut", "a.csv", "--into", "a.db"],
        ["show", "a.db"],
        ["prove", "a.db"],
        ["trace", "a.db", "a", "1"],
        ["recut", "a.db", "a.layout.toml", "--rehearse"],
    ):
        done = kerfmark(*command)
        assert not OBEYED & set(done.out + done.err), command
    for name in ("m.toml", "a.layout.toml"):
        assert not (OBEYED & set((tmp_path / name).read_text())), name
    (tmp_path / "b.csv").write_bytes(text.replace("02/02/2040", "2.2.40").encode())
    done = kerfmark("add", "b.csv", "--into", "a.db", code=1)
    assert not OBEYED & set(done.out + done.err)


NAMES = ["kerfmark_load", "kerfmark_loads", "kerfmark_x", "sqlite_master", "sqlite_x", "pg_class", "oid", "table", "a_flat", "KERFMARK_FILES"]  # fmt: skip


@pytest.mark.parametrize("name", NAMES)
def test_a_file_may_be_called_anything(
    db: Target, write: Write, kerfmark: Runner, name: str
) -> None:
    write(f"{name}.csv", "no,mood\n" + "".join(f"{n},m{n % 3}\n" for n in range(30)))
    kerfmark("cut", f"{name}.csv", "--into", str(db), "--one-table")
    [table] = kerfmark("show", str(db), "--json").json["tables"]
    assert table["rows"] == 30
    kerfmark("export", str(db), "-o", "out")
    assert kerfmark("prove", str(db)).code == 0
    kerfmark("add", f"{name}.csv", "--into", str(db), "--again", "--known", "keep")
    kerfmark("undo", str(db))
    assert kerfmark("prove", str(db)).code == 0


HEADERS = ["rowid", "_rowid_", "oid", "ctid", "xmin", "tableoid", "select", "kerfmark_row", "", "ROWID"]  # fmt: skip


def test_a_header_may_be_called_anything(db: Target, write: Write, kerfmark: Runner) -> None:
    head = ",".join(["no", *HEADERS])
    rows = "".join(f"{n},{','.join(str(n % (i + 2)) for i in range(len(HEADERS)))}\n" for n in range(40))  # fmt: skip
    write("a.csv", f"{head}\n{rows}")
    kerfmark("cut", "a.csv", "--into", str(db), "--one-table")
    assert kerfmark("prove", str(db)).code == 0
    write("b.csv", f"{head}\n99{',1' * len(HEADERS)}\n")
    kerfmark("add", "b.csv", "--into", str(db))
    assert kerfmark("prove", str(db)).code == 0
    kerfmark("undo", str(db))


def test_a_name_that_is_kept_is_a_mistake_of_the_layout(write: Write, kerfmark: Runner) -> None:
    write("a.csv", "n,m\n1,2\n3,4\n")
    for table, column, told in (
        ("kerfmark_loads", "n", 'no table can be called "kerfmark_loads"'),
        ("sqlite_stat1", "n", 'no table can be called "sqlite_stat1"'),
        ("a", "rowid", 'no column can be called "rowid"'),
    ):
        write("l.toml", f'kerfmark = 1\n[sources.a]\nfile = "a.csv"\n[tables.{table}]\neach_row = true\ncolumns = {{{column} = "n", m = "m"}}\n')  # fmt: skip
        assert told in kerfmark("check", "l.toml", code=2).err


def test_the_rows_of_somebody_elses_table_with_a_column_rowid_are_told_apart(
    write: Write, kerfmark: Runner, tmp_path: Path
) -> None:
    with sqlite3.connect(tmp_path / "o.db") as db:
        db.execute("CREATE TABLE hive (id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE, rowid TEXT)")  # fmt: skip
        db.execute("INSERT INTO hive (code, rowid) VALUES ('H1', 'x')")
    write("hives.csv", "code,rowid\nH2,x\nH3,y\nH1,x\n")
    kerfmark("mark", "hives.csv", "--onto", "o.db", "-o", "o.toml")
    kerfmark("cut", "o.toml", "--into", "o.db", "--known", "keep")
    assert kerfmark("prove", "o.db").code == 0
    kerfmark("undo", "o.db")
    with sqlite3.connect(tmp_path / "o.db") as db:
        assert db.execute("SELECT code FROM hive").fetchall() == [("H1",)]


GRID: list[dict[str, Any]] = [
    {"id": 1, "grid": [[1, 2], [3]], "deep": [[["a"], ["b", "c"]], []]},
    {"id": 2, "grid": [[4], [5, 6, 7]], "deep": [[["d"]]]},
    {"id": 3, "grid": [], "deep": []},
]


@pytest.mark.parametrize("kind", ["json", "jsonl", "parquet", "bare"])
def test_a_list_within_a_list_keeps_its_record_and_its_place(
    kerfmark: Runner, tmp_path: Path, kind: str
) -> None:
    path = tmp_path / f"g.{'json' if kind == 'bare' else kind}"
    if kind == "parquet":
        pq.write_table(pa.Table.from_pylist(GRID), path)
    elif kind == "jsonl":
        path.write_text("\n".join(map(json.dumps, GRID)))
    else:
        path.write_text(json.dumps(GRID if kind == "json" else {"grid": [r["grid"] for r in GRID]}))
    kerfmark("cut", path.name, "--into", "g.db")
    assert kerfmark("prove", "g.db").code == 0
    found = kerfmark("measure", path.name, "--json").json["sources"]
    [values] = [s for s in found if "grid" in s["name"] and s["rows"] == 7]
    assert len(values["columns"]) == 3
    if kind == "bare":
        return
    with sqlite3.connect(tmp_path / "g.db") as db:
        rows = db.execute(
            "SELECT g.id, w.g_grid_position, v.g_grid_value_position, v.value FROM g_grid_value v "
            "JOIN g_grid w ON w.g_grid_id = v.record_id JOIN g ON g.id = w.outer_record_id"
        ).fetchall()
    assert sorted(rows) == [
        (r["id"], i + 1, j + 1, v)
        for r in GRID
        for i, row in enumerate(r["grid"])
        for j, v in enumerate(row)
    ]


DEEP = {
    "lists.json": "[" * 100_000 + "]" * 100_000,
    "records.json": '{"a":' * 500 + "1" + "}" * 500,
    "mixed.jsonl": '{"a":' + "[" * 90 + "1" + "]" * 90 + "}\n",
    "open.json": '[{"a":' * 50_000,
}


@pytest.mark.parametrize("name", DEEP)
def test_json_that_goes_too_deep_is_refused(write: Write, kerfmark: Runner, name: str) -> None:
    write(name, DEEP[name])
    told = kerfmark("measure", name, code=2).err
    assert "nested too deeply" in told and len(told) < 500


def test_cells_of_json_that_go_too_deep_are_refused(write: Write, kerfmark: Runner) -> None:
    for depth in (100, 5000):
        write("a.csv", f'no,list\n1,"{"[" * depth}1{"]" * depth}"\n')
        told = kerfmark("measure", "a.csv", "--json-cells", "list", code=1).err
        assert "64 deep" in told and "row 2" in told


LONG = {
    "sum": " + ".join(["[n]"] * 5000),
    "minus": "-" * 5000 + "[n]",
    "brackets": "(" * 3000 + "[n]" + ")" * 3000,
    "text": "'" + "x" * 30_000 + "'",
    "not": "not " * 3000 + "true",
}


@pytest.mark.parametrize("name", LONG)
def test_an_expression_without_end_is_told_in_a_line(
    write: Write, kerfmark: Runner, name: str
) -> None:
    write("a.csv", "n\n1\n2\n")
    write("l.toml", f'kerfmark = 1\n[sources.a]\nfile = "a.csv"\n[tables.a]\neach_row = true\ncolumns = {{n = {{header = "n", type = "integer"}}, d = {{derived = "{LONG[name]}", type = "integer"}}}}\n')  # fmt: skip
    told = kerfmark("check", "l.toml", code=2).err
    assert "line 6" in told and len(told) < 700, told[:800]


def test_a_sum_of_many_parts_still_works(write: Write, kerfmark: Runner) -> None:
    write("a.csv", "n\n1\n2\n")
    many, listed = " + ".join(["[n]"] * 140), ", ".join(str(n) for n in range(900))
    write("l.toml", f'kerfmark = 1\n[sources.a]\nfile = "a.csv"\n[tables.a]\neach_row = true\ncolumns = {{n = {{header = "n", type = "integer"}}, d = {{derived = "{many}", type = "integer"}}, e = {{derived = "if([n] in ({listed}), 1, 0)", type = "integer"}}}}\n')  # fmt: skip
    kerfmark("cut", "l.toml", "--into", "a.db")
    found = kerfmark("show", "a.db", "a", "--json").json["tables"][0]["first_rows"]
    assert [r[1:] for r in found] == [[1, 140, 1], [2, 280, 1]]


def test_a_layout_that_goes_too_deep_is_refused(write: Write, kerfmark: Runner) -> None:
    write("l.toml", "kerfmark = 1\nx = " + "[" * 5000 + "]" * 5000 + "\n")
    assert "nested too deeply" in kerfmark("check", "l.toml", code=2).err
    write("l.toml", "kerfmark = 1\n[sources.a]\nx = " + "{a = " * 900 + "1" + "}" * 900 + "\n")
    assert len(kerfmark("check", "l.toml", code=2).err) < 5000


@pytest.mark.skipif(not hasattr(os, "mkfifo"), reason="this system has no named pipes")
def test_what_can_be_read_only_once_or_never_ends_is_refused(
    kerfmark: Runner, tmp_path: Path
) -> None:
    os.mkfifo(tmp_path / "a.csv")
    for place in ("a.csv", "/dev/zero"):
        told = kerfmark("measure", place, code=2).err
        assert "a pipe or a device" in told and "kerfmark measure -" in told


def test_a_file_that_changes_while_it_is_read_is_refused(tmp_path: Path) -> None:
    path = tmp_path / "a.csv"
    path.write_text("no,mood\n" + "".join(f"{n},m{n % 3}\n" for n in range(300_000)))
    told: list[int] = []

    def grow(what: str, rows: int, of: int) -> None:
        if what.startswith("reading") and not told:
            told.append(rows)
            with path.open("a") as file:
                file.write("1,late\n")

    with pytest.raises(SourceError) as refused:
        cut([path], tmp_path / "a.db", progress=grow)
    assert refused.value.code == "source.changing" and told
    assert not (tmp_path / "a.db").exists()
    cut([path], tmp_path / "a.db")


def test_a_table_of_more_columns_than_the_engine_takes_is_told(
    db: Target, write: Write, kerfmark: Runner
) -> None:
    names = [f"c{i}" for i in range(2_100)]
    write("full.csv", f"{','.join(names)}\n" + 2 * f"{','.join('1' * len(names))}\n")
    columns = "\n".join(f'{n} = "{n}"' for n in names)
    text = 'kerfmark = 1\n[sources.full]\nfile = "full.csv"\n[tables.full]\neach_row = true\n'
    write("l.toml", f"{text}[tables.full.columns]\n{columns}\n")
    told = kerfmark("cut", "l.toml", "--into", db, code=2).err
    assert "more" in told and "columns than" in told and "split it in the layout" in told
    assert not db.is_file or not Path(str(db)).exists()


def test_a_row_of_another_width_with_bytes_that_are_no_text_is_told(
    tmp_path: Path, kerfmark: Runner
) -> None:
    """Both at once: the library that cuts the fields cannot say such a row."""
    rows = b"".join(b"%d,H%d\n" % (n, n % 3) for n in range(20))
    (tmp_path / "v.csv").write_bytes(b"no,hive\n" + rows + b"20,\xf7a,b\n21,\xf7\n")
    told = kerfmark("cut", "v.csv", "--into", "v.db", "--encoding", "utf-8", code=2).err
    assert "is not UTF-8 text" in told and "row 22" in told and "Exception" not in told
    kerfmark("cut", "v.csv", "--into", "v.db", "--encoding", "utf-8+cp1252", code=1)
    (tmp_path / "v.csv").write_bytes(b"no,hive\n" + rows + b"20,\xf7\n")
    kerfmark("cut", "v.csv", "--into", "v.db", "--encoding", "utf-8+cp1252")


def test_a_link_that_leads_out_of_a_folder_is_told_and_one_into_nothing_refused(
    write: Write, kerfmark: Runner, tmp_path: Path
) -> None:
    write("elsewhere.csv", "hive,kind\nH1,wood\nH2,straw\n")
    folder = tmp_path / "in"
    folder.mkdir()
    (folder / "a.csv").write_text("no,mood\n1,calm\n2,wild\n")
    (folder / "b.csv").symlink_to("../elsewhere.csv")
    (folder / "c.csv").symlink_to("a.csv")
    told = kerfmark("cut", "in", "--into", "x.db").out
    assert f"b.csv is a link to {tmp_path / 'elsewhere.csv'}, outside of the folder" in told
    assert "c.csv is a link" not in told
    (folder / "d.csv").symlink_to("gone.csv")
    told = kerfmark("measure", "in", code=2).err
    assert "d.csv: this is a link to a file that is not there" in told and "gone.csv" in told


def test_warnings_of_libraries_never_reach_the_user(write: Write, tmp_path: Path) -> None:
    write("v.csv", "no,mood\n1,calm\n2,wild\n")
    code = (
        "import sys, warnings\nimport kerfmark.read.open as o\nfound = o.format_of\n"
        "def noisy(path):\n    warnings.warn('an old way', DeprecationWarning, 2)\n"
        "    warnings.warn('look out')\n    return found(path)\n"
        "o.format_of = noisy\nfrom kerfmark.cli.main import main\n"
        "sys.exit(main(['measure', 'v.csv']))"
    )
    done = subprocess.run(
        [sys.executable, "-c", code], cwd=tmp_path, capture_output=True, text=True, check=False
    )
    assert done.returncode == 0 and done.stderr == "" and "mood" in done.stdout


@pytest.mark.parametrize("ending", [".xlsx", ".parquet", ".csv.gz", ".arrow", ".db"])
def test_a_file_whose_name_lacks_its_ending_is_read_once_it_has_it(
    kerfmark: Runner, tmp_path: Path, ending: str
) -> None:
    """The remedy is followed."""
    path = tmp_path / f"visits{ending}"
    table = pa.table({"no": [1, 2, 3], "mood": ["calm", "wild", "calm"]})
    if ending == ".parquet":
        pq.write_table(table, path)
    elif ending == ".arrow":
        with pa.ipc.new_file(path, table.schema) as writer:
            writer.write_table(table)
    elif ending == ".csv.gz":
        path.write_bytes(gzip.compress(b"no,mood\n1,calm\n2,wild\n3,calm\n"))
    else:
        (tmp_path / "v.csv").write_text("no,mood\n1,calm\n2,wild\n3,calm\n")
        kerfmark("cut", "v.csv", "--into", "made.db")
        if ending == ".db":
            (tmp_path / "made.db").rename(path)
        else:
            kerfmark("export", "made.db", "v", "-o", path.name)
    path.rename(tmp_path / "bare")
    told = kerfmark("measure", "bare", code=2).err
    asked = re.search(r"next: let its name end in (.*)\n", told)
    assert asked is not None, told
    assert ending.removeprefix(".csv") in asked[1]
    (tmp_path / "bare").rename(path)
    assert "mood" in kerfmark("measure", path.name).out
    (tmp_path / "PAR.csv").write_text("PAR1,PAR2\n1,2\n3,4\n")
    assert "PAR2" in kerfmark("measure", "PAR.csv").out


def test_bytes_that_no_encoding_has_are_told(tmp_path: Path, kerfmark: Runner) -> None:
    """Mostly UTF-8, with a byte that the nearest other encoding has no letter for either."""
    text = "".join(f"{n},Br\u00e4u {n},\u00df\n" for n in range(30)).encode()
    for broken in (b"Br\xc3\xc5u", b"\xff\xfe\x81", b"\x8e\xa1\x80"):
        (tmp_path / "v.csv").write_bytes(b"no,kind,mark\n1," + broken + b",x\n" + text)
        told = kerfmark("measure", "v.csv").out
        assert "is not UTF-8 text (row 2)" in told
