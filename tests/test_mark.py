"""mark through the real program: what it finds beyond one flat file, how it is steered, and that
edits are kept."""

from __future__ import annotations

import tomllib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import openpyxl
import pytest

from conftest import DEMO, Runner, flat_visits
from kerfmark import Steering, UsageError, cut, mark, prove
from kerfmark.profile.columns import EncodedColumn
from kerfmark.profile.encode import encode
from kerfmark.read.open import open_path
from kerfmark.structure.repeats import list_of, parse_repeat, repetitions

Write = Callable[..., Path]


def links(result: Any) -> dict[str, set[str]]:
    return {t.name: set(t.links.values()) for t in result.tables}


def columns_of(write: Write, text: str) -> list[EncodedColumn]:
    return encode(open_path(write("t.csv", text))[0]).columns


# repeated columns


@pytest.mark.parametrize(
    ("header", "rest", "what", "order"),
    [
        ("Phone 2", ("phone",), "number", 2),
        ("phone_2", ("phone",), "number", 2),
        ("Item3", ("item",), "number", 3),
        ("Jan", (), "month", 0),
        ("Rain in March", ("rain", "in"), "month", 2),
        ("2019", (), "year", 2019),
        ("Q3", (), "quarter", 3),
        ("Wed", (), "day", 2),
        ("Q2 count", ("count",), "quarter", 2),
    ],
)
def test_headers_name_a_place_in_a_repetition(
    header: str, rest: tuple[str, ...], what: str, order: int
) -> None:
    found = parse_repeat(header)
    assert found is not None and (found.rest, found.what, found.order) == (rest, what, order)


@pytest.mark.parametrize("header", ["Phone", "Marched", "Wedding", "2", "Route 66 exit 4"])
def test_other_headers_do_not(header: str) -> None:
    assert parse_repeat(header) is None


def test_pairs_of_repeated_columns_are_one_group(write: Write) -> None:
    rows = [
        "".join(
            [
                f"{i},",
                "lamp,3," if i % 2 else "rope,1,",
                "lamp,4," if i % 3 == 0 else ",,",
                f"{i % 7}",
            ]
        )
        for i in range(40)
    ]
    columns = columns_of(write, "no,Item 1,Qty 1,Item 2,Qty 2,Score\n" + "\n".join(rows) + "\n")
    [one] = repetitions(columns, ["integer", "text", "integer", "text", "integer", "integer"])
    assert one.told == ("1", "2") and [m for _, m in one.members] == [(1, 3), (2, 4)]


def test_numbered_headers_of_different_things_are_none(write: Write) -> None:
    rows = [f"{i},Keeper {i % 9},Mill {i % 5},{i % 3}" for i in range(60)]
    columns = columns_of(write, "no,Name,Name 2,Address line 1\n" + "\n".join(rows) + "\n")
    assert repetitions(columns, ["integer", "text", "text", "integer"]) == []


def test_months_become_records_of_their_owner_and_are_proven(write: Write, tmp_path: Path) -> None:
    path = write(
        "rain.csv",
        "place,Jan,Feb,Mar,Apr\n"
        + "".join(
            f"P{i},{i * 3 % 70},{'' if i % 4 == 0 else i * 5 % 60},{i % 50},{i * 7 % 80}\n"
            for i in range(30)
        ),
    )
    result = cut([path], tmp_path / "rain.db")
    months = next(t for t in result.tables if t.name != "rain")
    assert months.rows == 4 * 30 - 8 and months.links == {"rain_id": "rain"}
    assert prove(tmp_path / "rain.db").holds


# lists in cells


