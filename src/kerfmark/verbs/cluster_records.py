"""What is told of what a cluster did: the files of a load, the records that it made, and all that a
folder says of itself."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from pathlib import Path

from kerfmark import __version__
from kerfmark.cluster.build import Built, folder_of
from kerfmark.cluster.folder import Block, DataSets, FileRead, Link, LoadMade, Part, TableSet
from kerfmark.cluster.staging import FileStaged, Staged
from kerfmark.layout.model import Layout
from kerfmark.ledger.records import RowSetAside, file_beside
from kerfmark.verbs.recording import now


def _files_read(name: str, units: Sequence[Staged], folder: Path | None) -> Iterator[FileRead]:
    """The files of a source, each once, named as seen from a folder."""
    whole: dict[tuple[str, str, str], list[FileStaged]] = {}
    for unit in units:
        for one in unit.files:
            whole.setdefault((one.place, one.told, one.reading), []).append(one)
    for (place, told, reading), parts in whole.items():
        blocks = tuple(Block(p.start, p.end, p.fingerprint) for p in parts if p.end)
        yield FileRead(
            name,
            file_beside(place, folder),
            sum(p.bytes for p in parts),
            "" if blocks else parts[0].fingerprint,
            sum(p.rows for p in parts),
            sum(p.left_out for p in parts),
            told,
            reading,
            blocks,
            parts[0].as_read,
        )


def data_sets(
    built: Built, text: str, data: str, target: str, headers: Mapping[str, tuple[str, ...]]
) -> DataSets:
    """What is published."""
    layout = built.layout
    tables: dict[str, TableSet] = {}
    for name, spec in layout.tables.items():
        shape = built.shapes[name]
        tables[name] = TableSet(
            tuple((n, type_of_stored(layout, name, n)) for n in shape.names),
            tuple(n for n, o in zip(shape.names, shape.optional, strict=True) if o),
            tuple(layout.key_columns(name)),
            tuple(layout.stored_as(name, spec.known_by)),
            tuple(tuple(layout.stored_as(name, u)) for u in spec.unique),
            tuple(
                Link(
                    tuple(own for own, _ in layout.link_columns(name, link)),
                    to.to,
                    tuple(key for _, key in layout.link_columns(name, link)),
                )
                for link, to in spec.links.items()
            ),
            built.rows[name],
            parts_of_load(built, name, data, 1),
        )
    return DataSets(text, headers, tables, (load_of(built, "cut", 1, target),))


def type_of_stored(layout: Layout, table: str, column: str) -> str:
    """The type of a column in the database, in the layout's words."""
    spec = layout.tables[table]
    if column in spec.columns:
        return str(spec.columns[column].of_type)
    for link, to in spec.links.items():
        for own, key in layout.link_columns(table, link):
            if own == column:
                return type_of_stored(layout, to.to, key)
    return "integer"  # a generated key


def parts_of_load(built: Built, table: str, data: str, load: int) -> tuple[Part, ...]:
    """The files of a table that a load has written below its folder `data`."""
    inside = folder_of(built.layout, table)
    return tuple(
        Part(f"{data}/{inside}/{f.file}", f.rows, f.bytes, f.fingerprint, load)
        for f in built.files[table]
    )


def load_of(built: Built, verb: str, number: int, target: str = "") -> LoadMade:
    """What is told of a load, whose files are named as seen from the folder `target` ("": by their
    whole paths)."""
    folder = Path(target) if target and "://" not in target else None
    files = tuple(
        one for name, units in built.staged.items() for one in _files_read(name, units, folder)
    )
    rows, created = dict(built.rows), {n: c for n, c in built.created.items() if c}
    load = LoadMade(number, verb, now(), __version__, files, rows, created)
    return replace(load, apart=built.job.apart, set_aside=tuple(rows_apart(built, number)))


def rows_apart(built: Built, load: int) -> Iterator[RowSetAside]:
    """The rows that were set aside, as a ledger has them."""
    for one in built.apart:
        reason = "; ".join(why for why, _ in one.row.reasons)
        at, row = one.at, one.row
        yield RowSetAside(
            load, row.source, at.file, at.sheet or "", at.row or 0, row.record, reason
        )
