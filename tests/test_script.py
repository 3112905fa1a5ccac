"""A cut written as an SQL script gives, run by the engine's own client, the same tables as the cut
itself."""

from __future__ import annotations

import csv
import re
import shutil
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest
import sqlglot
from sqlglot import exp

from conftest import DEMO, Runner
from engines import Target, target

Write = Callable[..., Path]
ODD = (
    "no,day,at,kg,calm,share,note,apiary,given\n"
    '1,2025-01-02,2025-01-02 07:08:09,1.50,yes,0.1,"it\'s \\ a ""note""",Weir,thymol; sugar\n'
    '2,2025-12-31,2025-12-31 23:59:59,-0.25,no,1e20,"two\nlines\\",Mill,\n'
    '3,2024-02-29,2024-02-29 00:00:00,,yes,,"%s :name ; -- /* ?",Weir,sugar\n'
    '4,2024-03-01,2024-03-01 12:00:00,99.00,no,-2.5,Köstlin 蜂 \U0001f41d,"O\'Hara\\",salt\n'
)
LAYOUT = """\
kerfmark = 1
[sources.visits]
file = "odd.csv"
[tables.visit]
each_row = true
known_by = ["no"]
links = ["apiary"]
optional = ["kg", "share"]
comment = "what's seen"
[tables.visit.columns]
no = {header = "no", type = "integer"}
day = {header = "day", type = "date YYYY-MM-DD"}
at = {header = "at", type = "timestamp YYYY-MM-DD hh:mm:ss"}
kg = {header = "kg", type = "decimal(6,2)"}
calm = {header = "calm", type = "boolean yes/no"}
share = {header = "share", type = "real"}
note = {header = "note"}
[tables.apiary]
key = ["apiary"]
known_by = ["apiary"]
columns = ["apiary"]
[tables.treatment]
known_by = ["name"]
columns = {name = {header = "given", split = "; "}}
[tables.visit_treatment]
part_of = "visit"
known_by = ["visit_id", "nth"]
columns = {nth = {position = true}}
[tables.visit_treatment.links]
visit_id = "visit"
treatment_id = {to = "treatment", by = {name = "given"}}
"""
CALLED = {"SQLite": "sqlite", "PostgreSQL": "postgresql", "MariaDB": "mariadb"}


def run(db: Target, script: Path, folder: Path) -> None:
    """Runs a script by the engine's own client."""
    name = db.url.rsplit("/", 1)[-1].rsplit("=", 1)[-1]
    client = {"SQLite": "sqlite3", "PostgreSQL": "psql", "MariaDB": "mariadb"}[db.engine]
    if shutil.which(client) is None:
        pytest.skip(f"the client {client} is not installed")
    if db.engine == "PostgreSQL":
        db.do(f"CREATE SCHEMA {name}")
    command = {
        "SQLite": ["sqlite3", "-bail", str(folder / db.url)],
        "PostgreSQL": [
            "psql",
            "-q",
            "-v",
            "ON_ERROR_STOP=1",
            f"postgresql://postgres@127.0.0.1/test?options=-csearch_path%3D{name}",
        ],
        "MariaDB": ["mariadb", "-h127.0.0.1", "-uroot", name],
    }[db.engine]
    with script.open("rb") as file:
        done = subprocess.run(command, stdin=file, capture_output=True, text=True, check=False)
    assert done.returncode == 0 and not done.stderr, done.stderr


def test_a_script_gives_the_same_tables_as_the_cut(
    write: Write, kerfmark: Runner, db: Target, tmp_path: Path
) -> None:
    write("odd.csv", ODD)
    write("l.toml", LAYOUT)
    said = kerfmark(
        "cut", "l.toml", "--as-script", "s.sql", "--for", CALLED[db.engine], "--json"
    ).json
    assert said["script"] and said["bytes"] == (tmp_path / "s.sql").stat().st_size
    run(db, tmp_path / "s.sql", tmp_path)
    assert kerfmark("prove", db, "--json").json["holds"]
    (tmp_path / "direct").mkdir()
    with target(db.engine, tmp_path / "direct") as direct:
        kerfmark("cut", "l.toml", "--into", f"direct/{direct}" if db.is_file else direct)
        assert db.tables() == direct.tables() and db.dump() == direct.dump()
        for column in ("no", "day", "at", "kg", "calm", "share", "note"):
            assert db.type_of("visit", column) == direct.type_of("visit", column)
    (tmp_path / "more.csv").write_text(
        ODD.splitlines()[0] + "\n5,2025-05-05,2025-05-05 05:05:05,1.00,no,2,x,Ford,salt\n"
    )
    kerfmark("add", "more.csv", "--into", db)  # the ledger came with it, and keys go on counting
    assert db.ask("SELECT visit_id, apiary_id FROM visit WHERE no = 5") == [(5, "Ford")]
    assert kerfmark("prove", db, "--json").json["holds"]


