"""Metadata beside CSV files, as W3C's "Metadata Vocabulary for Tabular Data" has it: types, keys
and links, as declared.

https://www.w3.org/TR/tabular-metadata/ (Recommendation of 17 December 2015): `FILE-metadata.json`
for one file, else `csv-metadata.json` for those of its folder. What of the vocabulary has no
meaning for tables of a database is skipped.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import unquote

FOLDER = "csv-metadata.json"
CONTEXT = "http://www.w3.org/ns/csvw"


@dataclass(frozen=True)
class DescribedColumn:
    """A column: its header, its datatype (`base`, and what is said of it), and whether every row
    has it."""

    header: str
    datatype: Mapping[str, Any]
    required: bool


@dataclass(frozen=True)
class DescribedLink:
    """Columns that lead to those of another file."""

    headers: tuple[str, ...]
    file: Path
    to: tuple[str, ...]


@dataclass(frozen=True)
class DescribedFile:
    """A CSV file: how it is written, its columns, the primary key, further sets that tell rows
    apart, links, and the columns in which apostrophes are before what a spreadsheet would run."""

    file: Path
    delimiter: str
    encoding: str
    columns: tuple[DescribedColumn, ...]
    key: tuple[str, ...]
    unique: tuple[tuple[str, ...], ...]
    links: tuple[DescribedLink, ...]
    apostrophes: tuple[str, ...]


def described(file: Path) -> DescribedFile | None:
    """What is declared of a CSV file; None where nothing is, or nothing that can be understood."""
    for place in (file.with_name(f"{file.name}-metadata.json"), file.with_name(FOLDER)):
        try:
            whole = json.loads(place.read_text(encoding="utf-8-sig"))
            for table in whole.get("tables", [whole]):
                if (
                    CONTEXT in str(whole["@context"])
                    and place.parent / unquote(str(table["url"])) == file
                ):
                    return _read(whole, table, file)
        except (OSError, ValueError, LookupError, TypeError, AttributeError):
            continue
    return None


def _read(whole: Mapping[str, Any], table: Mapping[str, Any], file: Path) -> DescribedFile:
    dialect = whole.get("dialect", {}) | table.get("dialect", {})
    schema = table["tableSchema"]
    headers: dict[str, str] = {}
    columns = []
    for c in schema["columns"]:
        title = c.get("titles", c.get("name", ""))
        while isinstance(title, list | dict):
            title = next(iter(title if isinstance(title, list) else title.values()), "")
        headers[c.get("name", title)] = title
        type_ = c.get("datatype", "string")
        columns.append(
            DescribedColumn(
                title,
                type_ if isinstance(type_, dict) else {"base": type_},
                bool(c.get("required")),
            )
        )

    def called(names: str | list[str]) -> tuple[str, ...]:
        return tuple(headers[n] for n in ([names] if isinstance(names, str) else names))

    links = [
        DescribedLink(
            called(f["columnReference"]),
            file.parent / unquote(f["reference"]["resource"]),
            _there(whole, f["reference"]),
        )
        for f in schema.get("foreignKeys", ())
    ]
    notes = [n for n in table.get("notes", ()) if isinstance(n, dict) and "columns" in n]
    return DescribedFile(
        file,
        dialect.get("delimiter", ","),
        dialect.get("encoding", "utf-8"),
        tuple(columns),
        called(schema.get("primaryKey", [])),
        tuple(called(n["columns"]) for n in notes if n.get("unique")),
        tuple(links),
        tuple(h for n in notes if "apostrophe" in str(n.get("note")) for h in called(n["columns"])),
    )


def _there(whole: Mapping[str, Any], reference: Mapping[str, Any]) -> tuple[str, ...]:
    """The headers of the columns that a link leads to."""
    names = reference["columnReference"]
    table = next(t for t in whole.get("tables", [whole]) if t["url"] == reference["resource"])
    titles = {
        c.get("name"): c.get("titles", c.get("name")) for c in table["tableSchema"]["columns"]
    }
    return tuple(str(titles[n]) for n in ([names] if isinstance(names, str) else names))
