"""Text to typed values and back, whole columns at a time."""

from __future__ import annotations

import re

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.profile.moments import pieces, read_moments
from kerfmark.profile.months import CASES, language_of, month_names
from kerfmark.profile.types import ColumnType
from kerfmark.read.cells import bytes_of
from kerfmark.read.cells import decimal_texts as decimal_texts  # stores ask for it here

SLICE = 1 << 20
"""Texts that are turned into numbers at a time."""
_PROBE = 200
"""Texts that are tried before all are."""
_POWERS = 10 ** np.arange(1, 19, dtype=np.int64)


def to_typed(texts: pa.StringArray, type_: ColumnType) -> pa.Array:
    """The values of texts; null where a text is null or does not fit."""
    kind = type_.kind
    if kind == "text":
        if (
            not type_.width
            or not len(texts)
            or (pc.max(pc.utf8_length(texts)).as_py() or 0) <= type_.width
        ):
            return texts
        return pc.if_else(
            pc.less_equal(pc.utf8_length(texts), type_.width), texts, pa.scalar(None, pa.string())
        )
    if type_.thousands:
        texts = _without_thousands(texts, type_)
    if kind == "boolean":
        true, false = type_.form.split("/")
        where = pc.index_in(texts, value_set=pa.array([false, true]))
        return pc.cast(where, pa.bool_())
    if kind in ("date", "timestamp", "time"):
        return read_moments(texts, kind, type_.form)
    if kind == "integer" and (whole := integers(texts)) is not None:
        return whole
    shape = {
        "integer": r"^-?[0-9]{1,18}$",
        "real": r"^[-+]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][-+]?[0-9]+)?$",
        "decimal": rf"^-?[0-9]{{1,{max(type_.precision - type_.scale, 1)}}}(\{type_.mark}[0-9]{{0,{type_.scale}}})?$",  # noqa: E501
    }[kind]
    fits = pc.match_substring_regex(texts, shape)
    if not pc.all(fits).as_py():
        texts = pc.if_else(fits, texts, pa.scalar(None, pa.string()))
    if kind == "decimal" and type_.mark == ",":
        texts = pc.replace_substring(texts, ",", ".", max_replacements=1)
    return pc.cast(texts, type_.arrow)


def integers(texts: pa.StringArray) -> pa.Int64Array | None:
    """All texts as integers, if that is what all are: much faster than trying each."""
    if len(texts) > _PROBE:
        some = texts.slice(0, _PROBE).drop_null()
        if len(some) and integers(some) is None:
            return None  # a cast that fails takes as long as one that does not
    if len(texts) > SLICE:  # a slice at a time, so that what is compared is never kept whole
        parts: list[pa.Int64Array] = []
        for start in range(0, len(texts), SLICE):
            part = integers(texts.slice(start, SLICE))
            if part is None:
                return None
            parts.append(part)
        return pa.concat_arrays(parts)
    if len(texts) - texts.null_count == 0 or pc.max(pc.binary_length(texts)).as_py() > 18:
        return None
    try:
        whole = pc.cast(texts, pa.int64())
    except pa.ArrowInvalid:
        return None
    return whole if _as_numbers_are_written(texts, whole) else None


def _as_numbers_are_written(texts: pa.StringArray, whole: pa.Int64Array) -> bool:
    """Whether texts, which were read as these integers, are what the integers are as text: no sign,
    zero or base too many."""
    offsets, used = bytes_of(texts)
    if texts.null_count or used.max() > ord("9") or used.min() < ord("-"):
        return bool(pc.all(pc.equal(pc.cast(whole, pa.string()), texts)).as_py())
    numbers = whole.to_numpy()  # of digits and minus signs only: their count tells
    return np.array_equal(
        np.diff(offsets),
        1 + (numbers < 0) + np.searchsorted(_POWERS, np.abs(numbers), side="right"),
    )


def _without_thousands(texts: pa.StringArray, type_: ColumnType) -> pa.StringArray:
    """Numbers without what marks their thousands; null where it is elsewhere than before every
    third digit."""
    mark, decimal = re.escape(type_.thousands), re.escape(type_.mark)
    fits = pc.match_substring_regex(
        texts, rf"^-?([0-9]{{1,3}}({mark}[0-9]{{3}})+|[0-9]{{1,3}})({decimal}[0-9]*)?$"
    )
    return pc.if_else(
        fits, pc.replace_substring(texts, type_.thousands, ""), pa.scalar(None, pa.string())
    )


