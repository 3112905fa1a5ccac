"""What comes out is the same database on every engine, whatever names and values are like."""

from __future__ import annotations

import random
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Runner
from engines import Target

Write = Callable[..., Path]
LONG = "how many of the very many bees that were seen on the board in front of the hive came home"


def test_hostile_names_are_only_names(db: Target, write: Write, kerfmark: Runner) -> None:
    headers = [
        "no",
        'a "quoted" one',
        "it's 100 %s ?",
        "back`tick",
        "select",
        "sémi;colon -- x",
        LONG + " 1",
        LONG + " 2",
        "order",
        "price WHERE sold",
    ]
    lines = [",".join('"' + h.replace('"', '""') + '"' for h in headers)]
    lines += [f"{i},q{i % 3},p{i % 3},b{i},s{i},c{i},x{i},y{i},o{i % 2},{i}.5" for i in range(12)]
    write("odd.csv", "\n".join(lines) + "\n")
    write(
        "l.toml",
        'kerfmark = 1\n[sources.odd]\nfile = "odd.csv"\n[tables.order]\neach_row = true\nknown_by '
        '= ["no"]\n'
        'comment = "what\'s \\"ordered\\""\nlinks = {group = "group"}\n'
        '[tables.order.columns]\nno = {header = "no", type = "integer"}\n"back`tick" = '
        '"back`tick"\n'
        'select = {header = "select", comment = "100 % sure?"}\n'
        f'"sémi;colon -- x" = "sémi;colon -- x"\nfirst = "{LONG} 1"\nsecond = "{LONG} 2"\n"order" '
        '= "order"\n"price WHERE sold" = {header = "price WHERE sold", type = "decimal(6,2) 0.#"}\n'
        '[tables.group]\nknown_by = ["it\'s 100 %s ?"]\n[tables.group.columns]\n"it\'s 100 %s ?" = '
        '"it\'s 100 %s ?"\n'
        "'a \"quoted\" one' = 'a \"quoted\" one'\n",
    )
    kerfmark("cut", "l.toml", "--into", db)
    assert kerfmark("prove", db, "--json").json["holds"]
    assert db.ask(
        'SELECT "back`tick", "select", "sémi;colon -- x", "it\'s 100 %s ?" FROM "order" AS o JOIN '
        '"group" AS g '
        'ON g.group_id = o."group" WHERE no = 4'
    ) == [("b4", "s4", "c4", "p1")]
    write("more.csv", lines[0] + "\n20,q1,p1,b,s,c,x,y,o,1\n21,q9,p9,b,s,c,x,y,o,2\n")
    kerfmark("add", "more.csv", "--into", db)
    assert kerfmark("prove", db, "--json").json["holds"]
    assert len(kerfmark("show", db, "odd_flat", "--json").json["tables"][0]["columns"]) == 10
    assert kerfmark("trace", db, "order", 13).code == 0
    kerfmark("undo", db)
    price = 'SELECT "price WHERE sold" + 0 FROM "order" WHERE no = 4'
    write("again.csv", lines[0] + "\n4,q1,p1,b4,s4,c4,x4,y4,o0,99\n")
    kerfmark("add", "again.csv", "--into", db, "--known", "overwrite")
    assert [float(v) for v in db.ask(price)] == [99]
    kerfmark("undo", db)
    assert [float(v) for v in db.ask(price)] == [4.5]
    if db.engine == "PostgreSQL":
        assert db.ask("SELECT obj_description('\"order\"'::regclass)") == ['what\'s "ordered"']
        assert db.ask("SELECT col_description('\"order\"'::regclass, 5)") == ["100 % sure?"]
    if db.engine == "MariaDB":
        assert db.ask(
            "SELECT table_comment FROM information_schema.tables WHERE table_schema = DATABASE() "
            "AND table_name = 'order'"
        ) == ['what\'s "ordered"']


def test_what_is_told_apart_in_the_file_is_told_apart_in_the_database(
    db: Target, write: Write, kerfmark: Runner
) -> None:
    write(
        "names.csv",
        'no,keeper\n1,Ann\n2,ann\n3,Ánn\n4,"Ann '
        '"\n5,ANN\n6,Ann\n7,"a\\nb"\n8,"tab\there"\n9,"line\nend"\n',
    )
    write(
        "l.toml",
        'kerfmark = 1\n[sources.names]\nfile = "names.csv"\n[tables.visit]\neach_row = '
        'true\nknown_by = ["no"]\n'
        'links = ["keeper"]\ncolumns = ["no"]\n[tables.keeper]\nknown_by = ["keeper"]\ncolumns = '
        '["keeper"]\n',
    )
    kerfmark("cut", "l.toml", "--into", db)
    assert (
        db.ask("SELECT count(*) FROM keeper") == [8]
        and kerfmark("prove", db, "--json").json["holds"]
    )
    write("more.csv", 'no,keeper\n10,ANN\n11,"Ann  "\n12,"line\nend"\n')
    kerfmark("add", "more.csv", "--into", db)
    assert db.ask("SELECT keeper_id FROM visit WHERE no = '10'") == [5] and db.ask(
        "SELECT count(*) FROM keeper"
    ) == [9]
    assert kerfmark("prove", db, "--json").json["holds"]
    db.do("UPDATE keeper SET keeper = 'Bo' WHERE keeper = 'ANN'")
    assert "Bo" in kerfmark("prove", db, code=1).out  # one cell altered by hand


