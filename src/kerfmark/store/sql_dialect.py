"""How an engine's SQL is written where engines differ: one record per engine, made in its
package."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from kerfmark.profile.types import ColumnType

if TYPE_CHECKING:  # loading it takes longer than a small file
    from sqlalchemy.engine import Dialect
    from sqlalchemy.sql.type_api import TypeEngine

    TypeMapper = Callable[[ColumnType], TypeEngine[Any]]


def standard_type(type_: ColumnType) -> TypeEngine[Any]:
    """The SQL type of a column, by its standard name."""
    from sqlalchemy import Boolean, Date, DateTime, Double, Integer, Numeric, String, Text, Time

    if type_.kind == "decimal":
        return Numeric(type_.precision, type_.scale)
    if type_.width:
        return String(type_.width)
    by_kind: dict[str, type[TypeEngine[Any]]] = {
        "text": Text,
        "integer": Integer,
        "real": Double,
        "boolean": Boolean,
        "date": Date,
        "timestamp": DateTime,
        "time": Time,
    }
    return by_kind[type_.kind]()


@dataclass(frozen=True)
class SqlDialect:
    """How an engine's SQL is written.

    `sqlalchemy` quotes names and compiles statements. `type_of` declares the type of a column,
    `keyed_type_of` that of one of so many columns of a key or index, where it differs. `string_agg`
    joins the texts of an expression: value, separator (a literal), the ORDER BY clause, and the
    rows from FROM on. `always_quotes`: names are quoted whatever they are. Generated keys are
    declared as identities (`identity`); primary keys and foreign keys are made after the rows
    (`keys_later`, `links_later`); a name has at most `longest_name` bytes (0: any number);
    `in_code_points` sorts a text by its characters, whatever the collation; CREATE TABLE ends with
    `table_options`.
    """

    sqlalchemy: Dialect
    string_agg: Callable[[str, str, str, str], str]
    type_of: TypeMapper = standard_type
    keyed_type_of: Callable[[ColumnType, int], TypeEngine[Any]] | None = None
    always_quotes: bool = True
    alias: str = " AS "
    identity: bool = False
    keys_later: bool = False
    links_later: bool = False
    longest_name: int = 0
    in_code_points: str = "{}"
    table_options: Mapping[str, Any] = field(default_factory=dict)

    def quote(self, name: str) -> str:
        """A name as an identifier."""
        preparer = self.sqlalchemy.identifier_preparer
        return preparer.quote_identifier(name) if self.always_quotes else preparer.quote(name)

    def name(self, name: str) -> str:
        """A name as an identifier, quoted only where it must be."""
        return self.sqlalchemy.identifier_preparer.quote(name)

    def compile(self, what: Any) -> str:
        """A statement or type of SQLAlchemy as text."""
        return str(what.compile(dialect=self.sqlalchemy)).strip()

    def declared(self, type_: ColumnType) -> str:
        """The type of a column as text."""
        return self.compile(self.type_of(type_))
