"""Splits encoded sources into the tables of a layout.

Promises: 1. every column of a source is in a table or listed as left out; 2. a table's record says
for each of its rows what the row says, or the row is refused or set aside, with the reason; 3.
generated keys count from 1 in the order in which records first appear, or in the order that the
layout wants; 4. nothing is written here.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from functools import partial

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.errors import DataRefused, Origin, counted
from kerfmark.layout.derive import settled
from kerfmark.layout.model import Layout
from kerfmark.normalize import sentences
from kerfmark.normalize.anomalies import MOST_COMPARED, find_anomalies, near_existing
from kerfmark.normalize.incoming import Incoming
from kerfmark.normalize.keys import put_in_order, with_keys
from kerfmark.normalize.lookup import Found, circular
from kerfmark.normalize.merge import merge
from kerfmark.normalize.merged import Existing, Merged, Numbers
from kerfmark.normalize.prepare import Prepared
from kerfmark.normalize.problems import (
    EnoughProblems,
    Problem,
    Problems,
    advice,
    lines,
    one_cause_each,
)
from kerfmark.normalize.rejoin import check_rejoined
from kerfmark.normalize.table_rows import SHOWN, Column, Counted, Linked, TableRows, Typed
from kerfmark.normalize.tables import SourceTables
from kerfmark.plan.compile import compiled
from kerfmark.profile.encode import EncodedSource
from kerfmark.read.source import CORRECT_RAGGED, RaggedRow


@dataclass(frozen=True)
class LinkCount:
    """What became of a link that is found by value: how many records were resolved, how many of the
    parent's were created for it, and how many were left blank though they say something."""

    table: str
    link: str
    to: str
    resolved: int
    created: int
    blank: int


@dataclass(frozen=True)
class SetAside:
    """A row that could not be placed: its source, its number there as read (-1: it could not be cut
    into its columns, and is `ragged`), and why and what to do for each problem; `against`: the row
    of the database (table and number) that it was held against, where that is the reason;
    `suggested`: by header, what its cells may have been meant to say."""

    source: str
    record: int
    reasons: tuple[tuple[str, str], ...]
    ragged: RaggedRow | None = None
    against: tuple[str, int] = ("", 0)
    suggested: Mapping[str, str] = field(default_factory=dict)


@dataclass
class Split:
    """The tables of a layout, parents before children, and everything that happened on the way.

    `tables` is empty when there are problems. `left_out` counts, per source, the rows that the
    layout wants no record of (as read: `left_out_records`); `changed` the cells, per source and
    header, in which the layout wants something else than the file says.
    """

    layout: Layout
    tables: list[TableRows] = field(default_factory=list)
    problems: Problems = field(default_factory=Problems)
    links: list[LinkCount] = field(default_factory=list)
    set_aside: list[SetAside] = field(default_factory=list)
    left_out: dict[str, int] = field(default_factory=dict)
    left_out_records: dict[str, np.ndarray] = field(default_factory=dict)
    changed: dict[tuple[str, str], int] = field(default_factory=dict)
    complete: bool = True
    merged: Merged = field(default_factory=Merged)


@dataclass(frozen=True)
class MergeTarget:
    """The database that new rows are to meet: how it is asked, the numbers of new rows, how its
    engine stores values, what becomes of records that it has already, and the headers, by source,
    that the files need not have and do not. With `only_known` no record is made."""

    existing: Existing
    free: Numbers
    to_engine: Callable[[pa.Array], pa.Array]
    known: str = ""
    lacking: Mapping[str, set[str]] = field(default_factory=dict)
    only_known: bool = False


def refused(
    problems: Problems, sources: Mapping[str, EncodedSource], deciding: str | None = None
) -> DataRefused:
    """The error for problems that nothing was done about; `deciding` is the command that takes
    decisions ("": the same one again, None: there is none)."""
    return refusal(
        problems,
        lambda source, record, header: sources[source].found.origin(record, header),
        lambda source, header, record: sources[source].text(header, record),
        deciding,
    )


def refusal(
    problems: Problems,
    origin: Callable[[str, int | None, str], Origin],
    text: Callable[[str, str, int], str],
    deciding: str | None,
) -> DataRefused:
    """The same, where the `origin` and the `text` of a cell are asked for elsewhere (by source,
    record and header; by source, header and record)."""
    found = [p for p in problems.worst_first() if p.severity == "broken"]
    shown, told = lines(found, origin, SHOWN)
    remedies = (r for p in found for r in advice(p, partial(text, p.source), deciding))
    return DataRefused(
        f"{counted(problems.total, 'problem')} between the data and the layout",
        code="data.misfit",
        more=shown,
        total=len(shown) + max(0, problems.total - told),
        next="\n".join(dict.fromkeys(remedies)),
    )


