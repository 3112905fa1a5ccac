"""Damaged files: whatever bytes are wrong, a file is read or refused with one clear message;
nothing else comes of it."""

from __future__ import annotations

import bz2
import gzip
import json
import lzma
import random
import sqlite3
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.feather as feather
import pyarrow.parquet as pq
import pytest

from conftest import Runner
from kerfmark import KerfmarkError, SourceError, measure
from kerfmark.read.open import open_path
from test_formats import findings_of, rows_of

RECORDS: list[dict[str, Any]] = [
    {
        "hive": f"H{i % 7}",
        "kg": i / 4,
        "note": f'a "b" {i}',
        "tags": ["x", "y"][: i % 3],
        "inner": {"p": i, "q": None},
    }
    for i in range(60)
]
TEXT = (
    "hive;kg;note\n"
    + "".join(f'{r["hive"]};{r["kg"]};"{r["inner"]["p"]} ""q"" ;x"\n' for r in RECORDS)
).encode()
TABLE = pa.Table.from_pylist(RECORDS)


def _arrow(path: Path) -> None:
    with pa.ipc.new_file(path, TABLE.schema) as writer:
        writer.write_table(TABLE)


def _zstd(path: Path) -> None:
    with pa.CompressedOutputStream(str(path), "zstd") as out:
        out.write(TEXT)


def _zip(path: Path) -> None:
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("a.csv", TEXT)
        archive.writestr("b.csv", TEXT)


def _sqlite(path: Path) -> None:
    db = sqlite3.connect(path)
    db.execute("CREATE TABLE visit (hive TEXT, kg REAL)")
    db.executemany("INSERT INTO visit VALUES (?, ?)", [(r["hive"], r["kg"]) for r in RECORDS])
    db.execute("CREATE INDEX visit_hive ON visit (hive)")
    db.commit()
    db.close()


WRITERS: dict[str, Callable[[Path], Any]] = {
    "a.csv": lambda path: path.write_bytes(TEXT),
    "u.csv": lambda path: path.write_bytes(TEXT.decode().encode("utf-16")),
    "w.txt": lambda path: path.write_text(
        "hive      kg   no\n"
        + "".join(f"{r['hive']:<10}{r['kg']:<5}{i}\n" for i, r in enumerate(RECORDS))
    ),
    "a.csv.gz": lambda path: path.write_bytes(gzip.compress(TEXT)),
    "a.csv.bz2": lambda path: path.write_bytes(bz2.compress(TEXT)),
    "a.csv.xz": lambda path: path.write_bytes(lzma.compress(TEXT)),
    "a.csv.zst": _zstd,
    "a.zip": _zip,
    "a.json": lambda path: path.write_text(json.dumps(RECORDS)),
    "a.jsonl": lambda path: path.write_text("\n".join(map(json.dumps, RECORDS))),
    "a.parquet": lambda path: pq.write_table(TABLE, path),
    "a.arrow": _arrow,
    "a.feather": lambda path: feather.write_feather(TABLE.drop(["tags", "inner"]), str(path)),
    "a.sqlite": _sqlite,
}


def damaged(whole: bytes, chance: random.Random) -> bytes:
    """The same with a few bytes wrong, missing or too many, or cut off."""
    data = bytearray(whole)
    if chance.random() < 0.2:
        return bytes(data[: chance.randrange(len(data))])
    for _ in range(chance.randint(1, 6)):
        at, how = chance.randrange(max(len(data), 1)), chance.random()
        if how < 0.2:
            del data[at : at + chance.randint(1, 40)]
        elif how < 0.4:
            data[at:at] = chance.randbytes(chance.randint(1, 20))
        else:
            data[at : at + 1] = bytes([chance.choice([0, 255, 34, 10, 13, chance.randrange(256)])])
    return bytes(data)


@pytest.mark.parametrize("name", WRITERS)
def test_a_file_with_a_few_wrong_bytes_is_read_or_refused(name: str, tmp_path: Path) -> None:
    path, chance, refused = tmp_path / name, random.Random(name), 0
    WRITERS[name](path)
    whole = path.read_bytes()
    assert sum(s.rows for s in measure([path]).sources) >= len(RECORDS)
    for _ in range(60):
        path.write_bytes(damaged(whole, chance))
        try:
            measure([path])
        except KerfmarkError:
            refused += 1
    assert refused


def test_json_that_is_not_utf_8_is_told_with_its_record(tmp_path: Path, kerfmark: Runner) -> None:
    (tmp_path / "a.jsonl").write_bytes(b'{"a": "x"}\n{"a": "y"}\n{"a": "z\xff"}\n')
    told = kerfmark("measure", "a.jsonl", code=2).err
    assert "error: a.jsonl: the byte FF is not UTF-8 text\nwhy:  near record 3;" in told


def test_fields_of_one_name_are_told_apart(tmp_path: Path) -> None:
    path = tmp_path / "two.parquet"
    pq.write_table(
        pa.Table.from_arrays([pa.array([1, 2]), pa.array(["x", "y"])], names=["a", "a"]), path
    )
    [source] = open_path(path)
    assert (source.headers, rows_of(source)) == (("a", "a (2)"), [["1", "x"], ["2", "y"]])
    assert findings_of(path) == [
        "doubtful a (2) the header names several columns alike; the later one is called a (2) []"
    ]
    pq.write_table(
        pa.Table.from_arrays([pa.array([1, 2]), pa.array([["x"], []])], names=["a", "a"]), path
    )
    with pytest.raises(SourceError, match='several fields are called "a"'):
        open_path(path)
