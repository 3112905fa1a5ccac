"""Records that are there, filled from elsewhere: only these, unknown keys refused with the nearest one
and what it is called; policies by table; what stays as it was is told. On every engine."""

from __future__ import annotations

import csv
import io
import re
import shlex
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from conftest import Runner
from engines import Target

Write = Callable[..., Path]
LAYOUT = """
kerfmark = 1
[sources.accounts]
file = "accounts.csv"
[sources.entries]
file = "entries.csv"
[tables.account]
source = "accounts"
each_row = true
known_by = ["code"]
optional = ["balance", "rate", "yearly"]
[tables.account.columns]
code = "Code"
holder = "Holder"
balance = {header = "Balance", type = "integer"}
rate = {header = "Rate", type = "integer"}
yearly = {derived = "[Balance] * [Rate]", type = "integer"}
[tables.account.links]
branch_id = "branch"
[tables.branch]
source = "accounts"
known_by = ["branch"]
columns = {branch = "Branch"}
[tables.entry]
source = "entries"
each_row = true
known_by = ["no"]
[tables.entry.columns]
no = {header = "No", type = "integer"}
cents = {header = "Cents", type = "integer"}
[tables.entry.links]
account_id = {to = "account", by = {code = "Account"}, missing = "refuse"}
"""
HEAD = ["Code", "Holder", "Branch", "Balance", "Rate"]
ACCOUNTS = [
    ["A-1001", "Ada Weir", "Mill", 10, 2],
    ["A-1002", "Bo Mill", "Weir", "", 3],
    ["A-2001", "Cleo Elm", "Oak", 30, 4],
]
ASKED = (
    "SELECT a.code, a.holder, b.branch, a.balance, a.rate, a.yearly FROM account a "
    "JOIN branch b ON b.branch_id = a.branch_id ORDER BY a.code"
)


def text(head: list[str], rows: list[list[Any]]) -> str:
    out = io.StringIO()
    csv.writer(out, lineterminator="\n").writerows([head, *rows])
    return out.getvalue()


@pytest.fixture
def bank(db: Target, write: Write, kerfmark: Runner) -> Target:
    write("l.toml", LAYOUT)
    write("accounts.csv", text(HEAD, ACCOUNTS))
    write("entries.csv", text(["No", "Account", "Cents"], [[1, "A-1001", 5], [2, "A-2001", 6]]))
    kerfmark("cut", "l.toml", "--into", str(db))
    return db


def there(bank: Target) -> list[tuple[Any, ...]]:
    return [tuple(r) for r in bank.ask(ASKED)]


BEFORE = [
    ("A-1001", "Ada Weir", "Mill", 10, 2, 20),
    ("A-1002", "Bo Mill", "Weir", None, 3, None),
    ("A-2001", "Cleo Elm", "Oak", 30, 4, 120),
]


def test_only_what_the_file_says_of_records_that_are_there_is_changed(
    bank: Target, write: Write, kerfmark: Runner
) -> None:
    write("balances.csv", text(["Balance", "Code"], [[11, "A-1001"], [22, "A-1002"]]))
    into = ["--into", str(bank)]
    kerfmark("add", "balances.csv", *into, code=2)
    told = kerfmark("add", "balances.csv", *into, "--only-known", code=2).err
    assert "--known fill fills their blanks" in told
    kerfmark("add", "balances.csv", *into, "--only-known", "--known", "fill")
    filled = [BEFORE[0], (*BEFORE[1][:3], 22, 3, None), BEFORE[2]]
    assert there(bank) == filled
    assert kerfmark("prove", str(bank)).code == 0
    kerfmark("undo", str(bank))
    assert there(bank) == BEFORE
    done = kerfmark("add", "balances.csv", *into, "--only-known", "--known", "overwrite")
    assert there(bank) == [(*BEFORE[0][:3], 11, 2, 20), filled[1], BEFORE[2]]
    said = " ".join(done.err.split())
    assert "account.yearly stays as it was: it is derived from Balance, Rate, and the file has no Rate" in said  # fmt: skip
    assert "1 record of account is not in what was added, and stays as it was" in said
    assert kerfmark("prove", str(bank)).code == 0
    # what it rests on cannot be taken away under it; a changed file is loaded anew
    assert "rows of load 3 refer" in kerfmark("undo", str(bank), "1", code=1).err
    write("balances.csv", text(["Balance", "Code"], [[12, "A-1001"], [23, "A-1002"]]))
    kerfmark("refresh", str(bank))
    assert [r[3] for r in there(bank)] == [12, 23, 30]
    assert kerfmark("prove", str(bank)).code == 0
    layout = kerfmark("show", str(bank), "--layout").out
    write("new.toml", layout.replace("holder =", "owner ="))
    kerfmark("recut", str(bank), "new.toml")
    assert bank.ask("SELECT balance FROM account ORDER BY code") == [12, 23, 30]
    assert kerfmark("prove", str(bank)).code == 0


