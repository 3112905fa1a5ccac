"""A folder of data sets that a cluster wrote, as a database on this machine: its files are put into
a database of their own, a temporary one, with the same layout and ledger, which every command that
only reads then looks into."""

from __future__ import annotations

import contextlib
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any, NoReturn

import pyarrow as pa

from kerfmark.cluster.files import fingerprint_of
from kerfmark.cluster.folder import (
    NAME,
    DataSets,
    FileRead,
    LoadMade,
    TableSet,
    read_folder,
    read_part,
)
from kerfmark.engines import file_engine
from kerfmark.errors import Origin, TargetError
from kerfmark.layout.derive import settled
from kerfmark.layout.text import parse_layout
from kerfmark.ledger.records import (
    Load,
    LoadedFile,
    Options,
    Says,
    write_layout_text,
    write_load,
    write_says,
)
from kerfmark.normalize.policy import CREATED, MADE
from kerfmark.profile.types import parse_type
from kerfmark.store.interface import Database, New, Reader

_ROWS = 65_536


class FolderDatabase:
    """See above, and `store.interface.Database`."""

    replaced_whole = True

    def __init__(self, folder: Path) -> None:
        self.folder: Path | None = folder
        self.name = str(folder)
        self.layout_path = folder / "layout.toml"

    def exists(self) -> bool:
        """It is there."""
        return True

    def size(self) -> int:
        """The bytes of its files."""
        sets = read_folder(self.name)
        return sum(f.bytes for t in sets.tables.values() for f in t.files)

    def new(self, replace: bool) -> New:
        """Not here. Raises TargetError."""
        self._refuse()

    def changing(self, adopt: object = None) -> contextlib.AbstractContextManager[Any]:
        """Not here. Raises TargetError."""
        self._refuse()

    def copy(self, to: Path) -> None:
        """Not here. Raises TargetError."""
        self._refuse()

    def _refuse(self) -> NoReturn:
        raise TargetError(
            "a folder that a cluster wrote is not changed by this command",
            code="target.folder",
            origin=Origin(self.name),
            next="kerfmark add FILES --cluster ADDRESS --into FOLDER adds to it, and kerfmark undo "
            "FOLDER takes that back",
        )

    def reading(self) -> contextlib.AbstractContextManager[Reader]:
        """Looks into it. Raises TargetError when a file is not there, or is not as it was
        written."""
        return self._reading(read_folder(self.name))

    def reading_ledger(self) -> contextlib.AbstractContextManager[Reader]:
        """Looks into its ledger; the tables seem empty."""
        sets = read_folder(self.name)
        empty = {n: replace(t, rows=0, files=()) for n, t in sets.tables.items()}
        return self._reading(replace(sets, tables=empty), fingerprints=False)

    @contextlib.contextmanager
    def _reading(self, sets: DataSets, fingerprints: bool = True) -> Iterator[Reader]:
        with tempfile.TemporaryDirectory(prefix="kerfmark-") as place:
            temporary = Path(place) / f"{self.layout_path.parent.name or 'folder'}.db"
            engine = file_engine()
            assert engine.database is not None
            database: Database = engine.database(temporary)
            self._fill(database.new(False), sets, fingerprints)
            with database.reading() as reader:
                reader.name = self.name
                yield reader

    def _fill(self, new: New, sets: DataSets, fingerprints: bool) -> None:
        layout = settled(parse_layout(sets.layout, f"{self.name}/{NAME}"), sets.sources)
        if lost := layout.tables.keys() ^ sets.tables.keys():
            raise TargetError(
                f"{NAME} of this folder cannot be read",
                code="target.damaged",
                origin=Origin(self.name),
                why=f"it does not have the tables of its layout: {', '.join(sorted(lost))}",
                next="put back the file as it was written, or build the folder anew with --replace",
            )
        with new:
            new.create(layout, sets.sources)
            for name in layout.parents_first():
                table = sets.tables[name]
                batches = _Rows(Path(self.name), table, new)
                new.load(name, batches.schema, batches, numbered=layout.has_generated_key(name))
            new.finish()
            write_layout_text(new.append, 1, sets.layout)
            first = dict.fromkeys(sets.tables, 1)
            for load in sets.loads:
                files = [
                    loaded_file(load.number, f, self._print(f) if fingerprints else f.as_read)
                    for f in load.files
                ]
                options = Options(set_aside=load.apart)
                how = (load.made, load.version, 1, load.undone, options)
                write_load(new.append, Load(load.number, load.verb, *how), files, load.set_aside)
                write_says(new.append, _says(load, first))
                if not load.undone:
                    first = {n: at + load.rows.get(n, 0) for n, at in first.items()}
            new.verify({n: t.rows for n, t in sets.tables.items()})
            new.publish()

    def _print(self, file: FileRead) -> str:
        """The fingerprint of a file for the ledger; that of one that was read in blocks is not
        known ("") while its bytes are as they were."""
        place = str(Path(self.name) / file.file)
        if not Path(place).exists():
            return file.as_read
        parts = [(b.start, b.end, b.fingerprint) for b in file.blocks]
        same = Path(place).stat().st_size == file.bytes and all(
            fingerprint_of(place, start, end) == said
            for start, end, said in parts or [(0, file.bytes, file.fingerprint)]
        )
        return file.as_read if same else "another"


def loaded_file(load: int, file: FileRead, fingerprint: str) -> LoadedFile:
    """A file that a load took in, as the ledger has it."""
    return LoadedFile(
        load,
        file.source,
        file.file,
        file.bytes,
        fingerprint,
        file.rows,
        file.told,
        file.reading,
        file.left_out,
    )


def _says(load: LoadMade, first: Mapping[str, int]) -> list[Says]:
    """What a load says: it made every record, from the `first` of each table on; those that others
    only name are the last ones."""
    out: list[Says] = []
    for name, rows in load.rows.items():
        at, created = first[name], load.created.get(name, 0)
        if rows > created:
            out.append(Says(load.number, name, at, at + rows - created - 1, MADE))
        if created:
            out.append(Says(load.number, name, at + rows - created, at + rows - 1, CREATED))
    return out


class _Rows(Sequence[pa.RecordBatch]):
    """The rows of a table, as its files have them, as an engine takes them."""

    def __init__(self, folder: Path, table: TableSet, new: New) -> None:
        self._folder, self._table, self._new = folder, table, new
        self._places = [(f, at) for f in table.files for at in range(0, f.rows, _ROWS)]
        self._file: tuple[str, pa.Table] | None = None
        self._types = {n: parse_type(type_).arrow for n, type_ in table.columns}
        empty = pa.schema([*self._types.items()])
        self.schema = self[0].schema if self._places else empty

    def __len__(self) -> int:
        return len(self._places)

    def __getitem__(self, at: Any) -> Any:
        if isinstance(at, slice):
            return [self[i] for i in range(*at.indices(len(self)))]
        part, start = self._places[at]
        if self._file is None or self._file[0] != part.file:
            self._file = part.file, read_part(str(self._folder), part, self._types)
        rows = self._file[1].slice(start, _ROWS)
        columns = [self._new.to_engine(c.combine_chunks()) for c in rows.columns]
        return pa.RecordBatch.from_arrays(columns, names=rows.column_names)
