"""What a folder of CSV files holds, told as W3C's "Metadata Vocabulary for Tabular Data": types,
keys and links.

https://www.w3.org/TR/tabular-metadata/ (Recommendation of 17 December 2015). `read.csv_metadata`
reads it again.
"""

from __future__ import annotations

import json
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from urllib.parse import quote

from kerfmark.profile.types import ColumnType
from kerfmark.write.table import TableOut

NAME = "csv-metadata.json"
"""What the file is called, for all tables of its folder."""
APOSTROPHES = "an apostrophe is put before cells that a spreadsheet would take for formulas"
"""What a note says of a column in which `write.cells.harmless` has changed cells."""


@dataclass(frozen=True)
class FileOut:
    """A CSV file: its table, and the columns in which cells were made harmless."""

    name: str
    table: TableOut
    rows: int
    apostrophes: tuple[str, ...] = ()


def metadata(files: Sequence[FileOut], delimiter: str, encoding: str) -> str:
    """The metadata of a folder of CSV files."""
    names = {f.table.name: quote(f.name) for f in files}
    whole = {
        "@context": "http://www.w3.org/ns/csvw",
        "dialect": {
            "delimiter": delimiter,
            "encoding": encoding,
            "header": True,
            "doubleQuote": True,
        },
        "tables": [_table(f, names) for f in files],
    }
    return json.dumps(whole, ensure_ascii=False, indent=1) + "\n"


def _table(file: FileOut, names: dict[str, str]) -> dict[str, object]:
    table = file.table
    schema: dict[str, object] = {
        "columns": [
            {"name": _name(c), "titles": c, "datatype": datatype(t)}
            | ({} if c in table.optional else {"required": True})
            for c, t in zip(table.columns, table.types, strict=True)
        ]
    }

    def called(columns: Collection[str]) -> list[str]:
        return [_name(c) for c in columns]

    if table.key:
        schema["primaryKey"] = called(table.key)
    links = [
        {
            "columnReference": called(link.columns),
            "reference": {
                "resource": names[link.to],
                "columnReference": [_name(k) for k in link.key],
            },
        }
        for link in table.links
        if link.to in names
    ]
    if links:
        schema["foreignKeys"] = links
    out: dict[str, object] = {"url": quote(file.name), "tableSchema": schema}
    notes = [{"columns": called(u), "unique": True} for u in table.unique]
    notes += [{"columns": called([c]), "note": APOSTROPHES} for c in file.apostrophes]
    return out | ({"notes": notes} if notes else {})


def _name(column: str) -> str:
    """A column's name as a URI takes it: what is not a letter, digit or sign of these is spelled
    with percent signs."""
    name = quote(column, safe="").replace("-", "%2D").replace("~", "%7E")
    return f"%5F{name[1:]}" if name.startswith("_") else name


def datatype(type_: ColumnType) -> Mapping[str, object]:
    """A type as the vocabulary says it."""
    if type_.kind == "text":
        return {"base": "string"} | ({"maxLength": type_.width} if type_.width else {})
    if type_.kind == "decimal":
        most = "9" * (type_.precision - type_.scale) or "0"
        most += "." + "9" * type_.scale if type_.scale else ""
        return {"base": "decimal", "minimum": f"-{most}", "maximum": most}
    return {
        "integer": {"base": "integer"},
        "real": {"base": "double"},
        "boolean": {"base": "boolean", "format": "true|false"},
        "date": {"base": "date", "format": "yyyy-MM-dd"},
        "timestamp": {"base": "datetime", "format": "yyyy-MM-dd HH:mm:ss"},
        "time": {"base": "time", "format": "HH:mm:ss"},
    }[type_.kind]
