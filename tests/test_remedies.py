"""Every remedy is tried: a mistake is made, the message says what to do about it, that is done just
as it is printed, and then the command succeeds."""

from __future__ import annotations

import shutil
import sqlite3
import zipfile
from pathlib import Path

import openpyxl
import pytest

import kerfmark as library

VISITS = "no,day,hive,kind,kg,keeper\n" + "".join(
    f"{n},2025-0{n % 9 + 1}-1{n % 7},H{n % 5},{'straw' if n % 5 % 2 else 'long'},{n % 6}.5,Ada {n % 4}\n"
    for n in range(1, 41)
)
LAYOUT = (
    'kerfmark = 1\n[sources.visits]\nfile = "visits.csv"\n[tables.visit]\neach_row = true\n'
    'links = ["hive"]\n[tables.visit.columns]\nno = {header = "no", type = "integer"}\n'
    'day = {header = "day", type = "date YYYY-MM-DD"}\nkg = {header = "kg", type = "decimal(5,1)"}\n'
    'keeper = "keeper"\n[tables.hive]\nknown_by = ["hive"]\ncolumns = ["hive", "kind"]\n'
)


def later(*rows: str, header: str = "no,day,hive,kind,kg,keeper") -> str:
    """The text of a later file."""
    return "\n".join([header, *rows]) + "\n"


GOOD = "90,2026-01-01,H1,straw,2.5,Ada 1"


