"""export: takes tables, or a source in its flat shape, out of a database again, into any open
form."""

from __future__ import annotations

import codecs
import dataclasses
import re
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal, Protocol

import pyarrow as pa

from kerfmark.engines import script_engine, script_names
from kerfmark.errors import DataRefused, UsageError
from kerfmark.ledger.records import LoadedFile
from kerfmark.progress import Progress, silent
from kerfmark.read.text_style import USUAL, TextStyle
from kerfmark.store.engine_values import WrongType
from kerfmark.store.interface import Database, Reader
from kerfmark.store.quoting import quote
from kerfmark.verbs.atomic_write import atomic_target
from kerfmark.verbs.export_rows import (
    ExportRows,
    Inside,
    as_declared_or_text,
    look_inside,
    rows_of_source,
    rows_of_table,
    tables_parents_first,
)
from kerfmark.verbs.nested_export import nesting
from kerfmark.verbs.read_only import database_to_read
from kerfmark.verbs.same_bytes import difference
from kerfmark.write.delimited import DelimitedFile, Spelling
from kerfmark.write.described import NAME as METADATA
from kerfmark.write.described import FileOut, metadata
from kerfmark.write.json_lines import JsonLines
from kerfmark.write.table import TableOut

if TYPE_CHECKING:
    from kerfmark.store.script import NewScript

Form = Literal["", "csv", "parquet", "json-lines"]
ENDINGS = {
    ".csv": "csv",
    ".tsv": "csv",
    ".txt": "csv",
    ".parquet": "parquet",
    ".jsonl": "json-lines",
    ".ndjson": "json-lines",
    ".xlsx": "workbook",
    ".sql": "script",
}
"""What the ending of a name means."""
FILES = {"csv": ".csv", "parquet": ".parquet", "json-lines": ".jsonl"}
"""The forms that a folder may hold, and how their files end."""


@dataclass(frozen=True)
class FileWritten:
    """A file or sheet that was written: the table or source in it, and its rows."""

    file: str
    table: str
    rows: int


@dataclass(frozen=True)
class ExportResult:
    """What was taken out, and what a person should know about it; `bytes` of all files. A source
    may have come back with the `same_bytes_as` its file."""

    database: str
    target: str
    form: str
    written: tuple[FileWritten, ...]
    remarks: tuple[str, ...]
    bytes: int
    seconds: float
    same_bytes_as: str = ""


@dataclass(frozen=True)
class Spelled:
    """How text files are written: what is "" or None is as usual: commas and UTF-8 for tables, as
    the file was for a source. Cells that a spreadsheet would run as formulas are made `harmless`,
    unless a source is given back."""

    delimiter: str = ""
    encoding: str = ""
    harmless: bool | None = None


def export(
    database: str | Path,
    target: str | Path,
    tables: Sequence[str] = (),
    *,
    flat: str = "",
    form: Form = "",
    engine: str = "",
    nested: bool = False,
    spelled: Spelled = Spelled(),
    replace: bool = False,
    progress: Progress = silent,
) -> ExportResult:
    """Writes tables of a database (all, unless some are named), or the source `flat` in its
    original shape.

    The ending of `target` says what is written: `.csv`, `.parquet` or `.jsonl` (one table),
    `.xlsx`, `.sql` (for an `engine`), none for a folder of files of a `form`. Children are `nested`
    in the records that they belong to, in JSON Lines. All of it is there afterwards, or nothing.

    Raises UsageError for what cannot be written so, TargetError for a place that will not do,
    DataRefused for a cell that the form does not take.
    """
    started, target = time.perf_counter(), Path(target)
    folder = target.is_dir() or target.suffix.lower() not in ENDINGS
    kind = (form or "csv") if folder else ENDINGS[target.suffix.lower()]
    if target.suffix.lower() == ".tsv" and not spelled.delimiter and not folder:
        spelled = dataclasses.replace(spelled, delimiter="\t")
    _sensible(target, folder, kind, form, engine, nested, spelled, tables, flat)
    where: Database = database_to_read(database)
    with where.reading() as reader, atomic_target(target, folder=folder, replace=replace) as place:
        inside = look_inside(reader)
        job = _Job(reader, inside, place, target, spelled, progress, folder=where.folder or Path())
        if flat:
            job.source(flat, kind, folder)
        else:
            job.tables(_chosen(reader, inside, tables, nested), kind, folder, engine, nested)
        files = sorted(place.iterdir()) if folder else [place]
        size = sum(f.stat().st_size for f in files)
    return ExportResult(
        reader.name,
        str(target),
        kind,
        tuple(job.written),
        tuple(job.remarks),
        size,
        round(time.perf_counter() - started, 3),
        job.same_bytes_as,
    )


