"""What is in sources that are too large for one machine: executors read them, and answer what the
driver asks of the values of each column. Columns with few values are brought to the driver; of the
others it has those by which types are told, and what it finds is held against all of them."""

from __future__ import annotations

import functools
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import partial
from typing import TYPE_CHECKING, Any, TypeVar

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.cluster.build import SourceFiles, in_tasks, prepare, units_of
from kerfmark.cluster.files import size_of
from kerfmark.cluster.frames import AT, col, glob_escaped, uri
from kerfmark.cluster.measured_rows import (
    Question,
    UnitMeasured,
    Values,
    answer_of,
    counts_in_steps,
    extremes,
    first_matching,
    is_not_spelled,
    measured_unit,
    row_digests,
    typed_ends,
)
from kerfmark.cluster.problems import Places
from kerfmark.cluster.staging import Job, Opener
from kerfmark.layout.model import Layout
from kerfmark.plan.model import Plan
from kerfmark.profile.columns import EncodedColumn, trimmed
from kerfmark.profile.encode import TOLD
from kerfmark.profile.not_data import GroupHeads, blank_below, grouped_columns
from kerfmark.profile.recognise import (
    BLANKS,
    Recognised,
    blank_spellings,
    is_padded,
    recognise,
    recognise_column,
)
from kerfmark.profile.types import TEXT, ColumnType
from kerfmark.profile.values import (
    FIRST,
    Alike,
    Mask,
    Matching,
    Naming,
    SourceValues,
    Test,
    ValuesHere,
    in_one_case,
    plain,
    spelled_ends,
)
from kerfmark.progress import Progress
from kerfmark.read.source import RaggedRow, Remark, Source

if TYPE_CHECKING:
    from pyspark.sql import DataFrame, SparkSession

A = TypeVar("A")

BROUGHT = 100_000
"""Values of a column up to which all of them are brought to the driver."""
BYTES = 16 << 20
"""Bytes of a column's values up to which they are."""
HEAD = 1_000
"""First values of a column that the driver has in any case."""
_WRONG = 20
"""Values that are no values of a type, which the driver asks for at a time."""
_VALUES = "value string, times bigint, places array<bigint>"


class ValuesBrought(ValuesHere):
    """The values of a column of `cells` rows, which were all brought to the driver."""

    def __init__(
        self, column: EncodedColumn, cells: int, times: np.ndarray, places: pa.ListArray
    ) -> None:
        super().__init__(column)
        self._cells, self._times, self._places = cells, times, places

    @property
    def cells(self) -> int:
        """How many rows there are."""
        return self._cells

    @property
    def blanks(self) -> int:
        """How many of them are blank."""
        return self._cells - int(self._times.sum())

    @property
    def times(self) -> np.ndarray | None:
        """How many cells have each value; None where each has one."""
        return None if self.count == self._times.sum() else self._times

    @property
    def telling(self) -> EncodedColumn:
        """The values by which types are told."""
        return self.column

    def rows_of(self, these: np.ndarray, most: int) -> tuple[int, tuple[int, ...]]:
        """How many rows have one of some values, and the places of the first of them."""
        places = np.sort(self._places.filter(pa.array(these)).flatten().to_numpy())
        return int(self._times[these].sum()), tuple(places[:most].tolist())

    def without(self, spellings: Sequence[str]) -> ValuesBrought:
        """The same with some spellings taken as blank."""
        where = pc.is_in(self.values, value_set=pa.array(spellings, pa.string()))
        keep = pc.invert(where)
        column = self.column.without([*spellings])
        times = self._times[keep.to_numpy(zero_copy_only=False)]
        return ValuesBrought(column, self._cells, times, self._places.filter(keep))