def test_scripts_for_engines_that_are_not_run_here(kerfmark: Runner, tmp_path: Path) -> None:
    shutil.copy(DEMO / "inspections-2025.csv", tmp_path)
    kerfmark("mark", "inspections-2025.csv", "-o", "l.toml")
    kerfmark("cut", "l.toml", "--as-script", "m.sql", "--for", "sqlserver")
    text = (tmp_path / "m.sql").read_text("utf-8")
    assert (
        "inspection_id INTEGER NOT NULL IDENTITY" in text
        and "SET IDENTITY_INSERT [hive] ON;\nGO" in text
    )
    assert (
        "N'Old Nursery'" in text
        and "calm BIT NOT NULL" in text
        and "ALTER TABLE hive ADD FOREIGN KEY(apiary_id)" in text
    )
    assert (
        "STRING_AGG(CAST([treatment].[name] AS nvarchar(max)), ', ') WITHIN GROUP (ORDER BY" in text
    )
    assert "kerfmark_loads" not in text
    kerfmark("cut", "l.toml", "--as-script", "o.sql", "--for", "oracle")
    text = (tmp_path / "o.sql").read_text("utf-8")
    assert (
        "GENERATED BY DEFAULT AS IDENTITY (START WITH LIMIT VALUE)" in text
        and "DATE '2025-02-10'" in text
    )
    assert (
        "INSERT INTO hive (hive_id, apiary_id, hive, hive_type)\nSELECT 1,\n1,\n'0485',\n'Top bar' "
        "FROM dual UNION ALL"
        in text
        and "notes VARCHAR2(1000 CHAR)" in text
    )
    assert (
        'inspection.inspection_date AS "Date"' in text
        and "calm NUMERIC(1, 0)" in text
        and " AS apiary ON" not in text
    )


def test_known_is_for_tables_that_are_there(visits: Path, kerfmark: Runner) -> None:
    assert (
        "has no records yet"
        in kerfmark("cut", "visits.csv", "--into", "v.db", "--known", "keep", code=2).err
    )


def test_a_script_is_asked_for_rightly_and_overwrites_nothing(
    visits: Path, kerfmark: Runner, tmp_path: Path
) -> None:
    assert "say where the tables go" in kerfmark("cut", "visits.csv", code=2).err
    assert (
        "say where the tables go"
        in kerfmark("cut", "visits.csv", "--as-script", "s.sql", code=2).err
    )
    assert (
        'no scripts for "dbase"'
        in kerfmark("cut", "visits.csv", "--as-script", "s.sql", "--for", "dbase", code=2).err
    )
    (tmp_path / "s.sql").write_text("mine")
    assert (
        "exists already"
        in kerfmark("cut", "visits.csv", "--as-script", "s.sql", "--for", "sqlite", code=2).err
    )
    assert (tmp_path / "s.sql").read_text() == "mine" and not (tmp_path / "s.layout.toml").exists()
    kerfmark("cut", "visits.csv", "--as-script", "s.sql", "--for", "sqlite", "--replace")
    assert (tmp_path / "s.layout.toml").exists() and not list(tmp_path.glob(".*part"))


TEXTS = [
    "two\r\nlines\rand\none",
    "/",
    "a\n/\nb",
    ".\n#!\n;\n-\n-- no comment",
    "GO",
    "a\nGO\nb\ngo 5",
    "$(X) and $(Y",
    "O'Hara's\n'quoted'\n",
    "ends with -",
    "x" * 5000,
    "'" * 900 + "\n" + "蜂" * 3000,
    "&name :bind ?",
]
"""Texts that clients take for commands, variables or ends of lines."""


def literal_of(node: exp.Expression) -> str:
    """The text that an expression of literals gives, by the rules of the standard."""
    if isinstance(node, exp.Literal | exp.National):
        return str(node.this)
    if isinstance(node, exp.Add | exp.DPipe):
        return literal_of(node.left) + literal_of(node.right)
    if isinstance(node, exp.Paren | exp.Cast):
        return literal_of(node.this)
    if isinstance(node, exp.Chr):
        return chr(int(literal_of(node.expressions[0])))
    assert isinstance(node, exp.Anonymous), repr(node)
    if node.name.upper() == "TO_CLOB":
        return literal_of(node.expressions[0])
    assert node.name.upper() in ("NCHAR", "CHAR"), node
    return chr(int(literal_of(node.expressions[0])))


