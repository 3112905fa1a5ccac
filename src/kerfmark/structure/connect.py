"""Several sources become one layout: roles of one stock are joined, columns that refer to tables of
other sources become links, and what repeats their records is kept there."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import replace

from kerfmark.layout.model import Layout, TableSpec
from kerfmark.profile.encode import EncodedSource
from kerfmark.structure.header_words import looks_like_key, names_things
from kerfmark.structure.key_values import KeyValues
from kerfmark.structure.links import linked, merged_with_parents
from kerfmark.structure.pair_links import known_by_pair, linked_by_pairs
from kerfmark.structure.propose import Proposal
from kerfmark.structure.references import decided_against, find_references, kept_elsewhere
from kerfmark.structure.roles import headers_alike, join_roles
from kerfmark.structure.steering import Steering
from kerfmark.structure.table_names import (
    names_to_free,
    numbered_roles,
    with_own_keys,
    with_table_names,
)


def connect(
    whole: Proposal,
    encoded: Mapping[str, EncodedSource],
    steering: Steering = Steering(),
    held: Collection[str] = (),
) -> Proposal:
    """The proposals for single sources (`propose.merged`) with their roles joined and their links
    by value, but for those that a person forbids. The tables that are `held` stay as they are:
    others may link to them by what they are known by."""
    layout, roles = join_roles(whole.layout, encoded, steering.apart, (), steering.same_as)
    alike: dict[tuple[str, str], str] = {}
    if roles and len(encoded) > 1:  # where there is a register, each role is found in it
        elsewhere = kept_elsewhere(whole.layout, encoded, steering)
        known = [r for r in roles if {r.table, r.other} & elsewhere]
        if known:
            alike = headers_alike(whole.layout, known)
            layout, roles = join_roles(
                whole.layout, encoded, steering.apart, elsewhere, steering.same_as
            )
    keys = KeyValues(layout, encoded)
    found = [
        r
        for r in find_references(layout, keys, steering, alike)
        if r.table not in held
        and (r.parent not in held or (r.key,) in layout.tables[r.parent].unique_sets)
    ]
    against = decided_against(layout, found, keys, held)
    tables = dict(layout.tables)
    for reference in found:
        tables = linked(tables, reference)
    tables, gone = merged_with_parents(
        tables, Layout(kerfmark=layout.kerfmark, sources=layout.sources, tables=tables), keys
    )
    tables = {n: known_by_pair(t, keys, steering.not_unique) for n, t in tables.items()}
    tables |= {n: layout.tables[n] for n in held}
    tables, pairs, instead = linked_by_pairs(tables, keys)
    tables |= {n: layout.tables[n] for n in held}
    found = [*(r for r in found if (r.table, r.parent) not in instead), *pairs]

    done = Layout(kerfmark=layout.kerfmark, sources=layout.sources, tables=tables)
    names = names_to_free(done, gone)
    names |= numbered_roles([(r.table, r.other) for r in roles], {*tables, *names.values()})
    # what is told of a table that only repeats another one is told of the rows that it was made of
    home = {n: layout.base_of(layout.tables[n].source) for n in gone}
    found = [
        replace(r, table=home.get(r.table, r.table))
        for r in found
        if r.table not in gone
        or any(lk.to == r.parent for lk in tables[home[r.table]].links.values())
    ]

    def new(name: str) -> str:
        return names.get(name, name)

    def place(key: str) -> str:
        kind, name, *rest = key.split(".")
        return ".".join((kind, new(name) if kind == "tables" else name, *rest))

    references = [replace(r, table=new(r.table), parent=new(r.parent)) for r in found]
    joined = {r.table for r in roles}
    comments = {
        place(k): v
        for k, v in whole.comments.items()
        if not any(f"{k}.".startswith(f"tables.{n}.") for n in {*joined, *gone})
    }
    for r in references:
        about = f"tables.{r.table}"
        comments[about] = [*comments.get(about, []), f"links to {r.parent}: {r}"]
    notes = [(new(what), told) for what, told in whole.notes]
    notes += [(new(r.table), str(replace(r, other=new(r.other)))) for r in roles]
    notes += [
        (
            new(parent),
            f"{layout.tables[old].source} repeats what {new(parent)} holds of each record: it "
            "links there instead",
        )
        for old, parent in gone.items()
    ]
    records = whole.rows | {r.other: r.records for r in roles}
    final, names_only = _without_promises(with_own_keys(with_table_names(done, names)))
    if held:
        kept = {n: layout.tables[n] for n in held}
        linked_to = {n: _making_nothing(t, kept) for n, t in final.tables.items() if n not in held}
        final = final.model_copy(update={"tables": {**kept, **linked_to}})
        names_only = {n: columns for n, columns in names_only.items() if n not in held}
    for table, columns in names_only.items():
        about = f"tables.{table}"
        lines = ", ".join(f'["{c}"]' for c in columns)
        comments[about] = [*comments.get(about, []), f"unique = [{lines}]   they all differ so far"]
    notes += _two_ends(whole, final)
    if names_only:
        listed = ", ".join(f"{t}.{c}" for t, columns in names_only.items() for c in columns)
        notes.append(
            (
                listed,
                "no two are the same so far, but names may be in later files: not UNIQUE (the "
                "layout has the line that makes it so)",
            )
        )
    return replace(
        whole,
        layout=final,
        comments=comments,
        notes=tuple(notes),
        rows={new(n): count for n, count in records.items() if n in tables},
        near=tuple(replace(n, table=new(n.table)) for n in whole.near),
        against=(*whole.against, *against),
        references=tuple(references),
        reasons=tuple(
            replace(r, table=new(r.table), within=new(r.within))
            for r in whole.reasons
            if r.table in tables
        ),
    )


def _making_nothing(spec: TableSpec, held: Mapping[str, TableSpec]) -> TableSpec:
    """A table whose links make no records of tables that are held, where these need more than what
    a link says: rows that name no record are refused."""
    links = {}
    for name, link in spec.links.items():
        said = {c.split(".")[0] for c in (*link.by, *link.repeats)}
        parent = held.get(link.to)
        lacking = parent and {*parent.columns, *parent.links} - said - {*parent.optional}
        plain = not any("." in path for path in link.by)  # those by two columns always make some
        refuse = lacking and plain
        links[name] = link.model_copy(update={"missing": "refuse"}) if refuse else link
    return spec.model_copy(update={"links": links})


def _two_ends(whole: Proposal, layout: Layout) -> list[tuple[str, str]]:
    """What to know of pairs of columns that are plain ones, though they are called like one thing
    that is there twice."""
    out = []
    for source, first, second in whole.ends:
        for table in layout.tables.values():
            plain = {c.header for c in table.columns.values()}
            if table.source == source and {first, second} <= plain:
                told = (
                    "both are filled in every row, so they stay two columns (from and to, say); "
                    f'--repeated "{first},{second}" makes a record of each, '
                    f'--same-as "{first}={second}" makes both links to one table'
                )
                out.append((f"{first}, {second}", told))
    return out


def _without_promises(layout: Layout) -> tuple[Layout, dict[str, list[str]]]:
    """A layout in which names are not UNIQUE where another key tells records apart and no link
    finds these by name, as there are namesakes; and these columns, by table."""
    found_by = {
        (link.to, *link.by) for t in layout.tables.values() for link in t.links.values() if link.by
    }
    tables, out = dict(layout.tables), dict[str, list[str]]()
    for name, spec in layout.tables.items():
        for (column,) in [u for u in spec.unique if len(u) == 1 and u[0] in spec.columns]:
            header = spec.columns[column].header
            is_name = names_things(header) and not looks_like_key(header)
            if is_name and spec.known_by and (name, column) not in found_by:
                out.setdefault(name, []).append(column)
        kept = tuple(u for u in spec.unique if u[0] not in out.get(name, ()) or len(u) > 1)
        tables[name] = spec.model_copy(update={"unique": kept})
    return Layout(kerfmark=layout.kerfmark, sources=layout.sources, tables=tables), out
