"""What a person decides about tables and columns on the command line: it is in the layout, in the
database, and holds the next time, whatever was decided with it; what cannot be decided is told."""

from __future__ import annotations

import csv
import random
import shlex
import sqlite3
import tomllib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from conftest import Runner
from kerfmark import Decisions, Reading, Steering
from kerfmark.progress import silent
from kerfmark.structure.decisions import decide
from kerfmark.verbs.proposing import mark_inputs

HEADER = ["No", "Day", "Seen", "Hive", "Kind", "Lb", "Sum", "Keeper", "Phone", "Mood"]


@pytest.fixture(autouse=True)
def rounds(tmp_path: Path) -> list[list[str]]:
    """Rows of visits whose days, sums and weights can be read in two ways."""
    rng = random.Random(3)
    rows = []
    for n in range(80):
        hive, keeper = rng.randrange(6), rng.randrange(5)
        rows.append(
            [
                str(n + 1),
                f"{rng.randint(1, 12):02}/{rng.randint(1, 12):02}/2025",
                f"{rng.randint(1, 12)}/4/2025 10:{rng.randint(0, 59):02}",
                f"H{hive}",
                "wodden" if hive % 2 else "straw",
                f"{rng.randint(1, 9)},{n % 7:03}",
                f"{rng.randint(1, 9)}.{n % 5:03}",
                f"Ada {keeper}",
                f"0555 {keeper}" if keeper else "",
                rng.choice(("calm", "wild", "n/a", "?")),
            ]
        )
    with (tmp_path / "rounds.csv").open("w", newline="") as file:
        csv.writer(file).writerows([HEADER, *rows])
    return rows


BASE = ["--known-by", "Hive", "--known-by", "Keeper"]
ALL = [
    *("--dates", "D/M/YYYY", "--decimals", ",", "--type", "Sum=text(5)"),
    *("--table-name", "round=inspection", "--table-name", "Hive=colony"),
    *("--column-name", "Kind=build", "--column-name", "hive.hive=tag"),
    *("--key", "No", "--key", "keeper=keeper_no", "--unique", "Phone", "--optional", "Kind"),
    *("--blank", "?", "--not-blank", "n/a", "--unit", "Lb=lb to kg"),
    *("--correct", "Kind:wodden=wooden", "--correct", "Mood:wild="),
    *("--derive", "year=year([Day])", "--derive", "called=[Keeper] & '!'"),
]


def layout(path: Path) -> Any:
    """A layout as data."""
    return tomllib.loads(path.read_text())


def ask(path: Path, sql: str) -> list[tuple[Any, ...]]:
    """What a database answers."""
    with sqlite3.connect(path) as db:
        return db.execute(sql).fetchall()


def test_everything_that_is_decided_is_in_the_database_and_told(
    kerfmark: Runner, tmp_path: Path, rounds: list[list[str]]
) -> None:
    done = kerfmark("cut", "rounds.csv", "--into", "a.db", *BASE, *ALL)
    told = done.out.split("as you decided")[1].split("why these tables")[0]
    for line in (
        'round.day has type date DD/MM/YYYY', 'round.seen has type timestamp D/M/YYYY hh:mm',
        "hive.kind is called build", "hive is called colony", "round has the primary key no",
        'hive.kind: "wodden" means "wooden"', '"?" counts as blank', "hive.kind may be blank",
    ):  # fmt: skip
        assert line in told, line
    expected = []
    for no, day, seen, hive, kind, lb, total, keeper, phone, mood in rounds:
        d, m, y = day.split("/")
        kilos = round(float(lb.replace(",", ".")) * 0.45359237, 3)
        at = f"2025-04-{int(seen.split('/')[0]):02} {seen.split(' ')[1]}:00"
        build = "wooden" if kind == "wodden" else kind
        known = None if mood in ("wild", "?") else mood
        row = [int(no), f"{y}-{m}-{d}", at, hive, build, kilos, total, keeper, f"{keeper}!"]
        expected.append((*row, phone or None, known, 2025))
    rows = ask(
        tmp_path / "a.db",
        "SELECT no, day, seen, tag, build, round(lb, 3), sum, keeper, called, phone, mood, year"
        " FROM inspection JOIN colony USING (colony_id) JOIN keeper k ON k.keeper_no = keeper_id"
        " ORDER BY no",
    )
    assert rows == expected
    keys = {t: ask(tmp_path / "a.db", f"SELECT name FROM pragma_table_info('{t}') WHERE pk") for t in ("inspection", "keeper")}  # fmt: skip
    assert keys == {"inspection": [("no",)], "keeper": [("keeper_no",)]}
    with pytest.raises(sqlite3.IntegrityError, match="UNIQUE"):
        ask(tmp_path / "a.db", "INSERT INTO keeper (keeper_no, keeper, phone, called) VALUES (99, 'x', '0555 1', 'x!')")  # fmt: skip
    kerfmark("prove", "a.db")


