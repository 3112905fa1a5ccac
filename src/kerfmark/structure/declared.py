"""A layout of files whose types, keys and links somebody has declared: nothing is guessed."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.layout.model import VERSION, ColumnSpec, Layout, LinkSpec, SourceSpec, TableSpec
from kerfmark.profile.encode import EncodedSource
from kerfmark.profile.types import TEXT, ColumnType, canonical
from kerfmark.read.csv_metadata import DescribedFile, DescribedLink
from kerfmark.structure.propose import Proposal

_BASES = {
    **dict.fromkeys(
        (
            "integer",
            "long",
            "int",
            "short",
            "byte",
            "nonNegativeInteger",
            "positiveInteger",
            "nonPositiveInteger",
            "negativeInteger",
            "unsignedLong",
            "unsignedInt",
            "unsignedShort",
            "unsignedByte",
        ),
        "integer",
    ),
    "double": "real",
    "float": "real",
    "boolean": "boolean",
    "date": "date",
    "datetime": "timestamp",
    "dateTime": "timestamp",
    "time": "time",
    "decimal": "decimal",
}
_FORMS = (("yyyy", "YYYY"), ("dd", "DD"), ("d", "D"), ("HH", "hh"), ("H", "h"))


def declared(
    files: Mapping[str, DescribedFile],
    specs: Mapping[str, SourceSpec],
    encoded: Mapping[str, EncodedSource],
) -> Proposal:
    """The layout of described files, which has a table for each, called like its source; and what
    of it no layout can say. A key that counts from 1 goes on doing so."""

    def counted(name: str, key: str) -> bool:
        column = next(c for c in encoded[name].columns if c.header == key)
        return type_of(
            next(c.datatype for c in files[name].columns if c.header == key)
        ).kind == "integer" and (
            column.values.take(pa.array(column.codes, mask=column.codes < 0)).equals(
                pc.cast(pa.array(np.arange(1, len(column.codes) + 1)), pa.string())
            )
        )

    names = {d.file: n for n, d in files.items()}
    notes: list[tuple[str, str]] = []
    tables = {}
    for name, file in files.items():
        links = {}
        for link in file.links:
            own = _link(name, link, files, names)
            if own is None:
                notes.append(
                    (
                        name,
                        f"the link of {' + '.join(link.headers)} does not lead to a primary key, "
                        "so it is not made",
                    )
                )
            else:
                links[own] = LinkSpec(
                    to=names[link.file],
                    by=dict(zip(link.to, link.headers, strict=True)),
                    missing="refuse",
                )
        linked = {h: n for n, link in links.items() for h in link.by.values()}

        def stored(headers: Sequence[str], linked: Mapping[str, str] = linked) -> tuple[str, ...]:
            return tuple(dict.fromkeys(linked.get(h, h) for h in headers))

        columns = {
            c.header: ColumnSpec(
                header=c.header,
                type=str(type_of(c.datatype)),
                clean=("apostrophes",) if c.header in file.apostrophes else (),
            )
            for c in file.columns
            if c.header not in linked
        }
        optional = stored(
            [c.header for c in file.columns if not c.required and c.header not in file.key]
        )
        key = stored(file.key)
        counts = key[0] if len(key) == 1 and key[0] in columns and counted(name, key[0]) else ""
        tables[name] = TableSpec(
            source=name,
            each_row=True,
            known_by=key,
            key=counts or key or "",
            links=links,
            columns=columns,
            optional=optional,
            unique=tuple(stored(u) for u in file.unique),
        )
    layout = Layout(kerfmark=VERSION, sources=dict(specs), tables=tables)
    return Proposal(
        layout,
        (),
        tuple(notes),
        {f"tables.{n}": ["as the metadata of the files declares it"] for n in tables},
    )


def _link(
    table: str, link: DescribedLink, files: Mapping[str, DescribedFile], names: Mapping[Any, str]
) -> str | None:
    """What a link is called, so that its columns in the database have the names of the file's; None
    where it cannot be said."""
    parent = files.get(names.get(link.file, ""))
    if parent is None or link.to != parent.key:
        return None
    if len(link.headers) == 1:
        return link.headers[0]
    starts = {
        h.removesuffix(f"_{k}")
        for h, k in zip(link.headers, link.to, strict=True)
        if h.endswith(f"_{k}")
    }
    same = len(starts) == 1 and all(
        h.endswith(f"_{k}") for h, k in zip(link.headers, link.to, strict=True)
    )
    return starts.pop() if same else None


def type_of(datatype: Mapping[str, Any]) -> ColumnType:
    """A declared datatype in our words; text for what has no type of ours."""
    base, form = str(datatype.get("base", "string")), str(datatype.get("format", ""))
    kind = _BASES.get(base, "text")
    if kind == "text":
        width = datatype.get("maxLength", 0)
        return (
            ColumnType("text", width=width if isinstance(width, int) else 0)
            if base == "string"
            else TEXT
        )
    if kind == "decimal":
        whole, _, places = str(datatype.get("maximum", "")).lstrip("+").partition(".")
        if not (whole + places).isdigit():
            return ColumnType("decimal", 38, 10, "0.##########")
        return canonical(ColumnType("decimal", len(whole.lstrip("0")) + len(places), len(places)))
    usual = canonical(ColumnType(kind))  # type: ignore[arg-type]
    if not form:
        return usual
    if kind == "boolean":
        return ColumnType("boolean", form=form.replace("|", "/"))
    for theirs, ours in _FORMS if kind != "integer" else ():
        form = form.replace(theirs, ours)
    return usual if kind in ("integer", "real") else ColumnType(kind, form=form.replace("'T'", "T"))  # type: ignore[arg-type]