def test_an_unknown_key_is_refused_with_the_nearest_and_nothing_is_made(
    bank: Target, write: Write, kerfmark: Runner, tmp_path: Path
) -> None:
    rows = [[11, "A-1001"], [22, "A-1O02"], [33, "Z"]]
    write("balances.csv", text(["Balance", "Code"], rows))
    options = ["--into", str(bank), "--only-known", "--known", "overwrite"]
    told = kerfmark("add", "balances.csv", *options, code=1).err
    assert '"A-1O02" is not a record of account in the database; the nearest is "A-1002" (Bo Mill)' in told  # fmt: skip
    assert '"Z" is not a record of account in the database' in told and there(bank) == BEFORE
    kerfmark("add", "balances.csv", *options, "--set-aside", "a.csv", code=3)
    assert [r[3] for r in there(bank)] == [11, None, 30]
    lines = (tmp_path / "a.csv").read_text("utf-8-sig").splitlines()
    assert "Code = A-1002" in lines[1]
    (tmp_path / "a.csv").write_text("\n".join([lines[0], lines[1] + "yes"]) + "\n")
    kerfmark("add", "a.csv", *options)
    assert [r[3] for r in there(bank)] == [11, 22, 30]
    assert kerfmark("prove", str(bank)).code == 0
    kerfmark("undo", str(bank))
    kerfmark("undo", str(bank))
    assert there(bank) == BEFORE


def test_a_lookup_makes_nothing_either(bank: Target, write: Write, kerfmark: Runner) -> None:
    write("moves.csv", text(["Code", "Branch"], [["A-1001", "Oak"], ["A-1002", "Elm"]]))
    options = ["--into", str(bank), "--only-known", "--known", "overwrite"]
    told = kerfmark("add", "moves.csv", *options, code=1).err
    assert '"Elm" is not a record of branch in the database' in told and there(bank) == BEFORE
    assert "\n      add the record first" in told
    write("new.csv", text(HEAD, [["A-9001", "Eva", "Elm", 1, 1]]))
    kerfmark("add", "new.csv", "--into", str(bank))
    kerfmark("add", "moves.csv", *options)
    assert [r[2] for r in there(bank)] == ["Oak", "Elm", "Oak", "Elm"]
    kerfmark("undo", str(bank))
    kerfmark("undo", str(bank))
    write("moves.csv", text(["Code", "Branch"], [["A-1001", "Oak"]]))
    told = " ".join(kerfmark("add", "moves.csv", *options).err.split())
    assert [r[2] for r in there(bank)] == ["Oak", "Weir", "Oak"]
    assert "1 record of branch is referred to by no row any more" in told
    assert kerfmark("prove", str(bank)).code == 0


def test_a_column_that_the_table_lacks_is_put_there_for_known_records_only(
    bank: Target, write: Write, kerfmark: Runner
) -> None:
    write("grades.csv", text(["Code", "Grade"], [["A-2001", "gold"]]))
    options = ["--into", str(bank), "--only-known", "--known", "fill", "--put", "Grade=account"]
    kerfmark("add", "grades.csv", *options)
    assert bank.ask("SELECT code, grade FROM account ORDER BY code") == [
        ("A-1001", None),
        ("A-1002", None),
        ("A-2001", "gold"),
    ]
    write("more.csv", text(HEAD, [["A-3001", "Dan Oak", "Oak", 1, 1]]))
    kerfmark("add", "more.csv", "--into", str(bank))  # files as before need not have it
    assert kerfmark("prove", str(bank)).code == 0


