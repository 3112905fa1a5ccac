"""Sheets are poured into tables that somebody else made: six of them, with checks, a trigger,
defaults and a computed column."""

from __future__ import annotations

import shutil
import sqlite3
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pytest

from conftest import DEMO, Runner
from engines import Target
from kerfmark.layout.model import SourceSpec
from kerfmark.profile.columns import EncodedColumn
from kerfmark.profile.encode import EncodedSource
from kerfmark.profile.settle import settle
from kerfmark.profile.types import declared_type
from kerfmark.structure.mapping import onto
from kerfmark.structure.tables_there import ColumnThere, TableThere

Write = Callable[..., Path]
KEY = {
    "SQLite": "INTEGER PRIMARY KEY AUTOINCREMENT",
    "PostgreSQL": "integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY",
    "MariaDB": "int AUTO_INCREMENT PRIMARY KEY",
}
YEAR = {
    "SQLite": "INTEGER GENERATED ALWAYS AS (substr(seen_on, 1, 4)) VIRTUAL",
    "PostgreSQL": "integer GENERATED ALWAYS AS (extract(year FROM seen_on)::int) STORED",
    "MariaDB": "int AS (year(seen_on)) STORED",
}
TRIGGER = {
    "SQLite": [
        "CREATE TRIGGER many BEFORE INSERT ON visit WHEN NEW.frames > 20 BEGIN SELECT RAISE(ABORT, "
        "'too many frames'); END"
    ],
    "PostgreSQL": [
        "CREATE FUNCTION many() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF NEW.frames > 20 "
        "THEN RAISE EXCEPTION "
        "'too many frames'; END IF; RETURN NEW; END $$",
        "CREATE TRIGGER many BEFORE INSERT ON visit FOR EACH ROW EXECUTE FUNCTION many()",
    ],
    "MariaDB": [
        "CREATE TRIGGER many BEFORE INSERT ON visit FOR EACH ROW IF NEW.frames > 20 THEN SIGNAL "
        "SQLSTATE '45000' "
        "SET MESSAGE_TEXT = 'too many frames'; END IF"
    ],
}
SHEET = (
    "Visit no,Seen on,Hive,Hive kind,Apiary,Altitude m,District,Keeper,Keeper "
    "phone,Frames,Weather\n"
    "1,2025-03-01,H1,wood,Weir,120,North,Ada,0555 1,8,dry\n"
    "2,2025-03-02,H2,straw,Mill,80,South,Bo,0555 2,7,wet\n"
    "3,2025-03-03,H1,wood,Weir,120,North,Bo,0555 2,,dry\n"
)
FED = {
    "Visit no": "visit.visit_no",
    "Seen on": "visit.seen_on",
    "Hive": "hive.hive_no",
    "Hive kind": "hive.kind",
    "Apiary": "apiary.name",
    "Altitude m": "apiary.altitude",
    "District": "district.name",
    "Keeper": "keeper.full_name",
    "Keeper phone": "keeper.phone",
    "Frames": "visit.frames",
}


@pytest.fixture
def club(db: Target) -> Target:
    """The six tables, with one district, one keeper and one hive in them."""
    key = KEY[db.engine]
    if db.engine == "PostgreSQL":
        db.do(f"CREATE SCHEMA {db.url.split('=')[1]}")
    db.do(
        f"CREATE TABLE district (id {key}, name varchar(60) NOT NULL UNIQUE, inspector "
        "varchar(80))",
        f"CREATE TABLE apiary (id {key}, name varchar(60) NOT NULL UNIQUE, altitude integer CHECK "
        "(altitude < 1000), "
        "district_id integer NOT NULL, FOREIGN KEY (district_id) REFERENCES district (id))",
        "CREATE TABLE hive (hive_no varchar(10) PRIMARY KEY, kind varchar(40), apiary_id integer "
        "NOT NULL, "
        "FOREIGN KEY (apiary_id) REFERENCES apiary (id))",
        f"CREATE TABLE keeper (id {key}, full_name varchar(80) NOT NULL UNIQUE, phone varchar(30), "
        "joined timestamp DEFAULT CURRENT_TIMESTAMP, points integer NOT NULL DEFAULT 5)",
        f"CREATE TABLE visit (id {key}, visit_no integer NOT NULL UNIQUE, seen_on date NOT NULL, "
        "hive_no varchar(10) NOT NULL, "
        f"keeper_id integer NOT NULL, frames integer, seen_year {YEAR[db.engine]}, "
        "FOREIGN KEY (hive_no) REFERENCES hive (hive_no), FOREIGN KEY (keeper_id) REFERENCES "
        "keeper (id))",
        f"CREATE TABLE fee (id {key}, keeper_id integer NOT NULL, amount decimal(6,2) NOT NULL, "
        "FOREIGN KEY (keeper_id) REFERENCES keeper (id))",
        *TRIGGER[db.engine],
        "INSERT INTO district (name) VALUES ('Far'), ('North')",
        "INSERT INTO apiary (name, altitude, district_id) VALUES ('Weir', 120, 2)",
        "INSERT INTO hive VALUES ('H0', 'cork', 1)",
        "INSERT INTO keeper (full_name, phone, points) VALUES ('Ada', '0555 1', 9)",
    )
    return db


