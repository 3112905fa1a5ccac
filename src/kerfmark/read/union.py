"""Sources of one shape (a file per month, a sheet per year) as one source, with a column that tells
them apart."""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Callable, Collection, Generator, Iterator, Sequence
from pathlib import Path
from typing import Any, TypeVar

import pyarrow as pa
import xxhash

from kerfmark.errors import Origin
from kerfmark.read.source import Batches, Found, Piece, Remark, RowRules, Source, with_changes

T = TypeVar("T")

WHERE = ("sheet", "cells", "block", "member")
"""Settings of a part that say where it is."""
HOW = ("encoding", "delimiter")
"""Settings of a part that may be others than those of the whole."""

_WORD = re.compile(r"\d+|[^\W\d_]+")
_MONTH = re.compile(r"(19|20)\d\d[-_ .]?(0[1-9]|1[0-2])$")
_YEAR = re.compile(r"(19|20)\d\d$")


class UnionSource:
    """Several sources with the same headers, one after the other (see `read.source.Source`).

    `telling` is the header of the first column, which says for each row from which of them it came,
    in the words of `told` (or in its own, where a part has such a column); "" for none. A header
    that some part lacks is blank there.
    """

    def __init__(
        self, parts: Sequence[Source], told: Sequence[str], telling: str, name: str
    ) -> None:
        self.parts, self.told, self.telling, self.name = list(parts), list(told), telling, name
        self.location = parts[0].location
        own = [h for h in dict.fromkeys(h for p in parts for h in p.headers) if h != telling]
        self.headers = (telling, *own) if telling else tuple(own)
        self.how = (
            f"{len(parts)} of one shape{f', told apart by {telling}' if telling else ''}; "
            f"{parts[0].how}"
        )
        self.rules = RowRules()
        self.spells_numbers = all(p.spells_numbers for p in parts)

    def lacking(self, headers: Collection[str]) -> UnionSource:
        """The same with columns that no part has; they are blank throughout."""
        return with_changes(
            self, headers=self.headers + tuple(h for h in headers if h not in self.headers)
        )

    def origin(self, header: str | None = None) -> Origin:
        """The place of a column."""
        first = self.parts[0].origin(None if header == self.telling else header)
        if len(self.parts) == 1:
            return first
        return Origin(
            f"{first.file} and {len(self.parts) - 1} more of its shape",
            first.sheet and "...",
            None,
            header,
        )

    def settings(self) -> dict[str, Any]:
        """The parts in the layout's words."""
        return {
            "telling": self.telling,
            **{k: v for k, v in self.parts[0].settings().items() if k not in WHERE},
        }

    def map_batches(
        self, work: Callable[[pa.RecordBatch], T], *, workers: int = 2, strict: bool = True
    ) -> Batches:
        """Applies `work` to every batch of every part, in their order."""
        return Batches(self._pieces(work, workers, strict))

    def _pieces(
        self, work: Callable[[pa.RecordBatch], T], workers: int, strict: bool
    ) -> Generator[Piece, None, Found]:
        first, digest = 0, xxhash.xxh3_128()
        parts: list[Found] = []
        rows: list[int] = []
        for part, told in zip(self.parts, self.told, strict=True):
            order = [part.headers.index(h) if h in part.headers else -1 for h in self.headers]

            def with_part(batch: pa.RecordBatch, told: str = told, order: list[int] = order) -> T:
                cells = [
                    batch.column(i) if i >= 0 else pa.nulls(batch.num_rows, pa.string())
                    for i in order
                ]
                if self.telling and order[0] < 0:
                    cells[0] = pa.array([told]).take(pa.array([0] * batch.num_rows, pa.int32()))
                return work(
                    pa.RecordBatch.from_arrays(cells, names=[str(i) for i in range(len(cells))])
                )

            before, batches = first, part.map_batches(with_part, workers=workers, strict=strict)
            for piece in batches:
                yield Piece(first, piece.rows, piece.result)
                first += piece.rows
            rows.append(first - before)
            parts.append(batches.found)
            digest.update(batches.found.fingerprint.encode())
        starts = [sum(rows[:i]) for i in range(len(rows))]

        def origin(record: int | None, header: str | None) -> Origin:
            if record is None:
                return self.origin(header)
            n = bisect_right(starts, record) - 1
            return parts[n].origin(record - starts[n], None if header == self.telling else header)

        return Found(
            digest.hexdigest(),
            sum(p.size for p in parts),
            origin,
            sum(p.skipped for p in parts),
            tuple(r for p in parts for r in p.ragged),
            tuple(self._remarks(parts)),
            tuple(parts),
            tuple(rows),
        )

    def _remarks(self, parts: Sequence[Found]) -> Iterator[Remark]:
        """What was remarked of the parts, with the name of each."""
        for source, found in zip(self.parts, parts, strict=True):
            at = source.origin()
            for r in found.remarks:
                what = f"{at.file}{f' {at.sheet}' if at.sheet else ''}: {r.what}"
                yield Remark(r.severity, r.header, what, r.rows, r.total, r.next)


