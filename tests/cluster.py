"""A cluster of the tests' own: a master and two workers as processes of their own, on the loopback;
and a comparison of what it writes with a database, which shares no code with the program."""

from __future__ import annotations

import contextlib
import datetime
import decimal
import hashlib
import importlib.util
import json
import os
import shutil
import signal
import socket
import sqlite3
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterable, Iterator
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

import pyarrow.parquet as pq
import pytest

from kerfmark.verbs.prove import ProveResult
from private import free_port

SETTINGS = {
    "PYSPARK_PYTHON": sys.executable,
    "SPARK_LOCAL_IP": "127.0.0.1",
    # short jobs on a machine of two cores: programs that are compiled less start sooner
    "JDK_JAVA_OPTIONS": "-XX:TieredStopAtLevel=1 -XX:+UseSerialGC",
    "KERFMARK_SPARK_executor_extraJavaOptions": "-XX:TieredStopAtLevel=1 -XX:+UseSerialGC",
    "KERFMARK_SPARK_executor_memory": "1g",
    "PYTHONWARNINGS": "ignore",
}
"""The environment of drivers and of the cluster."""


def _missing(why: str) -> None:
    if os.environ.get("KERFMARK_TEST_CLUSTER") == "required":
        raise AssertionError(why)
    pytest.skip(why)


@dataclass
class Cluster:
    """A cluster that runs: its address, and its processes."""

    address: str
    folder: Path
    master: subprocess.Popen[bytes]
    workers: list[subprocess.Popen[bytes]] = field(default_factory=list)

    def executors(self) -> list[int]:
        """The processes that carry tasks out."""
        found = subprocess.run(
            ["pgrep", "-f", "CoarseGrainedExecutorBackend"],
            capture_output=True,
            text=True,
            check=False,
        )
        mine = {w.pid for w in self.workers}
        pids = [int(p) for p in found.stdout.split()]
        return [p for p in pids if _parent(p) in mine]

    def kill(self) -> None:
        """Kills all of it."""
        for pid in self.executors():
            with contextlib.suppress(ProcessLookupError):
                os.kill(pid, signal.SIGKILL)
        for process in (*self.workers, self.master):
            process.kill()
            process.wait()


def _parent(pid: int) -> int:
    try:
        return int(Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[1])
    except (OSError, ValueError):
        return 0


@contextlib.contextmanager
def cluster(workers: int = 2) -> Iterator[Cluster]:
    """A cluster, which is gone afterwards. Skips the test where its packages are not here, unless
    they must be."""
    if any(importlib.util.find_spec(p) is None for p in ("pyspark", "pandas")):
        _missing("pyspark is not installed here: pip install 'kerfmark[spark]'")
    if shutil.which("java") is None:
        _missing("there is no Java here")
    import pyspark

    home = Path(pyspark.__file__).parent
    spark = str(home / "bin/spark-class")
    port = free_port()
    env = {**os.environ, **SETTINGS, "SPARK_HOME": str(home)}
    with tempfile.TemporaryDirectory(prefix="kerfmark-cluster-") as name:
        folder = Path(name)

        def begun(what: str, *words: str) -> subprocess.Popen[bytes]:
            log = (folder / f"{len(list(folder.iterdir()))}.log").open("wb")
            return subprocess.Popen(
                [
                    spark,
                    f"org.apache.spark.deploy.{what}",
                    "--host",
                    "127.0.0.1",
                    "--webui-port",
                    str(free_port()),
                    *words,
                ],
                stdout=log,
                stderr=log,
                env=env,
                cwd=folder,
            )

        master = begun("master.Master", "--port", str(port))
        one = Cluster(f"spark://127.0.0.1:{port}", folder, master)
        try:
            _wait_for(port)
            for _ in range(workers):
                one.workers.append(
                    begun(
                        "worker.Worker",
                        "--cores",
                        "1",
                        "--memory",
                        "1200m",
                        "--work-dir",
                        str(folder / "work"),
                        one.address,
                    )
                )
            yield one
        finally:
            one.kill()


