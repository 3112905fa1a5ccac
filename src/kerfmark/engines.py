"""The database engines that Kerfmark knows: one record each, which every other room reads.

An engine is a package under `kerfmark/store` with a module `engine`, whose `ENGINES` are its
records; nothing outside that package names it. The records load no driver: whatever needs one is a
function that imports it when it is called.
"""

from __future__ import annotations

import functools
import importlib
import pkgutil
import shlex
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from typing import Any

from kerfmark.errors import UsageError

ENGINE_PACKAGES = "kerfmark.store"
"""The package whose sub-packages are engines."""


@dataclass(frozen=True)
class SourceConnection:
    """How tables of a database are read as sources: a URL for SQLAlchemy, arguments of its
    `create_engine`, and what is done with each new connection of the driver."""

    url: str
    arguments: dict[str, Any] = field(default_factory=dict)
    on_connect: Callable[[Any], None] | None = None


@dataclass(frozen=True)
class Engine:
    """An engine: its `name` on the command line and its `title` in sentences.

    A server has URL `schemes`, a `port`, and an `extra` (the optional dependency that brings its
    driver); `has_schemas`: a database of it has schemas of its own, else a schema is a database. An
    engine of files has `file_endings` and `file_magic`, the first bytes of such a file, which is
    `a_file` in sentences. `order` is its place in lists.

    `database` opens a place (an `Address` or a `Path`) as a `store.interface.Database`; `source`
    tells how its tables are read as sources; `script` gives a `store.script_style.ScriptStyle`;
    `parts` is for rows that other machines bring (`store.interface.Parts`: a place, and what tells
    one run from others).
    Where one is None, the engine cannot do it. `run_script` is the command of its own client that
    runs a script, `query` one that runs a query ({database}, {script}, {sql}). No table of a user
    may begin with one of `kept_tables`, and no column be called as one of `kept_columns`, which
    every table has whether it declares them or not. `settings` are those that a URL may have behind
    its `?`, of which `setting_files` name files.
    """

    name: str
    title: str
    order: int
    schemes: tuple[str, ...] = ()
    port: int = 0
    extra: str = ""
    has_schemas: bool = False
    file_endings: frozenset[str] = frozenset()
    file_magic: bytes = b""
    a_file: str = ""
    database: Callable[[Any], Any] | None = None
    source: Callable[[Any], SourceConnection] | None = None
    script: Callable[[], Any] | None = None
    parts: Callable[[Any, str], Any] | None = None
    run_script: str = ""
    query: str = ""
    kept_tables: tuple[str, ...] = ()
    kept_columns: tuple[str, ...] = ()
    settings: tuple[str, ...] = ()
    setting_files: tuple[str, ...] = ()

    def script_command(self, script: str, database: str) -> str:
        """The command of its own client that runs a script."""
        return self.run_script.format(script=shlex.quote(script), database=shlex.quote(database))

    def query_command(self, database: str, sql: str) -> str:
        """The command of its own client that runs a query."""
        return self.query.format(database=shlex.quote(database), sql=shlex.quote(sql))

    @property
    def example(self) -> str:
        """A URL of such a server, to be filled in."""
        return f"{self.schemes[0]}://USER@HOST/DATABASE"


@functools.cache
def engines() -> tuple[Engine, ...]:
    """All engines, in the order in which they are listed."""
    package = importlib.import_module(ENGINE_PACKAGES)
    found: list[Engine] = []
    for module in pkgutil.iter_modules(package.__path__):
        if module.ispkg:
            found += importlib.import_module(f"{ENGINE_PACKAGES}.{module.name}.engine").ENGINES
    return tuple(sorted(found, key=lambda e: e.order))


@functools.cache
def kept_tables() -> tuple[str, ...]:
    """How the tables begin that engines keep for themselves."""
    return tuple(begin for e in engines() for begin in e.kept_tables)


@functools.cache
def kept_columns() -> frozenset[str]:
    """Columns that tables of some engine have whether they declare them or not."""
    return frozenset(column for e in engines() for column in e.kept_columns)


def servers() -> list[Engine]:
    """The engines that are reached by a URL."""
    return [e for e in engines() if e.schemes]


def file_engine() -> Engine:
    """The engine whose databases are files."""
    return next(e for e in engines() if e.file_endings)


def scripted() -> list[Engine]:
    """The engines that scripts can be written for."""
    return [e for e in engines() if e.script is not None]


def by_scheme(scheme: str) -> Engine | None:
    """The engine of a URL's scheme."""
    return next((e for e in engines() if scheme.lower() in e.schemes), None)


def script_engine(name: str) -> Engine:
    """The engine of that name that scripts can be written for. Raises UsageError when there is
    none."""
    found = next((e for e in scripted() if e.name == name), None)
    if found is None:
        raise UsageError(f'there are no scripts for "{name}"', next=f"name one of {script_names()}")
    return found


def url_forms() -> str:
    """How the URL of a server is written, for messages."""
    return listed(e.example for e in servers() if e.schemes[0] == e.name and e.extra == e.name)


def example_url() -> str:
    """The URL of a database, for examples."""
    return f"{servers()[0].schemes[0]}://me@db.example/club"


def script_names() -> str:
    """The engines that scripts can be written for, in a sentence."""
    return listed(e.name for e in scripted())


def drivers() -> str:
    """What to install for a server, for messages."""
    extras = dict.fromkeys(e.extra for e in servers())
    return listed(f"pip install 'kerfmark[{e}]'" for e in extras) + " installs the driver"


def listed(names: Iterable[str], last: str = "or") -> str:
    """Several names in a sentence: `a, b or c`."""
    *some, final = names
    return f"{', '.join(some)} {last} {final}" if some else final
