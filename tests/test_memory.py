"""Memory: what does not fit is kept in files, and gives the same as what does."""

from __future__ import annotations

import os
import resource
import sqlite3
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from random import Random

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from kerfmark import memory
from kerfmark.errors import TargetError, UsageError
from kerfmark.ledger.compare_unordered import same_in_any_order
from kerfmark.profile import codes, columns, encode, spilled
from kerfmark.profile.convert import to_typed
from kerfmark.profile.types import parse_type
from kerfmark.read.open import open_path

TEXTS = st.lists(
    st.one_of(
        st.none(),
        st.sampled_from(["a", "b", "Z", "ä", "10", "9"]),
        st.text(
            st.characters(blacklist_categories=["Cs", "Cc"], blacklist_characters='",'),
            min_size=1,
            max_size=6,
        ),
    ),
    min_size=1,
    max_size=60,
)
PATIENT = settings(suppress_health_check=[HealthCheck.function_scoped_fixture], deadline=None)


@pytest.fixture
def scarce(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """A limit that is reached at once, and arrays that are large and worked on in blocks when they
    have a few values."""
    for name, value in (("LARGE", 4), ("ROWS", 8), ("SORTED", 8)):
        monkeypatch.setattr(memory, name, value)
    monkeypatch.setattr(memory, "used", lambda: 1 << 40)
    monkeypatch.setattr(spilled, "MANY", 5)
    monkeypatch.setattr(spilled, "_COST", 1_000_000)  # a part for every few texts
    monkeypatch.setattr(spilled, "_SAMPLE", 2)
    monkeypatch.setattr(columns, "SLICE", 8)
    with memory.limited(memory.LEAST):
        yield


def numbered(cells: list[str | None]) -> tuple[list[str], list[int]]:
    """The distinct cells in order, and the place of each among them."""
    values = list(dict.fromkeys(c for c in cells if c is not None))
    return values, [-1 if c is None else values.index(c) for c in cells]


@PATIENT
@given(TEXTS, st.integers(1, 20), st.booleans())
def test_a_column_in_files_has_the_codes_that_it_has_in_memory(
    scarce: None, cells: list[str | None], batch: int, encoded: bool
) -> None:
    column = spilled.SpilledColumn()
    for start in range(0, len(cells), batch):
        some = pa.array(cells[start : start + batch], pa.string())
        column.add(some.dictionary_encode() if encoded else some)
    values, found = column.finish()
    values.validate(full=True)
    assert (values.to_pylist(), found.tolist()) == numbered(cells)
    numbers, _ = spilled.number_texts(
        pa.array(cells[s : s + batch], pa.string()) for s in range(0, len(cells), batch)
    )
    assert numbers.tolist() == numbered(cells)[1]


@PATIENT
@given(
    st.lists(st.tuples(*[st.integers(-1, 5)] * 3), min_size=1, max_size=50),
    st.booleans(),
    st.booleans(),
)
def test_combinations_in_blocks_are_those_of_the_rows(
    scarce: None, rows: list[tuple[int, int, int]], blanks: bool, wide: bool
) -> None:
    columns = [np.array(c, np.int32) for c in zip(*rows, strict=True)]
    found, count = codes.combine(columns, [1 << 20 if wide else 6] * 3, blanks=blanks)
    texts = [None if -1 in r and not blanks else str(r) for r in rows]
    assert found.tolist() == numbered(texts)[1]
    assert count == len(numbered(texts)[0])
    first = codes.first_rows(found, count)
    assert [texts[i] for i in first] == numbered(texts)[0]
    assert codes.value_counts(found, count).tolist() == [texts.count(t) for t in numbered(texts)[0]]
    assert codes.filled(found) == sum(t is not None for t in texts)


@PATIENT
@given(st.lists(st.integers(-1, 4), min_size=1, max_size=40), st.data())
def test_one_column_decides_another_or_not_in_blocks_too(
    scarce: None, a: list[int], data: st.DataObject
) -> None:
    b = data.draw(st.lists(st.integers(-1, 3), min_size=len(a), max_size=len(a)))
    decided = all(y == -1 if x == -1 else y == b[a.index(x)] for x, y in zip(a, b, strict=True))
    one, other = np.array(a, np.int32), np.array(b, np.int32)
    assert codes.holds(one, other, 5) == decided


@PATIENT
@given(TEXTS, st.randoms(), st.integers(1, 9))
def test_rows_in_another_order_are_the_same_and_others_are_not(
    scarce: None, cells: list[str | None], chance: Random, batch: int
) -> None:
    rows = [(cell, len(cell or "")) for cell in cells]
    values, own = numbered(cells)
    kept = [pa.array(values, pa.string()), pa.array(range(10))]
    expected = [np.array(own, np.int32), np.array([n for _, n in rows], np.int32)]

    def same(there: list[tuple[str | None, int]], more: bool = False) -> bool:
        batches = [
            pa.record_batch(
                [
                    pa.array([c for c, _ in some], pa.string()),
                    pa.array([n for _, n in some], pa.int64()),
                ],
                ["a", "b"],
            )
            for some in (there[s : s + batch] for s in range(0, len(there), batch))
        ]
        return same_in_any_order(batches, kept, expected, len(rows), lambda _: None, more)

    mixed = chance.sample(rows, len(rows))
    assert same(mixed)
    assert same([*mixed, ("one that is nowhere", 3), mixed[0]], more=True)
    assert not same([*mixed, mixed[0]])
    assert not same(mixed[1:], more=True)
    for wrong in (("one that is nowhere", 3), (mixed[0][0], mixed[0][1] + 1), (None, 9)):
        assert not same([wrong, *mixed[1:]])
        assert not same([wrong, *mixed[1:]], more=True)


@pytest.mark.parametrize(
    ("said", "texts"),
    [
        ("integer", ["7", "-3", "x", "12"]),
        ("decimal(6,2)", ["1.50", "x", "2.25", "3.00"]),
        ("date YYYY-MM-DD", ["2025-01-02", "?"]),
        ("text", ["a", "b"]),
        ("boolean yes/no", ["yes", "no"]),
    ],
)
def test_typed_values_in_files_are_those_in_memory(
    scarce: None, said: str, texts: list[str]
) -> None:
    type_ = parse_type(said)
    column = columns.EncodedColumn(
        "c", pa.array(texts * 9), np.arange(9 * len(texts), dtype=np.int32)
    )
    typed = column.typed(type_)
    typed.validate(full=True)
    assert typed.equals(to_typed(column.values, type_))


def test_a_file_is_encoded_the_same_when_memory_becomes_scarce_in_the_middle(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from kerfmark.read import delimited

    monkeypatch.setattr(delimited, "BLOCK", 2000)
    path = tmp_path / "jars.csv"
    path.write_text(
        "label,honey,note\n"
        + "".join(f"J{n * 7919 % 800},h{n % 7},{'' if n % 5 else 'x'}\n" for n in range(1500))
    )
    plain = encode.encode(open_path(path)[0])
    looks = iter(range(10_000))
    monkeypatch.setattr(memory, "used", lambda: 1 << 40 if next(looks) > 3 else 0)
    with memory.limited(memory.LEAST):
        kept = encode.encode(open_path(path)[0])
    for one, other in zip(plain.columns, kept.columns, strict=True):
        assert one.values.equals(other.values)
        assert np.array_equal(one.codes, other.codes)


def jars(path: Path, rows: int) -> Path:
    """Checks of jars of honey, of which nearly each is a new one."""
    n = np.arange(rows)
    jar = np.where(n % 7 == 3, n // 2, n) * 7_368_787 % 99_999_989
    path.write_text(
        "label,honey,grams,checked on\n"
        + "\n".join(
            f"Jar {j:08} of our apiary,{'linden' if j % 3 else ''},{125 << j % 4},2025-{i % 12 + 1:02}-{i % 28 + 1:02}"
            for i, j in zip(n.tolist(), jar.tolist(), strict=True)
        )
        + "\n"
    )
    return path


def run(
    *args: str | Path, limit: int = 0, env: dict[str, str] | None = None
) -> tuple[int, str, str, int]:
    """Runs the program; gives its code, its output, and the peak of its memory in bytes. `limit` is
    the most bytes of a file."""
    code = (
        "import os, resource, subprocess, sys\n"
        "done = subprocess.run([sys.executable, '-m', 'kerfmark', *sys.argv[1:]])\n"
        "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss * 1024, done.returncode, "
        "file=sys.stderr)"
    )

    def limited() -> None:
        resource.setrlimit(resource.RLIMIT_FSIZE, (limit, limit))

    done = subprocess.run(
        [sys.executable, "-c", code, *map(str, args)],
        capture_output=True,
        text=True,
        check=True,
        env=os.environ | (env or {}),
        preexec_fn=limited if limit else None,
    )
    *errors, last = done.stderr.splitlines()
    peak, returned = last.split()
    return int(returned), done.stdout, "\n".join(errors), int(peak)


def same_rows(one: Path, other: Path) -> bool:
    """Whether all tables of two databases have the same rows."""
    with sqlite3.connect(one) as db:
        db.execute("ATTACH ? AS other", (str(other),))
        tables = [
            t
            for (t,) in db.execute(
                "SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'kerfmark%'"
                "AND name NOT LIKE 'sqlite%'"
            )
        ]
        return len(tables) == 2 and not any(
            db.execute(f"SELECT * FROM {a}.{t} EXCEPT SELECT * FROM {b}.{t}").fetchall()
            for t in tables
            for a, b in (("main", "other"), ("other", "main"))
        )


def test_a_cut_within_a_limit_gives_the_same_database_and_takes_less(tmp_path: Path) -> None:
    file = jars(tmp_path / "jars.csv", 1_000_000)
    _, _, _, usual = run("cut", file, "--into", tmp_path / "a.db", "--quiet")
    (tmp_path / "a.layout.toml").unlink()
    code, _, errors, least = run(
        "cut", file, "--into", tmp_path / "b.db", "--quiet", "--memory", "300MB"
    )
    assert (code, errors) == (0, "")
    assert same_rows(tmp_path / "a.db", tmp_path / "b.db")
    assert least < 300_000_000 < usual
    code, out, _, least = run("prove", tmp_path / "b.db", "--memory", "300MB")
    assert (code, "1,000,000 rows" in out) == (0, True)
    assert least < 300_000_000


def test_a_full_disk_is_told_and_leaves_nothing(tmp_path: Path) -> None:
    file = jars(tmp_path / "jars.csv", 400_000)
    code, _, errors, _ = run("measure", file, "--memory", "300MB", limit=3_000_000)
    assert code == 2
    assert "there is no room for what does not fit in memory" in errors
    assert "--memory" in errors and "TMPDIR" in errors


def test_a_folder_that_is_not_there_is_told(tmp_path: Path) -> None:
    file = jars(tmp_path / "jars.csv", 400_000)
    code, _, errors, _ = run(
        "measure", file, "--memory", "300MB", env={"TMPDIR": str(tmp_path / "none")}
    )
    assert code == 2
    assert "nothing can be kept in this folder" in errors and str(tmp_path / "none") in errors


@pytest.mark.parametrize(
    ("said", "told"),
    [
        ("10MB", "10 MB of memory is not enough"),
        ("0", "0 MB of memory is not enough"),
        ("much", '"much" is not a size'),
    ],
)
def test_a_limit_that_cannot_be_is_refused(tmp_path: Path, said: str, told: str) -> None:
    code, out, errors, _ = run("measure", jars(tmp_path / "jars.csv", 3), "--memory", said)
    assert (code, out, told in errors, "next:" in errors) == (2, "", True, True)


def test_half_of_the_machine_is_taken_unless_it_is_said() -> None:
    there = os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGE_SIZE")
    assert memory.LEAST <= memory.half() <= max(there // 2, memory.LEAST)
    with memory.limited(memory.half()):
        assert not memory.scarce()  # small work is done as ever
        assert memory.room(1 << 20, np.int32).base is None


def test_texts_of_more_than_two_gigabytes_are_refused() -> None:
    with memory.Pile(pa.string()) as pile:
        pile.add(pa.array(["x"]))
        pile._end = 2**31 - 2
        with pytest.raises(UsageError, match="more than 2 GB"):
            pile.add(pa.array(["yz"]))


def test_no_room_is_told_when_an_array_is_made(
    scarce: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    def full(*_: int) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "posix_fallocate", full)
    with pytest.raises(TargetError, match="no room"):
        memory.room(100, np.int64)
