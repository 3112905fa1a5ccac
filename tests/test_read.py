"""Delimited text is cut into the cells that are in it, with the rows a person counts."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import kerfmark.read.delimited as delimited
from kerfmark.errors import DataRefused, SourceError
from kerfmark.profile.encode import encode
from kerfmark.read.archives import text_files
from kerfmark.read.delimited import DelimitedSource
from kerfmark.read.dialect import find_dialect
from kerfmark.read.source import Reading

Write = Callable[..., Path]


def cells(source: DelimitedSource) -> list[list[str | None]]:
    """All records of a source."""
    out: list[list[str | None]] = []
    for piece in source.map_batches(lambda b: [list(r.values()) for r in b.to_pylist()]):
        assert piece.first == len(out)
        out += piece.result
    return out


@pytest.mark.parametrize("delimiter", [",", ";", "\t", "|", "^"])
@pytest.mark.parametrize("end", ["\n", "\r\n", "\r"])
def test_delimiters_and_line_ends_are_found(write: Write, delimiter: str, end: str) -> None:
    rows = [
        ["tag", "place", "note"],
        ["007", "Far, Paddock", "x;y"],
        ["008", "", 'said "hm"'],
        ["009", "Weir", "z"],
    ]
    out = io.StringIO()
    csv.writer(out, delimiter=delimiter, lineterminator=end).writerows(rows)
    source = DelimitedSource(write("a.csv", out.getvalue()))
    assert source.dialect.delimiter == delimiter
    assert source.headers == ("tag", "place", "note")
    assert cells(source) == [[c or None for c in row] for row in rows[1:]]


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16", "cp1252"])
def test_encodings_are_found(write: Write, encoding: str) -> None:
    text = "keeper;town\n" + "".join(
        f"Jürgen Grünhagen {i};Österby an der Straße\n" for i in range(40)
    )
    assert cells(DelimitedSource(write("a.csv", text.encode(encoding))))[0] == [
        "Jürgen Grünhagen 0",
        "Österby an der Straße",
    ]


def test_a_file_without_a_header_gets_positions(write: Write) -> None:
    source = DelimitedSource(write("a.csv", "1,4.5\n2,6.0\n3,7.25\n"))
    assert source.headers == ("column 1", "column 2")
    assert len(cells(source)) == 3


def test_blank_and_repeated_headers_are_told_apart(write: Write) -> None:
    source = DelimitedSource(write("a.csv", "name,,Name,name\na,b,c,d\n"))
    assert source.headers == ("name", "column 2", "Name (2)", "name (3)")


def test_rows_are_counted_as_a_person_counts_them(write: Write) -> None:
    source = DelimitedSource(write("a.csv", 'a,b\n1,2\n\n\n3,"x\ny"\n,\n5,6\n\n'))
    assert [r[0] for r in cells(source)] == ["1", "3", "5"]
    list(batches := source.map_batches(lambda b: b))
    assert [batches.found.origin(i).row for i in range(3)] == [2, 5, 7]


def test_ragged_rows_are_refused_with_their_rows(write: Write) -> None:
    source = DelimitedSource(write("a.csv", "a,b,c\n1,2,3\n\n4,5\n6,7,8\n9,10,11,12\n"))
    with pytest.raises(DataRefused) as caught:
        cells(source)
    assert caught.value.origin is not None and caught.value.origin.row == 4
    assert caught.value.more == (
        "row 4 has 2 fields instead of 3",
        "row 6 has 4 fields instead of 3",
    )


def test_bytes_that_are_no_text_are_told_with_their_row(write: Write) -> None:
    lines = [f"{i},plain words" for i in range(200_000)]
    lines[0], lines[170_000] = "0,brüchig", "170000,br\udcfcchig"
    path = write("a.csv", ("no,words\n" + "\n".join(lines)).encode(errors="surrogateescape"))
    with pytest.raises(SourceError) as caught:
        cells(DelimitedSource(path))
    assert caught.value.origin is not None and caught.value.origin.row == 170_002


def test_quotes_that_stand_inside_a_field_are_plain_characters(
    write: Write, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(delimited, "BLOCK", 64)
    rows = [f'{i},5" pipe,"quoted, {i}\nover two lines"' for i in range(50)]
    got = cells(DelimitedSource(write("a.csv", "a,b,c\n" + "\n".join(rows) + "\n")))
    assert got == [[str(i), '5" pipe', f"quoted, {i}\nover two lines"] for i in range(50)]


TEXT = st.text(
    st.characters(codec="utf-8", exclude_characters="\x00\r", exclude_categories=["Cs"]),
    max_size=12,
)


@settings(
    max_examples=150, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture]
)
@given(st.data(), st.sampled_from([",", ";", "\t", "|"]), st.sampled_from([24, 300, 1 << 22]))
def test_what_a_standard_writer_writes_is_read_back(
    tmp_path: Path, data: st.DataObject, delimiter: str, block: int
) -> None:
    """Whatever stands in the cells, wherever the blocks end."""
    width = data.draw(st.integers(2, 5))
    rows = data.draw(
        st.lists(st.lists(TEXT, min_size=width, max_size=width), min_size=1, max_size=12)
    )
    rows = [r if any(r) else ["x", *r[1:]] for r in rows]
    path = tmp_path / "t.csv"
    with path.open("w", newline="", encoding="utf-8") as file:
        csv.writer(file, delimiter=delimiter, lineterminator="\n").writerows(
            [[f"h{i}" for i in range(width)], *rows]
        )
    before, delimited.BLOCK = delimited.BLOCK, block
    try:
        reading = Reading(delimiter=delimiter, encoding="utf-8", header_row=1)
        source = DelimitedSource(path, find_dialect(text_files(path)[0], reading))
        assert source.headers == tuple(f"h{i}" for i in range(width))
        assert cells(source) == [[c or None for c in row] for row in rows]
    finally:
        delimited.BLOCK = before


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16", "latin-1"])
def test_a_file_is_known_by_the_same_fingerprint_whether_or_not_its_records_are_cut(
    encoding: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(delimited, "BLOCK", 500)  # in many pieces
    rows = "".join(f'{n},"Königin\n{n}"\r\n' for n in range(300))
    place = tmp_path / "queens.csv"
    place.write_bytes(f"No,Queen\r\n{rows}".encode(encoding))
    source = DelimitedSource(place)
    known = encode(source).found.fingerprint
    assert source.fingerprint() == known
    place.write_bytes(f"No,Queen\r\n{rows[:-2]}\n".encode(encoding))
    assert DelimitedSource(place).fingerprint() != known
