"""Every remedy is tried: a mistake is made, the message says what to do about it, that is done just
as it is printed, and then the command succeeds."""

from __future__ import annotations

import contextlib
import gzip
import os
import shlex
import shutil
import sqlite3
import zipfile
from pathlib import Path

import openpyxl
import pytest

import kerfmark as library
from conftest import Runner
from engines import Target
from pairs import Program

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


def two_sources(other: str) -> str:
    """The layout with another source."""
    text = LAYOUT.replace("[tables.visit]", other + '[tables.visit]\nsource = "visits"')
    return text.replace("[tables.hive]", '[tables.hive]\nsource = "visits"')


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
        "wrong.toml": LAYOUT.replace("each_row", "each_rwo"),
        "newer.toml": LAYOUT.replace("kerfmark = 1", "kerfmark = 9"),
        "bare.toml": LAYOUT.replace("kerfmark = 1", ""),
        "gone.toml": LAYOUT.replace('keeper = "keeper"', 'keeper = "Gone"\nown = "keeper"'),
        "less.toml": LAYOUT.replace('keeper = "keeper"\n', ""),
        "e.layout.toml": LAYOUT.replace('keeper = "keeper"', 'warden = "keeper"'),
        "parts.toml": 'kerfmark = 1\n[sources.p]\nfile = "sub/*.csv"\ntelling = "part"\n[tables.p]\neach_row = true\ncolumns = ["part", "a", "b"]\n',
        "sheets.toml": 'kerfmark = 1\n[sources.p]\nfile = "book.xlsx"\nsheet = "Q*"\ntelling = "part"\n[tables.p]\neach_row = true\ncolumns = ["part", "a", "b"]\n',
        "torn.zip": "PK\x03\x04 and no more",
        "torn.gz": "\x1f and no more",
        "unclosed.csv": 'a,b\n1,"x\n2,y\n3,z\n',
        "behind.csv": 'a,b\n"x"y,1\n"z",2\n',
        "empty.csv": "a,b\n",
        "scalar.json": "[1, 2]",
        "torn.json": '[{"a": 1}, {"a"',
        "mixed.json": '[{"a": 1}, {"a": {"b": 2}}]',
        "uneven.csv": 'id,parts\n1,"[{""n"":1}]"\n2,x\n',
        "page.xlsx": "<html><body><table><tr><td>a</td></tr></table></body></html>",
        "text.xlsx": "a,b\n1,2\n",
        "nokey.csv": later("90,2026-01-01,straw,2.5,Ada 1", header="no,day,kind,kg,keeper"),
        "clash/visits.txt": "mine",
        "clash/inspections-2025.csv": "mine",
        "nodes.csv": "code,name,above\nA,all,\n"
        + "".join(f"{c},{c} of it,A\n" for c in "BCDEFGHI"),
        "tree.csv": "code,name\n1,a\n1.1,b\n2,c\n",
        "hives.csv": "hive,kind\nH1,straw\nH2,long\n",
        "more.csv": "hive,kind\nH3,straw\nH4,long\n",
        "deep.toml": "a = " + "[" * 2000,
        "thousands.csv": "x,y\n" + "".join(f'{n},"{n},{n}00"\n' for n in range(1, 9)),
        "bare.json": '[{"a": 1}, 2]',
        "levels.json": "[" + '{"a":' * 999 + "1" + "}" * 999 + "]",
        "alike.json": '[{"a": {"b": 1}, "a": 2}]',
        "mixed.csv": 'id,parts\n1,"[{""n"":1}]"\n2,"[{""n"":{""m"":2}}]"\n',
        "torn.parquet": "PAR1 and no more",
        "split.csv": "a||b\n1||x\x1fy\n",
        "named.csv": "a,b\n1,\u0416\n",
        "long.csv": "a,b\n1," + "x" * 40_000 + "\n",
        "described/d.csv": "a,b\n1,2\n3,4\n",
        "described/csv-metadata.json": '{"@context": "http://www.w3.org/ns/csvw", "url": "d.csv", '
        '"tableSchema": {"columns": [{"titles": "a"}, {"titles": "c"}]}}',
        "roles.csv": "visit,seen,by,note\n"
        + "".join(f"{n},K{n % 4},K{n % 3},{'old' if n % 4 else 'new'}\n" for n in range(1, 41)),
        "same.toml": two_sources('[sources.later]\nfile = "visits.csv"\n')
        + '[tables.other]\nsource = "later"\neach_row = true\ncolumns = ["no", "day", "hive", "kind", "kg", "keeper"]\n',
        "fresh.toml": two_sources('[sources.more]\nfile = "two.csv"\n')
        + '[tables.more]\nsource = "more"\neach_row = true\ncolumns = ["a", "b"]\n',
        "longname.toml": LAYOUT.replace(
            "[tables.hive]",
            "[tables.a_hive_with_a_name_that_is_longer_than_an_engine_would_ever_take_it]",
        ).replace(
            'links = ["hive"]',
            'links = ["a_hive_with_a_name_that_is_longer_than_an_engine_would_ever_take_it"]',
        ),
        "rooms.csv": "no,building,room,size,day\n"
        + "".join(
            f"{i},{b},{n},{n * ord(b) % 17},{i * 5 % 28}\n"
            for i, (b, n) in enumerate([(b, n) for b in "ABCDE" for n in range(1, 7)] * 10)
        ),
        "ordered.toml": LAYOUT.replace('links = ["hive"]', 'links = ["hive"]\norder = ["day"]'),
    }.items():
        (path / name).parent.mkdir(exist_ok=True)
        (path / name).write_text(text)
    (path / "latin.csv").write_bytes((path / "latin.csv").read_text().encode("cp1252"))
    (path / "other.txt").write_bytes(bytes(range(256)) * 4)
    (path / "byte.json").write_bytes(b'[{"a": "\xe9"}]')
    (path / "away.csv").symlink_to("nowhere.csv")
    (path / "zeros.gz").write_bytes(gzip.compress(b"a,b\n" + b"0,0\n" * 3_000_000))
    with zipfile.ZipFile(path / "secret.zip", "w") as packed:
        packed.writestr("a.csv", "a,b\n1,2\n")
    raw = bytearray((path / "secret.zip").read_bytes())
    raw[6] |= 1  # the flag of an encrypted member, in its own header and in the directory
    raw[raw.index(b"PK\x01\x02") + 8] |= 1
    (path / "secret.zip").write_bytes(raw)
    with zipfile.ZipFile(path / "torn.xlsx", "w") as packed:
        packed.writestr("xl/workbook.xml", "<workbook")
    with zipfile.ZipFile(path / "two.zip", "w") as packed:
        packed.writestr("a.csv", "a,b\n1,2\n")
        packed.writestr("c.csv", "c,d,e\n1,2,3\n")
    book = openpyxl.Workbook()
    book.active.append(["a", "b"])
    book.active.append([1, 2])
    book.save(path / "book.xlsx")
    shutil.copy(path / "book.xlsx", path / "book")
    hidden = openpyxl.Workbook()
    archive = hidden.create_sheet("Archive")
    archive.append(["a", "b"])
    archive.append([1, 2])
    archive.sheet_state = "hidden"
    hidden.save(path / "hidden.xlsx")
    library.cut([path / "l.toml"], path / "v.db")
    library.cut([path / "l.toml"], path / "none.db")
    library.undo(path / "none.db")
    shutil.copy(path / "visits.csv", path / "moved.csv")
    library.cut([path / "moved.csv"], path / "moved.db")
    (path / "moved.csv").unlink()
    library.cut([path / "visits.csv"], path / "twice.db")
    library.add([path / "good.csv"], path / "twice.db")
    with sqlite3.connect(path / "club.db") as db:
        db.executescript(
            "CREATE TABLE hive (id INTEGER PRIMARY KEY, hive TEXT NOT NULL UNIQUE, kind TEXT);"
            "CREATE TABLE bare (a INTEGER); INSERT INTO bare VALUES (1);"
        )
    (path / "empty.db").write_bytes(b"")
    with sqlite3.connect(path / "bare.db") as db:
        db.execute("CREATE TABLE bare (a INTEGER)")
    return path


