"""First stage of merging: which records the database has already, and under which numbers all will
be known."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
import pyarrow as pa

from kerfmark.normalize.incoming import Incoming
from kerfmark.normalize.lookup import MOST_COMPARED
from kerfmark.normalize.nearest import nearest_of, other_name
from kerfmark.normalize.table_rows import Linked, TableRows
from kerfmark.profile.convert import to_typed
from kerfmark.profile.types import canonical


@dataclass(frozen=True)
class Matched:
    """By table: the number that each record has, or will have, in the database (`rows`; -1 for
    none), whether it is new, and the columns of its key there. `incoming` has the tables with those
    links blank that refer to no record and may."""

    incoming: Incoming
    rows: Mapping[str, np.ndarray]
    is_new: Mapping[str, np.ndarray]
    keys: Mapping[str, Mapping[str, pa.Array]]

    def arrays(self, name: str, columns: Sequence[str], records: np.ndarray) -> dict[str, pa.Array]:
        """Columns and links of some records of a table, as they are in the database."""
        return _arrays(self.incoming, self.keys, name, columns, records)

    def named_by(self, name: str, records: np.ndarray) -> list[pa.Array] | int:
        """The natural keys of some records as they would be in the database, where they are
        known by any; else how many they are."""
        columns = self.incoming.tables[name].spec.known_by
        if not columns or not len(records):
            return len(records)
        return list(self.arrays(name, columns, records).values())


def match(incoming: Incoming) -> Matched:
    """Finds the records that the database has; what refers to no record is added to
    the problems of its source."""
    done = Matched(incoming, {}, {}, {})
    for name in incoming.order():
        done = _with_table(done, name)
    return done


def _arrays(
    incoming: Incoming,
    keys: Mapping[str, Mapping[str, pa.Array]],
    name: str,
    columns: Sequence[str],
    records: np.ndarray,
) -> dict[str, pa.Array]:
    table = incoming.tables[name]
    out: dict[str, pa.Array] = {}
    for c in columns:
        codes = table.codes(c)[records]
        at = pa.array(codes, mask=codes < 0)
        if c in table.spec.links:
            parent = keys.get(table.spec.links[c].to)
            for own, key in incoming.layout.link_columns(name, c) if parent else ():
                out[own] = parent[key].take(at) if parent else pa.nulls(len(codes), pa.int64())
        else:
            out[c] = incoming.to_engine(table.typed(c).values).take(at)
    return out


def _with_table(done: Matched, name: str) -> Matched:
    """The same with one table more, whose parents are there."""
    incoming = done.incoming
    table, spec, layout = incoming.tables[name], incoming.tables[name].spec, incoming.layout
    rows = np.full(table.rows, -1, np.int64)
    natural = () if isinstance(spec.key, str) else spec.key
    again = spec.each_row and incoming.policy(name) == "add" and spec.source in incoming.feeds
    for columns in (
        dict.fromkeys([*spec.unique_sets, *([natural] if natural else [])]) if not again else ()
    ):
        filled = incoming.filled(table, columns)
        if columns != spec.known_by and spec.known_by:
            filled &= ~incoming.filled(
                table, spec.known_by
            )  # another key counts only where the first one is not said
        wanted = np.flatnonzero(filled & (rows < 0))
        if len(wanted):
            rows[wanted] = incoming.existing.match(name, done.arrays(name, columns, wanted))
    done = replace(done, incoming=_without_unknown(incoming, name, rows))
    if incoming.makes_none(name) and spec.source in incoming.feeds:
        said = ~incoming.only_named(name)
        for _, _, codes in incoming.links_to(name):  # these are refused where they are named
            said[codes[codes >= 0]] = False
        _refuse_new(incoming, name, np.flatnonzero((rows < 0) & said))
    new = (rows < 0) & incoming.creatable(name)
    rows[new] = incoming.free(name, done.named_by(name, np.flatnonzero(new)))
    if layout.has_generated_key(name):
        key = {layout.key_of(name): pa.array(rows, mask=rows < 0)}
    else:
        key = done.arrays(name, natural, np.arange(table.rows))
        if computed := table.spec.computed_key:
            key |= _keys_there(incoming, name, computed, rows, new, key)
    return Matched(
        done.incoming,
        {**done.rows, name: rows},
        {**done.is_new, name: new},
        {**done.keys, name: key},
    )


def _keys_there(
    incoming: Incoming,
    name: str,
    columns: Sequence[str],
    rows: np.ndarray,
    new: np.ndarray,
    key: Mapping[str, pa.Array],
) -> dict[str, pa.Array]:
    """Columns of the keys of records that are computed for new ones: those that the database has
    keep what it has."""
    out, known = {}, np.flatnonzero((rows >= 0) & ~new)
    for column in columns:
        texts = incoming.existing.texts(name, column, rows[known].tolist())
        values = key[column].to_pylist()
        for record in known.tolist():
            values[record] = texts[int(rows[record])]
        out[column] = pa.array(values, key[column].type)
    return out


def _without_unknown(incoming: Incoming, name: str, rows: np.ndarray) -> Incoming:
    """The same with those links to a table blank that refer to no record and may be blank; where
    they may not, that is a problem."""
    creatable, tables = incoming.creatable(name), dict(incoming.tables)
    for other, link, codes in incoming.links_to(name):
        lost = np.flatnonzero(
            (codes >= 0) & (np.append(rows, 0)[codes] < 0) & ~np.append(creatable, True)[codes]
        )
        if not len(lost):
            continue
        table = tables[other]
        if table.spec.links[link].missing == "blank":
            changed = codes.copy()
            changed[lost] = -1
            tables[other] = replace(table, columns={**table.columns, link: Linked(changed)})
        else:
            _refuse_unknown(incoming, table, link, table.source_rows()[lost])
    return replace(incoming, tables=tables)


def _refuse_new(incoming: Incoming, name: str, records: np.ndarray) -> None:
    """Adds the problem that rows say records of a table which are not there, where none may be
    made."""
    if not len(records):
        return
    feed, rows, _ = incoming.rows_of(name, records)
    headers, spec = tuple(feed.layout.key_headers(name)), incoming.tables[name].spec
    column = spec.known_by[0] if len(spec.known_by) == 1 else ""
    known: list[str] = []

    def near(row: int) -> str:
        if column not in spec.columns or len(headers) != 1:
            return ""
        return _nearest_there(incoming, name, column, feed.text(headers[0], row), known)

    def reason(row: int) -> str:
        said, value = " + ".join(feed.text(h, row) for h in headers), near(row)
        also = f'; the nearest is "{value}"{_also_called(incoming, name, column, value)}'
        return f"{said} is not a record of {name} in the database{also if value else ''}"

    feed.problem(
        "unknown",
        headers,
        rows,
        reason,
        f"correct {' + '.join(headers)}\nadd the record first"
        + (f"\ntake missing out of tables > {name}: it is made then" if spec.missing else ""),
        name,
        suggested=near,
    )


def _nearest_there(incoming: Incoming, table: str, column: str, text: str, known: list[str]) -> str:
    """The value of a column of the database that is nearest to a text in quotes; "" where none is
    near. `known` keeps the values for the next time."""
    if not known:
        known.extend(incoming.existing.sample_texts(table, column, MOST_COMPARED))
    return nearest_of(known, text.strip('"'))


def _refuse_unknown(incoming: Incoming, table: TableRows, link: str, rows: np.ndarray) -> None:
    """Adds the problem that rows refer to a record that does not exist, and must not be made for
    them."""
    target, feed = table.spec.links[link], incoming.feeds[table.spec.source]
    [by, *more], header = target.by, next(iter(target.by.values()))
    known: list[str] = []

    def near(row: int) -> str:
        if more:
            return ""
        return _nearest_there(incoming, target.to, by, feed.text(header, row), known)

    def reason(row: int) -> str:
        value = near(row)
        return f"{feed.text(header, row)} was not found in {target.to}" + (
            f'; the nearest is "{value}"{_also_called(incoming, target.to, by, value)}'
            if value
            else ""
        )

    feed.problem(
        "unknown",
        tuple(target.by.values()),
        rows[rows >= 0],
        reason,
        "correct the cells\n"
        + (
            f"add the record first\ntake missing out of tables > {target.to}: it is made then"
            if incoming.tables[target.to].spec.missing
            else f'set missing = "create" or "blank" in tables > {table.name} > links > {link}'
        ),
        target.to,
        suggested=near,
    )


def _also_called(incoming: Incoming, table: str, column: str, value: str) -> str:
    """What else a record of the database is known by, in parentheses: the name of a code, the code
    of a name; "" for nothing."""
    spec = incoming.layout.tables[table]
    if not (other := other_name(spec, column)):
        return ""
    typed = to_typed(pa.array([value]), canonical(spec.columns[column].of_type))
    [row] = incoming.existing.match(table, {column: incoming.to_engine(typed)}).tolist()
    text = incoming.existing.texts(table, other, [row]).get(row) if row >= 0 else ""
    return f" ({text})" if text else ""
