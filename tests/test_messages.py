"""Messages that no other test provokes: each is told as it should be, with the exit code, and leaves
the folder as it was."""

from __future__ import annotations

import json
import shlex
import shutil
import sqlite3
import sys
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import openpyxl
import pyarrow as pa
import pyarrow.parquet as pq
import pytest

import kerfmark as library
from conftest import Runner
from engines import Target
from kerfmark.ledger.account import FileAccount
from kerfmark.read import delimited, json_records
from kerfmark.read import open as opening
from kerfmark.store import script
from kerfmark.store.server import Numbered
from kerfmark.store.sqlite import new as sqlite_new
from kerfmark.verbs import cut as cut_verb
from kerfmark.verbs import export_rows
from kerfmark.write import workbook
from kerfmark.write.delimited import DelimitedFile

VISITS = "no,hive,place,kg\n1,H1,Weir,4.5\n2,H2,Fen,7\n3,H1,Weir,1.25\n4,H3,Fen,2\n5,H2,Fen,3\n6,H3,Fen,9\n"


@pytest.fixture
def folder(prepared: Path, tmp_path: Path) -> Path:
    """Files of many kinds, most of them wrong in one way, and a database of the right one."""
    shutil.copytree(prepared, tmp_path, dirs_exist_ok=True)
    return tmp_path