class ValuesThere:
    """The values of a column of `cells` rows, of which `count` are in a frame of the cluster
    (`value`, `times`, `places`), in `filled` cells; `telling` are those by which types are told."""

    def __init__(
        self, frame: DataFrame, cells: int, count: int, filled: int, telling: EncodedColumn
    ) -> None:
        self.frame, self.cells, self.count, self.filled = frame, cells, count, filled
        self.telling = telling
        self.header, self.spelled = telling.header, telling.spelled
        self.blank_as = telling.blank_as
        self._ends: dict[ColumnType, tuple[Any, Any, float, float]] = {}

    @property
    def blanks(self) -> int:
        """How many rows are blank."""
        return self.cells - self.filled

    def ask(self, question: Question[A]) -> A:
        """The answer of all values."""
        said = self.frame.mapInArrow(question.task(), "said string").collect()
        return question.all([answer_of(row["said"]) for row in said])

    def recognised(self) -> Recognised:
        """The type of the column."""
        return recognise_column(self.telling)

    def head(self, most: int) -> pa.StringArray:
        """The first values."""
        return self.telling.values.slice(0, min(most, HEAD))

    def longest(self) -> int:
        """The characters of the longest value."""
        return self.ask(Question(_longest, max))

    def usual_length(self) -> int:
        """The bytes that most values have."""
        found = self.ask(Question(_lengths, lambda a, b: a + b))
        return int(min(found, key=lambda length: (-found[length], length)))

    def all(self, test: Test) -> bool:
        """Whether something holds for all values."""
        return test(self.telling.values) and self.ask(
            Question(lambda v: test(v.texts), lambda a, b: a and b)
        )

    def matching(self, mask: Mask, values: int = 1, rows: int = FIRST) -> Matching:
        """Which values are meant."""
        cells, first, places = self.ask(first_matching(mask, values, rows))
        return Matching(cells, tuple(text for _, text in first), tuple(places))

    def names(self, naming: Naming) -> set[str | None]:
        """All names that values have."""
        return self.ask(
            Question(lambda v: {*naming(v.texts).unique().to_pylist()}, lambda a, b: a | b)
        )

    def frequent(self, most: int) -> tuple[tuple[str, int], ...]:
        """The most frequent values."""
        from pyspark.sql import functions as F

        rows = self.frame.orderBy(F.desc("times"), col("places")[0]).limit(most).collect()
        return tuple((r["value"], int(r["times"])) for r in rows)

    def ends(self, type_: ColumnType) -> tuple[str, str]:
        """The smallest and the largest value of a type."""
        if type_.kind in ("text", "boolean"):
            return self.ask(Question(_text_ends, lambda a, b: (min(a[0], b[0]), max(a[1], b[1]))))
        smallest, largest, _, _ = self._typed_ends(type_)
        return spelled_ends(smallest, largest, type_)

    def steps(self, type_: ColumnType, steps: int) -> tuple[int, ...]:
        """How many cells fall into each of equal steps."""
        _, _, low, high = self._typed_ends(type_)
        if low == high:
            return ()
        return tuple(int(n) for n in self.ask(counts_in_steps(type_, steps, low, high)))

    def _typed_ends(self, type_: ColumnType) -> tuple[Any, Any, float, float]:
        if type_ not in self._ends:
            found = self.ask(typed_ends(type_))
            assert found is not None
            self._ends[type_] = found
        return self._ends[type_]

    def alike(self) -> Alike | None:
        """Values that differ only in case or spaces from a more frequent one."""
        from pyspark.sql import Window
        from pyspark.sql import functions as F

        if in_one_case(self):
            return None
        whole = self.frame.mapInArrow(_with_plain, f"{_VALUES}, plain string").withColumn(
            "first", col("places")[0]
        )
        groups = whole.groupBy("plain").agg(F.count(F.lit(1)).alias("n"), F.min("first").alias("f"))
        found = groups.where(col("n") > 1).orderBy("f").limit(1).collect()
        if not found:
            return None
        rank = F.row_number().over(Window.partitionBy("plain").orderBy(F.desc("times"), "first"))
        ranked = whole.withColumn("rank", rank)
        usual, rare = (
            ranked.where((col("plain") == found[0]["plain"]) & (col("rank") <= 2))
            .orderBy("rank")
            .collect()
        )
        others = ranked.where(col("rank") > 1)
        cells = others.agg(F.sum("times")).collect()[0][0]
        first = others.orderBy("first").limit(FIRST).collect()
        rows = sorted(place for row in first for place in row["places"])[:FIRST]
        return Alike(rare["value"], usual["value"], int(cells), tuple(rows))

    def without(self, spellings: Sequence[str]) -> ValuesThere:
        """The same with some spellings taken as blank."""
        from pyspark.sql import functions as F

        telling = self.telling.without([*spellings])
        if telling is self.telling:
            return self
        gone = col("value").isin([*spellings])
        said = self.frame.where(gone).agg(F.count(F.lit(1)), F.sum("times")).collect()[0]
        return ValuesThere(
            self.frame.where(~gone),
            self.cells,
            self.count - int(said[0]),
            self.filled - int(said[1] or 0),
            telling,
        )