@pytest.mark.parametrize(
    ("cells", "separator"),
    [
        (
            [
                "thymol; oxalic acid",
                "thymol",
                "sugar; thymol",
                "oxalic acid",
                "sugar",
                "thymol; sugar",
                "oxalic acid; sugar",
            ],
            "; ",
        ),
        (["a|b|c", "b|a", "c", "a|c", "b", "c|b|a", "a"], "|"),
        (
            [
                "Coldwell, Bertil",
                "Ottoway, Ludo",
                "Eddowes, Norbert",
                "Ivesdale, Yrsa",
                "Köstlin, Wendel",
            ],
            "",
        ),
        (["12 Mill Lane, Weir", "3 Low Road, Ford", "9 Hill Row, Weir", "4 Mill Lane, Ford"], ""),
        (["1/2", "2/3", "3/1", "1/3", "2/1", "3/2"], ""),
        (["fed 2 l, all calm", "no queen seen, swarmed", "calm", "two frames left, fed"], ""),
    ],
)
def test_lists_are_told_from_names_addresses_and_prose(
    write: Write, cells: list[str], separator: str
) -> None:
    text = "no,cell\n" + "".join(f'{i},"{c}"\n' for i, c in enumerate(cells * 3))
    found = list_of(columns_of(write, text)[1])
    assert (found.separator if found else "") == separator


# links


@pytest.fixture
def book(tmp_path: Path) -> Path:
    wb = openpyxl.Workbook()
    places, hives, keepers = wb.active, wb.create_sheet("Hives"), wb.create_sheet("Keepers")
    places.title = "Places"
    places.append(["Place", "Grid"])
    for i in range(12):
        places.append([f"Field {i}", f"XK {i * 37 % 90:02}"])
    keepers.append(["Member no", "Name", "Frames"])
    for i in range(15):
        keepers.append([i + 1, f"Keeper {i}", i % 9 + 1])
    hives.append(["Tag", "Place", "Member no", "Mother", "Frames"])
    for i in range(60):
        hives.append(
            [
                f"H{i:02}",
                f"Field {i * 7 % 12}",
                i % 15 + 1,
                f"H{i // 3:02}" if i > 9 else None,
                i % 11 + 1,
            ]
        )
    wb.save(tmp_path / "book.xlsx")
    return tmp_path / "book.xlsx"


def test_sheets_are_linked_by_name_by_number_and_to_themselves(book: Path, tmp_path: Path) -> None:
    result = mark([book])
    assert links(result) == {"place": set(), "hive": {"place", "keeper", "hive"}, "keeper": set()}
    assert result.against == ()  # frames are numbers among numbers, as nobody doubts
    result = cut([book], tmp_path / "b.db")
    hive = next(t for t in result.tables if t.name == "hive")
    assert hive.links == {"place_id": "place", "member_id": "keeper", "mother_id": "hive"}
    assert "frames" in hive.columns  # small numbers are contained in running ones, and mean nothing
    assert prove(tmp_path / "b.db").holds


def test_a_flat_file_takes_what_a_register_says_from_there(tmp_path: Path) -> None:
    result = cut([DEMO / "register.xlsx", DEMO / "inspections-2025.csv"], tmp_path / "b.db")
    tables = {t.name: t for t in result.tables}
    assert {"keeper", "hive", "queen"} == set(tables["inspection"].links.values())
    assert "keeper_2" not in tables and tables["hive"].rows == 96
    assert set(tables["district"].links.values()) == {"district"}
    assert prove(tmp_path / "b.db").holds


def test_a_few_strays_are_listed_and_kept(write: Write, tmp_path: Path) -> None:
    places = write("places.csv", "place,grid\n" + "".join(f"Field {i},XK {i}\n" for i in range(60)))
    rows = [f"{i},Field {i % 60},{i % 7}" for i in range(300)]
    rows[17] = "17,Feild 17,3"
    visits = write("visits.csv", "no,place,mites\n" + "\n".join(rows) + "\n")
    [reference] = mark([places, visits]).references
    assert reference.strays == ("Feild 17",)
    result = cut([places, visits], tmp_path / "p.db")
    assert next(t.rows for t in result.tables if t.name == "place") == 61
    assert prove(tmp_path / "p.db").holds


# near misses


def test_what_nearly_holds_is_told_with_its_rows(write: Write, tmp_path: Path) -> None:
    text = flat_visits(240).splitlines()
    cells = text[100].split(",")
    cells[7] = "0555 111"
    text[100] = ",".join(cells)
    result = mark([write("visits.csv", "\n".join(text) + "\n")])
    [near] = [n for n in result.near if n.header == "phone"]
    assert (near.by, near.exceptions, near.first[0][:2], near.table) == (
        "keeper",
        1,
        (101, "0555 111"),
        "keeper",
    )
    cut([tmp_path / "visits.csv"], tmp_path / "v.db")
    assert prove(tmp_path / "v.db").holds


