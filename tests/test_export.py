"""Taking data out again: every form, on every engine, and back."""

from __future__ import annotations

import csv
import datetime as dt
import io
import json
import os
import random
import signal
import sqlite3
import subprocess
import sys
from collections.abc import Callable
from decimal import Decimal
from pathlib import Path

import pyarrow.parquet as pq
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from python_calamine import CalamineWorkbook

import kerfmark as library
from conftest import DEMO, Runner, hears_interrupts
from engines import Target
from kerfmark.errors import UsageError

Write = Callable[..., Path]
CLUB = (
    "keeper;joined;fee;active;seen;at;note\n"
    'Ada;01.02.2024;1234,50;yes;2024-02-01 08:30:00;08:30;"says ""go"""\n'
    "Bo;15.02.2024;0,05;no;2024-02-15 23:59:59;23:59;=1+1\n"
    'Cy;29.02.2024;-12,00;yes;2024-02-29 00:00:00;00:00;"two\nlines"\n'
    "Di;01.03.2024;7,10;no;2024-03-01 12:00:00;12:00;\n"
    "Éli;31.12.2024;88,88;yes;2024-12-31 06:07:08;06:07;007\n"
)


@pytest.fixture
def bees(db: Target, visits: Path, kerfmark: Runner) -> Target:
    """A database of visits, hives, apiaries and keepers."""
    kerfmark("cut", "visits.csv", "--into", db)
    return db


def structure(path: Path) -> dict[str, object]:
    """Tables of an SQLite file with their rows, columns, links and unique sets."""
    out: dict[str, object] = {}
    db = sqlite3.connect(path)
    for (name,) in db.execute(
        "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'kerfmark%' "
        "AND name NOT LIKE 'sqlite%'"
    ).fetchall():
        columns = db.execute(f'PRAGMA table_info("{name}")').fetchall()
        ordered = ", ".join(f'"{c[1]}"' for c in sorted(columns, key=lambda c: c[1]))
        indexes = sorted(
            (i[2], tuple(c[2] for c in db.execute(f'PRAGMA index_info("{i[1]}")')))
            for i in db.execute(f'PRAGMA index_list("{name}")').fetchall()
        )
        out[name] = (
            sorted(db.execute(f'SELECT {ordered} FROM "{name}"').fetchall(), key=repr),
            sorted(c[1:] for c in columns),
            sorted(f[2:5] for f in db.execute(f'PRAGMA foreign_key_list("{name}")')),
            indexes,
        )
    db.close()
    return out


def test_a_folder_of_csv_is_cut_into_the_same_tables_again(
    bees: Target, kerfmark: Runner, tmp_path: Path
) -> None:
    result = kerfmark("export", bees, "-o", "tables", "--json").json
    assert [w["table"] for w in result["written"]].index("apiary") < [
        w["table"] for w in result["written"]
    ].index("hive")
    assert {w["table"]: w["rows"] for w in result["written"]} == {
        "visit": 240,
        "hive": 24,
        "apiary": 6,
        "keeper": 9,
    }
    metadata = json.loads((tmp_path / "tables/csv-metadata.json").read_text())
    hive = next(t for t in metadata["tables"] if t["url"] == "hive.csv")["tableSchema"]
    assert metadata["@context"] == "http://www.w3.org/ns/csvw" and hive["primaryKey"] == ["hive_id"]
    assert hive["foreignKeys"] == [
        {
            "columnReference": ["apiary_id"],
            "reference": {"resource": "apiary.csv", "columnReference": ["apiary_id"]},
        }
    ]
    told = kerfmark("cut", "tables", "--into", "again.db").out
    assert "types, keys and links: as the metadata beside the files declare them" in told
    kerfmark("prove", "again.db")
    kerfmark("cut", "visits.csv", "--into", "first.db")
    assert structure(tmp_path / "again.db") == structure(tmp_path / "first.db")
    before = db_without_loads(bees)
    kerfmark("cut", "tables", "--into", bees, "--replace")  # and on the engine itself
    assert db_without_loads(bees) == before
    bees.do("INSERT INTO keeper (keeper, phone) VALUES ('Zoe', '1')")
    assert bees.ask("SELECT keeper_id FROM keeper WHERE keeper = 'Zoe'") == [10]


def db_without_loads(db: Target) -> dict[str, object]:
    """All rows of all tables."""
    return {k: v for k, v in db.dump().items() if k != "loads"}


def test_keys_with_gaps_keep_their_numbers(kerfmark: Runner, visits: Path, tmp_path: Path) -> None:
    kerfmark("cut", "visits.csv", "--into", "v.db")
    with sqlite3.connect(tmp_path / "v.db") as v:
        v.execute("DELETE FROM visit WHERE visit_id % 7 = 0")
    kerfmark("export", "v.db", "-o", "tables")
    kerfmark("cut", "tables", "--into", "again.db")
    assert [
        r[0]
        for r in sqlite3.connect(tmp_path / "again.db").execute(
            "SELECT visit_id FROM visit ORDER BY 1"
        )
    ] == [n for n in range(1, 241) if n % 7]


