"""What a file format is: which files have it, and how their sources are opened."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from kerfmark.errors import Origin, SourceError
from kerfmark.read.source import Reading, Source


@dataclass(frozen=True)
class Format:
    """A file format, known by the `endings` of names and, where these may be those of others, by
    the first bytes (`magic`).

    `open` finds the sources in a file; `reopen` gives the one source that a layout describes, under
    its name: what the `Reading` leaves unsaid is then what is usual, not what is found. Both raise
    SourceError for a file that cannot be read.
    """

    endings: frozenset[str]
    open: Callable[[Path, Reading], Sequence[Source]]
    reopen: Callable[[Path, str, Reading], Source]
    magic: bytes = b""

    def has(self, path: Path) -> bool:
        """Whether a file is taken for one of this format."""
        return path.suffix.lower() in self.endings and (
            not self.magic or _starts_with(path, self.magic)
        )


def check_path(path: Path) -> None:
    """Raises SourceError when there is no such file."""
    origin = Origin(str(path))
    if not path.exists():
        raise SourceError(
            "there is no such file",
            code="source.missing",
            origin=origin,
            next="check the name and the folder",
        )
    if path.is_dir():
        raise SourceError(
            "this is a folder, not a file",
            code="source.folder",
            origin=origin,
            next="name the files in it that you mean",
        )


def _starts_with(path: Path, magic: bytes) -> bool:
    try:
        with path.open("rb") as file:
            return file.read(len(magic)) == magic
    except OSError:
        return False
