"""Which database a command means that only reads. A module of its own, so that it loads nothing
that looking into a small database does not need."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from kerfmark.address import database_at, is_data_sets

if TYPE_CHECKING:
    from kerfmark.store.interface import Database


def database_to_read(where: str | Path) -> Database:
    """The database that a path or a URL names, for those who change nothing in it: also a folder
    that a cluster wrote. Raises UsageError for a URL of an unknown scheme."""
    if is_data_sets(where):
        from kerfmark.verbs.folder_database import FolderDatabase

        folder: Database = FolderDatabase(Path(where))
        return folder
    found: Database = database_at(where)
    return found