def test_tables_without_rows_come_back(kerfmark: Runner, visits: Path, tmp_path: Path) -> None:
    kerfmark("cut", "visits.csv", "--into", "v.db")
    with sqlite3.connect(tmp_path / "v.db") as v:
        v.execute("DELETE FROM visit")
    kerfmark("export", "v.db", "-o", "tables")
    kerfmark("cut", "tables", "--into", "again.db")
    again = sqlite3.connect(tmp_path / "again.db")
    assert again.execute("SELECT count(*) FROM visit").fetchone() == (0,)
    assert again.execute("SELECT count(*) FROM hive").fetchone() == (24,)


def test_metadata_that_does_not_fit_is_told(kerfmark: Runner, visits: Path, tmp_path: Path) -> None:
    kerfmark("cut", "visits.csv", "--into", "v.db")
    kerfmark("export", "v.db", "keeper", "hive", "apiary", "-o", "tables")
    keeper = tmp_path / "tables/keeper.csv"
    keeper.write_text(keeper.read_text().replace("phone", "number"))
    told = kerfmark("cut", "tables", "--into", "again.db", code=2).err
    assert "other columns than its metadata declares" in told and "csv-metadata.json" in told
    keeper.write_text(keeper.read_text().replace("number", "phone"))
    hive = tmp_path / "tables/hive.csv"
    hive.write_text(hive.read_text().replace("1,1,", "1,99,", 1))
    told = kerfmark("cut", "tables", "--into", "again.db", code=1).err
    assert 'hive.csv, row 2, column "apiary_id": "99" was not found in apiary' in told
    (tmp_path / "tables/more.csv").write_text(
        "a,b\n1,2\n"
    )  # not declared: then nothing is taken as declared
    assert "more" in kerfmark("mark", "tables", "--json").out


def test_metadata_of_other_programs_are_understood(
    kerfmark: Runner, write: Write, tmp_path: Path
) -> None:
    write("places.csv", "Code;Opened on;Area\nP1;03/04/2025;1.5\nP2;05/06/2025;\n")
    write(
        "places.csv-metadata.json",
        json.dumps(
            {
                "@context": ["http://www.w3.org/ns/csvw", {"@language": "en"}],
                "url": "places.csv",
                "dialect": {"delimiter": ";"},
                "dc:title": "Places",
                "tableSchema": {
                    "primaryKey": "code",
                    "aboutUrl": "http://example.org/{code}",
                    "columns": [
                        {"name": "code", "titles": {"en": ["Code", "Id"]}, "required": True},
                        {
                            "name": "opened",
                            "titles": ["Opened on"],
                            "datatype": {"base": "date", "format": "dd/MM/yyyy"},
                        },
                        {"name": "area", "titles": "Area", "datatype": "double"},
                    ],
                },
            }
        ),
    )
    kerfmark("cut", "places.csv", "--into", "p.db")
    with sqlite3.connect(tmp_path / "p.db") as p:
        assert p.execute(
            'SELECT "Code", "Opened on", "Area" FROM places ORDER BY 1'
        ).fetchall() == [("P1", "2025-04-03", 1.5), ("P2", "2025-06-05", None)]
        assert [c[1] for c in p.execute("PRAGMA table_info(places)") if c[5]] == ["Code"]
    kerfmark("prove", "p.db")


def test_a_key_that_does_not_count_on_is_refused(
    kerfmark: Runner, visits: Path, tmp_path: Path, write: Write
) -> None:
    kerfmark("cut", "visits.csv", "--into", "v.db")
    kerfmark("export", "v.db", "keeper", "-o", "tables")
    kerfmark("cut", "tables", "--into", "again.db")
    write("keeper.csv", "keeper_id,keeper,phone\n10,Zoe,0555 1\n")
    kerfmark("add", "keeper.csv", "--into", "again.db")
    write("keeper.csv", "keeper_id,keeper,phone\n20,Yan,0555 2\n")
    told = kerfmark("add", "keeper.csv", "--into", "again.db", code=1).err
    assert "is not 11, the next number" in told
    assert sqlite3.connect(tmp_path / "again.db").execute(
        "SELECT max(keeper_id), count(*) FROM keeper"
    ).fetchone() == (10, 10)


