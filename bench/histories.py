"""Random histories of databases, held against a model that shares no code with the program: many
more than the tests run, and others with every seed.

python bench/histories.py [--number 3000] [--steps 8] [--engines SQLite,PostgreSQL,MariaDB]
[--processes 2] [--seed 0]

Each history cuts, adds with any policy, takes back, loads changed files anew and adds again; after
every step the database must be what loading the standing loads in order gives, the keys of records
that stay must be the same, and the proof must hold. Ends with 0 when all are so, and tells how
often each step was taken and how often it was refused, as it had to be.
"""

from __future__ import annotations

import argparse
import multiprocessing
import os
import sys
import time
import unittest
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))


def run(job: tuple[str, int, int, int]) -> tuple[str, int, bool, dict[str, int], str]:
    """Some histories on an engine."""
    engine, number, steps, seed = job
    from hypothesis import seed as seeded

    import histories

    histories.STEPS.clear()
    case = histories.machine(engine, number, steps, same=False)
    case.runTest = seeded(seed)(case.runTest)
    result = unittest.TestResult()
    unittest.defaultTestLoader.loadTestsFromTestCase(case).run(result)
    failed = result.errors + result.failures
    return engine, number, not failed, dict(histories.STEPS), failed[0][1] if failed else ""


def main() -> None:
    """Command line."""
    ap = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    ap.add_argument("--number", type=int, default=3000)
    ap.add_argument("--steps", type=int, default=8)
    ap.add_argument("--engines", default="SQLite,PostgreSQL,MariaDB")
    ap.add_argument("--processes", type=int, default=os.cpu_count() or 1)
    ap.add_argument("--seed", type=int, default=0)
    args = ap.parse_args()
    engines = args.engines.split(",")
    size = 50
    jobs = [
        (engines[i % len(engines)], size, args.steps, args.seed + i)
        for i in range(-(-args.number // size))
    ]
    started, done, good = time.perf_counter(), 0, True
    total: dict[str, int] = {}
    with multiprocessing.Pool(args.processes, maxtasksperchild=4) as pool:
        for engine, number, held, steps, failure in pool.imap_unordered(run, jobs):
            done += number
            for step, times in steps.items():
                total[step] = total.get(step, 0) + times
            if not held:
                good = False
                print(f"--- on {engine}\n{failure}", flush=True)
            print(
                f"{done} histories, {time.perf_counter() - started:.0f} s",
                file=sys.stderr,
                flush=True,
            )
    print(f"{done} histories: {'all as the model says' if good else 'NOT all as the model says'}")
    for step, times in sorted(total.items()):
        print(f"  {step}: {times:,}")
    sys.exit(0 if good else 1)


if __name__ == "__main__":
    main()
