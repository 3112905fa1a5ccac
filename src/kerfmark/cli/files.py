"""Writing what a person asked for into a file of its own: never over another one unasked, and whole or not at all."""

from __future__ import annotations

import os
from pathlib import Path

from kerfmark.errors import Origin, TargetError


def writable(path: Path, replace: bool) -> None:
    """Raises TargetError when a file cannot be written, before the work is done."""
    if path.exists() and not replace:
        raise TargetError("the file exists already", code="target.exists", origin=Origin(str(path)),
                          why="nothing is overwritten unasked", next="name another file, or say --replace")
    if not path.parent.is_dir():
        raise TargetError("the folder for the file does not exist", code="target.no-folder", origin=Origin(str(path)),
                          next=f"make the folder {path.parent} first")


def write_text(path: Path, text: str) -> None:
    """Writes a text beside its place first, then into it."""
    part = path.with_name(f".{path.name}.{os.getpid()}.part")
    try:
        part.write_text(text, encoding="utf-8")
        part.replace(path)
    except OSError as error:
        raise TargetError("the file cannot be written", code="target.unwritable", origin=Origin(str(path)),
                          why=str(error.strerror)) from error
    finally:
        part.unlink(missing_ok=True)