@contextlib.contextmanager
def server(one: Cluster) -> Iterator[tuple[str, subprocess.Popen[bytes]]]:
    """A server in front of a cluster, to which programs without Java connect: its address and its
    process."""
    import pyspark

    home, port = Path(pyspark.__file__).parent, free_port()
    with (one.folder / "server.log").open("wb") as log:
        process = subprocess.Popen(
            [
                str(home / "bin/spark-class"),
                "org.apache.spark.deploy.SparkSubmit",
                "--class",
                "org.apache.spark.sql.connect.service.SparkConnectServer",
                "--master",
                one.address,
                "--conf",
                f"spark.connect.grpc.binding.port={port}",
                "--conf",
                "spark.executor.memory=1g",
                "--conf",
                "spark.ui.enabled=false",
                "spark-internal",
            ],
            stdout=log,
            stderr=log,
            env={**os.environ, **SETTINGS, "SPARK_HOME": str(home)},
            cwd=one.folder,
        )
    try:
        _wait_for(port)
        yield f"sc://127.0.0.1:{port}", process
    finally:
        process.kill()
        process.wait()


def _wait_for(port: int) -> None:
    for _ in range(600):
        with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port), 1):
            return
        time.sleep(0.1)
    raise AssertionError("the cluster does not answer")


def differences(database: Path, folder: Path) -> list[str]:
    """The tables that are not the same in an SQLite database and in a folder of data sets: columns,
    rows and every value, in the order of the primary key, by their hashes."""
    said = json.loads((folder / "kerfmark.json").read_text(encoding="utf-8"))
    out: list[str] = []
    with contextlib.closing(sqlite3.connect(database)) as connection:
        views = "SELECT name FROM sqlite_master WHERE type = 'table'"
        there = {
            n for (n,) in connection.execute(views) if not n.startswith(("kerfmark_", "sqlite_"))
        }
        out += [f"{n} is missing" for n in there ^ said["tables"].keys()]
        for name, table in said["tables"].items():
            columns = [c for c, _ in table["columns"]]
            own = [r[1] for r in connection.execute(f'PRAGMA table_info("{name}")')]
            if own != columns:
                out.append(f"{name} has other columns: {own}, {columns}")
                continue
            types = [t for _, t in table["columns"]]
            listed = ", ".join(f'"{c}"' for c in columns)
            order = ", ".join(f'"{c}"' for c in table["key"])
            here = connection.execute(f'SELECT {listed} FROM "{name}" ORDER BY {order}')
            rows = _rows(folder, table["files"])
            if len(table["key"]) > 1 or not columns[0] == table["key"][0] == f"{name}_id":
                at = [columns.index(k) for k in table["key"]]
                rows = iter(sorted(rows, key=lambda row: [_sortable(row[i]) for i in at]))
            if _hash(here, types) != (table["rows"], _hash(rows, types)[1]):
                out.append(f"{name} has other rows")
    return out


def _sortable(value: Any) -> Any:
    return value.encode() if isinstance(value, str) else value


def _rows(folder: Path, files: list[dict[str, Any]]) -> Iterator[tuple[Any, ...]]:
    """The rows of some files, some of them in memory at a time."""
    for file in files:
        whole = pq.ParquetFile(folder / file["file"])
        assert whole.metadata.num_rows == file["rows"]
        for batch in whole.iter_batches(50_000):
            yield from zip(*(c.to_pylist() for c in batch.columns), strict=True)


def _hash(rows: Iterable[Any], types: list[str]) -> tuple[int, str]:
    """How many rows there are, and the hash of all of them."""
    out, count = hashlib.sha256(), 0
    for row in rows:
        texts = [_text(v, t) for v, t in zip(row, types, strict=True)]
        out.update("\x1f".join(texts).encode() + b"\n")
        count += 1
    return count, out.hexdigest()


def _text(value: Any, type_: str) -> str:
    if value is None:
        return "\0"
    if type_.startswith("decimal") or isinstance(value, float | decimal.Decimal):
        return repr(float(value))
    if isinstance(value, bool):
        return str(int(value))
    if isinstance(value, datetime.datetime):
        return value.strftime("%Y-%m-%d %H:%M:%S")
    return value.isoformat() if isinstance(value, datetime.date | datetime.time) else str(value)


def proof_said(result: ProveResult) -> dict[str, Any]:
    """What a proof says, but for when; the files of a source have one name or several."""
    out = asdict(result)
    for name in ("database", "at", "version", "seconds"):
        out.pop(name)
    for one in out["proofs"]:
        one.pop("file")
        if len(out["loads"]) > 1:  # one machine, which goes by the ledger then, does not count them
            one.pop("named")
    for load in out["loads"]:
        for file in load["files"]:
            file.pop("fingerprint")
    out["proofs"] = sorted(out["proofs"], key=lambda p: p["source"])
    out["files"] = sorted(out["files"], key=str)
    return out
