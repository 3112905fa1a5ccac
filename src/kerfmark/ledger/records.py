"""The ledger: a few small tables in every database that Kerfmark made. The tables of the user need
none of them.

It knows who says what: which records each load says (as ranges of row numbers, with what it did for
them), which values it said otherwise than what was there, whether these were taken over or not, and
which rows of its files said records that were there already. So any load can be taken back, and the
account of every file can be given.
"""

from __future__ import annotations

import json
import os
from collections.abc import Callable, Mapping, Sequence
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kerfmark.normalize.policy import CREATED, MADE, NAMED, SAID
from kerfmark.store.interface import Reader, no_ledger

if TYPE_CHECKING:
    import pyarrow as pa

Append = Callable[[str, "pa.Table"], None]
"""Adds rows to a table of the ledger (`Changing.append`, `New.append`)."""

MAKERS = (MADE, CREATED)
"""The roles of the load that made a record."""
WOULD_MAKE = (SAID, NAMED)
"""The roles of a load that would have made it."""
OWN, SAME, DIFFERENT = "own", "same", "different"
"""What became of a row whose record was there when it was loaded: it is the record's own row by
now, as the load that had made the record was taken back; it says the same; it says something else,
which was not taken over."""


STYLE = "style"
"""Under which the ledger says how a file was written, beside how it is read."""


@dataclass(frozen=True)
class LoadedFile:
    """A file that a load took in; `file` is relative to the folder of the database where that is
    possible. `told` is what the telling column of its source has for it, `reading` (JSON, "" for
    what the layout says) how it is read, and under STYLE how it was written otherwise; `left_out`
    counts the rows of which the layout wants no record."""

    load: int
    source: str
    file: str
    bytes: int
    fingerprint: str
    rows: int
    told: str = ""
    reading: str = ""
    left_out: int = 0

    @property
    def is_file(self) -> bool:
        """Whether it was a file, no table of a server and no stream."""
        return self.file != "-" and "://" not in self.file

    @property
    def place(self) -> str:
        """What it is called, with its sheet or the list in it."""
        said = self.read_as
        what = "sheet" if said.get("sheet") else "list"
        inside = said.get("sheet") or said.get("member")
        return f'{self.file}, {what} "{inside}"' if inside else self.file

    @property
    def read_as(self) -> dict[str, Any]:
        """What a layout would say of how it is read."""
        return {k: v for k, v in json.loads(self.reading or "{}").items() if k != STYLE}

    @property
    def style(self) -> dict[str, Any]:
        """What is unusual of how it was written otherwise (see `read.text_style`)."""
        style: dict[str, Any] = json.loads(self.reading or "{}").get(STYLE, {})
        return style


@dataclass(frozen=True)
class RowSetAside:
    """A row that a load did not take in; `file` and `sheet` as messages call them, `row` as a
    person counts, `record` its number among those read of its source by this load (-1: it could not
    be cut into columns). Where it was held against a record that the database had, the table of
    that and the number of its row."""

    load: int
    source: str
    file: str
    sheet: str
    row: int
    record: int
    reason: str
    against_table: str = ""
    against_row: int = 0


@dataclass(frozen=True)
class Says:
    """Records of a table, by their row numbers, that a load says, and its part in them (`role`: see
    above). `columns` are those of the database of which it says anything, beside the natural key;
    None for all."""

    load: int
    table: str
    first: int
    last: int
    role: str
    columns: tuple[str, ...] | None = None

    @property
    def count(self) -> int:
        """How many."""
        return self.last - self.first + 1


@dataclass(frozen=True)
class KnownRows:
    """Rows of a load's files whose records were there already: `rows` records as read of their
    source, from `first_record` on, say the rows of its table from the number `first_row` on;
    `outcome`: see above."""

    load: int
    source: str
    first_record: int
    rows: int
    first_row: int
    outcome: str


