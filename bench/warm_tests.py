"""Runs tests again and again without importing the libraries anew: for `mutants.py`.

Reads one JSON object per line, {"tests", "limit"}, runs these tests in a child that imports the
program as it is then, until one fails, and answers with the exit code (1 also after so many
seconds). Everything that the child has started ends with it.
"""

from __future__ import annotations

import contextlib
import importlib
import json
import os
import signal
import sys
import time
from pathlib import Path

TESTS = Path.cwd() / "tests"
sys.path.insert(0, str(TESTS))

import pytest  # noqa: E402

import forked  # noqa: E402

for name in (*forked.LIBRARIES, "hypothesis", "openpyxl", "sqlglot", "xxhash", "numpy", "pint"):
    with contextlib.suppress(ImportError):
        importlib.import_module(name)


def server() -> str:
    """Starts the process that runs the program; the files through which it is told what to do."""
    orders, answers = os.pipe(), os.pipe()
    if os.fork() == 0:
        os.dup2(orders[0], 0)
        os.dup2(answers[1], 1)
        for file in (*orders, *answers):
            os.close(file)
        sys.stdin, sys.stdout = open(0, closefd=False), open(1, "w", closefd=False)  # noqa: SIM115
        forked.serve()
        os._exit(0)
    os.close(orders[0])
    os.close(answers[1])
    return f"{orders[1]},{answers[0]}"


def child(tests: list[str]) -> None:
    """Runs tests, and ends."""
    os.setsid()
    nothing = os.open(os.devnull, os.O_RDWR)
    for stream in (0, 1, 2):
        os.dup2(nothing, stream)
    code = 1
    with contextlib.suppress(BaseException):
        os.environ["KERFMARK_TEST_SERVED"] = server()
        code = int(pytest.main(["-x", "-q", "-n", "0", "-p", "no:cacheprovider", *tests]))
    os._exit(code)


for line in sys.stdin:
    order = json.loads(line)
    process = os.fork()
    if process == 0:
        child(order["tests"])
    until, code = time.monotonic() + order["limit"], None
    while code is None and time.monotonic() < until:
        done, status = os.waitpid(process, os.WNOHANG)
        code = os.waitstatus_to_exitcode(status) if done else None
        time.sleep(0.02)
    with contextlib.suppress(ProcessLookupError, PermissionError):
        os.killpg(process, signal.SIGKILL)
    if code is None:
        os.waitpid(process, 0)
    print(1 if code is None else code, flush=True)
