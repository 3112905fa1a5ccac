"""An SQLite file that another one takes the place of, under the engine's own lock."""

from __future__ import annotations

import contextlib
import os
import sqlite3
from pathlib import Path

from kerfmark.errors import Origin, TargetError
from kerfmark.store.interface import PATIENCE
from kerfmark.store.sqlite.connection import translated

_HEADER = 16
"""Bytes by which SQLite knows its files."""


def identity(path: Path) -> tuple[int, int]:
    """What tells a file from another one of the same name."""
    found = path.stat()
    return found.st_dev, found.st_ino


class OldFile:
    """A database that is to be replaced: from here on, what others commit in it is noticed."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._db: sqlite3.Connection | None = None
        with translated(path):
            self._db = sqlite3.connect(path, timeout=PATIENCE, isolation_level=None)
            self._version = self._data_version()

    def _data_version(self) -> object:
        """What changes with every commit of another connection; None for a damaged file."""
        assert self._db is not None
        with contextlib.suppress(sqlite3.DatabaseError):
            return self._db.execute("PRAGMA data_version").fetchone()
        return None

    def close(self) -> None:
        """Lets go of it. May be called again."""
        if self._db is not None:
            self._db.close()
        self._db = None

    def give_way_to(self, new: Path) -> None:
        """Renames another file over it, once nobody reads or writes it any more. Whoever has it
        open, and would write on into a file without a name, is told by the engine that it is no
        database any longer.

        Raises TargetError where it stays locked, or was changed since it was opened here.
        """
        assert self._db is not None
        handle = os.open(self.path, os.O_RDWR)
        try:
            with translated(self.path):
                if self._version is not None:  # else it is damaged, and nobody's
                    self._lock()
                if self._data_version() != self._version or identity(self.path) != (
                    os.fstat(handle).st_dev,
                    os.fstat(handle).st_ino,
                ):
                    raise TargetError(
                        "another program has changed the database meanwhile; it was not replaced",
                        code="target.changed",
                        origin=Origin(str(self.path)),
                        next="run the command again",
                    )
                new.replace(self.path)
                os.pwrite(handle, bytes(_HEADER), 0)
        finally:
            self.close()
            os.close(handle)

    def _lock(self) -> None:
        """Waits until nobody reads or writes."""
        assert self._db is not None
        [mode] = self._db.execute("PRAGMA journal_mode").fetchone()
        if mode == "wal":
            [mode] = self._db.execute("PRAGMA journal_mode = DELETE").fetchone()
            if mode == "wal":
                raise sqlite3.OperationalError("database is locked")
        self._db.execute("BEGIN EXCLUSIVE")
