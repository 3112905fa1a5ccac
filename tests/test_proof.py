"""The proof as a page: everything that an auditor asks for is on it, and it says so when something differs."""

from __future__ import annotations

import re
import sqlite3
from collections.abc import Callable
from html.parser import HTMLParser
from pathlib import Path

import pytest

import kerfmark as library
from conftest import Runner
from engines import Target
from kerfmark.ledger import prove
from kerfmark.store.sqlite import files

Write = Callable[..., Path]
LAYOUT = """\
kerfmark = 1
[sources.visits]
file = "visits.csv"
left_out = ["scratch"]
[tables.visit]
each_row = true
known_by = ["no"]
links = ["hive"]
only_rows = "[no] <> '9'"
optional = ["note"]
columns = {no = "no", note = {header = "note", clean = "trim", means = {"?" = ""}}}
[tables.hive]
known_by = ["hive"]
columns = ["hive"]
"""


class Words(HTMLParser):
    """The words of a page, and the tags that it opens."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.words, self.tags = "", set[str]()
        self.feed(text)

    def handle_data(self, data: str) -> None:
        self.words += data + "|"

    def handle_starttag(self, tag: str, attrs: object) -> None:
        self.tags.add(tag)


def test_the_page_tells_what_was_read_built_compared_and_done_on_purpose(write: Write, kerfmark: Runner, db: Target,
                                                                        tmp_path: Path) -> None:
    write("visits.csv", "no,note,hive,scratch\n1, dry ,H1,x\n2,?,<b>H2</b>,y\n9,z,H3,z\n3,,,z\n")
    write("l.toml", LAYOUT)
    kerfmark("cut", "l.toml", "--into", db, "--set-aside", "bad.csv", code=3)
    kerfmark("prove", db, "--report", "proof.html")
    page = Words((tmp_path / "proof.html").read_text("utf-8"))
    assert "Proven: 2 rows and 6 cells were compared" in page.words and "b" not in page.tags
    assert re.search(r"visits\.csv\|.*?1\|.*?cut\|.*?[0-9a-f]{32}\|", page.words, re.S)
    assert "visit: only rows for which [no] <> '9'" in page.words and "visits: scratch left out" in page.words
    assert 'visit.note: made clean (trim); "?" means a blank' in page.words
    assert '"hive" is blank' in page.words
    assert "known_by = [" in page.words and "secret" not in page.words
    assert "exists already" in kerfmark("prove", db, "--report", "proof.html", code=2).err


def test_the_page_says_so_when_something_differs(visits: Path, kerfmark: Runner, tmp_path: Path) -> None:
    kerfmark("cut", "visits.csv", "--into", "v.db")
    with sqlite3.connect(tmp_path / "v.db") as db:
        db.execute("UPDATE keeper SET phone = '<i>0</i>' WHERE keeper_id = 1")
    kerfmark("prove", "v.db", "--report", "proof.html", code=1)
    page = Words((tmp_path / "proof.html").read_text("utf-8"))
    assert "Not proven" in page.words and "<i>0</i>" in page.words and "i" not in page.tags


@pytest.mark.parametrize("statement", [
    "", "UPDATE visit SET kg = kg + 1 WHERE visit_id = 1", "UPDATE visit SET kg = kg + 1 WHERE visit_id = 20",
    "UPDATE visit SET kg = kg + 1 WHERE visit_id = 21", "UPDATE visit SET kg = kg + 1 WHERE visit_id = 40",
    "DELETE FROM visit WHERE visit_id = 1", "DELETE FROM visit WHERE visit_id = 40",
    "INSERT INTO visit ({cells}) SELECT {cells} FROM visit WHERE visit_id = 3",
    "UPDATE keeper SET keeper = 'Somebody Else' WHERE keeper_id = 1"])
def test_two_who_read_a_half_each_see_what_one_sees(statement: str, visits: Path, tmp_path: Path,
                                                    monkeypatch: pytest.MonkeyPatch) -> None:
    visits.write_text("".join(visits.read_text().splitlines(keepends=True)[:41]))
    library.cut([visits], tmp_path / "bees.db")
    with sqlite3.connect(tmp_path / "bees.db") as db:
        db.execute("DROP INDEX IF EXISTS visit_known_by")
        db.execute(statement.format(cells=", ".join(r[1] for r in db.execute("PRAGMA table_info(visit)") if not r[5])))
    one = library.prove(tmp_path / "bees.db")
    halves: list[object] = []
    real = files.SqliteSpeech.halves
    monkeypatch.setattr(files.SqliteSpeech, "halves", lambda *a: halves.append(real(*a)) or halves[-1])
    monkeypatch.setattr(files, "two_cores", lambda: True)
    monkeypatch.setattr(prove, "HALVED", 1)
    two = library.prove(tmp_path / "bees.db")
    assert all(halves) and len(halves) == 1
    assert two.proofs == one.proofs and two.holds == (not statement)


@pytest.mark.parametrize(("old", "new"), [
    ("SELECT ", "SELECT DISTINCT "), ("\nFROM", "\nFROM (SELECT 1) AS one, "), (" AS\n", " AS\nSELECT * FROM old UNION ALL "),
    ("$", " WHERE 1"), ("$", "\nGROUP BY 1"), ("$", " ORDER BY 2"), ("$", " LIMIT 3"), ("LEFT JOIN", "JOIN")])
def test_a_view_that_somebody_changed_is_read_whole(old: str, new: str, visits: Path, tmp_path: Path,
                                                    monkeypatch: pytest.MonkeyPatch) -> None:
    library.cut([visits], tmp_path / "bees.db")
    monkeypatch.setattr(files, "two_cores", lambda: True)
    with sqlite3.connect(tmp_path / "bees.db") as db, files.reading(tmp_path / "bees.db") as reader:
        assert reader.halves("visits_flat", "visit", 3)
        [(made,)] = db.execute("SELECT sql FROM sqlite_master WHERE name = 'visits_flat'")
        db.execute("DROP VIEW visits_flat")
        db.execute(made + new if old == "$" else made.replace(old, new, 1))
        db.commit()
        assert reader.halves("visits_flat", "visit", 3) is None
