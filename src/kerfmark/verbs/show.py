"""show: what is in a database, or in one table of it, or what one record says and is linked
with."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from kerfmark.errors import DataRefused, Origin, UsageError
from kerfmark.ledger.records import Ledger
from kerfmark.progress import Progress, silent
from kerfmark.store.interface import LinkFacts, Reader, TableFacts
from kerfmark.store.quoting import literal, quote
from kerfmark.verbs.read_only import database_to_read
from kerfmark.verbs.record_names import counting_by_group, names_of, naming_columns


@dataclass(frozen=True)
class ColumnShown:
    """A column: its type as declared, whether it may be blank, the table it links to (or ""), and
    what is said of it (where one table is asked for)."""

    name: str
    type: str
    optional: bool
    links_to: str
    comment: str = ""


@dataclass(frozen=True)
class TableShown:
    """A table: rows (those that are wanted, where not all are), primary key, unique sets of
    columns, columns, and first rows. `called`: by column that links, what the records are called
    that the first rows lead to. Where one table is asked for: what is said of it, and a statement
    that counts its rows by group (`counting`)."""

    name: str
    rows: int
    key: tuple[str, ...]
    unique: tuple[tuple[str, ...], ...]
    columns: tuple[ColumnShown, ...]
    first_rows: tuple[tuple[object, ...], ...]
    called: dict[str, tuple[str, ...]] = field(default_factory=dict)
    comment: str = ""
    counting: str = ""


@dataclass(frozen=True)
class ShowResult:
    """What is in a database; `views` by name."""

    database: str
    tables: tuple[TableShown, ...]
    views: tuple[str, ...]


@dataclass(frozen=True)
class Record:
    """A record: its table, what it says, and by which of its columns it was reached ("": it is the
    one that was asked for)."""

    table: str
    through: str
    values: dict[str, object]


@dataclass(frozen=True)
class Children:
    """The records of a table that lead to another one by some columns: how many, and the first of
    them."""

    table: str
    through: str
    rows: int
    columns: tuple[str, ...]
    first_rows: tuple[tuple[object, ...], ...]


@dataclass(frozen=True)
class RecordResult:
    """A record, the records that it leads to (parents, their parents, and so on), and those that
    lead to it."""

    database: str
    record: Record
    parents: tuple[Record, ...]
    children: tuple[Children, ...]


_TEST = re.compile(r"\s*(?P<column>.+?)\s*(?P<how>!=|<=|>=|=|<|>|~)\s*(?P<value>.*)", re.DOTALL)


def show(
    database: str | Path,
    table: str | None = None,
    *,
    rows: int = 3,
    where: Sequence[str] = (),
    sort: Sequence[str] = (),
    progress: Progress = silent,
) -> ShowResult:
    """The tables of a database, or one of them, with their first `rows` rows; of these only those
    of which all of `where` holds: tests like `kg>=5`, `keeper=Ada`, `note~dry` (contains), `note=`
    (is blank). `sort` are columns by which the rows are sorted (`kg desc`: the largest first).

    Raises TargetError when it is not a database, UsageError when it has no such table or column.
    """
    if (where or sort) and table is None:
        raise UsageError(
            "--where needs a table" if where else "--sort needs a table",
            next="name the table: kerfmark show DB TABLE --where COLUMN=VALUE --sort COLUMN",
        )
    with database_to_read(database).reading() as reader:
        tables, views = reader.tables(), reader.views()
        if table is not None:
            tables, views = [_existing(reader, table)], []
        there = [facts for n in tables if (facts := reader.facts(n))]
        shown = []
        for facts in there:
            progress(f"counting {facts.name}", 0, 0)
            shown.append(_shown(reader, facts, rows, where, sort, alone=table is not None))
        return ShowResult(reader.name, tuple(shown), tuple(views))


def names(database: str | Path) -> list[str]:
    """The tables and views of a database. Raises TargetError when it is none."""
    with database_to_read(database).reading() as reader:
        return [*reader.tables(), *reader.views()]


def layout_of(database: str | Path) -> str:
    """The layout in force, as text. Raises TargetError when Kerfmark did not make the database."""
    with database_to_read(database).reading() as reader:
        return str(Ledger(reader).layout)


def rows_of(
    database: str | Path,
    table: str,
    where: Sequence[str] = (),
    rows: int | None = None,
    sort: Sequence[str] = (),
) -> Iterator[tuple[object, ...]]:
    """The names of the columns of a table, then its rows one by one, all of them or the first ones,
    sorted if so wanted.

    Raises what `show` raises.
    """
    with database_to_read(database).reading() as reader:
        facts = reader.facts(_existing(reader, table))
        assert facts is not None
        yield tuple(c.name for c in facts.columns)
        if rows is not None:
            yield from _rows(reader, facts, where, rows, sort)
            return
        import pyarrow as pa

        by = [f"{quote(table)}.{c}" for c in (*_sorting(facts, sort), *map(quote, facts.key))]
        order = f" ORDER BY {', '.join(by)}" if by else ""
        yield from reader.rows(
            f"{quote(table)}{_tests(facts, where)}{order}",
            [quote(c.name) for c in facts.columns],
            [pa.string()] * len(facts.columns),
        )


@dataclass(frozen=True)
class TreeResult:
    """The records of a table that refers to itself, each (`lines`) with its depth (0: it refers to
    no record), its key, and what it is known by; `circles` counts those that refer to each other
    in a circle, which no tree has."""

    database: str
    table: str
    through: str
    lines: tuple[tuple[int, object, str], ...]
    circles: int


MOST_IN_A_TREE = 100_000
"""Records that are shown as a tree at once."""


def tree_of(database: str | Path, table: str) -> TreeResult:
    """A table that refers to itself, as a tree. Raises UsageError for one that does not."""
    with database_to_read(database).reading() as reader:
        facts = reader.facts(_existing(reader, table))
        assert facts is not None
        own = [k for k in facts.links if k.to.lower() == table.lower() and len(k.columns) == 1]
        if not own:
            raise UsageError(
                f"{table} does not refer to itself, so it is not a tree",
                origin=Origin(reader.name),
                next="kerfmark show DB tells what each table leads to",
            )
        [[column], [key]] = own[0].columns, own[0].key
        names = naming_columns(facts) or (key,)
        asked = ", ".join(map(quote, (key, column, *names)))
        rows = reader.ask(
            f"SELECT {asked} FROM {quote(table)} ORDER BY {', '.join(map(quote, names))} LIMIT "
            f"{MOST_IN_A_TREE}"
        )
    below: dict[object, list[object]] = {}
    called: dict[object, str] = {}
    for own_key, above, *said in rows:
        below.setdefault(above, []).append(own_key)
        called[own_key] = " ".join("" if v is None else str(v) for v in said)
    lines: list[tuple[int, object, str]] = []
    waiting = [(0, one) for one in reversed(below.get(None, []))]
    while waiting:
        depth, one = waiting.pop()
        lines.append((depth, one, called[one]))
        waiting += [(depth + 1, child) for child in reversed(below.get(one, []))]
    return TreeResult(reader.name, table, column, tuple(lines), len(called) - len(lines))


def show_record(database: str | Path, table: str, key: str, *, rows: int = 3) -> RecordResult:
    """One record by its primary key (parts of it separated by commas), what it leads to, and the
    first `rows` records of each table that lead to it.

    Raises TargetError when it is not a database, UsageError when it has no such table or record.
    """
    with database_to_read(database).reading() as reader:
        facts = reader.facts(_existing(reader, table))
        assert facts is not None
        if not facts.key:
            raise UsageError(
                f"{table} has no primary key to name a record by",
                origin=Origin(reader.name),
                next="use --where",
            )
        wanted = key.split(",") if len(facts.key) > 1 else [key]
        if len(wanted) != len(facts.key):
            raise UsageError(
                f"the key of {table} is {', '.join(facts.key)}",
                next="name a value for each, with a comma between",
            )
        found = _found(reader, facts, dict(zip(facts.key, wanted, strict=True)))
        if found is None:
            raise UsageError(
                f"{table} has no record {key}",
                origin=Origin(reader.name),
                next=f"name a value of {', '.join(facts.key)}",
            )
        record = Record(facts.name, "", found)
        return RecordResult(
            reader.name,
            record,
            tuple(_parents(reader, facts, record)),
            tuple(_children(reader, record, rows)),
        )


def _existing(reader: Reader, table: str) -> str:
    names, views = reader.tables(), reader.views()
    if table not in [*names, *views]:
        raise UsageError(
            f'there is no table "{table}"',
            origin=Origin(reader.name),
            next=f"the tables are {', '.join(names)}",
        )
    return table


def _shown(
    reader: Reader,
    facts: TableFacts,
    rows: int,
    where: Sequence[str],
    sort: Sequence[str],
    *,
    alone: bool,
) -> TableShown:
    links = {c: link.to for link in facts.links for c in link.columns}
    try:
        total = int(
            reader.ask(f"SELECT count(*) FROM {quote(facts.name)}{_tests(facts, where)}")[0][0]
        )
    except DataRefused as refused:  # the engine takes no such value for such a column
        raise UsageError(
            "a value of --where does not fit its column",
            origin=Origin(reader.name, facts.name),
            why=refused.why,
            next="write the value as the column has it",
        ) from refused
    first = tuple(_rows(reader, facts, where, rows, sort))
    called = {}
    for link in facts.links:
        if len(link.columns) == 1:
            at = next(i for i, c in enumerate(facts.columns) if c.name == link.columns[0])
            names = names_of(reader, link.to, link.key[0], [row[at] for row in first])
            called[link.columns[0]] = tuple(names.get(str(row[at]), "") for row in first)
    said = _comments(reader, facts.name) if alone else {}
    return TableShown(
        facts.name,
        total,
        facts.key,
        facts.unique,
        tuple(
            ColumnShown(c.name, c.type, c.optional, links.get(c.name, ""), said.get(c.name, ""))
            for c in facts.columns
        ),
        first,
        {c: n for c, n in called.items() if any(n)},
        said.get("", ""),
        counting_by_group(reader, facts) if alone else "",
    )


def _comments(reader: Reader, table: str) -> dict[str, str]:
    """What is said of the columns of a table, and ("") of the table: by the layout in force, else
    by the database."""
    out = dict(reader.comments(table))
    if reader.facts("kerfmark_layouts") is not None:
        from kerfmark.layout.text import parse_layout

        [[text]] = reader.ask("SELECT layout FROM kerfmark_layouts ORDER BY layout_id DESC LIMIT 1")
        spec = parse_layout(str(text), "the layout in the database").tables.get(table)
        if spec is not None:
            out |= {n: c.comment for n, c in spec.columns.items() if c.comment}
            out |= {"": spec.comment} if spec.comment else {}
    return out


def _rows(
    reader: Reader,
    facts: TableFacts,
    where: Sequence[str],
    rows: int | None,
    sort: Sequence[str] = (),
) -> Iterator[tuple[object, ...]]:
    by = [*_sorting(facts, sort), *map(quote, facts.key)]
    order = f" ORDER BY {', '.join(by)}" if by else ""
    limit = "" if rows is None else f" LIMIT {rows}"
    names = ", ".join(quote(c.name) for c in facts.columns)
    for row in reader.ask(
        f"SELECT {names} FROM {quote(facts.name)}{_tests(facts, where)}{order}{limit}"
    ):
        yield tuple(row)


def _sorting(facts: TableFacts, sort: Sequence[str]) -> Iterator[str]:
    """What rows are sorted by, for columns as a person writes them."""
    names = [c.name for c in facts.columns]
    for one in sort:
        column = one if one in names else one.removesuffix(" desc")
        if column not in names:
            raise UsageError(
                f'{facts.name} has no column "{column}"', next=f"its columns are {', '.join(names)}"
            )
        yield quote(column) + (" DESC" if column != one else "")


def _tests(facts: TableFacts, where: Sequence[str]) -> str:
    """The condition of a query for tests as a person writes them."""
    out = []
    for one in where:
        found = _TEST.fullmatch(one)
        column = next((c.name for c in facts.columns if found and c.name == found["column"]), None)
        if found is None or column is None:
            raise UsageError(
                f'"{one}" is not a condition on columns of {facts.name}',
                next='write it like --where "kg>=5"; the columns are '
                + ", ".join(c.name for c in facts.columns),
            )
        value, how = found["value"], {"!=": "<>"}.get(found["how"], found["how"])
        if not value and how in ("=", "<>"):
            out.append(f"{quote(column)} IS {'NOT ' if how == '<>' else ''}NULL")
        elif how == "~":
            sought = value.replace("!", "!!").replace("%", "!%").replace("_", "!_")
            out.append(f"{quote(column)} LIKE {literal(f'%{sought}%')} ESCAPE '!'")
        else:
            out.append(f"{quote(column)} {how} {literal(value)}")
    return " WHERE " + " AND ".join(out) if out else ""


def _found(reader: Reader, facts: TableFacts, key: dict[str, object]) -> dict[str, object] | None:
    names = [c.name for c in facts.columns]
    same = " AND ".join(f"{reader.text(quote(k))} = {literal(str(v))}" for k, v in key.items())
    rows = reader.ask(
        f"SELECT {', '.join(map(quote, names))} FROM {quote(facts.name)} WHERE {same}"
    )
    return dict(zip(names, rows[0], strict=True)) if rows else None


def _parents(
    reader: Reader, facts: TableFacts, record: Record, seen: tuple[tuple[str, object], ...] = ()
) -> Iterator[Record]:
    for link in facts.links:
        key = {k: record.values[c] for c, k in zip(link.columns, link.key, strict=True)}
        parent = reader.facts(link.to)
        at = (link.to, tuple(map(str, key.values())))
        if parent is None or None in key.values() or at in seen:
            continue
        values = _found(reader, parent, key)
        if values is not None:
            above = Record(parent.name, f"{record.table}.{' + '.join(link.columns)}", values)
            yield above
            yield from _parents(reader, parent, above, (*seen, at))


def _children(reader: Reader, record: Record, rows: int) -> Iterator[Children]:
    for name in reader.tables():
        facts = reader.facts(name)
        for link in facts.links if facts else ():
            if (
                facts is not None
                and link.to == record.table
                and set(link.key) <= set(record.values)
            ):
                yield from _those(reader, facts, link, record, rows)


def _those(
    reader: Reader, facts: TableFacts, link: LinkFacts, record: Record, rows: int
) -> Iterator[Children]:
    same = " AND ".join(
        f"{quote(c)} = {literal(str(record.values[k]))}"
        for c, k in zip(link.columns, link.key, strict=True)
    )
    name = quote(facts.name)
    total = int(reader.ask(f"SELECT COUNT(*) FROM {name} WHERE {same}")[0][0])
    if total:
        names = [c.name for c in facts.columns]
        order = f" ORDER BY {', '.join(map(quote, facts.key))}" if facts.key else ""
        first = reader.ask(
            f"SELECT {', '.join(map(quote, names))} FROM {name} WHERE {same}{order} LIMIT {rows}"
        )
        yield Children(
            facts.name, " + ".join(link.columns), total, tuple(names), tuple(map(tuple, first))
        )