# steering


def test_a_person_has_the_last_word(visits: Path) -> None:
    def tables(**how: Any) -> dict[str, set[str]]:
        return {t.name: {*t.columns} for t in mark([visits], steering=Steering(**how)).tables}

    assert set(tables(depth="flat")) == {"visit"}
    assert set(tables(depth="lookups")) == {"visit", "hive", "keeper"}
    assert "phone" in tables(apart=(("keeper", "phone"),))["visit"]
    assert {"phone", "grid"} <= tables(together=(("phone", "grid"),))["visit"]
    assert tables(known_by=(("kind",),))["kind"] == {
        "kind"
    }  # a lookup only where a person asks for it
    assert not any("kg" in c for c in tables(left_out=("kg",)).values())
    with pytest.raises(UsageError, match='no source has a column "phon"') as told:
        tables(together=(("phon", "kg"),))
    assert '"phone"' in told.value.next


def test_links_can_be_forced_and_forbidden(book: Path) -> None:
    assert links(mark([book], steering=Steering(no_link=("Place", "Mother"))))["hive"] == {"keeper"}
    assert "place" in links(mark([book], steering=Steering(link=(("Grid", "hive"),))))
    with pytest.raises(UsageError, match="cannot link"):
        mark([book], steering=Steering(link=(("Mother", "nothing"),)))


def test_the_options_say_the_same(kerfmark: Runner, visits: Path) -> None:
    said = kerfmark(
        "mark",
        "visits.csv",
        "--apart",
        "keeper,phone",
        "--leave-out",
        "kg",
        "-o",
        "v.toml",
        "--json",
    ).json
    assert "phone" in next(t for t in said["tables"] if t["name"] == "visit")["columns"]
    kerfmark("cut", "v.toml", "--into", "v.db")
    assert kerfmark("prove", "v.db", "--json").json["holds"]
    assert "COLUMN=TABLE" in kerfmark("mark", "visits.csv", "--link", "keeper", code=2).err
    assert "two columns" in kerfmark("mark", "visits.csv", "--apart", "keeper", code=2).err


# marking again


def test_edits_are_kept_and_only_what_is_new_is_added(
    kerfmark: Runner, visits: Path, tmp_path: Path, write: Write
) -> None:
    kerfmark("mark", "visits.csv", "-o", "v.toml")
    edited = (
        (tmp_path / "v.toml")
        .read_text()
        .replace("[tables.keeper]", "# my own words\n[tables.keeper]")
        .replace('phone = "phone"', 'telephone = "phone"')
    )
    (tmp_path / "v.toml").write_text(edited)
    again = kerfmark("mark", "visits.csv", "-o", "v.toml", "--json").json
    assert (again["new"], again["missing"]) == ([], []) and (
        tmp_path / "v.toml"
    ).read_text() == edited
    lines = visits.read_text().splitlines()
    weather = ["sun", "rain", "wind"]
    wider = [
        line + (",weather" if i == 0 else "," + weather[i * i % 3]) for i, line in enumerate(lines)
    ]
    write(
        "visits.csv",
        "\n".join(
            line.replace("kind", "hive kind") if i == 0 else line for i, line in enumerate(wider)
        )
        + "\n",
    )
    again = kerfmark("mark", "visits.csv", "-o", "v.toml", "--json").json
    assert set(again["new"]) == {'"hive kind" joins hive', '"weather" joins visit'}
    assert again["missing"] == ["kind"]
    text = (tmp_path / "v.toml").read_text()
    assert (
        "# my own words" in text
        and "telephone" in text
        and tomllib.loads(text)["tables"]["visit"]["columns"]["weather"]
    )


