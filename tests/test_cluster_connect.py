"""A cluster behind a server: programs send it what is to be done, and need no Java."""

from __future__ import annotations

import json
import os
import random
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from cluster import SETTINGS, cluster, differences, server
from cluster_cases import CASES
from conftest import hears_interrupts
from kerfmark.cli.main import main
from kerfmark.verbs.cut import cut

Served = tuple[str, subprocess.Popen[bytes]]


@pytest.fixture(scope="module")
def served() -> Iterator[Served]:
    """A server; the last test kills it."""
    with cluster(1) as one, server(one) as it:
        yield it


def program(folder: Path, *words: str, **more: str) -> subprocess.Popen[str]:
    """The program in a folder, on a machine without Java."""
    return subprocess.Popen(
        [sys.executable, "-m", "kerfmark", *words],
        cwd=folder,
        env={
            **os.environ,
            **SETTINGS,
            "JAVA_HOME": str(folder / "no-java"),
            "KERFMARK_BLOCK": "4000",
            "NO_COLOR": "1",
            **more,
        },
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        preexec_fn=hears_interrupts,
    )


def done(folder: Path, *words: str) -> str:
    """What the program prints that does its work."""
    process = program(folder, *words)
    out, err = process.communicate(timeout=300)
    assert process.returncode == 0, err
    return out


def made(case: str, folder: Path) -> Path:
    """The layout of a case, whose files are beside it."""
    layout = folder / "case.layout.toml"
    layout.write_text(CASES[case](folder, random.Random(5)), encoding="utf-8")
    return layout


def test_what_is_cut_through_a_server_is_what_one_machine_cuts(
    served: Served, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    layout, address = made("one_of_several", tmp_path), served[0]
    cut([layout], tmp_path / "here.db")
    done(tmp_path, "cut", layout.name, "--into", "there", "--cluster", address)
    assert differences(tmp_path / "here.db", tmp_path / "there") == []
    assert "proven" in done(tmp_path, "prove", "there", "--cluster", address)
    [file] = sorted(tmp_path.glob("*.csv"))[:1]
    there = done(tmp_path, "measure", str(file), "--cluster", address, "--shared", ".", "--json")
    assert main(["measure", str(file), "--json"]) == 0
    assert json.loads(there)["sources"] == json.loads(capsys.readouterr().out)["sources"]


def begun(served: Served, folder: Path, **more: str) -> subprocess.Popen[str]:
    """A cut, once executors have read something for it."""
    layout = made("one_of_several", folder)
    words = "cut", layout.name, "--into", "there", "--cluster", served[0]
    process = program(folder, *words, **more)
    end = time.monotonic() + 300
    while not [*folder.glob("there/.kerfmark-*/source-0/*.parquet")]:
        assert process.poll() is None and time.monotonic() < end
        time.sleep(0.05)
    return process


def test_an_interrupt_leaves_nothing(served: Served, tmp_path: Path) -> None:
    process = begun(served, tmp_path)
    process.send_signal(signal.SIGINT)
    _, err = process.communicate(timeout=300)
    assert process.returncode == 130, err
    assert "interrupted; nothing was written" in err and "Traceback" not in err
    assert not (tmp_path / "there").exists()


def test_no_address_of_a_server(tmp_path: Path) -> None:
    layout = made("one_of_several", tmp_path)
    for address in ("sc://", "sc://head.example:port"):
        more = f"{address}/;token=secret"
        process = program(tmp_path, "cut", layout.name, "--into", "there", "--cluster", more)
        _, err = process.communicate(timeout=300)
        assert process.returncode == 2 and f'"{address}/" is not the address of a cluster' in err
        assert "secret" not in err


def test_a_server_that_is_lost_is_told_and_leaves_nothing(served: Served, tmp_path: Path) -> None:
    process = begun(served, tmp_path, KERFMARK_CLUSTER_PATIENCE="2")
    served[1].kill()
    _, err = process.communicate(timeout=300)
    assert process.returncode == 2, err
    assert "the cluster cannot be reached, or was lost" in err and "Traceback" not in err
    assert not (tmp_path / "there").exists()
    # and one that never was there
    process = program(
        tmp_path,
        "cut",
        "case.layout.toml",
        "--into",
        "there",
        "--cluster",
        f"{served[0]}/;token=secret",
    )
    _, err = process.communicate(timeout=300)
    assert process.returncode == 2 and "Connection refused" in err and "secret" not in err
