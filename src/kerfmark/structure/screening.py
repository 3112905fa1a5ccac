"""Which of several sources hold notes and no table, and which are registers: one record for each of
their keys."""

from __future__ import annotations

import re
from collections.abc import Mapping

import pyarrow.compute as pc

from kerfmark.profile.codes import different_rows
from kerfmark.profile.encode import EncodedSource
from kerfmark.read.union import parts_of
from kerfmark.structure.header_words import called_like, looks_like_key

MOST_NOTES, WORDS_OF_NOTES = 200, 4
"""Rows of a sheet of notes, and words that its cells have on average at least."""
_NOTES = re.compile(
    r"(?i)^(read[ _]?me|about|info|notes?|hinweise?|lies ?mich|leggimi|l[ée]eme|lisez.?moi)$"
)
MOST_AGAIN = 0.03
"""The share of the rows of a register that may be duplicates."""


def is_prose(encoded: EncodedSource) -> bool:
    """Whether a source among several is a sheet or file of notes: one column of few rows, in
    sentences or under a name that says so."""
    if len(encoded.columns) != 1 or encoded.rows > MOST_NOTES:
        return False
    [column] = encoded.columns
    texts = [column.header, *column.values.to_pylist()]
    spoken = sum(len(t.split()) for t in texts) / len(texts) >= WORDS_OF_NOTES
    return bool(_NOTES.search(encoded.source.name)) or spoken


def is_unheard(name: str, read: Mapping[str, EncodedSource]) -> bool:
    """Whether no other source says anything that is in the first column of one."""
    values = read[name].columns[0].values
    return not any(
        pc.any(pc.is_in(values, value_set=column.values)).as_py()
        for other, encoded in read.items()
        if other != name
        for column in encoded.columns
        if len(column.values)
    )


def is_register(encoded: EncodedSource, name: str) -> bool:
    """Whether a source among several holds one record for each of the values of a column that is
    called like a key or like the source itself, but for few duplicate rows."""
    if parts_of(encoded.source) != [encoded.source]:
        return False
    first = different_rows(
        [c.codes for c in encoded.columns], [len(c.values) for c in encoded.columns]
    )
    if first is None or encoded.rows - len(first) > max(1, MOST_AGAIN * encoded.rows):
        return False
    return any(
        len(c.values) == len(first) and (looks_like_key(c.header) or called_like(c.header, name))
        for c in encoded.columns
    )