def _sensible(
    target: Path,
    folder: bool,
    kind: str,
    form: str,
    engine: str,
    nested: bool,
    spelled: Spelled,
    tables: Sequence[str],
    flat: str,
) -> None:
    """Raises UsageError for options that do not go together."""
    if folder and target.suffix and not target.is_dir():
        raise UsageError(
            f'"{target.name}" does not say what to write',
            next=f"let its name end in {', '.join(ENDINGS)}, or in nothing for a folder",
        )
    if form and not folder and form != kind:
        raise UsageError(f'"{target.name}" is not {form}', next="name a folder, or leave out --as")
    if (kind == "script") != bool(engine):
        raise UsageError(
            "a script needs an engine" if kind == "script" else "only a .sql file is for an engine",
            next=f"use --for {script_names()}" if kind == "script" else "leave out --for",
        )
    if nested and (kind != "json-lines" or flat):
        raise UsageError(
            "only records of JSON Lines hold their children",
            next="name a .jsonl file, or use --as json-lines",
        )
    if spelled != Spelled() and kind != "csv":
        raise UsageError(
            "only text files have a delimiter, an encoding and cells to be made harmless",
            next="write .csv, or leave these options out",
        )
    if spelled.encoding:
        try:
            codecs.lookup(spelled.encoding)
        except LookupError as error:
            raise UsageError(
                f'there is no encoding "{spelled.encoding}"', next="use utf-8, cp1252, ..."
            ) from error
    if any(c in spelled.delimiter for c in '"\r\n'):
        raise UsageError(
            "quotes and line ends cannot separate cells", next="use another --delimiter"
        )
    if flat and tables:
        raise UsageError("name tables, or a source with --flat, not both")
    if flat and kind == "script":
        raise UsageError("a script makes tables", next="leave out --flat")


def _chosen(reader: Reader, inside: Inside, tables: Sequence[str], nested: bool) -> list[str]:
    """The tables that are wanted (and views, where they are named), parents first; when children
    are nested and none is named, those that lead to nothing."""
    for name in tables:
        if name not in inside.tables:
            facts = reader.facts(name) if name in reader.views() else None
            if facts is None:
                raise UsageError(
                    f'there is no table "{name}"',
                    next=f"the tables are {', '.join(tables_parents_first(inside.tables))}",
                )
            inside.tables[name] = facts
    if tables:
        return [t for t in tables_parents_first(inside.tables) if t in tables]
    if nested:
        return [
            n
            for n in tables_parents_first(inside.tables)
            if all(link.to == n for link in inside.tables[n].links)
        ]
    return tables_parents_first(inside.tables)


class _Writer(Protocol):
    """A file that is being written."""

    rows: int

    def put(self, batch: pa.RecordBatch) -> None: ...
    def close(self) -> None: ...