@pytest.mark.parametrize("db", ["SQLite", "PostgreSQL", "MariaDB"], indirect=True)
def test_a_source_comes_back_cell_for_cell(
    db: Target, kerfmark: Runner, write: Write, tmp_path: Path
) -> None:
    write("club.csv", CLUB.encode("cp1252"))
    kerfmark("mark", "club.csv", "-o", "club.layout.toml", "--one-table")
    layout = tmp_path / "club.layout.toml"
    kerfmark("cut", layout, "--into", db)
    told = kerfmark("export", db, "--flat", "club", "-o", "back.csv").err
    assert "cells that begin like a formula: 1" in told
    assert list(
        csv.reader(
            (tmp_path / "back.csv").read_text("cp1252").splitlines(keepends=True), delimiter=";"
        )
    ) == list(csv.reader(CLUB.splitlines(keepends=True), delimiter=";"))
    kerfmark(
        "export",
        db,
        "--flat",
        "club",
        "-o",
        "safe.csv",
        "--formulas",
        "harmless",
        "--encoding",
        "utf-8",
        "--delimiter",
        "|",
    )
    assert "|'=1+1\n" in (tmp_path / "safe.csv").read_text()


def test_what_does_not_come_back_is_told(kerfmark: Runner, write: Write, tmp_path: Path) -> None:
    rows = "".join(f"{i},H{i % 3},{'n/a' if i == 4 else i}.5,x\n" for i in range(1, 9))
    write("v.csv", "no,hive,kg,left\n" + rows.replace("n/a.5", "n/a"))
    kerfmark("mark", "v.csv", "-o", "v.toml", "--leave-out", "left", "--one-table")
    kerfmark("cut", "v.toml", "--into", "v.db")
    write("w.csv", "no,hive,kg,left\n8,H2,8.5,x\n9,H0,9.5,x\n")
    kerfmark("add", "w.csv", "--into", "v.db", "--known", "keep")
    told = kerfmark("export", "v.db", "--flat", "v", "-o", "back.csv").err
    assert (
        "left out by the layout, so not in this file: left" in told
        and "cells with n/a are blank" in told
    )
    assert "rows that repeat existing records are not in this file: 1" in told
    assert (tmp_path / "back.csv").read_text().splitlines()[3:5] == ["3,H0,3.5", "4,H1,"]
    assert len((tmp_path / "back.csv").read_text().splitlines()) == 10


@pytest.mark.parametrize("quoting", [csv.QUOTE_MINIMAL, csv.QUOTE_ALL, csv.QUOTE_NONNUMERIC])
@pytest.mark.parametrize("line_end", ["\n", "\r\n", "\r"])
@pytest.mark.parametrize(
    ("encoding", "delimiter", "ended"),
    [
        ("utf-8", ",", False),
        ("utf-8-sig", ";", True),
        ("utf-16", "\t", True),
        ("cp1252", "|", False),
    ],
)
def test_a_file_comes_back_with_its_line_ends_quotes_and_mark(
    kerfmark: Runner,
    write: Write,
    tmp_path: Path,
    quoting: int,
    line_end: str,
    encoding: str,
    delimiter: str,
    ended: bool,
) -> None:
    text = io.StringIO()
    writer = csv.writer(text, delimiter=delimiter, quoting=quoting, lineterminator=line_end)  # type: ignore[arg-type]
    writer.writerow(["no", "hive", "note"])
    for n in range(40):
        note = ['a "b" c', "x" + delimiter, "Bräu", "two" + line_end + "lines", "plain"][n % 5]
        writer.writerow([n, f"H{n % 7}", "" if n == 9 else note])
    whole = text.getvalue() if ended else text.getvalue().removesuffix(line_end)
    write("visits.csv", whole.encode(encoding))
    kerfmark("cut", "visits.csv", "--into", "a.db")
    told = kerfmark("export", "a.db", "--flat", "visits", "-o", "back.csv").out
    assert (tmp_path / "back.csv").read_bytes() == whole.encode(encoding)
    assert "the same bytes as visits.csv" in told
    again = ["--flat", "visits", "-o", f"again{'.tsv' if delimiter == chr(9) else '.csv'}"]
    told = kerfmark("export", "a.db", *again, "--delimiter", delimiter).out
    assert "the same bytes as visits.csv" in told  # the delimiter that it had is said


def test_what_differs_is_told_where_a_file_does_not_come_back_to_the_byte(
    kerfmark: Runner, write: Write, tmp_path: Path
) -> None:
    write("v.csv", 'no,hive\n1,"H1"\n2,H2\n3,H1\n')
    kerfmark("cut", "v.csv", "--into", "v.db")
    told = kerfmark("export", "v.db", "--flat", "v", "-o", "back.csv").err
    assert "not the same bytes as v.csv: line 2 is '1,\"H1\"\\n' there, and '1,H1\\n' here" in told
    (tmp_path / "v.csv").unlink()
    told = kerfmark("export", "v.db", "--flat", "v", "-o", "back.csv", "--replace").err
    assert "not the same bytes as v.csv, which had 25 where these are 23" in told


