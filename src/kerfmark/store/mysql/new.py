"""MySQL and MariaDB, whose changes of the structure commit by themselves: tables are built under names of their own and get
their real ones in one step, all at once.

What has to follow that step (views, taking away what was replaced) is written down before it, so that whoever opens the database
next completes what a program that was killed has begun. What was built and never named goes with the next cut.
"""

from __future__ import annotations

import contextlib
import re
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

import pyarrow as pa

from kerfmark.address import Address
from kerfmark.errors import KerfmarkError, Origin, TargetError
from kerfmark.layout.model import Layout
from kerfmark.store.database import OWN, PATIENCE, LinkFacts, literal, not_ours, quote
from kerfmark.store.ddl import Statements, Way, statements
from kerfmark.store.mysql.server import connected
from kerfmark.store.mysql.speech import MysqlReader, dialect, keyed_type_of, lost, type_of
from kerfmark.store.own import NAMES, own_tables
from kerfmark.store.server import NUMBER, companion, name_taken, natural_keys, with_companion
from kerfmark.store.views import view_name

PART = OWN + "part_"
_TO_DO = PART + "to_do"
_NAME = r"(`(?:[^`]|``)+`|\S+)"
SPELLED = {"text": "longtext", "any": "longtext", "moment": "datetime", "yes_no": "smallint",
           "nth": "nth bigint AUTO_INCREMENT PRIMARY KEY, "}


class NewTables:
    """Tables that are being built (see `database.New`)."""

    def __init__(self, where: Address, replace: bool) -> None:
        self.where, self.replace = where, replace
        self.connection = connected(where)
        self.reader = MysqlReader(where.shown, self.connection)
        self.remarks = self.reader.remarks
        self.made: list[str] = []
        try:
            completed(self.reader)
            if self.reader.facts("kerfmark_loads") and not replace:
                raise TargetError("Kerfmark has built tables there already", code="target.exists", origin=Origin(where.shown),
                                  why="nothing is overwritten unasked",
                                  next="name another database, add the files with kerfmark add, or say --replace to build anew")
        except BaseException:
            self.discard()
            raise

    def __enter__(self) -> NewTables:
        return self

    def __exit__(self, *error: object) -> None:
        self.discard()

    def discard(self) -> None:
        """Takes away what was made and not named."""
        made, self.made = self.made, []
        with contextlib.suppress(Exception):
            if made:
                self.connection.rollback()
                _drop(self.reader, made)
                made = []
        with contextlib.suppress(Exception):
            self.connection.close()
        with contextlib.suppress(Exception):            # the connection had broken off
            if made:
                self.connection = self.reader.connection = connected(self.where)
                _drop(self.reader, made)
                self.connection.close()

    def stored(self, values: pa.Array) -> pa.Array:
        """Typed values as these engines take them."""
        return self.reader.stored(values)

    def create(self, layout: Layout, headers: Mapping[str, Sequence[str]]) -> None:
        """Makes the tables."""
        locked(self.reader)
        _drop(self.reader, _parts(self.reader))         # of a program that was killed
        self.layout, self.old = layout, self._old()
        mine = {n.lower() for n in self.old}
        taken = {n.lower(): n for n in (*self.reader.tables(), *self.reader.views()) if n.lower() not in mine}
        wanted = [*layout.tables, *map(view_name, headers)]
        if clash := next((taken[n.lower()] for n in wanted if n.lower() in taken), ""):
            raise name_taken(clash, self.where.shown, "a database")
        self.called = {t: f"{PART}{i}" for i, t in enumerate(layout.tables)}
        self._statements: Statements = statements(layout, headers, dialect(), Way(
            type_of, keyed_type_of, links_later=True, longest=64, called=self.called, options=self.reader.options))
        for table, statement in zip(layout.parents_first(), self._statements.tables, strict=True):
            self._make(self.called[table], statement)
        for i, (table, keys) in enumerate(natural_keys(layout).items()):
            self.called[companion(table)] = f"{PART}rows_{i}"
            self._make(f"{PART}rows_{i}", f"CREATE TABLE {PART}rows_{i} ENGINE InnoDB COLLATE {self.reader.collation} AS SELECT "
                       f"CAST(0 AS SIGNED) AS {NUMBER}, {', '.join(map(quote, keys))} FROM {self.called[table]} WHERE 1 = 0")
        for name, statement in zip(reversed(NAMES), own_tables(SPELLED), strict=True):
            self.called[name] = name.replace(OWN, PART)
            self._make(self.called[name], statement.replace(OWN, PART) + f" ENGINE InnoDB COLLATE {self.reader.collation}")

    def _make(self, name: str, statement: str) -> None:
        self.made.append(name)
        self.reader.execute(statement)

    def _old(self) -> dict[str, str]:
        """What an earlier cut has made and is replaced: names, and whether each is a view."""
        if not self.reader.facts("kerfmark_loads"):
            return {}
        from kerfmark.layout.text import parse_layout

        [(text,)] = self.reader.ask("SELECT layout FROM kerfmark_layouts ORDER BY layout_id DESC LIMIT 1")
        layout = parse_layout(text, "the layout in the database")
        if layout.existing:
            raise not_ours(self.where.shown)
        tables = [*map(companion, natural_keys(layout)), *reversed(layout.parents_first()), *NAMES]
        return {view_name(s): "VIEW" for s in layout.sources} | {t: "TABLE" for t in tables if self.reader.facts(t)}

    def load(self, table: str, schema: pa.Schema, batches: Iterable[pa.RecordBatch], *, numbered: bool) -> None:
        """Puts rows into a table."""
        keys = [] if numbered else self.layout.key_columns(table)
        mine: list[pa.RecordBatch] = []
        self.reader.copy_in(self.called[table], schema.names, with_companion(batches, keys, mine), told=table)
        if keys:
            self.reader.copy_in(self.called[companion(table)], [NUMBER, *keys], mine)
        self.connection.commit()

    def finish(self) -> None:
        """Makes indexes and foreign keys, those of a table at once; `verify` looks whether all links resolve."""
        changes: dict[str, list[str]] = {}
        for statement in self._statements.indexes:
            found = re.fullmatch(rf"CREATE (UNIQUE )?INDEX {_NAME} ON {_NAME} (\(.*\))", statement, re.DOTALL)
            assert found is not None, statement
            changes.setdefault(found[3], []).append(f"ADD {found[1] or ''}INDEX {found[2]} {found[4]}")
        for statement in self._statements.links:
            found = re.fullmatch(rf"ALTER TABLE {_NAME} (ADD .*)", statement, re.DOTALL)
            assert found is not None, statement
            changes.setdefault(found[1], []).append(found[2])
        for table, keys in natural_keys(self.layout).items():
            own = ", ".join(map(quote, keys))
            changes.setdefault(self.called[companion(table)], []).append(
                f"ADD PRIMARY KEY ({NUMBER}), ADD UNIQUE ({own}), ADD FOREIGN KEY ({own}) "
                f"REFERENCES {quote(self.called[table])} ({own}) ON UPDATE CASCADE ON DELETE CASCADE")
        self.reader.execute("SET foreign_key_checks = 0")   # else the server would copy the whole table
        for table, some in changes.items():
            self.reader.execute(f"ALTER TABLE {table} {', '.join(some)}")

    def execute(self, sql: str, rows: Sequence[Sequence[Any]] = ((),)) -> None:
        """Runs a statement on the tables that are being built."""
        self.reader.execute(sql.replace(OWN, PART), rows)

    def verify(self, expected: dict[str, int]) -> None:
        """Raises KerfmarkError unless every link resolves and every table has the rows it should have."""
        wrong = self.reader.nearly_all({self.called[t]: n for t, n in expected.items() if self.layout.has_generated_key(t)})
        for table in expected:
            for link, to in self.layout.tables[table].parents.items():
                pairs = self.layout.link_columns(table, link)
                facts = LinkFacts(tuple(own for own, _ in pairs), self.called[to], tuple(key for _, key in pairs))
                if lost(self.reader, self.called[table], facts):
                    wrong.append(f"{table}.{link} leads nowhere")
        if wrong:
            raise KerfmarkError("the database that was built is not what it should be; it was thrown away", code="internal",
                                why="; ".join(wrong), next="this is a fault of Kerfmark: please report it")

    def publish(self) -> None:
        """Gives everything its name, in one step, and completes it."""
        old = {n: f"{PART}old_{i}" for i, (n, kind) in enumerate(self.old.items()) if kind == "TABLE"}
        after = [f"DROP VIEW IF EXISTS {quote(n)}" for n, kind in self.old.items() if kind == "VIEW"]
        after += ["SET foreign_key_checks = 0", *(f"DROP TABLE IF EXISTS {quote(n)}" for n in old.values())]
        after += [v.replace("CREATE VIEW", "CREATE OR REPLACE VIEW", 1) for v in self._statements.views]
        self.made.append(_TO_DO)
        to_do(self.reader, after)
        self.connection.commit()
        moves = [f"{quote(n)} TO {quote(part)}" for n, part in old.items()]
        moves += [f"{quote(part)} TO {quote(n)}" for n, part in self.called.items()]
        self.reader.execute(f"RENAME TABLE {', '.join(moves)}")
        self.made = []
        completed(self.reader)


