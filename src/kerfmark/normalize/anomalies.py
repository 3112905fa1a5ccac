"""What is legal but odd: told by a rehearsal, refused by nothing."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.layout.model import Layout
from kerfmark.normalize.lookup import nearest
from kerfmark.normalize.problems import Problem
from kerfmark.normalize.table_rows import TableRows, Typed
from kerfmark.normalize.tables import SourceTables
from kerfmark.profile.codes import distinct, value_counts

NEARLY_ALL = 0.95
"""The share of records that lead somewhere from which it is odd that one does not."""
FAR = 3.0
"""How many times longer than the longest of nearly all a text is to be odd, and 40 characters at
least."""
MOST_COMPARED = 3_000
"""Rare values, and frequent ones, which are compared."""
MOST_RARE, RARER = 9, 5
"""How many cells may have a value that is a typing mistake, and how many times as many must have
the other one."""
NEAR = 88.0
"""How alike two values are (of 100) for one to be a typing mistake of the other."""


def find_anomalies(
    layout: Layout,
    feeds: Mapping[str, SourceTables],
    tables: Mapping[str, TableRows],
    known: Sequence[Problem] = (),
) -> Iterator[Problem]:
    """Everything odd, but for what `known` problems have told of the same cells already."""
    told: dict[tuple[str, tuple[str, ...]], set[int]] = {}
    for p in known:
        told.setdefault((p.source, p.headers), set()).update(p.records.tolist())
    for problem in _all(layout, feeds, tables):
        new = [
            r
            for r in problem.records.tolist()
            if r not in told.get((problem.source, problem.headers), ())
        ]
        if new:
            yield replace(problem, records=np.array(new, np.int64))


def _all(
    layout: Layout, feeds: Mapping[str, SourceTables], tables: Mapping[str, TableRows]
) -> Iterator[Problem]:
    for name, table in tables.items():
        for link, target in table.spec.links.items():
            if target.by and target.missing == "create" and tables[target.to].row_of is not None:
                yield from _for_one(feeds[table.spec.source], table, link, tables[target.to])
        feed = feeds[table.spec.source]
        yield from _without_parent(feed, table)
        yield from _far_wider(feed, table)
        if not table.spec.each_row and not table.spec.part_of and len(table.spec.known_by) == 1:
            yield from _rare(layout, feed, table, name)


def _records(feed: SourceTables, rows: np.ndarray) -> np.ndarray:
    return feed.records(distinct(rows[rows >= 0]))


def _without_parent(feed: SourceTables, table: TableRows) -> Iterator[Problem]:
    for link, target in table.spec.links.items():
        codes = table.codes(link)
        if not table.rows or target.to == table.name:
            continue
        blank = codes < 0
        if 0 < np.count_nonzero(blank) <= (1 - NEARLY_ALL) * table.rows:
            rows = table.source_rows()[np.flatnonzero(blank)]
            header = (
                next(iter(target.by.values()), "")
                or (feed.layout.key_headers(target.to) or [""])[0]
            )
            if len(records := _records(feed, rows)):
                yield Problem(
                    "without",
                    feed.name,
                    (header,),
                    records,
                    f"has no {target.to}, though nearly all others have one",
                    "fill the cells, unless it is meant",
                    "odd",
                    table.name,
                )


def _for_one(
    feed: SourceTables, table: TableRows, link: str, parent: TableRows
) -> Iterator[Problem]:
    """Records that no file has, and that one row only would have made: the row may name another
    one."""
    target, codes = table.spec.links[link], table.codes(link)
    if feed.layout.tables[target.to].known_by and any(
        c.split for c in parent.spec.columns.values()
    ):
        return
    often = value_counts(codes, parent.rows)
    made = (parent.source_rows() < 0) & (often == 1)
    at = np.flatnonzero(np.append(made, False)[codes])
    rows = table.source_rows()[at]
    if not len(rows := rows[rows >= 0]) or len(rows) > MOST_COMPARED:
        return
    [by, *more], header = target.by, next(iter(target.by.values()))
    known = (
        (lambda _: "")
        if more
        else nearest(parent, by, parent.spec.columns[by].of_type, parent.source_rows() >= 0)
    )
    said: dict[int, str] = {}
    for row, record in zip(rows.tolist(), feed.records(rows).tolist(), strict=True):
        text = feed.text(header, row)
        near = known(text.strip('"'))
        said[record] = f"{text} is not among {target.to}" + (
            f'; the nearest is "{near}"' if near else ""
        )
    yield Problem(
        "for one",
        feed.name,
        tuple(target.by.values()),
        np.array(sorted(said)),
        lambda r: said[r],
        f'correct the cells\nleave it; missing = "refuse" in tables > {table.name} > links > '
        f"{link} refuses such rows",
        "doubtful",
        target.to,
    )


def _far_wider(feed: SourceTables, table: TableRows) -> Iterator[Problem]:
    for name, spec in table.spec.columns.items():
        column = table.columns.get(name)
        if (
            not isinstance(column, Typed)
            or not pa.types.is_string(column.values.type)
            or len(column.values) < 20
        ):
            continue
        lengths = pc.utf8_length(column.values).to_numpy(zero_copy_only=False)
        usual = max(float(np.quantile(lengths, 0.99, method="lower")), 40 / FAR)
        wide = np.flatnonzero(lengths > FAR * usual)
        if not len(wide) or not spec.header or spec.split:
            continue
        texts = feed.ready.column(spec.header, spec)
        rows = (
            np.flatnonzero(np.isin(texts.codes, wide))
            if len(texts.values) == len(column.values)
            else np.empty(0, np.int64)
        )
        if len(rows):
            yield Problem(
                "far wider",
                feed.name,
                (spec.header,),
                _records(feed, rows),
                f"has {int(lengths[wide].max()):,} characters; nearly all have at most "
                f"{int(usual)}",
                "look whether two cells ran together",
                "odd",
                table.name,
            )


def _rare(layout: Layout, feed: SourceTables, table: TableRows, name: str) -> Iterator[Problem]:
    """Values that hardly any row has and that are nearly one of many rows: a record would be made
    for a typing mistake."""
    spec = table.spec.columns.get(table.spec.known_by[0])
    column = table.columns.get(table.spec.known_by[0])
    if (
        spec is None
        or not isinstance(column, Typed)
        or not spec.header
        or spec.split
        or not pa.types.is_string(column.values.type)
    ):
        return
    values, codes = feed.ready.cells(spec.header, spec)
    number = value_counts(codes, len(values))
    once, often = np.flatnonzero((number > 0) & (number <= MOST_RARE)), np.flatnonzero(number > 1)
    if not len(once) or not len(often) or len(once) > MOST_COMPARED or len(often) > MOST_COMPARED:
        return
    from rapidfuzz import fuzz, process

    rare, known = values.take(pa.array(once)).to_pylist(), values.take(pa.array(often)).to_pylist()
    near: dict[int, str] = {}
    for at, text in zip(once.tolist(), rare, strict=True):
        others = [None if k == text else k for k in known]
        found = (
            process.extractOne(text, others, scorer=fuzz.ratio, score_cutoff=NEAR)
            if len(text) >= 4 and not any(c.isdigit() for c in text)
            else None
        )  # numbers and codes are alike by nature
        if (
            found
            and number[at] <= max(1, number[often[found[2]]] / RARER)
            and at != often[found[2]]
        ):
            near[at] = found[0]
    if near:
        rows = np.flatnonzero(np.isin(codes, list(near)))
        numbers = feed.ready.encoded.records
        said = {
            int(r if numbers is None else numbers[r]): (
                values[int(codes[r])].as_py(),
                near[int(codes[r])],
            )
            for r in rows
        }
        yield _perhaps_same(
            feed.name, spec.header, table, said, 'is rare, and "{}" is frequent: the same?'
        )


def _perhaps_same(
    source: str, header: str, table: TableRows, said: Mapping[int, tuple[str, str]], why: str
) -> Problem:
    """Rows whose value is nearly another one: by record, both. `why` has a place for the other."""
    return Problem(
        "rare",
        source,
        (header,),
        np.array(sorted(said)),
        lambda record: why.format(said[record][1]),
        "correct the cells in the file",
        "doubtful",
        table.name,
        suggested=lambda record: said[record][1],
    )


MOST_NEW = 500
"""New values that are compared with those of the database."""


def near_existing(
    feeds: Mapping[str, SourceTables],
    tables: Mapping[str, TableRows],
    is_new: Mapping[str, np.ndarray],
    known: Callable[[str, str], Sequence[str]],
) -> Iterator[Problem]:
    """Records that would be new, and whose key is nearly that of one in the database: perhaps they
    are the same. `known` gives values of a column of a table there."""
    for name, table in tables.items():
        spec = (
            table.spec.columns.get(table.spec.known_by[0])
            if len(table.spec.known_by) == 1
            else None
        )
        column = table.columns.get(table.spec.known_by[0]) if spec else None
        feed, new = (
            feeds.get(table.spec.source),
            np.flatnonzero(is_new.get(name, np.zeros(0, bool))),
        )
        if (
            spec is None
            or not isinstance(column, Typed)
            or feed is None
            or table.spec.each_row
            or spec.split
            or not spec.header
            or not 0 < len(new) <= MOST_NEW
            or not pa.types.is_string(column.values.type)
        ):
            continue
        there = known(name, table.spec.known_by[0])
        if not there or len(there) >= MOST_COMPARED:
            continue
        from rapidfuzz import fuzz, process  # only now: most files have nothing to compare

        near: dict[int, tuple[str, str]] = {}
        for record in new.tolist():
            text = (
                column.values[int(column.codes[record])].as_py()
                if column.codes[record] >= 0
                else ""
            )
            found = (
                process.extractOne(text, there, scorer=fuzz.ratio, score_cutoff=NEAR)
                if len(text) >= 4 and not any(c.isdigit() for c in text)
                else None
            )
            if found:
                near[record] = text, found[0]
        codes, _ = feed.identity(name)
        rows = np.flatnonzero(np.isin(codes, list(near)))
        if not len(rows):
            continue
        said = {
            int(r): near[int(codes[row])]
            for r, row in zip(feed.records(rows).tolist(), rows.tolist(), strict=True)
        }
        yield _perhaps_same(
            feed.name, spec.header, table, said, 'is new; the database has "{}": the same?'
        )