@dataclass(frozen=True)
class Options:
    """The options that a load was made with, as they matter when it is made again. `decided`: a
    person decided about its tables, so that the layout says more than the files."""

    known: str = ""
    set_aside: bool = False
    source: str = ""
    only_known: bool = False
    decided: bool = False

    def text(self) -> str:
        """As JSON, without what is usual."""
        return json.dumps({k: v for k, v in asdict(self).items() if v})

    @classmethod
    def read(cls, text: str) -> Options:
        """From JSON."""
        return cls(**json.loads(text or "{}"))


@dataclass(frozen=True)
class Load:
    """One load: what made it, when (ISO time in UTC), by which version, from which layout, with
    which options, and when it was taken back ("": it was not)."""

    number: int
    verb: str
    at: str
    version: str
    layout: int
    undone_at: str
    options: Options = field(default_factory=Options)


def write_load(
    append: Append, load: Load, files: Sequence[LoadedFile], set_aside: Sequence[RowSetAside] = ()
) -> None:
    """Writes down a load with its files and the rows that were set aside; what it says follows with
    `write_says`."""
    append(
        "kerfmark_loads",
        _rows(
            [
                {
                    "load_id": load.number,
                    "verb": load.verb,
                    "loaded_at": load.at,
                    "kerfmark": load.version,
                    "layout_id": load.layout,
                    "options": load.options.text(),
                    **({"undone_at": load.undone_at} if load.undone_at else {}),
                }
            ]
        ),
    )
    append(
        "kerfmark_files",
        _rows(
            [
                {
                    "load_id": f.load,
                    "source": f.source,
                    "file": f.file,
                    "told": f.told,
                    "reading": f.reading,
                    "bytes": f.bytes,
                    "fingerprint": f.fingerprint,
                    "rows": f.rows,
                    "left_out": f.left_out,
                }
                for f in files
            ]
        ),
    )
    if set_aside:
        append(
            "kerfmark_set_aside",
            _rows(
                [
                    {
                        "load_id": r.load,
                        "source": r.source,
                        "file": r.file,
                        "sheet": r.sheet,
                        "row": r.row,
                        "record": r.record,
                        "reason": r.reason,
                        "against_table": r.against_table,
                        "against_row": r.against_row,
                    }
                    for r in set_aside
                ]
            ),
        )


def write_says(append: Append, says: Sequence[Says]) -> None:
    """Writes down which records a load says."""
    import pyarrow as pa

    if says:
        append(
            "kerfmark_says",
            pa.table(
                {
                    "load_id": pa.array([s.load for s in says], pa.int64()),
                    "table_name": [s.table for s in says],
                    "first_row": pa.array([s.first for s in says], pa.int64()),
                    "last_row": pa.array([s.last for s in says], pa.int64()),
                    "role": [s.role for s in says],
                    "columns": [columns_text(s.columns) for s in says],
                }
            ),
        )


def write_known(append: Append, known: Sequence[KnownRows]) -> None:
    """Writes down what became of rows whose records were there already."""
    import pyarrow as pa

    if known:
        numbers = ("first_record", "rows", "first_row")
        append(
            "kerfmark_known",
            pa.table(
                {
                    "load_id": pa.array([k.load for k in known], pa.int64()),
                    "source": [k.source for k in known],
                    **{n: pa.array([getattr(k, n) for k in known], pa.int64()) for n in numbers},
                    "outcome": [k.outcome for k in known],
                }
            ),
        )


def _rows(rows: Sequence[Mapping[str, str | int]]) -> pa.Table:
    import pyarrow as pa

    return pa.Table.from_pylist(list(rows)) if rows else pa.table({})


def columns_text(columns: tuple[str, ...] | None) -> str:
    """Columns as the ledger writes them: "" for all."""
    return "" if columns is None else json.dumps(columns, ensure_ascii=False)


def columns_of(text: str) -> tuple[str, ...] | None:
    """The way back."""
    return tuple(json.loads(text)) if text else None


