"""A cluster gives what one process gives, also while it loses machines, or nothing."""

from __future__ import annotations

import csv
import io
import json
import os
import random
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
import xxhash
from hypothesis import given, settings
from hypothesis import strategies as st

from cluster import SETTINGS, Cluster, cluster, differences, proof_said
from cluster_cases import CASES, VISITS_AND_DISTRICTS
from conftest import Runner, hears_interrupts
from kerfmark.cluster.files import Unit, blocks, bytes_of_block, can_be_cut, look_at, settled_blocks
from kerfmark.cluster.folder import (
    DataSets,
    FileRead,
    Link,
    LoadMade,
    Part,
    TableSet,
    Target,
    read_folder,
)
from kerfmark.cluster.session import ClusterError, connected, error_from_executor
from kerfmark.cluster.staging import errors_to_driver
from kerfmark.errors import DataRefused, KerfmarkError, Origin, SourceError, TargetError
from kerfmark.layout.model import SourceSpec
from kerfmark.verbs.check import CheckResult, check
from kerfmark.verbs.cut import cut
from kerfmark.verbs.on_cluster import check_on_cluster, cut_on_cluster
from kerfmark.verbs.prove import prove
from kerfmark.verbs.prove_on_cluster import prove_on_cluster
from kerfmark.verbs.undo import undo


@pytest.fixture(scope="module")
def spare() -> Iterator[Cluster]:
    """A cluster of one worker for programs of their own; the last test kills it."""
    with cluster(1) as one:
        yield one


def made(case: str, folder: Path) -> Path:
    """The layout of a case, whose files are beside it."""
    layout = folder / "case.layout.toml"
    layout.write_text(CASES[case](folder, random.Random(5)), encoding="utf-8")
    return layout


