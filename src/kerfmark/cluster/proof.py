"""A proof on a cluster: what the executors have read of a source again is held against what the
tables of a folder show of it, joined by the cluster's engine, as a multiset of whole rows."""

from __future__ import annotations

import functools
import json
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import date, datetime
from typing import TYPE_CHECKING, Any

from kerfmark.cluster.existing import stored
from kerfmark.cluster.folder import TableSet
from kerfmark.cluster.frames import (
    AT,
    ID,
    all_filled,
    all_hold,
    cell_type,
    col,
    folded_column,
    glob_escaped,
    joined,
    local_frame,
)
from kerfmark.cluster.proof_rows import (
    MISFITS,
    Chosen,
    UnitExpected,
    chosen,
    column_specs,
    expected_type,
    identity_cells,
    shown_headers,
)
from kerfmark.cluster.staging import PLACE_BITS
from kerfmark.layout.model import Layout, LinkSpec
from kerfmark.plan.compile import compiled
from kerfmark.store.sql_dialect import SqlDialect
from kerfmark.store.views import view

if TYPE_CHECKING:
    from pyspark.sql import DataFrame, SparkSession

TOLD = 1_000
"""Different rows that are fetched, to be told."""
_LOAD = "_load"


@dataclass(frozen=True)
class Compared:
    """What is not the same of a source and of what the tables show of it: the first rows that only
    the source has, with their places, of `lost`; the first ones that only the tables have, of
    `strange`, of which so many are records that others only have `named`; and how many rows the
    tables show."""

    headers: tuple[str, ...]
    only_in_source: tuple[tuple[int, tuple[Any, ...]], ...]
    lost: int
    only_in_tables: tuple[tuple[Any, ...], ...]
    strange: int
    named: int
    shown: int