@pytest.fixture
def folder(prepared: Path, tmp_path: Path) -> Path:
    """Files, most of them wrong in one way."""
    shutil.copytree(prepared, tmp_path, dirs_exist_ok=True, symlinks=True)
    return tmp_path


TRIED = [
    # a command; words of what it says to do; and that done: "+" puts these words behind the command,
    # "$" runs them and then the command again, else these commands are run
    ("add renamed.csv --into v.db", "--learn", "+"),
    ("add quite.csv --into v.db", '--means "Seen by=keeper"', "+"),
    ("add new.csv --into v.db", '--leave-out "weather"', "+"),
    ("add new.csv --into v.db", "--put \"weather=TABLE\"", "add new.csv --into v.db --put weather=visit"),
    ("add lacks.csv --into v.db", '--lacking "keeper=VALUE"', "+"),
    ("add headless.csv --into v.db", "--columns no,day,hive,kind,kg,keeper", "+"),
    ("add other.csv --into v.db", "kerfmark cut other.csv --into DB --beside", "cut other.csv --into v.db --beside"),
    ("add swapped.csv --into v.db", '--dates "DD/MM/YYYY"', "+"),
    ("add visits.csv --into v.db", "kerfmark undo v.db 1", "$"),
    ("add good.csv --into twice.db", "--again loads it a second time", "add good.csv --into twice.db --again --known keep"),
    ("add again.csv --into twice.db", "--known keep", "+"),
    ("add again.csv --into twice.db", "--known fill", "+"),
    ("add again.csv --into twice.db", "--known overwrite", "+"),
    ("add wide.csv --into v.db", "--widen", "+"),
    ("add good.csv --into v.db --as visit", "the sources are visits", "add good.csv --into v.db --as visits"),
    ("cut l.toml --into v.db", "use --replace", "cut l.toml --into v.db --replace"),
    ("cut visits.csv --into twice.db --replace", "--replace --discard", "cut visits.csv --into twice.db --replace --discard"),
    ("cut visits.csv --as-script l.toml --for oracle", "use --replace", "cut visits.csv --as-script l.toml --for oracle --replace"),
    ("cut visits.csv --into nowhere/x.db", "make the folder nowhere", "mkdir nowhere && cut visits.csv --into nowhere/x.db"),
    ("mark visits.csv -o nowhere/x.toml", "make the folder nowhere", "mkdir nowhere && mark visits.csv -o nowhere/x.toml"),
    ("cut visits.csv --into sub", "such as sub/data.db", "cut visits.csv --into sub/data.db"),
    ("cut visits.csv --into n.db --put day=hive", "leave --put out", "cut visits.csv --into n.db"),
    ("cut visits.csv", "--into DB", "cut visits.csv --into n.db"),
    ("cut visits.csv", "--as-script FILE --for ENGINE", "cut visits.csv --as-script s.sql --for sqlite"),
    ("cut l.toml --into n.db --optional day", "kerfmark mark l.toml takes --type", "mark l.toml --optional day && cut l.toml --into n.db"),
    ("mark l.toml", "kerfmark check l.toml", "$$"),
    ("mark l.toml --known-by keeper", "name the files", "mark visits.csv --known-by keeper"),
    ("mark visits.csv --together hiv,kind", 'did you mean "hive"?', "mark visits.csv --together hive,kind"),
    ("mark visits.csv --together hive", "write them like A,B", "mark visits.csv --together hive,kind"),
    ("mark visits.csv --type Day2=text", 'did you mean "day"?', "mark visits.csv --type day=text"),
    ("mark visits.csv --type day=wibble", '--type "Day=D/M/YYYY"', "mark visits.csv --type day=YYYY-MM-DD"),
    ("mark swapped.csv --type day=date", '--type "day=date DD/MM/YYYY"', "mark swapped.csv --type \"day=date DD/MM/YYYY\""),
    ("mark visits.csv --table-name hiv=colony", 'did you mean "hive"?', "mark visits.csv --table-name hive=colony"),
    ("mark visits.csv --table-name hive=visit", "choose another name", "mark visits.csv --table-name hive=colony"),
    ("mark visits.csv --optional hive --known-by hive", 'leave --optional "hive" out', "mark visits.csv --known-by hive"),
    ("mark visits.csv --key hive=nothing,kind", '--key "hive=hive_no"', 'mark visits.csv --key hive=hive_no'),
    ("mark visits.csv --unit keeper=lb", 'leave --unit out', "mark visits.csv"),
    ("mark visits.csv --derive year=year(day)", '--derive "year=year([Day])"', "mark visits.csv --derive year=year([day])"),
    ("mark visits.csv --correct kind=wooden", '--correct "Kind:wodden=wooden"', "mark visits.csv --correct kind:long=wooden"),
    ("mark visits.csv --dates wibble", "--dates DD.MM.YYYY", "mark visits.csv --dates DD.MM.YYYY"),
    ("mark visits.csv --decimals x", "--decimals ,", "mark visits.csv --decimals ,"),
    ("mark visits.csv --link keeper=keepr", "the tables are", "mark visits.csv --link keeper=hive && mark visits.csv --no-link keeper"),
    ("mark tree.csv --tree name", "leave --tree out", "mark tree.csv"),
    ("mark visits.csv --list keeper=;", '--list "keeper=;"', "mark visits.csv"),
    ("mark visits.csv --put day=hive", "name it with --onto", "mark visits.csv --onto club.db --put day=hive"),
    ("mark visits.csv --onto club.db --known-by hive", "leave it out: --map, --link", "mark visits.csv --onto club.db"),
    ("mark visits.csv --onto club.db --type kg=text", "kerfmark mark LAYOUT --type", "mark visits.csv --onto club.db -o o.toml && mark o.toml --type hive.kind=text"),
    ("mark visits.csv --map hive=hive.hive", "name it with --onto", "mark visits.csv --onto club.db --map hive=hive.hive"),
    ("mark visits.csv --onto club.db --map hiv=hive.hive", 'did you mean "hive"?', "mark visits.csv --onto club.db --map hive=hive.hive"),
    ("mark visits.csv --onto club.db --report r.html", "leave it out", "mark visits.csv --onto club.db"),
    ("mark visits.csv --onto v.db", "kerfmark add visits.csv --into v.db", "undo v.db && add visits.csv --into v.db"),
    ("mark visits.csv -o v.layout.toml --report visits.csv", "use --replace", "mark visits.csv -o v.layout.toml --report r.html"),
    ("check", "kerfmark mark FILES -o LAYOUT", "mark visits.csv -o n.toml && check n.toml"),
    ("check n.toml", "kerfmark mark FILES -o n.toml", "mark visits.csv -o n.toml && check n.toml"),
    ("recut v.db n.toml", "kerfmark show DB --layout", "show v.db --layout"),
    ("show v.db hiv", "the tables are visit, hive", "show v.db hive"),
    ("show v.db visit --where hiv", '--where "kg>=5"', "show v.db visit --where kg>=5"),
    ("show v.db --where kg>=5", "--where COLUMN=VALUE", "show v.db visit --where kg>=5"),
    ("show v.db visit --sort hiv", "its columns are", "show v.db visit --sort hive_id"),
    ("show v.db visit 999", "name a value of visit_id", "show v.db visit 9"),
    ("show v.db visit --tree", "kerfmark show DB tells", "show v.db"),
    ("show v.db --csv", "kerfmark show DB TABLE --csv", "show v.db visit --csv"),
    ("show v.db visit --layout", "leave the table out", "show v.db --layout"),
    ("show nothing.db", "check the name and the folder", "show v.db"),
    ("trace v.db visit 999", "name a value of visit_id", "trace v.db visit 9"),
    ("trace v.db hiv 9", "the tables are", "trace v.db hive 1"),
    ("loads bare.db", "kerfmark cut FILE --into DB", "cut visits.csv --into n.db && loads n.db"),
    ("export v.db -o out.csv", "name one of them after the database", "export v.db visit -o out.csv"),
    ("export v.db -o out.sql", "use --for postgresql", "export v.db -o out.sql --for postgresql"),
    ("export v.db -o out.jsonl --for oracle", "leave out --for", "export v.db visit -o out.jsonl"),
    ("export v.db -o out.toml", "or in nothing for a folder", "export v.db -o out"),
    ("export v.db -o sub", "use --replace", "export v.db -o sub --replace"),
    ("export v.db visit -o x.csv --nested", "use --as json-lines", "export v.db visit -o x.jsonl --nested"),
    ("export v.db visit -o visits.csv", "use --replace", "export v.db visit -o visits.csv --replace"),
    ("export v.db visit -o x.parquet --delimiter ;", "write .csv", "export v.db visit -o x.csv --delimiter ;"),
    ("export v.db visit -o x.csv --encoding klingon", "use utf-8", "export v.db visit -o x.csv --encoding utf-8"),
    ("export v.db --flat visit -o x.csv", "its sources are visits", "export v.db --flat visits -o x.csv"),
    ("export v.db hiv -o x.csv", "the tables are hive, visit", "export v.db hive -o x.csv"),
    ("undo v.db 7", "the loads that can be taken back are 1", "undo v.db 1"),
    ("drop twice.db", "kerfmark drop twice.db --discard", "$$"),
    ("draw v.db -o x.wibble", "let its name end in", "draw v.db -o x.svg"),
    ("draw v.db -o x.mmd --before-after", "leave out --before-after", "draw v.db -o x.mmd"),
    ("cut latin.csv --into n.db --encoding utf-8", "--encoding", "cut latin.csv --into n.db --encoding cp1252"),
    ("cut ragged.csv --into n.db", "--skip-rows notes", "+"),
    ("measure book", ".xlsx", "mv book b.xlsx && measure b.xlsx"),
    ("measure two.zip --member b.csv", "its members are a.csv, c.csv", "measure two.zip --member a.csv"),
    ("measure visits.csv --member b.csv", "only a zip archive has members", "measure visits.csv"),
    ("measure book.xlsx --sheet Nothing", "its sheets are Sheet", "measure book.xlsx --sheet Sheet"),
    ("measure book.xlsx --cells ZZ", "name a range", "measure book.xlsx --cells A1:B2"),
    ("measure book.xlsx --block 4", "leave --block out", "measure book.xlsx"),
    ("measure visits.csv --header-row 0", "use --no-header", "measure visits.csv --no-header"),
    ("measure visits.csv --first-rows 0", "write it like --first-rows 1000", "measure visits.csv --first-rows 2"),
    ("measure visits.csv --skip-rows two", "2,-1,40-60,80-", "measure visits.csv --skip-rows 2,-1,40-60,80-"),
    ("measure visits.csv --columns a,b", "name all columns", "measure visits.csv --columns a,b,c,d,e,f"),
    ("measure visits.csv --columns a,a", '--columns "Day,Keeper,Hive"', "measure visits.csv --columns a,b,c,d,e,f"),
    ("measure visits.csv --widths a", "10,20,8", "measure visits.csv --widths 10,20,8"),
    ("measure visits.csv --quote xx", "or none", "measure visits.csv --quote none"),
    ("measure visits.csv --unpack-limit x", "100GB", "measure visits.csv --unpack-limit 100GB"),
    ("measure visits.csv --fill-down Hive", "its columns are no, day, hive", "measure visits.csv --fill-down hive"),
    ("measure j.csv --json-cells part", "its columns are id, parts", "measure j.csv --json-cells parts"),
    ("measure club.db --table hives", "--table", "measure club.db --table bare"),
    ("measure nothing.csv", "check the name", "measure visits.csv"),
    # places
    ("show wibble://h/d", "name postgresql://USER@HOST/DATABASE", "show v.db"),
    ("show postgresql://127.0.0.1", "name postgresql://USER@HOST/DATABASE", "show v.db"),
    ("show postgresql://h:x/d", "name postgresql://USER@HOST/DATABASE", "show v.db"),
    ("cut visits.csv --into n.db --schema s", "leave out --schema", "cut visits.csv --into n.db"),
    ("show postgresql://127.0.0.1/test?sslmod=x", 'did you mean "sslmode"?', "show v.db"),
    ("demo plain", "name a folder", "demo fresh"),
    ("demo clash", "name another folder", "demo fresh"),
    ("cut visits.csv --as-script s.sql --for dbase", "name one of postgresql", "cut visits.csv --as-script s.sql --for oracle"),
    ("cut visits.csv --as-script nowhere/s.sql --for oracle", "name a file in a folder that exists", "mkdir nowhere && cut visits.csv --as-script nowhere/s.sql --for oracle"),
    ("add good.csv --into v.db --backup visits.csv", "name another file", "add good.csv --into v.db --backup b.db"),
    ("add good.csv --into v.db --backup nowhere/b.db", "make the folder nowhere first", "mkdir nowhere && add good.csv --into v.db --backup nowhere/b.db"),
    ("cut visits.csv --into plain --replace", "name another file", "cut visits.csv --into n.db --replace"),
    ("measure visits.csv --report nowhere/r.html", "make the folder nowhere first", "mkdir nowhere && measure visits.csv --report nowhere/r.html"),
    ("export v.db -o nowhere/out", "make the folder nowhere first", "mkdir nowhere && export v.db -o nowhere/out"),
    ("export v.db -o plain", "name another folder", "export v.db -o out"),
    ("add wide.csv --into v.db --set-aside a.txt", "name one of these", "add good.csv --into v.db --set-aside a.csv"),
    # layouts
    ("check wrong.toml", "correct it and run the command again", "put wrong.toml {LAYOUT} && check wrong.toml"),
    ("check newer.toml", "install a newer Kerfmark", "put newer.toml {LAYOUT} && check newer.toml"),
    ("check bare.toml", "add the line kerfmark = 1 at its top", "put bare.toml {LAYOUT} && check bare.toml"),
    ("check sub", "name a layout", "check l.toml"),
    ("check gone.toml", "correct the header in the layout", "put gone.toml {LAYOUT} && check gone.toml"),
    ("check less.toml", 'list it under left_out of sources > visits', "mark l.toml --optional kg && check l.toml"),
    ("cut visits.csv --into e.db", "kerfmark cut e.layout.toml --into e.db", "cut e.layout.toml --into e.db"),
    ("cut l.toml --into n.db --known keep", "leave out --known", "cut l.toml --into n.db"),
    ("cut visits.csv --into bare.db --beside", "make one with kerfmark cut FILE --into DB", "cut visits.csv --into n.db"),
    ("cut other.csv --into v.db --beside --discard", "leave out what is for a new one", "cut other.csv --into v.db --beside"),
    ("cut l.toml --into v.db --beside", "name the files", "cut other.csv --into v.db --beside"),
    ("cut good.csv --into v.db --beside", "kerfmark add good.csv --into v.db", "add good.csv --into v.db"),
    ("cut other.csv --into v.db --beside --put marked=hive", "its rows lead to records of", "cut other.csv --into v.db --beside"),
    ("cut l.toml --into club.db", "name another file, or use --replace", "cut l.toml --into n.db"),
    ("cut l.toml --into club.db --replace", "name another place", "cut l.toml --into n.db --replace"),
    # files
    ("measure torn.zip", "fetch or pack it again", "measure two.zip"),
    ("measure torn.gz", "fetch or pack it again", "measure visits.csv"),
    ("measure visits.csv --delimiter \"\"", "name one, such as ; or tab", "measure visits.csv --delimiter tab"),
    ("measure visits.csv --encoding klingon", "name one such as utf-8", "measure visits.csv --encoding utf-8"),
    ("measure latin.csv --encoding ascii", "name the right one with --encoding", "measure latin.csv --encoding cp1252"),
    ("cut unclosed.csv --into n.db", "--quote none", "+"),
    ("cut behind.csv --into n.db", "write a quote inside a quoted field twice", 'put behind.csv "a,b\\n""x""y"",1\\n" && cut visits.csv --into n.db'),
    ("measure empty.csv", "check that the export was complete", "measure visits.csv"),
    ("measure scalar.json", "write it as one object per record", 'put scalar.json [{{"a":1}}] && measure scalar.json'),
    ("measure torn.json", "fetch the file again", 'put torn.json [{{"a":1}}] && measure torn.json'),
    ("measure mixed.json", "write the field the same way in every record", 'put mixed.json [{{"a":1}},{{"a":2}}] && measure mixed.json'),
    ("measure uneven.csv --json-cells parts", "leave out --json-cells", "measure uneven.csv"),
    ("measure two.zip --json-cells a", "unpack the archive, and name the file", "measure two.csv"),
    ("measure page.xlsx", "open it in a spreadsheet program", "measure book.xlsx"),
    ("measure text.xlsx", "name it text.csv", "mv text.xlsx text.csv && measure text.csv"),
    ("measure visits.csv --skip-rows no.csv:1", "the files are", "measure visits.csv --skip-rows visits.csv:1"),
    ("check parts.toml", "correct its header", "put sub/other.csv a,b\\n7,8\\n && check parts.toml"),
    ("check sheets.toml", "its sheets are Sheet", "check l.toml"),
    # what is asked of loads
    ("add good.csv good.csv --into v.db", "leave one of them out", "add good.csv --into v.db"),
    ("add lacks.csv --into v.db --lacking keeper", 'use --lacking "keeper=VALUE"', "add lacks.csv --into v.db --lacking keeper=Ada"),
    ("add nokey.csv --into v.db", 'add "hive" to the file', "add good.csv --into v.db"),
    ("add nokey.csv --into v.db --lacking hive", "add the column to the file", "add good.csv --into v.db"),
    ("add new.csv --into v.db --put weather=nothing", "the tables of visits are visit, hive", "add new.csv --into v.db --put weather=visit"),
    ("add good.csv --into v.db --only-known", "--known fill", "add again.csv --into twice.db --only-known --known fill"),
    ("add again.csv --into twice.db --known hiv=keep", "the tables are visit, hive", "add again.csv --into twice.db --known hive=keep --known keep"),
    ("add again.csv --into twice.db --known add", "--known keep", "add again.csv --into twice.db --known keep"),
    ("add quite.csv --into v.db --means Foo=keeper", "write them as they are spelled there", 'add quite.csv --into v.db --means "Seen by=keeper"'),
    ("undo none.db", "kerfmark loads", "loads none.db"),
    ("refresh moved.db", "put it back", "put visits.csv {VISITS} && refresh twice.db"),
    ("show club.db bare 1", "use --where", "show club.db bare --where a=1"),
    ("draw club.db -o x.svg --before-after", "leave out --before-after", "draw club.db -o x.svg"),
    ("export v.db visit -o x.csv --delimiter '\"'", "use another --delimiter", "export v.db visit -o x.csv --delimiter ;"),
    ("export v.db -o x.sql --for oracle --flat visits", "leave out --flat", "export v.db -o x.sql --for oracle"),
    ("mark visits.csv --onto bare.db", "kerfmark cut builds tables for them", "cut visits.csv --into n.db"),
    ("mark visits.csv --onto empty.db", "kerfmark cut builds them", "cut visits.csv --into n.db"),
    ("mark visits.csv --onto club.db --put kind=bare", "name a column that matches nothing", "mark visits.csv --onto club.db --put keeper=hive"),
    ("mark visits.csv --unique hive,keeper --known-by hive", "name columns of one table", "mark visits.csv --unique day,keeper"),
]  # fmt: skip


