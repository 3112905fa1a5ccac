"""What somebody has taken away of a database beside its rows is told by `prove`, on every engine, and
the remedy makes it again; rows that came with no load are told too."""

from __future__ import annotations

import re
import shlex
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Runner
from engines import Target

Write = Callable[..., Path]
LAYOUT = """
kerfmark = 1
[sources.visits]
file = "visits.csv"
[tables.visit]
each_row = true
known_by = ["no"]
optional = ["note"]
columns = {no = {header = "No", type = "integer"}, note = "Note"}
links = ["hive"]
[tables.hive]
known_by = ["code"]
unique = [["tag"]]
columns = {code = {header = "Hive", type = "text(20)"}, tag = {header = "Tag", type = "text(20)"}}
"""


@pytest.fixture
def made(db: Target, write: Write, kerfmark: Runner) -> Target:
    write("l.toml", LAYOUT)
    write("visits.csv", "No,Hive,Tag,Note\n" + "".join(f"{n},H{n % 5},t{n % 5},x\n" for n in range(40)))  # fmt: skip
    kerfmark("cut", "l.toml", "--into", str(db))
    assert kerfmark("prove", str(db)).out.count("all in the database, and no others") == 1
    return db


def index_of(db: Target, columns: str) -> str:
    asked = {
        "SQLite": "SELECT name FROM sqlite_master WHERE type = 'index' AND sql LIKE '%tag%'",
        "PostgreSQL": f"SELECT indexname FROM pg_indexes WHERE schemaname = current_schema() AND indexdef LIKE '%({columns.replace(chr(34), '')})'",
        "MariaDB": f"SELECT index_name FROM information_schema.statistics WHERE table_schema = DATABASE() AND column_name = '{columns.replace(chr(34), '')}' AND table_name = 'hive'",
    }[db.engine]
    return str(db.ask(asked)[0])


def dropped(db: Target, name: str) -> str:
    return f'DROP INDEX "{name}"' + (" ON hive" if db.engine == "MariaDB" else "")


def test_a_unique_index_that_is_gone(made: Target, kerfmark: Runner, tmp_path: Path) -> None:
    made.do(dropped(made, index_of(made, '"tag"')))
    told = kerfmark("prove", str(made), code=1).out
    assert "gone    that tag of hive is unique, which the layout asks for" in told
    assert "1 thing taken away" in _report(made, kerfmark, tmp_path)
    remedy = re.findall(r"kerfmark (show \S+ --layout|recut \S+ layout\.toml)", told)
    assert len(remedy) == 2
    (tmp_path / "layout.toml").write_text(kerfmark(*shlex.split(remedy[0])).out)
    kerfmark(*shlex.split(remedy[1]))
    assert kerfmark("prove", str(made)).code == 0


def _report(made: Target, kerfmark: Runner, tmp_path: Path) -> str:
    kerfmark("prove", str(made), "--report", "p.html", code=1)
    return (tmp_path / "p.html").read_text()


def test_a_view_that_is_gone(made: Target, kerfmark: Runner) -> None:
    made.do("DROP VIEW visits_flat")
    assert "visits_flat" in kerfmark("prove", str(made), code=2).err


def test_a_foreign_key_and_a_requirement_that_are_gone(made: Target, kerfmark: Runner) -> None:
    if made.engine == "PostgreSQL":
        [key] = made.ask("SELECT conname FROM pg_constraint WHERE contype = 'f' AND conrelid = 'visit'::regclass")  # fmt: skip
        made.do(f'ALTER TABLE visit DROP CONSTRAINT "{key}"', "ALTER TABLE visit ALTER COLUMN hive_id DROP NOT NULL")  # fmt: skip
    elif made.engine == "MariaDB":
        [key] = made.ask("SELECT constraint_name FROM information_schema.table_constraints WHERE table_schema = DATABASE() AND table_name = 'visit' AND constraint_type = 'FOREIGN KEY'")  # fmt: skip
        made.do(f'ALTER TABLE visit DROP FOREIGN KEY "{key}"', "ALTER TABLE visit MODIFY hive_id bigint NULL")  # fmt: skip
    else:
        made.do(
            "CREATE TABLE other AS SELECT * FROM visit",
            "DROP VIEW visits_flat",
            "ALTER TABLE visit RENAME TO old_one",
            "CREATE TABLE visit (visit_id INTEGER PRIMARY KEY, hive_id INTEGER, no BIGINT NOT NULL UNIQUE, note TEXT)",
            "INSERT INTO visit SELECT visit_id, hive_id, no, note FROM old_one",
            "DROP TABLE old_one",
            "DROP TABLE other",
            'CREATE VIEW visits_flat AS SELECT visit.no AS "No", hive.code AS "Hive", hive.tag AS "Tag", visit.note AS "Note" FROM visit LEFT JOIN hive ON hive.hive_id = visit.hive_id',
        )
    told = kerfmark("prove", str(made), code=1).out
    assert "gone    the foreign key visit.hive" in told
    assert "gone    that visit.hive_id is required" in told
    assert "proven" in told  # the rows are as they were


def test_a_record_that_came_with_no_load(made: Target, kerfmark: Runner) -> None:
    made.do("INSERT INTO hive (code, tag) VALUES ('H9', 't9')")
    told = kerfmark("prove", str(made)).out
    assert "1 row of hive came with no load" in told and "and no others" not in told
