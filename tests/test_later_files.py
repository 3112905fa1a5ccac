"""Later files as they come: headers that are called otherwise, are missing or new, files of another
kind, folders that are named every night. Every remedy that is printed is followed."""

from __future__ import annotations

import contextlib
import csv
import io
import random
import re
import shlex
import sqlite3
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import openpyxl
import pytest

from conftest import Runner
from engines import Target, run_and_kill
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
    assert '--lacking "Note" --lacking "Paid by=VALUE" fills what is missing' in told
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
    assert known in told and "name the right file" in told and "--beside" in told
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
        assert "skipped 1 file, loaded already" in again.out and "nothing new" in again.out
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
    """The others of a monthly workbook are skipped, and told."""

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
    assert 'feb.xlsx, sheet "Summary" is skipped' in told.out + told.err
    asked = "SELECT count(*) FROM paid_to"
    assert db.ask(asked) == [6] and kerfmark("prove", str(db)).code == 0
    book("feb.xlsx", MORE[:5])
    kerfmark("refresh", str(db))
    assert kerfmark("prove", str(db)).code == 0


def _quoted(rows: list[list[Any]]) -> str:
    return "\n".join(",".join(f"'{c}'" for c in r) for r in [HEAD, *rows]) + "\n"


def _fixed(rows: list[list[Any]]) -> str:
    lines = ["".join(f"{c:<12}" for c in r) for r in [HEAD, *rows]]
    return "\n".join(lines) + "\n"


def _book(path: Path, rows: list[list[Any]]) -> None:
    book = openpyxl.Workbook()
    book.active.title = "About"
    book.active.append(["nothing"])
    sheet = book.create_sheet("Paid")
    for i, row in enumerate([HEAD, *rows]):
        for j, cell in enumerate(row):
            sheet.cell(i + 4, j + 3, None if cell == "" else cell)
    for i in range(3):
        sheet.cell(1, i + 1, f"note {i}")
    book.save(path)


def _zip(path: Path, rows: list[list[Any]]) -> None:
    with zipfile.ZipFile(path, "w") as out:
        out.writestr("a.csv", text(HEAD, rows))
        out.writestr("b.csv", text(["x", "y"], [[1, 2]]))


def _base(path: Path, rows: list[list[Any]]) -> None:
    with contextlib.closing(sqlite3.connect(path)) as c:
        quoted = ", ".join(f'"{h}"' for h in HEAD)
        c.execute(f"CREATE TABLE p ({quoted})")
        c.executemany(f"INSERT INTO p VALUES ({', '.join('?' * len(HEAD))})", [[None if v == "" else v for v in r] for r in rows])  # fmt: skip
        c.execute("CREATE TABLE q (x, y)")
        c.execute("INSERT INTO q VALUES (1, 2)")
        c.commit()


ALL = "SELECT {} FROM p".format(", ".join(f'"{h}"' for h in HEAD))
BLANKED = [[*r[:2], r[2] if i == 0 else "", *r[3:]] for i, r in enumerate(MORE)]
READINGS: dict[str, tuple[str, Any, list[str]]] = {
    "delimiter": ("f.csv", text(HEAD, MORE).replace(",", "::"), ["--delimiter", "::"]),
    "widths": ("f.txt", _fixed(MORE), ["--widths", "12,12,12,12,12,12"]),
    "quote": ("f.csv", _quoted(MORE), ["--quote", "'"]),
    "encoding": ("f.csv", text(HEAD, MORE).encode("utf-16-le"), ["--encoding", "utf-16-le"]),
    "header row": ("f.csv", "a,b\nc,d\ne,f\n" + text(HEAD, MORE), ["--header-row", "4"]),
    "sheet": ("f.xlsx", _book, ["--sheet", "Paid", "--header-row", "4"]),
    "cells": ("f.xlsx", _book, ["--sheet", "Paid", "--cells", "C4:H16"]),
    "member": ("f.zip", _zip, ["--member", "a.csv"]),
    "table": ("f.db", _base, ["--table", "p"]),
    "query": ("f.db", _base, ["--query", ALL]),
    "skip rows": ("f.csv", text(HEAD, [[1, "x", "", "", "", ""], *MORE]), ["--skip-rows", "2"]),
    "fill down": ("f.csv", text(HEAD, BLANKED), ["--fill-down", "Paid by"]),
    "first rows": ("f.csv", text(HEAD, [*MORE, *payments(500, 9, 3)]), ["--first-rows", "12"]),
    "columns": ("f.csv", text(HEAD, MORE).partition("\n")[2], ["--columns", ",".join(HEAD)]),
    "columns in another order": (
        "f.csv",
        text(HEAD[::-1], [r[::-1] for r in MORE]).partition("\n")[2],
        ["--no-header", "--columns", ",".join(HEAD[::-1])],
    ),
    "blocks": ("f.csv", f"x,y\n1,2\n3,4\n\n\n{text(HEAD, MORE)}", ["--block", "2"]),
}


