"""MySQL and MariaDB: texts in scripts."""

from __future__ import annotations

import pyarrow as pa
import pyarrow.compute as pc


def escaped_texts(values: pa.Array) -> pa.Array:
    """Texts as SQL literals, with backslash escapes."""
    for plain, escaped in (
        ("\\", "\\\\"),
        ("'", "''"),
        ("\r", "\\r"),
        ("\n", "\\n"),
        ("\x1a", "\\Z"),
    ):
        values = pc.replace_substring(values, plain, escaped)
    return pc.binary_join_element_wise("'", values, "'", "")