AFTER = [
    # what is done first; the command; and as above
    ("", "show postgresql://127.0.0.1/test?sslrootcert=no.pem", "check the name and the folder", "show v.db"),
    ("cut nodes.csv --into n.db --link above=node", "show n.db --tree", "kerfmark show DB TABLE --tree", "show n.db node --tree"),
    ("", "measure visits.csv --memory 10MB", "allow", "measure visits.csv --memory 300MB"),
    ("", "check deep.toml", "a layout has four levels", "put deep.toml {LAYOUT} && check deep.toml"),
    ("put kinds.csv no,day,hive,kind,kg,keeper\\n91,2026-01-02,H1,long,2.5,Ada 1\\n && add kinds.csv --into v.db --known overwrite && sql v.db UPDATE hive SET kind = 'log' WHERE hive = 'H1'", "undo v.db 2", "set it to what the load made of it", "sql v.db UPDATE hive SET kind = 'long' WHERE hive = 'H1' && undo v.db 2"),
    ("", "mark thousands.csv --type y=decimal", "decimal(9,2) 0,00", 'mark thousands.csv --type "y=decimal(9,2) 0,00"'),
    ("", "measure wibble://h/d --table a", "name postgresql://", "measure club.db --table bare"),
    ("", "measure postgresql://127.0.0.1:1/x --table a", "check the address", "measure club.db --table bare"),
    ("", "measure secret.zip", "unpack it with its password", "measure two.csv"),
    ("", "measure zeros.gz --unpack-limit 1MB", "--unpack-limit 100GB", "measure zeros.gz --unpack-limit 100GB"),
    ("", "measure other.txt", "export it as CSV and name that file", "measure visits.csv"),
    ("", "measure mixed.csv --json-cells parts", "leave out --json-cells parts", "measure mixed.csv"),
    ("", "measure bare.json", "write it as one object per record", 'put bare.json [{{"a":1}},{{"a":2}}] && measure bare.json'),
    ("", "measure byte.json", "save the file as UTF-8", 'put byte.json [{{"a":"é"}}] && measure byte.json'),
    ("", "measure levels.json", "write the file with fewer levels", 'put levels.json [{{"a":{{"b":1}}}}] && measure levels.json'),
    ("", "measure alike.json", "give each field of a record a name of its own", 'put alike.json [{{"a":{{"b":1}},"c":2}}] && measure alike.json'),
    ("", "measure away.csv", "put the file back", "put nowhere.csv {VISITS} && measure away.csv"),
    ("pipe pipe.csv", "measure pipe.csv", "save it as a file", "put saved.csv {VISITS} && measure saved.csv"),
    ("", "measure torn.parquet", "fetch or write the file again", "measure visits.csv"),
    ("", "measure split.csv --delimiter ||", "replace that character there", "put split.csv a||b\\n1||xy\\n && measure split.csv --delimiter ||"),
    ("", "measure torn.xlsx", "open it in a spreadsheet program", "measure book.xlsx"),
    ("", "measure book.xlsx --cells B5:A1", "write it like C5:H200", "measure book.xlsx --cells A1:B2"),
    ("mark hives.csv --onto club.db -o o.toml && cut o.toml --into club.db", "cut o.toml --into club.db", "kerfmark add FILES --into DB", "add more.csv --into club.db"),
    ("", "cut visits.csv --as-script sub --for oracle", "name a file in a folder that exists", "cut visits.csv --as-script s.sql --for oracle"),
    ("", "add good.csv --into postgresql://127.0.0.1/test --backup b.db", "leave out --backup", "add good.csv --into v.db"),
    ("", "mark visits.csv --unit kg=wibble", 'write it like "lb to kg"', 'mark visits.csv --unit "kg=lb to kg"'),
    ("", "mark visits.csv --unit 'kg=lb to wibble'", '--unit "Weight=lb to kg"', 'mark visits.csv --unit "kg=lb to kg"'),
    ("put a.csv no,helpers\\n1,Ada; Bo\\n2,Cy; Bo\\n3,Ada\\n4,Bo; Ada\\n && cut a.csv --into r.db --known-by no --list 'helpers=; ' && put b.csv no,helpers\\n1,Cy; Ada\\n && add b.csv --into r.db --known replace && put b.csv no,helpers\\n1,Cy\\n", "refresh r.db", "kerfmark undo r.db 2 --through", "put b.csv no,helpers\\n1,Cy; Ada\\n && undo r.db 2 --through && put b.csv no,helpers\\n1,Cy\\n && add b.csv --into r.db --known replace"),
    ("", "mark visits.csv --correct kind=long", '--correct "Kind:wodden=wooden"', "mark visits.csv --correct kind:long=wooden"),
    ("", "mark visits.csv --correct kind", '--correct "Kind:wodden=wooden"', "mark visits.csv --correct kind:long=wooden"),
    ("", "add good.csv new.csv --into v.db --put weather=visit --lacking weather= --known overwrite", "one after the other", "add new.csv --into v.db --put weather=visit"),
    ("sql v.db ALTER TABLE visit RENAME COLUMN keeper TO warden", "add good.csv --into v.db", "put it back", "sql v.db ALTER TABLE visit RENAME COLUMN warden TO keeper && add good.csv --into v.db"),
    ("sql v.db CREATE TRIGGER t AFTER INSERT ON visit BEGIN DELETE FROM visit WHERE no = NEW.no; END", "add good.csv --into v.db", "look whether a trigger of the database changes rows", "sql v.db DROP TRIGGER t && add good.csv --into v.db"),
    ("sql v.db CREATE TRIGGER t BEFORE INSERT ON visit WHEN NEW.kg < 3 BEGIN SELECT RAISE(ABORT, 'too light'); END", "add good.csv --into v.db", "ask who made the rule of the database", "put good.csv no,day,hive,kind,kg,keeper\\n90,2026-01-01,H1,straw,3.5,Ada\\n && add good.csv --into v.db"),
    ("mark hives.csv --onto club.db -o o.toml", "cut o.toml --as-script s.sql --for sqlite", "use --into DB to fill them", "cut o.toml --into club.db"),
    ("mark hives.csv --onto club.db -o o.toml && cut o.toml --into club.db && sql club.db CREATE TABLE uses (hive INTEGER REFERENCES hive (id)) && sql club.db INSERT INTO uses VALUES (1)", "drop club.db --discard", "delete the rows that refer to them first", "sql club.db DELETE FROM uses && drop club.db --discard"),
    ("", "add good.csv --into v.db --correct hive:H1=H2", "correct it in the database first", "add good.csv --into v.db"),
    ("", "cut described/d.csv --into n.db", "correct csv-metadata.json beside it", 'put described/csv-metadata.json {{"@context":"http://www.w3.org/ns/csvw","url":"d.csv","tableSchema":{{"columns":[{{"titles":"a"}},{{"titles":"b"}}]}}}} && cut described/d.csv --into n.db'),
    ("", "recut v.db fresh.toml", "kerfmark cut FILES --into DB --beside", "cut two.csv --into v.db --beside"),
    ("", "recut v.db ordered.toml", "take order out of tables > visit", "recut v.db l.toml"),
    ("sql v.db ALTER TABLE visit ADD COLUMN mine TEXT", "recut v.db l.toml", "drop the column and make it again afterwards", "sql v.db ALTER TABLE visit DROP COLUMN mine && recut v.db l.toml"),
    ("sql v.db INSERT INTO hive (hive, kind) VALUES ('H9', 'long')", "recut v.db l.toml", "delete them here, and kerfmark add that file afterwards", "sql v.db DELETE FROM hive WHERE hive = 'H9' && recut v.db l.toml && put late.csv no,day,hive,kind,kg,keeper\\n92,2026-01-01,H9,long,2.5,Ada 1\\n && add late.csv --into v.db"),
    ("sql v.db UPDATE visit SET kg = 9.5 WHERE no = 3", "recut v.db l.toml", "kerfmark prove v.db lists them", "sql v.db UPDATE visit SET kg = 3.5 WHERE no = 3 && recut v.db l.toml"),
    ("cut l.toml --into g.db && put kinds.csv no,day,hive,kind,kg,keeper\\n91,2026-01-02,H1,long,2.5,Ada 1\\n && add kinds.csv --into g.db --known overwrite && rm kinds.csv", "recut g.db l.toml", "put the file back, as it was", "put kinds.csv no,day,hive,kind,kg,keeper\\n91,2026-01-02,H1,long,2.5,Ada 1\\n && recut g.db l.toml"),
    ("sql v.db CREATE TABLE uses (v INTEGER REFERENCES hive (hive_id)) && sql v.db INSERT INTO uses VALUES (1) && put visits.csv no,day,hive,kind,kg,keeper\\n90,2026-01-01,H7,straw,2.5,Ada\\n", "refresh v.db", "delete the rows that refer to them first", "sql v.db DELETE FROM uses && refresh v.db"),
    ("cut same.toml --into s.db", "add good.csv --into s.db", "choose with --as", "add good.csv --into s.db --as visits"),
    ("sql v.db CREATE TABLE pair (a INTEGER, b INTEGER, c TEXT, PRIMARY KEY (a, b)) && sql v.db INSERT INTO pair VALUES (1, 2, 'x')", "show v.db pair 1", "name a value for each, with a comma between", "show v.db pair 1,2"),
    ("cut named.csv --into n.db", "export n.db named -o x.csv --encoding cp1252", "use --encoding utf-8", "export n.db named -o x.csv --encoding utf-8"),
    ("", "export v.db -o out --as csv --for oracle", "leave out --for", "export v.db -o out --as csv"),
    ("", "export v.db visit -o x.csv --as parquet", "name a folder, or leave out --as", "export v.db visit -o x.csv"),
    ("cut long.csv --into n.db", "export n.db -o x.xlsx", "write CSV, Parquet or JSON Lines", "export n.db -o out --as csv"),
    ("", "add good.csv --into v.db --means keeper", '--means "Paid with=Paid by"', 'add renamed.csv --into v.db --means "Keepers=keeper"'),
    ("", "cut longname.toml --as-script s.sql --for postgresql", "give it a shorter one in tables > a_hive_with", "mark longname.toml --table-name a_hive_with_a_name_that_is_longer_than_an_engine_would_ever_take_it=hive && cut longname.toml --as-script s.sql --for postgresql"),
    ("sql v.db CREATE TABLE other (a)", "cut other.csv --into v.db --beside", "choose another name for the new table", "cut other.csv --into v.db --beside --table-name other=queen"),
    ("sql v.db CREATE TABLE other (a)", "cut other.csv --into v.db --beside", "or rename what is there", "sql v.db ALTER TABLE other RENAME TO others && cut other.csv --into v.db --beside"),
    ("", "mark rooms.csv --together room,day", "write the layout with -o", "mark rooms.csv -o r.toml && check r.toml"),
    ("put unlike.csv no,keeper,town,helper,place\\n" + "".join(f"{n},K{n % 5},{'ABC'[n % 5 % 3]},K{n // 5 % 5},{'XYZ'[n // 5 % 5 % 3]}\\n" for n in range(50)), "mark unlike.csv --same-as keeper=helper", "kerfmark mark without it", "mark unlike.csv"),
    ("", "demo l.toml/x", "name another place", "demo x"),
    ("put bar.csv a|b\\n1|2\\n3|4\\n && cut bar.csv --into n.db --quote none && sql n.db UPDATE bar SET a = '1|5'", "export n.db --flat bar -o x.csv", "with a character that no cell contains", "export n.db --flat bar -o x.csv --delimiter ;"),
    ("", "cut hidden.xlsx --into n.db", '--sheet "Archive"', "cut hidden.xlsx --into n.db --sheet Archive"),
    ("", "measure book.xlsx --sheet Sheet --cells Other!A1:B2", "write the range without its sheet", "measure book.xlsx --sheet Sheet --cells A1:B2"),
    ("", "show two.csv", "kerfmark cut FILES --into DB makes one", "cut two.csv --into n.db && show n.db"),
    ("", "export empty.db -o out", "kerfmark cut FILES --into DB makes some", "cut two.csv --into empty.db --replace && export empty.db -o out"),
    ("", "draw empty.db -o x.svg", "kerfmark cut FILES --into DB makes some", "cut two.csv --into empty.db --replace && draw empty.db -o x.svg"),
    ("", "measure *.nothing", "check the pattern", "measure vis*.csv"),
    ("mkdir bare", "measure bare", "name the files themselves", "measure visits.csv"),
    ("put bad.toml kerfmark =", "check bad.toml", "kerfmark mark FILES -o LAYOUT", "mark visits.csv -o bad.toml --replace && check bad.toml"),
    ("", "check l.toml --into v.db", "kerfmark add FILES --into v.db --rehearse", "add good.csv --into v.db --rehearse"),
    ("", "check l.toml --into v.db", "kerfmark cut l.toml --into v.db --replace --rehearse", "cut l.toml --into v.db --replace --rehearse"),
    ("", "check l.toml --stop-after 0", "write it like --stop-after 10", "check l.toml --stop-after 10"),
    ("put m.toml kerfmark = 1\\n[sources.s]\\nfile = 'lists.json'\\nmember = 'z'\\n[tables.s]\\neach_row = true\\ncolumns = ['c']\\n && put lists.json [{{\"b\":[{{\"c\":2}}]}}]", "cut m.toml --into n.db", "its lists are b", "mark lists.json -o m.toml --replace && cut m.toml --into n.db"),
]  # fmt: skip


