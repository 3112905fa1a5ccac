"""SQL scripts: what a cut would do, for an engine that is not at hand. Its own client runs them.

Values are spelled as SQL once per distinct value, in whole columns. A script for an engine that
Kerfmark works with brings the tables of the ledger too, so that files can be added to the database
that it makes.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TextIO

import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.engines import Engine
from kerfmark.errors import NO_PLACE, Origin, TargetError
from kerfmark.layout.model import Layout
from kerfmark.leftovers import part_path, sweep
from kerfmark.profile.types import ColumnType
from kerfmark.store.companion import NUMBER, companion, natural_keys, numbered_keys
from kerfmark.store.ddl import Statements, statements
from kerfmark.store.interface import Changing, Reader, TableFacts
from kerfmark.store.ledger_schema import ledger_tables
from kerfmark.store.reflected_ddl import generated_key, reflected_statements
from kerfmark.store.script_style import ScriptStyle
from kerfmark.store.tab_separated import spell_values
from kerfmark.store.views import views

_ROWS = 500
"""Rows of one INSERT."""


@dataclass
class ScriptFile:
    """A script as a place to cut into (see `interface.Database`)."""

    path: Path
    engine: Engine

    @property
    def style(self) -> ScriptStyle:
        """How it is written."""
        assert self.engine.script is not None
        style: ScriptStyle = self.engine.script()
        return style

    @property
    def name(self) -> str:
        """The path."""
        return str(self.path)

    @property
    def folder(self) -> Path | None:
        """That of the script, where its engine makes a file beside it; a server knows no
        folders."""
        return self.path.parent if self.style.in_folder else None

    @property
    def layout_path(self) -> Path:
        """Beside the script."""
        return self.path.with_name(self.path.stem + ".layout.toml")

    replaced_whole = True

    def exists(self) -> bool:
        """A script is not a database that could be asked what is in it."""
        return False

    def new(self, replace: bool) -> NewScript:
        """A script to write. Raises TargetError where that will not do."""
        if self.path.is_dir() or not self.path.parent.is_dir():
            raise TargetError(
                "the script cannot be written there",
                code="target.no-folder",
                origin=Origin(self.name),
                next="name a file in a folder that exists",
            )
        if self.path.exists() and not replace:
            raise TargetError(
                "the file exists already",
                code="target.exists",
                origin=Origin(self.name),
                why="nothing is overwritten unasked",
                next="name another file, or use --replace",
            )
        return NewScript(self.path, self.engine.title, self.style)

    def reading(self) -> contextlib.AbstractContextManager[Reader]:
        """A script is only written."""
        raise NotImplementedError

    def changing(self, adopt: Layout | None = None) -> contextlib.AbstractContextManager[Changing]:
        """A script is only written."""
        raise NotImplementedError

    def copy(self, to: Path) -> None:
        """A script is only written."""
        raise NotImplementedError

    def size(self) -> int:
        """Its bytes."""
        return self.path.stat().st_size


class NewScript:
    """A script that is being written (see `interface.New`)."""

    codec = ""

    def __init__(self, path: Path, title: str, style: ScriptStyle) -> None:
        self.path, self.title, self.style = path, title, style
        self.dialect = style.dialect()
        self.quote = self.dialect.quote
        self.short_texts = style.short_texts
        self.part = part_path(path)
        sweep(path)
        self.remarks: list[str] = []

    def __enter__(self) -> NewScript:
        try:
            self.file: TextIO = self.part.open("w", encoding="utf-8", newline="\n")
        except OSError as error:
            raise self._refused(error) from error
        return self

    def _refused(self, error: OSError) -> TargetError:
        return TargetError(
            "the script cannot be written there",
            code="target.unwritable",
            origin=Origin(str(self.path)),
            why=str(error.strerror or error),
            next=NO_PLACE,
        )

    def __exit__(self, *error: object) -> None:
        self.discard()
        if len(error) > 1 and isinstance(error[1], OSError):
            raise self._refused(error[1]) from error[1]

    def discard(self) -> None:
        """Removes what was not published."""
        with contextlib.suppress(Exception):
            self.file.close()
        with contextlib.suppress(OSError):
            self.part.unlink(missing_ok=True)

    def to_engine(self, values: pa.Array) -> pa.Array:
        """Typed values as SQL literals."""
        kind = values.type
        if pa.types.is_boolean(kind):
            return pc.if_else(values, *self.style.booleans)
        if pa.types.is_string(kind):
            return self.style.text(values)
        if pa.types.is_date(kind):
            return self._formed(values, self.style.date)
        if pa.types.is_timestamp(kind):
            return self._formed(values, self.style.moment)
        if pa.types.is_time(kind):
            return self._formed(values, self.style.time)
        if pa.types.is_floating(kind):
            return pa.array(
                [None if v is None else repr(v) for v in values.to_pylist()], pa.string()
            )
        return pc.cast(spell_values(values), pa.string())

    def _formed(self, values: pa.Array, form: str) -> pa.Array:
        before, after = form.split("{}")
        return pc.binary_join_element_wise(before, spell_values(values), after, "")

    def _say(self, *what: str) -> None:
        for statement in what:
            self.file.write(f"{statement}{self.style.stop}\n")

    def create(self, layout: Layout, headers: Mapping[str, Sequence[str]]) -> None:
        """Writes how the tables are made."""
        self._counting = {t: layout.key_of(t) for t in layout.tables if layout.has_generated_key(t)}
        self._numbered = natural_keys(layout) if self.style.row_number else {}
        self._with_ledger = self.style.ledger is not None
        self._begin(statements(layout, headers, self.dialect))

    def create_reflected(
        self,
        tables: Sequence[TableFacts],
        types: Mapping[str, Mapping[str, ColumnType]],
        layout: Layout | None,
        headers: Mapping[str, Sequence[str]],
    ) -> None:
        """Writes how tables are made that a database has, parents first, without a ledger; with the
        views of a layout."""
        self._counting = {t.name: key for t in tables if (key := generated_key(t))}
        self._numbered, self._with_ledger = {}, False
        made = reflected_statements(tables, types, self.dialect)
        if layout is not None:
            made.views.extend(
                v for s, h in headers.items() for v in views(layout, s, h, self.dialect)
            )
        self._begin(made)

    def _begin(self, made: Statements) -> None:
        self._statements = made
        self.file.write(
            f"-- made by Kerfmark for {self.title}: tables, rows, keys, links and views\n"
            + self.style.head
        )
        self._say(*self.style.begin, *self._statements.tables)
        if self._numbered:
            for table, keys in self._numbered.items():
                own = ", ".join(map(self.quote, keys))
                self._say(
                    f"CREATE TABLE {self.quote(companion(table))}{self.style.ledger.options if self.style.ledger else ''} AS "  # noqa: E501
                    f"SELECT CAST(0 AS {self.style.row_number}) AS {NUMBER}, {own} FROM "
                    f"{self.quote(table)} WHERE 1 = 0"
                )

    def load(
        self,
        table: str,
        schema: pa.Schema,
        batches: Iterable[pa.RecordBatch],
        *,
        numbered: bool,
        last: int = 0,
    ) -> None:
        """Writes rows; `last` is the highest number that a key has which counts, where that is not
        how many rows there are."""
        quoted, keys = self.quote(table), self._numbered.get(table, [])
        generated = self._counting.get(table, "")
        rows = 0
        kept: list[pa.RecordBatch] = []
        if generated and self.style.before_rows:
            self._say(self.style.before_rows.format(table=quoted))
        for batch in batches:
            self._insert(quoted, schema.names, batch)
            if keys:
                kept.append(numbered_keys(batch, keys, rows + 1))
            rows += batch.num_rows
        for batch in kept:
            self._insert(self.quote(companion(table)), [NUMBER, *keys], batch)
        if generated and self.style.after_rows:
            self._say(
                self.style.after_rows.format(
                    table=quoted,
                    table_text=quoted.replace("'", "''"),
                    rows=last or rows,
                    key=self.quote(generated),
                    key_text=generated.replace("'", "''"),
                )
            )

    def _insert(self, table: str, columns: Sequence[str], batch: pa.RecordBatch) -> None:
        cells = [
            pc.fill_null(c if pa.types.is_string(c.type) else pc.cast(c, pa.string()), "NULL")
            for c in batch.columns
        ]
        before, after = self.style.row.split("{}")
        lines = pc.binary_join_element_wise(
            before, pc.binary_join_element_wise(*cells, self.style.cells), after, ""
        ).to_pylist()
        head = self.style.insert.format(table=table, columns=", ".join(map(self.quote, columns)))
        for start in range(0, len(lines), _ROWS):
            self._say(head + "\n" + self.style.between.join(lines[start : start + _ROWS]))

    def finish(self) -> None:
        """Writes keys, indexes, links and views, and the tables of the ledger."""
        self._say(*self._statements.after_rows())
        if self.style.ledger is None or not self._with_ledger:
            return
        for table, keys in self._numbered.items():
            own = ", ".join(map(self.quote, keys))
            self._say(
                f"ALTER TABLE {self.quote(companion(table))} ADD PRIMARY KEY ({NUMBER}), ADD "
                f"UNIQUE ({own}), "
                f"ADD FOREIGN KEY ({own}) REFERENCES {self.quote(table)} ({own}) ON UPDATE CASCADE "
                "ON DELETE CASCADE"
            )
        self._say(*ledger_tables(self.style.ledger))

    def append(self, table: str, rows: pa.Table) -> None:
        """Writes rows of a table of the ledger, where the engine has one."""
        if self._with_ledger and rows.num_rows:
            cells = [self.to_engine(column.combine_chunks()) for column in rows.columns]
            self._insert(
                self.quote(table),
                rows.column_names,
                pa.RecordBatch.from_arrays(cells, names=rows.column_names),
            )

    def verify(self, expected: dict[str, int]) -> None:
        """The engine that runs the script will look."""

    def publish(self) -> None:
        """Gives the finished script its name."""
        self._say(*self.style.end)
        self.file.close()
        self.part.replace(self.path)
