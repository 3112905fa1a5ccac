"""SQLite: the database of a path."""

from __future__ import annotations

import contextlib
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from kerfmark.store.sqlite.connection import copy_database, existing_database, is_database
from kerfmark.store.sqlite.reader import SqliteReader, reading

if TYPE_CHECKING:
    from kerfmark.layout.model import Layout
    from kerfmark.store.sqlite.changing import OpenFile
    from kerfmark.store.sqlite.new import NewFile


@dataclass(frozen=True)
class SqliteFile:
    """The database of a path (see `interface.Database`)."""

    path: Path

    @property
    def name(self) -> str:
        """The path."""
        return str(self.path)

    @property
    def folder(self) -> Path:
        """Files are named as seen from the folder of the database, so that both can be moved
        together."""
        return self.path.parent

    @property
    def layout_path(self) -> Path:
        """Beside the database."""
        return self.path.with_name(self.path.stem + ".layout.toml")

    replaced_whole = True

    def exists(self) -> bool:
        """Whether an SQLite database is there."""
        return self.path.is_file() and is_database(self.path)

    def new(self, replace: bool) -> NewFile:
        """A file to build."""
        from kerfmark.store.sqlite.new import NewFile

        return NewFile(self.path, replace=replace)

    def reading(self) -> contextlib.AbstractContextManager[SqliteReader]:
        """Looks into the file."""
        return reading(self.path)

    def changing(self, adopt: Layout | None = None) -> OpenFile:
        """Opens the file."""
        from kerfmark.store.sqlite.changing import OpenFile

        return OpenFile(existing_database(self.path), adopt is not None)

    def copy(self, to: Path) -> None:
        """Copies the file."""
        copy_database(existing_database(self.path), to)

    def size(self) -> int:
        """The bytes of the file."""
        return self.path.stat().st_size
