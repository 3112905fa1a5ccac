"""Opens what a person names: files, folders, patterns, databases."""

from __future__ import annotations

import fnmatch
import glob
import stat
from collections.abc import Collection, Mapping, Sequence
from pathlib import Path
from types import MappingProxyType

from kerfmark.address import is_url
from kerfmark.errors import Origin, SourceError
from kerfmark.read.database import TableSource, tables
from kerfmark.read.formats import READABLE, format_of
from kerfmark.read.named_columns import named
from kerfmark.read.partitions import files_below, with_folders
from kerfmark.read.set_aside import without_reasons
from kerfmark.read.source import Reading, Remark, RowRules, Source, with_changes
from kerfmark.read.union import UnionSource, parts_of, unite
from kerfmark.read.wrapped import RemarkedSource

LOCK = "~$"
"""How the files begin that a spreadsheet program makes beside a workbook which is open."""
MOST_SOURCES = 5_000
"""Sources that are opened at once."""


def open_all(
    inputs: Sequence[str | Path], reading: Reading = Reading(), *, together: bool = True
) -> list[Source]:
    """All sources in what is named: files, folders, patterns such as `2025/*.csv`, `-`, database
    URLs.

    Those of one shape become one source, unless `together` is false. Raises SourceError when there
    is nothing to read.
    """
    found: list[Source] = []
    for one in inputs:
        for place in places(str(one)):
            rules = _rules_of(reading.rules, Path(place).name)
            found += [
                with_changes(named(s, reading.columns), rules=rules)
                for s in open_path(place, reading)
            ]
            if len(found) > MOST_SOURCES:
                raise SourceError(
                    f"these are more than {MOST_SOURCES:,} sources",
                    code="source.too-many",
                    origin=Origin(str(one)),
                    next="name fewer at once; `kerfmark add` takes further ones of the same shape",
                )
    _refuse_strangers(reading.rules, found)
    missing = set(reading.fill_down) - {h for s in found for h in s.headers}
    if missing:
        raise SourceError(
            f'there is no column "{min(missing)}" to fill down',
            code="source.no-column",
            origin=found[0].origin() if found else Origin(""),
            next=f"its columns are {', '.join(found[0].headers)}" if found else "",
        )
    return unite(found) if together and len(found) > 1 else found


def _rules_of(rules: RowRules, file: str) -> RowRules:
    """The rules for one file: of `may.csv:-1` the last row, if it is that."""
    said = [one.rpartition(":") for one in rules.skip_rows]
    mine = tuple(rows for name, _, rows in said if not name or fnmatch.fnmatch(file, name))
    return rules._replace(skip_rows=mine)


def _refuse_strangers(rules: RowRules, found: Sequence[Source]) -> None:
    """Raises SourceError for rows of a file that is not among those that were opened."""
    files = {Path(s.location).name for source in found for s in parts_of(source)}
    for one in rules.skip_rows:
        name = one.rpartition(":")[0]
        if name and not fnmatch.filter(files, name):
            raise SourceError(
                f'no file is called "{name}", of which rows are to be skipped',
                code="source.missing",
                origin=Origin(name),
                next=f"the files are {', '.join(sorted(files))}",
            )


def places(one: str) -> list[str]:
    """The files that a pattern matches, sorted; anything else is itself."""
    if is_url(one) or not glob.has_magic(one) or Path(one).exists():
        return [one]
    inside = sorted(glob.glob(one, recursive=True))  # noqa: PTH207  (a pattern may start at the root)
    if not inside:
        raise SourceError(
            "no file fits this pattern",
            code="source.missing",
            origin=Origin(one),
            next="check the pattern and the folder",
        )
    return inside