def do(steps: str, folder: Path, kerfmark: Runner, db: Target | None = None) -> None:
    """Carries out commands of Kerfmark, and what a person does with files and databases."""
    steps = steps.replace("{db}", db.url) if db else steps
    for step in steps.split(" && ") if steps else ():
        what, _, rest = step.partition(" ")
        name, _, text = rest.partition(" ")
        if what == "mkdir":
            (folder / name).mkdir()
        elif what == "put":
            (folder / name).unlink(missing_ok=True)
            (folder / name).write_text(
                text.format(LAYOUT=LAYOUT, VISITS=VISITS).replace("\\n", "\n")
            )
        elif what == "mv":
            (folder / name).rename(folder / text)
        elif what == "pipe":
            os.mkfifo(folder / name)
        elif what == "rm":
            (folder / name).unlink()
        elif what == "sql" and db:
            db.do(rest)
        elif what == "sql":
            with contextlib.closing(sqlite3.connect(folder / name)) as file:
                file.executescript(text)
        else:
            kerfmark(*shlex.split(step))


@pytest.mark.parametrize(("before", "command", "words", "then"), AFTER)
def test_what_is_said_to_be_done_helps_where_something_was_done_before(
    before: str,
    command: str,
    words: str,
    then: str,
    folder: Path,
    kerfmark: Runner,
    program: Program,
) -> None:
    do(before, folder, kerfmark)
    test_what_is_said_to_be_done_is_done_and_helps(command, words, then, folder, kerfmark, program)


