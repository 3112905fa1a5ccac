"""What a load that overwrites leaves as it was, and somebody may think is new: records that its
files do not say, derived columns that they say only a part of, and records that nothing refers to
any more."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping

from kerfmark.errors import counted
from kerfmark.layout.model import Layout
from kerfmark.normalize.incoming import derived_from
from kerfmark.normalize.split import Split
from kerfmark.profile.encode import EncodedSource
from kerfmark.read.union import parts_of
from kerfmark.store.interface import Changing
from kerfmark.store.quoting import literal, quote

MOST = 1_000
"""Records that are looked at after the link to them was overwritten."""
Parents = Mapping[str, set[str]]
"""By table, keys (as text) of records that links led to before they were overwritten."""


def parents_left(file: Changing, layout: Layout, done: Split) -> Parents:
    """The records to which links lead that a load is about to overwrite; the first of each."""
    out: dict[str, set[str]] = {}
    for update in done.merged.updates:
        spec = layout.tables.get(update.table)
        link = spec.links.get(update.column) if spec else None
        if link is not None and len(layout.key_columns(link.to)) == 1:
            there = file.texts(update.table, update.column, update.rows[:MOST].tolist())
            out.setdefault(link.to, set()).update(v for v in there.values() if v)
    return out


def left_as_it_was(
    file: Changing,
    layout: Layout,
    done: Split,
    encoded: Mapping[str, EncodedSource],
    before: Parents,
) -> Iterator[str]:
    """What is to be told after a load was written; `before` is what `parents_left` gave."""
    if not done.merged.updates:
        return
    for source, one in encoded.items():
        yield from _unsaid(file, layout, done, source, one)
    for parent, keys in before.items():
        if alone := _referred_to_no_more(file, layout, parent, keys):
            stays = "is referred to by no row any more, and stays"
            stay = "are referred to by no row any more, and stay"
            yield f"{counted(alone, 'record')} of {parent} {stays if alone == 1 else stay}"


def _unsaid(
    file: Changing, layout: Layout, done: Split, source: str, encoded: EncodedSource
) -> Iterator[str]:
    """What files leave as it was that say only some of their columns."""
    there = {h for part in parts_of(encoded.source) for h in part.headers}
    lacking = {*encoded.source.headers} - there - {getattr(encoded.source, "telling", "")}
    if not lacking:
        return
    for name, spec in layout.tables_of(source).items():
        for column, c in spec.columns.items():
            used = derived_from(layout, spec, column) if c.derived else set()
            if used & lacking and used - lacking:
                yield (
                    f"{name}.{column} stays as it was: it is derived from "
                    f"{', '.join(sorted(used))}, and the file has no "
                    f"{', '.join(sorted(used & lacking))}"
                )
    base = layout.base_of(source)
    counts = [c for c in done.merged.counts if c.name == base]
    said = sum(c.added + c.known + c.kept + c.filled + c.overwritten for c in counts)
    rest = int(file.ask(f"SELECT COUNT(*) FROM {quote(base)}")[0][0]) - said
    if rest > 0:
        stays = "is not in what was added, and stays as it was"
        stay = "are not in what was added, and stay as they were"
        yield f"{counted(rest, 'record')} of {base} {stays if rest == 1 else stay}"


def _referred_to_no_more(file: Changing, layout: Layout, parent: str, keys: Collection[str]) -> int:
    """How many of some records, by their keys as text, no row leads to."""
    if not keys:
        return 0
    [key] = layout.key_columns(parent)
    free = [
        f"NOT EXISTS (SELECT 1 FROM {quote(n)} AS c WHERE c.{quote(own)} = p.{quote(key)})"
        for n, t in layout.tables.items()
        for link, target in t.links.items()
        if target.to == parent
        for own, _ in layout.link_columns(n, link)
    ]
    some = ", ".join(literal(k) for k in sorted(keys))
    [(alone,)] = file.ask(
        f"SELECT COUNT(*) FROM {quote(parent)} AS p WHERE {file.text(f'p.{quote(key)}')} IN "
        f"({some}) AND {' AND '.join(free)}"
    )
    return int(alone)
