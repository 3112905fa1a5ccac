"""A data set of many files says in the names of its folders what their rows have in common."""

from __future__ import annotations

from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq
import pytest

from conftest import Runner


@pytest.mark.parametrize("kind", ["parquet", "csv"])
def test_what_folders_say_becomes_columns(kerfmark: Runner, tmp_path: Path, kind: str) -> None:
    n = 0

    def write(year: int, apiary: str) -> str:
        nonlocal n
        folder = tmp_path / f"visits/year={year}/apiary={apiary}"
        folder.mkdir(parents=True)
        n += 1
        if kind == "parquet":
            pq.write_table(pa.table({"no": [n], "kg": [n / 2]}), folder / "part-0.parquet")
        else:
            (folder / "part-0.csv").write_text(f"no,kg\n{n},{n / 2}\n")
        return str((folder / f"part-0.{kind}").relative_to(tmp_path))

    for year in (2039, 2040):
        for apiary in ("Weir", "Mill%20Top"):
            write(year, apiary)
    [source] = kerfmark("measure", "visits", "--rows", "9", "--json").json["sources"]
    assert [c["header"] for c in source["columns"]][1:] == ["no", "kg", "year", "apiary"]
    assert {tuple(r[-2:]) for r in source["first_rows"]} == {
        (year, apiary) for year in ("2039", "2040") for apiary in ("Weir", "Mill Top")
    }
    kerfmark("cut", "visits", "--into", "a.db")
    assert "4 rows and 20 cells compared, all in the database" in kerfmark("prove", "a.db").out
    kerfmark("add", write(2041, "Heath"), "--into", "a.db")
    told = kerfmark("show", "a.db", "visit", "--rows", "9").out
    assert "2041" in told and "Heath" in told
    assert "5 rows and 25 cells compared" in kerfmark("prove", "a.db").out


def test_the_encoding_of_a_data_set_is_remembered_too(kerfmark: Runner, tmp_path: Path) -> None:
    for year, names, page in (
        (2039, "Muñoz;São Paulo;Åsa", "cp1252"),
        (2040, "Łódź;Żaneta Pięta", "cp1250"),
        (2041, "Peña;Mérida", "cp1252"),
    ):
        folder = tmp_path / f"keepers/year={year}"
        folder.mkdir(parents=True)
        rows = "".join(f"{year}{n},{name}\n" for n, name in enumerate(names.split(";")))
        (folder / "part-0.csv").write_bytes(f"no,name\n{rows}".encode(page))
    kerfmark("cut", "keepers/year=2039/part-0.csv", "--into", "a.db")
    told = kerfmark("add", "keepers/year=2040/part-0.csv", "--into", "a.db", code=2).err
    assert "the encoding of this file is not certain" in told and "--encoding cp1250" in told
    added = ["add", "keepers/year=2040/part-0.csv", "--into", "a.db", "--encoding", "cp1250"]
    kerfmark(*added)
    kerfmark("undo", "a.db")
    kerfmark("add", "keepers/year=2041/part-0.csv", "--into", "a.db")
    assert "Peña" in kerfmark("show", "a.db", "keeper", "--rows", "9").out
    assert "5 rows and 15 cells compared" in kerfmark("prove", "a.db").out
