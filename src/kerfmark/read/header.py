"""Which record of a text names the columns, if any does, and what is above it.

A first record is held against the rest by likelihoods: how likely such cells are as names, and how
likely as one more row of their columns (by their shape, and by whether such a value would not have
been there already: I. J. Good, The Population Frequencies of Species, 1953). All columns count
together; where they say little, the doubt is told with the record.
"""

from __future__ import annotations

import itertools
import math
import re
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from kerfmark.read.letters import quoted
from kerfmark.read.source import Remark, joined_header

Records = Sequence[Sequence[str]]

MOST_HEADER_ROWS = 3
"""Rows of names that a header may have, its units aside."""
MOST_ABOVE = 40
"""Records above a header at most."""
SHOWN = 6
"""Cells of a record that are shown."""
CERTAIN = 2.0
"""Nats beyond which there is no doubt."""
USUALLY, FEW = 1.0, 2.0
"""By how much (in nats) it is likelier that a file has a header than that it has none; and by how
much more where it has but one record besides (half of it where two, and so on)."""
MOST_OF_A_COLUMN, WORDS_SAY = 4.0, -0.3
"""The most that one column says, and the least where its name is a word over words."""
AS_NAME = {"Word": 0.3, "word": 0.3, "WORD": 0.08, "words": 0.2, "number": 0.002}
AS_CELL = {"Word": 0.15, "word": 0.1, "WORD": 0.05, "words": 0.15, "number": 0.3, "date": 0.1}
OTHER_AS_NAME, MIXED, OTHER_AS_CELL = 0.01, 0.04, 0.05
"""The share of names, and of cells in general, of each shape; of any other, and of letters with
digits."""
KNOWN_WORD, MOST_KNOWN_WORDS = 1.5, 3.0
ALIKE = 3
"""Names that differ in their numbers alone, from which on these are taken for repeated columns."""
TWICE, THERE_BELOW = -2.0, -3.0
_NUMBER = re.compile(r"[-+]?[\d.,' ]*\d[\d.,' ]*%?$")
_DATELIKE = re.compile(r"\d{1,4}([-/.:]\d{1,4}){1,2}([ T]\d.*)?$")
_YEAR = re.compile(r"(1[89]|20)\d\d$")
_MONTH = re.compile(r"(1[89]|20)\d\d[-/.]?(0[1-9]|1[0-2])$")
_DAY = re.compile(r"((1[89]|20)\d\d-\d\d-\d\d([ T]00:00(:00)?)?|\d\d?[./]\d\d?[./](1[89]|20)\d\d)$")
_NUMBERED = re.compile(r"(.*[^\W\d_].*?)\d+")
_OF_TIME = (_YEAR, _MONTH, _DAY)
_LETTERS = re.compile(r"[^\W\d_]+")
_QUOTED_AFTER_SPACE = re.compile(r'^ +"(.*)" *$')
_UNIT = re.compile(
    r"[\[(].{1,14}[\])]|[%‰€$£°-]|°[CFK]|[kmcdµhM]?(?:g|m|l|L|s|W|V|A|Pa|bar|Hz|Wh|J|N|B)[²³23]?"
    r"|t|lb|lbs|oz|ft|in|mi|ha|ac|h|hr|hrs|min|sec|d|pcs|pc|EUR|USD|GBP|CHF|pH|ppm"
    r"|[kmcµ]?(?:g|m|l|mol)/(?:l|m[²³23]?|s|h|ha|kg)|km/h"
)
_COMMON_NAMES = """
id no nr num number code ref key type kind class group category status state name names title
surname forename first last middle description desc comment comments remark remarks note notes
text label date day month year week time start end from to begin until created updated amount
qty quantity count total sum price cost value unit units currency rate percent share score grade
level rank weight height length width depth size age sex gender email mail e-mail phone tel
telephone mobile fax street address city town village place postcode zip county country region
area district site location lat lon latitude longitude colour color product item order customer
client supplier member student pupil teacher school course hive apiary keeper owner
datum tag monat jahr zeit uhrzeit nummer art ort plz strasse straße menge anzahl preis betrag summe
einheit bemerkung bezeichnung vorname nachname kunde artikel gewicht
nom prénom jour mois année heure numéro ville rue montant quantité prix unité
nombre apellido fecha mes año hora número ciudad calle cantidad precio importe unidad
data mese anno ora numero città via quantità prezzo importo unità cognome
naam aantal prijs plaats straat namn antal pris navn dato antall by
imię nazwisko miasto ulica ilość cena jméno příjmení město množství
"""
_NAMES = frozenset(_COMMON_NAMES.split())
"""Words that name columns in many files."""