class Measured:
    """Sources (by name), read by the executors, which have their files in `distributed`; the first
    `rows` rows of each are kept. `staging` is for what is needed on the way."""

    def __init__(
        self,
        session: SparkSession,
        sources: Mapping[str, Source],
        layout: Layout,
        opener: Opener,
        distributed: Mapping[str, SourceFiles],
        rows: int,
        staging: str,
        progress: Progress,
    ) -> None:
        self.session, self.sources, self.staging = session, sources, staging
        self.progress = progress
        headers = {n: tuple(s.headers) for n, s in sources.items()}
        self.job = Job(layout, Plan({}, (), dict.fromkeys(sources, ())), staging, opener, headers)
        self.units = units_of(session, staging, distributed, progress)
        prepare(session, sum(u.end - u.start or size_of(u.place) for u in self.units))
        self.read: dict[str, list[UnitMeasured]] = {n: [] for n in sources}
        work = partial(measured_unit, self.job, rows)
        said = in_tasks(session, staging, self.units, work, "reading", progress)
        for unit, text in zip(self.units, said, strict=True):
            self.read[unit.source].append(UnitMeasured.of(text))
        self.places = Places({u.unit: u.runs for units in self.read.values() for u in units})

    def rows(self, name: str) -> int:
        """How many rows a source has."""
        return sum(u.rows for u in self.read[name])

    def first_rows(self, name: str, most: int, trim: bool) -> tuple[tuple[str | None, ...], ...]:
        """The first rows of a source, without spaces at the ends of cells if they are to be."""
        rows = [r for u in self.read[name] for r in u.first][:most]
        if not trim:
            return tuple(map(tuple, rows))
        bare = [pc.utf8_trim_whitespace(pa.array(r, pa.string())).to_pylist() for r in rows]
        return tuple(tuple(cell or None for cell in row) for row in bare)

    def source(self, name: str) -> tuple[SourceValues, bool]:
        """What is asked of a source, and whether its cells are padded with spaces, which are not
        there then."""
        units, rows = self.read[name], self.rows(name)
        self.progress(f"finding equal values in {self.sources[name].name}", 0, 0)
        frame = self._grouped(self._values(name), f"{name} values")
        columns = self._columns(name, frame)
        below = [*self._blank_below(name, columns[0].count)]
        if padded := is_padded([c.telling for c in columns]):
            frame = self._grouped(frame.mapInArrow(_bare, f"header int, {_VALUES}"), f"{name} bare")
            columns = self._columns(name, frame)
        blanks = blank_spellings([c.telling for c in columns])
        if blanks:
            columns = [c.without(blanks) for c in columns]
        at = self.sources[name].origin

        def origin(place: int | None, header: str | None) -> Any:
            return at(header) if place is None else self.places.origin(place, header or "")

        ragged = [r for u in units for r in u.ragged_rows]
        about = SourceValues(
            columns,
            rows,
            origin,
            [*_together(u.remarks for u in units), *below],
            sum(u.ragged for u in units),
            _first_and_one_of_several(ragged),
            lambda: self._repeated(name, padded, blanks),
        )
        return about, padded

    def _blank_below(self, name: str, values: int) -> Iterator[Remark]:
        """What is told of columns that are filled once in each group of rows, if there are any; the
        first column has so many values."""
        units, rows = self.read[name], self.rows(name)
        heads = functools.reduce(GroupHeads.then, [u.heads for u in units])
        cells = [
            (sum(filled for filled, _ in some), sum(beside for _, beside in some))
            for some in zip(*[u.cells for u in units], strict=True)
        ]
        if len(cells) > 1 and heads.show_groups(values):
            grouped = [self.job.headers[name][i] for i in grouped_columns(rows, cells)]
            if grouped:
                yield blank_below(grouped, [r for u in units for r in u.blank][:TOLD], heads.blank)

    def _values(self, name: str) -> DataFrame:
        files = [glob_escaped(u.file) for u in self.read[name] if u.file]
        return self.session.read.schema(f"header int, {_VALUES}").parquet(*files)

    def _grouped(self, values: DataFrame, what: str) -> DataFrame:
        """Values, equal ones of a column as one; kept, as they are asked often."""
        from pyspark.sql import functions as F

        first = F.slice(F.array_sort(F.flatten(F.collect_list("places"))), 1, FIRST)
        grouped = values.groupBy("header", "value").agg(
            F.sum("times").alias("times"), first.alias("places")
        )
        place = f"{self.staging}/{what.replace(' ', '-')}"
        grouped.write.partitionBy("header").parquet(uri(place))
        schema = f"{_VALUES}, header int"
        return self.session.read.schema(schema).parquet(glob_escaped(place))

    def _columns(self, name: str, frame: DataFrame) -> list[ValuesBrought | ValuesThere]:
        """The columns of a source whose values are in a frame."""
        from pyspark.sql import functions as F

        headers, rows = self.job.headers[name], self.rows(name)
        size = F.sum(F.octet_length("value"))
        counted = frame.groupBy("header").agg(F.count(F.lit(1)), F.sum("times"), size).collect()
        there = {int(h): (int(count), int(times)) for h, count, times, _ in counted}
        small = [int(h) for h, count, _, size in counted if count <= BROUGHT and int(size) <= BYTES]
        brought = _sorted(frame.where(col("header").isin(small)) if small else frame.limit(0))
        spelled = self.sources[name].spells_numbers
        out: list[ValuesBrought | ValuesThere] = []
        for i, header in enumerate(headers):
            if i not in small and i in there:
                count, filled = there[i]
                mine = frame.where(col("header") == i).select("value", "times", "places")
                empty = _column(header, pa.array([], pa.string()), spelled)
                out.append(_told(ValuesThere(mine, rows, count, filled, empty)))
                continue
            mine = brought.filter(pc.equal(brought["header"], i)).combine_chunks()
            texts, places = (mine[c].combine_chunks() for c in ("value", "places"))
            column = _column(header, texts, spelled)
            out.append(ValuesBrought(column, rows, mine["times"].to_numpy(), places))
        return out

    def _repeated(self, name: str, trim: bool, blanks: Sequence[str]) -> Matching:
        """The rows that are the same as an earlier one: sources are read once more."""
        from pyspark.sql import functions as F

        units = [u for u in self.units if u.source == name]
        work = partial(row_digests, self.job, trim, blanks)
        said = in_tasks(
            self.session, self.staging, units, work, "looking for equal rows", self.progress
        )
        files = [glob_escaped(f) for f in said if f]
        rows = self.session.read.schema(f"low bigint, high bigint, {AT} bigint").parquet(*files)
        groups = (
            rows.groupBy("low", "high")
            .agg(F.count(F.lit(1)).alias("n"), F.min(AT).alias("first"))
            .where(col("n") > 1)
        )
        total = groups.agg(F.sum("n"), F.count(F.lit(1))).collect()[0]
        if not total[1]:
            return Matching(0, (), ())
        again = rows.join(groups, ["low", "high"]).where(col(AT) > col("first"))
        first = again.select(AT).orderBy(AT).limit(FIRST).collect()
        return Matching(int(total[0] - total[1]), (), tuple(int(r[AT]) for r in first))