def to_text(values: pa.Array, type_: ColumnType) -> pa.StringArray:
    """The texts of values as the source spells them."""
    kind = type_.kind
    if kind == "text":
        return values
    if kind == "boolean":
        true, false = type_.form.split("/")
        return pc.if_else(values, true, false)
    if kind == "decimal":
        texts = decimal_texts(values)
        if not type_.padded:
            texts = (
                pc.replace_substring_regex(texts, r"\.?0+$" if type_.scale else "$^", "")
                if type_.scale
                else texts
            )
        texts = pc.replace_substring(texts, ".", type_.mark) if type_.mark != "." else texts
        return _with_thousands(texts, type_) if type_.thousands else texts
    if kind in ("date", "timestamp", "time"):
        return _spell_moments(values, type_)
    texts = pc.cast(values, pa.string())
    return _with_thousands(texts, type_) if type_.thousands else texts


def remarked(texts: pa.StringArray, own: ColumnType, known: ColumnType) -> pa.StringArray:
    """Decimals whose digits stay as they are, with the marks of another type; null where a text is
    not one of its own type."""
    fits = to_typed(texts, own).is_valid()
    plain = pc.replace_substring(texts, own.thousands, "") if own.thousands else texts
    if own.mark != known.mark:
        plain = pc.replace_substring(plain, own.mark, known.mark)
    plain = _with_thousands(plain, known) if known.thousands else plain
    return pc.if_else(fits, plain, pa.scalar(None, pa.string()))


def one_after_the_other(texts: pa.StringArray) -> memoryview:
    """The bytes of texts, without anything between them."""
    if not len(texts):
        return memoryview(b"")
    return bytes_of(texts)[1].data


def _with_thousands(texts: pa.StringArray, type_: ColumnType) -> pa.StringArray:
    """Numbers with their thousands marked."""
    found = pc.extract_regex(texts, r"^(?P<sign>-?)(?P<whole>[0-9]+)(?P<rest>.*)$")
    whole = found.field("whole")
    for _ in range(int(pc.max(pc.utf8_length(whole)).as_py() or 0) // 3):
        whole = pc.replace_substring_regex(
            whole, "([0-9])([0-9]{3})($|[^0-9])", rf"\1{type_.thousands}\2\3", max_replacements=1
        )
    marked = pc.binary_join_element_wise(found.field("sign"), whole, found.field("rest"), "")
    return pc.if_else(pc.is_valid(texts), marked, pa.scalar(None, pa.string()))


def _spell_moments(values: pa.Array, type_: ColumnType) -> pa.StringArray:
    """Dates and times in their form."""
    at = values if type_.kind == "time" else pc.cast(values, pa.timestamp("s"))
    parts: dict[str, pa.Array] = {}
    tokens = pieces(type_.form)
    if type_.kind != "time":
        year = _padded(pc.year(at), 4)
        parts |= {
            "YYYY": year,
            "YY": pc.utf8_slice_codeunits(year, 2),
            "MM": _padded(pc.month(at), 2),
            "M": _padded(pc.month(at), 1),
            "DD": _padded(pc.day(at), 2),
            "D": _padded(pc.day(at), 1),
        }
        language = language_of(type_.form)[1]
        for token in set(tokens) & CASES.keys():
            names = pa.array(month_names(token, language))
            parts[token] = names.take(pc.subtract(pc.month(at), 1))
    if type_.kind != "date":
        hour, half = pc.hour(at), pc.if_else(pc.less(pc.hour(at), 12), "AM", "PM")
        if {"AM", "am"} & set(tokens):
            hour = pc.if_else(
                pc.is_in(hour, pa.array([0, 12])),
                12,
                pc.subtract(hour, pc.if_else(pc.less(hour, 12), 0, 12)),
            )
        parts |= {
            "hh": _padded(hour, 2),
            "h": _padded(hour, 1),
            "mm": _padded(pc.minute(at), 2),
            "ss": _padded(pc.second(at), 2),
            "AM": half,
            "am": pc.utf8_lower(half),
        }
    return pc.binary_join_element_wise(*[parts.get(p, pa.scalar(p)) for p in tokens], "")


def _padded(numbers: pa.Array, width: int) -> pa.StringArray:
    return pc.utf8_lpad(pc.cast(numbers, pa.string()), width, "0")


def misfits(texts: pa.StringArray, typed: pa.Array) -> np.ndarray:
    """Positions of the texts that have no typed value though they are not blank."""
    if typed.null_count == texts.null_count:
        return np.empty(0, np.int64)
    return np.flatnonzero(
        (typed.is_null().to_numpy(zero_copy_only=False))
        & texts.is_valid().to_numpy(zero_copy_only=False)
    )


def folded(texts: pa.StringArray) -> pa.StringArray:
    """Texts as they are compared loosely: without regard to case, spaces and the Unicode form."""
    plain = pc.utf8_lower(pc.utf8_normalize(texts, form="NFKC"))
    return pc.utf8_trim_whitespace(pc.replace_substring_regex(plain, r"\s+", " "))
