"""Which source of a layout a file feeds: told by its headers, whatever their order, and by how it
can be read."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from types import MappingProxyType

from kerfmark.errors import KerfmarkError, SourceError, UsageError
from kerfmark.layout.derive import settled
from kerfmark.layout.model import Layout, PartSpec, SourceSpec
from kerfmark.layout.names import snake
from kerfmark.ledger.records import LoadedFile
from kerfmark.read.delimited import DelimitedSource
from kerfmark.read.dialect import WRITTEN
from kerfmark.read.letters import Spelling, quoted, spelled
from kerfmark.read.named_columns import named
from kerfmark.read.open import described_as, open_all
from kerfmark.read.source import Reading, Source, with_changes
from kerfmark.read.text_file import with_json_cells
from kerfmark.read.union import HOW, WHERE, parts_of
from kerfmark.read.wrapped import unwrapped
from kerfmark.verbs.new_headers import Likeness, NewHeaders, unknown_headers, unknown_meaning
from kerfmark.verbs.sources import as_loaded, open_loaded, open_source, rules_of

ALIKE = 65.0
"""How alike two headers are (of 100) for one to be proposed for the other."""


@dataclass(frozen=True)
class Routed:
    """An open file or sheet and the source that it feeds; `spec` says how it is read, `told` what
    its telling column says. `learned` maps headers of the source to how this file spells them;
    `left_out` and `put` are headers that are new, and what becomes of them; `lacking` are known
    ones that it has not, with what their cells say; `unsaid` are known ones that it has not, and
    says nothing of."""

    source: str
    opened: Source
    spec: SourceSpec
    told: str
    why: str
    learned: dict[str, str] = field(default_factory=dict)
    left_out: tuple[str, ...] = ()
    put: dict[str, str] = field(default_factory=dict)
    lacking: dict[str, str] = field(default_factory=dict)
    unsaid: tuple[str, ...] = ()

    @property
    def place(self) -> str:
        """The path of the file, or the URL."""
        return self.opened.location


@dataclass(frozen=True)
class _Try:
    """A source that a file was held against: what is missing, what is new, and which new header may
    be which missing one."""

    source: str
    opened: Source
    spec: SourceSpec
    headers: set[str]
    lost: set[str]
    new: set[str]
    pairs: dict[str, str]


def expected_headers(layout: Layout, source: str) -> tuple[set[str], set[str]]:
    """The headers that a source of a layout must have, and those that it may have; its telling
    column is left out."""
    whole = settled(layout, {})
    spec = layout.sources[source]
    needed = {h for t in whole.tables.values() if t.source == source for h in t.headers} | set(
        spec.left_out
    )
    may = set(spec.may_lack)
    for table in (t for t in layout.tables.values() if source in t.also_from):
        needed |= {table.columns[k].header for k in table.known_by}
        may |= {c.header for c in table.columns.values() if c.header}
    return needed - {spec.telling} - set(spec.may_lack), (needed | may) - {spec.telling}


def route(
    layout: Layout,
    files: Sequence[str | Path],
    only: str = "",
    new_headers: NewHeaders = NewHeaders(),
    reading: Reading = Reading(),
    alike: Likeness | None = None,
    passed_over: list[str] | None = None,
    orders: Mapping[str, tuple[str, ...]] = MappingProxyType({}),
    order_of: Callable[[str], Sequence[str]] | None = None,
    only_known: bool = False,
) -> list[Routed]:
    """The source that each file (and sheet of a workbook) feeds; `only` names the one for all of
    them. `reading` says how they are written; `alike` tells which headers may be the same though
    they are spelled otherwise. Sheets that fit no source, beside one that does, are `passed_over`
    where one was chosen when the source was first read, and told there. `orders` are those in which
    the latest files without a header had their columns, by source; `order_of` tells that of the
    columns of any source. With `only_known`, files need have no more than what tells their records.

    Raises UsageError for a file that fits none, or several.
    """
    if only and only not in layout.sources:
        raise UsageError(
            f'there is no source "{only}"', next=f"the sources are {', '.join(layout.sources)}"
        )
    opened = [
        found
        for one in open_all(files, reading, together=False)
        for found in _with_lists(layout, _in_known_order(layout, one, orders, only), reading)
    ]
    if new_headers.means:
        expected = [expected_headers(layout, name)[1] for name in layout.sources]
        unknown_meaning(new_headers.means, [(e, f.headers) for e in expected for f in opened])
    chosen = {name for name, spec in layout.sources.items() if spec.sheet}
    sheets = [f for f in opened if chosen and f.settings().get("sheet")]
    fitting = {f.location for f in sheets if fitting_source(layout, f) in chosen}
    out: list[Routed] = []
    for found in opened:
        beside = found.location in fitting and found.settings().get("sheet")
        if beside and passed_over is not None and not fitting_source(layout, found):
            passed_over.append(f"{found.origin()} is skipped: another sheet was chosen before")
            continue
        out.append(_routed(layout, found, only, new_headers, alike, order_of, only_known))
    return out


def read_as_before(layout: Layout, files: Sequence[LoadedFile], folder: Path) -> list[Routed]:
    """The files of a load, read as they were when they were loaded; none where one of them cannot
    be read so any more."""
    out = []
    for file in files:
        spec = as_loaded(layout.sources[file.source], file)
        needed, possible = expected_headers(layout, file.source)
        try:
            opened = open_loaded(layout, file.source, [file], folder)
        except KerfmarkError:
            return []
        [part] = parts_of(opened)
        headers = set(part.headers) - {layout.sources[file.source].telling}
        unsaid = set(spec.may_lack) - set(layout.sources[file.source].may_lack)
        if needed - headers - unsaid or headers - possible:
            return []
        why = "it is read as before"
        out.append(Routed(file.source, part, spec, file.told, why, unsaid=tuple(sorted(unsaid))))
    return out


def _in_known_order(
    layout: Layout, found: Source, orders: Mapping[str, tuple[str, ...]], only: str
) -> Source:
    """A file without a header, with the columns named as those of an earlier one with as many; left
    as it is where another source has as many columns too, and nobody says which one it feeds."""
    said, size = found.settings(), len(found.headers)
    if said.get("header_row") != 0 or said.get("columns"):
        return found
    possible = [
        name
        for name in ([only] if only else layout.sources)
        if size in (len(orders.get(name, ())), len(expected_headers(layout, name)[0]))
    ]
    if len(possible) != 1 or len(orders.get(possible[0], ())) != size:
        return found
    return with_changes(named(found, orders[possible[0]]), rules=found.rules)


def _with_lists(layout: Layout, found: Source, reading: Reading) -> Sequence[Source]:
    """A file, and the lists in its cells, where the layout says that such files have any."""
    for said in {spec.json_cells for spec in layout.sources.values() if spec.json_cells}:
        if isinstance(found, DelimitedSource) and set(said) <= set(found.headers):
            lists = with_json_cells(found, replace(reading, json_cells=said))
            return [with_changes(s, rules=found.rules) for s in lists]
    return [found]


def _routed(
    layout: Layout,
    found: Source,
    only: str,
    new_headers: NewHeaders,
    alike: Likeness | None,
    order_of: Callable[[str], Sequence[str]] | None,
    only_known: bool,
) -> Routed:
    tries = [
        _held_against(layout, name, found) for name in layout.sources if name == (only or name)
    ]
    fits = [t for t in tries if not t.lost and not t.new]
    if len(fits) > 1:
        called = [t for t in fits if snake(Path(found.location).stem).startswith(snake(t.source))]
        fits = called if len(called) == 1 else fits
    if len(fits) > 1:
        raise UsageError(
            "this fits several sources",
            code="source.ambiguous",
            origin=found.origin(),
            why=f"{', '.join(t.source for t in fits)} have the same headers",
            next=f"choose with --as, such as --as {fits[0].source}",
        )
    if fits:
        [t] = fits
        opened, spec, letters = _same_letters(t, layout.sources[t.source].encoding)
        why = f"its {len(t.headers)} headers are those of {t.source}{letters}"
        return Routed(t.source, opened, spec, _told(layout.sources[t.source], found), why)
    keys = {name: set(layout.key_headers(layout.base_of(name))) for name in layout.sources}
    if only_known:  # what is said of records must tell which ones
        tries = [t for t in tries if keys[t.source] and not keys[t.source] & t.lost] or tries
    best = min(
        tries,
        key=lambda t: (
            len(t.lost) + len(t.new) - len(t.pairs) - 2 * len(new_headers.pairs(t.lost, t.new)),
            t.source,
        ),
    )
    said_of = keys[best.source]
    said = new_headers.pairs(best.lost, best.new)
    learned = said | (
        {h: n for h, n in best.pairs.items() if h not in said and n not in said.values()}
        if new_headers.learn
        else {}
    )
    lacking = {
        h: new_headers.lacking[h] for h in best.lost - set(learned) if h in new_headers.lacking
    }
    unknown = best.new - set(learned.values())
    left_out = tuple(sorted(h for h in unknown if h in new_headers.leave_out))
    put = {h: new_headers.put[h] for h in unknown if h in new_headers.put}
    unsaid = best.lost - set(learned) - set(lacking) - said_of if only_known else set()
    lost = best.lost - set(learned) - set(lacking) - unsaid
    if lost or unknown - set(left_out) - set(put):
        new = unknown - set(left_out) - set(put)
        known = best.headers - best.new
        order = order_of(best.source) if order_of else ()
        needed = _needed(layout, best.source, lost)
        raise unknown_headers(
            best.source, found, lost, new, best.pairs, known, alike, order, needed
        )
    opened, spec, letters = _same_letters(best, layout.sources[best.source].encoding)
    why = "; ".join(
        [f"its headers are those of {best.source}{letters}"]
        + [f'"{new}" is learned for "{h}"' for h, new in learned.items()]
        + [f'"{h}" is left out' for h in left_out]
        + [f'"{h}" goes to {t}' for h, t in put.items()]
        + [f'"{h}" is missing: {v or "blank"} in all its rows' for h, v in lacking.items()]
        + ([f"it has no {', '.join(sorted(unsaid))}"] if unsaid else [])
    )
    spec = spec.model_copy(
        update={
            "also": {**spec.also, **{h: (*spec.also.get(h, ()), new) for h, new in learned.items()}}
        }
    )
    return Routed(
        best.source,
        opened,
        spec,
        _told(layout.sources[best.source], found),
        why,
        learned,
        left_out,
        put,
        lacking,
        tuple(sorted(unsaid)),
    )


def fitting_source(layout: Layout, found: Source) -> str:
    """The source of a layout that takes a file, or one of several of one shape, as it is; "" for
    none."""
    for part in parts_of(found):
        for name in layout.sources:
            tried = _held_against(layout, name, part)
            if not tried.lost and not tried.new:
                return name
    return ""


def _needed(layout: Layout, source: str, headers: Collection[str]) -> dict[str, str]:
    """Which of some headers must be there, and how: "a value", where they may be filled, or
    "the column", where records are known by them or links need them."""
    out: dict[str, str] = {}
    for header in headers:
        found = layout.column_of(source, header)
        spec = layout.tables[found[0]] if found else None
        columns = spec.columns if found and spec and spec.source == source else {}
        name = next((n for n, c in columns.items() if found and c is found[1]), "")
        if spec is None or not name or name in spec.known_by:
            out[header] = "the column"
        elif name not in spec.optional:
            out[header] = "a value"
    return out


def _same_letters(tried: _Try, before: str) -> tuple[Source, SourceSpec, str]:
    """A file whose encoding was told by its letters, read in that of the files `before` it where
    the letters allow it; how it is read, and what is to be told of that.

    Raises SourceError where they do not, or where they are doubtful.
    """
    found, spec, text = tried.opened, tried.spec, unwrapped(tried.opened)
    guess = text.dialect.guess if isinstance(text, DelimitedSource) else None
    if not isinstance(text, DelimitedSource) or guess is None:
        return found, spec, ""
    if not guess.cells:  # its bytes say it
        differs = guess.encoding != before and not guess.is_plain
        told = f"; it is read as {guess.encoding}, files before it as {before}" if differs else ""
        return found, spec, told
    as_before = spelled(guess.cells, before)
    if as_before is not None and (
        before in (guess.encoding, *(o.encoding for o in guess.others))
        or as_before == spelled(guess.cells, guess.encoding)
    ):
        written = replace(text.dialect, encoding=before, guess=None)
        again: Source = DelimitedSource(text.file, written, text.name)
        if found is not text:
            again = with_changes(found, part=again)
        return again, spec.model_copy(update={"encoding": before}), ""
    if as_before is None and not guess.others:
        return found, spec, f"; it is read as {guess.encoding}, files before it as {before}"
    here = spelled(guess.cells, guess.encoding) or ()
    if as_before is not None:
        differing = [i for i, (a, b) in enumerate(zip(here, as_before, strict=True)) if a != b]
        other = Spelling(before, tuple(as_before[i] for i in differing[:3]))
        examples = tuple(here[i] for i in differing[:3])
    else:
        other, examples = guess.others[0], guess.examples
    raise SourceError(
        "the encoding of this file is not certain",
        code="source.encoding",
        origin=found.origin(),
        why=f"in {guess.encoding} it reads {quoted(examples)}; in {other.encoding}"
        + (" (as the files before)" if other.encoding == before else "")
        + f" {quoted(other.examples)}",
        next=f"use the right one: --encoding {guess.encoding}, or --encoding {other.encoding}",
    )


def _held_against(layout: Layout, name: str, found: Source) -> _Try:
    spec = layout.sources[name]
    needed, possible = expected_headers(layout, name)
    as_layout = spec.header_row == 0 and not needed <= set(found.headers)
    as_said, opened = _described(spec, found, as_layout), found
    if as_layout or spec.cells:  # only the layout knows where the rows begin
        with contextlib.suppress(KerfmarkError):
            opened = open_source(name, as_said, Path())
    headers = set(described_as(opened, name, rules_of(as_said), spec.also).headers) - {spec.telling}
    if needed - headers and isinstance(
        unwrapped(found), DelimitedSource
    ):  # few rows may not show it
        written = {k: getattr(spec, k) for k in WRITTEN if k not in WHERE}
        as_before = as_said.model_copy(update=written)
        with contextlib.suppress(KerfmarkError):
            again = open_source(name, as_before, Path())
            if needed <= set(again.headers):
                opened, as_said, headers = again, as_before, set(again.headers) - {spec.telling}
    lost, new = needed - headers, headers - possible
    return _Try(name, opened, as_said, headers, lost, new, _alike(lost, new) if lost else {})


def _alike(lost: Collection[str], new: Collection[str]) -> dict[str, str]:
    """Headers that are lacking, each with the new one that it may be spelled like now."""
    from rapidfuzz import fuzz

    pairs: dict[str, str] = {}
    scores = sorted(
        ((fuzz.ratio(snake(a), snake(b)), a, b) for a in lost for b in new),
        key=lambda s: (-s[0], s[1], s[2]),
    )
    for score, a, b in scores:
        if score >= ALIKE and a not in pairs and b not in pairs.values():
            pairs[a] = b
    return pairs


def _described(spec: SourceSpec, found: Source, as_layout: bool) -> SourceSpec:
    """How a file is read as a source that a layout describes: where it is, it says itself; how it
    is written, it shows, unless it is read `as_layout` says."""
    said = found.settings()
    where = {k: said.get(k, "") for k in ("sheet", "member", "table", "query")}
    where |= {"cells": said.get("cells", spec.cells), "block": said.get("block", 0)}
    rules = {k: v or getattr(spec, k) for k, v in found.rules._asdict().items()}
    written = (
        {}
        if as_layout
        else {k: said.get(k, SourceSpec.model_fields[k].default) for k in (*WRITTEN, "columns")}
    )
    return spec.model_copy(
        update={"file": found.location, "parts": (), "telling": "", **written, **where, **rules}
    )


def _told(spec: SourceSpec, found: Source) -> str:
    """The value of the telling column for a file: the part of its name in which the names of the
    others differ."""
    if not spec.telling:
        return ""
    stem = Path(found.location).stem
    for part in spec.parts:
        other = Path(part.file).stem
        if part.told in other:
            before, after = other.split(part.told, 1)
            if (
                stem.startswith(before)
                and stem.endswith(after)
                and len(stem) > len(before) + len(after)
            ):
                return stem[len(before) : len(stem) - len(after)]
    if "*" in spec.file:
        before, _, after = Path(spec.file).name.partition("*")
        name = Path(found.location).name
        if name.startswith(before) and name.endswith(after):
            return name[len(before) : len(name) - len(after)]
    return str(found.settings().get("sheet") or stem)


def with_files(layout: Layout, routed: Sequence[Routed]) -> tuple[Layout, set[str]]:
    """The layout with these files as its sources, and the sources that have any."""
    sources: dict[str, SourceSpec] = dict(layout.sources)
    fed: dict[str, list[Routed]] = {}
    for one in routed:
        fed.setdefault(one.source, []).append(one)
    for name, mine in fed.items():
        old, first = layout.sources[name], mine[0].spec
        if len(mine) == 1 and not old.telling:
            sources[name] = first
            continue
        everywhere = tuple(s for s in first.skip_rows if all(s in r.spec.skip_rows for r in mine))
        parts = tuple(
            PartSpec(
                told=r.told or Path(r.place).stem,
                file=r.place,
                skip_rows=tuple(s for s in r.spec.skip_rows if s not in everywhere),
                **{k: getattr(r.spec, k) for k in WHERE},
                **{k: v for k in HOW if (v := getattr(r.spec, k)) != getattr(first, k)},
            )
            for r in mine
        )
        sources[name] = first.model_copy(
            update={"file": "", "parts": parts, "telling": old.telling, "skip_rows": everywhere}
        )
    return layout.model_copy(update={"sources": sources}), set(fed)