def test_files_that_say_more_and_less_are_not_mixed(
    bank: Target, write: Write, kerfmark: Runner
) -> None:
    write("a.csv", text(["Code", "Balance"], [["A-1001", 1]]))
    write("b.csv", text(["Code", "Rate"], [["A-1002", 1]]))
    options = ["--into", str(bank), "--only-known", "--known", "overwrite"]
    told = kerfmark("add", "a.csv", "b.csv", *options, code=2).err
    assert "and others do not" in told and there(bank) == BEFORE
    kerfmark("add", "a.csv", *options)  # one after the other, as it says
    kerfmark("add", "b.csv", *options)
    assert [r[3:5] for r in there(bank)] == [(1, 2), (None, 1), (30, 4)]
    assert kerfmark("prove", str(bank)).code == 0


def test_the_policy_can_differ_by_table(bank: Target, write: Write, kerfmark: Runner) -> None:
    changed = [["A-1001", "Ada Brook", "Mill", 99, 2]]
    write("more.csv", text(HEAD, changed))
    into = ["--into", str(bank)]
    kerfmark("add", "more.csv", *into, code=1)
    kerfmark("add", "more.csv", *into, "--known", "refuse", "--known", "account=fill")
    assert there(bank) == BEFORE
    kerfmark("undo", str(bank))
    kerfmark("add", "more.csv", *into, "--known", "keep", "--known", "account=overwrite")
    assert there(bank)[0] == ("A-1001", "Ada Brook", "Mill", 99, 2, 198)
    assert kerfmark("prove", str(bank)).code == 0
    kerfmark("undo", str(bank))
    assert there(bank) == BEFORE
    told = kerfmark("add", "more.csv", *into, "--known", "acount=fill", code=2).err
    assert 'there is no table "acount"' in told
    told = kerfmark("add", "more.csv", *into, "--known", "account=perhaps", code=2).err
    assert '"account=perhaps" is not one of refuse, keep, fill, overwrite' in told


def test_a_column_that_a_file_lacks_is_not_held_against_the_database(
    write: Write, kerfmark: Runner
) -> None:
    write("a.csv", "No,Mood,Kg\n1,calm,5\n2,wild,\n3,calm,7\n")
    write("b.csv", "No,Mood\n1,wild\n9,calm\n")
    kerfmark("cut", "a.csv", "--into", "d.db", "--known-by", "No")
    kerfmark("add", "b.csv", "--into", "d.db", "--lacking", "Kg", "--known", "overwrite")
    assert "differs" not in kerfmark("prove", "d.db").out
    found = kerfmark("show", "d.db", "a", "--rows", "9", "--json").json["tables"][0]
    assert [r[1:] for r in found["first_rows"]] == [
        [1, "wild", 5],
        [2, "wild", None],
        [3, "calm", 7],
        [9, "calm", None],
    ]


CHECKS = """
kerfmark = 1
[sources.checks]
file = "f1.csv"
[tables.check]
each_row = true
known_by = ["no"]
columns = {no = {header = "No", type = "integer"}, mood = "Mood"}
[tables.mite]
part_of = "check"
known_by = ["check_id", "which"]
links = ["check"]
columns = {which = {told = ["1", "2", "3"], type = "integer"}, mites = {headers = ["M1", "M2", "M3"], type = "integer"}}
[tables.remedy]
known_by = ["remedy"]
columns = {remedy = {header = "Remedies", split = "; "}}
[tables.given]
part_of = "check"
known_by = ["check_id", "place"]
links = {check_id = "check", remedy_id = {to = "remedy", by = {remedy = "Remedies"}}}
columns = {place = {position = true}}
"""
F1 = [
    [1, "calm", 3, "", 5, "thymol; sun"],
    [2, "wild", "", 4, "", ""],
    [3, "calm", 1, 2, 3, "acid"],
]
F2 = [[1, "wild", 7, 8, "", "acid"], [3, "calm", "", "", "", "acid; thymol; sun"], [4, "calm", 9, "", "", "sun"]]  # fmt: skip
CHECK_HEAD = ["No", "Mood", "M1", "M2", "M3", "Remedies"]


