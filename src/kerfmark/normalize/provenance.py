"""Last stage of merging: which records the rows say, which of them were there already, and what
they say otherwise."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from kerfmark.normalize.merged import Known, OtherwiseSaid, Provenance
from kerfmark.normalize.plan import Planned
from kerfmark.normalize.policy import CREATED, MADE, NAMED, REFERRED, SAID
from kerfmark.profile.codes import distinct


@dataclass(frozen=True)
class ProvenanceFound:
    """The records that are said; by source, the rows whose records were there already; and the
    cells that say something which was not taken over."""

    sayings: tuple[Provenance, ...]
    known: Mapping[str, Known]
    otherwise: tuple[OtherwiseSaid, ...]


def find_provenance(planned: Planned) -> ProvenanceFound:
    """Who says what, as the ledger will keep it."""
    stage = _Finding(planned)
    for name in stage.incoming.order():
        stage._say(name)
    for name in stage.incoming.order():
        stage._known_rows(name)
        table = stage.incoming.tables[name]
        if stage.differs and table.spec.each_row and table.spec.source in stage.incoming.feeds:
            stage._otherwise(name, name, np.arange(table.rows), ())
    return ProvenanceFound(tuple(stage.sayings), stage.known, tuple(stage.otherwise))


class _Finding:
    """What is said, as far as it is found."""

    def __init__(self, planned: Planned) -> None:
        self.incoming, self.rows, self.is_new, self.differs = (
            planned.matched.incoming,
            planned.rows,
            planned.is_new,
            planned.differs,
        )
        self.sayings: list[Provenance] = []
        self.known: dict[str, Known] = {}
        self.otherwise: list[OtherwiseSaid] = []

    def _say(self, name: str) -> None:
        """Notes which records of a table are said, and what of them."""
        named, creatable = self.incoming.only_named(name), self.incoming.creatable(name)
        rows, new = self.rows[name], self.is_new[name]
        columns, said = self.incoming.provided_columns(name), []
        naming = {
            c
            for other, link, _ in self.incoming.links_to(name)
            for c in (
                *self.incoming.tables[other].spec.links[link].by,
                *self.incoming.tables[other].spec.links[link].repeats,
            )
        }
        pattern = np.zeros(len(rows), np.int64)
        for column in columns:
            codes = self.incoming.tables[name].codes(column)
            said.append(~named | ((codes >= 0) if column in naming else False))
            _, pattern = np.unique(pattern * 2 + said[-1], return_inverse=True)
        whole = len(columns) == len(
            [
                c
                for c in (
                    *self.incoming.tables[name].spec.links,
                    *self.incoming.tables[name].spec.columns,
                )
                if c not in self.incoming.tables[name].spec.known_by
            ]
        )
        roles = np.where(
            new,
            np.where(named, CREATED, MADE),
            np.where(
                named,
                np.where(creatable, NAMED, REFERRED),
                REFERRED if self.incoming.makes_none(name) else SAID,
            ),
        )
        for role in distinct(roles[rows >= 0]).tolist() if len(rows) else ():
            for p in distinct(pattern[(rows >= 0) & (roles == role)]).tolist():
                mine = np.flatnonzero((rows >= 0) & (roles == role) & (pattern == p))
                there = [c for c, s in zip(columns, said, strict=True) if s[mine[0]]]
                all_ = whole and len(there) == len(columns)
                self.sayings.append(
                    Provenance(
                        name,
                        distinct(rows[mine]),
                        role,
                        None if all_ else tuple(self.incoming.layout.stored_as(name, there)),
                    )
                )

    def _known_rows(self, name: str) -> None:
        """Notes the rows of a source whose records were there already, and which of them say
        something else."""
        table, spec = self.incoming.tables[name], self.incoming.tables[name].spec
        if not spec.each_row or spec.source not in self.incoming.feeds:
            return
        source_rows = table.source_rows()
        known = np.flatnonzero((self.rows[name] >= 0) & ~self.is_new[name] & (source_rows >= 0))
        if not len(known):
            return
        known = known[np.argsort(source_rows[known], kind="stable")]
        self.known[spec.source] = Known(
            self.incoming.feeds[spec.source].records(source_rows[known]),
            self.rows[name][known],
            self._shown_otherwise(name, ())[known],
        )

    def _otherwise(
        self,
        base: str,
        name: str,
        reached: np.ndarray,
        on_the_way: tuple[str, ...],
        *,
        only: Mapping[str, str] | None = None,
    ) -> None:
        """Notes the cells of rows that say something of a table which was not taken over; `reached`
        is the record of it for each record of the `base`. With `only`, only these columns show in
        the rows, each under a header."""
        table, feed = (
            self.incoming.tables[name],
            self.incoming.feeds[self.incoming.tables[base].spec.source],
        )
        source_rows = self.incoming.tables[base].source_rows()

        def note(
            header: str, at: np.ndarray, shown: np.ndarray, where: str, column: str, to: str = ""
        ) -> None:
            order = np.argsort(source_rows[at], kind="stable")
            self.otherwise.append(
                OtherwiseSaid(
                    feed.name,
                    header,
                    feed.records(source_rows[at][order]),
                    where,
                    column,
                    shown[order],
                    to,
                )
            )

        for column, flags in self.differs.get(name, {}).items():
            at = np.flatnonzero(np.append(flags, False)[reached] & (source_rows >= 0))
            if not len(at) or (only is not None and column not in only):
                continue
            numbers = self.rows[name][reached[at]]
            if column.endswith("."):
                for header in dict.fromkeys(
                    h
                    for c in self.incoming.layout.tables[column[:-1]].columns.values()
                    for h in c.sources
                ):
                    note(header, at, numbers, name, "")
                continue
            link = table.spec.links.get(column)
            own = self.incoming.layout.stored_as(name, [column])[0]
            header = only[column] if only else feed.header_of(table, column)
            note(header, at, numbers, name, own, link.to if link else "")
        for link_name, target in table.spec.links.items() if only is None else ():
            codes = table.codes(link_name)
            if target.to in (name, *on_the_way):
                continue
            self._otherwise(
                base,
                target.to,
                np.where(reached >= 0, np.append(codes, -1)[reached], -1),
                (*on_the_way, name),
                only={c: h for c, h in target.repeats.items() if "." not in c}
                if target.by
                else None,
            )
        for part, other in self.incoming.tables.items():
            if other.spec.part_of != name or only is not None:
                continue
            owner = other.codes(self.incoming.layout.owner_link(part))
            back = np.full(self.incoming.tables[name].rows + 1, -1, np.int64)
            back[reached] = np.arange(len(reached))
            for column, flags in self.differs.get(part, {}).items():
                spec = other.spec.columns.get(column)
                hit = np.flatnonzero(flags & (back[owner] >= 0))
                told = next((n for n, c in other.spec.columns.items() if c.told), "")
                places = other.codes(told) if told and spec and spec.headers else None
                headers = spec.sources if spec else tuple(other.spec.links[column].by.values())
                for i, header in enumerate(headers):
                    some = hit if places is None else hit[places[hit] == i]
                    if len(some):
                        note(
                            header,
                            back[owner[some]],
                            self.rows[part][some],
                            part,
                            self.incoming.layout.stored_as(part, [column])[0],
                            "" if spec else other.spec.links[column].to,
                        )

    def _shown_otherwise(self, name: str, on_the_way: tuple[str, ...]) -> np.ndarray:
        """Which records of a table, with what they lead to and their parts, say anything that was
        not taken over."""
        table, spec = self.incoming.tables[name], self.incoming.tables[name].spec
        out = np.zeros(table.rows, bool)
        for flags in self.differs.get(name, {}).values():
            out |= flags
        for link, target in spec.links.items():
            codes = table.codes(link)
            if target.to in (name, *on_the_way) or target.to not in self.incoming.tables:
                continue
            if target.by:  # only what is said again of the record shows in the row
                there = np.zeros(self.incoming.tables[target.to].rows, bool)
                for column in target.repeats:
                    there |= self.differs.get(target.to, {}).get(column, False)
            else:
                there = self._shown_otherwise(target.to, (*on_the_way, name))
            out |= np.append(there, False)[codes]
        for part, other in self.incoming.tables.items():
            if other.spec.part_of == name and part not in on_the_way:
                owner = other.codes(self.incoming.layout.owner_link(part))
                flags = self._shown_otherwise(part, (*on_the_way, name))
                out[owner[flags]] = True
        return out