def test_the_demo_s_file_comes_back_to_the_byte(kerfmark: Runner, tmp_path: Path) -> None:
    kerfmark("cut", DEMO / "inspections-2025.csv", "--into", "a.db")
    kerfmark("export", "a.db", "--flat", "inspections", "-o", "back.csv")
    assert (tmp_path / "back.csv").read_bytes() == (DEMO / "inspections-2025.csv").read_bytes()
    told = kerfmark("export", "a.db", "--flat", "register", "-o", "x.csv", code=2).err
    assert "its sources are inspections" in told


def test_every_sheet_comes_back_without_records_that_others_only_name(
    db: Target, kerfmark: Runner, write: Write, tmp_path: Path
) -> None:
    write("apiaries.csv", "apiary,grid\nField 1,XK1\nField 2,XK2\n")
    write("hives.csv", "hive,apiary\nH1,Field 1\nH2,Field 3\nH3,Field 2\n")
    kerfmark("mark", "apiaries.csv", "hives.csv", "-o", "l.toml", "--link", "apiary=apiary")
    kerfmark("cut", "l.toml", "--into", db)
    assert db.ask("SELECT count(*) FROM apiary") == [3]
    kerfmark("export", db, "--flat", "apiaries", "-o", "back.csv")
    assert (tmp_path / "back.csv").read_text() == (tmp_path / "apiaries.csv").read_text()
    kerfmark("export", db, "--flat", "hives", "-o", "h.csv")
    assert (tmp_path / "h.csv").read_text() == (tmp_path / "hives.csv").read_text()


def test_text_of_fixed_width_comes_back(kerfmark: Runner, write: Write, tmp_path: Path) -> None:
    text = "hive  kind  kg\n" + "".join(
        f"H{i:03}  {'wood' if i % 2 else 'straw':<6}{i}\n" for i in range(1, 9)
    )
    write("hives.txt", text)
    kerfmark("cut", "hives.txt", "--into", "h.db")
    kerfmark("export", "h.db", "--flat", "hives", "-o", "back.txt")
    assert (tmp_path / "back.txt").read_text() == text
    with sqlite3.connect(tmp_path / "h.db") as db:
        db.execute("UPDATE hive SET kind = 'wickerwork' WHERE kind = 'straw'")
    told = kerfmark("export", "h.db", "--flat", "hives", "-o", "wide.txt", code=1).err
    assert "a cell of 10 characters does not fit into a column of 6" in told and "kind" in told
    assert not (tmp_path / "wide.txt").exists() and "use --delimiter to write" in told
    kerfmark("export", "h.db", "--flat", "hives", "-o", "wide.txt", "--delimiter", ";")
    assert "wickerwork" in (tmp_path / "wide.txt").read_text()


def test_children_are_nested(bees: Target, kerfmark: Runner, tmp_path: Path) -> None:
    kerfmark("export", bees, "apiary", "--nested", "-o", "a.jsonl")
    records = [json.loads(line) for line in (tmp_path / "a.jsonl").read_text().splitlines()]
    assert [r["apiary_id"] for r in records] == [1, 2, 3, 4, 5, 6]
    assert all(h["apiary_id"] == r["apiary_id"] for r in records for h in r["hive"])
    assert all(v["hive_id"] == h["hive_id"] for r in records for h in r["hive"] for v in h["visit"])
    visits = sorted(
        (v["visit_id"], v["kg"]) for r in records for h in r["hive"] for v in h["visit"]
    )
    assert visits == sorted(bees.ask("SELECT visit_id, kg FROM visit"))
    assert [
        w["table"]
        for w in kerfmark(
            "export", bees, "--nested", "-o", "tops", "--as", "json-lines", "--json"
        ).json["written"]
    ] == ["apiary", "keeper"]
    plain = kerfmark("export", bees, "hive", "-o", "h.jsonl").out
    assert (
        "hive (24 rows)" in plain
        and json.loads((tmp_path / "h.jsonl").read_text().splitlines()[4])["hive_id"] == 5
    )


def test_a_workbook_with_links(
    bees: Target, kerfmark: Runner, write: Write, tmp_path: Path
) -> None:
    kerfmark("export", bees, "-o", "all.xlsx")
    book = CalamineWorkbook.from_path(tmp_path / "all.xlsx")
    assert set(book.sheet_names) == {"visit", "hive", "apiary", "keeper"}
    visit = book.get_sheet_by_name("visit").to_python()
    day = visit[0].index("day")
    assert all(type(r[day]) is dt.date for r in visit[1:]) and len(visit) == 241
    assert [int(r[visit[0].index("hive_id")]) for r in visit[1:]] == [
        r[1] for r in sorted(bees.ask("SELECT visit_id, hive_id FROM visit"))
    ]
    import zipfile

    with zipfile.ZipFile(tmp_path / "all.xlsx") as z:
        sheet = next(
            z.read(n).decode()
            for n in z.namelist()
            if n.startswith("xl/worksheets/sheet") and b"'hive'!A" in z.read(n)
        )
    assert "ySplit" in sheet and sheet.count("<hyperlink ") == 480


