"""MySQL and MariaDB: a database on a server."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from typing import TYPE_CHECKING

from kerfmark.errors import TargetError
from kerfmark.store.mysql.connection import connected
from kerfmark.store.server import Server

if TYPE_CHECKING:
    from kerfmark.layout.model import Layout
    from kerfmark.store.mysql.changing import MysqlChanging
    from kerfmark.store.mysql.new import NewTables
    from kerfmark.store.mysql.reader import MysqlReader


class MysqlServer(Server):
    """A database on a MySQL or MariaDB server (see `interface.Database`)."""

    def new(self, replace: bool) -> NewTables:
        """Tables to build."""
        from kerfmark.store.mysql.new import NewTables

        return NewTables(self.where, replace)

    @contextlib.contextmanager
    def reading(self) -> Iterator[MysqlReader]:
        """Looks into it, as it is at one moment."""
        from kerfmark.store.mysql.pending import complete
        from kerfmark.store.mysql.reader import MysqlReader

        connection = connected(self.where, only_reading=True)
        try:
            reader = MysqlReader(self.name, connection)
            with contextlib.suppress(TargetError):  # whoever may only read leaves it as it is
                complete(reader)
            reader.execute("START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY")
            yield reader
        finally:
            with contextlib.suppress(Exception):
                connection.close()

    def changing(self, adopt: Layout | None = None) -> MysqlChanging:
        """Opens it."""
        from kerfmark.store.mysql.changing import MysqlChanging

        return MysqlChanging(self.where, adopt)
