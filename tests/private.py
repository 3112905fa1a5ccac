"""Servers of the tests' own, set up in ways in which a shared one should not be: who is let in, how
many, with what settings."""

from __future__ import annotations

import contextlib
import os
import pwd
import shutil
import socket
import subprocess
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import pytest


def free_port() -> int:
    """A port that nobody listens on."""
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return int(one.getsockname()[1])


def _program(name: str, *patterns: str) -> str:
    found = shutil.which(name) or next(
        (str(p) for pattern in patterns for p in sorted(Path("/usr/lib").glob(pattern))), ""
    )
    if not found:
        _missing(f"the program {name} is not here")
    return found


def _missing(why: str) -> None:
    if os.environ.get("KERFMARK_TEST_SERVERS") == "required":
        raise AssertionError(why)
    pytest.skip(why)


@contextlib.contextmanager
def _folder(user: str) -> Iterator[tuple[Path, list[str]]]:
    """A folder that belongs to a user, and what a command begins with that is run as this user."""
    with tempfile.TemporaryDirectory(prefix="kerfmark") as name:
        before: list[str] = []
        if os.getuid() == 0:  # these servers do not run as root
            try:
                uid = pwd.getpwnam(user).pw_uid
            except KeyError:
                _missing(f"there is no user {user}")
            os.chown(name, uid, -1)
            before = ["setpriv", f"--reuid={user}", f"--regid={user}", "--clear-groups"]
        yield Path(name), before


@contextlib.contextmanager
def postgresql() -> Iterator[int]:
    """A PostgreSQL server; gives its port. The user `boss` may do everything. `secret` needs the
    password `pass word/1`, `outsider` is not let in, `tls` only over an encrypted connection, which
    the server does not offer."""
    initdb = _program("initdb", "postgresql/*/bin/initdb")
    with _folder("postgres") as (folder, before):
        data, port = folder / "data", free_port()
        subprocess.run(
            [
                *before,
                initdb,
                "-D",
                str(data),
                "-U",
                "boss",
                "-A",
                "trust",
                "-E",
                "UTF8",
                "--locale=C",
                "-N",
            ],
            check=True,
            capture_output=True,
        )
        (data / "pg_hba.conf").write_text(
            "host all outsider 127.0.0.1/32 reject\nhostssl all tls 127.0.0.1/32 trust\n"
            "hostnossl all tls 127.0.0.1/32 reject\nhost all secret 127.0.0.1/32 scram-sha-256\n"
            "host all all 127.0.0.1/32 trust\n"
        )
        server = subprocess.Popen(
            [
                *before,
                str(Path(initdb).with_name("postgres")),
                "-D",
                str(data),
                "-p",
                str(port),
                "-k",
                str(folder),
                "-c",
                "fsync=off",
                "-c",
                "max_connections=12",
                "-c",
                "listen_addresses=127.0.0.1",
            ],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        try:
            _wait(port)
            yield port
        finally:
            server.terminate()
            server.wait()


@contextlib.contextmanager
def mariadb(*options: str, encrypted: bool = False) -> Iterator[tuple[int, str]]:
    """A MariaDB server with some options; gives its port and its socket. The user root has no
    password there."""
    install, serve = _program("mariadb-install-db"), _program("mariadbd")
    with _folder("mysql") as (folder, before):
        port, sock = free_port(), str(folder / "s")
        plain = ["--no-defaults", f"--datadir={folder}/data"]
        if encrypted:
            key, paper = f"{folder}/key", f"{folder}/paper"
            subprocess.run(
                [
                    *before,
                    _program("openssl"),
                    "req",
                    "-x509",
                    "-newkey",
                    "rsa:2048",
                    "-nodes",
                    "-subj",
                    "/CN=localhost",
                    "-keyout",
                    key,
                    "-out",
                    paper,
                ],
                check=True,
                capture_output=True,
            )
            options = (*options, f"--ssl-key={key}", f"--ssl-cert={paper}")
        subprocess.run(
            [
                *before,
                install,
                *plain,
                "--auth-root-authentication-method=normal",
                "--skip-test-db",
            ],
            check=True,
            capture_output=True,
        )
        server = subprocess.Popen(
            [
                *before,
                serve,
                *plain,
                f"--socket={sock}",
                f"--port={port}",
                "--bind-address=127.0.0.1",
                f"--pid-file={folder}/pid",
                "--innodb-flush-log-at-trx-commit=0",
                *options,
            ],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        try:
            _wait(port)
            yield port, sock
        finally:
            server.terminate()
            server.wait()


def _wait(port: int) -> None:
    for _ in range(300):
        with socket.socket() as one:
            if one.connect_ex(("127.0.0.1", port)) == 0:
                time.sleep(0.3)  # it may still be starting up
                return
        time.sleep(0.1)
    raise AssertionError("the server does not start")
