"""Rows that contradict what a folder has already, found by the cluster's engine."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping
from typing import TYPE_CHECKING, Any

from kerfmark.cluster.existing import shown_by
from kerfmark.cluster.frames import AT, ID, col, joined
from kerfmark.cluster.problems import Check, Finder, Places, check_of, keys_of, text_of, told_value
from kerfmark.cluster.steps import PlanResult, Steps, Table
from kerfmark.normalize import sentences
from kerfmark.normalize.policy import rule_of
from kerfmark.plan.model import Cell, TableStep

if TYPE_CHECKING:
    from pyspark.sql import DataFrame


class ExistingChecks(Finder):
    """Looks for rows that say new records which are there already, and for what they say otherwise
    of those that are; `lacking` are the headers, by source, that the files need not have and do
    not."""

    def __init__(
        self, steps: Steps, done: PlanResult, places: Places, lacking: Mapping[str, Collection[str]]
    ) -> None:
        super().__init__(steps, done, places)
        self._lacking = {n: frozenset(headers) for n, headers in lacking.items()}

    def of_table(self, step: TableStep) -> Iterator[Check]:
        """Everything of one table."""
        if self.steps.existing is not None:
            yield from self._there_already(step)
            yield from self._met(self.done.tables[step.name])

    def _there_already(self, step: TableStep) -> Iterator[Check]:
        """Rows that say new records which have, in columns that tell them apart, what one has that
        was there before."""
        existing, table = self.steps.existing, self.done.tables[step.name]
        if existing is None:
            return
        places = table.columns | table.links
        shown = {n: places[n] for n in shown_by(self.layout, step)}
        for unique in step.unique:
            names = {n: places[n] for n in unique}
            there = existing.frame(step.name, {*unique, *shown})
            new = table.new.where(col(AT).isNotNull())
            same, take = {n: n for n in names.values()}, dict.fromkeys(shown.values(), "_known")
            wrong = joined(new, there, same, take | {ID: "_number"}, "inner")
            headers = [
                (step.columns[n].spec.header or n) if n in step.columns else n for n in unique
            ]
            keys, cell = self.layout.key_headers(step.name), None
            if unique == self.layout.tables[step.name].known_by:
                told, remedy = keys, "leave the row out"
            else:
                told, remedy = headers, sentences.correct_either(keys, headers)
                cell = next((step.columns[n].cells[0] for n in shown), None)
            wrong = wrong.select(col(AT), *[col(n) for n in (*take.values(), *shown.values())])

            def reason(
                row: dict[str, Any], headers: list[str] = headers, cell: Cell | None = cell
            ) -> str:
                if cell is None:
                    return sentences.there_already(step.name)
                [place] = shown.values()
                known, said = text_of(row["_known"], cell), told_value(row[place], cell)
                return sentences.same_as_existing(step.name, known, said, headers)

            def tell(
                found: int,
                wrong: DataFrame = wrong,
                told: list[str] = told,
                reason: Callable[[dict[str, Any]], str] = reason,
                remedy: str = remedy,
            ) -> None:
                self.add("again", step.source, told, wrong, reason, remedy, step.name, total=found)

            yield check_of(wrong, tell)

    def _met(self, table: Table) -> Iterator[Check]:
        """Rows that say something else than the record which was there before."""
        existing, step = self.steps.existing, table.step
        if existing is None or table.met is None:
            return
        known_by = self.layout.tables[step.name].known_by
        names = {
            n: place
            for n, place in (table.columns | table.links).items()
            if n not in known_by
            and rule_of(self.layout, step.name, n, "") == "refuse"
            and self._is_said(step, n)
        }
        if not names:
            return
        there = existing.frame(step.name, names)
        take = {place: f"_before_{place}" for place in names.values()}
        both = self.steps.written(joined(table.met, there, {ID: ID}, take))
        for name, place in names.items():
            differs = ~col(place).eqNullSafe(col(take[place]))

            def tell(found: int, name: str = name, place: str = place) -> None:
                self._differs_from_before(
                    table, name, both.where(~col(place).eqNullSafe(col(f"_before_{place}"))), place
                )

            yield check_of(both, tell, differs)

    def _is_said(self, step: TableStep, name: str) -> bool:
        """Whether the files say anything in a column or a link: not so where they lack all of its
        headers."""
        lacking = self._lacking.get(step.source, frozenset())
        if name in step.links:
            return not lacking & {*step.links[name].headers}
        headers = {c.header for c in step.columns[name].cells}
        return not headers or not headers <= lacking

    def _differs_from_before(self, table: Table, name: str, wrong: DataFrame, place: str) -> None:
        step = table.step
        assert table.keys is not None and self.steps.existing is not None
        keys = keys_of(step)
        rows = self.steps.with_record(step.identity, self.steps.rows(step.source)).drop(ID)
        rows = joined(rows, table.keys, {k: k for k in keys}, {ID: ID})
        rows = joined(rows, wrong, {ID: ID}, {f"_before_{place}": "_before"}, "inner")
        if name in step.columns:
            cell: Cell | None = step.columns[name].cells[0]
            own = col(step.columns[name].cells[0].name)
            rows = rows.where(~own.eqNullSafe(col("_before")))
            headers = [step.columns[name].headers[0]]
        else:
            to, cell = self.plan.tables[step.links[name].spec.to], None
            for shown in shown_by(self.layout, to):
                cell = to.columns[shown].cells[0]
                there = self.steps.existing.frame(to.name, {shown})
                known = f"v{[*to.columns].index(shown)}"
                rows = joined(rows, there, {"_before": ID}, {known: "_before"})
            headers = [step.links[name].headers[0]]

        def reason(row: dict[str, Any]) -> str:
            known = row["_before"]
            text = text_of(known, cell) if cell else str("" if known is None else known)
            return sentences.differs_from_database(step.name, text)

        self.add(
            "differs",
            step.source,
            headers,
            rows.select(col(AT), col("_before")),
            reason,
            "correct the cells",
            step.name,
        )
