"""Second stage of merging: what known records would change, and what is kept as it is."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.layout.model import ColumnSpec
from kerfmark.normalize import sentences
from kerfmark.normalize.match import Matched
from kerfmark.normalize.merged import TableCount, Update
from kerfmark.normalize.policy import EXCEPTION, owner_of, rule_of
from kerfmark.normalize.table_rows import TableRows
from kerfmark.normalize.tables import SourceTables
from kerfmark.profile.codes import distinct


@dataclass(frozen=True)
class Compared:
    """What became of the records of each table; values to be changed (`updates`) and values that
    differ and stay (`kept`); by table and column, which records say what is not taken over
    (`differs`). `matched` has the tables with the values in which rows differ from what is usual in
    the database."""

    matched: Matched
    counts: tuple[TableCount, ...]
    updates: tuple[Update, ...]
    kept: tuple[Update, ...]
    differs: Mapping[str, Mapping[str, np.ndarray]]


def compare(matched: Matched) -> Compared:
    """Compares the known records with the database; what must not differ is added to the problems
    of its source."""
    stage = _Comparing(matched)
    for name in matched.incoming.order():
        stage._compare(name)
    incoming = replace(matched.incoming, tables=stage.tables)
    return Compared(
        replace(matched, incoming=incoming),
        tuple(stage.counts),
        tuple(stage.updates),
        tuple(stage.kept),
        stage.differs,
    )


class _Comparing:
    """The comparison under way."""

    def __init__(self, matched: Matched) -> None:
        self.matched, self.incoming = matched, matched.incoming
        self.tables: dict[str, TableRows] = dict(matched.incoming.tables)
        self.counts: list[TableCount] = []
        self.updates: list[Update] = []
        self.kept: list[Update] = []
        self.differs: dict[str, dict[str, np.ndarray]] = {}

    def _compare(self, name: str) -> None:
        table, spec = self.incoming.tables[name], self.incoming.tables[name].spec
        known = np.flatnonzero((self.matched.rows[name] >= 0) & ~self.matched.is_new[name])
        count = TableCount(name, int(np.count_nonzero(self.matched.is_new[name])), len(known))
        self.counts.append(count)
        if not len(known):
            return
        policy = self.incoming.policy(owner_of(self.incoming.layout, name))
        if spec.each_row and spec.source in self.incoming.feeds and policy == "refuse":
            feed = self.incoming.feeds[spec.source]
            own = table.source_rows()[known]
            there = self.matched.rows[name][known][own >= 0]
            own = own[own >= 0]
            if len(own):
                feed.problem(
                    "again",
                    tuple(feed.layout.key_headers(name)),
                    own,
                    sentences.there_already(name),
                    "--known keep leaves what is there\n--known fill fills its blanks\n"
                    "--known overwrite replaces its values\nleave the row out",
                    name,
                    there,
                )
                return
        columns = self.incoming.provided_columns(name)
        arrays = self.matched.arrays(name, columns, known)
        differs = self.incoming.existing.differing(name, self.matched.rows[name][known], arrays)
        changed, filled, kept = (np.zeros(len(known), bool) for _ in range(3))
        named = self.incoming.only_named(name)[known]
        for column in columns:
            for own_column in self.incoming.layout.stored_as(name, [column]):
                there = differs[own_column]
                there = there & ~(
                    named & arrays[own_column].is_null().to_numpy(zero_copy_only=False)
                )
                if not there.any():
                    continue
                at = np.flatnonzero(there)
                rule = rule_of(self.incoming.layout, name, column, self.incoming.known)
                if rule == EXCEPTION:
                    self._exceptions(name, column, known[at])
                    self._keep(name, own_column, known[at], arrays[own_column].take(pa.array(at)))
                    continue
                if rule == "refuse":
                    self._differs(name, column, own_column, known[at])
                    continue
                if rule == "fill":
                    texts = self.incoming.existing.texts(
                        name, own_column, self.matched.rows[name][known[at]].tolist()
                    )
                    blank = np.array(
                        [texts[r] == "" for r in self.matched.rows[name][known[at]].tolist()], bool
                    )
                    blank &= arrays[own_column].is_valid().to_numpy(zero_copy_only=False)[at]
                    staying = at[
                        ~blank & arrays[own_column].is_valid().to_numpy(zero_copy_only=False)[at]
                    ]
                    self._keep(
                        name,
                        own_column,
                        known[at[~blank]],
                        arrays[own_column].take(pa.array(at[~blank])),
                        column,
                    )
                    kept[staying] = True
                    at = at[blank]
                    filled[at] = True
                elif rule == "keep":
                    kept[at] = True
                    self._keep(
                        name, own_column, known[at], arrays[own_column].take(pa.array(at)), column
                    )
                    continue
                else:
                    changed[at] = True
                if len(at):
                    self.updates.append(
                        Update(
                            name,
                            own_column,
                            self.matched.rows[name][known[at]],
                            arrays[own_column].take(pa.array(at)),
                        )
                    )
        count.kept, count.filled = int(np.count_nonzero(kept)), int(np.count_nonzero(filled))
        count.overwritten = int(np.count_nonzero(changed))
        count.known -= int(np.count_nonzero(kept | filled | changed))

    def _keep(
        self, name: str, own_column: str, records: np.ndarray, values: pa.Array, column: str = ""
    ) -> None:
        """Notes that values which records say are not taken over. A `column` of the layout shows
        that in the rows, too."""
        if not len(records):
            return
        self.kept.append(Update(name, own_column, self.matched.rows[name][records], values))
        if column:
            flags = self.differs.setdefault(name, {}).setdefault(
                column, np.zeros(self.incoming.tables[name].rows, bool)
            )
            flags[records] = True

    def _differs(self, name: str, column: str, own_column: str, records: np.ndarray) -> None:
        """Refuses rows of records that say something else in a column; each under its header,
        where columns repeat."""
        table = self.incoming.tables[name]
        headers = table.spec.columns[column].headers if column in table.spec.columns else ()
        place = next(
            (table.codes(n) for n, c in table.spec.columns.items() if c.told or c.position), None
        )
        if not headers or place is None:
            named = table.source_rows()[records] < 0  # by links, under other headers
            for some in (records[~named], records[named]):
                if len(some):
                    self._differs_under("", name, column, own_column, some)
            return
        for i in distinct(place[records]).tolist():
            here = records[place[records] == i]
            self._differs_under(headers[i], name, column, own_column, here)

    def _differs_under(
        self, header: str, name: str, column: str, own_column: str, records: np.ndarray
    ) -> None:
        spec = self.incoming.tables[name].spec
        feed, rows, which = self.incoming.rows_of(name, records)
        if spec.part_of:  # of a list, the first part that differs
            rows, first = np.unique(rows, return_index=True)
            which = which[first]
        header = header or feed.header_of(self.incoming.tables[name], column)
        if feed.name != spec.source or bool(
            (self.incoming.tables[name].source_rows()[records] < 0).all()
        ):  # said by a row that only names the record
            header = next(
                (
                    h
                    for t in self.incoming.layout.tables.values()
                    for link in t.links.values()
                    if t.source == feed.name and link.to == name
                    for c, h in (*link.by.items(), *link.repeats.items())
                    if c == column
                ),
                header,
            )
        there = self._there(name, column, own_column, self.matched.rows[name][records].tolist())
        feed.supersede("differs", (header,), rows, name, held=False)
        if not spec.part_of and header in feed.ready.encoded.source.headers:
            known = [there.get(int(self.matched.rows[name][w])) or "" for w in which.tolist()]
            own = spec.columns.get(column) if feed.name == spec.source else None
            mine = self._cells(feed, header, own, rows)
            wrong = np.array([not same_value(a, b) for a, b in zip(mine, known, strict=True)], bool)
            if wrong.any():  # other rows of the record may have the value of the database
                rows, which = rows[wrong], which[wrong]
        record_of = dict(zip(rows.tolist(), which.tolist(), strict=True))

        def reason(row: int) -> str:
            text = there.get(int(self.matched.rows[name][record_of[row]])) or ""
            return sentences.differs_from_database(name, text)

        feed.problem(
            "differs",
            (header,),
            rows,
            reason,
            "correct the cells\n--known keep leaves what is there"
            if spec.part_of
            else "correct the cells\n--known keep leaves what is there\n"
            "--known overwrite replaces it",
            name,
            self.matched.rows[name][which],
        )

    def _there(
        self, name: str, column: str, own_column: str, rows: list[int]
    ) -> dict[int, str | None]:
        """What some rows have in a column; in a link, what the record that it leads to is known
        by."""
        layout, existing = self.incoming.layout, self.incoming.existing
        link = layout.tables[name].links.get(column)
        if link is None:
            return existing.texts(name, own_column, rows)
        to = layout.tables[link.to]
        shown = next((c for c in to.known_by if c in to.columns), "")
        if not shown:
            return existing.texts(name, own_column, rows)
        leads = existing.parent_rows(name, layout.link_columns(name, column), link.to, rows)
        texts = existing.texts(link.to, shown, sorted(set(leads.values())))
        return {row: texts.get(parent) for row, parent in leads.items()}

    def _exceptions(self, name: str, column: str, records: np.ndarray) -> None:
        """Rows that say something else than is usual of a known record keep it, whatever is usual
        in this file."""
        spec = self.incoming.tables[name].spec
        header = spec.columns[column].header
        place = self.incoming.layout.exceptional(spec.source, header)
        assert place is not None
        base, exception, _, _ = place
        feed, rows, which = self.incoming.rows_of(name, records)
        there = self.incoming.existing.texts(
            name, column, self.matched.rows[name][records].tolist()
        )
        mine = self._cells(feed, header, spec.columns[column], rows)
        base_rows, old = self.tables[base].source_rows(), self.tables[base].typed(exception)
        codes = old.codes.copy()
        position = {int(r): i for i, r in enumerate(base_rows.tolist())}
        own_codes = feed.ready.column(header, spec.columns[column]).codes
        for row, record, text in zip(rows.tolist(), which.tolist(), mine, strict=True):
            code = int(own_codes[row])
            usual = there.get(int(self.matched.rows[name][record])) or ""
            codes[position[row]] = -1 if code >= 0 and same_value(text, usual) else code
        columns = {**self.tables[base].columns, exception: replace(old, codes=codes)}
        self.tables[base] = replace(self.tables[base], columns=columns)

    def _cells(
        self, feed: SourceTables, header: str, column: ColumnSpec | None, rows: np.ndarray
    ) -> list[str]:
        """The cells of some rows as the database would give their values; as read, where they are
        not values of a `column` of their own."""
        if column is None:
            return [feed.cell(header, r) for r in rows.tolist()]
        codes = feed.ready.column(header, column).codes[rows]
        values = self.incoming.to_engine(feed.ready.typed(header, column))
        texts = [str(v) for v in pc.cast(values, pa.string()).to_pylist()]
        return ["" if code < 0 else texts[code] for code in codes.tolist()]


def same_value(one: str, other: str) -> bool:
    """Whether two values as text are the same; an engine may spell a number in another way."""
    if one == other:
        return True
    try:
        return float(one) == float(other)
    except ValueError:
        return False
