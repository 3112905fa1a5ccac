"""The tables that are in a flat file are found, and no others."""

from __future__ import annotations

import random
import sqlite3
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from conftest import DEMO, flat_visits
from kerfmark import cut, prove
from kerfmark.layout.names import free_name, singular, snake
from kerfmark.read.open import open_path
from kerfmark.structure.entities import Entity, Trait, find_entities
from kerfmark.structure.header_words import looks_like_key, share_stem
from kerfmark.structure.prepare import Prepared
from kerfmark.structure.propose import Proposal, source_name
from kerfmark.verbs.proposing import mark_sources

Write = Callable[..., Path]


def marked(path: Path) -> Proposal:
    return mark_sources(open_path(path), path.parent).proposal


def shape(proposal: Proposal) -> dict[str, tuple[set[str], set[str]]]:
    """Per table its headers and the tables it parents to."""
    return {
        n: ({c.header for c in t.columns.values()}, set(t.parents.values()))
        for n, t in proposal.layout.tables.items()
    }


VISITS = {
    "visit": ({"visit no", "day", "kg"}, {"hive", "keeper"}),
    "hive": ({"hive", "kind"}, {"apiary"}),
    "apiary": ({"apiary", "grid"}, set()),
    "keeper": ({"keeper", "phone"}, set()),
}


def test_chains_come_out_as_chains(visits: Path) -> None:
    assert shape(marked(visits)) == VISITS


def test_the_demo_holds_what_its_author_put_in() -> None:
    found = shape(marked(DEMO / "inspections-2025.csv"))
    assert {n: links for n, (_, links) in found.items()} == {
        "inspection": {"keeper", "hive", "queen"},
        "hive": {"apiary"},
        "apiary": {"district"},
        "district": set(),
        "queen": {"breed"},
        "breed": set(),
        "keeper": set(),
        "mite": {"inspection"},
        "treatment": set(),
        "inspection_treatment": {"inspection", "treatment"},
    }
    assert found["queen"][0] == {"Queen", "Queen year"}


@pytest.mark.parametrize("seed", range(6))
def test_neither_the_order_of_rows_nor_of_columns_matters(write: Write, seed: int) -> None:
    rng = random.Random(seed)
    head, *rows = [line.split(",") for line in flat_visits().splitlines()]
    order = rng.sample(range(len(head)), len(head))
    rng.shuffle(rows)
    text = "\n".join(",".join(row[i] for i in order) for row in [head, *rows]) + "\n"
    assert shape(marked(write("visits.csv", text))) == VISITS


def test_a_number_within_its_parent_is_a_key_of_two_columns(write: Write) -> None:
    rng = random.Random(5)
    hives = {
        (a, n): (rng.choice(["wood", "straw", "cork"]), rng.randint(2000, 2024))
        for a in range(8)
        for n in range(1, 9)
    }
    rows = [
        (a, f"XK {a * 37 % 90}", n, *hives[a, n], rng.randint(0, 9))
        for a, n in rng.choices(list(hives), k=600)
    ]
    text = "apiary,grid,hive number,kind,made,frames\n" + "\n".join(
        f"Field {r[0]}," + ",".join(map(str, r[1:])) for r in rows
    )
    proposal = marked(write("visits.csv", text))
    assert shape(proposal) == {
        "visit": ({"frames"}, {"hive"}),
        "hive": ({"hive number", "kind", "made"}, {"apiary"}),
        "apiary": ({"apiary", "grid"}, set()),
    }
    assert set(proposal.layout.tables["hive"].known_by) == {"apiary_id", "hive_number"}