def flat(db: Target) -> list[tuple[Any, ...]]:
    return [tuple(r) for r in db.ask('SELECT * FROM checks_flat ORDER BY "No"')]


def as_rows(*several: list[list[Any]]) -> list[tuple[Any, ...]]:
    rows = {r[0]: tuple(None if c == "" else c for c in r) for some in several for r in some}
    return [rows[n] for n in sorted(rows)]


def test_a_record_is_replaced_with_everything_that_belongs_to_it(
    db: Target, write: Write, kerfmark: Runner
) -> None:
    write("l.toml", CHECKS)
    write("f1.csv", text(CHECK_HEAD, F1))
    write("f2.csv", text(CHECK_HEAD, F2))
    into = ["--into", str(db)]
    kerfmark("cut", "l.toml", *into)
    kerfmark("add", "f2.csv", *into, "--known", "overwrite", code=1)
    assert flat(db) == as_rows(F1)
    told = kerfmark("add", "f2.csv", *into, "--known", "replace", "--rehearse").out
    assert "rehearsal" in told and flat(db) == as_rows(F1)
    kerfmark("add", "f2.csv", *into, "--known", "replace")
    assert flat(db) == as_rows(F1, F2)
    assert db.ask("SELECT COUNT(*) FROM mite") == [4] and db.ask("SELECT COUNT(*) FROM given") == [
        5
    ]
    proof = kerfmark("prove", str(db))
    assert "changed by load 2" in proof.out
    # a later load that agrees, and one that does not
    write("f3.csv", text(CHECK_HEAD, [F2[0]]))
    kerfmark("add", "f3.csv", *into, "--known", "refuse", "--known", "check=keep")
    write("f4.csv", text(CHECK_HEAD, [F1[0]]))
    kerfmark("add", "f4.csv", *into, "--known", "keep")
    assert flat(db) == as_rows(F1, F2) and kerfmark("prove", str(db)).code == 0
    # another layout, and back again by taking it back
    layout = kerfmark("show", str(db), "--layout").out
    write("new.toml", layout.replace("mood =", "temper ="))
    kerfmark("recut", str(db), "new.toml")
    assert flat(db) == as_rows(F1, F2) and kerfmark("prove", str(db)).code == 0
    before = db.ask('SELECT check_id, no FROM "check" ORDER BY no')
    write("f2.csv", text(CHECK_HEAD, F2[1:]))
    told = kerfmark("refresh", str(db), code=1).err
    assert "replaced with everything that belongs to them" in told
    write("f2.csv", text(CHECK_HEAD, F2))
    kerfmark("undo", str(db), "2")
    assert flat(db) == as_rows(F1) and kerfmark("prove", str(db)).code == 0
    assert db.ask('SELECT check_id, no FROM "check" ORDER BY no') == before[:3]
    kerfmark("add", "f2.csv", *into, "--known", "replace")
    assert flat(db) == as_rows(F1, F2) and kerfmark("prove", str(db)).code == 0


def test_what_a_file_says_nothing_of_is_not_replaced(
    db: Target, write: Write, kerfmark: Runner
) -> None:
    write("l.toml", CHECKS)
    write("f1.csv", text(CHECK_HEAD, F1))
    kerfmark("cut", "l.toml", "--into", str(db))
    write("f2.csv", text(["No", "Mood", "Remedies"], [[1, "wild", "sun"]]))
    kerfmark("add", "f2.csv", "--into", str(db), "--only-known", "--known", "replace")
    assert flat(db) == as_rows(F1, [[1, "wild", 3, "", 5, "sun"]])
    assert kerfmark("prove", str(db)).code == 0
    kerfmark("undo", str(db))
    assert flat(db) == as_rows(F1)
    write("f3.csv", text(["No", "Mood"], [[2, "calm"]]))
    kerfmark("add", "f3.csv", "--into", str(db), "--only-known", "--known", "overwrite")
    assert flat(db) == as_rows(F1, [[2, "calm", "", 4, "", ""]])
    assert kerfmark("prove", str(db)).code == 0


