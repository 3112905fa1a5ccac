"""What a layout is compiled into: decided once, for whoever carries it out."""

from __future__ import annotations

import pickle
import random
from pathlib import Path

import pytest

from cluster_cases import CASES
from kerfmark.layout.text import parse_layout
from kerfmark.plan.compile import compiled, in_order_of_lookup
from kerfmark.plan.model import Plan


def plan_of(case: str, folder: Path) -> Plan:
    return compiled(parse_layout(CASES[case](folder, random.Random(1)), "case"))


@pytest.mark.parametrize(
    ("case", "table", "column", "rule"),
    [
        ("composite_keys", "visit", "fee", "own"),
        ("composite_keys", "visit", "light", "exception"),
        ("composite_keys", "visit", "year", "own"),
        ("composite_keys", "stand", "stand", "own"),
        ("composite_keys", "stand", "light", "most frequent"),
        ("composite_keys", "stand", "side", "same"),
        ("one_of_several", "keeper", "first", "first"),
        ("one_of_several", "keeper", "last", "last"),
        ("one_of_several", "keeper", "often", "most frequent"),
        ("parts", "mite", "count", "group"),
        ("parts", "mite", "month", "told"),
        ("parts", "care_treatment", "position_no", "position"),
        ("parts", "dose", "dose", "part"),
        ("parts", "treatment", "name", "part"),
    ],
)
def test_each_column_has_one_rule_for_its_value(
    case: str, table: str, column: str, rule: str, tmp_path: Path
) -> None:
    assert plan_of(case, tmp_path).tables[table].columns[column].rule == rule


def test_a_key_with_a_link_in_it_is_told_by_the_cells_of_both_tables(tmp_path: Path) -> None:
    plan = plan_of("composite_keys", tmp_path)
    assert [c.header for c in plan.tables["stand"].identity.cells] == ["Apiary", "Stand"]
    tree = plan.tables["tree"].identity
    assert [c.header for c in tree.only] == ["[Mites] > 0"]
    link = plan.tables["visit"].links["tree_id"]
    assert link.identity == tree and not link.agreed
    assert plan.tables["stand"].links["apiary_id"].agreed is False  # it is part of the key


def test_tables_are_made_after_their_parents_and_parts_last(tmp_path: Path) -> None:
    order = [*plan_of("parts", tmp_path).tables]
    assert order.index("hive") < order.index("care")
    assert {*order[-3:]} == {"mite", "care_treatment", "dose"}


def test_a_link_that_needs_another_is_looked_up_after_it() -> None:
    layout = parse_layout(
        """
kerfmark = 1
[sources.v]
file = "v.csv"
[sources.h]
file = "h.csv"
[tables.visit]
source = "v"
each_row = true
links.hive_id = { to = "hive", by = { "apiary_id.apiary" = "Apiary", no = "Hive" } }
links.apiary_id = { to = "apiary", by = { apiary = "Apiary" } }
[tables.hive]
source = "h"
each_row = true
known_by = ["apiary_id", "no"]
columns = { no = { header = "No" } }
links.apiary_id = { to = "apiary", by = { apiary = "Apiary" } }
[tables.apiary]
source = "h"
known_by = ["apiary"]
columns = { apiary = { header = "Place" } }
""",
        "case",
    )
    found = [(table, link) for table, link, _ in in_order_of_lookup(layout)]
    assert found[-1] == ("visit", "hive_id") and len(found) == 3
    last = compiled(layout).lookups[-1]
    assert {path: c.header for path, c in last.by.items()} == {
        "apiary_id.apiary": "Apiary",
        "no": "Hive",
    }


@pytest.mark.parametrize("case", CASES)
def test_a_plan_can_be_sent_to_other_machines(case: str, tmp_path: Path) -> None:
    plan = plan_of(case, tmp_path)
    again = pickle.loads(pickle.dumps(plan))
    assert again == plan
    for cells in again.cells.values():
        assert len({c.name for c in cells}) == len(cells)
