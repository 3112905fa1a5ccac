"""Rows that could not be placed: where they were, and the files that they are written to."""

from __future__ import annotations

import csv
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from kerfmark.errors import Origin, UsageError
from kerfmark.normalize.split import SetAside
from kerfmark.profile.encode import EncodedSource
from kerfmark.read.set_aside import ACCEPT
from kerfmark.read.source import RaggedRow
from kerfmark.read.union import parts_of
from kerfmark.verbs.atomic_write import require_writable
from kerfmark.write.rejects import Rejects, files


def writable_rejects(path: Path, replace: bool) -> Path:
    """The path for rejects, before the work is done.

    Raises UsageError for a kind of file that they cannot be, TargetError for a place where they
    cannot be written.
    """
    if path.suffix.lower() not in (".csv", ".xlsx"):
        raise UsageError(
            f'rows are set aside in a .csv or an .xlsx file, not in "{path.name}"',
            next="name one of these",
        )
    require_writable(path, replace, why="somebody may be correcting rows that were set aside there")
    return path


def place_of(sources: Mapping[str, EncodedSource], row: SetAside) -> Origin:
    """The place of a row that was set aside."""
    if row.ragged is not None:
        return Origin(row.ragged.file, row=row.ragged.row)
    return sources[row.source].found.origin(row.record)


@dataclass(frozen=True)
class RejectedRow:
    """A row that was set aside, where it is, and its cells."""

    row: SetAside
    at: Origin
    cells: Sequence[str]


def rejected(
    path: Path, sources: Mapping[str, EncodedSource], rows: Sequence[SetAside]
) -> dict[Path, str | bytes]:
    """The files for rows that were set aside, with their contents. `sources` are as they were
    read."""
    out = []
    for name in dict.fromkeys(r.source for r in rows):
        encoded = sources[name]
        delimiter = str(encoded.source.settings().get("delimiter", ","))
        headers, shown = encoded.source.headers, _own_headers(encoded)
        mine = [
            RejectedRow(r, place_of(sources, r), _cells(encoded, r, delimiter))
            for r in rows
            if r.source == name
        ]
        out.append(rejects_of(name, delimiter, headers, shown, mine))
    return dict(files(path, out))


def rejects_of(
    name: str,
    delimiter: str,
    headers: Sequence[str],
    shown: Collection[int],
    rows: Sequence[RejectedRow],
) -> Rejects:
    """The rows of a source that were set aside; `shown` are the places of the headers that its
    files have."""
    told = tuple(
        (
            *(c for i, c in enumerate(one.cells) if i in shown),
            str(one.at),
            "; ".join(why for why, _ in one.row.reasons),
            "; ".join(_remedies(one.row)),
            _suggestions(one.row),
            "",
        )
        for one in sorted(rows, key=lambda one: (one.at.file, one.at.row or 0))
    )
    return Rejects(name, delimiter, tuple(h for i, h in enumerate(headers) if i in shown), told)


def _remedies(row: SetAside) -> list[str]:
    """What to do about the problems of a row, each once."""
    take = [f'say yes under "{ACCEPT}" to take the suggestion'] if _suggestions(row) else []
    return list(dict.fromkeys([*take, *(r for _, rs in row.reasons for r in rs.split("\n"))]))


def _suggestions(row: SetAside) -> str:
    """What the cells of a row may have been meant to say, one on a line."""
    return "\n".join(f"{h} = {v}" for h, v in row.suggested.items() if "\n" not in h + v)


def _own_headers(encoded: EncodedSource) -> list[int]:
    """The places of the headers that the files of a source have: of one that they lack, a blank
    cell would say something."""
    there = {h for part in parts_of(encoded.source) for h in part.headers}
    there.add(getattr(encoded.source, "telling", ""))
    return [i for i, h in enumerate(encoded.source.headers) if h in there]


def _cells(encoded: EncodedSource, row: SetAside, delimiter: str) -> list[str]:
    """The cells of a row; of one with too many fields, the last cell has all that is left."""
    if row.ragged is not None:
        return ragged_cells(row.ragged, len(encoded.source.headers), delimiter)
    at = (
        row.record if encoded.records is None else int(np.searchsorted(encoded.records, row.record))
    )
    return ["" if c.codes[at] < 0 else c.values[int(c.codes[at])].as_py() for c in encoded.columns]


def ragged_cells(row: RaggedRow, width: int, delimiter: str) -> list[str]:
    """The cells of a row with too few or too many of them; the last one has all that is left."""
    mark = delimiter if len(delimiter) == 1 else ","
    found = next(csv.reader([row.text], delimiter=mark), [])
    if len(found) > width:
        return [*found[: width - 1], delimiter.join(found[width - 1 :])]
    return [*found, *[""] * (width - len(found))]
