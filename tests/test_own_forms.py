"""Later files that write dates and numbers otherwise than the files before them: read in their own
form where that is certain, refused with the forms that can be where it is not. What is in the
database is held against Python's own reading of the same texts."""

from __future__ import annotations

import csv
import datetime
import io
import json
import random
import re
import shlex
from collections.abc import Callable
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import Runner
from engines import Target
from kerfmark.ledger.source_values import as_known
from kerfmark.profile.types import ColumnType, parse_type
from kerfmark.verbs.own_forms import in_form, respell

Write = Callable[..., Path]
HEAD = ["No", "Sold on", "At", "Price", "Pieces"]
DAYS = [datetime.date(2040, 1, 1) + datetime.timedelta(days=n) for n in range(340)]


def spelled(day: datetime.date, form: str) -> str:
    plain = form.replace("YYYY", "%Y").replace("YY", "%y").replace("MM", "%m").replace("DD", "%d")
    return day.strftime(plain.replace("Mon", "%b").replace("hh", "07").replace("mm", "30"))


def number(value: Decimal, form: str) -> str:
    thousands, mark = (form[1] if len(form) > 4 else ""), form[-2]
    return f"{value:,}".replace(",", "T").replace(".", mark).replace("T", thousands)


def sales(first: int, rows: int, days: list[datetime.date] = DAYS) -> list[tuple[Any, ...]]:
    rng = random.Random(first)
    return [
        (n, rng.choice(days), Decimal(rng.randint(1000, 900000)) / 100, rng.randint(1, 40000))
        for n in range(first, first + rows)
    ]


def text(rows: list[tuple[Any, ...]], date: str, decimal: str, integer: str = "") -> str:
    out = io.StringIO()
    writer = csv.writer(out, delimiter=";", lineterminator="\n")
    writer.writerow(HEAD)
    for n, day, price, count in rows:
        whole = f"{count:,}".replace(",", integer) if integer else str(count)
        moment = spelled(day, date) + " 07:30"
        writer.writerow([n, spelled(day, date), moment, number(price, decimal), whole])
    return out.getvalue()


def there(db: Target) -> list[tuple[Any, ...]]:
    rows = db.ask("SELECT no, sold_on, at, price, pieces FROM sale ORDER BY no")
    return [(int(n), str(d)[:10], str(t)[:16], Decimal(str(p)), int(c)) for n, d, t, p, c in rows]


def expected(*several: list[tuple[Any, ...]]) -> list[tuple[Any, ...]]:
    return [(n, f"{d}", f"{d} 07:30", p, c) for rows in several for n, d, p, c in rows]


FIRST = sales(1, 200)


@pytest.fixture
def sold(db: Target, write: Write, kerfmark: Runner) -> Target:
    write("sales.csv", text(FIRST, "DD.MM.YYYY", "0,0"))
    kerfmark("cut", "sales.csv", "--into", str(db), "--one-table")
    return db


@pytest.mark.parametrize(
    ("date", "decimal", "integer"),
    [
        ("YYYY-MM-DD", "0.0", ""),
        ("MM/DD/YYYY", "0,000.0", ","),
        ("DD-Mon-YYYY", "0.000,0", "."),
        ("DD/MM/YYYY", "0 000,0", " "),
        ("DD.MM.YYYY", "0'000.0", "'"),
    ],
)
def test_a_file_is_read_in_its_own_form(
    sold: Target, write: Write, kerfmark: Runner, date: str, decimal: str, integer: str
) -> None:
    more = sales(500, 60)
    write("more.csv", text(more, date, decimal, integer))
    told = kerfmark("add", "more.csv", "--into", str(sold)).err
    if date != "DD.MM.YYYY":
        assert f'"Sold on" is written {date} here, and DD.MM.YYYY in the files before it' in told
    assert '"Price" is written' in told
    assert there(sold) == expected(FIRST, more)
    assert kerfmark("prove", str(sold)).code == 0
    # it is read so again, by whatever reads it again
    layout = kerfmark("show", str(sold), "--layout").out
    write("new.toml", layout.replace("pieces = ", "bits = "))
    kerfmark("recut", str(sold), "new.toml")
    assert kerfmark("prove", str(sold)).code == 0
    write("more.csv", text([*more, *sales(900, 5)], date, decimal, integer))
    kerfmark("refresh", str(sold))
    assert kerfmark("prove", str(sold)).code == 0
    assert sold.ask("SELECT COUNT(*) FROM sale") == [265]
    found = sold.ask("SELECT no, sold_on FROM sale WHERE no >= 900 ORDER BY no")
    assert [str(d)[:10] for _, d in found] == [str(d) for _, d, _, _ in sales(900, 5)]


