"""JSON in other shapes than records: by columns, by id, as rows under their names. Web services
give these; they are turned into records, one a line.

Only files of one value that fit in memory are looked at; numbers keep the digits they are written
with.
"""

from __future__ import annotations

import io
import json
import re
from collections.abc import Iterator
from dataclasses import replace
from typing import Any, BinaryIO, cast

from kerfmark.read.archives import Bytes

LARGEST = 1 << 26
"""Bytes of a file up to which another shape is looked for."""
FEWEST_IDS = 3
"""Records by id from which on they are such whatever their ids are: a record may have two parts
that look alike."""
ALIKE = 0.5
"""The share of fields that each record by id has in common with the first one."""
_MARK = "\ue000"
"""What numbers begin with while they are kept as texts."""
_MAY_BE_OTHER = re.compile(rb"\s*(?:\[\s*\[|\{)")
"""How files of other shapes begin; an array of records does not."""
_NUMBER = re.compile(f'"{_MARK}([^"]*)"')

Record = dict[str, Any]


def as_records(source: Bytes) -> tuple[Bytes, str]:
    """A JSON file as one whose lines are records, and what shape it had, in words ("" where it is
    left as it is)."""
    with source.open() as file:
        start = file.read(1 << 16)
        if not _MAY_BE_OTHER.match(start.removeprefix(b"\xef\xbb\xbf")):
            return source, ""
        text = start + file.read(LARGEST)
    if len(text) > LARGEST or _MARK.encode() in text:
        return source, ""
    try:
        value = json.loads(
            text.decode("utf-8-sig"), parse_int=_kept, parse_float=_kept, parse_constant=_kept
        )
    except (ValueError, RecursionError):
        return source, ""  # several records, or a mistake that the reader tells
    records, shape = _records(value)
    if not shape:
        return source, ""
    lines = (_NUMBER.sub(r"\1", json.dumps(r, ensure_ascii=False)) for r in records)
    content = "\n".join(lines).encode()
    return replace(source, open=lambda: cast(BinaryIO, io.BytesIO(content))), shape


def _kept(number: str) -> str:
    return _MARK + number


def _records(value: Any) -> tuple[Iterator[Record], str]:
    """The records of a value, and the shape that it had; none where it is of records already."""
    if isinstance(value, list):
        if len(value) > 1 and _is_table(value[0], value[1:]):
            return _under_names(value[0], value[1:]), "rows under their names"
        return iter(()), ""
    if not isinstance(value, dict) or len(value) < 2:
        return iter(()), ""
    columns = list(value.values())
    if all(isinstance(c, list) and not _nested(c) for c in columns):
        if columns[0] and len({len(c) for c in columns}) == 1:
            rows = (list(row) for row in zip(*columns, strict=True))
            return _under_names(list(value), rows), "by columns"
        return iter(()), ""
    for names in columns:
        for rows in columns:
            if names is not rows and isinstance(rows, list) and _is_table(names, rows):
                return _under_names(names, rows), "rows under their names"
    if all(isinstance(c, dict) and c for c in columns) and _are_alike(value):
        key = "id" if all("id" not in c for c in columns) else "key"
        return ({key: name, **record} for name, record in value.items()), "by id"
    return iter(()), ""


def _nested(column: list[Any]) -> bool:
    return any(isinstance(v, dict | list) for v in column)


def _is_table(names: Any, rows: list[Any]) -> bool:
    """Whether rows are lists with a cell for each name."""
    return (
        isinstance(names, list)
        and len(names) > 1
        and all(isinstance(n, str) and not n.startswith(_MARK) for n in names)
        and len(set(names)) == len(names)
        and bool(rows)
        and all(isinstance(r, list) and len(r) == len(names) and not _nested(r) for r in rows)
    )


def _are_alike(value: Record) -> bool:
    """Whether the parts of an object are records of one kind, under their ids."""
    first = set(next(iter(value.values())))
    shared = min(len(first & set(c)) / len(first | set(c)) for c in value.values())
    return shared >= ALIKE and (
        len(value) >= FEWEST_IDS or all(any(c.isdigit() for c in name) for name in value)
    )


def _under_names(names: list[str], rows: Any) -> Iterator[Record]:
    return (dict(zip(names, row, strict=True)) for row in rows)
