"""The tables that Kerfmark keeps for itself in every database it made: what `ledger` writes and reads.

The types are SQL's own; each engine says how it spells those that differ. Where rows have no number of their own, `nth` counts
them.
"""

from __future__ import annotations

from collections.abc import Mapping

_LOAD = "{nth}load_id INTEGER NOT NULL REFERENCES kerfmark_loads (load_id)"
_TABLES = (
    "CREATE TABLE kerfmark_layouts (layout_id INTEGER PRIMARY KEY, layout {text} NOT NULL)",
    "CREATE TABLE kerfmark_loads (load_id INTEGER PRIMARY KEY, verb {text} NOT NULL, loaded_at {moment} NOT NULL,"
    " kerfmark {text} NOT NULL, layout_id INTEGER NOT NULL REFERENCES kerfmark_layouts (layout_id), options {text} NOT NULL,"
    " undone_at {moment})",
    f"CREATE TABLE kerfmark_files ({_LOAD}, source {{text}} NOT NULL,"
    " file {text} NOT NULL, told {text} NOT NULL, reading {text} NOT NULL, bytes BIGINT NOT NULL, fingerprint {text} NOT NULL,"
    ' "rows" BIGINT NOT NULL, left_out BIGINT NOT NULL)',
    f"CREATE TABLE kerfmark_says ({_LOAD}, table_name {{text}} NOT NULL,"
    " first_row BIGINT NOT NULL, last_row BIGINT NOT NULL, role {text} NOT NULL, columns {text} NOT NULL)",
    f"CREATE TABLE kerfmark_changes ({_LOAD}, table_name {{text}} NOT NULL,"
    ' "row" BIGINT NOT NULL, column_name {text} NOT NULL, "before" {any}, said {any}, kept {yes_no} NOT NULL)',
    f"CREATE TABLE kerfmark_known ({_LOAD}, source {{text}} NOT NULL,"
    ' first_record BIGINT NOT NULL, "rows" BIGINT NOT NULL, first_row BIGINT NOT NULL, outcome {text} NOT NULL)',
    f"CREATE TABLE kerfmark_set_aside ({_LOAD}, source {{text}} NOT NULL,"
    ' file {text} NOT NULL, sheet {text} NOT NULL, "row" BIGINT NOT NULL, record BIGINT NOT NULL, reason {text} NOT NULL,'
    " against_table {text} NOT NULL, against_row BIGINT NOT NULL)",
)
NAMES = ("kerfmark_set_aside", "kerfmark_known", "kerfmark_changes", "kerfmark_says", "kerfmark_files", "kerfmark_loads",
         "kerfmark_layouts")
"""Their names, children first."""


SQLITE = {"text": "TEXT", "any": "", "moment": "TIMESTAMP", "yes_no": "BOOLEAN", "nth": ""}
"""How SQLite spells what differs: its rows have numbers of their own."""


def own_tables(spelled: Mapping[str, str]) -> list[str]:
    """The statements that make them; `spelled` gives the types `text`, `any`, `moment`, `yes_no`, and the column `nth` (or "")."""
    return [t.format(**spelled) for t in _TABLES]