@pytest.mark.parametrize(("command", "words", "then"), TRIED)
def test_what_is_said_to_be_done_is_done_and_helps(
    command: str, words: str, then: str, folder: Path, kerfmark: Runner, program: Program
) -> None:
    refused = program(shlex.split(command), folder)
    said = refused.out + refused.err
    assert refused.code and words in said, said
    assert "Traceback" not in said
    if then == "+":
        then = f"{command} {words}"
    elif then in ("$", "$$"):
        then = words.removeprefix("kerfmark ") + (f" && {command}" if then == "$" else "")
    do(then, folder, kerfmark)


SERVER = [
    # the engine ("" for both), what is done first, the command, words of what it says to do, and
    # that done; "sql" speaks to the server
    ("", "cut l.toml --into {db}", "cut l.toml --into {db}", "kerfmark add FILES --into", "add good.csv --into {db}"),
    ("", "cut l.toml --into {db}", "cut l.toml --into {db}", "--replace builds them anew", "cut l.toml --into {db} --replace"),
    ("", "sql CREATE TABLE hive (a INTEGER)", "cut l.toml --into {db}", "call it something else in the layout", "mark l.toml --table-name hive=colony && cut l.toml --into {db}"),
    ("", "sql CREATE TABLE hive (id INTEGER PRIMARY KEY, hive VARCHAR(20) NOT NULL UNIQUE, kind VARCHAR(20)) && mark hives.csv --onto {db} -o o.toml && cut o.toml --into {db}", "cut visits.csv --into {db} --replace --discard", "kerfmark drop", "drop {db} --discard && sql DROP TABLE hive && cut visits.csv --into {db}"),
    ("", "cut l.toml --into {db} && sql CREATE TABLE hiver (a INTEGER)", "show {db} hivr", "the tables are", "show {db} hiver"),
    ("PostgreSQL", "", "show postgresql://postgres@127.0.0.1/test --schema nosuch", "check the name after --schema", "cut l.toml --into {db} && show {db}"),
    ("PostgreSQL", "cut l.toml --into {db} && sql CREATE VIEW heavy AS SELECT * FROM visit WHERE kg > 3", "drop {db} --discard", "drop these first", "sql DROP VIEW heavy && drop {db} --discard"),
    ("PostgreSQL", "cut l.toml --into {db}", "show {db} visit --where day=x", "write the value as the column has it", "show {db} visit --where day=2025-04-13"),
    ("MariaDB", "cut l.toml --into {db} && sql ALTER TABLE visit ADD CHECK (no <> 90)", "add good.csv --into {db}", "correct the row", "put good.csv no,day,hive,kind,kg,keeper\\n91,2026-01-01,H1,straw,3.5,Ada\\n && add good.csv --into {db}"),
]  # fmt: skip


