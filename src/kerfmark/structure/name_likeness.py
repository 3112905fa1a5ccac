"""How alike the header of a file is to the name of a column in a table that somebody else made:
words, abbreviations, plurals, prefixes and letters spelled otherwise are seen through."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from functools import cache

from rapidfuzz import fuzz

from kerfmark.layout.names import singular, snake

TABLE_S_NAME = 0.98
"""How alike a header that is called like a table is to the column that names its records."""
_NAMING = frozenset({"name", "title", "label", "code", "number", "tag", "key", "id", "description"})
"""What columns are called that only name their record; the header may say the table instead."""
_SAME = {
    word: first
    for first, *others in (
        ("number", "no", "nr", "num", "nbr"),
        ("quantity", "qty"),
        ("phone", "tel", "telephone"),
        ("address", "addr"),
        ("description", "desc", "descr"),
        ("amount", "amt"),
        ("department", "dept"),
        ("category", "cat"),
        ("postcode", "zip", "zipcode"),
        ("type", "kind", "sort"),
        ("note", "remark", "comment"),
        ("customer", "cust"),
        ("employee", "emp"),
        ("product", "prod"),
        ("account", "acct"),
        ("email", "mail"),
        ("date", "dt"),
        ("percent", "pct"),
        ("reference", "ref"),
        ("birthdate", "birthday", "dob"),
        ("organisation", "organization", "org"),
        ("surname", "lastname"),
        ("firstname", "forename"),
    )
    for word in others
}
"""Words that mean the same in the names of columns."""
_JOINED = {
    ("e", "mail"): "email",
    ("date", "of", "birth"): "birthdate",
    ("birth", "date"): "birthdate",
    ("post", "code"): "postcode",
    ("postal", "code"): "postcode",
    ("zip", "code"): "postcode",
    ("first", "name"): "firstname",
    ("given", "name"): "firstname",
    ("last", "name"): "surname",
    ("family", "name"): "surname",
}
"""Several words that mean the same as one."""
_PREFIXES = frozenset({"tbl", "tb", "tab", "t", "dim", "fact", "lkp", "lookup", "mst", "master"})
"""Words before or behind the name of a table that say only that it is one."""
_UNITS = frozenset({"m", "km", "cm", "mm", "kg", "g", "l", "h", "min", "eur", "usd", "percent"})
"""Units that a header may end with."""
_SMALL = frozenset({"on", "at", "of", "the", "in", "by"})
"""Words that a name has or has not."""
_OF_LINKS = frozenset({"id", "fk", "key", "uuid", "no", "number", "code"})
"""Words of a foreign key that do not say what it refers to."""


@cache
def words(text: str) -> tuple[str, ...]:
    """The words of a name, each in one form: singular, written out, letters without marks."""
    plain = snake(text).split("_")
    folded = [w.replace("ae", "a").replace("oe", "o").replace("ue", "u") for w in plain if w]
    out: list[str] = []
    for word in folded:
        out.append(word)
        for some, one in _JOINED.items():
            if tuple(out[-len(some) :]) == some:
                out[-len(some) :] = [one]
    return tuple(_SAME.get(s, s) for s in map(singular, out))


def table_words(table: str) -> tuple[str, ...]:
    """The words of the name of a table, without those that say only that it is one."""
    said = words(table)
    while len(said) > 1 and said[0] in _PREFIXES:
        said = said[1:]
    while len(said) > 1 and said[-1] in _PREFIXES:
        said = said[:-1]
    return said


def shared_prefix(columns: Sequence[str]) -> str:
    """The word that all columns of a table begin with, as in `cust_name` and `cust_city`; "" for
    none."""
    first = {words(c)[0] for c in columns if words(c)}
    alone = any(len(words(c)) < 2 for c in columns)
    return first.pop() if len(columns) > 2 and len(first) == 1 and not alone else ""


def is_naming(column: str, table: str, prefix: str = "") -> bool:
    """Whether a column is called like what names a record of its table: name, code, full_name."""
    said = _column(column, prefix)
    return said[-1] in _NAMING and {*said[:-1]} <= {*table_words(table), "full", "short", "display"}


def likeness(header: str, table: str, column: str, link: str = "", prefix: str = "") -> float:
    """How alike a header is to a column, from 0 to 1. Reached through a `link`, a record is called
    as the link says: mother_id leads to a hive. `prefix` is what all columns of the table begin
    with."""
    said, own = words(header), _column(column, prefix)
    plain = table_words(table)
    if not said:
        return 0.0
    roles = [plain]
    if link:
        role = tuple(w for w in words(link) if w not in _OF_LINKS) or plain
        roles = [role] if role == plain else [role, (*role, *plain)]
    naming = bool(link) or is_naming(column, table, prefix)
    best = max(_alike(said, role, own, naming, link) for role in roles)
    if said[-1] in _UNITS and len(said) > 1:
        best = max(best, *(0.97 * _alike(said[:-1], role, own, naming, link) for role in roles))
    return best


def _column(column: str, prefix: str) -> tuple[str, ...]:
    said = words(column) or (column,)
    return said[1:] if prefix and len(said) > 1 and said[0] == prefix else said


def _alike(
    said: tuple[str, ...], table: tuple[str, ...], column: tuple[str, ...], naming: bool, link: str
) -> float:
    full = column if column[: len(table)] == table else (*table, *column)
    if said == full or said == (*column, *table):
        return 1.0
    if said == table:
        return TABLE_S_NAME if naming else 0.3
    if said == column:
        return 0.8 if len(column) == 1 and naming else 0.5 if link else 0.99
    if {*said} == {*full} or {*said} ^ {*column} <= _SMALL:
        return 0.95
    if len(column) > 1 and column[-1] in _NAMING and said == column[:-1] and not link:
        return 0.85
    if naming and len(column) == 1 and not {*table} & {*said}:
        return 0.0
    shared = {*said} & {*full}
    if not shared:
        return 0.0 if naming else 0.8 * fuzz.ratio("".join(said), "".join(column)) / 100
    if not {*column} & {*said} and not naming:
        return 0.3
    return 0.9 * max(_dice(said, column), _dice(said, full))


def _dice(one: Collection[str], other: Collection[str]) -> float:
    """The share of words that two names have in common."""
    return 2 * len({*one} & {*other}) / (len({*one}) + len({*other}))
