"""Writes src/kerfmark/profile/reserved.py: the words that some supported engine reserves.

    python tools/make_reserved.py

Asks SQLAlchemy's dialects, so run it again when that package is updated.
"""

from pathlib import Path

from sqlalchemy.dialects.mssql.base import RESERVED_WORDS as mssql
from sqlalchemy.dialects.mysql.reserved_words import RESERVED_WORDS_MARIADB, RESERVED_WORDS_MYSQL
from sqlalchemy.dialects.oracle.base import RESERVED_WORDS as oracle
from sqlalchemy.dialects.sqlite.base import SQLiteIdentifierPreparer
from sqlalchemy.sql.compiler import RESERVED_WORDS as common

words = sorted(
    {
        w.lower()
        for some in (
            common,
            mssql,
            oracle,
            RESERVED_WORDS_MARIADB,
            RESERVED_WORDS_MYSQL,
            SQLiteIdentifierPreparer.reserved_words,
        )
        for w in some
    }
)
lines, line = [], "   "
for word in words:
    if len(line) + len(word) + 1 > 118:
        lines.append(line)
        line = "   "
    line += " " + word
lines.append(line)
Path(__file__).parent.parent.joinpath("src/kerfmark/profile/reserved.py").write_text(
    '"""Words that some supported engine reserves (made by tools/make_reserved.py)."""\n\n'
    'WORDS = """\n' + "\n".join(lines) + '\n"""\nRESERVED = frozenset(WORDS.split())\n'
)