def rehearse(
    layout: Layout,
    sources: Mapping[str, EncodedSource],
    *,
    set_aside: bool = False,
    enough: int = 0,
    odd: bool = False,
    target: MergeTarget | None = None,
    codec: str = "",
) -> Split:
    """The rows of all tables, and all problems, or at least `enough` of them (0: all); `odd` asks
    for what is odd as well. `sources` maps the layout's names to the encoded sources, whose headers
    `layout.derive` has found to be right.

    With `set_aside`, rows with problems are taken out until what is left has none: a row that led
    to one of these may have to go too. A problem that is not the fault of rows refuses all. With a
    `target`, the rows are merged with those of a database; sources that are not there are not fed.
    `codec` is the encoding of the database ("": it holds any character).
    """
    whole = settled(layout, {n: e.source.headers for n, e in sources.items()})
    gone: dict[str, dict[int, list[tuple[str, str]]]] = {n: {} for n in sources}
    held: dict[tuple[str, int], tuple[str, int]] = {}
    better: dict[tuple[str, int], dict[str, str]] = {}
    while True:
        out = _once(
            whole,
            sources,
            {n: np.array(sorted(g), np.int64) for n, g in gone.items()},
            enough,
            odd,
            target,
        )
        for problem in unreadable(sources, ragged=not set_aside) if out.complete else ():
            out.problems.add(problem)
        for problem in unencodable(whole, sources, codec, gone) if codec else ():
            out.problems.add(problem)
        if not set_aside:
            out.problems.found = one_cause_each(
                out.problems.found, lambda s, h, r: sources[s].text(h, r)
            )
        if (
            not set_aside
            or not out.problems.total
            or any(p.of_all or not len(p.records) for p in out.problems.found)
        ):
            break
        found = [q for p in out.problems.found for q in of_refused(whole, sources, gone, p)]
        _take_out(found, gone, held, better)
        if all(len(gone[n]) >= e.rows for n, e in sources.items()):
            break
    if set_aside:
        out.set_aside = [
            SetAside(
                n,
                r,
                tuple(dict.fromkeys(why)),
                against=held.get((n, r), ("", 0)),
                suggested=better.get((n, r), {}),
            )
            for n, g in gone.items()
            for r, why in sorted(g.items())
        ]
        out.set_aside += [
            SetAside(n, -1, ((r.told(len(e.source.headers)), CORRECT_RAGGED),), r)
            for n, e in sources.items()
            for r in e.found.ragged
        ]
    return out


def unreadable(sources: Mapping[str, EncodedSource], *, ragged: bool) -> Iterator[Problem]:
    """The rows of sources that could not be read right: those with too few or too many fields, if
    asked for, and others."""
    none = np.empty(0, np.int64)
    for name, encoded in sources.items():
        if ragged and encoded.found.ragged:
            width = len(encoded.source.headers)
            places = tuple((Origin(r.file, row=r.row), r.told(width)) for r in encoded.found.ragged)
            yield Problem("unreadable", name, (), none, "", CORRECT_RAGGED, places=places)
        for remark in encoded.found.remarks:
            if remark.severity == "broken":
                at = encoded.source.origin()
                yield Problem(
                    "unreadable",
                    name,
                    (remark.header,) if remark.header else (),
                    none,
                    "",
                    remark.next,
                    places=tuple(
                        (Origin(at.file, at.sheet, row, remark.header), remark.what)
                        for row in remark.rows
                    ),
                )


def _letter(text: str, codec: str) -> str:
    """What is wrong with a text, in words that the database can keep."""
    wrong = next(c for c in text if not c.encode(codec, "ignore"))
    said = text.encode(codec, "replace").decode(codec)
    return f'"{said}" has the character U+{ord(wrong):04X}, which {codec} does not have'


def unencodable(
    layout: Layout,
    sources: Mapping[str, EncodedSource],
    codec: str,
    gone: Mapping[str, Mapping[int, object]],
) -> Iterator[Problem]:
    """The rows, but those that are `gone`, with characters that an encoding does not have."""

    def fits(text: str) -> bool:
        try:
            text.encode(codec)
        except UnicodeEncodeError:
            return False
        return True

    for name, encoded in sources.items():
        for column in encoded.columns:
            if column.header in layout.sources[name].left_out:
                continue
            values = column.values.to_pylist()
            if fits("".join(values)):
                continue
            wrong = np.array([not fits(v) for v in values], bool)
            rows = np.flatnonzero(np.append(wrong, False)[column.codes])
            records = [r for r in map(encoded.record, rows.tolist()) if r not in gone[name]]
            if records:
                yield Problem(
                    "letters",
                    name,
                    (column.header,),
                    np.array(records, np.int64),
                    lambda record, e=encoded, h=column.header: _letter(  # type: ignore[misc]
                        e.text(h, record), codec
                    ),
                    "correct the cells\nname a database whose encoding is UTF-8",
                )


