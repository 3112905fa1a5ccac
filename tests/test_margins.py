"""Rules with a number in them hold on one side of it and not on the other."""

from __future__ import annotations

import csv
import datetime as dt
import io
import math
from collections import Counter
from itertools import permutations
from pathlib import Path

import numpy as np
import pyarrow as pa
import pytest

from kerfmark.layout.model import ColumnSpec
from kerfmark.normalize.transform import not_allowed
from kerfmark.profile.columns import EncodedColumn
from kerfmark.profile.convert import integers, to_text, to_typed
from kerfmark.profile.types import ColumnType
from kerfmark.read.open import open_path
from kerfmark.structure.entities import Trait, find_entities
from kerfmark.structure.near_dependencies import near
from kerfmark.structure.prepare import Prepared
from kerfmark.structure.propose import Proposal
from kerfmark.structure.repeats import list_of, parse_repeat, repetitions
from kerfmark.verbs.proposing import mark_sources

Rows = list[list[object]]


def text(header: list[str], rows: Rows) -> str:
    out = io.StringIO()
    csv.writer(out, lineterminator="\n").writerows([header, *rows])
    return out.getvalue()


def marked(folder: Path, files: dict[str, str]) -> Proposal:
    """What is proposed for files."""
    for name, content in files.items():
        (folder / name).write_text(content)
    return mark_sources([s for n in files for s in open_path(folder / n)], folder).proposal


def linked(result: Proposal) -> set[tuple[str, str]]:
    tables = result.layout.tables
    return {(n, link.to) for n, t in tables.items() for link in t.links.values()}


def decided(repeats: int, values: int, trait: Trait) -> bool:
    """Whether a column of so many values that repeat so often is found to decide one that is one
    of two equally."""
    rows = values + repeats
    key = np.arange(rows, dtype=np.int32) % values
    prepared = Prepared([key, key % 2], [values, 2])
    found = find_entities(prepared, [trait, Trait("kind", "text", 4)], rows)
    return any(e.key == [0] and e.columns == [1] for e in found.parents)


@pytest.mark.parametrize(
    ("trait", "nats"),
    [
        (Trait("hive", "text", 30.0), 14),
        (Trait("hive", "text", 30.5), 28),
        (Trait("hive", "text", 60.0), 28),
        (Trait("hive", "integer"), 35),
        (Trait("hive id", "integer"), 14),
        (Trait("hive", "text", 60.5), math.inf),
        (Trait("hive", "date"), math.inf),
        (Trait("hive", "timestamp"), math.inf),
        (Trait("hive", "time"), math.inf),
        (Trait("hive", "decimal"), math.inf),
        (Trait("hive", "real"), math.inf),
        (Trait("hive", "boolean"), math.inf),
        (Trait("hive", "text", 4, several=True), math.inf),
        (Trait("hive", "date", said=True), 1.5),
        (Trait("hive", "text", 80, said=True), 1.5),
    ],
)
def test_a_key_needs_evidence(trait: Trait, nats: float) -> None:
    needed = math.ceil(nats / math.log(2) - 1e-9) if nats < math.inf else 10_000
    fewest = max(needed + needed % 2, 4)  # both values as often as each other: ln 2 for each repeat
    assert decided(fewest, 4, trait) == (nats < math.inf)
    if fewest - 2 > 2:
        assert not decided(fewest - 2, 4, trait)


def test_two_values_or_two_repeats_tell_nothing_unless_a_person_says_so() -> None:
    found, said = Trait("hive no", "text", 4), Trait("hive no", "text", 4, said=True)
    assert decided(400, 4, found) and not decided(2, 4, found) and not decided(400, 2, found)
    assert decided(4, 4, said) and decided(400, 2, said)


def weak(repeats: int, others: int, header: str) -> bool:
    """Whether a column that is nearly always the same goes with a key that has enough from
    another."""
    values, rows = 40, 40 + repeats
    key = np.arange(rows, dtype=np.int32) % values
    rare = (key == 7).astype(np.int32)
    traits = [Trait("hive", "text", 4), Trait("kind", "text", 4), Trait(header, "text", 4)]
    prepared = Prepared([key, key % others, rare], [values, others, 2])
    found = find_entities(prepared, traits, rows)
    return any(e.key == [0] and 2 in e.columns for e in found.parents)