def test_what_was_decided_once_is_decided(kerfmark: Runner, tmp_path: Path) -> None:
    kerfmark("mark", "rounds.csv", "-o", "m.layout.toml", *BASE, *ALL)
    marked = (tmp_path / "m.layout.toml").read_bytes()
    kerfmark("cut", "rounds.csv", "--into", "a.db", *BASE, *ALL)
    saved = tmp_path / "a.layout.toml"
    assert saved.read_bytes() == marked
    again = kerfmark("cut", "rounds.csv", "--into", "a.db", "--replace")
    assert saved.read_bytes() == marked and "decided before" in again.out
    kerfmark("cut", "rounds.csv", "--into", "a.db", "--replace", *BASE, *ALL)
    assert saved.read_bytes() == marked
    kerfmark("mark", "rounds.csv", "-o", "m.layout.toml")
    assert (tmp_path / "m.layout.toml").read_bytes() == marked
    assert "holds text" not in kerfmark("prove", "a.db").out
    kerfmark("cut", "rounds.csv", "--into", "a.db", "--replace", "--discard")
    assert "colony" not in layout(saved)["tables"]


@pytest.mark.parametrize(
    ("options", "place", "value"),
    [
        (["--type", "Day=date D/M/YYYY"], "round.columns.day.type", "date DD/MM/YYYY"),
        (["--type", "Day=MM/DD/YYYY"], "round.columns.day.type", "date MM/DD/YYYY"),
        (["--type", "round.lb=decimal(9,3) 0,000"], "round.columns.lb.type", "decimal(9,3) 0,000"),
        (["--type", "Lb=integer 0,000"], "round.columns.lb.type", "integer 0,000"),
        (["--decimals", "."], "round.columns.lb.type", "integer 0,000"),
        (["--decimals", "."], "round.columns.sum.type", "decimal(6,3)"),
        (["--decimals", ","], "round.columns.lb.type", "decimal(6,3) 0,000"),
        (["--decimals", ","], "round.columns.sum.type", "integer 0.000"),
        (["--required", "Phone", "--blank", "-"], "keeper.optional", None),
        (["--unique", "Hive,Kind"], "hive.unique", [["hive", "kind"]]),
        (["--key", "hive=Hive"], "hive.key", ["hive"]),
        (["--key", "hive=Hive,Kind"], "hive.key", ["hive", "kind"]),
        (["--derive", "month = month(date([Day], 'DD/MM/YYYY'))"], "round.columns.month.type", "integer"),
        (["--correct", "Kind:wodden=wooden"], "hive.columns.kind.means", {"wodden": "wooden"}),
        (["--table-name", "keeper=Bee keeper"], "round.links.bee_keeper_id", "bee_keeper"),
    ],
)  # fmt: skip
def test_a_decision_is_a_key_of_the_layout(
    options: list[str], place: str, value: Any, kerfmark: Runner, tmp_path: Path
) -> None:
    kerfmark("mark", "rounds.csv", "-o", "a.layout.toml", *BASE, *options)
    found: Any = layout(tmp_path / "a.layout.toml")["tables"]
    for key in place.split("."):
        found = found.get(key) if key not in ("type", "means") or isinstance(found, dict) else None
    assert found == value


