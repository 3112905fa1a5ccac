"""Rows as tab-separated text with backslash escapes, which the bulk loaders of several servers take
as it is."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.profile.convert import decimal_texts, one_after_the_other

_ESCAPES = (("\\", "\\\\"), ("\t", "\\t"), ("\n", "\\n"), ("\r", "\\r"))


def tab_separated(batch: pa.RecordBatch) -> memoryview:
    """The rows of a batch of texts and numbers; `\\N` is a blank."""
    columns = [
        pc.fill_null(_escaped(c) if pa.types.is_string(c.type) else pc.cast(c, pa.string()), "\\N")
        for c in batch.columns
    ]
    return one_after_the_other(
        pc.binary_join_element_wise(pc.binary_join_element_wise(*columns, "\t"), "\n", "")
    )


def _escaped(texts: pa.StringArray) -> pa.StringArray:
    data = texts.buffers()[2]
    there = np.frombuffer(data, np.uint8) if data is not None else np.empty(0, np.uint8)
    for plain, escaped in _ESCAPES:
        if (there == ord(plain)).any():
            texts = pc.replace_substring(texts, plain, escaped)
    return texts


def spell_values(values: pa.Array) -> pa.Array:
    """Typed values as texts and numbers that servers take, and give back when asked for text: exact
    decimals, ISO dates."""
    kind = values.type
    if pa.types.is_date(kind) or pa.types.is_time(kind):
        return pc.cast(values, pa.string())
    if pa.types.is_timestamp(kind):
        return pc.strftime(values, "%Y-%m-%d %H:%M:%S")
    return decimal_texts(values) if pa.types.is_decimal(kind) else values
