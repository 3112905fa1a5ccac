"""What does not fit, kept by kind and row, so that it can be told, refused or set aside; and what
is odd but may stay."""

from __future__ import annotations

import re
import shlex
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from kerfmark.errors import Origin
from kerfmark.read.source import Severity

KINDS = {
    "unreadable": "rows that cannot be read",
    "letters": "characters that the database cannot hold",
    "unfit": "values that do not fit their type",
    "too wide": "texts that are too long",
    "not allowed": "values that are not allowed",
    "blank": "required values that are missing",
    "differs": "different values where one is expected",
    "again": "duplicates",
    "unknown": "values that were not found in the table they refer to",
    "cannot be": "rules that no row can satisfy",
    "circle": "records that refer back to themselves",
    "rare": "values that may be typing mistakes of others",
    "for one": "records that would be made for one row only",
    "without": "records that refer to no other, where nearly all do",
    "far wider": "texts that are far longer than the others",
}
"""Kinds of problems and oddities, worst first, in words."""
Reason = str | Callable[[int], str]


@dataclass(frozen=True)
class Problem:
    """One kind of problem in one column: in which records (as read, from 0) of which source, why,
    and what to do.

    `reason` is for all records, or says it for one; `places` are rows that are not records, each
    with its reason. `headers` are those of the column, or of several; none for whole rows. Where a
    record is held `against` one that the database has, the number of the row of that in the
    `table`. `suggested` tells of a record what its cell under the header `suggested_for` (the only
    one of `headers`, unless it is said) may have been meant to say; "" for nothing. `remedy` has
    one way out on a line; `decide` gives for some of these lines the option that does the same ("":
    there is none). Where not all of the rows are known here, so many were `counted`; `values` are
    then the cells at the first of the `places`. One `of_all` is not the fault of its row alone:
    without it, the next one would be wrong.
    """

    kind: str
    source: str
    headers: tuple[str, ...]
    records: np.ndarray
    reason: Reason
    remedy: str
    severity: Severity = "broken"
    table: str = ""
    places: tuple[tuple[Origin, str], ...] = ()
    against: Mapping[int, int] = field(default_factory=dict)
    suggested: Callable[[int], str] | None = None
    suggested_for: str = ""
    decide: Mapping[str, str] = field(default_factory=dict)
    counted: int = 0
    values: tuple[str, ...] = ()
    of_all: bool = False

    @property
    def column(self) -> str:
        """The headers as they are told; "" for whole rows."""
        return " + ".join(self.headers)

    def why(self, record: int) -> str:
        """The reason for one record."""
        return self.reason if isinstance(self.reason, str) else self.reason(record)

    def suggestion(self, record: int) -> tuple[str, str] | None:
        """The header and the value that is suggested for a record."""
        header = self.suggested_for or (self.headers[0] if len(self.headers) == 1 else "")
        value = self.suggested(record) if self.suggested and header else ""
        return (header, value) if value else None

    @property
    def total(self) -> int:
        """How many records."""
        return max(len(self.records), len(self.places), self.counted, 1)


class EnoughProblems(Exception):
    """As many problems as were asked for."""


@dataclass
class Problems:
    """All problems of a run; `odd` ones refuse nothing. Raises EnoughProblems once there are
    `enough` of them (0: never)."""

    enough: int = 0
    found: list[Problem] = field(default_factory=list)
    odd: list[Problem] = field(default_factory=list)

    def add(self, problem: Problem) -> None:
        """Adds a problem, or something odd."""
        if problem.severity != "broken":
            self.odd.append(problem)
            return
        self.found.append(problem)
        if self.enough and self.total >= self.enough:
            raise EnoughProblems

    @property
    def total(self) -> int:
        """How many problems there are in all."""
        return sum(p.total for p in self.found)

    def worst_first(self) -> list[Problem]:
        """All of them, the odd ones last."""
        order = list(KINDS)
        return sorted(self.found, key=lambda p: order.index(p.kind)) + sorted(
            self.odd, key=lambda p: order.index(p.kind)
        )


def advice(problem: Problem, text: Callable[[str, int], str], deciding: str | None) -> list[str]:
    """What to do about a problem, one way on a line: misspelt texts are accepted by an option, and
    so is what can be decided otherwise, where options decide: of the command `deciding`, or of the
    same one again (""). None: only misspelt texts are accepted by an option."""
    command = f"{deciding} " if deciding else ""
    out = []
    if found := corrections(problem, text):
        options = " ".join(f"--correct {shlex.quote(c)}" for c in found)
        those = "this spelling" if len(found) == 1 else "these spellings"
        out.append(f"{command}{options} accepts {those} from now on")
    for line in problem.remedy.split("\n") if problem.remedy else ():
        option = line if deciding is None else problem.decide.get(line, line)
        if option:
            out.append(line if option == line else f"{command}{option}")
    return out


