"""The layout of a database as later files change it: what they call columns, what they need not
have, what misspelt texts mean, new columns, and wider types. The tables change with it.

`layout.edit` is loaded only where something changes: its library takes longer to load than a small
file to add.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import pyarrow as pa

from kerfmark.errors import UsageError, counted
from kerfmark.layout.names import free_name, snake
from kerfmark.layout.text import parse_layout
from kerfmark.normalize.split import Split
from kerfmark.profile.convert import to_typed
from kerfmark.profile.encode import EncodedSource
from kerfmark.profile.settle import settle
from kerfmark.profile.types import ColumnType, with_marks
from kerfmark.store.interface import Changing
from kerfmark.structure.decisions import Decisions, decide
from kerfmark.verbs.routing import Routed


class LayoutInForce:
    """The layout of an open database, as an object and as `text`, and what was `learned`, in
    words."""

    def __init__(self, file: Changing, text: str) -> None:
        self.file, self.text = file, text
        self.layout = parse_layout(text, "the layout in the database")
        self.learned: list[str] = []

    def learn(self, routed: Sequence[Routed], encoded: Mapping[str, EncodedSource]) -> None:
        """Changes the layout as decided, and the tables with it."""
        from kerfmark.layout.edit import with_spelling, without_column

        before = self.text
        for r in routed:
            for header, spelling in r.learned.items():
                self.text = with_spelling(self.text, r.source, header, spelling)
                self.learned.append(f'"{spelling}" is another spelling of "{header}" from now on')
            for header in r.left_out:
                self.text = without_column(self.text, r.source, header)
                self.learned.append(f'"{header}" is left out from now on')
            for header, value in r.lacking.items():
                self._lack(r.source, header, value)
            for header, table in r.put.items():
                self._put(r.source, header, table, encoded[r.source])
        if self.text != before:
            self.layout = parse_layout(self.text, "the layout in the database")
            self.file.refresh_views(self.layout, {n: e.source.headers for n, e in encoded.items()})

    def _lack(self, source: str, header: str, value: str) -> None:
        """Lets files do without a header."""
        if header in parse_layout(self.text, "the layout").sources[source].may_lack:
            return
        column_at = self.layout.column_of(source, header)
        plain = column_at is not None and column_at[1].header == header and not column_at[1].split
        table, name = "", ""
        if column_at is not None:
            table = column_at[0]
            columns = self.layout.tables[table].columns
            name = next((n for n, c in columns.items() if c is column_at[1]), "")
        spec = self.layout.tables.get(table)
        if spec is None or not plain or spec.source != source or name in spec.known_by:
            raise UsageError(
                f'files cannot do without "{header}"',
                code="usage.lacking",
                why="records are known by it, or a link needs it",
                next="add the column to the file",
            )
        if not value and name not in spec.optional:
            raise UsageError(
                f'"{header}" cannot be blank in {table}',
                code="usage.lacking",
                why=f"{table}.{name} is required",
                next=f'use --lacking "{header}=VALUE"',
            )
        from kerfmark.layout.edit import with_lacking

        self.text = with_lacking(self.text, source, header, table, name, value)
        said = f"{value} in all rows" if value else "blank"
        self.learned.append(f'files need not have "{header}": it is {said} then')

    def correct(
        self, corrections: Sequence[tuple[str, str]], encoded: Mapping[str, EncodedSource]
    ) -> None:
        """Writes into the layout what misspelt texts mean. Raises UsageError for one that a record
        of the database has: its rows would no longer say what they are."""
        if not corrections:
            return
        decided = decide(self.layout, encoded, Decisions(means=tuple(corrections)))
        for name, table in decided.layout.tables.items():
            for column, spec in table.columns.items():
                known = self.layout.tables[name].columns[column].means
                for text in {*spec.means} - {*known} if spec.of_type.kind == "text" else ():
                    rows = self.file.matching_rows(name, {column: pa.array([text])})[1]
                    if len(rows):
                        raise UsageError(
                            f'"{text}" cannot be corrected: a record of {name} is called so',
                            code="decide.there",
                            why=f"{counted(len(rows), 'row')} of {name} in the database "
                            f"{'has' if len(rows) == 1 else 'have'} it as {column}",
                            next="correct it in the database first",
                        )
        from kerfmark.layout.edit import with_layout

        self.text = with_layout(self.text, self.layout, decided.layout, {})
        self.layout = parse_layout(self.text, "the layout in the database")
        self.learned += decided.told

    def _put(self, source: str, header: str, table: str, encoded: EncodedSource) -> None:
        spec = self.layout.tables.get(table)
        if spec is None or spec.source != source or spec.part_of:
            able = [
                n for n, t in self.layout.tables.items() if t.source == source and not t.part_of
            ]
            raise UsageError(
                f'a column of {source} cannot go to "{table}"',
                next=f"the tables of {source} are {', '.join(able)}",
            )
        type_ = settle(encoded.column(header)).type
        name = free_name(
            snake(header),
            {*spec.columns, *spec.links, *self.layout.key_columns(table)},
            f"{table}_{snake(header)}",
        )
        from kerfmark.layout.edit import with_column

        self.text = with_column(self.text, source, table, name, header, str(type_))
        self.file.add_column(table, name, type_)
        self.learned.append(
            f'"{header}" is the column {table}.{name} ({type_}) from now on; rows that were there '
            "are blank"
        )

    def widen(self, done: Split, encoded: Mapping[str, EncodedSource]) -> bool:
        """Gives columns whose type is too narrow for new values a wider one; whether there were
        any."""
        wider: dict[tuple[str, str], ColumnType] = {}
        for problem in done.problems.found:
            if problem.kind not in ("too wide", "unfit") or not problem.table:
                continue
            for name, column in self.layout.tables[problem.table].columns.items():
                for header in set(problem.headers) & set(column.sources):
                    needed = settle(encoded[problem.source].column(header)).type
                    if new := _wider(
                        column.of_type, needed, encoded[problem.source].column(header).values
                    ):
                        wider[problem.table, name] = new
        if not wider:
            return False
        from kerfmark.layout.edit import with_type

        for (table, name), type_ in wider.items():
            old = self.layout.tables[table].columns[name].type
            self.text = with_type(self.text, table, name, str(type_))
            self.file.widen_column(table, name, type_)
            self.learned.append(f"{table}.{name} is {type_} from now on, no longer {old}")
        self.layout = parse_layout(self.text, "the layout in the database")
        return True


def _digits_of(values: pa.StringArray, old: ColumnType) -> ColumnType | None:
    """The decimal that values with the marks of an old one need; None where one has other marks."""
    any_size = with_marks(old, old.form)
    if any_size is None or to_typed(values, any_size).null_count > values.null_count:
        return None
    texts = [v.lstrip("-").replace(old.thousands or " ", "") for v in values.to_pylist() if v]
    parts = [text.partition(old.mark) for text in texts]
    whole, places = (max((len(p[i]) for p in parts), default=0) for i in (0, 2))
    return ColumnType("decimal", max(whole + places, 1), places)


def _wider(old: ColumnType, needed: ColumnType, values: pa.StringArray) -> ColumnType | None:
    """A type that holds what the old one does, and the new values; None where no type of the same
    kind does."""
    import pyarrow.compute as pc

    if old.kind == "text" and old.width:
        return ColumnType(
            "text", width=max(old.width, int(pc.max(pc.utf8_length(values)).as_py() or 0))
        )
    if old.kind == "decimal" and needed.kind not in ("decimal", "integer"):
        needed = _digits_of(values, old) or needed
    if old.kind == "decimal" and needed.kind in ("decimal", "integer"):
        whole = max(
            old.precision - old.scale,
            needed.precision - needed.scale if needed.kind == "decimal" else 18,
        )
        scale = max(old.scale, needed.scale)
        form = (
            old.form
            if scale == old.scale
            else old.form[: -old.scale or None] + old.form[-1] * scale
        )
        return ColumnType("decimal", whole + scale, scale, form)
    return None
