"""kerfmark demo"""

from __future__ import annotations

import argparse
import shlex
from pathlib import Path

from kerfmark.cli.terminal import FAINT, Terminal
from kerfmark.cli.terminal import NAME as BOLD
from kerfmark.engines import file_engine
from kerfmark.errors import counted

NAME = "demo"
SUMMARY = "the whole story on made-up data"
ABOUT = """\
Writes the demo data of a made-up beekeepers' association into a folder and runs the story on it.

  kerfmark demo
  kerfmark demo somewhere/else
"""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Declares what the command takes."""
    parser.add_argument(
        "folder",
        nargs="?",
        default="kerfmark-demo",
        metavar="FOLDER",
        help="default: kerfmark-demo",
    )


def run(args: argparse.Namespace, terminal: Terminal) -> int:
    """Runs the command."""
    from kerfmark.demo import write_demo

    folder, of_files = Path(args.folder), file_engine()
    files = write_demo(folder)
    terminal.say(
        f"wrote {counted(len(files), 'file')} of a beekeepers' association that does not exist "
        "into ",
        (str(folder), BOLD),
    )
    database = str(folder / "apiary.db")
    story = [
        ["measure", str(folder / "inspections-2025.csv"), "--rows", "2"],
        ["mark", str(folder / "register.xlsx"), str(folder / "inspections-2025.csv")],
        ["cut", str(folder / "inspections-2025.csv"), "--into", database, "--replace", "--discard"],
        ["show", database, "--rows", "2"],
        ["prove", database],
        ["cut", str(folder / "harvest-2025.csv"), "--into", database, "--beside"],
        ["add", str(folder / "inspections-2026-01.csv"), "--into", database],
        ["add", str(folder / "inspections-2026-04.csv"), "--into", database, "--rehearse"],
        ["loads", database],
        ["undo", database],
    ]
    extra = [f"--{k}" for k in ("json", "quiet", "verbose") if getattr(args, k)]
    for command in story:
        terminal.say()
        terminal.say(("$ ", FAINT), ("kerfmark " + shlex.join(command), BOLD))
        code: int = args.program([*command, *extra])
        if code and "--rehearse" not in command:  # that one is to show what is refused
            return code
    terminal.say()
    terminal.say("Try next:")
    for line in (
        f"kerfmark check {shlex.quote(str(folder / 'apiary.layout.toml'))} "
        f"{shlex.quote(str(folder / 'inspections-2026-05.csv'))}",
        f"kerfmark add {shlex.quote(str(folder))}/inspections-2026-05.csv --into "
        f"{shlex.quote(database)} --set-aside "
        f"{shlex.quote(str(folder / 'to-correct.csv'))}",
        f"kerfmark show {shlex.quote(database)} hive --rows 10",
        f"{of_files.query_command(database, 'SELECT * FROM inspections_flat LIMIT 3')}   (or any "
        "other program)",
        "kerfmark cut "
        + shlex.join(str(folder / n) for n in ("register.xlsx", "inspections-2025.csv"))
        + f" --into {shlex.quote(str(folder / 'both.db'))}   (files that belong together)",
        f"{of_files.script_command(str(folder / 'club.sql'), str(folder / 'club.db'))}; "
        f"kerfmark mark {shlex.quote(str(folder / 'inspections-2025.csv'))} --onto "
        f"{shlex.quote(str(folder / 'club.db'))}"
        "   (tables that are there)",
        f"kerfmark export {shlex.quote(database)} -o {shlex.quote(str(folder / 'tables'))}   (and "
        "everything out again)",
        f"edit {folder / 'apiary.layout.toml'}, then kerfmark cut it --into another database",
    ):
        terminal.say("  ", line)
    return 0