def locked(speech: MysqlReader) -> None:
    """Takes the lock that lets one program at a time change a database. It goes with the connection."""
    if speech.ask(f"SELECT GET_LOCK(CONCAT('kerfmark.', LEFT(DATABASE(), 50)), {PATIENCE})") != [(1,)]:
        raise TargetError("another program is writing to the database", code="target.locked", origin=Origin(speech.name),
                          next="run the command again when it has finished")


def to_do(speech: MysqlReader, statements: Sequence[str]) -> None:
    """Writes down what is to be done once this transaction is committed (see `completed`)."""
    speech.execute(f"CREATE TABLE {_TO_DO} (nth int PRIMARY KEY, statement longtext NOT NULL) ENGINE InnoDB "
                   f"COLLATE {speech.collation}")
    speech.execute(f"INSERT INTO {_TO_DO} VALUES (?, ?)", list(enumerate(statements)))


def completed(speech: MysqlReader) -> None:
    """Completes what a program that was killed had still to do after it had named its tables."""
    if speech.facts(_TO_DO) is None or any(re.fullmatch(PART + r"\d+", p) for p in _parts(speech)):
        return
    for (statement,) in speech.ask(f"SELECT statement FROM {_TO_DO} ORDER BY nth"):
        speech.execute(statement)
    speech.execute(f"DROP TABLE {_TO_DO}")
    speech.execute("SET foreign_key_checks = 1")


def _parts(speech: MysqlReader) -> list[str]:
    return [r[0] for r in speech.ask("SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE() "
                                     f"AND LEFT(table_name, {len(PART)}) = {literal(PART)}")]


def _drop(speech: MysqlReader, names: Sequence[str]) -> None:
    if names:
        speech.execute("SET foreign_key_checks = 0")
        speech.execute(f"DROP TABLE IF EXISTS {', '.join(map(quote, names))}")
        speech.execute("SET foreign_key_checks = 1")
