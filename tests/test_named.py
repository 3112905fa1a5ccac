"""Records that other sources only name, keys of the records' own: a history of them against plain
Python."""

from __future__ import annotations

import csv
import random
from collections.abc import Sequence
from functools import partial
from pathlib import Path
from typing import Any

import pytest

import kerfmark
from engines import Target

LAYOUT = """\
kerfmark = 1
[sources.visits]
file = "v0.csv"
[sources.hives]
file = "h0.csv"
[tables.visit]
source = "visits"
each_row = true
known_by = ["no"]
optional = ["kg"]
links = {hive_tag = {to = "hive", by = {tag = "hive"}, repeats = {kind = "kind"}}}
columns = ["no", "kg"]
[tables.hive]
source = "hives"
each_row = true
known_by = ["tag"]
KEY
optional = ["kind", "site"]
columns = {tag = "tag", kind = "kind", site = "site"}
"""
State = tuple[dict[str, list[str]], dict[str, list[str]]]


class Refused(Exception):
    """These rows cannot be loaded."""


def loaded(state: State, source: str, rows: Sequence[Sequence[str]], policy: str) -> State:
    """The hives (kind, site) and visits (kg, tag) after rows were loaded."""
    hives, visits = {k: [*v] for k, v in state[0].items()}, {k: [*v] for k, v in state[1].items()}

    def meets(there: str, said: str, rule: str) -> str:
        if there == said:
            return there
        if rule == "refuse":
            raise Refused
        return there or said if rule == "fill" else said if rule == "overwrite" else there

    if source == "hives":
        for tag, kind, site in rows:
            if tag in hives and policy == "refuse":
                raise Refused
            mine = hives.setdefault(tag, [kind, site])
            mine[0] = meets(mine[0], kind, policy)
            mine[1] = meets(mine[1], site, policy)
        return hives, visits
    said = {tag: kind for _, _, tag, kind in reversed(rows)}
    if any(said[tag] != kind for _, _, tag, kind in rows):
        raise Refused
    for tag, kind in said.items():
        if tag not in hives:
            hives[tag] = [kind, ""]
        elif kind:  # a blank beside a name says nothing
            hives[tag][0] = meets(hives[tag][0], kind, policy)
    for no, kg, tag, _ in rows:
        if no in visits and policy == "refuse":
            raise Refused
        mine = visits.setdefault(no, [kg, tag])
        mine[0], mine[1] = meets(mine[0], kg, policy), meets(mine[1], tag, policy)
    return hives, visits


@pytest.mark.parametrize("natural", [False, True])
def test_histories_with_records_that_are_only_named(
    db: Target, tmp_path: Path, natural: bool
) -> None:
    for seed in range(12 if db.is_file else 3):
        _history(db, tmp_path, random.Random(f"{db.engine}{natural}{seed}"), natural)


def _history(db: Target, folder: Path, chance: random.Random, natural: bool) -> None:
    files: dict[str, list[list[str]]] = {}

    def write(name: str, tags: Sequence[str]) -> None:
        numbers = chance.sample("123456", 3)
        kinds = {t: chance.choice(["wood", "wood", "straw", ""]) for t in tags}
        rows = (
            [[t, kinds[t], chance.choice(["A", "B", ""])] for t in tags]
            if name[0] == "h"
            else [
                [n, chance.choice(["1", "2", ""]), t, kinds[t]]
                for n, t in zip(numbers, chance.choices(tags, k=3), strict=True)
            ]
        )
        files[name] = rows
        with (folder / name).open("w", newline="") as file:
            csv.writer(file, lineterminator="\n").writerows(
                [["tag", "kind", "site"] if name[0] == "h" else ["no", "kg", "hive", "kind"], *rows]
            )

    (folder / "l.toml").write_text(LAYOUT.replace("KEY", 'key = ["tag"]' if natural else ""))
    write("h0.csv", ["H1", "H2"])
    write("v0.csv", ["H1"])
    files["v0.csv"] = [[n, kg, t, files["h0.csv"][0][1]] for n, kg, t, _ in files["v0.csv"]]
    (folder / "v0.csv").write_text(
        "no,kg,hive,kind\n" + "".join(",".join(r) + "\n" for r in files["v0.csv"])
    )
    url: Any = folder / db.url if db.is_file else db.url
    kerfmark.cut([folder / "l.toml"], url, replace=True, discard=True)
    live: dict[int, tuple[list[str], str]] = {1: (["h0.csv", "v0.csv"], "refuse")}

    def model(some: dict[int, tuple[list[str], str]]) -> State:
        state: State = {}, {}
        for _, (names, policy) in sorted(some.items()):
            for name in sorted(names):
                state = loaded(state, "hives" if name[0] == "h" else "visits", files[name], policy)
        return state

    for step in range(6):
        if chance.random() < 0.65 or len(live) == 1:
            name = f"{chance.choice('hv')}{step + 1}.csv"
            write(name, chance.sample(["H1", "H2", "H3", "H4"], 2))
            policy = chance.choice(["refuse", "keep", "fill", "overwrite", "fill"])
            number = max(n.number for n in kerfmark.loads(url).loads) + 1
            wanted, work = (
                live | {number: ([name], policy)},
                partial(kerfmark.add, [folder / name], url, known=policy),
            )
        else:
            gone = chance.choice([n for n in live if n > 1] or [1])
            wanted, work = (
                {n: f for n, f in live.items() if n != gone},
                partial(kerfmark.undo, url, gone),
            )
        try:
            possible = bool(model(wanted))
        except Refused:
            possible = False
        try:
            work()
        except kerfmark.DataRefused as refused:
            assert not possible, (refused, refused.why, refused.more)
        else:
            assert possible, (live, wanted, files)
            live = wanted
        hives, visits = model(live)
        assert {
            t: [k or "", s or ""] for t, k, s in db.ask("SELECT tag, kind, site FROM hive")
        } == hives
        tag = "v.hive_tag" if natural else "(SELECT tag FROM hive h WHERE h.hive_id = v.hive_tag)"
        assert {
            n: [kg or "", t] for n, kg, t in db.ask(f"SELECT no, kg, {tag} FROM visit v")
        } == visits
        proof = kerfmark.prove(url)
        assert proof.holds and all(a.balances for a in proof.account), proof.proofs
