"""SQLite: databases in a file."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from kerfmark.engines import Engine, SourceConnection

if TYPE_CHECKING:
    from kerfmark.store.interface import Database
    from kerfmark.store.script_style import ScriptStyle


MAGIC = b"SQLite format 3\x00"
"""How a database begins."""


def _database(path: Path) -> Database:
    from kerfmark.store.sqlite.database import SqliteFile

    return SqliteFile(path)


def _source(path: Path) -> SourceConnection:
    def tolerate_bad_text(connection: object) -> None:
        connection.text_factory = lambda b: b.decode("utf-8", "replace")  # type: ignore[attr-defined]

    return SourceConnection(
        f"sqlite:///file:{path.resolve().as_posix()}?mode=ro&uri=true", on_connect=tolerate_bad_text
    )


def _script() -> ScriptStyle:
    from kerfmark.store.script_style import ScriptStyle, pieced_texts
    from kerfmark.store.sqlite.dialect import LEDGER, dialect

    return ScriptStyle(
        dialect,
        ("BEGIN",),
        ("COMMIT",),
        text=lambda texts: pieced_texts(texts, "'", " || ", {"\r": "char(13)"}),
        ledger=LEDGER,
        in_folder=True,
    )


ENGINES = (
    Engine(
        "sqlite",
        "SQLite",
        order=4,
        file_endings=frozenset({".db", ".sqlite", ".sqlite3"}),
        file_magic=MAGIC,
        a_file="an SQLite file",
        database=_database,
        source=_source,
        script=_script,
        run_script="sqlite3 {database} < {script}",
        query="sqlite3 {database} {sql}",
        kept_tables=("sqlite_",),
        kept_columns=("rowid", "_rowid_", "oid"),
    ),
)