class Proof:
    """The tables of the folder `place`, whose files are those of `sets`, and the views of its
    sources."""

    def __init__(
        self, session: SparkSession, layout: Layout, sets: Mapping[str, TableSet], place: str
    ) -> None:
        self.session, self.layout, self.plan = session, layout, compiled(layout)
        self.sets, self.place = sets, place

    def broken_links(self) -> Iterator[str]:
        """The columns of foreign keys, as table.column, with a value that refers to no record."""
        for name in self.layout.tables:
            for link, to in self.layout.tables[name].links.items():
                pairs = self.layout.link_columns(name, link)
                own = self._stored(name, [mine for mine, _ in pairs])
                own = own.where(all_filled([mine for mine, _ in pairs]))
                if self.layout.has_generated_key(to.to):  # whose numbers have no gap
                    number = col(pairs[0][0])
                    lost = own.where((number < 1) | (number > self.sets[to.to].rows))
                else:
                    keys = self._stored(to.to, [key for _, key in pairs])
                    lost = joined(own, keys, dict(pairs), {}, "left_anti")
                if lost.limit(1).count():
                    yield from (f"{name}.{mine}" for mine, _ in pairs)

    def compare(
        self,
        source: str,
        headers: Sequence[str],
        units: Sequence[UnitExpected],
        loads: Mapping[int, int],
    ) -> Compared:
        """Compares a source, whose units came with `loads`."""
        from pyspark.sql import functions as F

        shown = shown_headers(self.layout, source, headers)
        cells = [f"e{i}" for i in range(len(shown))]
        with self._view(source, shown) as found:
            types = [f.dataType for f in found.schema.fields]
            wanted = self._expected(source, headers, shown, units, loads)
            ours = wanted.select(
                *[col(c).cast(t).alias(c) for c, t in zip(cells, types, strict=True)],
                col(MISFITS),
                F.lit(1).alias("_more"),
                col(AT),
            )
            theirs = found.toDF(*cells).select(
                *cells,
                F.lit(None).cast("string").alias(MISFITS),
                F.lit(-1).alias("_more"),
                F.lit(None).cast("bigint").alias(AT),
            )
            # a row is counted up where a file has it, and down where the tables show it; kept is
            # nothing, as there are as many of these sums as there are rows
            sums = (
                ours.unionByName(theirs)
                .groupBy(*cells, MISFITS)
                .agg(
                    F.sum("_more").alias("_more"),
                    F.min(AT).alias(AT),
                    F.sum(F.when(col("_more") < 0, 1).otherwise(0)).alias("_shown"),
                )
            )
            counted = sums.agg(
                F.sum("_shown"),
                F.sum(F.when(col("_more") > 0, col("_more")).otherwise(0)),
                F.sum(F.when(col("_more") < 0, -col("_more")).otherwise(0)),
            ).collect()[0]
            rows, lost, strange = (int(n or 0) for n in counted)
            more = max(0, rows - sum(u.rows for u in units))
            named = more if self.layout.is_looked_up(self.layout.base_of(source)) else 0
            differs = lost or strange > named
            first = sums.where(col("_more") > 0).orderBy(AT).limit(TOLD)
            others = sums.where(col("_more") < 0).orderBy(*cells).limit(TOLD)
            return Compared(
                tuple(shown),
                tuple(
                    (int(r[AT]), _told([r[c] for c in cells], r[MISFITS]))
                    for r in (first.collect() if lost else [])
                ),
                lost,
                tuple(
                    _told([r[c] for c in cells])
                    for r in (others.collect() if differs else [])
                    for _ in range(min(TOLD, -int(r["_more"])))
                ),
                strange,
                named,
                rows,
            )

    def _stored(self, name: str, columns: Sequence[str]) -> DataFrame:
        return stored(self.session, self.sets[name], self.place, {c: c for c in columns})

    @contextmanager
    def _view(self, source: str, headers: Sequence[str]) -> Iterator[DataFrame]:
        """What the tables show of a source under some headers."""
        settings = {
            "spark.sql.caseSensitive": "true",  # names that differ by that alone are two
            "spark.sql.parser.escapedStringLiterals": "true",  # as the standard has them
        }
        before = {name: self.session.conf.get(name, None) for name in settings}
        quote = dialect().quote
        names = list(self.layout.tables)
        for name, value in settings.items():
            self.session.conf.set(name, value)
        try:
            for name in names:
                columns = [c for c, _ in self.sets[name].columns]
                self._stored(name, columns).createOrReplaceTempView(quote(name))
            yield self.session.sql(view(self.layout, source, headers, dialect()).query())
        finally:
            for name in names:
                self.session.catalog.dropTempView(name)
            for name, value in before.items():
                if value is None:
                    self.session.conf.unset(name)
                else:
                    self.session.conf.set(name, value)

    def _expected(
        self,
        source: str,
        headers: Sequence[str],
        shown: Sequence[str],
        units: Sequence[UnitExpected],
        loads: Mapping[int, int],
    ) -> DataFrame:
        """What the executors have written, with what the layout chooses and looks up."""
        from pyspark.sql import functions as F

        types = [expected_type(s) for s in column_specs(self.layout, source, shown)]
        some = chosen(self.layout, self.plan, source, headers)
        schema = ", ".join(
            [
                f"{AT} bigint",
                *(f"e{i} {t}" for i, t in enumerate(types)),
                *(f"{c.name} {cell_type(c)}" for c in identity_cells(some)),
                f"{MISFITS} string",
            ]
        )
        files = [u.file for u in units if u.file]
        frame = (
            self.session.read.schema(schema).parquet(*[glob_escaped(f) for f in files])
            if files
            else local_frame(self.session, [], schema)
        )
        of_units = local_frame(
            self.session, [(u.unit, loads[u.unit]) for u in units], f"_unit bigint, {_LOAD} bigint"
        )
        unit_of = F.shiftright(col(AT), PLACE_BITS)
        frame = frame.join(F.broadcast(of_units), unit_of == col("_unit")).drop("_unit")
        for one in some:
            frame = _with_choice(frame, f"e{list(shown).index(one.header)}", one)
        for name, table in self.layout.tables.items():
            for link, spec in table.links.items():
                if table.source == source and (spec.loose or spec.missing == "blank"):
                    frame = self._as_looked_up(frame, shown, name, link, spec)
        return frame

    def _as_looked_up(
        self, frame: DataFrame, shown: Sequence[str], name: str, link: str, spec: LinkSpec
    ) -> DataFrame:
        """Rows in which cells that were only a way to find a record show what that record says, or
        nothing, where none was to be made for them."""
        from pyspark.sql import Window
        from pyspark.sql import functions as F

        plain = {c: h for c, h in (*spec.by.items(), *spec.repeats.items()) if "." not in c}
        at = {h: f"e{list(shown).index(h)}" for h in (*spec.by.values(), *spec.repeats.values())}
        made = [(p.rows, p.load) for p in self.sets[spec.to].files]
        called = {c: f"p{i}" for i, c in enumerate(plain)}
        parents = stored(self.session, self.sets[spec.to], self.place, called)
        first, since = 1, F.lit(0)
        for rows, load in made:
            since = F.when(col(ID) >= first, load).otherwise(since)
            first += rows
        parents = parents.select(*called.values(), since.alias("_since"), ID)
        keys = []
        for i, (c, header) in enumerate(plain.items()):
            parents = parents.withColumn(
                called[c], col(called[c]).cast(frame.schema[at[header]].dataType)
            )
            if c not in spec.by:
                continue
            mine, theirs = at[header], called[c]
            if spec.loose:
                frame = folded_column(frame, mine, f"k{i}")
                parents = folded_column(parents, theirs, f"k{i}")
                mine = theirs = f"k{i}"
            keys.append((mine, theirs))
        rank = F.row_number().over(
            Window.partitionBy(*[theirs for _, theirs in keys]).orderBy("_since", ID)
        )
        parents = parents.withColumn("_rank", rank).where(col("_rank") == 1)
        frame = joined(
            frame,
            parents.withColumn("_found", col("_since")),
            dict(keys),
            {"_found": "_found", **{p: p for p in called.values()}},
        )
        there = F.coalesce(col("_found") <= col(_LOAD), F.lit(False))
        for c, header in plain.items():
            if spec.loose:
                mine, theirs = at[header], called[c]
                frame = folded_column(frame, mine, "_mine")
                frame = folded_column(frame, theirs, "_theirs")
                alike = F.coalesce(col("_mine") == col("_theirs"), F.lit(False))
                frame = frame.withColumn(
                    mine, F.when(alike, col(theirs)).otherwise(col(mine))
                ).drop("_mine", "_theirs")
        if spec.missing == "blank":
            for mine in at.values():
                frame = frame.withColumn(mine, F.when(there, col(mine)))
        return frame.drop("_found", *called.values(), *[k for k, _ in keys if k.startswith("k")])


