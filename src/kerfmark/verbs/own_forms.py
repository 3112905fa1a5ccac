"""Dates and numbers that a later file writes in another form than the files before it: found where
its values leave no doubt, told, and read in its own form."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import pyarrow as pa

from kerfmark.errors import Origin, SourceError, UsageError
from kerfmark.layout.model import ColumnSpec, Layout
from kerfmark.profile.codes import distinct
from kerfmark.profile.convert import misfits, remarked, to_text, to_typed
from kerfmark.profile.encode import EncodedSource
from kerfmark.profile.moments import CANDIDATES, SHORT, check_form, pattern
from kerfmark.profile.types import ColumnType, with_marks
from kerfmark.read.respelled import RespelledSource
from kerfmark.read.source import Source, with_changes
from kerfmark.read.union import UnionSource, parts_of

MOST = 0.8
"""The share of the values of a column that must fit a form for it to be that of the file, where
some fit none."""
FEWER = 0.5
"""The share of the values that no other reading may reach then."""
LOOKED_AT = 50
"""Values by which the forms that can be are told."""
_THOUSANDS = (".", ",", " ", "'", "\u2019", "\u00a0", "\u202f")
INTEGERS = tuple(f"0{t}000" for t in _THOUSANDS)
DECIMALS = ("0.0", "0,0", *(f"0{t}000{m}0" for t in _THOUSANDS for m in ".," if m != t))
"""How numbers may be marked."""
Respell = Callable[[ColumnType, ColumnType], Callable[[pa.StringArray], pa.StringArray]]
"""Makes what spells texts of one type (its form is that of the file) as those of another one."""


@dataclass(frozen=True)
class SaidForms:
    """What a person says of how files write their `dates` (also those with a time of the day have
    their day so) and the mark of their `decimals`; "": it is found."""

    dates: str = ""
    decimals: str = ""


def in_own_forms(
    layout: Layout,
    encoded: Mapping[str, EncodedSource],
    said: SaidForms,
    again: Callable[[Source], EncodedSource],
) -> tuple[dict[str, EncodedSource], list[str]]:
    """Sources of later files, those that write values in another form read `again` in that, and
    what is to be told of it.

    Raises SourceError where values could be read in two ways, UsageError for a form that is none.
    """
    check_forms(said.dates, said.decimals)
    out, notes = dict(encoded), list[str]()
    for name, one in encoded.items():
        forms = list(_forms_of_parts(layout, name, one, said))
        if not any(forms):
            continue
        parts = [
            respelled(layout, name, part, found, respell)
            for part, found in zip(parts_of(one.source), forms, strict=True)
        ]
        whole = one.source
        out[name] = again(
            with_changes(whole, parts=parts) if isinstance(whole, UnionSource) else parts[0]
        )
        for part, found in zip(parts, forms, strict=True):
            for header, form in found.items():
                column = layout.column_of(name, header)
                assert column is not None
                before = column[1].of_type.form or "0"
                notes.append(
                    f'{part.origin()}: "{header}" is written {form} here, and {before} in the '
                    "files before it; it is read so"
                )
    return out, notes


def respelled(
    layout: Layout, name: str, part: Source, written: Mapping[str, str], spell: Respell
) -> Source:
    """A file that writes the values of some headers in forms of its own, as one that writes them as
    the columns of a layout say; the file itself where nothing is written otherwise."""
    if not written:
        return part
    spells = {}
    for header, form in written.items():
        column = _column(layout, name, header)
        own = None if column is None else in_form(column.of_type, form)
        if column is not None and own is not None:
            spells[header] = spell(own, column.of_type)
    return RespelledSource(part, written, spells)


def in_form(type_: ColumnType, form: str) -> ColumnType | None:
    """A type whose values are written in another form; None where they cannot be."""
    if type_.kind in ("date", "timestamp", "time"):
        try:
            check_form(type_.kind, form)
        except ValueError:
            return None
        return ColumnType(type_.kind, form=form)
    return with_marks(type_, form)


def respell(own: ColumnType, known: ColumnType) -> Callable[[pa.StringArray], pa.StringArray]:
    """What spells texts of one form in another one. A text that does not fit its own form stays as
    it is; where it would fit the known one and mean something else, it says so."""

    def spelled(texts: pa.StringArray) -> pa.StringArray:
        encoded = texts.dictionary_encode()
        values = encoded.dictionary
        out = (
            remarked(values, own, known)
            if own.kind == "decimal"
            else to_text(to_typed(values, own), known)
        )
        misread = (
            set()
            if _is_unmistakable(known)
            else {*np.flatnonzero(to_typed(values, known).is_valid())}
        )
        plain = [
            new if new is not None else f"{old} (not {own.form})" if i in misread else old
            for i, (old, new) in enumerate(zip(values.to_pylist(), out.to_pylist(), strict=True))
        ]
        return pa.array(plain, pa.string()).take(encoded.indices)

    return spelled


def _is_unmistakable(type_: ColumnType) -> bool:
    """Whether a text in the form of a type can be nothing else: the year comes first."""
    return type_.kind in ("date", "timestamp") and type_.form.startswith("YYYY-")


def check_forms(dates: str, decimals: str) -> None:
    """Raises UsageError for a form of dates, or a mark of decimals, that is none."""
    if dates:
        try:
            check_form("date", dates)
        except ValueError as error:
            wanted = "write it like --dates DD.MM.YYYY"
            raise UsageError(str(error), code="usage.form", next=wanted) from None
    if decimals not in ("", ".", ","):
        raise UsageError(
            f'decimals are marked by a point or a comma, not by "{decimals}"',
            code="usage.form",
            next="use --decimals , or --decimals .",
        )


def _column(layout: Layout, name: str, header: str) -> ColumnSpec | None:
    """The column of a header, if its cells are values of it."""
    found = layout.column_of(name, header)
    return None if found is None or found[1].split else found[1]


def _forms_of_parts(
    layout: Layout, name: str, encoded: EncodedSource, said: SaidForms
) -> Iterable[dict[str, str]]:
    """For each part of a source the headers whose values it writes in a form of its own."""
    spec = layout.sources[name]
    read = encoded.trimmed(spec.trim).with_blanks(spec.blanks)
    starts = np.cumsum([0, *(rows for _, _, rows in encoded.parts())])
    if encoded.records is not None:
        starts = np.searchsorted(encoded.records, starts)
    for n, part in enumerate(parts_of(encoded.source)):
        forms, doubtful = dict[str, str](), dict[str, _Doubt]()
        known = part.settings().get("written", {})
        for header in encoded.source.headers:
            column = _column(layout, name, header)
            if column is None or column.of_type.kind not in _KINDS or header in known:
                continue
            type_, cells = column.of_type, read.column(header)
            if said == SaidForms() and not len(misfits(cells.values, cells.typed(type_))):
                continue
            codes = distinct(cells.codes[starts[n] : starts[n + 1]])
            values = cells.values.take(pa.array(codes[codes >= 0]))
            told = _said_form(type_, said, values)
            if told:
                if told != type_.form:
                    forms[header] = told
                continue
            if not len(misfits(values, to_typed(values, type_))):
                continue
            found = _form_of(values, type_)
            if isinstance(found, _Doubt):
                doubtful[header] = found
            elif found:
                forms[header] = found
        yield forms | _settled(layout, name, part, [*forms.values(), said.dates], doubtful)


_KINDS = ("date", "timestamp", "decimal", "integer")
_TWO_WAYS = "the {} of this file can be read in two ways"


@dataclass(frozen=True)
class _Doubt:
    """Forms in which values can be read, and why none of them is taken: the `options` say which is
    meant; with an example."""

    why: str
    forms: tuple[str, ...]
    options: tuple[str, ...]
    example: str


def _settled(
    layout: Layout, name: str, part: Source, certain: Sequence[str], doubtful: Mapping[str, _Doubt]
) -> dict[str, str]:
    """The forms of columns that leave a doubt, by those that are certain of the same file. Raises
    SourceError where these do not tell."""
    out = {}
    for header, doubt in doubtful.items():
        days = {_day_of(f) for f in certain}
        sure = next((f for f in doubt.forms if _day_of(f) in days), "")
        if sure:
            out[header] = sure
            continue
        column = _column(layout, name, header)
        assert column is not None
        at, before = part.origin(), column.of_type.form or column.type
        raise SourceError(
            doubt.why,
            code="source.form",
            origin=Origin(at.file, at.sheet, None, header),
            why=f'"{doubt.example}" fits {" and ".join(doubt.forms)}; the files before it have '
            f"{before}",
            next="\n".join(doubt.options),
        )
    return out


def _day_of(form: str) -> str:
    """The form of the day in that of a timestamp; any other form itself."""
    return re.split("[ T]h", form)[0]


def _said_form(type_: ColumnType, said: SaidForms, values: pa.StringArray) -> str:
    """The form of a type that a person has said; "" for none. Of the forms of numbers with a mark
    of decimals it is the one that fits most values."""
    if type_.kind == "date":
        return said.dates
    if not said.decimals or type_.kind not in ("decimal", "integer"):
        return ""
    forms = [f for f in DECIMALS if f[-2] == said.decimals]
    if type_.kind == "integer":  # its own form, unless one with marked thousands fits more
        forms = [type_.form, *(f for f in INTEGERS if f[1] != said.decimals)]

    def fitting(form: str) -> int:
        own = in_form(type_, form) if form else type_
        return -1 if own is None else len(values) - to_typed(values, own).null_count

    return max(forms, key=fitting)


def _form_of(values: pa.StringArray, type_: ColumnType) -> str | _Doubt:
    """The form in which values that do not fit their type are written; "" where there is none."""
    tried: list[tuple[int, str, pa.Array]] = []
    for form in _candidates(values, type_):
        own = in_form(type_, form)
        if own is None or form == type_.form:
            continue
        typed = to_typed(values, own)
        tried.append((len(typed) - typed.null_count, form, typed))
    if not tried:
        return ""
    most = max(count for count, _, _ in tried)
    known = to_typed(values, type_)
    if most < MOST * len(values) or most <= len(known) - known.null_count:
        return ""
    _, best, read = next(t for t in tried if t[0] == most)
    others = [(c, f) for c, f, typed in tried if not _agree(typed, read)]
    enough = len(values) if most == len(values) else FEWER * len(values)
    near = [f for c, f in others if c >= enough]
    if doubt := _doubt(values, type_, best, near):
        return doubt
    both = known.is_valid().to_numpy(zero_copy_only=False) & read.is_null().to_numpy(
        zero_copy_only=False
    )
    return "" if both.any() and not _is_unmistakable(type_) else best


def _doubt(
    values: pa.StringArray, type_: ColumnType, best: str, near: Sequence[str]
) -> _Doubt | None:
    """Why the form that fits best is not certain; None where it is. `near` are forms of other
    readings that fit as well."""
    example = next(v for v in values.to_pylist() if v)
    if type_.kind == "integer":
        if best[1] not in ".," or _some_bare(values):
            return None
        other = ".,"[best[1] == "."]
        forms = (best, f"0{best[1]}0")
        return _Doubt(_TWO_WAYS.format("numbers"), forms, (f"--decimals {other}",), example)
    if near:
        forms = (best, near[0])
        if type_.kind == "decimal":
            return _Doubt(
                _TWO_WAYS.format("numbers"),
                forms,
                tuple(f"--decimals {f[-2]}" for f in forms),
                example,
            )
        options = tuple(f'--dates "{_day_of(f)}"' for f in forms)
        return _Doubt(_TWO_WAYS.format("dates"), forms, options, example)
    if best in SHORT:
        options = (f'--dates "{best}"',)
        return _Doubt("the dates of this file leave the century open", (best,), options, example)
    return None


def _agree(one: pa.Array, other: pa.Array) -> bool:
    """Whether two readings of the same texts never differ where both have a value."""
    pairs = zip(one.to_pylist(), other.to_pylist(), strict=True)
    return all(a == b for a, b in pairs if a is not None and b is not None)


def _some_bare(values: pa.StringArray) -> bool:
    """Whether some number has no mark, or several: then a mark is that of thousands."""
    marks = [len(re.findall(r"[^0-9\-]", v)) for v in values.to_pylist() if v]
    return any(n != 1 for n in marks)


def _candidates(values: pa.StringArray, type_: ColumnType) -> Sequence[str]:
    """The forms that some of the values fit."""
    if type_.kind in ("decimal", "integer"):
        return INTEGERS if type_.kind == "integer" else DECIMALS
    some = [v for v in values.slice(0, LOOKED_AT).to_pylist() if v]
    forms = [*CANDIDATES[type_.kind], *(SHORT if type_.kind == "date" else ())]
    return [f for f in forms if any(re.match(pattern(f), v) for v in some)]