def test_what_can_be_read_in_two_ways_is_refused_and_said(
    sold: Target, write: Write, kerfmark: Runner
) -> None:
    early = [d for d in DAYS if d.day < 13 and d.day != d.month]
    more = sales(500, 40, early)
    write("more.csv", text(more, "MM/DD/YYYY", "0,0"))
    told = kerfmark("add", "more.csv", "--into", str(sold), code=2).err
    assert "can be read in two ways" in told and there(sold) == expected(FIRST)
    remedies = re.findall(r'--dates "[^"]+"', told)
    assert sorted(remedies) == ['--dates "DD/MM/YYYY"', '--dates "MM/DD/YYYY"']
    right = next(r for r in remedies if "MM/DD" in r)
    kerfmark("add", "more.csv", "--into", str(sold), *shlex.split(right))
    found = sold.ask("SELECT no, sold_on FROM sale WHERE no >= 500 ORDER BY no")
    assert [str(d)[:10] for _, d in found] == [str(d) for _, d, _, _ in more]
    assert kerfmark("prove", str(sold)).code == 0


def test_numbers_that_can_be_read_in_two_ways(sold: Target, write: Write, kerfmark: Runner) -> None:
    rows = [(n, DAYS[n - 500], Decimal(n * 1000 + 234), 5) for n in range(500, 520)]
    body = text(rows, "DD.MM.YYYY", "0,0")
    body = re.sub(r";(\d{3})(\d{3});5\n", r";\1.\2;5\n", body)  # 500.234: of what?
    write("more.csv", body)
    told = kerfmark("add", "more.csv", "--into", str(sold), code=2).err
    assert "the numbers of this file can be read in two ways" in told
    assert "--decimals ." in told and "--decimals ," in told
    for mark, first in ((",", Decimal("500234")), (".", Decimal("500.234"))):
        kerfmark("add", "more.csv", "--into", str(sold), "--decimals", mark, "--widen")
        [found] = sold.ask("SELECT price FROM sale WHERE no = 500")
        assert Decimal(str(found)) == first
        assert kerfmark("prove", str(sold)).code == 0
        kerfmark("undo", str(sold))


@pytest.mark.parametrize("mark", [".", ","])
def test_whole_numbers_that_all_have_one_mark_may_be_fractions(
    sold: Target, write: Write, kerfmark: Runner, mark: str
) -> None:
    rows = [(n, DAYS[n - 500], Decimal("1.5"), 1234 + n) for n in range(500, 520)]
    write("more.csv", text(rows, "DD.MM.YYYY", "0,0", mark))
    told = kerfmark("add", "more.csv", "--into", str(sold), code=2).err
    assert "the numbers of this file can be read in two ways" in told and "Pieces" in told
    assert f"1{mark}734" in told and there(sold) == expected(FIRST)
    [remedy] = re.findall(r"--decimals [.,]", told)
    write("whole.csv", text(rows, "DD.MM.YYYY", f"0{remedy[-1]}0", mark))
    kerfmark("add", "whole.csv", "--into", str(sold), *remedy.split())
    assert there(sold) == expected(FIRST, rows) and kerfmark("prove", str(sold)).code == 0
    # where another number has none, it is that of thousands
    kerfmark("undo", str(sold))
    rows[3] = (*rows[3][:3], 7)
    write("more.csv", text(rows, "DD.MM.YYYY", "0,0", mark))
    kerfmark("add", "more.csv", "--into", str(sold))
    assert there(sold) == expected(FIRST, rows) and kerfmark("prove", str(sold)).code == 0


@pytest.mark.parametrize("parts", [True, False])
def test_a_layout_says_the_forms_of_one_part_or_of_all(
    db: Target, write: Write, kerfmark: Runner, parts: bool
) -> None:
    more = sales(500, 30)
    names = ["sales-a.csv", "sales-b.csv"] if parts else ["sales.csv"]
    for name, rows in zip(names[::-1], (more, FIRST), strict=False):
        write(name, text(rows, "DD.MM.YYYY", "0,0"))
    kerfmark("mark", *names, "--one-table", "-o", "l.toml")
    path = write(names[-1], text(more, "YYYY-MM-DD", "0.000,0"))
    said = '{"Sold on" = "YYYY-MM-DD", At = "YYYY-MM-DD hh:mm", Price = "0.000,0"}'
    layout = (path.parent / "l.toml").read_text()
    line = f'file = "{names[-1]}"'
    assert line in layout
    write("l.toml", layout.replace(line, f"{line}{', ' if parts else chr(10)}written = {said}"))
    kerfmark("check", "l.toml")
    kerfmark("cut", "l.toml", "--into", str(db))
    assert there(db) == expected(*([FIRST] if parts else []), more)
    assert kerfmark("prove", str(db)).code == 0
    write("l.toml", layout)
    assert str(more[0][1]) in kerfmark("check", "l.toml", code=1).out


