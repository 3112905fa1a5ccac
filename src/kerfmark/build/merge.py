"""New rows of tables meet those that a database has already: which records are known, what they would change, what is new.

What becomes of a known record: its row is refused (`refuse`); what is there stays (`keep`); only its blanks are filled (`fill`);
the file counts (`overwrite`); it is added again under a new key (`add`: records with a row of their own, others are resolved).
Records are found by their natural keys; what is looked for goes to the database as whole columns. Nothing is written here.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Protocol

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.build.drafts import TableRows, Values
from kerfmark.build.lookup import MOST_COMPARED, Found
from kerfmark.build.policy import (
    CREATED,
    EXCEPTION,
    MADE,
    NAMED,
    REFERRED,
    SAID,
    owner_of,
    policy_of,
    rule_of,
)
from kerfmark.build.tables import SourceTables
from kerfmark.layout.model import Layout, TableSpec


class Existing(Protocol):
    """What a database can be asked about the rows of its tables; rows are called by their numbers."""

    def free(self, table: str, keys: Sequence[pa.Array] | int) -> np.ndarray:
        """Numbers for new rows of a table: so many, or those with these natural keys."""
        ...

    def match(self, table: str, columns: Mapping[str, pa.Array]) -> np.ndarray:
        """The row with these values in some columns, for each of many; -1 for none."""
        ...

    def counts(self, table: str, columns: Mapping[str, pa.Array]) -> np.ndarray:
        """How many rows have these values in some columns, for each of many."""
        ...

    def differing(self, table: str, rows: np.ndarray, columns: Mapping[str, pa.Array]) -> dict[str, np.ndarray]:
        """For each column, which of some rows have another value."""
        ...

    def texts(self, table: str, column: str, rows: Sequence[int]) -> dict[int, str | None]:
        """What stands in a column of some rows, as text; "" for a blank."""
        ...

    def known_texts(self, table: str, column: str, most: int) -> list[str]:
        """Values of a column, as text."""
        ...


@dataclass(frozen=True)
class Update:
    """New values for a column of some rows of a table."""

    table: str
    column: str
    rows: np.ndarray
    values: pa.Array


@dataclass
class TableCount:
    """What became of a table's records: how many are new, were known and are the same, were kept although they differ, got blanks
    filled, or were overwritten."""

    name: str
    added: int = 0
    known: int = 0
    kept: int = 0
    filled: int = 0
    overwritten: int = 0


@dataclass(frozen=True)
class Saying:
    """Records of a table that these rows say, by the numbers of their rows (ascending), and their part in them (`role`, see
    `ledger.records`). `columns` are those of the database of which they say anything beside the natural key; None for all."""

    table: str
    rows: np.ndarray
    role: str
    columns: tuple[str, ...] | None = None


@dataclass(frozen=True)
class Known:
    """Rows of a source whose records were there already: the records as read, the number of the row of each, and whether it says
    something else that was not taken over."""

    records: np.ndarray
    rows: np.ndarray
    different: np.ndarray


@dataclass(frozen=True)
class OtherwiseSaid:
    """Cells of a source that say something else than the database, which keeps what it has: the header, the records as read, and
    where the database has the value: a table (with the numbers of its rows), the column of it ("": parts of the records), and, for
    a link, the table that it leads to."""

    source: str
    header: str
    records: np.ndarray
    table: str
    column: str
    rows: np.ndarray
    to: str = ""


@dataclass
class Merged:
    """What is to be done to a database: new rows by table (columns as the engine stores them, in order), and updates.

    `numbers` are those of the new rows of a table; `kept` are values that differ from what is there, which stays, and
    `kept_parts` the records of a table whose parts (in another table) differ and stay; `sayings` tell which records are said;
    `known` are, by source, the rows whose record was there already (`own` those with a new one, where these are not numbered in the
    order of the rows), and `otherwise` the cells that differ from what is kept; `said_in` tells the
    source, and the row of it (-1: only named elsewhere), that each new row comes from.
    """

    counts: list[TableCount] = field(default_factory=list)
    new: dict[str, pa.Table] = field(default_factory=dict)
    numbers: dict[str, np.ndarray] = field(default_factory=dict)
    updates: list[Update] = field(default_factory=list)
    kept: list[Update] = field(default_factory=list)
    kept_parts: dict[str, np.ndarray] = field(default_factory=dict)
    sayings: list[Saying] = field(default_factory=list)
    known: dict[str, Known] = field(default_factory=dict)
    own: dict[str, Known] = field(default_factory=dict)
    otherwise: list[OtherwiseSaid] = field(default_factory=list)
    said_in: dict[str, tuple[str, np.ndarray]] = field(default_factory=dict)


class Merger:
    """Merges the tables of one run."""

    def __init__(self, layout: Layout, feeds: Mapping[str, SourceTables], tables: Mapping[str, TableRows],
                 found: Mapping[tuple[str, str], Found], existing: Existing, stored: Callable[[pa.Array], pa.Array],
                 known: str, lacking: Mapping[str, set[str]]) -> None:
        self.layout, self.feeds, self.tables, self.found = layout, feeds, tables, found
        self.existing, self.stored, self.known, self.lacking = existing, stored, known, lacking
        self.differs: dict[str, dict[str, np.ndarray]] = {}     # by table and column, which records say what is not taken over
        self.rows: dict[str, np.ndarray] = {}           # the number that each record has, or will have, in the database
        self.is_new: dict[str, np.ndarray] = {}
        self.keys: dict[str, dict[str, pa.Array]] = {}
        self.out = Merged()

    def merge(self) -> Merged:
        """Finds out what is to be done; problems are added to those of the sources."""
        order = [n for n in self.layout.parents_first() if n in self.tables]
        for name in order:
            self._match(name)
        for name in order:
            self._compare(name)
        for name in order:
            self._further(name)
        for name in order:
            self._new(name)
        for name in order:
            self._say(name)
        for name in order:
            self._known_rows(name)
            if self.differs and self.tables[name].spec.each_row and self.tables[name].spec.source in self.feeds:
                self._otherwise(name, name, np.arange(self.tables[name].rows), ())
        return self.out

    def policy(self, name: str) -> str:
        """What becomes of a known record of a table."""
        return policy_of(self.layout, name, self.known)

    # -- which records are known

    def _match(self, name: str) -> None:
        table, spec = self.tables[name], self.tables[name].spec
        rows = np.full(table.rows, -1, np.int64)
        natural = () if isinstance(spec.key, str) else spec.key
        again = spec.each_row and self.policy(name) == "add" and spec.source in self.feeds
        for columns in dict.fromkeys([*spec.unique_sets, *([natural] if natural else [])]) if not again else ():
            filled = self._filled(table, columns)
            if columns != spec.known_by and spec.known_by:
                filled &= ~self._filled(table, spec.known_by)       # another key counts only where the first one is not said
            wanted = np.flatnonzero(filled & (rows < 0))
            if len(wanted):
                rows[wanted] = self.existing.match(name, self._arrays(name, columns, wanted))
        self._unknown(name, rows)
        new = rows < 0
        creatable = self._creatable(name)
        new &= creatable
        rows[new] = self.existing.free(name, self._named_by(name, np.flatnonzero(new)))
        self.rows[name], self.is_new[name] = rows, new
        if self.layout.has_generated_key(name):
            self.keys[name] = {self.layout.key_of(name): pa.array(rows, mask=rows < 0)}
        else:
            self.keys[name] = self._arrays(name, natural, np.arange(table.rows))

    def _filled(self, table: TableRows, columns: Sequence[str]) -> np.ndarray:
        out = np.ones(table.rows, bool)
        for c in columns:
            codes = table.columns[c].codes
            assert codes is not None
            out &= codes >= 0
        return out

    def _arrays(self, name: str, columns: Sequence[str], records: np.ndarray) -> dict[str, pa.Array]:
        """Columns and links of some records of a table, as they stand in the database."""
        table = self.tables[name]
        out: dict[str, pa.Array] = {}
        for c in columns:
            values = table.columns[c]
            assert values.codes is not None
            codes = values.codes[records]
            at = pa.array(codes, mask=codes < 0)
            if c in table.spec.links:
                parent = self.keys.get(table.spec.links[c].to)
                for own, key in self.layout.link_columns(name, c) if parent else ():
                    out[own] = parent[key].take(at) if parent else pa.nulls(len(codes), pa.int64())
            else:
                assert values.values is not None
                out[c] = self.stored(values.values).take(at)
        return out

    def _links_to(self, name: str) -> list[tuple[str, str, np.ndarray]]:
        """The links by value that lead to a table: table, link, and the record that each of its records leads to."""
        out = []
        for other, table in self.tables.items():
            for link, target in table.spec.links.items() if table.spec.source in self.feeds else ():
                codes = table.columns[link].codes
                if target.to == name and target.by and codes is not None:
                    out.append((other, link, codes))
        return out

    def _creatable(self, name: str) -> np.ndarray:
        """Which records may be made: those that a file has itself, and those that a link may create."""
        out = np.ones(self.tables[name].rows, bool)
        for other, link, _ in self._links_to(name):
            out[self.found[other, link].created] = False
        for other, link, codes in self._links_to(name):
            if self.tables[other].spec.links[link].missing == "create":
                out[codes[codes >= 0]] = True
        return out

    def _unknown(self, name: str, rows: np.ndarray) -> None:
        """What leads to a record that is nowhere, and must not be made for it."""
        creatable = self._creatable(name)
        for other, link, codes in self._links_to(name):
            target = self.tables[other].spec.links[link]
            lost = np.flatnonzero((codes >= 0) & (np.append(rows, 0)[codes] < 0) & ~np.append(creatable, True)[codes])
            if not len(lost):
                continue
            table = self.tables[other]
            if target.missing == "blank":
                changed = codes.copy()
                changed[lost] = -1
                table.columns[link] = Values(None, changed)
                continue
            self._refuse_unknown(table, link, table.source_rows()[lost])

    def _refuse_unknown(self, table: TableRows, link: str, rows: np.ndarray) -> None:
        target, feed = table.spec.links[link], self.feeds[table.spec.source]
        [by, *more], header = target.by, next(iter(target.by.values()))
        known: list[str] = []

        def reason(row: int) -> str:
            from rapidfuzz import fuzz, process

            if not known:
                known.extend(self.existing.known_texts(target.to, by, MOST_COMPARED))
            text = feed.text(header, row)
            near = None if more else process.extractOne(text.strip('"'), known, scorer=fuzz.ratio, score_cutoff=70)
            return f"{text} leads to no {target.to}" + (f'; the nearest is "{near[0]}"' if near else "")

        feed.problem("unknown", " + ".join(target.by.values()), rows[rows >= 0], reason,
                     f'mend the cells, or say missing = "create" or "blank" in tables > {table.name} > links > {link}', target.to)

    def _named_by(self, name: str, records: np.ndarray) -> list[pa.Array] | int:
        """The natural keys of some records as they would stand in the database, where they are known by any; else how many they
        are."""
        columns = self.tables[name].spec.known_by
        if not columns or not len(records):
            return len(records)
        return list(self._arrays(name, columns, records).values())

    # -- what known records would change

    def _compare(self, name: str) -> None:
        table, spec = self.tables[name], self.tables[name].spec
        known = np.flatnonzero((self.rows[name] >= 0) & ~self.is_new[name])
        count = TableCount(name, int(np.count_nonzero(self.is_new[name])), len(known))
        self.out.counts.append(count)
        if not len(known):
            return
        policy = self.policy(owner_of(self.layout, name))
        if spec.each_row and spec.source in self.feeds and policy == "refuse":
            feed = self.feeds[spec.source]
            own = table.source_rows()[known]
            there = self.rows[name][known][own >= 0]
            own = own[own >= 0]
            if len(own):
                key = " + ".join(feed.key_headers(name)) or "key"
                feed.problem("again", key, own, f"is in the database already, as a record of {name}",
                             "leave the row out, or say --known keep, fill or overwrite", name, there)
                return
        columns = self._said_columns(name)
        arrays = self._arrays(name, columns, known)
        differs = self.existing.differing(name, self.rows[name][known], arrays)
        changed, filled, kept = (np.zeros(len(known), bool) for _ in range(3))
        named = self._only_named(name)[known]
        for column in columns:
            for own_column in self.layout.stored_as(name, [column]):
                there = differs[own_column]
                there = there & ~(named & arrays[own_column].is_null().to_numpy(zero_copy_only=False))
                if not there.any():
                    continue
                at = np.flatnonzero(there)
                rule = rule_of(self.layout, name, column, self.known)
                if rule == EXCEPTION:
                    self._exceptions(name, column, known[at])
                    self._keep(name, own_column, known[at], arrays[own_column].take(pa.array(at)))
                    continue
                if rule == "refuse":
                    self._differs(name, column, own_column, known[at])
                    continue
                if rule == "fill":
                    texts = self.existing.texts(name, own_column, self.rows[name][known[at]].tolist())
                    blank = np.array([texts[r] == "" for r in self.rows[name][known[at]].tolist()], bool)
                    blank &= arrays[own_column].is_valid().to_numpy(zero_copy_only=False)[at]
                    staying = at[~blank & arrays[own_column].is_valid().to_numpy(zero_copy_only=False)[at]]
                    self._keep(name, own_column, known[at[~blank]], arrays[own_column].take(pa.array(at[~blank])), column)
                    kept[staying] = True
                    at = at[blank]
                    filled[at] = True
                elif rule == "keep":
                    kept[at] = True
                    self._keep(name, own_column, known[at], arrays[own_column].take(pa.array(at)), column)
                    continue
                else:
                    changed[at] = True
                if len(at):
                    self.out.updates.append(Update(name, own_column, self.rows[name][known[at]],
                                                   arrays[own_column].take(pa.array(at))))
        count.kept, count.filled = int(np.count_nonzero(kept)), int(np.count_nonzero(filled))
        count.overwritten = int(np.count_nonzero(changed))
        count.known -= int(np.count_nonzero(kept | filled | changed))

    def _keep(self, name: str, own_column: str, records: np.ndarray, values: pa.Array, column: str = "") -> None:
        """Notes that values which records say are not taken over. A `column` of the layout shows that in the rows, too."""
        if not len(records):
            return
        self.out.kept.append(Update(name, own_column, self.rows[name][records], values))
        if column:
            flags = self.differs.setdefault(name, {}).setdefault(column, np.zeros(self.tables[name].rows, bool))
            flags[records] = True

    def _said_columns(self, name: str) -> list[str]:
        """The columns and links of a table, beside its natural key, of which these files say anything."""
        spec = self.tables[name].spec
        return [c for c in (*spec.links, *spec.columns) if c not in spec.known_by and self._is_said(spec, c)]

    def _only_named(self, name: str) -> np.ndarray:
        """Which records of a table no row says itself: others only name them."""
        table = self.tables[name]
        if any(c.split for c in table.spec.columns.values()):
            return np.zeros(table.rows, bool)
        named: np.ndarray = table.source_rows() < 0
        return named

    def _is_said(self, spec: TableSpec, column: str) -> bool:
        """Whether the file says anything in a column: not so for one that it may lack, and does."""
        headers = spec.columns[column].sources if column in spec.columns else ()
        return not headers or any(h not in self.lacking.get(spec.source, set()) for h in headers)

    def _rows_of(self, name: str, records: np.ndarray) -> tuple[SourceTables, np.ndarray, np.ndarray]:
        """The rows of a source that say something of some records of a table, and which record each is about."""
        table, spec = self.tables[name], self.tables[name].spec
        feed = self.feeds.get(spec.source) or next(iter(self.feeds.values()))
        if spec.each_row or spec.part_of or any(c.split for c in spec.columns.values()):
            rows = table.source_rows()[records]
            if (rows >= 0).any():
                return feed, rows[rows >= 0], records[rows >= 0]
        elif spec.source in self.feeds:
            codes, _ = feed.identity(name)
            rows = np.flatnonzero(np.isin(codes, records))
            if len(rows):
                return feed, rows, codes[rows]
        for other, _, codes in self._links_to(name):    # records that only others name
            at = np.flatnonzero(np.isin(codes, records))
            rows = self.tables[other].source_rows()[at]
            if (rows >= 0).any():
                return self.feeds[self.tables[other].spec.source], rows[rows >= 0], codes[at[rows >= 0]]
        return feed, np.empty(0, np.int64), np.empty(0, np.int64)

    def _differs(self, name: str, column: str, own_column: str, records: np.ndarray) -> None:
        spec = self.tables[name].spec
        feed, rows, which = self._rows_of(name, records)
        header = feed.header_of(self.tables[name], column)
        if feed.name != spec.source:                    # said by a row that only names the record
            header = next((h for t in self.layout.tables.values() for link in t.links.values() if t.source == feed.name
                           and link.to == name for c, h in (*link.by.items(), *link.repeats.items()) if c == column), header)
        there = self.existing.texts(name, own_column, self.rows[name][records].tolist())
        record_of = dict(zip(rows.tolist(), which.tolist(), strict=True))
        link = column in spec.links

        def reason(row: int) -> str:
            text = there.get(int(self.rows[name][record_of[row]])) or ""
            said = f'"{text}"' if text else "nothing"
            return f"differs from what the database says of this {name}" + ("" if link else f": {said}")

        feed.problem("differs", header, rows, reason,
                     f"mend the cells, or say --known keep, fill or overwrite (or known = ... in tables > {name})", name,
                     self.rows[name][which])

    def _exceptions(self, name: str, column: str, records: np.ndarray) -> None:
        """Rows that say something else than is usual of a known record keep it, whatever is usual in this file."""
        spec = self.tables[name].spec
        header = spec.columns[column].header
        place = self.layout.exceptional(spec.source, header)
        assert place is not None
        base, exception, _, _ = place
        feed, rows, which = self._rows_of(name, records)
        there = self.existing.texts(name, column, self.rows[name][records].tolist())
        said = feed.ready.column(header, spec.columns[column])
        values = self.stored(feed.ready.typed(header, spec.columns[column]))
        texts = [str(v) for v in pc.cast(values, pa.string()).to_pylist()]
        base_rows = self.tables[base].source_rows()
        old = self.tables[base].columns[exception]
        assert old.codes is not None
        codes = old.codes.copy()
        position = {int(r): i for i, r in enumerate(base_rows.tolist())}
        for row, record in zip(rows.tolist(), which.tolist(), strict=True):
            code = int(said.codes[row])
            usual = there.get(int(self.rows[name][record])) or ""
            codes[position[row]] = -1 if code >= 0 and _same(texts[code], usual) else code
        self.tables[base].columns[exception] = Values(old.values, codes)

    def _further(self, name: str) -> None:
        """What rows say again of tables further away (`link.column`) must be what is said there."""
        table, spec = self.tables[name], self.tables[name].spec
        for link, target in spec.links.items() if spec.source in self.feeds else ():
            codes = table.columns[link].codes
            for path, header in target.repeats.items():
                *links, column = path.split(".")
                tables = [target.to]
                for further in links:
                    tables.append(self.tables[tables[-1]].spec.links[further].to)
                if not links or codes is None or not all(self.layout.has_generated_key(t) for t in tables):
                    continue
                feed, rows = self.feeds[spec.source], table.source_rows()
                at = np.flatnonzero((codes >= 0) & (rows >= 0))
                own = self.tables[tables[-1]].spec.columns[column]
                values = pc.cast(self.stored(feed.ready.typed(header, own)), pa.string())
                said = np.append(np.array(values.to_pylist(), object), "")[feed.ready.column(header, own).codes[rows[at]]]
                there = self._said_there(tables, links, column, np.unique(codes[at]))
                same = [_same(there.get(c, ""), s or "") for c, s in zip(codes[at].tolist(), said.tolist(), strict=True)]
                if len(wrong := at[~np.array(same, bool)]):
                    known = " + ".join(target.by.values())
                    remedy = f'mend the cells, or take "{header}" out of repeats of tables > {name} > links > {link}'
                    feed.problem("differs", header, rows[wrong], f"differs from what the database says of the same {known}", remedy,
                                 tables[-1])

    def _said_there(self, tables: Sequence[str], links: Sequence[str], column: str, records: np.ndarray) -> dict[int, str]:
        """What stands in a column that links lead to, as text, for records of the first of some tables."""
        out: dict[int, str] = {}
        for record in records[self.is_new[tables[0]][records]].tolist():        # a record of these files
            here = record
            for table, further in zip(tables, links, strict=False):
                codes = self.tables[table].columns[further].codes
                here = int(codes[here]) if codes is not None and here >= 0 else -1
            values = self.tables[tables[-1]].columns[column]
            if here >= 0 and values.codes is not None and values.values is not None and values.codes[here] >= 0:
                out[record] = str(self.stored(values.values.slice(int(values.codes[here]), 1))[0].as_py())
        numbers, new = self.rows[tables[0]], self.is_new[tables[0]]
        ids = {r: int(numbers[r]) for r in records.tolist() if not new[r] and numbers[r] >= 0}
        for table, further in zip(tables, links, strict=False):
            texts = self.existing.texts(table, further, sorted(set(ids.values())))
            ids = {r: int(text) for r, i in ids.items() if (text := texts.get(i))}
        texts = self.existing.texts(tables[-1], column, sorted(set(ids.values())))
        return out | {r: texts.get(i) or "" for r, i in ids.items()}

    # -- what is new

    def _new(self, name: str) -> None:
        spec = self.tables[name].spec
        new = np.flatnonzero(self.is_new[name])
        if spec.part_of:
            new = self._parts_to_add(name, new)
            self.rows[name][new] = self.existing.free(name, self._named_by(name, new))
        for c in [] if not len(new) else [*spec.unique_sets, *(() if isinstance(spec.key, str) else (spec.key,))]:
            if c != spec.known_by:
                self._taken(name, c, new)
        self._blank(name, new)
        columns: dict[str, pa.Array] = {}
        if self.layout.has_generated_key(name):
            columns[self.layout.key_of(name)] = pa.array(self.rows[name][new])
        columns |= self._arrays(name, [*spec.links, *spec.columns], new)
        self.out.new[name], self.out.numbers[name] = pa.table(columns), self.rows[name][new]
        rows = self.tables[name].source_rows()[new]
        self.out.said_in[name] = spec.source, rows
        if spec.each_row and spec.source in self.feeds and (np.diff(self.rows[name][new][rows >= 0]) < 0).any():
            mine = np.flatnonzero(rows >= 0)
            mine = mine[np.argsort(rows[mine], kind="stable")]
            self.out.own[spec.source] = Known(self.feeds[spec.source].records(rows[mine]), self.rows[name][new][mine],
                                              np.zeros(len(mine), bool))
        next(c for c in self.out.counts if c.name == name).added = len(new)

    def _parts_to_add(self, name: str, new: np.ndarray) -> np.ndarray:
        """The new records of a part table whose owner is new as well. Where a known record has other parts in the database, that
        is refused, or the parts there are kept."""
        table, spec = self.tables[name], self.tables[name].spec
        link = self.layout.owner_link(name)
        owner = table.columns[link].codes
        assert owner is not None
        owners = self.tables[spec.part_of]
        with_new = self.is_new[spec.part_of][owner[new]]
        more = new[~with_new]
        self.is_new[name][more] = False
        self.rows[name][more] = -1
        kept: np.ndarray = new[with_new]
        if spec.source not in self.feeds:
            return kept
        policy, feed = self.policy(owner_of(self.layout, name)), self.feeds[spec.source]
        header = next((h for c in spec.columns.values() for h in c.sources), "") or next(
            (h for link in spec.links.values() for h in link.by.values()), "")
        known = np.flatnonzero((self.rows[spec.part_of] >= 0) & ~self.is_new[spec.part_of] & ~self._only_named(spec.part_of))
        keys = {own: self.keys[spec.part_of][key].take(pa.array(known)) for own, key in self.layout.link_columns(name, link)}
        here = np.bincount(owner[self.rows[name] >= 0], minlength=owners.rows)[known]
        fewer = known[self.existing.counts(name, keys) > here] if len(known) else known
        different = {"keep": np.union1d(owner[more], fewer), "fill": fewer}.get(policy, fewer[:0])
        if len(different):
            self.out.kept_parts[name] = np.sort(self.rows[spec.part_of][different])
            flags = self.differs.setdefault(spec.part_of, {}).setdefault(f"{name}.", np.zeros(owners.rows, bool))
            flags[different] = True
        if len(more) and policy != "keep":
            mine, first = np.unique(table.source_rows()[more], return_index=True)
            feed.problem("differs", header, mine, f"has more records of {name} than the database has for this {spec.part_of}",
                         "leave the row out, or say --known keep", spec.part_of, self.rows[spec.part_of][owner[more[first]]])
        if len(fewer) and policy not in ("keep", "fill"):
            feed.problem("differs", header, owners.source_rows()[fewer],
                         f"has fewer records of {name} than the database has for this {spec.part_of}",
                         "leave the row out, or say --known keep", spec.part_of, self.rows[spec.part_of][fewer])
        return kept

    # -- who says what

    def _say(self, name: str) -> None:
        """Notes which records of a table are said, and what of them."""
        named, creatable = self._only_named(name), self._creatable(name)
        rows, new = self.rows[name], self.is_new[name]
        columns, said = self._said_columns(name), []
        naming = {c for other, link, _ in self._links_to(name)
                  for c in (*self.tables[other].spec.links[link].by, *self.tables[other].spec.links[link].repeats)}
        pattern = np.zeros(len(rows), np.int64)
        for column in columns:
            codes = self.tables[name].columns[column].codes
            assert codes is not None
            said.append(~named | ((codes >= 0) if column in naming else False))
            _, pattern = np.unique(pattern * 2 + said[-1], return_inverse=True)
        whole = len(columns) == len([c for c in (*self.tables[name].spec.links, *self.tables[name].spec.columns)
                                     if c not in self.tables[name].spec.known_by])
        roles = np.where(new, np.where(named, CREATED, MADE), np.where(named, np.where(creatable, NAMED, REFERRED), SAID))
        for role in np.unique(roles[rows >= 0]).tolist() if len(rows) else ():
            for p in np.unique(pattern[(rows >= 0) & (roles == role)]).tolist():
                mine = np.flatnonzero((rows >= 0) & (roles == role) & (pattern == p))
                there = [c for c, s in zip(columns, said, strict=True) if s[mine[0]]]
                all_ = whole and len(there) == len(columns)
                self.out.sayings.append(Saying(name, np.unique(rows[mine]), role,
                                               None if all_ else tuple(self.layout.stored_as(name, there))))

    def _known_rows(self, name: str) -> None:
        """Notes the rows of a source whose records were there already, and which of them say something else."""
        table, spec = self.tables[name], self.tables[name].spec
        if not spec.each_row or spec.source not in self.feeds:
            return
        source_rows = table.source_rows()
        known = np.flatnonzero((self.rows[name] >= 0) & ~self.is_new[name] & (source_rows >= 0))
        if not len(known):
            return
        known = known[np.argsort(source_rows[known], kind="stable")]
        self.out.known[spec.source] = Known(self.feeds[spec.source].records(source_rows[known]), self.rows[name][known],
                                            self._shown_otherwise(name, ())[known])

    def _otherwise(self, base: str, name: str, reached: np.ndarray, on_the_way: tuple[str, ...], *,
                   only: Mapping[str, str] | None = None) -> None:
        """Notes the cells of rows that say something of a table which was not taken over; `reached` is the record of it for each
        record of the `base`. With `only`, only these columns show in the rows, each under a header."""
        table, feed = self.tables[name], self.feeds[self.tables[base].spec.source]
        source_rows = self.tables[base].source_rows()

        def note(header: str, at: np.ndarray, shown: np.ndarray, where: str, column: str, to: str = "") -> None:
            order = np.argsort(source_rows[at], kind="stable")
            self.out.otherwise.append(OtherwiseSaid(feed.name, header, feed.records(source_rows[at][order]), where, column,
                                                    shown[order], to))

        for column, flags in self.differs.get(name, {}).items():
            at = np.flatnonzero(np.append(flags, False)[reached] & (source_rows >= 0))
            if not len(at) or (only is not None and column not in only):
                continue
            numbers = self.rows[name][reached[at]]
            if column.endswith("."):
                for header in dict.fromkeys(h for c in self.layout.tables[column[:-1]].columns.values() for h in c.sources):
                    note(header, at, numbers, name, "")
                continue
            link = table.spec.links.get(column)
            own = self.layout.stored_as(name, [column])[0]
            header = only[column] if only else feed.header_of(table, column)
            note(header, at, numbers, name, own, link.to if link else "")
        for link_name, target in table.spec.links.items() if only is None else ():
            codes = table.columns[link_name].codes
            if codes is None or target.to in (name, *on_the_way):
                continue
            self._otherwise(base, target.to, np.where(reached >= 0, np.append(codes, -1)[reached], -1), (*on_the_way, name),
                            only={c: h for c, h in target.repeats.items() if "." not in c} if target.by else None)
        for part, other in self.tables.items():
            if other.spec.part_of != name or only is not None:
                continue
            owner = other.columns[self.layout.owner_link(part)].codes
            back = np.full(self.tables[name].rows + 1, -1, np.int64)
            back[reached] = np.arange(len(reached))
            for column, flags in self.differs.get(part, {}).items():
                assert owner is not None
                spec = other.spec.columns.get(column)
                hit = np.flatnonzero(flags & (back[owner] >= 0))
                told = next((n for n, c in other.spec.columns.items() if c.told), "")
                places = other.columns[told].codes if told and spec and spec.headers else None
                headers = spec.sources if spec else tuple(other.spec.links[column].by.values())
                for i, header in enumerate(headers):
                    some = hit if places is None else hit[places[hit] == i]
                    if len(some):
                        note(header, back[owner[some]], self.rows[part][some], part, self.layout.stored_as(part, [column])[0],
                             "" if spec else other.spec.links[column].to)

    def _shown_otherwise(self, name: str, on_the_way: tuple[str, ...]) -> np.ndarray:
        """Which records of a table, with what they lead to and their parts, say anything that was not taken over."""
        table, spec = self.tables[name], self.tables[name].spec
        out = np.zeros(table.rows, bool)
        for flags in self.differs.get(name, {}).values():
            out |= flags
        for link, target in spec.links.items():
            codes = table.columns[link].codes
            if codes is None or target.to in (name, *on_the_way) or target.to not in self.tables:
                continue
            if target.by:                               # only what is said again of the record shows in the row
                there = np.zeros(self.tables[target.to].rows, bool)
                for column in target.repeats:
                    there |= self.differs.get(target.to, {}).get(column, False)
            else:
                there = self._shown_otherwise(target.to, (*on_the_way, name))
            out |= np.append(there, False)[codes]
        for part, other in self.tables.items():
            if other.spec.part_of == name and part not in on_the_way:
                owner = other.columns[self.layout.owner_link(part)].codes
                flags = self._shown_otherwise(part, (*on_the_way, name))
                assert owner is not None
                out[owner[flags]] = True
        return out

    def _taken(self, name: str, columns: tuple[str, ...], new: np.ndarray) -> None:
        """New records that have a key, other than that by which they are known, of another record."""
        table = self.tables[name]
        wanted = new[self._filled(table, columns)[new]]
        if not len(wanted):
            return
        hits = self.existing.match(name, self._arrays(name, columns, wanted))
        bad = wanted[hits >= 0]
        if not len(bad):
            return
        feed, rows, which = self._rows_of(name, bad)
        owner = dict(zip(wanted.tolist(), hits.tolist(), strict=True))
        record_of = dict(zip(rows.tolist(), which.tolist(), strict=True))
        shown = next((c for c in table.spec.known_by if c in table.spec.columns), "")
        there = self.existing.texts(name, shown, hits[hits >= 0].tolist()) if shown else {}
        header = " + ".join(feed.header_of(table, c) for c in columns)
        key = " + ".join(feed.key_headers(name))

        def reason(row: int) -> str:
            other = there.get(owner[record_of[row]], "")
            mine = feed.text(feed.key_headers(name)[0], row) if shown else ""
            return f"is that of the {name} \"{other}\" in the database" + (f'; did {mine} mean "{other}"?' if other else "")

        feed.problem("again", header, rows, reason, f"mend {key} or {header}", name,
                     np.array([owner[record_of[r]] for r in rows.tolist()], np.int64))

    def _blank(self, name: str, new: np.ndarray) -> None:
        """New records that only others name, and of which something is not known that must be."""
        table, spec = self.tables[name], self.tables[name].spec
        rows = table.source_rows()[new]
        made = new[rows < 0]
        if not len(made) or any(c.split for c in spec.columns.values()):
            return
        for column, values in table.columns.items():
            own = spec.columns.get(column)
            if values.codes is None or column in spec.optional or (own and own.instead_of):
                continue
            bad = made[values.codes[made] < 0]
            if len(bad):
                feed, source_rows, _ = self._rows_of(name, bad)
                header = next((h for t in self.layout.tables.values() for link in t.links.values() if link.to == name
                               and t.source == feed.name for h in link.by.values()), "")
                feed.problem("unknown", header, source_rows, f"names a {name} that is not there, and says no {column} of it",
                             f'add it first, or list "{column}" under optional of tables > {name}', name)
                return


def _same(one: str, other: str) -> bool:
    """Whether two values as text are the same; an engine may spell a number in another way."""
    if one == other:
        return True
    try:
        return float(one) == float(other)
    except ValueError:
        return False
