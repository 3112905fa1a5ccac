"""The JSON Schema of layouts, made from their model, for editors that complete and check TOML by
one."""

from __future__ import annotations

import json
from typing import Any

from kerfmark.layout.model import Layout

SHORT: dict[str, dict[str, Any]] = {
    "ColumnSpec": {"type": "string", "description": "The header of its values, as text."},
    "LinkSpec": {"type": "string", "description": "The table that it leads to, through the row."},
}
"""What may be written for a whole part in short."""


def schema() -> dict[str, Any]:
    """The schema (JSON Schema, draft 2020-12)."""
    whole = Layout.model_json_schema()
    for name, short in SHORT.items():
        long = whole["$defs"][name]
        whole["$defs"][name] = {"anyOf": [short, long]}
    table = whole["$defs"]["TableSpec"]["properties"]
    table["columns"] = {
        "anyOf": [{"type": "array", "items": {"$ref": "#/$defs/ColumnSpec"}}, table["columns"]]
    }
    table["links"] = {"anyOf": [{"type": "array", "items": {"type": "string"}}, table["links"]]}
    for part in ("SourceSpec", "PartSpec", "TableSpec"):
        _as_texts(whole["$defs"][part])
    for part in SHORT:
        _as_texts(whole["$defs"][part]["anyOf"][1])
    clean = whole["$defs"]["ColumnSpec"]["anyOf"][1]["properties"]["clean"]
    whole["$defs"]["ColumnSpec"]["anyOf"][1]["properties"]["clean"] = {
        "anyOf": [clean["items"], clean]
    }
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        **whole,
        "title": "Layout of Kerfmark",
    }


def _as_texts(part: dict[str, Any]) -> None:
    """Numbers and yes or no are taken where a text is meant to be a spelling."""
    plain = {"type": ["string", "number", "boolean"]}
    for name, key in part.get("properties", {}).items():
        if name in ("default", "least", "most"):
            key["type"] = plain["type"]
        elif name in ("allowed", "blanks", "skip_rows"):
            key["items"] = plain
        elif name == "means":
            key["additionalProperties"] = plain


def schema_text() -> str:
    """The schema as JSON."""
    return json.dumps(schema(), indent=1, ensure_ascii=False) + "\n"
