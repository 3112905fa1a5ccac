"""Values go into a PostgreSQL server, in binary form or as text, and come back as they were."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import kerfmark as library
from engines import target
from kerfmark.address import database_at
from kerfmark.ledger.records import Ledger
from kerfmark.store.postgresql.binary import can_be_binary
from kerfmark.store.postgresql.connection import connected
from kerfmark.store.postgresql.dialect import to_engine
from kerfmark.store.postgresql.reader import PostgresReader

KINDS: dict[str, tuple[pa.DataType, st.SearchStrategy[Any]]] = {
    "integer": (pa.int64(), st.integers(-(2**31), 2**31 - 1)),
    "bigint": (pa.int64(), st.integers(-(2**63), 2**63 - 1)),
    "text": (
        pa.string(),
        st.text(
            st.characters(blacklist_categories=["Cs"], blacklist_characters="\x00"), max_size=12
        ),
    ),
    "character varying(20)": (
        pa.string(),
        st.sampled_from(["", "\\N", "a\tb\\", "'", "\r\n", "Köstlin 蜂"]),
    ),
    "numeric(7,3)": (pa.decimal128(7, 3), st.decimals("-9999.999", "9999.999", places=3)),
    "numeric(4,0)": (pa.decimal128(4, 0), st.decimals("-9999", "9999", places=0)),
    "numeric(18,8)": (pa.decimal128(18, 8), st.decimals("-9999999999", "9999999999", places=8)),
    "numeric(30,10)": (pa.decimal128(30, 10), st.decimals("-1e19", "1e19", places=10)),
    "double precision": (pa.float64(), st.floats(allow_nan=False)),
    "boolean": (pa.bool_(), st.booleans()),
    "date": (pa.date32(), st.dates()),
    "timestamp without time zone": (
        pa.timestamp("s"),
        st.datetimes().map(lambda d: d.replace(microsecond=0)),
    ),
    "time without time zone": (pa.time32("s"), st.times().map(lambda t: t.replace(microsecond=0))),
}


@pytest.fixture(scope="module")
def reader(tmp_path_factory: pytest.TempPathFactory) -> Iterator[PostgresReader]:
    """A schema of our own."""
    with target("PostgreSQL", tmp_path_factory.mktemp("none")) as one:
        one.do(f"CREATE SCHEMA {one.url.split('=')[1]}")
        connection = one.connection_to()
        connection.execute("SET datestyle TO 'ISO, YMD'")
        yield PostgresReader(one.url, connection)
        connection.close()


@st.composite
def tables(draw: st.DrawFn) -> tuple[list[str], pa.RecordBatch]:
    """Columns as declared, and rows."""
    declared = draw(st.lists(st.sampled_from(list(KINDS)), min_size=1, max_size=5))
    rows = draw(st.integers(0, 6))
    columns = [
        pa.array(draw(st.lists(st.none() | KINDS[d][1], min_size=rows, max_size=rows)), KINDS[d][0])
        for d in declared
    ]
    return declared, pa.RecordBatch.from_arrays(
        columns, names=[f"c{i}" for i in range(len(declared))]
    )


@settings(max_examples=120, deadline=None, suppress_health_check=list(HealthCheck))
@given(table=tables())
def test_rows_come_back_as_they_went_in(
    reader: PostgresReader, table: tuple[list[str], pa.RecordBatch]
) -> None:
    declared, batch = table
    reader.execute("DROP TABLE IF EXISTS t")
    reader.execute(f"CREATE TABLE t ({', '.join(f'c{i} {d}' for i, d in enumerate(declared))})")
    reader.copy_new("t", batch.schema, [batch, batch.slice(1)])
    wanted = [
        list(r) for r in zip(*(c.to_pylist() for c in map(to_engine, batch.columns)), strict=True)
    ]
    types = [to_engine(c).type for c in batch.columns]
    got = [list(r) for r in reader.rows("t", batch.schema.names, types)]
    assert got == wanted + wanted[1:]
    reader.connection.rollback()


def test_what_cannot_be_sent_in_binary_form_is_known() -> None:
    assert can_be_binary(pa.schema([("a", pa.decimal128(16, 2))]), {"a": "numeric(16,2)"})
    assert not can_be_binary(pa.schema([("a", pa.decimal128(19, 2))]), {"a": "numeric(19,2)"})
    assert not can_be_binary(pa.schema([("a", pa.string())]), {"a": "date"})


@pytest.mark.parametrize("made_by", ["another program", "recut", "cut --replace"])
def test_who_reads_while_tables_are_made_anew_never_sees_them_empty(
    made_by: str, tmp_path: Path
) -> None:
    """What takes the place of a table has no rows for a snapshot that is older."""
    (tmp_path / "a.csv").write_text("no,mood\n" + "".join(f"{n},m{n % 3}\n" for n in range(50)))
    with target("PostgreSQL", tmp_path) as db:
        library.cut([tmp_path / "a.csv"], str(db))
        where = database_at(str(db))
        seen: list[tuple[int, str]] = []

        def read() -> None:
            with where.reading() as reader:
                rows = int(reader.ask("SELECT COUNT(*) FROM a")[0][0])
                seen.append((rows, Ledger(reader).loads[0].verb))

        def change() -> None:
            if made_by == "recut":
                text = library.layout_of(str(db)).replace("mood =", "temper =")
                (tmp_path / "new.toml").write_text(text)
                library.recut(str(db), tmp_path / "new.toml")
            else:
                library.cut([tmp_path / "a.csv"], str(db), replace=True, discard=True)

        if made_by == "another program":  # reading begins while it is at work, and ends afterwards
            own = connected(where.where)  # type: ignore[attr-defined]
            for table in ("kerfmark_loads", "a"):
                own.execute(f"ALTER TABLE {table} RENAME TO {table}_old")
                own.execute(f"CREATE TABLE {table} AS SELECT * FROM {table}_old")
            thread = threading.Thread(target=read)
            thread.start()
            time.sleep(0.5)
            assert not seen
            own.commit()
            own.close()
            thread.join()
            assert seen == [(50, "cut")]
            return
        with where.reading() as reader:  # it is at work when reading began already
            assert Ledger(reader).loads
            thread = threading.Thread(target=change)
            thread.start()
            time.sleep(1.0)
            assert int(reader.ask("SELECT COUNT(*) FROM a")[0][0]) == 50
        thread.join()
        read()
        assert seen == [(50, "cut")] and library.prove(str(db)).holds
