"""What the name of a database says: a path, or a URL with all that is in it; where a password
may come from, and what messages may show of it."""

from __future__ import annotations

import difflib
import os
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from urllib.parse import parse_qsl, quote, unquote, urlsplit

from kerfmark.engines import Engine, by_scheme, file_engine, url_forms
from kerfmark.errors import Origin, UsageError

DATA_SETS = "kerfmark.json"
"""The file that a folder has which a cluster wrote."""
PASSWORD = "KERFMARK_PASSWORD"
"""The environment variable that may hold a password."""


@dataclass(frozen=True)
class Address:
    """What a URL says. The password is that of the URL or of KERFMARK_PASSWORD in the environment;
    where neither has one, the drivers look where the engine's own client does."""

    engine: Engine
    scheme: str
    user: str
    host: str
    port: int
    database: str
    schema: str
    password: str = field(default="", repr=False)
    options: tuple[tuple[str, str], ...] = ()

    @property
    def shown(self) -> str:
        """The URL as it is shown and kept: without a password."""
        user = f"{quote(self.user)}@" if self.user else ""
        port = "" if self.port == self.engine.port else f":{self.port}"
        host = f"[{self.host}]" if ":" in self.host else self.host
        more = [*self.options, *([("schema", self.schema)] if self.schema else [])]
        options = "&".join(
            f"{k}={quote(v, safe='/')}" for k, v in more if "pass" not in k and k != "ssl_key"
        )
        return f"{self.scheme}://{user}{host}{port}/{quote(self.database)}{'?' if options else ''}{options}"  # noqa: E501


def is_url(text: str) -> bool:
    """Whether a text names a server and not a file."""
    return "://" in text


def is_data_sets(where: str | Path) -> bool:
    """Whether a path is that of a folder that a cluster wrote."""
    return not is_url(str(where)) and (Path(where) / DATA_SETS).is_file()


def address(url: str) -> Address:
    """Takes a URL apart. Raises UsageError when it is not the URL of a server that Kerfmark
    knows."""
    how = f"name {url_forms()}"
    scheme = url.split("://")[0].lower()
    engine = by_scheme(scheme)
    if engine is None:
        raise UsageError(
            f'Kerfmark knows no database engine "{scheme}://"', code="target.url", next=how
        )
    try:
        parts = urlsplit(url)
        port = parts.port or engine.port
    except ValueError as error:
        raise UsageError(
            "this is not the URL of a database", code="target.url", why=str(error), next=how
        ) from error
    options = dict(parse_qsl(parts.query))
    schema = options.pop("schema", "")
    user, database = unquote(parts.username or ""), unquote(parts.path.lstrip("/"))
    if schema and not engine.has_schemas:
        database, schema = schema, ""
    if not database:
        raise UsageError("the URL does not name a database", code="target.url", next=how)
    _check_settings(engine, options)
    return Address(
        engine,
        scheme,
        user,
        parts.hostname or "127.0.0.1",
        port,
        database,
        schema,
        unquote(parts.password or "") or os.environ.get(PASSWORD, ""),
        tuple(options.items()),
    )


def _check_settings(engine: Engine, settings: Mapping[str, str]) -> None:
    """Raises UsageError for a setting that an engine does not take, and for one whose file is not
    there."""
    for name, value in settings.items():
        if name not in engine.settings:
            near = difflib.get_close_matches(name, engine.settings, 1)
            raise UsageError(
                f'the URL has a setting "{name}" that {engine.title} does not take',
                code="target.setting",
                next=f'did you mean "{near[0]}"?'
                if near
                else f"leave it out; the settings are {', '.join(engine.settings)}",
            )
        if name in engine.setting_files and value != "system" and not Path(value).exists():
            raise UsageError(
                f'the URL names a file in "{name}" that is not there',
                code="target.setting",
                origin=Origin(value),
                next="check the name and the folder",
            )


def with_schema(where: str, schema: str) -> str:
    """A URL that names a schema too. Raises UsageError when it is not a URL."""
    if not schema:
        return where
    if not is_url(where):
        raise UsageError(
            f"{file_engine().a_file} has no schemas",
            next="leave out --schema, or name a server by its URL",
        )
    return f"{where}{'&' if '?' in where else '?'}schema={quote(schema)}"


def database_at(where: str | Path) -> Any:
    """The database (`store.interface.Database`) that a path or a URL names. Nothing is opened yet.

    Raises UsageError for a URL of an unknown scheme.
    """
    found = address(str(where)) if is_url(str(where)) else None
    if is_data_sets(where):
        raise UsageError(
            "a folder that a cluster wrote is not changed by this command",
            code="target.folder",
            origin=Origin(str(where)),
            next="kerfmark add FILES --cluster ADDRESS --into FOLDER adds to it, kerfmark undo "
            "FOLDER takes that back\n"
            "show, draw, prove, loads and export read it",
        )
    engine = file_engine() if found is None else found.engine
    assert engine.database is not None
    return engine.database(Path(where) if found is None else found)