def test_a_flat_sheet_is_split_over_the_tables(
    club: Target, write: Write, kerfmark: Runner
) -> None:
    before = {
        t: club.ask(f"SELECT * FROM {t}")
        for t in ("district", "apiary", "hive", "keeper", "visit", "fee")
    }
    write("sheet.csv", SHEET)
    mark = ["mark", "sheet.csv", "--onto", club, "-o", "l.toml"]
    kerfmark(*mark)
    told = kerfmark("check", "l.toml", "--into", club, code=1).out
    assert '"South" is not a record of district' in told and "it is made then" in told
    mark += ["--replace", "--missing", "district=create"]
    said = kerfmark(*mark, "--json").json
    assert {f["header"]: f"{f['table']}.{f['column']}" for f in said["fed"]} == FED
    assert [u["header"] for u in said["unmapped"]] == ["Weather"] and said["required"] == []
    assert {f["sure"] for f in said["fed"]} == {"sure"}
    assert {t for t, how in said["missing"] if how == "create"} == {
        "district",
        "apiary",
        "hive",
        "keeper",
    }
    kerfmark("check", "l.toml")
    told = kerfmark("cut", "l.toml", "--into", club).out
    assert ["district", "1", "1"] in [line.split() for line in told.splitlines()]
    assert club.ask(
        "SELECT visit_no, seen_year, v.hive_no, a.name, d.name, full_name, points, frames FROM "
        "visit v "
        "JOIN hive h ON h.hive_no = v.hive_no JOIN apiary a ON a.id = h.apiary_id "
        "JOIN district d ON d.id = a.district_id JOIN keeper k ON k.id = keeper_id"
    ) == [
        (1, 2025, "H1", "Weir", "North", "Ada", 9, 8),
        (2, 2025, "H2", "Mill", "South", "Bo", 5, 7),
        (3, 2025, "H1", "Weir", "North", "Bo", 5, None),
    ]
    assert club.ask("SELECT count(*) FROM keeper WHERE joined IS NULL") == [0]
    assert kerfmark("prove", club, "--json").json["holds"]
    write("more.csv", SHEET.splitlines()[0] + "\n4,2025-04-01,H0,cork,Weir,120,North,Cy,,9,wet\n")
    kerfmark("add", "more.csv", "--into", club)
    said = club.ask(
        "SELECT hive_no, full_name FROM visit JOIN keeper ON keeper.id = keeper_id WHERE visit_no "
        "= 4"
    )
    assert said == [("H0", "Cy")]
    assert kerfmark("prove", club, "--json").json["holds"]
    assert (
        "came with load 1" in (told := kerfmark("trace", club, "hive", "H2").out)
        and "first in sheet.csv, row 3" in told
    )
    assert (
        "no script makes them"
        in kerfmark("cut", "l.toml", "--as-script", "x.sql", "--for", "sqlite", code=2).err
    )
    assert (
        "add just this, unless the database refuses it"
        in kerfmark("check", "l.toml", "more.csv").out
    )
    assert "knows" in kerfmark("cut", "l.toml", "--into", club, code=2).err
    before_that = club.dump()
    write("other.csv", "a,b\n1,2\n")  # what somebody else made is never replaced
    assert (
        "so they are not replaced"
        in kerfmark("cut", "other.csv", "--into", club, "--replace", code=2).err
    )
    assert club.dump() == before_that
    kerfmark("undo", club, 1, "--through")
    assert {t: club.ask(f"SELECT * FROM {t}") for t in before} == before


