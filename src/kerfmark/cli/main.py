"""The program: reads the command line, runs one command, and turns what happened into an exit
code."""

from __future__ import annotations

import argparse
import contextlib
import difflib
import errno
import os
import re
import signal
import sys
import warnings
from collections.abc import Sequence
from pathlib import Path
from typing import NoReturn

from kerfmark import __version__
from kerfmark.address import PASSWORD
from kerfmark.cli import (
    add,
    check,
    cut,
    database,
    demo,
    draw,
    drop,
    export,
    loads,
    mark,
    measure,
    prove,
    reading,
    recut,
    refresh,
    show,
    trace,
    undo,
)
from kerfmark.cli.terminal import Terminal
from kerfmark.engines import url_forms
from kerfmark.errors import DataRefused, KerfmarkError, Origin, TargetError
from kerfmark.memory import half, limited
from kerfmark.visible import visible

# For libraries that are loaded later. Nothing here multiplies matrices, and the threads for it wait
# busily; and what one batch
# gave back serves the next one, unless it is given back to the system at once. Nothing is plugged
# into the models of layouts.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
os.environ.setdefault("MIMALLOC_PURGE_DELAY", "1000")
os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")

DONE, REFUSED, WRONG_USE, INTERRUPTED = 0, 1, 2, 130

_ABOUT = """\
Turns flat files into several linked tables of a real database, and proves that nothing was lost.
"""
_GROUPS = (
    ("look before you load", (measure, mark, check)),
    ("build", (cut, add, recut)),
    ("look", (show, draw, prove)),
    ("look back", (loads, undo, refresh, trace)),
    ("take it out again", (export, drop)),
    ("begin", (demo,)),
)
"""The commands in the order of the work."""
_LARGE = (measure, mark, check, cut, add, recut, prove, undo, refresh, drop)
"""The commands that read whole sources."""
_WRITING = ("cut", "add", "recut", "undo", "refresh", "export", "drop")
"""The commands that have written all that they write when their work ends, and then only tell of
it."""
_MORE = f"""
  kerfmark demo                                    the whole story on made-up data
  kerfmark measure inspections-2025.csv
  kerfmark cut inspections-2025.csv --into apiary.db
  kerfmark add inspections-2026-01.csv --into apiary.db

kerfmark COMMAND --help tells more, with examples. A database is the path of {database.A_FILE}, or the URL of one on a server:
{url_forms()}.
"""  # noqa: E501
_EXITS = """\
exit codes: 0 done; 1 refused because of the data, nothing written; 2 wrong usage or unreadable input, nothing written;
3 done, with rows set aside; 130 interrupted, nothing written
"""  # noqa: E501


_NO_ROOM = {
    getattr(errno, name)
    for name in ("ENOSPC", "EFBIG", "EDQUOT", "EROFS", "EIO")
    if hasattr(errno, name)
}
"""What the system says where there is no room to write, or none may be used."""


class _Parser(argparse.ArgumentParser):
    """Tells what is wrong with the words of a command in a line, shown so that nothing in them is
    obeyed, with what was probably meant."""

    def error(self, message: str) -> NoReturn:
        near = []
        if (wrong := message.removeprefix("unrecognized arguments: ")) != message:
            message = f"{self.prog} does not take {wrong}"
            known = [o for o in self._option_string_actions if o.startswith("--")]
            near = difflib.get_close_matches(wrong.split(" ")[0].split("=")[0], known, 1)
        if choice := re.search(r"invalid choice: '(.*?)' \(choose from (.*)\)$", message):
            near = difflib.get_close_matches(choice[1], re.findall(r"'(.*?)'", choice[2]), 1)
        meant = f"did you mean {near[0]}? " if near else ""
        told = f"error: {message}\nnext: {meant}{self.prog} --help tells what it takes\n"
        self.exit(WRONG_USE, "\n".join(map(visible, told.split("\n"))))


def parser(words: Sequence[str] | None = None) -> argparse.ArgumentParser:
    """The command line. Where its `words` are known, only the commands among them get their
    options: that of all takes as long as a small file."""
    plain = argparse.RawDescriptionHelpFormatter
    listed = "".join(
        f"\n{title}:\n" + "".join(f"  {m.NAME:<9} {m.SUMMARY}\n" for m in modules)
        for title, modules in _GROUPS
    )
    top = _Parser(
        prog="kerfmark",
        description=_ABOUT + listed + _MORE,
        epilog=_EXITS,
        formatter_class=plain,
        allow_abbrev=False,
    )
    top.add_argument("--version", action="version", version=f"kerfmark {__version__}")
    common = _Parser(add_help=False)
    talk = common.add_argument_group("output")
    talk.add_argument(
        "--json", action="store_true", help="the result as one JSON document on standard output"
    )
    talk.add_argument(
        "--quiet", action="store_true", help="nothing but errors and what is shown or rehearsed"
    )
    talk.add_argument(
        "--verbose", action="store_true", help="each step and when it started, on standard error"
    )
    large = _Parser(add_help=False)
    large.add_argument(
        "--memory",
        metavar="SIZE",
        help="the most memory to take, such as 1GB (usual: half of the "
        "machine's); what does not fit is kept in files in TMPDIR or /var/tmp",
    )
    commands = top.add_subparsers(
        dest="command", metavar="COMMAND", required=True, help=argparse.SUPPRESS
    )
    for module in (m for _, modules in _GROUPS for m in modules):
        one = commands.add_parser(
            module.NAME,
            description=module.ABOUT,
            formatter_class=plain,
            parents=[large, common] if module in _LARGE else [common],
            allow_abbrev=False,
        )
        if words is None or module.NAME in words:
            module.arguments(one)
        one.set_defaults(run=module.run, program=main)  # the demo runs the other commands
    return top