@dataclass(frozen=True)
class Header:
    """Where a header is: its record (from 1; 0: there is none), how many records it goes over, and
    what is to be told."""

    row: int
    rows: int = 1
    remarks: tuple[Remark, ...] = ()


def find_header(records: Records) -> Header:
    """The header of a text that begins with these records (at least the first hundreds)."""
    records = [plain_names(record) for record in records]
    full = [i for i, record in enumerate(records) if _filled(record)]
    if not full:
        return Header(1)
    width = usual_width([records[i] for i in full])
    top = _first_of_table(records, full, width)
    above = [i for i in full if i < top]
    score = header_likelihood(records[top], records[top + 1 :])
    if above and score < CERTAIN and _names_one_less(records[above[0]], width):
        top, above = above[0], []
        score = header_likelihood(records[top], records[top + 1 :])
    start = _first_of_header(records, top, above)
    if start < top and score < CERTAIN:  # names that are alike until what is above tells them apart
        names = joined_header(records[start : top + 1])
        score = max(score, header_likelihood(names, records[top + 1 :]))
    titles = [i for i in above if not _is_comment(records[i])]
    if score <= (-CERTAIN if titles else 0) and len(titles) == len(above):
        doubt = [_no_header_remark(records[top], top)] if score > -CERTAIN or titles else []
        return Header(0, remarks=tuple(doubt))
    top, rows, above = start, top - start + 1, [i for i in above if i < start]
    last = top + rows
    if last < len(records) - 1 and is_units(records[last], records[last + 1 :]):
        rows += 1
    return Header(top + 1, rows, tuple(_remarks(records, top, rows, above, score)))


def _remarks(
    records: Records, top: int, rows: int, above: Sequence[int], score: float
) -> Iterator[Remark]:
    if above:
        yield Remark(
            "odd",
            None,
            f"above the header, and left out: {_told([c for i in above for c in records[i]])}",
            tuple(i + 1 for i in above[:SHOWN]),
            len(above),
            "if one of these rows is the header, name it with --header-row",
        )
    if score < CERTAIN and any(map(_filled, records[top + rows :])):
        yield Remark(
            "doubtful",
            None,
            f"taken as the header, though it looks like the rows below: {_told(records[top])}",
            (top + 1,),
            1,
            "if it is a record, use --no-header",
        )
    if rows > 1:
        yield Remark(
            "odd",
            None,
            f"the header goes over {rows} rows; the last one says {_told(records[top + rows - 1])}",
            (top + 1,),
            1,
            f"if it does not, use --header-rows 1 --skip-rows {top + rows}",
        )


def _no_header_remark(record: Sequence[str], row: int) -> Remark:
    return Remark(
        "doubtful",
        None,
        f"taken as a record, so that no row names the columns: {_told(record)}",
        (row + 1,),
        1,
        f"if it is the header, use --header-row {row + 1}",
    )


def _told(cells: Sequence[str]) -> str:
    filled = [c.strip() for c in cells if c.strip()]
    return quoted(filled[:SHOWN]) + (" ..." if len(filled) > SHOWN else "")


def _filled(record: Sequence[str]) -> int:
    return sum(bool(c.strip()) for c in record)


def usual_width(records: Records) -> int:
    """How many cells most records have."""
    widths = Counter(map(len, records))
    return max(widths, key=lambda w: (widths[w], w))


