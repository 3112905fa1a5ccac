"""The tables that Kerfmark keeps for itself in a database."""

from __future__ import annotations

OWN = "kerfmark_"
"""How the tables begin that Kerfmark keeps for itself."""
TABLES = ("layouts", "loads", "files", "says", "changes", "known", "set_aside")
"""The tables of the ledger without that, parents first."""
COMPANIONS, PARTS = f"{OWN}rows_of_", f"{OWN}part_"
"""How those begin that number the rows of a table, and those that are being built."""


def is_own(table: str) -> bool:
    """Whether a table is one that Kerfmark keeps for itself: not every one that begins as these
    do."""
    name = table.lower()
    return (name.removeprefix(OWN) in TABLES and name.startswith(OWN)) or name.startswith(
        (COMPANIONS, PARTS)
    )
