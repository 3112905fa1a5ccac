"""What loading files in order must give, in plain Python: records as dictionaries, one row after
the other. It shares nothing with the program, neither code nor data structures, and knows one
layout, which the tests write themselves."""

from __future__ import annotations

import copy
from collections.abc import Sequence
from dataclasses import dataclass, field

HEADERS = ("no", "kg", "hive", "colour", "apiary", "place", "note", "after", "m1", "m2", "tags")
Row = dict[str, str]
ONLY = "only "
"""How the policy begins of a load that may make no record."""

LAYOUT = """\
kerfmark = 1
[sources.visits]
file = "f0.csv"
[tables.visit]
each_row = true
known_by = ["no"]
optional = ["kg", "spot_id", "after_id"]
links = {hive_id = "hive", spot_id = "spot", after_id = {to = "visit", by = {no = "after"}, missing = "MISSING"}}
[tables.visit.columns]
no = {header = "no", type = "integer"}
kg = {header = "kg", type = "decimal(6,1)"}
[tables.hive]
known_by = ["hive"]
optional = ["colour"]
columns = ["hive", "colour"]
[tables.spot]
known_by = ["apiary", "place"]
optional = ["note"]
columns = ["apiary", "place", "note"]
[tables.mite]
part_of = "visit"
known_by = ["visit_id", "which"]
links = ["visit"]
columns = {which = {told = ["m1", "m2"]}, mites = {headers = ["m1", "m2"], type = "integer"}}
[tables.tag]
known_by = ["tag"]
columns = {tag = {header = "tags", split = ";"}}
[tables.visit_tag]
part_of = "visit"
known_by = ["visit_id", "nth"]
links = {visit_id = "visit", tag_id = {to = "tag", by = {tag = "tags"}}}
columns = {nth = {position = true}}
"""


class Refused(Exception):
    """The rows cannot be loaded."""


@dataclass
class Account:
    """What became of the rows of a file."""

    own: int = 0
    same: int = 0
    different: int = 0
    set_aside: int = 0


@dataclass
class State:
    """The records of each table by natural key, what links lead to as natural keys."""

    hives: dict[str, str] = field(default_factory=dict)
    spots: dict[tuple[str, str], str] = field(default_factory=dict)
    tags: set[str] = field(default_factory=set)
    visits: dict[str, Row] = field(default_factory=dict)

    def view(self) -> list[tuple[str, ...]]:
        """The flat rows again, without order."""
        out = []
        for v in self.visits.values():
            shown = dict(v, colour=self.hives[v["hive"]])
            shown["note"] = self.spots[v["apiary"], v["place"]] if v["apiary"] else ""
            out.append(tuple(shown[h] for h in HEADERS))
        return sorted(out)


def merged(there: str, said: str, policy: str) -> str:
    """What becomes of a value."""
    if there == said:
        return there
    if policy == "refuse":
        raise Refused(f"{said} differs from {there}")
    if policy == "fill":
        return there or said
    return said if policy in ("overwrite", "replace") else there


def load(
    before: State, rows: Sequence[Row], policy: str, missing: str, aside: bool = False
) -> tuple[State, Account]:
    """The state after rows were loaded, with what became of them; rows that do not fit are set
    `aside`. Raises Refused."""
    good = list(rows)
    if policy.startswith(ONLY):
        policy = policy.removeprefix(ONLY)
        _only_what_is_there(before, rows)
    while aside and (
        bad := [r for r in good if _is_bad(before, good, r, policy or "refuse", missing)]
    ):
        good = [r for r in good if r not in bad]
        if not good:
            raise Refused("nothing is left")
    state, account = _load(before, good, policy, missing)
    account.set_aside = len(rows) - len(good)
    return state, account


def _is_bad(before: State, rows: Sequence[Row], row: Row, policy: str, missing: str) -> bool:
    """Whether a row does not fit what is there, or what the others say."""
    spot = row["apiary"], row["place"]
    known = row["no"] in before.visits
    if policy == "refuse" and (
        known
        or before.hives.get(row["hive"], row["colour"]) != row["colour"]
        or before.spots.get(spot, row["note"]) != row["note"]
    ):
        return True
    if (
        missing == "refuse"
        and row["after"]
        and row["after"] not in set(before.visits) | {r["no"] for r in rows}
    ):
        return True
    if known:
        try:
            _parts(before.visits[row["no"]], row, policy)
        except Refused:
            return True
    return False


