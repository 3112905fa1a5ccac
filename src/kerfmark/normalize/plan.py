"""Third stage of merging: the rows that are new, and whether the database can take them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.normalize import sentences
from kerfmark.normalize.compare import Compared, same_value
from kerfmark.normalize.match import Matched
from kerfmark.normalize.merged import Known
from kerfmark.normalize.policy import owner_of
from kerfmark.normalize.table_rows import Counted
from kerfmark.profile.codes import distinct


@dataclass(frozen=True)
class Planned:
    """By table: the number of each record (`rows`) and whether it is new, once parts of known
    records are told from new ones; the new rows with their `numbers`, and the source and row that
    each comes from (`said_in`). `own`: the new records of a source, where these are not numbered in
    the order of its rows. `kept_parts`: the records whose parts differ and stay; `replaced`: those
    whose parts become others, and `removed` the rows of parts that go. `differs` as in
    `Compared`."""

    matched: Matched
    rows: Mapping[str, np.ndarray]
    is_new: Mapping[str, np.ndarray]
    new: Mapping[str, pa.Table]
    numbers: Mapping[str, np.ndarray]
    said_in: Mapping[str, tuple[str, np.ndarray]]
    own: Mapping[str, Known]
    kept_parts: Mapping[str, np.ndarray]
    removed: Mapping[str, np.ndarray]
    replaced: Mapping[str, np.ndarray]
    differs: Mapping[str, Mapping[str, np.ndarray]]


def plan(compared: Compared) -> Planned:
    """Makes the new rows; what the database cannot take is added to the problems of its source."""
    stage = _Planning(compared)
    for name in stage.incoming.order():
        stage._further(name)
    for name in stage.incoming.order():
        stage._new(name)
    return Planned(
        compared.matched,
        stage.rows,
        stage.is_new,
        stage.new,
        stage.numbers,
        stage.said_in,
        stage.own,
        stage.kept_parts,
        stage.removed,
        stage.replaced,
        stage.differs,
    )


class _Planning:
    """The plan under way."""

    def __init__(self, compared: Compared) -> None:
        self.matched, self.incoming = compared.matched, compared.matched.incoming
        self.rows = {name: rows.copy() for name, rows in self.matched.rows.items()}
        self.is_new = {name: new.copy() for name, new in self.matched.is_new.items()}
        self.differs = {name: dict(columns) for name, columns in compared.differs.items()}
        self.new: dict[str, pa.Table] = {}
        self.numbers: dict[str, np.ndarray] = {}
        self.said_in: dict[str, tuple[str, np.ndarray]] = {}
        self.own: dict[str, Known] = {}
        self.kept_parts: dict[str, np.ndarray] = {}
        self.removed: dict[str, np.ndarray] = {}
        self.replaced: dict[str, np.ndarray] = {}
        self.updated = {
            name: np.concatenate([u.rows for u in compared.updates if u.table == name])
            for name in {u.table for u in compared.updates}
        }

    def _further(self, name: str) -> None:
        """What rows say again of tables further away (`link.column`) must be what is said there."""
        table, spec = self.incoming.tables[name], self.incoming.tables[name].spec
        for link, target in spec.links.items() if spec.source in self.incoming.feeds else ():
            codes = table.codes(link)
            for path, header in target.repeats.items():
                *links, column = path.split(".")
                tables = [target.to]
                for further in links:
                    tables.append(self.incoming.tables[tables[-1]].spec.links[further].to)
                if not links:
                    continue
                feed, rows = self.incoming.feeds[spec.source], table.source_rows()
                at = np.flatnonzero((codes >= 0) & (rows >= 0))
                own = self.incoming.tables[tables[-1]].spec.columns[column]
                values = pc.cast(
                    self.incoming.to_engine(feed.ready.typed(header, own)), pa.string()
                )
                said = feed.ready.column(header, own).codes[rows[at]]
                there = self._existing_value(tables, links, column, distinct(codes[at]))
                texts = [*(text or "" for text in values.to_pylist()), ""]
                each, back = np.unique([codes[at], said], axis=1, return_inverse=True)
                same = [same_value(there.get(c, ""), texts[s]) for c, s in each.T.tolist()]
                if len(wrong := at[~np.array(same, bool)[back.ravel()]]):
                    known = " + ".join(target.by.values())
                    remedy = (
                        f'correct the cells\ntake "{header}" out of repeats of tables > '
                        f"{name} > links > {link}"
                    )
                    feed.problem(
                        "differs",
                        (header,),
                        rows[wrong],
                        f"differs from the database, which has another value for the same {known}",
                        remedy,
                        tables[-1],
                    )

    def _existing_value(
        self, tables: Sequence[str], links: Sequence[str], column: str, records: np.ndarray
    ) -> dict[int, str]:
        """The values in a column that links lead to, as text, for records of the first of some
        tables."""
        out: dict[int, str] = {}
        for record in records[self.is_new[tables[0]][records]].tolist():  # a record of these files
            here = record
            for table, further in zip(tables, links, strict=False):
                here = int(self.incoming.tables[table].codes(further)[here]) if here >= 0 else -1
            values = self.incoming.tables[tables[-1]].typed(column)
            if here >= 0 and values.codes[here] >= 0:
                out[record] = str(
                    self.incoming.to_engine(values.values.slice(int(values.codes[here]), 1))[
                        0
                    ].as_py()
                )
        numbers, new = self.rows[tables[0]], self.is_new[tables[0]]
        ids = {r: int(numbers[r]) for r in records.tolist() if not new[r] and numbers[r] >= 0}
        for (table, to), further in zip(pairwise(tables), links, strict=True):
            pairs = self.incoming.layout.link_columns(table, further)
            there = self.incoming.existing.parent_rows(table, pairs, to, sorted(set(ids.values())))
            ids = {r: there[i] for r, i in ids.items() if i in there}
        texts = self.incoming.existing.texts(tables[-1], column, sorted(set(ids.values())))
        return out | {r: texts.get(i) or "" for r, i in ids.items()}

    def _new(self, name: str) -> None:
        spec = self.incoming.tables[name].spec
        new = np.flatnonzero(self.is_new[name])
        if spec.part_of:
            new = self._parts_to_add(name, new)
            self.rows[name][new] = self.incoming.free(name, self.matched.named_by(name, new))
        for c in (
            []
            if not len(new)
            else [*spec.unique_sets, *(() if isinstance(spec.key, str) else (spec.key,))]
        ):
            if c != spec.known_by:
                self._taken(name, c, new)
        self._blank(name, new)
        columns: dict[str, pa.Array] = {}
        if self.incoming.layout.has_generated_key(name):
            columns[self.incoming.layout.key_of(name)] = pa.array(self.rows[name][new])
        columns |= self.matched.arrays(name, [*spec.links, *spec.columns], new)
        self.new[name], self.numbers[name] = pa.table(columns), self.rows[name][new]
        rows = self.incoming.tables[name].source_rows()[new]
        self.said_in[name] = spec.source, rows
        if (
            spec.each_row
            and spec.source in self.incoming.feeds
            and (np.diff(self.rows[name][new][rows >= 0]) < 0).any()
        ):
            mine = np.flatnonzero(rows >= 0)
            mine = mine[np.argsort(rows[mine], kind="stable")]
            self.own[spec.source] = Known(
                self.incoming.feeds[spec.source].records(rows[mine]),
                self.rows[name][new][mine],
                np.zeros(len(mine), bool),
            )

    def _parts_to_add(self, name: str, new: np.ndarray) -> np.ndarray:
        """The new records of a part table whose owner is new as well. Where a known record has
        other parts in the database, that is refused, or the parts there are kept."""
        table, spec = self.incoming.tables[name], self.incoming.tables[name].spec
        link = self.incoming.layout.owner_link(name)
        owner = table.codes(link)
        owners = self.incoming.tables[spec.part_of]
        with_new = self.is_new[spec.part_of][owner[new]]
        more = new[~with_new]
        kept: np.ndarray = new[with_new]
        policy = self.incoming.policy(owner_of(self.incoming.layout, name))
        if policy == "replace" and spec.source in self.incoming.feeds:
            self._replace_parts(name, link, more)
            return new
        self.is_new[name][more] = False
        self.rows[name][more] = -1
        if spec.source not in self.incoming.feeds or not self._says_parts(name):
            return kept
        feed = self.incoming.feeds[spec.source]
        header = next((h for c in spec.columns.values() for h in c.sources), "") or next(
            (h for link in spec.links.values() for h in link.by.values()), ""
        )
        known = np.flatnonzero(
            (self.rows[spec.part_of] >= 0)
            & ~self.is_new[spec.part_of]
            & ~self.incoming.only_named(spec.part_of)
        )
        keys = {
            own: self.matched.keys[spec.part_of][key].take(pa.array(known))
            for own, key in self.incoming.layout.link_columns(name, link)
        }
        here = np.bincount(owner[self.rows[name] >= 0], minlength=owners.rows)[known]
        fewer = (
            known[self.incoming.existing.count_matches(name, keys) > here] if len(known) else known
        )
        different = {"keep": np.union1d(owner[more], fewer), "fill": fewer}.get(policy, fewer[:0])
        if len(different):
            self.kept_parts[name] = np.sort(self.rows[spec.part_of][different])
            flags = self.differs.setdefault(spec.part_of, {}).setdefault(
                f"{name}.", np.zeros(owners.rows, bool)
            )
            flags[different] = True
        if len(more) and policy != "keep":
            mine, first = np.unique(table.source_rows()[more], return_index=True)
            feed.problem(
                "differs",
                (header,),
                mine,
                f"has more records of {name} than the database has for this {spec.part_of}",
                "--known keep leaves what is there\nleave the row out",
                spec.part_of,
                self.rows[spec.part_of][owner[more[first]]],
            )
        if len(fewer) and policy not in ("keep", "fill"):
            feed.problem(
                "differs",
                (header,),
                owners.source_rows()[fewer],
                f"has fewer records of {name} than the database has for this {spec.part_of}",
                "--known keep leaves what is there\nleave the row out",
                spec.part_of,
                self.rows[spec.part_of][fewer],
            )
        return kept

    def _says_parts(self, name: str) -> bool:
        """Whether the files say anything of the parts that a table holds: not so where they lack
        all headers of these."""
        spec = self.incoming.tables[name].spec
        headers = {h for c in spec.columns.values() for h in c.sources}
        headers |= {h for link in spec.links.values() for h in link.by.values()}
        return not headers or bool(headers - self.incoming.lacking.get(spec.source, set()))

    def _replace_parts(self, name: str, link: str, more: np.ndarray) -> None:
        """Notes which parts that the database has of known records go, and of which records parts
        become others; `more` are parts that these have not yet."""
        if not self._says_parts(name):
            return
        table, spec = self.incoming.tables[name], self.incoming.tables[name].spec
        owner, owners = table.codes(link), self.rows[spec.part_of]
        known = np.flatnonzero(
            (owners >= 0) & ~self.is_new[spec.part_of] & ~self.incoming.only_named(spec.part_of)
        )
        if not len(known):
            return
        keys = {
            own: self.matched.keys[spec.part_of][key].take(pa.array(known))
            for own, key in self.incoming.layout.link_columns(name, link)
        }
        which, rows = self.incoming.existing.matching_rows(name, keys)
        record_of = known[which]
        gone = ~np.isin(rows, self.rows[name][~self.is_new[name]])
        changed = np.isin(rows, self.updated.get(name, np.empty(0, np.int64)))
        self.removed[name] = np.sort(rows[gone])
        other = distinct(np.concatenate([record_of[gone | changed], owner[more]]))
        self.replaced[name] = np.sort(owners[other])

    def _taken(self, name: str, columns: tuple[str, ...], new: np.ndarray) -> None:
        """New records that have a key, other than that by which they are known, of another
        record."""
        table = self.incoming.tables[name]
        wanted = new[self.incoming.filled(table, columns)[new]]
        if not len(wanted):
            return
        hits = self.incoming.existing.match(name, self.matched.arrays(name, columns, wanted))
        bad = wanted[hits >= 0]
        if not len(bad):
            return
        feed, rows, which = self.incoming.rows_of(name, bad)
        owner = dict(zip(wanted.tolist(), hits.tolist(), strict=True))
        record_of = dict(zip(rows.tolist(), which.tolist(), strict=True))
        shown = next((c for c in table.spec.known_by if c in table.spec.columns), "")
        there = self.incoming.existing.texts(name, shown, hits[hits >= 0].tolist()) if shown else {}
        headers = tuple(feed.header_of(table, c) for c in columns)
        keys = feed.layout.key_headers(name)

        def meant(row: int) -> str:
            return there.get(owner[record_of[row]]) or ""

        def reason(row: int) -> str:
            other = meant(row)
            said = feed.text(keys[0], row) if other else ""
            return sentences.same_as_existing(name, other, said, headers)

        # one cause: what else is wrong with these rows comes of the key that was meant
        feed.supersede("differs", tuple(keys), rows)
        feed.supersede("again", headers, rows, name, held=False)
        feed.problem(
            "again",
            headers,
            rows,
            reason,
            sentences.correct_either(keys, headers),
            name,
            np.array([owner[record_of[r]] for r in rows.tolist()], np.int64),
            suggested=meant if len(keys) == 1 else None,
            suggested_for=keys[0] if keys else "",
        )

    def _blank(self, name: str, new: np.ndarray) -> None:
        """New records that only others name, and of which something is not known that must be."""
        table, spec = self.incoming.tables[name], self.incoming.tables[name].spec
        rows = table.source_rows()[new]
        made = new[rows < 0]
        if not len(made) or any(c.split for c in spec.columns.values()):
            return
        for column, values in table.columns.items():
            own = spec.columns.get(column)
            if isinstance(values, Counted) or column in spec.optional or (own and own.instead_of):
                continue
            bad = made[values.codes[made] < 0]
            if len(bad):
                feed, source_rows, _ = self.incoming.rows_of(name, bad)
                header = next(
                    (
                        h
                        for t in self.incoming.layout.tables.values()
                        for link in t.links.values()
                        if link.to == name and t.source == feed.name
                        for h in link.by.values()
                    ),
                    "",
                )
                feed.problem(
                    "unknown",
                    (header,) if header else (),
                    source_rows,
                    f"refers to a {name} that does not exist, and its {column} is missing",
                    f'add it first\nlist "{column}" under optional of tables > {name}',
                    name,
                )
                return
