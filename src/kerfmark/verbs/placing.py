"""Files and folders that come to their places whole: written beside them first, and moved when all is done."""

from __future__ import annotations

import contextlib
import os
import shutil
from collections.abc import Iterator
from pathlib import Path

from kerfmark.errors import Origin, TargetError
from kerfmark.verbs.saving import writable


@contextlib.contextmanager
def placing(target: Path, *, folder: bool, replace: bool) -> Iterator[Path]:
    """Where to write a file, or the files of a folder. What was there stays until the context ends without an error; files of a
    folder that are not written anew stay then too.

    Raises TargetError when something is there (unless `replace`) or nothing can be written.
    """
    if folder:
        if target.exists() and not target.is_dir():
            raise TargetError("this is a file, not a folder", code="target.exists", origin=Origin(str(target)),
                              next="name another folder")
        if target.is_dir() and any(target.iterdir()) and not replace:
            raise TargetError("the folder is not empty", code="target.exists", origin=Origin(str(target)),
                              why="nothing is overwritten unasked", next="name another folder, or say --replace")
    elif target.is_dir():
        raise TargetError("this is a folder", code="target.folder", origin=Origin(str(target)),
                          next=f"name a file in it, such as {target / 'tables.xlsx'}")
    else:
        writable(target, replace)
    if not target.absolute().parent.is_dir():
        raise TargetError("the folder for it does not exist", code="target.no-folder", origin=Origin(str(target)),
                          next=f"make the folder {target.parent} first")
    part = target.absolute().with_name(f".{target.name}.{os.getpid()}.part")
    try:
        with _told(target):
            if folder:
                part.mkdir()
            yield part
            _move(part, target, folder)
    finally:
        if part.is_dir():
            shutil.rmtree(part, ignore_errors=True)
        part.unlink(missing_ok=True)


def _move(part: Path, target: Path, folder: bool) -> None:
    if not folder or not target.exists():
        part.replace(target)
        return
    for file in sorted(part.iterdir()):
        file.replace(target / file.name)


@contextlib.contextmanager
def _told(target: Path) -> Iterator[None]:
    """Turns what the system says into our words."""
    try:
        yield
    except OSError as error:
        full = error.errno is not None and os.strerror(error.errno).lower().startswith("no space")
        raise TargetError("the disk is full" if full else "it cannot be written there", code="target.unwritable",
                          origin=Origin(str(target)), why=str(error.strerror or error),
                          next="make room and run the command again" if full else "") from error