def test_a_layout_that_is_there_is_changed_only_where_something_is_decided(
    kerfmark: Runner, tmp_path: Path, write: Callable[..., Path]
) -> None:
    kerfmark("mark", "rounds.csv", "-o", "a.layout.toml", *BASE)
    path = tmp_path / "a.layout.toml"
    mine = path.read_text().replace("[tables.hive]", "# the hives of the club\n[tables.hive]")
    mine = mine.replace('mood = "Mood"', 'mood = "Mood"  # or temper')
    path.write_text(mine)
    kerfmark("mark", "rounds.csv", "-o", path, "--table-name", "hive=colony", "--column-name",
             "Mood=temper", "--type", "Day=D/M/YYYY", "--optional", "hive.kind")  # fmt: skip
    text = path.read_text()
    assert "# the hives of the club\n[tables.colony]" in text
    assert 'temper = "Mood"  # or temper' in text
    data = layout(path)["tables"]
    assert data["colony"]["optional"] == ["kind"] and "colony_id" in data["round"]["links"]
    kept = {"source", "each_row", "known_by"}
    before = tomllib.loads(mine)["tables"]["round"]
    assert {k: data["round"][k] for k in kept & {*before}} == {
        k: before[k] for k in kept & {*before}
    }
    kerfmark("cut", path, "--into", "a.db")
    kerfmark("prove", "a.db")


@pytest.mark.parametrize(
    ("options", "said"),
    [
        (["--type", "Dai=text"], ['there is no column "Dai"', 'did you mean "Day"?']),
        (["--type", "Day=wibble"], ['"wibble" is not a type']),
        (
            ["--type", "Day=date"],
            [
                "DD/MM/YYYY as well as MM/DD/YYYY",
                'next: --type "Day=date DD/MM/YYYY"\n      --type "Day=date MM/DD/YYYY"',
            ],
        ),
        (["--type", "Lb=decimal"], ["with a point and with a comma"]),
        (["--type", "Day"], ["COLUMN=TYPE"]),
        (["--table-name", "hiv=x"], ['no table of the proposal is called "hiv"', "hive"]),
        (["--table-name", "hive=order"], ["reserved word"]),
        (["--table-name", "hive=keeper"], ["it is taken"]),
        (["--column-name", "Kind=hive"], ["it is taken"]),
        (["--column-name", "Kind=---"], ["no letters"]),
        (["--key", "hive=Hive,Nothing"], ['hive has no column "Nothing"']),
        (["--unique", "Hive,Mood"], ["columns of different tables", "hive.hive, round.mood"]),
        (["--unit", "Lb=lb to metre"], ["they measure different things"]),
        (["--unit", "Mood=lb to kg"], ["must have a type that is a number"]),
        (["--derive", "year=year([Dai])"], ['"Dai"', 'did you mean "Day"']),
        (["--derive", "x"], ["NAME=EXPRESSION"]),
        (["--correct", "wodden=wooden"], ["COLUMN:TEXT=RIGHT"]),
        (["--optional", "Hive"], ["the records of hive are known by it"]),
        (["--dates", "wibble"], ["is not a form of a date"]),
    ],
)
def test_what_cannot_be_decided_is_told(
    options: list[str], said: list[str], kerfmark: Runner, tmp_path: Path
) -> None:
    done = kerfmark("mark", "rounds.csv", "-o", "a.layout.toml", *BASE, *options, code=2)
    for words in said:
        assert words in done.err
    assert "Traceback" not in done.err and not (tmp_path / "a.layout.toml").exists()


def test_values_that_do_not_fit_what_was_decided_are_told_and_refused(
    kerfmark: Runner, tmp_path: Path
) -> None:
    marked = kerfmark("mark", "rounds.csv", "--type", "Mood=integer")
    assert 'round.mood: 4 values of 4 do not fit that type, such as "calm"' in marked.out
    done = kerfmark("cut", "rounds.csv", "--into", "a.db", "--unique", "Mood", code=1)
    assert "Mood" in done.err and not (tmp_path / "a.db").exists()


