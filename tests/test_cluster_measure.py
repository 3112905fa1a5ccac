"""measure on a cluster: what one machine tells, whether values are brought to the driver or not."""

from __future__ import annotations

import csv
import dataclasses
import json
import random
from collections import Counter
from pathlib import Path

import pytest

from cluster import Cluster
from conftest import DEMO
from kerfmark.cli.main import main
from kerfmark.cluster import measured, values_there
from kerfmark.profile.measure_result import SourceMeasured
from kerfmark.verbs.measure import measure
from kerfmark.verbs.measure_on_cluster import measure_on_cluster

ROWS = 1_500
HEADER = "No,Day,When,Seen,Hive,Weight,Mites,Breed,Remark,Lists,Calm,Club,Price,Total,Empty"


def visits(chance: random.Random) -> list[list[str]]:
    """Visits with all that measuring finds: words among numbers, days that are none, dates in
    several forms, codes, lists, names in several spellings."""
    out = [HEADER.split(",")]
    for number in range(ROWS):
        day, month = chance.randint(13, 28), chance.randint(1, 12)
        weight = f"{chance.uniform(0, 300):.3f}"
        out.append(
            [
                str(number % (ROWS - 20)),
                f"{day}.{month:02}.2030",
                chance.choice([f"2030-{month:02}-{day}", f"{day}.{month:02}.2030"]),
                chance.choice([f"{day}/{month:02}/30", f"{month:02}/{day}/30"]),
                f"{chance.randint(0, 9_999):04}",
                weight.rstrip("0").rstrip("."),
                chance.choice([str(chance.randint(0, 60)), "", "n/a"]),
                chance.choice(
                    ["Carnica", "Carnica", "carnica", "Buckfast ", "Dark  bee", "Dark bee"]
                ),
                " ".join(chance.choice(["calm", "queen", "seen", "no", "eggs"]) for _ in "12345"),
                json.dumps([{"frame": chance.randint(1, 9)}] * chance.randint(0, 2)),
                chance.choice(["yes", "no"]),
                "Bees of the Hill",
                f"£{chance.randint(1, 99)}.50",
                f"{chance.randint(1_000, 9_999_999):,}",
                "",
            ]
        )
    out[700][1], out[900][1], out[901][5] = "31.02.2030", "soon", "heavy"
    out[1_200] = list(out[40])
    out[1_201] = list(out[41])
    return out


def write(path: Path, rows: list[list[str]]) -> Path:
    """A file of rows."""
    with path.open("w", newline="", encoding="utf-8") as file:
        csv.writer(file).writerows(rows)
    return path


def plain(source: SourceMeasured) -> dict[str, object]:
    """What is told of a source, to be compared."""
    return dataclasses.asdict(source)


@pytest.mark.parametrize("brought", [True, False])
def test_a_cluster_tells_what_one_machine_tells(
    brought: bool, running: Cluster, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("KERFMARK_BLOCK", "40000")
    monkeypatch.setattr(measured, "PART", 60_000)
    if not brought:  # the driver has a few values of each column, and asks for the others
        monkeypatch.setattr(values_there, "BROUGHT", 0)
        monkeypatch.setattr(values_there, "HEAD", 4)
    chance = random.Random(11)
    rows = visits(chance)
    file = write(tmp_path / "visits.csv", [*rows[:800], ["a note"], ["x"] * 16, *rows[800:]])
    padded = [[" Frames", "Kind "], *([f"{n % 40:>5}", f" {n % 3} "] for n in range(200))]
    others = [
        write(tmp_path / "padded.csv", padded),
        write(tmp_path / "later.csv", [["Weight", "Frames taken"]]),
    ]
    grouped = [["Keeper", "Hive", "Remark"]]
    grouped += [["" if n % 3 else f"Keeper {n}", f"{n:04}", "a long remark"] for n in range(2_000)]
    files = [file, *others]
    if brought:
        files += [write(tmp_path / "grouped.csv", grouped), DEMO / "register.xlsx"]
    shared = tmp_path / "shared"
    shared.mkdir()
    here = measure(files, rows=4)
    there = measure_on_cluster(files, running.address, shared, rows=4)
    assert not list(shared.iterdir()), "what was needed on the way is gone"
    assert [*map(plain, there.sources)] == [*map(plain, here.sources)]
    if brought:
        assert "may belong to the row above" in there.sources[3].findings[0].what
    # and what somebody counts who has nothing but the file
    [told] = [s for s in there.sources if s.file == "visits.csv"]
    by_header = {c.header: c for c in told.columns}
    for at, header in enumerate(rows[0]):
        cells = Counter(row[at] for row in rows[1:] if row[at] not in ("", "n/a"))
        assert by_header[header].distinct == len(cells)
        assert by_header[header].blanks == ROWS - cells.total()
    remarks = Counter(row[8] for row in rows[1:])
    most = sorted(remarks, key=lambda text: (-remarks[text], [*remarks].index(text)))[:3]
    assert by_header["Remark"].frequent == tuple((text, remarks[text]) for text in most)
    assert (by_header["Day"].mostly, by_header["Day"].misfits) == ("date DD.MM.YYYY", 2)
    found = " ".join(f.what for f in told.findings)
    for what in (
        "is the same as an earlier row",
        "do not have the 15 fields",
        "dates in several forms",
        "begins with the day",
        "leading zeros",
        "lists of records",
        "only in case or spaces",
        "spaces at its ends",
        "blank in every row",
        'is "Bees of the Hill" in every row',
    ):
        assert what in found


def test_a_cluster_needs_a_folder_that_all_reach(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    file = write(tmp_path / "visits.csv", [["No"], ["1"]])
    assert main(["measure", str(file), "--cluster", "spark://head.example:7077"]) == 2
    assert "--shared FOLDER" in capsys.readouterr().err
