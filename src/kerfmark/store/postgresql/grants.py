"""The rights that other roles have on tables and views, kept where these are made anew."""

from __future__ import annotations

from typing import NamedTuple

from kerfmark.store.postgresql.reader import PostgresReader
from kerfmark.store.quoting import quote


class Grant(NamedTuple):
    """A right: on which table or view, whose (as it is written in SQL), which, and whether the role
    may pass it on."""

    table: str
    role: str
    privilege: str
    grantable: bool


def grants(reader: PostgresReader) -> list[Grant]:
    """The rights on all tables and views of the schema, but those of their owners."""
    rows = reader.ask(
        "SELECT c.relname::text, COALESCE(quote_ident(r.rolname), 'PUBLIC'), a.privilege_type, "
        "a.is_grantable FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace CROSS JOIN "
        "LATERAL aclexplode(c.relacl) a LEFT JOIN pg_roles r ON r.oid = a.grantee "
        "WHERE n.nspname = current_schema() AND c.relkind IN ('r', 'v', 'p') "
        "AND a.grantee <> c.relowner ORDER BY 1, 2, 3"
    )
    return [Grant(*r) for r in rows]


def restored(reader: PostgresReader, before: list[Grant]) -> list[str]:
    """Gives the rights again that went with tables and views which are there under the same names;
    what could not be given again, in words."""
    if not before:
        return []
    there, now = {*reader.tables(), *reader.views()}, {*grants(reader)}
    lost: dict[tuple[str, str], list[str]] = {}
    for grant in before:
        if grant in now:
            continue
        if grant.table not in there:
            lost.setdefault((grant.table, grant.role), []).append(grant.privilege)
            continue
        more = " WITH GRANT OPTION" if grant.grantable else ""
        reader.execute(f"GRANT {grant.privilege} ON {quote(grant.table)} TO {grant.role}{more}")
    return [
        f"{role} had {', '.join(rights)} on {table}, which is no longer there: grant it anew on "
        "what replaces it"
        for (table, role), rights in lost.items()
    ]