@pytest.fixture(scope="module")
def prepared(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """What each test has a copy of."""
    path = tmp_path_factory.mktemp("prepared")
    for name, text in {
        "visits.csv": VISITS,
        "l.toml": LAYOUT,
        "good.csv": later(GOOD),
        "renamed.csv": later(GOOD, header="no,day,hive,kind,kg,Keepers"),
        "quite.csv": later(GOOD, header="no,day,hive,kind,kg,Seen by"),
        "new.csv": later(f"{GOOD},sun", header="no,day,hive,kind,kg,keeper,weather"),
        "lacks.csv": later("90,2026-01-01,H1,straw,2.5", header="no,day,hive,kind,kg"),
        "headless.csv": GOOD + "\n" + GOOD.replace("90", "91") + "\n",
        "other.csv": "queen,marked\nQ1,yes\nQ2,no\nQ3,yes\n",
        "wide.csv": later(GOOD.replace("2.5", "123456.5")),
        "again.csv": later("3,2025-04-13,H3,straw,3.5,Ada 3", GOOD),
        "swapped.csv": later(GOOD.replace("2026-01-01", "03/04/2026")),
        "ragged.csv": VISITS + "made by hand\n",
        "quoted.csv": "a;b\n1;2\n3;4\n",
        "latin.csv": "name;town\nJosé;Ávila\nAna;León\n",
        "two.csv": "a,b\n1,2\n",
        "plain": "a file\n",
        "named.txt": "a,b\n1,2\n",
        "sub/inner.csv": "a,b\n1,2\n3,4\n",
        "sub/other.csv": "c,d,e\n1,2,3\n3,4,5\n",
        "j.csv": 'id,parts\n1,"[{""n"":1}]"\n2,"[{""n"":2}]"\n',
        "tree.csv": "code,name\n1,a\n1.1,b\n2,c\n",
    }.items():
        (path / name).parent.mkdir(exist_ok=True)
        (path / name).write_text(text)
    (path / "latin.csv").write_bytes((path / "latin.csv").read_text().encode("cp1252"))
    with zipfile.ZipFile(path / "two.zip", "w") as packed:
        packed.writestr("a.csv", "a,b\n1,2\n")
        packed.writestr("c.csv", "c,d,e\n1,2,3\n")
    book = openpyxl.Workbook()
    book.active.append(["a", "b"])
    book.active.append([1, 2])
    book.save(path / "book.xlsx")
    shutil.copy(path / "book.xlsx", path / "book")
    library.cut([path / "l.toml"], path / "v.db")
    library.cut([path / "visits.csv"], path / "twice.db")
    library.add([path / "good.csv"], path / "twice.db")
    with sqlite3.connect(path / "club.db") as db:
        db.executescript(
            "CREATE TABLE hive (id INTEGER PRIMARY KEY, hive TEXT NOT NULL UNIQUE, kind TEXT);"
            "CREATE TABLE bare (a INTEGER); INSERT INTO bare VALUES (1);"
        )
    return path


@pytest.fixture
def folder(prepared: Path, tmp_path: Path) -> Path:
    """Files, most of them wrong in one way."""
    shutil.copytree(prepared, tmp_path, dirs_exist_ok=True)
    return tmp_path


PASTED = [
    # a command, and what it says to put behind it, or to run before it is run again
    ("add renamed.csv --into v.db", "--learn"),
    ("add quite.csv --into v.db", '--means "Seen by=keeper"'),
    ("add new.csv --into v.db", '--leave-out "weather"'),
    ("add lacks.csv --into v.db", '--lacking "keeper"'),
    ("add headless.csv --into v.db", '--columns "no,day,hive,kind,kg,keeper"'),
    ("add other.csv --into v.db", "$ kerfmark cut other.csv --into v.db --beside"),
    ("add swapped.csv --into v.db", '--dates "DD/MM/YYYY"'),
    ("add visits.csv --into v.db", "--again --known keep"),
    ("add again.csv --into twice.db", "--known keep"),
    ("add wide.csv --into v.db", "--widen"),
    ("add good.csv --into v.db --as visit", "visits"),
    ("cut l.toml --into v.db", "--replace"),
    ("cut visits.csv --into twice.db --replace", "--discard"),
    ("cut visits.csv --into v.db --replace", "--discard"),
    ("cut visits.csv --as-script l.toml --for oracle", "--replace"),
    ("cut visits.csv --into nowhere/x.db", "make the folder nowhere"),
    ("mark visits.csv -o nowhere/x.toml", "make the folder nowhere"),
    ("cut visits.csv --into sub", "sub/data.db"),
    ("cut visits.csv --into n.db --put day=hive", "--beside"),
    ("mark visits.csv --together hiv,kind", 'did you mean "hive"?'),
    ("mark visits.csv --type Dai=text", "COLUMN=day"),
    ("mark visits.csv --table-name hiv=colony", 'did you mean "hive"?'),
    ("mark visits.csv --optional hive --known-by hive", 'leave --optional "hive" out'),
    ("mark tree.csv --tree name", "leave --tree out"),
    ("check", "kerfmark mark FILES -o LAYOUT"),
    ("show v.db hiv", "hive"),
    ("show v.db visit --where hiv=1", "hive_id"),
    ("show v.db visit 999", "visit_id"),
    ("export v.db -o out.csv", "name one of them"),
    ("export v.db -o out.sql", "--for oracle"),
    ("export v.db -o l.toml", "let its name end in"),
    ("export v.db -o sub", "--replace"),
    ("export v.db visit -o x.csv --nested", "--as json-lines"),
    ("export v.db visit -o visits.csv", "--replace"),
    ("export v.db --flat visit -o x.csv", "visits"),
    ("undo twice.db 1", "--through"),
    ("drop twice.db", "--discard"),
    ("measure ragged.csv", "--skip-rows notes"),
    ("measure latin.csv --encoding utf-8", "--encoding"),
    ("measure book", ".xlsx"),
    ("measure sub", ""),
    ("measure two.zip --member b.csv", "a.csv"),
    ("measure book.xlsx --sheet Nothing", "Sheet"),
    ("measure visits.csv --header-row 0", "--no-header"),
    ("measure visits.csv --first-rows 0", "say how many"),
    ("measure j.csv --json-cells part", "id, parts"),
    ("measure club.db", "--table"),
    ("mark visits.csv --onto v.db", "$ kerfmark add visits.csv --into v.db --again --known keep"),
    ("recut v.db nothing.toml", "kerfmark show"),
]