def _with_choice(frame: DataFrame, cell: str, one: Chosen) -> DataFrame:
    """Rows in which a cell is what the layout has chosen for their record, from what the first load
    that has it says: later ones leave a value that is there as it is."""
    from pyspark.sql import Window
    from pyspark.sql import functions as F

    names = [c.name for c in one.identity.cells]
    of_record = all_filled(names) & all_hold([c.name for c in one.identity.only])
    mine = F.when(of_record, col(cell))
    if one.rule == "refuse":
        return frame.withColumn(cell, mine)
    record = ["_of", *names]
    first = F.min(_LOAD).over(Window.partitionBy(*record))
    frame = frame.withColumn("_of", of_record)
    frame = frame.withColumn("_value", F.when(col(_LOAD) == first, mine))
    filled = F.when(col("_value").isNotNull(), col(AT))
    if one.rule == "most frequent":
        times = Window.partitionBy(*record, "_value")
        frame = frame.withColumn(
            "_rank",
            F.when(
                col("_value").isNotNull(),
                F.struct(F.count(F.lit(1)).over(times), -F.min(AT).over(times)),
            ),
        )
        best = F.max_by("_value", "_rank")
    elif one.rule == "first":
        best = F.min_by("_value", filled)
    else:
        best = F.max_by("_value", filled)
    return frame.withColumn(cell, F.when(col("_of"), best.over(Window.partitionBy(*record)))).drop(
        "_of", "_value", "_rank"
    )


@functools.cache
def dialect() -> SqlDialect:
    """How the SQL of the cluster's engine is written."""
    from sqlalchemy.engine.default import DefaultDialect
    from sqlalchemy.sql.compiler import IdentifierPreparer

    own = DefaultDialect()
    own.identifier_preparer = IdentifierPreparer(own, initial_quote="`", escape_quote="`")

    def string_agg(value: str, separator: str, order: str, rows: str) -> str:
        return (
            f"(SELECT listagg(CAST({value} AS STRING), {separator}) WITHIN GROUP ({order}) {rows})"
        )

    return SqlDialect(own, string_agg)


def _told(row: Sequence[Any], misfits: str | None = None) -> tuple[Any, ...]:
    """A row as it is told: days and times as text, and what is no value as it stands."""
    if misfits:
        texts = {int(i): text for i, text in json.loads(misfits).items()}
        row = [texts.get(i, v) for i, v in enumerate(row)]
    return tuple(str(v) if isinstance(v, date | datetime) else v for v in row)
