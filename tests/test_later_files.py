"""Later files as they come: headers that are called otherwise, are missing or new, files of another
kind, folders that are named every night. Every remedy that is printed is followed."""

from __future__ import annotations

import csv
import io
import random
import re
import shlex
from collections.abc import Callable
from pathlib import Path
from typing import Any

import openpyxl
import pytest

from conftest import Runner
from engines import Target
from kerfmark import NewHeaders, UsageError, add, cut, prove

Write = Callable[..., Path]
HEAD = ["No", "Paid on", "Paid by", "Paid to", "Cents", "Note"]
PEOPLE = ["Ada", "Bo", "Cleo", "Dan", "Eva", "Fay"]
WAYS = ("card", "cash", "transfer")


def payments(first: int, rows: int, month: int, note: str = "") -> list[list[Any]]:
    rng = random.Random(first)
    return [
        [i, f"2040-0{month}-{rng.randint(1, 28):02}", rng.choice(WAYS), PEOPLE[i % 6], i * 7, note]
        for i in range(first, first + rows)
    ]


ROWS, MORE = payments(1, 39, 1), payments(100, 12, 2, "late")


def text(head: list[str], rows: list[list[Any]]) -> str:
    out = io.StringIO()
    csv.writer(out, lineterminator="\n").writerows([head, *rows])
    return out.getvalue()


def renamed(**names: str) -> list[str]:
    return [names.get(h.replace(" ", "_"), h) for h in HEAD]


@pytest.fixture
def paid(db: Target, write: Write, kerfmark: Runner) -> Target:
    write("paid.csv", text(HEAD, ROWS))
    kerfmark("cut", "paid.csv", "--into", str(db), "--known-by", "Paid to")
    return db


ASKED = "SELECT p.no, p.paid_by, t.paid_to, p.cents, p.note FROM paid p JOIN paid_to t USING (paid_to_id)"


def cells(rows: list[list[Any]]) -> list[tuple[Any, ...]]:
    return [(r[0], r[2], r[3], r[4], r[5] or None) for r in rows]


@pytest.mark.parametrize("turned", [False, True])
def test_a_header_means_a_known_one_now_and_from_then_on(
    paid: Target, write: Write, kerfmark: Runner, turned: bool
) -> None:
    write("feb.csv", text(renamed(Paid_by="Means", Paid_to="Whom"), MORE))
    said = [("Means", "Paid by"), ("Whom", "Paid to")]
    options = [
        part
        for new, old in said
        for part in ("--means", f"{old}={new}" if turned else f"{new}={old}")
    ]
    kerfmark("add", "feb.csv", "--into", str(paid), code=2)
    kerfmark("add", "feb.csv", "--into", str(paid), *options)
    assert paid.ask(ASKED) == cells([*ROWS, *MORE])
    write("mar.csv", text(renamed(Paid_by="Means", Paid_to="Whom"), [[900, *MORE[0][1:]]]))
    kerfmark("add", "mar.csv", "--into", str(paid))
    assert kerfmark("prove", str(paid)).code == 0


def test_what_is_proposed_by_values_and_types_is_right_and_can_be_followed(
    paid: Target, write: Write, kerfmark: Runner
) -> None:
    head = renamed(Paid_by="How", Paid_to="Recipient", Paid_on="When", Cents="Amount")
    write("feb.csv", text(head, MORE))
    told = " ".join(kerfmark("add", "feb.csv", "--into", str(paid), code=2).err.split())
    assert (
        '"Recipient" is new: perhaps the same, as 6 of its 6 values are in paid_to.paid_to' in told
    )
    assert '"When" is new: perhaps the same, as it is the only one of this type (date' in told
    remedies = re.findall(r'--means "[^"]+"', told)
    assert len(remedies) == 4
    kerfmark("add", "feb.csv", "--into", str(paid), *shlex.split(" ".join(remedies)))
    assert paid.ask(ASKED) == cells([*ROWS, *MORE])
    assert kerfmark("prove", str(paid)).code == 0


def test_a_column_that_is_lacking_is_blank_or_has_a_value(
    paid: Target, write: Write, kerfmark: Runner
) -> None:
    without = [[*r[:2], *r[3:5]] for r in MORE]  # neither Paid by nor Note
    write("feb.csv", text(["No", "Paid on", "Paid to", "Cents"], without))
    told = kerfmark("add", "feb.csv", "--into", str(paid), code=2).err
    assert '--lacking "Note" leaves it blank' in told
    told = kerfmark("add", "feb.csv", "--into", str(paid), "--lacking", "Note", "--lacking", "Paid by", code=2).err  # fmt: skip
    assert '"Paid by" cannot be blank in paid' in told and '--lacking "Paid by=VALUE"' in told
    both = ["--lacking", "Note", "--lacking", "Paid by=cheque"]
    kerfmark("add", "feb.csv", "--into", str(paid), *both)
    assert paid.ask(ASKED) == [*cells(ROWS), *((r[0], "cheque", r[3], r[4], None) for r in MORE)]
    write("mar.csv", text(["No", "Paid on", "Paid to", "Cents"], [[900, *without[0][1:]]]))
    kerfmark("add", "mar.csv", "--into", str(paid))  # it is remembered
    assert kerfmark("prove", str(paid)).code == 0
    kerfmark("undo", str(paid))
    kerfmark("undo", str(paid))
    assert paid.ask(ASKED) == cells(ROWS)


