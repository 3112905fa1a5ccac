"""Records of named fields, which may hold records and lists, as sources.

A field of a record within a record becomes a column `outer.inner`. A list becomes a source of its
own, with the number of the record it belongs to and its position in the list; its records then
carry that number too.
"""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Protocol, TypeVar

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import xxhash

from kerfmark.errors import Origin, SourceError
from kerfmark.read.cells import decimal_texts
from kerfmark.read.source import (
    Batches,
    Found,
    Piece,
    Remark,
    RowRules,
    distinct_headers,
    header_remarks,
    with_changes,
)

T = TypeVar("T")

RECORD = "record"
"""The header of a record's number, where lists belong to it."""
POSITION = "position"
VALUE = "value"
_UNITS = {"s": "seconds", "ms": "milliseconds", "us": "microseconds", "ns": "nanoseconds"}


class Records(Protocol):
    """A file of records: its schema (without the formats that a text may have), its batches, and
    how it is written."""

    @property
    def path(self) -> Path: ...

    @property
    def how(self) -> str: ...

    def schema(self) -> pa.Schema:
        """The fields of all records."""
        ...

    def batches(self) -> Iterator[pa.RecordBatch]:
        """The records, all with that schema."""
        ...


@dataclass(frozen=True)
class _Column:
    """A column of a source: what it is called, and the way to it from a record, by the places of
    fields (several may have one name)."""

    name: str
    way: tuple[int, ...]


class NestedSource:
    """The records of a file, or of one list in them (see `read.source.Source`). `list_` is the way
    to the list."""

    spells_numbers = True

    def __init__(
        self,
        records: Records,
        name: str,
        list_: tuple[tuple[str, ...], ...] = (),
        *,
        bare: bool = False,
    ) -> None:
        self._records, self.name, self._lists, self._bare = records, name, list_, bare
        self.location = str(records.path)
        fields: pa.StructType = pa.struct(list(records.schema()))
        for way in list_:
            inner = _type_at(fields, way).value_type
            fields = inner if pa.types.is_struct(inner) else pa.struct([(VALUE, inner)])
        self._columns, self._below = columns_of(fields, records.path)
        names = [c.name for c in self._columns]
        headers = distinct_headers(names)
        taken = set(headers)
        numbered = bool(list_) and not bare
        self.is_empty = not self._columns and not numbered and not (list_ and self._below)
        self._own = [_free(RECORD, taken)] if self._below and not self.is_empty else []
        self._outer = (
            [_free(f"{'outer ' if self._own else ''}{RECORD}", taken), _free(POSITION, taken)]
            if numbered
            else []
        )
        self.headers = (*self._own, *self._outer, *headers)
        self.how = records.how + (f", list {'.'.join(list_[-1])}" if list_ else "")
        self.rules = RowRules()
        types = [_type_on(fields, c.way) for c in self._columns]
        self._of_header = [*header_remarks(names, headers), *_spelled(headers, types)]

    def origin(self, header: str | None = None) -> Origin:
        """The place of a column."""
        return self._origin(None, header)

    def _origin(self, record: int | None, header: str | None) -> Origin:
        """The place of a record and column: records are counted as rows from 1."""
        part = ".".join(".".join(way) for way in self._lists) or None
        return Origin(self._records.path.name, part, None if record is None else record + 1, header)

    def settings(self) -> dict[str, Any]:
        """The list in the layout's words."""
        return {"member": "/".join(".".join(way) for way in self._lists)} if self._lists else {}

    @property
    def owner(self) -> tuple[str, str, str] | None:
        """What its records belong to: the list (as in `settings`), the header of the numbers of
        that one's records, and the header of these numbers here; None where they belong to
        nothing."""
        if not self._outer:
            return None
        above = type(self)(self._records, self.name, self._lists[:-1], bare=len(self._lists) < 2)
        member = "/".join(".".join(way) for way in self._lists[:-1])
        return (member, above._own[0], self._outer[0]) if above._own else None

    def below(self) -> list[NestedSource]:
        """The sources of the lists in these records."""
        return [
            type(self)(
                self._records,
                way[-1] if self.is_empty else f"{self.name} {way[-1]}",
                (*self._lists, way),
                bare=self.is_empty,
            )
            for way in self._below
        ]

    def map_batches(
        self, work: Callable[[pa.RecordBatch], T], *, workers: int = 2, strict: bool = True
    ) -> Batches:
        """Applies `work` to every batch of records, as texts, in the order of the file.

        Raises SourceError for a file that cannot be read or has no records.
        """
        return Batches(self._pieces(work))

    def _pieces(self, work: Callable[[pa.RecordBatch], T]) -> Generator[Piece, None, Found]:
        first = 0
        outer = [0] * len(self._lists)
        for batch in self._records.batches():
            rows: pa.StructArray = batch.to_struct_array()
            numbers = positions = None
            for depth, way in enumerate(self._lists):
                lists = _at(rows, way)
                parents = pc.list_parent_indices(lists).to_numpy()
                outer_rows = len(rows)
                numbers = parents + 1 + outer[depth]
                outer[depth] += outer_rows
                starts = np.flatnonzero(np.diff(parents, prepend=-1))
                positions = (
                    np.arange(len(parents))
                    - np.repeat(starts, np.diff([*starts, len(parents)]))
                    + 1
                )
                values = pc.list_flatten(lists)
                rows = (
                    values
                    if pa.types.is_struct(values.type)
                    else pa.StructArray.from_arrays([values], names=[VALUE])
                )
            if not len(rows):
                continue
            cells = (
                [pa.array(np.arange(first + 1, first + len(rows) + 1)).cast(pa.string())]
                if self._own
                else []
            )
            if self._outer and numbers is not None and positions is not None:
                cells += [
                    pa.array(numbers).cast(pa.string()),
                    pa.array(positions).cast(pa.string()),
                ]
            cells += [as_texts(pc.struct_field(rows, list(c.way))) for c in self._columns]
            texts = pa.RecordBatch.from_arrays(cells, names=[str(i) for i in range(len(cells))])
            yield Piece(first, len(rows), work(texts))
            first += len(rows)
        return self._found()

    def _found(self) -> Found:
        """What reading has found out."""
        path = self._records.path
        return Found(
            _fingerprint(path), path.stat().st_size, self._origin, remarks=tuple(self._of_header)
        )


