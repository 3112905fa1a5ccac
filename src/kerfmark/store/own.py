"""The tables that Kerfmark keeps for itself in every database it made: what `ledger` writes and reads.

The types are SQL's own; each engine says how it spells those that differ. Where rows have no number of their own, `nth` counts
them.
"""

from __future__ import annotations

from collections.abc import Mapping

_TABLES = (
    "CREATE TABLE kerfmark_layouts (layout_id INTEGER PRIMARY KEY, layout {text} NOT NULL)",
    "CREATE TABLE kerfmark_loads (load_id INTEGER PRIMARY KEY, verb {text} NOT NULL, loaded_at {moment} NOT NULL,"
    " kerfmark {text} NOT NULL, layout_id INTEGER NOT NULL REFERENCES kerfmark_layouts (layout_id), undone_at {moment})",
    "CREATE TABLE kerfmark_files ({nth}load_id INTEGER NOT NULL REFERENCES kerfmark_loads (load_id), source {text} NOT NULL,"
    " file {text} NOT NULL, told {text} NOT NULL, reading {text} NOT NULL, bytes BIGINT NOT NULL, fingerprint {text} NOT NULL,"
    ' "rows" BIGINT NOT NULL)',
    "CREATE TABLE kerfmark_ranges ({nth}load_id INTEGER NOT NULL REFERENCES kerfmark_loads (load_id), table_name {text} NOT NULL,"
    " first_row BIGINT NOT NULL, last_row BIGINT NOT NULL)",
    "CREATE TABLE kerfmark_changes ({nth}load_id INTEGER NOT NULL REFERENCES kerfmark_loads (load_id), table_name {text} NOT NULL,"
    ' "row" BIGINT NOT NULL, column_name {text} NOT NULL, "before" {any}, "after" {any})',
    "CREATE TABLE kerfmark_set_aside ({nth}load_id INTEGER NOT NULL REFERENCES kerfmark_loads (load_id), source {text} NOT NULL,"
    ' file {text} NOT NULL, sheet {text} NOT NULL, "row" BIGINT NOT NULL, reason {text} NOT NULL, known {yes_no} NOT NULL)',
)
NAMES = ("kerfmark_set_aside", "kerfmark_changes", "kerfmark_ranges", "kerfmark_files", "kerfmark_loads", "kerfmark_layouts")
"""Their names, children first."""


SQLITE = {"text": "TEXT", "any": "", "moment": "TIMESTAMP", "yes_no": "BOOLEAN", "nth": ""}
"""How SQLite spells what differs: its rows have numbers of their own."""


def own_tables(spelled: Mapping[str, str]) -> list[str]:
    """The statements that make them; `spelled` gives the types `text`, `any`, `moment`, `yes_no`, and the column `nth` (or "")."""
    return [t.format(**spelled) for t in _TABLES]