def test_another_layout_is_used_after_the_only_load_was_taken_back(
    club: Target, write: Write, kerfmark: Runner
) -> None:
    """The history stays; the views of sources that are no longer there do not."""
    tables = club.tables()
    write("sheet.csv", SHEET)
    kerfmark("mark", "sheet.csv", "--onto", club, "-o", "l.toml", "--missing", "district=create")
    kerfmark("cut", "l.toml", "--into", club)
    write("districts.csv", "District,Inspector\nEast,Eve\n")
    assert "undo" in kerfmark("mark", "districts.csv", "--onto", club, code=2).err
    kerfmark("undo", club)
    kerfmark("mark", "districts.csv", "--onto", club, "-o", "d.toml")
    before = club.dump()
    kerfmark("cut", "d.toml", "--into", club, "--rehearse")
    kerfmark("check", "d.toml", "--into", club)
    assert club.dump() == before
    kerfmark("cut", "d.toml", "--into", club)
    assert club.ask("SELECT inspector FROM district WHERE name = 'East'") == ["Eve"]
    assert kerfmark("prove", club, "--json").json["holds"]
    loads = kerfmark("loads", club, "--json").json["loads"]
    assert [bool(n["undone_at"]) for n in loads] == [True, False]
    write("more.csv", "District,Inspector\nWest,Wim\n")
    kerfmark("add", "more.csv", "--into", club)
    assert "sheet_flat" not in kerfmark("show", club).out
    kerfmark("undo", club, 2, "--through")
    kerfmark("drop", club, "--discard")
    assert club.tables() == tables and "flat" not in kerfmark("show", club).out


@pytest.mark.parametrize(
    ("changed", "why"),
    [("2,2025-03-02,H2,straw,Mill,8000,", "altitude"), ("3,2025-03-03,H1,wood", "frames")],
)
def test_what_the_database_refuses_is_told_with_its_row(
    club: Target, write: Write, kerfmark: Runner, changed: str, why: str
) -> None:
    bad = (
        SHEET.replace("2,2025-03-02,H2,straw,Mill,80,", changed)
        if why == "altitude"
        else SHEET.replace(",,dry", ",21,dry")
    )
    write("sheet.csv", SHEET)
    kerfmark("mark", "sheet.csv", "--onto", club, "-o", "l.toml", "--missing", "district=create")
    write("sheet.csv", bad)
    before, tables = club.ask("SELECT * FROM district"), club.tables()
    told = kerfmark("cut", "l.toml", "--into", club, code=1).err
    where = 'row 3, column "Altitude m": ' if why == "altitude" else 'row 4, column "Frames": '
    what = "apiary by the check" if why == "altitude" else "visit by the trigger many"
    assert f"sheet.csv, {where}the database refuses a record of {what}" in told
    assert why in told and "Traceback" not in told
    assert club.ask("SELECT * FROM district") == before and club.ask("SELECT * FROM visit") == []
    assert club.tables() == tables  # no ledger either
    write("sheet.csv", SHEET)
    kerfmark("cut", "l.toml", "--into", club)
    assert club.ask("SELECT count(*) FROM visit") == [3]


def test_columns_without_a_home_and_required_ones_without_a_source(
    club: Target, write: Write, kerfmark: Runner
) -> None:
    write("sheet.csv", SHEET)
    told = kerfmark("mark", "sheet.csv", "--onto", club, "--put", "Weather=nowhere", code=2).err
    assert '("Weather")' in told and "visit" in told
    assert (
        "--known-by is for tables that are to be made"
        in kerfmark("mark", "sheet.csv", "--onto", club, "--known-by", "Hive", code=2).err
    )
    put = ["--put", "Weather=visit", "--missing", "district=create"]
    told = kerfmark("mark", "sheet.csv", "--onto", club, *put, "-o", "l.toml").out
    assert "no column matches" not in told and "left alone: fee" in told
    kerfmark("cut", "l.toml", "--into", club)
    assert (
        club.ask("SELECT weather FROM visit") == ["dry", "wet", "dry"]
        and kerfmark("prove", club, "--json").json["holds"]
    )
    told = kerfmark("mark", "sheet.csv", "--put", "Weather=visit", code=2).err
    assert "name it with --onto" in told
    assert "knows these tables already" in kerfmark("mark", "sheet.csv", "--onto", club, code=2).err


def test_what_must_be_filled_and_is_not_is_told(
    club: Target, write: Write, kerfmark: Runner
) -> None:
    write("fees.csv", "Keeper,Phone\nAda,0555 1\n")
    told = kerfmark("mark", "fees.csv", "--onto", club, "--json").json
    assert sorted((f["header"], f["table"], f["column"]) for f in told["fed"]) == [
        ("Keeper", "keeper", "full_name"),
        ("Phone", "keeper", "phone"),
    ]
    write("visits.csv", "Visit no,Hive,Keeper\n1,H0,Ada\n")
    told = kerfmark("mark", "visits.csv", "--onto", club).out
    assert "visit.seen_on must be filled, and no column of the sources feeds it" in told
    write("strange.csv", "alpha,beta\nx,y\n")
    assert (
        "no table of the database fits these files"
        in kerfmark("mark", "strange.csv", "--onto", club, code=2).err
    )