def test_parquet_has_real_types(db: Target, kerfmark: Runner, write: Write, tmp_path: Path) -> None:
    write("club.csv", CLUB)
    kerfmark("mark", "club.csv", "-o", "club.layout.toml", "--one-table")
    kerfmark("cut", "club.layout.toml", "--into", db)
    kerfmark("export", db, "-o", "folder", "--as", "parquet")
    [file] = (tmp_path / "folder").iterdir()
    first = pq.read_table(file).to_pylist()[0]
    assert (
        first["fee"] == Decimal("1234.50")
        and first["joined"] == dt.date(2024, 2, 1)
        and first["active"] is True
    )
    assert (
        first["seen"] == dt.datetime(2024, 2, 1, 8, 30)
        and first["at"] == dt.time(8, 30)
        and first["note"] == 'says "go"'
    )


def test_a_script_makes_the_tables_anew(bees: Target, kerfmark: Runner, tmp_path: Path) -> None:
    kerfmark("export", bees, "-o", "all.sql", "--for", "sqlite")
    new = sqlite3.connect(tmp_path / "new.db")
    new.executescript((tmp_path / "all.sql").read_text())
    new.execute("PRAGMA foreign_key_check")
    assert new.execute("SELECT count(*) FROM visits_flat").fetchone() == (240,)
    kerfmark("cut", "visits.csv", "--into", "first.db")
    mine, first = structure(tmp_path / "new.db"), structure(tmp_path / "first.db")
    assert {n: (t[0], t[2], t[3]) for n, t in mine.items()} == {
        n: (t[0], t[2], t[3]) for n, t in first.items()
    }  # type: ignore[index]
    new.execute("INSERT INTO keeper (keeper, phone) VALUES ('Zoe', '1')")  # its keys count on
    assert "needs an engine" in kerfmark("export", bees, "-o", "x.sql", code=2).err


@pytest.mark.parametrize("engine", ["postgresql", "mariadb"])
def test_a_script_for_a_server_runs_there(
    engine: str, kerfmark: Runner, visits: Path, tmp_path: Path
) -> None:
    from engines import target

    kerfmark("cut", "visits.csv", "--into", "v.db")
    with sqlite3.connect(tmp_path / "v.db") as v:
        v.execute("DELETE FROM visit WHERE visit_id < 5")
    kerfmark("export", "v.db", "-o", "all.sql", "--for", engine)
    with target({"postgresql": "PostgreSQL", "mariadb": "MariaDB"}[engine], tmp_path) as there:
        if engine == "postgresql":
            name = there.url.split("schema=")[1]
            subprocess.run(
                [
                    "psql",
                    "-q",
                    "-v",
                    "ON_ERROR_STOP=1",
                    "-h",
                    "127.0.0.1",
                    "-U",
                    "postgres",
                    "test",
                    "-c",
                    f"CREATE SCHEMA {name}; SET search_path TO {name}",
                    "-f",
                    str(tmp_path / "all.sql"),
                ],
                check=True,
            )
        else:
            with (tmp_path / "all.sql").open() as script:
                subprocess.run(
                    ["mariadb", "-h", "127.0.0.1", "-u", "root", there.url.rsplit("/", 1)[1]],
                    stdin=script,
                    check=True,
                )
        assert there.ask("SELECT count(*), min(visit_id), max(visit_id) FROM visit") == [
            (236, 5, 240)
        ]
        assert there.ask("SELECT count(*) FROM visits_flat") == [236]
        there.do(
            "INSERT INTO visit (visit_no, day, hive_id, keeper_id, kg) VALUES (999, '2025-01-01', "
            "1, 1, 2.5)"
        )
        assert there.ask("SELECT max(visit_id) FROM visit") == [241]


