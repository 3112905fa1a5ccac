"""A trial of what is proposed: its tables are built in memory, and what a cut would refuse is given
up, a table or a link at a time, until nothing is refused."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace

from kerfmark.errors import KerfmarkError
from kerfmark.layout.model import Layout
from kerfmark.layout.validation import contradictions
from kerfmark.normalize.split import Split, rehearse
from kerfmark.profile.encode import EncodedSource
from kerfmark.structure.propose import Proposal
from kerfmark.structure.steering import Steering

MOST_TRIALS = 12
"""Proposals that are tried before all tables and links are given up."""
Proposed = tuple[Proposal, dict[str, EncodedSource]]


UNKNOWN = "unknown"
"""The kind of a refusal of a value that no record has, where none is to be made."""


@dataclass(frozen=True)
class _Refusal:
    """Why a proposal would be refused: the table concerned ("": none is known), the headers, and
    the reason in words."""

    table: str
    headers: tuple[str, ...]
    reason: str
    kind: str = ""


def that_can_be_cut(
    proposal: Proposal,
    encoded: dict[str, EncodedSource],
    steering: Steering,
    propose_with: Callable[[Steering], Proposed],
) -> tuple[Proposal, dict[str, EncodedSource], Split | None]:
    """The first proposal that a cut takes, with its sources and tables: the one given, or one that
    `propose_with` a narrower steering gives; what was given up is told in `against`. None in place
    of the tables where a person's own wishes are refused by the data."""
    told: list[str] = []
    for trial in range(MOST_TRIALS + 1):
        refusals, built = _tried(proposal.layout, encoded)
        if not refusals:
            against = (*dict.fromkeys(told), *proposal.against)
            return replace(proposal, against=against), encoded, built
        asked = [r for r in refusals if _is_wished(r, steering, proposal)]
        told += [
            f"a cut refuses this, though it was asked for: {r.reason}"
            for r in asked
            if r.kind != UNKNOWN
        ]
        if trial == MOST_TRIALS or asked:
            break
        narrower = steering
        if trial < MOST_TRIALS - 1:
            for refusal in {r.table: r for r in reversed(refusals)}.values():  # one of each table
                narrower, gave_up = _without(narrower, refusal, proposal.layout)
                told += [gave_up] if gave_up else []
        if narrower == steering:
            headers = tuple(h for e in encoded.values() for h in e.source.headers)
            narrower = replace(steering, depth="flat", no_link=headers, link=(), same_as=())
            told.append(f"tables and links were given up: {refusals[0].reason}")
        if narrower == steering:
            break
        steering = narrower
        proposal, encoded = propose_with(steering)
    return replace(proposal, against=(*dict.fromkeys(told), *proposal.against)), encoded, None


def _tried(
    layout: Layout, encoded: Mapping[str, EncodedSource]
) -> tuple[list[_Refusal], Split | None]:
    """Why a layout would be refused, or its tables."""
    if wrong := contradictions(layout):
        return [
            _Refusal(m.path[1] if m.path[:1] == ("tables",) else "", (), str(m)) for m in wrong
        ], None
    try:
        built = rehearse(layout, encoded)
    except KerfmarkError as error:
        if error.code != "internal":
            raise
        return [_Refusal("", (), error.why)], None
    found = [p for p in built.problems.found if p.kind != "unreadable"]
    return [
        _Refusal(
            p.table,
            p.headers,
            f"{encoded[p.source].found.origin(int(p.records[0]), p.column)} "
            f"{p.why(int(p.records[0]))}"
            if len(p.records)
            else f"{p.column} {p.why(-1)}",
            p.kind,
        )
        for p in found
    ], built


def _is_wished(refusal: _Refusal, steering: Steering, proposal: Proposal) -> bool:
    """Whether what is refused is what a person asked for, or a value that no record of a database
    has: it is not given up then, but told with its rows when it lands."""
    if refusal.kind == UNKNOWN:
        return True
    layout = proposal.layout
    wished = {h for h, _ in steering.link} | {h for pair in steering.same_as for h in pair}
    keys = [{*key} for key in steering.known_by]
    table = refusal.table in layout.tables and {*layout.key_headers(refusal.table)} in keys
    decided = any((h, refusal.kind) in proposal.wished for h in refusal.headers)
    return table or decided or bool(wished & {*refusal.headers})


def _without(steering: Steering, refusal: _Refusal, layout: Layout) -> tuple[Steering, str]:
    """A steering without the table that a refusal is about, or without the link; and what was given
    up, in words."""
    spec = layout.tables.get(refusal.table)
    if spec is not None and not spec.each_row and not spec.part_of:
        key = tuple(layout.key_headers(refusal.table))
        if key and key not in steering.no_table:
            more = replace(steering, no_table=(*steering.no_table, key))
            return more, f"{refusal.table} is not a table of its own: {refusal.reason}"
    new = tuple(h for h in refusal.headers if h not in steering.not_unique)
    if new and refusal.kind == "again":
        more = replace(steering, not_unique=(*steering.not_unique, *new))
        return more, f"{' + '.join(new)} is not unique: {refusal.reason}"
    new = tuple(h for h in refusal.headers if h not in steering.no_link)
    if new and spec is not None:
        more = replace(steering, no_link=(*steering.no_link, *new))
        return more, f"{', '.join(new)} is not a link: {refusal.reason}"
    return steering, ""
