"""Files and folders that are written whole or not at all, and over nothing unasked: written beside
their places first, and moved when all is done."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator, Mapping
from dataclasses import replace as replaced
from pathlib import Path

from kerfmark.errors import NO_PLACE, KerfmarkError, Origin, TargetError
from kerfmark.leftovers import part_path, remove, sweep


def require_writable(
    path: Path, replace: bool, why: str = "nothing is overwritten unasked"
) -> None:
    """Raises TargetError when a file cannot be written, before the work is done."""
    if path.exists() and not replace:
        raise TargetError(
            "the file exists already",
            code="target.exists",
            origin=Origin(str(path)),
            why=why,
            next="name another file, or use --replace",
        )
    if not path.parent.is_dir():
        raise TargetError(
            "the folder for the file does not exist",
            code="target.no-folder",
            origin=Origin(str(path)),
            next=f"make the folder {path.parent} first",
        )


@contextlib.contextmanager
def write_atomically(files: Mapping[Path, str | bytes]) -> Iterator[None]:
    """Writes files beside their places first, and into their places once what is done meanwhile has
    succeeded."""
    parts = {path: part_path(path) for path in files}
    try:
        for path, content in files.items():
            sweep(path)
            with _told(path):
                parts[path].write_bytes(content.encode() if isinstance(content, str) else content)
        yield
        for path, part in parts.items():
            part.replace(path)
    finally:
        for part in parts.values():
            remove(part)


@contextlib.contextmanager
def atomic_target(target: Path, *, folder: bool, replace: bool) -> Iterator[Path]:
    """Where to write a file, or the files of a folder. What was there stays until the context ends
    without an error; files of a folder that are not written anew stay then too.

    Raises TargetError when something is there (unless `replace`) or nothing can be written.
    """
    if folder:
        if target.exists() and not target.is_dir():
            raise TargetError(
                "this is a file, not a folder",
                code="target.exists",
                origin=Origin(str(target)),
                next="name another folder",
            )
        if target.is_dir() and any(target.iterdir()) and not replace:
            raise TargetError(
                "the folder is not empty",
                code="target.exists",
                origin=Origin(str(target)),
                why="nothing is overwritten unasked",
                next="name another folder, or use --replace",
            )
    else:
        require_writable(target, replace)
    if not target.absolute().parent.is_dir():
        raise TargetError(
            "the folder for it does not exist",
            code="target.no-folder",
            origin=Origin(str(target)),
            next=f"make the folder {target.parent} first",
        )
    part = part_path(target.absolute())
    sweep(target)
    try:
        with _told(target):
            if folder:
                part.mkdir()
            yield part
            _move(part, target, folder)
    finally:
        remove(part)


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
    except KerfmarkError as error:
        if error.origin is not None and Path(error.origin.file).name == part_path(target).name:
            error.origin = replaced(error.origin, file=str(target))
        raise
    except OSError as error:
        full = error.errno is not None and os.strerror(error.errno).lower().startswith("no space")
        raise TargetError(
            "the disk is full" if full else "it cannot be written there",
            code="target.unwritable",
            origin=Origin(str(target)),
            why=str(error.strerror or error),
            next="make room and run the command again" if full else NO_PLACE,
        ) from error
