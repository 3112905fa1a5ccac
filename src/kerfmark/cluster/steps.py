"""Carries a plan out on what the executors have read: the same steps as in one process, as joins,
groups and numbers of the cluster's engine. Nothing here looks at a single row."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import pyarrow as pa

from kerfmark.cluster.existing import Existing
from kerfmark.cluster.frames import (
    AT,
    ID,
    ID_BITS,
    PLACE,
    N,
    all_filled,
    all_hold,
    col,
    engine_type,
    folded_column,
    glob_escaped,
    joined,
    literal_array,
    local_frame,
    numbered,
    one_value,
    schema_of,
    uri,
)
from kerfmark.cluster.staging import PLACE_BITS, Staged, for_engine
from kerfmark.layout.model import Layout
from kerfmark.plan.model import Cell, ColumnStep, Identity, LookUpStep, Plan, TableStep
from kerfmark.profile.convert import to_typed

if TYPE_CHECKING:
    from pyspark.sql import Column, DataFrame, SparkSession


@dataclass(frozen=True)
class Agreement:
    """What all rows of a record must say alike: its headers, the cells, and these as one value."""

    headers: tuple[str, ...]
    cells: tuple[Cell, ...]
    value: Column


@dataclass
class Table:
    """The records of a table so far: `_id`, `_at` (blank for records that only others name, and for
    those that were there before), the columns, the links as numbers of records, and the cells by
    which links are looked up. `columns` and `links` map names of the layout to those of the frame.
    `keys` has the identity's cells of each record; of records that several rows are about,
    `records` tells whether these rows differ in what they have `said` (a column for each name, true
    where they do). `met` are records as rows say them that were there `before`: the numbers up to
    this one are not new."""

    step: TableStep
    frame: DataFrame
    columns: dict[str, str]
    links: dict[str, str]
    keys: DataFrame | None = None
    records: DataFrame | None = None
    said: Mapping[str, Agreement] = field(default_factory=dict)
    created: int = 0
    before: int = 0
    met: DataFrame | None = None

    @property
    def new(self) -> DataFrame:
        """The records that were not there before."""
        return self.frame.where(col(ID) > self.before) if self.before else self.frame

    @property
    def of_rows(self) -> DataFrame:
        """The records that rows say, also of those that were there before."""
        own = self.frame.where(col(AT).isNotNull())
        return own if self.met is None else own.unionByName(self.met, allowMissingColumns=True)

    @property
    def optional(self) -> list[str]:
        """The columns and links that may be blank."""
        columns = [c.name for c in self.step.columns.values() if not c.required]
        return columns + [k.name for k in self.step.links.values() if not k.required]


@dataclass(frozen=True)
class LookupResult:
    """What became of a link: how many records were resolved, created, and left blank."""

    step: LookUpStep
    resolved: int
    created: int
    blank: int


@dataclass
class PlanResult:
    """The plan, carried out: tables by name, and what became of its lookups; `unknown` has for each
    lookup that refuses them the records whose parent was not found."""

    tables: dict[str, Table] = field(default_factory=dict)
    lookups: list[LookupResult] = field(default_factory=list)
    unknown: dict[tuple[str, str], DataFrame] = field(default_factory=dict)


class Steps:
    """A plan under way on a cluster."""

    def __init__(
        self,
        session: SparkSession,
        layout: Layout,
        plan: Plan,
        staged: Mapping[str, Sequence[Staged]],
        folder: str,
        existing: Existing | None = None,
    ) -> None:
        self.session, self.layout, self.plan, self.staged = session, layout, plan, staged
        self.folder = folder
        self.existing = existing
        self.fed = {n for n, units in staged.items() if units}
        """The sources that have rows here."""
        self.done = PlanResult()
        self._rows: dict[str, DataFrame] = {}
        self._exceptions: dict[str, tuple[DataFrame, dict[str, str]]] = {}
        self._written = 0

    def carried_out(self) -> PlanResult:
        """All tables."""
        for name, step in self.plan.tables.items():
            self.done.tables[name] = self._table(step)
        for lookup in self.plan.lookups:
            if self.plan.tables[lookup.table].source in self.fed:
                self._look_up(lookup)
        return self.done

    def before(self, name: str) -> int:
        """How many records a table had before."""
        return self.existing.rows(name) if self.existing else 0

    def _with_existing(self, name: str, new: DataFrame) -> DataFrame:
        """New records of a table, and those that were there before, where anything is asked of
        these."""
        if self.existing is None or name not in self.existing.needed:
            return new
        there = self.existing.frame(name, self.existing.needed[name])
        return new.unionByName(there, allowMissingColumns=True)

    def release(self) -> None:
        """Gives up what the cluster keeps."""
        if self.existing is not None:
            self.existing.release()

    def written(self, frame: DataFrame) -> DataFrame:
        """A frame that is asked for again and again, as files. The engine plans what it is asked
        from all that it comes of, over and over, where a frame is only kept in memory: with links
        that lead to links that grows beyond all bounds. It also knows how large files are."""
        self._written += 1
        place = f"{self.folder}/frame-{self._written:03}"
        frame.write.parquet(uri(place))
        return self.session.read.schema(frame.schema).parquet(glob_escaped(place))

    def rows(self, source: str) -> DataFrame:
        """The staged rows of a source, with what is an exception in them, and the number of each
        among all rows that remain."""
        if source not in self._rows:
            files = [s.file for s in self.staged[source] if s.file]
            schema = schema_of(self.plan.cells[source])
            frame = (
                self.session.read.schema(schema).parquet(*[glob_escaped(f) for f in files])
                if files
                else local_frame(self.session, [], schema)
            )
            self._rows[source] = self._with_numbers(frame, source)
        return self._rows[source]

    def _with_numbers(self, frame: DataFrame, source: str) -> DataFrame:
        from pyspark.sql import functions as F

        offsets, at = [], 0
        for one in self.staged[source]:
            offsets.append((one.unit, at))
            at += one.rows
        units = local_frame(self.session, offsets, "_unit bigint, _before bigint")
        return (
            frame.join(
                F.broadcast(units), F.shiftright(col(AT), PLACE_BITS) == col("_unit"), "left"
            )
            .withColumn(ID, (col(N) + col("_before") + 1).cast("bigint"))
            .drop("_unit", "_before")
        )

    def _table(self, step: TableStep) -> Table:
        if step.source not in self.fed:
            return self._of_before(step)
        if step.kind == "all parts":
            return self._all_parts(step)
        if step.kind == "rows":
            return self._of_rows(step)
        if step.kind == "records":
            return self._of_records(step)
        return self._of_parts(step)

    def _asked(self, table: str) -> list[Cell]:
        """The cells by which links of a table are looked up and checked, each once."""
        cells = [
            c
            for one in self.plan.lookups
            if one.table == table
            for c in (*one.by.values(), *one.repeats.values())
        ]
        step = self.plan.tables[table]
        for unique in step.unique:
            for name in unique:
                if name in step.links:
                    cells += step.links[name].identity.cells
        return list({c.name: c for c in cells}.values())

    def _of_before(self, step: TableStep) -> Table:
        """A table whose source has no rows here."""
        columns = {n: f"v{i}" for i, n in enumerate(step.columns)}
        links = {n: f"k{i}" for i, n in enumerate(step.links)}
        types = [f"v{i} {engine_type(c.spec.of_type)}" for i, c in enumerate(step.columns.values())]
        schema = [f"{ID} bigint", f"{AT} bigint", *types, *(f"{k} bigint" for k in links.values())]
        none = local_frame(self.session, [], ", ".join(schema))
        frame = self._with_existing(step.name, none)
        return Table(step, frame, columns, links, before=self.before(step.name))

    def _of_rows(self, step: TableStep) -> Table:
        frame, exceptions = self.with_exceptions(step)
        frame, links = self._linked(step, frame)
        columns = {n: f"v{i}" for i, n in enumerate(step.columns)}
        values = [
            col(exceptions.get(n, c.cells[0].name)).alias(columns[n])
            for n, c in step.columns.items()
        ]
        asked = [col(c.name) for c in self._asked(step.name)]
        before = self.before(step.name)
        number = (col(ID) + before).alias(ID)
        out = frame.select(number, col(AT), *values, *[col(k) for k in links.values()], *asked)
        out = self._with_existing(step.name, out)
        lookups = any(step.name in (one.table, one.spec.to) for one in self.plan.lookups)
        # made again from its rows where it is needed: that is faster than to keep so much
        kept = self.written(out) if lookups or step.order else out
        return Table(step, kept, columns, links, before=before)

    def with_exceptions(self, step: TableStep) -> tuple[DataFrame, dict[str, str]]:
        """The rows of a table's source with the values of columns that are exceptions, under names
        of their own, and with the usual text beside each (`_usual` before the column's number)."""
        if step.name not in self._exceptions:
            self._exceptions[step.name] = self._made_exceptions(step)
        return self._exceptions[step.name]

    def _made_exceptions(self, step: TableStep) -> tuple[DataFrame, dict[str, str]]:
        from pyspark.sql import functions as F

        rows = self.rows(step.source)
        names: dict[str, str] = {}
        for i, (name, column) in enumerate(step.columns.items()):
            if column.rule != "exception":
                continue
            value, text = column.cells
            identity = self.plan.tables[column.usual_of].identity
            usual = self.most_frequent(rows, identity, text.name)
            keys = [c.name for c in identity.cells]
            rows = joined(rows, usual, {k: k for k in keys}, {"_value": f"_usual{i}"})
            names[name] = f"x{i}"
            inside = all_hold([c.name for c in identity.only])
            expected = F.when(inside, col(f"_usual{i}"))
            exception = F.when(~col(text.name).eqNullSafe(expected), col(value.name))
            if self.existing is not None:  # what is usual of a record that is there stays so
                rows, there, known = self._usual_before(rows, column, i)
                other = F.when(~col(value.name).eqNullSafe(known), col(value.name))
                exception = F.when(there & inside, other).otherwise(exception)
            rows = rows.withColumn(f"x{i}", exception)
        return rows, names

    def _usual_before(
        self, rows: DataFrame, column: ColumnStep, i: int
    ) -> tuple[DataFrame, Column, Column]:
        """Rows with what is usual of their records that were there before: whether there is one,
        and that value."""
        assert self.existing is not None
        step = self.plan.tables[column.usual_of]
        usual = next(
            n
            for n, c in step.columns.items()
            if c.rule == "most frequent" and c.spec.header == column.spec.header
        )
        place = f"v{[*step.columns].index(usual)}"
        known = self.existing.identities(step.name, [usual])
        keys = {c.name: c.name for c in step.identity.cells}
        rows = joined(rows, known, keys, {ID: f"_there{i}", place: f"_known{i}"})
        return rows, col(f"_there{i}").isNotNull(), col(f"_known{i}")

    def with_record(self, identity: Identity, rows: DataFrame) -> DataFrame:
        """The rows that have a record."""
        return rows.where(
            all_filled([c.name for c in identity.cells]) & all_hold([c.name for c in identity.only])
        )

    def most_frequent(
        self, rows: DataFrame, identity: Identity, value: str, blanks: bool = False
    ) -> DataFrame:
        """The value that the rows of each record say most often, of equals the earlier one;
        `blanks` count as a value, if so said. Columns: the identity's cells, and `_value`."""
        from pyspark.sql import functions as F

        keys = [c.name for c in identity.cells]
        there = self.with_record(identity, rows).select(
            *[col(k) for k in keys], col(value).alias("_said"), col(AT)
        )
        if not blanks:
            there = there.where(col("_said").isNotNull())
        often = there.groupBy(*keys, "_said").agg(
            F.count(F.lit(1)).alias("_often"), F.min(AT).alias("_first")
        )
        best = F.max_by(F.struct(col("_said")), F.struct(col("_often"), -col("_first")))
        return (
            often.groupBy(*keys)
            .agg(best.alias("_best"))
            .select(*[col(k) for k in keys], F.col("_best._said").alias("_value"))
        )

    def _of_records(self, step: TableStep) -> Table:
        from pyspark.sql import functions as F

        rows, exceptions = self.with_exceptions(step)
        keys = [c.name for c in step.identity.cells]
        there = self.with_record(step.identity, rows)
        first = dict.fromkeys(
            [
                *(c.name for link in step.links.values() for c in link.identity.cells),
                *(c.name for link in step.links.values() for c in link.identity.only),
                *(c.name for c in self._asked(step.name)),
                *(
                    exceptions.get(n, c.cells[0].name)
                    for n, c in step.columns.items()
                    if c.rule in ("own", "same", "exception")
                ),
            ]
        )
        took = [n for n in first if n not in keys]
        said = _said_alike(step)
        there = self._combinations(step, there, [*keys, *took], said)
        aggregates: list[Column] = [F.min(AT).alias(AT)]
        if took:
            aggregates.append(
                F.min_by(F.struct(*[col(n) for n in took]), col(AT)).alias("_of_first")
            )
        chosen: dict[str, str] = {}
        for i, (name, column) in enumerate(step.columns.items()):
            if column.rule in ("first", "last"):
                cell = column.cells[0].name
                earliest = column.rule == "first"
                by = F.when(col(cell).isNotNull(), col(AT if earliest else "_last"))
                best = F.min_by if earliest else F.max_by
                aggregates.append(best(col(cell), by).alias(f"w{i}"))
                chosen[name] = f"w{i}"
        for name, one in said.items():
            there = there.withColumn(name, one.value)
            some, all_of_them = F.count(col(name)), F.count(F.lit(1))
            differ = (some > 0) & ((some < all_of_them) | (F.min(col(name)) != F.max(col(name))))
            aggregates.append(differ.alias(name))
        records = there.groupBy(*keys).agg(*aggregates)
        if took:
            records = records.select("*", "_of_first.*").drop("_of_first")
        for i, (name, column) in enumerate(step.columns.items()):
            if column.rule == "most frequent":
                usual = self.most_frequent(rows, step.identity, column.cells[0].name)
                records = joined(records, usual, {k: k for k in keys}, {"_value": f"w{i}"})
                chosen[name] = f"w{i}"
        records = self.written(self._numbered(step, records, keys))
        key_frame = records.select(*[col(k) for k in keys], col(ID))
        frame, links = self._linked(step, records)
        columns = {n: f"v{i}" for i, n in enumerate(step.columns)}
        values = [
            col(chosen.get(n) or exceptions.get(n, c.cells[0].name)).alias(columns[n])
            for n, c in step.columns.items()
        ]
        asked = [col(c.name) for c in self._asked(step.name)]
        out = frame.select(col(ID), col(AT), *values, *[col(k) for k in links.values()], *asked)
        out = self.written(out) if links else out
        before, met = self.before(step.name), None
        if self.existing is not None:
            met = out.where(col(ID) <= before)
            out = self._with_existing(step.name, out.where(col(ID) > before))
        return Table(step, out, columns, links, key_frame, records, said, 0, before, met)

    def _numbered(self, step: TableStep, records: DataFrame, keys: list[str]) -> DataFrame:
        """Records with their numbers: those that they have, or the next ones."""
        if self.existing is None:
            return numbered(records, [AT], PLACE_BITS)
        there = self.existing.identities(step.name)
        whole = self.written(joined(records, there, {k: k for k in keys}, {ID: "_there"}))
        new = whole.where(col("_there").isNull()).drop("_there")
        known = whole.where(col("_there").isNotNull()).withColumnRenamed("_there", ID)
        return numbered(new, [AT], PLACE_BITS, self.before(step.name)).unionByName(known)

    def _combinations(
        self, step: TableStep, rows: DataFrame, names: list[str], said: Mapping[str, Agreement]
    ) -> DataFrame:
        """The different combinations of what rows say of records, with the places of the first and
        the last row that says each. The engine groups by texts without sorting, and picks among
        texts by sorting: so rows are grouped first, and picked from what is left of them."""
        from pyspark.sql import functions as F

        cells = [c for one in said.values() for c in one.cells]
        cells += [c for link in step.links.values() for c in link.identity.only]
        cells += [c.cells[0] for c in step.columns.values() if c.rule in ("first", "last")]
        whole = dict.fromkeys([*names, *(c.name for c in cells)])
        return rows.groupBy(*[col(n) for n in whole]).agg(
            F.min(AT).alias(AT), F.max(AT).alias("_last")
        )

    def _linked(self, step: TableStep, frame: DataFrame) -> tuple[DataFrame, dict[str, str]]:
        """Records with what their links through the row lead to; those that are looked up are
        blank until then."""
        from pyspark.sql import functions as F

        names = {n: f"k{i}" for i, n in enumerate(step.links)}
        for name, link in step.links.items():
            if link.spec.by:
                frame = frame.withColumn(names[name], F.lit(None).cast("bigint"))
                continue
            parent = self.done.tables[link.spec.to]
            assert parent.keys is not None
            keys = [c.name for c in link.identity.cells]
            frame = joined(frame, parent.keys, {k: k for k in keys}, {ID: names[name]})
            if link.identity.only:
                inside = all_hold([c.name for c in link.identity.only])
                frame = frame.withColumn(names[name], F.when(inside, col(names[name])))
        return frame, names

    def _all_parts(self, step: TableStep) -> Table:
        from pyspark.sql import functions as F

        assert step.parts is not None
        [column] = step.columns
        parts = self.rows(step.source).select(
            col(AT), F.posexplode(col(step.parts.name)).alias(PLACE, "v0")
        )
        records = (
            parts.groupBy("v0")
            .agg(F.min(F.struct(col(AT), col(PLACE))).alias("_first"))
            .select("v0", F.col(f"_first.{AT}").alias("_order"), F.col(f"_first.{PLACE}"))
        )
        before, met = self.before(step.name), None
        if self.existing is not None:
            there = self.existing.frame(step.name, {column})
            met = joined(there, records, {"v0": "v0"}, {}, "left_semi")
            records = joined(records, there, {"v0": "v0"}, {}, "left_anti")
        frame = numbered(records, ["_order", PLACE], PLACE_BITS, before).select(
            col(ID), F.lit(None).cast("bigint").alias(AT), col("v0")
        )
        frame = self.written(self._with_existing(step.name, frame))
        return Table(step, frame, {column: "v0"}, {}, before=before, met=met)

    def _of_parts(self, step: TableStep) -> Table:
        from pyspark.sql import functions as F

        owner = self.done.tables[step.owner]
        cells = self._cells_of_parts(step)
        own = owner.frame.where(col(AT).isNotNull()).select(col(ID).alias("_owner"), col(AT))
        asked = self._asked(step.name)
        rows = self.rows(step.source)
        whole = joined(own, rows, {AT: AT}, {c.name: c.name for c in (*cells, *asked)})
        columns = {n: f"v{i}" for i, n in enumerate(step.columns)}
        if step.kind == "groups of records":
            grouped = [c for c in step.columns.values() if c.rule == "group"]
            groups = [
                F.struct(*[col(cell.name).alias(f"g{i}") for i, cell in enumerate(group)])
                for group in zip(*(c.cells for c in grouped), strict=True)
            ]
            parts = whole.select("*", F.posexplode(F.array(*groups)).alias(PLACE, "_group"))
            filled = F.lit(False)
            for i in range(len(grouped)):
                filled = filled | F.col(f"_group.g{i}").isNotNull()
            parts = parts.where(filled)
            said = {c.name: F.col(f"_group.g{i}") for i, c in enumerate(grouped)}
        else:
            assert step.parts is not None
            parts = whole.select("*", F.posexplode(col(step.parts.name)).alias(PLACE, "_part"))
            said = {}
        before = self.before(step.name)
        parts = numbered(parts, ["_owner", PLACE], ID_BITS, before)
        values = [
            (said[n] if n in said else self._of_part(c)).alias(columns[n])
            for n, c in step.columns.items()
        ]
        links = {n: f"k{i}" for i, n in enumerate(step.links)}
        to = [
            (col("_owner") if link.owner else F.lit(None).cast("bigint")).alias(links[n])
            for n, link in step.links.items()
        ]
        by = [
            (F.get(col(c.name), col(PLACE)) if c.form == "parts" else col(c.name)).alias(c.name)
            for c in asked
        ]
        frame = parts.select(col(ID), col(AT), *values, *to, *by)
        frame = self._with_existing(step.name, frame)
        return Table(step, self.written(frame), columns, links, before=before)

    def _cells_of_parts(self, step: TableStep) -> list[Cell]:
        cells = [c for column in step.columns.values() for c in column.cells]
        if step.parts is not None:
            cells.append(step.parts)
        asked = {c.name for c in self._asked(step.name)}
        return [c for n, c in {c.name: c for c in cells}.items() if n not in asked]

    def _of_part(self, column: ColumnStep) -> Column:
        """The value of a column in a part."""
        from pyspark.sql import functions as F

        if column.rule == "told":
            told = to_typed(pa.array(column.spec.told), column.spec.of_type)
            type_ = engine_type(column.spec.of_type)
            return F.get(literal_array(for_engine(told), type_), col(PLACE))
        if column.rule == "position":
            return (col(PLACE) + 1).cast("bigint")
        return F.get(col(column.cells[0].name), col(PLACE))

    def _look_up(self, step: LookUpStep) -> None:
        """Finds the records that a link leads to, and makes those that are wanted."""
        from pyspark.sql import functions as F

        table = self.done.tables[step.table]
        asks = table.of_rows
        found, unknown, created = self._resolve(asks, step, dict(step.by), dict(step.repeats))
        where = (step.table, step.link)
        self.done.unknown[where] = unknown
        link = table.links[step.link]
        led = F.when(col(AT).isNotNull(), col("_found")).otherwise(col(link))

        def with_found(frame: DataFrame) -> DataFrame:
            whole = joined(frame, found, {ID: "_ask"}, {"_found": "_found"})
            return self.written(whole.withColumn(link, led).drop("_found"))

        table.frame = with_found(table.frame)
        table.met = None if table.met is None else with_found(table.met)
        resolved = found.where(col("_found").isNotNull()).count()
        lost = unknown.count() if step.spec.missing == "blank" else 0
        self.done.lookups.append(LookupResult(step, resolved, created, lost))

    def _resolve(
        self, asks: DataFrame, step: LookUpStep, by: dict[str, Cell], repeats: dict[str, Cell]
    ) -> tuple[DataFrame, DataFrame, int]:
        """For each record that asks (`_ask`) the one that it is led to (`_found`); those that ask
        for what is not there; how many were made."""
        from pyspark.sql import functions as F

        parent = self.done.tables[step.spec.to]
        asks = asks.select(
            col(ID).alias("_ask"),
            *[col(n) for n in dict.fromkeys(c.name for c in (*by.values(), *repeats.values()))],
        )
        ours: list[str] = []  # columns of the parent
        theirs: list[str] = []  # columns of those that ask
        frame = parent.frame
        linked: dict[str, str] = {}
        for i, (path, cell) in enumerate(by.items()):
            own, _, further = path.partition(".")
            if further:
                target = self.plan.tables[step.spec.to].links[own].spec
                inner = LookUpStep(step.spec.to, own, target, {further: cell}, {})
                found, _, _ = self._resolve(
                    asks.withColumnRenamed("_ask", ID), inner, {further: cell}, {}
                )
                asks = joined(asks, found, {"_ask": "_ask"}, {"_found": f"_linked{i}"})
                linked[own] = f"_linked{i}"
                ours.append(parent.links[own])
                theirs.append(f"_linked{i}")
            elif step.spec.loose and cell.of_type.kind == "text":
                frame = folded_column(frame, parent.columns[path], f"_folded{i}")
                asks = folded_column(asks, cell.name, f"_asked{i}")
                ours.append(f"_folded{i}")
                theirs.append(f"_asked{i}")
            else:
                ours.append(parent.columns[path])
                theirs.append(cell.name)
        there = (
            frame.where(all_filled(ours)).groupBy(*[col(o) for o in ours]).agg(F.min(ID).alias(ID))
        )
        asks = self.written(
            joined(asks, there, dict(zip(theirs, ours, strict=True)), {ID: "_found"})
        )
        plain = {parent.columns[c]: cell.name for c, cell in repeats.items() if "." not in c}
        if parent.created and plain:
            self._fill_unsaid(parent, asks, plain)
        unknown = asks.where(all_filled(theirs) & col("_found").isNull())
        if step.spec.missing != "create" or unknown.isEmpty():
            return asks.select("_ask", "_found"), unknown.select("_ask"), 0
        values = {
            parent.columns[path]: cell.name
            for path, cell in (*by.items(), *repeats.items())
            if "." not in path
        } | {parent.links[own]: name for own, name in linked.items()}
        new = unknown.groupBy(*[col(t) for t in theirs]).agg(
            F.min("_ask").alias("_first"),
            F.min_by(
                F.struct(*[col(v).alias(f"_new{i}") for i, v in enumerate(values.values())]),
                col("_ask"),
            ).alias("_values"),
        )
        new = self.written(numbered(new, ["_first"], ID_BITS, parent.frame.count()))
        created = new.count()
        types = dict(parent.frame.dtypes)
        added = new.select(
            col(ID),
            F.lit(None).cast("bigint").alias(AT),
            *[
                F.col(f"_values._new{i}").cast(types[name]).alias(name)
                for i, name in enumerate(values)
            ],
        )
        parent.frame = self.written(parent.frame.unionByName(added, allowMissingColumns=True))
        parent.created += created
        made = joined(asks, new, dict(zip(theirs, theirs, strict=True)), {ID: "_made"}).select(
            "_ask", F.coalesce(col("_found"), col("_made")).alias("_found")
        )
        return self.written(made), unknown.select("_ask"), created

    def _fill_unsaid(self, parent: Table, asks: DataFrame, said: Mapping[str, str]) -> None:
        """Gives records that only others name what the first one says that was led to them, in
        columns (each with the cell) of which those before have said nothing."""
        from pyspark.sql import functions as F

        firsts = [
            F.min_by(col(cell), F.when(col(cell).isNotNull(), col("_ask"))).alias(f"_first{i}")
            for i, cell in enumerate(said.values())
        ]
        first = asks.where(col("_found").isNotNull()).groupBy("_found").agg(*firsts)
        take = {f"_first{i}": f"_first{i}" for i in range(len(said))}
        frame = joined(parent.frame, first, {ID: "_found"}, take)
        made = col(AT).isNull() & (col(ID) > parent.before)
        for i, column in enumerate(said):
            first_said = F.coalesce(col(column), col(f"_first{i}"))
            frame = frame.withColumn(column, F.when(made, first_said).otherwise(col(column)))
        parent.frame = self.written(frame.drop(*take))


def _said_alike(step: TableStep) -> dict[str, Agreement]:
    """What all rows of a record must say alike, by the name of a column for it."""
    out: dict[str, Agreement] = {}
    for i, column in enumerate(step.columns.values()):
        if column.rule == "same":
            out[f"s{i}"] = Agreement(column.headers, column.cells[:1], col(column.cells[0].name))
    for i, link in enumerate(step.links.values()):
        if link.agreed and (link.identity.cells or link.identity.only):
            out[f"l{i}"] = Agreement(
                link.headers, link.identity.cells, identity_value(link.identity)
            )
    return out


def identity_value(identity: Identity) -> Column:
    """The identity of a row's record as one value, blank where it has none."""
    from pyspark.sql import functions as F

    whole = one_value([c.name for c in identity.cells])
    return F.when(all_hold([c.name for c in identity.only]), whole)