def _parsed(whole: argparse.ArgumentParser, words: Sequence[str]) -> argparse.Namespace:
    """The command line. Options may be anywhere: files before and after them are all files."""
    args, rest = whole.parse_known_args(words)
    if not rest:
        return args
    commands = next(a for a in whole._actions if isinstance(a, argparse._SubParsersAction))
    at = words.index(args.command)
    mixed = argparse.Namespace(command=args.command)
    parser_: argparse.ArgumentParser = commands.choices[args.command]
    return parser_.parse_intermixed_args(words[at + 1 :], mixed)


def main(argv: Sequence[str] | None = None) -> int:
    """Runs one command and returns its exit code."""
    terminal = Terminal()
    if not sys.warnoptions:  # those of libraries are for developers
        warnings.simplefilter("ignore")
    try:
        if "_ARGCOMPLETE" in os.environ:  # the shell asks what could follow
            from kerfmark.cli.completion import complete

            complete(parser())
        words = list(sys.argv[1:] if argv is None else argv)
        args = _parsed(parser(words), words)
        mute = args.quiet and args.command in _WRITING and not getattr(args, "rehearse", False)
        terminal = Terminal(quiet=args.quiet, verbose=args.verbose, as_json=args.json, mute=mute)
        with _within_memory(args):
            code: int = args.run(args, terminal)
        sys.stdout.flush()
        return code
    except KerfmarkError as error:
        if _asked_for_password(error):
            return main(argv)
        return _fail(error, terminal)
    except KeyboardInterrupt:
        if terminal.working is not None and terminal.working.succeeded and args.command in _WRITING:
            terminal.fail("interrupted while telling what was done; it stays done")
            return DONE
        terminal.fail("interrupted; nothing was written")
        return INTERRUPTED
    except BrokenPipeError:  # the reader of our output left
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return DONE
    except RecursionError:
        if os.environ.get("KERFMARK_TRACEBACK"):
            raise
        terminal.fail(
            "something in the input is nested too deeply; nothing was written\n"
            "next: write it with fewer levels"
        )
        return WRONG_USE
    except MemoryError:
        terminal.fail("there is not enough memory for this; nothing was written")
        return WRONG_USE
    except Exception as error:
        if os.environ.get("KERFMARK_TRACEBACK"):
            raise
        if isinstance(error, OSError) and isinstance(error.filename, str):
            return _fail(_refused_by_the_system(error), terminal)
        if isinstance(error, OSError) and error.errno in _NO_ROOM:
            terminal.fail(
                f"the disk is full, or it failed: {error.strerror}; nothing was written\n"
                "next: make room and run the command again"
            )
            return WRONG_USE
        terminal.fail(
            f"Kerfmark failed: {type(error).__name__}: {error}\n"
            "why:  this is a fault of the program, not of your data; nothing was written\n"
            "next: please report it, with what KERFMARK_TRACEBACK=1 makes the same command say"
        )
        return WRONG_USE


def _fail(error: KerfmarkError, terminal: Terminal) -> int:
    """Tells an error; the exit code."""
    if terminal.as_json:
        terminal.result({"error": error.to_dict()})
    else:
        terminal.fail(str(error))
    return REFUSED if isinstance(error, DataRefused) else WRONG_USE


def _refused_by_the_system(error: OSError) -> TargetError:
    """The error for a file or folder that the system does not let us use."""
    return TargetError(
        "the system does not allow this file or folder to be used",
        code="target.system",
        origin=Origin(Path(error.filename).name),
        why=str(error.strerror or error),
        next="look at its name, its permissions and the disk",
    )


def _within_memory(args: argparse.Namespace) -> contextlib.AbstractContextManager[None]:
    """The limit of memory that was said, or half of the machine's; none for commands that take
    little."""
    if "memory" not in args:
        return contextlib.nullcontext()
    limit = half() or None if args.memory is None else reading.size(args.memory)
    return contextlib.nullcontext() if limit is None else limited(limit)


def run() -> NoReturn:
    """The program. What is done is done: an interrupt while it ends changes nothing, so it is not
    heard any more, and the interpreter need not take itself apart, which takes a tenth of a
    second."""
    for name in ("stdout", "stderr"):  # one that was closed takes what is said all the same
        if getattr(sys, name) is None:
            setattr(sys, name, open(os.devnull, "w", encoding="utf-8"))  # noqa: SIM115, PTH123  (until the end)
    code = main()
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    with contextlib.suppress(OSError):  # the reader of our output left
        sys.stdout.flush()
        sys.stderr.flush()
    os._exit(code)


def _asked_for_password(error: KerfmarkError) -> bool:
    """Whether a password was missing, and a person at the terminal has given one."""
    if (
        not error.code.endswith(".password")
        or os.environ.get(PASSWORD)
        or not (sys.stdin.isatty() and sys.stderr.isatty())
    ):
        return False
    from getpass import getpass

    os.environ[PASSWORD] = getpass(f"password for {error.origin}: ", sys.stderr)
    return bool(os.environ[PASSWORD])


if __name__ == "__main__":
    run()
