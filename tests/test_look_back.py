"""show, prove and demo through the real program, and the errors that a first user meets."""

from __future__ import annotations

import gzip
import sqlite3
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Runner, flat_visits
from kerfmark.store.sqlite import connection
from kerfmark.store.sqlite.new import NewFile

Write = Callable[..., Path]


@pytest.fixture
def database(kerfmark: Runner, visits: Path, tmp_path: Path) -> Path:
    kerfmark("cut", "visits.csv", "--into", "bees.db")
    return tmp_path / "bees.db"


def test_show_tells_tables_keys_links_and_rows(kerfmark: Runner, database: Path) -> None:
    out = kerfmark("show", "bees.db", "--rows", "1").out
    assert (
        "visit  240 rows; key visit_id; unique visit_no; hive_id leads to hive; keeper_id leads to "
        "keeper" in out
    )
    assert "H00" in out and "views: visits_flat" in out and "kerfmark_" not in out
    assert len(kerfmark("show", "bees.db", "keeper", "--rows", "9").out.splitlines()) == 18
    assert 'there is no table "keper"' in kerfmark("show", "bees.db", "keper", code=2).err


def test_prove_counts_what_it_compared(kerfmark: Runner, database: Path) -> None:
    assert "240 rows and 2,160 cells compared" in kerfmark("prove", "bees.db").out


@pytest.mark.parametrize(
    ("sql", "said"),
    [
        ("UPDATE visit SET kg = 99 WHERE visit_id = 5", ["6", "kg", "1.6", "99"]),
        ("UPDATE visit SET kg = 'heavy' WHERE visit_id = 5", ["6", "kg", "1.6", "heavy"]),
        ("UPDATE visit SET day = NULL WHERE visit_id = 9", []),
        (
            "UPDATE keeper SET phone = '0555 1' WHERE keeper_id = 1",
            ["2", "phone", "0555 000", "0555 1"],
        ),
        ("UPDATE visit SET hive_id = 2 WHERE visit_id = 1", ["2", "hive", "H00", "H07"]),
        ("DELETE FROM visit WHERE visit_id = 100", ["101", "no such row"]),
        (
            "INSERT INTO visit SELECT 999, hive_id, keeper_id, 999, day, kg FROM visit WHERE "
            "visit_id = 3",
            ["no such row"],
        ),
        ("DELETE FROM apiary WHERE apiary_id = 2", ["apiary", "blank"]),
    ],
)
def test_prove_fails_when_the_database_was_altered(
    kerfmark: Runner, database: Path, sql: str, said: list[str]
) -> None:
    with sqlite3.connect(database) as db:
        try:
            db.execute(sql)
        except sqlite3.IntegrityError:
            assert not said
            return
    out = kerfmark("prove", "bees.db", code=1).out
    assert "differs" in out
    assert any(all(s in line for s in said) for line in out.splitlines()), out


def test_prove_fails_when_the_file_was_altered(
    kerfmark: Runner, database: Path, visits: Path
) -> None:
    visits.write_text(flat_visits().replace("2025-02-02", "2025-02-03", 1))
    run = kerfmark("prove", "bees.db", code=1)
    assert "is not the file that was loaded" in run.err
    assert any(
        all(s in line for s in ("3", "day", "2025-02-03", "2025-02-02"))
        for line in run.out.splitlines()
    )


def test_prove_takes_another_order_of_rows_for_the_same(
    kerfmark: Runner, database: Path, visits: Path
) -> None:
    head, *rows = flat_visits().splitlines()
    visits.write_text("\n".join([head, *reversed(rows)]) + "\n")
    assert "all in the database" in kerfmark("prove", "bees.db").out


def test_prove_says_what_it_lacks(
    kerfmark: Runner, database: Path, visits: Path, tmp_path: Path
) -> None:
    visits.unlink()
    assert "no longer there" in kerfmark("prove", "bees.db", code=2).err
    sqlite3.connect(tmp_path / "alien.db").execute("CREATE TABLE t (a)")
    assert "Kerfmark did not make this database" in kerfmark("prove", "alien.db", code=2).err


def test_the_demo_tells_the_whole_story(kerfmark: Runner, tmp_path: Path) -> None:
    out = kerfmark("demo", "story").out
    parts = (
        "$ kerfmark mark",
        "why these links",
        "$ kerfmark cut",
        "$ kerfmark show",
        "$ kerfmark prove",
        "compared",
        "Try next",
    )
    at = [out.index(part) for part in parts]
    assert at == sorted(at)
    assert (tmp_path / "story/apiary.layout.toml").exists()
    kerfmark("demo", "story")  # again, over itself
    (tmp_path / "story/register.xlsx").write_text("mine")
    assert "would overwrite" in kerfmark("demo", "story", code=2).err


