"""New rows of tables meet those that a database has already: which records are known, what they
would change, what is new.

What becomes of a known record: its row is refused (`refuse`); what is there stays (`keep`); only
its blanks are filled (`fill`); the file counts (`overwrite`), also for its repeated columns and
lists (`replace`); it is added again under a new key
(`add`: records with a row of their own, others are resolved). Records are found by their natural
keys; what is looked for goes to the database as whole columns. Nothing is written here.
"""

from __future__ import annotations

from dataclasses import replace

from kerfmark.normalize.compare import compare
from kerfmark.normalize.incoming import Incoming
from kerfmark.normalize.match import match
from kerfmark.normalize.merged import Merged
from kerfmark.normalize.plan import plan
from kerfmark.normalize.provenance import find_provenance


def merge(incoming: Incoming) -> Merged:
    """What is to be done to the database; problems are added to those of the sources."""
    compared = compare(match(incoming))
    planned = plan(compared)
    found = find_provenance(planned)
    counts = [replace(count, added=len(planned.numbers[count.name])) for count in compared.counts]
    return Merged(
        counts,
        dict(planned.new),
        dict(planned.is_new),
        dict(planned.numbers),
        list(compared.updates),
        list(compared.kept),
        dict(planned.kept_parts),
        dict(planned.removed),
        dict(planned.replaced),
        list(found.sayings),
        dict(found.known),
        dict(planned.own),
        list(found.otherwise),
        dict(planned.said_in),
    )