def test_chance_is_not_taken_for_structure() -> None:
    """Columns that have nothing to do with each other give one table, however small the file."""
    rng = np.random.default_rng(3)
    for rows in (12, 40, 150, 2000):
        sizes = [2, 3, rows // 3 + 2, rows // 2 + 2, int(rows / 1.2) + 2]
        columns = [rng.integers(0, s, rows).astype(np.int32) for s in sizes]
        traits = [Trait(f"c{i}", "text", 5) for i in range(len(sizes))]
        base = find_entities(Prepared(columns, sizes), traits, rows)
        assert base.parents == []


def test_a_column_with_one_exception_lives_where_it_is_decided_and_nothing_is_lost(
    write: Write, tmp_path: Path
) -> None:
    lines = flat_visits().splitlines()
    at = next(i for i, line in enumerate(lines) if ",H05," in line)
    cells = lines[at].split(",")
    lines[at] = ",".join([*cells[:3], "clay", *cells[4:]])
    path = write("visits.csv", "\n".join(lines))
    found = marked(path).layout.tables
    assert (
        found["hive"].columns["kind"].usual
        and found["visit"].columns["kind_here"].instead_of == "hive"
    )
    cut([path], tmp_path / "v.db")
    assert prove(tmp_path / "v.db").holds
    with sqlite3.connect(tmp_path / "v.db") as db:
        assert db.execute("SELECT kind_here FROM visit WHERE kind_here IS NOT NULL").fetchall() == [
            ("clay",)
        ]
        assert db.execute("SELECT count(*) FROM hive WHERE kind = 'clay'").fetchone() == (0,)


def test_blanks_decide_nothing() -> None:
    """A blank key beside a filled attribute: the attribute could not be found again, so it stays in
    the base."""
    key = np.array([0, 1, 2, 3] * 30 + [-1] * 4, np.int32)
    filled = np.array([0, 1, 2, 0] * 30 + [1, 2, 0, 1], np.int32)
    blank = np.array([0, 1, 2, 0] * 30 + [-1] * 4, np.int32)
    traits = [Trait("hive", "text", 4), Trait("kind", "text", 4), Trait("colour", "text", 4)]
    base = find_entities(Prepared([key, filled, blank], [4, 3, 3]), traits, len(key))
    assert base.own == [1]
    assert [p.own for p in base.parents] == [[0, 2]]


def test_evidence_is_told_in_numbers(visits: Path) -> None:
    reason = next(r for r in marked(visits).reasons if r.table == "hive")
    assert (reason.by, reason.values, reason.repeats, reason.exceptions) == (("hive",), 24, 216, 0)
    assert reason.by_chance > 100
    assert str(reason).startswith(
        "hive decides kind, apiary: 24 values, 216 repeats in visit, 0 exceptions, about "
    )


def test_names_are_plain_singular_and_never_reserved() -> None:
    assert (
        snake("Seen on (UTC)") == "seen_on_utc"
        and snake("KeeperPhone") == "keeper_phone"
        and snake("Größe") == "grosse"
    )
    assert (
        singular("districts") == "district"
        and singular("apiaries") == "apiary"
        and singular("status") == "status"
    )
    assert free_name("order", set(), "order_record") == "order_record"
    taken = {"hive"}
    assert free_name("hive", taken, "hive") == "hive_2" and "hive_2" in taken
    assert source_name("inspections-2025") == "inspections" and source_name("2025") == "source"


def test_headers_are_understood() -> None:
    assert (
        looks_like_key("hive no") and looks_like_key("KeeperID") and not looks_like_key("nothing")
    )
    assert (
        share_stem("keeper phone", "Keeper Name")
        and not share_stem("phone", "Keeper")
        and not share_stem("code", "id")
    )


def test_an_entity_lists_what_lives_in_it() -> None:
    parent = Entity([3], columns=[4], rows=2)
    child = Entity([0, 3], columns=[1], parents=[parent], rows=5)
    assert child.own == [0, 1] and child.everything == {0, 1, 3, 4}


def test_three_columns_can_be_a_key_together(write: Write) -> None:
    rng = random.Random(4)
    known = {
        (y, c, n): (f"Title {rng.randrange(400)}", f"Judge {rng.randrange(60)}")
        for y in range(2015, 2025)
        for c in "ABCDEF"
        for n in range(1, 9)
    }
    rows = [(rng.choice(sorted(known)), rng.randrange(90)) for _ in range(3000)]
    lines = [
        f"{i},{y},Class {c},{n},{known[y, c, n][0]},{known[y, c, n][1]},{points}"
        for i, ((y, c, n), points) in enumerate(rows)
    ]
    found = shape(
        marked(
            write(
                "s.csv", "entry no,year,class,number,title,judge,points\n" + "\n".join(lines) + "\n"
            )
        )
    )
    assert any(
        {"year", "class", "number", "title", "judge"} == headers for headers, _ in found.values()
    )