def test_two_digits_of_a_year_are_asked_for(sold: Target, write: Write, kerfmark: Runner) -> None:
    more = sales(500, 40)
    write("more.csv", text(more, "DD.MM.YY", "0,0").replace(" 07:30", " 07:30"))
    told = kerfmark("add", "more.csv", "--into", str(sold), code=2).err
    assert "leave the century open" in told and '--dates "DD.MM.YY"' in told


def test_a_single_slip_is_a_problem_of_its_row(
    sold: Target, write: Write, kerfmark: Runner
) -> None:
    more = sales(500, 40)
    write("more.csv", text(more, "DD.MM.YYYY", "0,0").replace(spelled(more[3][1], "DD.MM.YYYY") + ";", "3/4/40;", 1))  # fmt: skip
    told = kerfmark("add", "more.csv", "--into", str(sold), code=1).err
    assert "is not a date" in told and "3/4/40" in told


def test_rows_that_do_not_fit_the_own_form_either_are_set_aside(
    sold: Target, write: Write, kerfmark: Runner, tmp_path: Path
) -> None:
    more = sales(500, 40)
    body = text(more, "MM/DD/YYYY", "0,0")
    bad = spelled(more[3][1], "MM/DD/YYYY")
    write("more.csv", body.replace(f";{bad};", ";02/31/2040;", 1))
    kerfmark("add", "more.csv", "--into", str(sold), "--set-aside", "mend.csv", code=3)
    assert there(sold) == expected(FIRST, [r for r in more if r is not more[3]])
    mended = (tmp_path / "mend.csv").read_text("utf-8-sig")
    assert "02/31/2040" in mended
    day = spelled(more[3][1], "DD.MM.YYYY")
    (tmp_path / "mend.csv").write_text(mended.replace("02/31/2040", day), encoding="utf-8")
    kerfmark("add", "mend.csv", "--into", str(sold))
    assert sorted(there(sold)) == expected(FIRST, more)
    assert kerfmark("prove", str(sold)).code == 0


def test_check_reads_a_later_file_as_add_does(write: Write, kerfmark: Runner) -> None:
    write("sales.csv", text(FIRST, "DD.MM.YYYY", "0,0"))
    kerfmark("mark", "sales.csv", "--one-table", "-o", "sales.layout.toml")
    write("more.csv", text(sales(500, 40), "YYYY-MM-DD", "0.0"))
    told = kerfmark("check", "sales.layout.toml", "more.csv")
    assert '"Sold on" is written YYYY-MM-DD here' in told.err
    write("bad.csv", text(sales(600, 40), "DD.MM.YY", "0,0"))
    kerfmark("check", "sales.layout.toml", "bad.csv", code=2)
    kerfmark("check", "sales.layout.toml", "bad.csv", "--dates", "DD.MM.YYYY", code=1)


FORMS = ("DD.MM.YYYY", "D/M/YYYY", "MM/DD/YYYY", "YYYY-MM-DD", "D Mon YYYY", "DD-MON-YYYY")


@settings(deadline=None, max_examples=60)
@given(
    st.lists(st.dates(datetime.date(1900, 1, 1), datetime.date(2068, 12, 31)), min_size=1),
    st.sampled_from(FORMS),
    st.sampled_from(FORMS),
)
def test_writer_and_proof_spell_dates_alike_by_ways_of_their_own(
    days: list[datetime.date], own: str, known: str
) -> None:
    def texts(form: str) -> list[str]:
        out = []
        for d in days:
            plain = form.replace("YYYY", f"{d.year:04}").replace("MM", f"{d.month:02}")
            plain = plain.replace("DD", f"{d.day:02}").replace("MON", "@").replace("Mon", "#")
            plain = plain.replace("D", str(d.day)).replace("M", str(d.month))
            out.append(plain.replace("@", d.strftime("%b").upper()).replace("#", d.strftime("%b")))
        return out

    types = [parse_type(f"date {f}") for f in (own, known)]
    for spell in (respell(*types), as_known(*types)):
        assert spell(pa.array([*texts(own), "x", None])).to_pylist() == [*texts(known), "x", None]


@settings(deadline=None, max_examples=100)
@given(
    st.lists(st.decimals(-(10**9), 10**9, places=3, allow_nan=False), min_size=1),
    st.sampled_from(["0.0", "0,0", "0.000,0", "0,000.0", "0 000,0"]),
    st.sampled_from(["0.000", "0,000", "0.000,000", "0 000.000"]),
)
def test_writer_and_proof_spell_numbers_alike_by_ways_of_their_own(
    values: list[Decimal], own: str, known: str
) -> None:
    type_ = parse_type(f"decimal(20,3) {known}")
    form = in_form(type_, own)
    assert isinstance(form, ColumnType)
    plain = json.loads(json.dumps([number(v, own) for v in values]))
    marks = ("0" + type_.thousands + "000" if type_.thousands else "0") + type_.mark + "0"
    wanted = [number(v, marks) for v in values]
    for spell in (respell(form, type_), as_known(form, type_)):
        assert spell(pa.array(plain)).to_pylist() == wanted
