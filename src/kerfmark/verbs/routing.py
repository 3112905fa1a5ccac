"""Which source of a layout a file feeds: told by its headers, whatever their order, and by how it can be read."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from kerfmark.errors import KerfmarkError, SourceError, UsageError
from kerfmark.layout.derive import settled
from kerfmark.layout.model import Layout, PartSpec, SourceSpec
from kerfmark.layout.names import snake
from kerfmark.read.open import open_all
from kerfmark.read.source import Source
from kerfmark.verbs.sources import open_source


@dataclass(frozen=True)
class Routed:
    """A file or sheet and the source that it feeds; `spec` says how it is read, `told` what its telling column says."""

    source: str
    place: str
    spec: SourceSpec
    told: str
    why: str


def expected_headers(layout: Layout, source: str) -> set[str]:
    """The headers that a source of a layout must have, its telling column left out."""
    whole = settled(layout, {})
    known = {h for t in whole.tables.values() if t.source == source for h in t.headers}
    also = {c.header for t in layout.tables.values() if source in t.also_from for c in t.columns.values() if c.header}
    return (known | also | set(layout.sources[source].left_out)) - {layout.sources[source].telling}


def route(layout: Layout, files: Sequence[str | Path], only: str = "") -> list[Routed]:
    """The source that each file (and sheet of a workbook) feeds; `only` names the one for all of them.

    Raises UsageError for a file that fits none, or several.
    """
    out: list[Routed] = []
    for file in files:
        for found in open_all([file], together=False):
            out.append(_routed(layout, found, only))
    return out


def _routed(layout: Layout, found: Source, only: str) -> Routed:
    fits: list[Routed] = []
    near: list[tuple[int, str, set[str], set[str]]] = []
    if only and only not in layout.sources:
        raise UsageError(f'there is no source "{only}"', next=f"the sources are {', '.join(layout.sources)}")
    for name, spec in layout.sources.items():
        if only and name != only:
            continue
        wanted = expected_headers(layout, name)
        as_said = _described(spec, found)
        try:
            headers = set(open_source(name, as_said, Path()).headers) - {spec.telling}
        except KerfmarkError:
            headers = set(found.headers)
        lost, new = wanted - headers, headers - wanted
        if not lost and not new:
            why = f"its {len(headers)} headers are those of {name}"
            fits.append(Routed(name, found.location, as_said, _told(spec, found), why))
        near.append((len(lost) + len(new), name, lost, new))
    if len(fits) > 1:
        alike = [f for f in fits if snake(Path(found.location).stem).startswith(snake(f.source))]
        fits = alike if len(alike) == 1 else fits
    if len(fits) == 1:
        return fits[0]
    origin = found.origin()
    if fits:
        raise UsageError("this fits several sources", code="source.ambiguous", origin=origin,
                         why=f"{', '.join(f.source for f in fits)} have the same headers",
                         next=f"say which with --as SOURCE, such as --as {fits[0].source}")
    _, name, lost, new = min(near, key=lambda n: (n[0], n[1]))
    raise SourceError("this fits no source of the layout", code="source.unknown", origin=origin,
                      why=f'it is nearest to "{name}": ' + "; ".join(
                          [f'"{h}" is missing' for h in sorted(lost)] + [f'"{h}" is new' for h in sorted(new)]),
                      next=f"mend its header, or say in the layout what a header is called as well: also = {{ ... }} under "
                           f"sources > {name}")


_WRITTEN = ("delimiter", "quote", "escape", "encoding", "edges", "header_row", "header_rows")


def _described(spec: SourceSpec, found: Source) -> SourceSpec:
    """How a file is read as a source that a layout describes: where it is, it says itself; how it is written, it shows."""
    said = found.settings()
    where = {k: said.get(k, "") for k in ("sheet", "member", "table", "query")}
    written = {} if spec.header_row == 0 else {         # a file without header is read as the layout says
        k: said.get(k, SourceSpec.model_fields[k].default) for k in _WRITTEN}
    return spec.model_copy(update={"file": found.location, "parts": (), "telling": "", **written, **where})


def _told(spec: SourceSpec, found: Source) -> str:
    """What the telling column says of a file: what stands in its name where the names of the others differ."""
    if not spec.telling:
        return ""
    stem = Path(found.location).stem
    for part in spec.parts:
        other = Path(part.file).stem
        if part.told in other:
            before, after = other.split(part.told, 1)
            if stem.startswith(before) and stem.endswith(after) and len(stem) > len(before) + len(after):
                return stem[len(before):len(stem) - len(after)]
    if "*" in spec.file:
        before, _, after = Path(spec.file).name.partition("*")
        name = Path(found.location).name
        if name.startswith(before) and name.endswith(after):
            return name[len(before):len(name) - len(after)]
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
        parts = tuple(PartSpec(told=r.told or Path(r.place).stem, file=r.place, sheet=r.spec.sheet, member=r.spec.member)
                      for r in mine)
        sources[name] = first.model_copy(update={"file": "", "parts": parts, "telling": old.telling})
    return layout.model_copy(update={"sources": sources}), set(fed)
