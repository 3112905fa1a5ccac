"""What can go wrong, as typed errors that say what, where, why and what to do next.

    KerfmarkError
    +-- UsageError        the call itself is wrong, or the input cannot be read   (exit code 2)
    |   +-- SourceError   a file or sheet cannot be read
    |   +-- LayoutError   a layout says something that cannot be done
    |   +-- TargetError   the database to write to or read from is not usable
    +-- DataRefused       the data do not fit; nothing was written                (exit code 1)

Text is made from the fields, so that the command line, `--json` and a Python program tell the same
story.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

NO_PLACE = "name another place, or look at its permissions and its room"
"""What to do where a file cannot be written."""
NO_TABLES = "kerfmark cut FILES --into DB makes some"
"""What to do where a database has no tables."""


@dataclass(frozen=True)
class Origin:
    """Where a cell or row came from, as a person counts: row 1 is the first line of the file or
    sheet."""

    file: str
    sheet: str | None = None
    row: int | None = None
    column: str | None = None

    def __str__(self) -> str:
        parts = [self.file]
        if self.sheet is not None:
            parts.append(f'sheet "{self.sheet}"')
        if self.row is not None:
            parts.append(f"row {self.row:,}")
        if self.column is not None:
            parts.append(f'column "{self.column}"')
        return ", ".join(parts)


def article(noun: str) -> str:
    """A noun with what goes before it: `an integer`, `a date`, `text`."""
    return noun if noun == "text" else f"an {noun}" if noun[0] in "aeiouAEIO" else f"a {noun}"


def counted(n: int, one: str, many: str = "") -> str:
    """A number with its noun: `1 field`, `1,512 rows`."""
    return f"{n:,} {one if n == 1 else many or one + 's'}"


def in_rows(rows: Sequence[int], total: int) -> str:
    """The rows in which something is, the first ones of all: ` (row 5)`, ` (rows 5, 6 and 1,200
    more)`; nothing for none."""
    if not rows:
        return ""
    more = f" and {total - len(rows):,} more" if total > len(rows) else ""
    return (
        f" ({'row' if len(rows) == 1 and not more else 'rows'} "
        f"{', '.join(f'{r:,}' for r in rows)}{more})"
    )


class KerfmarkError(Exception):
    """Any refusal of Kerfmark.

    `code` is short and stable; `what` one sentence; `why` the reason; `next` what a person can do
    about it, one remedy per line; `origin` the place; `more` further places of the same kind, first
    ones only, with `total` of them in all.
    """

    code = "error"

    def __init__(
        self,
        what: str,
        *,
        code: str = "",
        why: str = "",
        next: str = "",
        origin: Origin | None = None,
        more: Sequence[str] = (),
        total: int = 0,
    ) -> None:
        super().__init__(what)
        self.code = code or type(self).code
        self.what, self.why, self.next, self.origin = what, why, next, origin
        self.more, self.total = tuple(more), total

    def __str__(self) -> str:
        lines = [f"{self.origin}: {self.what}" if self.origin else self.what]
        lines += [f"  {line}" for line in self.more]
        if self.total > len(self.more) > 0:
            lines.append(f"  ... and {self.total - len(self.more):,} more")
        if self.why:
            lines.append(f"why:  {self.why}")
        if self.next:
            lines.append("next: " + self.next.replace("\n", "\n      "))
        return "\n".join(lines)

    def to_dict(self) -> dict[str, object]:
        """The same facts for `--json`."""
        origin = None
        if self.origin:
            origin = {k: v for k, v in vars(self.origin).items() if v is not None}
        said = {
            "code": self.code,
            "what": self.what,
            "why": self.why,
            "next": self.next,
            "origin": origin,
        }
        return {k: v for k, v in said.items() if v} | (
            {"more": list(self.more), "total": self.total} if self.more else {}
        )


class UsageError(KerfmarkError):
    """The call is wrong, or the input cannot be read at all."""

    code = "usage"


class SourceError(UsageError):
    """A file or sheet cannot be read."""

    code = "source"


class LayoutError(UsageError):
    """A layout says something that cannot be done."""

    code = "layout"


class TargetError(UsageError):
    """The database to write to or to read from is not usable."""

    code = "target"


class DataRefused(KerfmarkError):
    """The data do not fit, so nothing was written."""

    code = "data"


def was_interrupted(error: BaseException) -> bool:
    """Whether an error came while an interrupt was on its way: a driver or an
    engine that is stopped in the middle of its work may lose its connection over it, and tell only
    that."""
    met: dict[int, BaseException] = {}
    waiting = [error]
    while waiting:
        one = waiting.pop()
        if id(one) not in met:
            met[id(one)] = one
            waiting += [e for e in (one.__cause__, one.__context__) if e is not None]
    return any(isinstance(e, KeyboardInterrupt) for e in met.values())