def test_help_has_examples(kerfmark: Runner) -> None:
    assert "kerfmark cut inspections-2025.csv --into apiary.db" in kerfmark("--help").out
    for command in ("cut", "show", "prove", "demo"):
        assert f"  kerfmark {command}" in kerfmark(command, "--help").out
    assert kerfmark("--version").out.startswith("kerfmark 0.")
    assert "COMMAND" in kerfmark(code=2).err


FIRST_ERRORS: list[tuple[str, bytes | None, int, str]] = [
    ("missing.csv", None, 2, "there is no such file"),
    ("empty.csv", b"", 2, "the file is empty"),
    ("bom.csv", b"\xef\xbb\xbf\n", 2, "the file is empty"),
    ("header.csv", b"hive,keeper\n", 2, "there are no rows in it"),
    ("binary.csv", bytes(range(256)) * 40, 2, "not a text file"),
    ("zipped.csv", b"PK\x03\x04" + b"x" * 60, 2, "a zip archive or a workbook"),
    ("disguised.csv", gzip.compress(b"a,b\n1,2\n"), 2, "a gzip archive"),
    ("ragged.csv", b"a,b\n1,2\n3\n4,5\n", 1, "row 3 has 1 field instead of 2"),
]


@pytest.mark.parametrize(
    ("name", "content", "code", "said"), FIRST_ERRORS, ids=[e[0] for e in FIRST_ERRORS]
)
def test_first_errors_are_one_clear_message(
    kerfmark: Runner,
    write: Write,
    tmp_path: Path,
    name: str,
    content: bytes | None,
    code: int,
    said: str,
) -> None:
    if content is not None:
        write(name, content)
    run = kerfmark("cut", name, "--into", "x.db", code=code)
    assert run.err.startswith(f"error: {name}") and said in run.err
    assert run.out == "" and not (tmp_path / "x.db").exists()


def test_targets_that_will_not_do(kerfmark: Runner, visits: Path, tmp_path: Path) -> None:
    assert "does not exist" in kerfmark("cut", "visits.csv", "--into", "no/where.db", code=2).err
    assert "folder" in kerfmark("cut", "visits.csv", "--into", ".", code=2).err
    (tmp_path / "empty").mkdir()
    assert "no file in this folder" in kerfmark("cut", "empty", "--into", "x.db", code=2).err
    (tmp_path / "letter.txt").write_text("Dear keepers")
    assert "exists already" in kerfmark("cut", "visits.csv", "--into", "letter.txt", code=2).err
    assert (
        "not replaced"
        in kerfmark("cut", "visits.csv", "--into", "letter.txt", "--replace", code=2).err
    )
    assert (tmp_path / "letter.txt").read_text() == "Dear keepers"
    for command in ("show", "prove"):
        assert "no such database" in kerfmark(command, "none.db", code=2).err
        assert "not an SQLite database" in kerfmark(command, "visits.csv", code=2).err
        assert "folder" in kerfmark(command, ".", code=2).err
    assert (
        "cannot be nothing"
        in kerfmark("cut", "visits.csv", "--into", "x.db", "--delimiter", "", code=2).err
    )
    assert (
        "no encoding called"
        in kerfmark("cut", "visits.csv", "--into", "x.db", "--encoding", "utf-99", code=2).err
    )


def test_a_full_disk_leaves_nothing(
    monkeypatch: pytest.MonkeyPatch, visits: Path, tmp_path: Path
) -> None:
    """Every step of the store fails once; the target stays as it was and no part of it is left."""
    import kerfmark

    kerfmark.cut([visits], tmp_path / "bees.db")
    before = {p.name: p.read_bytes() for p in tmp_path.iterdir()}
    for step in ("create", "load", "finish", "append", "verify", "publish"):

        def fail(*_: object, **__: object) -> None:
            raise sqlite3.OperationalError("database or disk is full")

        with monkeypatch.context() as patch:
            patch.setattr(NewFile, step, fail)
            with pytest.raises(sqlite3.OperationalError):
                kerfmark.cut([visits], tmp_path / "bees.db", replace=True)
        assert {p.name: p.read_bytes() for p in tmp_path.iterdir()} == before
    with (
        pytest.raises(kerfmark.TargetError, match="disk is full"),
        connection.translated(tmp_path / "bees.db"),
    ):
        raise sqlite3.OperationalError("database or disk is full")


def test_links_that_lead_nowhere_are_found(kerfmark: Runner, database: Path) -> None:
    with sqlite3.connect(database) as db:
        assert connection.broken_links(lambda sql: db.execute(sql).fetchall(), "visit") == []
        db.execute("UPDATE visit SET keeper_id = 77 WHERE visit_id = 200")
        assert connection.broken_links(lambda sql: db.execute(sql).fetchall(), "visit") == [
            "keeper_id"
        ]
        db.execute("DROP INDEX visit_keeper_id")
        assert connection.broken_links(lambda sql: db.execute(sql).fetchall(), "visit") == [
            "keeper_id"
        ]
    assert (
        "visit.keeper_id: some values refer to no record"
        in kerfmark("prove", "bees.db", code=1).out
    )
