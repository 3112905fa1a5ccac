"""A cut on a cluster beside the same cut in one process, side by side in one run: time, the most
memory of the driver and of each executor, and what each step sends over the network; then a proof
of what was cut, and a proposal of the same tables.

    python bench/cluster.py [--rows 2000000,25000000] [--workers 1,2] [--folder /tmp/kerfmark-bench]
                            [--plot cluster.png]

The cluster (a master and workers of one core as processes of their own) is started for it; the
tables of both are compared by hash, by the tests' own comparison, before anything is told. Needs
`pip install --editable '.[spark]'` and Java.
"""

from __future__ import annotations

import argparse
import os
import pickle
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from make import make
from run import measure

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from cluster import SETTINGS, cluster
from kerfmark.cluster.session import connected
from kerfmark.layout.text import read_layout
from kerfmark.profile.measure_result import SourceMeasured
from kerfmark.verbs.mark_on_cluster import mark_on_cluster
from kerfmark.verbs.measure_on_cluster import measure_on_cluster
from kerfmark.verbs.on_cluster import cut_on_cluster
from kerfmark.verbs.prove_on_cluster import prove_on_cluster

STEPS = ("looking at blocks", "reading", "linking", "checking", "writing")


def main() -> None:
    """Command line."""
    ap = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    ap.add_argument("--rows", default="2000000,25000000")
    ap.add_argument("--workers", default="1,2")
    ap.add_argument("--folder", type=Path, default=Path(tempfile.gettempdir()) / "kerfmark-bench")
    ap.add_argument("--plot", type=Path)
    args = ap.parse_args()
    args.folder.mkdir(parents=True, exist_ok=True)
    os.environ.update({k: v for k, v in SETTINGS.items() if "JAVA" not in k and "java" not in k})
    drawn: dict[int, list[tuple[int, float]]] = {}
    for rows in (int(n) for n in args.rows.split(",")):
        flat = args.folder / f"inspections-{rows}.csv"
        make("make_flat", "make_flat", rows, flat)
        layout, here = args.folder / "cluster.layout.toml", args.folder / "here.db"
        program = [sys.executable, "-m", "kerfmark"]
        mark = [*program, "mark", str(flat), "-o", str(layout), "--replace", "--quiet"]
        subprocess.run(mark, check=True)
        cut = [*program, "cut", str(layout), "--into", str(here), "--quiet"]
        wall, cpu, peak = measure(cut, lambda p=here: p.unlink(missing_ok=True))
        proven = measure([*program, "prove", str(here), "--quiet"], lambda: None)[0]
        marked = measure([*program, "mark", str(flat), "--quiet"], lambda: None)[0]
        told = measure([*program, "measure", str(flat), "--quiet"], lambda: None)[0]
        size = flat.stat().st_size
        print(f"\n{rows:,} rows, {size / 1e6:.0f} MB")
        print(f"one process: {wall:.1f} s, {cpu:.1f} s of CPU, {peak:.0f} MB")
        print(f"    prove {proven:.1f} s, mark {marked:.1f} s, measure {told:.1f} s", flush=True)
        for workers in (int(n) for n in args.workers.split(",")):
            seconds = on_cluster(layout, args.folder / "there", workers, rows)
            drawn.setdefault(workers, []).append((rows, seconds))
            if found := differences_of(here, args.folder / "there"):
                raise SystemExit(f"not the same: {found}")
            print(f"  the tables are the same; {seconds / wall:.2f} of one process", flush=True)
    if args.plot:
        plot(drawn, args.plot)


def differences_of(database: Path, folder: Path) -> list[str]:
    """What differs between a database and a folder, in a process of its own: it needs memory."""
    code = (
        "import sys; from pathlib import Path; sys.path.insert(0, sys.argv[1]); "
        "from cluster import differences; print(*differences(*map(Path, sys.argv[2:])), sep='\\n')"
    )
    tests = str(Path(__file__).parent.parent / "tests")
    command = [sys.executable, "-c", code, tests, str(database), str(folder)]
    said = subprocess.run(command, check=True, capture_output=True, text=True)
    return said.stdout.split("\n")[:-1] if said.stdout.strip() else []