def _load(before: State, rows: Sequence[Row], policy: str, missing: str) -> tuple[State, Account]:
    out, account = copy.deepcopy(before), Account()
    _fits(rows)
    policy = policy or "refuse"
    for name, key, value in (
        ("hives", lambda r: r["hive"], "colour"),
        ("spots", lambda r: (r["apiary"], r["place"]), "note"),
    ):
        table = getattr(out, name)
        for row in rows:
            if key(row) in table:
                table[key(row)] = merged(table[key(row)], row[value], policy)
            elif key(row) not in ("", ("", "")):
                table[key(row)] = row[value]
    known_before = set(before.visits)
    here = {row["no"] for row in rows}
    for row in rows:
        out.tags |= set(filter(None, row["tags"].split(";")))
        said = dict(row)
        if row["after"] and row["after"] not in known_before | here:
            if missing == "refuse":
                raise Refused(f"{row['after']} is nowhere")
            said["after"] = ""
        if row["no"] not in known_before:
            out.visits[row["no"]] = said
            account.own += 1
            continue
        if policy == "refuse":
            raise Refused(f"{row['no']} is known")
        mine = out.visits[row["no"]]
        mine["kg"] = merged(mine["kg"], said["kg"], policy)
        mine["hive"] = merged(mine["hive"], said["hive"], policy)
        spot = merged(mine["apiary"] + mine["place"], said["apiary"] + said["place"], policy)
        if spot != mine["apiary"] + mine["place"]:
            mine["apiary"], mine["place"] = said["apiary"], said["place"]
        mine["after"] = merged(mine["after"], said["after"], policy)
        _parts(mine, said, policy)
    shown = {v[0]: v for v in out.view()}
    for row in rows:
        if row["no"] in known_before:
            said = dict(row)
            if row["after"] and row["after"] not in known_before | here:
                said["after"] = ""
            if shown[row["no"]] == tuple(said[h] for h in HEADERS):
                account.same += 1
            else:
                account.different += 1
    return out, account


def _only_what_is_there(before: State, rows: Sequence[Row]) -> None:
    """Raises Refused for rows that say a record which is not there."""
    for row in rows:
        spot = row["apiary"], row["place"]
        if (
            row["no"] not in before.visits
            or row["hive"] not in before.hives
            or (spot != ("", "") and spot not in before.spots)
            or not set(filter(None, row["tags"].split(";"))) <= before.tags
        ):
            raise Refused(f"{row['no']} says something that is not there")


def _fits(rows: Sequence[Row]) -> None:
    """Raises Refused for rows that contradict each other, or themselves."""
    numbers = [r["no"] for r in rows]
    if len(set(numbers)) < len(numbers):
        raise Refused("a number stands twice")
    for key, value in (("hive", "colour"), ("spot", "note")):
        said: dict[str, str] = {}
        for r in rows:
            k = r["hive"] if key == "hive" else f"{r['apiary']}/{r['place']}"
            if said.setdefault(k, r[value]) != r[value]:
                raise Refused(f"{k} says two things")
    for r in rows:
        if bool(r["apiary"]) != bool(r["place"]) or (r["note"] and not r["apiary"]):
            raise Refused("half a spot")


def _parts(mine: Row, said: Row, policy: str) -> None:
    """The parts of a known record are not mended one by one: they stay, or others replace them."""
    if policy == "keep":
        return
    if policy == "replace":
        mine |= {h: said[h] for h in ("m1", "m2", "tags")}
        return
    for there, new in (
        (mine["m1"], said["m1"]),
        (mine["m2"], said["m2"]),
        *_side_by_side(mine["tags"], said["tags"]),
    ):
        if there == new:
            continue
        if not new and policy == "fill":
            continue
        raise Refused(f"other parts: {new} instead of {there}")


def _side_by_side(one: str, other: str) -> list[tuple[str, str]]:
    a, b = list(filter(None, one.split(";"))), list(filter(None, other.split(";")))
    size = max(len(a), len(b))
    return list(zip(a + [""] * (size - len(a)), b + [""] * (size - len(b)), strict=True))