@pytest.fixture(scope="module")
def prepared(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """What each test has a copy of."""
    tmp_path = tmp_path_factory.mktemp("prepared")
    (tmp_path / "visits.csv").write_text(VISITS)
    (tmp_path / "more.csv").write_text(
        VISITS.replace("kg", "grams").replace("\n", ",x\n").replace("s,x", "s,new", 1)
    )
    (tmp_path / "new.csv").write_text(
        VISITS.replace("kg", "kg,new").replace("\n", ",x\n").replace("new,x", "new")
    )
    (tmp_path / "other.csv").write_text("keeper,phone\nAnn,0555 1\nBo,0555 2\n")
    (tmp_path / "a-1.csv").write_text("a,b\n1,2\n3,4\n")
    (tmp_path / "a-2.csv").write_text("a,c\n1,2\n3,4\n")
    (tmp_path / "sub").mkdir()
    (tmp_path / "nul.csv").write_bytes(b"a,b\n1,\x00\n2,3\n")
    (tmp_path / "bell.csv").write_bytes(b"a,b\n1,\xff\x01\x02\n2,3\n")
    (tmp_path / "stand-in.csv").write_bytes(b"a||b\n1||\x1f\n2||3\n")
    (tmp_path / "empty.json").write_text(" ")
    (tmp_path / "none.json").write_text("[]")
    (tmp_path / "lists.json").write_text(json.dumps([{"a": 1, "b": [{"c": 2}]}]))
    pq.write_table(pa.table({"a": pa.array([], pa.int64())}), tmp_path / "none.parquet")
    zipfile.ZipFile(tmp_path / "none.zip", "w").close()
    with zipfile.ZipFile(tmp_path / "two.zip", "w") as packed:
        packed.writestr("a.csv", "a,b\n1,2\n")
    sqlite3.connect(tmp_path / "none.sqlite").execute("VACUUM").connection.close()
    with sqlite3.connect(tmp_path / "bare.sqlite") as db:
        db.execute("CREATE TABLE bare (a INTEGER)")
        db.execute("CREATE TABLE two (a INTEGER, b INTEGER, PRIMARY KEY (a, b))")
    book = openpyxl.Workbook()
    book.active.title = "Empty"
    book.save(tmp_path / "none.xlsx")
    book.active.append(["a", "b"])
    book.create_sheet("Other").append(["c", "d"])
    both = openpyxl.workbook.defined_name.DefinedName(
        "both", attr_text="Empty!$A$1:$A$2,Empty!$B$1:$B$2"
    )
    book.defined_names["both"] = both
    book.save(tmp_path / "head.xlsx")
    library.cut([tmp_path / "visits.csv"], tmp_path / "v.db")
    library.cut([tmp_path / "other.csv"], tmp_path / "o.db")
    (tmp_path / "o.layout.toml").unlink()
    (tmp_path / "plain").write_text("")
    (tmp_path / "sub.toml").mkdir()
    (tmp_path / "torn.db").write_bytes(b"SQLite format 3\x00" + bytes(range(256)) * 9)
    return tmp_path


CASES = [
    # files
    ("measure sub", 2, "no file in this folder can be read"),
    ("measure *.nothing", 2, "no file fits this pattern"),
    ("measure nul.csv", 2, "NUL bytes (the first at byte 7)"),
    ("measure bell.csv", 2, "are control characters"),
    ("measure stand-in.csv --delimiter ||", 2, "holds the control character 0x1F"),
    ("measure empty.json", 2, "the file is empty"),
    ("measure none.json", 2, "no r"),
    ("measure none.parquet", 2, "there are no rows in it"),
    ("measure none.zip", 2, "the archive is empty"),
    ("measure none.sqlite", 2, "no tables"),
    ("measure bare.sqlite --table bare", 2, "there are no rows in it"),
    ("measure oddbase://host/x", 2, "this kind of database is not supported"),
    ("measure none.xlsx", 2, "no sheet of the workbook holds anything"),
    ("measure head.xlsx --sheet Empty", 2, "there are no rows in it"),
    ("measure head.xlsx --sheet Empty --cells Other!A1:B2", 2, 'does not lie on the sheet "Empty"'),
    ("measure head.xlsx --cells both", 2, "is not one range of cells"),
    ("measure visits.csv --skip-rows two", 2, '"two" is not a row number'),
    ("cut visits.csv l.toml --into x.db", 2, "name one layout, or plain files, not both"),
    # places to write to
    ("cut visits.csv --into sub", 2, "this is a folder"),
    ("cut visits.csv --into nowhere/x.db", 2, "the folder for the database does not exist"),
    ("cut visits.csv --into v.db", 2, "the database exists already"),
    (
        "cut visits.csv --as-script nowhere/x.sql --for oracle",
        2,
        "the script cannot be written there",
    ),
    ("cut visits.csv --as-script x.sql --for dbase", 2, 'there are no scripts for "dbase"'),
    ("cut visits.csv --into mysql://", 2, "does not name a database"),
    ("cut visits.csv --into mysql://host:port/x", 2, "this is not the URL of a database"),
    ("cut visits.csv --into x.db --schema mine", 2, "an SQLite file has no schemas"),
    (
        "cut v.layout.toml --into x.db --delimiter ;",
        2,
        "kerfmark mark v.layout.toml takes --type and the like and writes them",
    ),
    ("mark visits.csv -o nowhere/x.toml", 2, "the folder for the layout does not exist"),
    ("measure visits.csv --report nowhere/x.html", 2, "the folder for the file does not exist"),
    ("add other.csv --into v.db --backup visits.csv", 2, "the file for the copy exists already"),
    ("demo visits.csv", 2, "this is a file, not a folder"),
    # options that do not go together
    ("check", 2, "name a layout"),
    ("mark visits.csv --onto bare.sqlite --put Weather", 2, '"Weather" is not HEADER=TABLE'),
    ("mark visits.csv --onto none.sqlite", 2, "the database has no tables"),
    ("mark visits.csv --together hive,nothing", 2, 'no source has a column "nothing"'),
    ("add more.csv --into v.db --put grams", 2, '"grams" is not HEADER=TABLE'),
    ("draw v.db -o x.mmd --before-after", 2, "these forms show tables only"),
    ("show bare.sqlite two 1", 2, "the key of two is a, b"),
    # taking out again
    ("export none.sqlite -o x", 2, "there are no tables to export"),
    ("export v.db -o x.parquet --as csv", 2, '"x.parquet" is not csv'),
    ("export v.db visit -o x.csv --nested", 2, "only records of JSON Lines hold their children"),
    ("export v.db visit -o x.parquet --delimiter ;", 2, "only text files have a delimiter"),
    (
        "export v.db visit -o x.csv --delimiter '\"'",
        2,
        "quotes and line ends cannot separate cells",
    ),
    (
        "export v.db visit -o x.csv --flat visits",
        2,
        "name tables, or a source with --flat, not both",
    ),
    ("export v.db -o x.sql --for oracle --flat visits", 2, "a script makes tables"),
    ("export v.db visit -o sub --replace --as dbase", 2, "invalid choice"),
    ("export v.db visit -o nowhere/x.csv", 2, "the folder for"),
    ("export v.db -o visits.csv", 2, "the file exists already"),
    ("add new.csv --into v.db --put new=nothing", 2, 'a column of visits cannot go to "nothing"'),
    ("export v.db -o plain --as csv", 2, "this is a file, not a folder"),
    ("demo visits.csv/x", 2, "the demo cannot be written there"),
    (f"cut visits.csv --into {'v' * 250}.db", 2, "the system does not allow this file"),
    (f"cut visits.csv --as-script {'v' * 300}.sql --for oracle", 2, "File name too long"),
    (f"measure {'v' * 300}.csv", 2, "File name too long"),
    ("check sub.toml", 2, "the layout cannot be read"),
    ("show torn.db", 2, "this is not an SQLite database"),
    ("add --into v.db", 2, "the following arguments are required"),
]


@pytest.mark.parametrize(("command", "code", "told"), CASES)
def test_what_cannot_be_is_told(
    folder: Path, kerfmark: Runner, command: str, code: int, told: str
) -> None:
    before = {p.name: p.read_bytes() for p in folder.iterdir() if p.is_file()}
    err = kerfmark(*shlex.split(command), code=code).err
    assert told in err
    assert {p.name: p.read_bytes() for p in folder.iterdir() if p.is_file()} == before


VISIT = (
    'kerfmark = 1\n[sources.v]\nfile = "{file}"{more}\n[tables.visit]\neach_row = true\nknown_by = ["{key}"]\n'
    "columns = {{ {columns} }}\n"
)


def laid(folder: Path, file: str, columns: str, more: str = "") -> Path:
    """A layout of one table with plain columns."""
    names = columns.split()
    text = VISIT.format(
        file=file, more=more, key=names[0], columns=", ".join(f'{n} = "{n}"' for n in names)
    )
    (folder / "l.toml").write_text(text)
    return folder / "l.toml"


def cut(folder: Path, what: Path | str, **how: Any) -> None:
    library.cut([what if isinstance(what, Path) else folder / what], folder / "x.db", **how)


def twice(call: Callable[..., Any]) -> Callable[..., Any]:
    """A function that is carried out twice, as when a table has grown meanwhile."""
    return lambda *given: (call(*given), call(*given))


def fails(error: BaseException) -> Callable[..., Any]:
    """A function that raises."""

    def call(*_: Any, **__: Any) -> Any:
        raise error

    return call


def trigger(folder: Path) -> None:
    """A database that takes away what was put into it."""
    with sqlite3.connect(folder / "v.db") as db:
        db.execute(
            "CREATE TRIGGER gone AFTER INSERT ON visit BEGIN DELETE FROM visit WHERE no = NEW.no; END"
        )
    (folder / "late.csv").write_text(
        VISITS.replace("\n1,", "\n11,").splitlines()[0] + "\n11,H1,Weir,1\n"
    )
    library.add([folder / "late.csv"], folder / "v.db")


def missing_table(folder: Path) -> None:
    with sqlite3.connect(folder / "v.db") as db:
        db.execute("PRAGMA foreign_keys = off")
        db.execute("ALTER TABLE visit RENAME TO gone")
    library.add([folder / "visits.csv"], folder / "v.db", again=True)


def changed_file_that_others_need(folder: Path) -> None:
    """Somebody's own row refers to a record that only the changed file made."""
    (folder / "w.csv").write_text("no,kg\n1,2\n2,3\n")
    library.cut([folder / "w.csv"], folder / "w.db")
    (folder / "w.csv").write_text("no,kg\n1,2\n")
    with sqlite3.connect(folder / "w.db") as db:
        db.execute("CREATE TABLE mine (w INTEGER REFERENCES w (w_id))")
        db.execute("INSERT INTO mine VALUES (2)")
    library.refresh(folder / "w.db")


def cell_with_a_delimiter(folder: Path) -> None:
    """Somebody has put the delimiter into a cell of a source that knows no quotes."""
    (folder / "bar.csv").write_text("a|b\n1,5|2\n2|3\n")
    cut(folder, laid(folder, "bar.csv", "a b", '\ndelimiter = "|"\nquote = ""'))
    with sqlite3.connect(folder / "x.db") as db:
        db.execute("UPDATE visit SET a = '1|5' WHERE b = '2'")
    library.export(folder / "x.db", folder / "out.csv", flat="v")


def rows_of_others_refer_to_what_was_filled(folder: Path) -> None:
    with sqlite3.connect(folder / "club.db") as db:
        db.execute("CREATE TABLE hive (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE)")
        db.execute("CREATE TABLE note (hive_id INTEGER REFERENCES hive (id))")
    (folder / "hive.csv").write_text("name\nH1\nH2\n")
    library.mark_onto([folder / "hive.csv"], folder / "club.db", folder / "hive.toml")
    library.cut([folder / "hive.toml"], folder / "club.db")
    with sqlite3.connect(folder / "club.db") as db:
        db.execute("INSERT INTO note VALUES (2)")
    library.drop(folder / "club.db")


def rooms(folder: Path) -> None:
    """A key of two columns, one of which is to stay with the rows."""
    of = [(b, n, n * ord(b) % 17) for b in "ABCDE" for n in range(1, 7)]
    lines = [f"{i},{b},{n},{size},{i * 5 % 28}" for i, (b, n, size) in enumerate(of * 10)]
    (folder / "rooms.csv").write_text("no,building,room,size,day\n" + "\n".join(lines))
    steering = library.Steering(together=(("room", "day"),))
    library.mark([folder / "rooms.csv"], steering=steering)


FAULTS: dict[str, tuple[Callable[[Path], object], dict[str, tuple[object, str, object]]]] = {
    "goes on for more than": (
        lambda f: library.measure(
            [(f / "q.csv", (f / "q.csv").write_text('a,b\n"' + "x\n" * 999))[0]]
        ),
        {"longest": (delimited, "LONGEST_RECORD", 100), "block": (delimited, "BLOCK", 64)},
    ),
    "a record goes on": (
        lambda f: library.measure(
            [(f / "q.json", (f / "q.json").write_text('[{"a": "' + "x" * 999))[0]]
        ),
        {"longest": (json_records, "LONGEST_RECORD", 100), "block": (json_records, "BLOCK", 64)},
    ),
    "cannot be cut into fields": (
        lambda f: library.measure([f / "visits.csv"]),
        {"reader": (delimited.pv, "read_csv", fails(pa.ArrowInvalid("out of step")))},
    ),
    "these are more than 1 sources": (
        lambda f: library.measure([f / "visits.csv", f / "other.csv"]),
        {"most": (opening, "MOST_SOURCES", 1)},
    ),
    "do not have the same columns": (
        lambda f: cut(
            f,
            laid(
                f,
                "",
                "a b",
                '\nparts = [{told = "1", file = "a-1.csv"}, {told = "2", file = "a-2.csv"}]\n'
                'telling = "n"',
            ).read_text()
            and f / "l.toml",
        ),
        {},
    ),
    'the file has no member "b.csv"': (
        lambda f: cut(f, laid(f, "two.zip", "a b", '\nmember = "b.csv"')),
        {},
    ),
    "the file has no list": (lambda f: cut(f, laid(f, "lists.json", "a", '\nmember = "z"')), {}),
    "no sheet fits": (
        lambda f: cut(f, laid(f, "head.xlsx", "a b", '\nsheet = "20*"\ntelling = "n"')),
        {},
    ),
    "this is a folder, not a file": (lambda f: cut(f, laid(f, "sub", "a b")), {}),
    "name at least one file": (lambda f: library.add([], f / "v.db"), {}),
    "nothing was kept": (lambda f: trigger(f), {}),
    "is no longer there": (missing_table, {}),
    "cannot be loaded anew": (changed_file_that_others_need, {}),
    "the account of a source does not balance": (
        lambda f: cut(f, "visits.csv"),
        {"says": (cut_verb, "first_provenance", lambda load, tables: [])},
    ),
    "the account of a file does not balance": (
        lambda f: (append(f), library.add([f / "late.csv"], f / "v.db")),
        {"says": (FileAccount, "balances", False)},
    ),
    "is not what it should be": (
        lambda f: cut(f, "visits.csv"),
        {"links": (sqlite_new, "broken_links", lambda ask, table: ["hive_id"])},
    ),
    "the database cannot be written there": (
        lambda f: cut(f, "visits.csv"),
        {"connect": (sqlite_new.sqlite3, "connect", fails(OSError(13, "no")))},
    ),
    "another program made it meanwhile": (
        lambda f: cut(f, "visits.csv"),
        {
            "verify": (
                sqlite_new.NewFile,
                "verify",
                lambda new, expected: new.target.write_text("mine"),
            )
        },
    ),
    "the disk is full": (
        lambda f: library.export(f / "v.db", f / "out.csv", ["visit"]),
        {"write": (DelimitedFile, "put", fails(OSError(28, "No space left on device")))},
    ),
    "and a sheet takes 3": (
        lambda f: library.export(f / "v.db", f / "out.xlsx", ["visit"]),
        {"most": (workbook, "MOST_ROWS", 3)},
    ),
    "a sheet takes 6 rows": (
        lambda f: library.export(f / "v.db", f / "out.xlsx", ["visit"]),
        {
            "most": (workbook, "MOST_ROWS", 6),
            "grown": (workbook.Sheet, "put", twice(workbook.Sheet.put)),
        },
    ),
    "a value that does not have the type of its column": (
        lambda f: library.export(f / "v.db", f / "out.csv", ["visit"]),
        {"cast": (export_rows, "cast_batch", fails(OSError("a cell of another type")))},
    ),
    "cannot be written without quotes": (cell_with_a_delimiter, {}),
    "these columns cannot share a table": (rooms, {}),
    "the rows that were loaded cannot be deleted": (rows_of_others_refer_to_what_was_filled, {}),
    "the script cannot be written there": (
        lambda f: library.cut(
            [laid(f, "visits.csv", "no hive place kg")], script=f / "x.sql", engine="oracle"
        ),
        {"part": (script, "part_path", lambda path: path.with_name("x" * 300))},
    ),
    "the database cannot be written": (
        lambda f: cut(f, "visits.csv"),
        {"name": (sqlite_new, "_rename_new", fails(OSError(30, "Read-only file system")))},
    ),
    "the driver for PostgreSQL is not installed": (
        lambda f: library.show("postgresql://127.0.0.1/x"),
        {"driver": (sys.modules, "psycopg", None)},
    ),
    "the driver for MySQL and MariaDB is not installed": (
        lambda f: library.show("mysql://127.0.0.1/x"),
        {"driver": (sys.modules, "pymysql", None)},
    ),
}


Call = Callable[[Path], object]
AFTERWARDS: dict[str, Call] = {
    "goes on for more than": lambda f: library.measure(
        [f / "q.csv"], reading=library.Reading(quote="")
    ),
    "a record goes on": lambda f: library.measure(
        [(f / "q.json", (f / "q.json").write_text('[{"a": "x"}]'))[0]]
    ),
    "these are more than 1 sources": lambda f: (
        library.cut([f / "visits.csv"], f / "x.db"),
        library.add([(f / "late.csv", append(f))[0]], f / "x.db"),
    ),
    "the database cannot be written there": lambda f: library.cut(
        [f / "visits.csv"], f / "sub" / "y.db"
    ),
    "another program made it meanwhile": lambda f: library.cut([f / "visits.csv"], f / "z.db"),
    "the disk is full": lambda f: library.export(f / "v.db", f / "out.csv", ["visit"]),
    "and a sheet takes 3": lambda f: library.export(f / "v.db", f / "out"),
    "a sheet takes 6 rows": lambda f: library.export(f / "v.db", f / "out", form="parquet"),
    "cannot be written without quotes": lambda f: library.export(
        f / "x.db", f / "out.csv", flat="v", spelled=library.Spelled(delimiter=";")
    ),
    "the script cannot be written there": lambda f: library.cut(
        [f / "l.toml"], script=f / "sub" / "x.sql", engine="oracle"
    ),
    "the database cannot be written": lambda f: library.cut([f / "visits.csv"], f / "sub" / "y.db"),
}
"""What a message says to do next, done once the fault is over."""
STILL_THERE = {"these are more than 1 sources", "and a sheet takes 3", "a sheet takes 6 rows"}
"""Limits that hold while it is done."""


def append(folder: Path) -> None:
    (folder / "late.csv").write_text(VISITS.splitlines()[0] + "\n11,H1,Weir,1\n")


@pytest.mark.parametrize("told", FAULTS)
def test_faults_and_limits_are_told(
    folder: Path, monkeypatch: pytest.MonkeyPatch, told: str
) -> None:
    call, patches = FAULTS[told]
    for owner, name, value in patches.values():
        if isinstance(owner, dict):
            monkeypatch.setitem(owner, name, value)
        else:
            monkeypatch.setattr(owner, name, value)
    before = (folder / "v.db").read_bytes()
    with pytest.raises(library.KerfmarkError) as caught:
        call(folder)
    assert told in str(caught.value)
    assert not (folder / "x.db").exists() or told in (
        "cannot be written without quotes",
        "another program made it meanwhile",
    )
    assert (folder / "v.db").read_bytes() == before or told in (
        "nothing was kept",
        "is no longer there",
    )
    if told in AFTERWARDS:
        assert caught.value.next
        if told not in STILL_THERE:
            monkeypatch.undo()
        AFTERWARDS[told](folder)


def test_a_database_that_is_not_what_it_should_be_is_not_kept(
    db: Target, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    (tmp_path / "visits.csv").write_text(VISITS)
    monkeypatch.setattr(Numbered, "nearly_all", lambda reader, expected: ["visit: too few rows"])
    monkeypatch.setattr(sqlite_new, "broken_links", lambda ask, table: ["hive_id"])
    with pytest.raises(library.KerfmarkError, match="is not what it should be"):
        library.cut(["visits.csv"], str(db))
    with pytest.raises(library.TargetError):
        library.loads(str(db))