def test_cells_that_would_run_are_made_harmless_and_come_back(
    kerfmark: Runner, write: Write, tmp_path: Path
) -> None:
    notes = ["=1+1", "+x", "-y", "@z", "'=w", "-5", "plain", "\ttab"]
    write("n.csv", "no,note\n" + "".join(f'{i},"{n}"\n' for i, n in enumerate(notes, 1)))
    kerfmark("cut", "n.csv", "--into", "n.db")
    stored = [
        r[0] for r in sqlite3.connect(tmp_path / "n.db").execute("SELECT note FROM n ORDER BY no")
    ]
    told = kerfmark("export", "n.db", "-o", "safe").err
    assert "6 cells begin like a formula" in told
    cells = {r["no"]: r["note"] for r in csv.DictReader((tmp_path / "safe/n.csv").open())}
    assert (
        cells["1"] == "'=1+1"
        and cells["5"] == "''=w"
        and cells["6"] == "-5"
        and cells["7"] == "plain"
    )
    kerfmark("cut", "safe", "--into", "again.db")
    assert [
        r[0]
        for r in sqlite3.connect(tmp_path / "again.db").execute("SELECT note FROM n ORDER BY no")
    ] == stored
    kerfmark("prove", "again.db")
    kerfmark("export", "n.db", "-o", "bare", "--formulas", "as-they-are")
    assert "=1+1" in [r["note"] for r in csv.DictReader((tmp_path / "bare/n.csv").open())]


def test_what_is_no_value_of_its_column_is_not_lost(
    kerfmark: Runner, visits: Path, tmp_path: Path
) -> None:
    kerfmark("cut", "visits.csv", "--into", "v.db")
    with sqlite3.connect(tmp_path / "v.db") as v:
        v.execute("UPDATE visit SET day = 'soon', kg = 1.2345 WHERE visit_id = 3")
        v.execute("UPDATE visit SET visit_no = 'third' WHERE visit_id = 3")
    for target in ("t.csv", "t.jsonl", "t.parquet", "t.xlsx"):
        told = kerfmark("export", "v.db", "visit", "-o", target).err
        assert (
            "visit.day is declared as date, but holds something else: it is written as text" in told
        )
        assert (
            "visit.kg is declared as decimal, but holds something else: it is written as real"
            in told
        )
    row = list(csv.DictReader((tmp_path / "t.csv").open()))[2]
    assert (row["day"], row["kg"], row["visit_no"]) == ("soon", "1.2345", "third")
    assert pq.read_table(tmp_path / "t.parquet").to_pylist()[2]["day"] == "soon"


def test_somebody_else_s_tables_are_taken_out_too(
    db: Target, kerfmark: Runner, tmp_path: Path
) -> None:
    if not db.is_file and db.engine == "PostgreSQL":
        db.do(f"CREATE SCHEMA {db.url.split('schema=')[1]}")
    blob = {"SQLite": "BLOB", "PostgreSQL": "bytea", "MariaDB": "BLOB"}[db.engine]
    text = "varchar(20)" if db.engine == "MariaDB" else "text"
    db.do(
        f"CREATE TABLE site (code {text} NOT NULL PRIMARY KEY, seal {blob}, area DECIMAL(20,3))",
        f"CREATE TABLE box (site {text} NOT NULL REFERENCES site (code), nr INTEGER NOT NULL, ok "
        "BOOLEAN, "
        "PRIMARY KEY (site, nr))",
    )
    if db.engine == "MariaDB":
        db.do("ALTER TABLE box ADD FOREIGN KEY (site) REFERENCES site (code)")
    hexed = "'\\x00ff'" if db.engine == "PostgreSQL" else "x'00ff'"
    true = "true" if db.engine == "PostgreSQL" else "1"
    db.do(
        f"INSERT INTO site VALUES ('S1', {hexed}, 12.5)",
        f"INSERT INTO box VALUES ('S1', 2, {true}), ('S1', 1, NULL)",
    )
    kerfmark("export", db, "-o", "out")
    assert (tmp_path / "out/site.csv").read_text().lower() == "code,seal,area\ns1,00ff,12.500\n"
    assert (tmp_path / "out/box.csv").read_text() == "site,nr,ok\nS1,1,\nS1,2,true\n"
    kerfmark("cut", "out", "--into", "again.db")
    again = sqlite3.connect(tmp_path / "again.db")
    assert again.execute("SELECT site, nr, ok FROM box ORDER BY nr").fetchall() == [
        ("S1", 1, None),
        ("S1", 2, 1),
    ]
    assert (
        "does not know what they were"
        in kerfmark("export", db, "--flat", "site", "-o", "x.csv", code=2).err
    )


def test_a_view_can_be_named(bees: Target, kerfmark: Runner, tmp_path: Path) -> None:
    kerfmark("export", bees, "visits_flat", "-o", "v.csv")
    rows = list(csv.DictReader((tmp_path / "v.csv").open()))
    assert len(rows) == 240 and {r["apiary"] for r in rows} == {f"Field {i}" for i in range(6)}


