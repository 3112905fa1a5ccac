"""Servers by URL: what a URL says, where a password may come from, and what messages may show of it."""

from __future__ import annotations

import os
from dataclasses import dataclass, field
from pathlib import Path
from urllib.parse import parse_qsl, quote, unquote, urlsplit

from kerfmark.errors import UsageError

ENGINES = {"postgresql": "postgresql", "postgres": "postgresql", "mysql": "mysql", "mariadb": "mysql"}
"""The schemes of URLs, and the engine that each means."""
PORTS = {"postgresql": 5432, "mysql": 3306}
PASSWORD = "KERFMARK_PASSWORD"
"""The variable of the environment that may hold a password."""


@dataclass(frozen=True)
class Address:
    """What a URL says. The password is that of the URL, or of the environment (KERFMARK_PASSWORD); where both say nothing, the
    drivers look into PGPASSWORD, the client's own password file, or MYSQL_PWD and the client's own option file."""

    engine: str
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
        port = "" if self.port == PORTS[self.engine] else f":{self.port}"
        host = f"[{self.host}]" if ":" in self.host else self.host
        more = [*self.options, *([("schema", self.schema)] if self.schema else [])]
        said = "&".join(f"{k}={quote(v, safe='/')}" for k, v in more if "pass" not in k and k != "ssl_key")
        return f"{self.scheme}://{user}{host}{port}/{quote(self.database)}{'?' if said else ''}{said}"


def is_url(text: str) -> bool:
    """Whether a text names a server and not a file."""
    return "://" in text


def address(url: str) -> Address:
    """Takes a URL apart. Raises UsageError when it is none of a server that we know."""
    how = "name postgresql://USER@HOST/DATABASE or mysql://USER@HOST/DATABASE"
    scheme = url.split("://")[0].lower()
    if scheme not in ENGINES:
        raise UsageError(f'there is no way to a database by "{scheme}://"', code="target.url", next=how)
    try:
        parts = urlsplit(url)
        port = parts.port or PORTS[ENGINES[scheme]]
    except ValueError as error:
        raise UsageError("this is no URL of a database", code="target.url", why=str(error), next=how) from error
    options = dict(parse_qsl(parts.query))
    schema = options.pop("schema", "")
    user, database = unquote(parts.username or ""), unquote(parts.path.lstrip("/"))
    if schema and ENGINES[scheme] == "mysql":           # there a schema is a database
        database, schema = schema, ""
    if not database:
        raise UsageError("the URL names no database", code="target.url", next=how)
    return Address(ENGINES[scheme], scheme, user, parts.hostname or "127.0.0.1", port, database, schema,
                   unquote(parts.password or "") or os.environ.get(PASSWORD, ""), tuple(options.items()))


def with_schema(where: str, schema: str) -> str:
    """A URL that names a schema too. Raises UsageError when it is no URL."""
    if not schema:
        return where
    if not is_url(where):
        raise UsageError("an SQLite file has no schemas", next="leave out --schema, or name a server by its URL")
    return f"{where}{'&' if '?' in where else '?'}schema={quote(schema)}"


def mysql_arguments(to: Address) -> dict[str, object]:
    """What the driver for MySQL and MariaDB takes."""
    out: dict[str, object] = {"host": to.host, "port": to.port, "database": to.database, "charset": "utf8mb4",
                              "password": to.password or os.environ.get("MYSQL_PWD", "")}
    if to.user:
        out["user"] = to.user
    own = Path.home() / ".my.cnf"
    if not out["password"] and own.is_file():
        out["read_default_file"] = str(own)
        del out["password"]
    return out | {k: v for k, v in to.options if k.startswith("ssl_") or k == "unix_socket"}


def postgresql_arguments(to: Address) -> dict[str, object]:
    """What the driver for PostgreSQL takes; what is not said here, it looks for itself."""
    out: dict[str, object] = {"host": to.host, "port": to.port, "dbname": to.database, "connect_timeout": 10}
    if to.user:
        out["user"] = to.user
    if to.password:
        out["password"] = to.password
    return out | dict(to.options)
