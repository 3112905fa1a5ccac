"""What the steps need of the cluster's engine: columns by name, numbers in an order, joins that
cannot mix names up."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any

import pyarrow as pa

from kerfmark.plan.model import Cell
from kerfmark.profile.types import ColumnType

if TYPE_CHECKING:
    from pyspark.sql import Column, DataFrame, SparkSession

AT, N, ID, PLACE, UNFIT = "_at", "_n", "_id", "_place", "_unfit"
"""Columns of all tables: the place of the row that a record was first met in; the number of the row
in its unit; the number of the record, from 1; the position of a part; the names of the cells of a
row that are filled and do not fit their types."""


ID_BITS = 20
"""Bits of a record's number that tell it within its bucket."""


def engine_type(type_: ColumnType) -> str:
    """The type of values in the cluster's engine, as `staging.for_engine` has them."""
    if type_.kind == "decimal":
        return f"decimal({type_.precision},{type_.scale})"
    return {
        "text": "string",
        "integer": "bigint",
        "real": "double",
        "boolean": "boolean",
        "date": "date",
        "timestamp": "timestamp_ntz",
        "time": "int",
    }[type_.kind]


def cell_type(cell: Cell) -> str:
    """The type of a cell in the cluster's engine."""
    if cell.form == "holds":
        return "boolean"
    one = "string" if cell.form == "text" else engine_type(cell.of_type)
    return f"array<{one}>" if cell.form in ("parts", "derived parts") else one


def schema_of(cells: Sequence[Cell]) -> str:
    """The schema of the staged rows of a source."""
    return ", ".join(
        [
            f"{AT} bigint",
            f"{N} bigint",
            f"{UNFIT} array<string>",
            *(f"{c.name} {cell_type(c)}" for c in cells),
        ]
    )


def col(name: str) -> Column:
    """A column by its name, whatever that is."""
    from pyspark.sql import functions as F

    return F.col("`" + name.replace("`", "``") + "`")


def all_filled(names: Sequence[str]) -> Column:
    """Whether none of some columns is blank."""
    from pyspark.sql import functions as F

    out = F.lit(True)
    for name in names:
        out = out & col(name).isNotNull()
    return out


def all_hold(names: Sequence[str]) -> Column:
    """Whether all of some conditions hold."""
    from pyspark.sql import functions as F

    out = F.lit(True)
    for name in names:
        out = out & F.coalesce(col(name), F.lit(False))
    return out


def one_value(names: Sequence[str]) -> Column:
    """Several columns as one value; blank where any of them is."""
    from pyspark.sql import functions as F

    if len(names) == 1:
        return col(names[0])
    return F.when(all_filled(names), F.struct(*[col(n) for n in names]))


def joined(
    left: DataFrame,
    right: DataFrame,
    pairs: Mapping[str, str],
    take: Mapping[str, str],
    how: str = "left",
) -> DataFrame:
    """The left rows with columns of the right ones that have the same values in pairs of columns
    (left to right); `take` maps columns of the right to their new names. No right row may have the
    values of another one, or rows come twice."""
    renamed = right.select(
        *[col(r).alias(f"_join{i}") for i, r in enumerate(pairs.values())],
        *[col(r).alias(f"_take{i}") for i, r in enumerate(take)],
    )
    on = None
    for i, name in enumerate(pairs):
        same = col(name) == col(f"_join{i}")
        on = same if on is None else on & same
    whole = left.join(renamed, on, how)
    if how in ("left_anti", "left_semi"):
        return whole
    # without asking which columns there are: where plans are made elsewhere, that is a question
    rest = whole.drop(*take.values(), *[f"_join{i}" for i in range(len(pairs))])
    return rest.withColumnsRenamed({f"_take{i}": n for i, n in enumerate(take.values())})


def numbered(
    frame: DataFrame, order: Sequence[str], bits: int, start: int = 0, name: str = ID
) -> DataFrame:
    """The rows with numbers from 1 (and `start`) in the order of some columns of whole numbers. The
    first of them, without its last `bits` bits, says into which bucket a row goes: rows are ranked
    within their buckets, and the buckets counted, so that no machine ever holds them all."""
    from pyspark.sql import Window
    from pyspark.sql import functions as F

    bucketed = frame.withColumn("_bucket", F.shiftright(col(order[0]), bits))
    before = Window.orderBy("_bucket").rowsBetween(Window.unboundedPreceding, -1)
    offsets = (
        bucketed.groupBy("_bucket")
        .count()
        .select(
            col("_bucket").alias("_of_bucket"),
            F.coalesce(F.sum("count").over(before), F.lit(0)).alias("_offset"),
        )
    )
    rank = F.row_number().over(Window.partitionBy("_bucket").orderBy(*[col(o) for o in order]))
    return (
        bucketed.withColumn("_rank", rank)
        .join(F.broadcast(offsets), col("_bucket") == col("_of_bucket"))
        .withColumn(name, (col("_rank") + col("_offset") + F.lit(start)).cast("bigint"))
        .drop("_bucket", "_of_bucket", "_offset", "_rank")
    )


def local_frame(session: SparkSession, rows: Sequence[tuple[Any, ...]], schema: str) -> DataFrame:
    """A few rows of the driver's as a frame."""
    return session.createDataFrame(list(rows), schema)


def literal_array(values: pa.Array, type_: str) -> Column:
    """Some values of the driver's, as one array."""
    from pyspark.sql import functions as F

    return F.array(*[F.lit(v) for v in values.to_pylist()]).cast(f"array<{type_}>")


def uri(file: str) -> str:
    """A file as the cluster's engine names it."""
    return file if "://" in file else f"file://{file}"


def glob_escaped(file: str) -> str:
    """The same where it is read: some letters are those of patterns there."""
    return re.sub(r"([\[\]{}*?\\])", r"\\\1", uri(file))


def folded_column(frame: DataFrame, column: str, name: str) -> DataFrame:
    """A frame with a column of texts as they are compared loosely."""
    place = frame.columns.index(column)
    schema = ", ".join(f"`{n}` {t}" for n, t in (*frame.dtypes, (name, "string")))
    names = [*frame.columns, name]

    def fold(batches: Iterator[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
        from kerfmark.profile.convert import folded

        for batch in batches:
            texts = folded(batch.column(place).cast(pa.string()))
            yield pa.RecordBatch.from_arrays([*batch.columns, texts], names=names)

    return frame.mapInArrow(fold, schema)
