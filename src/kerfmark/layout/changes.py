"""How a layout differs from another one, in words."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from kerfmark.layout.model import Layout, TableSpec


def renamed_tables(old: Layout, new: Layout) -> dict[str, str]:
    """The tables that only have another name than before, each with the name that it had."""
    return _renamed(
        {n: (t.source, t.part_of, sorted(t.headers)) for n, t in old.tables.items()},
        {n: (t.source, t.part_of, sorted(t.headers)) for n, t in new.tables.items()},
    )


def layout_changes(old: Layout, new: Layout) -> list[str]:
    """How a layout differs from another one, in words: tables, columns, links and conditions."""
    out: list[str] = []
    called = renamed_tables(old, new)
    out += [f"table {before} is called {name}" for name, before in called.items()]
    for name, spec in new.tables.items():
        was = old.tables.get(called.get(name, name))
        if was is None:
            out.append(f"table {name} is new")
        else:
            out += _of_table(name, was, spec, called)
    gone = [n for n in old.tables if n not in new.tables and n not in called.values()]
    return [*out, *(f"table {n} is removed" for n in gone)]


def _of_table(
    name: str, was: TableSpec, spec: TableSpec, called: Mapping[str, str]
) -> Iterator[str]:
    renamed = _renamed(
        {n: (c.sources, c.derived) for n, c in was.columns.items()},
        {n: (c.sources, c.derived) for n, c in spec.columns.items()},
    )
    before_of = {n: renamed.get(n, n) for n in spec.columns}
    yield from (f"{name}.{before} is called {n}" for n, before in renamed.items())
    for column, c in spec.columns.items():
        before = was.columns.get(before_of[column])
        if before is None:
            yield f"{name}.{column} is new"
        elif before.type != c.type:
            yield f"{name}.{column} is {c.type}, no longer {before.type}"
        elif before != c:
            yield f"{name}.{column} is made in another way"
    for column in was.columns:
        if column not in before_of.values():
            yield f"{name}.{column} is removed"
    to_before = {n: called.get(k.to, k.to) for n, k in spec.links.items()}
    links = _renamed({n: k.to for n, k in was.links.items()}, to_before)
    yield from (f"{name}.{before} is called {n}" for n, before in links.items())
    for link, target in spec.links.items():
        if link not in was.links and link not in links:
            yield f"{name} links by {link} to {target.to}"
    for link in was.links:
        if link not in spec.links and link not in links.values():
            yield f"{name} no longer links by {link}"

    def here(parts: Sequence[str]) -> set[str]:
        back = {before: n for n, before in (*before_of.items(), *links.items())}
        return {back.get(p, p) for p in parts}

    blank = here(was.optional)
    there = {*spec.columns, *spec.links}
    yield from (f"{name}.{n} may be blank" for n in spec.optional if n not in blank)
    yield from (f"{name}.{n} is required" for n in sorted((blank & there) - {*spec.optional}))
    unique, before_unique = [{*u} for u in spec.unique_sets], [here(u) for u in was.unique_sets]
    for word, some, others in (
        ("now", unique, before_unique),
        ("no longer", before_unique, unique),
    ):
        for one in some:
            if one not in others:
                yield f"{name} is {word} unique by {' + '.join(sorted(one))}"


def _renamed(old: Mapping[str, Any], new: Mapping[str, Any]) -> dict[str, str]:
    """For names that are new, the one that something of the same meaning had, which is gone."""
    out: dict[str, str] = {}
    for name, meaning in new.items():
        same = [n for n, m in old.items() if m == meaning and n not in new]
        if name not in old and len(same) == 1 and same[0] not in out.values():
            out[name] = same[0]
    return out
