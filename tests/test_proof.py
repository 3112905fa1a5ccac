"""The proof as a page: everything that an auditor asks for is on it, and it says so when something
differs."""

from __future__ import annotations

import re
import sqlite3
from collections.abc import Callable
from html.parser import HTMLParser
from pathlib import Path

import pyarrow as pa
import pytest

import kerfmark as library
from conftest import Runner
from engines import Target
from kerfmark.layout.text import parse_layout
from kerfmark.ledger import prove
from kerfmark.profile import columns
from kerfmark.profile.types import ColumnType
from kerfmark.store.sqlite import reader as sqlite_reader
from kerfmark.store.sqlite.dialect import dialect
from kerfmark.store.views import view

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


def test_the_page_tells_what_was_read_built_compared_and_done_on_purpose(
    write: Write, kerfmark: Runner, db: Target, tmp_path: Path
) -> None:
    write("visits.csv", "no,note,hive,scratch\n1, dry ,H1,x\n2,?,<b>H2</b>,y\n9,z,H3,z\n3,,,z\n")
    write("l.toml", LAYOUT)
    kerfmark("cut", "l.toml", "--into", db, "--set-aside", "bad.csv", code=3)
    kerfmark("prove", db, "--report", "proof.html")
    page = Words((tmp_path / "proof.html").read_text("utf-8"))
    assert "Proven: 2 rows and 6 cells were compared" in page.words and "b" not in page.tags
    assert re.search(r"visits\.csv\|.*?1\|.*?cut\|.*?[0-9a-f]{32}\|", page.words, re.S)
    assert (
        "visit: only rows for which [no] <> '9'" in page.words
        and "visits: scratch left out" in page.words
    )
    assert 'visit.note: made clean (trim); "?" means a blank' in page.words
    assert '"hive" is blank' in page.words
    assert "known_by = [" in page.words and "secret" not in page.words
    assert "exists already" in kerfmark("prove", db, "--report", "proof.html", code=2).err


def test_the_page_says_so_when_something_differs(
    visits: Path, kerfmark: Runner, tmp_path: Path
) -> None:
    kerfmark("cut", "visits.csv", "--into", "v.db")
    with sqlite3.connect(tmp_path / "v.db") as db:
        db.execute("UPDATE keeper SET phone = '<i>0</i>' WHERE keeper_id = 1")
    kerfmark("prove", "v.db", "--report", "proof.html", code=1)
    page = Words((tmp_path / "proof.html").read_text("utf-8"))
    assert "Not proven" in page.words and "<i>0</i>" in page.words and "i" not in page.tags