def test_a_layout_is_decided_about_by_mark(kerfmark: Runner, tmp_path: Path) -> None:
    kerfmark("mark", "rounds.csv", "-o", "a.layout.toml", *BASE)
    done = kerfmark("cut", "a.layout.toml", "--into", "a.db", "--type", "Day=D/M/YYYY", code=2)
    assert "next: kerfmark mark a.layout.toml takes --type" in done.err
    kerfmark("mark", "a.layout.toml", "--type", "Day=D/M/YYYY", "--correct", "Kind:wodden=wooden")
    kerfmark("mark", "a.layout.toml", "--known-by", "Mood", "--optional", "Mood", code=2)
    kerfmark("mark", "a.layout.toml", code=2)
    kerfmark("cut", "a.layout.toml", "--into", "a.db")
    assert ask(tmp_path / "a.db", "SELECT DISTINCT kind FROM hive ORDER BY 1") == [
        ("straw",),
        ("wooden",),
    ]
    kerfmark("prove", "a.db")


APIARIES = ("Nothing Mill", "Weir House", "Ford Lane", "Stone Barn")


def test_a_misspelt_name_is_one_finding_with_an_option_that_accepts_it(
    kerfmark: Runner, tmp_path: Path, write: Callable[..., Path]
) -> None:
    """In a later file, in the first one, and where a lookup goes: the option that is offered is
    taken as it is printed, and the rows are those of the record that was meant."""
    row = "{},{},G{},calm\n".format
    write("first.csv", "no,apiary,grid,mood\n" + "".join(row(n, APIARIES[n % 4], n % 4) for n in range(1, 41)))  # fmt: skip
    write("later.csv", "no,apiary,grid,mood\n" + "".join(row(n, "Nothing Mil", 0) for n in range(50, 54)) + row(60, "Weir House", 1))  # fmt: skip
    kerfmark("cut", "first.csv", "--into", "a.db", "--unique", "grid", "--known-by", "apiary")
    refused = kerfmark("add", "later.csv", "--into", "a.db", code=1).err
    assert refused.count("later.csv") == 1 and "rows 2, 3, 4, 5" in refused
    option = shlex.split(refused.split("next: ")[1].split(" accepts this spelling")[0])
    assert option == ["--correct", "apiary:Nothing Mil=Nothing Mill"]
    rehearsed = kerfmark("add", "later.csv", "--into", "a.db", "--rehearse", code=1).out
    assert shlex.join(option) in rehearsed
    told = kerfmark("add", "later.csv", "--into", "a.db", *option).out
    assert 'apiary.apiary: "Nothing Mil" means "Nothing Mill"' in told
    counted = (
        "SELECT apiary, COUNT(*) FROM first JOIN apiary USING (apiary_id) GROUP BY 1 ORDER BY 1"
    )
    expected = [("Ford Lane", 10), ("Nothing Mill", 14), ("Stone Barn", 10), ("Weir House", 11)]
    assert ask(tmp_path / "a.db", counted) == expected
    kerfmark("prove", "a.db")
    write("june.csv", "no,apiary,grid,mood\n" + row(70, "Nothing Mil", 0))  # from then on
    kerfmark("add", "june.csv", "--into", "a.db")
    kerfmark("prove", "a.db")
    never = kerfmark("add", "june.csv", "--again", "--into", "a.db", "--correct", "apiary:Weir House=Ford Lane", code=2)  # fmt: skip
    assert "a record of apiary is called so" in never.err
    assert ask(tmp_path / "a.db", counted)[1] == ("Nothing Mill", 15)