@pytest.mark.parametrize("case", CASES)
def test_a_cluster_gives_the_same_tables_rows_and_keys(
    case: str, running: Cluster, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("KERFMARK_BLOCK", "4000")  # several blocks, and so several tasks
    layout = made(case, tmp_path)
    folder = tmp_path / "odd [1] {a,b} 5%20 #2"  # what would be patterns elsewhere
    here = cut([layout], tmp_path / "here.db")
    there = cut_on_cluster([layout], folder, running.address)
    assert differences(tmp_path / "here.db", folder) == []
    assert [(t.name, t.rows) for t in there.tables] == [(t.name, t.rows) for t in here.tables]  # type: ignore[union-attr]
    assert there.links == here.links and there.left_out == here.left_out  # type: ignore[union-attr]
    assert [p.name for p in folder.iterdir() if p.name.startswith(".")] == []
    proof = prove(folder)
    assert proof.holds and all(p.rows for p in proof.proofs)
    assert not any(p.changed for p in proof.proofs)
    monkeypatch.setenv("KERFMARK_BLOCK", "3000")  # a file need not be read again as it was
    assert proof_said(prove_on_cluster(folder, running.address)) == proof_said(proof)
    assert [p.name for p in folder.iterdir() if p.name.startswith(".")] == []


def fingerprints(folder: Path) -> dict[str, list[str]]:
    """Of the files of each table."""
    sets_ = read_folder(str(folder))
    return {n: [f.fingerprint for f in t.files] for n, t in sets_.tables.items()}


def test_the_files_have_the_same_bytes_however_the_work_was_divided(
    running: Cluster, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    layout = made("many_files", tmp_path)
    cut_on_cluster([layout], tmp_path / "whole", running.address)
    monkeypatch.setenv("KERFMARK_BLOCK", "1500")
    cut_on_cluster([layout], tmp_path / "blocks", running.address)
    assert fingerprints(tmp_path / "whole") == fingerprints(tmp_path / "blocks")
    assert all(fingerprints(tmp_path / "whole").values())


WRONG = """\
No,Keeper,Town,Hive,Apiary,Mites,District,Land
1,Ann,Weir,1,Mill,3,Weir,North
2,Ann,Weir,1,Mill,x,Weir,North
3,Ann,Holm,2,Mill,4,Ford,South
3,Bea,Ford,2,Mill,4,Ford,North
4,Bea,,1,Holm,,Dale,East
5,,Ford,,Holm,2,Ford,South
6,Cy,Ford,3,,2,Ford,South
7,Cy,Ford,,,2,"Ford
x",South
8,Dee,Ford,3,Holm,2,Ford
9,Dee,Ford,3,Holm,2,Ford,South
"""
LAYOUT_OF_WRONG = f"""\
{VISITS_AND_DISTRICTS}[tables.visit.links.hive_id]
to = "hive"
[tables.keeper]
source = "v"
known_by = ["keeper"]
columns = {{ keeper = {{ header = "Keeper" }}, town = {{ header = "Town" }} }}
[tables.hive]
source = "v"
known_by = ["apiary", "hive"]
columns = {{ apiary = {{ header = "Apiary" }}, hive = {{ header = "Hive", type = "integer" }} }}
"""


def told(result: CheckResult) -> list[tuple[object, ...]]:
    """What would refuse a cut: every problem with its places, reasons and remedies."""
    return [
        (g.kind, g.source, g.column, g.total, g.places, g.remedy)
        for g in result.groups
        if g.severity == "broken"
    ]


def test_problems_are_told_in_the_same_words_with_the_same_rows(
    running: Cluster, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("KERFMARK_BLOCK", "120")  # rows that contradict each other are in others
    (tmp_path / "v.csv").write_text(WRONG, encoding="utf-8")
    (tmp_path / "d.csv").write_text("District,Land\nWeir,North\nFord,South\nWeir,North\n")
    layout = tmp_path / "wrong.layout.toml"
    layout.write_text(LAYOUT_OF_WRONG, encoding="utf-8")
    there = check_on_cluster(layout, running.address, tmp_path / "there")
    here = check(layout)
    assert there.problems == here.problems
    assert told(there) == told(here)
    assert sorted(p.name for p in tmp_path.iterdir()) == ["d.csv", "v.csv", "wrong.layout.toml"]


def test_a_machine_that_is_killed_on_the_way_changes_nothing(
    running: Cluster, tmp_path: Path
) -> None:
    layout, killed = made("parts", tmp_path), list[int]()

    def kill(step: str, done: int, total: int) -> None:
        if step == "checking" and not killed:
            victim = running.executors()[0]
            os.kill(victim, signal.SIGKILL)
            killed.append(victim)

    cut([layout], tmp_path / "here.db")
    cut_on_cluster([layout], tmp_path / "there", running.address, progress=kill)
    assert killed and differences(tmp_path / "here.db", tmp_path / "there") == []


def driver(layout: Path, address: str, **more: str) -> subprocess.Popen[str]:
    """The program, cutting a layout into `there` beside it."""
    return subprocess.Popen(
        [
            sys.executable,
            "-m",
            "kerfmark",
            "cut",
            layout.name,
            "--into",
            "there",
            "--cluster",
            address,
            "--verbose",
        ],
        cwd=layout.parent,
        env={**os.environ, **SETTINGS, **more, "NO_COLOR": "1"},
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        preexec_fn=hears_interrupts,
    )


def wait_until(true: Callable[[], bool], seconds: float = 300) -> None:
    """Waits until something is so."""
    end = time.monotonic() + seconds
    while not true():
        assert time.monotonic() < end
        time.sleep(0.05)


def begun(layout: Path, address: str, **more: str) -> subprocess.Popen[str]:
    """The program, once executors have read something for it."""
    process = driver(layout, address, **more)
    there = layout.parent / "there"
    wait_until(lambda: bool([*there.glob(".kerfmark-*/source-0/*.parquet")]))
    return process


def test_what_a_killed_driver_leaves_is_no_result_and_is_swept(
    running: Cluster, spare: Cluster, tmp_path: Path
) -> None:
    layout, there = made("one_of_several", tmp_path), tmp_path / "there"
    process = begun(layout, spare.address)  # the session of this process has all of the first one
    process.kill()
    process.communicate()
    assert not (there / "kerfmark.json").exists() and [*there.glob(".kerfmark-*")]
    cut([layout], tmp_path / "here.db")
    cut_on_cluster([layout], there, running.address)
    assert differences(tmp_path / "here.db", there) == []
    assert not [*there.glob(".kerfmark-*")] and len([*there.glob("load-*")]) == 1


def test_an_interrupt_leaves_nothing_and_is_one_line(spare: Cluster, tmp_path: Path) -> None:
    process = begun(made("one_of_several", tmp_path), spare.address)
    process.send_signal(signal.SIGINT)
    _, err = process.communicate(timeout=300)
    assert process.returncode == 130, err
    assert "interrupted; nothing was written" in err
    assert "Traceback" not in err and "Py4J" not in err
    assert not (tmp_path / "there").exists()


def test_an_interrupt_is_one_whatever_the_engine_makes_of_it(running: Cluster) -> None:
    with pytest.raises(KeyboardInterrupt), connected(running.address):
        try:
            raise KeyboardInterrupt
        finally:  # as where it comes between rows, and the engine then looks at its connection
            raise RuntimeError("Answer from Java side is empty")


def test_a_session_of_somebody_else_outlives_an_interrupt(running: Cluster) -> None:
    def jobs() -> int:
        return len(session.sparkContext.statusTracker().getActiveJobsIds())

    def interrupt() -> None:
        wait_until(lambda: jobs() > 0)
        signal.pthread_kill(threading.main_thread().ident or 0, signal.SIGINT)

    heard = signal.signal(signal.SIGINT, signal.default_int_handler)
    try:
        with pytest.raises(KeyboardInterrupt), connected(running.address) as (session, _):
            threading.Thread(target=interrupt).start()
            session.range(0, 10**13, 1, 4).where("id % 7 = 8").count()
    finally:
        signal.signal(signal.SIGINT, heard)
    with connected(running.address) as (again, _):
        assert again is session
    session.sparkContext.cancelAllJobs()  # should the engine not have known it as ours any more
    wait_until(lambda: not jobs(), 60)
    assert session.range(3).count() == 3


def test_machines_without_the_packages_are_told_as_such(spare: Cluster, tmp_path: Path) -> None:
    layout = made("one_of_several", tmp_path)
    bare = tmp_path / "bare/bin/python"  # as a worker on which nothing was installed
    subprocess.run(
        [sys.executable, "-m", "venv", "--without-pip", str(bare.parent.parent)], check=True
    )
    process = driver(layout, spare.address, PYSPARK_PYTHON=str(bare))
    _, err = process.communicate(timeout=300)
    assert process.returncode == 2, err
    assert "the machines of the cluster do not have the packages" in err
    assert "pip install 'kerfmark[spark]' there" in err and "Traceback" not in err
    assert not (tmp_path / "there").exists()


def test_a_lost_cluster_is_one_message_and_nothing_is_there(spare: Cluster, tmp_path: Path) -> None:
    layout = made("one_of_several", tmp_path)
    process = begun(layout, spare.address, KERFMARK_CLUSTER_PATIENCE="6")
    spare.kill()
    _, err = process.communicate(timeout=300)
    assert process.returncode == 2, err
    assert "the cluster cannot be reached, or was lost" in err and "Traceback" not in err
    assert "run the same command again: nothing was published" in err
    assert not (tmp_path / "there").exists()


def test_an_error_of_an_executor_is_told_by_the_driver_as_what_it_is() -> None:
    for error in (
        DataRefused("that", next="this", more=["row 1"], total=3),
        SourceError("that", code="source.shape", next="this", origin=Origin("a.csv", row=3)),
        KerfmarkError("that", code="internal", why="so", next="this"),
    ):
        with pytest.raises(RuntimeError) as raised, errors_to_driver():
            raise error
        again = error_from_executor(f"Job aborted: RuntimeError: {raised.value} at line 3")
        assert type(again) is type(error) and str(again) == str(error)
    assert error_from_executor("Job aborted") is None


def test_no_layout_of_a_damaged_folder_leads_out_of_it(tmp_path: Path) -> None:
    out = of_bees(tmp_path)
    said = json.loads((out / "kerfmark.json").read_text())
    for place in ("../secret.parquet", "/etc/secret.parquet", "load/../../x.parquet"):
        said["tables"]["bee"]["files"][0]["file"] = place
        (out / "kerfmark.json").write_text(json.dumps(said))
        with pytest.raises(TargetError, match="cannot be read"):
            read_folder(str(out))
    said["tables"].pop("bee")
    (out / "kerfmark.json").write_text(json.dumps(said))
    with pytest.raises(TargetError, match="cannot be read"):
        prove(out)


def alone(folder: Path, *words: str, **env: str) -> tuple[int, str]:
    """The program without a cluster: its exit code, and what it says."""
    done = subprocess.run(
        [sys.executable, "-m", "kerfmark", *words],
        cwd=folder,
        capture_output=True,
        text=True,
        env={**os.environ, "NO_COLOR": "1", **env},
        check=False,
    )
    assert "Traceback" not in done.stderr
    return done.returncode, done.stderr


def java(folder: Path, says: str) -> Path:
    """A program `java` that says which version it is."""
    place = folder / "jdk/bin/java"
    place.parent.mkdir(parents=True)
    place.write_text(f"#!/bin/sh\necho '{says}' >&2\n")
    place.chmod(0o755)
    return place.parent.parent


def test_what_is_missing_for_a_cluster_is_told_with_how_to_get_it(tmp_path: Path) -> None:
    made("one_of_several", tmp_path)
    words = ("cut", "case.layout.toml", "--into", "there", "--cluster")
    code, err = alone(tmp_path, *words, "head:7077")
    assert code == 2 and '"head:7077" is not the address of a cluster' in err
    assert "next: name it like spark://HOST:7077" in err
    blocked = tmp_path / "blocked"
    blocked.mkdir()
    (blocked / "sitecustomize.py").write_text(
        "import importlib.util as u\nfound = u.find_spec\n"
        "u.find_spec = lambda n, *a: None if n == 'pyspark' else found(n, *a)\n"
    )
    code, err = alone(tmp_path, *words, "spark://head:7077", PYTHONPATH=str(blocked))
    assert code == 2 and "pip install 'kerfmark[spark]' installs it" in err
    pytest.importorskip("pyspark")
    code, err = alone(tmp_path, *words, "spark://head:7077", JAVA_HOME=str(tmp_path / "none"))
    assert code == 2 and "working on a cluster needs Java" in err and "JAVA_HOME" in err
    old = java(tmp_path, 'openjdk version "1.8.0_402"')
    code, err = alone(tmp_path, *words, "spark://head:7077", JAVA_HOME=str(old))
    assert code == 2 and "Java 8 is too old" in err and "17 or later" in err
    assert not (tmp_path / "there").exists()


def test_what_a_cluster_does_not_do_is_refused_before_the_work(tmp_path: Path) -> None:
    made("one_of_several", tmp_path)
    where = ("--into", "there", "--cluster", "spark://head:7077")
    code, err = alone(tmp_path, "cut", "calls.csv", *where)
    assert code == 2 and "kerfmark mark calls.csv -o LAYOUT makes one" in err
    code, err = alone(tmp_path, "cut", "case.layout.toml", *where, "--known", "keep")
    assert code == 2 and "a cluster does not take --known" in err
    code, err = alone(tmp_path, "cut", "case.layout.toml", *where, "--set-aside", "bad.txt")
    assert code == 2 and "in a .csv or an .xlsx file" in err
    code, err = alone(tmp_path, "check", "case.layout.toml", "--cluster", "spark://head:7077")
    assert code == 2 and "--into FOLDER" in err


CELLS = st.text(st.sampled_from('ab",\n '), max_size=12)


@settings(max_examples=150, deadline=None)
@given(st.lists(st.tuples(CELLS, CELLS), max_size=30), st.integers(5, 200), st.booleans())
def test_blocks_are_whole_records_wherever_they_are_cut(
    rows: list[tuple[str, str]], size: int, dos: bool
) -> None:
    """Held against the standard library's reader; line ends, quotes and delimiters in quotes."""
    import tempfile

    end = "\r\n" if dos else "\n"
    text = io.StringIO(newline="")
    writer = csv.writer(text, lineterminator=end)
    writer.writerows([("first", "second"), *rows])
    with tempfile.TemporaryDirectory() as folder, pytest.MonkeyPatch.context() as patch:
        patch.setenv("KERFMARK_BLOCK", str(size))
        place = Path(folder, "some.csv")
        place.write_bytes(text.getvalue().encode())
        units = blocks(Unit(0, "some", str(place), SourceSpec(file="some.csv")))
        if len(units) > 1:
            units = settled_blocks(units, [look_at(u) for u in units])
        whole = list(csv.reader(io.StringIO(text.getvalue(), newline="")))
        if len(units) == 1:
            return
        found: list[list[str]] = []
        for unit in units:
            data = bytes_of_block(unit).decode()
            records = list(csv.reader(io.StringIO(data, newline="")))
            assert records[0] == ["first", "second"]
            if unit.start and len(records) > 1:
                # the rows before it, as they are counted in messages
                assert unit.before == len(found) + 1
            found += records[1:]
        assert found == whole[1:]


def test_a_quote_where_none_may_be_leaves_the_file_in_one_piece(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("KERFMARK_BLOCK", "64")
    place = tmp_path / "pipes.csv"
    place.write_text("No,Size\n" + "".join(f'{n},5" pipe\n' for n in range(50)))
    unit = Unit(0, "pipes", str(place), SourceSpec(file="pipes.csv"))
    cut_up = blocks(unit)
    assert len(cut_up) > 5
    assert settled_blocks(cut_up, [look_at(u) for u in cut_up]) == [unit]


def test_a_file_that_changes_between_its_blocks_is_noticed(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("KERFMARK_BLOCK", "64")
    place = tmp_path / "some.csv"
    place.write_text("No,Size\n" + "".join(f"{n},5\n" for n in range(50)))
    units = blocks(Unit(0, "some", str(place), SourceSpec(file="some.csv")))
    units = settled_blocks(units, [look_at(u) for u in units])
    assert bytes_of_block(units[1])
    with place.open("a") as file:
        file.write("50,5\n")
    with pytest.raises(SourceError, match="has changed while it was read"):
        bytes_of_block(units[1])


@pytest.mark.parametrize(
    "more",
    [
        {"encoding": "utf-16"},
        {"skip_rows": ("-1",)},
        {"fill_down": ("No",)},
        {"escape": "\\"},
        {"delimiter": "::"},
    ],
)
def test_files_whose_rows_depend_on_others_are_not_cut(more: dict[str, object]) -> None:
    assert can_be_cut(SourceSpec(file="a.csv"), True)
    assert not can_be_cut(SourceSpec.model_validate({"file": "a.csv", **more}), True)


OF_BEES = """\
kerfmark = 1

[sources.bees]
file = "../bees.csv"

[tables.bee]
each_row = true
columns = { name = { header = "Name" } }
links = { hive_id = { to = "hive" } }

[tables.hive]
known_by = ["hive"]
columns = { hive = { header = "Hive" } }
"""


def of_bees(folder: Path) -> Path:
    """A folder as a cluster writes it, made by hand, beside the file that it was made of."""
    (folder / "bees.csv").write_text("Name,Hive\nMaja,H1\nWilli,H2\nKassandra,H1\n")
    tables = {
        "hive": pa.table({"hive_id": [1, 2], "hive": ["H1", "H2"]}),
        "bee": pa.table(
            {"bee_id": [1, 2, 3], "hive_id": [1, 2, 1], "name": ["Maja", "Willi", "Kassandra"]}
        ),
    }
    said: dict[str, TableSet] = {}
    out = folder / "out"
    for name, rows in tables.items():
        (out / "load-000001-x" / name).mkdir(parents=True)
        file = f"load-000001-x/{name}/000001.parquet"
        pq.write_table(rows, out / file)
        columns = tuple(
            (c, "text" if c in ("hive", "name") else "integer") for c in rows.schema.names
        )
        links = (Link(("hive_id",), "hive", ("hive_id",)),) if name == "bee" else ()
        known = ("hive",) if name == "hive" else ()
        written = (out / file).read_bytes()
        print_ = xxhash.xxh3_128(written).hexdigest()
        parts = (Part(file, len(rows), len(written), print_, 1),)
        key = (f"{name}_id",)
        said[name] = TableSet(columns, (), key, known, (), links, len(rows), parts)
    read = FileRead("bees", "../bees.csv", 42, "", 3, 0)
    load = LoadMade(1, "cut", "2031-01-01 00:00:00", "0.1.0", (read,), {"hive": 2, "bee": 3})
    sets_ = DataSets(OF_BEES, {"bees": ("Name", "Hive")}, said, (load,))
    (out / "kerfmark.json").write_text(sets_.text(), encoding="utf-8")
    return out


def test_a_folder_is_looked_at_proven_and_exported_on_one_machine(
    kerfmark: Runner, tmp_path: Path
) -> None:
    of_bees(tmp_path)
    assert "Kassandra" in kerfmark("show", "out", "bee").out
    proven = kerfmark("prove", "out").out
    assert "proven  bees.csv: 3 rows and 6 cells compared" in proven
    kerfmark("export", "out", "-o", "flat.csv", "--flat", "bees")
    assert (tmp_path / "flat.csv").read_bytes() == (tmp_path / "bees.csv").read_bytes()
    assert "2 tables, 1 link" in kerfmark("draw", "out", "-o", "out.svg").out
    assert "kerfmark undo out takes load 1 back" in kerfmark("loads", "out").out
    (tmp_path / "bees.csv").write_text("Name,Hive\nMaja,H1\nWilli,H2\nKassandra,H2\n")
    lost = kerfmark("prove", "out", code=1).out
    assert "H2" in lost and "proven" not in lost


def test_what_is_wrong_with_a_folder_is_told_by_its_file(kerfmark: Runner, tmp_path: Path) -> None:
    out = of_bees(tmp_path)
    err = kerfmark("add", "bees.csv", "--into", "out", code=2).err
    assert "a folder that a cluster wrote is not changed by this command" in err
    file = out / "load-000001-x/hive/000001.parquet"
    pq.write_table(pa.table({"hive_id": [1, 2], "hive": ["H1", "H3"]}), file)
    err = kerfmark("show", "out", code=2).err
    assert "000001.parquet: a file of the folder is not as it was written" in err
    file.unlink()
    assert "cannot be read" in kerfmark("show", "out", code=2).err


def sets(target: Target) -> DataSets:
    return DataSets("kerfmark = 1\n", {}, {}, ())


def test_a_folder_is_not_overwritten_and_other_peoples_files_stay(tmp_path: Path) -> None:
    place = tmp_path / "out"
    first = Target(str(place))
    first.publish(sets(first))
    first.close()
    assert read_folder(str(place)).layout == "kerfmark = 1\n"
    with pytest.raises(TargetError, match="exists already"):
        Target(str(place))
    (place / "notes.txt").write_text("mine")
    with pytest.raises(TargetError, match="did not write"):
        Target(str(place), replace=True)
    assert (place / "notes.txt").read_text() == "mine"
    mine = tmp_path / "mine"
    mine.mkdir()
    (mine / "thesis.doc").write_text("mine")
    with pytest.raises(TargetError, match="did not write"):
        Target(str(mine))
    (tmp_path / "file").write_text("mine")
    with pytest.raises(TargetError, match="this is a file"):
        Target(str(tmp_path / "file"))


def test_what_is_not_published_is_gone_and_what_was_there_stays(tmp_path: Path) -> None:
    place = tmp_path / "out"
    first = Target(str(place))
    first.publish(sets(first))
    first.close()
    before = (place / "kerfmark.json").read_bytes()
    second = Target(str(place), replace=True)
    (place / second.data / "visit").mkdir(parents=True)
    (place / second.data / "visit/000001.parquet").write_bytes(b"half")
    second.close()
    assert (place / "kerfmark.json").read_bytes() == before
    assert sorted(p.name for p in place.iterdir()) == ["kerfmark.json", "layout.toml"]


def test_what_another_program_is_writing_stays_when_a_load_is_taken_back(tmp_path: Path) -> None:
    out = of_bees(tmp_path)
    adding = Target(str(out), changing=read_folder(str(out)))
    theirs = out / adding.data / "bee"
    theirs.mkdir(parents=True)
    (theirs / "000001.parquet").write_bytes(b"under way")
    undo(out)
    assert (theirs / "000001.parquet").exists()
    assert [p.name for p in out.glob("load-*")] == [adding.data]
    adding.close()
    assert not [*out.glob("load-*")] and not [*out.glob(".kerfmark-*")]


def test_a_folder_that_is_damaged_or_of_a_later_version_says_so(tmp_path: Path) -> None:
    with pytest.raises(TargetError, match="not a folder that Kerfmark wrote"):
        read_folder(str(tmp_path))
    (tmp_path / "kerfmark.json").write_text('{"kerfmark": 1, "tables": ')
    with pytest.raises(TargetError, match="cannot be read"):
        read_folder(str(tmp_path))
    (tmp_path / "kerfmark.json").write_text(json.dumps({"kerfmark": 9, "version": "9.0"}))
    with pytest.raises(TargetError, match="later version"):
        read_folder(str(tmp_path))


def test_no_address_is_taken_for_one() -> None:
    with pytest.raises(ClusterError, match="not the address"), connected("postgresql://a/b"):
        pass
