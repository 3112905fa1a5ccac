"""Writing what a person asked for into a file of its own: never over another one unasked, and whole or not at all."""

from __future__ import annotations

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
    """Writes a text into a file, whole or not at all."""
    from kerfmark.verbs.sources import saving

    with saving({path: text}):
        pass
