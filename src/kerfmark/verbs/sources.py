"""Between layouts, files and readers: what a layout has for a source, and the source that it
describes."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import fields, replace
from pathlib import Path

from kerfmark.errors import LayoutError, Origin, SourceError, UsageError
from kerfmark.layout.derive import header_mistakes, settled
from kerfmark.layout.model import Layout, PartSpec, SourceSpec
from kerfmark.layout.text import refused
from kerfmark.ledger.records import LoadedFile, file_beside
from kerfmark.read.open import open_all, open_path, places, reopen, union_of
from kerfmark.read.source import Reading, RowRules, Source, with_changes
from kerfmark.read.union import HOW, WHERE, UnionSource, parts_of
from kerfmark.read.wrapped import AlsoSaidSource
from kerfmark.verbs.own_forms import Respell, respell, respelled

_OF_READING = tuple(f.name for f in fields(Reading) if f.name in SourceSpec.model_fields)
"""The keys of a layout for how a source is read."""


def open_inputs(inputs: Sequence[str | Path], reading: Reading) -> list[Source]:
    """The sources in plain files, those of one shape put together.

    Raises UsageError when a layout is among them, SourceError when there is nothing to read.
    """
    for one in inputs:
        if Path(one).suffix.lower() == ".toml":
            raise UsageError("name one layout, or plain files, not both", origin=Origin(str(one)))
    return open_all(inputs, reading)


def spec_of(source: Source, folder: Path) -> SourceSpec:
    """What a layout in a folder has for a source."""
    everywhere = _common(p.rules for p in parts_of(source))
    settings = source.settings() | everywhere.settings()
    if isinstance(source, UnionSource):
        parts = [
            {
                "told": told,
                "file": file_beside(p.location, folder),
                **{k: v for k, v in p.settings().items() if k in WHERE},
                **{k: _written(p, k) for k in HOW if _written(p, k) != _written(source, k)},
                "skip_rows": [r for r in p.rules.skip_rows if r not in everywhere.skip_rows],
            }
            for told, p in zip(source.told, source.parts, strict=True)
        ]
        return SourceSpec.model_validate(settings | {"parts": parts})
    return SourceSpec.model_validate(settings | {"file": file_beside(source.location, folder)})


def _common(rules: Iterable[RowRules]) -> RowRules:
    """What several rules have in common."""
    first, *others = rules
    rows = [r for r in first.skip_rows if all(r in o.skip_rows for o in others)]
    return first._replace(skip_rows=tuple(rows))


def _written(source: Source, key: str) -> str:
    return str(source.settings().get(key, SourceSpec.model_fields[key].default))


def rules_of(spec: SourceSpec) -> RowRules:
    """What a layout says is to be done with the rows of a source."""
    return RowRules(spec.skip_rows, spec.fill_down)


def part_of(reading: Reading, part: PartSpec) -> Reading:
    """How a part of a source is read."""
    return replace(
        reading,
        skip_rows=(*reading.skip_rows, *part.skip_rows),
        **{k: getattr(part, k) for k in WHERE},
        **{k: v for k in HOW if (v := getattr(part, k))},
    )


def open_source(name: str, spec: SourceSpec, folder: Path, only: Collection[str] = ()) -> Source:
    """The source that a layout describes; its files are named as seen from the layout's folder. Of
    those that a pattern matches, `only` some may be wanted.

    Raises SourceError for what is not there or has other columns than the rest of its source.
    """
    reading = Reading(**{k: getattr(spec, k) for k in _OF_READING})

    def at(file: str) -> str:
        return file if file == "-" or "://" in file else str(folder / file)

    if spec.parts:
        opened = [reopen(at(p.file), p.told, part_of(reading, p), spec.also) for p in spec.parts]
        return union_of(opened, [p.told for p in spec.parts], spec.telling, name, spec.may_lack)
    if not spec.is_pattern:
        return reopen(at(spec.file), name, reading, spec.also)
    wanted = [p for p in places(at(spec.file)) if not only or file_beside(p, folder) in only]
    found = [(place, sheet, told) for place in wanted for sheet, told in _sheets(place, spec.sheet)]
    told = [
        filled_in(Path(spec.file).name, Path(place).name) + said if "*" in spec.file else said
        for place, _, said in found
    ]
    opened = [
        reopen(place, one, replace(reading, sheet=sheet), spec.also)
        for (place, sheet, _), one in zip(found, told, strict=True)
    ]
    return union_of(opened, told, spec.telling, name, spec.may_lack)


def open_described(layout: Layout, name: str, folder: Path) -> Source:
    """A source of a layout, with values as its columns' types have them. Raises SourceError as
    `open_source`."""
    spec = layout.sources[name]
    source = open_source(name, spec, folder)
    if isinstance(source, UnionSource) and any(p.written for p in spec.parts):
        own = zip(source.parts, spec.parts, strict=True)
        parts = [respelled(layout, name, p, said.written, respell) for p, said in own]
        return with_changes(source, parts=parts)
    return respelled(layout, name, source, spec.written, respell)


def open_sources(layout: Layout, text: str, name: str, folder: Path) -> dict[str, Source]:
    """All sources of a layout, whose headers are right; `text` is the layout's and `name` what
    messages call it.

    Raises SourceError as `open_source`, LayoutError for headers that no table takes, and columns
    that have no header.
    """
    sources = {n: open_described(layout, n, folder) for n in layout.sources}
    check_headers(layout, text, name, sources)
    return sources


def as_loaded(spec: SourceSpec, file: LoadedFile) -> SourceSpec:
    """How a file that was loaded is read again; `spec` is that of its source in the layout of
    today."""
    said = SourceSpec.model_validate(file.read_as | {"file": file.file})
    how = {k: getattr(said, k) for k in (*_OF_READING, "written")}
    how["may_lack"] = tuple(dict.fromkeys((*spec.may_lack, *said.may_lack)))
    return spec.model_copy(update=how | {"file": file.file, "parts": (), "telling": ""})


def open_loaded(
    layout: Layout, name: str, files: Sequence[LoadedFile], folder: Path, spell: Respell = respell
) -> Source:
    """The files that were loaded for a source, as one; they are named as seen from a folder.
    Values that a file has in a form of its own are spelled by `spell` as the layout says.

    Raises SourceError when one is no longer there, or has other columns.
    """
    spec, parts = layout.sources[name], list[Source]()
    may_lack = dict.fromkeys(spec.may_lack)
    for file in files:
        if file.file == "-" or not ("://" in file.file or (folder / file.file).exists()):
            raise SourceError(
                "the file that was loaded is no longer there",
                code="source.missing",
                origin=Origin(file.file),
                next="put it back, or move the database with it",
            )
        said = as_loaded(spec, file)
        part = open_source(name, said, folder)
        if more := [h for h in said.may_lack if h not in spec.may_lack]:
            part = AlsoSaidSource(part, {"may_lack": more})
            may_lack |= dict.fromkeys(more)
        parts.append(respelled(layout, name, part, said.written, spell))
    return together(parts, [f.told for f in files], spec.telling, name, [*may_lack])


def together(
    parts: Sequence[Source], told: Sequence[str], telling: str, name: str, may_lack: Collection[str]
) -> Source:
    """Sources of one shape as one; a single one that says everything itself stays as it is."""
    if len(parts) == 1 and not telling and not (set(may_lack) - set(parts[0].headers)):
        return parts[0]
    return union_of(parts, told, telling, name, may_lack).lacking(may_lack)


def check_headers(layout: Layout, text: str, name: str, sources: Mapping[str, Source]) -> None:
    """Raises LayoutError unless each header of sources has a column, and each column its header."""
    headers = {n: s.headers for n, s in sources.items()}
    mistakes = header_mistakes(settled(layout, headers), headers)
    if not mistakes:
        return
    error = refused(name, text, mistakes)
    wrong = next(
        n
        for m in mistakes
        for n in (m.path[1], layout.tables[m.path[1]].source if m.path[0] == "tables" else "")
        if n in sources
    )
    lost = next((m.path[1] for m in mistakes if m.path[0] == "sources" and len(m.path) == 2), "")
    raise LayoutError(
        "the layout and the file do not have the same columns",
        code="layout.headers",
        origin=sources[wrong].origin(),
        more=error.more,
        total=error.total,
        next=f"give it a table, or list it under left_out of sources > {lost}"
        if lost
        else "correct the header in the layout",
    )


def _sheets(place: str, pattern: str) -> list[tuple[str, str]]:
    """The sheets of a workbook that a pattern matches, and the text that its `*` matches."""
    if "*" not in pattern:
        return [(pattern, "")]
    inside = [str(s.settings().get("sheet", "")) for s in open_path(place)]
    fitting = [s for s in inside if fnmatch.fnmatchcase(s, pattern)]
    if not fitting:
        raise SourceError(
            f'no sheet fits "{pattern}"',
            code="source.no-sheet",
            origin=Origin(place),
            next=f"its sheets are {', '.join(inside)}",
        )
    return [(s, filled_in(pattern, s)) for s in fitting]


def filled_in(pattern: str, name: str) -> str:
    """The text that the `*` of a pattern matches in a name."""
    found = re.fullmatch(re.escape(pattern).replace(r"\*", "(.*)").replace(r"\?", "."), name)
    return " ".join(found.groups()) if found else name