@pytest.mark.parametrize("db", ["PostgreSQL", "MariaDB"], indirect=True)
def test_what_has_no_type_of_ours_is_text(db: Target, kerfmark: Runner, tmp_path: Path) -> None:
    if db.engine == "PostgreSQL":
        db.do(
            f"CREATE SCHEMA {db.url.split('schema=')[1]}",
            "CREATE TABLE t (n integer PRIMARY KEY, at timestamp(3), note text)",
            "INSERT INTO t SELECT i, timestamp '2025-01-01 10:00:00.125' + i * interval '1 hour', "
            "repeat('x', 40) "
            "FROM generate_series(1, 200000) AS i",
        )
    else:
        db.do(
            "CREATE TABLE t (n integer PRIMARY KEY, at datetime(3), note varchar(99))",
            "INSERT INTO t SELECT seq, timestamp '2025-01-01 10:00:00.125' + interval seq hour, "
            "repeat('x', 40) "
            "FROM seq_1_to_200000",
        )
    told = kerfmark("export", db, "-o", "out").err
    assert "t.at is declared as timestamp, but holds something else: it is written as text" in told
    lines = (tmp_path / "out/t.csv").read_text().splitlines()
    assert len(lines) == 200_001 and lines[1] == "1,2025-01-01 11:00:00.125," + "x" * 40


def test_names_that_nobody_should_give_come_back(kerfmark: Runner, tmp_path: Path) -> None:
    with sqlite3.connect(tmp_path / "o.db") as odd:
        odd.execute('CREATE TABLE "a b#1" ("_key, x" TEXT NOT NULL PRIMARY KEY, "ü-~ %41" TEXT)')
        odd.execute(
            'CREATE TABLE "sel""ect" ("nr:" TEXT NOT NULL PRIMARY KEY, "order" TEXT REFERENCES "a '
            'b#1" ("_key, x"))'
        )
        odd.executemany('INSERT INTO "a b#1" VALUES (?, ?)', [("k1", "v,1"), ("k2", None)])
        odd.executemany('INSERT INTO "sel""ect" VALUES (?, ?)', [("n1", "k2"), ("n2", None)])
    kerfmark("export", "o.db", "-o", "out")
    assert {p.name for p in (tmp_path / "out").iterdir()} == {
        "a b#1.csv",
        "sel_ect.csv",
        "csv-metadata.json",
    }
    told = json.loads((tmp_path / "out/csv-metadata.json").read_text())["tables"][0]
    assert (
        told["url"] == "a%20b%231.csv"
        and told["tableSchema"]["columns"][1]["name"] == "%C3%BC%2D%7E%20%2541"
    )
    kerfmark("cut", "out", "--into", "again.db")
    again = sqlite3.connect(tmp_path / "again.db")
    assert again.execute(
        'SELECT s."nr:", a."ü-~ %41", a."_key, x" FROM sel_ect s LEFT JOIN "a b#1" a ON a."_key, '
        'x" = s."order" '
        "ORDER BY 1"
    ).fetchall() == [("n1", None, "k2"), ("n2", None, None)]
    assert again.execute('PRAGMA foreign_key_list("sel_ect")').fetchone()[2:5] == (
        "a b#1",
        "order",
        "_key, x",
    )


def test_nothing_is_overwritten_or_half_done(
    kerfmark: Runner, visits: Path, tmp_path: Path
) -> None:
    kerfmark("cut", "visits.csv", "--into", "v.db")
    (tmp_path / "mine").mkdir()
    (tmp_path / "mine/letter.txt").write_text("dear")
    assert "not empty" in kerfmark("export", "v.db", "-o", "mine", code=2).err
    kerfmark("export", "v.db", "-o", "mine", "--replace")
    assert (tmp_path / "mine/letter.txt").read_text() == "dear" and (
        tmp_path / "mine/hive.csv"
    ).exists()
    assert (
        "takes one table, and these are 4" in kerfmark("export", "v.db", "-o", "x.csv", code=2).err
    )
    assert "does not say what to write" in kerfmark("export", "v.db", "-o", "x.docx", code=2).err
    assert 'no table "hives"' in kerfmark("export", "v.db", "hives", "-o", "x.csv", code=2).err
    assert (
        "folder for it does not exist" in kerfmark("export", "v.db", "-o", "no/where", code=2).err
    )
    assert (
        'no encoding "asci"'
        in kerfmark("export", "v.db", "keeper", "--encoding", "asci", "-o", "k.csv", code=2).err
    )
    told = kerfmark("export", "v.db", "keeper", "--encoding", "ascii", "-o", "k.csv").err
    assert told == ""
    kerfmark("export", "v.db", "keeper", "-o", "k.tsv")
    assert (tmp_path / "k.tsv").read_text().startswith("keeper_id\tkeeper\tphone\n1\t")
    with sqlite3.connect(tmp_path / "v.db") as v:
        v.execute("UPDATE keeper SET keeper = 'Éli' WHERE keeper_id = 4")
    told = kerfmark("export", "v.db", "keeper", "--encoding", "ascii", "-o", "k2.csv", code=1).err
    assert (
        '"É" cannot be written in ascii' in told and "row 4" in told and "--encoding utf-8" in told
    )
    with sqlite3.connect(tmp_path / "v.db") as v:
        v.execute("UPDATE keeper SET keeper = ? WHERE keeper_id = 4", ("x" * 40_000,))
    told = kerfmark("export", "v.db", "-o", "k.xlsx", code=1).err
    assert 'keeper, row 4, column "keeper"' in told
    names = {p.name for p in tmp_path.iterdir()}
    assert (
        "k2.csv" not in names
        and "k.xlsx" not in names
        and not [n for n in names if n.endswith(".part")]
    )


