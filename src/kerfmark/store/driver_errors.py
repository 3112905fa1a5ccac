"""What the servers' refusals mean, in our words: what, why, and what to do next. Nothing here shows
a password."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Mapping
from typing import Any

from kerfmark.errors import DataRefused, KerfmarkError, Origin, TargetError, was_interrupted

Meaning = tuple[str, str, str]
"""A code, what it is, and what to do next."""

UNREACHABLE: Meaning = (
    "target.unreachable",
    "the database server does not answer",
    "check the host and the port, and that it runs",
)
PASSWORD: Meaning = (
    "target.password",
    "the database server does not accept the user or the password",
    "put the password into KERFMARK_PASSWORD, the URL, or the client's own password file",
)
NO_DATABASE: Meaning = (
    "target.missing",
    "there is no such database on the server",
    "check the name, or make the database first",
)
NO_USER: Meaning = (
    "target.user",
    "the database server does not know this user",
    "check the user in the URL",
)
NOT_ADMITTED: Meaning = (
    "target.not-admitted",
    "the database server does not admit this computer",
    "ask who runs it to let this address in",
)
TLS: Meaning = (
    "target.tls",
    "the database server and the URL do not agree about an encrypted connection",
    "take sslmode out of the URL, or let who runs the server set up encryption",
)
FULL: Meaning = (
    "target.busy",
    "the database server has no connection left",
    "run the command again later",
)
RIGHTS: Meaning = (
    "target.rights",
    "the user may not do this in the database",
    "ask for the right, or name another user",
)
LOST: Meaning = (
    "target.lost",
    "the connection to the database broke off; nothing was written",
    "run the command again when the server is there",
)
LOCKED: Meaning = (
    "target.locked",
    "another program is writing to the database",
    "run the command again when it has finished",
)
DEADLOCK: Meaning = (
    "target.deadlock",
    "another program was changing the same tables, so the database stopped this command",
    "run the command again",
)
CHANGED: Meaning = (
    "target.changed",
    "another program has made the tables anew while they were read",
    "run the command again",
)
DISK: Meaning = (
    "target.disk",
    "the disk of the database server is full",
    "make room and run the command again",
)
EXISTS: Meaning = (
    "target.table-exists",
    "a table or view of that name exists already in the database",
    "name another schema or database, or rename the table in the layout",
)
TOO_WIDE: Meaning = (
    "target.too-wide",
    "a table has more or wider columns than the server takes",
    "split it in the layout, or leave columns out",
)
KEY_TOO_LONG: Meaning = (
    "target.too-long",
    "a value of a key is longer than an index of the server takes",
    "let another column be the key (known_by in the layout)",
)
REFUSED: Meaning = (
    "data.refused",
    "the database refuses a row",
    "correct the row, or ask who made the rule of the database",
)
FAILED: Meaning = ("target.failed", "the database cannot do this", "")


@contextlib.contextmanager
def in_our_words(
    name: str,
    errors: type[Exception],
    meaning: Mapping[Any, Meaning],
    code: Any,
    texts: Mapping[str, Meaning],
) -> Iterator[None]:
    """Turns the errors of a driver into ours: by the `code` that a function finds in them, else by
    words in their text."""
    try:
        yield
    except KerfmarkError:
        raise
    except errors as error:
        if was_interrupted(error):
            raise KeyboardInterrupt from error
        raise translated(name, error, meaning, code(error), texts) from error


def no_driver(title: str, extra: str, error: ImportError) -> TargetError:
    """The error for a server whose driver is not installed."""
    return TargetError(
        f"the driver for {title} is not installed",
        code="target.driver",
        why=str(error),
        next=f"pip install 'kerfmark[{extra}]' installs it",
    )


def translated(
    name: str,
    error: Exception,
    meaning: Mapping[Any, Meaning],
    code: Any,
    texts: Mapping[str, Meaning],
) -> KerfmarkError:
    """The same error in our words."""
    lines = [
        line.strip()
        for line in (str(error.args[-1]) if error.args else str(error)).splitlines()
        if line.strip()
    ]
    message = lines[0] if lines else type(error).__name__
    low = " ".join(lines).lower()
    detail = next(
        (line.removeprefix("DETAIL:").strip() for line in lines[1:] if line.startswith("DETAIL:")),
        "",
    )
    message += f" ({detail})" if detail else ""
    what = meaning.get(code)
    if what is None and code is None:  # there was no server to give one
        what = next((m for words, m in texts.items() if words in low), None)
    if what is None and isinstance(code, str):
        what = meaning.get(code[:2])
    code_, sentence, next_ = what or FAILED
    kind = DataRefused if code_ == REFUSED[0] else TargetError
    return kind(sentence, code=code_, origin=Origin(name), why=message, next=next_)
