"""What is written of a table, whatever the form."""

from __future__ import annotations

from dataclasses import dataclass, field

from kerfmark.profile.types import ColumnType
from kerfmark.store.interface import LinkFacts


@dataclass(frozen=True)
class TableOut:
    """A table, or a source in its flat shape: its columns with their types (whose forms say how
    values are spelled as text), which of them may be blank, the primary key, further sets of
    columns that tell rows apart, and the links."""

    name: str
    columns: tuple[str, ...]
    types: tuple[ColumnType, ...]
    optional: frozenset[str] = frozenset()
    key: tuple[str, ...] = ()
    unique: tuple[tuple[str, ...], ...] = ()
    links: tuple[LinkFacts, ...] = field(default=())
