"""What is told of rows that do not fit, and what to do about them: the same words, whoever finds
them."""

from __future__ import annotations

from collections.abc import Sequence

from kerfmark.errors import Origin

_SHOWN = 60
"""Characters of a cell that are told."""


def quoted(text: str) -> str:
    """A cell in quotes, shortened."""
    return f'"{text}"' if len(text) <= _SHOWN else f'"{text[: _SHOWN - 3]}..."'


def differs_from_others(key: str, usual: str, earlier: bool) -> str:
    """Of a row that says something else than those with the same key; `earlier`: the first of them
    says what is usual."""
    return (
        f"differs from {'an earlier row' if earlier else 'most rows'} with the same {key}, "
        f"which {'has' if earlier else 'have'} {usual}"
    )


def filled_without_key(key: str) -> str:
    """Of a row that says something though it has no key."""
    return f"is filled though {key} is blank"


def agree(headers: Sequence[str], table: str) -> str:
    """What to do about rows that differ from those with the same key."""
    return (
        f'correct the cells\nmove "{" + ".join(headers)}" from tables > {table} to a table '
        'with a record per row\nset conflicts = "most frequent" for it in the layout'
    )


def blank_exception(table: str) -> str:
    """Of a row that is blank where others have a value."""
    return f"is blank where {table} usually has a value"


def fill_exception(header: str, table: str) -> str:
    """What to do about a row that is blank where others have a value."""
    return f'fill the cells\ntake "{header}" out of tables > {table}'


def there_already(table: str) -> str:
    """Of a row whose record is there before it is added."""
    return f"is in the database already, as a record of {table}"


def same_as_existing(table: str, known: str, said: str, headers: Sequence[str]) -> str:
    """Of a row whose record has, in columns that tell records apart, what another one has that was
    there before it was added; `known` is what that is called, `said` what the row calls its own."""
    has = f"in the database has the same {' + '.join(headers)}"
    return (
        f'{table} "{known}" {has}; is {said} a misspelling of it?'
        if known
        else f"another {table} {has}"
    )


def correct_either(keys: Sequence[str], headers: Sequence[str]) -> str:
    """What to do about that."""
    return f"correct {' + '.join(keys)} or {' + '.join(headers)} in the file"


def differs_from_database(table: str, text: str) -> str:
    """Of a row that says something else than its record, which was there before it was added."""
    value = f'"{text}"' if text else "no value"
    return f"differs from the database, where this {table} has {value}"


def not_found(text: str, table: str, near: str, also: str = "") -> str:
    """Of a value that leads to no record; `also` is what else the nearest one is known by."""
    called = f" ({also})" if also else ""
    nearest = f'; the nearest is "{near}"{called}' if near else ""
    return f'"{text}" was not found in {table}{nearest}'


def find_or_create(table: str, link: str) -> str:
    """What to do about a value that leads to no record."""
    return (
        f'correct the cells\nset missing = "create" or "blank" in tables > {table} > links > {link}'
    )


def differs_from_parent(parent: str, known: str) -> str:
    """Of a row that says something else than the record that it leads to."""
    return f"differs from {parent}, which has another value for the same {known}"


def no_repeat(header: str, table: str, link: str) -> str:
    """What to do about a row that says something else than the record that it leads to."""
    return (
        f'correct the cells\ntake "{header}" out of repeats of tables > {table} > links > '
        f"{link} and give it a column"
    )


def duplicates(place: str) -> str:
    """Of a row whose key an earlier one has."""
    return f"duplicates an earlier row ({place})"


def tell_apart(columns: Sequence[str], table: str) -> str:
    """What to do about rows with the same key."""
    return (
        f"correct the rows\ntake {', '.join(columns)} out of known_by or unique of tables > {table}"
    )


def optional(column: str, table: str) -> str:
    """What to do about cells that must be filled, in the layout."""
    return f'list "{column}" under optional of tables > {table}'


def only_referred_to(table: str) -> str:
    """Of a column that must be filled and cannot be, in records that only others name."""
    return f"records of {table} that are only referred to have no value"


def not_next(number: object) -> str:
    """Of a key that a source says itself and does not count."""
    return f"is not {number}, the next number"


def count_on(column: str, table: str) -> str:
    """What to do about a key that a source says itself and does not count."""
    return f'let it count on\nset key = ["{column}"] in tables > {table}'


CORRECT_PARENT = "correct that row; this one fits then as it is"
"""What to do about a row that refers to one that is refused."""


def parent_is_refused(text: str, table: str, at: Origin) -> str:
    """A row refers to a record whose own row is refused."""
    return f'"{text}" refers to a record of {table} whose own row is refused: {at}'
