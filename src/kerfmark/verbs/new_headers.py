"""Later files whose columns are called otherwise, are missing, or are new: what a person says of
them, and what is proposed, from spelling, values and types."""

from __future__ import annotations

import csv
import io
import shlex
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, field
from types import MappingProxyType

import pyarrow.compute as pc

from kerfmark.errors import KerfmarkError, SourceError, UsageError, counted
from kerfmark.layout.model import Layout
from kerfmark.profile.convert import to_text
from kerfmark.profile.encode import EncodedSource, encode
from kerfmark.profile.settle import settle
from kerfmark.profile.types import canonical
from kerfmark.read.source import Source
from kerfmark.store.interface import Changing

LOOKED_AT = 5_000
"""Values of a column of the database that are compared."""
SHARED, FEWEST = 0.5, 3
"""The share of a new column's values that must be among those of a missing one for both to be
perhaps the same, and how many at least."""
KNOWN_ENOUGH = 1 / 3
"""The share of a file's headers of which more must be known, or nearly so, for it to be of a kind
that is known."""
Likeness = Callable[[str, Source, Collection[str], Collection[str]], dict[str, tuple[str, str]]]
"""Tells, of a source and a file, which of the missing headers which of the new ones may be, and the
reason in words: (source, file, missing, new) -> {missing: (new, reason)}."""


@dataclass(frozen=True)
class NewHeaders:
    """What a person says about columns that are not as expected: nearly known headers are accepted
    (`learn`), new ones mean known ones (`means`), are left out, or are put into a table (by
    header). Known ones that a file is `lacking` are blank, or have a value throughout."""

    learn: bool = False
    leave_out: tuple[str, ...] = ()
    put: Mapping[str, str] = field(default_factory=dict)
    means: Mapping[str, str] = field(default_factory=dict)
    lacking: Mapping[str, str] = field(default_factory=dict)

    def pairs(self, lost: Collection[str], new: Collection[str]) -> dict[str, str]:
        """For missing headers, the new ones that are said to mean them, whichever way round."""
        both = (*self.means.items(), *((k, n) for n, k in self.means.items()))
        return {known: header for header, known in both if known in lost and header in new}


def unknown_headers(
    source: str,
    found: Source,
    lost: Collection[str],
    new: Collection[str],
    pairs: Mapping[str, str],
    known: Collection[str],
    alike: Likeness | None,
    order: Sequence[str] = (),
    needed: Mapping[str, str] = MappingProxyType({}),
) -> SourceError:
    """The error for a file that fits no source, and would fit one best: what of it is `lost` and
    what is `new`, which of these are spelled nearly alike (`pairs`), and which headers are `known`
    all the same. `order` is that of the columns of earlier files; `needed` tells of what is lost
    whether a value must be said, or "the column" must be there."""
    names = io.StringIO()
    csv.writer(names, lineterminator="").writerow(order)
    as_columns = f"--columns {shlex.quote(names.getvalue())}"
    as_many = bool(order) and len(order) == len(found.headers)
    if found.settings().get("header_row") == 0 and not known:
        return SourceError(
            "no row of this file names its columns",
            code="source.no-header",
            origin=found.origin(),
            why=f'"{source}", which it is nearest to, has {counted(len(order), "column")}; it has '
            f"{len(found.headers)}",
            next=f"{as_columns} names them in the order of earlier files, now and from then on\n"
            "if the order is another one: change it there\n"
            f"where several sources have as many columns: --as {source} too"
            if as_many
            else '--columns "A,B,C" names them, in their order',
        )
    likely = {h: (n, "") for h, n in pairs.items() if h in lost and n in new}
    strange = {*new} - {n for n, _ in likely.values()}
    missing = {*lost} - {*likely}
    if alike is not None and missing and strange:
        likely |= alike(source, found, missing, strange)
    if len(known) + len(pairs) <= KNOWN_ENOUGH * len(found.headers) and 2 * len(likely) < len(lost):
        return SourceError(
            f"{len(known) or 'none'} of the {counted(len(found.headers), 'header')} of this file "
            f"{'is' if len(known) < 2 else 'are'} known",
            code="source.strange",
            origin=found.origin(),
            why=f'even "{source}", which it is nearest to, has other columns: '
            + ", ".join(sorted(lost)),
            next="name the right file\n"
            f"kerfmark cut {shlex.quote(found.origin().file)} --into DB --beside makes tables for "
            "a file of another kind"
            + (f"\nif no row names its columns: {as_columns}" if as_many and not known else ""),
        )
    said = []
    for h in sorted(lost):
        if h not in likely:
            said.append(f'"{h}" is missing')
            continue
        name, reason = likely[h]
        said.append(f'"{h}" is missing, "{name}" is new: perhaps the same')
        said[-1] += f", as {reason}" if reason else ""
    alone = sorted({*new} - {n for n, _ in likely.values()})
    said += [f'"{h}" is new' for h in alone]
    steps = [
        f'--means "{n}={h}" says so, now and from then on' for h, (n, r) in likely.items() if r
    ]
    spelled = [f'"{n}" as "{h}"' for h, (n, reason) in likely.items() if not reason]
    if spelled:
        steps.append(
            f"--learn accepts {', '.join(spelled)}, now and from then on (as also = {{...}} in the "
            "layout does)"
        )
    gone = [h for h in sorted(lost) if h not in likely]
    if len(alone) == len(gone) == 1:
        steps.append(f'--means "{alone[0]}={gone[0]}" if these are the same, now and from then on')
    leave = [f'--leave-out "{h}"' for h in alone]
    lack = [f'--lacking "{h}{"=VALUE" if h in needed else ""}"' for h in gone]
    if vital := [f'"{h}"' for h in gone if needed.get(h) == "the column"]:
        steps.append(f"add {' and '.join(vital)} to the file: records are known by it")
    elif leave or lack:
        what = ["leaves out what is new"] if leave else []
        blank = any(h not in needed for h in gone)
        filled = any(h in needed for h in gone)
        what += ["leaves blank what is missing"] if blank and not filled else []
        what += ["fills what is missing"] if filled else []
        steps.append(f"{' '.join([*leave, *lack])} {' and '.join(what)}")
    if alone:
        steps.append(f'--put "{alone[0]}=TABLE" makes it a column of a table')
    if gone and not vital and gone[0] not in needed:
        steps.append(f'--lacking "{gone[0]}=VALUE" fills it')
    return SourceError(
        "this fits no source that is known",
        code="source.unknown",
        origin=found.origin(),
        why=f'it is nearest to "{source}": ' + "; ".join(said),
        next="\n".join(steps or ["correct its header"]),
    )