@pytest.mark.parametrize(
    "statement",
    [
        "",
        "UPDATE visit SET kg = kg + 1 WHERE visit_id = 1",
        "UPDATE visit SET kg = kg + 1 WHERE visit_id = 20",
        "UPDATE visit SET kg = kg + 1 WHERE visit_id = 21",
        "UPDATE visit SET kg = kg + 1 WHERE visit_id = 40",
        "DELETE FROM visit WHERE visit_id = 1",
        "DELETE FROM visit WHERE visit_id = 40",
        "INSERT INTO visit ({cells}) SELECT {cells} FROM visit WHERE visit_id = 3",
        "UPDATE keeper SET keeper = 'Somebody Else' WHERE keeper_id = 1",
    ],
)
def test_two_who_read_a_half_each_see_what_one_sees(
    statement: str, visits: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    visits.write_text("".join(visits.read_text().splitlines(keepends=True)[:41]))
    library.cut([visits], tmp_path / "bees.db")
    with sqlite3.connect(tmp_path / "bees.db") as db:
        db.execute("DROP INDEX IF EXISTS visit_known_by")
        db.execute(
            statement.format(
                cells=", ".join(r[1] for r in db.execute("PRAGMA table_info(visit)") if not r[5])
            )
        )
    one = library.prove(tmp_path / "bees.db")
    parts: list[object] = []
    real = sqlite_reader.SqliteCatalog.partition
    monkeypatch.setattr(
        sqlite_reader.SqliteCatalog, "partition", lambda *a: parts.append(real(*a)) or parts[-1]
    )
    monkeypatch.setattr(sqlite_reader, "has_two_cores", lambda: True)
    monkeypatch.setattr(prove, "HALVED", 1)
    two = library.prove(tmp_path / "bees.db")
    assert all(parts) and len(parts) == 1
    assert two.proofs == one.proofs and two.rows_hold == (not statement) and two.gone


@pytest.mark.parametrize(
    ("old", "new"),
    [
        ("SELECT ", "SELECT DISTINCT "),
        ("\nFROM", "\nFROM (SELECT 1) AS one, "),
        (" AS\n", " AS\nSELECT * FROM old UNION ALL "),
        ("$", " WHERE 1"),
        ("$", "\nGROUP BY 1"),
        ("$", " ORDER BY 2"),
        ("$", " LIMIT 3"),
        ("LEFT JOIN", "JOIN"),
    ],
)
def test_a_view_that_somebody_changed_is_read_whole(
    old: str, new: str, visits: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    library.cut([visits], tmp_path / "bees.db")
    monkeypatch.setattr(sqlite_reader, "has_two_cores", lambda: True)
    layout = parse_layout((tmp_path / "bees.layout.toml").read_text(), "bees.layout.toml")
    ours = view(layout, "visits", visits.read_text().splitlines()[0].split(","), dialect())
    with (
        sqlite3.connect(tmp_path / "bees.db") as db,
        sqlite_reader.reading(tmp_path / "bees.db") as reader,
    ):
        assert reader.partition(ours, "visit", 3)
        [(made,)] = db.execute("SELECT sql FROM sqlite_master WHERE name = 'visits_flat'")
        db.execute("DROP VIEW visits_flat")
        db.execute(made + new if old == "$" else made.replace(old, new, 1))
        db.commit()
        assert reader.partition(ours, "visit", 3) is None


TYPED = {
    "integer": ("12", "31"),
    "decimal(6,2)": ("1.50", "22.75"),
    "real": ("1e3", "2.5"),
    "boolean yes/no": ("yes", "no"),
    "date D Mon YYYY": ("3 Apr 2041", "12 Dec 2040"),
    "timestamp DD.MM.YY h:mm AM": ("03.04.41 9:05 PM", "04.04.41 12:00 AM"),
    "time hh:mm": ("07:30", "19:45"),
    "integer 0,000": ("1,200", "31"),
    "decimal(20,8) 0,#": ("-0,5", "12,00000001"),
    "date Month D, YYYY": ("May 1, 2041", "June 30, 2041"),
}


def of_type(folder: Path, type_: str) -> Path:
    """The layout for a file v.csv, in which the column `what`, that may be blank, has a type."""
    layout = folder / "v.layout.toml"
    layout.write_text(
        'kerfmark = 1\n[sources.v]\nfile = "v.csv"\ndelimiter = ";"\n[tables.v]\neach_row = '
        'true\nknown_by = ["no"]\noptional = ["what"]\n'
        f'columns.no = {{ header = "no", type = "integer" }}\ncolumns.what = {{ header = "what", '
        f'type = "{type_}" }}\n'
    )
    return layout


@pytest.mark.parametrize("type_", TYPED)
def test_a_fault_of_the_program_that_changes_values_is_not_proven(
    db: Target, tmp_path: Path, type_: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    one, other = TYPED[type_]
    (tmp_path / "v.csv").write_text(f"no;what\n1;{one}\n2;{other}\n3;\n4;{one}\n", encoding="utf-8")
    library.cut([of_type(tmp_path, type_)], str(db))
    assert library.prove(str(db)).holds  # what is right is proven
    real = columns.to_typed

    def faulty(texts: pa.StringArray, as_type: ColumnType) -> pa.Array:
        values = real(texts, as_type)
        return (
            values.take(pa.array([1, 0])) if str(as_type) == type_ and len(values) == 2 else values
        )

    monkeypatch.setattr(
        columns, "to_typed", faulty
    )  # the same fault when the tables are made and when they are proven
    library.cut([tmp_path / "v.layout.toml"], str(db), replace=True)
    proof = library.prove(str(db))
    assert not proof.holds and [p.total for p in proof.proofs] == [3]


@pytest.mark.parametrize("type_", TYPED)
@pytest.mark.parametrize("later", [False, True])
def test_a_cell_that_is_no_value_is_not_the_blank_that_the_database_has(
    db: Target, tmp_path: Path, type_: str, later: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Whether rows are compared as they stand, or, with `later` records that were there already,
    by the numbers that the ledger keeps."""
    monkeypatch.chdir(tmp_path)
    one, other = TYPED[type_]
    file, more = tmp_path / "v.csv", tmp_path / "w.csv"
    file.write_text(f"no;what\n1;{one}\n2;{other}\n3;\n4;{one}\n", encoding="utf-8")
    library.cut([of_type(tmp_path, type_)], str(db))
    if later:
        more.write_text(f"no;what\n5;{one}\n2;{other}\n", encoding="utf-8")
        library.add([more], str(db), known="keep")
    assert library.prove(str(db)).holds
    file.write_text(file.read_text().replace("3;\n", "3;lost\n"), encoding="utf-8")
    proof = library.prove(str(db))
    assert not proof.holds
    [told] = [d for p in proof.proofs for d in p.differences]
    assert (told.row, told.column, told.in_source) == (4, "what", '"lost"')
    assert told.in_database == "blank"
