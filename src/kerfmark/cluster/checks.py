"""Rows that contradict others, found by the cluster's engine in what a plan has made."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from types import MappingProxyType
from typing import TYPE_CHECKING, Any

import pyarrow as pa

from kerfmark.cluster.checks_of_existing import ExistingChecks
from kerfmark.cluster.frames import AT, ID, UNFIT, all_filled, all_hold, col, joined
from kerfmark.cluster.problems import (
    Check,
    Finder,
    Places,
    check_of,
    keys_of,
    merged,
    text_of,
    told_value,
)
from kerfmark.cluster.staging import KEPT_PROBLEMS, ProblemRows
from kerfmark.cluster.steps import Agreement, LookupResult, PlanResult, Steps, Table
from kerfmark.normalize import sentences
from kerfmark.normalize.lookup import MOST_COMPARED
from kerfmark.normalize.nearest import nearest_of, other_name
from kerfmark.plan.model import Cell, TableStep

if TYPE_CHECKING:
    from pyspark.sql import Column, DataFrame


class Checks(Finder):
    """Looks for rows that contradict others, and what was there before (`lacking`: the headers, by
    source, that the files need not have and do not)."""

    def __init__(
        self,
        steps: Steps,
        done: PlanResult,
        places: Places,
        lacking: Mapping[str, Collection[str]] = MappingProxyType({}),
        kept: int = KEPT_PROBLEMS,
    ) -> None:
        super().__init__(steps, done, places, kept)
        self._existing = ExistingChecks(steps, done, places, lacking)

    def all(self) -> list[ProblemRows]:
        """Everything that would refuse the whole. Whether there is anything of each kind is asked
        at once; rows are looked for only where there is."""
        from pyspark.sql import functions as F

        looks: list[Check] = []
        for step in self.plan.tables.values():
            if step.source not in self.steps.fed:
                continue
            looks += self._exceptions(step)
            looks += self._agree(self.done.tables[step.name])
            looks += [self._unique(step, unique) for unique in step.unique]
            looks += self._existing.of_table(step)
        for looked in self.done.lookups:
            looks += self._unknown(looked)
            looks += self._repeats(looked)
            looks += self._created(looked)
        for table in self.done.tables.values():
            looks += self._filled(table)
            looks += self._counted(table)
        if not looks:
            return []
        passes: dict[int, list[tuple[int, Check]]] = {}  # those of one frame are one pass over it
        for number, look in enumerate(looks):
            passes.setdefault(id(look.frame), []).append((number, look))
        counted: DataFrame | None = None
        for same in passes.values():
            counts = [
                F.struct(F.lit(number).alias("look"), F.count_if(look.wrong).alias("found"))
                for number, look in same
            ]
            one = same[0][1].frame.agg(F.array(*counts).alias("all")).select(F.inline(col("all")))
            counted = one if counted is None else counted.unionAll(one)
        assert counted is not None
        for row in sorted(counted.where(col("found") > 0).collect()):
            looks[row["look"]].tell(row["found"])
        return merged([*self.found, *self._existing.found], self.kept)

    def _exceptions(self, step: TableStep) -> Iterator[Check]:
        """Rows that are blank where others have a usual value."""
        if not any(c.rule == "exception" for c in step.columns.values()):
            return
        rows, _ = self.steps.with_exceptions(step)
        for i, column in enumerate(step.columns.values()):
            if column.rule != "exception":
                continue
            usual_of, header = column.usual_of, column.spec.header
            inside = all_hold([c.name for c in self.plan.tables[usual_of].identity.only])
            wrong = rows.where(
                col(column.cells[1].name).isNull() & col(f"_usual{i}").isNotNull() & inside
            ).select(col(AT))

            def tell(
                found: int, wrong: DataFrame = wrong, header: str = header, of: str = usual_of
            ) -> None:
                why, remedy = sentences.blank_exception(of), sentences.fill_exception(header, of)
                self.add("differs", step.source, [header], wrong, why, remedy, of, total=found)

            yield check_of(wrong, tell)

    def _agree(self, table: Table) -> Iterator[Check]:
        """Rows that say something else than those with the same key."""
        step = table.step
        rows = self.steps.rows(step.source)
        for name, said in table.said.items():
            assert table.records is not None

            def tell(found: int, name: str = name, said: Agreement = said) -> None:
                self._differs(step, name, said)

            yield check_of(table.records, tell, col(name))
            if step.identity.only:
                continue
            without = ~all_filled([c.name for c in step.identity.cells]) & said.value.isNotNull()
            outside = rows.where(without)

            def tell_outside(
                found: int, outside: DataFrame = outside, headers: Sequence[str] = said.headers
            ) -> None:
                key = " + ".join(self.layout.key_headers(step.name))
                self.add(
                    "differs",
                    step.source,
                    headers,
                    outside.select(col(AT)),
                    sentences.filled_without_key(key),
                    sentences.agree(headers, step.name),
                    step.name,
                    total=found,
                )

            yield check_of(rows, tell_outside, without)

    def _differs(self, step: TableStep, name: str, said: Agreement) -> None:
        from pyspark.sql import functions as F

        keys, key = keys_of(step), " + ".join(self.layout.key_headers(step.name))
        rows = self.steps.rows(step.source).withColumn(name, said.value)
        there = self.steps.with_record(step.identity, rows)
        usual = self.steps.most_frequent(there, step.identity, name, blanks=True)
        first = there.groupBy(*keys).agg(F.min_by(F.struct(col(name)), col(AT)).alias("_first"))
        whole = joined(there, usual, {k: k for k in keys}, {"_value": "_usual"})
        whole = joined(whole, first, {k: k for k in keys}, {"_first": "_first"})
        wrong = whole.where(~col(name).eqNullSafe(col("_usual"))).select(
            col(AT),
            col("_usual"),
            F.col(f"_first.{name}").eqNullSafe(col("_usual")).alias("_earlier"),
        )

        def reason(row: dict[str, Any]) -> str:
            value = row["_usual"]
            values = list(value) if len(said.cells) > 1 and value is not None else [value]
            usual_text = " + ".join(
                told_value(v, c) for v, c in zip(values, said.cells, strict=False)
            )
            return sentences.differs_from_others(key, usual_text, row["_earlier"])

        remedy = sentences.agree(said.headers, step.name)
        self.add("differs", step.source, said.headers, wrong, reason, remedy, step.name)

    def _unique(self, step: TableStep, unique: tuple[str, ...]) -> Check:
        """Records that have what others have in columns which tell them apart."""
        from pyspark.sql import functions as F

        table = self.done.tables[step.name]
        names: list[str] = []
        for one in unique:
            if one in step.columns:
                names.append(table.columns[one])
            else:
                names += [c.name for c in step.links[one].identity.cells]
        own = table.new.where(col(AT).isNotNull() & all_filled(names))
        firsts = own.groupBy(*[col(n) for n in names]).agg(
            F.min(AT).alias("_earlier"), F.count(F.lit(1)).alias("_count")
        )
        again = firsts.where(col("_count") > 1)

        def reason(row: dict[str, Any]) -> str:
            here, there = self.places.origin(row[AT]), self.places.origin(row["_earlier"])
            other = f"{there.file}, " if there.file != here.file else ""
            return sentences.duplicates(f"{other}row {there.row:,}")

        def tell(found: int) -> None:
            wrong = joined(
                own, again, {n: n for n in names}, {"_earlier": "_earlier"}, "inner"
            ).where(col(AT) > col("_earlier"))
            headers = [
                (step.columns[n].spec.header or n) if n in step.columns else n for n in unique
            ]
            rows, remedy = (
                wrong.select(col(AT), col("_earlier")),
                sentences.tell_apart(unique, step.name),
            )
            self.add("again", step.source, headers, rows, reason, remedy, step.name)

        return check_of(again, tell)

    def _unknown(self, looked: LookupResult) -> Iterator[Check]:
        """Rows that refer to what is not there."""
        step = looked.step
        if step.spec.missing != "refuse":
            return
        unknown = self.done.unknown[step.table, step.link]
        table = self.done.tables[step.table]
        cell = next(iter(step.by.values()))
        wrong = joined(table.of_rows, unknown, {ID: "_ask"}, {"_ask": "_ask"}, "inner").select(
            col(AT), col(cell.name).alias("_said")
        )

        def near(row: dict[str, Any]) -> str:
            return nearest_of(known, text_of(row["_said"], cell)) if len(step.by) == 1 else ""

        def reason(row: dict[str, Any]) -> str:
            value = near(row)
            also = others.get(value, "")
            return sentences.not_found(text_of(row["_said"], cell), step.spec.to, value, also)

        known: list[str] = []
        others: dict[str, str] = {}

        def tell(found: int) -> None:
            parent, path = self.done.tables[step.spec.to], next(iter(step.by))
            if path in parent.columns:
                there = parent.frame.select(col(parent.columns[path]).alias("_known"))
                some = there.where(col("_known").isNotNull()).distinct().limit(MOST_COMPARED)
                known.extend(sorted(text_of(row["_known"], cell) for row in some.collect()))
                others.update(self._other_names(step.spec.to, path))
            headers, remedy = (
                tuple(step.spec.by.values()),
                sentences.find_or_create(step.table, step.link),
            )
            self.add(
                "unknown",
                table.step.source,
                headers,
                wrong,
                reason,
                remedy,
                step.spec.to,
                total=found,
                meant=near,
            )

        yield check_of(unknown, tell)

    def _other_names(self, table: str, column: str) -> dict[str, str]:
        """What else records that were there before are known by, by their values in a column."""
        existing, step = self.steps.existing, self.plan.tables[table]
        other = other_name(self.layout.tables[table], column)
        if existing is None or not other:
            return {}
        names = {n: f"v{[*step.columns].index(n)}" for n in (column, other)}
        said = existing.read(table, names).select(*map(col, names.values())).limit(MOST_COMPARED)
        cells = [step.columns[n].cells[0] for n in names]
        return {
            text_of(one, cells[0]): "" if more is None else text_of(more, cells[1])
            for one, more in said.collect()
            if one is not None
        }

    def _repeats(self, looked: LookupResult) -> Iterator[Check]:
        """Rows that say something else than the record that they lead to."""
        step = looked.step
        table = self.done.tables[step.table]
        for path, header in step.spec.repeats.items():
            *links, column = path.split(".")
            parent = self.done.tables[step.spec.to]
            rows = table.of_rows.select(
                col(AT),
                col(ID),
                col(table.links[step.link]).alias("_to"),
                col(step.repeats[path].name).alias("_said"),
            )
            for further in links:
                rows = joined(rows, parent.frame, {"_to": ID}, {parent.links[further]: "_to"})
                parent = self.done.tables[parent.step.links[further].spec.to]
            rows = joined(rows, parent.frame, {"_to": ID}, {parent.columns[column]: "_there"})
            unknown = self.done.unknown[step.table, step.link]
            rows = joined(rows, unknown, {ID: "_ask"}, {"_ask": "_unknown"})
            said, known = _compared(step.spec.loose, step.repeats[path])
            wrong = rows.where(
                ~said.eqNullSafe(known) & ~(col("_unknown").isNotNull() & col("_to").isNull())
            ).select(col(AT))

            def tell(
                found: int,
                wrong: DataFrame = wrong,
                header: str = header,
                of: str = parent.step.name,
            ) -> None:
                known_by = " + ".join(step.spec.by.values())
                self.add(
                    "differs",
                    table.step.source,
                    [header],
                    wrong,
                    sentences.differs_from_parent(of, known_by),
                    sentences.no_repeat(header, step.table, step.link),
                    of,
                    total=found,
                )

            yield check_of(wrong, tell)

    def _created(self, looked: LookupResult) -> Iterator[Check]:
        """Records that were made and have, in columns which tell records apart, what one has."""
        from pyspark.sql import functions as F

        step = looked.step
        parent, table = self.done.tables[step.spec.to], self.done.tables[step.table]
        said = {*step.by, *step.repeats}
        spec = self.layout.tables[step.spec.to]
        for unique in spec.unique_sets if looked.created else ():
            if not {*unique} <= said or {*unique} == {*step.by}:
                continue
            names = [parent.columns[n] for n in unique]
            filled = parent.frame.where(all_filled(names))
            firsts = filled.groupBy(*[col(n) for n in names]).agg(
                F.min(ID).alias("_least"), F.count(F.lit(1)).alias("_count")
            )
            doubled = joined(
                filled.where(col(AT).isNull()),
                firsts.where(col("_count") > 1),
                {n: n for n in names},
                {"_least": "_least"},
                "inner",
            ).where(col(ID) != col("_least"))
            headers = tuple((step.spec.by | step.spec.repeats)[c] for c in unique)
            wrong = joined(
                table.frame.where(col(AT).isNotNull()),
                doubled.select(col(ID).alias("_made")),
                {table.links[step.link]: "_made"},
                {"_made": "_made"},
                "inner",
            ).select(col(AT))

            def tell(
                found: int, wrong: DataFrame = wrong, headers: tuple[str, ...] = headers
            ) -> None:
                same, by = " + ".join(headers), next(iter(step.spec.by.values()))
                self.add(
                    "again",
                    table.step.source,
                    headers,
                    wrong,
                    f"another {parent.step.name} has the same {same}",
                    f"correct {by} or {same} in the file\ntake {same} out of repeats "
                    f"of tables > {step.table} > links > {step.link} and give it a column",
                    parent.step.name,
                    total=found,
                )

            yield check_of(wrong, tell)

    def _filled(self, table: Table) -> Iterator[Check]:
        """Records in which something is blank that must be filled."""
        step = table.step
        wanted = {k.name: table.links[k.name] for k in step.links.values() if k.required}
        wanted |= {c.name: table.columns[c.name] for c in step.columns.values() if c.required}
        counted, new = self.layout.counted(step.name), table.new
        for name, inner in wanted.items():
            if name == counted:
                continue
            blank = new.where(col(inner).isNull())

            def tell(found: int, name: str = name, blank: DataFrame = blank) -> None:
                self._blank(table, name, blank)

            yield check_of(new, tell, col(inner).isNull())

    def _blank(self, table: Table, name: str, blank: DataFrame) -> None:
        from pyspark.sql import functions as F

        step = table.step
        remedy = sentences.optional(name, step.name)
        decide = {remedy: f"--optional {step.name}.{name} lets it be blank"}
        header = self._header_of(step, name)
        headers = [header] if header else []
        rows = blank.where(col(AT).isNotNull())
        column = step.columns.get(name)
        if column and column.cells and step.of_records:  # what does not fit is told as such
            unfit = self.steps.rows(step.source).where(
                F.array_contains(col(UNFIT), column.cells[0].name)
            )
            rows = joined(rows, unfit, {AT: AT}, {}, "left_anti")
            if rows.isEmpty() and not blank.where(col(AT).isNull()).head(1):
                return
        if rows.isEmpty():
            why = sentences.only_referred_to(step.name)
            self.found.append(
                ProblemRows(
                    "cannot be",
                    step.source,
                    headers,
                    remedy,
                    step.name,
                    "broken",
                    decide,
                    [],
                    1,
                    [("", "", 0, why)],
                )
            )
            return
        link = step.links.get(name)
        if link and link.spec.by and link.spec.missing != "create":
            # there is a value, but it refers to no record
            rows = joined(rows, self.done.unknown[step.name, name], {ID: "_ask"}, {}, "left_anti")
        remedies = f"fill the cells\n{remedy}"
        rows = rows.select(col(AT)).distinct()
        self.add("blank", step.source, headers, rows, "is blank", remedies, step.name, decide)

    def _header_of(self, step: TableStep, name: str) -> str:
        column, link = step.columns.get(name), step.links.get(name)
        if column and column.rule != "told":
            spec = column.spec
            return spec.header or (spec.headers[0] if spec.headers else name)
        if link is None:
            return ""
        headers = self.layout.key_headers(link.spec.to) or [""]
        return next(iter(link.spec.by.values()), "") or headers[0]

    def _counted(self, table: Table) -> Iterator[Check]:
        """Keys that a source says itself must be those that are given out."""
        step = table.step
        column = self.layout.counted(step.name)
        if not column:
            return
        wrong = table.new.where(~col(table.columns[column]).eqNullSafe(col(ID)))

        def tell(found: int) -> None:
            first = wrong.where(col(AT).isNotNull()).select(col(AT), col(ID)).orderBy(AT).limit(1)
            self.add(
                "not allowed",
                step.source,
                [step.columns[column].spec.header],
                first,
                lambda row: sentences.not_next(row[ID]),
                sentences.count_on(column, step.name),
                step.name,
                of_all=True,
            )

        yield check_of(wrong, tell)


def _compared(loose: bool, cell: Cell) -> tuple[Column, Column]:
    """What rows say and what is known, as they are compared."""
    from pyspark.sql import functions as F

    if not loose or cell.of_type.kind != "text":
        return col("_said"), col("_there")

    def fold(text: str | None) -> str | None:
        from kerfmark.profile.convert import folded

        return None if text is None else str(folded(pa.array([text]))[0])

    folded_text = F.udf(fold, "string")
    return folded_text(col("_said")), folded_text(col("_there"))