def parts_of(source: Source) -> list[Source]:
    """The sources that one is made of: usually itself alone."""
    return source.parts if isinstance(source, UnionSource) else [source]


def has_rows(source: Source) -> bool:
    """Whether a source has rows, as far as it is known before it is read."""
    return getattr(source, "has_rows", True)


def unite(sources: Sequence[Source]) -> list[Source]:
    """The same sources, those of one shape (the same headers, read the same way) as one."""
    groups: dict[tuple[object, ...], list[Source]] = {}
    for source in sources:
        settings = {k: str(v) for k, v in source.settings().items() if k not in (*WHERE, *HOW)}
        shape = (
            type(source),
            frozenset(source.headers),
            len(source.headers),
            tuple(sorted(settings.items())),
            # the records of a list have numbers, which only those of the same list may share
            getattr(source, "owner", None) and source.settings().get("member"),
        )
        named = any(not re.fullmatch(r"column \d+", h) for h in source.headers)
        groups.setdefault(shape if named else (id(source),), []).append(source)
    out: list[Source] = []
    for group in groups.values():
        full = [s for s in group if has_rows(s)]
        if full and not _are_numbered(group):  # nothing says what an empty one has to do with them
            out += [s for s in group if s not in full]
            group = full
        out.append(group[0] if len(group) == 1 else _whole(group))
    return out


def _are_numbered(sources: Sequence[Source]) -> bool:
    """Whether the names of sources differ in a number, or have something in common."""
    names = [p.settings().get("sheet") or Path(p.location).stem for p in sources]
    common, told = _telling_parts(names)
    return bool(common) or all(any(c.isdigit() for c in t) for t in told)


def _whole(parts: Sequence[Source]) -> UnionSource:
    files = [p.location for p in parts]
    sheets = len(set(files)) == 1
    blocks = sheets and any(p.settings().keys() & {"cells", "block"} for p in parts)
    called = [
        p.name if blocks else p.settings().get("sheet") or p.name if sheets else Path(f).name
        for p, f in zip(parts, files, strict=True)
    ]
    if not sheets and len(set(called)) < len(called):
        called = [
            f"{c} {p.settings().get('sheet') or p.name}" for c, p in zip(called, parts, strict=True)
        ]
    if sheets and all(p.name == Path(files[0]).stem for p in parts):  # nobody has named them
        called = [f"{p.name} {c}" for p, c in zip(parts, called, strict=True)]
    called = [c.rsplit(".", 1)[0] if not sheets and "." in c else c for c in called]
    common, told = _telling_parts(called)
    if not sheets and len({p.name for p in parts}) == 1:  # a data set has a name of its own
        common = parts[0].name
    telling = _telling_name(told, "part" if blocks else "sheet" if sheets else "file")
    while telling.lower() in {h.lower() for h in parts[0].headers}:
        telling = f"of {telling}"
    return UnionSource(
        parts, told, telling, common or (Path(files[0]).stem if sheets else parts[0].name)
    )


def _telling_parts(names: Sequence[str]) -> tuple[str, list[str]]:
    """What several names have in common, and what tells each apart: `visits-2025-01` and
    `visits-2025-02` are visits, with 2025-01 and 2025-02."""
    spans = [[m.span() for m in _WORD.finditer(n)] for n in names]
    words = [[n[a:b] for a, b in s] for n, s in zip(names, spans, strict=True)]
    shortest = min(map(len, words))
    start = 0
    while (
        start < shortest and len({w[start] for w in words}) == 1 and not words[0][start].isdigit()
    ):
        start += 1
    end = 0
    while (
        end < shortest - start
        and len({w[-1 - end] for w in words}) == 1
        and not words[0][-1 - end].isdigit()
    ):
        end += 1
    told = [
        n[s[start][0] : s[len(s) - 1 - end][1]] if start < len(s) - end else ""
        for n, s in zip(names, spans, strict=True)
    ]
    if len(set(told)) < len(told) or "" in told:
        return " ".join(words[0][:start]), list(names)
    return " ".join([*words[0][:start], *(words[0][len(words[0]) - end :] if end else [])]), told


def _telling_name(told: Sequence[str], otherwise: str) -> str:
    if all(_MONTH.match(t) for t in told):
        return "month"
    return "year" if all(_YEAR.match(t) for t in told) else otherwise