def _first_of_table(records: Records, full: Sequence[int], width: int) -> int:
    """The first record that belongs to the table: it is as wide as usual, and has as many filled
    cells as half of the others have; comments and what says the delimiter are above it."""
    filled = sorted(_filled(records[i]) for i in full if len(records[i]) == width)
    enough = max(2, (filled[len(filled) // 2] + 1) // 2) if width > 1 else 1
    for n, i in enumerate(full[: MOST_ABOVE + 1]):
        record = records[i]
        below = records[full[n + 1]] if n + 1 < len(full) else None
        if _is_comment(record) and below is not None:
            if _is_comment(below) or len(record) != width or record[0][:1] != "#":
                continue
            if header_likelihood(below, records[full[n + 1] + 1 :]) > 0:
                continue
        if len(record) == width and _filled(record) >= min(enough, filled[-1]):
            return i
    return full[0]


def _is_comment(record: Sequence[str]) -> bool:
    """Whether a record is a comment, or says the delimiter."""
    return record[0].lstrip().startswith("#") or record[0].lower().startswith("sep=")


def _names_one_less(record: Sequence[str], width: int) -> bool:
    """Whether a record has a cell for every column but one."""
    return len(record) == width - 1 == _filled(record) and len(record) > 1


def header_likelihood(first: Sequence[str], rest: Records) -> float:
    """By how much (in nats, as a logarithm) it is likelier that a record names the columns of the
    `rest` than that it is one more of them."""
    below = [r for r in rest if _filled(r) and r != first]  # the header may be there once more
    names = [c.strip().lower() for c in first if c.strip()]
    if not names or not below:
        return USUALLY if names else -USUALLY
    score = USUALLY + FEW / len(below) + TWICE * (len(names) - len(set(names)))
    known = sum(not _NAMES.isdisjoint(w.lower() for w in _LETTERS.findall(c)) for c in first)
    score += min(KNOWN_WORD * known, MOST_KNOWN_WORDS)
    ordered = _is_sequence(first)
    stems = Counter(_stem(c) for c in first)
    for i, cell in enumerate(first):
        column = [r[i].strip() for r in below if i < len(r) and r[i].strip()]
        if column and cell.strip() and (stems[_stem(cell)] < ALIKE or cell in column):
            score += _of_column(cell.strip(), column, ordered)
    return score


def _of_column(cell: str, column: Sequence[str], ordered: bool) -> float:
    """What one column says (see `header_likelihood`)."""
    shape, shapes = shape_of(cell), Counter(map(shape_of, column))
    of_time = any(form.match(cell) for form in _OF_TIME)
    if shape in ("number", "date") and (ordered or of_time) and not _same_kind(cell, column):
        return 0.0
    as_name = AS_NAME.get(shape, MIXED if shape.isalnum() else OTHER_AS_NAME)
    as_cell = AS_CELL.get(shape, MIXED if shape.isalnum() else OTHER_AS_CELL)
    as_row = (shapes[shape] + as_cell) / (len(column) + 1)
    said = math.log(as_name / as_row)
    if shape in ("Word", "word", "WORD", "words"):
        said = max(said, WORDS_SAY)
    seen = Counter(column)
    if cell in seen:
        said += THERE_BELOW
    elif len(column) >= 5 and shape != "number":
        once = sum(n == 1 for n in seen.values())
        said += min(-math.log((once + 0.5) / (len(column) + 1)), 2.0)
    return max(-MOST_OF_A_COLUMN, min(said, MOST_OF_A_COLUMN))


def _stem(cell: str) -> str:
    """The name of a column without its number; names that differ in it alone say nothing of what a
    record is. A cell without a number is its own."""
    found = _NUMBERED.fullmatch(cell.strip().lower())
    return found[1] if found else f"{cell} alone"


def _same_kind(cell: str, column: Sequence[str]) -> bool:
    """Whether a column holds years under a year, months under a month, days under a day."""
    form = next((f for f in _OF_TIME if f.match(cell)), None)
    return form is not None and all(form.match(v) for v in column)


def _is_sequence(record: Sequence[str]) -> bool:
    """Whether the numbers, years or months of a record follow each other with one step, as names of
    columns may."""
    cells = [c.strip() for c in record]
    months = [re.sub(r"\D", "", c) for c in cells if _MONTH.match(c) and not _YEAR.match(c)]
    values = [int(m[:4]) * 12 + int(m[4:]) for m in months] or [
        int(c) for c in cells if c.isdecimal() and len(c) < 9
    ]
    steps = {b - a for a, b in itertools.pairwise(values)}
    of_time = bool(months) or all(_YEAR.match(str(v)) for v in values)
    return len(values) >= (2 if of_time else 3) and len(steps) == 1 and 0 not in steps


def shape_of(cell: str) -> str:
    """What a cell looks like: `number`, `date`, `word`, `Word`, `WORD`, `words`, or the classes of
    its characters."""
    if not cell:
        return ""
    if _NUMBER.match(cell):
        return "number"
    if _DATELIKE.match(cell):
        return "date"
    letters = _LETTERS.findall(cell)
    if letters and not any(c.isdigit() for c in cell) and "@" not in cell and "://" not in cell:
        if len(letters) > 1:
            return "words"
        if cell == letters[0]:
            return "WORD" if cell.isupper() else "word" if cell.islower() else "Word"
    return re.sub(r"\d+", "9", _LETTERS.sub("a", cell))


def is_units(record: Sequence[str], rest: Records) -> bool:
    """Whether a record under a header gives the units of columns: nothing but units, and some of
    them over numbers."""
    filled = [(i, c.strip()) for i, c in enumerate(record) if c.strip()]
    if not filled or not all(_UNIT.fullmatch(c) for _, c in filled):
        return False
    for i, cell in filled:
        column = [r[i].strip() for r in rest if i < len(r) and r[i].strip()]
        if cell != "-" and column and all(_NUMBER.match(v) for v in column):
            return True
    return False


def _first_of_header(records: Records, last: int, above: Sequence[int]) -> int:
    """The first record of a header whose last one is known."""
    start = last
    while (
        start - 1 in above
        and last - start < MOST_HEADER_ROWS - 1
        and _is_upper_part(records[start - 1], records[start])
    ):
        start -= 1
    return start


def _is_upper_part(record: Sequence[str], header: Sequence[str]) -> bool:
    """Whether a record right above a header is a part of it, as merged cells are written: some
    names, each over several columns."""
    filled = [i for i, c in enumerate(record) if c.strip()]
    return (
        len(record) == len(header)
        and len(filled) > 1
        and not any(
            _NUMBER.match(record[i].strip()) and not _YEAR.match(record[i].strip()) for i in filled
        )
        and all(header[i].strip() for i in filled)
    )


def full_header(header: Records, rest: Records) -> list[str]:
    """The names in a header of one or several records; blank ones where it has fewer than the
    records below have cells, if it can be told where they are missing: before the first one where
    only the numbers of the rows have none, after the last one where the cells have no content."""
    names = joined_header(header) if header else [""]
    rows = [r for r in rest if _filled(r)]
    width = usual_width(rows) if rows else 0
    rows = [r for r in rows if len(r) == width]
    short = width - len(names)
    if short < 1 or not any(names):
        return names
    if all(not c.strip() for r in rows for c in r[len(names) :]):
        return names + [""] * short
    first = [r[0].strip() for r in rows]
    if short == 1 and first[0].isdecimal():
        start = int(first[0])
        if first == [str(start + n) for n in range(len(first))]:
            return ["", *names]
    return names


def plain_names(record: Sequence[str]) -> list[str]:
    """The cells of a header without quotes that come after a space, where they do not count."""
    return [
        c.strip()[1:-1]
        if len(c) > 2 and c[0] == " " and c.strip()[:1] == c.strip()[-1:] == '"'
        else c
        for c in record
    ]
