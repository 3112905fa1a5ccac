"""The tables of the ledger, which Kerfmark keeps in every database that it made or filled.

The types are those of the SQL standard; each engine says how it spells the ones that differ. Where
rows have no number of their own, the column `sequence` counts them.
"""

from __future__ import annotations

from dataclasses import dataclass

from kerfmark.own_tables import OWN, TABLES

NAMES = tuple(OWN + name for name in reversed(TABLES))
"""Their names, children first."""


@dataclass(frozen=True)
class LedgerTypes:
    """How an engine spells the types of the ledger; `any` takes every value, `sequence` is a whole
    column (or "") that counts rows; `options` are at the end of CREATE TABLE."""

    text: str
    any: str
    moment: str
    yes_no: str
    sequence: str = ""
    options: str = ""


def ledger_tables(types: LedgerTypes, prefix: str = OWN) -> list[str]:
    """The statements that make the tables, parents first; each name begins with the `prefix`."""
    text, moment = types.text, types.moment
    load = f"{types.sequence}load_id INTEGER NOT NULL REFERENCES {prefix}loads (load_id)"
    columns = {
        "layouts": f"layout_id INTEGER PRIMARY KEY, layout {text} NOT NULL",
        "loads": f"load_id INTEGER PRIMARY KEY, verb {text} NOT NULL, loaded_at {moment} NOT NULL, "
        f"kerfmark {text} NOT NULL,"
        f" layout_id INTEGER NOT NULL REFERENCES {prefix}layouts (layout_id), options {text} NOT "
        f"NULL, undone_at {moment}",
        "files": f"{load}, source {text} NOT NULL, file {text} NOT NULL, told {text} NOT NULL, "
        f"reading {text} NOT NULL,"
        f' bytes BIGINT NOT NULL, fingerprint {text} NOT NULL, "rows" BIGINT NOT NULL, left_out '
        "BIGINT NOT NULL",
        "says": f"{load}, table_name {text} NOT NULL, first_row BIGINT NOT NULL, last_row "
        "BIGINT NOT NULL,"
        f" role {text} NOT NULL, columns {text} NOT NULL",
        "changes": f'{load}, table_name {text} NOT NULL, "row" BIGINT NOT NULL, column_name '
        f"{text} NOT NULL,"
        f' "before" {types.any}, said {types.any}, kept {types.yes_no} NOT NULL',
        "known": f'{load}, source {text} NOT NULL, first_record BIGINT NOT NULL, "rows" '
        "BIGINT NOT NULL,"
        f" first_row BIGINT NOT NULL, outcome {text} NOT NULL",
        "set_aside": f"{load}, source {text} NOT NULL, file {text} NOT NULL, sheet {text} NOT "
        'NULL, "row" BIGINT NOT NULL,'
        f" record BIGINT NOT NULL, reason {text} NOT NULL, against_table {text} NOT NULL,"
        " against_row BIGINT NOT NULL",
    }
    return [f"CREATE TABLE {prefix}{name} ({columns[name]}){types.options}" for name in TABLES]