def _column(header: str, texts: pa.StringArray, spelled: bool) -> EncodedColumn:
    """A column that has each of some texts once."""
    return EncodedColumn(header, texts, np.arange(len(texts), dtype=np.int32), (), spelled)


def _sorted(frame: DataFrame) -> pa.Table:
    """Values in the driver, those of each column in the order in which they first appear."""
    table = frame.select("header", "value", "times", "places").toArrow()
    table = table.cast(
        pa.schema(
            [
                ("header", pa.int32()),
                ("value", pa.string()),
                ("times", pa.int64()),
                ("places", pa.list_(pa.int64())),
            ]
        )
    )
    return table.take(pc.sort_indices(pc.list_element(table["places"], 0)))


def _told(values: ValuesThere) -> ValuesThere:
    """A column with the values by which types are told: the first ones, those of all blank
    spellings, the extremes of each form of text, and those that are no values of what the others
    say."""

    known: dict[str, int] = {}
    first = values.frame.orderBy(col("places")[0]).limit(HEAD)
    blank = values.frame.where(col("value").isin([*BLANKS]))
    for row in first.union(blank).select("value", col("places")[0].alias("at")).collect():
        known[row["value"]] = int(row["at"])
    for _, ends in values.ask(extremes()).values():
        known |= {text: at for _, text, at in ends.values()}
    while True:
        texts = pa.array(sorted(known, key=lambda t: known[t]), pa.string())
        column = _column(values.header, texts, values.spelled)
        types = _types(column)
        if not types:
            break
        mask = partial(is_not_spelled, types, BLANKS)
        _, wrong, _ = values.ask(first_matching(mask, _WRONG, 0))
        new = {text: at for at, text in wrong if text not in known}
        if not new:
            break
        known |= new
    return ValuesThere(values.frame, values.cells, values.count, values.filled, column)