def nested_sources(
    records: Records, name: str, kind: type[NestedSource] = NestedSource
) -> list[NestedSource]:
    """A file of records as sources: the records themselves, then the lists in them, and the lists
    in those.

    A file whose records hold nothing but lists, as in `{"hives": [...], "keepers": [...]}`, is only
    its lists.
    """
    out: list[NestedSource] = []
    waiting = [kind(records, name)]
    while waiting:
        source = waiting.pop(0)
        waiting[:0] = source.below()
        if not source.is_empty:
            out.append(source)
    if not out:
        raise SourceError(
            "the file has no records with fields",
            code="source.no-rows",
            origin=Origin(records.path.name),
            next="write it as one object per record",
        )
    return out


def columns_of(fields: pa.StructType, path: Path) -> tuple[list[_Column], list[tuple[str, ...]]]:
    """The columns of a record, and the ways to the lists in it.

    Raises SourceError where a list or a record has the name of something else beside it.
    """
    columns: list[_Column] = []
    lists: list[tuple[str, ...]] = []

    def walk(some: pa.StructType, names: tuple[str, ...], way: tuple[int, ...]) -> None:
        for i in range(some.num_fields):
            one = some.field(i)
            here = (*names, one.name)
            if pa.types.is_nested(one.type) and len(some.get_all_field_indices(one.name)) > 1:
                raise SourceError(
                    f'several fields are called "{".".join(here)}", and not all of them are single '
                    "values",
                    code="source.alike",
                    origin=Origin(path.name),
                    next="give each a name of its own",
                )
            if pa.types.is_struct(one.type):
                walk(one.type, here, (*way, i))
            elif _is_list(one.type):
                lists.append(here)
            else:
                columns.append(_Column(".".join(here), (*way, i)))

    walk(fields, (), ())
    return columns, lists


def _is_list(type_: pa.DataType) -> bool:
    return bool(
        pa.types.is_list(type_)
        or pa.types.is_large_list(type_)
        or pa.types.is_fixed_size_list(type_)
    )


def _type_at(fields: pa.StructType, way: tuple[str, ...]) -> pa.DataType:
    for name in way:
        fields = fields.field(name).type
    return fields


def _type_on(fields: pa.StructType, way: tuple[int, ...]) -> pa.DataType:
    type_: pa.DataType = fields
    for place in way:
        type_ = type_.field(place).type
    return type_


