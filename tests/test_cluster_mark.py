"""mark on a cluster: the layout that one machine proposes from all rows, from a few of them."""

from __future__ import annotations

import random
from pathlib import Path

import pytest

from cluster import Cluster
from kerfmark.cluster import sample
from kerfmark.layout.text import read_layout
from kerfmark.verbs.mark import MarkResult, mark
from kerfmark.verbs.mark_on_cluster import mark_on_cluster

HEADER = "No,Day,Hive,Hive type,Apiary,Grid,Keeper,Phone,Mites,Weight,Remark"


def visits(chance: random.Random, rows: int) -> list[list[str]]:
    """Visits to hives of apiaries, by keepers."""
    apiaries = [(f"Apiary {a}", f"NZ {chance.randint(1000, 9999)}") for a in range(30)]
    hives = [
        (f"H{h:04}", chance.choice(["Langstroth", "Warre", "National"]), *chance.choice(apiaries))
        for h in range(300)
    ]
    keepers = [(f"Keeper {k}", f"0{chance.randint(10**8, 10**9)}") for k in range(80)]
    out = []
    for number in range(1, rows + 1):
        day = f"{chance.randint(1, 12):02}/{chance.randint(1, 12):02}/2031"
        remark = chance.choice(["", "", "", "queen seen", "no eggs", "calm"])
        weight = f"{chance.randint(10, 40)}.{chance.randint(0, 9)}"
        mites = str(chance.randint(0, 30))
        out.append(
            [
                str(number),
                day,
                *chance.choice(hives),
                *chance.choice(keepers),
                mites,
                weight,
                remark,
            ]
        )
    return out


def written(path: Path, rows: list[list[str]]) -> Path:
    """A file of visits."""
    path.write_text("\n".join([HEADER, *map(",".join, rows), ""]), encoding="utf-8")
    return path


def both(file: Path, address: str) -> tuple[MarkResult, MarkResult]:
    """What one machine and a cluster propose, as here.toml and there.toml."""
    here = mark([file], file.parent / "here.toml")
    shared = file.parent / "shared"
    shared.mkdir(exist_ok=True)
    there = mark_on_cluster([file], file.parent / "there.toml", address, shared)
    assert not list(shared.iterdir()), "what was needed on the way is gone"
    return here, there


def test_all_rows_of_a_small_file_are_taken(running: Cluster, tmp_path: Path) -> None:
    file = written(tmp_path / "visits.csv", visits(random.Random(3), 800))
    here, there = both(file, running.address)
    assert (tmp_path / "there.toml").read_text() == (tmp_path / "here.toml").read_text()
    assert there.reasons == here.reasons and there.tables == here.tables
    assert there.sample is not None and there.sample.rows == there.sample.of_rows == 800


@pytest.mark.parametrize("trap", ["none", "dependency", "typo", "key", "number", "day", "blank"])
def test_what_few_rows_say_is_held_against_all(
    trap: str, running: Cluster, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """One row of 12,000 says otherwise; a sample of some 2,000 may or may not have it."""
    monkeypatch.setenv("KERFMARK_BLOCK", "150000")
    monkeypatch.setattr(sample, "ROWS", 2_000)
    rows = visits(random.Random(5), 12_000)
    at = rows[7_777]
    if trap == "dependency":  # by a value that other hives have
        at[3] = "Warre" if at[3] != "Warre" else "National"
    elif trap == "typo":
        at[3] = "Waree"
    elif trap == "key":
        at[0] = "17"
    elif trap == "number":
        at[8] = "many"
    elif trap == "day":  # it tells which of day and month is which
        at[1] = "25/03/2031"
    elif trap == "blank":
        at[2] = at[3] = at[4] = at[5] = ""
    file = written(tmp_path / "visits.csv", rows)
    here, there = both(file, running.address)
    assert there.sample is not None and there.sample.of_rows == 12_000
    assert there.sample.rows < 4_000
    assert there.sample.rounds == (2 if trap in ("dependency", "key") else 1)
    ours, theirs = (read_layout(tmp_path / f"{n}.toml")[0] for n in ("here", "there"))
    assert theirs == ours
    assert [(r.table, r.by, r.decides, r.values, r.repeats) for r in there.reasons] == [
        (r.table, r.by, r.decides, r.values, r.repeats) for r in here.reasons
    ]
    assert [(t.name, t.rows) for t in there.tables] == [(t.name, t.rows) for t in here.tables]


def test_a_register_that_others_refer_to_is_taken_whole(
    running: Cluster, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """And a file without rows is passed over, as on one machine."""
    monkeypatch.setenv("KERFMARK_BLOCK", "150000")
    monkeypatch.setattr(sample, "ROWS", 3_000)
    chance = random.Random(9)
    rows = visits(chance, 12_000)
    keepers = sorted({(row[6], row[7]) for row in rows})
    (tmp_path / "visits.csv").write_text(
        "\n".join(["No,Day,Keeper,Mites", *(",".join([r[0], r[1], r[6], r[8]]) for r in rows), ""])
    )
    register = [f"{name},{phone},Town {chance.randint(1, 9)}" for name, phone in keepers]
    (tmp_path / "keepers.csv").write_text("\n".join(["Name,Phone,Town", *register, ""]))
    (tmp_path / "later.csv").write_text("Weight,Frames\n")
    files = [tmp_path / f"{n}.csv" for n in ("visits", "keepers", "later")]
    here = mark(files, tmp_path / "here.toml")
    there = mark_on_cluster(files, tmp_path / "there.toml", running.address, tmp_path / "shared")
    assert there.sample is not None and len(keepers) == 80
    assert there.sample.of_rows == 12_080 and there.sample.rows < 4_000
    ours, theirs = (read_layout(tmp_path / f"{n}.toml")[0] for n in ("here", "there"))
    assert theirs == ours and theirs.tables["visit"].links
    assert (
        [n for n in there.notes if "no rows" in n[1]]
        == [n for n in here.notes if "no rows" in n[1]]
        != []
    )