def open_path(place: str | Path, reading: Reading = Reading()) -> list[Source]:
    """The sources in one file (its sheets, tables, lists, or the members of an archive) or, for a
    folder, in every file of it that can be read.

    Raises SourceError when there is nothing to read.
    """
    if is_url(str(place)):
        return list(tables(str(place), reading))
    path = Path(place)
    if path.is_dir():
        inside = [
            p
            for p in (*sorted(p for p in path.iterdir() if _is_file(p)), *files_below(path))
            if p.suffix.lower() in READABLE and not p.name.startswith(LOCK)
        ]
        if not inside:
            raise SourceError(
                "no file in this folder can be read",
                code="source.folder",
                origin=Origin(str(path)),
                why=f"files ending in {', '.join(sorted(READABLE))} are looked for",
                next="name the files themselves",
            )
        return [_in_folder(s, p, path) for p in inside for s in open_path(p, reading)]
    if str(place) != "-" and not _is_file(path):
        _refuse_pipe(path)
    return [with_folders(s, path, name_it=True) for s in format_of(path).open(path, reading)]


def _is_file(path: Path) -> bool:
    """Whether a file is there. Raises SourceError for a link of a file that is gone."""
    if path.is_symlink() and not path.exists() and path.suffix.lower() in READABLE:
        raise SourceError(
            "this is a link to a file that is not there",
            code="source.missing",
            origin=Origin(str(path)),
            why=f"it leads to {path.readlink()}",
            next="put the file back, or delete the link",
        )
    return path.is_file()


def _in_folder(source: Source, file: Path, folder: Path) -> Source:
    """A source of a file in a folder; a link that leads out of it is told."""
    if not file.is_symlink() or file.resolve().is_relative_to(folder.resolve()):
        return source
    what = f"{file.name} is a link to {file.resolve()}, outside of the folder"
    return RemarkedSource(source, Remark("odd", None, what))


def _refuse_pipe(path: Path) -> None:
    """Raises SourceError for what can be read only once, or never ends."""
    try:
        mode = path.stat().st_mode
    except (OSError, ValueError):
        return  # whoever opens it tells why
    if not (stat.S_ISREG(mode) or stat.S_ISDIR(mode)):
        raise SourceError(
            "this is a pipe or a device, not a file",
            code="source.pipe",
            origin=Origin(str(path)),
            why="files are read more than once",
            next="name - and write into it (COMMAND | kerfmark measure -), or save it as a file",
        )


def reopen(
    place: str,
    name: str,
    reading: Reading,
    also: Mapping[str, Sequence[str]] = MappingProxyType({}),
) -> Source:
    """The one source that a layout describes; what `reading` leaves unsaid is what is usual, not
    what is found. `also` maps headers to other spellings under which the file may have them."""
    return described_as(_again(place, name, reading), name, reading.rules, also)


def described_as(
    source: Source, name: str, rules: RowRules, also: Mapping[str, Sequence[str]]
) -> Source:
    """An open source as the one that a layout describes: with its name, without the rows that are
    no data, and with the headers of the layout where the file has another of their spellings
    (`also`)."""
    own = without_reasons(with_changes(source, name=name, rules=rules))
    other = {s: h for h, spellings in also.items() for s in spellings if h not in own.headers}
    return with_changes(own, headers=tuple(other.get(h, h) for h in own.headers))


def _again(place: str, name: str, reading: Reading) -> Source:
    if is_url(place):
        table = TableSource(place, table=reading.table, query=reading.query, name=name)
        return named(table, reading.columns)
    path = Path(place)
    if place != "-":
        _refuse_pipe(path)
    return named(with_folders(format_of(path).reopen(path, name, reading), path), reading.columns)


def union_of(
    parts: Sequence[Source],
    told: Sequence[str],
    telling: str,
    name: str,
    may_lack: Collection[str] = (),
) -> UnionSource:
    """Sources of one shape as the one that a layout describes; where one lacks a header that it
    `may_lack`, its cells are blank.

    Raises SourceError when one has not the headers of the others.
    """
    whole = UnionSource(parts, told, telling, name)
    for part in parts:
        lost, new = (
            set(whole.headers) - {telling} - set(part.headers) - set(may_lack),
            set(part.headers) - set(whole.headers),
        )
        if lost or new:
            raise SourceError(
                "the files of one source do not have the same columns",
                code="source.shape",
                origin=part.origin(),
                why="; ".join(
                    [f'"{h}" is missing' for h in sorted(lost)]
                    + [f'"{h}" is new' for h in sorted(new)]
                ),
                next="give it a source of its own in the layout, or correct its header",
            )
    return whole
