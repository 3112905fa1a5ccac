"""PostgreSQL: databases on a server, with schemas."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from kerfmark.engines import Engine, SourceConnection

if TYPE_CHECKING:
    from kerfmark.address import Address
    from kerfmark.store.interface import Database, Parts
    from kerfmark.store.script_style import ScriptStyle


def _database(where: Address) -> Database:
    from kerfmark.store.postgresql.database import PostgresServer

    return PostgresServer(where)


def _source(where: Address) -> SourceConnection:
    import psycopg

    from kerfmark.store.postgresql.connection import arguments

    path = {"options": f"-c search_path={where.schema}"} if where.schema else {}
    how: dict[str, Any] = arguments(where) | path
    return SourceConnection("postgresql+psycopg://", {"creator": lambda: psycopg.connect(**how)})


def _parts(where: Address, run: str) -> Parts:
    from kerfmark.store.postgresql.parts import PostgresParts

    return PostgresParts(where, run)


def _script() -> ScriptStyle:
    from kerfmark.store.postgresql.dialect import LEDGER, dialect
    from kerfmark.store.script_style import ScriptStyle

    return ScriptStyle(
        dialect,
        ("SET client_encoding TO 'UTF8'", "SET standard_conforming_strings TO on", "BEGIN"),
        ("COMMIT",),
        booleans=("true", "false"),
        ledger=LEDGER,
        row_number="bigint",
        after_rows="SELECT setval(pg_get_serial_sequence('{table_text}', '{key_text}'), "
        "GREATEST(1, {rows}), {rows} > 0)",
    )


_FILES = ("sslrootcert", "sslcert", "sslkey", "sslcrl", "sslcrldir", "passfile")
ENGINES = (
    Engine(
        "postgresql",
        "PostgreSQL",
        order=1,
        schemes=("postgresql", "postgres"),
        port=5432,
        extra="postgresql",
        has_schemas=True,
        database=_database,
        source=_source,
        script=_script,
        parts=_parts,
        run_script="psql -v ON_ERROR_STOP=1 -f {script} {database}",
        query="psql {database} -c {sql}",
        kept_tables=("pg_",),
        kept_columns=("ctid", "xmin", "xmax", "cmin", "cmax", "tableoid"),
        settings=(
            *("sslmode", "sslnegotiation", "sslcompression", "sslsni", "sslpassword"),
            *("ssl_min_protocol_version", "ssl_max_protocol_version", "requirepeer"),
            *("connect_timeout", "tcp_user_timeout", "keepalives", "keepalives_idle"),
            *("keepalives_interval", "keepalives_count", "application_name", "options", "service"),
            *("hostaddr", "channel_binding", "require_auth", "gssencmode", "krbsrvname"),
            *("gsslib", "gssdelegation", "target_session_attrs", "load_balance_hosts", *_FILES),
        ),
        setting_files=_FILES,
    ),
)
