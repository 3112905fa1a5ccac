"""Files beside the database are written whole or not at all, and over nothing unasked."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator, Mapping
from pathlib import Path

from kerfmark.errors import Origin, TargetError
from kerfmark.store.sqlite.files import translated


def writable(path: Path, replace: bool, why: str = "nothing is overwritten unasked") -> None:
    """Raises TargetError when a file cannot be written, before the work is done."""
    if path.exists() and not replace:
        raise TargetError("the file exists already", code="target.exists", origin=Origin(str(path)), why=why,
                          next="name another file, or say --replace")
    if not path.parent.is_dir():
        raise TargetError("the folder for the file does not exist", code="target.no-folder", origin=Origin(str(path)),
                          next=f"make the folder {path.parent} first")


@contextlib.contextmanager
def saving(files: Mapping[Path, str | bytes]) -> Iterator[None]:
    """Writes files beside their places first, and into their places once what is done meanwhile has succeeded."""
    parts = {path: path.with_name(f".{path.name}.{os.getpid()}.part") for path in files}
    try:
        for path, content in files.items():
            with translated(path):
                parts[path].write_bytes(content.encode() if isinstance(content, str) else content)
        yield
        for path, part in parts.items():
            part.replace(path)
    finally:
        for part in parts.values():
            part.unlink(missing_ok=True)