def test_each_column_needs_some_evidence_of_its_own() -> None:
    # 1 of 40: a chance of (39² + 1) / 40² that two agree, 0.0500 nats for each repeat
    each = -math.log((39**2 + 1) / 40**2)
    enough = math.ceil(1.5 / each / 40) * 40
    assert enough == 40
    assert weak(40, 8, "colour")
    assert not weak(20, 8, "colour") and weak(20, 8, "hive colour")


def plain_near(key: list[int], other: list[int]) -> tuple[list[int], list[int], int, float, int]:
    """What is usual beside each key, the rows that are otherwise, the repeats, the exceptions that
    chance would make, and the keys that have any: by counting."""
    beside: dict[int, Counter[int]] = {}
    for k, o in zip(key, other, strict=True):
        if k >= 0 and o >= 0:
            beside.setdefault(k, Counter())[o] += 1
    usual = {k: max(c, key=lambda o: (c[o], -o)) for k, c in beside.items()}
    wrong = [i for i, (k, o) in enumerate(zip(key, other, strict=True)) if k >= 0 and usual[k] != o]
    both = [o for k, o in zip(key, other, strict=True) if k >= 0 and o >= 0]
    repeats = len(both) - (max(key) + 1)
    alike = sum((n / len(both)) ** 2 for n in Counter(both).values())
    keys = {key[i] for i in wrong}
    return [usual[k] for k in sorted(usual)], wrong, repeats, (1 - alike) * repeats, len(keys)