def write_layout_text(append: Append, number: int, text: str) -> None:
    """Keeps the text of a layout."""
    append("kerfmark_layouts", _rows([{"layout_id": number, "layout": text}]))


class Ledger:
    """What a database's ledger says, but for who says which record and value (see
    `ledger.account`)."""

    def __init__(self, reader: Reader) -> None:
        ask, text, sequence = reader.ask, reader.text, reader.sequence
        if reader.facts("kerfmark_loads") is None or reader.facts("kerfmark_says") is None:
            raise no_ledger(reader.name)
        self.loads = [
            Load(r[0], r[1], r[2], r[3], r[4], r[5], Options.read(r[6]))
            for r in ask(
                f"SELECT load_id, verb, {text('loaded_at')}, kerfmark, layout_id, "
                f"COALESCE({text('undone_at')}, ''), options "
                "FROM kerfmark_loads ORDER BY load_id"
            )
        ]
        self.layout_number, self.layout = ask(
            "SELECT layout_id, layout FROM kerfmark_layouts ORDER BY layout_id DESC LIMIT 1"
        )[0]
        self.files = [
            LoadedFile(*r)
            for r in ask(
                'SELECT load_id, source, file, bytes, fingerprint, "rows", told, reading, left_out '
                "FROM kerfmark_files "
                f"ORDER BY load_id, {sequence}"
            )
        ]
        self.set_aside = [
            RowSetAside(*r)
            for r in ask(
                'SELECT load_id, source, file, sheet, "row", record, reason, against_table, '
                "against_row FROM kerfmark_set_aside "
                f"ORDER BY load_id, {sequence}"
            )
        ]
        self.made: dict[tuple[int, str], int] = {
            (r[0], r[1]): int(r[2])
            for r in ask(
                "SELECT load_id, table_name, SUM(last_row - first_row + 1) FROM kerfmark_says "
                f"WHERE role IN ('{MADE}', '{CREATED}') GROUP BY load_id, table_name"
            )
        }
        self.changed: dict[tuple[int, str], int] = {
            (r[0], r[1]): int(r[2])
            for r in ask(
                "SELECT load_id, table_name, COUNT(*) FROM kerfmark_changes WHERE kept = 0 GROUP "
                "BY load_id, table_name"
            )
        }
        self.known: dict[tuple[int, str, str], int] = {
            (r[0], r[1], r[2]): int(r[3])
            for r in ask(
                'SELECT load_id, source, outcome, SUM("rows") FROM kerfmark_known GROUP BY '
                "load_id, source, outcome"
            )
        }

    @classmethod
    def empty(cls, layout: str) -> Ledger:
        """That of a database which nothing was loaded into yet."""
        out = cls.__new__(cls)
        out.loads, out.files, out.set_aside, out.made, out.changed, out.known = (
            [],
            [],
            [],
            {},
            {},
            {},
        )
        out.layout_number, out.layout = 1, layout
        return out

    @property
    def live(self) -> list[Load]:
        """The loads that were not taken back."""
        return [load for load in self.loads if not load.undone_at]

    @property
    def live_files(self) -> list[LoadedFile]:
        """The files of these."""
        numbers = {load.number for load in self.live}
        return [f for f in self.files if f.load in numbers]

    @property
    def next_load(self) -> int:
        """The number of the next load."""
        return max((load.number for load in self.loads), default=0) + 1


def file_beside(location: str, folder: Path | None) -> str:
    """How a file is called seen from a folder (None: from anywhere): with forward slashes on every
    system. Standard input stays `-`, and a URL itself."""
    if location == "-" or "://" in location:
        return location
    path = Path(location)
    if folder is None:
        return path.resolve().as_posix()
    try:
        return Path(os.path.relpath(path.resolve(), folder.resolve())).as_posix()
    except ValueError:  # another drive
        return path.resolve().as_posix()