@pytest.mark.parametrize(
    ("said", "told"),
    [
        ({"lacking": {"No": ""}}, 'files cannot do without "No"'),
        ({"lacking": {"Paid to": "Ada"}}, 'files cannot do without "Paid to"'),
        ({"means": {"Foo": "Paid by"}}, '"Foo" cannot mean "Paid by" here'),
        ({"means": {"Extra": "Bar"}}, '"Extra" cannot mean "Bar" here'),
    ],
)
def test_what_cannot_be_said_of_headers_is_refused(
    tmp_path: Path, said: dict[str, Any], told: str
) -> None:
    (tmp_path / "paid.csv").write_text(text(HEAD, ROWS), encoding="utf-8")
    cut([tmp_path / "paid.csv"], tmp_path / "a.db")
    lacking = next(iter(said.get("lacking", {})), "")
    kept = [i for i, h in enumerate(HEAD) if h != lacking]
    head = [HEAD[i] for i in kept] + (["Extra"] if "means" in said else [])
    rows = [[r[i] for i in kept] + ([""] if "means" in said else []) for r in MORE]
    (tmp_path / "feb.csv").write_text(text(head, rows), encoding="utf-8")
    from kerfmark import Steering

    cut([tmp_path / "paid.csv"], tmp_path / "a.db", replace=True, steering=Steering(known_by=(("Paid to",),)))  # fmt: skip
    before = (tmp_path / "a.db").read_bytes()
    with pytest.raises(UsageError, match=re.escape(told)):
        add([tmp_path / "feb.csv"], tmp_path / "a.db", new_headers=NewHeaders(**said))
    assert (tmp_path / "a.db").read_bytes() == before


@pytest.mark.parametrize(
    ("head", "known"),
    [
        (["Jar", "Litres", "Shelf"], "none of the 3 headers of this file is known"),
        (["Jar", "Litres", "Shelf", "Note"], "1 of the 4 headers of this file is known"),
        (["Jar", "Litres", "A", "B", "Note", "Cents"], "2 of the 6 headers of this file are known"),
    ],
)
def test_a_wrong_file_is_called_that(
    write: Write, kerfmark: Runner, head: list[str], known: str
) -> None:
    write("paid.csv", text(HEAD, ROWS))
    kerfmark("cut", "paid.csv", "--into", "a.db")
    write("jars.csv", text(head, [[f"{h}{i}" for h in head] for i in range(9)]))
    told = kerfmark("add", "jars.csv", "--into", "a.db", code=2).err
    assert known in told and "is it the right file?" in told and "--beside" in told
    kerfmark("cut", "jars.csv", "--into", "a.db", "--beside")  # as it says
    assert kerfmark("prove", "a.db").code == 0


def test_a_folder_that_is_named_again_takes_only_what_is_new(
    paid: Target, write: Write, kerfmark: Runner, tmp_path: Path
) -> None:
    (tmp_path / "in").mkdir()
    write("in/2.csv", text(HEAD, MORE[:6]))
    kerfmark("add", "in", "--into", str(paid))
    for _ in range(2):
        again = kerfmark("add", "in", "--into", str(paid))
        assert "passed over 1 file, loaded already" in again.out and "nothing new" in again.out
    assert len(kerfmark("loads", str(paid), "--json").json["loads"]) == 2
    write("in/1.csv", text(HEAD, MORE[6:]))
    write("in/copy.csv", text(HEAD, MORE[6:]))
    result = kerfmark("add", "in/*.csv", "--into", str(paid), "--json").json
    assert (result["load"], result["known_files"], len(result["files"])) == (3, 2, 1)
    assert result["files"][0]["file"] == "1.csv"  # in the order of names
    assert paid.ask(ASKED) == cells([*ROWS, *MORE])
    assert kerfmark("prove", str(paid)).code == 0
    names = [f"in/{n}.csv" for n in ("1", "2")]
    kerfmark("add", *names, "--into", str(paid), code=1)  # files that are named are meant
    assert kerfmark("add", *names, "--into", str(paid), "--only-new").code == 0
    write("in/3.csv", text(HEAD, [[999, "2040-02-30", "card", "Ada", 1, ""]]))
    kerfmark("add", "in", "--into", str(paid), code=1)  # what is new must fit


def test_the_database_is_as_it_was_where_nothing_is_new(tmp_path: Path) -> None:
    (tmp_path / "paid.csv").write_text(text(HEAD, ROWS), encoding="utf-8")
    cut([tmp_path / "paid.csv"], tmp_path / "a.db")
    before = (tmp_path / "a.db").read_bytes()
    result = add([tmp_path / "*.csv"], tmp_path / "a.db")
    assert (result.load, result.known_files, result.files) == (0, 1, ())
    assert (tmp_path / "a.db").read_bytes() == before and prove(tmp_path / "a.db").holds


def test_the_sheet_that_was_chosen_is_chosen_again(
    db: Target, kerfmark: Runner, tmp_path: Path
) -> None:
    """The others of a monthly workbook are passed over, and told."""

    def book(name: str, rows: list[list[Any]]) -> None:
        whole = openpyxl.Workbook()
        whole.active.title = "Summary"
        for row in [["Month", "Total", "Signed"], ["all", 5, "Ada"]]:
            whole.active.append(row)
        sheet = whole.create_sheet("Payments")
        for row in [HEAD, *rows]:
            sheet.append(row)
        whole.save(tmp_path / name)

    book("jan.xlsx", ROWS)
    kerfmark("cut", "jan.xlsx", "--sheet", "Payments", "--into", str(db), "--known-by", "Paid to")
    book("feb.xlsx", MORE)
    told = kerfmark("add", "feb.xlsx", "--into", str(db))
    assert 'feb.xlsx, sheet "Summary" is passed over' in told.out + told.err
    asked = "SELECT count(*) FROM paid_to"
    assert db.ask(asked) == [6] and kerfmark("prove", str(db)).code == 0
    book("feb.xlsx", MORE[:5])
    kerfmark("refresh", str(db))
    assert kerfmark("prove", str(db)).code == 0
