"""Values of columns in files of units and parts: what all of them answer, against a plain count and
against what one process finds in the same rows."""

from __future__ import annotations

import shutil
import tempfile
from collections import Counter
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kerfmark.cluster import values_there
from kerfmark.cluster.value_files import PartWritten, part_of_all, values_of, write_unit
from kerfmark.cluster.values_there import Parts, ValuesThere, ask_the_usual
from kerfmark.profile.columns import EncodedColumn
from kerfmark.profile.types import TEXT, ColumnType
from kerfmark.profile.values import ValuesHere

WORDS = ["bee", "Bee", "bee ", "BEE", "  bee", "dark  bee", "dark bee", "Dark\tbee", "né", "NÉ"]
CELLS = st.one_of(st.sampled_from([None, "n/a", *WORDS]), st.integers(0, 30).map(str))


def encoded(header: str, cells: Sequence[str | None]) -> EncodedColumn:
    """A column of cells."""
    texts = pa.array(cells, pa.string()).dictionary_encode()
    codes = texts.indices.fill_null(-1).to_numpy(zero_copy_only=False).astype(np.int32)
    return EncodedColumn(header, texts.dictionary, codes)


def here_tasks(files: Sequence[str], work: Callable[[str], str]) -> list[str]:
    """What executors would do, done here."""
    return [work(file) for file in files]


def written(columns: Sequence[Sequence[str | None]], ends: Sequence[int], parts: int) -> Parts:
    """The values of columns whose rows are in units that end at some rows, in so many parts."""
    folder = tempfile.mkdtemp()
    (Path(folder) / "all").mkdir()
    files = []
    for number, (start, end) in enumerate(zip([0, *ends], [*ends, len(columns[0])], strict=True)):
        at = np.arange(start, end) + 1_000 * number  # places within a unit go on from its first
        lots = [values_of(encoded("", column[start:end]), at) for column in columns]
        files.append(f"{folder}/units/{number}")
        write_unit(files[-1], lots, parts)
    said = [part_of_all(f"{folder}/all", files, len(columns), parts, part) for part in range(parts)]
    return Parts([PartWritten.of(text) for text in said], f"{folder}/all", here_tasks)


def place(row: int, ends: Sequence[int]) -> int:
    """The place of a row."""
    return row + 1_000 * sum(end <= row for end in ends)


@settings(deadline=None)
@given(
    rows=st.lists(st.tuples(CELLS, CELLS), min_size=1, max_size=60),
    cuts=st.lists(st.integers(0, 60), max_size=3),
    parts=st.integers(1, 4),
    bare=st.booleans(),
)
def test_values_in_parts_answer_as_all_rows_do(
    rows: list[tuple[str | None, str | None]], cuts: list[int], parts: int, bare: bool
) -> None:
    ends = sorted(min(cut, len(rows)) for cut in cuts)
    columns = [[row[i] for row in rows] for i in range(2)]
    whole = written(columns, ends, parts)
    if bare:
        whole = whole.bare()
        columns = [[(cell and cell.strip()) or None for cell in column] for column in columns]
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(values_there, "BROUGHT", 0)
        patch.setattr(values_there, "HEAD", 3)
        there = whole.columns(["first", "second"], len(rows), False)
    ask_the_usual(there)
    for cells, asked in zip(columns, there, strict=True):
        plain = Counter(cell for cell in cells if cell is not None)
        assert (asked.count, asked.blanks) == (len(plain), cells.count(None))
        if not plain:
            continue
        assert isinstance(asked, ValuesThere)
        first = {text: cells.index(text) for text in plain}
        most = sorted(plain, key=lambda text: (-plain[text], first[text]))
        assert asked.frequent(30) == tuple((text, plain[text]) for text in most[:30])
        assert asked.longest() == max(map(len, plain))
        assert asked.ends(TEXT) == (min(plain, key=str.encode), max(plain, key=str.encode))
        mask = partial(pc.match_substring, pattern="bee")
        found = asked.matching(mask, 2, 4)
        meant = [i for i, cell in enumerate(cells) if cell is not None and "bee" in cell]
        assert found.rows == tuple(place(i, ends) for i in meant[:4])
        assert found.cells == len(meant)
        assert found.values == tuple(sorted({cells[i] for i in meant}, key=first.__getitem__)[:2])
        here = ValuesHere(encoded("", cells))
        assert asked.recognised().type == here.recognised().type
        lengths = Counter(len(text.encode()) for text in plain)
        assert lengths[asked.usual_length()] == max(lengths.values())
        if (alike := here.alike()) is None:
            assert asked.alike() is None
        else:
            told = asked.alike()
            assert told is not None
            assert (told.rare, told.usual, told.cells) == (alike.rare, alike.usual, alike.cells)
            assert told.rows == tuple(place(i, ends) for i in alike.rows)
        less = asked.without(["n/a"])
        assert less.count == len(plain) - ("n/a" in plain)
        assert less.blanks == cells.count(None) + cells.count("n/a")


@settings(deadline=None)
@given(
    numbers=st.lists(st.integers(-1_000, 1_000), min_size=2, max_size=80),
    cut=st.integers(0, 80),
    parts=st.integers(1, 4),
)
def test_numbers_in_parts_have_the_ends_and_steps_of_all(
    numbers: list[int], cut: int, parts: int
) -> None:
    cells = [str(n) for n in numbers]
    whole = written([cells], [min(cut, len(cells))], parts)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(values_there, "BROUGHT", 0)
        [there] = whole.columns(["No"], len(cells), False)
    ask_the_usual([there])
    integer = ColumnType("integer")
    assert there.recognised().type == integer
    assert there.ends(integer) == (str(min(numbers)), str(max(numbers)))
    if min(numbers) == max(numbers):
        assert there.steps(integer, 5) == ()
    else:
        counts, _ = np.histogram(numbers, 5)
        assert there.steps(integer, 5) == tuple(counts.tolist())


def test_a_column_of_nothing_but_blank_spellings_has_no_values_then(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr(values_there, "BROUGHT", 0)
    [there] = written([["n/a", None, "n/a"]], [1], 2).columns(["Kind"], 3, False)
    less = there.without(["n/a"])
    assert (there.count, less.count, less.blanks, len(less.head(5))) == (1, 0, 3, 0)


def test_a_task_that_goes_on_makes_no_folder_anew_that_was_given_up(tmp_path: Path) -> None:
    values = values_of(encoded("", ["a", "b"]), np.arange(2))
    (tmp_path / "run").mkdir()
    write_unit(f"{tmp_path}/run/units/1", [values], 1)
    shutil.rmtree(tmp_path / "run")
    with pytest.raises(OSError):
        write_unit(f"{tmp_path}/run/units/2", [values], 1)
    assert not (tmp_path / "run").exists()