@dataclass
class _Job:
    """One export: where it reads and writes, and what it has done. It writes to `place`, which
    becomes `target` when all is done."""

    reader: Reader
    inside: Inside
    place: Path
    target: Path
    spelled: Spelled
    progress: Progress
    written: list[FileWritten] = field(default_factory=list)
    remarks: list[str] = field(default_factory=list)
    folder: Path = Path()
    same_bytes_as: str = ""

    def source(self, name: str, kind: str, folder: bool) -> None:
        """Writes a source in its flat shape."""
        taken, spec, self.remarks = rows_of_source(self.reader, self.inside, name)
        if kind == "workbook":
            self._workbook([taken], spec.sheet or name)
            return
        wanted, files = self.spelled, self._files_of(name)
        how = Spelling(
            wanted.delimiter or spec.delimiter,
            spec.quote or ('"' if wanted.delimiter else ""),
            spec.escape,
            wanted.encoding or spec.encoding,
            () if wanted.delimiter else spec.edges,
            spec.header_row > 0,
            bool(wanted.harmless),
            TextStyle.from_dict(files[0].style) if files else USUAL,
        )
        file = _file_names([name], FILES[kind])[0] if folder else ""
        writer, _ = self._write(taken, file, lambda path, table: _opened(path, kind, table, how))
        begins = (
            sum(writer.risky.values())
            if isinstance(writer, DelimitedFile) and not how.harmless
            else 0
        )
        as_it_was = (how.delimiter, how.encoding, how.harmless) == (
            spec.delimiter,
            spec.encoding,
            False,
        )
        if as_it_was and len(files) == 1 and files[0].is_file and kind == "csv":
            self._compare(files[0], self.place / file if file else self.place, how.encoding)
        if begins:
            self.remarks.append(
                f"cells that begin like a formula: {begins:,}; they are written as they are, and a "
                "spreadsheet may run "
                "them: --formulas harmless puts an apostrophe before them"
            )

    def _files_of(self, source: str) -> list[LoadedFile]:
        ledger = self.inside.ledger
        return [f for f in ledger.live_files if f.source == source] if ledger else []

    def _compare(self, file: LoadedFile, path: Path, encoding: str) -> None:
        """Tells whether what was written has the bytes of the one file of a source."""
        found = difference(path, file, self.folder, encoding)
        self.same_bytes_as = file.file if found == "" else ""
        self.remarks += [found] if found else []

    def tables(
        self, names: Sequence[str], kind: str, folder: bool, engine: str, nested: bool
    ) -> None:
        """Writes tables."""
        if not folder and kind in FILES and len(names) != 1:
            raise UsageError(
                f'"{self.target.name}" takes one table, and these are {len(names)}: '
                f"{', '.join(names)}",
                next="name one of them after the database, or write a folder, a "
                "workbook or a script",
            )
        files = _file_names(names, FILES[kind]) if folder else [""] * len(names)
        if nested:
            for name, file in zip(names, files, strict=True):
                self._nested(name, file)
            return
        taken = [rows_of_table(self.reader, self.inside, n) for n in names]
        if kind == "workbook":
            self._workbook(taken)
        elif kind == "script":
            self._script(taken, engine)
        else:
            self._files(taken, files, kind)

    def _files(self, taken: Sequence[ExportRows], files: Sequence[str], kind: str) -> None:
        how = Spelling(
            self.spelled.delimiter or ",",
            encoding=self.spelled.encoding or "utf-8",
            harmless=self.spelled.harmless is not False,
        )
        described = []
        for one, file in zip(taken, files, strict=True):
            writer, table = self._write(
                one, file, lambda path, table: _opened(path, kind, table, how)
            )
            risky = (
                {c: n for c, n in writer.risky.items() if n}
                if isinstance(writer, DelimitedFile)
                else {}
            )
            if risky and how.harmless:
                self.remarks.append(
                    f"{table.name}: {sum(risky.values()):,} cells begin like a formula, so an "
                    "apostrophe is put "
                    "before them; --formulas as-they-are leaves them"
                )
            described.append(
                FileOut(file, table, writer.rows, tuple(risky) if how.harmless else ())
            )
        if kind == "csv" and files[0]:
            (self.place / METADATA).write_text(
                metadata(described, how.delimiter, how.encoding), encoding="utf-8"
            )

    def _nested(self, name: str, file: str) -> None:
        whole = nesting(self.reader, self.inside, name, self.progress)
        self._write(
            whole.taken,
            file,
            lambda path, table: JsonLines(path, table, whole.children()),
            whole.numbered,
        )

    def _write(
        self,
        taken: ExportRows,
        file: str,
        opened: Callable[[Path, TableOut], _Writer],
        before: Sequence[str] = (),
    ) -> tuple[_Writer, TableOut]:
        """Writes a file; where a column holds values of another type, once more,
        with another type."""
        while True:
            writer = opened(self.place / file if file else self.place, taken.table)
            try:
                for batch in taken.batches(self.reader, self.progress, before):
                    writer.put(batch)
            except WrongType as wrong:
                taken = self._told(taken, taken.without(self.reader, wrong.column))
                continue
            finally:
                writer.close()
            self.written.append(
                FileWritten(
                    str(self.target / file if file else self.target), taken.table.name, writer.rows
                )
            )
            return writer, taken.table

    def _told(self, old: ExportRows, new: ExportRows) -> ExportRows:
        """The same with other types for some columns, after saying so."""
        for column, was, is_ in zip(
            old.table.columns, old.table.types, new.table.types, strict=True
        ):
            if was != is_:
                self.remarks.append(
                    f"{old.table.name}.{column} is declared as {was.kind}, but holds something "
                    "else: it is written "
                    f"as {is_.kind}"
                )
        return new

    def _workbook(self, taken: Sequence[ExportRows], called: str = "") -> None:
        from kerfmark.write.workbook import MOST_ROWS, Workbook

        for one in taken:
            if one.count > MOST_ROWS:
                raise DataRefused(
                    f"{one.table.name} has {one.count:,} rows, and a sheet takes {MOST_ROWS:,}",
                    code="data.too-many",
                    next="write a folder of CSV or Parquet files, or name other tables",
                )
        taken = [self._fitting(t) for t in taken]
        linked = {
            (link.to, link.key[0])
            for t in taken
            for link in t.table.links
            if len(link.columns) == 1
        }
        book = Workbook(
            self.place,
            {
                (t.table.name, k): self._positions(t, k)
                for t in taken
                for k in t.table.columns
                if (t.table.name, k) in linked
            },
        )
        try:
            for one in taken:
                sheet = book.sheet(
                    dataclasses.replace(one.table, name=called) if called else one.table
                )
                for batch in one.batches(self.reader, self.progress):
                    sheet.put(batch)
                sheet.close()
                self.written.append(FileWritten(str(self.target), one.table.name, sheet.rows))
        finally:
            book.close()
        self.remarks += book.remarks

    def _fitting(self, taken: ExportRows) -> ExportRows:
        """The same with types that all cells are values of."""
        return self._told(taken, as_declared_or_text(self.reader, taken, self.progress))

    def _positions(self, taken: ExportRows, key: str) -> dict[Any, int]:
        """The row in which each key of a table is written."""
        at = taken.table.columns.index(key)
        table = dataclasses.replace(taken.table, columns=(key,), types=(taken.table.types[at],))
        only = dataclasses.replace(taken, table=table, cells=(taken.cells[at],))
        values = (
            v for batch in only.batches(self.reader, silent) for v in batch.column(0).to_pylist()
        )
        return {v: n for n, v in enumerate(values, 1)}

    def _script(self, taken: Sequence[ExportRows], engine: str) -> None:
        from kerfmark.store.reflected_ddl import generated_key
        from kerfmark.store.script import NewScript

        taken = [self._fitting(t) for t in taken]
        facts = [self.inside.tables[t.table.name] for t in taken]
        whole = len(taken) == len(self.inside.tables)
        of = script_engine(engine)
        assert of.script is not None
        with NewScript(self.place, of.title, of.script()) as script:
            script.create_reflected(
                facts,
                {
                    t.table.name: dict(zip(t.table.columns, t.table.types, strict=True))
                    for t in taken
                },
                self.inside.layout if whole else None,
                self.inside.headers,
            )
            for one, fact in zip(taken, facts, strict=True):
                key = generated_key(fact)
                last = (
                    self.reader.ask(
                        f"SELECT COALESCE(MAX({quote(key)}), 0) FROM {quote(fact.name)}"
                    )[0][0]
                    if key
                    else 0
                )
                script.load(
                    fact.name,
                    pa.schema([(c, pa.string()) for c in one.table.columns]),
                    self._literals(script, one),
                    numbered=False,
                    last=int(last),
                )
                self.written.append(FileWritten(str(self.target), fact.name, one.count))
            script.finish()
            script.publish()

    def _literals(self, script: NewScript, taken: ExportRows) -> Iterator[pa.RecordBatch]:
        for batch in taken.batches(self.reader, self.progress):
            yield pa.RecordBatch.from_arrays(
                [script.to_engine(c) for c in batch.columns], names=list(taken.table.columns)
            )


def _opened(path: Path, kind: str, table: TableOut, how: Spelling) -> _Writer:
    """A file to be written."""
    if kind == "csv":
        return DelimitedFile(path, table, how)
    if kind == "json-lines":
        return JsonLines(path, table)
    from kerfmark.write.columnar import ParquetFile

    return ParquetFile(path, table)


def _file_names(tables: Sequence[str], ending: str) -> list[str]:
    """Names of files for tables, such as every system takes, no two of them the same."""
    out: list[str] = []
    for table in tables:
        plain = re.sub(r'[<>:"/\\|?*\x00-\x1f]', "_", table).strip(". ") or "table"
        name, n = plain, 2
        while f"{name}{ending}".lower() in {o.lower() for o in out}:
            name, n = f"{plain}~{n}", n + 1
        out.append(name + ending)
    return out