def columns(rows: int, keys: int, others: int, exceptions: int) -> tuple[np.ndarray, np.ndarray]:
    key = np.arange(rows, dtype=np.int32) % keys
    other = key % others
    for i in range(exceptions):
        at = i * (rows // max(exceptions, 1))
        other[at] = (other[at] + 1) % others
    return key, other


@pytest.mark.parametrize("blanks", [0, 5])
def test_a_near_dependency_is_as_counted(blanks: int) -> None:
    key, other = columns(1000, 50, 5, 6)
    key[101 : 101 + blanks] = -1
    other[203] = -1
    found = near(key, 50, other, 5)
    assert found is not None
    usual, wrong, repeats, expected, keys = plain_near(key.tolist(), other.tolist())
    assert (found.usual.tolist(), found.rows.tolist()) == (usual, wrong)
    assert (found.repeats, found.keys) == (repeats, keys)
    assert found.expected == pytest.approx(expected)


@pytest.mark.parametrize(
    ("rows", "keys", "others", "exceptions", "is_near"),
    [
        (1000, 50, 5, 11, True),  # a hundredth of the rows and one more
        (1000, 50, 5, 12, False),
        (1000, 50, 1, 0, False),  # what is always the same is decided by nothing
        (1000, 50, 2, 3, True),
        (150, 50, 5, 2, True),  # thrice as many rows as keys
        (149, 50, 5, 2, False),
        (20, 5, 5, 1, True),
        (19, 5, 5, 1, False),
        (24, 8, 2, 0, True),
        (24, 8, 2, 1, False),  # chance makes 8 exceptions here: a tenth of them is none
        (30, 8, 2, 1, True),  # and 11 here
    ],
)
def test_a_near_dependency_has_few_exceptions(
    rows: int, keys: int, others: int, exceptions: int, is_near: bool
) -> None:
    key, other = columns(rows, keys, others, exceptions)
    assert (near(key, keys, other, others) is not None) == is_near


def visits_of(exceptions: int, hives: int = 40, rows: int = 2000) -> str:
    """Visits of hives whose kind is another one in some rows."""
    out: Rows = []
    for i in range(rows):
        hive = i % hives
        kind = ["oak", "pine", "straw", "clay", "cork"][hive % 5]
        if i % (rows // max(exceptions, 1)) == 7 and i // (rows // max(exceptions, 1)) < exceptions:
            kind = "glass"
        out.append([i, f"H{hive:03}", f"No {hive * 7 % 41}", kind, i * 37 % 101])
    return text(["visit no", "hive", "lot", "kind", "kg"], out)


@pytest.mark.parametrize(
    ("exceptions", "hives", "at_home"),
    [(1, 40, True), (5, 40, True), (6, 40, False), (5, 19, False)],
)
def test_a_column_with_few_exceptions_has_a_home(
    tmp_path: Path, exceptions: int, hives: int, at_home: bool
) -> None:
    found = marked(tmp_path, {"visits.csv": visits_of(exceptions, hives)}).layout
    assert any(c.usual for t in found.tables.values() for c in t.columns.values()) == at_home


def referring(strays: int, shared: int, header: str = "apiary") -> dict[str, str]:
    """Apiaries, and hives of some of them and of others that are not there."""
    apiaries: Rows = [[f"Place {i:03}", f"{i * 7} Lane", i * 31 % 97] for i in range(shared)]
    names = [*(f"Place {i:03}" for i in range(shared)), *(f"Lost {i}" for i in range(strays))]
    hives: Rows = [[f"H{i:04}", names[i % len(names)], i * 13 % 89] for i in range(len(names) * 3)]
    return {
        "apiaries.csv": text(["apiary", "address", "size"], apiaries),
        "hives.csv": text(["hive", header, "kg"], hives),
    }


@pytest.mark.parametrize(
    ("strays", "shared", "is_link"),
    [
        (0, 3, True),
        (0, 2, False),  # two values are shared by chance
        (1, 20, True),
        (1, 19, False),  # one of twenty is more than a slip
        (3, 98, True),  # three of a hundred rows
        (3, 96, False),
    ],
)
def test_a_link_may_lead_astray_three_times_in_a_hundred(
    tmp_path: Path, strays: int, shared: int, is_link: bool
) -> None:
    assert (("hive", "apiary") in linked(marked(tmp_path, referring(strays, shared)))) == is_link


def numbered(
    low: int, many: int, step: int, header: str, *, used: int = 0, key: str = "no"
) -> dict[str, str]:
    """Places with numbers, and reports with numbers that are among those."""
    numbers = [low + i * step for i in range(many)]
    named = numbers[: used or many]
    places: Rows = [[n, f"Place {n}", n * 31 % 97] for n in numbers]
    reports: Rows = [[f"R{i:04}", named[i % len(named)], i * 13 % 89] for i in range(many * 3)]
    return {
        "places.csv": text([key, "name", "size"], places),
        "reports.csv": text(["report", header, "kg"], reports),
    }


@pytest.mark.parametrize(
    ("files", "is_link"),
    [
        (numbered(100, 50, 3, "code"), True),
        (numbered(99, 50, 3, "code"), False),  # small numbers are among running ones by chance
        (numbered(1, 50, 3, "place no"), True),  # unless the header says so
        (numbered(1900, 50, 3, "code"), False),  # years
        (numbered(1953, 50, 3, "code"), False),
        (numbered(1954, 50, 3, "code"), True),  # up to 2101
        (numbered(1899, 50, 3, "code"), True),
        (numbered(500, 50, 3, "weight"), False),
        (numbered(500, 50, 3, "code", used=26), True),  # half of the span
        (numbered(500, 50, 3, "code", used=24), False),
    ],
)
def test_numbers_among_numbers_mean_something_or_not(
    tmp_path: Path, files: dict[str, str], is_link: bool
) -> None:
    assert (("report", "place") in linked(marked(tmp_path, files))) == is_link


def test_a_link_against_the_numbers_is_told(tmp_path: Path) -> None:
    found = marked(tmp_path, numbered(1, 50, 1, "code", used=40))
    assert linked(found) == set()
    assert [a.split(":")[0] for a in found.against] == ["report.code is not a link to place"]
    assert marked(tmp_path, numbered(1, 50, 1, "weight", used=40)).against == ()  # nobody thinks so


def encoded(header: str, cells: list[str]) -> EncodedColumn:
    values = list(dict.fromkeys(c for c in cells if c))
    codes = [values.index(c) if c else -1 for c in cells]
    return EncodedColumn(header, pa.array(values, pa.string()), np.array(codes, np.int32))


@pytest.mark.parametrize(
    ("header", "what", "order", "told"),
    [
        ("kg Jan", "month", 0, "Jan"),
        ("kg December", "month", 11, "December"),
        ("Janitor", None, 0, ""),
        ("Sun hours", "day", 6, "Sun"),
        ("Monday", "day", 0, "Monday"),
        ("kg 1900", "year", 1900, "1900"),
        ("kg 2099", "year", 2099, "2099"),
        ("kg 1899", None, 0, ""),
        ("kg 2100", None, 0, ""),
        ("kg q1", "quarter", 1, "Q1"),
        ("Q 4 kg", "quarter", 4, "Q4"),
        ("q5 kg", None, 0, ""),
        ("kg 7", "number", 7, "7"),
        ("kg 007", "number", 7, "7"),
        ("kg 999", "number", 999, "999"),
        ("kg 1000", None, 0, ""),
        ("7", None, 0, ""),
        ("kg 1 of 3", None, 0, ""),
    ],
)
def test_a_header_says_which_of_several_it_is(
    header: str, what: str | None, order: int, told: str
) -> None:
    found = parse_repeat(header)
    assert (found and (found.what, found.order, found.told)) == (what and (what, order, told))


def repeated(headers: list[str], cells: list[list[str]], kind: str = "text") -> list[list[str]]:
    """The headers of each set of columns that repeat."""
    columns = [encoded(h, c) for h, c in zip(headers, cells, strict=True)]
    found = repetitions(columns, [kind] * len(columns))
    return [[columns[c].header for c in sorted(r.columns)] for r in found]


def falling(columns: int, rows: int = 100, fewest: int = 20) -> list[list[str]]:
    """Columns of mites, each filled where the one before is, and less often."""
    kinds = ["varroa", "acarapis", "tropilaelaps", "none"]
    return [
        [
            kinds[(r + c) % 4] if r < rows - c * (rows - fewest) // columns else ""
            for r in range(rows)
        ]
        for c in range(columns)
    ]


@pytest.mark.parametrize(
    ("headers", "repeat"),
    [
        (["mite 1", "mite 2"], True),
        (["mite 0", "mite 1"], True),
        (["mite 2", "mite 3"], False),
        (["mite", "mite 2"], True),
        (["mite", "mite 3"], False),
        (["mite 1", "mite 3"], False),
        (["mite 1"], False),
        (["address 1", "address 2"], False),
        (["col 1", "col 2"], False),
        (["col 1", "col 2", "col 3"], True),
        (["mite Jan", "mite Feb"], False),
        (["mite Jan", "mite Feb", "mite Mar"], True),
        (["mite Jan", "mite Feb", "mite Apr"], False),
        (["mite 2023", "mite 2024"], False),
        (["mite 2023", "mite 2024", "mite 2025"], True),
        (["mite q1", "mite q2", "mite q3"], True),
        (["mite q1", "mite q2"], False),
        (["mite Mon", "mite Tue", "mite Wed"], True),
        (["mite Mon", "mite Tue"], False),
    ],
)
def test_columns_repeat_from_so_many_on(headers: list[str], repeat: bool) -> None:
    assert repeated(headers, falling(len(headers))) == ([headers] if repeat else [])


def gaps(holes: int, rows: int = 100, then: int = 100) -> list[list[str]]:
    """Two columns of mites that do not draw from one stock, the first with holes."""
    one = ["" if r < holes else f"a{r % 4}" for r in range(rows)]
    return [one, [f"b{r % 4}" if r < then else "" for r in range(rows)]]


@pytest.mark.parametrize(
    ("cells", "repeat"),
    [
        (gaps(0, then=80), True),
        (gaps(0, then=97), True),
        (gaps(0, then=98), False),  # blanks enough to show that the left one is filled first
        (gaps(5, then=75), True),  # 70 of 75 stand behind a filled one: 93 %
        (gaps(6, then=75), False),
    ],
)
def test_columns_are_filled_from_the_left(cells: list[list[str]], repeat: bool) -> None:
    assert bool(repeated(["mite 1", "mite 2"], cells)) == repeat


@pytest.mark.parametrize(("shared", "repeat"), [(2, True), (1, False)])
def test_columns_draw_from_one_stock(shared: int, repeat: bool) -> None:
    one = [f"a{r % 4}" for r in range(100)]
    two = [f"a{r % 4}" if r % 4 < shared else f"b{r % 4}" for r in range(100)]
    assert bool(repeated(["mite 1", "mite 2"], [one, two])) == repeat


@pytest.mark.parametrize(
    ("numbers", "repeat"),
    [
        ([5, 12, 40], True),
        ([1, 10, 40], True),  # the middle one is the smallest of the first
        ([1, 9, 40], False),
        ([1, 20, 40], True),
        ([1, 21, 40], False),
    ],
)
def test_columns_of_numbers_are_of_one_size(numbers: list[int], repeat: bool) -> None:
    one, two = ["10", "15", "20"], [str(n) for n in numbers]
    assert bool(repeated(["weight 1", "weight 2"], [one, two], "integer")) == repeat


@pytest.mark.parametrize(("alone", "together"), [(0, True), (6, True), (7, False)])
def test_columns_go_together_when_they_are_filled_together(alone: int, together: bool) -> None:
    """Of 200 mites, so many have no count, and so many counts have no mite."""
    mites = [[f"a{r % 4}" if r < 120 - 40 * c else "" for r in range(150)] for c in range(2)]
    counts = [["5" if m else "" for m in c] for c in mites]
    for i in range(alone):
        counts[0][i] = ""
        counts[1][100 + i] = "5"
    found = repeated(["mite 1", "mite 2", "count 1", "count 2"], [*mites, *counts])
    assert (len(found) == 1) == together and len(found) in (1, 2)


def lists(parts: int, length: int = 0, more: list[str] | None = None) -> list[str]:
    """Cells that hold two parts each, in every order, and others."""
    names = [f"part {chr(97 + i)}".ljust(length, "x") for i in range(parts)]
    return [*("; ".join(two) for two in permutations(names, 2)), *(more or [])]


@pytest.mark.parametrize(
    ("cells", "separator"),
    [
        (lists(3), "; "),
        (lists(2), ""),
        (lists(5, 39), "; "),  # 80 characters in the mean
        (lists(5, 40), ""),
        (lists(5, 30, ["x" * 40]), "; "),
        (lists(5, 30, ["x" * 41]), ""),
        (lists(5, 0, ["; part a"]), ""),
        (lists(5, 0, ["part a;  part b"]), ""),
        ([c.replace("part ", "12") for c in lists(5)], "; "),
        ([c.translate({97 + i: str(i) for i in range(26)}) for c in lists(5)], ""),
        (lists(4, 0, [f"only {i}" for i in range(4)]), "; "),  # 28 parts of 8 names
        (lists(4, 0, [f"only {i}" for i in range(7)]), ""),  # 31 of 11
        ([f"{a}; {b}" for a in ("Elm", "Oak", "Ash") for b in ("red", "old", "dry")], ""),
    ],
)
def test_cells_hold_lists(cells: list[str], separator: str) -> None:
    found = list_of(encoded("parts", cells))
    assert (found.separator if found else "") == separator


def test_two_that_nearly_decide_each_other_and_what_goes_with_them(tmp_path: Path) -> None:
    """A code and a name, each with one slip, and a kind with another."""
    rows: Rows = []
    for i in range(2000):
        hive = i * 7 % 40
        name, kind = f"Hive of {hive}", ["oak", "pine", "straw", "clay", "cork"][hive % 5]
        rows.append(
            [
                i,
                f"H{hive:03}",
                "Hive of 3" if i == 700 else name,
                "glass" if i == 1200 else kind,
                i * 37 % 101,
            ]
        )
    found = marked(tmp_path, {"visits.csv": text(["visit no", "hive", "name", "kind", "kg"], rows)})
    homes = {
        c.header: n for n, t in found.layout.tables.items() for c in t.columns.values() if c.usual
    }
    assert len(set(homes.values())) == 1 and "kind" in homes
    assert set(homes) == {"name", "kind"} or set(homes) == {"hive", "kind"}


@pytest.mark.parametrize("hour", range(24))
def test_every_hour_of_two_halves_of_the_day_is_spelled(hour: int) -> None:
    time = dt.time(hour, 30)
    said = time.strftime("%I:%M %p").lstrip("0")
    for form, told in (("h:mm AM", said), ("h:mm am", said.lower())):
        type_ = ColumnType("time", form=form)
        assert to_text(pa.array([time], pa.time32("s")), type_).to_pylist() == [told]
        assert to_typed(pa.array([told]), type_).to_pylist() == [time]


@pytest.mark.parametrize(("allowed", "more"), [(7, False), (8, False), (9, True), (20, True)])
def test_what_is_allowed_is_told_up_to_eight(allowed: int, more: bool) -> None:
    spec = ColumnSpec(header="h", allowed=tuple(f"v{n}" for n in range(allowed)))
    wrong, said = not_allowed(pa.array(["v0", "x", None]), spec)
    assert wrong.tolist() == [1] and said.endswith(" ...") is more
    assert said.count(",") == min(allowed, 8) - 1


def test_limits_hold_at_themselves_and_not_for_blanks() -> None:
    spec = ColumnSpec(header="h", type="integer", least="2", most="5")
    wrong, said = not_allowed(pa.array([1, 2, 3, 5, 6, None]), spec)
    assert (wrong.tolist(), said) == ([0, 4], "at least 2 and at most 5")


@pytest.mark.parametrize(
    ("digits", "integer"), [(1, True), (17, True), (18, True), (19, False), (20, False)]
)
def test_whole_numbers_have_at_most_eighteen_digits(digits: int, integer: bool) -> None:
    texts = pa.array(["9" * digits, "-" + "8" * min(digits, 17)])
    assert (integers(texts) is not None) is integer