def test_a_misspelt_name_within_a_file_is_one_finding_too(
    kerfmark: Runner, tmp_path: Path, write: Callable[..., Path]
) -> None:
    """Its hive has another apiary in other rows, and its grid is that of another apiary: that is one
    mistake, told once with the option that accepts it."""
    rows = [f"{n},H{n % 8},{APIARIES[n % 4]},G{n % 4}" for n in range(1, 81)]
    for n in (10, 18, 34):
        rows[n - 1] = f"{n},H2,Ford Lan,G2"
    write("a.csv", "no,hive,apiary,grid\n" + "\n".join(rows) + "\n")
    write(
        "a.toml",
        'kerfmark = 1\n[sources.a]\nfile = "a.csv"\n[tables.visit]\neach_row = true\nlinks = ["hive"]\n'
        'columns = ["no"]\n[tables.hive]\nknown_by = ["hive"]\ncolumns = ["hive"]\nlinks = ["apiary"]\n'
        '[tables.apiary]\nknown_by = ["apiary"]\nunique = [["grid"]]\ncolumns = ["apiary", "grid"]\n',
    )
    told = kerfmark("check", "a.toml", code=1).out
    assert told.count("next:") == 1 and "11, 19, 35" in told
    command = "kerfmark mark a.toml --correct 'apiary:Ford Lan=Ford Lane'"
    assert f"next: {command} accepts" in told and "refused  3 problems of 1 kind" in told
    kerfmark(*shlex.split(command)[1:])
    kerfmark("cut", "a.toml", "--into", "a.db")
    assert ask(tmp_path / "a.db", "SELECT COUNT(*) FROM apiary") == [(4,)]
    kerfmark("prove", "a.db")


def test_a_number_or_another_word_is_not_offered_as_a_spelling(
    kerfmark: Runner, write: Callable[..., Path]
) -> None:
    write("hives.csv", "hive,kind\n" + "".join(f"Hive {n:03},{'ab'[n % 2]}\n" for n in range(20)))
    write("visits.csv", "hive,keeper\nHive 003,x\nHive 083,y\nHibe 004,z\nHut 5,z\n")
    write(
        "l.toml",
        'kerfmark = 1\n[sources.hives]\nfile = "hives.csv"\n[sources.visits]\nfile = "visits.csv"\n'
        '[tables.hive]\nsource = "hives"\neach_row = true\nknown_by = ["hive"]\ncolumns = ["hive", "kind"]\n'
        '[tables.visit]\nsource = "visits"\neach_row = true\ncolumns = ["keeper"]\n[tables.visit.links]\n'
        'hive_id = {to = "hive", by = {hive = "hive"}, missing = "refuse"}\n',
    )
    told = kerfmark("check", "l.toml", code=1).out
    assert "--correct 'hive:Hibe 004=Hive 004' accepts this spelling" in told
    kerfmark("mark", "l.toml", "--correct", "hive:Hibe 004=Hive 004")
    told = kerfmark("check", "l.toml", code=1).out
    assert "--correct" not in told and 'in "hive": 2' in told


@pytest.mark.parametrize(
    ("said", "wished"),
    [
        ({"column_names": (("Mood", "temper"),), "derived": (("year", "2025"),)}, set()),
        ({"optional": ("Mood",), "means": (("Mood:wild", "calm"),)}, set()),
        ({"unique": (("Day", "Mood"),)}, {("Day", "again"), ("Mood", "again")}),
        ({"required": ("hive.kind",)}, {("Kind", "blank"), ("Kind", "cannot be")}),
        ({"types": (("Mood", "text(9)"),)}, {("Mood", "unfit"), ("Mood", "too wide")}),
    ],
)
def test_only_what_rows_can_break_is_not_given_up_by_a_trial(
    said: Any, wished: set[tuple[str, str]], tmp_path: Path
) -> None:
    """Where a cut would refuse what is proposed, it is given up, unless a person has decided just
    that: a name for a column decides nothing about the rows."""
    steering = Steering(known_by=(("Hive",), ("Keeper",)))
    marked = mark_inputs([tmp_path / "rounds.csv"], Reading(), tmp_path, silent, steering)
    assert decide(marked.proposal.layout, marked.encoded, Decisions(**said)).wished == wished
