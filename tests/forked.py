"""Runs the program again and again without starting Python anew each time: everything is imported
once, then each command line runs in a child of its own, with its own folder, environment and
streams. Used where the system can fork; each child is the real program from its first line to its
exit code.

Reads one JSON object per line: {"args", "cwd", "env", "out", "err"} (the last two are files), and
answers with the exit code.
"""

from __future__ import annotations

import contextlib
import gc
import importlib
import json
import os
import pkgutil
import sys
import time
import traceback


def child(order: dict[str, object]) -> int:
    """Runs one command line; the exit code."""
    os.chdir(str(order["cwd"]))
    os.environ.clear()
    os.environ.update(order["env"])  # type: ignore[arg-type, call-overload]
    time.tzset()
    for number, key in ((1, "out"), (2, "err")):
        file = os.open(str(order[key]), os.O_WRONLY | os.O_CREAT | os.O_TRUNC)
        os.dup2(file, number)
    nothing = os.open(os.devnull, os.O_RDONLY)
    os.dup2(nothing, 0)
    sys.stdin, sys.stdout, sys.stderr = (
        os.fdopen(n, m, encoding="utf-8") for n, m in ((0, "r"), (1, "w"), (2, "w"))
    )
    from covered import covered
    from kerfmark.cli.main import main

    try:
        with covered(str(order["test"]), str(order["cover"])):
            code = main(order["args"])  # type: ignore[arg-type]
    except SystemExit as leaving:
        code = leaving.code if isinstance(leaving.code, int) else 0 if leaving.code is None else 1
    except BaseException:
        traceback.print_exc()
        code = 70
    sys.stdout.flush()
    sys.stderr.flush()
    return code


LIBRARIES = (
    "adbc_driver_sqlite.dbapi",
    "coverage",
    "jinja2",
    "psycopg",
    "pyarrow.compute",
    "pyarrow.csv",
    "pyarrow.parquet",
    "pymysql",
    "python_calamine",
    "rapidfuzz.process",
    "rich.console",
    "rich.table",
    "rich.progress",
    "sqlalchemy.dialects.mysql",
    "sqlalchemy.dialects.postgresql",
    "sqlalchemy.dialects.sqlite",
    "tomlkit",
    "xlsxwriter",
)
"""What the program imports when it needs it."""


def warm() -> None:
    """Imports everything that a run may need. What is not installed is for the run to say."""
    import kerfmark

    for name in (
        *LIBRARIES,
        *(
            m.name
            for m in pkgutil.walk_packages(kerfmark.__path__, "kerfmark.")
            if "__main__" not in m.name
        ),
    ):
        with contextlib.suppress(ImportError):
            importlib.import_module(name)


def serve() -> None:
    """Answers until nothing is asked any more."""
    warm()
    gc.collect()
    gc.freeze()  # what is there already is not looked at, and so not copied, by the children
    for line in sys.stdin:
        process = os.fork()
        if process == 0:
            os._exit(child(json.loads(line)))
        _, status = os.waitpid(process, 0)
        sys.stdout.write(f"{os.waitstatus_to_exitcode(status)}\n")
        sys.stdout.flush()


if __name__ == "__main__":
    serve()