def replaced(db: Target, write: Write, kerfmark: Runner) -> None:
    """A database whose records a second load has replaced."""
    write("l.toml", CHECKS)
    write("f1.csv", text(CHECK_HEAD, F1))
    write("f2.csv", text(CHECK_HEAD, F2))
    kerfmark("cut", "l.toml", "--into", str(db))
    kerfmark("add", "f2.csv", "--into", str(db), "--known", "replace")


def test_a_replacing_load_goes_with_the_one_that_it_replaced(
    db: Target, write: Write, kerfmark: Runner
) -> None:
    replaced(db, write, kerfmark)
    kerfmark("undo", str(db), "1")
    assert flat(db) == as_rows(F2) and kerfmark("prove", str(db)).code == 0
    kerfmark("cut", "l.toml", "--into", str(db), "--replace", "--discard")
    kerfmark("add", "f2.csv", "--into", str(db), "--known", "replace")
    kerfmark("undo", str(db), "1", "--through")
    assert [db.ask(f"SELECT COUNT(*) FROM {t}") for t in ('"check"', "mite", "given")] == [[0]] * 3
    kerfmark("add", "f2.csv", "--into", str(db))
    assert flat(db) == as_rows(F2) and kerfmark("prove", str(db)).code == 0


def test_cells_that_somebody_changed_are_not_lost_when_a_replacing_load_is_taken_back(
    db: Target, write: Write, kerfmark: Runner
) -> None:
    replaced(db, write, kerfmark)
    db.do("UPDATE \"check\" SET mood = 'odd' WHERE no = 2")
    before = flat(db)
    assert "changed by hand" in kerfmark("undo", str(db), code=1).err
    assert flat(db) == before


def test_one_cause_is_one_finding_and_rows_that_are_right_are_not_blamed(
    write: Write, kerfmark: Runner
) -> None:
    """Rows of a known record differ from it, and from each other: each wrong row is told once."""
    head = "no,hive,kind\n"
    write("v.csv", head + "".join(f"{n},H{n % 9},k{n % 9 % 2}\n" for n in range(60)))
    kerfmark("cut", "v.csv", "--into", "v.db")
    write("w.csv", f"{head}100,H1,k0\n101,H1,k9\n102,H1,k9\n103,H1,k1\n104,H50,a\n105,H50,b\n")
    told = kerfmark("add", "w.csv", "--into", "v.db", code=1).err
    assert "4 problems" in told
    assert 'rows 2, 3, 4, column "kind": differs from the database, where this hive has' in told
    assert told.count('"k1"') == 1 and "row 7" in told and "an earlier row" in told  # H50 is new
    assert (
        "next: correct the cells\n" in told
        and "\n      --known keep leaves what is there\n      --known overwrite" in told
    )


def test_a_remedy_of_the_layout_is_applied_by_the_command_that_is_told(
    write: Write, kerfmark: Runner, tmp_path: Path
) -> None:
    (tmp_path / "kept").mkdir()
    head = "no,hive,mood\n"
    write("v.csv", head + "".join(f"{n},H{n % 9},m{n % 4}\n" for n in range(60)))
    kerfmark("cut", "v.csv", "--into", "kept/v.db")
    write("w.csv", f"{head}100,H1,\n")
    told = kerfmark("add", "w.csv", "--into", "kept/v.db", code=1).err
    assert 'list "mood" under optional of tables > v' in told
    command = told.rsplit("then kerfmark ", 1)[1].split()
    layout = tmp_path / re.findall(r"edit (\S+) ", told)[0]
    text = layout.read_text().replace('known_by = ["no"]', 'known_by = ["no"]\noptional = ["mood"]')
    layout.write_text(text)
    kerfmark(*command)
    kerfmark("add", "w.csv", "--into", "kept/v.db")
    assert kerfmark("prove", "kept/v.db").code == 0


