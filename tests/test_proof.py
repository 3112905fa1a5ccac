"""The proof as a page: everything that an auditor asks for is on it, and it says so when something differs."""

from __future__ import annotations

import re
import sqlite3
from collections.abc import Callable
from html.parser import HTMLParser
from pathlib import Path

from conftest import Runner
from engines import Target

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