def unknown_meaning(
    means: Mapping[str, str], tried: Sequence[tuple[Collection[str], Collection[str]]]
) -> None:
    """Raises UsageError where a header that is said to mean another one is that of no file and
    source; `tried` are the known and the own headers of each file with each source."""
    for new, known in means.items():
        if any(
            (new in own and known in expected) or (known in own and new in expected)
            for expected, own in tried
        ):
            continue
        raise UsageError(
            f'"{new}" cannot mean "{known}" here',
            code="usage.means",
            why="one of them must be a header of the file, the other one of a source of the "
            "database",
            next='write them as they are spelled there, like --means "Paid with=Paid by"',
        )


def likeness(layout: Layout, file: Changing) -> Likeness:
    """What tells which new header a missing one may be, by the values and types that an open
    database has."""
    read: dict[int, EncodedSource] = {}

    def alike(
        source: str, found: Source, lost: Collection[str], new: Collection[str]
    ) -> dict[str, tuple[str, str]]:
        try:
            encoded = read.setdefault(id(found), encode(found, strict=False))
        except KerfmarkError:
            return {}
        out: dict[str, tuple[str, str]] = {}
        for missing in sorted(lost):
            column_at = layout.column_of(source, missing)
            if column_at is None or not column_at[1].is_plain:
                continue
            table, spec = column_at
            name = next(n for n, c in layout.tables[table].columns.items() if c is spec)
            there = set(file.sample_texts(table, name, LOOKED_AT))
            best: tuple[int, str, str] | None = None
            same_type = []
            for header in sorted(h for h in new if h not in {n for n, _ in out.values()}):
                column = encoded.column(header)
                type_ = settle(column).type
                if type_.kind != spec.of_type.kind:
                    continue
                same_type.append(header)
                texts = to_text(column.typed(type_), canonical(type_))
                hits = sum(t in there for t in pc.drop_null(texts).to_pylist())
                if hits >= max(FEWEST, SHARED * len(column.values)):
                    of = counted(len(column.values), "value")
                    reason = f"{hits:,} of its {of} are in {table}.{name}"
                    best = max(best or (0, "", ""), (hits, header, reason))
            if best is not None:
                out[missing] = best[1], best[2]
            elif len(same_type) == 1 and spec.of_type.kind != "text":
                out[missing] = same_type[0], f"it is the only one of this type ({spec.type})"
        return out

    return alike