@pytest.mark.parametrize(
    ("db", "before", "command", "words", "then"),
    [
        (engine, *case)
        for only, *case in SERVER
        for engine in ([only] if only else ["PostgreSQL", "MariaDB"])
    ],
    indirect=["db"],
)
def test_what_a_server_has_to_say_is_done_and_helps(
    before: str,
    command: str,
    words: str,
    then: str,
    folder: Path,
    kerfmark: Runner,
    program: Program,
    db: Target,
) -> None:
    if db.engine == "PostgreSQL":
        db.do(f"CREATE SCHEMA {db.url.rpartition('=')[2]}")
    do(before, folder, kerfmark, db)
    refused = program(shlex.split(command.replace("{db}", db.url)), folder)
    assert refused.code and words in refused.err, refused.err
    do(then, folder, kerfmark, db)


DATA = [
    # what the layout says instead, what the file has instead, and the command that is printed
    ('"date YYYY-MM-DD"', '"date DD.MM.YYYY"', "", "", "--type 'visit.day=date YYYY-MM-DD'"),
    ('"decimal(5,1)"', '"integer"', "", "", "--type 'visit.kg=decimal(2,1)'"),
    ('"decimal(5,1)"', '"decimal(5,1)"', ",2.5,", ",22222.5,", "--type 'visit.kg=decimal(6,1)'"),
    ('keeper = "keeper"', 'keeper = {header = "keeper", type = "text(3)"}', "", "", "--type 'visit.keeper=text(5)'"),
    ("", "", ",2.5,", ",n/a,", "--blank n/a --optional visit.kg"),
    ("", "", ",2.5,", ",,", "--optional visit.kg"),
    ("", "", "H4,long", "H4,", "--optional hive.kind"),
    ("", "", "Ada 1", "1", ""),
    ('["hive", "kind"]', '{ hive = "hive", kind = {header = "kind", allowed = ["straws", "long"]} }', "", "", "--correct kind:straw=straws"),
]  # fmt: skip


