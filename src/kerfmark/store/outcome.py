"""Whether a transaction landed whose connection broke off while it was committed: the database is
asked again, over another connection, and its ledger tells."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator, Sequence
from typing import Any, Protocol

from kerfmark.errors import Origin, TargetError
from kerfmark.own_tables import OWN
from kerfmark.store.driver_errors import LOST

Loads = dict[str, tuple[str, ...]]
"""What a ledger says of each load, by its number, and under "" which layout is in force."""


class Asked(Protocol):
    """What is asked."""

    def ask(self, sql: str) -> Sequence[Sequence[Any]]:
        """The rows that a query gives."""
        ...


def loads(of: Asked, prefix: str = OWN) -> Loads:
    """What the ledger of a database says, whose tables begin with a prefix."""
    [(layout,)] = of.ask(f"SELECT MAX(layout_id) FROM {prefix}layouts")
    found = of.ask(
        f"SELECT load_id, verb, loaded_at, options, layout_id, undone_at FROM {prefix}loads"
    )
    return {
        "": (str(layout),),
        **{str(n): tuple("" if v is None else str(v) for v in rest) for n, *rest in found},
    }


def landed(ours: Loads | None, there: Loads | None) -> bool:
    """Whether what a transaction was to leave is there (None: no ledger); others may have come
    after it, and have taken loads back."""
    if ours is None or there is None:
        return ours is there
    for number, mine in ours.items():
        theirs = there.get(number)
        if not number:
            if theirs is None or int(theirs[0]) < int(mine[0]):
                return False
        elif theirs is None or theirs[:-1] != mine[:-1] or mine[-1] not in ("", theirs[-1]):
            return False
    return True


@contextlib.contextmanager
def found_out(name: str, has_landed: Callable[[], bool]) -> Iterator[None]:
    """Around a commit. Where the connection breaks off meanwhile, `has_landed` asks the database
    over another one whether the transaction is there; if it is, all is well. Raises TargetError:
    nothing was written; or that is not known, as the database does not answer."""
    try:
        yield
    except TargetError as lost:
        if lost.code != LOST[0]:
            raise
        try:
            if has_landed():
                return
        except TargetError as unknown:
            raise TargetError(
                "the connection to the database broke off during the commit; it is not known "
                "whether the changes were written",
                code="target.unknown",
                origin=Origin(name),
                why=f"{lost.why}; asked again: {unknown.why or unknown.what}",
                next="once the server answers, kerfmark loads lists what was written; run the "
                "command again if it is not in the list",
            ) from lost
        raise