@pytest.mark.parametrize(("engine", "speech"), [("sqlserver", "tsql"), ("oracle", "oracle")])
def test_texts_of_all_kinds_are_in_scripts_for_engines_that_are_not_run_here(
    engine: str, speech: str, kerfmark: Runner, tmp_path: Path
) -> None:
    """Read by a parser of the dialect, after what the client would do with each line."""
    with (tmp_path / "t.csv").open("w", newline="") as file:
        made = csv.writer(file)
        made.writerow(["no", "day", "at", "level", "text"])
        for i, text in enumerate(TEXTS):
            made.writerow([i, f"1650-01-{i + 10}", "07:08:09", "N1" if i % 2 else "n1", text])
    layout = (
        'kerfmark = 1\n[sources.t]\nfile = "t.csv"\n[tables.access]\neach_row = true\n'
        'known_by = ["no"]\nlinks = ["level"]\n[tables.access.columns]\n'
        'no = {header = "no", type = "integer"}\nfile = "text"\n'
        'day = {header = "day", type = "date YYYY-MM-DD"}\n'
        'at = {header = "at", type = "time hh:mm:ss"}\n'
        '[tables.level]\nknown_by = ["level"]\ncolumns = ["level"]\n'
    )
    (tmp_path / "l.toml").write_text(layout)
    done = kerfmark("cut", "l.toml", "--as-script", "s.sql", "--for", engine)
    script = (tmp_path / "s.sql").read_bytes().decode()
    assert "\r" not in script
    lines = script.split("\n")
    if engine == "sqlserver":
        assert "sqlcmd -b -x -f 65001 -d DATABASE -i s.sql" in done.out
        assert lines[1] == ":on error exit" and "$(" not in script
        batches = "\n".join(lines[2:]).split("\nGO\n")
        assert batches[1] == "BEGIN TRANSACTION;" and batches[-2] == "COMMIT TRANSACTION;"
        said = [b for b in batches if b.strip()]
        made_keys = {b.split()[2] for b in said if "IDENTITY" in b and b.startswith("CREATE TABLE")}
        given = {b.split()[2] for b in said if b.startswith("SET IDENTITY_INSERT")}
        assert {n.strip("[]") for n in made_keys} == {n.strip("[]") for n in given}
        assert "day DATE" in script and "at TIME(0)" in script
        assert "COLLATE Latin1_General_100_BIN2" in script
        assert "CAST('1650-01-10' AS date)" in script
    else:
        assert max(len(line.encode()) for line in lines) < 2499
        assert not any(line.rstrip() in ("/", ".", "-", "#") for line in lines)
        assert not any(line.rstrip().endswith("-") or line.startswith("#") for line in lines)
        assert '"file" CLOB' in script and "level_value VARCHAR2(1000 CHAR)" in script
        assert '"access"' in script and '"file"' in script and '"level"' in script
        body = script[script.index("CREATE TABLE") :]
        said = [s for s in re.split(r";\n", body) if s.strip()]
    texts = []
    for statement in said:
        if "INSERT INTO" in statement and "access" in statement:
            [tree] = sqlglot.parse(statement, read=speech)
            assert isinstance(tree, exp.Insert)
            names = [c.name for c in tree.this.expressions]
            rows = (
                [t.expressions for t in tree.expression.find_all(exp.Tuple)]
                if speech == "tsql"
                else [s.expressions for s in tree.expression.find_all(exp.Select)]
            )
            texts += [literal_of(row[names.index("file")]) for row in rows]
    assert sorted(texts) == sorted(TEXTS)


def test_line_ends_in_texts_are_kept_by_the_client_of_sqlite(
    kerfmark: Runner, tmp_path: Path
) -> None:
    with (tmp_path / "t.csv").open("w", newline="") as file:
        csv.writer(file).writerows([["no", "text"], *enumerate(TEXTS)])
    kerfmark("cut", "t.csv", "--as-script", "s.sql", "--for", "sqlite")
    with target("SQLite", tmp_path) as db:
        run(db, tmp_path / "s.sql", tmp_path)
        assert db.ask("SELECT text FROM t ORDER BY no") == TEXTS