def _spelled(headers: Sequence[str], types: Sequence[pa.DataType]) -> Iterator[Remark]:
    """Tells how the values of columns that do not hold text are spelled."""
    for header, type_ in zip(headers, types, strict=True):
        if pa.types.is_timestamp(type_) and type_.tz and type_.tz not in ("UTC", "Z", "+00:00"):
            how = f"moments of the time zone {type_.tz}: given in UTC"
        elif pa.types.is_duration(type_):
            how = f"lengths of time: given in {_UNITS[type_.unit]}"
        elif _is_binary(type_):
            how = "bytes: given as hexadecimal digits"
        else:
            continue
        yield Remark("odd", header, how)


def without_maps(type_: pa.DataType) -> pa.DataType:
    """A type in which maps are lists of records with a key and a value."""
    if pa.types.is_map(type_):
        pair = [("key", without_maps(type_.key_type)), (VALUE, without_maps(type_.item_type))]
        return pa.list_(pa.struct(pair))
    if pa.types.is_struct(type_):
        return pa.struct([f.with_type(without_maps(f.type)) for f in type_])
    if _is_list(type_):
        inner = type_.value_field.with_type(without_maps(type_.value_type))
        if pa.types.is_fixed_size_list(type_):
            return pa.list_(inner, type_.list_size)
        return pa.large_list(inner) if pa.types.is_large_list(type_) else pa.list_(inner)
    return type_


def _at(rows: pa.Array, way: tuple[str, ...]) -> pa.Array:
    """What a field of every row holds; null where the record it is in is."""
    for name in way:
        rows = pc.struct_field(rows, name)
    return rows


def _free(wanted: str, taken: set[str]) -> str:
    name = wanted if wanted not in taken else f"{wanted} number"
    while name in taken:
        name += "'"
    taken.add(name)
    return name


def _is_binary(type_: pa.DataType) -> bool:
    return bool(
        pa.types.is_binary(type_)
        or pa.types.is_large_binary(type_)
        or pa.types.is_fixed_size_binary(type_)
    )


def as_texts(values: pa.Array) -> pa.StringArray:
    """Typed values as texts: numbers as short as they are exact, dates as YYYY-MM-DD, moments with
    a time zone in UTC, truth as true and false."""
    kind = values.type
    if pa.types.is_dictionary(kind):
        values, kind = values.cast(kind.value_type), kind.value_type
    if pa.types.is_null(kind):
        return pa.nulls(len(values), pa.string())
    if pa.types.is_string(kind) or pa.types.is_large_string(kind):
        return pc.if_else(pc.equal(values, ""), pa.scalar(None, kind), values).cast(pa.string())
    if _is_binary(kind):
        return pa.array([None if v is None else v.hex() for v in values.to_pylist()], pa.string())
    if pa.types.is_floating(kind):
        return pc.replace_substring_regex(pc.cast(values, pa.string()), r"\.0$", "")
    if pa.types.is_decimal(kind):
        return decimal_texts(values)
    if pa.types.is_timestamp(kind):
        texts = pc.cast(values.cast(pa.timestamp(kind.unit)) if kind.tz else values, pa.string())
        texts = pc.replace_substring_regex(texts, r"\.0+$", "")
        if not kind.tz:
            return texts
        texts = pc.replace_substring(texts, " ", "T")  # as ISO 8601 has it
        return pc.binary_join_element_wise(texts, "Z", "")
    if pa.types.is_time(kind):
        return pc.replace_substring_regex(pc.cast(values, pa.string()), r"\.0+$", "")
    try:
        return pc.cast(values, pa.string())
    except (pa.ArrowNotImplementedError, pa.ArrowInvalid):
        return pa.array([None if v is None else str(v) for v in values.to_pylist()], pa.string())


def _fingerprint(path: Path) -> str:
    digest = xxhash.xxh3_128()
    with path.open("rb") as file:
        while some := file.read(1 << 22):
            digest.update(some)
    return digest.hexdigest()


def list_of(sources: Sequence[NestedSource], member: str, name: str, path: Path) -> NestedSource:
    """The one of several sources of a file that is the list called `member` ("": the records
    themselves), under a name.

    Raises SourceError when there is none.
    """
    for source in sources:
        if source.settings().get("member", "") == member:
            return with_changes(source, name=name)
    known = [m for s in sources if (m := s.settings().get("member", ""))]
    raise SourceError(
        f'the file has no list "{member}"' if member else "the file has no records of its own",
        code="source.no-member",
        origin=Origin(path.name),
        next=f"its lists are {', '.join(known)}" if known else "take member out of the source",
    )