def test_a_new_source_joins_an_edited_layout(
    kerfmark: Runner, visits: Path, tmp_path: Path, write: Write
) -> None:
    kerfmark("mark", "visits.csv", "-o", "v.toml")
    write(
        "fees.csv",
        "keeper,year,fee\n"
        + "".join(f"Keeper {i % 9},{2020 + i // 9},{i * 3 % 40}\n" for i in range(36)),
    )
    again = kerfmark("mark", "visits.csv", "fees.csv", "-o", "v.toml", "--json").json
    assert [n.split(":")[0] for n in again["new"]] == ["source fees"]
    kerfmark("cut", "v.toml", "--into", "v.db")
    assert len(kerfmark("prove", "v.db", "--json").json["proofs"]) == 2


def test_what_is_no_layout_is_never_overwritten(
    kerfmark: Runner, visits: Path, write: Write, tmp_path: Path
) -> None:
    write("notes.txt", "Dear keepers\n")
    kerfmark("mark", "visits.csv", "-o", "notes.txt", code=2)
    assert (tmp_path / "notes.txt").read_text() == "Dear keepers\n"


def test_what_stands_for_none_among_names_is_a_blank(write: Write, tmp_path: Path) -> None:
    places = write("places.csv", "place,grid\n" + "".join(f"Field {i},XK {i}\n" for i in range(30)))
    visits = write(
        "visits.csv",
        "no,place\n"
        + "".join(f"{i},{'n/a' if i % 9 == 0 else f'Field {i % 30}'}\n" for i in range(200)),
    )
    result = cut([places, visits], tmp_path / "p.db")
    assert next(t.rows for t in result.tables if t.name == "place") == 30
    assert prove(tmp_path / "p.db").holds


def test_a_usual_value_may_be_missing_and_spelled_otherwise_elsewhere(
    write: Write, tmp_path: Path
) -> None:
    lines = flat_visits(480).splitlines()
    for i in range(1, len(lines)):
        cells = lines[i].split(",")
        cells[3] = "" if cells[2] in ("H03", "H04") else cells[3]
        cells[3] = "clay" if i == 77 else cells[3]
        lines[i] = ",".join(cells)
    cut([write("visits.csv", "\n".join(lines) + "\n")], tmp_path / "v.db")
    assert prove(tmp_path / "v.db").holds
    register = write(
        "hives.csv", "tag;made\n" + "".join(f"T{i};{1 + i % 28:02}.03.2020\n" for i in range(40))
    )
    seen = write(
        "seen.csv",
        "no,tag,made\n"
        + "".join(f"{i},T{i % 40},2020-03-{1 + i % 40 % 28:02}\n" for i in range(300)),
    )
    cut([register, seen], tmp_path / "h.db")
    assert prove(tmp_path / "h.db").holds


def test_nearly_dates_that_could_be_swapped_stay_text(write: Write, kerfmark: Runner) -> None:
    write(
        "d.csv",
        "day,n\n"
        + "".join(f"{i % 12 + 1}/{i % 9 + 1}/2025,{i}\n" for i in range(200))
        + "none,7\n",
    )
    kerfmark("cut", "d.csv", "--into", "d.db")
    day = next(
        c
        for t in kerfmark("show", "d.db", "--json").json["tables"]
        for c in t["columns"]
        if c["name"].startswith("d") and "id" not in c["name"]
    )
    assert day["type"] == "TEXT"


@pytest.mark.parametrize(
    "inputs",
    [
        ["inspections-2025.csv"],
        ["register.xlsx", "inspections-2025.csv"],
        ["register.xlsx", "harvest-2025.csv", "inspections-2025.csv", "inspections-2026-02.csv"],
    ],
)
def test_the_links_that_are_explained_are_those_that_are_made(
    inputs: list[str], tmp_path: Path
) -> None:
    found = mark([DEMO / i for i in inputs])
    made = {(t.name, parent) for t in found.tables for parent in t.links.values()}
    assert {(r.table, r.parent) for r in found.references} <= made
    narrower = mark([DEMO / i for i in inputs], steering=Steering(no_link=("Apiary", "Hive")))
    made = {(t.name, parent) for t in narrower.tables for parent in t.links.values()}
    assert {(r.table, r.parent) for r in narrower.references} <= made