def of_refused(
    layout: Layout,
    sources: Mapping[str, EncodedSource],
    gone: Mapping[str, Mapping[int, object]],
    problem: Problem,
) -> Iterator[Problem]:
    """A problem with values that were not found, apart for those that are of a record whose own row
    is refused (of the source, rows that are `gone`): these are told so."""
    parent = layout.tables.get(problem.table)
    feed = sources.get(parent.source) if parent else None
    headers = headers_of_parent(layout, problem.source, problem.headers, problem.table)
    if problem.kind != "unknown" or parent is None or feed is None or not headers:
        yield problem
        return
    refused = {
        tuple(feed.text(h, record) for h in headers): record for record in gone[parent.source]
    }
    mine = sources[problem.source]
    owner = {
        record: refused[texts]
        for record in problem.records.tolist()
        if (texts := tuple(mine.text(h, record) for h in problem.headers)) in refused
    }
    others = np.array([r for r in problem.records.tolist() if r not in owner], np.int64)
    if len(others):
        yield replace(problem, records=others)
    if owner:
        yield replace(
            problem,
            records=np.array([*owner], np.int64),
            reason=lambda record: sentences.parent_is_refused(
                " ".join(mine.text(h, record) for h in problem.headers),
                problem.table,
                feed.found.origin(owner[record]),
            ),
            remedy=sentences.CORRECT_PARENT,
            suggested=None,
        )


def headers_of_parent(
    layout: Layout, source: str, headers: tuple[str, ...], table: str
) -> list[str]:
    """The headers under which the source of a table has what a link looks for that a source has
    under some headers; none where it is not there."""
    parent = layout.tables.get(table)
    by = next(
        (
            link.by
            for t in layout.tables.values()
            for link in t.links.values()
            if t.source == source and link.to == table and tuple(link.by.values()) == headers
        ),
        {},
    )
    found = [parent.columns[c].header if parent and c in parent.columns else "" for c in by]
    return found if all(found) else []


def _take_out(
    problems: list[Problem],
    gone: dict[str, dict[int, list[tuple[str, str]]]],
    held: dict[tuple[str, int], tuple[str, int]],
    better: dict[tuple[str, int], dict[str, str]],
) -> None:
    for p in problems:
        for record in p.records.tolist():
            if record in p.against:
                held.setdefault((p.source, record), (p.table, p.against[record]))
            if found := p.suggestion(record):
                better.setdefault((p.source, record), {}).setdefault(*found)
            column = f'"{p.column}" ' if p.headers else ""
            gone[p.source].setdefault(record, []).append((column + p.why(record), p.remedy))


def _once(
    layout: Layout,
    sources: Mapping[str, EncodedSource],
    without: Mapping[str, np.ndarray],
    enough: int,
    odd: bool,
    target: MergeTarget | None,
) -> Split:
    out = Split(layout, problems=Problems(enough))
    feeds = {
        n: SourceTables(layout, Prepared(layout, n, e, without[n]), out.problems)
        for n, e in sources.items()
    }
    out.left_out = {n: f.ready.left_out for n, f in feeds.items() if f.ready.left_out}
    out.left_out_records = {n: f.ready.left_out_records for n, f in feeds.items()}
    tables: dict[str, TableRows] = {}
    try:
        found = _fill(layout, feeds, tables, out, target is not None)
        if target is not None:
            if not out.problems.total:
                ready = {n: f.ready for n, f in feeds.items()}
                check_rejoined(layout, ready, tables, adding=True)
            out.merged = merge(
                Incoming(
                    layout,
                    feeds,
                    tables,
                    found,
                    target.existing,
                    target.free,
                    target.to_engine,
                    target.known,
                    target.lacking,
                    target.only_known,
                )
            )
            told = {(p.source, r) for p in out.problems.found for r in p.records.tolist()}
            for problem in near_existing(
                feeds,
                tables,
                out.merged.is_new,
                lambda t, c: target.existing.sample_texts(t, c, MOST_COMPARED),
            ):
                rest = np.array(
                    [r for r in problem.records.tolist() if (problem.source, r) not in told],
                    np.int64,
                )
                if len(rest):
                    out.problems.add(replace(problem, records=rest))
    except EnoughProblems:
        out.complete = False
        return out
    _counted(layout, feeds, tables, out)
    if odd:
        for problem in find_anomalies(layout, feeds, tables, out.problems.found):
            out.problems.add(problem)
    for name, feed in feeds.items():
        for header in feed.ready.encoded.source.headers:
            column_at = layout.column_of(name, header)
            if column_at and (n := feed.ready.changed(header, column_at[1])):
                out.changed[name, header] = n
    if not out.problems.total and target is None:
        put_in_order(layout, tables)
        check_rejoined(layout, {n: f.ready for n, f in feeds.items()}, tables)
        with_keys(layout, tables)
    out.tables = [tables[name] for name in layout.parents_first() if name in tables]
    return out