def test_a_workbook_and_a_sheet_that_names_its_records(kerfmark: Runner, tmp_path: Path) -> None:
    for name in ("club.sql", "register.xlsx", "inspections-2025.csv"):
        shutil.copy(DEMO / name, tmp_path)
    with sqlite3.connect(tmp_path / "club.db") as db:
        db.executescript((tmp_path / "club.sql").read_text("utf-8"))
    said = kerfmark(
        "mark",
        "register.xlsx",
        "inspections-2025.csv",
        "--onto",
        "club.db",
        "-o",
        "c.toml",
        "--json",
    ).json
    assert ("hives", "Made on") in {(u["source"], u["header"]) for u in said["unmapped"]} and said[
        "required"
    ] == []
    text = (tmp_path / "c.toml").read_text("utf-8")
    assert '"apiary_id.district_id.name" = "District"' in text and "also_from" not in text
    assert (
        "is in the database already, as a record of keeper"
        in kerfmark("cut", "c.toml", "--into", "club.db", code=1).err
    )
    done = kerfmark("cut", "c.toml", "--into", "club.db", "--known", "keep", "--json").json
    assert {t["name"]: (t["added"], t["known"] + t["kept"]) for t in done["tables"]}[
        "inspection"
    ] == (1512, 0)
    assert kerfmark("prove", "club.db", "--json").json["holds"]
    with sqlite3.connect(tmp_path / "club.db") as db:
        assert db.execute(
            "SELECT count(*) FROM inspection JOIN hive USING (hive_no) JOIN apiary a ON a.id = "
            "apiary_id "
            "JOIN district d ON d.id = district_id JOIN keeper k ON k.id = keeper_id"
        ).fetchone() == (1512,)


def encoded(**columns: list[Any]) -> EncodedSource:
    out = []
    for header, cells in columns.items():
        one = pa.array(
            [None if c is None else str(c) for c in cells], pa.string()
        ).dictionary_encode()
        out.append(
            EncodedColumn(
                header.replace("_", " "),
                one.dictionary,
                one.indices.fill_null(-1).to_numpy(zero_copy_only=False).astype(np.int32),
            )
        )
    return EncodedSource(None, None, len(cells), out)  # type: ignore[arg-type]


def mapped(source: EncodedSource, *tables: TableThere) -> dict[str, tuple[str, str]]:
    done = onto(
        {"s": source},
        {"s": [settle(c).type for c in source.columns]},
        {"s": SourceSpec(file="s.csv")},
        tables,
    )
    return {f.header: (f"{f.table}.{f.column}", f.link) for f in done.fed}


def column(name: str, type_: str = "text", optional: bool = True, **more: Any) -> ColumnThere:
    return ColumnThere(name, declared_type(type_), optional, **more)


def test_a_table_that_leads_to_another_twice_is_found_by_the_names_of_the_links() -> None:
    person = TableThere(
        "person",
        (column("id", "int", filled=True), column("name", optional=False)),
        ("id",),
        (("name",),),
        {},
        0,
    )
    sale = TableThere(
        "sale",
        (
            column("id", "int", filled=True),
            column("buyer_id", "int"),
            column("seller_id", "int"),
            column("amount", "numeric(8,2)"),
        ),
        ("id",),
        (),
        {"buyer_id": "person", "seller_id": "person"},
        0,
    )
    assert mapped(
        encoded(Seller=["Ada", "Bo"], Buyer=["Cy", "Ada"], Amount=["1.50", "2.00"]), person, sale
    ) == {
        "Seller": ("person.name", "seller_id"),
        "Buyer": ("person.name", "buyer_id"),
        "Amount": ("sale.amount", ""),
    }


def test_values_that_are_there_outweigh_names_that_are_not_alike() -> None:
    place = TableThere(
        "place",
        (
            column("id", "int", filled=True),
            column("label", optional=False, values=frozenset({"Weir", "Mill", "Ford"})),
        ),
        ("id",),
        (("label",),),
        {},
        3,
    )
    visit = TableThere(
        "visit",
        (column("id", "int", filled=True), column("no", "int"), column("place_id", "int")),
        ("id",),
        (),
        {"place_id": "place"},
        0,
    )
    assert mapped(encoded(Visit=[1, 2, 3], Where=["Weir", "Ford", "Mill"]), place, visit) == {
        "Visit": ("visit.no", ""),
        "Where": ("place.label", ""),
    }


@pytest.mark.parametrize(
    ("declared", "ours"),
    [
        ("character varying(20)", "text(20)"),
        ("VARCHAR(5)", "text(5)"),
        ("longtext", "text"),
        ("bigint(20)", "integer"),
        ("tinyint(1)", "boolean"),
        ("numeric(8,2)", "decimal(8,2)"),
        ("DECIMAL(9)", "integer"),
        ("double precision", "real"),
        ("timestamp without time zone", "timestamp"),
        ("date", "date"),
        ("time without time zone", "time"),
        ("", "text"),
    ],
)
def test_the_engines_types_in_our_words(declared: str, ours: str) -> None:
    assert str(declared_type(declared)) == ours