MOST_CORRECTED = 3
"""Misspelt texts of a problem that are told with what they mean."""


def corrections(problem: Problem, text: Callable[[str, int], str]) -> list[str]:
    """The misspelt texts of a problem with what they mean, each as an option takes it, most three;
    `text` gives what a record has under a header. Only what is a mistake of letters: one number in
    place of another may be another thing."""
    out: dict[str, None] = {}
    for record in problem.records[:GROUPED].tolist() if problem.suggested else ():
        found = problem.suggestion(record)
        said = text(found[0], record) if found else ""
        if found and is_misspelt(said, found[1]):
            out[f"{found[0]}:{said}={found[1]}"] = None
    return list(out)[:MOST_CORRECTED]


def is_misspelt(said: str, meant: str) -> bool:
    """Whether a text is another one, but for one or two letters of many."""
    from rapidfuzz.distance import OSA

    digits, letters = re.compile(r"\d+"), re.compile(r"[^\W\d_]")
    return (
        said not in ("", meant)
        and "=" not in said + meant
        and digits.findall(said) == digits.findall(meant)
        and min(len(letters.findall(t)) for t in (said, meant)) >= FEWEST_LETTERS
        and OSA.distance(said.casefold(), meant.casefold()) <= min(2, len(meant) // FEWEST_LETTERS)
    )


FEWEST_LETTERS = 4
"""Letters that a text must have to be told as misspelt."""
MOST_WITH_ONE_CAUSE = 5_000
"""Records up to which it is looked for what is told of them for one cause only."""


def one_cause_each(
    problems: Sequence[Problem], text: Callable[[str, str, int], str]
) -> list[Problem]:
    """The same without what is told of a record a second time for one misspelt text; `text` gives
    what a record of a source has under a header. The problem that concerns most records stays."""
    if sum(len(p.records) for p in problems if p.suggested) > MOST_WITH_ONE_CAUSE:
        return list(problems)
    told: set[tuple[str, int, tuple[str, str]]] = set()
    left: dict[int, np.ndarray] = {}
    for problem in sorted(problems, key=lambda p: -len(p.records)):
        mine = set()
        for record in problem.records.tolist() if problem.suggested else ():
            found = problem.suggestion(record)
            if found and is_misspelt(text(problem.source, found[0], record), found[1]):
                mine.add((problem.source, record, found))
        again = {record for _, record, _ in mine & told}
        left[id(problem)] = np.array(
            [r for r in problem.records.tolist() if r not in again], np.int64
        )
        told |= mine
    return [
        p if len(left[id(p)]) == len(p.records) else replace(p, records=left[id(p)])
        for p in problems
        if len(left[id(p)]) or not len(p.records)
    ]


GROUPED = 200
"""Records of a problem among which those with the same reason are looked for."""
ROWS = 6
"""Rows of one reason that are named."""


def lines(
    problems: Sequence[Problem], origin: Callable[[str, int | None, str], Origin], most: int
) -> tuple[list[str], int]:
    """What is told first, and how many problems that tells: a line for each reason, with its
    rows."""
    out: list[str] = []
    told = 0
    for p in problems:
        counted = p.places if p.counted else ()  # places of others are those of no records
        out += [f"{place}: {why}" for place, why in p.places[len(counted) :]]
        told += len(p.places) - len(counted)
        if not len(p.records) and not p.places:
            out.append(f"{origin(p.source, None, p.column)}: {p.why(-1)}")
            told += 1
        groups: dict[tuple[str, str | None, str], list[int]] = {}
        known = ((origin(p.source, r, p.column), p.why(r)) for r in p.records[:GROUPED].tolist())
        for place, why in (*counted, *known) if len(out) < most else ():
            key = (place.file, place.sheet, why)
            if key in groups or len(out) + len(groups) < most:
                groups.setdefault(key, []).append(place.row or 0)
        for (file, sheet, why), rows in groups.items():
            out.append(f"{_at(file, sheet, rows, p.column)}: {why}")
            told += len(rows)
    return out[:most], told


def _at(file: str, sheet: str | None, rows: Sequence[int], column: str) -> str:
    """A place of one row or of several."""
    rows = list(dict.fromkeys(rows))
    if len(rows) == 1 or not all(rows):
        return str(Origin(file, sheet, rows[0] or None, column or None))
    more = f" and {len(rows) - ROWS:,} more" if len(rows) > ROWS else ""
    named = f"rows {', '.join(f'{r:,}' for r in rows[:ROWS])}{more}"
    within = f', column "{column}"' if column else ""
    return f"{Origin(file, sheet)}, {named}{within}"