@pytest.mark.parametrize("how", READINGS)
def test_add_takes_what_measure_takes_and_reads_it_so_again(
    write: Write, kerfmark: Runner, tmp_path: Path, how: str
) -> None:
    write("paid.csv", text(HEAD, ROWS))
    kerfmark("cut", "paid.csv", "--into", "d.db", "--known-by", "Paid to")
    name, content, options = READINGS[how]
    path = tmp_path / name
    if callable(content):
        content(path, MORE)
    else:
        path.write_bytes(content if isinstance(content, bytes) else content.encode())
    wanted = MORE
    if how == "fill down":
        wanted = [[*r[:2], MORE[0][2], *r[3:]] for r in MORE]
    kerfmark("add", name, "--into", "d.db", *options)

    def held() -> list[tuple[Any, ...]]:
        with contextlib.closing(sqlite3.connect(tmp_path / "d.db")) as c:
            return c.execute(ASKED + " ORDER BY p.no").fetchall()

    assert held() == cells([*ROWS, *wanted])
    assert kerfmark("prove", "d.db").code == 0
    # refresh reads a file that has changed as it was read
    if name.endswith((".csv", ".txt")) and how not in ("encoding", "first rows"):
        path.write_text(path.read_text().replace("late", "late!"))
        assert "made again" not in kerfmark("refresh", "d.db").err
        assert held() == cells([*ROWS, *([*r[:5], "late!"] for r in wanted)])
        assert kerfmark("prove", "d.db").code == 0


def test_the_order_of_columns_without_a_header_is_said_once(
    paid: Target, write: Write, kerfmark: Runner
) -> None:
    bare = [text(HEAD, payments(n, 8, 4)).partition("\n")[2] for n in (600, 700)]
    write("apr.csv", bare[0])
    for options in ([], ["--no-header"]):
        told = kerfmark("add", "apr.csv", "--into", str(paid), *options, code=2).err
        assert f"--columns '{','.join(HEAD)}'" in told
    remedy = re.search(r"--columns '[^']+'", told)
    assert remedy
    kerfmark("add", "apr.csv", "--into", str(paid), *shlex.split(remedy[0]))
    write("may.csv", bare[1])
    kerfmark("add", "may.csv", "--into", str(paid), "--no-header")
    assert paid.ask(ASKED) == cells([*ROWS, *payments(600, 8, 4), *payments(700, 8, 4)])
    assert kerfmark("prove", str(paid)).code == 0


def test_a_file_without_a_header_is_not_taken_for_one_of_several_sources_as_wide(
    write: Write, kerfmark: Runner, tmp_path: Path
) -> None:
    sold, bought = ["Sold no", "Buyer", "Euro"], ["Bought no", "Seller", "Paid"]
    for name, head, first in (("sold", sold, 1), ("bought", bought, 100)):
        write(f"{name}.csv", text(head, [[n, f"Name {n % 7}", n * 3] for n in range(first, first + 40)]))  # fmt: skip
    kerfmark("cut", "sold.csv", "bought.csv", "--into", "d.db")
    into = ["--into", "d.db"]

    def bare(first: int, order: tuple[int, ...]) -> str:
        rows = [[n, f"Name {n % 7}", n * 3] for n in range(first, first + 3)]
        return text(["x"], [[r[i] for i in order] for r in rows]).partition("\n")[2]

    def euros(column: str) -> int:
        with contextlib.closing(sqlite3.connect(tmp_path / "d.db")) as c:
            [table] = [
                t
                for (t,) in c.execute(
                    "SELECT name FROM sqlite_master WHERE type = 'table'"
                ).fetchall()
                if column in [r[1] for r in c.execute(f'PRAGMA table_info("{t}")')]
            ]
            return int(c.execute(f'SELECT SUM("{column}") FROM "{table}"').fetchone()[0])

    sums = euros("euro"), euros("paid")
    write("s.csv", bare(200, (2, 0, 1)))
    kerfmark("add", "s.csv", *into, "--columns", "Euro,Sold no,Buyer")
    assert (euros("euro"), euros("paid")) == (sums[0] + 3 * 603, sums[1])
    # as wide as both: the order that one of them had last time says nothing of which it is
    write("b.csv", bare(300, (0, 1, 2)))
    told = kerfmark("add", "b.csv", *into, code=2).err
    assert "--columns" in told and "--as" in told
    assert (euros("euro"), euros("paid")) == (sums[0] + 3 * 603, sums[1])
    write("s2.csv", bare(400, (2, 0, 1)))
    kerfmark("add", "s2.csv", *into, "--as", "sold")
    kerfmark("add", "b.csv", *into, "--columns", ",".join(bought))
    write("b2.csv", bare(500, (0, 1, 2)))
    kerfmark("add", "b2.csv", *into, "--as", "bought")
    assert euros("euro") == sums[0] + 3 * (603 + 1203)
    assert euros("paid") == sums[1] + 3 * (903 + 1503)
    assert kerfmark("prove", "d.db").code == 0