def test_values_at_the_edges_stay_as_they_are(db: Target, write: Write, kerfmark: Runner) -> None:
    rows = [
        "1,999999999999999999,0.0000000001,1e-300,0001-01-01,00:00:00,yes,0",
        "2,-999999999999999999,-99999.9999999999,-1.5e300,9999-12-31,23:59:59,no,1.10",
        "3,0,0.0000000000,0.1,2024-02-29,12:00:01,yes,-0.00",
    ]
    write("edge.csv", "no,big,small,share,day,at,calm,kg\n" + "\n".join(rows) + "\n")
    write(
        "l.toml",
        'kerfmark = 1\n[sources.edge]\nfile = "edge.csv"\n[tables.edge]\neach_row = true\nknown_by '
        '= ["no"]\n'
        'optional = ["kg"]\n[tables.edge.columns]\nno = {header = "no", type = "integer"}\n'
        'big = {header = "big", type = "integer"}\n'
        'small = {header = "small", type = "decimal(15,10)"}\nshare = {header = "share", type = '
        '"real"}\n'
        'day = {header = "day", type = "date YYYY-MM-DD"}\nat = {header = "at", type = "time '
        'hh:mm:ss"}\n'
        'calm = {header = "calm", type = "boolean yes/no"}\nkg = {header = "kg"}\n',
    )
    kerfmark("cut", "l.toml", "--into", db)
    assert kerfmark("prove", db, "--json").json["holds"]
    assert db.ask("SELECT big, kg FROM edge WHERE no < 3") == [
        (999999999999999999, "0"),
        (-999999999999999999, "1.10"),
    ]
    shown = kerfmark("show", db, "edge", "--json").json["tables"][0]["first_rows"][0]
    assert shown[2] == 999999999999999999 and "0001-01-01" in shown


@pytest.mark.parametrize("db", ["PostgreSQL", "MariaDB"], indirect=True)
def test_what_a_server_has_no_room_for_is_told(db: Target, write: Write, kerfmark: Runner) -> None:
    write(
        "a.csv",
        "no,text\n1,"
        + "".join(random.Random(1).choices("abcdefghijklmnopqrstuvwxyz", k=20_000))
        + "\n2,b\n",
    )
    layout = (
        'kerfmark = 1\n[sources.a]\nfile = "a.csv"\n[tables.NAME]\neach_row = true\nknown_by = '
        '["no"]\nlinks = ["long"]\n'
        'columns = ["no"]\n[tables.long]\nknown_by = ["text"]\ncolumns = ["text"]\n'
    )
    write("l.toml", layout.replace("NAME", "a" * 70))
    told = kerfmark("cut", "l.toml", "--into", db, code=2).err
    assert "is too long for the engine" in told and db.tables() == []
    write("l.toml", layout.replace("NAME", "a"))
    done = kerfmark("cut", "l.toml", "--into", db, code=2 if db.engine == "PostgreSQL" else 1).err
    assert "longer than an index of the server takes" in done or (
        "refuses rows of long" in done and "truncated" in done
    )
    assert db.tables() == []


def test_every_form_comes_out_as_it_came_in(
    db: Target, write: Write, kerfmark: Runner, tmp_path: Path
) -> None:
    text = (
        "no,at,iso,day,clock,count,kg\n1,3/14/2025 2:05 PM,2025-01-18T04:15:00Z,13.04.25,10:30 "
        'PM,"1,234","1.234,50"\n'
        '2,4/5/2025 12:00 AM,2025-02-01T00:00:00Z,01.02.99,12:15 AM,"2,500,000","0,25"\n'
        '3,4/5/2025 12:30 PM,2025-02-01T10:00:00Z,02.03.69,09:05 AM,7,"10,00"\n'
    )
    write("forms.csv", text)
    write(
        "l.toml",
        'kerfmark = 1\n[sources.forms]\nfile = "forms.csv"\n[tables.form]\neach_row = '
        'true\nknown_by = ["no"]\n'
        '[tables.form.columns]\nno = "no"\nat = {header = "at", type = "timestamp M/D/YYYY h:mm '
        'AM"}\n'
        'iso = {header = "iso", type = "timestamp YYYY-MM-DDThh:mm:ssZ"}\nday = {header = "day", '
        'type = "date DD.MM.YY"}\n'
        'clock = {header = "clock", type = "time hh:mm AM"}\ncount = {header = "count", type = '
        '"integer 0,000"}\n'
        'kg = {header = "kg", type = "decimal(7,2) 0.000,00"}\n',
    )
    kerfmark("cut", "l.toml", "--into", db)
    assert kerfmark("prove", db, "--json").json["holds"]
    assert db.ask('SELECT "count", no FROM form ORDER BY no') == [
        (1234, "1"),
        (2500000, "2"),
        (7, "3"),
    ]
    kerfmark("export", db, "--flat", "forms", "-o", "back.csv")
    assert (tmp_path / "back.csv").read_text() == text
