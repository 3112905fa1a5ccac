"""On which line of a layout something is said.

TOML's readers do not tell. This walks over the text as far as it must: headings, keys at the start
of a statement, and past texts and lists that go over several lines. It is only asked about texts
that a reader has found to be TOML.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

Path = tuple[str, ...]

_KEY = r"""(?:[A-Za-z0-9_-]+|"(?:[^"\\]|\\.)*"|'[^']*')"""
_PATH = rf"{_KEY}(?:\s*\.\s*{_KEY})*"
_HEADING = re.compile(rf"\s*\[{{1,2}}\s*({_PATH})\s*\]{{1,2}}")
_SAYING = re.compile(rf"\s*({_PATH})\s*=")
_NOISE = re.compile(r'"(?:[^"\\\n]|\\.)*"|\'[^\'\n]*\'|#[^\n]*')
_INSIDE = re.compile(rf"[{{,]\s*({_PATH})\s*=")


def lines_of(text: str) -> dict[Path, int]:
    """The line (from 1) of every heading and key, by its path."""
    out: dict[Path, int] = {}
    heading: Path = ()
    lines = text.split("\n")
    at = 0
    while at < len(lines):
        line = lines[at]
        if found := _HEADING.match(line):
            heading = _parts(found[1])
            out.setdefault(heading, at + 1)
        elif found := _SAYING.match(line):
            path = (*heading, *_parts(found[1]))
            for n in range(len(heading) + 1, len(path) + 1):
                out.setdefault(path[:n], at + 1)
            end = _end(lines, at, line[found.end() :])
            for n in range(at, end + 1):  # keys of tables written on a line
                for inner in _INSIDE.finditer(_quiet(lines[n] if n > at else line[found.end() :])):
                    out.setdefault((*path, *_parts(inner[1])), n + 1)
            at = end
        at += 1
    return out


def line_of(lines: Mapping[Path, int], path: Sequence[object]) -> int:
    """The line of a place in a layout, or of what it is in; 0 when not even that is there."""
    whole = tuple(map(str, path))
    for end in range(len(whole), 0, -1):
        if whole[:end] in lines:
            return lines[whole[:end]]
    return 0


def _parts(path: str) -> Path:
    return tuple(p[1:-1] if p[0] in "\"'" else p for p in re.findall(_KEY, path))


def _quiet(text: str) -> str:
    """A text without comments, and with nothing in its texts that looks like TOML; texts that are
    keys stay."""

    def harmless(found: re.Match[str]) -> str:
        if found[0][0] == "#":
            return ""
        follows = text[found.end() :].lstrip()
        return found[0] if follows.startswith("=") else '""'

    return _NOISE.sub(harmless, text)


def _end(lines: Sequence[str], at: int, rest: str) -> int:
    """The line on which a value that begins with `rest` on line `at` ends."""
    for mark in ('"' * 3, "'" * 3):
        if rest.lstrip().startswith(mark):
            if mark in rest.lstrip()[3:]:
                return at
            return next((n for n in range(at + 1, len(lines)) if mark in lines[n]), len(lines) - 1)
    depth = 0
    for n in range(at, len(lines)):
        quiet = _quiet(rest if n == at else lines[n])
        depth += sum(c in "[{" for c in quiet) - sum(c in "]}" for c in quiet)
        if depth <= 0:
            return n
    return len(lines) - 1