def test_names_of_columns_must_be_as_many_and_differ(write: Write, kerfmark: Runner) -> None:
    write("apr.csv", "1,2\n3,4\n")
    assert "3 names for 2 columns" in kerfmark("measure", "apr.csv", "--columns", "A,B,C", code=2).err  # fmt: skip
    assert "a name of its own" in kerfmark("measure", "apr.csv", "--columns", "A,a", code=2).err
    found = kerfmark("measure", "apr.csv", "--columns", 'A,"B, too"', "--json").json
    assert [c["header"] for c in found["sources"][0]["columns"]] == ["A", "B, too"]
    kerfmark("cut", "apr.csv", "--columns", "A,B", "--into", "n.db")
    assert kerfmark("prove", "n.db").code == 0


def test_a_layout_beside_the_database_that_was_edited_is_told_with_what_to_do(
    write: Write, kerfmark: Runner, tmp_path: Path
) -> None:
    write("paid.csv", text(HEAD, ROWS))
    kerfmark("cut", "paid.csv", "--into", "d.db", "--known-by", "Paid to")
    layout = tmp_path / "d.layout.toml"
    before = layout.read_text()
    write("feb.csv", text(renamed(Paid_by="Means"), MORE))
    kerfmark("add", "feb.csv", "--into", "d.db", "--means", "Means=Paid by")
    assert "Means" in layout.read_text()  # nobody has edited it: it goes on being the one in force
    layout.write_text(before)
    write("mar.csv", text(HEAD, payments(300, 5, 3)))
    told = kerfmark("add", "mar.csv", "--into", "d.db").err
    assert "is an earlier layout of this database" in told
    kerfmark("undo", "d.db")
    remedy = re.search(r"kerfmark (show d\.db --layout)", told)
    assert remedy
    layout.write_text(kerfmark(*remedy[1].split()).out)
    assert "layout" not in kerfmark("add", "mar.csv", "--into", "d.db").err
    layout.write_text("# a comment\n" + layout.read_text())  # says the same
    write("apr.csv", text(HEAD, payments(400, 5, 4)))
    assert "layout" not in kerfmark("add", "apr.csv", "--into", "d.db").err
    edited = layout.read_text().replace("cents = {", "amount = {")
    layout.write_text(edited)
    write("may.csv", text(HEAD, payments(500, 5, 5)))
    told = kerfmark("add", "may.csv", "--into", "d.db").err
    remedy = re.search(r"kerfmark (recut d\.db d\.layout\.toml) --rehearse", told)
    assert "was edited" in told and remedy and layout.read_text() == edited
    assert "amount" in kerfmark(*remedy[1].split(), "--rehearse").out
    kerfmark(*remedy[1].split())
    write("jun.csv", text(HEAD, payments(600, 5, 6)))
    assert "layout" not in kerfmark("add", "jun.csv", "--into", "d.db").err
    assert kerfmark("prove", "d.db").code == 0


@pytest.mark.parametrize("when", range(3))
def test_a_program_killed_while_a_column_is_put_leaves_all_as_before_or_as_after(
    paid: Target, write: Write, kerfmark: Runner, tmp_path: Path, when: int
) -> None:
    rows = [[*r, f"w{r[0]}"] for r in payments(1000, 3000, 5)]
    write("may.csv", text([*HEAD, "Weather"], rows))
    command = ["add", "may.csv", "--into", str(paid), "--put", "Weather=paid"]
    before = paid.dump()
    run_and_kill(paid, command, tmp_path, 0.5 + 0.12 * when, 0.02 * when)
    kerfmark("loads", str(paid))  # whatever comes next finds all in order
    if paid.dump() == before:
        assert kerfmark("prove", str(paid)).code == 0
        kerfmark(*command)
    assert paid.ask("SELECT COUNT(*) FROM paid WHERE weather IS NOT NULL") == [3000]
    assert kerfmark("prove", str(paid)).code == 0