@pytest.mark.skipif(os.name != "posix", reason="signals are sent in another way there")
def test_interrupted_it_leaves_nothing(tmp_path: Path) -> None:
    db = sqlite3.connect(tmp_path / "big.db")
    db.execute("CREATE TABLE big (n INTEGER PRIMARY KEY, t TEXT)")
    db.executemany("INSERT INTO big (t) VALUES (?)", (("x" * 20,) for _ in range(150_000)))
    db.commit()
    run = subprocess.Popen(
        [sys.executable, "-m", "kerfmark", "export", "big.db", "-o", "big.xlsx", "--verbose"],
        cwd=tmp_path,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        preexec_fn=hears_interrupts,
    )
    assert run.stderr is not None and "exporting big" in run.stderr.readline()
    run.send_signal(signal.SIGINT)
    _, told = run.communicate(timeout=60)
    assert run.returncode == 130 and "interrupted; nothing was written" in told
    assert sorted(p.name for p in tmp_path.iterdir()) == ["big.db"]


def cells(draw: st.DrawFn, kind: str, rows: int) -> list[str]:
    """The cells of a column."""
    character = st.characters(codec="utf-8", exclude_characters="\x00\x1f\r")
    text = st.text(character, min_size=1, max_size=8).map(str.strip).filter(bool)
    one = {
        "text": text,
        "integer": st.integers(-(10**12), 10**12).map(str),
        "decimal": st.integers(-(10**6), 10**6).map(lambda n: f"{n / 100:.2f}"),
        "date": st.dates(dt.date(1800, 1, 1), dt.date(2200, 1, 1)).map(dt.date.isoformat),
        "code": st.integers(0, 99).map(lambda n: f"{n:04}"),
    }[kind]
    stock = draw(st.lists(one, min_size=1, max_size=rows))
    blank = draw(st.sampled_from([0, 0, 0.3]))
    chance = random.Random(draw(st.integers(0, 10**6)))
    return ["" if chance.random() < blank else chance.choice(stock) for _ in range(rows)]


@st.composite
def flat_files(draw: st.DrawFn) -> list[list[str]]:
    """A flat file with a key, cells of every kind, and columns that another one decides."""
    rows = draw(st.integers(3, 40))
    kinds = draw(
        st.lists(
            st.sampled_from(["text", "integer", "decimal", "date", "code"]), min_size=1, max_size=4
        )
    )
    columns = [[f"c{i} {k}", *cells(draw, k, rows)] for i, k in enumerate(kinds)]
    place = draw(st.lists(st.integers(0, 3), min_size=rows, max_size=rows))
    columns += [["place", *(f"P{p}" for p in place)], ["district", *(f"D{p % 2}" for p in place)]]
    return [list(r) for r in zip(["no", *map(str, range(1, rows + 1))], *columns, strict=True)]


@settings(max_examples=40, deadline=None, suppress_health_check=list(HealthCheck))
@given(rows=flat_files())
def test_out_and_in_again_is_the_same(
    rows: list[list[str]], tmp_path_factory: pytest.TempPathFactory
) -> None:
    folder = tmp_path_factory.mktemp("round")
    with (folder / "f.csv").open("w", newline="", encoding="utf-8") as file:
        csv.writer(file, lineterminator="\n").writerows(rows)
    library.cut([folder / "f.csv"], folder / "first.db")
    library.export(folder / "first.db", folder / "tables")
    library.cut([folder / "tables"], folder / "again.db")
    assert structure(folder / "again.db") == structure(folder / "first.db")
    blanks = {
        b
        for b in library.export(folder / "first.db", folder / "back.csv", flat="f").remarks
        if "blank" in b
    }
    back = list(csv.reader((folder / "back.csv").open(newline="", encoding="utf-8")))
    assert back == rows or blanks


def test_the_library_says_no_in_the_same_words(tmp_path: Path) -> None:
    sqlite3.connect(tmp_path / "e.db").execute("CREATE TABLE x (a)")
    with pytest.raises(UsageError, match="does not say what to write"):
        library.export(tmp_path / "e.db", tmp_path / "x.docx")
