"""Files of records that a library reads as Arrow batches: a format of such files is what opens
one."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import pyarrow as pa

from kerfmark.errors import Origin, SourceError, article
from kerfmark.read.format import Format, check_path
from kerfmark.read.nested import NestedSource, columns_of, list_of, nested_sources, without_maps
from kerfmark.read.source import Reading

Opened = tuple[pa.Schema, Iterator[pa.RecordBatch]]


@dataclass(frozen=True)
class RecordFile:
    """A file of records (see `nested.Records`); `how` is the name of its format, and `opened` gives
    its schema and batches."""

    path: Path
    how: str
    opened: Callable[[Path], Opened]

    def schema(self) -> pa.Schema:
        """The fields of all records."""
        with self._told():
            schema = _without_maps(self.opened(self.path)[0])
            columns_of(pa.struct(list(schema)), self.path)  # whether its names are text
            return schema

    def batches(self) -> Iterator[pa.RecordBatch]:
        """The records."""
        with self._told():
            for batch in self.opened(self.path)[1]:
                batch.validate(full=True)  # a damaged one may point anywhere
                schema = _without_maps(batch.schema)
                yield batch if schema is batch.schema else batch.cast(schema)

    @contextmanager
    def _told(self) -> Iterator[None]:
        try:
            yield
        except (pa.ArrowException, OSError, UnicodeDecodeError) as error:
            raise SourceError(
                f"this is not {article(self.how)} file, or a damaged one",
                code="source.damaged",
                origin=Origin(self.path.name),
                why=str(error).split("\n")[0],
                next="fetch or write the file again",
            ) from error


def _without_maps(schema: pa.Schema) -> pa.Schema:
    """The same schema, unless it has maps (see `nested.without_maps`)."""
    fields = [f.with_type(without_maps(f.type)) for f in schema]
    return schema if fields == list(schema) else pa.schema(fields)


def record_format(how: str, endings: frozenset[str], opened: Callable[[Path], Opened]) -> Format:
    """The format of files that `opened` reads."""

    def sources(path: Path, reading: Reading = Reading()) -> Sequence[NestedSource]:
        check_path(path)
        return nested_sources(RecordFile(path, how, opened), path.stem)

    return Format(
        endings,
        sources,
        lambda path, name, reading: list_of(sources(path), reading.member, name, path),
    )