def _types(column: EncodedColumn) -> list[ColumnType]:
    """The types that a column has, with and without spaces at the ends of cells, and with and
    without the spellings of blanks."""
    found = {
        recognise(c.values, spelled=c.spelled).type
        for some in (column, trimmed(column))
        for c in (some, some.without([*BLANKS]))
    }
    return sorted(found - {TEXT}, key=str)


def _bare(batches: Iterator[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
    """Values without spaces at their ends; those that are nothing else are gone."""
    for batch in batches:
        texts = pc.utf8_trim_whitespace(batch.column("value").cast(pa.string()))
        columns = [batch.column("header"), texts, batch.column("times"), batch.column("places")]
        whole = pa.RecordBatch.from_arrays(columns, ["header", "value", "times", "places"])
        yield whole.filter(pc.not_equal(texts, ""))


def _with_plain(batches: Iterator[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
    """Values, and beside each what it is without case and uneven spaces."""
    for batch in batches:
        texts = plain(batch.column("value").cast(pa.string()))
        names = ["value", "times", "places", "plain"]
        yield pa.RecordBatch.from_arrays([*batch.columns, texts], names)


def _longest(values: Values) -> int:
    return int(pc.max(pc.utf8_length(values.texts)).as_py())


def _lengths(values: Values) -> Counter[int]:
    return Counter(pc.binary_length(values.texts).to_pylist())


def _text_ends(values: Values) -> tuple[str, str]:
    ends = pc.min_max(values.texts)
    return str(ends["min"]), str(ends["max"])


def _together(remarks: Iterable[Sequence[Remark]]) -> list[Remark]:
    """What was noticed in units, the same of several as one."""
    found: dict[tuple[object, ...], Remark] = {}
    for one in (r for some in remarks for r in some):
        key = one.severity, one.header, one.what, one.next
        known = found.get(key)
        rows = (*(known.rows if known else ()), *one.rows)
        total = (known.total if known else 0) + one.total
        found[key] = Remark(one.severity, one.header, one.what, rows, total, one.next)
    return list(found.values())


def _first_and_one_of_several(rows: Sequence[RaggedRow]) -> list[RaggedRow]:
    """The first ragged rows, and one with several fields, if there is one."""
    several = next((r for r in rows[FIRST:] if r.fields != 1), None)
    return [*rows[:FIRST], *([several] if several else [])]