def _counted(
    layout: Layout, feeds: Mapping[str, SourceTables], tables: Mapping[str, TableRows], out: Split
) -> None:
    """Keys that a source says itself must be those that are given out; they are then no column
    beside the key."""
    for name, table in tables.items():
        column = layout.counted(name)
        if not column or table.spec.source not in feeds:
            continue
        said, feed = table.typed(column), feeds[table.spec.source]
        new = out.merged.new.get(name)
        numbers = said.values.take(pa.array(said.codes, mask=said.codes < 0))
        if new is None:
            wanted = pa.array(np.arange(1, table.rows + 1))
            wrong, rows = pc.fill_null(pc.not_equal(numbers, wanted), True), table.source_rows()
        else:
            wanted = pa.array(out.merged.numbers[name])
            wrong, rows = (
                pc.fill_null(pc.not_equal(new.column(column).combine_chunks(), wanted), True),
                out.merged.said_in[name][1],
            )
        at = np.flatnonzero(wrong.to_numpy(zero_copy_only=False))
        if len(at):
            feed.problem(
                "not allowed",
                (table.spec.columns[column].header,),
                rows[at[:1]],
                sentences.not_next(wanted[int(at[0])]),
                sentences.count_on(column, name),
                name,
                of_all=True,
            )
        elif new is None:
            table.columns[column] = Counted()


def _fill(
    layout: Layout,
    feeds: Mapping[str, SourceTables],
    tables: dict[str, TableRows],
    out: Split,
    adding: bool,
) -> dict[tuple[str, str], Found]:
    """Makes all tables, links them, and checks them; when `adding`, what is not known here may be
    known to the database."""
    plan = compiled(layout)
    tables |= {n: _empty(layout, n) for n, t in layout.tables.items() if t.source not in feeds}
    for name, step in plan.tables.items():
        if step.source in feeds:
            feed = feeds[step.source]
            tables[name] = feed.part(step, tables[step.owner]) if step.owner else feed.table(step)
    found: dict[tuple[str, str], Found] = {}
    for lookup in plan.lookups:  # as its own source says it, before others add to it
        name, link, target = lookup.table, lookup.link, lookup.spec
        if layout.tables[name].source not in feeds:
            continue
        feed = feeds[layout.tables[name].source]
        target = target.model_copy(update={"missing": "create"}) if adding else target
        got = found[name, link] = feed.look_up(tables[name], link, target, tables)
        created = len(got.created)
        lost = len(got.unknown) if target.missing == "blank" else 0
        out.links.append(
            LinkCount(name, link, target.to, int(np.count_nonzero(got.record >= 0)), created, lost)
        )
        if target.to == name:
            _circles(feed, tables[name], link, out.problems)
    for name, spec in layout.tables.items():
        for link, target in spec.links.items() if spec.source in feeds else ():
            if target.by and not adding:
                feeds[spec.source].check_created(tables, name, link, found[name, link])
            for path, header in target.repeats.items():
                if not adding or "." not in path:
                    feeds[spec.source].check_repeat(
                        tables, name, link, path, header, found[name, link]
                    )
    for name, spec in layout.tables.items():
        if spec.source in feeds:
            feeds[spec.source].check_filled(tables[name], named=not adding)
    return found


def _empty(layout: Layout, name: str) -> TableRows:
    """A table that no file feeds now; others may name records of it."""
    spec = layout.tables[name]
    none = np.empty(0, np.int32)
    columns: dict[str, Column] = {
        layout.key_of(name): Counted(),
        **{link: Linked(none) for link in spec.links},
    }
    columns |= {n: Typed(pa.array([], c.of_type.arrow), none) for n, c in spec.columns.items()}
    return TableRows(name, spec, 0, columns, np.empty(0, np.int64))


def _circles(feed: SourceTables, table: TableRows, link: str, problems: Problems) -> None:
    """Adds, as odd, the records that lead back to themselves."""
    rows = table.source_rows()[circular(table.codes(link))]
    if len(rows := rows[rows >= 0]):
        ready = feed.ready.encoded
        records = rows if ready.records is None else ready.records[rows]
        header = next(iter(table.spec.links[link].by.values()))
        problems.add(
            Problem(
                "circle",
                feed.name,
                (header,),
                np.sort(records),
                "leads back to the same record in the end",
                "correct the cells, unless it is meant",
                "doubtful",
                table.name,
            )
        )
