"""Sources of one shape (a file per month, a sheet per year) as one source, with a column that tells them apart."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterator, Sequence
from pathlib import Path
from typing import Any, TypeVar

import pyarrow as pa
import xxhash

from kerfmark.errors import Origin
from kerfmark.read.source import Piece, RaggedRow, Remark, Source

T = TypeVar("T")

_WORD = re.compile(r"\d+|[^\W\d_]+")
_MONTH = re.compile(r"(19|20)\d\d[-_ .]?(0[1-9]|1[0-2])$")
_YEAR = re.compile(r"(19|20)\d\d$")


class AlikeSources:
    """Several sources with the same headers, one after the other (see `read.source.Source`).

    `telling` is the header of the first column, which says for each row from which of them it came, in the words of `told` (or
    in its own, where a part has such a column); "" for none. A header that some part lacks is blank there.
    """

    def __init__(self, parts: Sequence[Source], told: Sequence[str], telling: str, name: str) -> None:
        self.parts, self.told, self.telling, self.name = list(parts), list(told), telling, name
        self.location = parts[0].location
        own = [h for h in dict.fromkeys(h for p in parts for h in p.headers) if h != telling]
        self.headers = (telling, *own) if telling else tuple(own)
        self.how = f"{len(parts)} of one shape{f', told apart by {telling}' if telling else ''}; {parts[0].how}"
        self.ragged: list[RaggedRow] = []
        self.skip_rows: tuple[str, ...] = ()
        self.remarks: list[Remark] = []
        self.fingerprint, self.size, self.skipped = "", 0, 0
        self.spells_numbers = all(p.spells_numbers for p in parts)
        self._starts: list[int] = []

    def lack(self, headers: Collection[str]) -> None:
        """Gives it columns that no part has; they are blank throughout."""
        self.headers += tuple(h for h in headers if h not in self.headers)

    def place(self, record: int) -> tuple[Source, int]:
        """The part that a record is from, and its number there."""
        n = max(i for i, start in enumerate(self._starts or [0]) if start <= record)
        return self.parts[n], record - (self._starts or [0])[n]

    def origin(self, record: int | None = None, header: str | None = None) -> Origin:
        """The place of a record and column."""
        header_there = None if header == self.telling else header
        if record is None:
            first = self.parts[0].origin(None, header_there)
            return Origin(f"{first.file} and {len(self.parts) - 1} more of its shape", first.sheet and "...", None, header)
        part, number = self.place(record)
        return part.origin(number, header_there)

    def rows_of_parts(self, rows: int) -> list[int]:
        """How many of all rows each part gave."""
        return [end - start for start, end in zip(self._starts, [*self._starts[1:], rows], strict=True)]

    def settings(self) -> dict[str, Any]:
        """The parts in the layout's words."""
        return {"telling": self.telling, **{k: v for k, v in self.parts[0].settings().items() if k not in ("sheet", "member")}}

    def map_batches(self, work: Callable[[pa.RecordBatch], T], *, workers: int = 2, strict: bool = True) -> Iterator[Piece]:
        """Applies `work` to every batch of every part, in their order."""
        first, digest = 0, xxhash.xxh3_128()
        starts: list[int] = []
        self.size = 0
        for part, told in zip(self.parts, self.told, strict=True):
            starts.append(first)
            order = [part.headers.index(h) if h in part.headers else -1 for h in self.headers]

            def with_part(batch: pa.RecordBatch, told: str = told, order: list[int] = order) -> T:
                cells = [batch.column(i) if i >= 0 else pa.nulls(batch.num_rows, pa.string()) for i in order]
                if self.telling and order[0] < 0:
                    cells[0] = pa.array([told]).take(pa.array([0] * batch.num_rows, pa.int32()))
                return work(pa.RecordBatch.from_arrays(cells, names=[str(i) for i in range(len(cells))]))

            for piece in part.map_batches(with_part, workers=workers, strict=strict):
                yield Piece(first, piece.rows, piece.result)
                first += piece.rows
            digest.update(part.fingerprint.encode())
            self.size += part.size
        self.skipped = sum(p.skipped for p in self.parts)
        self._starts = starts
        self.ragged = [r for p in self.parts for r in p.ragged]
        self.remarks = [Remark(r.severity, r.header, f"{p.origin().file}{f' {s}' if (s := p.origin().sheet) else ''}: {r.what}",
                               r.rows, r.total, r.next) for p in self.parts for r in p.remarks]
        self.fingerprint = digest.hexdigest()


def parts_of(source: Source) -> list[Source]:
    """The sources that one is made of: usually itself alone."""
    return source.parts if isinstance(source, AlikeSources) else [source]


def put_together(sources: Sequence[Source]) -> list[Source]:
    """The same sources, those of one shape (the same headers, read the same way) as one."""
    groups: dict[tuple[object, ...], list[Source]] = {}
    for source in sources:
        settings = {k: str(v) for k, v in source.settings().items() if k not in ("sheet", "member")}
        shape = (type(source), frozenset(source.headers), len(source.headers), tuple(sorted(settings.items())))
        named = any(not re.fullmatch(r"column \d+", h) for h in source.headers)
        groups.setdefault(shape if named else (id(source),), []).append(source)
    out: list[Source] = []
    for group in groups.values():
        out.append(group[0] if len(group) == 1 else _whole(group))
    return out


def _whole(parts: Sequence[Source]) -> AlikeSources:
    files = [p.location for p in parts]
    sheets = len(set(files)) == 1
    called = [p.settings().get("sheet") or p.name if sheets else Path(f).name for p, f in zip(parts, files, strict=True)]
    if not sheets and len(set(called)) < len(called):
        called = [f"{c} {p.settings().get('sheet') or p.name}" for c, p in zip(called, parts, strict=True)]
    called = [c.rsplit(".", 1)[0] if not sheets and "." in c else c for c in called]
    common, told = _telling_parts(called)
    telling = _telling_name(told, "sheet" if sheets else "file")
    while telling.lower() in {h.lower() for h in parts[0].headers}:
        telling = f"of {telling}"
    return AlikeSources(parts, told, telling, common or (Path(files[0]).stem if sheets else parts[0].name))


def _telling_parts(names: Sequence[str]) -> tuple[str, list[str]]:
    """What several names have in common, and what tells each apart: `visits-2025-01` and `visits-2025-02` are visits, with
    2025-01 and 2025-02."""
    spans = [[m.span() for m in _WORD.finditer(n)] for n in names]
    words = [[n[a:b] for a, b in s] for n, s in zip(names, spans, strict=True)]
    shortest = min(map(len, words))
    start = 0
    while start < shortest and len({w[start] for w in words}) == 1 and not words[0][start].isdigit():
        start += 1
    end = 0
    while end < shortest - start and len({w[-1 - end] for w in words}) == 1 and not words[0][-1 - end].isdigit():
        end += 1
    told = [n[s[start][0]:s[len(s) - 1 - end][1]] if start < len(s) - end else "" for n, s in zip(names, spans, strict=True)]
    if len(set(told)) < len(told) or "" in told:
        return " ".join(words[0][:start]), list(names)
    return " ".join([*words[0][:start], *(words[0][len(words[0]) - end:] if end else [])]), told


def _telling_name(told: Sequence[str], otherwise: str) -> str:
    if all(_MONTH.match(t) for t in told):
        return "month"
    return "year" if all(_YEAR.match(t) for t in told) else otherwise