@pytest.mark.parametrize(
    ("wrong", "cell", "fits"),
    [
        ("date D.M.YYYY", "{d:02}-JAN-2026", "date DD-MON-YYYY"),
        ("integer", "{d}.5", "decimal(3,1)"),
        ("integer", "{d},240", "integer 0,000"),
        ("decimal(3,1)", "{d}x", ""),
    ],
)
def test_the_type_that_fits_all_values_is_found_and_the_remedy_works(
    write: Write, kerfmark: Runner, wrong: str, cell: str, fits: str
) -> None:
    rows = "".join(f'{n};"{cell.format(d=n % 28 + 1)}"\n' for n in range(50))
    write("d.csv", f"no;day\n{rows}")
    text = (
        'kerfmark = 1\n[sources.d]\nfile = "d.csv"\ndelimiter = ";"\n[tables.d]\neach_row = true\n'
        f'[tables.d.columns]\nno = "no"\nday = {{header = "day", type = "{wrong}"}}\n'
    )
    write("d.toml", text)
    told = kerfmark("cut", "d.toml", "--into", "d.db", code=1).err
    assert ("fits all 28 different values" in told) == bool(fits)
    remedy = re.search("next: kerfmark (mark d.toml .*) (fits|keeps)", told)
    assert remedy and f"d.day={fits or 'text'}" in remedy[1]
    kerfmark(*shlex.split(remedy[1]))
    kerfmark("cut", "d.toml", "--into", "d.db")


def test_a_row_that_says_a_number_in_another_form_is_not_blamed(
    db: Target, write: Write, kerfmark: Runner
) -> None:
    rows = "".join(f"{n};H{n % 9};{n % 9 + 1},50;{n % 9 + 1:02}.04.2026\n" for n in range(60))
    write("v.csv", f"no;hive;kg;made\n{rows}")
    kerfmark("cut", "v.csv", "--into", db)
    write(
        "w.csv",
        "no;hive;kg;made\n100;H1;9,90;02.04.2026\n101;H1;9,90;02.04.2026\n102;H1;2,50;02.04.2026\n",
    )
    told = kerfmark("add", "w.csv", "--into", db, code=1).err
    assert 'rows 2, 3, column "kg"' in told and "made" not in told


def test_values_that_change_and_those_that_are_kept_are_told_as_the_files_spell_them(
    db: Target, write: Write, kerfmark: Runner
) -> None:
    def rows(day: int, calm: str, kg: str) -> str:
        lines = [f"{n};{n % 9 + day:02}.04.2026;{calm};{n % 7},{kg}" for n in range(14)]
        return "no;day;calm;kg\n" + "\n".join([*lines, "99;01.01.2026;yes;1,5"]) + "\n"

    write("v.csv", rows(1, "yes", "50"))
    kerfmark("cut", "v.csv", "--type", "calm=boolean yes/no", "--into", db)
    write("w.csv", rows(11, "no", "25"))
    kept = kerfmark("add", "w.csv", "--into", db, "--known", "keep", "--changes").out
    assert kept.count("w.csv  ") == 14 * 3 and "more" not in kept
    for line in ("day 11.04.2026 01.04.2026", "calm no yes", "kg 0,25 0,50"):
        assert f"w.csv 2 {line}" in " ".join(kept.split()), line
    kerfmark("undo", db)
    told = kerfmark("add", "w.csv", "--into", db, "--known", "overwrite", "--changes").out
    for line in ("day 01.04.2026 11.04.2026", "calm yes no", "kg 0,50 0,25"):
        assert f"v 1 {line}" in " ".join(told.split()), line
    kerfmark("prove", db)


def test_an_empty_database_is_called_that(write: Write, kerfmark: Runner) -> None:
    write("e.db", b"")
    assert kerfmark("show", "e.db").out == "the database has no tables\n"