@pytest.mark.parametrize(("old", "new", "before", "after", "pasted"), DATA)
def test_what_data_lack_is_decided_by_the_command_that_is_printed(
    old: str, new: str, before: str, after: str, pasted: str, folder: Path, kerfmark: Runner
) -> None:
    """Said by `check` and by `cut` of a layout, which is changed by it; and by `cut` of the files,
    as an option."""
    (folder / "visits.csv").write_text(VISITS.replace(before, after))
    (folder / "l.toml").write_text(LAYOUT.replace(old, new))
    if not pasted:
        kerfmark("check", "l.toml")
        return
    command = f"kerfmark mark l.toml {pasted}"
    assert command in kerfmark("check", "l.toml", code=1).out
    assert command in kerfmark("cut", "l.toml", "--into", "n.db", code=1).err
    kerfmark(*shlex.split(command)[1:])
    kerfmark("check", "l.toml")
    kerfmark("cut", "l.toml", "--into", "n.db")
    kerfmark("prove", "n.db")


def test_an_option_decides_where_no_layout_is_there_yet(folder: Path, kerfmark: Runner) -> None:
    (folder / "visits.csv").write_text(VISITS.replace(",2.5,", ",,", 1))
    cut = ["cut", "visits.csv", "--into", "n.db", "--required", "kg", "--type", "day=DD.MM.YYYY"]
    told = kerfmark(*cut, code=1).err
    options = ["--optional visit.kg", "--type 'visit.day=date YYYY-MM-DD'"]
    assert all(f"{o} " in told for o in options) and "kerfmark mark visits.csv --opt" not in told
    kerfmark("cut", "visits.csv", "--into", "n.db", *shlex.split(" ".join(options)))
    kerfmark("prove", "n.db")


def test_a_later_file_is_taken_after_the_layout_was_changed_as_is_said(
    folder: Path, kerfmark: Runner
) -> None:
    (folder / "late.csv").write_text(later(GOOD.replace("2.5", "")))
    told = kerfmark("add", "late.csv", "--into", "v.db", code=1).err
    assert 'list "kg" under optional of tables > visit' in told and "--optional" not in told
    assert "edit v.layout.toml" in told and "kerfmark recut v.db v.layout.toml" in told
    (folder / "v.layout.toml").write_text(kerfmark("show", "v.db", "--layout").out)
    kerfmark("mark", "v.layout.toml", "--optional", "visit.kg")
    kerfmark("recut", "v.db", "v.layout.toml")
    kerfmark("add", "late.csv", "--into", "v.db")
    kerfmark("prove", "v.db")