def on_cluster(layout: Path, target: Path, workers: int, rows: int) -> float:
    """Cuts on a cluster of so many workers, and tells what it took; the seconds, without those for
    starting."""
    begun: list[tuple[str, float]] = []

    def step(name: str, done: int, total: int) -> None:
        name = name.split(" ")[0] if name.startswith("writing") else name
        if name in STEPS and (not begun or begun[-1][0] != name):
            begun.append((name, time.time()))

    with cluster(workers) as one, connected(one.address) as (session, _):
        peaks: dict[str, float] = {}
        with watched(one, peaks):
            start = time.perf_counter()
            cut_on_cluster([layout], target, one.address, replace=True, progress=step)
            seconds = time.perf_counter() - start
            begun.append(("prove", time.time()))
            assert prove_on_cluster(target, one.address).holds
            begun.append(("mark", time.time()))
            flat = next(iter(read_layout(layout)[0].sources.values())).file
            marked = mark_on_cluster([layout.parent / flat], None, one.address, layout.parent)
            assert [t.name for t in marked.tables] == [*read_layout(layout)[0].tables]
            begun.append(("measure", time.time()))
            told = measure_on_cluster([layout.parent / flat], one.address, layout.parent)
            over = time.time()
        stages = stages_of(session)
    assert told.sources == measured_here(layout.parent / flat), "measure tells something else"
    print(
        f"{workers} workers: {seconds:.1f} s; most memory: "
        + ", ".join(f"{name} {peak:.0f} MB" for name, peak in sorted(peaks.items()))
    )
    ends = [*(at for _, at in begun[1:]), over]
    for (name, at), end in zip(begun, ends, strict=True):
        sent = sum(s for t, s in stages if at <= t < end)
        print(f"    {name:18} {end - at:7.1f} s  {sent / rows:7.1f} bytes a row")
    return seconds


def measured_here(file: Path) -> tuple[SourceMeasured, ...]:
    """What one process tells of a file; a process of its own, as it needs memory."""
    code = (
        "import pickle, sys; from kerfmark.verbs.measure import measure; "
        "sys.stdout.buffer.write(pickle.dumps(measure([sys.argv[1]]).sources))"
    )
    command = [sys.executable, "-c", code, str(file)]
    done = subprocess.run(command, check=True, capture_output=True)
    told: tuple[SourceMeasured, ...] = pickle.loads(done.stdout)
    return told


def stages_of(session: Any) -> list[tuple[float, int]]:
    """When each stage of the cluster's engine began, and the bytes that it wrote for others."""
    context = session.sparkContext
    nothing = context._gateway.new_array(context._jvm.double, 0)
    store = context._jsc.sc().statusStore()
    found = store.stageList(None, False, False, nothing, context._jvm.java.util.ArrayList())
    out = []
    for i in range(found.size()):
        stage = found.apply(i)
        if stage.submissionTime().isDefined():
            began = stage.submissionTime().get().getTime() / 1000
            out.append((began, int(stage.shuffleWriteBytes())))
    return out


@contextmanager
def watched(one: Any, peaks: dict[str, float]) -> Iterator[None]:
    """Looks at the memory of the driver and of each executor with its workers, once a second."""
    over = threading.Event()

    def look() -> None:
        while not over.wait(1.0):
            children = tree()
            sums = {"driver": resident(os.getpid(), children)}
            for number, pid in enumerate(sorted(one.executors()), 1):
                sums[f"executor {number}"] = resident(pid, children)
            for name, now in sums.items():
                peaks[name] = max(peaks.get(name, 0.0), now)

    thread = threading.Thread(target=look)
    thread.start()
    try:
        yield
    finally:
        over.set()
        thread.join()


def tree() -> dict[int, list[int]]:
    """The children of each process."""
    out: dict[int, list[int]] = {}
    for place in Path("/proc").glob("[0-9]*/stat"):
        try:
            fields = place.read_text().rpartition(")")[2].split()
        except OSError:
            continue
        out.setdefault(int(fields[1]), []).append(int(place.parent.name))
    return out


def resident(pid: int, children: dict[int, list[int]]) -> float:
    """The memory of a process and of those that it has started, in MB: what they share is counted
    once, in parts (Pss)."""
    try:
        text = Path(f"/proc/{pid}/smaps_rollup").read_text()
        own = next(int(line.split()[1]) for line in text.splitlines() if line.startswith("Pss:"))
    except (OSError, StopIteration):
        own = 0
    skip = {p for p in children.get(pid, []) if command(p) in ("spark-class", "Worker", "Master")}
    return own / 1024 + sum(resident(c, children) for c in children.get(pid, []) if c not in skip)


def command(pid: int) -> str:
    """What a process of a cluster is called."""
    try:
        words = Path(f"/proc/{pid}/cmdline").read_bytes()
    except OSError:
        return ""
    return next((n for n in ("Worker", "Master") if b"deploy." + n.lower().encode() in words), "")


def plot(drawn: dict[int, list[tuple[int, float]]], path: Path) -> None:
    """Seconds against rows, a line for each number of workers."""
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib import pyplot

    figure, axes = pyplot.subplots(figsize=(8, 5), dpi=100)
    for workers, points in drawn.items():
        xs, ys = zip(*sorted(points), strict=True)
        name = "1 executor" if workers == 1 else f"{workers} executors"
        axes.plot([x / 1e6 for x in xs], ys, marker="o", label=name)
    axes.set_xlabel("million rows")
    axes.set_ylabel("seconds, without starting")
    axes.set_title("A cut on a cluster, all processes on one machine of two cores")
    axes.set_ylim(bottom=0)
    axes.set_xlim(left=0)
    axes.grid(alpha=0.3)
    axes.legend()
    figure.tight_layout()
    figure.savefig(path)


if __name__ == "__main__":
    main()
